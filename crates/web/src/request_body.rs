//! What a request may carry before anything is known of who sends it.
//!
//! Outside the routes that take files, and those for programs, a body is small, comes in time, and is read whole
//! before a handler sees it. Nowhere does text hold a NUL: PostgreSQL keeps none, and a search would break on it.

use crate::error::PageError;
use axum::body::{Body, Bytes};
use axum::extract::Request;
use axum::http::{Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use baricord_core::error::Problem;
use http_body_util::BodyExt;
use std::time::Duration;

/// Largest body outside files and the routes for programs, bytes.
pub const MAX_FORM: usize = 256 << 10;
/// So much of a larger one is read and let go of, bytes.
const MAX_LET_GO: usize = 8 << 20;
/// A form is all there within this time.
const FORM_TIMEOUT: Duration = Duration::from_secs(30);
/// A file comes on within this time, piece by piece.
pub const FILE_TIMEOUT: Duration = Duration::from_secs(60);

fn nul(field: &str) -> PageError {
    Problem::new("nul", "a text holds the character NUL, which is no text").field(field).into()
}

/// Refuses an address with a NUL in it.
fn check_address(uri: &Uri) -> Result<(), PageError> {
    let has = |text: &str| text.contains("%00");
    if has(uri.path()) || uri.query().is_some_and(has) { Err(nul("address")) } else { Ok(()) }
}

/// Every request: its address is text.
pub async fn address(request: Request, next: Next) -> Response {
    match check_address(request.uri()) {
        Ok(()) => next.run(request).await,
        Err(e) => e.into_response(),
    }
}

/// Reads a body up to [`MAX_FORM`]. Of what is larger a little more is read and let go of: a browser that is still
/// sending hears the answer.
async fn collect(mut body: Body) -> Result<Vec<u8>, PageError> {
    let (mut bytes, mut length) = (vec![], 0usize);
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|e| Problem::new("bad-request", format!("the request broke off: {e}")))?;
        let Ok(data) = frame.into_data() else { continue };
        length += data.len();
        if length <= MAX_FORM {
            bytes.extend_from_slice(&data);
        } else {
            bytes = vec![];
        }
        if length > MAX_LET_GO {
            break;
        }
    }
    if length > MAX_FORM { Err(PageError::FormTooLarge) } else { Ok(bytes) }
}

async fn read(body: Body, is_form: bool, within: Duration) -> Result<Bytes, PageError> {
    let bytes = tokio::time::timeout(within, collect(body)).await.map_err(|_| PageError::TooSlow)??;
    let escaped = is_form && bytes.windows(3).any(|w| w == b"%00");
    if escaped || bytes.contains(&0) { Err(nul("form")) } else { Ok(bytes.into()) }
}

/// A route that takes no file: its body is read here, up to [`MAX_FORM`].
pub async fn form(request: Request, next: Next) -> Response {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let is_form = kind.to_ascii_lowercase().starts_with("application/x-www-form-urlencoded");
    let (parts, body) = request.into_parts();
    match read(body, is_form, FORM_TIMEOUT).await {
        Ok(bytes) => next.run(Request::from_parts(parts, bytes.into())).await,
        Err(e) => e.into_response(),
    }
}

/// Whether a text from a form with files holds a NUL.
pub fn check_text(field: &str, text: &str) -> Result<(), PageError> {
    if text.contains('\0') { Err(nul(field)) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_with_a_nul_is_refused() {
        for bad in ["/?q=%00", "/cases/%00", "/a?b=c%00d"] {
            assert!(check_address(&bad.parse().unwrap()).is_err(), "{bad}");
        }
        for fine in ["/", "/?q=100%25", "/?q=%2500"] {
            assert!(check_address(&fine.parse().unwrap()).is_ok(), "{fine}");
        }
    }

    async fn whole(body: Body, is_form: bool) -> Result<Bytes, PageError> {
        read(body, is_form, FORM_TIMEOUT).await
    }

    #[tokio::test]
    async fn a_body_is_bounded_and_holds_no_nul() {
        assert_eq!(whole("a=b".into(), true).await.unwrap(), "a=b");
        assert!(matches!(whole(vec![b'x'; MAX_FORM + 1].into(), true).await, Err(PageError::FormTooLarge)));
        assert!(whole(vec![b'x'; MAX_FORM].into(), true).await.is_ok());
        assert!(whole("a=%00".into(), true).await.is_err());
        assert!(whole("{\"a\": \"%00\"}".into(), false).await.is_ok(), "only a form is escaped so");
        assert!(whole("a\0".into(), false).await.is_err());
    }

    #[tokio::test]
    async fn a_body_that_does_not_go_on_is_let_go() {
        let first = futures_util::stream::iter([Ok::<_, std::io::Error>("a=")]);
        let body = Body::from_stream(futures_util::StreamExt::chain(first, futures_util::stream::pending()));
        assert!(matches!(read(body, true, Duration::from_millis(50)).await, Err(PageError::TooSlow)));
    }
}
