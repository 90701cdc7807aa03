//! The same answers for programs, under `/api/v1/`: a case folder as a zip or its case.json in, what
//! the command line prints out. Called with a personal access token.

use crate::App;
use crate::work_limits::{Analyses, Calculations};
use axum::body::Body;
use axum::extract::{DefaultBodyLimit, FromRequestParts, Path, Query, Request, State};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use baricord_core::calc;
use baricord_core::error::Problem;
use baricord_core::repair::repair_plan::Aim;
use baricord_formats::{CaseSource, answers};
use baricord_store::StoreError;
use baricord_store::people::Person;
use futures_util::StreamExt;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::sync::Arc;
use tokio::io::AsyncWriteExt;
use tower_governor::governor::GovernorConfigBuilder;
use tower_governor::key_extractor::PeerIpKeyExtractor;
use tower_governor::{GovernorError, GovernorLayer};

/// Largest input of a calculation, bytes.
const MAX_CALC: usize = 4 << 20;

/// An error as every outside face tells it.
#[derive(Debug)]
pub struct ApiError(StatusCode, Problem);

impl From<Problem> for ApiError {
    fn from(p: Problem) -> Self {
        let e = StoreError::from(p);
        match e {
            StoreError::Problem(p) if p.code != "no-room" => Self(StatusCode::UNPROCESSABLE_ENTITY, p),
            e => kept(&e),
        }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut r = (self.0, Json(self.1.to_json())).into_response();
        if self.0 == StatusCode::SERVICE_UNAVAILABLE {
            r.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static(crate::error::RETRY_AFTER_SECONDS));
        }
        if self.0 == StatusCode::UNAUTHORIZED {
            r.headers_mut().insert(header::WWW_AUTHENTICATE, header::HeaderValue::from_static("Bearer"));
        }
        // Told already: no page is put in its place.
        r.headers_mut().insert("x-problem", header::HeaderValue::from_static("see%20the%20body"));
        r
    }
}

pub(crate) fn fail(status: StatusCode, code: &str, message: impl Into<String>) -> ApiError {
    ApiError(status, Problem::new(code, message))
}

pub(crate) fn too_large() -> ApiError {
    fail(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "a zip is at most 2 GiB; a case.json and the input of a calculation 4 MiB")
}

/// What the database or a disk answered: what is temporary says so.
pub(crate) fn kept(e: &StoreError) -> ApiError {
    if !e.is_temporary() {
        return broken(e);
    }
    tracing::warn!(error = %e, "the interface for programs is at a limit");
    let (code, message) = match e {
        StoreError::Busy(what) => ("busy", format!("{what}: come again in a few seconds")),
        StoreError::NoRoom(_) | StoreError::Problem(_) => ("no-room", "a disk of the server is full".into()),
        _ => ("unavailable", "the database does not answer".into()),
    };
    fail(StatusCode::SERVICE_UNAVAILABLE, code, message)
}

/// What the temporary folder answered.
fn disk(e: std::io::Error) -> ApiError {
    kept(&StoreError::disk("the body of a request", &e))
}

fn broken(e: &dyn std::fmt::Display) -> ApiError {
    tracing::error!(error = %e, "the interface for programs failed");
    fail(StatusCode::INTERNAL_SERVER_ERROR, "broken", "something went wrong here; it is in the log")
}

/// Somebody whose token is known; the answers are the same for all.
struct Caller;

/// Who calls, by the token of the request.
pub(crate) async fn token_person(parts: &Parts, app: &App) -> Result<Person, ApiError> {
    let token = parts.headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).and_then(|v| v.strip_prefix("Bearer "));
    let Some(secret) = token else {
        return Err(fail(StatusCode::UNAUTHORIZED, "no-token", "send a personal access token: Authorization: Bearer …"));
    };
    match app.store.person_of_token(secret.trim()).await {
        Ok(Some(p)) if !p.demo || app.is_demo_request(&parts.headers) => Ok(p),
        Ok(Some(_)) => {
            Err(fail(StatusCode::UNAUTHORIZED, "unknown-token", "a token of the demo works where the demo runs alone"))
        }
        Ok(None) => Err(fail(StatusCode::UNAUTHORIZED, "unknown-token", "this token is not known, or was taken back")),
        Err(e) => Err(kept(&e)),
    }
}

impl FromRequestParts<App> for Caller {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, ApiError> {
        token_person(parts, app).await.map(|_| Self)
    }
}

async fn calculation(
    _c: Caller,
    State(app): State<App>,
    Path(name): Path<String>,
    body: axum::body::Bytes,
) -> Result<Json<Value>, ApiError> {
    let input: Value = serde_json::from_slice(&body)
        .map_err(|e| Problem::new("not-json", format!("the body is not JSON: {e}")).line(e.line() as u64))?;
    let turn = app.limits.enter::<Calculations>().await.map_err(|e| kept(&e))?;
    let done = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        calc::calc(&name, &input)
    })
    .await
    .map_err(|e| broken(&e))?;
    Ok(Json(done?))
}

/// The case of a request, by way of the disk.
async fn case(request: Request) -> Result<CaseSource, ApiError> {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default().to_lowercase();
    if !kind.starts_with("application/zip") && !kind.starts_with("application/json") {
        let accepted = "the body is application/zip (a case folder) or application/json (its case.json)";
        return Err(fail(StatusCode::UNPROCESSABLE_ENTITY, "unknown-content-type", accepted));
    }
    // A lone document is small; a zip may hold recordings.
    let most = if kind.starts_with("application/json") { baricord_formats::MAX_DOCUMENT_BYTES } else { crate::MAX_UPLOAD };
    let file = tempfile::NamedTempFile::new().map_err(disk)?;
    let mut out = tokio::fs::File::from_std(file.reopen().map_err(disk)?);
    let (mut body, mut length) = (request.into_body().into_data_stream(), 0);
    while let Some(chunk) = body.next().await {
        let chunk = chunk.map_err(|e| if e.to_string().contains("limit") { too_large() } else { too_slow(&e) })?;
        length += chunk.len();
        if length > most {
            return Err(too_large());
        }
        out.write_all(&chunk).await.map_err(disk)?;
    }
    out.flush().await.map_err(disk)?;
    let file = file.into_temp_path().into();
    Ok(tokio::task::spawn_blocking(move || CaseSource::from_source(&file)).await.map_err(|e| broken(&e))??)
}

fn too_slow(e: &dyn std::fmt::Display) -> ApiError {
    fail(StatusCode::REQUEST_TIMEOUT, "too-slow", format!("the body did not come in time, or broke off: {e}"))
}

async fn answer<T: Serialize + Send + 'static>(
    app: &App,
    request: Request,
    work: impl FnOnce(&CaseSource) -> Result<T, Problem> + Send + 'static,
) -> Result<Json<T>, ApiError> {
    let source = case(request).await?;
    let turn = app.limits.enter::<Analyses>().await.map_err(|e| kept(&e))?;
    let done = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        work(&source)
    })
    .await
    .map_err(|e| broken(&e))?;
    Ok(Json(done?))
}

#[derive(Deserialize)]
struct Only {
    #[serde(default)]
    recording: Option<String>,
}

async fn analyze(_c: Caller, State(app): State<App>, Query(q): Query<Only>, r: Request) -> Result<impl IntoResponse, ApiError> {
    answer(&app, r, move |s| answers::analyze(s, q.recording.as_deref())).await
}

async fn diagnose(_c: Caller, State(app): State<App>, r: Request) -> Result<impl IntoResponse, ApiError> {
    answer(&app, r, |s| answers::diagnose(s).map(|d| d.1)).await
}

async fn verify(_c: Caller, State(app): State<App>, r: Request) -> Result<impl IntoResponse, ApiError> {
    answer(&app, r, answers::prove).await
}

#[derive(Deserialize)]
struct PlanAim {
    #[serde(default)]
    put_back: bool,
}

async fn repair_plan(
    _c: Caller,
    State(app): State<App>,
    Query(q): Query<PlanAim>,
    r: Request,
) -> Result<impl IntoResponse, ApiError> {
    let aim = if q.put_back { Aim::PutBack } else { Aim::Repair };
    answer(&app, r, move |s| answers::repair_plan(s, aim)).await
}

/// The description that programs read: OpenAPI 3.1.
async fn description() -> Json<Value> {
    let error = json!({"type": "object", "required": ["error"], "properties": {"error": {"type": "object", "required": ["code", "message"],
        "properties": {"code": {"type": "string"}, "field": {"type": "string"}, "line": {"type": "integer"}, "message": {"type": "string"}}}}});
    let failures = |mut ok: Value| {
        for (status, words) in [
            ("401", "no token, or one that is not known"),
            ("403", "not with this role"),
            ("413", "too large"),
            ("422", "the input cannot be read; field or line say where"),
            ("408", "the body did not come in time"),
            ("429", "too many calls"),
            ("503", "at a limit: come again after Retry-After seconds"),
        ] {
            ok[status] = json!({"description": words, "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Error"}}}});
        }
        ok
    };
    let object = json!({"application/json": {"schema": {"type": "object"}}});
    let ok = |words: &str| failures(json!({"200": {"description": words, "content": object}}));
    let case = json!({"required": true, "content": {"application/zip": {"schema": {"type": "string", "format": "binary"}},
        "application/json": {"schema": {"type": "object", "description": "a case.json"}}}});
    let of_case = |words: &str, more: Value| json!({"post": {"summary": words, "parameters": more, "requestBody": case, "responses": ok(words)}});
    Json(json!({
        "openapi": "3.1.0",
        "info": {"title": "Baricord", "version": env!("CARGO_PKG_VERSION"), "description": "What the command line answers, for programs. Shapes, units and formulas: docs/calculations.md and docs/case.schema.json."},
        "security": [{"token": []}],
        "components": {"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}, "schemas": {"Error": error}},
        "paths": {
            "/api/v1/calc/{name}": {"post": {
                "summary": "one calculation",
                "parameters": [{"name": "name", "in": "path", "required": true, "schema": {"type": "string", "enum": calc::NAMES}}],
                "requestBody": {"required": true, "content": object}, "responses": ok("the calculation's answer")}},
            "/api/v1/analyze": of_case("order work on the recordings",
                json!([{"name": "recording", "in": "query", "required": false, "schema": {"type": "string"}}])),
            "/api/v1/diagnose": of_case("ranked causes for each symptom, and the next tests", json!([])),
            "/api/v1/verify": of_case("before against after, order by order", json!([])),
            "/api/v1/repair-plan": of_case("steps, schedule, kit and restore list of the repairs that stand in the case (docs/repair-plan.md)",
                json!([{"name": "put_back", "in": "query", "required": false, "schema": {"type": "boolean"}}])),
            "/api/v1/cases/{id}/edits": {"post": {
                "summary": "edits of a case of the caller's workshop, one after the other; each is applied, was there already, stands beside another's, or is refused. Acts and their shapes: docs/edits.md",
                "parameters": [{"name": "id", "in": "path", "required": true, "schema": {"type": "string", "format": "uuid"}}],
                "requestBody": {"required": true, "content": {"application/json": {"schema": {"type": "object", "required": ["edits"], "properties": {"edits": {"type": "array",
                    "maxItems": baricord_store::events::MOST_EDITS, "items": {"type": "object", "required": ["id", "at_time", "do"], "properties": {
                        "id": {"type": "string", "format": "uuid", "description": "version 7; the same again is answered already"},
                        "at_time": {"type": "string", "format": "date-time"},
                        "base": {"type": "integer", "description": "the revision of the case, or of the entry, that was seen"},
                        "do": {"type": "object", "minProperties": 1, "maxProperties": 1}}}}}}}}},
                "responses": ok("for each edit: id, status (applied, already, conflict or refused), sequence, both, error")}},
        }
    }))
}

async fn nowhere() -> ApiError {
    fail(StatusCode::NOT_FOUND, "no-such-path", "there is calc/NAME, analyze, diagnose, verify, repair-plan and openapi.json")
}

pub(crate) fn slow_down(e: GovernorError) -> Response<Body> {
    match e {
        GovernorError::TooManyRequests { wait_time, .. } => {
            fail(StatusCode::TOO_MANY_REQUESTS, "too-many-calls", format!("wait {wait_time} s")).into_response()
        }
        _ => broken(&"the caller's address is not known").into_response(),
    }
}

/// Routes for programs: ten calls a second from one address, sixty at once.
pub fn routes(app: App) -> Router<App> {
    let limit = GovernorConfigBuilder::default().per_millisecond(100).burst_size(60).key_extractor(PeerIpKeyExtractor).finish();
    let calls = Router::new()
        .route("/calc/{name}", post(calculation).layer(DefaultBodyLimit::max(MAX_CALC)))
        .route("/analyze", post(analyze))
        .route("/diagnose", post(diagnose))
        .route("/verify", post(verify))
        .route("/repair-plan", post(repair_plan))
        .fallback(nowhere);
    let calls = match limit {
        Some(config) => calls.layer(GovernorLayer::new(Arc::new(config)).error_handler(slow_down)),
        None => calls,
    };
    let large =
        axum::middleware::from_fn_with_state(app, |State(_): State<App>, r: Request, next: axum::middleware::Next| async move {
            let response = next.run(r).await;
            // The framework's own refusals get the error object too.
            match response.status() {
                StatusCode::PAYLOAD_TOO_LARGE if !response.headers().contains_key("x-problem") => too_large().into_response(),
                StatusCode::METHOD_NOT_ALLOWED => {
                    fail(StatusCode::METHOD_NOT_ALLOWED, "method", "these are called with POST").into_response()
                }
                _ => response,
            }
        });
    Router::new().nest("/api/v1", calls.route("/openapi.json", get(description)).layer(large))
}
