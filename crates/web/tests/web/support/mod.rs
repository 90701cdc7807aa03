//! Ground for tests that need a database, a server or a browser: each test gets a database of its
//! own, a server on a free port, and, where asked, headless Chromium.
#![allow(dead_code)]

use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::edit::act::CaseAct;
use baricord_core::vehicle::{Vehicle, sample};
use baricord_formats::write_csv;
use baricord_simulator::{RunPlan, run};
use baricord_store::Store;
use baricord_store::events::Author;
use baricord_store::people::Role;
use baricord_web::{App, router, worker};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use thirtyfour::ChromeCapabilities;
use thirtyfour::common::print::{PrintPage, PrintParameters};
use thirtyfour::prelude::*;
use uuid::Uuid;

pub const PASSWORD: &str = "a long password";
/// Two people of workshop A.
pub const FIRST: &str = "a@harrowmere.example";
pub const SECOND: &str = "a.two@harrowmere.example";

/// A database, a server, two workshops with a person each.
pub struct Ground {
    pub url: String,
    pub store: Store,
    pub a: Uuid,
    pub b: Uuid,
    pub database_url: String,
    /// Does the tasks; a test may stop it and do them itself.
    pub worker: tokio::task::JoinHandle<()>,
    server: std::sync::Mutex<Option<Server>>,
}

/// A server that can be stopped: what tells it to, and its end.
type Server = (tokio::sync::oneshot::Sender<()>, tokio::task::JoinHandle<()>);

fn serve(listener: tokio::net::TcpListener, store: &Store) -> Server {
    serve_app(listener, App::new(store.clone(), false))
}

fn serve_app(listener: tokio::net::TcpListener, app: App) -> Server {
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let (closing, app) = (app.clone(), router(app, false));
    let running = tokio::spawn(async move {
        axum::serve(listener, app.into_make_service_with_connect_info::<std::net::SocketAddr>())
            .with_graceful_shutdown(async move {
                let _ = stopped.await;
                closing.close();
            })
            .await
            .unwrap();
    });
    (stop, running)
}

fn base() -> String {
    std::env::var("BARICORD_TEST_DATABASE")
        .expect("these tests need a PostgreSQL: run ./scripts/test, or set BARICORD_TEST_DATABASE to an owner's URL")
}

async fn fresh_database() -> String {
    let name = format!("t{}", Uuid::new_v4().simple());
    let pool = sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&format!("{}/postgres", base())).await.unwrap();
    sqlx::query(&format!("CREATE DATABASE {name}")).execute(&pool).await.unwrap();
    pool.close().await;
    name
}

impl Ground {
    pub async fn new() -> Self {
        let name = fresh_database().await;
        let owner = format!("{}/{name}", base());
        Store::migrate(&owner).await.unwrap();
        baricord_web::prepare_sessions(&owner).await.unwrap();
        let database_url = owner.replace("baricord_owner@", "baricord_app@");
        assert_ne!(database_url, owner, "the owner in BARICORD_TEST_DATABASE is called baricord_owner");
        let store = Store::connect(&database_url).await.unwrap();
        let a = workshop(&store, "Harrowmere", "a@harrowmere.example").await;
        let b = workshop(&store, "Skerry", "b@skerry.example").await;
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let worker = tokio::spawn(worker::run(store.clone()));
        let server = std::sync::Mutex::new(Some(serve(listener, &store)));
        Self { url, store, a, b, database_url, worker, server }
    }

    /// The address of one more server on the same database, on which the demo's people sign in.
    pub async fn demo_server(&self) -> String {
        self.serve_beside(App::new(self.store.clone(), true)).await
    }

    /// The address of one more server on the same database.
    pub async fn serve_beside(&self, app: App) -> String {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        std::mem::forget(serve_app(listener, app));
        url
    }

    /// Stops the server; what is under way ends first.
    pub async fn stop_server(&self) {
        let (stop, running) = self.server.lock().unwrap().take().expect("a running server");
        let _ = stop.send(());
        tokio::time::timeout(std::time::Duration::from_secs(20), running).await.expect("the server stops").unwrap();
    }

    /// What a case of the first workshop holds now.
    pub async fn document(&self, id: Uuid) -> Value {
        self.store.scope(self.a).await.unwrap().case(id).await.unwrap().document.json().clone()
    }

    /// The document, once it is as wanted.
    pub async fn once(&self, id: Uuid, wanted: impl Fn(&Value) -> bool) -> Value {
        for _ in 0..100 {
            let d = self.document(id).await;
            if wanted(&d) {
                return d;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("it did not come: {}", self.document(id).await);
    }

    /// A case of the first workshop holds something else, however that came: no edit did it.
    pub async fn changed_by(&self, person: &str, id: Uuid, change: impl FnOnce(&mut Value)) {
        let mut d = self.document(id).await;
        change(&mut d);
        let mut tx = self.store.pool().begin().await.unwrap();
        sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(self.a.to_string()).execute(&mut *tx).await.unwrap();
        sqlx::query("UPDATE case_file SET document = $1, version = version + 1 WHERE id = $2")
            .bind(d.to_string())
            .bind(id)
            .execute(&mut *tx)
            .await
            .unwrap();
        sqlx::query(
            "INSERT INTO case_event (workshop_id, case_id, sequence, id, at_time, person, what)
             SELECT workshop_id, id, version, $2, now(), $3, 'changed' FROM case_file WHERE id = $1",
        )
        .bind(id)
        .bind(Uuid::now_v7())
        .bind(person)
        .execute(&mut *tx)
        .await
        .unwrap();
        tx.commit().await.unwrap();
    }

    /// Somebody else of the first workshop edits a case.
    pub async fn edited_by(&self, person: &str, id: Uuid, act: CaseAct) {
        let mut s = self.store.scope(self.a).await.unwrap();
        let author = Author::person(person, baricord_core::permission::Role::Mechanic);
        s.edit_case(id, &author, baricord_web::edits::new_edit(act), None).await.unwrap();
        s.commit().await.unwrap();
    }

    /// Starts it again where it was.
    pub async fn start_server(&self) {
        let at = self.url.trim_start_matches("http://").to_string();
        let listener = tokio::net::TcpListener::bind(at).await.unwrap();
        *self.server.lock().unwrap() = Some(serve(listener, &self.store));
    }

    /// A client with a session of its own; signed in when an address is given.
    pub async fn client(&self, email: Option<&str>) -> reqwest::Client {
        let c = reqwest::Client::builder().cookie_store(true).redirect(reqwest::redirect::Policy::none()).build().unwrap();
        if let Some(email) = email {
            let r = self.post_form(&c, "/sign-in", &[("email", email), ("password", PASSWORD), ("next", "/")]).await;
            assert_eq!(r.status(), 303, "sign-in of {email}");
        }
        c
    }

    pub async fn post_form(&self, c: &reqwest::Client, path: &str, fields: &[(&str, &str)]) -> reqwest::Response {
        let body = fields.iter().map(|(k, v)| format!("{}={}", code(k), code(v))).collect::<Vec<_>>().join("&");
        c.post(format!("{}{path}", self.url))
            .header("content-type", "application/x-www-form-urlencoded")
            .header("sec-fetch-site", "same-origin")
            .body(body)
            .send()
            .await
            .unwrap()
    }

    /// Loads a file as the form of a browser without scripts does; the answer leads to the look at it.
    pub async fn bring(
        &self,
        c: &reqwest::Client,
        case: Uuid,
        name: &str,
        bytes: Vec<u8>,
        of: Option<&str>,
    ) -> reqwest::Response {
        let part = reqwest::multipart::Part::bytes(bytes).file_name(name.to_string());
        let mut form = reqwest::multipart::Form::new().text("phase", "before");
        if let Some(of) = of {
            form = form.text("of", of.to_string());
        }
        c.post(format!("{}/cases/{case}/recordings", self.url))
            .header("sec-fetch-site", "same-origin")
            .multipart(form.part("file", part))
            .send()
            .await
            .unwrap()
    }

    /// Loads a recording and keeps it with its columns as they were guessed.
    pub async fn upload(&self, c: &reqwest::Client, case: Uuid, csv: Vec<u8>) -> reqwest::Response {
        let r = self.bring(c, case, "run.csv", csv, None).await;
        if r.status() != 303 {
            return r;
        }
        let path = r.headers()["location"].to_str().unwrap().to_string();
        self.post_form(c, &format!("{path}/keep"), &[("gear", "5")]).await
    }

    pub async fn get(&self, c: &reqwest::Client, path: &str) -> reqwest::Response {
        c.get(format!("{}{path}", self.url)).send().await.unwrap()
    }

    /// A case with everything in it, of workshop A: a recording, an analysis, a measurement, a repair.
    pub async fn full_case(&self) -> Uuid {
        let v = sample::rear_drive(2);
        let mut doc = Case::new_document("full", "Mail van 4: buzz", json!(v));
        // So that the simulated recorder drives and counts.
        doc["demo"] = true.into();
        doc["symptoms"] =
            json!([{"id": "S1", "kind": "vibration", "heard_from": "centre", "speed_kmh": {"peak": 95}, "words": "buzz"}]);
        doc["observations"] = json!([{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]);
        doc["measurements"] =
            json!([{"kind": "runout", "at": "prop.rear.s2.centre", "input": {"mm": [0.0, 0.1, 0.2, 0.1, 0.0, 0.1, 0.0, 0.1]}}]);
        doc["repairs"] = json!([{"symptom": "S1", "fault": "prop-imbalance", "at": "prop.rear.s2", "result": "open"}]);
        doc["recordings"] = json!([{"id": "R1", "symptom": "S1", "phase": "before", "file": "recordings/r1.csv", "gear": "5", "throttle": "drive",
            "place": "seat-rail", "time": {"column": "t", "unit": "s"}, "channels": [{"column": "az", "quantity": "acceleration", "unit": "m/s2"}],
            "speed": {"column": "speed", "unit": "km/h"}, "rpm": null}]);
        let mut s = self.store.scope(self.a).await.unwrap();
        let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "A").await.unwrap();
        s.put_file(id, "recordings/r1.csv", &csv(&v, "prop-imbalance@prop.rear.s2:0.6", 5).into_bytes().into()).await.unwrap();
        s.request_analysis(id).await.unwrap();
        s.commit().await.unwrap();
        self.wait_for_analysis(id).await;
        id
    }

    pub async fn wait_for_analysis(&self, id: Uuid) {
        for _ in 0..600 {
            let mut s = self.store.scope(self.a).await.unwrap();
            let task = s.analysis_task(id).await.unwrap().expect("a job was asked for");
            if !task.is_open() {
                assert_eq!(task.state, "done", "{:?}", task.problem);
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        panic!("the analysis did not end within a minute");
    }
}

async fn workshop(store: &Store, name: &str, email: &str) -> Uuid {
    let id = store.add_workshop(name).await.unwrap();
    let mut s = store.scope(id).await.unwrap();
    store.add_person(&mut s, email, name, Role::Owner, PASSWORD).await.unwrap();
    store.add_person(&mut s, &email.replace('@', ".look@"), "Looker", Role::Viewer, PASSWORD).await.unwrap();
    store.add_person(&mut s, &email.replace('@', ".learns@"), "Learner", Role::Learner, PASSWORD).await.unwrap();
    store.add_person(&mut s, &email.replace('@', ".two@"), "Tovi", Role::Owner, PASSWORD).await.unwrap();
    s.commit().await.unwrap();
    id
}

fn code(s: &str) -> String {
    s.bytes().map(|b| if b.is_ascii_alphanumeric() { (b as char).to_string() } else { format!("%{b:02X}") }).collect()
}

/// A simulated run as a CSV file.
pub fn csv(v: &Vehicle, fault: &str, seed: u64) -> String {
    let plan = RunPlan { gear: Some("5".into()), from_kmh: 45.0, to_kmh: 120.0, seconds: 60.0, seed, ..RunPlan::default() };
    write_csv(&run(v, &[fault.parse().unwrap()], &plan).unwrap().0, true).unwrap()
}

/// ChromeDriver, ended with the test.
pub struct Browser {
    driver: Child,
    pub web: WebDriver,
}

impl Browser {
    pub async fn new() -> Self {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver");
        let mut out = BufReader::new(driver.stdout.take().unwrap());
        let mut port = None;
        let mut line = String::new();
        while port.is_none() {
            line.clear();
            assert!(out.read_line(&mut line).unwrap() > 0, "chromedriver ended at once");
            port = line
                .rsplit_once("on port ")
                .and_then(|(_, p)| p.trim().trim_end_matches('.').parse::<u16>().ok())
                .filter(|p| *p != 0);
        }
        std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()));
        let mut caps = ChromeCapabilities::new();
        for flag in [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-quic",
            "--hide-scrollbars",
            "--force-device-scale-factor=1",
            "--window-size=1280,800",
        ] {
            caps.add_arg(flag).unwrap();
        }
        let web = WebDriver::new(&format!("http://127.0.0.1:{}", port.unwrap()), caps).await.expect("a browser session");
        let b = Self { driver, web };
        b.size(1280, 800).await;
        b
    }

    /// Makes the page this large.
    pub async fn size(&self, w: u32, h: u32) {
        let r = self.web.execute("return [outerWidth - innerWidth, outerHeight - innerHeight]", vec![]).await.unwrap();
        let d: Vec<i64> = r.convert().unwrap();
        let _ = self.web.set_window_rect(0, 0, w + d[0].max(0) as u32, h + d[1].max(0) as u32).await;
    }

    /// Two browsers, each signed in as another person of workshop A.
    pub async fn two(g: &Ground) -> (Self, Self) {
        let (first, second) = (Self::new().await, Self::new().await);
        first.sign_in(g, FIRST).await;
        second.sign_in(g, SECOND).await;
        (first, second)
    }

    pub async fn sign_in(&self, g: &Ground, email: &str) {
        self.go(&format!("{}/sign-in", g.url)).await;
        self.fill("#email", email).await;
        self.fill("#password", PASSWORD).await;
        self.click("form button.yellow").await;
        self.see("main.board").await;
    }

    pub async fn go(&self, url: &str) {
        self.web.goto(url).await.unwrap();
    }

    /// Waits for an element.
    pub async fn see(&self, css: &str) -> WebElement {
        for _ in 0..300 {
            if let Ok(e) = self.web.find(By::Css(css)).await {
                return e;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{css} does not come: {}", self.text().await);
    }

    /// Waits until the page says something.
    pub async fn says(&self, words: &str) {
        for _ in 0..400 {
            if self.text().await.contains(words) {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("the page does not say “{words}”: {}", self.text().await);
    }

    /// Sheets of A4 that the page prints on.
    pub async fn printed_sheets(&self) -> usize {
        let page = PrintPage { width: 21.0, height: 29.7 };
        let pdf = self.web.print_page(PrintParameters { page, ..PrintParameters::default() }).await.unwrap();
        let text = String::from_utf8_lossy(&pdf);
        text.match_indices("/Type /Page").filter(|(at, w)| !text[at + w.len()..].starts_with('s')).count()
    }

    pub async fn text(&self) -> String {
        self.js("return document.body.innerText").await.as_str().unwrap_or_default().to_string()
    }

    pub async fn click(&self, css: &str) {
        let e = self.see(css).await;
        let _ = e.scroll_into_view().await;
        self.js_arg("arguments[0].click()", &e).await;
    }

    pub async fn fill(&self, css: &str, text: &str) {
        let e = self.see(css).await;
        e.clear().await.unwrap();
        e.send_keys(text).await.unwrap();
    }

    pub async fn key(&self, key: &str) {
        self.web.action_chain().send_keys(key).perform().await.unwrap();
    }

    pub async fn js(&self, script: &str) -> Value {
        self.web.execute(script, vec![]).await.unwrap().json().clone()
    }

    async fn js_arg(&self, script: &str, e: &WebElement) {
        self.web.execute(script, vec![e.to_json().unwrap()]).await.unwrap();
    }

    /// Nothing serious for those who read or move otherwise; nothing wider than the page.
    pub async fn check(&self, what: &str) {
        self.web.execute(include_str!("../assets/axe.min.js"), vec![]).await.unwrap();
        let r = self
            .web
            .execute_async(
                "const done = arguments[arguments.length - 1]; axe.run(document, {resultTypes: ['violations']}).then(r => done(r.violations
                   .filter(v => v.impact === 'serious' || v.impact === 'critical')
                   .map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + ' ' + n.failureSummary.slice(0, 200)).join(' | '))))",
                vec![],
            )
            .await
            .unwrap();
        let found: Vec<String> = r.convert().unwrap();
        assert!(found.is_empty(), "{what}: {found:#?}");
        let wide = self.js("return document.documentElement.scrollWidth - innerWidth").await.as_i64().unwrap_or(0);
        assert!(wide <= 0, "{what} is {wide} px wider than the window");
        // What a gloved hand must hit is 44 px; parts and lines in drawings are reached beside them too.
        let small = self
            .js("const of = e => e.matches('input[type=radio],input[type=checkbox]') && e.closest('label') || e;
                 return [...document.querySelectorAll('a,button,input:not([type=hidden]),select,textarea,summary')]
                   .filter(e => e.offsetParent !== null && !e.closest('svg') && !e.matches('.skip, .head-title a'))
                   .map(e => [e, of(e).getBoundingClientRect()]).filter(([e, b]) => b.width > 0 && (b.width < 43.5 || b.height < 43.5))
                   .map(([e, b]) => e.outerHTML.slice(0, 90) + ' ' + b.width + ' × ' + b.height)")
            .await;
        assert_eq!(small, serde_json::json!([]), "{what}: smaller than 44 px");
    }

    /// Goes on by Tab until the focus stands on what is wanted.
    pub async fn tab_to(&self, css: &str) {
        self.see(css).await;
        for _ in 0..400 {
            if self.js(&format!("return document.activeElement.matches({css:?})")).await == true {
                return;
            }
            self.web.action_chain().send_keys(Key::Tab).perform().await.unwrap();
        }
        panic!("Tab does not reach {css}");
    }

    /// Goes on by Tab, and types there.
    pub async fn tab_and_type(&self, css: &str, text: &str) {
        self.tab_to(css).await;
        self.js("if (document.activeElement.select) document.activeElement.select()").await;
        self.key(text).await;
    }

    /// Goes on by Tab, and presses Enter or the space bar there.
    pub async fn tab_and_press(&self, css: &str, key: Key) {
        self.tab_to(css).await;
        self.web.action_chain().send_keys(key).perform().await.unwrap();
    }

    pub async fn end(mut self) {
        let _ = self.web.clone().quit().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
