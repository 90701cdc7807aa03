//! What the general tests say of a fault: it follows from how the fault behaves, not from a mark each. One function a
//! test; each arm is a rule of the trade with its reason. Outcomes that a rule leaves out share the rest by their base
//! rates; `None` means that the fault says nothing of the test.

use super::hypotheses::Hypothesis;
use super::knowledge::{Fault, Knowledge, Load, Shows, Turning, TurnsWith};
use crate::measure::orders::What;
use crate::vehicle::{End, Place, PlaceKind, Vehicle};

/// What a rule says: outcomes with their probabilities, and why.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// P(outcome | fault).
    pub outcomes: Vec<(&'static str, f64)>,
    /// The reason, in words.
    pub why: &'static str,
}

fn rule(outcomes: &[(&'static str, f64)], why: &'static str) -> Option<Rule> {
    Some(Rule { outcomes: outcomes.to_vec(), why })
}

/// How a fault shows itself in a symptom of this kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Manner {
    /// A steady vibration, sound or shudder, or pulses.
    Steady,
    /// One knock at a change of load.
    Event,
    /// One at a bump.
    Bump,
    /// When steering.
    Steer,
    /// In tight turns.
    Tight,
    /// It changes with the brake.
    Brake,
    /// Shifting.
    Shift,
    /// A leak, or no drive: no sound of its own.
    Silent,
}

/// Kinds of symptom that are single knocks.
fn is_event_kind(kind: &str) -> bool {
    matches!(kind, "clunk" | "click-single" | "knock")
}

/// A fault at a place, in a symptom of a kind, on a vehicle: what the rules look at.
pub(super) struct Subject<'a> {
    pub v: &'a Vehicle,
    pub k: &'a Knowledge,
    pub h: &'a Hypothesis,
    pub f: &'a Fault,
    pub place: &'a Place,
    /// Kind of the symptom.
    pub symptom: &'a str,
}

impl Subject<'_> {
    fn shows(&self, what: Shows) -> bool {
        super::hypotheses::shows(self.h, what)
    }
    fn turns(&self) -> TurnsWith {
        self.h.behaviour.as_ref().map_or(TurnsWith::Nothing, |b| b.turns)
    }
    fn load(&self) -> Load {
        self.h.behaviour.as_ref().map_or(Load::Any, |b| b.load)
    }
    fn turning(&self) -> Option<Turning> {
        self.h.behaviour.as_ref().and_then(|b| b.turning)
    }
    fn unloaded(&self) -> f64 {
        self.h.behaviour.as_ref().map_or(0.5, |b| b.unloaded)
    }
    fn is(&self, fault: &str) -> bool {
        self.h.fault == fault
    }
    fn one_of(&self, faults: &[&str]) -> bool {
        faults.contains(&self.h.fault.as_str())
    }
    /// It turns with the wheels or a propeller shaft.
    fn rolls(&self) -> bool {
        matches!(self.turns(), TurnsWith::Wheel | TurnsWith::Shaft)
    }
    fn manner(&self) -> Manner {
        let steady = self.shows(Shows::Line) || self.shows(Shows::Mesh) || self.shows(Shows::Pulse);
        let shifts = self.shows(Shows::Shift) || self.shows(Shows::ShiftAll);
        match () {
            () if shifts && matches!(self.symptom, "hard-shift" | "jumps-out") => Manner::Shift,
            () if self.shows(Shows::Event) && (!steady || is_event_kind(self.symptom)) => Manner::Event,
            () if self.shows(Shows::Brake) || self.load() == Load::Braking => Manner::Brake,
            () if self.shows(Shows::Tight) || (self.turning() == Some(Turning::Tight) && self.load() != Load::Drive) => {
                Manner::Tight
            }
            () if steady => Manner::Steady,
            () if self.shows(Shows::Bump) => Manner::Bump,
            () if self.shows(Shows::Steer) => Manner::Steer,
            () if shifts => Manner::Shift,
            () => Manner::Silent,
        }
    }
    fn end(&self) -> Option<End> {
        self.place.end
    }
    fn kind(&self) -> PlaceKind {
        self.place.kind
    }
    /// It stands at a wheel: wheel, hub, brake.
    fn at_wheel(&self) -> bool {
        matches!(self.kind(), PlaceKind::Wheel | PlaceKind::Hub | PlaceKind::Brake)
    }
    /// It drives an axle: shaft, final drive, half shafts.
    fn drives(&self, end: End) -> bool {
        self.end() == Some(end) && self.place.is_of_axle_drive()
    }
    fn engine_side(&self) -> bool {
        matches!(self.turns(), TurnsWith::Engine | TurnsWith::Gear)
            || matches!(self.kind(), PlaceKind::Engine | PlaceKind::Clutch | PlaceKind::Gearbox | PlaceKind::Exhaust)
            || matches!(self.place.id.as_str(), "mount.engine" | "mount.gearbox")
    }
}

/// What a general test says of a fault; `at` is where it is made, `gear` the gear it is made in.
pub(super) fn general(test: &str, s: &Subject, at: Option<&Place>, gear: Option<&str>) -> Option<Rule> {
    match test {
        "neutral-coast" => neutral_coast(s),
        "other-gear-same-speed" => other_gear(s),
        "drive-coast-float" => drive_coast_float(s),
        "turn" => turn(s),
        "turn-power" => turn_power(s),
        "reverse" => reverse(s),
        "standstill-rev" => standstill_rev(s),
        "load-reversal" => load_reversal(s),
        "engage" => engage(s),
        "bump" => bump(s),
        "steer-standing" => steer_standing(s),
        "clutch-pedal" => clutch_pedal(s),
        "clutch-pedal-in-gear" => clutch_pedal_in_gear(s),
        "brake-touch" => brake_touch(s),
        "surface-change" => surface_change(s),
        "wheel-swap-retest" => wheel_swap(s),
        "lift-run" => lift_run(s),
        "lift-run-halfshafts-out" => half_shafts_out(s),
        "diff-out-run" => diff_out(s, at?),
        "shaft-off-run" => shaft_off(s, at?),
        "axle-engage" => axle_engage(s, at?.end?),
        "reindex-retest" => reindex(s, at?),
        "grease-and-retest" => grease(s, at?),
        "shift-feel" => shift_feel(s, gear?),
        "speed-sweep" => speed_sweep(s),
        "opened-look" => opened_look(s, at?),
        "bench-listen" => bench_listen(s, at?),
        "earlier-work-look" => earlier_work(s, at?),
        "belt-off-run" => rule(&[("stops", 0.02)], "it is not the belt's"),
        _ => None,
    }
}

fn neutral_coast(s: &Subject) -> Option<Rule> {
    let part = [("persists", 0.5), ("fades", 0.35), ("stops", 0.15)];
    match s.manner() {
        Manner::Silent | Manner::Shift | Manner::Steer => None,
        Manner::Event => rule(&[("persists", 0.06), ("fades", 0.1), ("stops", 0.84)], "rolling free, no load changes"),
        Manner::Bump => rule(&[("persists", 0.9), ("fades", 0.06), ("stops", 0.04)], "the bumps are there in neutral, too"),
        Manner::Tight => {
            rule(&[("persists", 0.45), ("fades", 0.25), ("stops", 0.3)], "it comes with the turn, not with the torque alone")
        }
        Manner::Brake if s.load() == Load::Braking => {
            rule(&[("persists", 0.3), ("fades", 0.1), ("stops", 0.6)], "it comes with the brake")
        }
        _ => match (s.turns(), s.load()) {
            (TurnsWith::Engine | TurnsWith::Gear, _) => {
                rule(&[("persists", 0.03), ("fades", 0.07), ("stops", 0.9)], "the engine idles and no gear is driven")
            }
            (_, Load::DriveCoast) => {
                rule(&[("persists", 0.15), ("fades", 0.25), ("stops", 0.6)], "teeth without torque are quieter")
            }
            (_, Load::Part) => rule(&part, "it is weaker without torque"),
            (_, Load::Drive | Load::Coast | Load::PullingAway) => {
                rule(&[("persists", 0.04), ("fades", 0.08), ("stops", 0.88)], "it needs torque, and there is none")
            }
            (TurnsWith::Wheel | TurnsWith::Shaft, _) => {
                rule(&[("persists", 0.9), ("fades", 0.07), ("stops", 0.03)], "wheels and shaft turn on in neutral")
            }
            (TurnsWith::Nothing, _) => None,
        },
    }
}

fn other_gear(s: &Subject) -> Option<Rule> {
    match s.manner() {
        Manner::Shift if s.shows(Shows::Shift) => {
            return rule(&[("same", 0.02), ("stops", 0.95), ("changes-with-rpm", 0.03)], "it is this gear alone");
        }
        Manner::Shift => return rule(&[("same", 0.9), ("stops", 0.06), ("changes-with-rpm", 0.04)], "it is there in every gear"),
        Manner::Silent | Manner::Steer | Manner::Event => return None,
        Manner::Bump | Manner::Tight | Manner::Brake => {
            return rule(&[("same", 0.95), ("stops", 0.015), ("changes-with-rpm", 0.035)], "it has nothing to do with the gear");
        }
        Manner::Steady => {}
    }
    match s.turns() {
        TurnsWith::Wheel | TurnsWith::Shaft => rule(
            &[("same", 0.98), ("stops", 0.005), ("changes-with-rpm", 0.015)],
            "at the same road speed it turns as fast in every gear",
        ),
        _ if s.load() == Load::PullingAway => None,
        TurnsWith::Engine => rule(
            &[("same", 0.03), ("stops", 0.35), ("changes-with-rpm", 0.62)],
            "in another gear the engine turns otherwise at that speed",
        ),
        TurnsWith::Gear => {
            rule(&[("same", 0.02), ("stops", 0.95), ("changes-with-rpm", 0.03)], "in another gear that pair carries nothing")
        }
        TurnsWith::Nothing => None,
    }
}

fn drive_coast_float(s: &Subject) -> Option<Rule> {
    let of = |drive, coast, float, all, why| rule(&[("drive", drive), ("coast", coast), ("float", float), ("all", all)], why);
    match s.manner() {
        Manner::Silent | Manner::Shift | Manner::Steer => None,
        Manner::Event => of(0.35, 0.2, 0.25, 0.2, "it comes when the load changes"),
        Manner::Brake if s.load() == Load::Braking => of(0.05, 0.25, 0.05, 0.65, "it comes with the brake, not with the load"),
        _ => match s.load() {
            Load::Drive | Load::PullingAway => of(0.85, 0.03, 0.02, 0.1, "it needs driving torque"),
            Load::Coast => of(0.03, 0.85, 0.02, 0.1, "it needs overrun"),
            Load::DriveCoast => of(0.45, 0.35, 0.08, 0.12, "one flank of the teeth is louder"),
            Load::Part => of(0.4, 0.1, 0.03, 0.47, "it is stronger under torque"),
            Load::Any | Load::Braking => of(0.07, 0.05, 0.03, 0.85, "torque changes nothing"),
        },
    }
}

/// The bend in which a side is loaded: a left turn loads the right side.
fn loaded_in(p: &Place) -> Option<(&'static str, &'static str)> {
    Some(if p.corner?.is_left() { ("right", "left") } else { ("left", "right") })
}

fn turn(s: &Subject) -> Option<Rule> {
    let untouched = || rule(&[("none", 0.84)], "bends change nothing");
    match s.manner() {
        Manner::Silent | Manner::Shift => return None,
        Manner::Tight => return rule(&[("both", 0.5), ("none", 0.3)], "it comes in turns, most of all in tight ones"),
        Manner::Steer => return rule(&[("both", 0.4), ("none", 0.4)], "it comes with the steering"),
        _ => {}
    }
    match (s.turning(), loaded_in(s.place)) {
        (Some(Turning::Loaded), Some((loaded, other))) => {
            rule(&[(loaded, 0.6), (other, 0.08), ("both", 0.12), ("none", 0.2)], "it is loudest in the bend that loads its side")
        }
        (Some(Turning::Tight), Some((outside, inside))) if s.end() == Some(End::Front) => {
            rule(&[(outside, 0.3), (inside, 0.15), ("both", 0.2), ("none", 0.35)], "its joint bends with the steering")
        }
        (Some(Turning::Tight), None) => rule(&[("both", 0.6), ("none", 0.2)], "the wheels turn unlike in a turn only"),
        _ => untouched(),
    }
}

fn turn_power(s: &Subject) -> Option<Rule> {
    match s.manner() {
        Manner::Silent | Manner::Shift => return None,
        Manner::Tight => return rule(&[("both", 0.87), ("none", 0.05)], "it needs a tight turn"),
        Manner::Steer => return rule(&[("both", 0.5), ("none", 0.3)], "it comes with the steering"),
        _ => {}
    }
    match (s.turning(), loaded_in(s.place)) {
        (Some(Turning::Tight), Some((outside, inside))) if s.end() == Some(End::Front) => {
            rule(&[(outside, 0.5), (inside, 0.25), ("both", 0.15), ("none", 0.1)], "full lock and torque bend and load its joint")
        }
        (Some(Turning::Tight), Some(_)) => rule(&[("none", 0.75)], "an unsteered joint does not bend in a turn"),
        (Some(Turning::Tight), None) => rule(&[("both", 0.87), ("none", 0.05)], "it needs a tight turn"),
        _ => rule(&[("none", 0.84)], "a tight turn changes nothing"),
    }
}

fn reverse(s: &Subject) -> Option<Rule> {
    match s.manner() {
        Manner::Silent | Manner::Shift | Manner::Steer => None,
        _ if s.one_of(&["outer-joint-worn", "prop-joint-worn"]) => {
            rule(&[("quieter", 0.6), ("same", 0.3)], "backwards the balls run in the unworn side of their tracks")
        }
        _ if s.load() == Load::DriveCoast || s.turns() == TurnsWith::Gear => {
            rule(&[("quieter", 0.35), ("same", 0.3), ("louder", 0.3)], "backwards the other flank carries")
        }
        _ => rule(&[("same", 0.78)], "the direction changes nothing"),
    }
}

fn standstill_rev(s: &Subject) -> Option<Rule> {
    match s.turns() {
        _ if matches!(s.manner(), Manner::Silent | Manner::Shift) && !s.rolls() => None,
        TurnsWith::Wheel | TurnsWith::Shaft | TurnsWith::Gear => rule(&[("present", 0.01)], "standing, it does not turn"),
        TurnsWith::Nothing => rule(&[("present", 0.03)], "it needs the vehicle to move or the load to change"),
        TurnsWith::Engine if s.place.is_of_shaft() => {
            rule(&[("present", 0.02)], "the clutch does not drive the shaft in neutral hard enough")
        }
        TurnsWith::Engine if s.load() == Load::Drive || s.load() == Load::PullingAway => {
            rule(&[("present", 0.04)], "it needs torque")
        }
        TurnsWith::Engine => rule(&[("present", 0.65)], "it turns with the engine"),
    }
}

/// Joints whose wear is felt when the load changes.
const WORN_JOINTS: &[&str] = &["joint-worn", "inner-joint-worn", "prop-joint-worn", "flex-coupling-cracked"];

fn load_reversal(s: &Subject) -> Option<Rule> {
    if matches!(s.manner(), Manner::Silent | Manner::Shift) {
        return None;
    }
    match () {
        () if s.one_of(&["axle-nut-loose", "hub-face-slip"]) && s.shows(Shows::Event) => {
            rule(&[("click", 0.85), ("clunk", 0.06)], "the hub slips on the joint once each way")
        }
        () if s.one_of(WORN_JOINTS) => rule(&[("clunk", 0.7)], "its play is taken up when the load turns round"),
        () if s.shows(Shows::Event) => rule(&[("clunk", 0.85)], "it knocks when the load turns round"),
        () if s.is("suspension-loose") && s.end() == Some(End::Front) => {
            rule(&[("clunk", 0.4)], "front suspension moves when the load turns round")
        }
        () => rule(&[("clunk", 0.08), ("click", 0.01)], "a change of load does nothing"),
    }
}

fn engage(s: &Subject) -> Option<Rule> {
    if matches!(s.manner(), Manner::Silent | Manner::Shift) {
        return None;
    }
    match () {
        () if s.one_of(&["axle-nut-loose", "hub-face-slip"]) => rule(&[("clunk", 0.25)], "it clicks rather than clunks"),
        () if s.one_of(WORN_JOINTS) => rule(&[("clunk", 0.7)], "its play is taken up when the drive engages"),
        () if s.shows(Shows::Event) => rule(&[("clunk", 0.8)], "it knocks when the drive engages"),
        () if s.is("suspension-loose") && s.end() == Some(End::Front) => {
            rule(&[("clunk", 0.15)], "front suspension moves a little")
        }
        () => rule(&[("clunk", 0.1)], "engaging does nothing"),
    }
}

fn bump(s: &Subject) -> Option<Rule> {
    s.shows(Shows::Bump).then(|| rule(&[("thump", 0.8)], "it knocks at a bump")).flatten()
}

fn steer_standing(s: &Subject) -> Option<Rule> {
    match () {
        () if s.shows(Shows::Steer) => rule(&[("noise", 0.93)], "it turns with the steering"),
        () if s.rolls() => rule(&[("noise", 0.01)], "standing, it does not turn"),
        () => None,
    }
}

fn clutch_pedal(s: &Subject) -> Option<Rule> {
    match s.turns() {
        _ if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        TurnsWith::Wheel | TurnsWith::Shaft | TurnsWith::Gear | TurnsWith::Nothing => {
            rule(&[("none", 0.95)], "standing in neutral it does not turn: what is heard is another noise")
        }
        TurnsWith::Engine if s.load() == Load::Any => {
            rule(&[("both", 0.5), ("none", 0.45)], "it turns with the engine, whatever the pedal does")
        }
        TurnsWith::Engine => rule(&[("both", 0.25), ("none", 0.68)], "it turns with the engine, and wants load"),
    }
}

fn clutch_pedal_in_gear(s: &Subject) -> Option<Rule> {
    match s.turns() {
        _ if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        TurnsWith::Engine => None,
        _ => rule(&[("noise", 0.01)], "standing, it does not turn"),
    }
}

fn brake_touch(s: &Subject) -> Option<Rule> {
    match s.manner() {
        Manner::Silent | Manner::Shift => None,
        Manner::Brake => rule(&[("changes", 0.93)], "it is the brake's"),
        _ if s.is("brake-dragging") => rule(&[("changes", 0.7)], "it is the brake's"),
        _ => rule(&[("changes", 0.06)], "a touch of the brake does nothing"),
    }
}

fn surface_change(s: &Subject) -> Option<Rule> {
    match s.manner() {
        Manner::Silent | Manner::Shift => None,
        _ if s.is("tyre-noise") => rule(&[("changes", 0.75)], "a tyre sings another song on another road"),
        Manner::Bump => rule(&[("changes", 0.7)], "a smoother road has no bumps"),
        Manner::Tight => rule(&[("changes", 0.6)], "on loose ground the tyres give way"),
        _ => rule(&[("changes", 0.07)], "the road changes nothing"),
    }
}

fn wheel_swap(s: &Subject) -> Option<Rule> {
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.one_of(&["wheel-imbalance", "wheel-loose"]) => rule(&[("moves", 0.85)], "it goes with the wheel"),
        () if s.kind() == PlaceKind::Wheel => rule(&[("moves", 0.72)], "it goes with the wheel"),
        () => rule(&[("moves", 0.06)], "it stays when the wheels are changed about"),
    }
}

/// Silence of what shows under torque or load is weak: it is heard unloaded no less than this, and a sound under a
/// lifted vehicle is false in one of four.
fn lift_run(s: &Subject) -> Option<Rule> {
    let undriven = s.at_wheel() && s.end().and_then(|e| s.v.axle(e)).is_some_and(|a| !a.driven);
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if undriven => rule(&[("heard", 0.12)], "an undriven wheel stands"),
        () => Some(Rule { outcomes: vec![("heard", s.unloaded())], why: "how well it is heard without load" }),
    }
}

fn half_shafts_out(s: &Subject) -> Option<Rule> {
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.is("transaxle-internal") => rule(&[("heard", 0.93)], "only the transaxle turns"),
        () if s.engine_side() => {
            Some(Rule { outcomes: vec![("heard", s.unloaded().max(0.3))], why: "engine and gearbox turn on" })
        }
        () => rule(&[("heard", 0.03)], "it does not turn with the half shafts out"),
    }
}

fn diff_out(s: &Subject, at: &Place) -> Option<Rule> {
    let end = at.end?;
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.at_wheel() && s.end() == Some(end) => rule(&[("stops", 0.93)], "the wheels of that axle stand"),
        () if s.place.is_of_shaft() && s.end() == Some(end) => rule(&[("stops", 0.35)], "the shaft turns on, without load"),
        () if s.drives(end) => rule(&[("stops", 0.93)], "nothing behind the shaft turns"),
        () if s.at_wheel() || s.place.corner.is_some() => {
            rule(&[("stops", 0.6)], "a wheel that stands in the run is not heard either")
        }
        () => rule(&[("stops", 0.5)], "gearbox and engine turn on, without load"),
    }
}

fn shaft_off(s: &Subject, at: &Place) -> Option<Rule> {
    let end = at.end?;
    let other_drives = s.v.axles.iter().any(|a| a.driven && a.end != end);
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.place.is_of_shaft() && s.end() == Some(end) => rule(&[("stops", 0.95)], "the shaft is off"),
        () if s.engine_side() => rule(&[("stops", 0.4)], "engine and gearbox turn on, with less load"),
        () if !other_drives => rule(&[("stops", 0.93)], "nothing behind the shaft turns"),
        () if s.drives(end) && matches!(s.load(), Load::Drive | Load::DriveCoast | Load::Part) => {
            rule(&[("stops", 0.85)], "that axle rolls without torque")
        }
        () if s.drives(end) && s.kind() == PlaceKind::Coupler => rule(&[("stops", 0.93)], "nothing drives the coupling unit"),
        () => rule(&[("stops", 0.06)], "it turns on, driven by the other axle"),
    }
}

fn axle_engage(s: &Subject, end: End) -> Option<Rule> {
    let free_hubs = s.v.axle(end).is_some_and(|a| a.free_hubs);
    let on_path = s.drives(end) || s.is("hub-lock-faulty") && s.end() == Some(end);
    let needs_torque = matches!(s.load(), Load::Drive | Load::DriveCoast | Load::Part | Load::Coast) || s.shows(Shows::Event);
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.one_of(&["driveline-windup", "coupling-stuck"]) => {
            rule(&[("only-engaged", 0.93), ("only-free", 0.01)], "the axles fight each other only while they are locked")
        }
        () if on_path && s.is("hub-lock-faulty") => {
            rule(&[("only-engaged", 0.6), ("only-free", 0.1)], "its dogs are engaged then")
        }
        () if on_path && (needs_torque || free_hubs) => {
            rule(&[("only-engaged", 0.85), ("only-free", 0.02)], "that path carries torque only while engaged")
        }
        () if on_path => rule(&[("only-engaged", 0.28), ("same", 0.7)], "the shaft still turns when the transfer case lets go"),
        () if s.kind() == PlaceKind::Transfer => rule(&[("only-engaged", 0.7), ("same", 0.26)], "its front output works then"),
        () => rule(&[("only-engaged", 0.02), ("same", 0.96), ("only-free", 0.02)], "it does not lie on that path"),
    }
}

fn reindex(s: &Subject, at: &Place) -> Option<Rule> {
    let of_shaft = s.end() == at.end && s.place.is_of_shaft();
    let one_piece = at.end.and_then(|e| s.v.prop(e)).is_some_and(|p| p.sections.len() == 1);
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if of_shaft && s.one_of(&["prop-imbalance", "prop-bent"]) && (one_piece || at.id == s.place.id) => {
            rule(&[("changes", 0.65)], "turned on its flange it adds to what is left otherwise")
        }
        () if of_shaft => rule(&[("changes", 0.05)], "its place on the flange says nothing of it"),
        () => rule(&[("changes", 0.03)], "it is not of that shaft"),
    }
}

fn grease(s: &Subject, at: &Place) -> Option<Rule> {
    match () {
        () if matches!(s.manner(), Manner::Silent | Manner::Shift) => None,
        () if s.end() == at.end && s.is("joint-worn") => {
            rule(&[("cured", 0.03), ("better", 0.12)], "grease in a dry cross quietens it for a while")
        }
        () => rule(&[("cured", 0.01), ("better", 0.04)], "it takes no grease there"),
    }
}

/// The outcome of a shift that is the symptom itself.
fn shift_outcome(kind: &str) -> Option<&'static str> {
    Some(match kind {
        "hard-shift" => "hard",
        "jumps-out" => "jumps-out",
        "grind" => "grinds",
        _ => return None,
    })
}

fn shift_feel(s: &Subject, gear: &str) -> Option<Rule> {
    const OUTCOMES: [(&str, &str); 3] = [("hard-shift", "hard"), ("grind", "grinds"), ("jumps-out", "jumps-out")];
    let share = |total: f64| -> Vec<(&'static str, f64)> {
        // What the driver complains of is what comes; else by what the fault causes.
        let shares: Vec<f64> = OUTCOMES.iter().map(|(kind, _)| s.k.kind_probability(&s.f.id, &s.h.kind, kind)).collect();
        let said = OUTCOMES.iter().position(|o| Some(o.1) == shift_outcome(s.symptom)).filter(|&i| shares[i] > 0.03);
        let sum: f64 = shares.iter().sum();
        // What is complained of comes more often than the fault usually shows it.
        let of = |i: usize| match (said, shares[i] / sum.max(1e-9)) {
            (Some(j), own) if i == j => 0.5 + 0.5 * own,
            (Some(_), own) => 0.5 * own,
            (None, own) => own,
        };
        OUTCOMES.iter().enumerate().map(|(i, o)| (o.1, total * of(i))).collect()
    };
    match () {
        () if s.shows(Shows::ShiftAll) => Some(Rule { outcomes: share(0.8), why: "it is there in every gear" }),
        () if s.shows(Shows::Shift) && s.h.gear.as_deref() == Some(gear) => {
            Some(Rule { outcomes: share(0.92), why: "it is this gear" })
        }
        () if s.shows(Shows::Shift) => rule(&[("clean", 0.93)], "it is another gear"),
        () => None,
    }
}

/// What a run shows of the lines that a fault makes: outcomes of the run, how likely.
fn lines(f: &Fault) -> Vec<(&'static str, f64)> {
    let outcome = |what: What| match what {
        What::Wheel | What::HalfShaft => "wheel",
        What::InnerJoint | What::OuterJoint => "half-shaft",
        What::Prop | What::Flex => "shaft-once",
        What::PropTwice => "shaft-twice",
        What::Mesh | What::GearMesh => "mesh",
        What::BearingCage | What::BearingOuter | What::BearingInner | What::BearingElement => "bearing",
        What::EngineHalf | What::EngineFirst | What::EngineFiring => "engine",
    };
    let mut all: Vec<&'static str> = f.lines.iter().map(|l| outcome(l.what)).collect();
    all.dedup();
    // A bearing's pulses are found less often than a line.
    let found = |o: &str| if o == "bearing" { 0.5 } else { 0.85 };
    let n = all.len() as f64;
    let mut out: Vec<(&'static str, f64)> = all.iter().map(|o| (*o, found(o) / n)).collect();
    let left = 1.0 - out.iter().map(|o| o.1).sum::<f64>();
    if !out.is_empty() {
        out.push(("nothing", 0.6 * left));
    }
    out
}

fn speed_sweep(s: &Subject) -> Option<Rule> {
    if s.manner() != Manner::Steady {
        return rule(&[("nothing", 0.85)], "it makes no line");
    }
    let lines = lines(s.f);
    if lines.is_empty() && s.turns() == TurnsWith::Engine {
        return rule(&[("engine", 0.55), ("nothing", 0.3)], "it follows the engine");
    }
    if lines.is_empty() {
        return rule(&[("nothing", 0.6)], "its lines are not known, or there are none");
    }
    Some(Rule { outcomes: lines, why: "its lines at their orders" })
}

/// Whether a part that is looked at taken off shows the fault: what is adjusted, filled, fastened or sealed does not.
fn shows_when_opened(part: &str) -> bool {
    !matches!(part, "adjust" | "fluid" | "grease" | "fastening" | "seal" | "other" | "mount")
}

fn is_there(at: &Place, p: &Place) -> bool {
    super::likelihood::is_within(&at.id, &p.id)
}

fn opened_look(s: &Subject, at: &Place) -> Option<Rule> {
    match () {
        () if !is_there(at, s.place) => None,
        () if s.is("slip-dry") => rule(&[("dry", 0.8), ("water", 0.05), ("sound", 0.05)], "dry splines are seen"),
        () if s.is("joint-stiff") => {
            rule(&[("dry", 0.35), ("worn", 0.25), ("water", 0.1), ("sound", 0.2)], "dry or rusted needles are seen")
        }
        () if s.one_of(&["prop-bent", "half-shaft-bent"]) => None,
        () if !shows_when_opened(&s.f.part) => None,
        () => rule(
            &[("worn", 0.5), ("pitted", 0.25), ("dry", 0.08), ("water", 0.06), ("broken", 0.08), ("sound", 0.03)],
            "wear is seen when it is apart",
        ),
    }
}

fn bench_listen(s: &Subject, at: &Place) -> Option<Rule> {
    let turns_there = is_there(at, s.place) && s.f.part == "bearing" || is_there(at, s.place) && s.f.part == "unit" && s.rolls();
    turns_there.then(|| rule(&[("rough", 0.93)], "a worn bearing is rough by hand")).flatten()
}

/// Tags of the work that is done at a unit.
fn work_at(at: &Place) -> &'static [&'static str] {
    match at.kind {
        _ if at.is_of_shaft() => &["shaft-changed", "joints-changed", "earlier-work"],
        PlaceKind::Gearbox => &["gearbox-changed", "mount-changed", "fluid-changed", "earlier-work"],
        PlaceKind::Transfer | PlaceKind::Coupler => &["gearbox-changed", "fluid-changed", "earlier-work"],
        _ => &["axle-work", "ratio-changed", "fluid-changed", "earlier-work"],
    }
}

/// Whether work at a place is work at the unit to which the other belongs.
fn same_unit(at: &Place, p: &Place) -> bool {
    use PlaceKind as K;
    match at.kind {
        _ if at.is_of_shaft() => p.is_of_shaft() && p.end == at.end,
        K::Diff => p.end == at.end && matches!(p.kind, K::Diff | K::HalfInner) || p.id == "mount.diff",
        K::Gearbox => {
            matches!(p.kind, K::Gearbox | K::Clutch) || p.id == "mount.gearbox" || p.kind == K::Joint && p.number == Some(1)
        }
        K::Half => at.corner == p.corner && matches!(p.kind, K::Half | K::HalfInner | K::HalfOuter | K::Hub),
        _ => at.kind == p.kind,
    }
}

/// How many times work must make a fault likelier for traces of it to speak of the fault.
const MADE_BY_WORK_FACTOR: f64 = 8.0;

fn earlier_work(s: &Subject, at: &Place) -> Option<Rule> {
    let made = |tag: &&str| s.f.made_by_work || s.f.history.get(*tag).is_some_and(|x| *x >= MADE_BY_WORK_FACTOR);
    let can_make = work_at(at).iter().any(|tag| s.f.history.contains_key(*tag) && made(tag));
    (can_make && same_unit(at, s.place)).then(|| rule(&[("traces", 0.8)], "such work can cause it")).flatten()
}
