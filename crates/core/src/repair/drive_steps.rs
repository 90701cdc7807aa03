//! What every plan begins and ends with: what holds the vehicle, and the first run in stages before the proof.

use super::step::{On, Role, Step, StepState};
use super::step_graph::StepGraph;
use crate::case::Case;
use crate::lift::holding::{self, HoldingChoice, Selector};
use crate::vehicle::{Corner, GearboxKind, Vehicle};
use std::collections::BTreeSet;

/// Roles that end a plan, in their order.
#[cfg(test)]
pub(super) const FIRST_RUN: [Role; 5] = [Role::StandRun, Role::Creep, Role::ShortDrive, Role::LookAgain, Role::Proof];

/// A step of its own, at the place of the first repair.
struct Plain<'a> {
    id: &'a str,
    role: Role,
    what: String,
    minutes: [f64; 3],
    on: On,
    gearbox: &'a str,
    brake: &'a str,
    running: bool,
    caution: Vec<&'a str>,
}

fn plain(p: Plain, at: &str, serves: &BTreeSet<String>) -> Step {
    Step {
        id: format!("{}@{at}", p.id),
        role: p.role,
        at: at.into(),
        what: p.what,
        minutes: p.minutes,
        needs: vec![],
        serves: serves.iter().cloned().collect(),
        state: StepState {
            on: p.on,
            wheels: "hang",
            gearbox: p.gearbox.into(),
            brake: p.brake.into(),
            helper: false,
            running: p.running,
        },
        fasteners: vec![],
        caution: p.caution.into_iter().map(String::from).collect(),
        reads: vec![],
        opens: vec![],
        tools: vec![],
        special_tools: vec![],
        consumables: vec![],
        new_parts: vec![],
        single_use: vec![],
        wait: None,
        bench: false,
        can_rest: false,
        restores: None,
    }
}

/// Which wheels are chocked while what these steps take off is off: their places.
pub(super) fn chocked_wheels<'a>(v: &Vehicle, steps: impl IntoIterator<Item = &'a Step>) -> Vec<String> {
    let removed: Vec<&str> = steps.into_iter().filter(|s| s.role == Role::Remove).map(|s| s.at.as_str()).collect();
    let up: Vec<Corner> = removed.iter().filter_map(|at| Corner::parse(at.strip_prefix("wheel.")?)).collect();
    let off = removed.iter().map(|at| at.to_string()).collect();
    let choice = HoldingChoice { up, off, gearbox: Some(Selector::Neutral), ..HoldingChoice::default() };
    holding::of(v, &choice).chock
}

fn chocks(v: &Vehicle, steps: &[Step]) -> String {
    let chocked: Vec<String> = chocked_wheels(v, steps).iter().map(|w| format!("the {}", v.place_words(w))).collect();
    match chocked.as_slice() {
        [] => "the wheels that stay down".into(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

/// The step before which nothing is undone.
pub(crate) const READY: &str = "ready";

/// What is missing stops the first bolt, not the third hour: everything lies ready before anything is undone.
fn ready(g: &mut StepGraph, at: &str, standing: &str, serves: &BTreeSet<String>) -> usize {
    let what = format!(
        "Ready for the {}: new parts here and compared with the old number, tools and figures of the list at hand",
        g.words(at)
    );
    let (id, role, minutes) = (READY, Role::Inspect, [2.0, 5.0, 15.0]);
    let step = plain(
        Plain { id, role, what, minutes, on: On::Ground, gearbox: standing, brake: "on", running: false, caution: vec![] },
        at,
        serves,
    );
    g.add(Step { bench: true, ..step }, BTreeSet::new())
}

/// What holds the vehicle comes first, on the ground and up; ground work before it goes up, and after it is down again.
pub(super) fn secure(g: &mut StepGraph, case: &Case, at: &str, serves: &BTreeSet<String>) {
    let v = &case.vehicle;
    let manual = v.gearbox.kind == GearboxKind::Manual;
    let takes_off = g.steps.iter().any(|s| s.role == Role::Remove);
    let standing = if manual { "gear" } else { "park" };
    let mut caution = vec!["jack"];
    if takes_off {
        caution.push("vehicle-held");
    }
    let power = if v.is_electric() {
        caution.push("high-voltage");
        "switched off and its key out of range"
    } else {
        "key out"
    };
    let what = format!(
        "Before work on the {}: chocks on both sides of {}, parking brake on, {power}; nothing hot is touched",
        g.words(at),
        chocks(v, &g.steps)
    );
    let ground = plain(
        Plain {
            id: "secure-ground",
            role: Role::Secure,
            what,
            minutes: [1.0, 2.0, 4.0],
            on: On::Ground,
            gearbox: standing,
            brake: "on",
            running: false,
            caution,
        },
        at,
        serves,
    );
    let all = g.ancestors().unwrap_or_default();
    let is_up = |g: &StepGraph, s: usize| !g.steps[s].bench && g.steps[s].state.on == On::Lift;
    let n = g.steps.len();
    let after_lift: Vec<bool> = (0..n).map(|s| all.get(s).is_some_and(|a| a.iter().any(|b| is_up(g, *b)))).collect();
    let ready = ready(g, at, standing, serves);
    let first = g.add(ground, [ready].into());
    (0..n).filter(|s| g.before[*s].is_empty()).collect::<Vec<_>>().into_iter().for_each(|s| {
        g.before[s].insert(first);
    });
    let up: Vec<usize> = (0..n).filter(|s| is_up(g, *s)).collect();
    if up.is_empty() {
        return;
    }
    let is_down = |g: &StepGraph, s: usize| !g.steps[s].bench && g.steps[s].state.on == On::Ground;
    let early: BTreeSet<usize> = (0..n).filter(|s| is_down(g, *s) && !after_lift[*s]).chain([first]).collect();
    let late: Vec<usize> = (0..n).filter(|s| is_down(g, *s) && after_lift[*s]).collect();
    let selector = if manual {
        "gearbox in neutral"
    } else {
        "selector released to neutral (without the key by its release, never by force)"
    };
    let transfer = if v.transfer.is_some() { ", transfer case in its neutral" } else { "" };
    let what = format!(
        "Up for the {}: arms at the maker's points, lifted a hand's breadth, rocked, then up and locked; {selector}{transfer}, parking brake off in service mode",
        g.words(at)
    );
    let lift = plain(
        Plain {
            id: "secure-lift",
            role: Role::Secure,
            what,
            minutes: [2.0, 3.0, 6.0],
            on: On::Lift,
            gearbox: "neutral",
            brake: "off",
            running: false,
            caution: vec!["jack"],
        },
        at,
        serves,
    );
    let lift = g.add(lift, early);
    let on_bench: Vec<usize> = (0..n).filter(|s| g.steps[*s].bench && g.before[*s].contains(&first)).collect();
    for s in up.iter().copied().chain(on_bench) {
        let is_first = !g.before[s].iter().any(|b| *b < n && (is_up(g, *b) || g.steps[*b].bench));
        if is_first {
            g.before[s].insert(lift);
        }
    }
    // It comes down when all that is done up there is done.
    for s in late {
        g.before[s].extend(up.iter().copied());
    }
}

/// Everything is put away, then the first run in stages, then the proof.
pub(super) fn prove(g: &mut StepGraph, case: &Case, at: &str, places: &[String], serves: &BTreeSet<String>) {
    let v = &case.vehicle;
    let here = g.words(at);
    let manual = v.gearbox.kind == GearboxKind::Manual;
    let all: BTreeSet<usize> = (0..g.steps.len()).collect();
    let looked = places.iter().map(|p| g.words(p)).collect::<Vec<_>>().join(", ");
    let (idle, drive) = if manual { ("neutral", "gear") } else { ("park", "gear") };
    let exhaust = if v.is_electric() { "high-voltage" } else { "exhaust" };
    let gears = match v.gearbox.kind {
        GearboxKind::Manual => "clutch lets go, every gear and reverse goes in",
        GearboxKind::SingleSpeed => "forward and reverse engage with the brake held",
        _ => "every range engages with the brake held",
    };
    let symptom = case.symptoms.iter().find(|s| !s.words.is_empty()).map(|s| format!(" (“{}”)", s.words)).unwrap_or_default();
    let stages = [
        Plain {
            id: "clear",
            role: Role::Restore,
            what: format!(
                "Chocks, straps and caps away from the {here}; tools and leftover fasteners counted, stability control on again where it was off"
            ),
            minutes: [2.0, 3.0, 6.0],
            on: On::Ground,
            gearbox: idle,
            brake: "on",
            running: false,
            caution: vec![],
        },
        Plain {
            id: "stand-run",
            role: Role::StandRun,
            what: format!("Run it standing: lamps as before, nothing drips or rubs at the {here}; {gears}; reverse lamps"),
            minutes: [3.0, 5.0, 8.0],
            on: On::Ground,
            gearbox: idle,
            brake: "on",
            running: true,
            caution: vec![exhaust],
        },
        Plain {
            id: "creep",
            role: Role::Creep,
            what: format!("Creep both ways and round both locks, window open, listening for the {here}; brake pedal firm first"),
            minutes: [2.0, 3.0, 5.0],
            on: On::Ground,
            gearbox: drive,
            brake: "off",
            running: true,
            caution: vec!["road", "pedal-first"],
        },
        Plain {
            id: "short-drive",
            role: Role::ShortDrive,
            what: format!(
                "A short loop near by, slowly first: the {here} under light load and on the overrun; stop when a noise grows"
            ),
            minutes: [6.0, 10.0, 18.0],
            on: On::Ground,
            gearbox: drive,
            brake: "off",
            running: true,
            caution: vec!["road"],
        },
        Plain {
            id: "look-again",
            role: Role::LookAgain,
            what: format!("Look again from below with a lamp, nothing touched hot: {looked}; drips, marks, clips, heat"),
            minutes: [3.0, 5.0, 8.0],
            on: On::Ground,
            gearbox: idle,
            brake: "on",
            running: false,
            caution: vec!["hot"],
        },
        Plain {
            id: "proof",
            role: Role::Proof,
            what: format!(
                "Proof run for the {here}: the same road, gear, load and speed in which it was felt{symptom}; measured again, not felt only"
            ),
            minutes: [10.0, 15.0, 25.0],
            on: On::Ground,
            gearbox: drive,
            brake: "off",
            running: true,
            caution: vec!["road"],
        },
    ];
    let mut before = all;
    for s in stages {
        let mut step = plain(s, at, serves);
        if step.role == Role::Restore {
            step.restores = Some("chocks away, stability control on, tools counted".into());
        }
        let s = g.add(step, before);
        before = [s].into();
    }
}
