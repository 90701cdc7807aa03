//! Sums of products in the widest registers that a processor has.
//!
//! Left to itself the compiler makes poor code of them: a sum of floats has an order that it must keep.

use pulp::Simd;

/// Σ a·b.
#[inline(always)]
pub(crate) fn dot<S: Simd>(simd: S, a: &[f32], b: &[f32]) -> f32 {
    let ((a, a_rest), (b, b_rest)) = (S::as_simd_f32s(a), S::as_simd_f32s(b));
    let mut sum = simd.splat_f32s(0.0);
    for (a, b) in a.iter().zip(b) {
        sum = simd.mul_add_e_f32s(*a, *b, sum);
    }
    let mut out = simd.reduce_sum_f32s(sum);
    for (a, b) in a_rest.iter().zip(b_rest) {
        out += a * b;
    }
    out
}

/// Σ z·h of complex numbers, each a pair of real and imaginary part.
#[inline(always)]
pub(crate) fn dot_complex<S: Simd>(simd: S, z: &[[f32; 2]], h: &Turning) -> [f32; 2] {
    let z = z.as_flattened();
    // Of each pair in a: z.re·h.re, z.im·h.im; in b: z.re·h.im, z.im·h.re.
    let (along, across) = (dot(simd, z, h.along.as_flattened()), dot(simd, z, h.across.as_flattened()));
    [along, across]
}

/// Factors laid out as [`dot_complex`] takes them.
pub(crate) struct Turning {
    /// re, −im
    along: Vec<[f32; 2]>,
    /// im, re
    across: Vec<[f32; 2]>,
}

impl FromIterator<[f32; 2]> for Turning {
    fn from_iter<I: IntoIterator<Item = [f32; 2]>>(factors: I) -> Self {
        let (along, across) = factors.into_iter().map(|[re, im]| ([re, -im], [im, re])).unzip();
        Self { along, across }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use num_complex::Complex32;
    use pulp::{Arch, WithSimd};

    struct Both<'a>(&'a [[f32; 2]], &'a [[f32; 2]]);
    impl WithSimd for Both<'_> {
        type Output = (f32, [f32; 2]);
        fn with_simd<S: Simd>(self, simd: S) -> Self::Output {
            let h: Turning = self.1.iter().copied().collect();
            (dot(simd, self.0.as_flattened(), self.1.as_flattened()), dot_complex(simd, self.0, &h))
        }
    }

    #[test]
    fn sums_of_any_length_are_those_of_one_after_the_other() {
        let of = |k: usize, n: usize| -> Vec<[f32; 2]> {
            (0..n).map(|i| [((i * k) % 17) as f32 - 8.0, ((i * k + 5) % 13) as f32 - 6.0]).collect()
        };
        for n in [0, 1, 2, 3, 4, 7, 8, 11, 24, 63] {
            let (a, b) = (of(3, n), of(5, n));
            let plain: f32 = a.as_flattened().iter().zip(b.as_flattened()).map(|(a, b)| a * b).sum();
            let complex: Complex32 = a.iter().zip(&b).map(|(a, b)| Complex32::new(a[0], a[1]) * Complex32::new(b[0], b[1])).sum();
            // Small whole numbers: every sum is exact.
            assert_eq!(Arch::new().dispatch(Both(&a, &b)), (plain, [complex.re, complex.im]), "{n}");
        }
    }
}
