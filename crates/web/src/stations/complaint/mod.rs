//! Complaint: the vehicle as it is described, and what is wrong with it.

pub mod sounds;
mod vehicle;
pub mod vehicle_form;

use self::vehicle::write_vehicle;
use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::{FormFields, free_id};
use crate::vehicles::{self, LifeLine};
use crate::wording::{cause_words, kind_words};
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::entries::{append, remove_entry};
use baricord_core::case::intake;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::{FELT, HEARD_FROM, HISTORY, KINDS, builtin};
use baricord_core::reasoning::{complete_units, hypotheses};
use baricord_core::synonyms;
use baricord_core::vehicle_history::{self, Change};
use baricord_core::workflow::Station;
use baricord_store::Scope;
use serde_json::{Value, json};
use uuid::Uuid;
use vehicle_form::{Kind, VehicleForm};

struct SymptomLine {
    id: String,
    kind: String,
    words: String,
    facts: String,
    /// What was answered: question, answer.
    answers: Vec<(String, String)>,
    /// The next question.
    ask: Option<&'static intake::Question>,
    /// What words of it are called here: said, name, and where it may mean something else.
    meant: Vec<synonyms::Meant>,
    /// How to hear it again, where it could not be heard.
    plan: Vec<String>,
}

/// What is known of the vehicle from before this case.
struct Life {
    path: String,
    lines: Vec<LifeLine>,
    /// Changes that bear on a cause and are not counted in this case: kind, in words.
    uncounted: Vec<(String, String)>,
}

/// Lines of a life shown on a case.
const LIFE_SHOWN: usize = 5;

async fn life_of(s: &mut Scope, k: &LoadedCase) -> Result<Option<Life>, PageError> {
    let Some(v) = s.vehicle_of_case(k.stored.id).await? else { return Ok(None) };
    let mut cases = s.cases_of_vehicle(v.id).await?;
    cases.retain(|c| c.stored.id != k.stored.id);
    let mut lines = vehicles::lines(&cases, &v.changes);
    lines.truncate(LIFE_SHOWN);
    let change_words = |c: &Change| {
        let ago =
            vehicle_history::since(c.distance_km, k.case().distance_km).map(|d| format!(", {} km ago", vehicles::grouped(d)));
        format!("{} on {}{}", kind_words(&c.kind), c.on, ago.unwrap_or_default())
    };
    let uncounted =
        vehicle_history::uncounted(&v.changes, k.case()).into_iter().map(|c| (c.kind.clone(), change_words(c))).collect();
    Ok((!lines.is_empty()).then(|| Life { path: format!("/vehicles/{}", v.id), lines, uncounted }))
}

#[derive(Template, WebTemplate)]
#[template(path = "complaint/complaint.html")]
struct ComplaintPage {
    f: Frame,
    v: VehicleForm,
    symptoms: Vec<SymptomLine>,
    kinds: Vec<(&'static str, String)>,
    felt: Vec<(&'static str, String)>,
    heard: Vec<(&'static str, String)>,
    history: Vec<(&'static str, String, bool)>,
    first: bool,
    trust: [(&'static str, &'static str); 3],
    /// What the vehicle had run, as it was typed.
    distance: String,
    life: Option<Life>,
    attempts: Vec<String>,
    changed: [(&'static str, &'static str); 4],
    /// What can be named as a cause or as a complete unit: value and words.
    causes: Vec<(String, String)>,
    /// Hints from outside: id and words.
    hints: Vec<(String, String)>,
}

/// Faults at their places and units of this vehicle, as a form names them: `fault@place`, `unit:half.fl`.
fn nameable(k: &LoadedCase) -> Vec<(String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let mut out: Vec<(String, String)> = vec![];
    for h in hypotheses(&case.vehicle, kb).iter().filter(|h| !h.is_unknown() && !h.is_pair()) {
        let value = format!("{}@{}", h.fault, h.at);
        if !out.iter().any(|o| o.0 == value) {
            out.push((value, cause_words(kb, case, &h.fault, &h.at, None)));
        }
    }
    out.sort_by(|a, b| a.1.cmp(&b.1));
    out.extend(
        complete_units(&case.vehicle).into_iter().map(|p| (format!("unit:{}", p.id), format!("complete unit: {}", p.words))),
    );
    out
}

/// What a form names, read into an entry: fault and place, or a unit. What this vehicle cannot have is refused.
fn name_cause(k: &LoadedCase, f: &FormFields, entry: &mut Value) -> Result<(), Problem> {
    let Some(cause) = f.text("cause") else { return Ok(()) };
    if !nameable(k).iter().any(|n| n.0 == cause) {
        return Err(Problem::new("unknown-fault", format!("“{cause}” is nothing that this vehicle can have")).field("cause"));
    }
    match (cause.strip_prefix("unit:"), cause.split_once('@')) {
        (Some(unit), _) => entry["unit"] = unit.into(),
        (None, Some((fault, at))) => (entry["fault"], entry["at"]) = (fault.into(), at.into()),
        (None, None) => {}
    }
    Ok(())
}

fn hint_words(k: &LoadedCase, h: &Value) -> (String, String) {
    let text = |key: &str| h[key].as_str().unwrap_or_default();
    let cause = cause_words(&k.knowledge, k.case(), text("fault"), h["at"].as_str().unwrap_or("none"), None);
    let seen = if text("trust") == "seen" { ", has seen it" } else { "" };
    (text("id").into(), format!("{cause}: says {}{seen}", text("source")))
}

fn attempt_words(a: &Value) -> String {
    let text = |k: &str| a[k].as_str().unwrap_or_default();
    let trust = intake::TRUST.iter().find(|t| t.0 == text("trust")).map_or("", |t| t.1);
    let mut out = text("what").to_string();
    for (k, before) in [("by", "by "), ("result", "then: "), ("changed", "changed: ")] {
        if !text(k).is_empty() {
            out += &format!(", {before}{}", text(k));
        }
    }
    if trust.is_empty() { out } else { format!("{out} ({trust})") }
}

/// Where a symptom is heard from, in words.
fn heard_words(h: &str) -> String {
    match h {
        "fl" => "front left".into(),
        "fr" => "front right".into(),
        "rl" => "rear left".into(),
        "rr" => "rear right".into(),
        "unknown" => "can't tell".into(),
        other => other.into(),
    }
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<ComplaintPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Complaint).await?;
    let case = k.case();
    let symptoms = case
        .symptoms
        .iter()
        .map(|s| {
            let mut facts = vec![];
            if let Some(r) = s.speed_kmh {
                let n = |x: Option<f64>| x.map_or("…".into(), |x| format!("{x:.0}"));
                facts.push(format!("{} to {} km/h, worst at {}", n(r.from), n(r.to), n(r.peak)));
            }
            let since = k.stored.document["symptoms"]
                .as_array()
                .and_then(|a| a.iter().find(|x| x["id"] == s.id.as_str())?["since"].as_str());
            facts.extend(since.map(|x| format!("since {x}")));
            if !s.felt.is_empty() {
                facts.push(format!("felt at {}", s.felt.join(", ").replace('-', " ")));
            }
            if let Some(h) = s.heard_from.as_deref().filter(|h| *h != "unknown") {
                facts.push(format!("from {}", heard_words(h)));
            }
            SymptomLine {
                id: s.id.clone(),
                kind: kind_words(&s.kind),
                words: s.words.clone(),
                facts: facts.join(" · "),
                answers: intake::answered(s).into_iter().map(|(q, a)| (q.ask.clone(), a.words.clone())).collect(),
                ask: intake::next_question(s),
                // What kind of noise it is was chosen already.
                meant: synonyms::meant(&s.words).into_iter().filter(|w| !KINDS.contains(&w.name.as_str())).collect(),
                plan: if intake::is_unheard(s) && !k.case().grounded { intake::plan_to_hear(s) } else { vec![] },
            }
        })
        .collect();
    let causes = nameable(&k);
    let hints = k.stored.document["hints"].as_array().into_iter().flatten().map(|h| hint_words(&k, h)).collect();
    let attempts = k.stored.document["attempts"].as_array().into_iter().flatten().map(attempt_words).collect();
    Ok(ComplaintPage {
        trust: intake::TRUST,
        attempts,
        changed: intake::CHANGED,
        causes,
        hints,
        distance: k.stored.document["distance_km"].as_number().map(ToString::to_string).unwrap_or_default(),
        life: life_of(&mut s, &k).await?,
        v: vehicle_form::form(&case.vehicle),
        symptoms,
        kinds: KINDS.iter().map(|k| (*k, kind_words(k))).collect(),
        felt: FELT.iter().map(|k| (*k, kind_words(k))).collect(),
        heard: HEARD_FROM.iter().map(|k| (*k, heard_words(k))).collect(),
        history: HISTORY.iter().map(|h| (*h, kind_words(h), case.history.iter().any(|x| x == h))).collect(),
        first: case.symptoms.is_empty(),
        f,
    })
}

async fn add_symptom(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let kind = f.need("kind", "what it is")?.to_string();
    if !KINDS.contains(&kind.as_str()) {
        return Err(Problem::new("unknown-kind", format!("“{kind}” is no kind of symptom")).field("kind").into());
    }
    let mut speed = serde_json::Map::new();
    for key in ["from", "peak", "to"] {
        if let Some(n) = f.number(key)? {
            speed.insert(key.into(), Value::Number(n));
        }
    }
    let mut s = m.scope().await?;
    let mut new = String::new();
    // The vehicle's form comes with it. What was changed there is saved too, and only then does it matter that
    // somebody else has saved meanwhile.
    let before = s.case(id).await?.document;
    let mut described = before.clone();
    write_vehicle(&mut described, &f)?;
    let changes_vehicle = described != before;
    let seen = if changes_vehicle { f.version() } else { None };
    s.edit_case(id, seen, &format!("symptom: {}", kind_words(&kind)), &m.person.name, |d| {
        if changes_vehicle {
            write_vehicle(d, &f)?;
        }
        new = free_id(d, "symptoms", 'S');
        let mut symptom = json!({
            "id": new, "kind": kind, "felt": f.all("felt"), "heard_from": f.text("heard_from").unwrap_or("unknown"),
            "words": f.text("words").unwrap_or_default(),
        });
        if let Some(since) = f.text("since") {
            symptom["since"] = since.into();
        }
        if f.text("intermittent").is_some() {
            symptom["intermittent"] = true.into();
        }
        if !speed.is_empty() {
            symptom["speed_kmh"] = Value::Object(speed);
        }
        append(d, "symptoms", symptom);
        let known: Vec<String> =
            d["history"].as_array().map(|a| a.iter().filter_map(|x| x.as_str().map(String::from)).collect()).unwrap_or_default();
        for h in f.all("history").into_iter().filter(|h| HISTORY.contains(&h.as_str()) && !known.contains(h)) {
            append(d, "history", h.into());
        }
        // Asked, and no other work was done: what work makes is less likely.
        if f.text("no-other-work").is_some() {
            let done = f.all("history");
            d["history_denied"] = builtin().weights.history.denied(&done, &known).map(Value::from).collect();
        }
        Ok(())
    })
    .await?;
    if changes_vehicle && s.analysis(id).await?.is_some() {
        s.request_analysis(id).await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/road?s={new}")))
}

/// One more answer about a symptom; an answer given again replaces the one before.
async fn answer(
    m: Member,
    Path((id, symptom)): Path<(Uuid, String)>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let question = f.need("question", "the question")?.to_string();
    let wrong =
        |field: &str, what: &str| Problem::new("unknown-answer", format!("“{what}” is not known")).field(field.to_string());
    let q = intake::questions().iter().find(|q| q.id == question).ok_or_else(|| wrong("question", &question))?;
    let given = f.need("answer", "the answer")?;
    let a = q.answer(given).ok_or_else(|| wrong("answer", given))?;
    let mut s = m.scope().await?;
    s.edit_case(id, f.version(), &format!("{} {}", q.ask, a.words), &m.person.name, |d| {
        let list = d["symptoms"].as_array_mut().into_iter().flatten().find(|x| x["id"] == symptom.as_str());
        let of =
            list.ok_or_else(|| Problem::new("no-symptom", format!("{symptom} is no symptom of this case")).field("symptom"))?;
        if !of["condition"].is_object() {
            of["condition"] = json!({});
        }
        of["condition"][&question] = a.id.clone().into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint?s={symptom}#ask-{symptom}")))
}

/// A change of the vehicle's life bears on this case.
async fn count(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let kind = f.need("history", "what counts")?;
    if !HISTORY.contains(&kind) {
        return Err(Problem::new("unknown-kind", format!("“{kind}” is no kind of change")).field("history").into());
    }
    let mut s = m.scope().await?;
    s.edit_case(id, f.version(), &format!("counts: {}", kind_words(kind)), &m.person.name, |d| {
        if !d["history"].as_array().is_some_and(|h| h.iter().any(|x| x == kind)) {
            append(d, "history", kind.into());
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// Something was tried before: what was changed, by whom, what came of it, how far that is trusted.
async fn attempt(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let what = f.need("what", "what was changed")?;
    let trust = f.text("trust").unwrap_or("told");
    if !intake::TRUST.iter().any(|t| t.0 == trust) {
        return Err(Problem::new("unknown-answer", format!("“{trust}” is no degree of trust")).field("trust").into());
    }
    let mut entry = json!({"what": what, "trust": trust});
    if let Some(c) = f.text("changed") {
        if !intake::CHANGED.iter().any(|x| x.0 == c) {
            return Err(Problem::new("unknown-answer", format!("“{c}” is not known")).field("changed").into());
        }
        entry["changed"] = c.into();
    }
    let mut s = m.scope().await?;
    name_cause(&LoadedCase::read(&mut s, id, None).await?, &f, &mut entry)?;
    for k in ["by", "result"] {
        if let Some(t) = f.text(k) {
            entry[k] = t.into();
        }
    }
    s.edit_case(id, f.version(), &format!("tried before: {what}"), &m.person.name, |d| {
        append(d, "attempts", entry);
        let known = d["history"].as_array().is_some_and(|h| h.iter().any(|x| x == "earlier-work"));
        if !known && intake::counts_as_work(trust) {
            append(d, "history", "earlier-work".into());
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// A hint from outside: usual on this model, says somebody. It raises a cause, visibly, until it is taken back.
async fn hint(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    if let Some(gone) = f.text("remove") {
        s.edit_case(id, f.version(), "a hint taken back", &m.person.name, |d| {
            remove_entry(d, "hints", gone);
            Ok(())
        })
        .await?;
    } else {
        let trust = f.text("trust").unwrap_or("told");
        if !matches!(trust, "told" | "seen") {
            return Err(Problem::new("unknown-answer", format!("“{trust}” is no degree of trust")).field("trust").into());
        }
        let mut entry = json!({"id": Uuid::new_v4(), "source": f.need("source", "who says so")?, "trust": trust});
        f.need("cause", "what it may be")?;
        name_cause(&k, &f, &mut entry)?;
        if entry["fault"].is_null() {
            return Err(Problem::new("unknown-fault", "a hint names a fault, no unit").field("cause").into());
        }
        let what = format!("hint: {}", hint_words(&k, &entry).1);
        s.edit_case(id, f.version(), &what, &m.person.name, |d| {
            append(d, "hints", entry);
            Ok(())
        })
        .await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint#hints")))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/complaint", get(show))
        .route("/cases/{id}/symptoms", post(add_symptom))
        .route("/cases/{id}/symptoms/{symptom}/answer", post(answer))
        .route("/cases/{id}/attempts", post(attempt))
        .route("/cases/{id}/hints", post(hint))
        .route("/cases/{id}/history", post(count))
        .merge(vehicle::routes())
        .merge(sounds::routes())
}
