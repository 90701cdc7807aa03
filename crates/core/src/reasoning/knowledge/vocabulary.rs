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
];

/// Where a symptom is felt.
pub const FELT: &[&str] = &["steering-wheel", "seat", "floor", "shifter", "pedal", "whole-body"];

/// Where it is heard from.
pub const HEARD_FROM: &[&str] = &["fl", "fr", "rl", "rr", "front", "rear", "centre", "unknown"];

/// Kinds of places that faults and tests may name.
pub const PLACE_KINDS: &[&str] = &[
    "engine",
    "engine-combustion",
    "clutch",
    "gearbox",
    "gearbox-manual",
    "gearbox-automatic",
    "gearbox-separate",
    "gearbox-transaxle",
    "gear",
    "transfer",
    "coupler",
    "prop",
    "prop-with-cross",
    "section",
    "joint",
    "cross-joint",
    "flex-joint",
    "support",
    "slip",
    "slip-at-gearbox",
    "diff",
    "diff-with-clutches",
    "diff-on-demand",
    "half",
    "half-inner",
    "half-outer",
    "hub",
    "axle-hub",
    "wheel",
    "strut",
    "mount",
    "mount-engine",
    "mount-gearbox",
    "mount-diff",
];

/// Kinds of places as bits, in the order of [`PLACE_KINDS`].
pub fn kind_bits(is: impl Fn(&str) -> bool) -> u64 {
    PLACE_KINDS.iter().enumerate().filter(|(_, kind)| is(kind)).fold(0, |bits, (i, _)| bits | 1 << i)
}

/// A kind of place in a mechanic's words.
pub fn kind_of_place_words(kind: &str) -> String {
    match kind {
        "prop" | "prop-with-cross" => "propeller shaft".into(),
        "section" => "shaft section".into(),
        "joint" => "shaft joint".into(),
        "support" => "support bearing".into(),
        "diff" | "diff-with-clutches" | "diff-on-demand" => "final drive".into(),
        "half" => "half shaft".into(),
        "half-inner" => "inner joint".into(),
        "half-outer" => "outer joint".into(),
        "coupler" => "coupling unit".into(),
        "transfer" => "transfer case".into(),
        "axle-hub" => "end of a solid axle".into(),
        "gear" => "single gear".into(),
        other => other.replace('-', " "),
    }
}
