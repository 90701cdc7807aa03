//! The road test that separates: which suspected lines coincide in which gear, and the fewest runs that separate every
//! pair that can be separated. The suspects come from the caller ([`crate::reasoning::road_plan`]).
//!
//! Two orders are separable when they stand at least 2/turns from each other, the width of a Hann
//! window's line over so many wheel turns. The runs are an exact minimal set cover.

use crate::case::Case;
use crate::error::{Problem, positive};
use crate::measure::orders::{Base, OrderLine, What, orders};
use crate::units::KilometresPerHour;
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Most gears that are tried in one plan.
const MOST_RUNS: usize = 12;

/// Where the driver has not said at which speeds, km/h.
pub(super) const USUAL_SPEEDS_KMH: (f64, f64) = (50.0, 110.0);
/// Wheel turns that a window of the tracker holds.
const WINDOW_WHEEL_TURNS: f64 = 32.0;

/// A range of road speed.
#[derive(Clone, Copy, Debug, Deserialize, Serialize)]
pub struct Speeds {
    /// Lower end, km/h.
    pub from: KilometresPerHour,
    /// To.
    pub to: KilometresPerHour,
}

/// One suspect line, as asked.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct Suspect {
    /// What makes it.
    pub what: What,
    /// The part.
    pub at: String,
}

/// What is to be separated.
#[derive(Clone, Debug, Deserialize)]
pub struct SeparabilityInput {
    /// A vehicle as in a case file.
    pub vehicle: Value,
    /// Speeds of a run.
    pub speeds_kmh: Speeds,
    /// Gears that may be driven, by name; none on a single speed.
    #[serde(default)]
    pub gears: Vec<Option<String>>,
    /// Wheel turns in the window.
    pub turns: f64,
    /// The suspects; all lines when left out.
    #[serde(default)]
    pub suspects: Option<Vec<Suspect>>,
}

/// Two suspects that one gear does not tell apart.
#[derive(Clone, Debug, Serialize)]
pub struct Collision {
    /// Name of a gear of the vehicle; none out of gear or where there are none.
    pub gear: Option<String>,
    /// One.
    pub a: OrderLine,
    /// The other.
    pub b: OrderLine,
    /// How far apart, in wheel orders.
    pub gap: f64,
}

/// A run, and the pairs that it separates.
#[derive(Clone, Debug, Serialize)]
pub struct PlannedRun {
    /// Name of a gear of the vehicle; none out of gear or where there are none.
    pub gear: Option<String>,
    /// Lower end, km/h.
    pub from: KilometresPerHour,
    /// To.
    pub to: KilometresPerHour,
    /// Pairs.
    pub separates: Vec<(OrderLine, OrderLine)>,
    /// What this run alone cannot tell apart: groups of suspects whose lines fall together.
    #[serde(skip)]
    pub together: Vec<Vec<OrderLine>>,
}

/// The plan.
#[derive(Clone, Debug, Serialize)]
pub struct Separability {
    /// What collides in which gear.
    pub collisions: Vec<Collision>,
    /// The fewest runs that separate every pair that can be.
    pub runs: Vec<PlannedRun>,
    /// Pairs that no run separates, with a test that parts them.
    pub never: Vec<(OrderLine, OrderLine, Option<String>)>,
}

/// What is to be separated for a symptom, between the lines that are suspected: its speeds, the gears in which such speeds are
/// driven; none where there is nothing to separate.
pub fn input_for(case: &Case, symptom: &str, suspects: Vec<Suspect>) -> Option<SeparabilityInput> {
    let v = &case.vehicle;
    if suspects.len() < 2 {
        return None;
    }
    let range = case.symptom(symptom)?.speed_kmh.unwrap_or_default();
    let (from, to) = (range.from.unwrap_or(USUAL_SPEEDS_KMH.0), range.to.unwrap_or(USUAL_SPEEDS_KMH.1));
    let speeds_kmh = Speeds { from: KilometresPerHour(from), to: KilometresPerHour(to.max(from + 20.0)) };
    // The upper gears are the ones in which such speeds are driven.
    let gears: Vec<Option<String>> = v.gearbox.gears.iter().rev().take(3).map(|g| Some(g.name.clone())).collect();
    let vehicle = serde_json::to_value(v).ok()?;
    Some(SeparabilityInput { vehicle, speeds_kmh, gears, turns: WINDOW_WHEEL_TURNS, suspects: Some(suspects) })
}

/// A suspect in every gear: its line there and its wheel order.
struct Traced {
    line: OrderLine,
    at: Vec<Option<(OrderLine, f64)>>,
}

fn key(l: &OrderLine) -> (What, &str, bool, u64) {
    // A gear's own mesh is another part in another gear.
    let own = if l.what == What::GearMesh { l.order.get().to_bits() } else { 0 };
    (l.what, &l.at, l.base == Base::Engine, own)
}

fn traced(v: &Vehicle, gears: &[Option<String>], suspects: Option<&[Suspect]>) -> Result<Vec<Traced>, Problem> {
    let mut out: Vec<Traced> = vec![];
    for (g, gear) in gears.iter().enumerate() {
        let named = |p: Problem| Problem { field: Some(format!("gears[{g}]")), ..p };
        let per_wheel = v.engine_per_wheel(gear.as_deref(), None).map_err(named)?;
        for line in orders(v, gear.as_deref()).map_err(named)? {
            if suspects.is_some_and(|s| !s.iter().any(|s| s.what == line.what && s.at == line.at)) {
                continue;
            }
            let Some(wheel) = line.wheel_order(per_wheel) else { continue };
            let i = out.iter().position(|t| key(&t.line) == key(&line)).unwrap_or_else(|| {
                out.push(Traced { line: line.clone(), at: vec![None; gears.len()] });
                out.len() - 1
            });
            out[i].at[g] = Some((line, wheel.get()));
        }
    }
    if let Some(missing) =
        suspects.unwrap_or_default().iter().position(|s| !out.iter().any(|t| t.line.what == s.what && t.line.at == s.at))
    {
        return Err(Problem::new("unknown-suspect", "this vehicle makes no such line in these gears")
            .field(format!("suspects[{missing}]")));
    }
    Ok(out)
}

/// Every pair of suspects, and in which gears a run tells them apart.
struct LaidOut {
    gears: Vec<Option<String>>,
    speeds: Speeds,
    suspects: Vec<Traced>,
    collisions: Vec<Collision>,
    /// Two suspects, and bits of the gears that part them.
    pairs: Vec<(usize, usize, u32)>,
}

impl LaidOut {
    fn line(&self, i: usize) -> OrderLine {
        self.suspects[i].line.clone()
    }

    /// The fewest runs that separate every pair that can be.
    fn runs(&self) -> Vec<PlannedRun> {
        let masks: Vec<u32> = self.pairs.iter().map(|p| p.2).filter(|m| *m != 0).collect();
        let chosen = fewest(&masks, self.gears.len());
        let parted = |g: usize| self.pairs.iter().filter(move |p| p.2 & (1 << g) != 0);
        (0..self.gears.len())
            .filter(|g| chosen & (1 << g) != 0)
            .map(|g| PlannedRun {
                gear: self.gears[g].clone(),
                from: self.speeds.from,
                to: self.speeds.to,
                separates: parted(g).map(|p| (self.line(p.0), self.line(p.1))).collect(),
                together: self.together(g),
            })
            .collect()
    }
}

impl LaidOut {
    /// The suspects that a gear does not tell apart, in groups.
    fn together(&self, gear: usize) -> Vec<Vec<OrderLine>> {
        let mut group: Vec<usize> = (0..self.suspects.len()).collect();
        for (a, b, _) in self.pairs.iter().filter(|p| p.2 & (1 << gear) == 0) {
            let (to, from) = (group[*a], group[*b]);
            group.iter_mut().filter(|g| **g == from).for_each(|g| *g = to);
        }
        let of = |g: usize| (0..group.len()).filter(|&i| group[i] == g).map(|i| self.line(i)).collect::<Vec<_>>();
        (0..group.len()).map(of).filter(|lines| lines.len() > 1).collect()
    }
}

/// Suspects in words, each part once: “front section, rear section and 2 more”.
fn parts_words(v: &Vehicle, lines: &[OrderLine]) -> String {
    const MAX_NAMED_PARTS: usize = 4;
    let mut parts: Vec<String> = vec![];
    for words in lines.iter().map(|l| v.place_words(&l.at)) {
        if !parts.contains(&words) {
            parts.push(words);
        }
    }
    let more = parts.len().saturating_sub(MAX_NAMED_PARTS);
    parts.truncate(MAX_NAMED_PARTS);
    match more {
        0 if parts.len() > 1 => {
            let last = parts.pop().unwrap_or_default();
            format!("{} and {last}", parts.join(", "))
        }
        0 => parts.join(", "),
        n => format!("{} and {n} more", parts.join(", ")),
    }
}

impl PlannedRun {
    /// What the run separates and what it cannot, in one line.
    pub fn words(&self, v: &Vehicle) -> String {
        // Several lines of the same parts are one group; one part's own lines need no telling apart.
        let mut groups: Vec<String> = vec![];
        for words in self.together.iter().map(|g| parts_words(v, g)).filter(|w| w.contains(" and ")) {
            let words = format!("{words} from one another");
            if !groups.contains(&words) {
                groups.push(words);
            }
        }
        match (self.separates.is_empty(), groups.is_empty()) {
            (true, true) => "shows which line it is".into(),
            (true, false) => format!("shows which line it is; cannot tell {}", groups.join("; ")),
            (false, true) => "separates all suspects".into(),
            (false, false) => format!("separates all suspects but: {}", groups.join("; ")),
        }
    }
}

impl Separability {
    /// What no run separates, in lines: “No road run can tell … from one another; do …”.
    pub fn never_words(&self, v: &Vehicle, ask: impl Fn(&str) -> String) -> Vec<String> {
        let mut by: Vec<(Option<&str>, Vec<OrderLine>)> = vec![];
        for (a, b, test) in &self.never {
            match by.iter_mut().find(|x| x.0 == test.as_deref()) {
                Some(x) => x.1.extend([a.clone(), b.clone()]),
                None => by.push((test.as_deref(), vec![a.clone(), b.clone()])),
            }
        }
        by.iter()
            .map(|(test, lines)| {
                let what = test.map_or("nothing quick does: measure both".to_string(), |t| format!("do: {}", ask(t)));
                format!("No road run can tell {} from one another; {what}", parts_words(v, lines))
            })
            .collect()
    }
}

/// Works out what collides and the fewest runs that separate. Pairs that no run separates have no test yet: who knows tests names
/// them.
pub fn separability(input: &SeparabilityInput) -> Result<Separability, Problem> {
    let l = laid_out(input)?;
    let never = l.pairs.iter().filter(|p| p.2 == 0).map(|p| (l.line(p.0), l.line(p.1), None)).collect();
    Ok(Separability { runs: l.runs(), never, collisions: l.collisions })
}

/// The fewest runs alone.
pub fn fewest_runs(input: &SeparabilityInput) -> Result<Vec<PlannedRun>, Problem> {
    Ok(laid_out(input)?.runs())
}

fn laid_out(input: &SeparabilityInput) -> Result<LaidOut, Problem> {
    let v = Vehicle::from_json(&input.vehicle)?;
    let turns = positive(input.turns, "turns")?;
    let Speeds { from, to } = input.speeds_kmh;
    positive(from.get(), "speeds_kmh.from")?;
    if to.get() <= from.get() {
        return Err(Problem::new("out-of-range", "the run ends above where it begins").field("speeds_kmh.to"));
    }
    let gears = if input.gears.is_empty() { vec![None] } else { input.gears.clone() };
    if gears.len() > MOST_RUNS {
        return Err(Problem::new("too-many", format!("up to {MOST_RUNS} gears are tried")).field("gears"));
    }
    let width = 2.0 / turns;
    let suspects = traced(&v, &gears, input.suspects.as_deref())?;
    let (mut collisions, mut pairs) = (vec![], vec![]);
    for (i, a) in suspects.iter().enumerate() {
        for (j, b) in suspects.iter().enumerate().skip(i + 1) {
            // Bit g: a run in gear g tells them apart, also when only one of them turns there at all.
            let mut parted_in = 0u32;
            for (g, gear) in gears.iter().enumerate() {
                match (&a.at[g], &b.at[g]) {
                    (Some((la, x)), Some((lb, y))) if (x - y).abs() < width => {
                        let gap = (x - y).abs();
                        collisions.push(Collision { gear: gear.clone(), a: la.clone(), b: lb.clone(), gap });
                    }
                    (None, None) => {}
                    _ => parted_in |= 1 << g,
                }
            }
            pairs.push((i, j, parted_in));
        }
    }
    Ok(LaidOut { gears, speeds: input.speeds_kmh, suspects, collisions, pairs })
}

/// The smallest set of runs (as bits) that meets every mask; of equal ones the first.
fn fewest(masks: &[u32], runs: usize) -> u32 {
    let mut wanted: Vec<u32> = masks.to_vec();
    wanted.sort_unstable();
    wanted.dedup();
    (0u32..1 << runs).filter(|set| wanted.iter().all(|m| m & set != 0)).min_by_key(|set| (set.count_ones(), *set)).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn plan(v: &Vehicle, gears: &[&str], turns: f64) -> Separability {
        let gears: Vec<Option<String>> = gears.iter().map(|g| Some((*g).to_string())).collect();
        let input = json!({"vehicle": v, "speeds_kmh": {"from": 50, "to": 110}, "gears": gears, "turns": turns});
        separability(&serde_json::from_value(input).unwrap()).unwrap()
    }
    fn is(l: &OrderLine, what: What) -> bool {
        l.what == what
    }

    #[test]
    fn in_the_direct_gear_engine_and_shaft_coincide_and_another_gear_parts_them() {
        let v = rear_drive(2);
        let p = plan(&v, &["4", "5"], 32.0);
        let both = |c: &&Collision| {
            is(&c.a, What::Prop) && is(&c.b, What::EngineFirst) || is(&c.b, What::Prop) && is(&c.a, What::EngineFirst)
        };
        let hit: Vec<_> = p.collisions.iter().filter(both).collect();
        assert!(!hit.is_empty() && hit.iter().all(|c| c.gear.as_deref() == Some("4") && c.gap < 1e-9));
        assert_eq!(p.runs.len(), 1);
        assert_eq!(p.runs[0].gear.as_deref(), Some("5"));
    }

    #[test]
    fn bad_input_names_its_field() {
        let ask = |more: serde_json::Value| {
            let mut i = json!({"vehicle": rear_drive(1), "speeds_kmh": {"from": 50, "to": 110}, "gears": ["5"], "turns": 32});
            more.as_object().unwrap().iter().for_each(|(k, v)| i[k] = v.clone());
            separability(&serde_json::from_value(i).unwrap()).unwrap_err().field.unwrap()
        };
        assert_eq!(ask(json!({"turns": 0})), "turns");
        assert_eq!(ask(json!({"gears": ["9"]})), "gears[0]");
        assert_eq!(ask(json!({"speeds_kmh": {"from": 90, "to": 60}})), "speeds_kmh.to");
        assert_eq!(
            ask(json!({"suspects": [{"what": "wheel", "at": "wheel.rl"}, {"what": "flex", "at": "prop.rear.j1"}]})),
            "suspects[1]"
        );
    }

    proptest! {
        #[test]
        fn no_smaller_set_of_runs_would_do(masks in proptest::collection::vec(1u32..64, 0..14)) {
            let best = fewest(&masks, 6);
            prop_assert!(masks.iter().all(|m| m & best != 0));
            for set in 0u32..64 {
                if masks.iter().all(|m| m & set != 0) {
                    prop_assert!(set.count_ones() >= best.count_ones());
                }
            }
        }

        #[test]
        fn every_pair_is_parted_or_told(i in 0usize..10, turns in 8.0..80.0f64) {
            let v = every_layout().remove(i);
            let gears: Vec<String> = v.gearbox.gears.iter().map(|g| g.name.clone()).collect();
            let p = plan(&v, &gears.iter().map(String::as_str).collect::<Vec<_>>(), turns);
            for (a, b, _) in &p.never {
                let apart = p.runs.iter().any(|r| r.separates.iter().any(|(x, y)| x == a && y == b));
                prop_assert!(!apart);
            }
        }
    }

    #[test]
    fn a_run_says_in_one_line_what_it_separates_and_what_it_cannot() {
        let v = rear_drive(2);
        let p = plan(&v, &["4", "5"], 32.0);
        for r in &p.runs {
            let words = r.words(&v);
            assert!(words.starts_with("separates all suspects"), "{words}");
            assert!(!words.contains("tells") && !words.contains('\n'), "{words}");
            // What it lists as together is in no pair that it separates.
            for group in &r.together {
                for (a, b) in &r.separates {
                    assert!(!(group.contains(a) && group.contains(b)), "{words}");
                }
            }
        }
        let never = p.never_words(&v, |t| t.to_string());
        assert!(never.iter().all(|n| n.starts_with("No road run can tell ") && n.ends_with("measure both")), "{never:?}");
    }
}
