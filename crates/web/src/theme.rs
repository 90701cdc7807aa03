//! Paper or pit, also where nobody is signed in or the database is away: a cookie carries it beside
//! the person's preference, so that an error in the dark pit does not come as a white page.

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

tokio::task_local! {
    static NOW: &'static str;
}

/// One of the two.
pub fn named(word: &str) -> &'static str {
    if word == "pit" { "pit" } else { "paper" }
}

/// The theme of the request that is being answered.
pub fn now() -> &'static str {
    NOW.try_with(|t| *t).unwrap_or("paper")
}

fn of(headers: &HeaderMap) -> &'static str {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|v| v.to_str().ok()).flat_map(|v| v.split(';'));
    named(cookies.filter_map(|c| c.trim().strip_prefix("theme=")).next().unwrap_or_default())
}

/// Answers a request under the theme of its cookie.
pub async fn layer(request: Request, next: Next) -> Response {
    let theme = of(request.headers());
    NOW.scope(theme, next.run(request)).await
}

/// An answer that carries the theme on.
pub fn keep(theme: &str, answer: impl IntoResponse) -> Response {
    let mut response = answer.into_response();
    let cookie = match named(theme) {
        "pit" => "theme=pit; Path=/; Max-Age=31536000; SameSite=Lax; HttpOnly",
        _ => "theme=paper; Path=/; Max-Age=31536000; SameSite=Lax; HttpOnly",
    };
    response.headers_mut().append(header::SET_COOKIE, HeaderValue::from_static(cookie));
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_cookie_among_others_says_which() {
        let with = |c: &str| {
            let mut h = HeaderMap::new();
            h.insert(header::COOKIE, c.parse().unwrap());
            of(&h)
        };
        assert_eq!(with("baricord=abc; theme=pit"), "pit");
        assert_eq!(with("theme=neon"), "paper");
        assert_eq!(with("mytheme=pit"), "paper");
        assert_eq!(of(&HeaderMap::new()), "paper");
    }
}
