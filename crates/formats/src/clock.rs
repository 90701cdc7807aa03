//! The clock of a recording: from printed times to uniform samples.
//!
//! Times printed to a step may jitter by that step: a uniform clock is fitted, and that is no
//! defect. Gaps are bridged and marked, so that no window uses them; times that go back are dropped.

use baricord_core::problem::{Problem, Warning};
use std::ops::Range;

/// Rows laid on a uniform clock.
#[derive(Debug)]
pub(crate) struct Clock {
    pub rate: f64,
    pub start: f64,
    /// Index of each row on the uniform clock; none where the row was dropped.
    pub index: Vec<Option<usize>>,
    pub length: usize,
    pub gaps: Vec<Range<usize>>,
    pub warnings: Vec<Warning>,
}

/// Fits a clock to the times of rows (s); `line` tells a row's line in the file.
pub(crate) fn fit(times: &[f64], line: impl Fn(usize) -> u64) -> Result<Clock, Problem> {
    if times.len() < 16 {
        return Err(Problem::new("too-short", format!("{} samples are too few to say anything", times.len())));
    }
    let mut warnings = vec![];
    let mut steps: Vec<f64> = times.windows(2).map(|w| w[1] - w[0]).filter(|d| *d > 0.0).collect();
    if steps.len() < times.len() / 20 {
        return Err(Problem::new("bad-time", "the time column hardly ever moves on: is it the right column?").line(line(0)));
    }
    steps.sort_by(f64::total_cmp);
    let median = steps[steps.len() / 2];
    // The step to which times are printed: rounded stamps come as multiples of it.
    let grain = steps[steps.len() / 20];
    let usual: Vec<f64> = times.windows(2).map(|w| w[1] - w[0]).filter(|d| *d >= 0.0 && *d < 4.0 * median + grain).collect();
    let mut dt = usual.iter().sum::<f64>() / usual.len() as f64;
    // Stamps coarser than the samples repeat all the time; that is rounding. A few repeats are a defect.
    let equal = times.windows(2).filter(|w| w[1] == w[0]).count();
    let rounded = equal * 5 > times.len();
    let (mut kept, mut back, mut repeated): (Vec<usize>, Vec<usize>, Vec<usize>) = (vec![0], vec![], vec![]);
    for i in 1..times.len() {
        let d = times[i] - times[kept[kept.len() - 1]];
        if d < -0.5 * dt {
            back.push(i);
        } else if d <= 0.0 && !rounded {
            repeated.push(i);
        } else {
            kept.push(i);
        }
    }
    if let Some(&first) = back.first() {
        let t = times[first];
        warnings.push(
            Warning::new(
                "backward-time",
                format!("time goes back to {t:.3} s; {} rows until it had caught up were dropped", back.len()),
            )
            .second(times[first - 1])
            .line(line(first)),
        );
    }
    if let Some(&first) = repeated.first() {
        warnings.push(
            Warning::new("repeated-time", format!("{} rows repeat the time before them and were dropped", repeated.len()))
                .second(times[first])
                .line(line(first)),
        );
    }
    if back.len() > times.len() / 3 {
        return Err(Problem::new("second-clock", "the time column starts again: this file holds two recordings; split it")
            .line(line(back[0])));
    }
    // Stretches between gaps; the longest sets the rate.
    let mut stretches: Vec<Range<usize>> = vec![];
    let mut from = 0;
    for k in 1..=kept.len() {
        let broken = k == kept.len() || times[kept[k]] - times[kept[k - 1]] > 3.0 * dt + 1.5 * grain;
        if broken {
            stretches.push(from..k);
            from = k;
        }
    }
    let longest = stretches.iter().max_by_key(|s| s.len()).cloned().unwrap_or(0..kept.len());
    if longest.len() > 8 {
        dt = (times[kept[longest.end - 1]] - times[kept[longest.start]]) / (longest.len() - 1) as f64;
    }
    if !(dt.is_finite() && dt > 0.0) {
        return Err(Problem::new("bad-time", "no sampling rate can be told from the time column").line(line(0)));
    }
    let start = times[kept[0]];
    let mut index = vec![None; times.len()];
    let mut gaps = vec![];
    let mut next = 0usize;
    for s in &stretches {
        let first = times[kept[s.start]];
        let at = (((first - start) / dt).round().max(0.0) as usize).max(next);
        if at > next {
            let long = (at - next) as f64 * dt;
            if long > 3600.0 {
                return Err(Problem::new("bad-time", format!("time jumps by {long:.0} s")).line(line(kept[s.start])));
            }
            gaps.push(next..at);
            warnings.push(
                Warning::new("gap", format!("{long:.2} s are missing; they were left out of every window"))
                    .second(start + next as f64 * dt)
                    .line(line(kept[s.start])),
            );
        }
        for (k, row) in kept[s.clone()].iter().enumerate() {
            index[*row] = Some(at + k);
        }
        next = at + s.len();
    }
    Ok(Clock { rate: 1.0 / dt, start, index, length: next, gaps, warnings })
}

/// Values on the clock; what no row gave is bridged straight.
pub(crate) fn lay(clock: &Clock, values: &[f32]) -> Vec<f32> {
    let mut out = vec![f32::NAN; clock.length];
    for (i, v) in clock.index.iter().zip(values) {
        if let Some(i) = i {
            out[*i] = *v;
        }
    }
    let mut last: Option<usize> = None;
    for i in 0..out.len() {
        if out[i].is_nan() {
            continue;
        }
        match last {
            Some(l) if i > l + 1 => {
                let (a, b) = (out[l], out[i]);
                let step = (b - a) / (i - l) as f32;
                for (k, v) in out[l + 1..i].iter_mut().enumerate() {
                    *v = a + step * (k + 1) as f32;
                }
            }
            None => {
                let v = out[i];
                out[..i].fill(v);
            }
            _ => {}
        }
        last = Some(i);
    }
    if let Some(l) = last {
        let v = out[l];
        out[l + 1..].fill(v);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn fit_of(t: &[f64]) -> Clock {
        fit(t, |i| i as u64 + 2).unwrap()
    }

    #[test]
    fn rounded_times_are_no_defect() {
        let t: Vec<f64> = (0..4000).map(|i| (i as f64 * 2.5).round() / 1000.0).collect();
        let c = fit_of(&t);
        assert!(c.warnings.is_empty() && c.gaps.is_empty());
        assert!((c.rate - 400.0).abs() < 0.1);
        let coarse: Vec<f64> = (0..4000).map(|i| (i as f64 / 4.0).floor() / 100.0).collect();
        let c = fit_of(&coarse);
        assert!(c.warnings.is_empty(), "{:?}", c.warnings);
        assert!((c.rate - 400.0).abs() < 0.5);
    }

    #[test]
    fn a_gap_is_told_with_its_second_and_line() {
        let t: Vec<f64> = (0..1000).filter(|i| !(400..500).contains(i)).map(|i| f64::from(i) / 100.0).collect();
        let c = fit_of(&t);
        assert_eq!((c.gaps.len(), c.gaps[0].clone()), (1, 400..500));
        assert_eq!((c.warnings[0].code.as_str(), c.warnings[0].line), ("gap", Some(402)));
        assert!((c.warnings[0].at_s.unwrap() - 4.0).abs() < 1e-6);
        assert_eq!(c.length, 1000);
    }

    #[test]
    fn times_that_go_back_or_repeat_are_dropped_and_told() {
        let mut t: Vec<f64> = (0..200).map(|i| f64::from(i) / 100.0).collect();
        t.insert(100, 0.5);
        t.insert(150, t[149]);
        let c = fit_of(&t);
        let codes: Vec<_> = c.warnings.iter().map(|w| w.code.as_str()).collect();
        assert_eq!(codes, ["backward-time", "repeated-time"]);
        assert_eq!(c.length, 200);
        let twice: Vec<f64> = (0..200).map(|i| f64::from(i % 100) / 100.0).collect();
        assert_eq!(fit(&twice, |i| i as u64).unwrap_err().code, "second-clock");
    }

    #[test]
    fn what_is_missing_is_bridged_straight() {
        let c = Clock { rate: 1.0, start: 0.0, index: vec![Some(1), None, Some(4)], length: 6, gaps: vec![], warnings: vec![] };
        assert_eq!(lay(&c, &[1.0, 9.0, 4.0]), [1.0, 1.0, 2.0, 3.0, 4.0, 4.0]);
    }

    proptest! {
        #[test]
        fn any_times_give_an_answer_or_a_problem(t in proptest::collection::vec(-1e3..1e3f64, 0..200)) {
            if let Ok(c) = fit(&t, |i| i as u64) {
                prop_assert!(c.rate > 0.0);
                prop_assert!(c.index.iter().flatten().all(|i| *i < c.length));
            }
        }
    }
}
