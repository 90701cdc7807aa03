//! What is advised fits how the vehicle stands: looks while it is open, runs to record, warm or cooled, contradictions, cured.

use crate::support::{Browser, Ground};
use serde_json::{Value, json};
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";

async fn page(g: &Ground, c: &reqwest::Client, id: Uuid, page: &str) -> String {
    let r = g.get(c, &format!("/cases/{id}/{page}")).await;
    assert_eq!(r.status(), 200, "{page}");
    r.text().await.unwrap()
}

/// The case of a shaft, with nothing observed, recorded or repaired but what is given.
async fn shaft(g: &Ground, observations: Value, state: Value) -> Uuid {
    let id = g.full_case().await;
    g.changed_by("A", id, |d| {
        (d["observations"], d["state"]) = (observations, state);
        (d["repairs"], d["recordings"], d["measurements"]) = (json!([]), json!([]), json!([]));
    })
    .await;
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn what_lies_open_is_offered_with_the_test_and_with_the_repair_that_opens_it() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    // Up, and all that is cheap is done: the joint is to be swung, with its shaft off.
    let done = json!([{"test": "neutral-coast", "outcome": "persists"}, {"test": "speed-sweep", "outcome": "shaft-twice"},
        {"test": "yoke-look", "at": "prop.rear.s2", "outcome": "in-line"}, {"test": "yoke-look", "at": "prop.rear.s1", "outcome": "in-line"},
        {"test": "angle-survey", "at": "prop.rear", "outcome": "within"}, {"test": "lash-watch", "outcome": "none"}]);
    let id = shaft(&g, done, json!({"on": "lift", "off": []})).await;
    let text = page(&g, &c, id, "decide").await;
    assert!(text.contains("Swing the joint by hand") && text.contains("While it is open"), "{text}");
    assert!(text.contains("What the part shows, taken off: "), "{text}");
    // The shaft is off already: the swing alone takes ten minutes, and nothing more comes open with it.
    g.changed_by("A", id, |d| d["state"]["off"] = json!(["prop.rear"])).await;
    let lift = page(&g, &c, id, "lift").await;
    assert!(lift.contains("10 min") && lift.contains("cold, off: propeller shaft"), "{lift}");
    // A repair planned on the shaft offers them at its own station.
    g.changed_by("A", id, |d| {
        d["state"]["off"] = json!([]);
        d["repairs"] = json!([{"symptom": "S1", "fault": "joint-stiff", "at": "prop.rear.j2"}]);
    })
    .await;
    assert!(page(&g, &c, id, "repair").await.contains("While it is open"));
    g.changed_by("A", id, |d| d["repairs"] = json!([{"symptom": "S1", "fault": "wheel-imbalance", "at": "wheel.fl"}])).await;
    assert!(!page(&g, &c, id, "repair").await.contains("While it is open"), "a wheel opens nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recording_is_proposed_with_its_gear_and_speeds() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let id = shaft(&g, json!([]), json!({"on": "ground", "off": []})).await;
    let text = page(&g, &c, id, "decide").await;
    let runs = text.split("<ol class=\"runs\">").nth(1).expect("runs are proposed").split("</ol>").next().unwrap();
    assert!(runs.contains("light throttle") && runs.contains("km/h, slowly through"), "{runs}");
    assert!(["1st", "2nd", "3rd", "4th", "5th"].iter().any(|gear| runs.contains(gear)), "{runs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_comes_from_the_road_is_asked_first_for_what_cools() {
    let g = Ground::new().await;
    let id = shaft(&g, json!([]), json!({"on": "ground", "off": []})).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    // A drive is noted: the vehicle is warm.
    let c = g.client(Some(OWN)).await;
    let drive = [("test", "neutral-coast"), ("outcome", "persists"), ("symptom", "S1")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/observations"), &drive).await.status(), 303);
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    b.says("Warm: heat-sensitive checks first.").await;
    b.check("the walk of a warm vehicle").await;
    let order = "return [...document.querySelectorAll('.to-come li')].map(l => l.textContent)";
    let of = |v: Value| -> Vec<String> { serde_json::from_value(v).unwrap() };
    let warm = of(b.js(order).await);
    let waits: Vec<bool> = warm.iter().map(|t| t.contains("when it has cooled")).collect();
    assert!(waits.is_sorted() && waits.contains(&true), "{warm:?}");
    b.js("document.querySelector('details.stands').open = true").await;
    b.click("button[name=warm]").await;
    b.says("on its wheels, cold").await;
    assert!(!of(b.js(order).await).iter().any(|t| t.contains("cooled")));
    assert_eq!(g.document(id).await["state"]["warm_until"], Value::Null);
    let odd = g.post_form(&c, &format!("/cases/{id}/lift/warm"), &[("warm", "tepid")]).await;
    assert_eq!(odd.status(), 422);
    let (looker, other) = (g.client(Some("a.look@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let path = format!("/cases/{id}/lift/warm");
    assert_eq!(g.post_form(&looker, &path, &[("warm", "yes")]).await.status(), 403);
    assert_eq!(g.post_form(&other, &path, &[("warm", "yes")]).await.status(), 404);
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_contradiction_is_told_in_words_and_what_is_cured_needs_no_next_test() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let twice = json!([{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}, {"symptom": "S1", "test": "neutral-coast", "outcome": "stops"}]);
    let id = shaft(&g, twice, json!({"on": "ground", "off": []})).await;
    let told = ["Coast through it in neutral", "still there", "gone", "Answers disagree"];
    for at in ["decide", "road", "paper"] {
        let text = page(&g, &c, id, at).await;
        assert!(told.iter().all(|t| text.contains(t)), "{at}");
        assert!(at == "paper" || text.contains("the later counts"), "{at}");
    }
    let decide = page(&g, &c, id, "decide").await;
    assert!(decide.contains("<b>Answers disagree.</b>") && decide.contains("<ol class=\"next\">"));
    let cured = json!([{"symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j2", "result": "cured"}]);
    g.changed_by("A", id, |d| d["repairs"] = cured).await;
    let decide = page(&g, &c, id, "decide").await;
    assert!(decide.contains("Cured: joint worn, joint at the support bearing. Nothing is left to decide"), "{decide}");
    assert!(decide.contains("Hand it back: closed by ear") && !decide.contains("head-step"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_shows_the_order_maps_of_its_case_and_of_no_other() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let secret = s.ask_opinion(id, "What would you do?", "Harrowmere", 7).await.unwrap().unwrap();
    s.commit().await.unwrap();
    let c = g.client(None).await;
    let text = g.get(&c, &format!("/opinion/{secret}")).await.text().await.unwrap();
    let map = format!("/opinion/{secret}/map/R1/az");
    assert!(text.contains(&map), "{text}");
    let r = g.get(&c, &map).await;
    assert_eq!((r.status().as_u16(), r.headers()["content-type"].to_str().unwrap()), (200, "image/png"));
    assert_eq!(r.headers()["cache-control"], "no-store");
    assert_eq!(&r.bytes().await.unwrap()[1..4], b"PNG");
    assert!(text.contains("shaft, once a turn"), "the ladder stands beside it");
    for odd in ["map/R9/az", "map/R1/no", "map/R1/..%2F..%2Fetc"] {
        assert_eq!(g.get(&c, &format!("/opinion/{secret}/{odd}")).await.status(), 404, "{odd}");
    }
    let mut s = g.store.scope(g.a).await.unwrap();
    let opinion = s.opinions(id).await.unwrap()[0].id;
    s.revoke_opinion(id, opinion).await.unwrap();
    s.commit().await.unwrap();
    assert_eq!(g.get(&c, &map).await.status(), 404);
}
