//! Pages and edits in an installation with many cases, beside a page with one query; absolute times are told, never asserted.
//!
//! `BARICORD_BENCH_CASES` cases (10 000 when left out) over six workshops, the median document 60 kB with 200 events.

#[path = "../tests/web/support/mod.rs"]
mod support;

use baricord_core::case::document::CaseDocument;
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::{CaseAct, NewFinding, TestResult};
use baricord_store::events::{Author, SentEdit};
use baricord_web::{App, pages_ahead};
use serde_json::{Value, json};
use std::time::{Duration, Instant};
use support::Ground;
use uuid::Uuid;

/// Requests of each kind in one round; the first of each case finds nothing in memory.
const ASKED: usize = 200;
/// Rounds over all pages, each begun with another one: what else the machine does for a while does not weigh on one of them alone. With as
/// many rounds as pages, each page is asked of other cases in each round.
const ROUNDS: usize = PAGES.len();
/// Cases whose pages are asked before anything is timed.
const WARMED: usize = 40;
/// Cases that are edited before each page.
const EDITED: usize = 40;
const PAGES: [&str; 8] = ["complaint", "road", "lift", "measure", "decide", "repair", "prove", "history"];
/// Bytes of the median document.
const MEDIAN_BYTES: usize = 60_000;
/// Events of each case.
const EVENTS: i32 = 200;

fn main() {
    if std::env::var("BARICORD_TEST_DATABASE").is_err() {
        println!("many cases: no database here; run ./scripts/bench");
        return;
    }
    tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime").block_on(async {
        let g = Ground::new().await;
        edits(&g).await;
        pages(&g).await;
    });
}

/// Connections of the owner of the tables.
async fn owner(g: &Ground) -> sqlx::PgPool {
    let url = g.database_url.replace("baricord_app@", "baricord_owner@");
    sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&url).await.unwrap()
}

/// A document of about so many bytes: what a long case has most of, answers with notes.
fn grown(of: &Value, bytes: usize) -> Value {
    let mut d = of.clone();
    let tests = ["joint-wiggle", "wheel-rock", "spin-by-hand", "oil-look", "boot-look"];
    let mut n = 0;
    let mut length = d.to_string().len();
    while length < bytes {
        let one = json!({"id": format!("x{n}"), "symptom": "S1", "test": tests[n % tests.len()], "outcome": "none", "phase": "after",
            "note": "looked at again on the lift, as before; the mark of white paint stands where it stood, dust and salt on the flange"});
        length += one.to_string().len() + 1;
        d["observations"].as_array_mut().expect("a list").push(one);
        n += 1;
    }
    d
}

/// Edits that are timed, the first of one case and the last of another, in turns: what else the machine does weighs on both.
const TIMED: usize = 48;

/// The n-th edit: answers and findings in turns.
fn nth_edit(n: usize) -> CaseEdit {
    let act = match n % 2 {
        0 => CaseAct::ReportFinding(NewFinding { what: format!("found on the way, number {n}"), at: None }),
        _ => CaseAct::AnswerTest(Box::new(TestResult {
            symptom: Some("S1".into()),
            test: "joint-wiggle".into(),
            at: Some(format!("prop.rear.j{}", 1 + n % 3)),
            outcome: "none".into(),
            ..TestResult::default()
        })),
    };
    CaseEdit::new(Uuid::now_v7(), jiff::Timestamp::now(), act)
}

async fn edits(g: &Ground) {
    let of = g.document(g.full_case().await).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let mut cases = vec![];
    for _ in 0..2 {
        let big = CaseDocument::read(grown(&of, MEDIAN_BYTES)).unwrap();
        cases.push(s.add_case(big, "opened", "A").await.unwrap());
    }
    s.commit().await.unwrap();
    let size = async || {
        sqlx::query("VACUUM FULL").execute(&owner(g).await).await.unwrap();
        let sql = "SELECT sum(pg_total_relation_size(oid))::bigint FROM pg_class WHERE relname IN ('case_file', 'case_event', 'case_assessment')";
        sqlx::query_scalar::<_, i64>(sql).fetch_one(g.store.pool()).await.unwrap()
    };
    let before = size().await;
    let author = Author::program("A");
    let time = async |id, n| {
        let edit = nth_edit(n);
        let t = Instant::now();
        let mut s = g.store.scope(g.a).await.unwrap();
        s.apply_edits(id, &author, vec![SentEdit { edit, base: None }]).await.unwrap();
        s.commit().await.unwrap();
        t.elapsed()
    };
    let (long, short) = (cases[0], cases[1]);
    for n in 0..500 - TIMED {
        time(long, n).await;
    }
    let (mut first, mut last) = (vec![], vec![]);
    for n in 0..TIMED {
        first.push(time(short, n).await);
        last.push(time(long, 500 - TIMED + n).await);
    }
    // Two edits together, one of each kind; each two of the one case against the two of the other that were made beside them.
    let twos = |t: &[Duration]| t.chunks(2).map(|two| two.iter().sum::<Duration>().as_secs_f64()).collect::<Vec<f64>>();
    let median = |mut t: Vec<f64>| {
        t.sort_unstable_by(f64::total_cmp);
        t[t.len() / 2]
    };
    let (first, last) = (twos(&first), twos(&last));
    let times = median(first.iter().zip(&last).map(|(first, last)| last / first).collect());
    let (first, last) = (median(first) * 1e3, median(last) * 1e3);
    println!(
        "500 edits on a case of 60 kB: {:.2} MiB added, the last cost {times:.2} x the first (two: {first:.1} ms, {last:.1} ms)",
        (size().await - before) as f64 / (1 << 20) as f64,
    );
}

async fn pages(g: &Ground) {
    let many: usize = std::env::var("BARICORD_BENCH_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(10_000);
    let first = g.full_case().await;
    let document = g.document(first).await;
    let workshops = 6;
    let began = Instant::now();
    let (mut own, mut all) = (vec![], vec![]);
    for w in 0..workshops {
        let workshop = if w == 0 { g.a } else { g.store.add_workshop(&format!("Workshop {w}")).await.unwrap() };
        all.push(workshop);
        let mut s = g.store.scope(workshop).await.unwrap();
        // The workshop that is asked has the median; of the others' documents half are smaller, half larger.
        let mut d = grown(&document, [MEDIAN_BYTES, MEDIAN_BYTES / 4, MEDIAN_BYTES * 2][w % 3]);
        for n in 0..many / workshops {
            d["id"] = format!("case-{w}-{n}").into();
            // Four cases of each vehicle.
            d["vehicle"]["name"] = format!("Vehicle {}", n / 4).into();
            d["title"] =
                format!("{} {n}: {}", ["Mail van", "Fish lorry", "Ferry tug"][n % 3], ["buzz", "growl", "clunk"][n % 7 % 3])
                    .into();
            let id = s.add_case(CaseDocument::read(d.clone()).unwrap(), "opened", "A").await.unwrap();
            if w == 0 {
                own.push(id);
            }
        }
        s.commit().await.unwrap();
    }
    let owner = owner(g).await;
    let fill = "INSERT INTO case_event (workshop_id, case_id, sequence, id, at_time, person, what, edit, changes)
        SELECT c.workshop_id, c.id, n, gen_random_uuid(), now(), 'A', 'found on the way: rust at the cap of the joint, number ' || n,
          jsonb_build_object('id', gen_random_uuid(), 'at_time', '2026-11-29T08:00:00Z', 'by', 'A', 'do', jsonb_build_object('stand', jsonb_build_object('on', 'lift'))), '[]'
        FROM case_file c, generate_series(2, $1) n WHERE c.workshop_id = $2 ON CONFLICT DO NOTHING";
    for w in all {
        let mut tx = owner.begin().await.unwrap();
        sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(w.to_string()).execute(&mut *tx).await.unwrap();
        sqlx::query("ALTER TABLE case_event DISABLE TRIGGER told").execute(&mut *tx).await.unwrap();
        sqlx::query(fill).bind(EVENTS).bind(w).execute(&mut *tx).await.unwrap();
        sqlx::query("UPDATE case_file SET version = $1 WHERE workshop_id = $2 AND version < $1")
            .bind(EVENTS)
            .bind(w)
            .execute(&mut *tx)
            .await
            .unwrap();
        sqlx::query("ALTER TABLE case_event ENABLE TRIGGER told").execute(&mut *tx).await.unwrap();
        tx.commit().await.unwrap();
    }
    sqlx::query("VACUUM ANALYZE").execute(&owner).await.unwrap();
    println!("{many} cases in {workshops} workshops, {EVENTS} events each, made in {:.0} s", began.elapsed().as_secs_f64());
    let c = g.client(Some("a@harrowmere.example")).await;
    // The board weighs what it has not weighed yet, a few at a time, and the pages of those cases are made: that is over before
    // anything is timed. Another copy of the program does it, so that the one that is timed has nothing of it in memory.
    let began = Instant::now();
    let app = App::new(g.store.clone(), false);
    let beside = g.serve_beside(app.clone()).await;
    let maker = tokio::spawn(pages_ahead::run(app));
    for _ in 0..=own.len() / 20 + 1 {
        c.get(&beside).send().await.unwrap().bytes().await.unwrap();
    }
    let of_pages = async |what: &str| {
        let mut tx = owner.begin().await.unwrap();
        sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(g.a.to_string()).execute(&mut *tx).await.unwrap();
        sqlx::query_scalar::<_, i64>(&format!("SELECT {what} FROM case_page")).fetch_one(&mut *tx).await.unwrap()
    };
    let mut made = 0;
    while made < (own.len() * PAGES.len()) as i64 {
        tokio::time::sleep(Duration::from_secs(5)).await;
        let now = of_pages("count(*)").await;
        assert!(now > made, "pages are made ahead no more: {now} of {}", own.len() * PAGES.len());
        made = now;
    }
    maker.abort();
    sqlx::query("VACUUM ANALYZE").execute(&owner).await.unwrap();
    println!(
        "{made} pages of {} cases made ahead in {:.0} s, {:.1} kB each as they are kept",
        own.len(),
        began.elapsed().as_secs_f64(),
        of_pages("sum(length(body))").await as f64 / made as f64 / 1000.0
    );
    // Pages are asked of a program that has served for a while, and of a database that has written what it took in: connections are
    // open, and each has prepared what it is asked. None of the cases asked until then is asked later.
    sqlx::query("CHECKPOINT").execute(&owner).await.unwrap();
    let mut timed = Timed { g, c: &c, kinds: vec![] };
    for id in own.iter().rev().take(WARMED) {
        for page in PAGES {
            timed.time(&format!("/cases/{id}/{page}")).await;
        }
    }
    // Each page is asked of cases of its own, of others in each round: at first nothing of them is in memory.
    for round in 0..ROUNDS {
        for part in 0..PAGES.len() {
            let page = PAGES[(part + round) % PAGES.len()];
            let paths: Vec<String> =
                (0..ASKED).map(|n| format!("/cases/{}/{page}", own[(part * ASKED + n) % own.len()])).collect();
            timed.ask(&format!("{page}, cold"), &paths).await;
            timed.ask(&format!("{page}, warm"), &paths).await;
        }
        for (what, path) in [
            ("board", "/"),
            ("search for one word", "/?q=growl"),
            ("search for two", "/?q=ferry+tug+buzz"),
            ("search for nothing", "/?q=zebra"),
        ] {
            timed.ask(what, &vec![path.to_string(); ASKED]).await;
        }
    }
    // And the page that an edit leads to, which nobody can have made before: an edit before each.
    for page in PAGES {
        let mut paths = vec![];
        for (n, id) in own.iter().rev().take(EDITED).enumerate() {
            let mut s = g.store.scope(g.a).await.unwrap();
            s.apply_edits(*id, &Author::program("A"), vec![SentEdit { edit: nth_edit(n), base: None }]).await.unwrap();
            s.commit().await.unwrap();
            paths.push(format!("/cases/{id}/{page}"));
        }
        timed.ask(&format!("{page}, edited"), &paths).await;
    }
    timed.tell();
}

/// Pages against `/readyz`, asked in turns: what else the machine does weighs on both.
struct Timed<'a> {
    g: &'a Ground,
    c: &'a reqwest::Client,
    kinds: Vec<Kind>,
}

/// Requests of one kind.
struct Kind {
    what: String,
    kilobytes: usize,
    pages: Vec<Duration>,
    ready: Vec<Duration>,
}

impl Timed<'_> {
    async fn time(&self, path: &str) -> (Duration, usize) {
        let t = Instant::now();
        let r = self.g.get(self.c, path).await;
        assert!(r.status().is_success(), "{path}: {}", r.status());
        let bytes = r.bytes().await.expect("a body").len();
        (t.elapsed(), bytes)
    }

    async fn ask(&mut self, what: &str, paths: &[String]) {
        let (mut pages, mut ready, mut kilobytes) = (vec![], vec![], 0);
        for path in paths {
            ready.push(self.time("/readyz").await.0);
            let (t, bytes) = self.time(path).await;
            pages.push(t);
            kilobytes = bytes / 1000;
        }
        match self.kinds.iter_mut().find(|k| k.what == what) {
            Some(k) => {
                k.pages.extend(pages);
                k.ready.extend(ready);
            }
            None => self.kinds.push(Kind { what: what.into(), kilobytes, pages, ready }),
        }
    }

    fn tell(self) {
        for k in self.kinds {
            let (pages, ready) = (shown(k.pages), shown(k.ready));
            let times = |i: usize| pages[i].as_secs_f64() / ready[i].as_secs_f64();
            println!(
                "{:20} {:4} kB   p50 {:5.1} x ({:.2?} / {:.2?})   p99 {:5.1} x ({:.2?} / {:.2?})",
                k.what,
                k.kilobytes,
                times(0),
                pages[0],
                ready[0],
                times(1),
                pages[1],
                ready[1]
            );
        }
    }
}

/// The median and the 99th percentile.
fn shown(mut t: Vec<Duration>) -> [Duration; 2] {
    t.sort_unstable();
    [t[t.len() / 2], t[(t.len() * 99).div_ceil(100) - 1]]
}
