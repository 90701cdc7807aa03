//! The page on which a person keeps the tokens by which programs call under their name.

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Form, Path};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::error::Problem;
use baricord_store::tokens::Token;
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template, WebTemplate)]
#[template(path = "tokens.html")]
struct TokensPage {
    theme: &'static str,
    person: String,
    tokens: Vec<Token>,
    /// Shown once, when it was made.
    fresh: String,
}

async fn page(m: &Member, fresh: String) -> Result<TokensPage, PageError> {
    let tokens = m.scope().await?.tokens(m.person.id).await?;
    Ok(TokensPage { theme: crate::theme::now(), person: m.person.name.clone(), tokens, fresh })
}

async fn tokens(m: Member) -> Result<TokensPage, PageError> {
    page(&m, String::new()).await
}

#[derive(Deserialize)]
struct Named {
    #[serde(default)]
    name: String,
}

async fn add(m: Member, Form(f): Form<Named>) -> Result<TokensPage, PageError> {
    may_write(&m)?;
    let name = f.name.trim();
    if name.is_empty() || name.len() > 80 {
        return Err(Problem::new("missing", "say in a few words what the token is for").field("name").into());
    }
    let mut s = m.scope().await?;
    let fresh = s.add_token(m.person.id, name).await?;
    s.commit().await?;
    let fresh = fresh.ok_or_else(|| Problem::new("too-many", "twenty tokens are enough: take one back first").field("name"))?;
    page(&m, fresh).await
}

async fn remove(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    s.remove_token(m.person.id, id).await?;
    s.commit().await?;
    Ok(Redirect::to("/tokens"))
}

/// The pages on which a person keeps their tokens.
pub fn routes() -> Router<App> {
    Router::new().route("/tokens", get(tokens).post(add)).route("/tokens/{id}/remove", post(remove))
}
