//! Readings of one instrument at one place, taken together: the mean of two that agree, their spread, a third asked for when they
//! disagree, the middle one of three.

use super::{Evaluation, LimitCheck, instrument};
use crate::case::{Case, Measurement};
use crate::error::Problem;

/// Readings farther apart than so many standard errors of their difference disagree.
const DISAGREE_SIGMAS: f64 = 3.0;

/// How readings stand to each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Agreement {
    /// It was read once.
    Once,
    /// Within what the instrument can tell.
    Agree,
    /// No two agree: one more is asked for.
    Disagree,
}

/// Readings taken together.
#[derive(Clone, Debug, PartialEq)]
pub struct Repeated {
    /// How the last one reads.
    pub last: Evaluation,
    /// All of them: “1.10 mm and 1.06 mm”.
    pub values: String,
    /// How many.
    pub count: usize,
    /// How they stand to each other.
    pub agreement: Agreement,
    /// What they come to, against the limit; none where there is none.
    pub limit: Option<LimitCheck>,
}

impl Repeated {
    /// How often it was read, in words; empty for once.
    pub fn words(&self) -> String {
        match (self.agreement, self.count) {
            (Agreement::Once, _) => String::new(),
            (Agreement::Agree, 2) => format!("read twice: {}", self.values),
            (Agreement::Agree, n) => format!("read {n} times: {}", self.values),
            (Agreement::Disagree, 2) => format!("{} disagree: read it a third time", self.values),
            (Agreement::Disagree, _) => {
                format!("{}: no two agree; clean the place, look at the instrument, read again", self.values)
            }
        }
    }
}

/// Whether two readings agree within what the instrument can tell.
fn agree(a: &LimitCheck, b: &LimitCheck) -> bool {
    (a.ratio - b.ratio).abs() <= DISAGREE_SIGMAS * a.sigma.hypot(b.sigma)
}

/// What several readings come to.
fn together(all: &[LimitCheck]) -> (Option<LimitCheck>, Agreement) {
    let n = all.len() as f64;
    let [first, rest @ ..] = all else { return (None, Agreement::Once) };
    if rest.is_empty() {
        return (Some(*first), Agreement::Once);
    }
    let mut sorted = all.to_vec();
    sorted.sort_by(|a, b| a.ratio.total_cmp(&b.ratio));
    let spread = sorted[sorted.len() - 1].ratio - sorted[0].ratio;
    let sigma = all.iter().map(|c| c.sigma).sum::<f64>() / n;
    let mean = all.iter().map(|c| c.ratio).sum::<f64>() / n;
    if agree(&sorted[0], &sorted[sorted.len() - 1]) {
        let of_mean = (sigma / n.sqrt()).max(spread / (2.0 * n.sqrt()));
        return (Some(LimitCheck { ratio: mean, sigma: of_mean }), Agreement::Agree);
    }
    if all.len() == 2 {
        return (Some(LimitCheck { ratio: mean, sigma: spread / 2.0 }), Agreement::Disagree);
    }
    // The middle one, as sure as its nearest neighbour is near.
    let middle = sorted[sorted.len() / 2];
    let near = |c: &LimitCheck| (c.ratio - middle.ratio).abs();
    let nearest = sorted.iter().filter(|c| **c != middle).map(near).fold(f64::MAX, f64::min).min(spread);
    let agreement = if sorted.windows(2).any(|w| agree(&w[0], &w[1])) { Agreement::Agree } else { Agreement::Disagree };
    (Some(LimitCheck { ratio: middle.ratio, sigma: sigma.max(nearest) }), agreement)
}

impl Case {
    /// The readings that count at the place of one of them, in their order: of the same instrument and phase, and none that is stale.
    pub fn readings_with<'c>(&'c self, m: &'c Measurement) -> Vec<&'c Measurement> {
        let place = self.measurement_place(m).ok();
        let same = |o: &&Measurement| {
            o.kind == m.kind
                && o.is_after() == m.is_after()
                && o.repair == m.repair
                && self.measurement_place(o).ok() == place
                && self.stale(o).is_none()
        };
        self.measurements.iter().filter(same).collect()
    }

    /// Readings of one instrument at one place, taken together; none where there are none, or its kind is not known. Errors are those
    /// of the last one's calculation; an earlier one that cannot be read is left out.
    pub fn repeated(&self, readings: &[&Measurement]) -> Result<Option<Repeated>, Problem> {
        let Some((last, earlier)) = readings.split_last() else { return Ok(None) };
        let Some(instrument) = instrument(&last.kind) else { return Ok(None) };
        let at = self.measurement_place(last)?;
        let of = |m: &Measurement| (instrument.evaluate)(&self.vehicle, &at, &m.input);
        let last = of(last)?;
        let mut all: Vec<Evaluation> = earlier.iter().filter_map(|m| of(m).ok()).collect();
        all.push(last.clone());
        let checks: Vec<LimitCheck> = all.iter().filter_map(|e| e.limit).collect();
        let (limit, agreement) = together(&checks);
        let values = match &all[..] {
            [only] => only.value.clone(),
            [before @ .., end] => {
                let before: Vec<&str> = before.iter().map(|e| e.value.as_str()).collect();
                format!("{} and {}", before.join(", "), end.value)
            }
            [] => String::new(),
        };
        Ok(Some(Repeated { last, values, count: all.len(), agreement, limit }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::rear_drive;
    use proptest::prelude::*;
    use serde_json::json;

    fn of(tirs: &[f64]) -> Repeated {
        let mut case = Case::new("c1", "Hum", rear_drive(1));
        for t in tirs {
            let around: Vec<f64> = (0..8).map(|i| t / 2.0 * (f64::from(i) * std::f64::consts::FRAC_PI_4).cos()).collect();
            case.measurements.push_back(Measurement {
                kind: "runout".into(),
                at: Some("prop.rear.s1.centre".into()),
                input: json!({"mm": around}),
                ..Measurement::default()
            });
        }
        let last = case.measurements.last().unwrap();
        case.repeated(&case.readings_with(last)).unwrap().unwrap()
    }

    #[test]
    fn two_that_agree_are_surer_and_two_that_do_not_ask_for_a_third() {
        let (once, twice) = (of(&[0.80]), of(&[0.80, 0.82]));
        assert_eq!((once.agreement, once.words().as_str()), (Agreement::Once, ""));
        assert_eq!((twice.agreement, twice.words().as_str()), (Agreement::Agree, "read twice: 0.80 mm and 0.82 mm"));
        assert!(twice.limit.unwrap().sigma < once.limit.unwrap().sigma);
        let apart = of(&[0.40, 1.20]);
        assert_eq!(apart.words(), "0.40 mm and 1.20 mm disagree: read it a third time");
        assert!((apart.limit.unwrap().over_probability() - 0.5).abs() < 0.1, "nothing is sure before it is read again");
        let third = of(&[0.40, 1.20, 1.16]);
        assert_eq!(third.agreement, Agreement::Agree);
        assert!(third.limit.unwrap().over_probability() > 0.95);
        assert_eq!(of(&[0.2, 0.8, 1.6]).agreement, Agreement::Disagree);
    }

    proptest! {
        #[test]
        fn what_they_come_to_lies_among_them(tirs in prop::collection::vec(0.1f64..2.0, 1..6)) {
            let r = of(&tirs).limit.unwrap();
            let (low, high) = tirs.iter().fold((f64::MAX, 0.0f64), |(l, h), t| (l.min(*t), h.max(*t)));
            prop_assert!(r.ratio * 0.75 > low - 1e-9 && r.ratio * 0.75 < high + 1e-9 && r.sigma > 0.0);
        }
    }
}
