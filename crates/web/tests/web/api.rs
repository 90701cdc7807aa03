//! The interface for programs: who may call, what it answers, and errors in one shape.

use crate::support::Ground;
use baricord_core::vehicle::sample::rear_drive;
use reqwest::Client;
use serde_json::{Value, json};

/// A new token of the person of workshop A.
async fn token(g: &Ground, c: &Client) -> String {
    let page = g.post_form(c, "/tokens", &[("name", "a test")]).await.text().await.unwrap();
    let at = page.find("baricord_").expect("the token is shown");
    page[at..].chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect()
}

async fn call(g: &Ground, path: &str, token: Option<&str>, kind: &str, body: Vec<u8>) -> (u16, Value) {
    let mut r = Client::new().post(format!("{}/api/v1/{path}", g.url)).header("content-type", kind).body(body);
    if let Some(t) = token {
        r = r.header("authorization", format!("Bearer {t}"));
    }
    let r = r.send().await.unwrap();
    let status = r.status().as_u16();
    let text = r.text().await.unwrap();
    (status, serde_json::from_str(&text).unwrap_or_else(|e| panic!("{path} {status}: {e}: {text}")))
}

const JSON: &str = "application/json";

#[tokio::test(flavor = "multi_thread")]
async fn calculations_answer_as_the_command_line_does() {
    let g = Ground::new().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let t = token(&g, &c).await;
    for (name, input) in [
        ("tyre", json!({"size": "235/65R16"})),
        ("orders", json!({"vehicle": rear_drive(2), "gear": "5"})),
        (
            "separability",
            json!({"vehicle": rear_drive(2), "speeds_kmh": {"from": 50, "to": 110}, "gears": ["4", "5"], "turns": 32}),
        ),
    ] {
        let (status, answer) = call(&g, &format!("calc/{name}"), Some(&t), JSON, input.to_string().into_bytes()).await;
        assert_eq!(status, 200, "{answer}");
        // As printed and read again, as a program at the other end has it.
        let own: Value = serde_json::from_str(&baricord_core::calc::calc(name, &input).unwrap().to_string()).unwrap();
        assert_eq!(answer, own, "{name}");
    }
    let wrong = [
        ("calc/tyre", json!({"size": "banana"}).to_string(), 422, "size"),
        ("calc/nothing", json!({}).to_string(), 422, "name"),
        ("calc/tyre", "{\n\n oops".to_string(), 422, ""),
        ("calc", "{}".to_string(), 404, ""),
    ];
    for (path, body, status, field) in wrong {
        let (s, e) = call(&g, path, Some(&t), JSON, body.into_bytes()).await;
        assert_eq!(s, status, "{path}: {e}");
        assert!(e["error"]["code"].is_string() && e["error"]["message"].is_string(), "{e}");
        if !field.is_empty() {
            assert_eq!(e["error"]["field"], field);
        }
    }
    let (s, e) = call(&g, "calc/tyre", Some(&t), JSON, vec![b' '; 5 << 20]).await;
    assert_eq!((s, e["error"]["code"].as_str()), (413, Some("too-large")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_whole_case_goes_in_as_a_zip_or_as_its_document() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let t = token(&g, &c).await;
    let zip = g.get(&c, &format!("/cases/{id}/export.zip")).await.bytes().await.unwrap().to_vec();
    let (status, a) = call(&g, "analyze?recording=R1", Some(&t), "application/zip", zip.clone()).await;
    assert_eq!(status, 200, "{a}");
    assert!((a["recordings"][0]["orders"][0]["order"].as_f64().unwrap() - 4.1).abs() < 0.03);
    let (status, e) = call(&g, "analyze?recording=R7", Some(&t), "application/zip", zip.clone()).await;
    assert_eq!((status, e["error"]["code"].as_str()), (422, Some("unknown-recording")));
    let (status, d) = call(&g, "diagnose", Some(&t), "application/zip", zip.clone()).await;
    assert_eq!((status, d["symptoms"][0]["id"].as_str()), (200, Some("S1")));
    let (status, v) = call(&g, "verify", Some(&t), "application/zip", zip).await;
    assert_eq!((status, v["symptoms"][0]["id"].as_str()), (200, Some("S1")));
    // A lone document has no recordings beside it: the answer says so, not with an error.
    let doc = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document.json().clone();
    let (status, d) = call(&g, "diagnose", Some(&t), JSON, doc.to_string().into_bytes()).await;
    assert_eq!(status, 200, "{d}");
    assert!(d["warnings"].as_array().unwrap().iter().any(|w| w["code"] == "missing-file"), "{d}");
    let (status, p) = call(&g, "repair-plan", Some(&t), JSON, doc.to_string().into_bytes()).await;
    assert_eq!((status, p["problems"].as_array().map(Vec::len)), (200, Some(0)), "{p}");
    let roles: Vec<&str> = p["steps"].as_array().unwrap().iter().filter_map(|s| s["role"].as_str()).collect();
    assert!(roles.contains(&"start-by-hand") && roles.last() == Some(&"proof"), "{roles:?}");
    for (kind, body) in [("text/plain", "x"), ("application/zip", "no zip"), (JSON, "[1]")] {
        let (status, e) = call(&g, "diagnose", Some(&t), kind, body.as_bytes().to_vec()).await;
        assert_eq!(status, 422, "{e}");
        assert!(e["error"]["message"].is_string());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn only_a_token_that_is_known_may_call_and_not_without_end() {
    let g = Ground::new().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let t = token(&g, &c).await;
    let body = || json!({"size": "235/65R16"}).to_string().into_bytes();
    assert_eq!(call(&g, "calc/tyre", None, JSON, body()).await.0, 401);
    let (status, e) = call(&g, "calc/tyre", Some("baricord_nonsense"), JSON, body()).await;
    assert_eq!((status, e["error"]["code"].as_str()), (401, Some("unknown-token")));
    assert_eq!(call(&g, "calc/tyre", Some(&t), JSON, body()).await.0, 200);
    // The other workshop sees none of it and cannot take it back; a viewer makes none.
    let b = g.client(Some("b@skerry.example")).await;
    assert!(!g.get(&b, "/tokens").await.text().await.unwrap().contains("a test"));
    let mut s = g.store.scope(g.a).await.unwrap();
    let me = g.store.person_of_token(&t).await.unwrap().unwrap().id;
    let kept = s.tokens(me).await.unwrap().remove(0);
    assert_eq!(g.post_form(&b, &format!("/tokens/{}/remove", kept.id), &[]).await.status(), 404);
    let look = g.client(Some("a.look@harrowmere.example")).await;
    assert_eq!(g.post_form(&look, "/tokens", &[("name", "x")]).await.status(), 403);
    assert_eq!(g.post_form(&c, "/tokens", &[("name", " ")]).await.status(), 422);
    // Taken back, it is worth nothing; and many calls at once are slowed down.
    assert_eq!(g.post_form(&c, &format!("/tokens/{}/remove", kept.id), &[]).await.status(), 303);
    assert_eq!(call(&g, "calc/tyre", Some(&t), JSON, body()).await.0, 401);
    let mut codes = vec![];
    for _ in 0..90 {
        codes.push(call(&g, "calc/tyre", Some(&t), JSON, body()).await.0);
    }
    assert!(codes.contains(&429), "{codes:?}");
    let d: Value = Client::new().get(format!("{}/api/v1/openapi.json", g.url)).send().await.unwrap().json().await.unwrap();
    assert!(
        d["paths"]["/api/v1/calc/{name}"]["post"]["parameters"][0]["schema"]["enum"]
            .as_array()
            .unwrap()
            .contains(&json!("separability"))
    );
}
