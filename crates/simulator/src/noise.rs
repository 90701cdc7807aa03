//! Chance: seeded, and the same on every machine.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Seeded random numbers.
pub(crate) struct Noise(ChaCha8Rng);

impl Noise {
    pub fn new(seed: u64) -> Self {
        Self(ChaCha8Rng::seed_from_u64(seed))
    }
    /// From 0 to 1.
    pub fn uniform(&mut self) -> f64 {
        self.0.random()
    }
    /// Standard normal.
    pub fn normal(&mut self) -> f64 {
        StandardNormal.sample(&mut self.0)
    }
}

/// Road roughness as the floor feels it: coloured noise that grows with speed, lifted where the body rings.
pub(crate) struct Road {
    low: f64,
    ring: [f64; 2],
    a1: f64,
    a2: f64,
    smooth: f64,
}

impl Road {
    pub fn new(rate: f64, body_hz: f64) -> Self {
        let (w, r) = (std::f64::consts::TAU * body_hz / rate, (-0.09 * std::f64::consts::TAU * body_hz / rate).exp());
        Self { low: 0.0, ring: [0.0; 2], a1: 2.0 * r * w.cos(), a2: -r * r, smooth: (-std::f64::consts::TAU * 25.0 / rate).exp() }
    }
    pub fn next(&mut self, noise: &mut Noise, kmh: f64) -> f64 {
        let white = noise.normal();
        self.low = self.smooth * self.low + (1.0 - self.smooth) * white * 2.0;
        let y = self.a1 * self.ring[0] + self.a2 * self.ring[1] + 0.05 * white;
        self.ring = [y, self.ring[0]];
        (0.08 + 0.0022 * kmh) * (0.35 * white + 0.5 * self.low + 0.4 * y)
    }
}
