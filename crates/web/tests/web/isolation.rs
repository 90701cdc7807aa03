//! Workshops are kept apart: by every query, and by the database behind a query that forgets.

use crate::support::Ground;
use baricord_store::kept_pages::PageKey;
use uuid::Uuid;

const TABLES: &[&str] = &[
    "workshop",
    "person",
    "case_file",
    "case_event",
    "case_assessment",
    "case_page",
    "case_blob",
    "recording",
    "recording_chunk",
    "case_analysis",
    "order_map",
    "analysis_task",
    "incoming",
    "incoming_piece",
    "drive",
    "drive_piece",
    "access_token",
    "vehicle",
    "opinion",
    "case_search",
];

#[tokio::test(flavor = "multi_thread")]
async fn an_unfiltered_query_as_one_workshop_sees_no_row_of_the_other() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    assert_eq!(g.bring(&c, id, "run.csv", b"t,az,speed\n0,1,2\n".to_vec(), None).await.status(), 303);
    assert_eq!(g.post_form(&c, "/tokens", &[("name", "x")]).await.status(), 200);
    assert_eq!(g.get(&c, &format!("/cases/{id}/decide")).await.status(), 200, "looked at, so an assessment is kept");
    let asked = [("question", "What would you do?"), ("days", "7")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/opinions"), &asked).await.status(), 200);
    let mut s = g.store.scope(g.a).await.unwrap();
    let drive = s.begin_drive(id, "S1", "A", "{}", 1.0).await.unwrap();
    s.put_drive_piece(drive, 0, 0, &baricord_store::drives::Piece::default()).await.unwrap();
    s.commit().await.unwrap();
    let page = PageKey { case: id, slot: "decide".into(), state: [0; 32] };
    // Its analysis is under way: the state that was read may be over by now.
    loop {
        let mut s = g.store.scope(g.a).await.unwrap();
        let now = s.case_now(id).await.unwrap();
        g.store.keep_page(g.a, &page, now.state().0, b"a page").await.unwrap();
        if s.kept_page(&now, &page).await.unwrap().is_some() {
            break;
        }
    }
    let pool = g.store.pool();
    let all: Vec<String> = sqlx::query_scalar(
        "SELECT table_name::text FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE'",
    )
    .fetch_all(pool)
    .await
    .unwrap();
    for t in all.iter().filter(|t| *t != "_sqlx_migrations") {
        assert!(TABLES.contains(&t.as_str()), "table {t} is not in this test");
    }
    let owned: i64 =
        sqlx::query_scalar("SELECT count(*) FROM pg_tables WHERE tableowner = 'baricord_app'").fetch_one(pool).await.unwrap();
    assert_eq!(owned, 0, "the application's role owns a table");
    for (workshop, sees) in [(g.a, true), (g.b, false)] {
        for t in TABLES {
            let mut tx = pool.begin().await.unwrap();
            sqlx::query("SELECT set_config('app.workshop', $1, true)")
                .bind(workshop.to_string())
                .execute(&mut *tx)
                .await
                .unwrap();
            let key = if *t == "workshop" { "id" } else { "workshop_id" };
            let others: i64 = sqlx::query_scalar(&format!("SELECT count(*) FROM {t} WHERE {key} <> $1"))
                .bind(workshop)
                .fetch_one(&mut *tx)
                .await
                .unwrap();
            assert_eq!(others, 0, "{t} shows rows of another workshop");
            let own: i64 = sqlx::query_scalar(&format!("SELECT count(*) FROM {t}")).fetch_one(&mut *tx).await.unwrap();
            assert_eq!(own > 0, sees || matches!(*t, "workshop" | "person"), "{t}: {own} rows");
        }
    }
    for t in TABLES {
        let none: i64 = sqlx::query_scalar(&format!("SELECT count(*) FROM {t}")).fetch_one(pool).await.unwrap();
        assert_eq!(none, 0, "{t} shows rows to nobody in particular");
    }
}

/// The search asks an index that holds all workshops: it finds those of the workshop that is set, whatever it is asked for.
#[tokio::test(flavor = "multi_thread")]
async fn a_search_finds_nothing_of_another_workshop_and_nothing_for_nobody() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let ask = async |workshop: Option<Uuid>, words: &str| {
        let mut tx = g.store.pool().begin().await.unwrap();
        if let Some(w) = workshop {
            sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(w.to_string()).execute(&mut *tx).await.unwrap();
        }
        let found: Vec<Uuid> =
            sqlx::query_scalar("SELECT cases_that_say($1, 100)").bind(words).fetch_all(&mut *tx).await.unwrap();
        found
    };
    assert_eq!(ask(Some(g.a), "buzz").await, [id]);
    let words = ["buzz".to_string(), "buz:*".into(), format!("'#{}'", g.a), format!("buzz | '#{}'", g.a), "!zebra".into()];
    for w in &words {
        assert!(ask(Some(g.b), w).await.is_empty(), "{w} as B");
        assert!(ask(None, w).await.is_empty(), "{w} as nobody");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_of_a_case_answers_not_here_to_the_other_workshop() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (a, b, nobody) =
        (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await, g.client(None).await);
    let gets = [
        "",
        "/complaint",
        "/road",
        "/lift",
        "/lift/leaves",
        "/lift/listen",
        "/live?v=0",
        "/paper",
        "/opinions",
        "/measure",
        "/measure?tool=angles",
        "/decide",
        "/repair",
        "/prove",
        "/part/prop.rear.s2",
        "/analysis",
        "/map/R1/az",
        "/runs/R1/az/map.csv",
        "/runs/R1/az/map.png",
        "/runs/R1/az/map.svg",
        "/runs/R1/az/listen.wav?kmh=90",
        "/levels.csv",
        "/analysis.json",
        "/road/card",
        "/sounds",
        "/sound?s=S1&kmh=90&fault=prop-imbalance&at=prop.rear.s2",
        "/export.zip",
    ];
    for path in gets {
        let path = format!("/cases/{id}{path}");
        let own = g.get(&a, &path).await.status().as_u16();
        assert!(own == 200 || own == 303, "{path}: {own}");
        assert_eq!(g.get(&b, &path).await.status(), 404, "{path} as B");
        assert_eq!(g.get(&nobody, &path).await.status(), 303, "{path} signed out");
    }
    let posts: &[(&str, &[(&str, &str)])] = &[
        ("/vehicle", &[("name", "x")]),
        ("/vehicle/preview", &[("name", "x")]),
        ("/symptoms", &[("kind", "clunk")]),
        ("/observations", &[("test", "engage"), ("outcome", "clunk")]),
        ("/lift/later", &[("test", "wheel-rock"), ("at", "hub.rl")]),
        ("/lift/stand", &[("on", "lift")]),
        ("/lift/vote", &[("test", "joint-wiggle"), ("at", "prop.rear.j1"), ("outcome", "play")]),
        ("/lift/decide", &[("test", "joint-wiggle"), ("at", "prop.rear.j1")]),
        ("/lift/swing", &[("at", "prop.rear.j1"), ("arm_mm", "100"), ("first_n", "1 1 1"), ("second_n", "1 1 1")]),
        ("/lift/listen", &[("unit", "dB"), ("hub.rl", "60")]),
        ("/lift/compare", &[("louder", "/pinned/a"), ("than", "/pinned/b")]),
        ("/safety", &[("drive", "no"), ("reason", "x")]),
        ("/found", &[("what", "x")]),
        ("/found/f1/settled", &[]),
        ("/opinions", &[("question", "x"), ("days", "7")]),
        ("/repairs", &[("fault", "joint-worn"), ("at", "prop.rear.j1")]),
        ("/repairs/r1", &[("done", "no")]),
        ("/verdict", &[("result", "cured"), ("repair", "r1")]),
        (
            "/measure/runout",
            &[
                ("at", "prop.rear.s1.centre"),
                ("deg", "0"),
                ("mm", "0"),
                ("deg", "90"),
                ("mm", "0"),
                ("deg", "180"),
                ("mm", "0"),
                ("deg", "270"),
                ("mm", "0.1"),
            ],
        ),
        ("/measure/runout/answer", &[("at", "prop.rear.s1.centre")]),
        ("/measure/angles", &[("at", "prop.rear")]),
        ("/measure/angles/answer", &[("at", "prop.rear")]),
        ("/analysis/cancel", &[]),
        ("/analysis/again", &[]),
        ("/symptoms/S1/answer", &[("question", "load"), ("answer", "drive")]),
        ("/attempts", &[("what", "bearings")]),
        ("/sounds", &[("symptom", "S1"), ("outcome", "joint-worn")]),
        ("/undo", &[("event", "0192f0c1-2a3b-7c4d-8e5f-001122334455")]),
    ];
    let before = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    for (path, fields) in posts {
        let r = g.post_form(&b, &format!("/cases/{id}{path}"), fields).await;
        assert_eq!(r.status(), 404, "{path} as B");
    }
    let r = g.upload(&b, id, b"t,az,speed\n0,1,2\n".to_vec()).await;
    assert_eq!(r.status(), 404, "upload as B");
    // A drive, and a file on its way in, are the workshop's own as well.
    let begin = [("symptom", "S1"), ("fault", "hidden"), ("pace", "1")];
    let r = g.post_form(&a, &format!("/cases/{id}/drives"), &begin).await;
    let drive = r.headers()["location"].to_str().unwrap().to_string();
    assert_eq!(g.get(&a, &format!("{drive}/now")).await.status(), 200);
    for (c, status) in [(&b, 404), (&nobody, 303)] {
        for path in ["", "/now", "/map"] {
            assert_eq!(g.get(c, &format!("{drive}{path}")).await.status(), status, "{path}");
        }
        assert_eq!(g.post_form(c, &format!("{drive}/end"), &[]).await.status(), status);
        assert_eq!(g.post_form(c, &format!("/cases/{id}/drives"), &begin).await.status(), status);
    }
    let r = g.bring(&a, id, "run.csv", b"t,az,speed\n0,1,2\n".to_vec(), None).await;
    let path = r.headers()["location"].to_str().unwrap().to_string();
    assert_eq!(g.get(&a, &path).await.status(), 200);
    let put =
        |c: &reqwest::Client| c.put(format!("{}{path}?from=0", g.url)).header("sec-fetch-site", "same-origin").body("x").send();
    for (c, status) in [(&b, 404), (&nobody, 303)] {
        assert_eq!(g.get(c, &path).await.status(), status);
        assert_eq!(g.get(c, &format!("{path}/look")).await.status(), status);
        assert_eq!(g.post_form(c, &format!("{path}/keep"), &[("gear", "5")]).await.status(), status);
        assert_eq!(g.post_form(c, &format!("{path}/forget"), &[]).await.status(), status);
        assert_eq!(put(c).await.unwrap().status(), status);
        assert_eq!(g.post_form(c, &format!("/cases/{id}/incoming"), &[("name", "x"), ("size", "9")]).await.status(), status);
    }
    assert_eq!(g.get(&a, &path).await.status(), 200, "still there");
    let after = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    assert_eq!(before.document.text(), after.document.text());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_viewer_looks_and_changes_nothing_and_another_site_cannot_post() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let look = g.client(Some("a.look@harrowmere.example")).await;
    assert_eq!(g.get(&look, &format!("/cases/{id}/decide")).await.status(), 200);
    let r = g.post_form(&look, &format!("/cases/{id}/observations"), &[("test", "engage"), ("outcome", "clunk")]).await;
    assert_eq!(r.status(), 403);
    let a = g.client(Some("a@harrowmere.example")).await;
    let r = a
        .post(format!("{}/cases/{id}/observations", g.url))
        .header("content-type", "application/x-www-form-urlencoded")
        .header("sec-fetch-site", "cross-site")
        .header("origin", "https://elsewhere.example")
        .body("test=engage&outcome=clunk")
        .send()
        .await
        .unwrap();
    assert_eq!(r.status(), 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_passwords_are_slowed_down_and_headers_are_strict() {
    let g = Ground::new().await;
    let c = g.client(None).await;
    let r = g.get(&c, "/sign-in").await;
    let csp = r.headers()["content-security-policy"].to_str().unwrap().to_string();
    assert!(csp.contains("default-src 'none'") && !csp.contains("unsafe"), "{csp}");
    assert_eq!(r.headers()["x-content-type-options"], "nosniff");
    assert!(r.headers().contains_key("x-request-id"));
    let mut codes = vec![];
    for _ in 0..14 {
        codes.push(
            g.post_form(&c, "/sign-in", &[("email", "a@harrowmere.example"), ("password", "guess")]).await.status().as_u16(),
        );
    }
    assert_eq!(codes[0], 401);
    assert!(codes.contains(&429), "{codes:?}");
}

/// Pages are rendered once and held: never for another person, never for another state of the case.
#[tokio::test(flavor = "multi_thread")]
async fn a_held_page_is_of_one_person_and_of_one_state() {
    const PAGES: [&str; 8] = ["complaint", "road", "lift", "measure", "decide", "repair", "prove", "history"];
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (a, looker) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("a.look@harrowmere.example")).await);
    let read = async |c: &reqwest::Client, page: &str| {
        let r = g.get(c, &format!("/cases/{id}/{page}?s=S1")).await;
        assert_eq!(r.status(), 200, "{page}");
        r.text().await.unwrap()
    };
    let find = async |c: &reqwest::Client, what: &str| {
        g.post_form(c, &format!("/cases/{id}/found"), &[("what", what), ("back", "lift"), ("symptom", "S1")]).await.status()
    };
    assert_eq!(find(&a, "hose cracked").await, 303);
    let undo = format!("action=\"/cases/{id}/undo\"");
    for page in PAGES {
        let first = read(&a, page).await;
        assert_eq!(first, read(&a, page).await, "{page}");
        assert!(first.contains("hose cracked") && first.contains(&undo), "{page}");
        assert!(!read(&looker, page).await.contains(&undo), "{page}: who may only look takes nothing back");
    }
    // Another's edit, a theme, a role: each is another page.
    let second = g.client(Some("a.two@harrowmere.example")).await;
    assert_eq!(find(&second, "clip missing").await, 303);
    for page in PAGES {
        let now = read(&a, page).await;
        assert!(now.contains("clip missing") && now.contains("Tovi did this"), "{page}");
        assert!(!read(&second, page).await.contains("Tovi did this"), "{page}");
    }
    assert_eq!(g.post_form(&a, "/preferences", &[("theme", "pit"), ("back", "/")]).await.status(), 303);
    for page in PAGES {
        assert!(read(&a, page).await.contains("data-theme=\"pit\"") && !read(&second, page).await.contains("data-theme=\"pit\""));
    }
    let mut tx = g.store.pool().begin().await.unwrap();
    sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(g.a.to_string()).execute(&mut *tx).await.unwrap();
    sqlx::query("UPDATE person SET role = 'viewer' WHERE email = 'a@harrowmere.example'").execute(&mut *tx).await.unwrap();
    tx.commit().await.unwrap();
    for page in PAGES {
        assert!(!read(&a, page).await.contains(&undo), "{page}: the role was taken");
    }
    assert_eq!(g.post_form(&a, "/sign-out", &[]).await.status(), 303);
    for page in PAGES {
        assert_eq!(g.get(&a, &format!("/cases/{id}/{page}?s=S1")).await.status(), 303, "{page} signed out");
    }
}
