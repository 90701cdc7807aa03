//! What all pages of a case share: heading, stations, the drawing, the ledger.

use crate::auth::Member;
use crate::beside::Beside;
use crate::drawing::{self, Marks, Pin};
use crate::fail::Fail;
use baricord_core::analysis::{Analysis, OrderFound};
use baricord_core::case::Case;
use baricord_core::listening::{Heard, heard};
use baricord_core::orders::Base;
use baricord_core::permission::Act;
use baricord_core::problem::Warning;
use baricord_core::progress::{Station, is_done, waiting};
use baricord_core::reasoning::knowledge::{House, Knowledge, builtin};
use baricord_core::reasoning::{Diagnosis, Ranked, SymptomAnswer, diagnose, hypotheses, overturns};
use baricord_core::verify::Verification;
use baricord_store::Scope;
use baricord_store::cases::StoredCase;
use baricord_store::jobs::Job;
use serde::Deserialize;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Which symptom a page is about.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct Which {
    /// Its id; the first when left out.
    #[serde(default)]
    pub s: Option<String>,
}

/// Everything that is known of a case.
pub struct Known {
    pub stored: StoredCase,
    pub analysis: Option<Analysis>,
    pub proof: Option<Verification>,
    pub diagnosis: Diagnosis,
    pub job: Option<Job>,
    /// The knowledge as the workshop has it.
    pub knowledge: Cow<'static, Knowledge>,
    /// The symptom that the page is about.
    pub symptom: Option<String>,
}

impl Known {
    /// Reads a case and weighs it.
    pub async fn read(scope: &mut Scope, id: Uuid, symptom: Option<&str>) -> Result<Self, Fail> {
        let mut stored = scope.case(id).await?;
        let found = scope.analysis(id).await?;
        let job = scope.job(id).await?;
        let (analysis, proof) = match found {
            Some((a, v)) => (Some(a), Some(v)),
            None => (None, None),
        };
        let house = scope.house().await?;
        let knowledge = knowledge_of(&house)?;
        // Where the vehicle names no limit, the workshop's holds; its document stays as it is.
        stored.case.vehicle.limits = stored.case.vehicle.limits.or(&house.limits);
        let diagnosis = diagnose(&stored.case, &knowledge, analysis.as_ref());
        let symptom = symptom
            .filter(|s| stored.case.symptom(s).is_some())
            .map(String::from)
            .or_else(|| stored.case.symptoms.first().map(|s| s.id.clone()));
        Ok(Self { stored, analysis, proof, diagnosis, job, knowledge, symptom })
    }
    /// The case.
    pub fn case(&self) -> &Case {
        &self.stored.case
    }
    /// The answer for the page's symptom.
    pub fn answer(&self) -> Option<&SymptomAnswer> {
        let id = self.symptom.as_deref()?;
        self.diagnosis.symptoms.iter().find(|s| s.id == id)
    }
}

/// The knowledge with a workshop's changes; what ships where it has none.
pub fn knowledge_of(house: &House) -> Result<Cow<'static, Knowledge>, Fail> {
    Ok(if *house == House::default() { Cow::Borrowed(builtin()) } else { Cow::Owned(house.over(builtin())?) })
}

/// A station on the dimension line.
pub struct StationMark {
    pub id: &'static str,
    pub words: &'static str,
    pub done: bool,
    pub here: bool,
    /// Where it stands on the line, in the line's own units.
    pub x: f64,
}

/// A cause in the ledger.
pub struct Cause {
    pub name: String,
    pub percent: u32,
    /// Length of its bar, of 100.
    pub bar: f64,
    pub because: Vec<(String, String)>,
}

/// What one piece of evidence has put out.
pub struct Ruled {
    pub names: Vec<String>,
    pub more: usize,
    pub by: String,
    /// All of them, each with how far it was put out, bits.
    pub all: Vec<(String, String)>,
}

/// A test to come.
pub struct NextLine {
    pub ask: String,
    pub minutes: u32,
}

/// The ledger of one symptom.
#[derive(Default)]
pub struct Ledger {
    pub heading: String,
    pub others: Vec<(String, String)>,
    pub causes: Vec<Cause>,
    /// Two places of one fault together, where they hold most of it.
    pub both: String,
    pub rest: String,
    pub ruled: Vec<Ruled>,
    pub next: Vec<NextLine>,
    pub warnings: Vec<String>,
    /// What was observed twice and came out otherwise.
    pub contradictions: Vec<String>,
    /// What would put another cause first.
    pub overturn: String,
}

/// The frame of a case page.
pub struct Frame {
    pub id: Uuid,
    pub theme: String,
    pub person: String,
    pub title: String,
    pub subtitle: String,
    pub version: i32,
    pub stations: Vec<StationMark>,
    pub station: &'static str,
    pub band: String,
    pub ledger: Ledger,
    pub beside: Beside,
    pub symptom: String,
    pub can_write: bool,
    /// May order parts, show the case outside.
    pub can_buy: bool,
    pub can_share: bool,
    /// Runs of the simulated recorder, in words; empty where there are none.
    pub simulated: String,
    /// What the case waits for, as a sentence; how it was closed where it waits for nothing.
    pub waits: String,
    /// The same on the button that leads there.
    pub step_words: String,
    pub waits_at: &'static str,
    pub last: String,
}

/// A fault in words, with its place.
pub fn cause_words(k: &Knowledge, case: &Case, fault: &str, at: &str, gear: Option<&str>) -> String {
    let Some(f) = k.fault(fault) else { return "none of these".into() };
    let place = match gear {
        Some(g) => format!("{}, gear {g}", case.vehicle.place_words(at)),
        None => case.vehicle.place_words(at),
    };
    // A place that the fault's own name holds is not said again: "support bearing worn".
    if f.name.contains(&place) { f.name.clone() } else { format!("{}, {}", f.name, place) }
}

/// A cause in words, both faults of a pair: “inner joint worn, front left, and front right”.
pub fn ranked_words(k: &Knowledge, case: &Case, r: &Ranked) -> String {
    let first = cause_words(k, case, &r.fault, &r.at, r.gear.as_deref());
    let other = |w: &baricord_core::reasoning::Place| match w.fault == r.fault {
        true => case.vehicle.place_words(&w.at),
        false => cause_words(k, case, &w.fault, &w.at, None),
    };
    r.with.iter().fold(first, |all, w| format!("{all}, and {}", other(w)))
}

/// A kind of symptom in words.
pub fn kind_words(kind: &str) -> String {
    kind.replace('-', " ")
}

/// Signed bits, as on the ledger.
pub fn bits(b: f64) -> String {
    format!("{b:+.1}")
}

impl Frame {
    /// Builds the frame around a page.
    pub async fn new(m: &Member, scope: &mut Scope, k: &Known, station: Station) -> Result<Self, Fail> {
        let case = k.case();
        let waits = waiting(case, k.proof.as_ref());
        let is_closed = waits.station == Station::Done;
        let stations = Station::PAGES
            .iter()
            .enumerate()
            .map(|(i, s)| StationMark {
                id: s.id(),
                words: s.words(),
                done: is_done(case, *s),
                here: *s == station,
                x: 8.0 + 92.0 * i as f64,
            })
            .collect();
        let last = scope.steps(k.stored.id, 1).await?.into_iter().next().map_or(String::new(), |s| s.what);
        Ok(Self {
            id: k.stored.id,
            theme: m.person.theme.clone(),
            person: m.person.name.clone(),
            title: if case.title.is_empty() { case.vehicle.name.clone() } else { case.title.clone() },
            subtitle: subtitle(case),
            version: k.stored.version,
            stations,
            station: station.id(),
            band: drawing::band(&case.vehicle, &marks(k)),
            ledger: k.symptom.as_deref().and_then(|s| ledger(k, s)).unwrap_or_default(),
            beside: Beside::of(case, &k.stored.document),
            symptom: k.symptom.clone().unwrap_or_default(),
            can_write: m.person.role().may(Act::Edit),
            can_buy: m.person.role().may(Act::Buy),
            can_share: m.person.role().may(Act::Share),
            simulated: simulated_words(case),
            waits: if is_closed { waits.words.clone() } else { format!("waits for {}", waits.words) },
            step_words: if is_closed { "To the proof".into() } else { format!("Next: {}", waits.words) },
            waits_at: if waits.station == Station::Done { "prove" } else { waits.station.id() },
            last,
        })
    }
}

/// Which runs no vehicle has driven, and whether they count here.
pub fn simulated_words(case: &Case) -> String {
    let runs: Vec<&str> = case.recordings.iter().filter(|r| r.is_simulated()).map(|r| r.id.as_str()).collect();
    match (runs.as_slice(), case.demo) {
        ([], _) => String::new(),
        (runs, true) => format!("Demo case. Simulated recorder, no vehicle drove: {}", runs.join(", ")),
        (runs, false) => format!("Simulated recorder, no vehicle drove and nothing is concluded from it: {}", runs.join(", ")),
    }
}

/// A vehicle in one line.
pub fn subtitle(case: &Case) -> String {
    let v = &case.vehicle;
    let mut parts = vec![v.name.clone()];
    let kind = match v.gearbox.kind {
        baricord_core::vehicle::GearboxKind::Manual => format!("{}-speed manual", v.gearbox.gears.len()),
        baricord_core::vehicle::GearboxKind::Automatic => format!("{}-speed automatic", v.gearbox.gears.len()),
        baricord_core::vehicle::GearboxKind::Cvt => "continuously variable".into(),
        baricord_core::vehicle::GearboxKind::SingleSpeed => "electric, single speed".into(),
    };
    parts.push(kind);
    if let Some(a) = v.main_axle().and_then(|e| v.axle(e)) {
        match (a.ring_teeth, a.pinion_teeth, a.ratio) {
            (Some(r), Some(p), _) => parts.push(format!("{r}:{p}")),
            (_, _, Some(r)) => parts.push(format!("{r:.2}")),
            _ => {}
        }
    }
    if let Some(t) = &v.tyre.size {
        parts.push(t.clone());
    } else if let Ok(f) = v.tyre.figures() {
        parts.push(format!("rolls {:.3} m", f.rolling_circumference_m.get()));
    }
    parts.join(" · ")
}

/// What would change one's mind, in words: the likeliest outcomes that would put another cause first.
pub fn overturn_words(k: &Known, symptom: &str, most: usize) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    let all = hypotheses(&case.vehicle, kb);
    overturns(case, kb, symptom, k.analysis.as_ref(), most)
        .into_iter()
        .map(|o| {
            let ask = ask_words(kb, case, &o.test, o.place.as_deref().or(o.at.as_deref()), o.gear.as_deref());
            let outcome = kb.test(&o.test).and_then(|t| t.outcome(&o.outcome)).map_or(o.outcome.clone(), |x| x.words.clone());
            let h = &all[o.then];
            let then = cause_words(kb, case, &h.fault, &h.at, h.gear.as_deref());
            format!("{ask}: “{outcome}” ({:.0} % likely) would put {then} first, at {:.0} %", 100.0 * o.chance, 100.0 * o.p_then)
        })
        .collect()
}

/// The ledger of a symptom.
pub fn ledger(k: &Known, symptom: &str) -> Option<Ledger> {
    let (kb, case) = (&*k.knowledge, k.case());
    let a = k.diagnosis.symptoms.iter().find(|s| s.id == symptom)?;
    let symptom = case.symptom(&a.id);
    let mut l = Ledger {
        heading: symptom.map_or(String::new(), |s| {
            let words = if s.words.is_empty() { kind_words(&s.kind) } else { s.words.clone() };
            format!("{} · {}", s.id, words)
        }),
        others: case.symptoms.iter().filter(|s| s.id != a.id).map(|s| (s.id.clone(), kind_words(&s.kind))).collect(),
        ..Ledger::default()
    };
    let named: Vec<_> = a.ranked.iter().filter(|r| r.fault != "unknown").collect();
    l.both = a.twins().map_or(String::new(), |t| {
        let places = case.vehicle.place_words(&t.at[1]);
        format!("{}, {places}, or both: {:.0} %", cause_words(kb, case, &t.fault, &t.at[0], None), 100.0 * t.p)
    });
    for r in named.iter().take(3) {
        l.causes.push(Cause {
            name: ranked_words(kb, case, r),
            percent: (r.p * 100.0).round() as u32,
            bar: r.p * 100.0,
            because: r.because.iter().take(5).map(|b| (b.evidence.clone(), bits(b.bits))).collect(),
        });
    }
    let unknown = a.ranked.iter().find(|r| r.fault == "unknown").map_or(0.0, |r| r.p);
    let more: Vec<f64> = named.iter().skip(3).map(|r| r.p).filter(|p| *p >= 0.005).collect();
    let sum: f64 = named.iter().skip(3).map(|r| r.p).sum();
    l.rest = format!("{} more together {:.0} % · none of these {:.0} %", more.len(), sum * 100.0, unknown * 100.0);
    l.ruled = ruled(kb, case, a);
    l.next = a
        .next
        .iter()
        .take(3)
        .map(|n| NextLine {
            ask: ask_words(kb, case, &n.test, n.at.as_deref(), n.gear.as_deref()),
            minutes: n.minutes.round() as u32,
        })
        .collect();
    let (contradictions, warnings): (Vec<_>, Vec<_>) = k.diagnosis.warnings.iter().partition(|w| w.code == "contradiction");
    let words = |of: Vec<&Warning>| of.into_iter().map(|w| w.message.clone()).collect();
    (l.contradictions, l.warnings) = (words(contradictions), words(warnings));
    l.overturn = overturn_words(k, &a.id, 1).pop().unwrap_or_default();
    // What is cured needs no next test.
    if case.cured_by(&a.id).is_some() {
        (l.next, l.overturn) = (vec![], String::new());
    }
    Some(l)
}

/// What is out, one line for each piece of evidence; a fault that is out everywhere is named once.
fn ruled(kb: &Knowledge, case: &Case, a: &SymptomAnswer) -> Vec<Ruled> {
    const SHOWN: usize = 4;
    /// A fault, and where it is out.
    type Out<'a> = (&'a str, Vec<String>, f64);
    let mut by: Vec<(&str, Vec<Out<'_>>)> = vec![];
    for r in &a.ruled_out {
        let i = by.iter().position(|g| g.0 == r.by).unwrap_or_else(|| {
            by.push((&r.by, vec![]));
            by.len() - 1
        });
        match by[i].1.iter_mut().find(|f| f.0 == r.fault) {
            Some(f) => f.1.push(r.at.clone()),
            None => by[i].1.push((&r.fault, vec![r.at.clone()], r.bits)),
        }
    }
    let name = |fault: &str, at: &[String]| match at {
        [one] => cause_words(kb, case, fault, one, None),
        _ => {
            let name = kb.fault(fault).map_or(fault.to_string(), |f| f.name.clone());
            // What is still likely at one place is out at the others only.
            let still = a.ranked.iter().any(|r| r.fault == fault && r.p >= 0.05);
            if still { format!("{name} elsewhere") } else { name }
        }
    };
    by.into_iter()
        .take(5)
        .map(|(by, faults)| Ruled {
            names: faults.iter().take(SHOWN).map(|(f, at, _)| name(f, at)).collect(),
            all: faults.iter().map(|(f, at, b)| (name(f, at), bits(*b))).collect(),
            more: faults.len().saturating_sub(SHOWN),
            by: by.to_string(),
        })
        .collect()
}

/// A test in words, with its place.
pub fn ask_words(k: &Knowledge, case: &Case, test: &str, at: Option<&str>, gear: Option<&str>) -> String {
    let ask = k.test(test).map_or(test.to_string(), |t| t.ask.clone());
    match (at, gear) {
        (_, Some(g)) => format!("{ask}: gear {g}"),
        (Some(a), None) => format!("{ask}: {}", case.vehicle.place_words(a)),
        (None, None) => ask,
    }
}

/// Name of an order's rung: what the drawing and the map share.
pub fn rung(base: Base, order: f64) -> String {
    format!("{}{:.2}", if base == Base::Engine { "e" } else { "w" }, order)
}

/// A name as one part of an address, whatever stands in it.
pub fn segment(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}

/// The strongest orders of the runs before, one list.
pub fn main_orders(case: &Case, a: &Analysis) -> Vec<OrderFound> {
    let before: HashSet<&str> = case.recordings.iter().filter(|r| !r.is_after()).map(|r| r.id.as_str()).collect();
    a.recordings.iter().filter(|r| before.contains(r.id.as_str())).flat_map(|r| r.orders.iter().take(6).cloned()).collect()
}

/// What the drawing shows of a case.
pub fn marks(k: &Known) -> Marks {
    let case = k.case();
    let mut m = Marks { href: Some(format!("/cases/{}/part/", k.stored.id)), ..Marks::default() };
    if let Some(a) = k.answer() {
        let mut sum: HashMap<String, f64> = HashMap::new();
        for r in a.ranked.iter().filter(|r| r.fault != "unknown") {
            *sum.entry(r.at.clone()).or_default() += r.p;
            r.with.iter().filter(|w| w.at != r.at).for_each(|w| *sum.entry(w.at.clone()).or_default() += r.p);
        }
        // A place is cleared when a test put a fault of it out and nothing of it is left.
        for r in &a.ruled_out {
            if sum.get(&r.at).copied().unwrap_or(0.0) < 0.01 {
                m.cleared.insert(r.at.clone());
            }
        }
        m.suspect = sum.into_iter().filter(|(_, p)| *p >= 0.08).collect();
        if let Some(n) = a.next.first().filter(|_| case.cured_by(&a.id).is_none())
            && let Some(at) = &n.at
        {
            m.pins.push(Pin { place: at.clone(), text: "look here next".into(), wanted: true });
        }
    }
    m.looked = case.observations.iter().filter_map(|o| o.at.clone()).collect();
    m.pins.extend(readings(case));
    // Levels where they were listened to, the loudest first: where there is no room for all, it has its own.
    let mut levels = heard(&k.stored.document);
    levels.sort_by(|a, b| b.level.total_cmp(&a.level));
    let level = |h: Heard| Pin { place: h.at, text: format!("{} {}", h.level, h.unit.words()), wanted: false };
    m.pins.extend(levels.into_iter().map(level));
    if let Some(a) = &k.analysis {
        for o in main_orders(case, a).iter().take(1) {
            if let Some(s) = o.sources.iter().find(|s| m.suspect.contains_key(&s.at)).or(o.sources.first()) {
                let unit = o.unit.clone().unwrap_or("m/s²".into());
                m.pins.insert(
                    0,
                    Pin {
                        place: s.at.clone(),
                        text: format!("{:.2} a turn · {:.2} {unit}", o.order, o.level().0),
                        wanted: false,
                    },
                );
            }
        }
    }
    if let Ok(ladder) = baricord_core::orders::orders(&case.vehicle, None) {
        for p in case.vehicle.places() {
            let rungs: Vec<String> = ladder
                .iter()
                .filter(|l| {
                    l.at == p.id
                        || p.is_of_shaft() && p.end.is_some_and(|e| l.at == format!("prop.{}", e.id()))
                        || p.kind == baricord_core::vehicle::PlaceKind::Hub
                            && l.at == format!("wheel.{}", p.corner.map_or("", |c| c.id()))
                })
                .map(|l| rung(l.base, l.order.get()))
                .collect();
            m.rungs.insert(p.id, rungs);
        }
    }
    m
}

/// Readings pinned to where they were taken.
pub fn readings(case: &Case) -> Vec<Pin> {
    let mut pins = vec![];
    for x in &case.measurements {
        if let Ok(at) = case.measurement_place(x) {
            pins_of(case, x, &at, &mut pins);
        }
    }
    pins
}

fn pins_of(case: &Case, x: &baricord_core::case::Measurement, at: &str, pins: &mut Vec<Pin>) {
    match x.kind.as_str() {
        "runout" => {
            let fit = baricord_core::problem::read_json(&x.input).and_then(|i| baricord_core::runout::runout(&i));
            if let (Ok(r), Some(p)) = (fit, case.vehicle.place(at)) {
                pins.push(Pin { place: p.id, text: format!("{:.2} mm", r.raw_tir_mm.get()), wanted: false });
            }
        }
        "angles" => {
            let fit = baricord_core::problem::read_json(&x.input).and_then(|i| baricord_core::angles::angles(&i));
            if let Ok(a) = fit {
                for (i, d) in a.joint_deg.iter().enumerate() {
                    pins.push(Pin { place: format!("{at}.j{}", i + 1), text: format!("{:.1}°", d.get()), wanted: false });
                }
            }
        }
        _ => {}
    }
}
