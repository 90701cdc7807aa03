//! A drive with the recorder's stand-in: live in a browser with the coach, taken on by another copy
//! where one was lost, and refused where it makes no sense.

use crate::support::{Browser, Ground};
use baricord_web::drive_runner;
use std::sync::atomic::AtomicBool;
use std::time::Duration;
use uuid::Uuid;

#[tokio::test(flavor = "multi_thread")]
async fn the_coach_asks_again_for_what_was_too_fast_and_stops_when_it_has_enough() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/road", g.url)).await;
    b.js("document.querySelector('#record').open = true").await;
    b.js("for (const [n, v] of [['driver', 'hasty'], ['fault', 'prop-imbalance@prop.rear.s2']]) document.querySelector(`#record select[name=${n}]`).value = v").await;
    b.js("const s = document.querySelector('#record select[name=pace]'); s.options[0].value = '8'; s.value = '8'").await;
    b.check("the road with its recorder").await;
    b.click("#record form button").await;
    b.see("#drive-state").await;
    // Nothing to press in the part that is the drive's while it moves.
    b.see(".say").await;
    let pressed = b
        .js("return document.querySelector('.live-figures').innerText.includes('End') && !/next|first/.test(document.querySelector('.say').innerText)")
        .await;
    assert_eq!(pressed, false);
    b.says("again: too fast through it").await;
    b.says("light throttle").await;
    for _ in 0..200 {
        if b.js("return !!document.querySelector('#live-ink[data-drawn=yes]') && document.querySelectorAll('.cell-fill.enough').length > 0").await == true {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let ink = b.js("const c = document.getElementById('live-ink'); return [c.width, c.height]").await;
    assert!(ink[0].as_i64().unwrap() > 20 && ink[1].as_i64().unwrap() > 200, "{ink}");
    b.check("a drive under way").await;
    // When it is over the road station stands there with the first of the runs.
    b.says("run R2").await;
    b.see("nav.runs").await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let case = s.case(id).await.unwrap().case().clone();
    assert!(case.recordings.len() >= 3, "the hasty run and the one after it are both kept");
    drop(s);
    g.wait_for_analysis(id).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let found = s.analysis(id).await.unwrap().unwrap().0;
    let last = found.recording(&case.recordings.last().unwrap().id).unwrap();
    assert!(
        last.orders.iter().any(|o| (o.order - 4.1).abs() < 0.06),
        "{:?}",
        last.orders.iter().map(|o| o.order).collect::<Vec<_>>()
    );
    b.end().await;
}

const SETUP: &str = r#"{"recorder":"stand-in","fault":"hidden","rough":false,"hasty":false,"seed":5}"#;

/// Begins a drive that only the test takes on.
async fn begun(g: &Ground, id: Uuid) -> (Uuid, baricord_store::analysis_tasks::TaskClaim) {
    g.worker.abort();
    tokio::time::sleep(Duration::from_millis(50)).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let drive = s.begin_drive(id, "S1", "A", SETUP, 32.0).await.unwrap();
    s.commit().await.unwrap();
    loop {
        let claim = g.store.claim_task().await.unwrap().expect("the drive waits");
        if claim.drive == Some(drive) {
            return (drive, claim);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn another_copy_goes_on_with_a_drive_and_loses_nothing_of_it() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let (drive, claim) = begun(&g, id).await;
    let store = g.store.clone();
    let lost = tokio::spawn(async move { drive_runner::go(&store, claim, drive, &AtomicBool::new(false)).await });
    for _ in 0..100 {
        tokio::time::sleep(Duration::from_millis(50)).await;
        if g.store.scope(g.a).await.unwrap().leg_pieces(drive, 0).await.unwrap() >= 2 {
            break;
        }
    }
    lost.abort();
    let _ = lost.await;
    let before = g.store.scope(g.a).await.unwrap().leg_so_far(drive, 0).await.unwrap();
    drive_runner::go(&g.store, claim, drive, &AtomicBool::new(false)).await.unwrap();
    let mut s = g.store.scope(g.a).await.unwrap();
    let d = s.drive(id, drive).await.unwrap();
    assert_eq!(d.state, "done", "{:?}", d.problem);
    // The coach ended it: the vehicle stands there as after the button.
    let case = s.case(id).await.unwrap();
    let state = case.case().state.clone().expect("how it stands");
    assert!(!state.is_up() && state.warm_until.is_some());
    assert!(case.case().recordings.iter().filter(|r| r.is_simulated()).count() >= 1);
    let whole = s.leg_so_far(drive, 0).await.unwrap();
    assert!(whole.samples.len() > before.samples.len() && whole.samples.starts_with(&before.samples));
    // The same drive without a break is the same run.
    let (_, undisturbed) = begun(&g, id).await;
    drive_runner::go(&g.store, undisturbed, undisturbed.drive.unwrap(), &AtomicBool::new(false)).await.unwrap();
    assert!(s.leg_so_far(undisturbed.drive.unwrap(), 0).await.unwrap() == whole, "broken and unbroken differ");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drive_that_makes_no_sense_is_refused_and_one_that_fails_says_why() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    for (fields, words) in [
        (vec![("fault", "hidden")], "symptom is missing"),
        (vec![("symptom", "S9"), ("fault", "hidden")], "no symptom of this case"),
        (vec![("symptom", "S1"), ("fault", "gremlin@engine")], "cannot be simulated"),
        (vec![("symptom", "S1"), ("seed", "lucky")], "not a whole number"),
        (vec![("symptom", "S1"), ("pace", "1000")], "64 times"),
    ] {
        let r = g.post_form(&c, &format!("/cases/{id}/drives"), &fields).await;
        assert_eq!(r.status(), 422);
        let text = r.text().await.unwrap();
        assert!(text.contains(words), "{words} not in {text}");
    }
    let look = g.client(Some("a.look@harrowmere.example")).await;
    assert_eq!(g.post_form(&look, &format!("/cases/{id}/drives"), &[("symptom", "S1")]).await.status(), 403);
    let mut s = g.store.scope(g.a).await.unwrap();
    let bad = s
        .begin_drive(id, "S1", "A", r#"{"recorder":"stand-in","fault":"x@y","rough":false,"hasty":false,"seed":5}"#, 8.0)
        .await
        .unwrap();
    s.commit().await.unwrap();
    for _ in 0..100 {
        tokio::time::sleep(Duration::from_millis(50)).await;
        let d = g.store.scope(g.a).await.unwrap().drive(id, bad).await.unwrap();
        if !d.is_open() {
            assert!(d.problem.unwrap().contains("cannot be simulated"));
            return;
        }
    }
    panic!("it neither drives nor fails");
}
