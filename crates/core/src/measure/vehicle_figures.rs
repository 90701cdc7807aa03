//! What a vehicle's numbers come to at one road speed: shown beside the numbers while they are typed.

use crate::error::Problem;
use crate::measure::critical_speed::{CriticalSpeedInput, critical_speed};
use crate::units::{Hz, KilometresPerHour, Rpm};
use crate::vehicle::{End, Vehicle};

/// One section of a shaft as a beam.
#[derive(Clone, Debug, PartialEq)]
pub struct SectionFigures {
    /// Highest shaft speed allowed by its first bending.
    pub limit_rpm: Rpm,
    /// The road speed at which it turns so fast; none where the gear does not say.
    pub limit_kmh: Option<KilometresPerHour>,
}

/// No vehicle of the trade goes so fast.
const FASTEST: KilometresPerHour = KilometresPerHour(240.0);

impl SectionFigures {
    /// Whether no road speed comes near the limit.
    pub fn is_far_off(&self) -> bool {
        self.limit_kmh.is_some_and(|v| v > FASTEST)
    }
}

/// One shaft.
#[derive(Clone, Debug, PartialEq)]
pub struct PropFigures {
    /// To which axle.
    pub end: End,
    /// How fast it turns; none where the gear does not say.
    pub rpm: Option<Rpm>,
    /// Its sections, from the gearbox on; none where a section cannot be worked out.
    pub sections: Vec<Option<SectionFigures>>,
}

/// A vehicle at one road speed.
#[derive(Clone, Debug, PartialEq)]
pub struct Figures {
    /// How fast its wheels turn.
    pub wheel_hz: Hz,
    /// The axles that have a ratio.
    pub ratios: Vec<(End, f64)>,
    /// The engine (or motor) in its highest gear.
    pub engine_rpm: Option<Rpm>,
    /// Its shafts.
    pub props: Vec<PropFigures>,
}

impl Vehicle {
    /// What the numbers come to at a road speed in the last gear.
    pub fn figures_at(&self, speed: KilometresPerHour) -> Result<Figures, Problem> {
        let wheel_hz = self.wheel_hz(speed)?;
        let gear = self.gearbox.gears.last().map(|g| g.name.as_str());
        let rpm = |turns: f64| Hz(wheel_hz.get() * turns).to_rpm();
        let mut props = vec![];
        for p in &self.props {
            let turns = self.prop_per_wheel(p, gear, None)?.map(|o| o.get());
            let sections = p.sections.iter().map(|s| {
                let input = CriticalSpeedInput { section: s.clone(), max_rpm: None, limits: self.limits.clone() };
                let limit_rpm = critical_speed(&input).ok()?.limit_rpm;
                let limit_kmh = turns.map(|t| KilometresPerHour(speed.get() * limit_rpm.get() / rpm(t).get()));
                Some(SectionFigures { limit_rpm, limit_kmh })
            });
            props.push(PropFigures { end: p.end, rpm: turns.map(rpm), sections: sections.collect() });
        }
        Ok(Figures {
            wheel_hz,
            ratios: self.axles.iter().filter_map(|a| Some((a.end, self.final_ratio(a.end)?))).collect(),
            engine_rpm: self.engine_per_wheel(gear, None)?.map(|e| rpm(e.get())),
            props,
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::units::KilometresPerHour;
    use crate::vehicle::sample::{every_layout, rear_drive};

    #[test]
    fn a_shaft_reaches_its_limit_in_proportion_to_road_speed() {
        let v = rear_drive(1);
        let (a, b) = (v.figures_at(KilometresPerHour(100.0)).unwrap(), v.figures_at(KilometresPerHour(50.0)).unwrap());
        let limit = |f: &super::Figures| f.props[0].sections[0].as_ref().unwrap().limit_kmh.unwrap().get();
        assert!((limit(&a) - limit(&b)).abs() < 1e-9);
        assert!((a.props[0].rpm.unwrap().get() / b.props[0].rpm.unwrap().get() - 2.0).abs() < 1e-12);
        // The limit read back at its own speed is the shaft's speed there.
        let there = v.figures_at(KilometresPerHour(limit(&a))).unwrap();
        let section = there.props[0].sections[0].as_ref().unwrap();
        assert!((there.props[0].rpm.unwrap().get() - section.limit_rpm.get()).abs() < 1e-6);
    }

    #[test]
    fn every_layout_has_figures() {
        for v in every_layout() {
            let f = v.figures_at(KilometresPerHour(80.0)).unwrap();
            assert_eq!(f.props.len(), v.props.len());
            assert!(f.wheel_hz.get() > 5.0);
        }
    }
}
