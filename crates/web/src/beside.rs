//! Beside the search for the cause: may it be driven, and what was found on the way. Both stand on every page of a case.

use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may_write};
use crate::stations::fields::Fields;
use axum::extract::Path;
use axum::response::Redirect;
use axum::routing::post;
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::entries::append;
use baricord_core::problem::Problem;
use baricord_core::progress::Station;
use baricord_core::release::{Drive, Found, Statement, found, statement};
use serde_json::{Value, json};
use uuid::Uuid;

/// What stands on every page of a case.
#[derive(Default)]
pub struct Beside {
    /// Not to be driven, or only so far: in words, why, who says so.
    pub warning: Option<(String, String, String)>,
    /// The last statement, in words, whatever it says.
    pub said: String,
    /// What was found on the way: which, what, where in words.
    pub found: Vec<(usize, String, String)>,
    /// What was found and has been put right.
    pub settled: Vec<String>,
    /// Places to choose from.
    pub places: Vec<(String, String)>,
}

impl Beside {
    /// Of a case.
    pub fn of(case: &Case, document: &Value) -> Self {
        let said = statement(document);
        let all = found(document);
        Self {
            warning: said.as_ref().filter(|s| s.drive != Drive::Yes).map(|s| (s.words(), s.reason.clone(), s.by.clone())),
            said: said.map_or(String::new(), |s| format!("{}: {} ({})", s.words(), s.reason, s.by)),
            found: all
                .iter()
                .filter(|(_, f)| !f.settled)
                .map(|(i, f)| (*i, f.what.clone(), f.at.as_deref().map_or(String::new(), |a| case.vehicle.place_words(a))))
                .collect(),
            settled: all.iter().filter(|(_, f)| f.settled).map(|(_, f)| f.what.clone()).collect(),
            places: case.vehicle.places().into_iter().map(|p| (p.id, p.words)).collect(),
        }
    }
}

fn back(id: Uuid, f: &Fields) -> Redirect {
    let station = f.text("back").filter(|b| Station::PAGES.iter().any(|s| s.id() == *b)).unwrap_or("decide");
    Redirect::to(&format!("/cases/{id}/{station}?s={}", f.text("symptom").unwrap_or_default()))
}

/// Longest sentence that is taken.
const LONGEST: usize = 400;

/// A statement on driving.
async fn say(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let drive = Drive::named(f.need("drive", "whether it may be driven")?);
    let drive = drive.ok_or_else(|| Problem::new("bad-value", "not at all, so far, or safe?").field("drive"))?;
    let limit = |field: &str| if drive == Drive::Limited { f.float(field) } else { Ok(None) };
    let s = Statement {
        drive,
        reason: f.sentence("reason", "the reason", LONGEST)?.into(),
        km: limit("km")?,
        kmh: limit("kmh")?,
        by: m.person.name.clone(),
    };
    s.check()?;
    let mut scope = m.scope().await?;
    scope
        .edit_case(id, None, &format!("{}: {}", s.words(), s.reason), &m.person.name, |d| {
            append(d, "safety", json!(s));
            Ok(())
        })
        .await?;
    scope.commit().await?;
    Ok(back(id, &f))
}

/// Something found on the way.
async fn find(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let one = Found {
        what: f.sentence("what", "what was found", LONGEST)?.into(),
        at: f.text("at").map(String::from),
        by: m.person.name.clone(),
        settled: false,
    };
    let mut s = m.scope().await?;
    s.edit_case(id, None, &format!("found on the way: {}", one.what), &m.person.name, |d| {
        if let Some(at) = &one.at
            && Case::from_json(d)?.vehicle.place(at).is_none()
        {
            return Err(Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at"));
        }
        append(d, "found", json!(one));
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Something found has been put right.
async fn settle(m: Member, Path((id, i)): Path<(Uuid, usize)>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, "found on the way: put right", &m.person.name, |d| {
        match d["found"].get_mut(i).filter(|one| one.is_object()) {
            Some(one) => one["settled"] = true.into(),
            None => return Err(Problem::new("missing", "this is not there any more")),
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &Fields(f)))
}

/// Routes of what stands beside.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/safety", post(say))
        .route("/cases/{id}/found", post(find))
        .route("/cases/{id}/found/{i}/settled", post(settle))
}
