//! One symptom weighed: the hypotheses with their probabilities, and the evidence that made them.

use super::complaint_evidence;
use super::diagnosis::{Contribution, Ranked, RuledOut};
use super::driver_answers;
use super::evidence::{self, Evidence};
use super::hypotheses::{Hypothesis, hypotheses};
use super::knowledge::Knowledge;
use super::likelihood::Model;
use super::{measurement_evidence, prior, recording_evidence, repair_evidence, usual_kind};
use crate::analysis::Analysis;
use crate::case::Case;
use crate::case::fault_at::FaultAt;
use crate::error::Warning;

/// Below this a cause that was looked at is out, and evidence that makes it so is less likely under it than by chance by
/// this factor.
const RULED_OUT_MAX_PROBABILITY: f64 = 0.02;
const SPEAKS_AGAINST_MAX_FACTOR: f64 = 0.25;

/// The hypotheses of one symptom with their weights, and the evidence that made them.
pub(crate) struct Weighed {
    pub all: Vec<Hypothesis>,
    pub p: Vec<f64>,
    pub(super) prior: Vec<f64>,
    /// What hands found, which counts for every symptom: its likelihood alone.
    pub(super) common: Vec<f64>,
    pub(super) evidence: Vec<Shown>,
    /// A reading names a gear: the gears of one fault stand apart.
    pub(super) gears_apart: bool,
}

/// A piece of evidence as it is shown: how far it moved each cause.
pub(super) struct Shown {
    words: String,
    pub(super) bits: Vec<f64>,
    /// It speaks against these causes itself, not by what it did to others.
    against: Vec<bool>,
}

pub(super) fn normalise(p: &mut [f64]) {
    let sum: f64 = p.iter().sum();
    p.iter_mut().for_each(|x| *x /= sum);
}

pub(super) fn weigh(
    case: &Case,
    k: &Knowledge,
    symptom: &str,
    analysis: Option<&Analysis>,
    warnings: &mut Vec<Warning>,
) -> Weighed {
    let all = hypotheses(&case.vehicle, k);
    let prior = prior::prior(case, k, &all, symptom);
    let mut p = prior.clone();
    let mut common = vec![1.0; all.len()];
    let mut shown = vec![];
    let mut gears_apart = false;
    if let Some(s) = case.symptom(symptom) {
        let model = Model::new(&case.vehicle, k, &all, usual_kind(&s.kind));
        gears_apart = driver_answers::named_gear(&case.vehicle, s).is_some()
            || evidence::that_count(case, k, s, &mut vec![]).iter().any(|o| o.named_gear().is_some());
        let mut evidence: Vec<Evidence> = complaint_evidence::symptom(case, k, &all, &prior, symptom);
        evidence.extend(evidence::observations(case, &model, s, warnings));
        evidence.extend(measurement_evidence::measurements(case, &model, symptom, warnings));
        if let Some(a) = analysis {
            evidence.extend(recording_evidence::recordings(case, &model, symptom, a));
        }
        evidence.extend(repair_evidence::repairs(case, &model, symptom));
        for e in evidence {
            let by_chance = e.likelihood.last().copied().unwrap_or(1.0);
            let of_symptom = e.test == complaint_evidence::SYMPTOM;
            let likelihood: Vec<f64> = e.likelihood.iter().map(|l| if of_symptom { *l } else { l.max(1e-6) }).collect();
            let before: Vec<f64> = p.clone();
            p.iter_mut().zip(&likelihood).for_each(|(x, l)| *x *= l);
            let sum: f64 = p.iter().sum();
            if sum <= 0.0 {
                p = before;
                continue;
            }
            p.iter_mut().for_each(|x| *x /= sum);
            if k.test(&e.test).is_some_and(|t| !t.of_symptom) {
                common.iter_mut().zip(&likelihood).for_each(|(x, l)| *x *= l / by_chance.max(1e-9));
            }
            // P(evidence) under what was believed before it: the factor that normalises.
            let bits = likelihood.iter().map(|l| (l.max(1e-12) / sum).log2()).collect();
            let against = likelihood.iter().map(|l| !of_symptom && *l < SPEAKS_AGAINST_MAX_FACTOR * by_chance).collect();
            shown.push(Shown { words: e.words, bits, against });
        }
    }
    Weighed { all, p, prior, common, evidence: shown, gears_apart }
}

impl Weighed {
    pub(super) fn because(&self, i: usize) -> Vec<Contribution> {
        let mut b: Vec<Contribution> = self
            .evidence
            .iter()
            .map(|e| Contribution { evidence: e.words.clone(), bits: e.bits[i] })
            .filter(|b| b.bits.abs() >= 0.05)
            .collect();
        b.sort_by(|x, y| y.bits.abs().total_cmp(&x.bits.abs()));
        b
    }

    /// A hypothesis by its likelier fault, and the other one of a pair.
    pub(crate) fn leading_cause(&self, i: usize) -> (&Hypothesis, Vec<FaultAt>) {
        match self.all[i].pair {
            None => (&self.all[i], vec![]),
            Some([a, b]) => {
                // Twins that are as likely keep the order of the vehicle.
                let (first, other) = if self.p[b] > self.p[a] * (1.0 + 1e-9) { (b, a) } else { (a, b) };
                let other = &self.all[other];
                (&self.all[first], vec![FaultAt::new(&other.fault, &other.at)])
            }
        }
    }

    pub(super) fn ranked(&self) -> Vec<Ranked> {
        let mut out: Vec<Ranked> = vec![];
        for i in 0..self.all.len() {
            let (h, with) = self.leading_cause(i);
            let gear = h.gear.clone().filter(|_| self.gears_apart);
            // The gears of one fault stand as one line until a reading names a gear.
            if h.gear.is_some()
                && gear.is_none()
                && let Some(r) = out.iter_mut().find(|r| r.fault == h.fault && r.at == h.at && r.with.is_empty())
            {
                r.p += self.p[i];
                continue;
            }
            out.push(Ranked { fault: h.fault.clone(), at: h.at.clone(), gear, with, p: self.p[i], because: self.because(i) });
        }
        out.sort_by(|a, b| b.p.total_cmp(&a.p));
        out
    }

    /// What was a suspect and is out now: by a test that speaks against it at its place or on its path.
    pub(super) fn ruled_out(&self) -> Vec<RuledOut> {
        let mut out: Vec<RuledOut> = vec![];
        let single = |i: &usize| !self.all[*i].is_unknown() && !self.all[*i].is_pair();
        let mut order: Vec<usize> =
            (0..self.all.len()).filter(single).filter(|&i| self.p[i] < RULED_OUT_MAX_PROBABILITY).collect();
        order.sort_by(|&a, &b| self.prior[b].total_cmp(&self.prior[a]));
        for i in order {
            let down = self.evidence.iter().filter(|e| e.against[i]).min_by(|a, b| a.bits[i].total_cmp(&b.bits[i]));
            if let Some(e) = down.filter(|e| e.bits[i] < -1.0) {
                let h = &self.all[i];
                if h.gear.is_none() || !out.iter().any(|o| o.fault == h.fault && o.at == h.at) {
                    out.push(RuledOut { fault: h.fault.clone(), at: h.at.clone(), by: e.words.clone(), bits: e.bits[i] });
                }
            }
        }
        out
    }
}
