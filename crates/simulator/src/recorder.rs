//! The stand-in of a road recorder: a simulated vehicle, driver and road behind the instrument's face.

use crate::{FaultSpec, KINDS, RunPlan, run};
use baricord_core::drive::coach::Leg;
use baricord_core::drive::recorder::{Reading, RecorderChannel, RoadRecorder};
use baricord_core::error::Problem;
use baricord_core::reasoning::hypotheses;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::signal::Samples;
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::Vehicle;
use serde::{Deserialize, Serialize};

/// Samples a second.
const RATE: f64 = 400.0;
/// How fast a patient driver goes through a run, of what is just slow enough.
const PATIENT: f64 = 0.6;
/// How fast a hasty one does at first.
const HASTY: f64 = 5.0;
/// Of a leg's time, what the drive stands at either end.
const HELD: f64 = 0.9;

/// What the stand-in drives.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StandInSetup {
    /// The fault: one by name, `hidden` for one drawn by the seed, none for a sound vehicle.
    pub fault: Option<String>,
    /// A rough road in place of a smooth one.
    pub rough: bool,
    /// A driver who rushes through a run at first.
    pub hasty: bool,
    /// For chance.
    pub seed: u64,
}

impl StandInSetup {
    /// The faults that it stands for on a vehicle.
    pub fn faults(&self, v: &Vehicle) -> Result<Vec<FaultSpec>, Problem> {
        match self.fault.as_deref() {
            None => Ok(vec![]),
            Some("hidden") => Ok(hidden(v, self.seed).into_iter().collect()),
            Some(named) => Ok(vec![named.parse().map_err(|p: Problem| p.field("fault"))?]),
        }
    }
}

/// A fault drawn by chance among those that this vehicle can have and the simulator can make.
fn hidden(v: &Vehicle, seed: u64) -> Option<FaultSpec> {
    let felt = |id: &str| KINDS.iter().any(|k| k.id == id && !k.is_heard);
    let may: Vec<_> = hypotheses(v, builtin()).into_iter().filter(|h| felt(&h.fault)).collect();
    let mut noise = crate::noise::Noise::new(seed ^ 0x51de);
    let severity = 0.45 + 0.5 * noise.uniform();
    let i = (noise.uniform() * may.len() as f64) as usize;
    may.get(i).map(|h| FaultSpec { fault: h.fault.clone(), at: h.at.clone(), severity })
}

/// A road recorder that is only simulated.
pub struct StandIn {
    vehicle: Vehicle,
    setup: StandInSetup,
    faults: Vec<FaultSpec>,
    channels: [RecorderChannel; 1],
    legs: u64,
    now: Option<(Samples, f64)>,
}

impl StandIn {
    /// One in a vehicle.
    pub fn new(vehicle: Vehicle, setup: StandInSetup) -> Result<Self, Problem> {
        let faults = setup.faults(&vehicle)?;
        let channels =
            [RecorderChannel { name: "az".into(), quantity: baricord_core::signal::Quantity::Acceleration, unit: "m/s2".into() }];
        Ok(Self { vehicle, setup, faults, channels, legs: 0, now: None })
    }

    /// How long this driver takes for a leg that needs so many seconds at least.
    fn takes(&self, least: f64) -> f64 {
        // A hasty driver rushes through the first run, and goes slowly when asked again.
        let pace = if self.setup.hasty && self.legs == 0 { HASTY } else { PATIENT };
        (least / pace / HELD).max(12.0)
    }
}

impl RoadRecorder for StandIn {
    fn rate(&self) -> Hz {
        Hz(RATE)
    }

    fn channels(&self) -> &[RecorderChannel] {
        &self.channels
    }

    fn begin(&mut self, leg: &Leg) -> Result<(), Problem> {
        let least = leg.least_time(self.vehicle.circumference()?).get();
        let (from, to) = (leg.from.get(), leg.to.get());
        let away = if to > from { 4.0 } else { -4.0 };
        let plan = RunPlan {
            gear: leg.gear.clone(),
            from_kmh: (from - away).max(5.0),
            to_kmh: to + away,
            load: leg.throttle.clone(),
            seconds: self.takes(least).clamp(12.0, 600.0),
            rate_hz: RATE,
            rough: if self.setup.rough { 2.2 } else { 1.0 },
            seed: self.setup.seed.wrapping_mul(1009).wrapping_add(self.legs),
            ..RunPlan::default()
        };
        let (samples, _) = run(&self.vehicle, &self.faults, &plan)?;
        self.legs += 1;
        self.now = Some((samples, 0.0));
        Ok(())
    }

    fn read(&mut self, span: Seconds) -> Result<Option<Reading>, Problem> {
        let Some((s, at)) = &mut self.now else { return Ok(None) };
        let (from, to) = (*at, (*at + span.get()).min(s.duration().get()));
        if from >= s.duration().get() - 1e-9 {
            self.now = None;
            return Ok(None);
        }
        let (a, b) = ((from * RATE).round() as usize, (to * RATE).round() as usize);
        let mut samples = vec![];
        for c in &s.channels {
            let mut row = vec![0.0; b - a];
            c.data.read(a, &mut row)?;
            samples.push(row);
        }
        let speed = s.speed.iter().copied().filter(|r| r.0 >= from && r.0 < to).collect();
        *at = to;
        Ok(Some(Reading { samples, speed }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::units::KilometresPerHour;
    use baricord_core::vehicle::sample::{every_layout, rear_drive};

    fn leg() -> Leg {
        Leg { gear: Some("5".into()), from: KilometresPerHour(70.0), to: KilometresPerHour(110.0), throttle: "drive".into() }
    }
    fn setup(fault: Option<&str>, hasty: bool) -> StandInSetup {
        StandInSetup { fault: fault.map(String::from), rough: false, hasty, seed: 7 }
    }
    fn whole(r: &mut dyn RoadRecorder, leg: &Leg, span: f64) -> Reading {
        r.begin(leg).unwrap();
        let mut out = Reading { samples: vec![vec![]], speed: vec![] };
        while let Some(p) = r.read(Seconds(span)).unwrap() {
            out.samples[0].extend(&p.samples[0]);
            out.speed.extend(p.speed);
        }
        out
    }

    #[test]
    fn it_streams_the_same_run_in_pieces_of_any_length() {
        let go = |span| {
            whole(&mut StandIn::new(rear_drive(2), setup(Some("prop-imbalance@prop.rear.s2"), false)).unwrap(), &leg(), span)
        };
        let (a, b) = (go(0.25), go(3.7));
        assert!(a == b && a.samples[0].len() > 4000 && a.speed.len() > 10);
        assert!(a.speed.iter().all(|r| r.1 > 15.0));
    }

    #[test]
    fn a_hasty_driver_rushes_at_first_and_a_patient_one_never() {
        let seconds = |hasty| {
            let mut r = StandIn::new(rear_drive(2), setup(None, hasty)).unwrap();
            let first = whole(&mut r, &leg(), 1.0).samples[0].len();
            let again = Leg { from: KilometresPerHour(85.0), ..leg() };
            (first, whole(&mut r, &again, 1.0).samples[0].len())
        };
        let ((quick, slow), (patient, _)) = (seconds(true), seconds(false));
        assert!(patient > 2 * quick && slow > quick / 2, "{quick} {slow} {patient}");
    }

    #[test]
    fn a_hidden_fault_can_be_made_on_every_layout_and_follows_the_seed() {
        let mut seen = vec![];
        for v in every_layout() {
            for seed in 0..6 {
                let s = StandInSetup { seed, ..setup(Some("hidden"), false) };
                let f = s.faults(&v).unwrap();
                assert_eq!(f.len(), 1, "{}", v.name);
                assert_eq!(f, s.faults(&v).unwrap());
                let gear = v.gearbox.gears.last().map(|g| g.name.clone());
                let mut r = StandIn::new(v.clone(), s).unwrap();
                r.begin(&Leg { gear, ..leg() }).unwrap();
                seen.push(f[0].fault.clone());
            }
        }
        seen.sort();
        seen.dedup();
        assert!(seen.len() >= 4, "{seen:?}");
        assert!(setup(Some("no-such-fault@x"), false).faults(&rear_drive(1)).is_err());
    }
}
