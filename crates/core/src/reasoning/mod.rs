//! Weighing: for each symptom the causes with how sure, what moved each, what is ruled out and by
//! what, and the tests that settle most for their time.
//!
//! Hypothesis = fault at a place. Prior by kind, shared out among its places, raised by history;
//! evidence multiplies in as likelihoods; `unknown` is always in the list. Bits of a piece of
//! evidence = log2(P(evidence | cause) / P(evidence)).

mod complaint;
pub mod course;
mod evidence;
pub mod gate;
mod hypotheses;
pub mod knowledge;
mod next;
pub mod opened;
mod overturn;
mod parting;
pub mod policy;

pub use evidence::Evidence;
pub use hypotheses::{Hypothesis, Predicted, hypotheses, is_kind as place_is, predicted};
pub use next::{NextTest, OutcomePreview, RECORDED, entropy, moved, settles};
pub use overturn::{Overturn, overturns};
pub use parting::Parting;

use crate::analysis::Analysis;
use crate::case::Case;
use crate::problem::Warning;
use crate::road_coach::Coach;
use knowledge::Knowledge;
use serde::Serialize;

/// One thing that moved a cause.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Because {
    /// In the mechanic's words.
    pub evidence: String,
    /// How far, up or down.
    pub bits: f64,
}

/// A cause with how sure.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Ranked {
    /// The fault; `unknown` for none of these.
    pub fault: String,
    /// Where; `none` for the unknown.
    pub at: String,
    /// In which gear, for a fault of one gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Probability.
    pub p: f64,
    /// What moved it, strongest first.
    pub because: Vec<Because>,
}

/// A cause that is out, and by what.
#[derive(Clone, Debug, Serialize)]
pub struct RuledOut {
    /// The fault.
    pub fault: String,
    /// Where.
    pub at: String,
    /// What put it out.
    pub by: String,
    /// How far.
    pub bits: f64,
}

/// One symptom's answer.
#[derive(Clone, Debug, Serialize)]
pub struct SymptomAnswer {
    /// The symptom.
    pub id: String,
    /// All causes, likeliest first.
    pub ranked: Vec<Ranked>,
    /// The next tests, by what they settle per minute.
    pub next: Vec<NextTest>,
    /// The course that costs least until it is cured.
    pub course: course::Course,
    /// What is out and by what.
    pub ruled_out: Vec<RuledOut>,
    /// What is left open, in bits.
    pub open_bits: f64,
}

/// From this probability on a cause is a suspect, and from this one it leads though most is open.
const SUSPECT: f64 = 0.08;
const LEADS: f64 = 0.25;

/// How far the search for a cause is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Stands<'a> {
    /// This one is sure enough to act on.
    Sure(&'a Ranked),
    /// So many suspects hold most of it.
    Left(usize),
    /// This one stands first, but most of it is open.
    Leads(&'a Ranked),
    /// Nothing stands out.
    Open,
}

impl SymptomAnswer {
    /// How far the search is, where `sure` is enough to act on.
    pub fn stands(&self, sure: f64) -> Stands<'_> {
        let named = || self.ranked.iter().filter(|r| r.fault != "unknown");
        let suspects = named().filter(|r| r.p >= SUSPECT);
        // Few that hold less than half of it are not what is left.
        let most = suspects.clone().map(|r| r.p).sum::<f64>() >= 0.5;
        match named().next() {
            Some(r) if r.p >= sure => Stands::Sure(r),
            _ if most => Stands::Left(suspects.count()),
            Some(r) if r.p >= LEADS => Stands::Leads(r),
            _ => Stands::Open,
        }
    }
}

/// A case's answer.
#[derive(Clone, Debug, Serialize)]
pub struct Diagnosis {
    /// One entry a symptom.
    pub symptoms: Vec<SymptomAnswer>,
    /// What could not be weighed.
    pub warnings: Vec<Warning>,
}

/// The hypotheses of one symptom with their weights, and the evidence that made them.
pub(crate) struct Weighed {
    pub all: Vec<Hypothesis>,
    pub p: Vec<f64>,
    prior: Vec<f64>,
    evidence: Vec<Shown>,
}

/// A piece of evidence as it is told: how far it moved each cause.
struct Shown {
    words: String,
    bits: Vec<f64>,
    /// It is the complaint itself, no test.
    of_symptom: bool,
}

fn normalise(p: &mut [f64]) {
    let sum: f64 = p.iter().sum();
    p.iter_mut().for_each(|x| *x /= sum);
}

fn weigh(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>, warnings: &mut Vec<Warning>) -> Weighed {
    let all = hypotheses(&case.vehicle, k);
    let mut prior: Vec<f64> = all
        .iter()
        .map(|h| {
            let tags = k.fault(&h.fault).map_or(0, |f| f.history.iter().filter(|t| case.history.contains(t)).count());
            h.weight * if tags > 0 { k.weights.prior.history } else { 1.0 }
        })
        .collect();
    normalise(&mut prior);
    let mut evidence: Vec<Evidence> = complaint::symptom(case, k, &all, symptom);
    evidence.extend(evidence::observations(case, k, &all, symptom, warnings));
    evidence.extend(evidence::measurements(case, k, &all, symptom, warnings));
    if let Some(a) = analysis {
        evidence.extend(evidence::recordings(case, k, &all, symptom, a));
    }
    evidence.extend(evidence::repairs(case, k, &all, symptom));
    let mut p = prior.clone();
    let mut groups: Vec<String> = vec![];
    let mut shown = vec![];
    for e in evidence {
        // What leans on a fact that has been counted adds less.
        let exponent = match &e.group {
            Some(g) if groups.contains(g) => k.weights.prior.group,
            _ => 1.0,
        };
        groups.extend(e.group.clone());
        let likelihood: Vec<f64> = e.likelihood.iter().map(|l| l.max(1e-6).powf(exponent)).collect();
        for (x, l) in p.iter_mut().zip(&likelihood) {
            *x *= l;
        }
        let sum: f64 = p.iter().sum();
        // P(evidence) under what was believed before it: the factor that normalises.
        let bits = likelihood.iter().map(|l| (l / sum).log2()).collect();
        p.iter_mut().for_each(|x| *x /= sum);
        shown.push(Shown { words: e.words, bits, of_symptom: e.test == complaint::SYMPTOM });
    }
    Weighed { all, p, prior, evidence: shown }
}

impl Weighed {
    fn because(&self, i: usize) -> Vec<Because> {
        let mut b: Vec<Because> = self
            .evidence
            .iter()
            .map(|e| Because { evidence: e.words.clone(), bits: e.bits[i] })
            .filter(|b| b.bits.abs() >= 0.05)
            .collect();
        b.sort_by(|x, y| y.bits.abs().total_cmp(&x.bits.abs()));
        b
    }

    fn ranked(&self) -> Vec<Ranked> {
        let mut order: Vec<usize> = (0..self.all.len()).collect();
        order.sort_by(|&a, &b| self.p[b].total_cmp(&self.p[a]));
        order
            .into_iter()
            .map(|i| Ranked {
                fault: self.all[i].fault.clone(),
                at: self.all[i].at.clone(),
                gear: self.all[i].gear.clone(),
                p: self.p[i],
                because: self.because(i),
            })
            .collect()
    }

    /// What was a suspect, or spoke to by a test at its place, and is out now.
    fn ruled_out(&self) -> Vec<RuledOut> {
        let mut out: Vec<RuledOut> = vec![];
        let mut order: Vec<usize> = (0..self.all.len()).filter(|&i| self.p[i] < 0.01 && !self.all[i].is_unknown()).collect();
        order.sort_by(|&a, &b| self.prior[b].total_cmp(&self.prior[a]));
        for i in order {
            // Where the symptom's own words pulled it down most, nothing was asked of it.
            let down = self.evidence.iter().filter(|e| e.bits[i] < -1.2).min_by(|a, b| a.bits[i].total_cmp(&b.bits[i]));
            if let Some(e) = down.filter(|e| !e.of_symptom) {
                out.push(RuledOut {
                    fault: self.all[i].fault.clone(),
                    at: self.all[i].at.clone(),
                    by: e.words.clone(),
                    bits: e.bits[i],
                });
            }
        }
        out
    }
}

/// Weighs a case. `analysis` is what its recordings say, where there are any.
pub fn diagnose(case: &Case, k: &Knowledge, analysis: Option<&Analysis>) -> Diagnosis {
    let mut warnings = vec![];
    let symptoms = case
        .symptoms
        .iter()
        .map(|s| {
            let w = weigh(case, k, &s.id, analysis, &mut warnings);
            let laid = next::laid_out(case, k, &s.id, &w);
            let (ranked, mut next) = (w.ranked(), next::next_tests(case, k, &w, &laid, 12));
            for n in next.iter_mut().filter(|n| n.test == next::RECORDED) {
                n.runs = Coach::for_symptom(case, &s.id, &ranked).map_or(vec![], |c| c.legs().to_vec());
            }
            SymptomAnswer {
                id: s.id.clone(),
                ranked,
                next,
                course: course::Play::new(case, k, &w, &laid).course(case, k, &w),
                ruled_out: w.ruled_out(),
                open_bits: next::entropy(&w.p),
            }
        })
        .collect();
    warnings.extend(case.recordings.iter().filter(|r| !case.is_weighed(r)).map(|r| {
        let message = format!("run {} was made by the simulated recorder: no vehicle drove it, and it does not count", r.id);
        Warning::new("simulated-run", message).at(&r.id)
    }));
    let mut seen: Vec<Warning> = vec![];
    for w in warnings {
        if !seen.contains(&w) {
            seen.push(w);
        }
    }
    Diagnosis { symptoms, warnings: seen }
}

/// What is believed of each of [`hypotheses`], in their order.
pub fn beliefs(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> Vec<f64> {
    weigh(case, k, symptom, analysis, &mut vec![]).p
}

/// The plan of a symptom alone.
pub fn advise(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> course::Course {
    let w = weigh(case, k, symptom, analysis, &mut vec![]);
    course::Play::new(case, k, &w, &next::laid_out(case, k, symptom, &w)).course(case, k, &w)
}

/// A test that can be made as the vehicle stands, with what its outcomes say.
#[derive(Clone, Debug)]
pub struct Possible {
    /// The test.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// Minutes, with what must be done before it.
    pub minutes: f64,
    /// Its outcomes.
    pub outcomes: Vec<String>,
    /// A row for each outcome: how likely it is under each hypothesis.
    pub rows: Vec<Vec<f64>>,
}

/// The tests of a symptom that were not made yet, in the order of the catalogue.
pub fn possible(case: &Case, k: &Knowledge, symptom: &str) -> Vec<Possible> {
    let all = hypotheses(&case.vehicle, k);
    next::open(case, k, symptom)
        .into_iter()
        .map(|t| Possible {
            test: t.test.id.clone(),
            at: t.at.as_ref().map(|p| p.id.clone()),
            gear: t.gear.clone(),
            minutes: next::minutes(case, k, t.test, t.at.as_ref()),
            outcomes: t.test.outcomes.iter().map(|o| o.id.clone()).collect(),
            rows: t.rows(case, k, &all),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::knowledge::builtin;
    use super::*;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(v: crate::vehicle::Vehicle, kind: &str, more: Value) -> Case {
        let mut doc = Case::new_document("t", "t", json!(v));
        doc["symptoms"] = json!([{"id": "S1", "kind": kind, "heard_from": "unknown"}]);
        for (k, x) in more.as_object().unwrap() {
            doc[k] = x.clone();
        }
        Case::from_json(&doc).unwrap()
    }
    fn first(d: &Diagnosis) -> String {
        format!("{}@{}", d.symptoms[0].ranked[0].fault, d.symptoms[0].ranked[0].at)
    }
    fn p(d: &Diagnosis, fault: &str, at: &str) -> f64 {
        d.symptoms[0].ranked.iter().filter(|r| r.fault == fault && (at.is_empty() || r.at == at)).map(|r| r.p).sum()
    }

    #[test]
    fn probabilities_sum_to_one_with_the_unknown_among_them() {
        for v in every_layout() {
            for kind in super::knowledge::KINDS {
                let d = diagnose(&case(v.clone(), kind, json!({})), builtin(), None);
                let sum: f64 = d.symptoms[0].ranked.iter().map(|r| r.p).sum();
                assert!((sum - 1.0).abs() < 1e-9);
                assert!(p(&d, "unknown", "none") > 0.0);
            }
        }
    }

    #[test]
    fn a_click_in_a_right_turn_is_the_left_outer_joint() {
        let d = diagnose(
            &case(front_drive(), "click-repeating", json!({"observations": [{"test": "turn", "outcome": "right"}]})),
            builtin(),
            None,
        );
        assert_eq!(first(&d), "outer-joint-worn@half.fl.outer");
    }

    #[test]
    fn bits_add_up_from_prior_to_answer() {
        let c = case(rear_drive(2), "vibration", json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}]}));
        let w = weigh(&c, builtin(), "S1", None, &mut vec![]);
        for i in 0..w.all.len() {
            let sum: f64 = w.evidence.iter().map(|e| e.bits[i]).sum();
            assert!((w.prior[i].log2() + sum - w.p[i].log2()).abs() < 1e-9);
        }
    }

    #[test]
    fn contradicting_everything_leaves_the_unknown() {
        let all = json!({"observations": [
            {"test": "neutral-coast", "outcome": "stops"}, {"test": "standstill-rev", "outcome": "absent"},
            {"test": "other-gear-same-speed", "outcome": "same"}, {"test": "reindex-retest", "at": "prop.rear.s1", "outcome": "same"},
            {"test": "wheel-swap-retest", "outcome": "same"}, {"test": "angle-survey", "at": "prop.rear", "outcome": "within"}]});
        let with = diagnose(&case(rear_drive(1), "vibration", all), builtin(), None);
        let without = diagnose(&case(rear_drive(1), "vibration", json!({})), builtin(), None);
        assert!(p(&with, "unknown", "") > 1.5 * p(&without, "unknown", ""));
    }

    #[test]
    fn not_cured_drops_what_was_repaired_and_a_copy_part_drops_it_less() {
        let with = |part: Value| {
            let r = json!({"repairs": [{"fault": "inner-joint-worn", "at": "half.fl.inner", "result": "not-cured", "part": part}],
                "observations": [{"test": "drive-coast-float", "outcome": "drive"}]});
            diagnose(&case(front_drive(), "shudder", r), builtin(), None)
        };
        let (original, copy) = (with(json!("original")), with(json!("copy")));
        assert!(p(&original, "inner-joint-worn", "half.fr.inner") > 5.0 * p(&original, "inner-joint-worn", "half.fl.inner"));
        assert!(p(&copy, "inner-joint-worn", "half.fl.inner") > 2.0 * p(&original, "inner-joint-worn", "half.fl.inner"));
    }

    #[test]
    fn few_that_hold_less_than_half_are_not_what_is_left() {
        let mut d = diagnose(&case(rear_drive(1), "clunk", json!({})), builtin(), None);
        let mut stands = |p: &[f64]| {
            let a = &mut d.symptoms[0];
            a.ranked.retain(|r| r.fault != "unknown");
            a.ranked.truncate(p.len());
            a.ranked.iter_mut().zip(p).for_each(|(r, p)| r.p = *p);
            format!("{:?}", a.stands(0.8)).split(['(', ' ']).next().unwrap().to_string() + &p.len().to_string()
        };
        assert_eq!(stands(&[0.85, 0.1, 0.01, 0.01, 0.01]), "Sure5");
        assert_eq!(stands(&[0.4, 0.3, 0.1, 0.05]), "Left4");
        assert_eq!(stands(&[0.3, 0.1, 0.07]), "Leads3");
        assert_eq!(stands(&[0.12, 0.12]), "Open2");
        d.symptoms[0].ranked.truncate(2);
        d.symptoms[0].ranked.iter_mut().for_each(|r| r.p = 0.3);
        assert_eq!(d.symptoms[0].stands(0.8), Stands::Left(2));
    }

    #[test]
    fn the_latest_of_a_test_counts_and_the_contradiction_is_shown() {
        let o = json!({"observations": [{"test": "engage", "outcome": "clunk"}, {"test": "engage", "outcome": "none"}]});
        let d = diagnose(&case(rear_drive(1), "clunk", o), builtin(), None);
        assert_eq!(d.warnings[0].code, "contradiction");
        assert_eq!(d.warnings[0].message, "From neutral into drive and reverse: “a clunk”, later “nothing”; the later counts");
        let only = diagnose(
            &case(rear_drive(1), "clunk", json!({"observations": [{"test": "engage", "outcome": "none"}]})),
            builtin(),
            None,
        );
        assert!((p(&d, "joint-worn", "") - p(&only, "joint-worn", "")).abs() < 1e-9);
    }

    #[test]
    fn what_is_not_understood_is_told_and_not_weighed() {
        let o = json!({"observations": [{"test": "kick-tyre", "outcome": "thud"}, {"test": "engage", "outcome": "maybe"},
            {"test": "joint-wiggle", "at": "prop.front.j1", "outcome": "play"}]});
        let d = diagnose(&case(rear_drive(1), "clunk", o), builtin(), None);
        let codes: Vec<_> = d.warnings.iter().map(|w| w.code.as_str()).collect();
        assert_eq!(codes, ["unknown-test", "unknown-outcome", "unknown-place"]);
    }

    #[test]
    fn a_runout_over_its_limit_says_bent_and_within_says_not() {
        let with = |mm: f64| {
            let m: Vec<f64> = (0..8).map(|i| mm / 2.0 * (std::f64::consts::TAU * f64::from(i) / 8.0).cos()).collect();
            let x = json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}],
                "measurements": [{"kind": "runout", "at": "prop.rear.s1.centre", "input": {"mm": m}}]});
            diagnose(&case(rear_drive(1), "vibration", x), builtin(), None)
        };
        assert!(p(&with(1.4), "prop-bent", "") > 0.4);
        assert!(p(&with(0.2), "prop-bent", "") < 0.03);
    }

    #[test]
    fn ruled_out_says_by_what() {
        let o = json!({"observations": [{"test": "other-gear-same-speed", "outcome": "same"}]});
        let d = diagnose(&case(rear_drive(2), "vibration", o), builtin(), None);
        let e = d.symptoms[0].ruled_out.iter().find(|r| r.fault == "engine-order").expect("the engine is out");
        assert!(e.by.contains("another gear") && e.bits < -2.0);
    }
}
