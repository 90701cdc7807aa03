//! What a form sent, read with names for errors.

use crate::App;
use crate::auth::{Member, may_write};
use crate::reader_units::was;
use axum::Form;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::response::{IntoResponse, Response};
use baricord_core::error::Problem;
use baricord_core::typed_input::{Length, length_mm, odometer_km};
use baricord_core::units::{Millimetres, Unit, UnitSystem, amount, field_unit};
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use uuid::Uuid;

/// A form that somebody sent who may change cases: member, the values in its address, its fields. Whoever may not is refused before
/// the form is read.
pub struct Posted<P = Uuid> {
    pub member: Member,
    pub path: P,
    pub form: FormFields,
}

impl<P: DeserializeOwned + Send> FromRequest<App> for Posted<P> {
    type Rejection = Response;

    async fn from_request(request: Request, app: &App) -> Result<Self, Response> {
        let (mut parts, body) = request.into_parts();
        let member = Member::from_request_parts(&mut parts, app).await.map_err(IntoResponse::into_response)?;
        may_write(&member).map_err(IntoResponse::into_response)?;
        let Path(path) = Path::<P>::from_request_parts(&mut parts, app).await.map_err(IntoResponse::into_response)?;
        let form = Form::<Vec<(String, String)>>::from_request(Request::from_parts(parts, body), app).await;
        let Form(fields) = form.map_err(IntoResponse::into_response)?;
        Ok(Self { form: FormFields::of(&member, fields), member, path })
    }
}

/// The fields of a form, in its order, and the units in which it was typed.
pub struct FormFields {
    pub fields: Vec<(String, String)>,
    pub units: UnitSystem,
    /// Amounts that were read from it, by field, with their unit.
    read: Mutex<BTreeMap<String, String>>,
}

impl FormFields {
    /// What somebody typed, in their units.
    pub fn of(member: &Member, fields: Vec<(String, String)>) -> Self {
        Self { fields, units: member.units(), read: Mutex::default() }
    }
    /// What was not typed by anybody who chose units.
    pub fn metric(fields: Vec<(String, String)>) -> Self {
        Self { fields, units: UnitSystem::Metric, read: Mutex::default() }
    }
    /// Remembers an amount as it was typed; a plain metric one is kept by the act as it is.
    fn note(&self, name: &str, text: &str, plain: Option<Unit>) {
        if plain.is_some_and(|u| u.system() != Some(UnitSystem::Imperial)) {
            return;
        }
        let words = plain.map_or_else(|| text.to_string(), |u| format!("{text} {}", u.symbol()));
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let said = read.entry(name.into()).or_default();
        if !said.is_empty() {
            said.push_str("; ");
        }
        said.push_str(&words);
    }
    /// The amounts that were read from it as they were typed, with their unit.
    pub fn as_typed(&self) -> BTreeMap<String, String> {
        self.read.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
    /// A value that a page showed in the reader's units and that came back as it was.
    fn untouched(&self, name: &str, text: &str) -> Option<f64> {
        let was = was(name);
        let all = self.fields.iter().filter(|(k, _)| *k == was).filter_map(|(_, v)| v.split_once('='));
        all.filter(|(_, shown)| *shown == text).find_map(|(base, _)| base.parse().ok())
    }
    /// An amount that was typed into a field, in a metric unit. A plain number is in the unit that the field showed.
    pub fn typed(&self, name: &str, text: &str, metric: Unit) -> Result<f64, Problem> {
        if let Some(x) = self.untouched(name, text) {
            return Ok(x);
        }
        let plain = field_unit(metric, false, self.units);
        let typed = amount(text, plain, name)?;
        self.note(name, text, typed.unit.is_none().then_some(plain));
        Ok(metric.from_base(typed.value))
    }
    /// The same of a field by its name.
    pub fn amount(&self, name: &str, metric: Unit) -> Result<Option<f64>, Problem> {
        self.text(name).map(|t| self.typed(name, t, metric)).transpose()
    }
    /// A length that was typed into a field, mm; one that is likely meant in another unit is asked about.
    pub fn typed_length(&self, name: &str, text: &str, what: Length) -> Result<Millimetres, Problem> {
        if let Some(mm) = self.untouched(name, text) {
            return Ok(Millimetres(mm));
        }
        let mm = length_mm(text, what, self.units, name)?;
        let plain = field_unit(Unit::Millimetre, what == Length::Dial, self.units);
        self.note(name, text, amount(text, plain, name)?.unit.is_none().then_some(plain));
        Ok(Millimetres(mm))
    }
    /// A field's text, trimmed; none when it is empty.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.fields.iter().find(|(k, _)| k == name).map(|(_, v)| v.trim()).filter(|v| !v.is_empty())
    }
    /// All values of a field that may come several times.
    pub fn all(&self, name: &str) -> Vec<String> {
        self.fields.iter().filter(|(k, v)| k == name && !v.trim().is_empty()).map(|(_, v)| v.trim().to_string()).collect()
    }
    /// A number; a decimal comma is understood.
    pub fn number(&self, name: &str) -> Result<Option<f64>, Problem> {
        self.text(name).map(|t| number_of(t, name)).transpose()
    }
    /// A count.
    pub fn count(&self, name: &str) -> Result<Option<u32>, Problem> {
        self.text(name).map(|t| count_of(t, name)).transpose()
    }
    /// What a vehicle has run, km, as people write it.
    pub fn odometer(&self, name: &str) -> Result<Option<f64>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        if let Some(km) = self.untouched(name, t) {
            return Ok(Some(km));
        }
        let bad = || Problem::new("bad-number", format!("“{t}” is no distance: “91 000 km”, or “56 500 mi”")).field(name);
        odometer_km(t, self.units).map(Some).ok_or_else(bad)
    }
    /// A length in mm; one that is likely meant in inches is asked about.
    pub fn length(&self, name: &str, what: Length) -> Result<Option<Millimetres>, Problem> {
        self.text(name).map(|t| self.typed_length(name, t, what)).transpose()
    }
    /// A text as an act holds it.
    pub fn owned(&self, name: &str) -> Option<String> {
        self.text(name).map(String::from)
    }
    /// Whether a field came with the form, empty or not.
    pub fn came(&self, name: &str) -> bool {
        self.fields.iter().any(|(k, _)| k == name)
    }
    /// A field that must be there.
    pub fn need(&self, name: &str, what: &str) -> Result<&str, Problem> {
        self.text(name).ok_or_else(|| Problem::new("missing", format!("{what} is missing")).field(name))
    }
    /// A text that must be there and has up to so many characters.
    pub fn sentence(&self, name: &str, what: &str, most: usize) -> Result<&str, Problem> {
        let text = self.need(name, what)?;
        if text.chars().count() > most {
            return Err(Problem::new("too-long", format!("say it in {most} characters")).field(name));
        }
        Ok(text)
    }
    /// The id of the edit that the form is, by which one that is sent twice is kept once.
    pub fn edit_id(&self) -> Result<Option<Uuid>, Problem> {
        let bad = |_| Problem::new("bad-id", "the id of an edit is a UUID of version 7").field("edit");
        self.text("edit").map(|t| t.parse().map_err(bad)).transpose()
    }
    /// The version of the case that the form was made on.
    pub fn version(&self) -> Option<i32> {
        self.text("version").and_then(|v| v.parse().ok())
    }
}

/// A number of a field.
pub fn number_of(t: &str, name: &str) -> Result<f64, Problem> {
    parse_number(t).ok_or_else(|| Problem::new("bad-number", format!("“{t}” is not a number")).field(name))
}

/// A count of a field.
pub fn count_of(t: &str, name: &str) -> Result<u32, Problem> {
    let x = number_of(t, name)?;
    match x.fract() == 0.0 && (0.0..=f64::from(u32::MAX)).contains(&x) {
        true => Ok(x as u32),
        false => Err(Problem::new("bad-number", format!("“{x}” is no count: a whole number")).field(name)),
    }
}

/// A number as people type it.
pub fn parse_number(t: &str) -> Option<f64> {
    let t = t.trim().replace(',', ".");
    t.strip_prefix('+').unwrap_or(&t).parse::<f64>().ok().filter(|x| x.is_finite())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_typed_and_named_when_bad() {
        let f = FormFields::metric(vec![
            ("a".into(), " 2,50 ".into()),
            ("b".into(), "x".into()),
            ("c".into(), String::new()),
            ("d".into(), "70".into()),
        ]);
        assert_eq!(f.number("a").unwrap(), Some(2.5));
        assert_eq!(f.number("b").unwrap_err().field.as_deref(), Some("b"));
        assert_eq!(f.number("c").unwrap(), None);
        assert_eq!((f.count("d").unwrap(), f.count("a").unwrap_err().field.as_deref()), (Some(70), Some("a")));
    }

    #[test]
    fn what_was_typed_in_inches_is_kept_so_and_what_nobody_touched_stays_exactly() {
        let fields = [("l", "46 1/4"), ("od", "3"), ("was.od", "76.5=3"), ("t", "55 N·m"), ("v", "55")];
        let f = FormFields {
            units: UnitSystem::Imperial,
            ..FormFields::metric(fields.map(|(k, v)| (k.to_string(), v.to_string())).to_vec())
        };
        assert_eq!(f.length("l", Length::Section).unwrap(), Some(Millimetres(1174.75)));
        assert_eq!(f.length("od", Length::Tube).unwrap(), Some(Millimetres(76.5)));
        assert_eq!(f.amount("t", Unit::NewtonMetre).unwrap(), Some(55.0));
        assert!((f.amount("v", Unit::KilometrePerHour).unwrap().unwrap() - 88.513_92).abs() < 1e-9);
        let kept: Vec<(String, String)> = f.as_typed().into_iter().collect();
        let want = [("l", "46 1/4 in"), ("t", "55 N·m"), ("v", "55 mph")].map(|(k, v)| (k.to_string(), v.to_string()));
        assert_eq!(kept, want);
    }
}
