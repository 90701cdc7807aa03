//! What a form sent, read with names for errors; and small changes to a document.

use crate::App;
use crate::auth::{Member, may_write};
use axum::Form;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::response::{IntoResponse, Response};
use baricord_core::error::Problem;
use baricord_core::typed_input::{Length, length_mm, odometer_km};
use serde::de::DeserializeOwned;
use serde_json::{Number, Value};
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
    /// A number, kept as it was typed; a decimal comma is understood.
    pub fn number(&self, name: &str) -> Result<Option<Number>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        parse_number(t).map(Some).ok_or_else(|| Problem::new("bad-number", format!("“{t}” is not a number")).field(name))
    }
    /// A number for arithmetic.
    pub fn float(&self, name: &str) -> Result<Option<f64>, Problem> {
        Ok(self.number(name)?.and_then(|n| n.as_f64()))
    }
    /// What a vehicle has run, km, as people write it.
    pub fn odometer(&self, name: &str) -> Result<Option<Number>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        let bad = || Problem::new("bad-number", format!("“{t}” is no distance in km")).field(name);
        let km = odometer_km(t).ok_or_else(bad)?;
        let whole = (km.fract() == 0.0).then_some(km as i64).map(Number::from);
        whole.or_else(|| Number::from_f64(km)).map(Some).ok_or_else(bad)
    }
    /// A length in mm; one that is likely meant in inches is asked about.
    pub fn length(&self, name: &str, what: Length) -> Result<Option<Number>, Problem> {
        let Some(t) = self.text(name) else { return Ok(None) };
        let mm = length_mm(t, what, name)?;
        // As it was typed, where it was typed in mm.
        Ok(parse_number(t).or_else(|| Number::from_f64(mm)))
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
    /// The mark by which an answer that is sent twice is kept once.
    pub fn mark(&self) -> Result<Option<&str>, Problem> {
        match self.text("mark") {
            Some(m) if m.len() > 64 => Err(Problem::new("too-long", "a mark has up to 64 characters").field("mark")),
            m => Ok(m),
        }
    }
    /// The version of the case that the form was made on.
    pub fn version(&self) -> Option<i32> {
        self.text("version").and_then(|v| v.parse().ok())
    }
}

/// A number as people type it.
pub fn parse_number(t: &str) -> Option<Number> {
    let t = t.trim().replace(',', ".");
    let t = t.strip_prefix('+').unwrap_or(&t);
    if let Ok(i) = t.parse::<i64>() {
        return Some(i.into());
    }
    Number::from_f64(t.parse::<f64>().ok()?)
}

/// The first free id of a kind: S1, S2 …
pub fn free_id(document: &Value, list: &str, letter: char) -> String {
    let taken: Vec<&str> = document
        .get(list)
        .and_then(Value::as_array)
        .map(|a| a.iter().filter_map(|x| x["id"].as_str()).collect())
        .unwrap_or_default();
    (1..).map(|i| format!("{letter}{i}")).find(|id| !taken.contains(&id.as_str())).unwrap_or_default()
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
        assert_eq!(f.float("a").unwrap(), Some(2.5));
        assert_eq!(f.number("b").unwrap_err().field.as_deref(), Some("b"));
        assert_eq!(f.number("c").unwrap(), None);
        assert_eq!(f.number("d").unwrap().unwrap().to_string(), "70");
    }

    #[test]
    fn ids_go_on_where_there_is_room() {
        let d = serde_json::json!({"symptoms": [{"id": "S1"}, {"id": "S3"}]});
        assert_eq!(free_id(&d, "symptoms", 'S'), "S2");
    }
}
