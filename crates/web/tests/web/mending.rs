//! Any test at any time, and what was entered is mended where it stands.

use crate::support::{Browser, Ground};
use baricord_core::reasoning::availability::tries_on;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::vehicle::sample;
use serde_json::json;

const OWN: &str = "a@harrowmere.example";

#[tokio::test(flavor = "multi_thread")]
async fn an_old_answer_is_changed_alone_and_taken_out_alone() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    // Two more answers after the one that was wrong.
    for (test, at, outcome) in [("joint-wiggle", "prop.rear.j1", "none"), ("joint-wiggle", "prop.rear.j2", "play")] {
        let act = json!({"answer-test": {"test": test, "at": at, "outcome": outcome, "symptom": "S1"}});
        g.edited_by("Maren", id, serde_json::from_value(act).unwrap()).await;
    }
    b.go(&format!("{}/cases/{id}/entries", g.url)).await;
    b.check("everything entered").await;
    b.click("a[href*='/entries/answer/o1']").await;
    b.says("Weighed as if this answer had not been given").await;
    b.check("an answer, opened").await;
    b.size(390, 844).await;
    b.check("an answer, opened, on a phone").await;
    b.size(1280, 800).await;
    b.fill("form.mend input[name=note]", "the driver was sure").await;
    b.click("form.mend button[value=stops]").await;
    b.says("Open a line to change it").await;
    let d = g.document(id).await;
    let o = &d["observations"];
    assert_eq!(
        (&o[0]["outcome"], &o[0]["note"], o.as_array().unwrap().len()),
        (&json!("stops"), &json!("the driver was sure"), 3)
    );
    b.click("a[href*='/entries/answer/o1']").await;
    b.says("Take it out").await;
    b.click(".take-out button").await;
    b.says("Open a line to change it").await;
    let left = g.document(id).await["observations"].clone();
    assert_eq!((left.as_array().unwrap().len(), &left[0]["at"]), (2, &json!("prop.rear.j1")));
    // It can be taken back as any other step.
    b.click("form.undo button").await;
    let d = g.once(id, |d| d["observations"].as_array().unwrap().len() == 3).await;
    assert_eq!(d["observations"][0]["test"], "neutral-coast", "at its place in time");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_entry_is_opened_changed_and_taken_out() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    g.changed_by("A", id, |d| {
        d["attempts"] = json!([{"id": "a1", "what": "new tyres", "trust": "bill"}]);
        d["found"] = json!([{"id": "f1", "what": "hose chafed", "by": "A"}]);
        d["symptoms"] = json!([d["symptoms"][0], {"id": "S2", "kind": "clunk", "words": "thud"}]);
        d["repairs"] = json!([{"id": "r1", "symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j2", "result": "cured"}]);
    })
    .await;
    let c = g.client(Some(OWN)).await;
    let path = |kind: &str, entry: &str| format!("/cases/{id}/entries/{kind}/{entry}");
    let readings: Vec<(&str, &str)> = ["0", "90", "180", "270"]
        .iter()
        .flat_map(|d| [("deg", *d), ("mm", "0.2")])
        .chain([("at", "prop.rear.s1.centre")])
        .collect();
    type Corrected<'a> = (&'a str, &'a str, Vec<(&'a str, &'a str)>);
    let all: Vec<Corrected<'_>> = vec![
        ("symptom", "S2", vec![("kind", "knock"), ("words", "thud from below"), ("peak", "20")]),
        ("reading", "m1", readings),
        ("attempt", "a1", vec![("what", "new rear tyres"), ("trust", "seen"), ("changed", "nothing")]),
        ("finding", "f1", vec![("what", "hose cracked"), ("at", "hub.rl")]),
        ("run", "R1", vec![("gear", "4"), ("throttle", "drive"), ("of", "S1"), ("place", "seat-rail"), ("phase", "before")]),
        ("repair", "r1", vec![]),
    ];
    for (kind, entry, fields) in &all {
        let page = g.get(&c, &path(kind, entry)).await;
        assert_eq!(page.status(), 200, "{kind}");
        assert!(page.text().await.unwrap().contains("Take it out"), "{kind}");
        assert_eq!(g.post_form(&c, &path(kind, entry), fields).await.status(), 303, "{kind}");
    }
    let d = g.document(id).await;
    assert_eq!((&d["symptoms"][1]["kind"], &d["symptoms"][1]["speed_kmh"]["peak"]), (&json!("knock"), &json!(20)));
    assert_eq!((&d["measurements"][0]["at"], &d["attempts"][0]["trust"]), (&json!("prop.rear.s1.centre"), &json!("seen")));
    assert_eq!((&d["found"][0]["what"], &d["recordings"][0]["gear"]), (&json!("hose cracked"), &json!("4")));
    assert_eq!(d["repairs"][0]["result"], "open", "the verdict is taken back");
    g.wait_for_analysis(id).await;
    // What something belongs to stays, with the reason on its page.
    assert!(g.get(&c, &path("symptom", "S1")).await.text().await.unwrap().contains("It stays: "));
    assert_eq!(g.post_form(&c, &format!("{}/remove", path("symptom", "S1")), &[]).await.status(), 422);
    for (kind, entry, _) in all.iter().rev() {
        assert_eq!(g.post_form(&c, &format!("{}/remove", path(kind, entry)), &[]).await.status(), 303, "{kind}");
        assert_eq!(g.get(&c, &path(kind, entry)).await.status(), 404, "{kind}");
    }
    let d = g.document(id).await;
    for list in ["measurements", "attempts", "found", "recordings", "repairs"] {
        assert!(d[list].as_array().is_none_or(Vec::is_empty), "{list}");
    }
    // Nobody else's, and not without the right to write.
    let (looker, other) = (g.client(Some("a.look@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    assert_eq!(
        g.post_form(&looker, &path("answer", "o1"), &[("test", "neutral-coast"), ("outcome", "fades")]).await.status(),
        403
    );
    assert_eq!(g.get(&other, &path("answer", "o1")).await.status(), 404);
    assert_eq!(g.post_form(&other, &format!("{}/remove", path("answer", "o1")), &[]).await.status(), 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_that_disagree_stand_side_by_side_and_lead_to_the_wrong_one() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    for outcome in ["none", "play"] {
        let act = json!({"answer-test": {"test": "joint-wiggle", "at": "prop.rear.j1", "outcome": outcome}});
        g.edited_by("Maren", id, serde_json::from_value(act).unwrap()).await;
    }
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/decide", g.url)).await;
    b.says("Answers disagree").await;
    b.check("answers that disagree").await;
    b.click(".contradicts a:first-of-type").await;
    b.says("Answered otherwise too").await;
    b.click(".take-out button").await;
    b.says("Open a line to change it").await;
    b.go(&format!("{}/cases/{id}/decide", g.url)).await;
    assert!(!b.text().await.contains("Answers disagree"));
    b.end().await;
}

/// From each drawn part two presses reach everything that can be answered there, whatever it is worth and whether it was answered.
#[tokio::test(flavor = "multi_thread")]
async fn every_test_of_the_vehicle_is_on_the_page_of_its_part_also_when_it_was_answered() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let v = sample::rear_drive(2);
    let act = json!({"answer-test": {"test": "joint-wiggle", "at": "prop.rear.j1", "outcome": "none"}});
    g.edited_by("Maren", id, serde_json::from_value(act).unwrap()).await;
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    let drawn: Vec<String> =
        page.split(&format!("/cases/{id}/part/")).skip(1).map(|t| t[..t.find(['"', '?']).unwrap()].to_string()).collect();
    let mut texts = std::collections::BTreeMap::new();
    for place in &drawn {
        let text = g.get(&c, &format!("/cases/{id}/part/{place}")).await.text().await.unwrap();
        texts.insert(place.clone(), text);
    }
    let mut missing = vec![];
    for t in &builtin().tests {
        for (at, gear) in tries_on(&v, t) {
            let Some(at) = at else { continue };
            let at_part = texts.get(&at.id).is_some_and(|text| {
                text.split("<form").any(|f| {
                    f.contains(&format!("name=\"test\" value=\"{}\"", t.id))
                        && gear.as_ref().is_none_or(|g| f.contains(&format!("name=\"gear\" value=\"{g}\"")))
                })
            });
            if !at_part {
                missing.push(format!("{} at {} {gear:?}", t.id, at.id));
            }
        }
    }
    assert_eq!(missing, Vec::<String>::new(), "drawn: {drawn:?}");
    // What is of the whole vehicle, or is found in people's words, is one search away.
    let find = async |q: &str| g.get(&c, &format!("/cases/{id}/find?q={}", q.replace(' ', "+"))).await.text().await.unwrap();
    assert!(find("nut came off by hand").await.contains("/test/earlier%2Dwork%2Dlook"));
    assert!(find("clonk lifting off").await.contains("/test/load%2Dreversal"));
    for t in builtin().tests.iter().filter(|t| t.at.is_empty()) {
        assert_eq!(g.get(&c, &format!("/cases/{id}/test/{}", t.id)).await.status(), 200, "{}", t.id);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn several_places_are_answered_in_one_go_and_each_is_an_entry() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/find?q=play+in+the+wheel", g.url)).await;
    b.says("Rock the wheel").await;
    b.check("the search").await;
    b.click("a[href*='wheel%2Drock']").await;
    b.says("places. Leave open what you have not looked at").await;
    b.check("a test at all its places").await;
    b.size(390, 844).await;
    b.check("a test at all its places, on a phone").await;
    b.size(1280, 800).await;
    let places =
        b.js("return [...new Set([...document.querySelectorAll('.everywhere input[type=radio]')].map(r => r.name))]").await;
    let places: Vec<String> = serde_json::from_value(places).unwrap();
    assert!(places.len() >= 4, "{places:?}");
    for (i, p) in places.iter().take(3).enumerate() {
        let outcome = if i == 0 { "top-bottom" } else { "none" };
        b.js(&format!("const r = [...document.querySelectorAll('.everywhere input')].filter(r => r.name === '{p}'); (r.find(x => x.value === '{outcome}') || r[0]).click()")).await;
    }
    b.click(".everywhere button.first").await;
    b.see(".place-row .given").await;
    let d = g.document(id).await;
    let rocked: Vec<_> = d["observations"].as_array().unwrap().iter().filter(|o| o["test"] == "wheel-rock").collect();
    assert_eq!(rocked.len(), 3);
    assert!(rocked.iter().all(|o| o["id"] != rocked[0]["id"] || o["at"] == rocked[0]["at"]));
    // None answered is told, and nothing is kept.
    let c = g.client(Some(OWN)).await;
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/test/wheel-rock"), &[("symptom", "S1")]).await.status(), 422);
    b.end().await;
}
