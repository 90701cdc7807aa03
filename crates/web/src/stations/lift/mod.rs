//! Lift: a walk round and under the vehicle in the order of worth, one question at a time; what was looked at so far;
//! feel voted blind by two.

pub mod attachments;
pub mod joint_drag;
pub mod sound_localisation;

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::next_view::href_of_test;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::FormFields;
use crate::stations::lift::attachments::{Attachment, pinned};
use crate::stations::test_cards::{Beliefs, TestCard, card, cautions, with_it};
use crate::thermal_state::{self, observed};
use crate::wording::ask_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::entries::{append, edit_entries, read_entries};
use baricord_core::error::Problem;
use baricord_core::lift::blind_check::{self, BlindAnswer, BlindStatus, Question, Refused, votes};
use baricord_core::lift::inspection_route::{AskedLater, InspectionStep, access, inspection_steps, is_over, put_first};
use baricord_core::lift::vehicle_state::removable_parts;
use baricord_core::reasoning::knowledge::{Test, builtin};
use baricord_core::reasoning::open_tests;
use baricord_core::reasoning::wording::outcome_words;
use baricord_core::safety::cautions::require_checks;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::{ActionKind, station_of_test};
use serde_json::{Value, json};
use uuid::Uuid;

/// The question that is asked now.
struct Asked {
    card: TestCard,
    again: bool,
    /// One walk over all places: no second person feels it blind.
    walks: bool,
    /// The picture of what the hands do.
    hands: String,
    vote: Voting,
    /// What was pinned here: its address, and whether it is a picture.
    pinned: Vec<(String, bool)>,
}

/// How the vote on a question stands, for who looks.
#[derive(Default)]
struct Voting {
    /// One has voted: who.
    waits: String,
    /// It was the one who looks.
    own: bool,
    /// Two have, and felt otherwise: who, and what in words and id.
    both: Vec<(String, String, String)>,
}

impl Voting {
    fn of(k: &LoadedCase, rule: &Test, question: &Question, person: &str) -> Self {
        let felt = |v: &BlindAnswer| {
            let words = rule.outcome(&v.outcome).map_or(v.outcome.clone(), |o| o.words.clone());
            (v.by.clone(), words, v.outcome.clone())
        };
        match BlindStatus::of(&votes(&k.stored.document), question) {
            BlindStatus::Open => Self::default(),
            BlindStatus::Waits { by } => Self { own: by == person, waits: by, both: vec![] },
            BlindStatus::Both(two) => Self { both: two.iter().map(felt).collect(), ..Self::default() },
        }
    }
}

/// Address of something pinned.
pub fn address(case: Uuid, p: &Attachment) -> (String, bool) {
    (format!("/cases/{case}/{}", p.file), p.is_picture())
}

/// Questions that a page holds: so far the walk goes on while the server is away.
const HELD: usize = 12;

#[derive(Template, WebTemplate)]
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
    /// What is looked at besides the walk, as it can move no decision: words, minutes, where.
    besides: Vec<(String, String, String)>,
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
    fn stands(&self) -> String {
        let on = if self.up { "up on the lift" } else { "on its wheels" };
        let warm = if self.warm > 0 { format!("warm for {} min more", self.warm) } else { "cold".into() };
        let off = if self.off_now.is_empty() { "nothing off".into() } else { format!("off: {}", self.off_now) };
        format!("{on}, {warm}, {off}")
    }
}

/// Which stop is asked: the first where it is left out.
#[derive(serde::Deserialize)]
struct WhichStop {
    s: Option<String>,
    test: Option<String>,
    at: Option<String>,
    gear: Option<String>,
}

fn later(document: &serde_json::Value) -> Vec<AskedLater> {
    read_entries(document, "asked_later").into_iter().map(|a| a.1).collect()
}

fn asked(k: &LoadedCase, b: &Beliefs, s: &InspectionStep, person: &str) -> Option<Asked> {
    let rule = k.knowledge.test(&s.test.test)?;
    let mut card = card(k, b, &s.test, 1)?;
    if s.too_warm {
        card.cautions = cautions(k, rule, Some("hot"));
    }
    let question =
        Question { symptom: k.symptom.clone(), test: rule.id.clone(), at: s.test.at.clone(), gear: s.test.gear.clone() };
    let here = pinned(&k.stored.document);
    let here = here.iter().filter(|p| p.test.as_deref() == Some(&rule.id) && p.at == s.test.at);
    Some(Asked {
        hands: rule.hands.map_or(String::new(), crate::drawing::hands),
        vote: Voting::of(k, rule, &question, person),
        pinned: here.map(|p| address(k.stored.id, p)).collect(),
        again: s.again,
        walks: rule.names_place,
        card,
    })
}

/// What was looked at so far under the vehicle: what, what came out, what was noted.
fn looked_at(k: &LoadedCase) -> Vec<(String, String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let of_the_walk = |t: &Test| station_of_test(kb, &t.id) == Station::Lift;
    case.observations
        .iter()
        .filter(|o| kb.test(&o.test).is_some_and(of_the_walk))
        .map(|o| {
            let words = outcome_words(kb, &case.vehicle, &o.test, &o.outcome, None);
            let note = o.note.clone().unwrap_or_default();
            (ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words, note)
        })
        .collect()
}

/// The open tests of the walk that are in it no more, as they can move no decision.
fn besides(k: &LoadedCase, stops: &[InspectionStep]) -> Vec<(String, String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(symptom) = k.symptom.as_deref() else { return vec![] };
    open_tests(case, kb, symptom)
        .into_iter()
        .filter(|t| !stops.iter().any(|s| s.is(&t.test, t.at.as_deref(), t.gear.as_deref())))
        .filter(|t| access(case, kb, &t.test, t.at.as_deref(), t.minutes).is_some())
        .map(|t| {
            let (at, gear) = (t.at.as_deref(), t.gear.as_deref());
            let href = href_of_test(kb, k.stored.id, &t.test, at, gear, symptom);
            (ask_words(kb, case, &t.test, at, gear), format!("{:.0} min", t.minutes), href)
        })
        .collect()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<WhichStop>) -> Result<LiftPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Lift).await?;
    let (kb, case) = (&*k.knowledge, k.case());
    let done = looked_at(&k);
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    let symptom = k.symptom.as_deref().unwrap_or_default();
    let (heat, warm) = thermal_state::now(case);
    let step = k.next.as_test().filter(|_| k.next.kind == ActionKind::Test && k.next.symptom.as_deref() == Some(symptom));
    let mut stops = match k.answer() {
        Some(a) if !is_over(case, a) => {
            inspection_steps(case, kb, symptom, &later(&k.stored.document), k.analysis.as_ref(), heat, step)
        }
        _ => vec![],
    };
    // A link to a test always opens that test.
    if let Some(test) = w.test.as_deref() {
        put_first(&mut stops, case, kb, symptom, (test, w.at.as_deref(), w.gear.as_deref()));
    }
    let mut to_come: Vec<(String, String, String)> = stops
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
    let beliefs = Beliefs::of(&k);
    let off: Vec<_> = removable_parts(case, kb).into_iter().map(|(p, is_off)| (p.id, p.words, is_off)).collect();
    let mut asked: Vec<Asked> = stops.iter().take(HELD).filter_map(|s| asked(&k, &beliefs, s, &m.person.name)).collect();
    if let (Some(first), Some(s)) = (asked.first_mut(), stops.first()) {
        first.card.with_it = with_it(&k, &s.test.test, s.test.at.as_deref(), s.test.gear.as_deref());
        // What is offered with the question is not listed twice.
        to_come.retain(|t| !first.card.with_it.iter().any(|w| w.href == t.2));
    }
    let is_step = stops.first().zip(step).is_some_and(|(s, (test, at, gear))| s.is(test, at, gear));
    Ok(LiftPage {
        elsewhere: (!is_step && !symptom.is_empty()).then(|| (k.next.words_with_minutes(), f.next.href.clone())),
        besides: besides(&k, &stops),
        asked,
        most: crate::stations::lift::attachments::MOST,
        off_now: off.iter().filter(|o| o.2).map(|o| o.1.as_str()).collect::<Vec<_>>().join(", "),
        off,
        pinned: pinned(&k.stored.document).iter().map(|p| address(id, p)).collect(),
        number: done.len() + 1,
        count: done.len() + stops.len(),
        to_come,
        done,
        up,
        warm,
        f,
    })
}

/// It could not be told: nothing is weighed, and it is asked again at the end.
async fn cannot_tell(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    let test = f.need("test", "the test")?;
    let rule = k.knowledge.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))?;
    let one = AskedLater { test: test.into(), at: f.text("at").map(String::from), gear: f.text("gear").map(String::from) };
    s.edit_case_once(id, f.mark()?, None, &format!("{}: can't tell", rule.ask), &m.person.name, |d| {
        if !later(d).contains(&one) {
            append(d, "asked_later", json!(one));
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// A question as a form sends it, with the rule of its test.
fn question<'a>(k: &'a LoadedCase, f: &FormFields) -> Result<(Question, &'a Test), PageError> {
    let test = f.need("test", "the test")?;
    let rule = k.knowledge.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))?;
    let text = |name: &str| f.text(name).map(String::from);
    Ok((Question { symptom: text("symptom"), test: test.into(), at: text("at"), gear: text("gear") }, rule))
}

/// What two have felt, as an observation.
fn felt(q: &Question, outcome: &str, note: &str) -> Value {
    let mut o = json!(q);
    o["outcome"] = outcome.into();
    o["note"] = note.into();
    o
}

/// What was noted with votes.
fn notes(of: &[&BlindAnswer]) -> String {
    of.iter().filter_map(|v| v.note.as_ref().map(|n| format!("; {}: {n}", v.by))).collect()
}

/// One of two answers, given before the other is seen. The history of the case does not tell it either.
async fn cast(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    let (q, rule) = question(&k, &f)?;
    let outcome = f.need("outcome", "what was felt")?;
    if rule.outcome(outcome).is_none() {
        return Err(Problem::new("unknown-outcome", format!("{} has no outcome “{outcome}”", q.test)).field("outcome").into());
    }
    require_checks(k.case(), rule, &f.all("seen-to"))?;
    let said = format!("{}: felt blind", rule.ask);
    s.edit_case_once(id, f.mark()?, None, &said, &m.person.name, |d| {
        let one = BlindAnswer {
            question: q.clone(),
            by: m.person.name.clone(),
            outcome: outcome.into(),
            note: f.text("note").map(String::from),
            settled: false,
        };
        let alike = edit_entries(d, "votes", |all| blind_check::cast(all, one)).map_err(|refused| {
            let why = match refused {
                Refused::Twice => "you have felt it already: now a second person does, without hearing your answer",
                Refused::Full => "two have felt it already: say which of them stands, or feel it again",
            };
            Problem::new("voted", why).field("outcome")
        })?;
        if let Some(outcome) = alike {
            let all = votes(d);
            let two: Vec<&BlindAnswer> = all.iter().rev().filter(|v| v.question == q).take(2).collect();
            let by: Vec<_> = two.iter().map(|v| v.by.as_str()).collect();
            let told = format!("felt alike by {}, neither knowing of the other{}", by.join(" and "), notes(&two));
            observed(d, felt(&q, &outcome, &told), rule);
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Two have felt it otherwise: one of them stands, or both feel again.
async fn decide(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    let (q, rule) = question(&k, &f)?;
    let stands = f.text("stands");
    let said = format!("{}: {}", rule.ask, if stands.is_some() { "decided between two" } else { "to be felt again" });
    s.edit_case_once(id, f.mark()?, None, &said, &m.person.name, |d| {
        let (felt, may) = blind_check::to_decide(&votes(d), &q, &m.person.name);
        if !may {
            let why = if felt.is_empty() { "nothing waits to be decided here" } else { "feel it yourself first" };
            return Err(Problem::new("voted", why).field("stands"));
        }
        edit_entries(d, "votes", |all: &mut Vec<BlindAnswer>| Ok::<_, Problem>(blind_check::settle(all, &q)))?;
        let Some(by) = stands else { return Ok(()) };
        let one = felt
            .iter()
            .find(|v| v.by == by)
            .ok_or_else(|| Problem::new("missing", format!("{by} has not felt it")).field("stands"))?;
        let others: Vec<_> = felt
            .iter()
            .filter(|v| v.by != by)
            .map(|v| format!("; {} felt: {}", v.by, rule.outcome(&v.outcome).map_or(v.outcome.as_str(), |o| &o.words)))
            .collect();
        let all: Vec<&BlindAnswer> = felt.iter().collect();
        observed(d, self::felt(&q, &one.outcome, &format!("as {by} felt it{}{}", others.concat(), notes(&all))), rule);
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

fn back(id: Uuid, f: &FormFields) -> Redirect {
    Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default()))
}

/// What is off now: what a test needs that is off already costs nothing more.
async fn taken_off(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let off = f.all("off");
    let mut s = m.scope().await?;
    let may: Vec<String> = removable_parts(&s.case(id).await?.case, builtin()).into_iter().map(|p| p.0.id).collect();
    if let Some(odd) = off.iter().find(|o| !may.contains(o)) {
        return Err(Problem::new("unknown-place", format!("“{odd}” does not come off this vehicle")).field("off").into());
    }
    let told = if off.is_empty() { "nothing".to_string() } else { off.join(", ") };
    s.edit_case(id, None, &format!("off now: {told}"), &m.person.name, |d| {
        // What else stands there came with the case and stays.
        let kept = d["state"]["off"].as_array().cloned().unwrap_or_default();
        let kept = kept.into_iter().filter(|x| x.as_str().is_none_or(|x| !may.iter().any(|m| m == x)));
        let now: Vec<Value> = kept.chain(off.iter().map(|o| json!(o))).collect();
        d["state"]["off"] = now.into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Up on the lift, or down on its wheels.
async fn stand(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let on = f.text("on").filter(|o| ["ground", "lift"].contains(o));
    let on = on.ok_or_else(|| Problem::new("missing", "on the ground or on the lift?").field("on"))?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, if on == "lift" { "up on the lift" } else { "down on its wheels" }, &m.person.name, |d| {
        d["state"]["on"] = on.into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Warm from the road, or cooled.
async fn warm(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let told = f.text("warm").filter(|w| ["yes", "no"].contains(w));
    let is_warm = told.ok_or_else(|| Problem::new("missing", "warm, or cooled?").field("warm"))? == "yes";
    let until = thermal_state::from_now(builtin());
    let mut s = m.scope().await?;
    s.edit_case(id, None, if is_warm { "warm from the road" } else { "has cooled" }, &m.person.name, |d| {
        d["state"]["warm_until"] = if is_warm { until.into() } else { Value::Null };
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/lift", get(show))
        .route("/cases/{id}/lift/later", post(cannot_tell))
        .route("/cases/{id}/lift/stand", post(stand))
        .route("/cases/{id}/lift/warm", post(warm))
        .route("/cases/{id}/lift/off", post(taken_off))
        .route("/cases/{id}/lift/vote", post(cast))
        .route("/cases/{id}/lift/decide", post(decide))
        .merge(attachments::routes())
        .merge(joint_drag::routes())
        .merge(sound_localisation::routes())
}
