//! A danger is proposed where the evidence says so, said by a person with distance and speed, and stands in red on every page
//! and on paper until somebody answers it.

use crate::support::{Browser, Ground};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::reasoning::first_steps::layouts;
use serde_json::{Value, json};
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";
const PAGES: [&str; 15] = [
    "complaint",
    "road",
    "lift",
    "measure",
    "decide",
    "repair",
    "prove",
    "part/engine",
    "lift/leaves",
    "lift/listen",
    "sounds",
    "opinions",
    "paper",
    "road/card",
    "measure?tool=angles",
];

async fn case(g: &Ground, layout: usize, kind: &str, observations: Value) -> Uuid {
    let mut doc = Case::new_document("d", "Mail van 2: knock", json!(layouts().remove(layout).1));
    doc["symptoms"] = json!([{"id": "S1", "kind": kind}]);
    doc["observations"] = observations;
    let mut s = g.store.scope(g.a).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Harrowmere").await.unwrap();
    s.commit().await.unwrap();
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_danger_is_proposed_on_every_page_until_somebody_answers_it() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let id = case(&g, 3, "knock", json!([{"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}])).await;
    let every = async |wanted: &str, not: &str| {
        for p in PAGES {
            let page = g.get(&c, &format!("/cases/{id}/{p}")).await.text().await.unwrap();
            assert!(page.contains(wanted), "{p}: {wanted}");
            assert!(not.is_empty() || !page.contains(not), "{p}: {not}");
        }
    };
    every("safety-strip proposed", "").await;
    assert!(g.get(&c, "/").await.text().await.unwrap().contains("proposed: not to be driven; "), "the board");
    let decide = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(decide.contains("Proposed: Not to be driven") && decide.contains("front left wheel: seen"), "{decide}");
    // A person says it, by one press; it stands everywhere and on the board, and nothing is proposed any more.
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    b.check("a danger that is proposed").await;
    b.click(".propose button[name=drive][value=no]").await;
    b.see(".safety-strip:not(.proposed)").await;
    b.end().await;
    let d = g.document(id).await;
    assert_eq!((&d["safety"][0]["drive"], &d["safety"][0]["by"]), (&json!("no"), &json!("Harrowmere")));
    assert!(d["safety"][0]["answers"].as_array().is_some_and(|a| a.iter().any(|s| s["fault"] == "wheel-loose")), "{d}");
    every("Not to be driven", "safety-strip proposed").await;
    assert!(g.get(&c, "/").await.text().await.unwrap().contains("not to be driven; "));
    // Somebody else says that it may, in view of just this: it is cleared.
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    let answers = page.split("name=\"answers\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_string();
    assert!(answers.contains("wheel-loose@wheel.fl"), "{answers}");
    let fine =
        [("drive", "yes"), ("reason", "nuts to their torque, seats clean"), ("answers", answers.as_str()), ("observations", "1")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/safety"), &fine).await.status(), 303);
    let decide = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(!decide.contains("safety-strip"), "cleared");
    // The same one found loose again: it is proposed again. And so is another one.
    g.changed_by("Tovi", id, |d| {
        let mut again = d["observations"][0].clone();
        again.as_object_mut().unwrap().remove("id");
        d["observations"].as_array_mut().unwrap().push(again);
    })
    .await;
    every("safety-strip proposed", "").await;
    g.changed_by("Tovi", id, |d| {
        d["observations"].as_array_mut().unwrap().push(json!({"test": "wheel-nut-check", "at": "wheel.rr", "outcome": "loose"}))
    })
    .await;
    every("safety-strip proposed", "").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_limit_is_said_with_distance_and_speed_and_a_statement_without_a_reason_is_none() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let id = case(&g, 3, "growl", json!([{"test": "wheel-rock", "at": "hub.fl", "outcome": "play-both"}, {"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"}])).await;
    let decide = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(decide.contains("Proposed: To be driven at most 50 km, no faster than 50 km/h"), "{decide}");
    let path = format!("/cases/{id}/safety");
    for (fields, field) in [
        (vec![("drive", "limited"), ("reason", "home")], "km"),
        (vec![("drive", "yes")], "reason"),
        (vec![("drive", "perhaps"), ("reason", "x")], "drive"),
    ] {
        let r = g.post_form(&c, &path, &fields).await;
        assert_eq!(r.status(), 422, "{fields:?}");
        assert!(r.text().await.unwrap().contains(&format!("<b>{field}</b>")), "{fields:?}");
    }
    let said = [("drive", "limited"), ("reason", "bearing has play"), ("km", "50"), ("kmh", "50")];
    assert_eq!(g.post_form(&c, &path, &said).await.status(), 303);
    let paper = g.get(&c, &format!("/cases/{id}/paper")).await.text().await.unwrap();
    assert!(paper.contains("at most 50 km, no faster than 50 km/h") && !paper.contains("proposed"));
    let looker = g.client(Some("a.look@harrowmere.example")).await;
    assert_eq!(g.post_form(&looker, &path, &said).await.status(), 403);
}

/// An automatic that is not to be driven is not towed on its driven wheels either.
#[tokio::test(flavor = "multi_thread")]
async fn how_it_is_moved_is_said_where_it_is_not_driven() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let nuts = || json!([{"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}]);
    let (manual, automatic) = (case(&g, 3, "knock", nuts()).await, case(&g, 4, "knock", nuts()).await);
    let page = async |id: Uuid| g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(page(automatic).await.contains("not towed on its driven wheels"));
    assert!(!page(manual).await.contains("not towed on its driven wheels"));
}
