//! The knowledge told to a mechanic: what speaks for a fault and what against it.

use super::{Fault, Knowledge, OfAll, OutcomeRule, Test};

/// How an outcome bears on a fault.
#[derive(Clone, Debug, PartialEq)]
pub struct Says {
    /// The test.
    pub test: String,
    /// Its heading.
    pub ask: String,
    /// What comes out.
    pub outcome: String,
    /// Kinds of places where that holds; none where it holds everywhere.
    pub only_at: Vec<String>,
    /// How likely that is with this fault.
    pub p: f64,
    /// How many times likelier than for no reason.
    pub times: f64,
}

impl Says {
    /// How often, in words.
    pub fn often(&self) -> &'static str {
        match (self.times >= 1.0, self.p) {
            (true, p) if p >= 0.9 => "nearly always",
            (true, p) if p >= 0.5 => "usually",
            (true, p) if p >= 0.1 => "sometimes",
            (true, _) => "rare, but telling",
            (false, p) if p >= 0.1 => "seldom",
            (false, _) => "practically never",
        }
    }
}

/// Below this factor an outcome says nothing worth a line.
const WORTH_A_LINE: f64 = 1.25;

impl Knowledge {
    /// What a test says of every fault at some places: the outcome, whether it speaks for them, and of which.
    pub fn of_all<'a>(&self, t: &'a Test) -> Vec<(&'a OutcomeRule, bool, &'a OfAll)> {
        let told = |s: &'a OfAll| {
            s.marks.iter().filter_map(move |(name, mark)| {
                let o = t.outcome(name)?;
                Some((o, self.probability(mark)? > o.base, s))
            })
        };
        t.says.iter().flat_map(told).collect()
    }

    /// What speaks for a fault and what against it, the strongest first.
    pub fn told(&self, f: &Fault) -> (Vec<Says>, Vec<Says>) {
        let mut all: Vec<Says> = vec![];
        for (only_at, test, marks) in f.all_marks() {
            let Some(t) = self.test(test) else { continue };
            for (name, mark) in marks {
                let Some(p) = self.probability(mark) else { continue };
                let (outcome, base) = match name.as_str() {
                    "@loaded" => ("heard in the turn that loads this side".to_string(), t.outcomes[0].base),
                    "@unloaded" => ("heard in the turn that unloads this side".to_string(), t.outcomes[0].base),
                    n => match t.outcome(n) {
                        Some(o) => (o.words.clone(), o.base),
                        None => continue,
                    },
                };
                let times = p / base.max(1e-6);
                all.push(Says { test: test.clone(), ask: t.ask.clone(), outcome, only_at: only_at.to_vec(), p, times });
            }
        }
        let (mut speaks, mut against): (Vec<Says>, Vec<Says>) = all.into_iter().partition(|s| s.times >= 1.0);
        speaks.retain(|s| s.times >= WORTH_A_LINE);
        against.retain(|s| s.times <= 1.0 / WORTH_A_LINE);
        speaks.sort_by(|a, b| b.times.total_cmp(&a.times));
        against.sort_by(|a, b| a.times.total_cmp(&b.times));
        (speaks, against)
    }
}

#[cfg(test)]
mod tests {
    use super::super::builtin;

    #[test]
    fn every_fault_has_something_that_speaks_for_it() {
        let k = builtin();
        for f in &k.faults {
            let (speaks, against) = k.told(f);
            assert!(!speaks.is_empty(), "{}", f.id);
            assert!(speaks.iter().all(|s| s.times > 1.0) && against.iter().all(|s| s.times < 1.0));
        }
        let (speaks, against) = k.told(k.fault("axle-nut-loose").unwrap());
        assert!(speaks.iter().any(|s| s.test == "axle-nut-check" && s.often() == "nearly always"), "{speaks:?}");
        let _ = against;
    }

    #[test]
    fn what_hardly_ever_comes_with_a_fault_speaks_against_it() {
        let k = builtin();
        let (_, against) = k.told(k.fault("wheel-imbalance").unwrap());
        assert!(against.iter().any(|s| s.test == "standstill-rev" && s.often() == "practically never"), "{against:?}");
    }
}
