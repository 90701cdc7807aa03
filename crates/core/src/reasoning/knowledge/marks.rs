//! Marks as probabilities: what a fault says of the outcomes of a specific test.

use super::entries::{OutcomeRule, Test};
use super::fault::{Mark, Marks};
use super::weights::MarkWeights;

/// No outcome is impossible: P(outcome | fault) is at least this.
pub const OUTCOME_PROBABILITY_FLOOR: f64 = 0.002;
/// "+" on an outcome whose base rate is above this means at least its base rate.
const HIGH_BASE_RATE: f64 = 0.6;

/// A mark as a probability, for an outcome (or several together) of this base rate.
pub fn mark_probability(mark: &Mark, base: f64, w: &MarkWeights) -> Option<f64> {
    match mark {
        Mark::Probability(p) => (0.0..=1.0).contains(p).then_some(*p),
        Mark::Sign(s) => match s.as_str() {
            "++" => Some(w.nearly_always),
            "+" if base > HIGH_BASE_RATE => Some(w.usually.max(base)),
            "+" => Some(w.usually),
            "!" => Some(w.telling.max(w.telling_times * base)),
            "-" => Some(w.seldom * base),
            "--" => Some((w.practically_never * base).min(w.forbidden)),
            _ => None,
        },
    }
}

/// Base rates of the outcomes that a kind of place can have; what it cannot have counts as the innocent outcome.
pub fn outcomes_at(t: &Test, is_kind: impl Fn(&str) -> bool) -> Vec<f64> {
    let here = |o: &OutcomeRule| o.at.is_empty() || o.at.iter().any(|k| is_kind(k));
    let mut base: Vec<f64> = t.outcomes.iter().map(|o| if here(o) { o.base } else { 0.0 }).collect();
    let innocent = t.outcomes.iter().position(|o| o.id == t.innocent().id).unwrap_or(0);
    base[innocent] += 1.0 - base.iter().sum::<f64>();
    base
}

/// P(outcome) of each outcome under a fault with these marks, given the base rates that hold at the place. Sums to 1.
pub fn distribution(t: &Test, marks: &Marks, base: &[f64], w: &MarkWeights) -> Vec<f64> {
    let mut p: Vec<Option<f64>> = vec![None; base.len()];
    for (names, mark) in marks {
        let of: Vec<usize> =
            (0..base.len()).filter(|&i| base[i] > 0.0 && names.split('|').any(|n| n == t.outcomes[i].id)).collect();
        let together: f64 = of.iter().map(|&i| base[i]).sum();
        let Some(all) = mark_probability(mark, together, w).filter(|_| together > 0.0) else { continue };
        of.iter().for_each(|&i| p[i] = Some(all * base[i] / together));
    }
    fill(&p, base)
}

/// Completes a distribution: what is not given shares what is left by its base rate. Sums to 1, nothing that can be is impossible.
pub fn fill(given: &[Option<f64>], base: &[f64]) -> Vec<f64> {
    let said: f64 = given.iter().flatten().sum();
    let rest: f64 = base.iter().zip(given).filter(|(_, g)| g.is_none()).map(|(b, _)| b).sum();
    let left = (1.0 - said).max(0.0);
    let mut p: Vec<f64> = given
        .iter()
        .zip(base)
        .map(|(g, b)| if *b <= 0.0 { 0.0 } else { g.unwrap_or(left * b / rest.max(1e-9)).max(OUTCOME_PROBABILITY_FLOOR) })
        .collect();
    let sum: f64 = p.iter().sum();
    p.iter_mut().for_each(|x| *x /= sum);
    p
}

/// Refuses marks that name no outcome, sum to more than 1, or do not speak the way they say.
pub(super) fn check(t: &Test, marks: &Marks, w: &MarkWeights) -> Result<(), String> {
    let (mut sum, mut plus) = (0.0, 0);
    for (names, mark) in marks {
        let mut base = 0.0;
        for name in names.split('|') {
            base += t.outcome(name).ok_or_else(|| format!("{} has no outcome “{name}”", t.id))?.base;
        }
        let p = mark_probability(mark, base, w).ok_or_else(|| format!("{} {names}: bad mark", t.id))?;
        let speaks = match mark {
            Mark::Sign(s) => match s.as_str() {
                "++" | "+" => p >= base,
                "!" => p >= w.telling_times * base && p <= 0.5,
                _ => p <= base * w.seldom,
            },
            Mark::Probability(_) => true,
        };
        if !speaks {
            return Err(format!("{} {names}: the mark does not speak the way it says (base {base}, with the fault {p})", t.id));
        }
        plus += usize::from(matches!(mark, Mark::Sign(s) if s.starts_with('+')));
        sum += p;
    }
    if plus > 1 {
        return Err(format!("{}: more than one plus mark", t.id));
    }
    if sum > 1.0 + 1e-9 { Err(format!("{}: outcomes sum to {sum}", t.id)) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::super::builtin;
    use super::*;

    #[test]
    fn marks_are_probabilities_relative_to_their_base_rate() {
        let w = &builtin().weights.marks;
        let p = |s: &str, base| mark_probability(&Mark::Sign(s.into()), base, w).unwrap();
        assert_eq!((p("++", 0.1), p("+", 0.1), p("+", 0.8)), (0.93, 0.7, 0.8));
        assert_eq!((p("!", 0.02), p("!", 0.15)), (0.3, 0.15_f64 * 3.0));
        assert!((p("-", 0.1) - 0.05).abs() < 1e-12 && (p("--", 0.1) - 0.01).abs() < 1e-12);
    }

    #[test]
    fn every_fault_says_something_whole_of_every_test_that_it_names() {
        let k = builtin();
        for f in &k.faults {
            for (test, marks) in &f.tests {
                let t = k.test(test).unwrap();
                let base: Vec<f64> = t.outcomes.iter().map(|o| o.base).collect();
                let p = distribution(t, marks, &base, &k.weights.marks);
                assert!((p.iter().sum::<f64>() - 1.0).abs() < 1e-9 && p.iter().all(|x| *x > 0.0), "{} {test}: {p:?}", f.id);
            }
        }
    }

    #[test]
    fn an_outcome_that_the_place_cannot_have_counts_as_nothing_found() {
        let t = builtin().test("leak-look").unwrap();
        let at_tail = outcomes_at(t, |k| k == "transfer");
        assert_eq!(at_tail, [0.0, 0.08, 0.0, 0.92]);
    }
}
