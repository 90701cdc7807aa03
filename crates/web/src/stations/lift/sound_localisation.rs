//! Listening at several places: levels laid on the drawing, and two sounds compared without knowing which is which.

use crate::App;
use crate::auth::Member;
use crate::edits::{keep, keep_now};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::{FormFields, Posted};
use crate::stations::test_cards::{CautionView, cautions};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::{Attachment, Case, LevelUnit};
use baricord_core::edit::act::{CaseAct, ComparedSounds, Levels};
use baricord_core::error::Problem;
use baricord_core::lift::sound_localisation::{Level, heard, level_sounds, loudest, new_levels, to_compare};
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::safety::cautions::{RunningCheck, running_checks};
use baricord_core::workflow::Station;
use uuid::Uuid;

/// A place that can be listened at.
struct Place {
    id: String,
    words: String,
    level: String,
    bar: f64,
    sounds: Vec<String>,
}

/// The loudest so far.
struct First {
    at: String,
    words: String,
    why: String,
    clear: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "lift/sound_localisation.html")]
struct ListeningPage {
    f: Frame,
    places: Vec<Place>,
    unit: &'static str,
    first: Option<First>,
    /// Two sounds to compare: their files, of places that are not named.
    pair: Option<(String, String)>,
    cautions: Vec<CautionView>,
    /// What must be ticked before wheels turn under power.
    checks: Vec<RunningCheck>,
    most: usize,
    /// The test that the loudest place answers.
    test: String,
}

/// The two sounds that this person compares next, first or second by chance.
fn pair(case: &Case, person: &str) -> Option<(String, String)> {
    let all: Vec<(String, String)> =
        level_sounds(case, builtin()).map(|p| (p.file.clone(), p.at.clone().unwrap_or_default())).collect();
    let (a, b) = to_compare(&all, &case.compared, person)?;
    let (a, b) = if Uuid::new_v4().as_u128() & 1 == 0 { (a, b) } else { (b, a) };
    Some((a.to_string(), b.to_string()))
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<ListeningPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &k, Station::Lift);
    let (case, kb) = (k.case(), &*k.knowledge);
    let levels = heard(case);
    let unit = levels.first().map_or(LevelUnit::Decibel, |h| h.unit);
    let top = levels.iter().map(|h| h.level).fold(0.0, f64::max);
    let rule = kb.levels_test().ok_or(PageError::NotFound)?;
    let taken: Vec<&Attachment> = level_sounds(case, kb).collect();
    let here =
        |p: &baricord_core::vehicle::Place| rule.at.iter().any(|a| baricord_core::reasoning::place_is(&case.vehicle, p, a));
    let places = case
        .vehicle
        .places()
        .into_iter()
        .filter(here)
        .map(|p| {
            let level = levels.iter().find(|h| h.at == p.id).map(|h| h.level);
            Place {
                level: level.map_or(String::new(), |l| format!("{l}")),
                bar: level.map_or(0.0, |l| if top > 0.0 { 100.0 * l / top } else { 0.0 }),
                sounds: taken
                    .iter()
                    .filter(|s| s.at.as_deref() == Some(&p.id))
                    .map(|s| format!("/cases/{id}/{}", s.file))
                    .collect(),
                id: p.id,
                words: p.words,
            }
        })
        .collect();
    let first = loudest(&levels, &case.compared).map(|l| {
        let by_level = l.over.map(|o| format!("{o:.1} {} over the next", unit.words()));
        let blind = (l.won + l.lost > 0).then(|| format!("compared blind {} to {}", l.won, l.lost));
        First {
            words: case.vehicle.place_words(&l.at),
            at: l.at,
            why: [by_level, blind].into_iter().flatten().collect::<Vec<_>>().join(", "),
            clear: l.clear,
        }
    });
    Ok(ListeningPage {
        places,
        unit: unit.words(),
        first,
        pair: pair(case, &m.person.name).map(|(a, b)| (format!("/cases/{id}/{a}"), format!("/cases/{id}/{b}"))),
        cautions: cautions(&k, rule, None),
        checks: running_checks(case, rule),
        test: rule.id.clone(),
        most: crate::stations::lift::attachments::MOST,
        f,
    })
}

fn back(id: Uuid, f: &FormFields) -> Redirect {
    Redirect::to(&format!("/cases/{id}/lift/listen?s={}", f.text("symptom").unwrap_or_default()))
}

/// Levels at several places at once.
async fn levels(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let unit = f.text("unit").and_then(LevelUnit::named);
    let unit = unit.ok_or_else(|| Problem::new("bad-value", "in dB, or of 10?").field("unit"))?;
    let mut s = m.scope().await?;
    let case = s.case(id).await?;
    let mut levels = vec![];
    for p in case.case().vehicle.places() {
        if let Some(level) = f.number(&p.id)? {
            levels.push(Level { at: p.id, level, unit });
        }
    }
    // A form that is sent as it stands says nothing new.
    if levels.is_empty() || !new_levels(case.case(), &levels).is_empty() {
        keep(&m, &mut s, id, &f, CaseAct::Listen(Levels { levels, seen_to: f.all("seen-to") })).await?;
        s.commit().await?;
    }
    Ok(back(id, &f))
}

/// Which of two was louder, its place not known to who listened.
async fn compare(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let file = |address: &str| address.rsplit_once("/pinned/").map_or(String::new(), |x| format!("pinned/{}", x.1));
    let (louder, quieter) = (file(f.need("louder", "which is louder")?), file(f.need("than", "the other sound")?));
    keep_now(&m, id, &f, CaseAct::CompareSounds(ComparedSounds { louder, quieter })).await?;
    Ok(back(id, &f))
}

/// Routes of the listening.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift/listen", get(show).merge(post(levels))).route("/cases/{id}/lift/compare", post(compare))
}
