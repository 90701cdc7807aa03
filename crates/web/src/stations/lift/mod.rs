//! Lift: the route round and under the vehicle in the order of worth, one question at a time; what was looked at so far;
//! feel voted blind by two.

pub mod attachments;
mod blind_check;
pub mod joint_drag;
pub mod sound_localisation;
mod vehicle_state;

use self::blind_check::BlindView;
use crate::App;
use crate::auth::Member;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::next_view::href_of_test;
use crate::page::{Frame, LoadedCase};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::{FormFields, Posted};
use crate::stations::test_cards::{TestCard, card, cautions, with_it};
use crate::thermal_state::{self};
use crate::wording::ask_words;
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::{Attachment, Question};
use baricord_core::edit::act::{CaseAct, LaterTest};
use baricord_core::error::Problem;
use baricord_core::lift::inspection_route::{InspectionStep, access, inspection_steps, is_over, put_first};
use baricord_core::lift::vehicle_state::removable_parts;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::knowledge::{Heat, Test};
use baricord_core::reasoning::wording::outcome_words;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::{ActionKind, station_of_test};
use uuid::Uuid;

/// The question that is asked now.
struct Asked {
    card: TestCard,
    again: bool,
    /// One series over all places: no second person feels it blind.
    is_series: bool,
    /// The picture of what the hands do.
    hands: String,
    blind: BlindView,
    /// What was pinned here: its address, and whether it is a picture.
    pinned: Vec<(String, bool)>,
}

/// Address of something pinned.
pub fn address(case: Uuid, p: &Attachment) -> (String, bool) {
    (format!("/cases/{case}/{}", p.file), p.is_picture())
}

/// Questions that a page holds: so far the route goes on while the server is away.
const HELD: usize = 12;

#[derive(Template)]
#[template(path = "lift/lift.html")]
struct LiftPage {
    f: Frame,
    /// The question that is asked, and those after it.
    asked: Vec<Asked>,
    /// The next step of the case, where it is done elsewhere: words and address.
    elsewhere: Option<(String, String)>,
    most: usize,
    number: usize,
    count: usize,
    /// What comes after: words, how it is reached, where to ask it at once.
    to_come: Vec<(String, String, String)>,
    /// What is looked at outside the route, as it can move no decision: words, minutes, where.
    quick_looks: Vec<(String, String, String)>,
    done: Vec<(String, String, String)>,
    /// What can come off: its place, its words, whether it is off.
    off: Vec<(String, String, bool)>,
    off_now: String,
    /// Pictures and notes of the whole case.
    pinned: Vec<(String, bool)>,
    up: bool,
    /// For how many minutes it still counts as warm.
    warm: i64,
}

impl LiftPage {
    /// How the vehicle stands, in one line.
    fn state_words(&self) -> String {
        let on = if self.up { "up on the lift" } else { "on its wheels" };
        let warm = if self.warm > 0 { format!("warm for {} min more", self.warm) } else { "cold".into() };
        let off = if self.off_now.is_empty() { "nothing off".into() } else { format!("off: {}", self.off_now) };
        format!("{on}, {warm}, {off}")
    }
}

/// Which stop is asked: the first where it is left out.
#[derive(Clone, Debug, Default, PartialEq, serde::Deserialize)]
struct WhichStep {
    s: Option<String>,
    test: Option<String>,
    at: Option<String>,
    gear: Option<String>,
}

fn asked(k: &LoadedCase, open: &OpenSymptom<'_>, s: &InspectionStep, person: &str) -> Option<Asked> {
    let rule = k.knowledge.test(&s.test.test)?;
    let mut card = card(k, open, &s.test, 1)?;
    if s.too_warm {
        card.cautions = cautions(k, rule, Some("hot"));
    }
    let question =
        Question { symptom: k.symptom.clone(), test: rule.id.clone(), at: s.test.at.clone(), gear: s.test.gear.clone() };
    let here = k.case().pinned.iter().filter(|p| p.test.as_deref() == Some(&rule.id) && p.at == s.test.at);
    Some(Asked {
        hands: rule.hands.map_or(String::new(), crate::drawing::hands),
        blind: BlindView::new(k, rule, &question, person),
        pinned: here.map(|p| address(k.stored.id, p)).collect(),
        again: s.again,
        is_series: rule.names_place,
        card,
    })
}

/// What was looked at so far under the vehicle: what, what came out, what was noted.
fn looked_at(k: &LoadedCase) -> Vec<(String, String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let of_the_route = |t: &Test| station_of_test(kb, &t.id) == Station::Lift;
    case.observations
        .iter()
        .filter(|o| kb.test(&o.test).is_some_and(of_the_route))
        .map(|o| {
            let words = outcome_words(kb, &case.vehicle, &o.test, &o.outcome, None);
            let note = o.note.clone().unwrap_or_default();
            (ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words, note)
        })
        .collect()
}

/// The open tests that have left the route, as they can move no decision.
fn quick_looks(k: &LoadedCase, open: &OpenSymptom<'_>, steps: &[InspectionStep]) -> Vec<(String, String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(symptom) = k.symptom.as_deref() else { return vec![] };
    open.names()
        .filter(|t| !steps.iter().any(|s| s.is(t.test, t.at, t.gear)))
        .filter(|t| access(case, kb, t.test, t.at, t.minutes).is_some())
        .map(|t| {
            let href = href_of_test(kb, k.stored.id, t.test, t.at, t.gear, symptom);
            (ask_words(kb, case, t.test, t.at, t.gear), format!("{:.0} min", t.minutes), href)
        })
        .collect()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<WhichStep>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let asked = WhichStep { s: None, ..w.clone() };
    let mut slot = m.page("lift", w.s.as_deref()).asked(&asked).by_name().of(&mut s, id).await?;
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    let (state, until) = thermal_state::thermal_state_now(k.case());
    drop(s);
    slot.until(until).or_make(move || Ok(k.with_open(|open| lift_page(&m, &k, open, &w, state)))).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(WhichStep::default())))
}

fn lift_page(m: &Member, k: &LoadedCase, open: &OpenSymptom<'_>, w: &WhichStep, (heat, warm): (Heat, i64)) -> LiftPage {
    let f = Frame::new(m, k, Station::Lift);
    let (kb, case, id) = (&*k.knowledge, k.case(), k.stored.id);
    let done = looked_at(k);
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    let symptom = k.symptom.as_deref().unwrap_or_default();
    let step = k
        .assessment
        .next
        .as_test()
        .filter(|_| k.assessment.next.kind == ActionKind::Test && k.assessment.next.symptom.as_deref() == Some(symptom));
    let mut steps = match k.answer() {
        Some(a) if !is_over(case, a) => inspection_steps(open, &case.asked_later, heat, step),
        _ => vec![],
    };
    // A link to a test always opens that test.
    if let Some(test) = w.test.as_deref() {
        put_first(&mut steps, open, (test, w.at.as_deref(), w.gear.as_deref()));
    }
    let mut to_come: Vec<(String, String, String)> = steps
        .iter()
        .skip(1)
        .map(|s| {
            let (at, gear) = (s.test.at.as_deref(), s.test.gear.as_deref());
            let how = match () {
                () if s.again => "asked again".to_string(),
                () if s.too_warm => format!("{:.0} min, when it has cooled", s.test.minutes),
                () => format!("{:.0} min, {}", s.test.minutes, s.access.words()),
            };
            (ask_words(kb, case, &s.test.test, at, gear), how, href_of_test(kb, id, &s.test.test, at, gear, symptom))
        })
        .collect();
    let off: Vec<_> = removable_parts(case, kb).into_iter().map(|(p, is_off)| (p.id, p.words, is_off)).collect();
    let mut asked: Vec<Asked> = steps.iter().take(HELD).filter_map(|s| asked(k, open, s, &m.person.name)).collect();
    if let (Some(first), Some(s)) = (asked.first_mut(), steps.first()) {
        first.card.with_it = with_it(k, open, &s.test.test, s.test.at.as_deref(), s.test.gear.as_deref());
        // What is offered with the question is not listed twice.
        to_come.retain(|t| !first.card.with_it.iter().any(|w| w.href == t.2));
    }
    let is_step = steps.first().zip(step).is_some_and(|(s, (test, at, gear))| s.is(test, at, gear));
    LiftPage {
        elsewhere: (!is_step && !symptom.is_empty()).then(|| (k.assessment.next.words_with_minutes(), f.next.href.clone())),
        quick_looks: quick_looks(k, open, &steps),
        asked,
        most: crate::stations::lift::attachments::MOST,
        off_now: off.iter().filter(|o| o.2).map(|o| o.1.as_str()).collect::<Vec<_>>().join(", "),
        off,
        pinned: case.pinned.iter().map(|p| address(id, p)).collect(),
        number: done.len() + 1,
        count: done.len() + steps.len(),
        to_come,
        done,
        up,
        warm,
        f,
    }
}

/// It could not be answered: nothing is weighed, and it is asked again at the end.
async fn cannot_tell(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let later = LaterTest { test: f.need("test", "the test")?.into(), at: f.owned("at"), gear: f.owned("gear"), why: None };
    keep_now(&m, id, &f, CaseAct::AskLater(later)).await?;
    Ok(back(id, &f))
}

/// A question as a form sends it.
fn question(f: &FormFields) -> Result<Question, Problem> {
    let test = f.need("test", "the test")?.into();
    Ok(Question { symptom: f.owned("symptom"), test, at: f.owned("at"), gear: f.owned("gear") })
}

fn back(id: Uuid, f: &FormFields) -> Redirect {
    Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default()))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/lift", get(show))
        .route("/cases/{id}/lift/later", post(cannot_tell))
        .merge(blind_check::routes())
        .merge(vehicle_state::routes())
        .merge(attachments::routes())
        .merge(joint_drag::routes())
        .merge(sound_localisation::routes())
}
