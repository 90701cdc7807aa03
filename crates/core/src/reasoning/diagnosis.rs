//! The answer about a case: causes with how sure, what is ruled out, how far the search is, the next step.

use super::danger::Danger;
use super::plan;
use super::shared_causes::Shared;
use super::test_selection::NextTest;
use super::units::Unit;
use crate::case::fault_at::FaultAt;
use crate::error::Warning;
use serde::{Deserialize, Serialize};

/// One thing that moved a cause.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Contribution {
    /// In the mechanic's words.
    pub evidence: String,
    /// How far, up or down.
    pub bits: f64,
}

/// A cause with how sure.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Ranked {
    /// The fault, of a pair the likelier one; `unknown` for none of these.
    pub fault: String,
    /// Where; `none` for the unknown.
    pub at: String,
    /// In which gear, for a fault of one gear once a reading names one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// The other one of a pair.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<FaultAt>,
    /// Probability.
    pub p: f64,
    /// What moved it, strongest first.
    pub because: Vec<Contribution>,
}

impl Ranked {
    /// Whether it holds a fault at a place.
    pub fn holds(&self, fault: &str, at: &str) -> bool {
        self.fault == fault && self.at == at || self.with.iter().any(|w| w.fault == fault && w.at == at)
    }
}

/// A cause that is out, and by what.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RuledOut {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
    /// What put it out.
    pub by: String,
    /// How far.
    pub bits: f64,
}

/// One symptom's answer.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SymptomAnswer {
    /// Id of the symptom.
    pub id: String,
    /// All causes, likeliest first: exclusive hypotheses, single faults and the pairs that the knowledge names.
    pub ranked: Vec<Ranked>,
    /// The open tests, the first step of the plan first, then by what they answer for each minute.
    pub next: Vec<NextTest>,
    /// The plan that costs least until it is cured.
    #[serde(rename = "course")]
    pub plan: plan::Plan,
    /// Probabilities by what is bought as one.
    pub units: Vec<Unit>,
    /// Whether a statement on driving is proposed.
    pub danger: Option<Danger>,
    /// What is out and by what.
    pub ruled_out: Vec<RuledOut>,
    /// What is left open, in bits.
    pub open_bits: f64,
}

/// From this probability on a cause is a suspect, and from this one it leads though most is open.
const SUSPECT_MIN_PROBABILITY: f64 = 0.08;
const LEADING_MIN_PROBABILITY: f64 = 0.25;
/// How far the search for a cause is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum DiagnosisStatus<'a> {
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
    pub fn status(&self, sure: f64) -> DiagnosisStatus<'_> {
        let named = || self.ranked.iter().filter(|r| r.fault != "unknown");
        let suspects = named().filter(|r| r.p >= SUSPECT_MIN_PROBABILITY);
        // Few that hold less than half of it are not what is left.
        let most = suspects.clone().map(|r| r.p).sum::<f64>() >= 0.5;
        match named().next() {
            Some(r) if r.p >= sure => DiagnosisStatus::Sure(r),
            _ if most => DiagnosisStatus::Left(suspects.count()),
            Some(r) if r.p >= LEADING_MIN_PROBABILITY => DiagnosisStatus::Leads(r),
            _ => DiagnosisStatus::Open,
        }
    }

    /// How likely something at each part is the cause: the sum over its faults, pairs counted at each of their parts; the likeliest
    /// part first, the unknown left out.
    pub fn part_sums(&self) -> Vec<(String, f64)> {
        let mut out: Vec<(String, f64)> = vec![];
        let mut add = |at: &str, p: f64| match out.iter_mut().find(|x| x.0 == at) {
            Some(x) => x.1 += p,
            None => out.push((at.into(), p)),
        };
        for r in self.ranked.iter().filter(|r| r.fault != "unknown") {
            add(&r.at, r.p);
            r.with.iter().filter(|w| w.at != r.at).for_each(|w| add(&w.at, r.p));
        }
        out.sort_by(|a, b| b.1.total_cmp(&a.1));
        out
    }

    /// Probability of a fault at a place, alone or as one of a pair.
    pub fn probability(&self, fault: &str, at: &str) -> f64 {
        self.ranked.iter().filter(|r| r.holds(fault, at)).map(|r| r.p).sum()
    }
}

/// Two places of one fault that belong together: each alone, and both.
#[derive(Clone, Debug, PartialEq)]
pub struct Twins {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// The two places.
    pub at: [String; 2],
    /// The sum.
    pub p: f64,
}

impl SymptomAnswer {
    /// The pair of places whose sum holds at least half, where neither of them alone is enough to act on.
    pub fn twins(&self) -> Option<Twins> {
        let alone = |fault: &str, at: &str| {
            self.ranked.iter().filter(|r| r.fault == fault && r.at == at && r.with.is_empty()).map(|r| r.p).sum::<f64>()
        };
        let pairs = self.ranked.iter().filter(|r| r.with.iter().any(|w| w.fault == r.fault));
        let sums = pairs.map(|r| {
            let other = &r.with[0];
            let p = r.p + alone(&r.fault, &r.at) + alone(&r.fault, &other.at);
            Twins { fault: r.fault.clone(), at: [r.at.clone(), other.at.clone()], p }
        });
        let best = sums.max_by(|a, b| a.p.total_cmp(&b.p)).filter(|t| t.p >= 0.5)?;
        (alone(&best.fault, &best.at[0]) < 0.8 * best.p).then_some(best)
    }
}

/// The next step of a case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NextStep {
    /// Of which symptom.
    pub symptom: String,
    /// The test; none where a part is replaced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub test: Option<String>,
    /// The fault that is repaired; none where a test is made.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replace: Option<String>,
    /// What is repaired with it, of a pair.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<FaultAt>,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// What it takes from how the vehicle stands now.
    pub minutes: f64,
}

/// A case's answer.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Diagnosis {
    /// The next step of the case; none where nothing is left to do.
    pub step: Option<NextStep>,
    /// One entry a symptom.
    pub symptoms: Vec<SymptomAnswer>,
    /// Causes that explain several symptoms at once.
    pub shared: Vec<Shared>,
    /// What could not be weighed.
    pub warnings: Vec<Warning>,
}
