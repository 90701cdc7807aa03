//! An installation without the demo: made on the command line, signed in to over HTTP by real people, and by none of
//! the demo's.

use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

fn base() -> String {
    std::env::var("BARICORD_TEST_DATABASE").expect("these tests need a PostgreSQL: run ./scripts/test")
}

/// A database of its own: the addresses of its owner and of the application's role.
async fn database() -> (String, String) {
    let name = format!("t{}", uuid::Uuid::new_v4().simple());
    let pool = sqlx::postgres::PgPoolOptions::new().connect(&format!("{}/postgres", base())).await.unwrap();
    sqlx::query(&format!("CREATE DATABASE {name}")).execute(&pool).await.unwrap();
    let owner = format!("{}/{name}", base());
    (owner.clone(), owner.replace("baricord_owner@", "baricord_app@"))
}

struct Installation {
    owner: String,
    database: String,
}

impl Installation {
    fn command(&self, args: &[&str]) -> Command {
        let mut c = Command::new(env!("CARGO_BIN_EXE_baricord"));
        c.args(args).env("DATABASE_OWNER_URL", &self.owner).env("DATABASE_URL", &self.database);
        c.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        c
    }

    fn run(&self, args: &[&str], input: &str) -> Output {
        let mut child = self.command(args).spawn().unwrap();
        let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
        child.wait_with_output().unwrap()
    }

    /// What a call prints; it succeeds.
    fn says(&self, args: &[&str], input: &str) -> String {
        let o = self.run(args, input);
        assert!(o.status.success(), "{args:?}: {}", String::from_utf8_lossy(&o.stderr));
        String::from_utf8(o.stdout).unwrap()
    }

    /// The error of a call: code and field.
    fn refuses(&self, args: &[&str], input: &str) -> (String, String) {
        let o = self.run(args, input);
        assert_eq!(o.status.code(), Some(2), "{args:?}");
        let e: Value = serde_json::from_slice(&o.stderr).unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&o.stderr)));
        let text = |key: &str| e["error"][key].as_str().unwrap_or_default().to_string();
        (text("code"), text("field"))
    }
}

/// The password on the last line.
fn password(said: &str) -> String {
    let last = said.lines().last().unwrap();
    let p = last.strip_prefix("password: ").unwrap_or_else(|| panic!("{said}"));
    assert!(p.len() >= 16 && p.chars().all(|c| c.is_ascii_alphanumeric() || c == '-'), "{p}");
    p.to_string()
}

struct Server {
    child: Child,
    url: String,
    said: String,
}

impl Server {
    /// Starts it and reads what it says until it answers.
    fn start(i: &Installation, more: &[&str]) -> Self {
        let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        let mut child = i.command(&[&["serve", "--listen", &free.to_string()], more].concat()).spawn().unwrap();
        let (out, url) = (child.stdout.take().unwrap(), format!("http://{free}"));
        let (to, from) = std::sync::mpsc::channel();
        std::thread::spawn(move || BufReader::new(out).lines().map_while(Result::ok).try_for_each(|l| to.send(l)));
        let begun = Instant::now();
        while std::net::TcpStream::connect(free).is_err() {
            assert!(begun.elapsed() < Duration::from_secs(60), "it answers");
            std::thread::sleep(Duration::from_millis(50));
        }
        std::thread::sleep(Duration::from_millis(200));
        let said = from.try_iter().collect::<Vec<_>>().join("\n");
        Self { child, url, said }
    }

    async fn sign_in(&self, email: &str, password: &str) -> (u16, reqwest::Client) {
        let c = reqwest::Client::builder().cookie_store(true).redirect(reqwest::redirect::Policy::none()).build().unwrap();
        let body = format!("email={}&password={password}", email.replace('@', "%40"));
        let form = c.post(format!("{}/sign-in", self.url)).header("sec-fetch-site", "same-origin");
        let r = form.header("content-type", "application/x-www-form-urlencoded").body(body).send().await.unwrap();
        (r.status().as_u16(), c)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_installs_makes_people_and_signs_in_as_them() {
    let (owner, database) = database().await;
    let i = Installation { owner, database };
    let server = Server::start(&i, &[]);
    assert!(server.said.contains("baricord workshop add"), "{}", server.said);
    assert!(!server.said.contains("driveline"), "{}", server.said);
    let page = reqwest::get(format!("{}/sign-in", server.url)).await.unwrap().text().await.unwrap();
    assert!(page.contains("No workshop yet") && page.contains("baricord workshop add"));
    assert_eq!(server.sign_in("maren@harrowmere.example", "driveline").await.0, 401);

    let orla = password(&i.says(&["workshop", "add", "Skerry boats", "--owner", "orla@skerry.example"], ""));
    let jon = i.says(
        &["person", "add", "jon@skerry.example", "--workshop", "skerry boats", "--role", "viewer", "--called", "Jon Aske"],
        "",
    );
    let jon = password(&jon);
    assert_ne!(orla, jon);
    assert_eq!(server.sign_in("orla@skerry.example", &jon).await.0, 401);
    let (status, orlas) = server.sign_in("Orla@skerry.example", &orla).await;
    assert_eq!(status, 303);
    let (status, jons) = server.sign_in("jon@skerry.example", &jon).await;
    assert_eq!(status, 303);
    let board = jons.get(&server.url).send().await.unwrap().text().await.unwrap();
    assert!(board.contains("Skerry boats") && board.contains("Jon Aske") && !board.contains("Open a case"));
    assert_eq!(server.sign_in("maren@harrowmere.example", "driveline").await.0, 401, "nobody of the demo");

    // Changes hold at once, also for sessions that are open.
    i.says(&["person", "role", "jon@skerry.example", "mechanic"], "");
    assert!(jons.get(&server.url).send().await.unwrap().text().await.unwrap().contains("Open a case"));
    let said = i.says(&["person", "password", "orla@skerry.example", "--password-stdin"], "a password of her own\n");
    assert!(!said.contains("password:"), "{said}");
    assert_eq!(orlas.get(&server.url).send().await.unwrap().status(), 303, "the session of the old password has ended");
    assert_eq!(server.sign_in("orla@skerry.example", "a+password+of+her+own").await.0, 303);
    i.says(&["person", "remove", "jon@skerry.example"], "");
    assert_eq!(jons.get(&server.url).send().await.unwrap().status(), 303);
    assert_eq!(server.sign_in("jon@skerry.example", &jon).await.0, 401);

    let refused = |args: &[&str], input: &str| i.refuses(args, input);
    let pair = |code: &str, field: &str| (code.to_string(), field.to_string());
    assert_eq!(refused(&["workshop", "add", "SKERRY BOATS", "--owner", "x@y.example"], ""), pair("exists", "name"));
    assert_eq!(refused(&["workshop", "add", "Other", "--owner", "orla@skerry.example"], ""), pair("exists", "owner"));
    assert_eq!(refused(&["workshop", "add", "Other", "--owner", "orla"], ""), pair("bad-email", "owner"));
    assert_eq!(
        refused(&["person", "add", "x@y.example", "--workshop", "None", "--role", "owner"], ""),
        pair("not-found", "workshop")
    );
    assert_eq!(
        refused(&["person", "add", "x@y.example", "--workshop", "Skerry boats", "--role", "chief"], ""),
        pair("unknown-role", "role")
    );
    let short = ["person", "add", "x@y.example", "--workshop", "Skerry boats", "--role", "owner", "--password-stdin"];
    assert_eq!(refused(&short, "short\n"), pair("bad-password", "password"));
    assert_eq!(refused(&short, &"x".repeat(5000)), pair("bad-password", "password"));
    assert_eq!(refused(&["person", "remove", "orla@skerry.example"], ""), pair("last-owner", "role"));
    assert_eq!(refused(&["person", "role", "orla@skerry.example", "viewer"], ""), pair("last-owner", "role"));
    assert_eq!(refused(&["person", "role", "nobody@skerry.example", "viewer"], ""), pair("not-found", "email"));
}

#[tokio::test(flavor = "multi_thread")]
async fn roles_that_cannot_work_are_told_at_the_start() {
    let (owner, database) = database().await;
    let i = Installation { database: owner.clone(), owner };
    assert_eq!(i.refuses(&["serve", "--listen", "127.0.0.1:0"], "").0, "database-roles");
    let i = Installation { owner: "postgres://nobody@127.0.0.1:1/x".into(), database };
    assert_eq!(i.refuses(&["workshop", "add", "X", "--owner", "a@b.example"], "").0, "database");
}

#[test]
fn a_closed_pipe_ends_the_program_quietly() {
    for args in [&["simulate", "--list"][..], &["--help"], &["calc", "tyre"]] {
        let mut child = Command::new(env!("CARGO_BIN_EXE_baricord"))
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // The reader is gone before the first word.
        drop(child.stdout.take());
        let mut input = child.stdin.take().unwrap();
        let _ = input.write_all(br#"{"size": "235/65R16"}"#);
        drop(input);
        let status = child.wait().unwrap();
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        assert!(status.success() && said.is_empty(), "{args:?}: {status} {said}");
    }
}

/// A server that is killed while edits come in: what it kept is kept whole, and what is sent again stands once.
#[tokio::test(flavor = "multi_thread")]
async fn edits_survive_a_kill_between_append_and_answer() {
    let (owner, database) = database().await;
    let i = Installation { owner, database };
    let mut server = Server::start(&i, &[]);
    let said = i.says(&["workshop", "add", "Skerry", "--owner", "ida@skerry.example"], "");
    let secret = password(&said);
    let (_, c) = server.sign_in("ida@skerry.example", &secret).await;
    let form = c.post(format!("{}/cases", server.url)).header("sec-fetch-site", "same-origin");
    let r =
        form.header("content-type", "application/x-www-form-urlencoded").body("layout=rwd-solid&title=Van").send().await.unwrap();
    let case = r.headers()["location"].to_str().unwrap().split('/').nth(2).unwrap().to_string();
    let edit = |n: usize, id: uuid::Uuid| {
        format!(
            r#"{{"edits": [{{"id": "{id}", "at_time": "2026-11-29T08:00:00Z", "do": {{"report-finding": {{"what": "thing {n}"}}}}}}]}}"#
        )
    };
    let ids: Vec<uuid::Uuid> = (0..30).map(|_| uuid::Uuid::now_v7()).collect();
    let send = |url: &str, c: &reqwest::Client, n: usize| {
        let to = c.post(format!("{url}/api/v1/cases/{case}/edits")).header("sec-fetch-site", "same-origin");
        to.header("content-type", "application/json").body(edit(n, ids[n])).send()
    };
    // All at once, and it is killed as soon as the first is answered: others are kept and not answered, or neither.
    let all: Vec<_> = (0..ids.len()).map(|n| tokio::spawn(send(&server.url, &c, n))).collect();
    let mut all = all.into_iter();
    let first = all.next().unwrap().await.unwrap();
    server.child.kill().unwrap();
    assert_eq!(first.unwrap().status(), 200);
    let mut answered = 1;
    for one in all {
        answered += usize::from(one.await.unwrap().is_ok_and(|r| r.status() == 200));
    }
    drop(server);
    let server = Server::start(&i, &[]);
    let (_, c) = server.sign_in("ida@skerry.example", &secret).await;
    let (mut already, mut applied) = (0, 0);
    for n in 0..ids.len() {
        let text = send(&server.url, &c, n).await.unwrap().text().await.unwrap();
        let answer: Value = serde_json::from_str(&text).unwrap_or_else(|_| panic!("{text}"));
        match answer["edits"][0]["status"].as_str() {
            Some("already") => already += 1,
            Some("applied") => applied += 1,
            other => panic!("{other:?}: {text}"),
        }
    }
    assert!(already >= answered, "{already} of {answered} answered");
    assert_eq!(already + applied, ids.len());
    let page = c.get(format!("{}/cases/{case}/history", server.url)).send().await.unwrap().text().await.unwrap();
    assert_eq!(
        page.matches("found on the way: thing").count(),
        ids.len() + 1,
        "each once in the list, the last one in Undo as well"
    );
}
