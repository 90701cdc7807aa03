//! Bad input gets a sentence that names the field or line, and nothing is kept of it.

use crate::support::{Ground, csv};
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::vehicle::sample::rear_drive;

async fn upload(g: &Ground, c: &reqwest::Client, id: uuid::Uuid, bytes: Vec<u8>) -> (u16, String) {
    let r = g.upload(c, id, bytes).await;
    let status = r.status().as_u16();
    (status, r.text().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn recordings_that_cannot_be_read_name_what_is_wrong_and_leave_the_case_alone() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let version = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().version;
    for (bytes, words) in [
        (b"".to_vec(), "is empty"),
        (b"hello".to_vec(), "reads as a table of numbers"),
        (b"t,speed\n0,40\n1,41\n".to_vec(), "no channel"),
        (b"t,az,speed\n0,1,40\n".to_vec(), "too few"),
        (b"t,az,speed\n0,one,40\n1,two,40\n2,three,40\n".to_vec(), "is no number"),
        (b"t,az,speed\n0,1,40\n\xff\xfe\n".to_vec(), "UTF-8"),
        (b"RIFF....WAVE".to_vec(), "WAV file cannot be read"),
    ] {
        let (status, text) = upload(&g, &c, id, bytes.clone()).await;
        assert_eq!(status, 422, "{:?}", String::from_utf8_lossy(&bytes));
        assert!(text.contains(words), "{words} not in {text}");
    }
    assert_eq!(g.store.scope(g.a).await.unwrap().case(id).await.unwrap().version, version);
    let (status, _) = upload(&g, &c, id, csv(&rear_drive(2), "prop-imbalance@prop.rear.s2", 9).into_bytes()).await;
    assert_eq!(status, 303);
    assert_eq!(g.store.scope(g.a).await.unwrap().case(id).await.unwrap().case().clone().recordings.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn three_gigabytes_are_refused_before_they_are_sent() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let r = c
        .post(format!("{}/cases/{id}/recordings", g.url))
        .header("sec-fetch-site", "same-origin")
        .header("content-type", "multipart/form-data; boundary=x")
        .header("content-length", (3u64 << 30).to_string())
        .body("--x--")
        .send()
        .await;
    // The server answers and closes; either its answer or the closing is seen.
    if let Ok(r) = r {
        assert_eq!(r.status(), 413);
        assert!(r.text().await.unwrap().contains("2 GiB"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn forms_name_the_field_and_a_stale_save_is_told() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let post = |path: &str, fields: &'static [(&'static str, &'static str)]| {
        let (g, c, path) = (&g, &c, format!("/cases/{id}{path}"));
        async move {
            let r = g.post_form(c, &path, fields).await;
            (r.status().as_u16(), r.headers().get("x-problem").map(|h| h.to_str().unwrap().to_string()), r.text().await.unwrap())
        }
    };
    for (path, fields, words) in [
        ("/vehicle", &[("tyre", "round")][..], "not a tyre size"),
        ("/vehicle", &[("ring0", "many")][..], "ring0"),
        ("/symptoms", &[("kind", "wobble")][..], "no kind of symptom"),
        ("/symptoms", &[("kind", "clunk"), ("from", "fast")][..], "from"),
        ("/observations", &[("test", "kick"), ("outcome", "x")][..], "no test"),
        ("/measure/angles", &[("at", "prop.rear"), ("side0", "-3"), ("rpm", "3000")][..], "without a sign"),
        ("/measure/runout", &[("at", "prop.rear.s1.centre"), ("deg", "0"), ("mm", "1")][..], "4 to 36"),
        ("/repairs/r1", &[("done", "yes"), ("marks", "")][..], "marked"),
        ("/repairs/r1", &[("done", "no"), ("torque-what", "flange"), ("torque-nm", "80"), ("torque-source", "")][..], "source"),
        ("/verdict", &[("result", "maybe"), ("repair", "r1")][..], "no result"),
    ] {
        let (status, problem, text) = post(path, fields).await;
        assert_eq!(status, 422, "{path} {fields:?}");
        assert!(problem.is_some() && text.contains(words), "{path}: {words} not in {text}");
    }
    // What somebody has named meanwhile is not named over; what nobody has touched is kept.
    let theirs = VehicleDescription { name: Some("Mail van 9".into()), ..VehicleDescription::default() };
    g.edited_by("Tovi", id, CaseAct::DescribeVehicle(Box::new(theirs))).await;
    assert_eq!(post("/vehicle", &[("version", "0"), ("title", "y")]).await.0, 303);
    let (status, _, text) = post("/vehicle", &[("version", "0"), ("name", "x")]).await;
    assert_eq!(status, 409);
    assert!(text.contains("has saved meanwhile"), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_keeps_nothing_and_half_a_number_is_told_quietly() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let before = g.get(&c, &format!("/cases/{id}/complaint")).await.text().await.unwrap();
    let path = format!("/cases/{id}/vehicle/preview");
    let r = g.post_form(&c, &path, &[("tyre", "235/65R16"), ("length0_0", "999")]).await;
    assert_eq!(r.status(), 200);
    let text = r.text().await.unwrap();
    assert!(text.contains("rolls 2.171 m") && text.contains("999") && text.contains("not saved yet"), "{text}");
    let r = g.post_form(&c, &path, &[("tyre", "235/6")]).await;
    assert_eq!((r.status().as_u16(), r.headers()["hx-reswap"].to_str().unwrap()), (200, "none"));
    assert!(r.text().await.unwrap().contains("not a tyre size"));
    assert_eq!(g.get(&c, &format!("/cases/{id}/complaint")).await.text().await.unwrap(), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_in_the_pit_comes_as_a_dark_page() {
    let g = Ground::new().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    assert!(g.get(&c, "/nowhere").await.text().await.unwrap().contains("data-theme=\"paper\""));
    let r = g.post_form(&c, "/preferences", &[("theme", "pit"), ("back", "/")]).await;
    let cookie =
        r.headers().get_all("set-cookie").iter().find_map(|v| v.to_str().ok().filter(|v| v.starts_with("theme="))).unwrap();
    assert!(cookie.starts_with("theme=pit;"));
    assert!(g.get(&c, "/nowhere").await.text().await.unwrap().contains("data-theme=\"pit\""));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_recording_comes_in_and_goes_out_whole() {
    // Longer than what is kept in memory of a file or of a channel, so that it goes by way of the disk.
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let mut text = String::from("t,az,speed\n");
    for i in 0..600_000u32 {
        let speed = if i % 1000 == 0 { (40 + i / 10_000).to_string() } else { String::new() };
        text += &format!("{:.4},{:.4},{speed}\n", f64::from(i) / 1000.0, (f64::from(i) * 0.07).sin());
    }
    let r = g.upload(&c, id, text.clone().into_bytes()).await;
    assert_eq!(r.status(), 303, "{}", r.text().await.unwrap());
    let mut s = g.store.scope(g.a).await.unwrap();
    let name = s.case(id).await.unwrap().case().clone().recordings.last().unwrap().clone();
    let file = s.file(id, &name.file).await.unwrap().unwrap();
    assert!(file.bytes().unwrap() == text.as_bytes(), "the file came back changed");
    let samples = s.samples(id, &name.id).await.unwrap().unwrap();
    assert_eq!((samples.len(), samples.rate.get().round()), (600_000, 1000.0));
    let mut last = [0.0];
    samples.channels[0].data.read(599_999, &mut last).unwrap();
    assert!((f64::from(last[0]) - (599_999.0 * 0.07f64).sin()).abs() < 1e-3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_lost_its_database_says_so() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    g.store.pool().close().await;
    let r = g.get(&c, &format!("/cases/{id}/decide")).await;
    assert_eq!(r.status(), 503);
    assert!(r.text().await.unwrap().contains("database does not answer"));
    assert_eq!(g.get(&c, "/readyz").await.status(), 503);
    assert_eq!(g.get(&c, "/healthz").await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_worker_s_job_is_taken_again_and_a_cancelled_one_stops() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let owner = g.database_url.replace("baricord_app@", "baricord_owner@");
    let pool = sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&owner).await.unwrap();
    // As a killed copy leaves it: running, and not heard of for a minute.
    sqlx::query("UPDATE analysis_task SET state = 'running', heartbeat = now() - interval '1 minute', attempts = 1")
        .execute(&pool)
        .await
        .unwrap();
    for _ in 0..200 {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        let state: String = sqlx::query_scalar("SELECT state FROM analysis_task").fetch_one(&pool).await.unwrap();
        if state == "done" {
            let attempts: i32 = sqlx::query_scalar("SELECT attempts FROM analysis_task").fetch_one(&pool).await.unwrap();
            assert_eq!(attempts, 2);
            let mut s = g.store.scope(g.a).await.unwrap();
            s.cancel_tasks(id).await.unwrap();
            return;
        }
    }
    panic!("the job was not taken again");
}
