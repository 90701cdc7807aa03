//! The gate before parts and the knowledge that a workshop may change.

mod support;

use serde_json::json;
use support::Ground;

const HUNCH: &[(&str, &str)] = &[("fault", "joint-worn"), ("at", "prop.rear.j2"), ("symptom", "S1"), ("part", "original")];

#[tokio::test(flavor = "multi_thread")]
async fn a_part_is_not_ordered_on_a_hunch_without_a_reason_that_is_kept() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let before = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    let page = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(page.contains("ordered now") && page.contains("tested first") && page.contains("complete shaft with its joints"));
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
    let last = now.document["repairs"].as_array().unwrap().last().unwrap();
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
        let case = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().case;
        let k = baricord_core::reasoning::knowledge::builtin();
        baricord_core::reasoning::beliefs(&case, k, "S1", None)
    };
    let before = weigh().await;
    let due: Vec<_> = HUNCH.iter().copied().chain([("due", "yes")]).collect();
    let repairs = format!("/cases/{id}/repairs");
    assert_eq!(g.post_form(&c, &repairs, &due).await.status(), 303);
    assert_eq!(weigh().await, before);
    assert!(g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap().contains("Changed as due"));
    let next = [("fault", "prop-bent"), ("at", "prop.rear.s2"), ("symptom", "S1"), ("reason", "it is here"), ("part", "used")];
    assert_eq!(g.post_form(&c, &repairs, &next).await.status(), 303);
    let doc = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document;
    assert_eq!(doc["repairs"].as_array().unwrap().last().unwrap()["with"], json!(["joint-worn@prop.rear.j2"]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workshop_changes_its_own_knowledge_and_sees_it_and_no_other_does() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (a, b) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let page = g.get(&a, "/knowledge").await.text().await.unwrap();
    assert!(page.contains("has changed nothing of it") && page.contains("Speaks against it"));
    assert_eq!(g.get(&g.client(None).await, "/knowledge").await.status(), 303);
    assert_eq!(g.post_form(&a, "/knowledge/tests/wheel-rock", &[("minutes", "9")]).await.status(), 303);
    let fault = [("rarity", "rare"), ("minutes", "110"), ("price", "45")];
    assert_eq!(g.post_form(&a, "/knowledge/faults/joint-worn", &fault).await.status(), 303);
    assert_eq!(g.post_form(&a, "/knowledge/house", &[("rate", "75"), ("certainty", "90")]).await.status(), 303);
    let page = g.get(&a, "/knowledge").await.text().await.unwrap();
    for told in
        ["has changed 4 of it", "9 instead of 4 minutes", "rare instead of common", "75 instead of 60", "90 instead of 80 %"]
    {
        assert!(page.contains(told), "{told}");
    }
    assert!(g.get(&a, &format!("/cases/{id}/decide")).await.text().await.unwrap().contains("buys parts from 90 % on"));
    assert!(g.get(&b, "/knowledge").await.text().await.unwrap().contains("has changed nothing of it"));
    // What cannot be is refused by field, and nothing is kept of it.
    for (path, fields, field) in [
        ("/knowledge/tests/wheel-rock", [("minutes", "-4")], "minutes"),
        ("/knowledge/house", [("certainty", "20")], "certainty"),
        ("/knowledge/faults/joint-worn", [("rarity", "often")], "rarity"),
    ] {
        let r = g.post_form(&a, path, &fields).await;
        assert_eq!(r.status(), 422, "{path}");
        assert!(r.text().await.unwrap().contains(field), "{path}");
    }
    assert_eq!(g.post_form(&a, "/knowledge/faults/gremlins", &fault).await.status(), 404);
    assert_eq!(g.post_form(&a, "/knowledge/tests/wheel-rock", &[("minutes", "9"), ("back", "yes")]).await.status(), 303);
    assert!(!g.get(&a, "/knowledge").await.text().await.unwrap().contains("9 instead of 4"));
}
