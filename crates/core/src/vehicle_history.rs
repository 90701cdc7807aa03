//! The history of a vehicle over many cases: when it came and why, what was changed, which parts it got,
//! and what of that bears on the case at hand.

use crate::case::Case;
use crate::error::Problem;
use crate::reasoning::knowledge::{HISTORY, builtin};
use crate::reasoning::wording::repair_words;
use crate::units::Kilometres;
use serde::{Deserialize, Serialize};

/// Something that happened to a vehicle between cases.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// The day, as 2026-11-26.
    pub on: String,
    /// What the vehicle had run, km.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub distance_km: Option<Kilometres>,
    /// What kind of change: one of [`HISTORY`], part or other.
    pub kind: String,
    /// As people read it.
    pub words: String,
    /// Where a part came from: original, rebuilt, copy, used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
}

/// Kinds of change beside those that bear on a cause.
pub const OTHER_KINDS: [&str; 2] = ["part", "other"];
/// Where a part may come from.
pub const ORIGINS: [&str; 4] = ["original", "rebuilt", "copy", "used"];

impl Change {
    /// Whether it is one that can be kept.
    pub fn check(&self) -> Result<(), Problem> {
        let wrong = |field: &str, m: String| Err(Problem::new("bad-change", m).field(field));
        // A day of the calendar, written in full.
        if self.on.len() != "2026-11-26".len() || self.on.parse::<jiff::civil::Date>().is_err() {
            return wrong("on", format!("“{}” is no day: write it as 2026-11-26", self.on));
        }
        if !HISTORY.contains(&self.kind.as_str()) && !OTHER_KINDS.contains(&self.kind.as_str()) {
            return wrong("kind", format!("“{}” is no kind of change", self.kind));
        }
        if self.words.trim().is_empty() && !HISTORY.contains(&self.kind.as_str()) {
            return wrong("words", "say what was changed".into());
        }
        if self.distance_km.is_some_and(|d| !(0.0..=5.0e6).contains(&d.get())) {
            return wrong("distance_km", "the distance must lie between 0 and 5 000 000 km".into());
        }
        if self.origin.as_deref().is_some_and(|o| !ORIGINS.contains(&o)) {
            return wrong("origin", "a part is original, rebuilt, copy or used".into());
        }
        Ok(())
    }
}

/// A case of a vehicle.
pub struct Visit<'a> {
    /// Which.
    pub id: String,
    /// The day on which it was opened.
    pub on: String,
    /// A case of the vehicle.
    pub case: &'a Case,
    /// Whether it is proved.
    pub closed: bool,
}

/// What kind of thing happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HistoryKind {
    /// It came with a complaint.
    Visit,
    /// Something was changed.
    Change,
    /// A part was fitted, or a repair made.
    Part,
}

/// One line of a history.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// The day.
    pub on: String,
    /// What the vehicle had run.
    pub distance_km: Option<Kilometres>,
    /// What kind of thing.
    pub what: HistoryKind,
    /// As people read it.
    pub words: String,
    /// Further words: part, result, what it counts for.
    pub more: String,
    /// In which case.
    pub visit: Option<String>,
}

fn plain(id: &str) -> String {
    id.replace('-', " ")
}

/// A repair in words: what, where, which part, and what came of it.
fn words_of(case: &Case, r: &crate::case::Repair) -> (String, String) {
    let part = r.part.as_deref().map(|p| format!("{p} part")).unwrap_or_default();
    let result = match r.result.as_deref() {
        Some("open") | None => "not proved yet".to_string(),
        Some(other) => plain(other),
    };
    let more: Vec<String> = [part, result].into_iter().filter(|s| !s.is_empty()).collect();
    (repair_words(builtin(), case, r), more.join(", "))
}

/// The history of a vehicle, latest first.
pub fn entries(visits: &[Visit<'_>], changes: &[Change]) -> Vec<Entry> {
    let mut out: Vec<Entry> = changes
        .iter()
        .map(|c| {
            let bears = HISTORY.contains(&c.kind.as_str());
            let origin = c.origin.as_deref().map(|o| format!("{o} part"));
            let more = [bears.then(|| c.words.clone()), origin].into_iter().flatten().filter(|s| !s.is_empty());
            Entry {
                on: c.on.clone(),
                distance_km: c.distance_km,
                what: if c.kind == "part" { HistoryKind::Part } else { HistoryKind::Change },
                words: if bears { plain(&c.kind) } else { c.words.clone() },
                more: more.collect::<Vec<_>>().join(", "),
                visit: None,
            }
        })
        .collect();
    for v in visits {
        let distance_km = v.case.distance_km;
        for r in &v.case.repairs {
            let (words, more) = words_of(v.case, r);
            out.push(Entry { on: v.on.clone(), distance_km, what: HistoryKind::Part, words, more, visit: Some(v.id.clone()) });
        }
        let symptoms: Vec<String> = v
            .case
            .symptoms
            .iter()
            .map(|s| if s.words.is_empty() { plain(&s.kind) } else { format!("{}: “{}”", plain(&s.kind), s.words) })
            .collect();
        let mut more = symptoms.join("; ");
        if !v.closed {
            more += if more.is_empty() { "still open" } else { " · still open" };
        }
        let words = v.case.title.clone();
        out.push(Entry { on: v.on.clone(), distance_km, what: HistoryKind::Visit, words, more, visit: Some(v.id.clone()) });
    }
    // The same day: what was fitted in a visit stands above it.
    out.sort_by(|a, b| b.on.cmp(&a.on));
    out
}

/// Changes of the vehicle that bear on a cause and that a case does not count yet, latest first.
pub fn uncounted<'a>(changes: &'a [Change], case: &Case) -> Vec<&'a Change> {
    let mut out: Vec<&Change> =
        changes.iter().filter(|c| HISTORY.contains(&c.kind.as_str()) && !case.history.contains(&c.kind)).collect();
    out.sort_by(|a, b| b.on.cmp(&a.on));
    let mut seen = vec![];
    out.retain(|c| {
        !seen.contains(&c.kind.as_str()) && {
            seen.push(c.kind.as_str());
            true
        }
    });
    out
}

/// How far the vehicle has run since something happened, where both are known.
pub fn since(entry: Option<Kilometres>, now: Option<Kilometres>) -> Option<Kilometres> {
    let run = now?.get() - entry?.get();
    (run >= 0.0).then_some(Kilometres(run))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::vehicle::sample::rear_drive;
    use serde_json::json;

    fn case(more: serde_json::Value) -> Case {
        sample::case(rear_drive(2), &[json!({"title": "Buzz"}), more])
    }

    fn change(on: &str, kind: &str) -> Change {
        Change {
            on: on.into(),
            distance_km: Some(Kilometres(81_200.0)),
            kind: kind.into(),
            words: "in the yard".into(),
            origin: None,
        }
    }

    #[test]
    fn a_life_runs_over_cases_and_what_happened_between_them() {
        let old = case(json!({"distance_km": 70_000, "symptoms": [{"id": "S1", "kind": "vibration", "words": "hums"}],
            "repairs": [{"fault": "support-bearing-worn", "at": "prop.rear.sb1", "result": "cured", "part": "copy"}]}));
        let new = case(json!({"distance_km": 84_000}));
        let visits = [
            Visit { id: "a".into(), on: "2026-03-02".into(), case: &old, closed: true },
            Visit { id: "b".into(), on: "2026-11-26".into(), case: &new, closed: false },
        ];
        let all = entries(&visits, &[change("2026-06-10", "lowered")]);
        let entries: Vec<_> = all.iter().map(|e| (e.on.as_str(), e.what)).collect();
        assert_eq!(
            entries,
            [
                ("2026-11-26", HistoryKind::Visit),
                ("2026-06-10", HistoryKind::Change),
                ("2026-03-02", HistoryKind::Part),
                ("2026-03-02", HistoryKind::Visit)
            ]
        );
        assert!(all[2].words.starts_with("support bearing worn") && all[2].more == "copy part, cured", "{:?}", all[2]);
        assert!(all[0].more.contains("still open") && all[3].more.contains("“hums”"));
        assert_eq!(since(all[2].distance_km, new.distance_km), Some(Kilometres(14_000.0)));
    }

    #[test]
    fn a_change_that_bears_on_a_cause_is_offered_once_until_it_counts() {
        let changes = [change("2026-06-10", "lowered"), change("2026-07-01", "lowered"), change("2026-07-02", "other")];
        let open = uncounted(&changes, &case(json!({})));
        assert_eq!(open.iter().map(|c| c.on.as_str()).collect::<Vec<_>>(), ["2026-07-01"]);
        assert!(uncounted(&changes, &case(json!({"history": ["lowered"]}))).is_empty());
    }

    #[test]
    fn what_does_not_fit_is_named_by_field() {
        let field = |c: Change| c.check().err().and_then(|p| p.field);
        assert_eq!(field(change("2026-06-10", "lowered")), None);
        assert_eq!(field(change("10.6.2026", "lowered")).as_deref(), Some("on"));
        for no_day in ["2026-13-10", "2026-02-31", "2026-2-01", "20261126  ", "today"] {
            assert_eq!(field(change(no_day, "lowered")).as_deref(), Some("on"), "{no_day}");
        }
        assert_eq!(field(change("2026-06-10", "painted")).as_deref(), Some("kind"));
        assert_eq!(field(Change { words: " ".into(), ..change("2026-06-10", "part") }).as_deref(), Some("words"));
        assert_eq!(
            field(Change { distance_km: Some(Kilometres(-1.0)), ..change("2026-06-10", "part") }).as_deref(),
            Some("distance_km")
        );
        assert_eq!(field(Change { origin: Some("stolen".into()), ..change("2026-06-10", "part") }).as_deref(), Some("origin"));
    }
}
