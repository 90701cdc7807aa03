//! What must hold whoever asks: bounds before sign-in, who may do what, the demo's people kept to the demo, no drive on
//! a vehicle that must not be driven, nothing erased by what does not read, and a server that answers beside long work.

use crate::support::{Ground, PASSWORD};
use baricord_core::case::Case;
use baricord_core::vehicle::sample;
use baricord_store::people::Role;
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

fn sent(c: &reqwest::Client, url: String) -> reqwest::RequestBuilder {
    c.post(url).header("sec-fetch-site", "same-origin").header("content-type", "application/x-www-form-urlencoded")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_is_small_wherever_it_is_posted_and_holds_no_nul() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (nobody, a) = (g.client(None).await, g.client(Some("a@harrowmere.example")).await);
    let large = || format!("email=a&password={}", "x".repeat(300 << 10));
    for (c, path) in [
        (&nobody, "/sign-in".to_string()),
        (&nobody, "/preferences".into()),
        (&nobody, format!("/cases/{id}/observations")),
        (&nobody, "/opinion/secret".into()),
        (&a, format!("/cases/{id}/observations")),
        (&a, format!("/cases/{id}/measure/runout/answer")),
        (&a, "/knowledge/limits".into()),
        (&a, "/tokens".into()),
    ] {
        let status = sent(c, format!("{}{path}", g.url)).body(large()).send().await.unwrap().status();
        assert_eq!(status, 413, "{path}");
        // Without a length said beforehand.
        let pieces: Vec<Result<String, std::io::Error>> = (0..40).map(|_| Ok("x".repeat(16 << 10))).collect();
        let body = reqwest::Body::wrap_stream(futures_util::stream::iter(pieces));
        let status = sent(c, format!("{}{path}", g.url)).body(body).send().await.unwrap().status();
        assert_eq!(status, 413, "{path} in pieces");
    }
    for (method, path, body) in [
        ("post", "/sign-in".to_string(), "email=a%00b&password=x"),
        ("post", format!("/cases/{id}/found"), "what=oil%00leak"),
        ("post", format!("/cases/{id}/found"), "what=oil\0leak"),
        ("get", "/?q=%00".into(), ""),
        ("get", format!("/cases/{id}/part/prop%00"), ""),
        ("get", format!("/cases/{id}/map/R1/a%00z"), ""),
    ] {
        let url = format!("{}{path}", g.url);
        let r = if method == "post" { sent(&a, url).body(body) } else { a.get(url) };
        let r = r.send().await.unwrap();
        assert_eq!(r.status(), 422, "{method} {path}");
        assert!(r.text().await.unwrap().contains("NUL"), "{path}");
    }
    // In a file's form as well, and in a case that comes in.
    let form = reqwest::multipart::Form::new()
        .text("phase", "be\0fore")
        .part("file", reqwest::multipart::Part::bytes(b"t,az\n".to_vec()));
    let post =
        |path: &str, form| a.post(format!("{}{path}", g.url)).header("sec-fetch-site", "same-origin").multipart(form).send();
    assert_eq!(post(&format!("/cases/{id}/recordings"), form).await.unwrap().status(), 422);
    let mut doc = Case::new_document("n", "with a \u{0}", json!(sample::rear_drive(1)));
    doc["symptoms"] = json!([]);
    let part = reqwest::multipart::Part::bytes(doc.to_string().into_bytes()).file_name("case.json");
    assert_eq!(post("/import", reqwest::multipart::Form::new().part("case", part)).await.unwrap().status(), 422);
    assert_eq!(g.get(&a, "/?q=buzz").await.status(), 200, "and the board still searches");
    let r = g.post_form(&nobody, "/sign-in", &[("email", "a@harrowmere.example"), ("password", &"p".repeat(2000))]).await;
    assert_eq!(r.status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn viewers_read_and_learners_do_not_buy_share_or_change_knowledge() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let viewer = g.client(Some("a.look@harrowmere.example")).await;
    let learner = g.client(Some("a.learns@harrowmere.example")).await;
    let of = |path: &str| format!("/cases/{id}{path}");
    // Everything that changes something: the viewer may nothing of it.
    let posts: Vec<(String, Vec<(&str, &str)>)> = vec![
        ("/cases".into(), vec![("layout", "rwd-solid")]),
        (of("/undo"), vec![]),
        (of("/vehicle"), vec![("name", "x")]),
        (of("/symptoms"), vec![("kind", "clunk")]),
        (of("/symptoms/S1/answer"), vec![("question", "load"), ("answer", "drive")]),
        (of("/attempts"), vec![("what", "x")]),
        (of("/history"), vec![("history", "lowered")]),
        (of("/sounds"), vec![("symptom", "S1"), ("outcome", "joint-worn")]),
        (of("/incoming"), vec![("name", "x"), ("size", "9")]),
        (of("/analysis/cancel"), vec![]),
        (of("/analysis/again"), vec![]),
        (of("/drives"), vec![("symptom", "S1")]),
        (of("/lift/later"), vec![("test", "wheel-rock")]),
        (of("/lift/stand"), vec![("on", "lift")]),
        (of("/lift/warm"), vec![("warm", "yes")]),
        (of("/lift/off"), vec![]),
        (of("/lift/vote"), vec![("test", "wheel-rock"), ("outcome", "play")]),
        (of("/lift/decide"), vec![("test", "wheel-rock")]),
        (of("/lift/listen"), vec![]),
        (of("/lift/compare"), vec![]),
        (of("/lift/swing"), vec![]),
        (of("/measure/runout"), vec![("at", "prop.rear.s1.centre")]),
        (of("/measure/angles"), vec![("at", "prop.rear")]),
        (of("/observations"), vec![("test", "neutral-coast"), ("outcome", "stops")]),
        (of("/repairs"), vec![("fault", "joint-worn")]),
        (of("/repairs/r1"), vec![("done", "no")]),
        (of("/verdict"), vec![("result", "cured"), ("repair", "r1")]),
        (of("/safety"), vec![("drive", "no"), ("reason", "x")]),
        (of("/found"), vec![("what", "x")]),
        (of("/found/f1/settled"), vec![]),
        (of("/work"), vec![("fault", "joint-worn@prop.rear.j2")]),
        (of("/tasks"), vec![("task", "grease"), ("at", "prop.rear.slip")]),
        (of("/test/wheel-rock"), vec![("at:hub.fl", "none")]),
        (of("/entries/answer/o1"), vec![("test", "neutral-coast"), ("outcome", "stops")]),
        (of("/entries/answer/o1/remove"), vec![]),
        (of("/archive"), vec![("archived", "yes")]),
        (of("/delete"), vec![("title", "x")]),
        (of("/layout"), vec![("layout", "electric")]),
        (of("/move"), vec![("vehicle", "x")]),
        (of("/opinions"), vec![("question", "x"), ("days", "1")]),
        (of(&format!("/opinions/{}/revoke", Uuid::nil())), vec![]),
        ("/knowledge/house".into(), vec![("rate", "90")]),
        ("/knowledge/limits".into(), vec![]),
        ("/knowledge/faults/joint-worn".into(), vec![("minutes", "90")]),
        ("/knowledge/tests/wheel-rock".into(), vec![("minutes", "9")]),
        ("/tokens".into(), vec![("name", "x")]),
    ];
    let before = g.document(id).await;
    for (path, fields) in &posts {
        assert_eq!(g.post_form(&viewer, path, fields).await.status(), 403, "{path} as a viewer");
    }
    assert_eq!(g.bring(&viewer, id, "run.csv", b"t,az\n".to_vec(), None).await.status(), 403);
    assert_eq!(g.document(id).await, before, "a viewer has changed nothing");
    for page in [
        "",
        "/complaint",
        "/road",
        "/lift",
        "/measure",
        "/decide",
        "/repair",
        "/prove",
        "/paper",
        "/export.zip",
        "/entries",
        "/life",
        "/find?q=hum",
        "/test/wheel-rock",
        "/entries/answer/o1",
    ] {
        assert!(g.get(&viewer, &of(page)).await.status().as_u16() < 400, "{page} as a viewer");
    }
    // A learner works, and does not buy, share or change knowledge.
    let repair_part = g.post_form(&learner, &of("/repairs/r1"), &[("done", "no"), ("part", "copy")]).await;
    assert_eq!(repair_part.status(), 403, "another part");
    for (path, fields) in posts.iter().filter(|p| {
        ["/repairs", "/opinions"].iter().any(|end| p.0.ends_with(end)) || p.0.ends_with("revoke") || p.0.starts_with("/knowledge")
    }) {
        assert_eq!(g.post_form(&learner, path, fields).await.status(), 403, "{path} as a learner");
    }
    assert_eq!(
        g.post_form(&learner, &of("/observations"), &[("test", "neutral-coast"), ("outcome", "stops")]).await.status(),
        303
    );
    assert_eq!(g.post_form(&learner, &of("/repairs/r1"), &[("done", "no"), ("note", "seen")]).await.status(), 303);
    let decide = g.get(&learner, &of("/decide")).await.text().await.unwrap();
    assert!(!decide.contains(&format!("action=\"/cases/{id}/repairs\"")), "no gate for a learner");
    assert!(!g.get(&learner, &of("/opinions")).await.text().await.unwrap().contains("ask-opinion"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demos_people_sign_in_where_the_demo_runs_alone() {
    let g = Ground::new().await;
    let mut s = g.store.begin_workshop("Demo", true).await.unwrap();
    let demo = g.store.add_person(&mut s, "demo@demo.example", "Demo", Role::Owner, PASSWORD).await.unwrap();
    let token = s.add_token(demo, "a program").await.unwrap().unwrap();
    s.commit().await.unwrap();
    let there = g.demo_server().await;
    let sign_in = |c: reqwest::Client, url: String, forwarded: Option<&'static str>| async move {
        let mut r =
            sent(&c, format!("{url}/sign-in")).body(format!("email=demo%40demo.example&password={}", PASSWORD.replace(' ', "+")));
        if let Some(name) = forwarded {
            r = r.header(name, "for=192.0.2.7");
        }
        r.send().await.unwrap().status().as_u16()
    };
    let c = g.client(None).await;
    assert_eq!(sign_in(c.clone(), g.url.clone(), None).await, 401, "without the demo");
    for header in ["forwarded", "x-forwarded-for", "x-real-ip"] {
        assert_eq!(sign_in(c.clone(), there.clone(), Some(header)).await, 401, "{header}");
    }
    assert_eq!(sign_in(c.clone(), there.clone(), None).await, 303);
    assert_eq!(c.get(format!("{there}/")).send().await.unwrap().status(), 200);
    // The same session counts nowhere else, nor when it is forwarded.
    assert_eq!(c.get(format!("{}/", g.url)).send().await.unwrap().status(), 303);
    assert_eq!(c.get(format!("{there}/")).header("forwarded", "for=192.0.2.7").send().await.unwrap().status(), 303);
    let call = |url: &str| c.post(format!("{url}/api/v1/calc/tyre")).bearer_auth(&token).body(r#"{"size": "235/65R16"}"#).send();
    assert_eq!(call(&there).await.unwrap().status(), 200);
    assert_eq!(call(&g.url).await.unwrap().status(), 401);
    // Real people sign in on both.
    for url in [&g.url, &there] {
        let c = g.client(None).await;
        let body = format!("email=a%40harrowmere.example&password={}", PASSWORD.replace(' ', "+"));
        assert_eq!(sent(&c, format!("{url}/sign-in")).body(body).send().await.unwrap().status(), 303);
    }
    assert!(!g.get(&g.client(None).await, "/sign-in").await.text().await.unwrap().contains("driveline"));
}

#[tokio::test(flavor = "multi_thread")]
async fn no_drive_begins_or_is_proposed_while_the_vehicle_must_not_be_driven() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let begin = [("symptom", "S1"), ("fault", "hidden"), ("pace", "64")];
    for statement in [
        json!({"drive": "no", "reason": "joint binds", "by": "A"}),
        json!({"drive": "perhaps", "reason": "joint binds", "by": "A"}),
        json!({"drive": "yes"}),
        json!("yes"),
    ] {
        g.changed_by("A", id, |d| d["safety"] = json!([{"drive": "yes", "reason": "fine", "by": "A"}, statement])).await;
        let r = g.post_form(&c, &format!("/cases/{id}/drives"), &begin).await;
        assert_eq!(r.status(), 422, "{statement}");
        assert!(r.text().await.unwrap().contains("not to be driven"));
        for page in ["road", "decide", "lift"] {
            let text = g.get(&c, &format!("/cases/{id}/{page}")).await.text().await.unwrap();
            assert!(text.contains("Not to be driven"), "{page}");
            for drive in ["Start the recorder", "Plan the runs", "Print a run card"] {
                assert!(!text.contains(drive), "{page} proposes: {drive}");
            }
        }
        let prove = g.get(&c, &format!("/cases/{id}/prove")).await.text().await.unwrap();
        assert!(prove.contains("drives wait until somebody says") && !prove.contains("Drive again as before"));
        let card = g.get(&c, &format!("/cases/{id}/road/card")).await.text().await.unwrap();
        assert!(card.contains("Not to be driven") && !card.contains("slowly through"));
    }
    // A drive that was begun before that ends without a further leg.
    g.changed_by("A", id, |d| d["safety"] = json!([])).await;
    g.worker.abort();
    tokio::time::sleep(Duration::from_millis(50)).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let setup = r#"{"recorder":"stand-in","fault":"hidden","rough":false,"hasty":false,"seed":5}"#;
    let drive = s.begin_drive(id, "S1", "A", setup, 64.0).await.unwrap();
    s.commit().await.unwrap();
    let claim = loop {
        let claim = g.store.claim_task().await.unwrap().expect("the drive waits");
        if claim.drive.is_some() {
            break claim;
        }
    };
    g.changed_by("A", id, |d| d["safety"] = json!("unreadable")).await;
    baricord_web::drive_runner::go(&g.store, claim, drive, &std::sync::atomic::AtomicBool::new(false)).await.unwrap();
    let d = g.store.scope(g.a).await.unwrap().drive(id, drive).await.unwrap();
    assert_eq!((d.state.as_str(), d.legs.as_str()), ("done", "[]"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_read_is_passed_over_and_never_erased() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let odd = json!([{"test": 7}, "torn", {"what": 3, "louder": 1, "file": 2}]);
    let lists = ["votes", "found", "pinned", "listened", "compared", "asked_later"];
    g.changed_by("A", id, |d| {
        for list in lists {
            d[list] = odd.clone();
        }
    })
    .await;
    let of = |path: &str| format!("/cases/{id}{path}");
    for page in ["/lift", "/decide", "/road", "/paper", "/lift/listen"] {
        assert_eq!(g.get(&c, &of(page)).await.status(), 200, "{page}");
    }
    let vote = [("symptom", "S1"), ("test", "joint-wiggle"), ("at", "prop.rear.j2"), ("outcome", "play")];
    assert_eq!(g.post_form(&c, &of("/lift/vote"), &vote).await.status(), 303);
    assert_eq!(g.post_form(&c, &of("/found"), &[("what", "boot cracked")]).await.status(), 303);
    let found = g.document(id).await["found"][3]["id"].as_str().unwrap().to_string();
    assert_eq!(g.post_form(&c, &of(&format!("/found/{found}/settled")), &[]).await.status(), 303);
    let later = [("symptom", "S1"), ("test", "joint-wiggle"), ("at", "prop.rear.j1")];
    assert_eq!(g.post_form(&c, &of("/lift/later"), &later).await.status(), 303);
    let second = g.client(Some("a.two@harrowmere.example")).await;
    assert_eq!(g.post_form(&second, &of("/lift/vote"), &vote).await.status(), 303);
    let d = g.document(id).await;
    for list in lists {
        let kept: Vec<&Value> = d[list].as_array().unwrap().iter().take(3).collect();
        assert_eq!(json!(kept), odd, "{list}");
    }
    assert_eq!(d["votes"].as_array().unwrap().len(), 5);
    assert_eq!((&d["found"][3]["what"], &d["found"][3]["settled"]), (&json!("boot cracked"), &json!(true)));
    assert_eq!(d["votes"][3]["settled"], true, "both felt alike");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_simulated_run_is_marked_everywhere_and_counts_in_demo_cases_only() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    g.changed_by("A", id, |d| d["recordings"][0]["recorder"] = "stand-in".into()).await;
    let (ground, client) = (&g, &c);
    let text = |path: String| async move { ground.get(client, &path).await.text().await.unwrap() };
    for page in ["complaint", "road", "lift", "measure", "decide", "repair", "prove", "paper"] {
        let page_text = text(format!("/cases/{id}/{page}")).await;
        assert!(page_text.contains("Simulated recorder, no vehicle drove: R1"), "{page}");
    }
    assert!(text(format!("/cases/{id}/decide")).await.contains("simulated run R1 peaks"), "it counts in a demo case");
    g.changed_by("A", id, |d| d["demo"] = false.into()).await;
    let decide = text(format!("/cases/{id}/decide")).await;
    assert!(!decide.contains("run R1 peaks") && decide.contains("nothing is concluded from it: R1"));
    let road = text(format!("/cases/{id}/road")).await;
    assert!(!road.contains("Start the recorder") && road.contains("No recorder is connected"));
    let r = g.post_form(&c, &format!("/cases/{id}/drives"), &[("symptom", "S1"), ("fault", "hidden")]).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("demo cases only"));
}

#[tokio::test(flavor = "multi_thread")]
async fn start_diagnosis_saves_the_vehicle_with_it() {
    let g = Ground::new().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let opened = g.post_form(&c, "/cases", &[("layout", "rwd-solid"), ("title", "Hum")]).await;
    let path = opened.headers()["location"].to_str().unwrap().trim_end_matches("/complaint").to_string();
    let id: Uuid = path.rsplit('/').next().unwrap().parse().unwrap();
    let fields = |tyre: &'static str, version: &'static str| {
        [
            ("kind", "vibration"),
            ("words", "hums"),
            ("name", "Mail van 9"),
            ("tyre", tyre),
            ("distance_km", "91.000"),
            ("ratio0", "4.30"),
            ("version", version),
        ]
    };
    let r = g.post_form(&c, &format!("{path}/symptoms"), &fields("225/45R17 255/40R17", "1")).await;
    assert_eq!(r.status(), 422);
    assert!(r.text().await.unwrap().contains("two sizes"));
    assert_eq!(g.post_form(&c, &format!("{path}/symptoms"), &fields("235/65R16", "1")).await.status(), 303);
    let d = g.document(id).await;
    assert_eq!(
        (&d["vehicle"]["name"], &d["vehicle"]["tyre"]["size"], &d["distance_km"]),
        (&json!("Mail van 9"), &json!("235/65R16"), &json!(91_000))
    );
    assert_eq!((&d["vehicle"]["axles"][0]["ratio"], d["symptoms"].as_array().unwrap().len()), (&json!(4.3), 1));
    // From a page that has grown old: another symptom is welcome, another vehicle is not written over somebody's.
    assert_eq!(g.post_form(&c, &format!("{path}/symptoms"), &fields("235/65R16", "1")).await.status(), 303);
    assert_eq!(g.post_form(&c, &format!("{path}/symptoms"), &fields("215/70R15", "1")).await.status(), 409);
}

#[tokio::test(flavor = "multi_thread")]
async fn exports_side_by_side_leave_the_board_answering_and_each_comes_whole_or_is_put_off() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    // Hard to squeeze, so that a zip takes its time.
    let mut state = 1u64;
    let large: Vec<u8> = (0..10 << 20)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state as u8
        })
        .collect();
    s.put_file(id, "recordings/large.bin", &large.clone().into()).await.unwrap();
    s.commit().await.unwrap();
    let one = |url: String, c: reqwest::Client| async move {
        let r = c.get(format!("{url}/cases/{id}/export.zip")).send().await.unwrap();
        let (status, again) = (r.status().as_u16(), r.headers().contains_key("retry-after"));
        (status, again, r.bytes().await.map(|b| b.len()).unwrap_or(0))
    };
    let under_way: Vec<_> = (0..20).map(|_| tokio::spawn(one(g.url.clone(), c.clone()))).collect();
    tokio::time::sleep(Duration::from_millis(300)).await;
    for path in ["/readyz", "/", "/readyz", "/"] {
        let answer = tokio::time::timeout(Duration::from_secs(4), g.get(&c, path)).await;
        assert_eq!(answer.expect("an answer beside the exports").status(), 200, "{path}");
    }
    let mut whole = 0;
    for export in under_way {
        match export.await.unwrap() {
            (200, _, length) => {
                assert!(length > large.len());
                whole += 1;
            }
            (status, again, _) => assert_eq!((status, again), (503, true), "put off with a time to come again"),
        }
    }
    assert!(whole >= 4, "{whole} came whole");
    // What came in comes out the same twice, and goes in again.
    let get = || async { g.get(&c, &format!("/cases/{id}/export.zip")).await.bytes().await.unwrap() };
    let (first, second) = (get().await, get().await);
    assert!(first == second);
    let part = reqwest::multipart::Part::bytes(first.to_vec()).file_name("case.zip");
    let form = reqwest::multipart::Form::new().part("case", part);
    let r = c.post(format!("{}/import", g.url)).header("sec-fetch-site", "same-origin").multipart(form).send().await.unwrap();
    assert_eq!(r.status(), 303);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_at_once_are_answered_though_each_holds_a_connection_for_a_while() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    // Far more than there are connections: pages, what asks beside its own workshop, what is live, and what is not found.
    let paths = [
        "/sign-in".to_string(),
        format!("/cases/{id}/road"),
        format!("/cases/{id}/live?v=0"),
        "/".into(),
        format!("/cases/{}/lift", Uuid::nil()),
    ];
    let asked: Vec<_> = (0..150)
        .map(|n| {
            let (c, url, path) = (c.clone(), g.url.clone(), paths[n % paths.len()].clone());
            let live = path.contains("live");
            tokio::spawn(async move {
                let r = c.get(format!("{url}{path}"));
                // A page that listens goes on listening.
                let r = if live { r.header("accept", "text/event-stream") } else { r };
                let r = r.send().await.unwrap();
                (path, r.status().as_u16(), r)
            })
        })
        .collect();
    let mut listening = vec![];
    for one in asked {
        let (path, status, r) = one.await.unwrap();
        assert_eq!(status, if path.ends_with("lift") { 404 } else { 200 }, "{path}");
        listening.push(r);
    }
    // All that listen hold no connection each.
    let answer = tokio::time::timeout(Duration::from_secs(4), g.get(&c, "/")).await;
    assert_eq!(answer.expect("an answer beside those who listen").status(), 200);
}
