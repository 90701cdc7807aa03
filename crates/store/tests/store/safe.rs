//! What must not be mixed up or passed by: workshops, leases of tasks, versions of analyses, ids of runs, roles of
//! people and of the database.

use baricord_core::analysis::Analysis;
use baricord_core::case::document::CaseDocument;
use baricord_core::case::{Case, RecordingSpec};
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::{CaseAct, TakenBack};
use baricord_core::error::Warning;
use baricord_core::permission::Role;
use baricord_core::proof::verify::Verification;
use baricord_core::vehicle::sample::rear_drive;
use baricord_store::events::Author;
use baricord_store::{Store, StoreError};
use serde_json::json;
use sqlx::PgPool;
use uuid::Uuid;

fn base() -> String {
    std::env::var("BARICORD_TEST_DATABASE").expect("these tests need a PostgreSQL: run ./scripts/test")
}

async fn pool(url: &str) -> PgPool {
    sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(url).await.unwrap()
}

/// A database of its own, its owner's address, and a workshop in it.
async fn ground() -> (Store, String, Uuid) {
    let name = format!("t{}", Uuid::new_v4().simple());
    sqlx::query(&format!("CREATE DATABASE {name}")).execute(&pool(&format!("{}/postgres", base())).await).await.unwrap();
    let owner = format!("{}/{name}", base());
    Store::migrate(&owner).await.unwrap();
    let store = Store::connect(&owner.replace("baricord_owner@", "baricord_app@")).await.unwrap();
    let w = store.add_workshop("Harrowmere").await.unwrap();
    (store, owner, w)
}

fn read(json: serde_json::Value) -> CaseDocument {
    CaseDocument::read(json).expect("a case")
}

fn document() -> serde_json::Value {
    let mut d = Case::new_document("c1", "Shake", json!(rear_drive(2)));
    d["symptoms"] = json!([{"id": "S1", "kind": "vibration"}]);
    d
}

async fn case(store: &Store, w: Uuid) -> Uuid {
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    s.request_analysis(id).await.unwrap();
    s.commit().await.unwrap();
    id
}

#[tokio::test]
async fn an_id_of_a_run_is_never_used_again() {
    let (store, _, w) = ground().await;
    let id = case(&store, w).await;
    let mut s = store.scope(w).await.unwrap();
    let maren = Author::program("Maren");
    let edit = |act| CaseEdit::new(Uuid::now_v7(), jiff::Timestamp::UNIX_EPOCH, act);
    for want in ["R1", "R2"] {
        let run = s.new_run_id(id).await.unwrap();
        assert_eq!(run, want);
        let recording = RecordingSpec { id: run, file: "x.csv".into(), ..RecordingSpec::default() };
        s.edit_case(id, &maren, edit(CaseAct::AddRecording(Box::new(recording))), None).await.unwrap();
    }
    let event = s.events(id, 0, 1).await.unwrap()[0].id;
    s.edit_case(id, &maren, edit(CaseAct::TakeBack(TakenBack { event, of_another: false })), None).await.unwrap();
    assert_eq!(s.case(id).await.unwrap().case().recordings.len(), 1);
    assert_eq!(s.new_run_id(id).await.unwrap(), "R3", "R2 was taken back, and stays taken");
    // A case that came from elsewhere goes on after its own.
    let mut d = document();
    d["recordings"] = json!([{"id": "R7", "file": "x.csv"}, {"id": "first", "file": "y.csv"}]);
    let id = s.add_case(read(d), "took in", "Maren").await.unwrap();
    assert_eq!(s.new_run_id(id).await.unwrap(), "R8");
}

#[tokio::test]
async fn a_worker_whose_job_was_taken_over_keeps_nothing_and_an_older_version_never_wins() {
    let (store, owner, w) = ground().await;
    let id = case(&store, w).await;
    let first = store.claim_task().await.unwrap().unwrap();
    assert!(store.claim_task().await.unwrap().is_none(), "it is under way");
    let owner = pool(&owner).await;
    let silent = "UPDATE analysis_task SET heartbeat = now() - interval '1 minute'";
    sqlx::query(silent).execute(&owner).await.unwrap();
    let second = store.claim_task().await.unwrap().unwrap();
    assert!(first.id == second.id && first.lease != second.lease);
    assert!(!store.heartbeat(&first, 0.5, "levels").await.unwrap() && store.heartbeat(&second, 0.1, "levels").await.unwrap());
    store.end_task(&first, "done", None).await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    assert!(s.analysis_task(id).await.unwrap().unwrap().is_open(), "the first worker's end is nobody's");
    assert!(matches!(s.hold(&first).await, Err(StoreError::LeaseLost)));
    s.hold(&second).await.unwrap();
    assert!(store.heartbeat(&second, 0.2, "levels").await.unwrap(), "the heart goes on while a claim is held");
    // Versions.
    let of = |word: &str| Verification { warnings: vec![Warning::new(word, "")], ..Verification::default() };
    let none = Analysis::default();
    assert!(s.put_analysis(id, 3, &none, &of("new"), &[]).await.unwrap());
    assert!(!s.put_analysis(id, 2, &none, &of("old"), &[]).await.unwrap());
    assert_eq!(s.verification(id).await.unwrap().unwrap().warnings[0].code, "new");
    assert!(s.put_analysis(id, 3, &none, &of("again"), &[]).await.unwrap());
}

#[tokio::test]
async fn the_fourth_death_ends_a_job_and_its_drive_with_the_reason() {
    let (store, owner, w) = ground().await;
    let id = case(&store, w).await;
    let mut s = store.scope(w).await.unwrap();
    s.cancel_tasks(id).await.unwrap();
    let drive = s.begin_drive(id, "S1", "Maren", "{}", 1.0).await.unwrap();
    s.commit().await.unwrap();
    let owner = pool(&owner).await;
    for n in 1..=4 {
        let c = store.claim_task().await.unwrap().unwrap_or_else(|| panic!("claim {n}"));
        store.heartbeat(&c, 0.5, "leg 2 of 3").await.unwrap();
        sqlx::query("UPDATE analysis_task SET heartbeat = now() - interval '1 minute' WHERE state = 'running'")
            .execute(&owner)
            .await
            .unwrap();
    }
    assert!(store.claim_task().await.unwrap().is_none(), "there is no fifth");
    let mut s = store.scope(w).await.unwrap();
    let d = s.drive(id, drive).await.unwrap();
    assert_eq!(d.state, "failed");
    let (state, why): (String, String) =
        sqlx::query_as("SELECT state, problem FROM analysis_task WHERE drive_id IS NOT NULL").fetch_one(&owner).await.unwrap();
    assert_eq!((state.as_str(), why.as_str()), ("failed", "the program ended four times while at this: leg 2 of 3"));
}

#[tokio::test]
async fn a_row_cannot_point_into_another_workshop() {
    let (store, _, w) = ground().await;
    let id = case(&store, w).await;
    let other = store.add_workshop("Skerry").await.unwrap();
    let refused = |e: StoreError| match e {
        StoreError::Database(e) => assert_eq!(e.as_database_error().unwrap().code().unwrap(), "23503", "{e}"),
        e => panic!("{e}"),
    };
    let mut s = store.scope(other).await.unwrap();
    refused(s.put_piece(id, "recordings/r1.csv", 0, b"x").await.unwrap_err());
    let mut s = store.scope(other).await.unwrap();
    refused(s.request_analysis(id).await.unwrap_err());
    let mut s = store.scope(other).await.unwrap();
    refused(s.begin_drive(id, "S1", "x", "{}", 1.0).await.unwrap_err());
    // A vehicle that goes takes no case with it.
    let mut s = store.scope(w).await.unwrap();
    assert!(s.case(id).await.is_ok());
}

#[tokio::test]
async fn people_come_go_and_change_and_a_workshop_keeps_an_owner() {
    let (store, _, _) = ground().await;
    let mut s = store.begin_workshop("Skerry boats", false).await.unwrap();
    let w = s.workshop();
    let owner = store.add_person(&mut s, "Orla@Skerry.example", "Orla", Role::Owner, "a long password").await.unwrap();
    s.commit().await.unwrap();
    assert_eq!(store.workshops_named("skerry BOATS").await.unwrap(), [w]);
    let mut s = store.scope(w).await.unwrap();
    let code = |e: StoreError| match e {
        StoreError::Problem(p) => p.code,
        e => panic!("{e}"),
    };
    assert_eq!(
        code(store.add_person(&mut s, "orla@skerry.example", "x", Role::Viewer, "a long password").await.unwrap_err()),
        "exists"
    );
    assert_eq!(
        code(store.add_person(&mut s, "no address", "x", Role::Viewer, "a long password").await.unwrap_err()),
        "bad-email"
    );
    assert_eq!(
        code(store.add_person(&mut s, "jon@skerry.example", "Jon", Role::Learner, "short").await.unwrap_err()),
        "bad-password"
    );
    let jon = store.add_person(&mut s, "jon@skerry.example", "Jon", Role::Learner, "another password").await.unwrap();
    assert_eq!(code(s.set_role(owner, Some(Role::Mechanic)).await.unwrap_err()), "last-owner");
    assert_eq!(code(s.set_role(owner, None).await.unwrap_err()), "last-owner");
    s.set_role(jon, Some(Role::Owner)).await.unwrap();
    s.set_role(owner, None).await.unwrap();
    s.commit().await.unwrap();
    assert!(store.sign_in("orla@skerry.example", "a long password").await.unwrap().is_none());
    let was = store.sign_in("jon@skerry.example", "another password").await.unwrap().expect("Jon");
    assert_eq!(was.role(), Role::Owner);
    let mut s = store.scope(w).await.unwrap();
    store.set_password(&mut s, jon, "the third password").await.unwrap();
    s.commit().await.unwrap();
    let now = store.person(jon).await.unwrap().unwrap();
    assert_ne!(was.session_key(), now.session_key(), "sessions of the old password end");
    assert!(store.sign_in("jon@skerry.example", "another password").await.unwrap().is_none());
    // Nobody of another workshop is changed.
    let other = store.add_workshop("Elsewhere").await.unwrap();
    let mut s = store.scope(other).await.unwrap();
    assert!(matches!(s.set_role(jon, None).await, Err(StoreError::NotFound)));
    assert!(matches!(store.set_password(&mut s, jon, "the fourth password").await, Err(StoreError::NotFound)));
}

#[tokio::test]
async fn a_long_password_is_wrong_at_once_and_many_sign_ins_wait_their_turn() {
    let (store, _, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    store.add_person(&mut s, "a@b.example", "A", Role::Owner, &"p".repeat(1024)).await.unwrap();
    s.commit().await.unwrap();
    assert!(store.sign_in("a@b.example", &"p".repeat(1024)).await.unwrap().is_some());
    assert!(store.sign_in("a@b.example", &"p".repeat(1025)).await.unwrap().is_none());
    let tries = (0..12).map(|i| {
        let store = store.clone();
        tokio::spawn(async move { store.sign_in("a@b.example", &format!("wrong password {i}")).await.unwrap().is_none() })
    });
    for t in tries.collect::<Vec<_>>() {
        assert!(t.await.unwrap());
    }
}

#[tokio::test]
async fn functions_asked_before_sign_in_are_narrow_and_nobody_makes_temporary_tables() {
    let (store, owner, _) = ground().await;
    store.check_roles().await.unwrap();
    let owner = pool(&owner).await;
    let loose: Vec<String> = sqlx::query_scalar(
        "SELECT p.proname::text FROM pg_proc p JOIN pg_roles o ON o.oid = p.proowner WHERE p.prosecdef AND p.pronamespace = 'public'::regnamespace
         AND (o.rolname <> 'baricord_definer' OR o.rolcanlogin OR o.rolsuper
              OR p.proconfig IS DISTINCT FROM ARRAY['search_path=pg_catalog, public, pg_temp'])",
    )
    .fetch_all(&owner)
    .await
    .unwrap();
    assert!(loose.is_empty(), "{loose:?}");
    for write in
        ["DELETE FROM person", "UPDATE workshop SET name = ''", "SELECT document FROM case_file", "CREATE TABLE public.x (a int)"]
    {
        let mut tx = owner.begin().await.unwrap();
        sqlx::query("SET LOCAL ROLE baricord_definer").execute(&mut *tx).await.unwrap();
        let e = sqlx::query(write).execute(&mut *tx).await.unwrap_err();
        assert_eq!(e.as_database_error().unwrap().code().unwrap(), "42501", "{write}");
    }
    let e = sqlx::query("CREATE TEMP TABLE person (id uuid)").execute(store.pool()).await.unwrap_err();
    assert_eq!(e.as_database_error().unwrap().code().unwrap(), "42501");
    for timeout in ["statement_timeout", "idle_in_transaction_session_timeout"] {
        let set: String = sqlx::query_scalar(&format!("SHOW {timeout}")).fetch_one(store.pool()).await.unwrap();
        assert_eq!(set, "1min", "{timeout}");
    }
}

#[tokio::test]
async fn roles_that_would_give_a_dead_server_are_told_with_what_to_do() {
    let (store, owner, _) = ground().await;
    let told = |e: StoreError| match e {
        StoreError::Problem(p) => (p.code, p.message),
        e => panic!("{e}"),
    };
    // The owner in place of the application's role.
    let as_owner = Store::connect(&owner).await.unwrap();
    let (code, message) = told(as_owner.check_roles().await.unwrap_err());
    assert!(code == "database-roles" && message.contains("let it connect as baricord_app"), "{message}");
    // Functions that belong to somebody whom the policies hold.
    let o = pool(&owner).await;
    let plain = format!("plain_{}", Uuid::new_v4().simple());
    sqlx::query(&format!("CREATE ROLE {plain} LOGIN")).execute(&o).await.unwrap();
    sqlx::query(&format!("ALTER FUNCTION person_to_sign_in(text) OWNER TO {plain}")).execute(&o).await.unwrap();
    let (_, message) = told(store.check_roles().await.unwrap_err());
    assert!(message.contains("person_to_sign_in") && message.contains("ALTER FUNCTION"), "{message}");
    // An owner without privileges: told before anything is done, and served once it has been given the role.
    let name = format!("t{}", Uuid::new_v4().simple());
    sqlx::query(&format!("CREATE DATABASE {name} OWNER {plain}")).execute(&o).await.unwrap();
    let theirs = format!("{}/{name}", base().replace("baricord_owner@", &format!("{plain}@")));
    let (code, message) = told(Store::migrate(&theirs).await.unwrap_err());
    assert!(code == "database-roles" && message.contains(&format!("GRANT baricord_definer TO \"{plain}\"")), "{message}");
    sqlx::query(&format!("GRANT baricord_definer TO {plain}")).execute(&o).await.unwrap();
    Store::migrate(&theirs).await.unwrap();
    let store = Store::connect(&theirs.replace(&plain, "baricord_app")).await.unwrap();
    let mut s = store.begin_workshop("Skerry", false).await.unwrap();
    store.add_person(&mut s, "a@b.example", "A", Role::Owner, "a long password").await.unwrap();
    s.commit().await.unwrap();
    assert!(store.sign_in("a@b.example", "a long password").await.unwrap().is_some(), "an unprivileged owner serves");
    // Not up to date at all.
    let empty = format!("t{}", Uuid::new_v4().simple());
    sqlx::query(&format!("CREATE DATABASE {empty}")).execute(&o).await.unwrap();
    let bare = Store::connect(&format!("{}/{empty}", base())).await.unwrap();
    assert_eq!(told(bare.check_sessions().await.unwrap_err()).0, "database-not-ready");
    let bare = Store::connect(&format!("{}/{empty}", base()).replace("baricord_owner@", "baricord_app@")).await.unwrap();
    assert_eq!(told(bare.check_roles().await.unwrap_err()).0, "database-not-ready");
}

#[tokio::test]
async fn a_search_goes_on_beside_a_document_that_holds_a_nul() {
    let (store, _, w) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let mut d = document();
    d["symptoms"][0]["words"] = "hum\u{0}".into();
    match CaseDocument::read(d) {
        Err(p) => assert_eq!((p.code.as_str(), p.field.as_deref()), ("nul", Some("symptoms[0].words"))),
        other => panic!("{other:?}"),
    }
    let id = s.add_case(read(document()), "opened", "Maren").await.unwrap();
    // One from before NUL was refused.
    sqlx::query("UPDATE case_file SET document = replace(document, 'vibration', E'\\\\u0000') WHERE id = $1")
        .bind(id)
        .execute(store.pool())
        .await
        .unwrap();
    s.commit().await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    assert_eq!(s.search(&["shake".into()], 10).await.unwrap().len(), 1);
    assert!(s.search(&["nothing".into()], 10).await.unwrap().is_empty());
}

#[tokio::test]
async fn what_may_succeed_in_a_moment_is_told_from_what_never_will() {
    let (store, _, _) = ground().await;
    for (code, temporary) in [
        ("40001", true),
        ("40P01", true),
        ("53100", true),
        ("53200", true),
        ("53300", true),
        ("57014", true),
        ("57P01", true),
        ("08006", true),
        ("23505", false),
        ("42P01", false),
        ("22P02", false),
    ] {
        let raise = format!("DO $$ BEGIN RAISE EXCEPTION 'as if' USING ERRCODE = '{code}'; END $$");
        let e: StoreError = sqlx::query(&raise).execute(store.pool()).await.unwrap_err().into();
        assert_eq!(e.is_temporary(), temporary, "{code}");
    }
    assert!(StoreError::Busy("x").is_temporary() && StoreError::NoRoom("x".into()).is_temporary());
    assert!(!StoreError::NotFound.is_temporary() && !StoreError::LeaseLost.is_temporary());
}

#[tokio::test]
async fn a_database_that_took_the_older_text_of_a_migration_goes_on_and_one_with_a_strange_text_does_not() {
    let (_, owner, _) = ground().await;
    let o = pool(&owner).await;
    let set = |sum: &'static str| {
        let o = o.clone();
        async move {
            let put = "UPDATE _sqlx_migrations SET checksum = decode($1, 'hex') WHERE version = 1";
            sqlx::query(put).bind(sum).execute(&o).await.unwrap();
        }
    };
    set("45ec31cfee6538489b9948bd17298727147a008670c4acbc544512063fa4fffdcd2cdfc26d6a4f00fbcfcb20b5dbd52a").await;
    Store::migrate(&owner).await.unwrap();
    set("00ff").await;
    assert!(matches!(Store::migrate(&owner).await, Err(StoreError::Broken(_))));
}
