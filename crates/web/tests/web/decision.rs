//! The gate before parts and the knowledge that a workshop may change.

use crate::support::{Browser, Ground};
use serde_json::json;
use std::time::Duration;

const HUNCH: &[(&str, &str)] = &[("fault", "joint-worn"), ("at", "prop.rear.j2"), ("symptom", "S1"), ("part", "original")];

#[tokio::test(flavor = "multi_thread")]
async fn a_part_is_not_ordered_on_a_hunch_without_a_reason_that_is_kept() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let before = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(
        page.contains("on average until it is cured") && page.contains("\u{a0}€") && page.contains("straightened and balanced")
    );
    let repairs = format!("/cases/{id}/repairs");
    let r = g.post_form(&c, &repairs, HUNCH).await;
    assert_eq!(r.status(), 422);
    let told = r.text().await.unwrap();
    assert!(told.contains("less sure than the 80 %"), "{told}");
    assert_eq!(g.store.scope(g.a).await.unwrap().case(id).await.unwrap().version, before.version);
    // With a reason it passes, and the reason stays with it.
    let why: Vec<_> = HUNCH.iter().copied().chain([("reason", "the part is on the ferry already")]).collect();
    assert_eq!(g.post_form(&c, &repairs, &why).await.status(), 303);
    let now = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    let last = now.document.json()["repairs"].as_array().unwrap().last().unwrap();
    assert_eq!((last["reason"].as_str(), last["part"].as_str()), (Some("the part is on the ferry already"), Some("original")));
    let r = g.post_form(&c, &repairs, &[("fault", "joint-worn"), ("at", "prop.rear.j2"), ("part", "gold")]).await;
    assert_eq!(r.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_due_leaves_the_list_alone_and_is_told_with_the_repair_after_it() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let weigh = async || {
        let case = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().case().clone();
        let k = baricord_core::reasoning::knowledge::builtin();
        baricord_core::reasoning::beliefs(&case, k, "S1", None)
    };
    let before = weigh().await;
    let due: Vec<_> = HUNCH.iter().copied().chain([("due", "yes")]).collect();
    let repairs = format!("/cases/{id}/repairs");
    assert_eq!(g.post_form(&c, &repairs, &due).await.status(), 303);
    assert_eq!(weigh().await, before);
    assert!(g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap().contains("Replaced as due"));
    let next = [("fault", "prop-bent"), ("at", "prop.rear.s2"), ("symptom", "S1"), ("reason", "it is here"), ("part", "used")];
    assert_eq!(g.post_form(&c, &repairs, &next).await.status(), 303);
    let doc = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document.json().clone();
    assert_eq!(doc["repairs"].as_array().unwrap().last().unwrap()["with"], json!(["joint-worn@prop.rear.j2"]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workshop_changes_its_own_knowledge_and_sees_it_and_no_other_does() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (a, b) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let page = g.get(&a, "/knowledge").await.text().await.unwrap();
    assert!(page.contains("has changed nothing") && page.contains("Speaks against it"));
    assert_eq!(g.get(&g.client(None).await, "/knowledge").await.status(), 303);
    assert_eq!(g.post_form(&a, "/knowledge/tests/wheel-rock", &[("minutes", "9")]).await.status(), 303);
    let fault = [("rate", "33"), ("minutes", "110"), ("price", "45")];
    assert_eq!(g.post_form(&a, "/knowledge/faults/joint-worn", &fault).await.status(), 303);
    assert_eq!(g.post_form(&a, "/knowledge/house", &[("rate", "75"), ("certainty", "90")]).await.status(), 303);
    let page = g.get(&a, "/knowledge").await.text().await.unwrap();
    for change in [
        "has changed 4 of it",
        "9 instead of 1 minutes",
        "how often: 33.0 instead of 100.0",
        "75 instead of 60",
        "90 instead of 80 %",
    ] {
        assert!(page.contains(change), "{change}");
    }
    assert!(g.get(&a, &format!("/cases/{id}/decide")).await.text().await.unwrap().contains("below 90 % a reason is asked"));
    assert!(g.get(&b, "/knowledge").await.text().await.unwrap().contains("has changed nothing"));
    // What cannot be is refused by field, and nothing is kept of it.
    for (path, fields, field) in [
        ("/knowledge/tests/wheel-rock", [("minutes", "-4")], "minutes"),
        ("/knowledge/house", [("certainty", "20")], "certainty"),
        ("/knowledge/faults/joint-worn", [("rate", "0")], "rate"),
    ] {
        let r = g.post_form(&a, path, &fields).await;
        assert_eq!(r.status(), 422, "{path}");
        assert!(r.text().await.unwrap().contains(field), "{path}");
    }
    assert_eq!(g.post_form(&a, "/knowledge/faults/gremlins", &fault).await.status(), 404);
    assert_eq!(g.post_form(&a, "/knowledge/tests/wheel-rock", &[("minutes", "9"), ("back", "yes")]).await.status(), 303);
    assert!(!g.get(&a, "/knowledge").await.text().await.unwrap().contains("9 instead of 1"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_old_decision_tells_what_today_s_knowledge_makes_of_it() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let why: Vec<_> = HUNCH.iter().copied().chain([("reason", "the part is on the ferry already")]).collect();
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/repairs"), &why).await.status(), 303);
    let told = async || {
        let page = g.get(&c, &format!("/cases/{id}/decide?s=S1")).await.text().await.unwrap();
        page.split_once("Today&#39;s knowledge weighs this otherwise")
            .or(page.split_once("Today's knowledge weighs this otherwise"))
            .map(|p| p.1.split("</section>").next().unwrap().to_string())
    };
    assert_eq!(told().await, None);
    // A minute more changes no weighing; how common a fault is does.
    let fault = |rate: &'static str, minutes: &'static str| [("rate", rate), ("minutes", minutes), ("price", "75")];
    assert_eq!(g.post_form(&c, "/knowledge/faults/prop-imbalance", &fault("30", "91")).await.status(), 303);
    assert_eq!(told().await, None);
    assert_eq!(g.post_form(&c, "/knowledge/faults/prop-imbalance", &fault("1", "91")).await.status(), 303);
    let text = told().await.expect("it is told");
    let (then, today) = text.split_once("Today, from the same answers").expect("side by side");
    let first = |side: &str| side.split("<li>").nth(1).unwrap().split("</li>").next().unwrap().to_string();
    assert!(then.contains("chose: joint worn") && first(then).contains("shaft out of balance"), "{then}");
    assert_ne!(first(then), first(today));
    assert_eq!(g.post_form(&c, "/knowledge/faults/prop-imbalance", &[("back", "yes")]).await.status(), 303);
    assert_eq!(told().await, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn refused_at_the_gate_reasoned_due_not_cured_and_back_in_the_browser() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    let document = async || g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document.json().clone();
    let repairs = async |n: usize| {
        for _ in 0..200 {
            if document().await["repairs"].as_array().unwrap().len() == n {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("{:?}", document().await["repairs"]);
    };
    let decide = format!("{}/cases/{id}/decide", g.url);
    let had = document().await["repairs"].as_array().unwrap().len();
    // A suspect that is less sure than the workshop's line asks for a reason.
    let open = "const d = [...document.querySelectorAll('details.choice')].find(d => d.querySelector('[name=reason]')); d.open = true; d.id = 'chosen'";
    b.go(&decide).await;
    b.see("details.choice").await;
    b.js(open).await;
    b.check("the gate").await;
    let fault = b.js("return document.querySelector('#chosen [name=fault]').value").await;
    b.click("#chosen form button:not(.quiet)").await;
    assert_eq!(b.js("return document.activeElement.name").await, "reason", "the browser asks for the reason");
    // Where the browser would let it pass, the server does not.
    b.js("document.querySelector('#chosen [name=reason]').required = false").await;
    b.click("#chosen form button:not(.quiet)").await;
    b.says("less sure than the 80 %").await;
    repairs(had).await;
    // Changed as due it is no diagnosis: what is believed stays.
    let percent = "return document.querySelector('.ledger .cause b').textContent";
    let before = b.js(percent).await;
    b.click("#chosen form button.quiet").await;
    b.says("Replaced as due").await;
    assert_eq!(b.js(percent).await, before);
    repairs(had).await;
    // With a reason it is planned, done, driven again, and not cured.
    b.go(&decide).await;
    b.see("details.choice").await;
    b.js(open).await;
    b.fill("#chosen [name=reason]", "the part lies here").await;
    b.click("#chosen form button:not(.quiet)").await;
    b.says("It is done").await;
    repairs(had + 1).await;
    assert_eq!(document().await["repairs"][had]["reason"], "the part lies here");
    b.fill("form.plan [name=marks]", "two punches at the rear flange, three in front").await;
    b.click("form.plan button[value=yes]").await;
    for _ in 0..200 {
        if document().await["repairs"][had]["result"] == "open" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    b.go(&format!("{}/cases/{id}/prove", g.url)).await;
    b.click("button[value=not-cured]").await;
    // Back at Decide with its history: what was repaired has fallen, and it says so.
    b.says("Tried before").await;
    let d = document().await;
    assert_eq!((&d["repairs"][had]["fault"], d["repairs"][had]["result"].as_str()), (&fault, Some("not-cured")));
    let still = b.js("return location.pathname").await;
    assert!(still.as_str().unwrap().ends_with("/decide"), "{still}");
    assert!(b.text().await.contains("not cured"));
    b.end().await;
}

#[tokio::test]
async fn a_workshop_s_own_limits_hold_where_a_vehicle_names_none() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let measure =
        async || g.get(&c, &format!("/cases/{id}/measure?tool=runout&at=prop.rear.s2.centre")).await.text().await.unwrap();
    assert!(measure().await.contains("0.75"));
    let own = [("shaft-centre", "0,31"), ("equal_deg", "0.7"), ("rim", "0.8")];
    assert_eq!(g.post_form(&c, "/knowledge/limits", &own).await.status(), 303);
    assert!(measure().await.contains("0.31"));
    let page = g.get(&c, "/knowledge").await.text().await.unwrap();
    // What is typed as it ships is no change.
    assert!(page.contains("has changed 2 of it") && page.contains("name=\"shaft-centre\" value=\"0.31\""));
    // The document stays as it came, and a vehicle's own figure comes first.
    let d = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document.json().clone();
    assert!(d["vehicle"]["limits"].get("runout_mm").is_none());
    g.changed_by("Tovi", id, |d| d["vehicle"]["limits"]["runout_mm"] = json!({"prop.rear.s2.centre": 0.44})).await;
    assert!(measure().await.contains("0.44"));
    let r = g.post_form(&c, "/knowledge/limits", &[("rim", "90")]).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("<b>rim</b>"));
    assert_eq!(g.post_form(&c, "/knowledge/limits", &[]).await.status(), 303);
    assert!(g.get(&c, "/knowledge").await.text().await.unwrap().contains("has changed nothing"));
    let other = g.client(Some("b@skerry.example")).await;
    assert!(g.get(&other, "/knowledge").await.text().await.unwrap().contains("has changed nothing"));
    let looker = g.client(Some("a.look@harrowmere.example")).await;
    assert_eq!(g.post_form(&looker, "/knowledge/limits", &own).await.status(), 403);
}
