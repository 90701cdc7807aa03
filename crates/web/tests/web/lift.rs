//! The route under the vehicle: one question at a time, by touch on a phone and by keys.

use crate::support::{Browser, Ground};
use serde_json::{Value, json};
use uuid::Uuid;

/// A finger on the middle of an element.
async fn tap(b: &Browser, css: &str) {
    b.see(css).await;
    let at = b
        .js(&format!(
            "const e = document.querySelector({css:?}); e.scrollIntoView({{block: 'center'}}); const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]"
        ))
        .await;
    let touch = |kind: &str, points: Value| json!({"type": kind, "touchPoints": points});
    let cdp = b.web.cdp();
    cdp.send_raw("Input.dispatchTouchEvent", touch("touchStart", json!([{"x": at[0], "y": at[1]}]))).await.unwrap();
    cdp.send_raw("Input.dispatchTouchEvent", touch("touchEnd", json!([]))).await.unwrap();
}

/// A case with a growl beside its vibration: much can be looked at.
async fn growl(g: &Ground) -> Uuid {
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/symptoms"), &[("kind", "growl"), ("words", "growls")]).await.status(), 303);
    id
}

/// What is asked now: the test and its place; nothing while the page changes.
async fn asked(b: &Browser) -> (String, String) {
    let x = b.js("const s = document.querySelector('article.stop'); return s ? [s.dataset.test, s.dataset.at] : ['', '']").await;
    (x[0].as_str().unwrap_or_default().into(), x[1].as_str().unwrap_or_default().into())
}

/// Waits until something is asked of which this holds.
async fn until_asked(b: &Browser, holds: impl Fn(&(String, String)) -> bool) -> (String, String) {
    for _ in 0..200 {
        let now = asked(b).await;
        if !now.0.is_empty() && holds(&now) {
            return now;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("still asked: {:?}", asked(b).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_walk_goes_on_by_touch_on_a_phone() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.size(390, 844).await;
    let cdp = b.web.cdp();
    let phone = json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    cdp.send_raw("Emulation.setDeviceMetricsOverride", phone).await.unwrap();
    cdp.send_raw("Emulation.setTouchEmulationEnabled", json!({"enabled": true})).await.unwrap();
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    b.check("the walk on a phone").await;
    tap(&b, "details.stands summary").await;
    tap(&b, "details.stands button[name=on]").await;
    b.says("The vehicle is up").await;
    assert_eq!(g.document(id).await["state"]["on"], "lift");
    // Can't tell: nothing is weighed, and it waits at the end.
    let first = until_asked(&b, |_| true).await;
    let before = g.document(id).await["observations"].as_array().unwrap().len();
    tap(&b, ".stop-answers .unsure").await;
    until_asked(&b, |a| *a != first).await;
    let d = g.document(id).await;
    assert_eq!(
        (d["observations"].as_array().unwrap().len(), d["asked_later"][0]["test"].as_str()),
        (before, Some(first.0.as_str()))
    );
    b.says("asked again").await;
    // An answer with its note.
    let second = until_asked(&b, |_| true).await;
    b.fill("input[name=note]", "rust at the cap").await;
    let outcome = b.js("return document.querySelector('.stop-answers .answer').value").await;
    tap(&b, ".stop-answers .answer").await;
    until_asked(&b, |a| *a != second).await;
    let d = g.document(id).await;
    let last = d["observations"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((last["test"].as_str(), last["outcome"].as_str()), (Some(second.0.as_str()), outcome.as_str()));
    assert_eq!(last["note"], "rust at the cap");
    b.says("rust at the cap").await;
    let wide = b.js("return document.documentElement.scrollWidth").await.as_f64().unwrap();
    assert!(wide <= 390.0, "{wide}");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_walk_goes_on_by_keys() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    let first = until_asked(&b, |_| true).await;
    let before = g.document(id).await["observations"].clone();
    b.key("1").await;
    until_asked(&b, |a| *a != first).await;
    let d = g.document(id).await;
    assert_eq!(d["observations"].as_array().unwrap().last().unwrap()["test"], first.0.as_str());
    // Taken back, it is asked again.
    b.key("u").await;
    for _ in 0..100 {
        if g.document(id).await["observations"] == before {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    b.go(&format!("{}/cases/{id}/lift?s=S2", g.url)).await;
    until_asked(&b, |a| *a == first).await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn wheels_do_not_turn_under_power_before_what_must_be_seen_to_was() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let (a, other) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let page = g.get(&a, &format!("/cases/{id}/lift?s=S2&test=lift-run")).await.text().await.unwrap();
    assert!(page.contains("name=\"seen-to\"") && page.contains("wheels free, on stands"), "{page}");
    let run = [("test", "lift-run"), ("outcome", "not-heard"), ("symptom", "S1"), ("back", "lift")];
    let r = g.post_form(&a, &format!("/cases/{id}/observations"), &run).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("Nobody in line"));
    // One tick for all is none: each is asked for.
    let one: Vec<_> = run.iter().copied().chain([("seen-to", "yes"), ("seen-to", "free")]).collect();
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/observations"), &one).await.status(), 422);
    let ticks = ["free", "control", "clear", "exhaust"].map(|t| ("seen-to", t));
    let seen: Vec<_> = run.iter().copied().chain(ticks).collect();
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/observations"), &seen).await.status(), 303);
    for (path, fields) in [("lift/later", [("test", "wheel-rock")]), ("lift/stand", [("on", "lift")])] {
        assert_eq!(g.post_form(&other, &format!("/cases/{id}/{path}"), &fields).await.status(), 404, "{path}");
    }
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/lift/stand"), &[("on", "moon")]).await.status(), 422);
    assert_eq!(g.post_form(&a, &format!("/cases/{id}/lift/later"), &[("test", "kick-tyre")]).await.status(), 422);
}

/// A second of a tone as a WAV file.
fn wav(hz: f64) -> Vec<u8> {
    let samples: Vec<i16> =
        (0..8000).map(|i| (8000.0 * (std::f64::consts::TAU * hz * f64::from(i) / 8000.0).sin()) as i16).collect();
    let data: Vec<u8> = samples.iter().flat_map(|s| s.to_le_bytes()).collect();
    let mut out = b"RIFF".to_vec();
    out.extend((36 + data.len() as u32).to_le_bytes());
    out.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    out.extend(8000u32.to_le_bytes());
    out.extend(16000u32.to_le_bytes());
    out.extend(b"\x02\0\x10\0data");
    out.extend((data.len() as u32).to_le_bytes());
    out.extend(data);
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn the_loudest_station_is_laid_on_the_drawing_and_two_sounds_are_compared_blind() {
    let g = Ground::new().await;
    let id = growl(&g).await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let path = format!("/cases/{id}/lift/listen");
    for (fields, field) in [
        (vec![("unit", "dB"), ("hub.fl", "loud")], "hub.fl"),
        (vec![("unit", "of 10"), ("hub.fl", "11")], "hub.fl"),
        (vec![("unit", "ells"), ("hub.fl", "1")], "unit"),
        (vec![("unit", "dB")], "level"),
    ] {
        let r = g.post_form(&c, &path, &fields).await;
        assert_eq!(r.status(), 422, "{fields:?}");
        assert!(r.text().await.unwrap().contains(&format!("<b>{field}</b>")), "{fields:?}");
    }
    let levels = [("unit", "dB"), ("hub.fl", "66"), ("hub.fr", "67"), ("diff.rear", "60"), ("symptom", "S2")];
    // Wheels turn under power for it: what must be seen to is ticked first.
    let r = g.post_form(&c, &path, &levels).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("tick first"));
    let close: Vec<_> = levels.into_iter().chain(["free", "control", "clear", "exhaust"].map(|t| ("seen-to", t))).collect();
    assert_eq!(g.post_form(&c, &path, &close).await.status(), 303);
    let page = g.get(&c, &format!("{path}?s=S2")).await.text().await.unwrap();
    assert!(page.contains("Loudest so far, not clearly") && page.contains("67 dB"), "{page}");
    // A sound of each front hub; which is which is not shown.
    for (at, hz) in [("hub.fl", 300.0), ("hub.fr", 90.0)] {
        let part = reqwest::multipart::Part::bytes(wav(hz)).file_name("a.wav");
        let form =
            reqwest::multipart::Form::new().text("test", "lift-run").text("at", at).text("back", "listen").part("file", part);
        let r = c
            .post(format!("{}/cases/{id}/pinned", g.url))
            .header("sec-fetch-site", "same-origin")
            .multipart(form)
            .send()
            .await
            .unwrap();
        assert_eq!(r.status(), 303);
        assert!(r.headers()["location"].to_str().unwrap().contains("/lift/listen"));
    }
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}{path}?s=S2", g.url)).await;
    b.see(".blind-pair audio").await;
    b.check("listening").await;
    let told = b.js("return document.querySelector('.blind-pair').innerHTML").await;
    assert!(!told.as_str().unwrap().contains("hub"), "{told}");
    let d = g.document(id).await;
    let of =
        |at: &str| d["pinned"].as_array().unwrap().iter().find(|p| p["at"] == at).unwrap()["file"].as_str().unwrap().to_string();
    // The front left is the rougher one, wherever it stands in the pair.
    let rough = of("hub.fl");
    b.click(&format!(".blind-pair form:has(input[name=louder][value$='{rough}']) button")).await;
    b.says("compared blind 1 to 0").await;
    let d = g.document(id).await;
    assert_eq!((d["compared"][0]["louder"].as_str(), d["compared"][0]["quieter"].as_str()), (Some("hub.fl"), Some("hub.fr")));
    assert_eq!(b.js("return document.querySelectorAll('.blind-pair').length").await, 0, "a pair is asked once");
    // A second pair of ears makes it clear, and the answer goes in when what must be seen to was.
    let two = g.client(Some("a.two@harrowmere.example")).await;
    let (first, second) = (format!("/cases/{id}/{rough}"), format!("/cases/{id}/{}", of("hub.fr")));
    let heard = [("louder", first.as_str()), ("than", second.as_str())];
    assert_eq!(g.post_form(&two, &format!("/cases/{id}/lift/compare"), &heard).await.status(), 303);
    let same = [("louder", first.as_str()), ("than", first.as_str())];
    assert_eq!(g.post_form(&two, &format!("/cases/{id}/lift/compare"), &same).await.status(), 422);
    let other = g.client(Some("b@skerry.example")).await;
    assert_eq!(g.post_form(&other, &format!("/cases/{id}/lift/compare"), &heard).await.status(), 404);
    b.go(&format!("{}{path}?s=S2", g.url)).await;
    b.says("Loudest: front left hub").await;
    b.js("document.querySelectorAll('.verdict .seen-to input').forEach(c => c.click())").await;
    b.click(".verdict form button").await;
    for _ in 0..200 {
        let d = g.document(id).await;
        let last = d["observations"].as_array().unwrap().last().unwrap().clone();
        if last["test"] == "lift-run" {
            assert_eq!((last["outcome"].as_str(), last["at"].as_str()), (Some("heard"), Some("hub.fl")));
            b.end().await;
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("the answer does not come");
}

#[tokio::test]
async fn a_joint_swung_with_a_balance_is_told_by_its_numbers() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let path = format!("/cases/{id}/lift/swing");
    let read =
        [("at", "prop.rear.j2"), ("symptom", "S1"), ("arm_mm", "120"), ("first_n", "10 24,5 10 11"), ("second_n", "10;10;11")];
    assert_eq!(g.post_form(&c, &path, &read).await.status(), 303);
    let d = g.document(id).await;
    let last = d["observations"].as_array().unwrap().last().unwrap();
    assert_eq!((last["test"].as_str(), last["outcome"].as_str()), (Some("joint-swing"), Some("stiff-spot")));
    assert!(last["note"].as_str().unwrap().contains("N·m") && last["balance"]["first_n"][1] == 24.5, "{last}");
    for (field, value) in [("at", "hub.rl"), ("arm_mm", "3"), ("first_n", "1 2"), ("second_n", "1 two 3")] {
        let odd: Vec<_> = read.iter().map(|&(k, v)| (k, if k == field { value } else { v })).collect();
        let r = g.post_form(&c, &path, &odd).await;
        assert_eq!(r.status(), 422, "{field}");
        assert!(r.text().await.unwrap().contains(&format!("<b>{field}</b>")), "{field}");
    }
    // What the test took off is off afterwards, and goes back before a bend is driven.
    assert_eq!(g.document(id).await["state"]["off"], json!(["prop.rear"]));
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/lift/off"), &[]).await.status(), 303);
    let leaves = g.get(&c, &format!("/cases/{id}/lift/leaves?s=S1")).await.text().await.unwrap();
    assert!(leaves.contains("stand outside and carry the load, in a right turn the left ones") && leaves.contains("Made:"));
    let other = g.client(Some("b@skerry.example")).await;
    assert_eq!(g.get(&other, &format!("/cases/{id}/lift/leaves")).await.status(), 404);
    assert_eq!(g.post_form(&other, &path, &read).await.status(), 404);
}

#[tokio::test]
async fn what_is_off_already_costs_nothing_more() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let path = format!("/cases/{id}/lift/off");
    // A test that takes the shaft off, and how long it takes.
    let k = baricord_core::reasoning::knowledge::builtin();
    let minutes = async || {
        let case = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().case().clone();
        let all = baricord_core::reasoning::open_tests(&case, k, "S1");
        let swung = |t: &baricord_core::reasoning::OpenTest| t.test == "joint-swing" && t.at.as_deref() == Some("prop.rear.j2");
        all.into_iter().find(swung).map(|t| t.minutes).unwrap()
    };
    let before = minutes().await;
    let what = "prop.rear";
    let off = [("off", what), ("symptom", "S1")];
    assert_eq!(g.post_form(&c, &path, &off).await.status(), 303);
    assert_eq!(g.document(id).await["state"]["off"], json!([what]));
    let now = minutes().await;
    assert!(now < before, "{what:?}: {now} {before}");
    let page = g.get(&c, &format!("/cases/{id}/lift")).await.text().await.unwrap();
    assert!(!page.contains("nothing off") && page.contains("cold, off: "));
    assert_eq!(g.post_form(&c, &path, &[("off", "moon")]).await.status(), 422);
    assert_eq!(g.post_form(&c, &path, &[]).await.status(), 303);
    assert_eq!(g.document(id).await["state"]["off"], json!([]));
    let other = g.client(Some("b@skerry.example")).await;
    assert_eq!(g.post_form(&other, &path, &[("off", "diff.rear")]).await.status(), 404);
}
