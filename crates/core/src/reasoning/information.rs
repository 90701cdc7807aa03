//! How much a test says: entropy and information gain in bits, what an outcome moves, how far it sharpens the leading suspects.

/// Uncertainty, in bits.
pub fn entropy(p: &[f64]) -> f64 {
    p.iter().filter(|x| **x > 0.0).map(|x| -x * x.log2()).sum()
}

/// What a test with these rows of likelihoods answers on average, bits.
pub fn information_gain(p: &[f64], rows: &[Vec<f64>]) -> f64 {
    let left = |row: &Vec<f64>| {
        let joint: Vec<f64> = p.iter().zip(row).map(|(p, l)| p * l).collect();
        let chance: f64 = joint.iter().sum();
        chance * entropy(&joint.iter().map(|j| j / chance.max(1e-300)).collect::<Vec<_>>())
    };
    (entropy(p) - rows.iter().map(left).sum::<f64>()).max(0.0)
}

/// How much nearer a test with these rows brings the leading suspects to a decision: the expected rise
/// of Σp², which unlike bits weighs what is likely more than what is not, times how far the test speaks of the suspects
/// at all (the mean distance of their rows from the base rates).
pub(crate) fn sharpening(p: &[f64], rows: &[Vec<f64>], base: &[f64]) -> f64 {
    let now: f64 = p.iter().map(|x| x * x).sum();
    let then = |row: &Vec<f64>| {
        let (mut chance, mut squares) = (0.0, 0.0);
        for (p, l) in p.iter().zip(row) {
            chance += p * l;
            squares += (p * l).powi(2);
        }
        squares / f64::max(chance, 1e-300)
    };
    let speaks = |h: usize| 0.5 * rows.iter().zip(base).map(|(row, b)| (row[h] - b).abs()).sum::<f64>();
    let of_suspects: f64 = p.iter().enumerate().map(|(h, p)| p * speaks(h)).sum();
    of_suspects * (rows.iter().map(then).sum::<f64>() - now).max(0.0)
}

/// What an outcome moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PosteriorShift {
    /// How likely it is to come out.
    pub chance: f64,
    /// The hypothesis that then stands first, and how sure.
    pub first: (usize, f64),
    /// The one that stands first now, and how it would stand then.
    pub now: (usize, f64),
    /// The one that gains most, and how sure it would be.
    pub rises: (usize, f64),
    /// How much it gains.
    pub gain: f64,
}

/// What an outcome with this row of likelihoods moves in what is believed.
pub fn moved(p: &[f64], row: &[f64]) -> PosteriorShift {
    let joint: Vec<f64> = p.iter().zip(row).map(|(p, l)| p * l).collect();
    let chance: f64 = joint.iter().sum();
    let then = |i: usize| joint[i] / chance.max(1e-300);
    let largest = |of: &dyn Fn(usize) -> f64| (0..p.len()).max_by(|&a, &b| of(a).total_cmp(&of(b))).unwrap_or(0);
    let gain = |i: usize| then(i) - p[i];
    let (first, now, rises) = (largest(&|i| joint[i]), largest(&|i| p[i]), largest(&gain));
    PosteriorShift { chance, first: (first, then(first)), now: (now, then(now)), rises: (rises, then(rises)), gain: gain(rises) }
}
