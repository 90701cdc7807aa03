//! Signing in and out. Sessions are on the server; attempts are limited for each address.

use crate::App;
use crate::error::PageError;
use crate::rendered_pages::RenderedPages;
use crate::{reader_units, theme};
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{FromRequestParts, Query, State};
use axum::http::header::SET_COOKIE;
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Form, Router};
use axum_login::{AuthUser, AuthnBackend, UserId};
use baricord_core::permission::Act;
use baricord_core::units::UnitSystem;
use baricord_store::events::Author;
use baricord_store::people::Person;
use baricord_store::{Scope, Store, StoreError};
use cookie::{Cookie, SameSite};
use serde::Deserialize;
use std::sync::Arc;
use tower_governor::GovernorLayer;
use tower_governor::governor::GovernorConfigBuilder;
use tower_governor::key_extractor::PeerIpKeyExtractor;
use uuid::Uuid;

/// Who signs in, checked against the store.
#[derive(Clone)]
pub struct Backend {
    /// What is kept.
    pub store: Store,
}

/// A person with a session.
#[derive(Clone, Debug)]
pub struct SignedIn(pub Person);

impl AuthUser for SignedIn {
    type Id = Uuid;
    fn id(&self) -> Uuid {
        self.0.id
    }
    fn session_auth_hash(&self) -> &[u8] {
        self.0.session_key()
    }
}

/// What the sign-in form sends.
#[derive(Clone, Deserialize)]
pub struct Credentials {
    email: String,
    password: String,
    #[serde(default)]
    next: String,
}

impl AuthnBackend for Backend {
    type User = SignedIn;
    type Credentials = Credentials;
    type Error = StoreError;

    async fn authenticate(&self, c: Credentials) -> Result<Option<SignedIn>, StoreError> {
        Ok(self.store.sign_in(&c.email, &c.password).await?.map(SignedIn))
    }
    async fn get_user(&self, id: &UserId<Self>) -> Result<Option<SignedIn>, StoreError> {
        Ok(self.store.person(*id).await?.map(SignedIn))
    }
}

type AuthSession = axum_login::AuthSession<Backend>;

/// A signed-in member of a workshop: handlers that take this cannot be reached without.
#[derive(Clone)]
pub struct Member {
    /// Who.
    pub person: Person,
    store: Store,
    pub(crate) pages: RenderedPages,
    /// Whether a page is made before they ask for it.
    pub(crate) ahead: bool,
}

impl Member {
    /// Somebody who is likely to look next: nothing is answered to them yet.
    pub(crate) fn ahead(app: &App, person: Person) -> Self {
        Self { person, store: app.store.clone(), pages: app.pages.clone(), ahead: true }
    }

    /// Where it is kept what they see.
    pub(crate) fn store(&self) -> &Store {
        &self.store
    }

    /// Starts work in their workshop.
    pub async fn scope(&self) -> Result<Scope, PageError> {
        Ok(self.store.scope(self.person.workshop_id).await?)
    }

    /// The units in which they read and type.
    pub fn units(&self) -> UnitSystem {
        UnitSystem::of(&self.person.units)
    }

    /// As the author of what they do.
    pub fn author(&self) -> Author {
        Author::person(&self.person.name, self.person.role())
    }
}

impl FromRequestParts<App> for Member {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        let session = AuthSession::from_request_parts(parts, app).await.map_err(|_| PageError::Down)?;
        match session.user.filter(|u| !u.0.demo || app.is_demo_request(&parts.headers)) {
            Some(SignedIn(person)) => {
                reader_units::reads(UnitSystem::of(&person.units));
                Ok(Member { person, store: app.store.clone(), pages: app.pages.clone(), ahead: false })
            }
            None => {
                let get = parts.method == axum::http::Method::GET;
                let next = if get { parts.uri.path() } else { "/" };
                Err(PageError::SignIn(next.to_string()))
            }
        }
    }
}

/// Only for those whose role allows it.
pub fn may(m: &Member, act: Act) -> Result<(), PageError> {
    if m.person.role().may(act) { Ok(()) } else { Err(PageError::Forbidden(act)) }
}

/// Only for those who may change cases.
pub fn may_write(m: &Member) -> Result<(), PageError> {
    may(m, Act::Edit)
}

#[derive(Template, WebTemplate)]
#[template(path = "sign_in.html")]
struct SignInPage {
    theme: &'static str,
    demo: bool,
    /// There is no workshop yet: nobody can sign in.
    empty: bool,
    next: String,
    email: String,
    wrong: bool,
}

#[derive(Deserialize)]
struct Next {
    #[serde(default)]
    next: String,
}

/// Only a path of this server is gone on to.
fn safe(next: &str) -> &str {
    let plain = next.bytes().all(|b| b.is_ascii_graphic() && b != b'\\');
    if next.starts_with('/') && !next.starts_with("//") && plain { next } else { "/" }
}

async fn form(State(app): State<App>, headers: HeaderMap, Query(q): Query<Next>) -> Result<SignInPage, PageError> {
    Ok(SignInPage {
        theme: theme::now(),
        demo: app.is_demo_request(&headers),
        empty: app.store.is_empty().await?,
        next: safe(&q.next).into(),
        email: String::new(),
        wrong: false,
    })
}

async fn sign_in(
    State(app): State<App>,
    headers: HeaderMap,
    mut session: AuthSession,
    Form(c): Form<Credentials>,
) -> Result<Response, PageError> {
    let next = safe(&c.next).to_string();
    let email = c.email.clone();
    let user = session.authenticate(c).await.map_err(|e| match e {
        axum_login::Error::Backend(e) => PageError::from(e),
        e => PageError::Broken(e.to_string()),
    })?;
    let demo = app.is_demo_request(&headers);
    // The demo's people are nobody where the demo does not run: there everybody knows their password.
    let Some(user) = user.filter(|u| !u.0.demo || demo) else {
        let page = SignInPage { theme: theme::now(), demo, empty: false, next, email, wrong: true };
        return Ok((StatusCode::UNAUTHORIZED, page).into_response());
    };
    session.login(&user).await.map_err(|e| PageError::Broken(e.to_string()))?;
    let known = known_to_pages(&user.0.id.to_string(), Redirect::to(&next));
    Ok(theme::keep(&user.0.theme, known))
}

/// Pages keep what was typed and not sent by who typed it: a cookie that scripts can read says who is signed in. It opens nothing.
fn known_to_pages(person: &str, answer: impl IntoResponse) -> Response {
    let mut response = answer.into_response();
    let year = cookie::time::Duration::days(365);
    let cookie = Cookie::build(("person", person)).path("/").max_age(year).same_site(SameSite::Lax);
    if let Ok(value) = HeaderValue::from_str(&cookie.to_string()) {
        response.headers_mut().append(SET_COOKIE, value);
    }
    response
}

async fn sign_out(mut session: AuthSession) -> Result<Redirect, PageError> {
    session.logout().await.map_err(|e| PageError::Broken(e.to_string()))?;
    Ok(Redirect::to("/sign-in"))
}

#[derive(Deserialize)]
struct Preferences {
    #[serde(default)]
    theme: Option<String>,
    #[serde(default)]
    units: Option<String>,
    #[serde(default)]
    back: String,
}

async fn preferences(m: Member, Form(p): Form<Preferences>) -> Result<Response, PageError> {
    let theme = theme::named(p.theme.as_deref().unwrap_or(&m.person.theme));
    let units = p.units.as_deref().map_or(m.units(), UnitSystem::of);
    let mut s = m.scope().await?;
    s.set_preferences(m.person.id, theme, units.id()).await?;
    s.commit().await?;
    Ok(theme::keep(theme, Redirect::to(safe(&p.back))))
}

/// Sign-in: ten attempts at once from one address, then one every two seconds: slow for guessing,
/// unnoticed by people, and no way to keep others out.
pub fn routes() -> Router<App> {
    let limit = GovernorConfigBuilder::default().per_second(2).burst_size(10).key_extractor(PeerIpKeyExtractor).finish();
    let post_sign_in = match limit {
        Some(config) => post(sign_in).layer(GovernorLayer::new(Arc::new(config))),
        None => post(sign_in),
    };
    Router::new()
        .route("/sign-in", get(form).merge(post_sign_in))
        .route("/sign-out", post(sign_out))
        .route("/preferences", post(preferences))
}

/// Connections of the owner, for preparing the session table.
pub(crate) async fn owner_pool(url: &str) -> Result<sqlx::PgPool, String> {
    sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(url).await.map_err(|e| e.to_string())
}

pub(crate) async fn grant_sessions(pool: &sqlx::PgPool) -> Result<(), String> {
    for q in [
        "GRANT USAGE ON SCHEMA tower_sessions TO baricord_app",
        "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA tower_sessions TO baricord_app",
    ] {
        sqlx::query(q).execute(pool).await.map_err(|e| e.to_string())?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::safe;

    #[test]
    fn only_paths_of_this_server_are_gone_on_to() {
        assert_eq!(safe("/cases/1"), "/cases/1");
        for bad in ["//evil.example", "https://evil.example", "", "/\\evil", "cases", "/a\r\nset-cookie: x", "/\t/evil"] {
            assert_eq!(safe(bad), "/", "{bad}");
        }
    }
}
