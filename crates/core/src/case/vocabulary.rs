//! The words that data files and case files share.

/// Kinds of symptom.
pub const KINDS: &[&str] = &[
    "vibration",
    "shudder",
    "clunk",
    "click-single",
    "click-repeating",
    "knock",
    "whine",
    "growl",
    "squeal",
    "rattle",
    "grind",
    "hard-shift",
    "jumps-out",
    "leak",
    "no-drive",
];

/// Work without a search, and what it is called.
pub const TASKS: [(&str, &str); 4] =
    [("replace", "replace"), ("refit", "take off and refit"), ("grease", "grease"), ("oil", "change the oil")];

/// What people call a kind of symptom besides, and the kinds that they may mean.
const SYNONYMS: &[(&str, &[&str])] = &[
    ("click", &["click-repeating", "click-single"]),
    ("thud", &["clunk"]),
    ("thump", &["knock", "clunk"]),
    ("bang", &["knock", "clunk"]),
    ("buzz", &["vibration"]),
    ("drone", &["vibration"]),
    ("shake", &["vibration"]),
    ("hop", &["shudder"]),
    ("ratchet", &["click-repeating"]),
    ("roar", &["growl"]),
    ("hum", &["growl"]),
    ("rumble", &["growl"]),
    ("howl", &["whine"]),
    ("chirp", &["squeal"]),
    ("scrape", &["squeal"]),
    ("groan", &["squeal"]),
    ("chatter", &["rattle"]),
];

/// The kinds of symptom that a word means; none where it is not known.
pub fn kinds_meant(word: &str) -> Vec<&'static str> {
    if let Some(k) = KINDS.iter().find(|k| **k == word) {
        return vec![k];
    }
    SYNONYMS.iter().find(|s| s.0 == word).map_or(vec![], |s| s.1.to_vec())
}

/// History tags.
pub const HISTORY: &[&str] = &[
    "lowered",
    "raised",
    "ratio-changed",
    "shaft-changed",
    "axle-work",
    "joints-changed",
    "tyres-changed",
    "gearbox-changed",
    "sat-long",
    "water-crossing",
    "towing",
    "crash",
    "recent-boot-damage",
    "fluid-changed",
    "mount-changed",
    "earlier-work",
    "salted-roads",
];

/// Where a symptom is felt.
pub const FELT: &[&str] = &["steering-wheel", "seat", "floor", "shifter", "pedal", "whole-body"];

/// Where it is heard from.
pub const HEARD_FROM: &[&str] = &["fl", "fr", "rl", "rr", "front", "rear", "centre", "unknown"];

/// Zones in which a sound is heard, without `unknown`, which says nothing.
pub const ZONES: &[&str] = &["fl", "fr", "rl", "rr", "front", "rear", "centre"];

/// Kinds of places that faults and tests may name (see `place_kinds`).
pub const PLACE_KINDS: &[&str] = &[
    "engine",
    "engine-combustion",
    "exhaust",
    "clutch",
    "gearbox",
    "gearbox-manual",
    "gearbox-shifted",
    "gearbox-automatic",
    "gearbox-with-converter",
    "gearbox-layshaft",
    "gearbox-separate",
    "gearbox-transaxle",
    "gearbox-transaxle-cvt",
    "gearbox-transaxle-halves",
    "gear",
    "transfer",
    "windup",
    "coupler",
    "prop",
    "prop-with-cross",
    "section",
    "joint",
    "cross-joint",
    "flex-joint",
    "cv-joint",
    "booted-joint",
    "support",
    "slip",
    "slip-at-gearbox",
    "diff",
    "diff-hypoid",
    "diff-separate",
    "diff-limited-slip",
    "diff-maybe-limited-slip",
    "diff-on-demand",
    "half",
    "boot-half",
    "half-inner",
    "half-outer",
    "half-outer-steered",
    "half-outer-unsteered",
    "boot-inner",
    "boot-outer",
    "half-bearing",
    "hub",
    "axle-hub",
    "hub-nut",
    "hub-free",
    "hub-lock",
    "wheel",
    "brake",
    "strut",
    "mount",
    "mount-engine",
    "mount-gearbox",
    "mount-diff",
];

/// A kind of place in a mechanic's words.
pub fn kind_of_place_words(kind: &str) -> String {
    match kind {
        "prop" | "prop-with-cross" => "propeller shaft".into(),
        "section" => "shaft section".into(),
        "joint" | "cv-joint" | "booted-joint" => "shaft joint".into(),
        "support" => "support bearing".into(),
        "slip-at-gearbox" => "slip in the gearbox".into(),
        "diff" | "diff-hypoid" | "diff-separate" | "diff-on-demand" => "final drive".into(),
        "diff-limited-slip" | "diff-maybe-limited-slip" => "limited slip".into(),
        "half" | "boot-half" => "half shaft".into(),
        "half-inner" | "boot-inner" => "inner joint".into(),
        "half-outer" | "half-outer-steered" | "half-outer-unsteered" | "boot-outer" => "outer joint".into(),
        "half-bearing" => "intermediate bearing".into(),
        "coupler" => "coupling unit".into(),
        "transfer" => "transfer case".into(),
        "windup" => "four-wheel drive".into(),
        "axle-hub" => "end of a solid axle".into(),
        "hub-nut" => "driven hub".into(),
        "hub-free" => "undriven hub".into(),
        "hub-lock" => "free-running hub".into(),
        "gear" => "single gear".into(),
        "engine-combustion" => "engine".into(),
        k if k.starts_with("gearbox-transaxle") => "transaxle".into(),
        k if k.starts_with("gearbox") => "gearbox".into(),
        other => other.replace('-', " "),
    }
}
