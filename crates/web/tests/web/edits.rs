//! Edits by HTTP and from pages: each once, side by side, both shown where they meet, taken back by whom it belongs to.

use crate::support::{Browser, FIRST, Ground, SECOND};
use baricord_core::edit::act::{CaseAct, NewFinding, Standing};
use reqwest::Client;
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

/// Sends edits as a page does; the status and the answer.
async fn send(g: &Ground, c: &Client, id: Uuid, body: &Value) -> (u16, Value) {
    let r = c
        .post(format!("{}/api/v1/cases/{id}/edits", g.url))
        .header("sec-fetch-site", "same-origin")
        .json(body)
        .send()
        .await
        .unwrap();
    let status = r.status().as_u16();
    (status, r.json().await.unwrap_or(Value::Null))
}

fn one(id: Uuid, base: Option<i64>, act: Value) -> Value {
    let mut e = json!({"id": id, "at_time": "2026-11-29T08:00:00Z", "do": act});
    if let Some(base) = base {
        e["base"] = base.into();
    }
    e
}

fn statuses(answer: &Value) -> Vec<&str> {
    answer["edits"].as_array().unwrap().iter().map(|e| e["status"].as_str().unwrap()).collect()
}

async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    for _ in 0..400 {
        if holds().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{what} did not come");
}

#[tokio::test(flavor = "multi_thread")]
async fn each_edit_is_answered_for_itself_and_none_is_done_twice() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(FIRST)).await;
    let (a, b) = (Uuid::now_v7(), Uuid::now_v7());
    let body = json!({"edits": [
        one(a, None, json!({"report-finding": {"what": "hose chafed"}})),
        one(b, None, json!({"report-finding": {"what": "hose chafed", "at": "moon"}})),
        one(a, None, json!({"report-finding": {"what": "hose chafed"}})),
        one(a, None, json!({"report-finding": {"what": "another hose"}})),
        one(Uuid::new_v4(), None, json!({"stand": {"on": "lift"}})),
        one(Uuid::now_v7(), None, json!({"set": {"path": "title"}})),
        one(Uuid::now_v7(), None, json!({"add-recording": {"id": "R9", "file": "x"}})),
        {"id": Uuid::now_v7(), "at_time": "yesterday", "do": {"stand": {"on": "lift"}}},
    ]});
    let (status, answer) = send(&g, &c, id, &body).await;
    assert_eq!(
        (status, statuses(&answer)),
        (200, vec!["applied", "refused", "already", "refused", "refused", "refused", "refused", "refused"])
    );
    let field = |i: usize| answer["edits"][i]["error"]["field"].as_str().unwrap_or_default().to_string();
    assert_eq!((field(1).as_str(), field(4).as_str(), field(6).as_str(), field(7).as_str()), ("at", "id", "do", "at_time"));
    assert_eq!(answer["edits"][0]["entry"], a.to_string());
    assert_eq!(answer["edits"][2]["sequence"], answer["edits"][0]["sequence"]);
    let found = g.document(id).await["found"].clone();
    assert_eq!(
        (found.as_array().unwrap().len(), found[0]["by"].as_str(), found[0]["at_time"].as_str()),
        (1, Some("Harrowmere"), Some("2026-11-29T08:00:00Z"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_not_edit_is_told_as_a_program_reads_it() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let body = json!({"edits": [one(Uuid::now_v7(), None, json!({"stand": {"on": "lift"}}))]});
    let nobody = g.client(None).await;
    let (looker, other, c) = (
        g.client(Some("a.look@harrowmere.example")).await,
        g.client(Some("b@skerry.example")).await,
        g.client(Some(FIRST)).await,
    );
    for (who, status, code) in [(&nobody, 401, "signed-out"), (&looker, 403, "forbidden"), (&other, 404, "not-found")] {
        let (s, e) = send(&g, who, id, &body).await;
        assert_eq!((s, e["error"]["code"].as_str()), (status, Some(code)));
    }
    // A page of elsewhere sends no edits with the session of this one.
    let foreign = c
        .post(format!("{}/api/v1/cases/{id}/edits", g.url))
        .header("sec-fetch-site", "cross-site")
        .json(&body)
        .send()
        .await
        .unwrap();
    assert_eq!(foreign.status(), 403);
    for (body, status, code) in [
        (json!({"edits": "all"}), 422, "bad-value"),
        (json!({"edits": vec![json!({}); 501]}), 422, "too-many"),
        (json!({"edits": [], "as": "Maren"}), 422, "bad-value"),
        (json!({"edits": ["x".repeat(1 << 20)]}), 413, "too-large"),
    ] {
        let (s, e) = send(&g, &c, id, &body).await;
        assert_eq!((s, e["error"]["code"].as_str()), (status, Some(code)), "{e}");
    }
    // A token edits as its person.
    let page = g.post_form(&c, "/tokens", &[("name", "a script")]).await.text().await.unwrap();
    let token = page[page.find("baricord_").expect("the token is shown")..].split('<').next().unwrap_or_default().to_string();
    let r = nobody.post(format!("{}/api/v1/cases/{id}/edits", g.url)).bearer_auth(token).json(&body).send().await.unwrap();
    assert_eq!((r.status().as_u16(), statuses(&r.json().await.unwrap())), (200, vec!["applied"]));
    let unknown =
        nobody.post(format!("{}/api/v1/cases/{id}/edits", g.url)).bearer_auth("nonsense").json(&body).send().await.unwrap();
    assert_eq!(unknown.status(), 401);
    assert_eq!(g.document(id).await["state"]["on"], "lift");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_edits_of_one_entry_are_shown_side_by_side() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (first, second) = (g.client(Some(FIRST)).await, g.client(Some(SECOND)).await);
    let now = i64::from(g.store.scope(g.a).await.unwrap().case(id).await.unwrap().version);
    let plan = |marks: &str| json!({"plan-repair": {"id": "r1", "marks": marks}});
    let (_, a) = send(&g, &first, id, &json!({"edits": [one(Uuid::now_v7(), Some(now), plan("two dots"))]})).await;
    assert_eq!(statuses(&a), ["applied"], "{a}");
    let edits = json!({"edits": [one(Uuid::now_v7(), Some(now), plan("one dot")), one(Uuid::now_v7(), Some(now), json!({"plan-repair": {"id": "r1", "note": "salt"}}))]});
    let (_, b) = send(&g, &second, id, &edits).await;
    assert_eq!(statuses(&b), ["conflict", "applied"], "another part of the entry is nobody else's: {b}");
    let both = &b["edits"][0]["both"];
    assert_eq!(
        (&both["yours"], &both["theirs"][0]["do"], both["theirs"][0]["by"].as_str()),
        (&plan("one dot"), &plan("two dots"), Some("Harrowmere"))
    );
    let r = &g.document(id).await["repairs"][0];
    assert_eq!((r["marks"].as_str(), r["note"].as_str()), (Some("two dots"), Some("salt")));
}

/// Two browsers on one case: what each does stands beside the other's, and each takes its own back.
#[tokio::test(flavor = "multi_thread")]
async fn two_browsers_edit_side_by_side_and_take_back_their_own() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (b, c) = Browser::two(&g).await;
    for browser in [&b, &c] {
        browser.go(&format!("{}/cases/{id}/lift", g.url)).await;
        browser.see("article.stop").await;
    }
    let count = async || g.document(id).await["observations"].as_array().unwrap().len();
    let before = count().await;
    b.key("1").await;
    until("the first answer", async || count().await == before + 1).await;
    // The other page shows the next question by itself, and its answer stands beside.
    until("the news", async || c.text().await.contains(": ")).await;
    c.key("1").await;
    until("the second answer", async || count().await == before + 2).await;
    // Undo says what and whose; one's own goes at once, and the page stays.
    b.go(&format!("{}/cases/{id}/decide", g.url)).await;
    let foot = b.js("return document.querySelector('.ledger-foot .undo').innerText").await;
    // What, and where: one question is asked at many places.
    let foot = foot.as_str().unwrap();
    assert!(foot.matches(": ").count() >= 3 && foot.starts_with("Undo: "), "{foot}");
    // The latest is the other's: it asks.
    b.key("u").await;
    b.says("did this").await;
    assert_eq!(count().await, before + 2, "nothing is taken back yet");
    b.check("undo of what another did").await;
    b.js("document.querySelector('.undo button[name=of_another]').click()").await;
    until("the answer to go", async || count().await == before + 1).await;
    until("the page, with one's own on top", async || {
        b.js("return location.pathname.endsWith('/decide') && !!document.querySelector('.undo') && !document.querySelector('.undo details')").await == true
    })
    .await;
    b.key("u").await;
    until("one's own to go", async || count().await == before).await;
    b.go(&format!("{}/cases/{id}/history", g.url)).await;
    b.says("taken back").await;
    b.check("history").await;
    assert_eq!(b.js("return document.querySelectorAll('.event.is-back').length").await, 2);
    b.size(390, 844).await;
    b.check("history on a phone").await;
    b.end().await;
    c.end().await;
}

/// A lid that was closed: twelve answers wait in the page while another edits the case; then all arrive, once and in order.
#[tokio::test(flavor = "multi_thread")]
async fn twelve_answers_behind_a_closed_lid_arrive_beside_another_s_edits() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, FIRST).await;
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    b.see("article.stop").await;
    let observed = async || {
        let d = g.document(id).await;
        d["observations"]
            .as_array()
            .unwrap()
            .iter()
            .map(|o| (o["test"].clone(), o["at"].clone(), o["by"].clone()))
            .collect::<Vec<_>>()
    };
    let before = observed().await.len();
    let held = b.js("return document.querySelectorAll('article.stop').length").await.as_i64().unwrap();
    assert!(held >= 12, "{held}");
    g.stop_server().await;
    let mut given = vec![];
    for n in 1..=12 {
        let asked = b.js("const s = document.querySelector('article.stop:not([hidden])'); return s ? [s.dataset.test, s.dataset.at] : null").await;
        given.push(asked[0].clone());
        // What must be ticked first is ticked.
        b.js("document.querySelectorAll('article.stop:not([hidden]) .seen-to input').forEach((c) => { c.checked = true; })")
            .await;
        b.key("1").await;
        let told = if n == 1 { "One answer waits".to_string() } else { format!("{n} answers wait") };
        b.says(&told).await;
    }
    // Meanwhile the other works on the case.
    g.edited_by("Tovi", id, CaseAct::ReportFinding(NewFinding { what: "hose chafed".into(), at: None })).await;
    g.edited_by("Tovi", id, CaseAct::Stand(Standing { on: baricord_core::edit::act::On::Ground })).await;
    g.start_server().await;
    until("the answers", async || observed().await.len() == before + 12).await;
    until("the list of what waits to go", async || b.js("return !document.getElementById('waiting')").await == true).await;
    let now = observed().await;
    let arrived: Vec<_> = now[before..].iter().map(|o| o.0.clone()).collect();
    assert_eq!(arrived, given, "each once, in the order in which they were given");
    assert!(now[before..].iter().all(|o| o.2 == "Harrowmere"));
    assert_eq!(g.document(id).await["found"].as_array().unwrap().len(), 1);
    b.end().await;
}

/// An answer whose receipt was lost is sent again, and stands once.
#[tokio::test(flavor = "multi_thread")]
async fn an_edit_whose_answer_was_lost_is_kept_once() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(FIRST)).await;
    let body = json!({"edits": [one(Uuid::now_v7(), None, json!({"report-finding": {"what": "hose chafed"}}))]});
    let found = async || g.document(id).await["found"].as_array().map_or(0, Vec::len);
    // The line breaks off as soon as the edit is kept, before the answer is read.
    let (ground, client, sent) = (&g, &c, &body);
    let lost = async move { send(ground, client, id, sent).await };
    let kept = until("the edit", async || found().await == 1);
    tokio::select! { _ = lost => {}, () = kept => {} }
    until("the edit", async || found().await == 1).await;
    let (status, again) = send(&g, &c, id, &body).await;
    assert_eq!((status, statuses(&again)), (200, vec!["already"]));
    assert_eq!(found().await, 1);
}

/// No raw JSON in the pages: what a handler reads and writes is typed. Only the bodies for programs are JSON values.
#[test]
fn no_page_handles_raw_json() {
    fn files(dir: &std::path::Path, out: &mut Vec<std::path::PathBuf>) {
        for e in std::fs::read_dir(dir).unwrap().map(|e| e.unwrap().path()) {
            if e.is_dir() {
                files(&e, out);
            } else if e.extension().is_some_and(|x| x == "rs") {
                out.push(e);
            }
        }
    }
    let mut all = vec![];
    files(&std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut all);
    assert!(all.len() > 60, "{}", all.len());
    let raw = ["serde_json::Value", "json!", "Value>", "&Value", "Value::", "as_array", "as_object", "serde_json::Map"];
    let mut found = vec![];
    for path in all.iter().filter(|p| !p.ends_with("api.rs") && !p.ends_with("api_edits.rs")) {
        let text = std::fs::read_to_string(path).unwrap();
        for (n, line) in text.lines().enumerate().filter(|(_, l)| !l.trim_start().starts_with("//")) {
            if raw.iter().any(|r| line.replace("HeaderValue", "").contains(r)) {
                found.push(format!("{}:{}: {}", path.display(), n + 1, line.trim()));
            }
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}
