//! Paper or pit, also where nobody is signed in or the database is away: a cookie carries it beside
//! the person's preference, so that an error in the dark pit does not come as a white page.

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use cookie::{Cookie, SameSite};

/// The cookie's name.
const NAME: &str = "theme";

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

fn theme_of(headers: &HeaderMap) -> &'static str {
    let sent = headers.get_all(header::COOKIE).iter().filter_map(|v| v.to_str().ok());
    let theme = sent.flat_map(Cookie::split_parse).flatten().find(|c| c.name() == NAME);
    named(theme.as_ref().map_or("", |c| c.value()))
}

/// Answers a request under the theme of its cookie.
pub async fn layer(request: Request, next: Next) -> Response {
    let theme = theme_of(request.headers());
    NOW.scope(theme, next.run(request)).await
}

/// An answer that carries the theme on.
pub fn keep(theme: &str, answer: impl IntoResponse) -> Response {
    let mut response = answer.into_response();
    let year = cookie::time::Duration::days(365);
    let cookie = Cookie::build((NAME, named(theme))).path("/").max_age(year).same_site(SameSite::Lax).http_only(true);
    if let Ok(value) = HeaderValue::from_str(&cookie.to_string()) {
        response.headers_mut().append(header::SET_COOKIE, value);
    }
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
            theme_of(&h)
        };
        assert_eq!(with("baricord=abc; theme=pit"), "pit");
        assert_eq!(with("theme=neon"), "paper");
        assert_eq!(with("mytheme=pit"), "paper");
        assert_eq!(theme_of(&HeaderMap::new()), "paper");
    }
}
