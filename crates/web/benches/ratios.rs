//! The pages of a case beside a trivial page with one query, in one process; absolute times are reported,
//! never asserted.

#[path = "../tests/web/support/mod.rs"]
mod support;

use std::time::{Duration, Instant};
use support::Ground;

fn main() {
    if std::env::var("BARICORD_TEST_DATABASE").is_err() {
        println!("pages: no database here; run ./scripts/bench");
        return;
    }
    tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime").block_on(pages());
}

async fn pages() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let time = async |path: &str| {
        let mut least = Duration::MAX;
        for _ in 0..40 {
            let t = Instant::now();
            let r = g.get(&c, path).await;
            assert!(r.status().is_success(), "{path}: {}", r.status());
            r.bytes().await.expect("a body");
            least = least.min(t.elapsed());
        }
        least
    };
    let trivial = time("/readyz").await;
    println!("trivial page with one query: {trivial:.1?}");
    for page in ["/", "/cases/{id}/complaint", "/cases/{id}/road", "/cases/{id}/decide", "/cases/{id}/prove"] {
        let t = time(&page.replace("{id}", &id.to_string())).await;
        println!("{page}: {:.1} x the trivial page ({t:.1?})", t.as_secs_f64() / trivial.as_secs_f64());
    }
}
