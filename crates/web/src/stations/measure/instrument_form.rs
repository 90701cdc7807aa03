//! Forms of the instruments that are read at Measure, one for each; [`FORMS`] is the registry.

use super::angle_gauge::ANGLE_GAUGE;
use super::dial::DIAL;
use crate::stations::form::FormFields;
use askama::Template;
use baricord_core::case::Case;
use baricord_core::error::{Finding, Level, Problem};
use baricord_core::measure::instrument::Reading;
use baricord_core::vehicle::Vehicle;

/// What a form is drawn for.
pub(super) struct FormContext<'a> {
    pub case: &'a Case,
    /// The measuring point.
    pub at: &'a str,
    /// The last reading there.
    pub earlier: Option<Reading>,
    /// The symptom that the page is about.
    pub symptom: Option<&'a str>,
    /// Where the form is sent; `/answer` behind it works it out without keeping it.
    pub href: String,
}

/// What is typed for an instrument, and what it says at once.
pub(super) struct InstrumentForm {
    /// The instrument of the core that it belongs to.
    pub instrument: &'static str,
    /// What stands on the button.
    pub save_words: &'static str,
    /// The fields with the answer to what was read last.
    pub form: fn(&FormContext) -> Result<String, Problem>,
    /// The reading from what was typed at a point; errors name the field.
    pub input: fn(&Vehicle, &str, &FormFields) -> Result<Reading, Problem>,
    /// The answer to what is typed so far, an element of the page.
    pub answer: fn(&Vehicle, &str, &FormFields) -> Result<String, Problem>,
}

/// A form for each instrument whose readings are measurements.
pub(super) const FORMS: &[&InstrumentForm] = &[&DIAL, &ANGLE_GAUGE];

/// The form of an instrument.
pub(super) fn form_of(instrument: &str) -> Option<&'static InstrumentForm> {
    FORMS.iter().find(|f| f.instrument == instrument).copied()
}

/// A template as a string.
pub(super) fn rendered(t: &impl Template) -> Result<String, Problem> {
    t.render().map_err(|e| Problem::new("template", e.to_string()))
}

/// A finding with the class that shows how weighty it is.
pub(super) fn finding_line(f: &Finding) -> (String, &'static str) {
    let class = match f.level {
        Level::Over => "over",
        Level::Warn => "better",
        Level::Info => "remark",
    };
    (f.message.clone(), class)
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::measure::instrument::{INSTRUMENTS, InstrumentKind};

    #[test]
    fn every_instrument_that_keeps_measurements_has_its_form() {
        let measured = INSTRUMENTS.iter().filter(|i| i.kind == InstrumentKind::Measurement);
        assert!(measured.clone().count() > 0);
        for i in measured {
            assert!(form_of(i.id).is_some(), "{}", i.id);
        }
    }
}
