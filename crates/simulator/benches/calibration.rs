//! Whether the weighing is as sure as it may be: cases in worlds that are not what the knowledge says; how often the
//! first cause is right, held against how sure it was.

use baricord_simulator::worlds::examined;
use rayon::prelude::*;

fn main() {
    let cases: u64 = std::env::var("CASES").ok().and_then(|c| c.parse().ok()).unwrap_or(2_000);
    let all: Vec<(f64, bool)> = (0..cases).into_par_iter().map(examined).collect();
    println!(
        "{cases} cases of fixed seeds; log-frequencies off by 0.7, log-odds of behaviours by 1.0, a tenth with two faults, a twentieth in no catalogue"
    );
    println!("  how sure      cases   told   right");
    for d in 0..10 {
        let of: Vec<_> = all.iter().filter(|c| (c.0 * 10.0).min(9.999) as usize == d).collect();
        if of.is_empty() {
            continue;
        }
        let n = of.len() as f64;
        let told = 100.0 * of.iter().map(|c| c.0).sum::<f64>() / n;
        let right = 100.0 * of.iter().filter(|c| c.1).count() as f64 / n;
        let few = if of.len() < 100 { " (few)" } else { "" };
        println!(
            "  {:>2} to {:>3} %  {:>6}  {told:>5.1}   {right:>5.1}   {:+.1}{few}",
            d * 10,
            d * 10 + 10,
            of.len(),
            right - told
        );
    }
    let score: f64 = all.iter().map(|c| (c.0 - f64::from(u8::from(c.1))).powi(2)).sum::<f64>() / all.len() as f64;
    println!(
        "  first cause right {:.1} %, mean square of the miss {score:.3}",
        100.0 * all.iter().filter(|c| c.1).count() as f64 / all.len() as f64
    );
}
