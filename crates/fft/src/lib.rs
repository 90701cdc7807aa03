//! Fourier transforms of the lengths that are asked for.
//!
//! The planners are generic: whoever calls them compiles every transform of the library, for each type, each time. Here that is done
//! once; callers get the transforms behind their traits.

use realfft::RealFftPlanner;
use rustfft::FftPlanner;
use std::sync::Arc;

pub use realfft::RealToComplex;
pub use realfft::num_complex::{Complex32, Complex64};
pub use rustfft::Fft;

/// Of so many real samples to half a spectrum, unscaled.
///
/// ```
/// let fft = baricord_fft::forward(8);
/// let (mut samples, mut spectrum) = (fft.make_input_vec(), fft.make_output_vec());
/// samples.fill(1.0);
/// fft.process(&mut samples, &mut spectrum).unwrap();
/// assert_eq!((spectrum.len(), spectrum[0].re, spectrum[1].re), (5, 8.0, 0.0));
/// ```
pub fn forward(length: usize) -> Arc<dyn RealToComplex<f32>> {
    RealFftPlanner::new().plan_fft_forward(length)
}

/// The same in double precision.
pub fn forward_double(length: usize) -> Arc<dyn RealToComplex<f64>> {
    RealFftPlanner::new().plan_fft_forward(length)
}

/// Of a spectrum of so many bins back to complex samples, unscaled.
pub fn inverse(length: usize) -> Arc<dyn Fft<f32>> {
    FftPlanner::new().plan_fft_inverse(length)
}
