//! What is done next as a page shows it: the words, the minutes, and where it is done.

use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::{ActionKind, NextAction, station_of_test};
use uuid::Uuid;

/// What is done next.
pub struct NextView {
    /// In words, as on the board.
    pub words: String,
    /// Minutes; empty where nobody can say.
    pub minutes: String,
    /// Where it is done.
    pub href: String,
    /// Of which symptom.
    pub symptom: String,
}

impl NextView {
    /// Of a case.
    pub fn new(k: &Knowledge, case: Uuid, a: &NextAction) -> Self {
        let symptom = a.symptom.clone().unwrap_or_default();
        let href = match (a.kind, &a.test) {
            (ActionKind::Test, Some(t)) => test_href(k, case, a.station, t, a.at.as_deref(), a.gear.as_deref(), &symptom),
            (ActionKind::Choose, _) => format!("/cases/{case}/decide?s={symptom}#repair-this"),
            _ => {
                let station = if a.station == Station::Done { Station::Prove } else { a.station };
                format!("/cases/{case}/{}?s={symptom}", station.id())
            }
        };
        Self { words: a.words.clone(), minutes: a.minutes.map_or(String::new(), |m| format!("{m:.0} min")), href, symptom }
    }
}

/// Where a test is answered: its station, with the test opened.
pub fn href_of_test(k: &Knowledge, case: Uuid, test: &str, at: Option<&str>, gear: Option<&str>, symptom: &str) -> String {
    test_href(k, case, station_of_test(k, test), test, at, gear, symptom)
}

fn test_href(
    k: &Knowledge,
    case: Uuid,
    station: Station,
    test: &str,
    at: Option<&str>,
    gear: Option<&str>,
    symptom: &str,
) -> String {
    let named = |key: &str, v: Option<&str>| {
        v.map_or(String::new(), |v| format!("&{key}={}", crate::wording::segment(v).replace("%2E", ".")))
    };
    match k.test(test).filter(|t| t.is_measurement()).and_then(|t| t.instrument()) {
        Some(i) => format!("/cases/{case}/measure?tool={}&s={symptom}{}", i.id, named("at", at)),
        None => format!("/cases/{case}/{}?s={symptom}&test={test}{}{}", station.id(), named("at", at), named("gear", gear)),
    }
}
