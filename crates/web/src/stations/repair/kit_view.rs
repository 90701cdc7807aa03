//! What lies ready before the first bolt, as the page shows it.

use crate::wording::hours;
use baricord_core::repair::kit::{Elsewhere, Kit, Space, Tool};
use baricord_core::repair::step::{Consumable, Step};
use std::collections::BTreeMap;

/// Something that is not simply here.
pub struct ElsewhereView {
    pub what: String,
    /// From whom and when, in words.
    pub told: String,
}

/// The kit.
pub struct KitView {
    pub parts: Vec<(String, String)>,
    pub tools: String,
    pub special: String,
    pub consumables: Vec<(String, String)>,
    pub waste: String,
    /// Fasteners whose torque nobody has looked up.
    pub figures: Vec<String>,
    /// Fasteners whose size is not usual and not known yet.
    pub unsized_fasteners: Vec<String>,
    /// Sizes by fastener, as they are usual or known here.
    pub drives: BTreeMap<String, String>,
    pub sizes: String,
    pub wrench: String,
    pub space: Vec<String>,
    pub awaited: Vec<ElsewhereView>,
    pub borrowed: Vec<ElsewhereView>,
    /// All that can be awaited or borrowed, by name.
    pub items: Vec<String>,
}

fn tool_words(t: &Tool) -> String {
    match (t.mm, &t.inch) {
        (Some(mm), Some(inch)) => format!("{mm} ({inch})"),
        _ => t.what.clone(),
    }
}

fn joined(all: impl Iterator<Item = String>) -> String {
    all.collect::<Vec<_>>().join(", ")
}

/// The same thing at several places is one line with their sum.
fn summed(all: impl Iterator<Item = (String, u32)>) -> Vec<(String, String)> {
    let mut out: Vec<(String, u32)> = vec![];
    for (what, n) in all {
        match out.iter_mut().find(|o| o.0 == what) {
            Some(o) => o.1 += n,
            None => out.push((what, n)),
        }
    }
    out.into_iter().map(|(what, n)| (what, n.to_string())).collect()
}

/// An amount as it is poured: 50 ml, 1.4 l.
fn amount_words(c: &Consumable) -> String {
    match c.unit.as_str() {
        "l" if c.amount < 1.0 => format!("{} ml", (c.amount * 1000.0).round()),
        "kg" if c.amount < 1.0 => format!("{} g", (c.amount * 1000.0).round()),
        unit => format!("{} {unit}", c.amount),
    }
}

fn space_words(s: &Space) -> String {
    match (s.minutes, s.length_mm) {
        (Some(m), _) => format!("{}, {} of hands-on work", s.what, hours(m)),
        (None, Some(mm)) => format!("{}, {mm:.0} mm long", s.what),
        (None, None) => s.what.clone(),
    }
}

fn elsewhere(e: &Elsewhere) -> ElsewhereView {
    ElsewhereView { what: e.what.clone(), told: [&e.from, &e.when].into_iter().flatten().cloned().collect::<Vec<_>>().join(", ") }
}

impl KitView {
    /// What steps need.
    pub fn new(kit: &Kit, steps: &[Step]) -> Self {
        let fasteners = steps.iter().flat_map(|s| &s.fasteners);
        let drives = fasteners.filter_map(|f| Some((f.what.clone(), f.drive_mm?.to_string()))).collect();
        let unanswered = kit.unanswered_fasteners();
        let mut figures: Vec<String> = unanswered.iter().filter(|f| f.torque).map(|f| f.what.clone()).collect();
        figures.sort();
        let tools = kit.tools.iter().filter(|t| t.mm.is_none());
        let parts = kit.new_parts.iter().chain(&kit.single_use).map(|p| &p.what).chain(kit.consumables.iter().map(|c| &c.what));
        let mut items: Vec<String> = tools.map(|t| &t.what).chain(parts).cloned().collect();
        items.sort();
        items.dedup();
        Self {
            parts: summed(kit.new_parts.iter().chain(&kit.single_use).map(|x| (x.what.clone(), x.count))),
            tools: joined(kit.tools.iter().filter(|t| !t.special && t.mm.is_none()).map(tool_words)),
            special: joined(kit.tools.iter().filter(|t| t.special).map(tool_words)),
            consumables: kit.consumables.iter().map(|c| (c.what.clone(), amount_words(c))).collect(),
            waste: joined(kit.waste.iter().map(|c| format!("{} {}", c.what, amount_words(c)))),
            unsized_fasteners: unanswered.iter().filter(|f| f.size).map(|f| f.what.clone()).collect(),
            figures,
            drives,
            sizes: joined(kit.tools.iter().filter(|t| t.mm.is_some()).map(tool_words)),
            wrench: kit.wrench.as_ref().map_or(String::new(), |w| format!("{:.0} to {:.0} N·m", w.from_nm, w.to_nm)),
            space: kit.space.iter().map(space_words).collect(),
            awaited: kit.awaited.iter().map(elsewhere).collect(),
            borrowed: kit.borrowed.iter().map(elsewhere).collect(),
            items,
        }
    }
}
