//! Recordings in: looked at before they are kept, in a browser; broken off and gone on; sound with a
//! track of its speed.

use crate::support::{Browser, Ground, csv};
use baricord_core::vehicle::sample::rear_drive;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::json;

/// The same run as a spreadsheet of another country writes it, under headings that say nothing.
fn foreign(text: &str) -> String {
    let mut lines = text.lines();
    lines.next();
    let rows: Vec<String> = lines.map(|l| l.replace(',', ";").replace('.', ",")).collect();
    format!("Aufnahme 7\nspalte1;spalte2;spalte3\n{}\n", rows.join("\n"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_looked_at_before_it_is_kept() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/road", g.url)).await;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("run.csv");
    std::fs::write(&path, foreign(&csv(&rear_drive(2), "prop-imbalance@prop.rear.s2:0.6", 8))).unwrap();
    b.js("document.querySelector('#load').open = true").await;
    b.see("#load input[type=file]").await.send_keys(path.to_str().unwrap()).await.unwrap();
    b.click("#load form[data-upload] button:not([type=button])").await;
    b.see("table.columns").await;
    // Ten lines with their numbers; separator and decimals seen from the file; no column guessed from such headings.
    assert_eq!(b.js("return document.querySelectorAll('table.columns tbody tr').length").await, 10);
    assert_eq!(b.js("return document.querySelector('table.columns tbody th').innerText").await, "3");
    let said = "return ['separator', 'decimal'].map(n => document.querySelector(`[name=${n}]`).value)";
    assert_eq!(b.js(said).await, json!(["semicolon", ","]));
    b.says("no time column is marked").await;
    b.check("the look at a file").await;
    let choose = async |name: &str, value: &str, then: &str| {
        // What has just been put in listens a moment later.
        for _ in 0..200 {
            let busy = "return !!document.querySelector('.htmx-added, .htmx-settling, .htmx-swapping, .htmx-request')";
            if b.js(busy).await == false {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        b.js(&format!(
            "const s = document.querySelector('[name={name}]'); s.value = '{value}'; s.dispatchEvent(new Event('change', {{bubbles: true}}))"
        ))
        .await;
        b.says(then).await;
    };
    choose("role_0", "time", "no channel is marked").await;
    choose("role_1", "acceleration", "no speed: add a file").await;
    choose("role_2", "speed", "road speed as reference").await;
    // A wrong choice is seen in the lines at once.
    let unread = async |what: &str, holds: &dyn Fn(i64) -> bool| {
        for _ in 0..200 {
            let n = b.js("return document.querySelectorAll('td.no-number').length").await.as_i64().unwrap();
            if holds(n) {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{what}: {}", b.text().await);
    };
    choose("decimal", ".", "road speed as reference").await;
    unread("a point where there are commas", &|n| n > 5).await;
    choose("decimal", ",", "road speed as reference").await;
    unread("commas again", &|n| n == 0).await;
    b.size(390, 844).await;
    b.check("the look at a file on a phone").await;
    b.js(
        "for (const [n, v] of [['gear', '5'], ['phase', 'before']]) document.querySelector(`#keep select[name=${n}]`).value = v",
    )
    .await;
    b.click("button.yellow[form=keep]").await;
    b.says("gear 5, drive, seat rail").await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let case = s.case(id).await.unwrap().case().clone();
    let r = case.recordings.last().unwrap();
    assert_eq!((r.channels[0].column.as_str(), r.csv.as_ref().unwrap().decimal), ("spalte2", Some(',')));
    assert!(s.samples(id, &r.id).await.unwrap().unwrap().len() > 1000);
    drop(s);
    g.wait_for_analysis(id).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let found = s.analysis(id).await.unwrap().unwrap().0;
    assert!(found.recording(&r.id).unwrap().orders.iter().any(|o| (o.order - 4.1).abs() < 0.05), "the shaft is found in it");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_broken_upload_is_listed_and_goes_on_with_the_same_file() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let text = csv(&rear_drive(2), "prop-imbalance@prop.rear.s2:0.6", 8);
    let (name, size) = ("van 4 road.csv", text.len().to_string());
    let announce = async || -> serde_json::Value {
        let r = g.post_form(&c, &format!("/cases/{id}/incoming"), &[("name", name), ("size", &size)]).await;
        assert_eq!(r.status(), 200);
        r.json().await.unwrap()
    };
    let up = announce().await;
    let put = async |from: usize, to: usize| {
        c.put(format!("{}/cases/{id}/incoming/{}?from={from}", g.url, up["id"].as_str().unwrap()))
            .header("sec-fetch-site", "same-origin")
            .body(text.as_bytes()[from..to].to_vec())
            .send()
            .await
            .unwrap()
    };
    assert_eq!(put(0, 5000).await.json::<serde_json::Value>().await.unwrap()["received"], 5000);
    let r = put(9000, 9100).await;
    assert_eq!(r.status(), 422);
    assert!(r.headers()["x-problem"].to_str().unwrap().contains("5000"));
    // A page opened later says how much is here, and a browser goes on from there.
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/road", g.url)).await;
    b.says("Choose the same file again and it goes on from there").await;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join(name);
    std::fs::write(&path, &text).unwrap();
    b.see("#load input[type=file]").await.send_keys(path.to_str().unwrap()).await.unwrap();
    b.click("#load form[data-upload] button:not([type=button])").await;
    b.see("table.columns").await;
    assert_eq!(announce().await["received"], 0, "the first is whole: the same name begins a new one");
    let mut s = g.store.scope(g.a).await.unwrap();
    let up = uuid::Uuid::parse_str(up["id"].as_str().unwrap()).unwrap();
    assert!(s.incoming_file(id, up).await.unwrap().bytes().unwrap() == text.as_bytes());
    b.end().await;
}

/// A wheel bearing's hum as a recorder without a speed keeps it: sound in one file, the track in another.
fn sound_and_track() -> (Vec<u8>, String) {
    let spec = hound::WavSpec { channels: 1, sample_rate: 4000, bits_per_sample: 16, sample_format: hound::SampleFormat::Int };
    let mut out = std::io::Cursor::new(vec![]);
    let mut w = hound::WavWriter::new(&mut out, spec).unwrap();
    let (mut turns, mut rng) = (0.0f64, ChaCha8Rng::seed_from_u64(1));
    for i in 0..4000 * 60 {
        let speed = 12.0 + 20.0 * f64::from(i) / 240_000.0;
        turns += speed / 2.08 / 4000.0;
        let noise = rng.random::<f64>() - 0.5;
        w.write_sample(((0.2 * (std::f64::consts::TAU * 4.1 * turns).sin() + 0.3 * noise) * 20000.0) as i16).unwrap();
    }
    w.finalize().unwrap();
    let mut gpx = String::from("<gpx><trk><trkseg>\n");
    for i in 0..=60 {
        let speed = 12.0 + 20.0 * f64::from(i) / 60.0;
        gpx += &format!(
            "<trkpt lat=\"54.0\" lon=\"1.0\"><time>2026-05-04T09:{:02}:{:02}Z</time><speed>{speed:.2}</speed></trkpt>\n",
            i / 60,
            i % 60
        );
    }
    (out.into_inner(), gpx + "</trkseg></trk></gpx>")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sound_comes_in_with_a_track_for_its_speed() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let (wav, gpx) = sound_and_track();
    let r = g.bring(&c, id, "hum.wav", wav, None).await;
    assert_eq!(r.status(), 303, "{}", r.text().await.unwrap());
    let path = r.headers()["location"].to_str().unwrap().to_string();
    let page = g.get(&c, &path).await.text().await.unwrap();
    assert!(page.contains("1 channel, 4000 Hz, 16 bits, 60.0 s"), "{page}");
    let up = path.rsplit('/').next().unwrap();
    // A track alone is no recording.
    let r = g.bring(&c, id, "track.gpx", gpx.clone().into_bytes(), None).await;
    let alone = r.headers()["location"].to_str().unwrap().to_string();
    assert!(g.get(&c, &alone).await.text().await.unwrap().contains("holds the speed only"));
    assert_eq!(g.post_form(&c, &format!("{alone}/keep"), &[]).await.status(), 422);
    let r = g.bring(&c, id, "track.gpx", gpx.into_bytes(), Some(up)).await;
    assert_eq!(r.headers()["location"].to_str().unwrap(), path);
    assert!(g.get(&c, &path).await.text().await.unwrap().contains("a GPX track"));
    let r = g.post_form(&c, &format!("{path}/keep"), &[("gear", "5"), ("role_0", "sound"), ("place", "floor")]).await;
    assert_eq!(r.status(), 303, "{}", r.text().await.unwrap());
    g.wait_for_analysis(id).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let case = s.case(id).await.unwrap().case().clone();
    let run = case.recordings.last().unwrap();
    assert_eq!(
        (run.file.as_str(), run.speed.as_ref().unwrap().file.as_deref()),
        ("recordings/r2.wav", Some("recordings/r2-speed.gpx"))
    );
    let found = s.analysis(id).await.unwrap().unwrap().0;
    let orders = &found.recording(&run.id).unwrap().orders;
    assert!(orders.iter().any(|o| (o.order - 4.1).abs() < 0.05 && o.unit.as_deref() == Some("fs")), "{orders:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_recording_is_read_by_a_job_that_tells_how_far_it_is_and_can_be_stopped() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let mut text = String::from("t,az,speed\n");
    for i in 0..1_600_000u32 {
        let speed = if i % 2000 == 0 { (40 + i / 25_000).to_string() } else { String::new() };
        text += &format!("{:.5},{:.10},{speed}\n", f64::from(i) / 2000.0, (f64::from(i) * 0.07).sin());
    }
    assert!(text.len() > 34 << 20);
    let r = g.upload(&c, id, text.into_bytes()).await;
    assert_eq!(r.status(), 303, "{}", r.text().await.unwrap());
    let task = async || g.store.scope(g.a).await.unwrap().analysis_task(id).await.unwrap().unwrap();
    let mut told = vec![];
    for _ in 0..400 {
        let j = task().await;
        if j.what.starts_with("reading R2") && j.progress > 0.0 {
            told.push(j.progress);
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    assert!(!told.is_empty(), "{:?}", task().await);
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/analysis/cancel"), &[]).await.status(), 303);
    for _ in 0..400 {
        if !task().await.is_open() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(task().await.state, "cancelled");
    // Where the reading was through before the stop was heard, it is kept; half of it never is.
    let kept = g.store.scope(g.a).await.unwrap().samples(id, "R2").await.unwrap().map(|x| x.len());
    assert!(matches!(kept, None | Some(1_600_000)), "nothing half read is kept: {kept:?}");
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/analysis/again"), &[]).await.status(), 303);
    g.wait_for_analysis(id).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    assert_eq!(s.samples(id, "R2").await.unwrap().unwrap().len(), 1_600_000);
}
