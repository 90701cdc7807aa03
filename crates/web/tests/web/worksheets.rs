//! Work it out: the sums on their sheets, what is kept of them, readings that are owed, read twice, or stale; the workshop's book.

use crate::support::{Browser, Ground};
use serde_json::{Value, json};

const OWN: &str = "a@harrowmere.example";
const OTHER: &str = "b@skerry.example";
const LEARNER: &str = "a.learns@harrowmere.example";

fn count(d: &Value, list: &str) -> usize {
    d[list].as_array().map_or(0, Vec::len)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_sheet_opens_fits_a_phone_and_answers() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/measure?s=S1", g.url)).await;
    let sheets =
        b.js("return [...document.querySelectorAll('nav[aria-label=\"Sums\"] a')].map((a) => a.getAttribute('href'))").await;
    let sheets: Vec<String> = serde_json::from_value(sheets).unwrap();
    assert!(sheets.len() >= 12, "{sheets:?}");
    for s in &sheets {
        b.go(&format!("{}{s}", g.url)).await;
        b.check(s).await;
        b.size(390, 844).await;
        b.check(&format!("{s} on a phone")).await;
        b.size(1280, 800).await;
    }
    // Balance without phase, the worked runs.
    b.go(&format!("{}/cases/{id}/work-out/balance?s=S1", g.url)).await;
    for (name, value) in [("v0-a", "3"), ("mass", "10"), ("t0-a", "4.551"), ("t1-a", "1.087"), ("t2-a", "4.136"), ("clamp", "9")]
    {
        b.fill(&format!("input[name={name}]"), value).await;
    }
    b.says("15.0 g at 130°").await;
    b.says("clamp housings at").await;
    b.click("button.keep-sheet").await;
    let d = g.once(id, |d| count(d, "notes") == 1).await;
    assert!(d["notes"][0]["text"].as_str().unwrap().contains("15.0 g at 130°"), "{}", d["notes"]);
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pattern_becomes_the_answer_that_it_amounts_to_and_bad_input_is_named() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let sheet = format!("/cases/{id}/work-out/contact-pattern");
    let deep = [
        ("at", "diff.rear"),
        ("symptom", "S1"),
        ("drive-along", "centre"),
        ("drive-height", "flank"),
        ("coast-along", "centre"),
        ("coast-height", "flank"),
    ];
    // Nothing is good before it was looked at.
    let blank = g.get(&c, &format!("{sheet}?s=S1")).await.text().await.unwrap();
    assert!(!blank.contains("Save as answer"), "{blank}");
    let html = g.post_form(&c, &format!("{sheet}/answer"), &deep).await.text().await.unwrap();
    assert!(html.contains("pinion away from the ring") && html.contains("Save as answer: deep"), "{html}");
    assert!(g.post_form(&c, &sheet, &deep).await.status().is_redirection());
    let d = g.document(id).await;
    let last = d["observations"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((&last["test"], &last["outcome"], &last["at"]), (&json!("contact-pattern"), &json!("deep"), &json!("diff.rear")));
    let bad = g.post_form(&c, &format!("/cases/{id}/work-out/torque/answer"), &[("at", "wheel.rl"), ("p1-to", "ninety")]).await;
    let bad = bad.text().await.unwrap();
    assert!(bad.contains("ninety"), "{bad}");
    let out = g
        .post_form(
            &c,
            &format!("/cases/{id}/work-out/torque/answer"),
            &[("p1-to", "90"), ("n", "5"), ("low", "20"), ("high", "80")],
        )
        .await;
    let out = out.text().await.unwrap();
    assert!(out.contains("1 · 3 · 5 · 2 · 4") && out.contains("take another wrench"), "{out}");
    assert_eq!(g.get(&c, &format!("/cases/{id}/work-out/astrology")).await.status(), 404);
    // Another workshop's case, and who may only look.
    let other = g.client(Some(OTHER)).await;
    assert_eq!(g.get(&other, &format!("{sheet}?s=S1")).await.status(), 404);
    assert_eq!(g.post_form(&other, &format!("{sheet}/answer"), &deep).await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn slopes_over_their_limit_show_what_would_cure_them_and_what_is_put_off_stands_on_the_board() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let gauge = format!("{}/cases/{id}/measure?tool=angles&s=S1", g.url);
    b.go(&gauge).await;
    b.click(".put-off button[value=not-level]").await;
    b.says("Owed").await;
    g.once(id, |d| d["asked_later"].as_array().is_some_and(|a| a.iter().any(|l| l["why"] == "not-level"))).await;
    b.go(&format!("{}/", g.url)).await;
    b.says("not level").await;
    b.go(&gauge).await;
    for (i, (deg, again)) in [("4.0", "4.2"), ("1.0", ""), ("7.5", ""), ("1.0", "")].into_iter().enumerate() {
        b.fill(&format!("input[name=side{i}]"), deg).await;
        b.fill(&format!("input[name=again{i}]"), again).await;
        b.js(&format!("document.querySelector('input[name=end{i}][value=lower]').click()")).await;
    }
    b.says("what would cure it").await;
    b.check("angles with what would cure them").await;
    b.click("form button.first").await;
    let d = g
        .once(id, |d| {
            d["measurements"]
                .as_array()
                .unwrap()
                .iter()
                .any(|m| m["kind"] == "angles" && !m["input"]["elements"][0]["side_readings_deg"].is_null())
        })
        .await;
    let first =
        &d["measurements"].as_array().unwrap().iter().rev().find(|m| m["kind"] == "angles").unwrap()["input"]["elements"][0];
    assert_eq!(first["side_readings_deg"], json!([4, 4.2]));
    b.go(&format!("{}/cases/{id}/work-out/angle-plan?s=S1", g.url)).await;
    b.says("as it is today").await;
    b.says("equal and opposite at cruise").await;
    b.check("the plan of the angles").await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_workshops_book_gives_a_numbered_bearing_its_lines() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let bearing = |source: &'static str| {
        [("number", "fl 6208"), ("balls", "9"), ("element", "12"), ("pitch", "58"), ("contact", "0"), ("source", source)]
    };
    assert_eq!(g.post_form(&c, "/knowledge/bearings", &bearing("")).await.status(), 422);
    assert!(g.post_form(&c, "/knowledge/bearings", &bearing("measured on one")).await.status().is_redirection());
    let page = g.get(&c, "/knowledge").await.text().await.unwrap();
    assert!(page.contains("FL6208") && page.contains("measured on one"));
    let answer = format!("/cases/{id}/work-out/bearing/answer");
    let known = g.post_form(&c, &answer, &[("at", "hub.rl"), ("number", "FL6208")]).await.text().await.unwrap();
    assert!(known.contains("outer ring"), "{known}");
    let unknown = g.post_form(&c, &answer, &[("at", "hub.rl"), ("number", "6310")]).await.text().await.unwrap();
    assert!(unknown.contains("not in the workshop&#39;s book") || unknown.contains("not in the workshop's book"), "{unknown}");
    // A number in the vehicle is enough: its lines are on its own page.
    g.changed_by("A", id, |d| d["vehicle"]["bearings"] = json!([{"at": "hub.rl", "number": "FL6208", "contact_deg": 0}])).await;
    let hub = g.get(&c, &format!("/cases/{id}/part/hub.rl?s=S1")).await.text().await.unwrap();
    assert!(hub.contains("bearing"), "{hub}");
    let learner = g.client(Some(LEARNER)).await;
    assert_eq!(g.post_form(&learner, "/knowledge/bearings", &bearing("x")).await.status(), 403);
    assert!(g.post_form(&c, "/knowledge/bearings", &[("number", "FL6208"), ("back", "yes")]).await.status().is_redirection());
    assert!(!g.get(&c, "/knowledge").await.text().await.unwrap().contains("FL6208"));
}
