//! The clock of a recording: from printed times to uniform samples.
//!
//! Times printed to a step may jitter by that step: a uniform clock is fitted, and that is no
//! defect. Gaps are bridged and marked, so that no window uses them; times that go back are dropped.

use crate::spool::{DataBuilder, Rows};
use baricord_core::error::{Problem, Warning};
use baricord_core::signal::Data;
use baricord_core::signal::estimate::quantile;
use std::ops::Range;

/// A uniform clock, and which rows stand on it.
#[derive(Debug)]
pub(crate) struct Clock {
    pub rate: f64,
    pub start: f64,
    pub length: usize,
    pub gaps: Vec<Range<usize>>,
    pub warnings: Vec<Warning>,
    rule: Rule,
    /// Where on the clock each stretch without a gap begins.
    stretches: Vec<usize>,
}

/// Steps of the time column that are looked at to know its pace.
const MAX_STEPS: usize = 1 << 20;

/// The shortest and the longest step between samples, s.
const SHORTEST_STEP_S: f64 = 1e-6;
const LONGEST_STEP_S: f64 = 10.0;
/// Samples that may be missing for each row that is there, and in any file: what is bridged takes room too.
const BRIDGED_PER_ROW: u64 = 8;
const BRIDGED_ANYWAY: u64 = 4_000_000;

/// What makes a row one of the recording's: decided row by row, so that both passes decide alike.
#[derive(Clone, Copy, Debug)]
struct Rule {
    dt: f64,
    /// The step to which times are printed.
    grain: f64,
    /// Whether equal times are rounding.
    rounded: bool,
}

enum Row {
    /// It belongs; whether a gap lies before it.
    Kept { after_gap: bool },
    /// Time goes back.
    Back,
    /// The time before it again.
    Repeated,
}

impl Rule {
    fn judge(&self, last: f64, t: f64) -> Row {
        match t - last {
            d if d < -0.5 * self.dt => Row::Back,
            d if d <= 0.0 && !self.rounded => Row::Repeated,
            d => Row::Kept { after_gap: d > 3.0 * self.dt + 1.5 * self.grain },
        }
    }
}

/// A run of rows without a gap.
struct Stretch {
    row: u64,
    first: f64,
    last: f64,
    count: usize,
}

/// Rows that were left out: how many, and the first of them.
#[derive(Default)]
struct Left {
    count: u64,
    first: Option<(u64, f64, f64)>,
}

impl Left {
    fn add(&mut self, row: u64, before: f64, t: f64) {
        self.count += 1;
        self.first.get_or_insert((row, before, t));
    }
}

/// Fits a clock to the times of rows (s); `line` tells a row's line in the file.
pub(crate) fn fit(rows: &mut Rows, line: impl Fn(u64) -> u64) -> Result<Clock, Problem> {
    if rows.len() < 16 {
        return Err(Problem::new("too-short", format!("{} samples are too few to say anything", rows.len())));
    }
    let rule = pace(rows, &line)?;
    let (mut back, mut repeated) = (Left::default(), Left::default());
    let mut stretches: Vec<Stretch> = vec![];
    let (mut row, mut before, mut last) = (0u64, f64::NAN, f64::NAN);
    rows.each(|t, _| {
        match if row == 0 { Row::Kept { after_gap: true } } else { rule.judge(last, t) } {
            Row::Back => back.add(row, before, t),
            Row::Repeated => repeated.add(row, before, t),
            Row::Kept { after_gap } => {
                match stretches.last_mut() {
                    Some(s) if !after_gap => {
                        s.last = t;
                        s.count += 1;
                    }
                    _ => stretches.push(Stretch { row, first: t, last: t, count: 1 }),
                }
                last = t;
            }
        }
        (row, before) = (row + 1, t);
        Ok(())
    })?;
    let mut warnings = vec![];
    if let Some((first, before, t)) = back.first {
        let message = format!("time goes back to {t:.3} s; {} rows until it had caught up were dropped", back.count);
        warnings.push(Warning::new("backward-time", message).second(before).line(line(first)));
        if back.count > rows.len() / 3 {
            return Err(Problem::new("second-clock", "the time column starts again: this file holds two recordings; split it")
                .line(line(first)));
        }
    }
    if let Some((first, _, t)) = repeated.first {
        let message = format!("{} rows repeat the time before them and were dropped", repeated.count);
        warnings.push(Warning::new("repeated-time", message).second(t).line(line(first)));
    }
    let mut dt = rule.dt;
    // The longest stretch sets the rate.
    if let Some(s) = stretches.iter().max_by_key(|s| s.count).filter(|s| s.count > 8) {
        dt = (s.last - s.first) / (s.count - 1) as f64;
    }
    if !(dt.is_finite() && dt > 0.0) {
        return Err(Problem::new("bad-time", "no sampling rate can be worked out from the time column").line(line(0)));
    }
    if !(SHORTEST_STEP_S..=LONGEST_STEP_S).contains(&dt) {
        let message = format!("the time column moves on by {dt:.3e} s: is its unit right? Steps of 1 µs to 10 s are read");
        return Err(Problem::new("bad-time", message).line(line(0)));
    }
    let start = stretches.first().map_or(0.0, |s| s.first);
    let (mut gaps, mut begins, mut next, mut bridged) = (vec![], vec![], 0usize, 0u64);
    for s in &stretches {
        let at = (((s.first - start) / dt).round().max(0.0) as usize).max(next);
        if at > next {
            let long = (at - next) as f64 * dt;
            bridged += (at - next) as u64;
            if long > 3600.0 || bridged > BRIDGED_PER_ROW * rows.len() + BRIDGED_ANYWAY {
                return Err(Problem::new("bad-time", format!("time jumps by {long:.0} s")).line(line(s.row)));
            }
            gaps.push(next..at);
            warnings.push(
                Warning::new("gap", format!("{long:.2} s are missing; they were left out of every window"))
                    .second(start + next as f64 * dt)
                    .line(line(s.row)),
            );
        }
        begins.push(at);
        next = at + s.count;
    }
    Ok(Clock { rate: 1.0 / dt, start, length: next, gaps, warnings, rule, stretches: begins })
}

/// The pace of a time column, from its first steps.
fn pace(rows: &mut Rows, line: &impl Fn(u64) -> u64) -> Result<Rule, Problem> {
    let (mut steps, mut equal, mut moved, mut last): (Vec<f64>, u64, u64, Option<f64>) = (vec![], 0, 0, None);
    rows.each(|t, _| {
        if let Some(l) = last {
            let d = t - l;
            moved += u64::from(d > 0.0);
            equal += u64::from(d == 0.0);
            if d > 0.0 && steps.len() < MAX_STEPS {
                steps.push(d);
            }
        }
        last = Some(t);
        Ok(())
    })?;
    if moved < rows.len() / 20 || steps.is_empty() {
        return Err(Problem::new("bad-time", "the time column hardly ever moves on: is it the right column?").line(line(0)));
    }
    let of = |steps: &mut Vec<f64>, share: f64| quantile(steps, share, f64::total_cmp).unwrap_or_default();

    let (median, grain) = (of(&mut steps, 0.5), of(&mut steps, 0.05));
    let (mut sum, mut usual, mut last) = (0.0, 0u64, None);
    rows.each(|t, _| {
        if let Some(l) = last
            && (0.0..4.0 * median + grain).contains(&(t - l))
        {
            sum += t - l;
            usual += 1;
        }
        last = Some(t);
        Ok(())
    })?;
    // Stamps coarser than the samples repeat all the time; that is rounding. A few repeats are a defect.
    Ok(Rule { dt: sum / usual as f64, grain, rounded: equal * 5 > rows.len() })
}

/// Lays rows on the clock: hands each kept row's place to `put`.
pub(crate) fn resample_readings(
    clock: &Clock,
    rows: &mut Rows,
    mut put: impl FnMut(usize, &[f32]) -> Result<(), Problem>,
) -> Result<(), Problem> {
    let (mut stretch, mut at, mut last) = (0, 0, None);
    rows.each(|t, values| {
        match last.map_or(Row::Kept { after_gap: true }, |l| clock.rule.judge(l, t)) {
            Row::Kept { after_gap } => {
                if after_gap {
                    at = clock.stretches.get(stretch).copied().unwrap_or(at);
                    stretch += 1;
                }
                put(at, values)?;
                (at, last) = (at + 1, Some(t));
            }
            Row::Back | Row::Repeated => {}
        }
        Ok(())
    })
}

/// Fills a channel in the order of its clock; what no row gave is bridged straight.
#[derive(Default)]
pub(crate) struct Filler {
    out: DataBuilder,
    last: Option<(usize, f32)>,
}

impl Filler {
    /// The value at a place of the clock, places rising; NaN is no value.
    pub fn put(&mut self, at: usize, v: f32) -> Result<(), Problem> {
        if v.is_nan() {
            return Ok(());
        }
        match self.last {
            // Before the first value stands the first value.
            None => (0..at).try_for_each(|_| self.out.push(v))?,
            Some((l, a)) => {
                let step = (v - a) / (at - l) as f32;
                (1..at - l).try_for_each(|k| self.out.push(a + step * k as f32))?;
            }
        }
        self.last = Some((at, v));
        self.out.push(v)
    }

    /// The channel, as long as its clock.
    pub fn finish(mut self, length: usize) -> Result<Data, Problem> {
        let (from, v) = self.last.map_or((0, 0.0), |(l, v)| (l + 1, v));
        (from..length).try_for_each(|_| self.out.push(v))?;
        self.out.finish()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rows(t: &[f64]) -> Rows {
        let mut r = Rows::new(0);
        t.iter().for_each(|t| r.push(*t, std::iter::empty()).unwrap());
        r
    }
    fn fit_of(t: &[f64]) -> Clock {
        fit(&mut rows(t), |i| i + 2).unwrap()
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
        assert_eq!(fit(&mut rows(&twice), |i| i).unwrap_err().code, "second-clock");
    }

    #[test]
    fn a_clock_that_no_instrument_has_is_refused() {
        let of = |dt: f64, jump: f64| {
            let t: Vec<f64> = (0..400).map(|i| f64::from(i) * dt + if i > 200 { jump } else { 0.0 }).collect();
            fit(&mut rows(&t), |i| i + 2).map_err(|p| p.code)
        };
        assert!(of(1e-6, 0.0).is_ok() && of(1.0, 0.0).is_ok());
        for (dt, jump) in [(1e-12, 0.0), (1e-300, 0.0), (1e-7, 0.0), (60.0, 0.0), (1e-6, 3000.0), (1e-12, 1.0)] {
            assert_eq!(of(dt, jump).err().as_deref(), Some("bad-time"), "{dt} {jump}");
        }
    }

    #[test]
    fn what_is_missing_is_bridged_straight() {
        let mut f = Filler::default();
        for (at, v) in [(1, 1.0), (2, f32::NAN), (4, 4.0)] {
            f.put(at, v).unwrap();
        }
        assert_eq!(f.finish(6).unwrap().to_vec().unwrap(), [1.0, 1.0, 2.0, 3.0, 4.0, 4.0]);
        assert_eq!(Filler::default().finish(2).unwrap().to_vec().unwrap(), [0.0, 0.0]);
    }

    proptest! {
        #[test]
        fn any_times_give_an_answer_or_a_problem(t in proptest::collection::vec(-1e3..1e3f64, 0..200)) {
            let mut r = rows(&t);
            if let Ok(c) = fit(&mut r, |i| i) {
                prop_assert!(c.rate > 0.0);
                let mut last = None;
                resample_readings(&c, &mut r, |at, _| {
                    assert!(at < c.length && last.is_none_or(|l| at > l));
                    last = Some(at);
                    Ok(())
                }).unwrap();
            }
        }
    }
}
