//! What a form sent, read with names for errors.

use crate::App;
use crate::auth::{Member, may_write};
use axum::Form;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::response::{IntoResponse, Response};
use baricord_core::error::Problem;
use baricord_core::typed_input::{Length, length_mm, odometer_km};
use baricord_core::units::Millimetres;
use serde::de::DeserializeOwned;
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
        Ok(Self { member, path, form: FormFields(fields) })
    }
}

/// The fields of a form, in its order.
pub struct FormFields(pub Vec<(String, String)>);

impl FormFields {
    /// A field's text, trimmed; none when it is empty.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(k, _)| k == name).map(|(_, v)| v.trim()).filter(|v| !v.is_empty())
    }
    /// All values of a field that may come several times.
    pub fn all(&self, name: &str) -> Vec<String> {
        self.0.iter().filter(|(k, v)| k == name && !v.trim().is_empty()).map(|(_, v)| v.trim().to_string()).collect()
    }
    /// A number; a decimal comma is understood.
    pub fn number(&self, name: &str) -> Result<Option<f64>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        parse_number(t).map(Some).ok_or_else(|| Problem::new("bad-number", format!("“{t}” is not a number")).field(name))
    }
    /// A count.
    pub fn count(&self, name: &str) -> Result<Option<u32>, Problem> {
        let Some(x) = self.number(name)? else { return Ok(None) };
        match x.fract() == 0.0 && (0.0..=f64::from(u32::MAX)).contains(&x) {
            true => Ok(Some(x as u32)),
            false => Err(Problem::new("bad-number", format!("“{x}” is no count: a whole number")).field(name)),
        }
    }
    /// What a vehicle has run, km, as people write it.
    pub fn odometer(&self, name: &str) -> Result<Option<f64>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        let bad = || Problem::new("bad-number", format!("“{t}” is no distance in km")).field(name);
        odometer_km(t).map(Some).ok_or_else(bad)
    }
    /// A length in mm; one that is likely meant in inches is asked about.
    pub fn length(&self, name: &str, what: Length) -> Result<Option<Millimetres>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        Ok(Some(Millimetres(length_mm(t, what, name)?)))
    }
    /// A text as an act holds it.
    pub fn owned(&self, name: &str) -> Option<String> {
        self.text(name).map(String::from)
    }
    /// Whether a field came with the form, empty or not.
    pub fn came(&self, name: &str) -> bool {
        self.0.iter().any(|(k, _)| k == name)
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
        let f = FormFields(vec![
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
}
