//! The complaint as evidence: what kind of symptom it is, where it is felt, when it is at its worst, where it is heard from.

use super::evidence::Evidence;
use super::hypotheses::Hypothesis;
use super::knowledge::Knowledge;
use crate::case::Case;
use crate::vehicle::{Corner, End, PlaceKind};

/// The test of evidence that is the complaint itself.
pub(super) const SYMPTOM: &str = "symptom";

/// The symptom itself: its kind, where it is felt, at which speed, and where it is heard from.
pub(super) fn symptom(case: &Case, k: &Knowledge, all: &[Hypothesis], id: &str) -> Vec<Evidence> {
    let w = &k.weights.prior;
    let Some(s) = case.symptom(id) else { return vec![] };
    let mut out = vec![Evidence {
        words: format!("it is a {}", s.kind.replace('-', " ")),
        test: SYMPTOM.into(),
        at: None,
        likelihood: all
            .iter()
            .map(|h| match k.fault(&h.fault) {
                Some(f) if f.kinds_at(&h.kind).contains(&s.kind) => w.kind_fits,
                Some(f)
                    if w.families.iter().any(|g| g.contains(&s.kind) && f.kinds_at(&h.kind).iter().any(|k| g.contains(k))) =>
                {
                    w.kind_else
                }
                Some(_) => w.kind_far,
                None => (w.kind_fits * w.kind_else).sqrt(),
            })
            .collect(),
        group: None,
    }];
    if !s.felt.is_empty() {
        // What no list says may be felt anywhere.
        let fit = |h: &Hypothesis| {
            let f = k.fault(&h.fault)?;
            let list = if h.end()? == End::Front { &f.felt.front } else { &f.felt.rear };
            let hit = s.felt.iter().any(|x| list.contains(x));
            (!list.is_empty()).then_some(if hit { w.felt_there } else { 1.0 - w.felt_there })
        };
        let words: Vec<String> = s.felt.iter().map(|f| f.replace('-', " ")).collect();
        out.push(Evidence {
            words: format!("felt in the {}", words.join(", ")),
            test: SYMPTOM.into(),
            at: None,
            likelihood: all.iter().map(|h| fit(h).unwrap_or(w.felt_anywhere)).collect(),
            group: None,
        });
    }
    let worst = s.speed_kmh.and_then(|r| {
        r.peak.or(match (r.from, r.to) {
            (Some(a), Some(b)) => Some(0.5 * (a + b)),
            (a, b) => a.or(b),
        })
    });
    if let Some(v) = worst {
        let outside = |h: &Hypothesis| k.fault(&h.fault).and_then(|f| f.speeds).is_some_and(|[a, b]| v < a || v > b);
        out.push(Evidence {
            words: format!("it is worst at {v:.0} km/h"),
            test: SYMPTOM.into(),
            at: None,
            likelihood: all.iter().map(|h| if outside(h) { w.speed_else } else { 1.0 }).collect(),
            group: None,
        });
    }
    let Some(from) = s.heard_from.as_deref().filter(|f| *f != "unknown" && !f.is_empty()) else { return out };
    let corner = Corner::parse(from);
    let fit = |h: &Hypothesis| -> f64 {
        let Some(p) = &h.place else { return w.neutral_place };
        let end = match p.kind {
            PlaceKind::Engine | PlaceKind::Clutch => Some(case.vehicle.engine_end()),
            PlaceKind::Gearbox => case.vehicle.transaxle_end(),
            _ => p.end,
        };
        match (corner, p.corner) {
            (Some(c), Some(q)) if c == q => w.same_corner,
            (Some(c), Some(q)) if c.end() != q.end() && c.is_left() != q.is_left() => w.opposite,
            (Some(c), Some(q)) if c.end() == q.end() => w.opposite.max(0.2),
            (Some(_), Some(_)) => w.neutral_place * 0.75,
            (Some(c), None) if end.is_some_and(|e| e != c.end()) => w.opposite,
            (Some(_), None) => w.neutral_place,
            (None, _) => match from {
                "centre" if p.is_of_shaft() || matches!(p.kind, PlaceKind::Gearbox | PlaceKind::Transfer) => w.same_corner,
                "centre" => w.neutral_place * 0.75,
                f => match end {
                    Some(e) if e.id() == f && !p.is_of_shaft() => w.same_corner,
                    Some(_) if p.is_of_shaft() => w.neutral_place,
                    Some(e) if e.id() != f => w.opposite,
                    _ => w.neutral_place,
                },
            },
        }
    };
    out.push(Evidence {
        words: format!("heard from the {}", corner.map_or(from, |c| c.words())),
        test: SYMPTOM.into(),
        at: None,
        likelihood: all.iter().map(fit).collect(),
        group: None,
    });
    out
}
