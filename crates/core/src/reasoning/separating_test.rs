//! Which test parts two parts that no road test can part.

use super::hypotheses::{Hypothesis, hypotheses, predicted};
use super::knowledge::{Knowledge, Test};
use super::likelihood::Model;
use crate::measure::orders::OrderLine;
use crate::vehicle::Vehicle;

/// A test separates two groups of causes from this on: half the sum of the differences of their rows.
const MIN_SEPARATION: f64 = 0.3;

/// Every test at every place where it can be made, with what each outcome says of each cause.
pub struct SeparatingTest<'a> {
    knowledge: &'a Knowledge,
    all: Vec<Hypothesis>,
    /// Test, minutes, and a row of likelihoods for each outcome.
    tests: Vec<(String, f64, Vec<Vec<f64>>)>,
}

impl<'a> SeparatingTest<'a> {
    /// Lays out the tests of a vehicle.
    pub fn new(v: &Vehicle, knowledge: &'a Knowledge) -> Self {
        let all = hypotheses(v, knowledge);
        let mut tests = vec![];
        // The recording is what did not part them, a part that must come off first is a repair and no test, and traces of work
        // raise what may be wrong without parting it.
        let parts = |t: &&Test| !t.recorded && !t.off && t.id != "earlier-work-look";
        // Of what makes a line, as it makes a line.
        let model = Model::new(v, knowledge, &all, "vibration");
        for t in knowledge.tests.iter().filter(parts) {
            let places = if t.names_place { vec![] } else { model.places_of(t) };
            if places.is_empty() && !t.at.is_empty() && !t.names_place {
                continue;
            }
            let at: Vec<_> = if places.is_empty() { vec![None] } else { places.iter().map(Some).collect() };
            for place in at {
                let rows = model.likelihoods(t, place, None).rows;
                tests.push((t.id.clone(), t.minutes, rows));
            }
        }
        Self { knowledge, all, tests }
    }

    /// The causes that make a line.
    pub fn causes_of(&self, line: &OrderLine, ladder: &[OrderLine]) -> Vec<usize> {
        let makes = |h: &Hypothesis| {
            predicted(self.knowledge, h, ladder).iter().any(|p| p.line.what == line.what && p.line.at == line.at)
        };
        (0..self.all.len()).filter(|&i| !self.all[i].is_pair() && makes(&self.all[i])).collect()
    }

    /// The test whose outcomes differ most between two groups of causes for its minutes; none where none differs.
    pub fn best(&self, a: &[usize], b: &[usize]) -> Option<&str> {
        // What could cause both parts nothing; each cause counts by how common it is.
        let alone = |of: &[usize], other: &[usize]| -> Vec<usize> { of.iter().copied().filter(|i| !other.contains(i)).collect() };
        let (a, b) = (alone(a, b), alone(b, a));
        if a.is_empty() || b.is_empty() {
            return None;
        }
        let mean = |row: &[f64], of: &[usize]| {
            let weight = |i: &usize| self.all[*i].weight;
            of.iter().map(|i| row[*i] * weight(i)).sum::<f64>() / of.iter().map(weight).sum::<f64>().max(1e-12)
        };
        self.tests
            .iter()
            .map(|(id, minutes, rows)| {
                // Half the sum of the differences: 0 says nothing, 1 parts them for certain.
                let apart: f64 = rows.iter().map(|r| (mean(r, &a) - mean(r, &b)).abs()).sum::<f64>() / 2.0;
                // What separates them twice as well is worth four times the minutes.
                (id.as_str(), apart, apart * apart / minutes.max(1.0))
            })
            .filter(|t| t.1 > MIN_SEPARATION)
            .max_by(|x, y| x.2.total_cmp(&y.2))
            .map(|t| t.0)
    }
}
