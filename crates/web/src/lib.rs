//! Pages, views and the HTTP face.
//!
//! A handler reads, calls the core, renders: no rule is written here.
//!
//! | room | what it holds |
//! |---|---|
//! | [`stations`] | the seven stations of a case, a folder each with routes, view models and templates; the page of a part |
//! | [`edits`] | what a form sends, as an edit of the case |
//! | [`page`], [`rendered_pages`], [`pages_ahead`] | what all pages of a case share: [`ledger`], [`next_view`], [`drawing_marks`], [`safety_findings`], [`live`], [`wording`] |
//! | [`drawing`], [`charts`] | the driveline as SVG; order map, levels, dial, side view |
//! | [`board`], [`cases`], [`case_life`], [`vehicles`], [`knowledge`], [`procedures`] | pages beside a case: the workshop's cases, how one is opened and put away, each vehicle's history, what is known |
//! | [`history`], [`mend`] | what was done to a case, and taken back; what stands in it, corrected or taken out |
//! | [`notes`] | what is worth remembering and weighs nothing |
//! | [`find`] | everything that can be entered, found by what people say |
//! | [`printout`], [`second_opinion`], [`import_export`] | what leaves: one page, a link for one person, the open file |
//! | [`api`], [`api_edits`], [`api_tokens`] | the same answers for programs, edits from scripts and waiting pages, by which tokens they call |
//! | [`worker`], [`drive_runner`] | analyses and drives under way; [`thermal_state`] is where the core meets a clock |
//! | [`auth`], [`request_body`], [`upload`], [`work_limits`] | who signs in; what may come in, and how much at once |
//! | [`reader_units`] | pages in mm and km/h or in inches and mph |
//! | [`error`], [`theme`], [`static_files`], [`table_export`] | errors as pages, dark or light, files inside the program, tables as CSV |
//! | [`demo`] | the made-up fleet of Harrowmere |

pub mod api;
pub mod api_edits;
pub mod api_tokens;
pub mod auth;
pub mod board;
pub mod case_life;
pub mod cases;
pub mod charts;
pub mod demo;
pub mod drawing;
pub mod drawing_marks;
pub mod drive_runner;
pub mod edits;
pub mod error;
pub mod find;
pub mod history;
pub mod import_export;
pub mod knowledge;
pub mod ledger;
pub mod live;
pub mod mend;
pub mod next_view;
pub mod notes;
pub mod page;
pub mod pages_ahead;
pub mod printout;
pub mod procedures;
pub mod reader_units;
pub mod rendered_pages;
pub mod request_body;
pub mod safety_findings;
pub mod second_opinion;
pub mod static_files;
pub mod stations;
pub mod table_export;
pub mod theme;
pub mod thermal_state;
pub mod upload;
pub mod vehicles;
pub mod wording;
pub mod work_limits;
pub mod worker;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderMap, HeaderName, HeaderValue, Request, header};
use axum::response::IntoResponse;
use axum::routing::get;
use axum_login::AuthManagerLayerBuilder;
use axum_login::tower_sessions::{Expiry, SessionManagerLayer, cookie::SameSite};
use baricord_store::{Store, per_request};
use rendered_pages::RenderedPages;
use tower_http::csrf::CsrfLayer;
use tower_http::request_id::{MakeRequestUuid, PropagateRequestIdLayer, SetRequestIdLayer};
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::timeout::RequestBodyTimeoutLayer;
use tower_http::trace::TraceLayer;
use tower_sessions_sqlx_store::PostgresStore;
use work_limits::WorkLimits;

/// What every handler has at hand.
#[derive(Clone)]
pub struct App {
    /// What is kept.
    pub store: Store,
    /// Whether the demo's people may sign in: the demo runs, on its own machine.
    demo: bool,
    /// Pages of cases that were rendered.
    pages: RenderedPages,
    /// Turns at long work.
    limits: WorkLimits,
    /// Whether the server ends: what is held open for news ends with it.
    closing: tokio::sync::watch::Sender<bool>,
}

/// Headers by which something on the way says that a request came from elsewhere.
const FORWARDED: [&str; 6] = ["forwarded", "x-forwarded-for", "x-forwarded-host", "x-forwarded-proto", "x-real-ip", "via"];

impl App {
    /// `demo_signs_in`: whether the demo's people may, with the password that everybody knows; only a server that
    /// is reached on its own machine alone may say so.
    pub fn new(store: Store, demo_signs_in: bool) -> Self {
        rendered_pages::know_program();
        let closing = tokio::sync::watch::Sender::new(false);
        Self { store, demo: demo_signs_in, pages: RenderedPages::default(), limits: WorkLimits::default(), closing }
    }

    /// Lets go of connections that are held open for news: the server ends.
    pub fn close(&self) {
        self.closing.send_replace(true);
    }

    /// Whether a request may come from one of the demo's people: not when it was forwarded from elsewhere.
    pub(crate) fn is_demo_request(&self, headers: &HeaderMap) -> bool {
        self.demo && !FORWARDED.iter().any(|name| headers.contains_key(*name))
    }
}

/// Largest upload, bytes.
pub const MAX_UPLOAD: usize = 2 << 30;

const CSP: &str = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; media-src 'self'; connect-src 'self'; \
                   form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

/// The whole application. Sessions are kept in PostgreSQL; cookies are marked secure unless the
/// server is reached in the clear on its own machine.
pub fn router(app: App, secure_cookies: bool) -> Router {
    let sessions = SessionManagerLayer::new(PostgresStore::new(app.store.pool().clone()))
        .with_name("baricord")
        .with_same_site(SameSite::Lax)
        .with_secure(secure_cookies)
        .with_http_only(true)
        .with_expiry(Expiry::OnInactivity(time::Duration::days(7)));
    let auth = AuthManagerLayerBuilder::new(auth::Backend { store: app.store.clone() }, sessions).build();
    let header =
        |name: HeaderName, value: &'static str| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    let forms = Router::new()
        .merge(board::routes())
        .merge(cases::routes())
        .merge(case_life::routes())
        .merge(history::routes())
        .merge(mend::routes())
        .merge(notes::routes())
        .merge(find::routes())
        .merge(import_export::routes())
        .merge(stations::routes())
        .merge(auth::routes())
        .merge(vehicles::routes())
        .merge(knowledge::routes())
        .merge(procedures::routes())
        .merge(live::routes())
        .merge(safety_findings::routes())
        .merge(printout::routes())
        .merge(second_opinion::routes())
        .merge(api_tokens::routes())
        .layer(axum::middleware::from_fn(request_body::form));
    let files = Router::new()
        .merge(import_export::uploads())
        .merge(stations::uploads())
        .layer(RequestBodyTimeoutLayer::new(request_body::FILE_TIMEOUT));
    Router::new()
        .merge(forms)
        .merge(files)
        .merge(api_edits::routes().layer(RequestBodyTimeoutLayer::new(request_body::FILE_TIMEOUT)))
        .layer(auth)
        .layer(axum::middleware::from_fn(one_transaction))
        .layer(axum::middleware::from_fn_with_state(app.clone(), lost_database))
        .layer(CsrfLayer::new())
        .merge(api::routes(app.clone()).layer(RequestBodyTimeoutLayer::new(request_body::FILE_TIMEOUT)))
        .route("/healthz", get(|| async { "ok" }))
        .route("/readyz", get(ready))
        .route("/static/{*path}", get(static_files::file))
        .fallback(error::nowhere)
        .layer(axum::middleware::from_fn(too_large))
        .layer(axum::middleware::from_fn(request_body::address))
        .layer(axum::middleware::from_fn(reader_units::layer))
        .layer(axum::middleware::from_fn(theme::layer))
        .layer(DefaultBodyLimit::max(MAX_UPLOAD))
        .layer(header(header::CONTENT_SECURITY_POLICY, CSP))
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::REFERRER_POLICY, "same-origin"))
        .layer(header(header::X_FRAME_OPTIONS, "DENY"))
        .layer(header(HeaderName::from_static("permissions-policy"), "camera=(), geolocation=(), payment=()"))
        .layer(header(HeaderName::from_static("cross-origin-opener-policy"), "same-origin"))
        .layer(PropagateRequestIdLayer::x_request_id())
        .layer(TraceLayer::new_for_http().make_span_with(|r: &Request<_>| {
            let id = r.headers().get("x-request-id").and_then(|v| v.to_str().ok()).unwrap_or("-");
            tracing::info_span!("request", method = %r.method(), path = %r.uri().path(), id)
        }))
        .layer(SetRequestIdLayer::x_request_id(MakeRequestUuid))
        .with_state(app)
}

/// Prepares the session table as the owner and lets the application's role use it.
pub async fn prepare_sessions(owner_url: &str) -> Result<(), String> {
    let pool = auth::owner_pool(owner_url).await?;
    PostgresStore::new(pool.clone()).migrate().await.map_err(|e| e.to_string())?;
    auth::grant_sessions(&pool).await?;
    pool.close().await;
    Ok(())
}

/// Who only asks is found and answered in one transaction.
async fn one_transaction(request: axum::extract::Request, next: axum::middleware::Next) -> axum::response::Response {
    match request.method().is_safe() {
        true => per_request::answered(next.run(request)).await,
        false => next.run(request).await,
    }
}

/// Sessions need the database too: what fails there without a word of its own gets one.
async fn lost_database(
    axum::extract::State(app): axum::extract::State<App>,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> axum::response::Response {
    let response = next.run(request).await;
    let silent = response.status().is_server_error() && !response.headers().contains_key("x-problem");
    if silent && app.store.ping().await.is_err() {
        return error::PageError::Down.into_response();
    }
    response
}

/// What says beforehand that it is too large is refused before a byte of it is read.
async fn too_large(request: axum::extract::Request, next: axum::middleware::Next) -> axum::response::Response {
    let length = request.headers().get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<u64>().ok());
    if length.is_some_and(|l| l > MAX_UPLOAD as u64) {
        if request.uri().path().starts_with("/api/") {
            return api::too_large().into_response();
        }
        return error::PageError::TooLarge.into_response();
    }
    next.run(request).await
}

async fn ready(axum::extract::State(app): axum::extract::State<App>) -> axum::response::Response {
    match app.store.ping().await {
        Ok(()) => "ready".into_response(),
        Err(_) => (axum::http::StatusCode::SERVICE_UNAVAILABLE, "the database does not answer").into_response(),
    }
}
