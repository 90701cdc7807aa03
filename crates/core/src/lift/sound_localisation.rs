//! The loudest place: a level at each place that was listened at, and sounds of two places compared without knowing
//! which is which.

use crate::case::{Attachment, Case, Compared, Heard, LevelUnit};
use crate::reasoning::knowledge::Knowledge;
use imbl::Vector;
use serde::{Deserialize, Serialize};

/// So much louder is clearly louder: what an ear, or a meter held by hand, tells apart.
fn clearly_louder(unit: LevelUnit) -> f64 {
    match unit {
        LevelUnit::Decibel => 3.0,
        LevelUnit::OfTen => 2.0,
    }
}

/// A level as it is typed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Level {
    /// Where.
    pub at: String,
    /// How loud.
    pub level: f64,
    /// In what.
    pub unit: LevelUnit,
}

/// Sounds that were taken at a place to find the loudest.
pub fn level_sounds<'a>(case: &'a Case, k: &'a Knowledge) -> impl Iterator<Item = &'a Attachment> {
    let of_levels = move |p: &&Attachment| p.test.as_deref().and_then(|t| k.test(t)).is_some_and(|t| t.levels);
    case.pinned.iter().filter(|p| !p.is_picture() && p.at.is_some()).filter(of_levels)
}

/// What was heard, the latest level at each place in the unit used last; places in their order.
pub fn heard(case: &Case) -> Vec<Heard> {
    let Some(unit) = case.listened.last().map(|h| h.unit) else { return vec![] };
    let mut out: Vec<Heard> = vec![];
    for h in case.listened.iter().filter(|h| h.unit == unit) {
        match out.iter_mut().find(|o| o.at == h.at) {
            Some(o) => *o = h.clone(),
            None => out.push(h.clone()),
        }
    }
    out
}

/// Of levels that are told, those that are not known so already.
pub fn new_levels<'a>(case: &Case, told: &'a [Level]) -> Vec<&'a Level> {
    let was = heard(case);
    told.iter().filter(|l| !was.iter().any(|w| (&w.at, w.level, w.unit) == (&l.at, l.level, l.unit))).collect()
}

/// The next two sounds, each with its place, that a person should compare: of places that they have not compared yet.
pub fn to_compare<'a>(sounds: &'a [(String, String)], compared: &Vector<Compared>, person: &str) -> Option<(&'a str, &'a str)> {
    let done = |a: &str, b: &str| {
        let same = |c: &Compared| (c.louder == a && c.quieter == b) || (c.louder == b && c.quieter == a);
        compared.iter().any(|c| c.by == person && same(c))
    };
    let pairs = sounds.iter().enumerate().flat_map(|(i, a)| sounds[i + 1..].iter().map(move |b| (a, b)));
    pairs.into_iter().find(|(a, b)| a.1 != b.1 && !done(&a.1, &b.1)).map(|(a, b)| (a.0.as_str(), b.0.as_str()))
}

/// The loudest place, and how it is known.
#[derive(Clone, Debug, PartialEq)]
pub struct Loudest {
    /// Where.
    pub at: String,
    /// How much louder than the next, in the levels' unit; none where only comparisons tell.
    pub over: Option<f64>,
    /// Comparisons that it won and lost.
    pub won: usize,
    /// Blind comparisons in which it was the quieter one.
    pub lost: usize,
    /// Whether it is clear.
    pub clear: bool,
}

/// The loudest of the places: by level, or where no level is clear by what was compared blind. None before two were
/// listened at.
pub fn loudest(heard: &[Heard], compared: &Vector<Compared>) -> Option<Loudest> {
    let score = |at: &str| {
        let won = compared.iter().filter(|c| c.louder == at).count();
        (won, compared.iter().filter(|c| c.quieter == at).count())
    };
    let mut by_level: Vec<&Heard> = heard.iter().collect();
    by_level.sort_by(|a, b| b.level.total_cmp(&a.level));
    let over = match &by_level[..] {
        [first, second, ..] => Some(first.level - second.level),
        _ => None,
    };
    let loudest_is = |at: &str, over: Option<f64>, clear: bool| {
        let (won, lost) = score(at);
        Some(Loudest { at: at.into(), over, won, lost, clear: clear && won >= lost })
    };
    if let (Some(over), Some(first)) = (over, by_level.first())
        && over >= clearly_louder(first.unit)
    {
        return loudest_is(&first.at, Some(over), true);
    }
    let mut places: Vec<&str> = compared.iter().flat_map(|c| [c.louder.as_str(), c.quieter.as_str()]).collect();
    places.sort_unstable();
    places.dedup();
    let net = |at: &str| score(at).0 as i64 - score(at).1 as i64;
    let best = places.iter().copied().max_by_key(|at| net(at)).filter(|at| net(at) > 0);
    match (best, over) {
        (Some(at), _) => loudest_is(at, None, net(at) >= 2 && places.iter().filter(|p| net(p) == net(at)).count() == 1),
        (None, Some(over)) => loudest_is(&by_level[0].at, Some(over), false),
        (None, None) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbl::vector;
    use serde_json::json;

    fn at(place: &str, level: f64) -> Heard {
        Heard { at: place.into(), level, ..Heard::default() }
    }

    fn over(louder: &str, quieter: &str) -> Compared {
        Compared { louder: louder.into(), quieter: quieter.into(), ..Compared::default() }
    }

    #[test]
    fn three_decibels_are_clear_and_one_is_not() {
        let clear = loudest(&[at("hub.fl", 71.0), at("hub.fr", 66.0), at("diff.rear", 64.0)], &Vector::new()).unwrap();
        assert_eq!((clear.at.as_str(), clear.over, clear.clear), ("hub.fl", Some(5.0), true));
        let close = loudest(&[at("hub.fl", 67.0), at("hub.fr", 66.0)], &Vector::new()).unwrap();
        assert!(!close.clear && close.at == "hub.fl");
        assert_eq!(loudest(&[at("hub.fl", 67.0)], &Vector::new()), None);
    }

    #[test]
    fn where_levels_are_close_what_was_compared_blind_decides() {
        let close = [at("hub.fl", 67.0), at("hub.fr", 66.0)];
        let once = loudest(&close, &vector![over("hub.fr", "hub.fl")]).unwrap();
        assert_eq!((once.at.as_str(), once.clear), ("hub.fr", false));
        let twice = loudest(&close, &vector![over("hub.fr", "hub.fl"), over("hub.fr", "hub.fl")]).unwrap();
        assert_eq!((twice.at.as_str(), twice.won, twice.clear), ("hub.fr", 2, true));
        // A clear level that blind ears contradict is not clear.
        let odd = loudest(&[at("hub.fl", 72.0), at("hub.fr", 66.0)], &vector![over("hub.fr", "hub.fl")]).unwrap();
        assert!(odd.at == "hub.fl" && !odd.clear);
    }

    #[test]
    fn each_pair_of_places_is_compared_once_by_each_person() {
        let of = |f: &str, at: &str| (f.to_string(), at.to_string());
        let sounds = [of("1", "hub.fl"), of("2", "hub.fl"), of("3", "hub.fr"), of("4", "diff.rear")];
        assert_eq!(to_compare(&sounds, &Vector::new(), "Maren"), Some(("1", "3")));
        let mut done = vector![Compared { by: "Maren".into(), ..over("hub.fr", "hub.fl") }];
        assert_eq!(to_compare(&sounds, &done, "Maren"), Some(("1", "4")));
        assert_eq!(to_compare(&sounds, &done, "Tovi"), Some(("1", "3")));
        done.extend(
            [("hub.fl", "diff.rear"), ("hub.fr", "diff.rear")].map(|(a, b)| Compared { by: "Maren".into(), ..over(a, b) }),
        );
        assert_eq!(to_compare(&sounds, &done, "Maren"), None);
    }

    #[test]
    fn the_latest_level_counts_and_units_are_not_mixed() {
        let d = json!({"listened": [
            {"at": "hub.fl", "level": 8, "unit": "of 10"}, {"at": "hub.fl", "level": 60, "unit": "dB"},
            {"at": "hub.fr", "level": 66, "unit": "dB"}, {"at": "hub.fl", "level": 71, "unit": "dB", "by": "Maren"}]});
        let case = |d| crate::case::sample::case(crate::vehicle::sample::front_drive(), &[d]);
        let h = heard(&case(d));
        assert_eq!(h.iter().map(|h| (h.at.as_str(), h.level)).collect::<Vec<_>>(), [("hub.fl", 71.0), ("hub.fr", 66.0)]);
        assert_eq!(LevelUnit::named("of 10"), Some(LevelUnit::OfTen));
        assert!(heard(&case(json!({}))).is_empty());
    }
}
