//! Pages of a case are made before they are asked for, are found by another copy of the program, and are never those of another state
//! or for somebody who may do otherwise.

use crate::support::{FIRST, Ground, PASSWORD};
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_store::people::Role;
use baricord_web::{App, pages_ahead, rendered_pages};
use std::path::Path;
use std::time::Duration;
use uuid::Uuid;

const PAGES: [&str; 8] = ["complaint", "road", "lift", "measure", "decide", "repair", "prove", "history"];

async fn page(c: &reqwest::Client, url: &str, id: Uuid, page: &str) -> String {
    let r = c.get(format!("{url}/cases/{id}/{page}")).send().await.unwrap();
    assert_eq!(r.status(), 200, "{page}");
    r.text().await.unwrap()
}

/// Asks the tables as the application does, in the first workshop.
async fn sql(g: &Ground, sql: &str) -> i64 {
    let mut tx = g.store.pool().begin().await.unwrap();
    sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(g.a.to_string()).execute(&mut *tx).await.unwrap();
    let n = if sql.starts_with("SELECT") {
        sqlx::query_scalar(sql).fetch_one(&mut *tx).await.unwrap()
    } else {
        sqlx::query(sql).execute(&mut *tx).await.unwrap().rows_affected() as i64
    };
    tx.commit().await.unwrap();
    n
}

fn title(t: &str) -> CaseAct {
    CaseAct::DescribeVehicle(Box::new(VehicleDescription { title: Some(t.into()), ..VehicleDescription::default() }))
}

async fn once(what: &str, is_so: impl AsyncFn() -> bool) {
    for _ in 0..400 {
        if is_so().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("it did not come: {what}");
}

/// A server with a maker of pages, once the board has weighed the case and its eight pages are kept.
async fn ground_with_kept_pages() -> (Ground, Uuid, reqwest::Client) {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let app = App::new(g.store.clone(), false);
    once("the program knows itself", async || rendered_pages::are_kept()).await;
    let c = g.client(Some(FIRST)).await;
    let url = g.serve_beside(app.clone()).await;
    let maker = tokio::spawn(pages_ahead::run(app));
    once("the recording is analysed", async || sql(&g, "SELECT count(*) FROM case_analysis").await == 1).await;
    c.get(&url).send().await.unwrap();
    once("all pages are kept", async || sql(&g, "SELECT count(*) FROM case_page").await == PAGES.len() as i64).await;
    maker.abort();
    (g, id, c)
}

/// A page that is kept for days does not read the clock: what it shows of the time, it says until when ([`thermal_state`]).
///
/// [`thermal_state`]: baricord_web::thermal_state
#[test]
fn no_page_reads_the_clock_by_itself() {
    const MAY: [&str; 5] = ["edits.rs", "thermal_state.rs", "rendered_pages.rs", "vehicles.rs", "demo/fleet.rs"];
    let of = |root: &str| {
        let mut found = vec![];
        let mut folders = vec![Path::new(env!("CARGO_MANIFEST_DIR")).join(root)];
        while let Some(folder) = folders.pop() {
            for f in std::fs::read_dir(&folder).unwrap().map(|f| f.unwrap().path()) {
                if f.is_dir() {
                    folders.push(f);
                } else if f.extension().is_some_and(|e| e == "rs") && !MAY.iter().any(|may| f.ends_with(may)) {
                    let text = std::fs::read_to_string(&f).unwrap();
                    let code = text.split("#[cfg(test)]").next().unwrap_or_default();
                    let reads = ["Timestamp::now()", "SystemTime::now()", "Zoned::now()", "now_utc()"];
                    found.extend(reads.iter().filter(|r| code.contains(**r)).map(|r| format!("{}: {r}", f.display())));
                }
            }
        }
        found
    };
    let found = [of("src"), of("../core/src")].concat();
    assert!(found.is_empty(), "{found:?}");
}

#[tokio::test]
async fn pages_are_kept_before_they_are_asked_for_and_another_copy_of_the_program_finds_them() {
    let (g, id, c) = ground_with_kept_pages().await;
    let fresh = async || g.serve_beside(App::new(g.store.clone(), false)).await;
    let url = fresh().await;
    let mut kept = vec![];
    for p in PAGES {
        kept.push(page(&c, &url, id, p).await);
    }
    // Links between the stations name the symptom: that is the same page.
    assert_eq!(page(&c, &fresh().await, id, "measure?s=S1").await, kept[3]);
    assert_eq!(sql(&g, "SELECT count(*) FROM case_page").await, 8);
    // They come from where they are kept: what stands there is what is shown.
    sql(&g, "UPDATE case_page SET body = (SELECT body FROM case_page WHERE slot LIKE 'prove %') WHERE slot LIKE 'measure %'")
        .await;
    assert_eq!(page(&c, &fresh().await, id, "measure").await, kept[6]);
    // And they are what a program says that has to make them.
    sql(&g, "DELETE FROM case_page").await;
    let url = fresh().await;
    for (p, kept) in PAGES.iter().zip(&kept) {
        assert!(page(&c, &url, id, p).await == *kept, "{p} was made otherwise");
    }
}

#[tokio::test]
async fn a_kept_page_is_never_that_of_another_state_nor_of_somebody_who_may_do_otherwise() {
    let (g, id, c) = ground_with_kept_pages().await;
    let mut s = g.store.scope(g.a).await.unwrap();
    g.store.add_person(&mut s, "viewer@harrowmere.example", "V", Role::Viewer, PASSWORD).await.unwrap();
    s.commit().await.unwrap();
    let viewer = g.client(Some("viewer@harrowmere.example")).await;
    let fresh = async || g.serve_beside(App::new(g.store.clone(), false)).await;
    let url = fresh().await;
    let (mine, theirs) = (page(&c, &url, id, "complaint").await, page(&viewer, &url, id, "complaint").await);
    let form = format!("action=\"/cases/{id}/undo\"");
    let writes = |page: &str| page.matches("<form method=\"post\"").count();
    assert!(writes(&mine) > writes(&theirs) && !theirs.contains(&form), "{} {}", writes(&mine), writes(&theirs));
    // In the other theme it is another page.
    let r = c
        .post(format!("{url}/preferences"))
        .header("sec-fetch-site", "same-origin")
        .header("content-type", "application/x-www-form-urlencoded")
        .body("theme=pit&back=/");
    assert!(r.send().await.unwrap().status().is_redirection());
    assert!(page(&c, &fresh().await, id, "prove").await.contains("data-theme=\"pit\""));
    // An edit by somebody else is on every page at once, though none was made ahead of it.
    g.edited_by("Two", id, title("Growls in third")).await;
    for p in PAGES {
        let page = page(&c, &url, id, p).await;
        assert!(page.contains("Growls in third") && page.contains("Two did this"), "{p}");
    }
    // What was made up is shown as the case is, and kept by nobody.
    assert!(page(&c, &url, id, "prove?s=S99").await.contains("Growls in third"));
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(sql(&g, "SELECT count(*) FROM case_page WHERE slot LIKE '%S99%'").await, 0);
    // Another workshop sees nothing of it.
    let other = g.client(Some("b@skerry.example")).await;
    assert_eq!(other.get(format!("{url}/cases/{id}/prove")).send().await.unwrap().status(), 404);
}
