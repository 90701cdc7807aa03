//! Two people on one case, and a connection that comes and goes.

use crate::support::{Browser, FIRST, Ground, SECOND};
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

fn observed(d: &Value) -> Vec<(String, String)> {
    let text = |v: &Value| v.as_str().unwrap_or_default().to_string();
    d["observations"].as_array().unwrap().iter().map(|o| (text(&o["test"]), text(&o["outcome"]))).collect()
}

/// What the page asks: the first stop that is shown.
async fn asked(b: &Browser) -> String {
    let now =
        "const s = document.querySelector('article.stop:not([hidden])'); return s ? s.dataset.test + '@' + s.dataset.at : ''";
    b.js(now).await.as_str().unwrap_or_default().to_string()
}

async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    for _ in 0..400 {
        if holds().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{what} does not come");
}

/// A full case, opened at the lift by its first person.
async fn at_the_lift() -> (Ground, uuid::Uuid, Browser) {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, FIRST).await;
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    b.see("article.stop").await;
    (g, id, b)
}

/// A closed tab, a dead battery: what waited is kept in the browser, and is sent from whatever page is opened next.
#[tokio::test(flavor = "multi_thread")]
async fn answers_that_wait_outlive_their_tab_and_arrive_once() {
    let (g, id, b) = at_the_lift().await;
    let before = observed(&g.document(id).await).len();
    g.stop_server().await;
    b.key("1").await;
    b.says("One answer waits").await;
    let new = b.web.new_tab().await.unwrap();
    b.web.close_window().await.unwrap();
    b.web.switch_to_window(new).await.unwrap();
    g.start_server().await;
    b.go(&format!("{}/vehicles", g.url)).await;
    until("the answer", async || observed(&g.document(id).await).len() == before + 1).await;
    // Another page opened after it sends nothing twice.
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    b.see("article.stop, main").await;
    tokio::time::sleep(Duration::from_millis(700)).await;
    assert_eq!(observed(&g.document(id).await).len(), before + 1);
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_given_while_the_server_is_away_arrive_once_and_in_order() {
    let (g, id, b) = at_the_lift().await;
    let before = observed(&g.document(id).await);
    g.stop_server().await;
    let mut given = vec![];
    for n in 0..3 {
        let now = asked(&b).await;
        let outcome = b.js("return document.querySelector('article.stop:not([hidden]) .answer').value").await;
        given.push((now.split('@').next().unwrap().to_string(), outcome.as_str().unwrap().to_string()));
        b.key("1").await;
        until("the next question", async || asked(&b).await != now).await;
        let told = if n == 0 { "One answer waits".to_string() } else { format!("{} answers wait", n + 1) };
        b.says(&told).await;
    }
    b.check("answers that wait").await;
    assert_eq!(observed(&g.document(id).await), before, "nothing arrives while the server is away");
    g.start_server().await;
    until("the answers", async || observed(&g.document(id).await).len() == before.len() + 3).await;
    until("the list of what waits to go", async || b.js("return !document.getElementById('waiting')").await == true).await;
    let now = observed(&g.document(id).await);
    assert_eq!(now[before.len()..], given, "each once, in the order in which they were given");
    b.end().await;
}

/// What the server answers to the next answers, before they really go to it.
const ANSWERED_WITH: &str = "const real = window.fetch, statuses = [...arguments[0]];
    window.fetch = (url, how) => how && how.method === 'POST' && statuses.length
        ? Promise.resolve(new Response('', { status: statuses.shift() })) : real(url, how);";

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_is_given_up_on_what_refuses_it_alone() {
    let (g, id, b) = at_the_lift().await;
    let before = observed(&g.document(id).await).len();
    // A fault, a limit, a full disk, a slow line: it is sent again until it is taken, once.
    b.web.execute(ANSWERED_WITH, vec![json!([500, 503, 507, 429, 408])]).await.unwrap();
    let first = asked(&b).await;
    b.key("1").await;
    until("the answer", async || observed(&g.document(id).await).len() == before + 1).await;
    until("the next question", async || asked(&b).await != first).await;
    // Refused: it says so and stays out of the way.
    b.web.execute(ANSWERED_WITH, vec![json!([422])]).await.unwrap();
    b.key("1").await;
    b.says("status 422").await;
    assert_eq!(observed(&g.document(id).await).len(), before + 1);
    b.end().await;
}

#[tokio::test]
async fn what_is_sent_again_because_its_receipt_was_lost_changes_nothing() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(FIRST)).await;
    let answer = [
        ("test", "wheel-rock"),
        ("outcome", "none"),
        ("at", "hub.rl"),
        ("symptom", "S1"),
        ("back", "lift"),
        ("edit", "0192f0c1-2a3b-7c4d-8e5f-001122334455"),
    ];
    let before = observed(&g.document(id).await).len();
    for _ in 0..3 {
        assert_eq!(g.post_form(&c, &format!("/cases/{id}/observations"), &answer).await.status(), 303);
    }
    assert_eq!(observed(&g.document(id).await).len(), before + 1);
    let odd = [("test", "wheel-rock"), ("outcome", "none"), ("at", "hub.rl"), ("edit", "abc")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/observations"), &odd).await.status(), 422);
    let random = Uuid::new_v4().to_string();
    let answer = [("test", "wheel-rock"), ("outcome", "none"), ("at", "hub.rl"), ("edit", random.as_str())];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/observations"), &answer).await.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_answers_comes_to_the_page_of_the_other_by_itself() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (b, c) = Browser::two(&g).await;
    for x in [&b, &c] {
        x.go(&format!("{}/cases/{id}/lift", g.url)).await;
        x.see("article.stop").await;
    }
    let (first, stays) = (asked(&b).await, asked(&c).await);
    assert_eq!(first, stays);
    b.key("1").await;
    until("the answer of the first", async || asked(&c).await != first).await;
    c.says("Harrowmere: ").await;
    assert_eq!(asked(&c).await, asked(&b).await);
    // Who is typing keeps what is typed, and is informed.
    c.fill("article.stop:not([hidden]) input[name=note]", "rust at the cap").await;
    let typed = asked(&c).await;
    b.key("1").await;
    c.says("What you are typing stays").await;
    assert_eq!(asked(&c).await, typed);
    let note = c.js("return document.querySelector('article.stop:not([hidden]) input[name=note]').value").await;
    assert_eq!(note, "rust at the cap");
    // Another workshop sees nothing.
    let other = g.client(Some("b@skerry.example")).await;
    assert_eq!(g.get(&other, &format!("/cases/{id}/live?v=0")).await.status(), 404);
    let own = g.client(Some(FIRST)).await;
    let now = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().version;
    assert_eq!(g.get(&own, &format!("/cases/{id}/live?v={now}")).await.status(), 204);
    b.end().await;
    c.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_feel_is_voted_blind_by_two() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (b, c) = Browser::two(&g).await;
    let at = format!("{}/cases/{id}/lift?s=S1&test=joint-wiggle&at=prop.rear.j2", g.url);
    let before = observed(&g.document(id).await).len();
    // The first feels play; nobody sees it, not even in the history.
    b.go(&at).await;
    b.fill("article.stop:not([hidden]) input[name=note]", "clicks at the cap").await;
    b.click("article.stop:not([hidden]) .blind summary").await;
    b.click("article.stop:not([hidden]) .blind button[value=play]").await;
    until("the first vote", async || g.document(id).await["votes"].as_array().is_some_and(|v| v.len() == 1)).await;
    b.go(&at).await;
    b.says("You have felt it").await;
    c.go(&at).await;
    c.says("the answer stays hidden").await;
    assert_eq!(observed(&g.document(id).await).len(), before);
    let own = g.client(Some(SECOND)).await;
    let page = g.get(&own, &format!("/cases/{id}/live?v=0")).await.text().await.unwrap();
    assert!(page.contains("felt blind") && !page.contains("play"), "{page}");
    // The second feels none: both are shown, and one of them is taken.
    let none = "article.stop:not([hidden]) .answer:not(.unsure):not([value=play])";
    c.click(none).await;
    until("the second vote", async || g.document(id).await["votes"].as_array().is_some_and(|v| v.len() == 2)).await;
    assert_eq!(observed(&g.document(id).await).len(), before, "two who differ have observed nothing yet");
    c.go(&at).await;
    c.says("not alike").await;
    c.check("two who felt otherwise").await;
    c.click("article.stop:not([hidden]) button[value=Harrowmere]").await;
    until("the decision", async || observed(&g.document(id).await).len() == before + 1).await;
    let d = g.document(id).await;
    let last = d["observations"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((last["outcome"].as_str(), last["at"].as_str()), (Some("play"), Some("prop.rear.j2")));
    let note = last["note"].as_str().unwrap();
    assert!(note.contains("Tovi felt") && note.contains("Harrowmere: clicks at the cap"), "{last}");
    b.end().await;
    c.end().await;
}

#[tokio::test]
async fn alike_felt_by_two_counts_as_observed_and_nobody_votes_twice() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (a, two) = (g.client(Some(FIRST)).await, g.client(Some(SECOND)).await);
    let (looker, other) = (g.client(Some("a.look@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let path = format!("/cases/{id}/lift/vote");
    let felt = [("test", "joint-wiggle"), ("at", "prop.rear.j1"), ("symptom", "S1"), ("outcome", "play")];
    let before = observed(&g.document(id).await).len();
    assert_eq!(g.post_form(&looker, &path, &felt).await.status(), 403);
    assert_eq!(g.post_form(&other, &path, &felt).await.status(), 404);
    assert_eq!(g.post_form(&a, &path, &felt).await.status(), 303);
    let again = g.post_form(&a, &path, &felt).await;
    assert_eq!(again.status(), 422);
    assert!(again.text().await.unwrap().contains("felt it already"));
    // Who has not felt it may not take it as it stands, and so see it.
    let peek = [felt[0], felt[1], felt[2], ("stands", "Harrowmere")];
    let peek = g.post_form(&two, &format!("/cases/{id}/lift/decide"), &peek).await;
    assert_eq!(peek.status(), 422);
    assert!(peek.text().await.unwrap().contains("feel it yourself first"));
    assert_eq!(g.post_form(&two, &path, &felt).await.status(), 303);
    let d = g.document(id).await;
    assert_eq!(observed(&d).len(), before + 1);
    assert!(d["observations"].as_array().unwrap().last().unwrap()["note"].as_str().unwrap().contains("felt alike by"));
    let odd = [("test", "joint-wiggle"), ("at", "prop.rear.j1"), ("outcome", "purple")];
    assert_eq!(g.post_form(&two, &path, &odd).await.status(), 422);
    assert_eq!(g.post_form(&two, &format!("/cases/{id}/lift/decide"), &felt).await.status(), 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stale_edit_shows_both() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, FIRST).await;
    // What comes live must not refresh the form: its owner is typing.
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.see("form input[name=title]").await;
    b.js("document.querySelector('form input[name=title]').closest('details')?.setAttribute('open', '')").await;
    b.fill("form input[name=title]", "Mine").await;
    let theirs = VehicleDescription { title: Some("Theirs".into()), ..VehicleDescription::default() };
    g.edited_by("Tovi", id, CaseAct::DescribeVehicle(Box::new(theirs))).await;
    b.js("document.querySelector('button[formaction$=vehicle]').click()").await;
    b.see("#both[open]").await;
    let shown = b.js("return document.querySelector('#both tbody').innerText").await;
    let shown = shown.as_str().unwrap();
    assert!(shown.contains("Theirs") && shown.contains("Mine"), "{shown}");
    b.check("both versions").await;
    b.click("#both [data-mine]").await;
    until("mine", async || g.document(id).await["title"] == "Mine").await;
    b.end().await;
}

/// A picture of one point, as a PNG file.
const PNG: &[u8] = &[
    0x89, b'P', b'N', b'G', 0x0d, 0x0a, 0x1a, 0x0a, 0, 0, 0, 0x0d, b'I', b'H', b'D', b'R', 0, 0, 0, 1, 0, 0, 0, 1, 8, 0, 0, 0, 0,
    0x3a, 0x7e, 0x9b, 0x55, 0, 0, 0, 0x0a, b'I', b'D', b'A', b'T', 0x78, 0x9c, 0x63, 0x60, 0, 0, 0, 2, 0, 1, 0x48, 0xaf, 0xa4,
    0x71, 0, 0, 0, 0, b'I', b'E', b'N', b'D', 0xae, 0x42, 0x60, 0x82,
];

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_kept_with_the_part_and_what_is_none_is_refused() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let folder = tempfile::tempdir().unwrap();
    let (picture, text) = (folder.path().join("boot.png"), folder.path().join("boot.jpg"));
    std::fs::write(&picture, PNG).unwrap();
    std::fs::write(&text, "<script>alert(1)</script>").unwrap();
    let b = Browser::new().await;
    b.sign_in(&g, FIRST).await;
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    let photo = b.see("article.stop:not([hidden]) input[name=photo]").await;
    photo.send_keys(text.to_str().unwrap()).await.unwrap();
    b.says("this is no picture").await;
    assert!(g.document(id).await.get("pinned").is_none());
    b.go(&format!("{}/cases/{id}/lift", g.url)).await;
    let (photo, now) = (b.see("article.stop:not([hidden]) input[name=photo]").await, asked(&b).await);
    photo.send_keys(picture.to_str().unwrap()).await.unwrap();
    until("the picture", async || g.document(id).await["pinned"].as_array().is_some_and(|p| p.len() == 1)).await;
    b.see(".pins img").await;
    let d = g.document(id).await;
    let (test, at) = now.split_once('@').unwrap();
    assert_eq!((d["pinned"][0]["test"].as_str(), d["pinned"][0]["at"].as_str().unwrap_or_default()), (Some(test), at));
    let file = format!("/cases/{id}/{}", d["pinned"][0]["file"].as_str().unwrap());
    let own = g.client(Some(FIRST)).await;
    let got = g.get(&own, &file).await;
    assert_eq!((got.status().as_u16(), got.headers()["content-type"].to_str().unwrap()), (200, "image/png"));
    assert!(got.headers()["content-security-policy"].to_str().unwrap().contains("sandbox"));
    assert_eq!(got.bytes().await.unwrap(), PNG);
    for (who, status) in [(Some("b@skerry.example"), 404), (None, 303)] {
        let c = g.client(who).await;
        assert_eq!(g.get(&c, &file).await.status(), status);
    }
    assert_eq!(g.get(&own, &format!("/cases/{id}/pinned/..%2Frecordings%2Fr1.csv")).await.status(), 404);
    // It leaves with the case and comes back with it.
    let zip = g.get(&own, &format!("/cases/{id}/export.zip")).await.bytes().await.unwrap();
    let part = reqwest::multipart::Part::bytes(zip.to_vec()).file_name("case.zip");
    let r = own
        .post(format!("{}/import", g.url))
        .header("sec-fetch-site", "same-origin")
        .multipart(reqwest::multipart::Form::new().part("case", part))
        .send()
        .await
        .unwrap();
    let to = r.headers()["location"].to_str().unwrap().to_string();
    let again = g.get(&own, &file.replace(&id.to_string(), to.rsplit('/').next().unwrap())).await;
    assert_eq!((again.status().as_u16(), again.bytes().await.unwrap().len()), (200, PNG.len()));
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_stands_at_a_question_stays_there_while_another_answers() {
    let (g, id, b) = at_the_lift().await;
    // The first person goes on to a question further down; the second answers the one on top.
    let top = asked(&b).await;
    b.click(".to-come li:nth-child(3) a").await;
    until("the question that was chosen", async || asked(&b).await != top && !asked(&b).await.is_empty()).await;
    let (own, (test, at)) = (asked(&b).await, top.split_once('@').unwrap());
    let second = g.client(Some(SECOND)).await;
    let outcome = baricord_core::reasoning::knowledge::builtin().test(test).unwrap().innocent().id.clone();
    let mut answer = vec![("test", test), ("outcome", outcome.as_str()), ("symptom", "S1"), ("back", "lift")];
    answer.extend(Some(("at", at)).filter(|a| !a.1.is_empty()));
    let ticks = ["free", "control", "clear", "exhaust", "loose-ends"].map(|t| ("seen-to", t));
    answer.extend(ticks);
    assert_eq!(g.post_form(&second, &format!("/cases/{id}/observations"), &answer).await.status(), 303);
    b.says("Tovi: ").await;
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert_eq!(asked(&b).await, own, "the question stays");
    // When the second answers this one, it is over: the route goes on.
    let (test, at) = own.split_once('@').unwrap();
    let outcome = baricord_core::reasoning::knowledge::builtin().test(test).unwrap().innocent().id.clone();
    let mut answer = vec![("test", test), ("outcome", outcome.as_str()), ("symptom", "S1"), ("back", "lift")];
    answer.extend(Some(("at", at)).filter(|a| !a.1.is_empty()));
    answer.extend(ticks);
    assert_eq!(g.post_form(&second, &format!("/cases/{id}/observations"), &answer).await.status(), 303);
    until("the next question", async || asked(&b).await != own).await;
    b.end().await;
}
