//! One next step: ledger, button, Lift, Decide, drawing, board and paper say the same, in whatever state a case is.

use crate::support::Ground;
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::reasoning::diagnose;
use baricord_core::reasoning::first_steps::layouts;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::vehicle::Vehicle;
use baricord_core::workflow::next_action::{ActionKind, next_action};
use serde_json::{Value, json};

const OWN: &str = "a@harrowmere.example";
const PAGES: [&str; 7] = ["complaint", "road", "lift", "measure", "decide", "repair", "prove"];

/// What leaves hardly a doubt that both front wheel bearings are worn.
fn both_hubs_worn() -> Value {
    let at = |test: &str, at: &str, outcome: &str| json!({"test": test, "at": at, "outcome": outcome});
    json!([at("spin-by-hand", "hub.fl", "rough"), at("spin-by-hand", "hub.fr", "rough"), at("wheel-rock", "hub.fl", "play-both"),
        at("wheel-rock", "hub.fr", "play-both"), {"symptom": "S1", "test": "turn", "outcome": "both"},
        {"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}])
}

/// States of a case: fresh, some way on, nearly sure, planned, done, grounded, two symptoms, not cured.
fn states(v: &Vehicle) -> Vec<(&'static str, Value)> {
    let s1 = |kind: &str| json!([{"id": "S1", "kind": kind}]);
    let hub = if v.axles.iter().any(|a| a.end.id() == "front" && a.driven) { "hub.fl" } else { "hub.rl" };
    let fault = |result: Value| {
        json!({"symptoms": s1("growl"), "observations": [{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}],
            "repairs": [{"symptom": "S1", "fault": "tyre-noise", "at": "wheel.fl", "result": result}]})
    };
    vec![
        ("no symptom", json!({})),
        ("a growl", json!({"symptoms": s1("growl")})),
        ("a clunk on the lift", json!({"symptoms": s1("clunk"), "state": {"on": "lift"}})),
        ("a vibration", json!({"symptoms": s1("vibration")})),
        ("a leak", json!({"symptoms": s1("leak")})),
        (
            "nearly sure",
            json!({"symptoms": s1("growl"), "observations": [{"test": "spin-by-hand", "at": hub, "outcome": "rough"},
                {"test": "wheel-rock", "at": hub, "outcome": "play-both"}, {"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]}),
        ),
        (
            "loose nuts",
            json!({"symptoms": s1("knock"), "observations": [{"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}]}),
        ),
        ("a pair", json!({"symptoms": s1("growl"), "observations": both_hubs_worn()})),
        ("planned", fault(Value::Null)),
        ("done", fault(json!("open"))),
        ("not cured", fault(json!("not-cured"))),
        ("cured", fault(json!("cured"))),
        ("grounded", json!({"symptoms": s1("vibration"), "safety": [{"drive": "no", "reason": "joint binds", "by": "Maren"}]})),
        (
            "two symptoms",
            json!({"symptoms": [{"id": "S1", "kind": "growl"}, {"id": "S2", "kind": "leak"}],
                "repairs": [{"symptom": "S1", "fault": "tyre-noise", "at": "wheel.fl", "result": "cured"}]}),
        ),
    ]
}

/// The text between two marks of a page.
fn between<'a>(page: &'a str, from: &str, to: &str) -> Option<&'a str> {
    let rest = &page[page.find(from)? + from.len()..];
    Some(rest[..rest.find(to)?].trim())
}

fn plain(html: &str) -> String {
    html.replace("&#39;", "'").replace("&amp;", "&").replace("&#38;", "&").replace("&quot;", "\"").replace("&#34;", "\"")
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_names_the_same_next_step() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let mut seen = std::collections::BTreeSet::new();
    for (layout, v) in
        layouts().into_iter().filter(|(l, _)| ["rwd-solid-two", "fwd-manual", "4x4-part-time", "electric"].contains(l))
    {
        for (state, more) in states(&v) {
            let what = format!("{layout}, {state}");
            let mut doc = Case::new_document(&what, &what, json!(v));
            for (key, x) in more.as_object().unwrap() {
                doc[key] = x.clone();
            }
            let case = Case::from_json(&doc).unwrap();
            let next = next_action(&case, builtin(), &diagnose(&case, builtin(), None), None);
            seen.insert(format!("{:?}", next.kind));
            let mut s = g.store.scope(g.a).await.unwrap();
            let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Harrowmere").await.unwrap();
            s.commit().await.unwrap();
            let mut pages: Vec<String> = PAGES.iter().map(|p| format!("/cases/{id}/{p}")).collect();
            pages.push(format!("/cases/{id}/part/engine"));
            if !case.symptoms.is_empty() {
                pages.extend(["lift/leaves", "lift/listen"].map(|p| format!("/cases/{id}/{p}")));
                pages.extend(case.symptoms.iter().map(|s| format!("/cases/{id}/decide?s={}", s.id)));
            }
            for at in &pages {
                let r = g.get(&c, at).await;
                assert_eq!(r.status(), 200, "{what}: {at}");
                let page = plain(&r.text().await.unwrap());
                let button = between(&page, "data-key=\"n\"", "</span>").and_then(|b| b.rsplit_once("<span>")).map(|b| b.1);
                // The first key n of a page is the step's, in the foot of the ledger or before it.
                let foot = page.find("ledger-foot").map(|i| &page[i..]).unwrap_or_default();
                let in_foot = between(foot, "data-key=\"n\"", "</span>").and_then(|b| b.rsplit_once("<span>")).map(|b| b.1);
                assert_eq!(in_foot.or(button), Some(next.words.as_str()), "{what}: {at}: the button");
                if !case.symptoms.is_empty() {
                    let listed =
                        between(&page, "<li class=\"first\">", "</span>").and_then(|l| l.rsplit_once("<span>")).map(|l| l.1);
                    assert_eq!(listed, Some(next.words.as_str()), "{what}: {at}: the ledger");
                }
                // The drawing says where.
                let place = next.at.as_deref().and_then(|a| v.place(a));
                let pinned = page.contains("class=\"pin wanted\"");
                assert_eq!(pinned, place.is_some(), "{what}: {at}: the drawing");
                // One yellow button, the next step.
                assert_eq!(page.matches("class=\"button yellow\"").count(), 1, "{what}: {at}");
            }
            // Where it is a test, its station asks it first; Decide too.
            if let (ActionKind::Test, Some(test)) = (next.kind, &next.test) {
                let symptom = next.symptom.clone().unwrap_or_default();
                let asks = |page: &str| between(page, "name=\"test\" value=\"", "\"").map(String::from);
                let decide = g.get(&c, &format!("/cases/{id}/decide?s={symptom}")).await.text().await.unwrap();
                assert_eq!(asks(&decide).as_ref(), Some(test), "{what}: Decide");
                if next.station.id() == "lift" {
                    let lift = g.get(&c, &format!("/cases/{id}/lift?s={symptom}")).await.text().await.unwrap();
                    assert_eq!(asks(&lift).as_ref(), Some(test), "{what}: Lift");
                }
            }
            let paper = plain(&g.get(&c, &format!("/cases/{id}/paper")).await.text().await.unwrap());
            let next_line = between(&paper, "<p class=\"paper-next\">", "</p>").unwrap();
            assert!(next_line.contains(&next.words), "{what}: paper: {next_line}");
            let board = plain(&g.get(&c, "/").await.text().await.unwrap());
            let line = between(&board, &format!("/cases/{id}\">"), "</a>").unwrap();
            assert!(line.contains(&next.words), "{what}: board: {line}");
        }
    }
    // The states are not all alike.
    for kind in ["Describe", "Test", "Choose", "Repair", "Prove", "HandBack"] {
        assert!(seen.contains(kind), "{kind} is not among {seen:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_to_a_test_always_opens_that_test() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let v = layouts().remove(3).1;
    let mut doc = Case::new_document("w", "w", json!(v));
    doc["symptoms"] = json!([{"id": "S1", "kind": "growl"}]);
    // One that was answered, one that is worth nothing, one of the road.
    doc["observations"] = json!([{"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"}]);
    let mut s = g.store.scope(g.a).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Harrowmere").await.unwrap();
    s.commit().await.unwrap();
    for (station, test, at) in [
        ("lift", "spin-by-hand", "hub.fl"),
        ("lift", "oil-look", "gearbox"),
        ("lift", "mount-look", "mount.engine"),
        ("road", "turn", ""),
        ("road", "bump", ""),
    ] {
        let at_key = if at.is_empty() { String::new() } else { format!("&at={at}") };
        let page = g.get(&c, &format!("/cases/{id}/{station}?s=S1&test={test}{at_key}")).await.text().await.unwrap();
        assert_eq!(between(&page, "name=\"test\" value=\"", "\""), Some(test), "{test}");
        if test == "spin-by-hand" {
            assert!(page.contains("Answered: <b>rough</b>"), "what was answered is shown");
        }
    }
}

/// At enough the button is the repair, no reason is asked and none is printed; nothing more is asked on the lift.
#[tokio::test(flavor = "multi_thread")]
async fn at_enough_the_button_is_the_repair() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let v = layouts().remove(3).1;
    let mut doc = Case::new_document("w", "w", json!(v));
    doc["symptoms"] = json!([{"id": "S1", "kind": "growl"}]);
    doc["observations"] = json!([{"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"},
        {"test": "wheel-rock", "at": "hub.fl", "outcome": "play-both"}, {"symptom": "S1", "test": "turn", "outcome": "right"},
        {"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]);
    let case = Case::from_json(&doc).unwrap();
    let next = next_action(&case, builtin(), &diagnose(&case, builtin(), None), None);
    assert_eq!((next.kind, next.at.as_deref()), (ActionKind::Choose, Some("hub.fl")));
    let mut s = g.store.scope(g.a).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Harrowmere").await.unwrap();
    s.commit().await.unwrap();
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    let repair = between(&page, "id=\"repair-this\"", "</article>").unwrap();
    assert!(!repair.contains("name=\"reason\"") && repair.contains("Plan this repair"), "{repair}");
    assert!(page.contains("form=\"plan-repair\""), "the yellow button plans it");
    let lift = g.get(&c, &format!("/cases/{id}/lift")).await.text().await.unwrap();
    assert!(!lift.contains("<article class=\"stop\""), "nothing more is asked");
    assert!(lift.contains("All other looks"), "all of it can be reached");
    let planned = [("fault", "wheel-bearing-worn"), ("at", "hub.fl"), ("symptom", "S1"), ("part", "original")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/repairs"), &planned).await.status(), 303);
    for at in ["repair", "paper"] {
        let page = g.get(&c, &format!("/cases/{id}/{at}")).await.text().await.unwrap();
        assert!(!page.contains("because:") && !page.contains("<dt>reason</dt>"), "{at} prints no reason");
    }
}

/// A pair is planned as the pair that every page names: no reason is asked, and both are there afterwards.
#[tokio::test(flavor = "multi_thread")]
async fn a_pair_is_planned_as_a_pair() {
    let g = Ground::new().await;
    let c = g.client(Some(OWN)).await;
    let v = layouts().remove(3).1;
    let mut doc = Case::new_document("w", "w", json!(v));
    doc["symptoms"] = json!([{"id": "S1", "kind": "growl"}]);
    doc["observations"] = both_hubs_worn();
    let case = Case::from_json(&doc).unwrap();
    let next = next_action(&case, builtin(), &diagnose(&case, builtin(), None), None);
    assert_eq!(next.words, "Repair: wheel bearing worn, front left hub, and front right hub");
    assert_eq!(next.places().collect::<Vec<_>>(), ["hub.fl", "hub.fr"]);
    let mut s = g.store.scope(g.a).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Harrowmere").await.unwrap();
    s.commit().await.unwrap();
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    // Drawn twice: for the desk and for the phone.
    assert_eq!(page.matches("class=\"pin wanted\"").count(), 4, "both are marked on the drawing");
    let form = between(&page, "id=\"plan-repair\">", "</form>").unwrap();
    assert!(!form.contains("name=\"reason\""), "{form}");
    // The form of the page is sent as it stands.
    let hidden = form.split("<input type=\"hidden\" name=\"").skip(1).filter_map(|i| {
        let (name, rest) = i.split_once("\" value=\"")?;
        Some((name, rest.split_once('"')?.0))
    });
    let mut fields: Vec<(&str, &str)> = hidden.collect();
    fields.push(("part", "original"));
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/repairs"), &fields).await.status(), 303, "{fields:?}");
    let mut s = g.store.scope(g.a).await.unwrap();
    let repair = s.case(id).await.unwrap().document.json()["repairs"][0].clone();
    drop(s);
    assert_eq!((&repair["at"], &repair["places"]), (&json!("hub.fl"), &json!(["hub.fr"])));
    for at in ["repair", "paper", "prove"] {
        let page = g.get(&c, &format!("/cases/{id}/{at}")).await.text().await.unwrap();
        assert!(page.contains("wheel bearing worn, front left hub, and front right hub"), "{at}");
        assert!(!page.contains("because:") && !page.contains("<dt>reason</dt>"), "{at} prints no reason");
    }
    // One that is not the pair of the plan is asked for its reason; what cannot be read is refused and plans nothing.
    let other = |with: &'static str| [("fault", "wheel-bearing-worn"), ("at", "hub.fl"), ("symptom", "S1"), ("with", with)];
    for (with, says) in [
        ("tyre-noise@wheel.fl", "say why this part is ordered"),
        ("hub.fr", "fault@place"),
        ("wheel-bearing-worn@hub.xx", "no place"),
    ] {
        let r = g.post_form(&c, &format!("/cases/{id}/repairs"), &other(with)).await;
        assert!(r.status().is_client_error(), "{with}");
        let page = plain(&r.text().await.unwrap());
        assert!(page.contains(says), "{with}: {page}");
    }
}
