//! The demo workshop: the fleet of the ferry island Harrowmere. Recordings are made by the simulator
//! when it is loaded.

mod fleet;

use baricord_core::case::document::CaseDocument;
use baricord_core::units::Kilometres;
use baricord_core::vehicle_history::Change;
use baricord_formats::{FileSource, write_csv};
use baricord_simulator::run;
use baricord_store::people::Role;
use baricord_store::{Store, StoreError};
use fleet::cases;

/// The sample sign-in.
pub const EMAIL: &str = "maren@harrowmere.example";
/// Its password.
pub const PASSWORD: &str = "driveline";

fn broken(e: &dyn std::fmt::Display) -> StoreError {
    StoreError::Broken(e.to_string())
}

/// Loads the demo workshop into an empty database.
pub async fn load(store: &Store) -> Result<(), StoreError> {
    let mut s = store.begin_workshop("Harrowmere fleet workshop", true).await?;
    store.add_person(&mut s, EMAIL, "Maren Holt", Role::Owner, PASSWORD).await?;
    store.add_person(&mut s, "tove@harrowmere.example", "Tove Lind", Role::Mechanic, PASSWORD).await?;
    store.add_person(&mut s, "look@harrowmere.example", "Harbour office", Role::Viewer, PASSWORD).await?;
    for (n, c) in cases().into_iter().enumerate().rev() {
        let demo = c.case(&format!("harrowmere-{}", n + 1))?;
        let mut files = vec![];
        for (r, spec) in c.runs.iter().zip(&demo.recordings) {
            let faults = r.faults()?;
            let plan = r.plan();
            let v = c.vehicle.clone();
            let csv = tokio::task::spawn_blocking(move || run(&v, &faults, &plan).and_then(|(s, _)| write_csv(&s, true)))
                .await
                .map_err(|e| broken(&e))??;
            files.push((spec.file.clone(), FileSource::from(csv.into_bytes())));
        }
        let case = s.add_case(CaseDocument::new(demo), "opened the case", "Maren Holt").await?;
        for (name, csv) in files.iter() {
            s.put_file(case, name, csv).await?;
        }
        if !files.is_empty() {
            s.request_analysis(case).await?;
        }
    }
    for v in s.vehicles(100).await? {
        for c in changes().into_iter().filter(|c| v.name.starts_with(c.0)) {
            s.note_change(v.id, c.1).await?;
        }
    }
    s.commit().await
}

/// What was changed on the vehicles of the demo between cases, each by the beginning of its name.
fn changes() -> Vec<(&'static str, Change)> {
    let change = |on: &str, km: f64, kind: &str, words: &str, origin: Option<&str>| Change {
        on: on.into(),
        distance_km: Some(Kilometres(km)),
        kind: kind.into(),
        words: words.into(),
        origin: origin.map(String::from),
    };
    vec![
        ("Mail van 4", change("2026-10-12", 139_800.0, "shaft-changed", "rear section from the wreck at Skerry", Some("used"))),
        ("Mail van 4", change("2026-06-18", 133_000.0, "part", "oil of gearbox and final drive", None)),
        ("Fish lorry", change("2026-08-30", 212_400.0, "lowered", "a leaf less in each rear spring", None)),
        ("Pilot boat", change("2026-09-05", 61_000.0, "towing", "pulls the pilot boat up the slip, twice a week", None)),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::analysis::Silent;
    use baricord_core::case::Case;
    use baricord_core::case::document::unknown_keys;
    use baricord_core::case::vocabulary::KINDS;
    use baricord_core::reasoning::attribution::analyze;
    use baricord_core::reasoning::diagnose;
    use baricord_core::reasoning::knowledge::builtin;
    use baricord_core::reasoning::unknown_words::unknown_words;

    /// What is wrong, where that is meant to be found: title, symptom, fault, place.
    const TRUTH: &[(&str, &str, &str, &str)] = &[
        ("Mail van 4: hum from the middle", "S1", "support-bearing-worn", "prop.rear.sb1"),
        ("Mail van 4: buzz in the seat, 85 to 110", "S1", "prop-imbalance", "prop.rear.s2"),
        ("Fish lorry: shudder when loaded", "S1", "joint-angle", "prop.rear"),
        ("Mail van 2: steering wheel shakes", "S1", "wheel-imbalance", "wheel.fl"),
        ("Harbour runabout: shudders pulling away", "S1", "inner-joint-worn", "half.fr.inner"),
        ("Post office car: growl that stayed", "S1", "wheel-bearing-worn", "hub.fr"),
        ("Harbour master's Kestrel: hum, and clicks in bends", "S1", "prop-imbalance", "prop.rear.s1"),
        ("Harbour master's Kestrel: hum, and clicks in bends", "S2", "outer-joint-worn", "half.rl.outer"),
        ("Fire pump: clunk when it moves off", "S1", "joint-worn", "prop.rear.j3"),
        ("Ferry ramp tug: whines when it rolls", "S1", "pinion-bearing-worn", "diff.rear"),
    ];

    fn read(c: &fleet::DemoCase) -> Case {
        c.case("x").unwrap()
    }

    /// What no type of a case reads, and what is no word of the trade, cannot stand in the demo.
    #[test]
    fn of_every_demo_case_nothing_is_left_over_and_every_word_is_known() {
        for c in cases() {
            let case = read(&c);
            assert_eq!(unknown_keys(CaseDocument::new(case.clone()).json()), Vec::<String>::new(), "{}", c.title);
            assert_eq!(unknown_words(&case, builtin()), [], "{}", c.title);
            assert!(case.symptoms.iter().all(|s| KINDS.contains(&s.kind.as_str())), "{}", c.title);
        }
    }

    #[test]
    fn the_fleet_has_every_layout_and_every_kind_of_standing() {
        let all = cases();
        let shape = |v: &baricord_core::vehicle::Vehicle| {
            let g = &v.gearbox;
            (
                format!("{:?}", g.kind),
                g.transaxle,
                g.end,
                v.props.iter().map(|p| p.sections.len()).collect::<Vec<_>>(),
                v.coupler.is_some(),
            )
        };
        for v in baricord_core::vehicle::sample::every_layout() {
            assert!(all.iter().any(|c| shape(&c.vehicle) == shape(&v)), "nothing in the fleet is laid out like {}", v.name);
        }
        let has = |what: &str, of: &dyn Fn(&Case) -> bool| assert!(all.iter().any(|c| of(&read(c))), "no case {what}");
        let ended = |c: &Case, how: &str| c.repairs.iter().any(|r| r.result.as_deref() == Some(how));
        has("with two symptoms", &|c| c.symptoms.len() == 2);
        has("not cured", &|c| ended(c, "not-cured"));
        has("cured", &|c| ended(c, "cured"));
        has("waiting for its proof", &|c| ended(c, "open"));
        has("without a symptom yet", &|c| c.symptoms.is_empty());
        has("of an electric vehicle", &|c| c.vehicle.engine.is_none());
        assert!(all.iter().any(|c| !read(c).safety.is_empty()) && all.len() >= 8);
    }

    #[test]
    fn every_demo_case_reads_and_what_is_wrong_is_among_its_first_suspects() {
        for c in cases() {
            let case = read(&c);
            let recordings: Vec<_> = (0..c.runs.len())
                .map(|i| {
                    let spec = c.runs[i].spec(i);
                    let (samples, _) = run(&c.vehicle, &c.runs[i].faults().unwrap(), &c.runs[i].plan()).unwrap();
                    (spec, samples)
                })
                .collect();
            let analysis = (!recordings.is_empty()).then(|| analyze(&c.vehicle, &recordings, &Silent).unwrap());
            let d = diagnose(&case, builtin(), analysis.as_ref());
            assert!(d.warnings.is_empty(), "{}: {:?}", c.title, d.warnings);
            for (_, symptom, fault, at) in TRUTH.iter().filter(|t| t.0 == c.title) {
                let a = d.symptoms.iter().find(|s| s.id == *symptom).unwrap();
                let first: Vec<_> = a.ranked[..4].iter().map(|r| format!("{}@{} {:.2}", r.fault, r.at, r.p)).collect();
                let place = a.ranked.iter().position(|r| r.fault == *fault && r.at == *at);
                // What was repaired already is out, and rightly.
                let repaired = case.repairs.iter().any(|r| r.fault == *fault && r.at.as_deref() == Some(at));
                assert!(repaired || place.is_some_and(|p| p < 3), "{}: {fault}@{at} stands at {place:?}: {first:?}", c.title);
            }
        }
    }
}
