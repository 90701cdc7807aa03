//! The walk under the vehicle: one question at a time, by touch on a phone and by keys.

mod support;

use serde_json::{Value, json};
use support::{Browser, Ground};
use uuid::Uuid;

/// A finger on the middle of an element.
async fn tap(b: &Browser, css: &str) {
    b.see(css).await;
    let at = b
        .js(&format!(
            "const e = document.querySelector({css:?}); e.scrollIntoView({{block: 'center'}}); const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]"
        ))
        .await;
    let touch = |kind: &str, points: Value| json!({"type": kind, "touchPoints": points});
    let cdp = b.web.cdp();
    cdp.send_raw("Input.dispatchTouchEvent", touch("touchStart", json!([{"x": at[0], "y": at[1]}]))).await.unwrap();
    cdp.send_raw("Input.dispatchTouchEvent", touch("touchEnd", json!([]))).await.unwrap();
}

/// A case with a growl beside its vibration: much can be looked at.
async fn growl(g: &Ground) -> Uuid {
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/symptoms"), &[("kind", "growl"), ("words", "growls")]).await.status(), 303);
    id
}

async fn document(g: &Ground, id: Uuid) -> Value {
    g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document
}

/// What is asked now: the test and its place; nothing while the page changes.
async fn asked(b: &Browser) -> (String, String) {
    let x = b.js("const s = document.querySelector('article.stop'); return s ? [s.dataset.test, s.dataset.at] : ['', '']").await;
    (x[0].as_str().unwrap_or_default().into(), x[1].as_str().unwrap_or_default().into())
}

/// Waits until something is asked of which this holds.
async fn until_asked(b: &Browser, holds: impl Fn(&(String, String)) -> bool) -> (String, String) {
    for _ in 0..200 {
        let now = asked(b).await;
        if !now.0.is_empty() && holds(&now) {
            return now;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("still asked: {:?}", asked(b).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_walk_goes_on_by_touch_on_a_phone() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.size(390, 844).await;
    let cdp = b.web.cdp();
    let phone = json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    cdp.send_raw("Emulation.setDeviceMetricsOverride", phone).await.unwrap();
    cdp.send_raw("Emulation.setTouchEmulationEnabled", json!({"enabled": true})).await.unwrap();
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    b.check("the walk on a phone").await;
    tap(&b, "form.stand button").await;
    b.says("The vehicle is up").await;
    assert_eq!(document(&g, id).await["state"]["on"], "lift");
    // Can't tell: nothing is weighed, and it waits at the end.
    let first = until_asked(&b, |_| true).await;
    let before = document(&g, id).await["observations"].as_array().unwrap().len();
    tap(&b, ".stop-answers .unsure").await;
    until_asked(&b, |a| *a != first).await;
    let d = document(&g, id).await;
    assert_eq!(
        (d["observations"].as_array().unwrap().len(), d["asked_later"][0]["test"].as_str()),
        (before, Some(first.0.as_str()))
    );
    b.says("asked again").await;
    // An answer with its note.
    let second = until_asked(&b, |_| true).await;
    b.fill("input[name=note]", "rust at the cap").await;
    let outcome = b.js("return document.querySelector('.stop-answers .answer').value").await;
    tap(&b, ".stop-answers .answer").await;
    until_asked(&b, |a| *a != second).await;
    let d = document(&g, id).await;
    let last = d["observations"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((last["test"].as_str(), last["outcome"].as_str()), (Some(second.0.as_str()), outcome.as_str()));
    assert_eq!(last["note"], "rust at the cap");
    b.says("rust at the cap").await;
    let wide = b.js("return document.documentElement.scrollWidth").await.as_f64().unwrap();
    assert!(wide <= 390.0, "{wide}");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_walk_goes_on_by_keys() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    let first = until_asked(&b, |_| true).await;
    let before = document(&g, id).await["observations"].clone();
    b.key("1").await;
    until_asked(&b, |a| *a != first).await;
    let d = document(&g, id).await;
    assert_eq!(d["observations"].as_array().unwrap().last().unwrap()["test"], first.0.as_str());
    // Taken back, it is asked again.
    b.key("u").await;
    for _ in 0..100 {
        if document(&g, id).await["observations"] == before {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    until_asked(&b, |a| *a == first).await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn wheels_do_not_turn_under_power_before_what_must_be_seen_to_was() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let (a, other) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let page = g.get(&a, &format!("/cases/{id}/lift?s=S2&test=lift-run")).await.text().await.unwrap();
    assert!(page.contains("name=\"seen-to\"") && page.contains("every driven wheel free"), "{page}");
    let run = [("test", "lift-run"), ("outcome", "not-heard"), ("symptom", "S1"), ("back", "lift")];
    let r = g.post_form(&a, &format!("/cases/{id}/observations"), &run).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("nobody in line"));
    let seen: Vec<_> = run.iter().copied().chain([("seen-to", "yes")]).collect();
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/observations"), &seen).await.status(), 303);
    for (path, fields) in [("lift/later", [("test", "wheel-rock")]), ("lift/stand", [("on", "lift")])] {
        assert_eq!(g.post_form(&other, &format!("/cases/{id}/{path}"), &fields).await.status(), 404, "{path}");
    }
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/lift/stand"), &[("on", "moon")]).await.status(), 422);
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/lift/later"), &[("test", "kick-tyre")]).await.status(), 422);
}
