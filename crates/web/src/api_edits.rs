//! Edits of a case from scripts and from a page whose server was away: `POST /api/v1/cases/{id}/edits`. Called with a personal access
//! token or from a session; who edits is who is signed in, never who the body names.

use crate::App;
use crate::api::{ApiError, fail, kept, slow_down, token_person};
use crate::auth::Member;
use axum::body::Bytes;
use axum::extract::rejection::BytesRejection;
use axum::extract::{DefaultBodyLimit, FromRequestParts, Path, State};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::routing::post;
use axum::{Json, Router};
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::CaseAct;
use baricord_core::error::{Problem, read_json};
use baricord_core::permission::Act;
use baricord_store::StoreError;
use baricord_store::events::{Author, CaseEvent, MOST_EDITS, Outcome, SentEdit};
use baricord_store::people::Person;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;
use tower_governor::GovernorLayer;
use tower_governor::governor::GovernorConfigBuilder;
use tower_governor::key_extractor::PeerIpKeyExtractor;
use uuid::Uuid;

/// Largest body, bytes.
const MOST_BYTES: usize = 1 << 20;

/// Who edits, by token or by session.
struct Editor(Person);

impl FromRequestParts<App> for Editor {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, ApiError> {
        if parts.headers.contains_key(header::AUTHORIZATION) {
            return token_person(parts, app).await.map(Self);
        }
        match Member::from_request_parts(parts, app).await {
            Ok(m) => Ok(Self(m.person)),
            Err(crate::error::PageError::Down) => {
                Err(fail(StatusCode::SERVICE_UNAVAILABLE, "unavailable", "the database does not answer"))
            }
            Err(_) => Err(fail(StatusCode::UNAUTHORIZED, "signed-out", "sign in, or send a personal access token")),
        }
    }
}

/// What is sent.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Sent {
    edits: Vec<Value>,
}

/// One edit as it is sent.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct OneEdit {
    id: Uuid,
    at_time: Timestamp,
    #[serde(default)]
    base: Option<i32>,
    #[serde(rename = "do")]
    act: CaseAct,
}

/// What another did to the same.
#[derive(Serialize)]
struct Theirs {
    id: Uuid,
    sequence: i32,
    at_time: String,
    by: String,
    what: String,
    #[serde(rename = "do", skip_serializing_if = "Option::is_none")]
    act: Option<CaseAct>,
}

/// Two edits of one part.
#[derive(Serialize)]
struct Both {
    yours: CaseAct,
    theirs: Vec<Theirs>,
}

/// What became of one edit.
#[derive(Serialize)]
struct Answer {
    id: Option<Uuid>,
    status: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    sequence: Option<i32>,
    /// Id of the entry that it made.
    #[serde(skip_serializing_if = "Option::is_none")]
    entry: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    both: Option<Both>,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<Problem>,
}

/// What became of each.
#[derive(Serialize)]
struct Answers {
    edits: Vec<Answer>,
}

fn answer(id: Option<Uuid>, status: &'static str) -> Answer {
    Answer { id, status, sequence: None, entry: None, both: None, error: None }
}

fn refused(id: Option<Uuid>, p: Problem) -> Answer {
    Answer { error: Some(p), ..answer(id, "refused") }
}

fn of_outcome(id: Uuid, o: Outcome) -> Answer {
    let theirs = |e: CaseEvent| Theirs {
        id: e.id,
        sequence: e.sequence,
        at_time: e.at_time,
        by: e.person,
        what: e.what,
        act: e.edit.map(|e| e.0.act),
    };
    match o {
        Outcome::Applied { sequence, applied } => {
            Answer { sequence: Some(sequence), entry: applied.entry, ..answer(Some(id), "applied") }
        }
        Outcome::Already { sequence } => Answer { sequence: Some(sequence), ..answer(Some(id), "already") },
        Outcome::Conflict(both) => {
            let both = Both { yours: both.yours.act, theirs: both.theirs.into_iter().map(theirs).collect() };
            Answer { both: Some(both), ..answer(Some(id), "conflict") }
        }
        Outcome::Refused(p) => refused(Some(id), p),
    }
}

/// Reads one edit; where it cannot be read, its id as far as there is one, and why not.
fn read(v: &Value) -> Result<SentEdit, Box<Answer>> {
    let id = v["id"].as_str().and_then(|id| id.parse().ok());
    let one: OneEdit = read_json(v).map_err(|p| Box::new(refused(id, p)))?;
    let edit = CaseEdit::new(one.id, one.at_time, one.act);
    if edit.comes_with_more() {
        let message = "this comes with a file, a recording or a link: it goes by the page of the case";
        return Err(Box::new(refused(id, Problem::new("comes-with-more", message).field("do"))));
    }
    Ok(SentEdit { edit, base: one.base })
}

async fn edits(
    Editor(person): Editor,
    State(app): State<App>,
    Path(id): Path<Uuid>,
    body: Result<Bytes, BytesRejection>,
) -> Result<Json<Answers>, ApiError> {
    let too_large = |_| fail(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "edits that are sent at once have up to 1 MiB");
    let body = body.map_err(too_large)?;
    let body: Value = serde_json::from_slice(&body)
        .map_err(|e| Problem::new("not-json", format!("the body is not JSON: {e}")).line(e.line() as u64))?;
    let sent: Sent = read_json(&body)?;
    if sent.edits.len() > MOST_EDITS {
        let message = format!("{} edits at once; up to {MOST_EDITS} are taken", sent.edits.len());
        return Err(Problem::new("too-many", message).field("edits").into());
    }
    if !person.role().may(Act::Edit) {
        return Err(fail(StatusCode::FORBIDDEN, "forbidden", Act::Edit.refusal()));
    }
    let read: Vec<Result<SentEdit, Box<Answer>>> = sent.edits.iter().map(read).collect();
    let readable: Vec<SentEdit> = read.iter().filter_map(|r| r.as_ref().ok().cloned()).collect();
    let author = Author::person(&person.name, person.role());
    let stored = |e: StoreError| match e {
        StoreError::NotFound => fail(StatusCode::NOT_FOUND, "not-found", "there is no such case, or it is not this workshop's"),
        e => kept(&e),
    };
    let mut s = app.store.scope(person.workshop_id).await.map_err(stored)?;
    let (_, outcomes) = s.apply_edits(id, &author, readable).await.map_err(stored)?;
    s.commit().await.map_err(stored)?;
    let mut outcomes = outcomes.into_iter();
    let answers = read.into_iter().filter_map(|r| match r {
        Err(a) => Some(*a),
        Ok(s) => outcomes.next().map(|o| of_outcome(s.edit.id, o)),
    });
    Ok(Json(Answers { edits: answers.collect() }))
}

/// The route: ten calls a second from one address, sixty at once.
pub fn routes() -> Router<App> {
    let limit = GovernorConfigBuilder::default().per_millisecond(100).burst_size(60).key_extractor(PeerIpKeyExtractor).finish();
    let route = Router::new().route("/api/v1/cases/{id}/edits", post(edits).layer(DefaultBodyLimit::max(MOST_BYTES)));
    match limit {
        Some(config) => route.layer(GovernorLayer::new(Arc::new(config)).error_handler(slow_down)),
        None => route,
    }
}
