//! What went wrong, as a page that names the field or line and what to do. Nothing entered is lost:
//! the browser keeps the form, and the reason comes to it in a header.

use askama::Template;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_store::StoreError;
use baricord_store::events::CaseEvent;

/// A request that did not succeed.
#[derive(Debug)]
pub enum PageError {
    /// Not there, or of another workshop.
    NotFound,
    /// Sign in first; then go on to this path.
    SignIn(String),
    /// Not with this role.
    Forbidden(Act),
    /// The input does not fit.
    Problem(Problem),
    /// Somebody has changed the same meanwhile.
    Conflict(String),
    /// The upload is too large.
    TooLarge,
    /// What was typed or sent with a form is too much.
    FormTooLarge,
    /// Too much of this is under way at once.
    Busy(&'static str),
    /// A disk is full.
    NoRoom,
    /// What was sent did not come in time.
    TooSlow,
    /// The database does not answer.
    Down,
    /// A fault of the program.
    Broken(String),
}

impl From<StoreError> for PageError {
    fn from(e: StoreError) -> Self {
        match e {
            StoreError::NotFound => PageError::NotFound,
            StoreError::Busy(what) => PageError::Busy(what),
            e if e.is_temporary() => {
                tracing::error!(error = %e, "temporary");
                match e {
                    StoreError::NoRoom(_) | StoreError::Problem(_) => PageError::NoRoom,
                    _ => PageError::Down,
                }
            }
            StoreError::Conflict(both) => {
                let theirs = |e: &CaseEvent| format!("{} has saved meanwhile: {}", e.person, e.what);
                PageError::Conflict(both.theirs.iter().map(theirs).collect::<Vec<_>>().join("; "))
            }
            StoreError::Problem(p) => PageError::Problem(p),
            e => PageError::Broken(e.to_string()),
        }
    }
}

impl From<Problem> for PageError {
    fn from(p: Problem) -> Self {
        StoreError::from(p).into()
    }
}

/// When a request that met a limit may be sent again, s.
pub const RETRY_AFTER_SECONDS: &str = "5";

#[derive(Template)]
#[template(path = "error.html")]
struct ErrorPage {
    title: &'static str,
    message: String,
    field: Option<String>,
    line: Option<u64>,
    advice: &'static str,
    theme: &'static str,
}

impl IntoResponse for PageError {
    fn into_response(self) -> Response {
        let (status, title, problem, advice) = match self {
            PageError::SignIn(next) => {
                return Redirect::to(&format!("/sign-in?next={next}")).into_response();
            }
            PageError::NotFound => (
                StatusCode::NOT_FOUND,
                "Not here",
                Problem::new("not-found", "There is no such page, or it is not this workshop's."),
                "Go back to the board.",
            ),
            PageError::Forbidden(act) => (
                StatusCode::FORBIDDEN,
                "Not with this account",
                Problem::new("forbidden", act.refusal()),
                "Ask the owner of the workshop for another role.",
            ),
            PageError::Problem(p) if p.code == "forbidden" => {
                (StatusCode::FORBIDDEN, "Not with this account", p, "Ask the owner of the workshop for another role.")
            }
            PageError::Problem(p) => (
                StatusCode::UNPROCESSABLE_ENTITY,
                "That does not fit",
                p,
                "What you typed is still there: go back, correct it, send it again.",
            ),
            PageError::Conflict(m) => (
                StatusCode::CONFLICT,
                "Changed meanwhile",
                Problem::new("conflict", m),
                "What you typed is still there: look at the case in another tab, then send yours again.",
            ),
            PageError::TooLarge => (
                StatusCode::PAYLOAD_TOO_LARGE,
                "Too large",
                Problem::new("too-large", "A recording may have up to 2 GiB.").field("file"),
                "Cut the recording to the run that matters, or record fewer channels.",
            ),
            PageError::FormTooLarge => (
                StatusCode::PAYLOAD_TOO_LARGE,
                "Too much",
                Problem::new("too-large", "What is sent with a form may have up to 256 KiB."),
                "Send less at once; files have a way in of their own.",
            ),
            PageError::Busy(what) => (
                StatusCode::SERVICE_UNAVAILABLE,
                "Busy",
                Problem::new("busy", format!("The server is at its limit: {what}. Nothing was changed.")),
                "Try again in a few seconds; what you typed stays.",
            ),
            PageError::NoRoom => (
                StatusCode::SERVICE_UNAVAILABLE,
                "No room left",
                Problem::new("no-room", "A disk of the server is full. Nothing was changed."),
                "Tell whoever runs this server; what you typed stays.",
            ),
            PageError::TooSlow => (
                StatusCode::REQUEST_TIMEOUT,
                "Too slow",
                Problem::new("too-slow", "What was sent did not come in time."),
                "Try again where the connection is better.",
            ),
            PageError::Down => (
                StatusCode::SERVICE_UNAVAILABLE,
                "The database does not answer",
                Problem::new("unavailable", "The server has lost its database. Nothing was changed."),
                "Leave this page open and try again in a moment; what you typed stays.",
            ),
            PageError::Broken(m) => {
                tracing::error!(message = m, "broken");
                (
                    StatusCode::INTERNAL_SERVER_ERROR,
                    "A fault of the program",
                    Problem::new("broken", "Something went wrong that should not. It is in the server's log."),
                    "Try again; if it stays, tell whoever runs this server.",
                )
            }
        };
        let header = match (&problem.field, problem.line) {
            (Some(f), Some(l)) => format!("{} ({f}, line {l})", problem.message),
            (Some(f), None) => format!("{} ({f})", problem.message),
            (None, Some(l)) => format!("{} (line {l})", problem.message),
            (None, None) => problem.message.clone(),
        };
        let coded = |text: &str| {
            let coded = percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC).to_string();
            HeaderValue::from_str(&coded).ok()
        };
        let field = problem.field.as_deref().and_then(coded);
        let page = ErrorPage {
            title,
            message: problem.message,
            field: problem.field,
            line: problem.line,
            advice,
            theme: crate::theme::now(),
        };
        let mut response = (status, Html(page.render().unwrap_or_else(|e| e.to_string()))).into_response();
        if status == StatusCode::SERVICE_UNAVAILABLE {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static(RETRY_AFTER_SECONDS));
        }
        // Percent-encoded: headers are ASCII, sentences are not.
        if let Some(v) = coded(&header) {
            response.headers_mut().insert("x-problem", v);
        }
        // By which the page finds the field in its form.
        if let Some(v) = field {
            response.headers_mut().insert("x-problem-field", v);
        }
        response
    }
}

/// No such address.
pub async fn nowhere() -> PageError {
    PageError::NotFound
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_temporary_is_503_with_a_time_to_come_again_and_the_rest_is_not() {
        let of = |e: StoreError| {
            let r = PageError::from(e).into_response();
            (r.status().as_u16(), r.headers().contains_key(header::RETRY_AFTER))
        };
        assert_eq!(of(StoreError::Busy("other maps are being drawn")), (503, true));
        assert_eq!(of(StoreError::NoRoom("a disk is full".into())), (503, true));
        assert_eq!(of(Problem::new("no-room", "the temporary folder is full").into()), (503, true));
        assert_eq!(of(Problem::new("missing", "a field").into()), (422, false));
        assert_eq!(of(StoreError::NotFound), (404, false));
        assert_eq!(of(StoreError::Broken("x".into())), (500, false));
        assert_eq!(PageError::FormTooLarge.into_response().status(), 413);
        assert_eq!(PageError::TooSlow.into_response().status(), 408);
        assert_eq!(PageError::Forbidden(Act::Buy).into_response().status(), 403);
    }
}
