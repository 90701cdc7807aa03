//! Likelihoods: how likely each outcome of a test is under each hypothesis. General tests by behaviour, specific ones by
//! marks, everything else by base rates; the rows of a hypothesis sum to 1.

use super::behaviour::{Subject, general};
use super::hypotheses::Hypothesis;
use super::knowledge::{
    Bears, ExponentWeights, Fault, Knowledge, Marks, OutcomeRule, Test, Turning, distribution, fill, outcomes_at,
};
use super::place_kinds::is_kind;
use crate::vehicle::{Place, PlaceKind, Vehicle, is_part_of};

/// What can come out of a test: an outcome, and the place that it names.
#[derive(Clone, Debug, PartialEq)]
pub struct Cell {
    /// Where it stands among the test's outcomes.
    pub outcome: usize,
    /// The place that it names.
    pub place: Option<Place>,
}

/// A test's outcomes with their likelihoods.
#[derive(Clone, Debug)]
pub struct Likelihoods {
    /// What can come out.
    pub cells: Vec<Cell>,
    /// A row for each cell, a probability for each hypothesis; the rows of a hypothesis sum to 1.
    pub rows: Vec<Vec<f64>>,
}

/// What the likelihoods of one symptom are worked out from.
pub struct Model<'a> {
    /// The vehicle.
    pub v: &'a Vehicle,
    /// The knowledge.
    pub k: &'a Knowledge,
    /// All hypotheses, the unknown one last.
    pub all: &'a [Hypothesis],
    /// The kind of the symptom.
    pub symptom: &'a str,
    places: Vec<Place>,
    faults: Vec<Option<&'a Fault>>,
}

/// Whether one place is a part of the other.
pub(super) fn is_within(a: &str, b: &str) -> bool {
    is_part_of(a, b) || is_part_of(b, a)
}

/// Whether a test made at a place says something of a hypothesis' place.
fn concerns(bears: Bears, v: &Vehicle, at: Option<&Place>, p: &Place) -> bool {
    let Some(at) = at else { return true };
    match bears {
        Bears::Vehicle => true,
        Bears::Place => is_within(&at.id, &p.id),
        Bears::Corner => at.corner.is_some() && at.corner == p.corner,
        Bears::Axle => at.end.is_some() && p.end == at.end && p.is_of_axle_drive() || p.kind == PlaceKind::Transfer,
        Bears::Unit => match at.kind {
            PlaceKind::HalfInner | PlaceKind::HalfOuter | PlaceKind::Half => is_within(&at.id, &p.id),
            _ if at.is_of_shaft() => p.is_of_shaft() && p.end == at.end,
            PlaceKind::Diff => p.end == at.end && !p.is_of_shaft(),
            PlaceKind::Gearbox => matches!(p.kind, PlaceKind::Gearbox | PlaceKind::Clutch) || p.id == "mount.gearbox",
            _ => at.kind == p.kind || at.corner.is_some() && at.corner == p.corner,
        },
        Bears::Shaft => {
            let one_section = p.end.and_then(|e| v.prop(e)).is_some_and(|q| q.sections.len() == 1);
            let same = at.end == p.end && (p.is_of_shaft() || p.kind == PlaceKind::Diff);
            // Turned at a section's flange: the whole shaft turns with it when it is one piece.
            same && (one_section || at.kind != PlaceKind::Section || p.kind != PlaceKind::Section || at.id == p.id)
        }
    }
}

/// How near a place is to a cause.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Nearness {
    Own,
    Neighbour,
    Elsewhere,
}

/// How near a place that a test names is to the place of a cause.
fn nearness(v: &Vehicle, named: &Place, p: &Place) -> Nearness {
    use PlaceKind as K;
    let corner = named.corner.is_some() && named.corner == p.corner;
    let end = named.end.is_some() && named.end == p.end;
    let at_hub = |k: K| matches!(k, K::Hub | K::Wheel | K::Brake | K::Strut | K::HalfOuter);
    let inner = |k: K| matches!(k, K::HalfInner | K::Half | K::HalfBearing);
    let transaxle_side = |k: K, e| inner(k) && v.transaxle_end().is_some_and(|t| Some(t) == e);
    match () {
        () if is_within(&named.id, &p.id) => Nearness::Own,
        () if named.kind == K::Hub && corner && (at_hub(p.kind) || p.kind == K::Half) => Nearness::Own,
        () if named.kind == K::HalfInner && corner && inner(p.kind) => Nearness::Own,
        () if named.kind == K::Gearbox && (p.kind == K::Clutch || p.id == "mount.gearbox") => Nearness::Own,
        () if named.kind == K::Engine && (p.kind == K::Exhaust || p.id == "mount.engine") => Nearness::Own,
        () if named.kind == K::Diff && p.id == "mount.diff" => Nearness::Own,
        () if named.kind == K::Diff && end && p.kind == K::Diff => Nearness::Own,
        () if named.kind == K::Gearbox && p.kind == K::Diff && p.end.is_some_and(|e| v.final_drive_in_gearbox(e)) => {
            Nearness::Own
        }
        // Next to it along the driveline.
        () if corner && (at_hub(named.kind) || inner(named.kind)) && (at_hub(p.kind) || inner(p.kind)) => Nearness::Neighbour,
        () if end && matches!(named.kind, K::Diff | K::Coupler | K::Support | K::Joint) && p.is_of_shaft() => Nearness::Neighbour,
        () if end && named.kind == K::Diff && (inner(p.kind) || p.kind == K::Coupler) => Nearness::Neighbour,
        () if end && inner(named.kind) && p.kind == K::Diff => Nearness::Neighbour,
        () if end && matches!(named.kind, K::Support | K::Joint | K::Coupler) && p.kind == K::Diff => Nearness::Neighbour,
        () if named.kind == K::Gearbox && (matches!(p.kind, K::Engine | K::Transfer) || transaxle_side(p.kind, p.end)) => {
            Nearness::Neighbour
        }
        () if p.kind == K::Gearbox
            && (matches!(named.kind, K::Engine | K::Transfer) || transaxle_side(named.kind, named.end)) =>
        {
            Nearness::Neighbour
        }
        () if matches!(named.kind, K::Gearbox | K::Transfer) && p.is_of_shaft() => Nearness::Neighbour,
        () if matches!(p.kind, K::Gearbox | K::Transfer) && named.is_of_shaft() => Nearness::Neighbour,
        () if named.kind == K::Engine && p.kind == K::Clutch => Nearness::Neighbour,
        () => Nearness::Elsewhere,
    }
}

impl<'a> Model<'a> {
    /// For the symptoms of one kind on one vehicle.
    pub fn new(v: &'a Vehicle, k: &'a Knowledge, all: &'a [Hypothesis], symptom: &'a str) -> Self {
        let faults = all.iter().map(|h| k.fault(&h.fault)).collect();
        Self { v, k, all, symptom, places: v.places(), faults }
    }

    fn is_kind(&self, p: &Place, kind: &str) -> bool {
        is_kind(self.v, p, kind)
    }

    /// The places where a test is made, or which it can name.
    pub fn places_of(&self, t: &Test) -> Vec<Place> {
        self.places.iter().filter(|p| t.at.iter().any(|kind| self.is_kind(p, kind))).cloned().collect()
    }

    /// What can come out of a test on this vehicle.
    pub fn cells(&self, t: &Test) -> Vec<Cell> {
        if !t.names_place {
            return (0..t.outcomes.len()).map(|outcome| Cell { outcome, place: None }).collect();
        }
        let test_places = self.places_of(t);
        let mut out = vec![];
        for (outcome, o) in t.outcomes.iter().enumerate() {
            if names_nothing(&o.id) {
                out.push(Cell { outcome, place: None });
                continue;
            }
            let can = |p: &&Place| o.at.is_empty() || o.at.iter().any(|kind| self.is_kind(p, kind));
            out.extend(test_places.iter().filter(can).map(|p| Cell { outcome, place: Some(p.clone()) }));
        }
        out
    }

    /// Likelihoods of a test at a place, in a gear, as they are known. Every hypothesis' rows sum to 1.
    pub fn likelihoods(&self, t: &Test, at: Option<&Place>, gear: Option<&str>) -> Likelihoods {
        self.compute(t, at, gear, |_| {})
    }

    /// The same as they count: tempered, with this exponent. Every hypothesis' rows sum to 1.
    pub fn tempered(&self, t: &Test, at: Option<&Place>, gear: Option<&str>, exponent: f64) -> Likelihoods {
        self.compute(t, at, gear, |p| temper(p, &self.k.weights.exponent, exponent))
    }

    fn compute(&self, t: &Test, at: Option<&Place>, gear: Option<&str>, temper: impl Fn(&mut Vec<f64>)) -> Likelihoods {
        let cells = self.cells(t);
        let base = match at {
            Some(p) if !t.names_place => outcomes_at(t, |kind| self.is_kind(p, kind)),
            _ => self.base_of_cells(t, &cells),
        };
        let mut unsaid: Vec<f64> = self.spread(t, &cells, &base, None);
        temper(&mut unsaid);
        let singles = self.all.iter().take_while(|h| !h.is_pair() && !h.is_unknown()).count();
        let says: Vec<Option<Vec<f64>>> = (0..singles)
            .map(|i| {
                let mut p = self.outcome_row(i, t, at, gear, &cells, &base)?;
                temper(&mut p);
                Some(p)
            })
            .collect();
        let mut rows: Vec<Vec<f64>> = unsaid.iter().map(|x| vec![*x; self.all.len()]).collect();
        let mut write = |h: usize, p: &[f64]| rows.iter_mut().zip(p).for_each(|(row, x)| row[h] = *x);
        for (h, hyp) in self.all.iter().enumerate() {
            match hyp.pair {
                None if h < singles => says[h].iter().for_each(|p| write(h, p)),
                None => {}
                Some([a, b]) if says[a].is_some() || says[b].is_some() => {
                    let mut p = self.pair(t, [a, b], [&says[a], &says[b]], &unsaid);
                    if self.are_heard_both_ways(t, [a, b]) {
                        temper(&mut p);
                    }
                    write(h, &p);
                }
                Some(_) => {}
            }
        }
        Likelihoods { cells, rows }
    }

    /// Twins that show in the bend that loads their side are heard in both.
    fn are_heard_both_ways(&self, t: &Test, [a, b]: [usize; 2]) -> bool {
        let loaded = self.all[a].behaviour.as_ref().is_some_and(|b| b.turning == Some(Turning::Loaded));
        t.id == "turn" && loaded && self.all[a].fault == self.all[b].fault
    }

    /// Two faults at once: a reading that only one member speaks of is that member's, any other the mean of both.
    fn pair(&self, t: &Test, [a, b]: [usize; 2], says: [&Option<Vec<f64>>; 2], unsaid: &[f64]) -> Vec<f64> {
        let (p, q) = match says {
            [Some(p), Some(q)] => (p, q),
            [Some(p), None] | [None, Some(p)] => return p.clone(),
            [None, None] => return unsaid.to_vec(),
        };
        if self.are_heard_both_ways(t, [a, b]) {
            let given: Vec<Option<f64>> = t.outcomes.iter().map(|o| (o.id == "both").then_some(0.6)).collect();
            return fill(&given, &t.outcomes.iter().map(|o| o.base).collect::<Vec<_>>());
        }
        p.iter().zip(q).map(|(x, y)| 0.5 * (x + y)).collect()
    }

    /// Base rates of the outcomes, where those that name a place can.
    fn base_of_cells(&self, t: &Test, cells: &[Cell]) -> Vec<f64> {
        if !t.names_place {
            return t.outcomes.iter().map(|o| o.base).collect();
        }
        let places = |i: usize| cells.iter().filter(|c| c.outcome == i).count();
        let of_walk = |o: &OutcomeRule, n: usize| match n {
            0 => 0.0,
            // Somewhere in the series, where each place has it for no reason so often.
            n if t.base_each && !names_nothing(&o.id) => (1.0 - (1.0 - o.base).powi(n as i32)).min(0.6),
            _ if t.base_each => 0.0,
            _ => o.base,
        };
        let mut base: Vec<f64> = t.outcomes.iter().enumerate().map(|(i, o)| of_walk(o, places(i))).collect();
        if let Some(i) = t.outcomes.iter().position(|o| names_nothing(&o.id)) {
            base[i] += 1.0 - base.iter().sum::<f64>();
        }
        base
    }

    /// A series that looks at each place by itself: the mark says what is found at the cause's own place, anywhere else a find
    /// is as likely as for no reason. None where the series does not come by it.
    fn series_of_looks(&self, t: &Test, m: &Marks, cells: &[Cell], base: &[f64], place: &Place) -> Option<Vec<f64>> {
        let of_each: Vec<f64> = t.outcomes.iter().map(|o| o.base).collect();
        let own = distribution(t, m, &of_each, &self.k.weights.marks);
        let is_own = |c: &Cell| c.place.as_ref().is_some_and(|named| nearness(self.v, named, place) == Nearness::Own);
        let own_cells = |i: usize| cells.iter().filter(|c| c.outcome == i && is_own(c)).count() as f64;
        let found: f64 = (0..own.len()).filter(|i| own_cells(*i) > 0.0).map(|i| own[i]).sum();
        let by_chance = self.spread(t, cells, base, None);
        let of_cell = |(c, b): (&Cell, &f64)| match is_own(c) {
            true => own[c.outcome] / own_cells(c.outcome),
            false => (1.0 - found) * b,
        };
        let mut p: Vec<f64> = cells.iter().zip(&by_chance).map(of_cell).collect();
        let sum: f64 = p.iter().sum();
        p.iter_mut().for_each(|x| *x /= sum);
        (found > 0.0).then_some(p)
    }

    /// Spreads the outcomes over the cells: over the places that each can name, by how near they are to the cause.
    fn spread(&self, t: &Test, cells: &[Cell], p: &[f64], cause: Option<&Place>) -> Vec<f64> {
        if !t.names_place {
            return p.to_vec();
        }
        let w = &self.k.weights.located;
        // Where the test looks at the place itself there are no neighbours to be taken for it.
        let itself = matches!(t.id.as_str(), "lash-watch" | "wheel-swap-retest");
        let weight = |c: &Cell| match (&c.place, cause) {
            (Some(named), Some(p)) => match nearness(self.v, named, p) {
                Nearness::Own if itself => 0.9,
                Nearness::Own => w.own,
                Nearness::Neighbour if !itself => w.neighbour,
                _ => w.elsewhere,
            },
            _ => 1.0,
        };
        let weights: Vec<f64> = cells.iter().map(weight).collect();
        let mut sums = vec![0.0; t.outcomes.len()];
        cells.iter().zip(&weights).for_each(|(c, w)| sums[c.outcome] += w);
        cells.iter().zip(&weights).map(|(c, w)| p[c.outcome] * w / sums[c.outcome]).collect()
    }

    /// What a single fault says of a test, a probability for each cell; none where it says nothing.
    fn outcome_row(
        &self,
        i: usize,
        t: &Test,
        at: Option<&Place>,
        gear: Option<&str>,
        cells: &[Cell],
        base: &[f64],
    ) -> Option<Vec<f64>> {
        let (h, f) = (&self.all[i], self.faults[i]?);
        let place = h.place.as_ref()?;
        let of_gear = h.gear.is_none() || gear.is_none() || h.gear.as_deref() == gear;
        let here = |_: &&Marks| of_gear && (t.names_place || concerns(t.bears, self.v, at, place));
        if t.base_each {
            return f.tests.get(&t.id).and_then(|m| self.series_of_looks(t, m, cells, base, place));
        }
        let marks = f.tests.get(&t.id).filter(here).map(|m| distribution(t, m, base, &self.k.weights.marks));
        let by_behaviour = || {
            let rule = general(&t.id, &self.subject(h, f, place), at, gear)?;
            let given = |o: &OutcomeRule| rule.outcomes.iter().find(|x| x.0 == o.id).map(|x| x.1);
            Some(fill(&t.outcomes.iter().map(given).collect::<Vec<_>>(), base))
        };
        let p = self.with_exceptions(f, t, marks.or_else(by_behaviour), base)?;
        Some(self.spread(t, cells, &p, Some(place)))
    }

    fn subject<'b>(&'b self, h: &'b Hypothesis, f: &'b Fault, place: &'b Place) -> Subject<'b> {
        Subject { v: self.v, k: self.k, h, f, place, symptom: self.symptom }
    }

    /// P(heard from each of the zones) of a single hypothesis; none where its place says nothing of it.
    pub fn heard(&self, i: usize) -> Option<Vec<f64>> {
        super::complaint_evidence::heard_of(self.v, self.k, &self.all[i])
    }

    /// P(felt there) of a single hypothesis.
    pub fn felt(&self, i: usize, place: &str) -> f64 {
        super::complaint_evidence::felt_at(self.v, self.k, Some(&self.all[i]), place)
    }

    /// Single outcomes that do not follow from a fault's behaviour; the others keep their shares of the rest.
    fn with_exceptions(&self, f: &Fault, t: &Test, p: Option<Vec<f64>>, base: &[f64]) -> Option<Vec<f64>> {
        let mut given: Vec<Option<f64>> = vec![None; t.outcomes.len()];
        for e in f.exceptions_for(&t.id, self.symptom) {
            if let Some(i) = t.outcomes.iter().position(|o| o.id == e.outcome) {
                given[i] = Some(e.p);
            }
        }
        match given.iter().any(Option::is_some) {
            false => p,
            true => Some(fill(&given, p.as_deref().unwrap_or(base))),
        }
    }

    /// Why a general test says what it says of a hypothesis.
    pub fn reason(&self, i: usize, t: &Test, at: Option<&Place>, gear: Option<&str>) -> Option<String> {
        let (h, f) = (&self.all[i], self.faults[i]?);
        let exception = f.exceptions_for(&t.id, self.symptom).next().map(|e| e.why.clone());
        let place = h.place.as_ref()?;
        exception.or_else(|| general(&t.id, &self.subject(h, f, place), at, gear).map(|r| r.why.to_string()))
    }
}

/// Whether an outcome says that nothing is there, so that it names no place.
pub(super) fn names_nothing(outcome: &str) -> bool {
    matches!(outcome, "not-heard" | "same" | "none" | "even")
}

/// The distribution as it counts: its probabilities are themselves known only so far, and it is raised to an exponent;
/// it sums to 1 again.
pub fn temper(p: &mut [f64], w: &ExponentWeights, exponent: f64) {
    for x in p.iter_mut().filter(|x| **x > 0.0) {
        *x = expected(*x, w.log_odds_sigma).powf(exponent);
    }
    let sum: f64 = p.iter().sum();
    if sum > 0.0 {
        p.iter_mut().for_each(|x| *x /= sum);
    }
}

/// Nodes and weights of the Gauss-Hermite rule of five points, for a standard normal variable.
const HERMITE: [(f64, f64); 5] =
    [(-2.856_970, 0.011_257), (-1.355_626, 0.222_076), (0.0, 0.533_333), (1.355_626, 0.222_076), (2.856_970, 0.011_257)];

/// The mean of a probability whose log-odds are known with this standard deviation.
pub(super) fn expected(p: f64, sigma: f64) -> f64 {
    let odds = p / (1.0 - p).max(1e-9);
    HERMITE
        .iter()
        .map(|(z, weight)| {
            let o = odds * (sigma * z).exp();
            weight * o / (1.0 + o)
        })
        .sum()
}

impl Likelihoods {
    /// How likely each cell is for no reason: the row of the unknown cause.
    pub fn base(&self) -> Vec<f64> {
        self.rows.iter().map(|r| r.last().copied().unwrap_or(0.0)).collect()
    }

    /// The likelihood of what came out: an outcome, and the place it named. Without a place it sums over all of them.
    pub fn outcome_likelihoods(&self, outcome: usize, place: Option<&Place>, v: &Vehicle) -> Vec<f64> {
        let of_outcome = |c: &Cell| c.outcome == outcome;
        let named = place.and_then(|p| {
            let exact = self.cells.iter().position(|c| of_outcome(c) && c.place.as_ref().is_some_and(|q| q.id == p.id));
            let near = |c: &Cell| c.place.as_ref().is_some_and(|q| nearness(v, q, p) == Nearness::Own);
            exact.or_else(|| self.cells.iter().position(|c| of_outcome(c) && near(c)))
        });
        if let Some(i) = named {
            return self.rows[i].clone();
        }
        let n = self.rows.first().map_or(0, Vec::len);
        (0..n).map(|h| self.cells.iter().zip(&self.rows).filter(|(c, _)| of_outcome(c)).map(|(_, r)| r[h]).sum()).collect()
    }
}
