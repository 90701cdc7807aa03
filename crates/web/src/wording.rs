//! Words that several pages share: causes, tests, vehicles, money, names in addresses.

use baricord_core::case::Case;
use baricord_core::measure::orders::Base;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::reasoning::wording;

/// A fault in words, with its place.
pub fn cause_words(k: &Knowledge, case: &Case, fault: &str, at: &str, gear: Option<&str>) -> String {
    wording::cause_words(k, &case.vehicle, fault, at, gear)
}

/// A test in words, with its place.
pub fn ask_words(k: &Knowledge, case: &Case, test: &str, at: Option<&str>, gear: Option<&str>) -> String {
    wording::test_words(k, &case.vehicle, test, at, gear)
}

/// A kind of symptom in words.
pub fn kind_words(kind: &str) -> String {
    kind.replace('-', " ")
}

/// Money in the workshop's currency, without cents.
pub fn money(k: &Knowledge, x: f64) -> String {
    format!("{x:.0}\u{a0}{}", k.weights.time.currency)
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

/// Name of an order's rung: what the drawing and the map share.
pub fn rung(base: Base, order: f64) -> String {
    format!("{}{:.2}", if base == Base::Engine { "e" } else { "w" }, order)
}

/// A name as one part of an address, whatever stands in it.
pub fn segment(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}

/// Minutes as people read them: 35 min, 2 h 10.
pub fn hours(minutes: f64) -> String {
    let m = minutes.round() as i64;
    if m < 60 { format!("{m} min") } else { format!("{} h {:02}", m / 60, m % 60) }
}
