//! What is kept comes back: documents with their history, files, samples, analyses, tasks.

use baricord_core::analysis::{Analysis, OrderMap};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::proof::verify::Verification;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::sample::rear_drive;
use baricord_store::case_now::WithCase;
use baricord_store::events::Author;
use baricord_store::kept_pages::PageKey;
use baricord_store::people::{Person, Role};
use baricord_store::{Store, StoreError, per_request};
use serde_json::json;
use uuid::Uuid;

/// A database of its own and a workshop in it.
async fn ground() -> (Store, Uuid) {
    let base = std::env::var("BARICORD_TEST_DATABASE").expect("these tests need a PostgreSQL: run ./scripts/test");
    let name = format!("t{}", Uuid::new_v4().simple());
    let pool = sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&format!("{base}/postgres")).await.unwrap();
    sqlx::query(&format!("CREATE DATABASE {name}")).execute(&pool).await.unwrap();
    let owner = format!("{base}/{name}");
    Store::migrate(&owner).await.unwrap();
    let store = Store::connect(&owner.replace("baricord_owner@", "baricord_app@")).await.unwrap();
    assert!(store.is_empty().await.unwrap());
    let w = store.add_workshop("Harrowmere").await.unwrap();
    assert!(!store.is_empty().await.unwrap());
    (store, w)
}

fn read(json: serde_json::Value) -> CaseDocument {
    CaseDocument::read(json).expect("a case")
}

fn document() -> serde_json::Value {
    let mut d = Case::new_document("c1", "Shake", json!(rear_drive(2)));
    d["zebra"] = json!({"kept": 1.50});
    d["symptoms"] = json!([{"id": "S1", "kind": "vibration"}]);
    d
}

#[tokio::test]
async fn a_document_comes_back_as_it_went_in() {
    let (store, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    assert_eq!(s.case(id).await.unwrap().document.text(), document().to_string());
    let knowledge = s.knowledge().await.unwrap();
    s.weigh_board_again(&knowledge).await.unwrap();
    let lanes = s.board(&knowledge, &[("complaint", true), ("road", true), ("lift", false)], 10).await.unwrap().0;
    assert_eq!(
        lanes.iter().map(|l| (l.id.as_str(), l.count, l.lines.len())).collect::<Vec<_>>(),
        [("complaint", 0, 0), ("road", 1, 1), ("lift", 0, 0)]
    );
    assert_eq!(lanes[1].lines[0].waits_for, "road");
}

#[tokio::test]
async fn files_and_samples_come_back_bit_for_bit() {
    let (store, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    let bytes: Vec<u8> = (0..3_000_000u32).map(|i| (i * 7 % 251) as u8).collect();
    s.put_file(id, "recordings/r1.csv", &bytes.clone().into()).await.unwrap();
    assert_eq!(s.file(id, "recordings/r1.csv").await.unwrap().unwrap().bytes().unwrap(), bytes);
    assert!(s.file(id, "recordings/r2.csv").await.unwrap().is_none());
    assert_eq!(s.file_names(id).await.unwrap(), ["recordings/r1.csv"]);
    s.remove_file(id, "recordings/r1.csv").await.unwrap();
    assert!(s.file_names(id).await.unwrap().is_empty());
    let samples = Samples {
        rate: Hz(399.98),
        start: Seconds(0.25),
        channels: vec![Channel {
            name: "az".into(),
            quantity: Quantity::Acceleration,
            unit: "m/s2".into(),
            data: (0..300_000).map(|i| (i as f32 * 0.37).sin()).collect::<Vec<f32>>().into(),
        }],
        gaps: std::iter::once(100..200).collect(),
        speed: vec![(0.1, 12.5), (1.1, 12.75)],
        ..Samples::default()
    };
    s.put_samples(id, "R1", &samples).await.unwrap();
    let back = s.samples(id, "R1").await.unwrap().unwrap();
    assert_eq!((back.rate, back.start, &back.gaps, &back.speed), (samples.rate, samples.start, &samples.gaps, &samples.speed));
    assert_eq!(back.channels[0].data.to_vec().unwrap(), samples.channels[0].data.to_vec().unwrap());
    assert!(s.samples(id, "R9").await.unwrap().is_none());
    let map = OrderMap { columns: 2, rows: 2, ink: vec![1, 2, 3, 255], ..OrderMap::default() };
    s.put_analysis(id, 1, &Analysis::default(), &Verification::default(), &[("R1".into(), "az".into(), map.clone())])
        .await
        .unwrap();
    assert_eq!(s.order_map(id, "R1", "az").await.unwrap().unwrap(), map);
    assert_eq!(s.analysis(id).await.unwrap().unwrap().0, Analysis::default());
}

#[tokio::test]
async fn a_job_is_taken_once_told_and_ended() {
    let (store, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    s.request_analysis(id).await.unwrap();
    s.request_analysis(id).await.unwrap();
    s.commit().await.unwrap();
    let (a, b) = tokio::join!(store.claim_task(), store.claim_task());
    let taken: Vec<_> = [a.unwrap(), b.unwrap()].into_iter().flatten().collect();
    assert_eq!(taken.len(), 1, "two asks make one job, and one worker takes it");
    let c = taken[0];
    assert_eq!((c.workshop, c.case), (w, id));
    assert!(store.heartbeat(&c, 0.4, "levels").await.unwrap());
    let mut s = store.scope(w).await.unwrap();
    let task = s.analysis_task(id).await.unwrap().unwrap();
    assert_eq!((task.percent(), task.what.as_str(), task.is_open()), (40, "levels", true));
    s.cancel_tasks(id).await.unwrap();
    s.commit().await.unwrap();
    assert!(!store.heartbeat(&c, 0.5, "levels").await.unwrap(), "the worker is told to stop");
    store.end_task(&c, "cancelled", None).await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    assert!(!s.analysis_task(id).await.unwrap().unwrap().is_open());
}

/// Somebody who has signed in at a workshop, and a case there.
async fn signed_in(store: &Store, w: Uuid) -> (Person, Uuid) {
    let mut s = store.scope(w).await.unwrap();
    store.add_person(&mut s, "Maren@Harrowmere.example", "Maren", Role::Viewer, "driveline").await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    s.commit().await.unwrap();
    (store.sign_in("maren@harrowmere.example", "driveline").await.unwrap().expect("signed in"), id)
}

#[tokio::test]
async fn who_asks_and_what_they_ask_go_by_one_transaction() {
    let (store, w) = ground().await;
    let (Person { id: p, .. }, id) = signed_in(&store, w).await;
    let other = store.add_workshop("Skerry").await.unwrap();
    let pool = store.pool().clone();
    let in_use = || pool.size() as usize - pool.num_idle();
    // A connection goes back beside whoever let go of it.
    let free = async || {
        for _ in 0..500 {
            if in_use() == 0 {
                return true;
            }
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        false
    };
    assert!(
        free().await && store.person(p).await.unwrap().is_some() && free().await,
        "nothing is left where no request is answered"
    );
    per_request::answered(async {
        assert_eq!(store.person(p).await.unwrap().unwrap().workshop_id, w);
        assert_eq!(in_use(), 1);
        let mut s = store.scope(w).await.unwrap();
        assert_eq!((in_use(), s.case(id).await.unwrap().id), (1, id), "the same connection, in the workshop of who asks");
        let mut second = store.scope(w).await.unwrap();
        assert_eq!((in_use(), second.case(id).await.unwrap().id), (2, id), "it is taken once");
        drop((s, second));
        assert!(free().await);
        // Another workshop is asked with a transaction of its own, and what was left is gone.
        store.person(p).await.unwrap().unwrap();
        let mut s = store.scope(other).await.unwrap();
        assert!(matches!(s.case(id).await, Err(StoreError::NotFound)));
        drop(s);
        assert!(free().await);
        // Whoever needs a connection for something else does not hold two; who is nobody leaves none.
        store.person(p).await.unwrap().unwrap();
        assert!(!store.is_empty().await.unwrap() && free().await);
        assert!(store.person(Uuid::now_v7()).await.unwrap().is_none() && free().await);
        store.person(p).await.unwrap().unwrap();
    })
    .await;
    assert!(free().await, "it ends with the request");
}

#[tokio::test]
async fn passwords_are_hashed_and_another_workshop_finds_nothing() {
    let (store, w) = ground().await;
    let (p, id) = signed_in(&store, w).await;
    assert!(!p.role().may(baricord_core::permission::Act::Edit) && p.session_key().starts_with(b"$argon2id$"));
    assert!(!format!("{p:?}").contains("argon2"), "the hash stays out of logs");
    assert!(store.sign_in("maren@harrowmere.example", "Driveline").await.unwrap().is_none());
    assert!(store.sign_in("nobody@harrowmere.example", "driveline").await.unwrap().is_none());
    assert_eq!(store.person(p.id).await.unwrap().unwrap().name, "Maren");
    let other = store.add_workshop("Skerry").await.unwrap();
    let mut s = store.scope(other).await.unwrap();
    assert!(matches!(s.case(id).await, Err(StoreError::NotFound)));
    assert!(s.events(id, 0, 10).await.unwrap().is_empty());
    assert!(matches!(s.since(id, 0).await, Err(StoreError::NotFound)));
    let knowledge = s.knowledge().await.unwrap();
    assert_eq!(s.board(&knowledge, &[("road", true)], 10).await.unwrap().0[0].count, 0);
}

#[tokio::test]
async fn a_broken_upload_goes_on_where_it_stopped_and_is_kept_whole() {
    let (store, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    let bytes: Vec<u8> = (0..200u8).collect();
    let said = baricord_store::incoming::Announced { of: None, name: "run.csv", size: 200, phase: "before" };
    let up = s.announce(id, said).await.unwrap();
    assert_eq!(s.take_piece(id, up.id, 0, &bytes[..70]).await.unwrap(), 70);
    // The answer was lost: the same piece again, then one that overlaps, then one from too far on.
    assert_eq!(s.take_piece(id, up.id, 0, &bytes[..70]).await.unwrap(), 70);
    assert_eq!(s.take_piece(id, up.id, 50, &bytes[50..120]).await.unwrap(), 120);
    assert!(
        matches!(s.take_piece(id, up.id, 130, &bytes[130..]).await, Err(StoreError::Problem(p)) if p.code == "piece-missing")
    );
    assert!(matches!(s.incoming_file(id, up.id).await, Err(StoreError::Problem(p)) if p.code == "not-whole"));
    let again = s.announce(id, said).await.unwrap();
    assert_eq!((again.id, again.received, again.percent()), (up.id, 120, 60));
    let too_much = vec![0; 100];
    assert!(matches!(s.take_piece(id, up.id, 120, &too_much).await, Err(StoreError::Problem(p)) if p.code == "too-long"));
    assert_eq!(s.take_piece(id, up.id, 120, &bytes[120..]).await.unwrap(), 200);
    assert_eq!(s.incoming_file(id, up.id).await.unwrap().bytes().unwrap(), bytes);
    assert_eq!(s.file(id, "recordings/r1.csv").await.unwrap().map(|_| ()), None, "nothing of it belongs to the case yet");
    s.keep_incoming(id, up.id, "recordings/r1.csv").await.unwrap();
    s.forget_incoming(id, up.id).await.unwrap();
    assert_eq!(s.file(id, "recordings/r1.csv").await.unwrap().unwrap().bytes().unwrap(), bytes);
    assert!(s.incoming_of(id).await.unwrap().is_empty());
    s.commit().await.unwrap();
    // Another workshop sees none of it.
    let other = store.add_workshop("Elsewhere").await.unwrap();
    let mut o = store.scope(other).await.unwrap();
    assert!(matches!(o.take_piece(id, up.id, 0, b"x").await, Err(StoreError::NotFound)));
    assert!(matches!(o.incoming(id, up.id).await, Err(StoreError::NotFound)));
}

#[tokio::test]
async fn a_page_is_found_in_its_own_state_and_workshop_and_goes_with_its_case() {
    let (store, w) = ground().await;
    let other = store.add_workshop("Skerry").await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    let stamp = s.case_now(id).await.unwrap().state().0;
    s.commit().await.unwrap();
    let key = PageKey { case: id, slot: "lift".into(), state: [1; 32] };
    let html = "<p>Rock the wheel</p>".repeat(500);
    store.keep_page(w, &key, stamp, html.as_bytes()).await.unwrap();
    let found = async |workshop, key: &PageKey| {
        let mut s = store.scope(workshop).await.unwrap();
        // Of another workshop there is no case to begin with; asked for by itself and with its case it is the same.
        let Ok(now) = s.case_now(key.case).await else { return None };
        let alone = s.kept_page(&now, key).await.unwrap();
        let slots = vec![key.slot.clone(), "none".into()];
        let now = s.case_now_with(key.case, WithCase { slots, ..WithCase::default() }).await.unwrap();
        assert_eq!(s.kept_page(&now, key).await.unwrap(), alone);
        alone
    };
    assert_eq!(found(w, &key).await.as_deref(), Some(html.as_bytes()));
    let later = PageKey { state: [2; 32], ..key.clone() };
    let elsewhere = PageKey { slot: "road".into(), ..key.clone() };
    assert_eq!((found(w, &later).await, found(w, &elsewhere).await, found(other, &key).await), (None, None, None));
    // Another state takes its place; who was slower does not put an old page there, nor does another workshop.
    store.keep_page(w, &later, stamp, b"later").await.unwrap();
    assert_eq!((found(w, &key).await, found(w, &later).await.as_deref()), (None, Some(&b"later"[..])));
    store.keep_page(w, &key, Uuid::new_v4(), b"too late").await.unwrap();
    store.keep_page(other, &key, stamp, b"not theirs").await.unwrap();
    assert_eq!(found(w, &later).await.as_deref(), Some(&b"later"[..]));
    // What is not old stays; with its case it goes.
    let mut s = store.scope(w).await.unwrap();
    assert_eq!(s.drop_old_pages().await.unwrap(), 0);
    let now = s.case_now(id).await.unwrap();
    assert!(s.kept_page(&now, &later).await.unwrap().is_some());
    s.delete_case(id).await.unwrap();
    assert_eq!(s.kept_page(&now, &later).await.unwrap(), None);
}

#[tokio::test]
async fn what_its_pages_are_about_is_known_of_a_case_only_as_it_was_weighed() {
    let (store, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    assert_eq!(s.case_now(id).await.unwrap().about(), None);
    let knowledge = s.knowledge().await.unwrap();
    s.weigh_board_again(&knowledge).await.unwrap();
    let now = s.case_now(id).await.unwrap();
    let assessed = s.assessed_now(&now).await.unwrap();
    assert_eq!((now.about(), now.state()), (assessed.about(), assessed.state()));
    assert_eq!(now.about(), Some("S1"));
    let act =
        CaseAct::DescribeVehicle(Box::new(VehicleDescription { title: Some("Buzz".into()), ..VehicleDescription::default() }));
    let edit = CaseEdit::new(Uuid::now_v7(), jiff::Timestamp::now(), act);
    s.edit_case(id, &Author::program("Maren"), edit, None).await.unwrap();
    assert_eq!(s.case_now(id).await.unwrap().about(), None);
}
