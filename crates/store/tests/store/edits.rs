//! Edits are kept once, in their order, and taken back; what was done before edits were stays readable.

use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::{
    CaseAct, EntryId, Judgement, NewFinding, Nothing, On, RepairDetails, Standing, TakenBack, TestResult,
};
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::permission::Role;
use baricord_core::repair::purchasing::ChosenRepair;
use baricord_core::vehicle::sample::rear_drive;
use baricord_store::events::{Author, Outcome, SentEdit};
use baricord_store::{Scope, Store, StoreError};
use serde_json::json;
use sqlx::Executor;
use std::borrow::Cow;
use uuid::Uuid;

fn base() -> String {
    std::env::var("BARICORD_TEST_DATABASE").expect("these tests need a PostgreSQL: run ./scripts/test")
}

/// The owner's address of a database of its own.
async fn database() -> String {
    let name = format!("t{}", Uuid::new_v4().simple());
    let pool = sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&format!("{}/postgres", base())).await.unwrap();
    sqlx::query(&format!("CREATE DATABASE {name}")).execute(&pool).await.unwrap();
    format!("{}/{name}", base())
}

async fn store(owner: &str) -> Store {
    Store::connect(&owner.replace("baricord_owner@", "baricord_app@")).await.unwrap()
}

async fn ground() -> (Store, Uuid, Uuid) {
    let owner = database().await;
    Store::migrate(&owner).await.unwrap();
    let store = store(&owner).await;
    let w = store.add_workshop("Harrowmere").await.unwrap();
    let mut doc = Case::new_document("c1", "Shake", json!(rear_drive(2)));
    doc["zebra"] = json!({"kept": 1.50});
    doc["symptoms"] = json!([{"id": "S1", "kind": "vibration"}]);
    let mut s = store.scope(w).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "Maren").await.unwrap();
    s.commit().await.unwrap();
    (store, w, id)
}

fn edit(act: CaseAct) -> CaseEdit {
    CaseEdit::new(Uuid::now_v7(), "2026-11-29T08:00:00Z".parse().unwrap(), act)
}
fn maren() -> Author {
    Author::person("Maren", Role::Owner)
}
fn tove() -> Author {
    Author::person("Tove", Role::Mechanic)
}
fn title(t: &str) -> CaseAct {
    CaseAct::DescribeVehicle(Box::new(VehicleDescription { title: Some(t.into()), ..VehicleDescription::default() }))
}
fn answer(test: &str, at: &str, outcome: &str) -> CaseAct {
    let (symptom, at) = (Some("S1".into()), Some(at.into()));
    CaseAct::AnswerTest(Box::new(TestResult { symptom, test: test.into(), at, outcome: outcome.into(), ..TestResult::default() }))
}
fn finding(what: &str) -> CaseAct {
    CaseAct::ReportFinding(NewFinding { what: what.into(), at: None })
}
fn take_back(event: Uuid) -> CaseAct {
    CaseAct::TakeBack(TakenBack { event, of_another: false })
}

/// What became of each edit that was sent, in a word.
async fn send(s: &mut Scope, id: Uuid, by: &Author, sent: Vec<(CaseEdit, Option<i32>)>) -> Vec<String> {
    let sent = sent.into_iter().map(|(edit, base)| SentEdit { edit, base }).collect();
    let word = |o: Outcome| match o {
        Outcome::Applied { sequence, .. } => format!("applied {sequence}"),
        Outcome::Already { sequence } => format!("already {sequence}"),
        Outcome::Conflict(both) => format!("conflict with {}", both.theirs[0].person),
        Outcome::Refused(p) => p.code,
    };
    s.apply_edits(id, by, sent).await.unwrap().1.into_iter().map(word).collect()
}

#[tokio::test]
async fn an_edit_is_kept_once_and_a_document_keeps_what_is_not_known() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let e = edit(finding("hose chafed"));
    assert_eq!(send(&mut s, id, &maren(), vec![(e.clone(), None), (e.clone(), None)]).await, ["applied 2", "already 2"]);
    s.commit().await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    let other = CaseEdit { act: finding("hose fine"), ..e.clone() };
    assert_eq!(send(&mut s, id, &maren(), vec![(e, None), (other, None)]).await, ["already 2", "other-content"]);
    let c = s.case(id).await.unwrap();
    assert_eq!((c.version, c.case().found.len(), c.case().found[0].by.as_str()), (2, 1, "Maren"));
    assert!(c.document.text().contains(r#""zebra":{"kept":1.5}"#));
    // Nobody changes what was done.
    let changed = sqlx::query("UPDATE case_event SET what = 'else'").execute(store.pool()).await;
    assert!(changed.is_err_and(|e| e.to_string().contains("permission denied")));
}

#[tokio::test]
async fn edits_of_different_entries_never_collide_and_of_one_entry_both_are_shown() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let joint = answer("joint-wiggle", "prop.rear.j1", "play");
    assert_eq!(
        send(&mut s, id, &maren(), vec![(edit(joint.clone()), Some(1)), (edit(finding("x")), Some(1))]).await,
        ["applied 2", "applied 3"]
    );
    // The same test once more, and the vehicle, on what was seen before: nothing of it is the same entry.
    let sent = vec![(edit(joint), Some(1)), (edit(title("Tove's")), Some(1))];
    assert_eq!(send(&mut s, id, &tove(), sent).await, ["applied 4", "applied 5"]);
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(title("Maren's")), Some(3))]).await, ["conflict with Tove"]);
    assert_eq!(s.case(id).await.unwrap().case().title, "Tove's");
    match s.edit_case(id, &maren(), edit(title("Maren's")), Some(3)).await {
        Err(StoreError::Conflict(both)) => {
            assert_eq!((both.theirs.len(), both.theirs[0].person.as_str(), both.yours.by.as_str()), (1, "Tove", "Maren"));
        }
        other => panic!("{other:?}"),
    }
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(title("Maren's")), Some(5))]).await, ["applied 6"]);
    // What was taken back stands in nobody's way.
    let event = s.events(id, 5, 1).await.unwrap()[0].id;
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(take_back(event)), None)]).await, ["applied 7"]);
    assert_eq!(send(&mut s, id, &tove(), vec![(edit(title("Tove's second")), Some(5))]).await, ["applied 8"]);
}

#[tokio::test]
async fn an_edit_and_who_keeps_what_a_case_comes_to_never_wait_for_each_other() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    // The edit has the case; the board, which weighs it, waits.
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(CaseAct::Stand(Standing { on: On::Lift })), None)]).await, ["applied 2"]);
    let mut board = store.scope(w).await.unwrap();
    let weighing = tokio::spawn(async move {
        let knowledge = board.knowledge().await.unwrap();
        let n = board.weigh_board_again(&knowledge).await;
        board.commit().await.unwrap();
        n
    });
    let mut owner = sqlx::PgPool::connect_lazy(&format!("{}/postgres", base())).unwrap().acquire().await.unwrap();
    let waits =
        "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%waits_words FROM case_file%'";
    for _ in 0..200 {
        if sqlx::query_scalar::<_, i64>(waits).fetch_one(&mut *owner).await.unwrap() > 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    // What the case is found by is written now.
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(finding("hose chafed")), None)]).await, ["applied 3"]);
    s.commit().await.unwrap();
    assert_eq!(weighing.await.unwrap().unwrap(), [id]);
    let mut s = store.scope(w).await.unwrap();
    assert_eq!(s.case(id).await.unwrap().version, 3);
    assert_eq!(s.search(&["hose".to_string()], 9).await.unwrap().len(), 1);
}

#[tokio::test]
async fn what_is_taken_back_says_whose_and_what_needs_it() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let first = s.case(id).await.unwrap().case().clone();
    let chosen = ChosenRepair {
        fault: "joint-worn".into(),
        at: Some("prop.rear.j2".into()),
        symptom: Some("S1".into()),
        reason: Some("it is".into()),
        ..ChosenRepair::default()
    };
    let chose = edit(CaseAct::ChooseRepair(Box::new(chosen)));
    let repair = chose.entry_id();
    let details = RepairDetails { id: repair.clone(), marks: Some("two dots".into()), ..RepairDetails::default() };
    let planned = edit(CaseAct::PlanRepair(Box::new(details.clone())));
    let done = edit(CaseAct::FinishRepair(Box::new(RepairDetails { marks: None, ..details })));
    let judged = edit(CaseAct::JudgeRepair(Judgement { id: repair.clone(), result: "cured".into() }));
    let all = [&chose, &planned, &done, &judged].map(|e| (e.clone(), None)).to_vec();
    assert_eq!(send(&mut s, id, &maren(), all).await, ["applied 2", "applied 3", "applied 4", "applied 5"]);
    let back = |e: &CaseEdit| vec![(edit(take_back(e.id)), None)];
    assert_eq!(send(&mut s, id, &maren(), back(&chose)).await, ["needed"], "the plan and the verdict build on it");
    match s.edit_case(id, &maren(), edit(take_back(done.id)), None).await {
        Err(StoreError::Problem(p)) => {
            assert!(p.message.contains("verdict: cured") && p.message.contains("Maren"), "{}", p.message)
        }
        other => panic!("{other:?}"),
    }
    assert_eq!(send(&mut s, id, &tove(), back(&judged)).await, ["another-person"]);
    let all_the_same = CaseAct::TakeBack(TakenBack { event: judged.id, of_another: true });
    assert_eq!(send(&mut s, id, &tove(), vec![(edit(all_the_same), None)]).await, ["applied 6"]);
    assert_eq!(send(&mut s, id, &maren(), back(&judged)).await, ["taken-back"]);
    for e in [&done, &planned, &chose] {
        assert!(send(&mut s, id, &maren(), back(e)).await[0].starts_with("applied"));
    }
    assert_eq!(*s.case(id).await.unwrap().case(), first, "everything is as it was");
    let events = s.events(id, 0, 20).await.unwrap();
    assert_eq!((events.len(), events.iter().filter(|e| e.taken_back).count()), (9, 4), "nothing of the history is lost");
    assert_eq!(
        send(&mut s, id, &maren(), vec![(edit(take_back(events[8].id)), None)]).await,
        ["before-border"],
        "the opening stays"
    );
    assert_eq!(send(&mut s, id, &maren(), vec![(edit(take_back(Uuid::now_v7())), None)]).await, ["missing"]);
}

#[tokio::test]
async fn what_a_role_may_not_do_is_refused_also_in_an_edit() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let chosen = ChosenRepair {
        fault: "joint-worn".into(),
        at: Some("prop.rear.j2".into()),
        reason: Some("x".into()),
        ..ChosenRepair::default()
    };
    let buy = || edit(CaseAct::ChooseRepair(Box::new(chosen.clone())));
    for (role, want) in [(Role::Learner, "forbidden"), (Role::Viewer, "forbidden"), (Role::Mechanic, "applied 2")] {
        assert_eq!(send(&mut s, id, &Author::person("Ann", role), vec![(buy(), None)]).await, [want]);
    }
    let stand = || edit(CaseAct::Stand(Standing { on: On::Lift }));
    assert_eq!(send(&mut s, id, &Author::person("Ann", Role::Viewer), vec![(stand(), None)]).await, ["forbidden"]);
    assert_eq!(send(&mut s, id, &Author::person("Ann", Role::Learner), vec![(stand(), None)]).await, ["applied 3"]);
    assert_eq!(
        send(&mut s, id, &Author::program("the recorder"), vec![(buy(), None), (edit(CaseAct::Drove(Nothing {})), None)]).await,
        ["forbidden", "applied 4"]
    );
}

/// A history that goes out with its case comes in again, and goes on.
#[tokio::test]
async fn events_go_out_with_a_case_and_come_in_again() {
    let (store, w, id) = ground().await;
    let mut s = store.scope(w).await.unwrap();
    let found = edit(finding("hose chafed"));
    send(&mut s, id, &maren(), vec![(found.clone(), None), (edit(title("Hum")), None)]).await;
    send(&mut s, id, &maren(), vec![(edit(take_back(found.id)), None)]).await;
    let (events, document) = (s.export_events(id).await.unwrap(), s.case(id).await.unwrap().document.clone());
    let text = serde_json::to_string(&events).unwrap();
    let again = s.add_case_with(document, &serde_json::from_str::<Vec<_>>(&text).unwrap(), "imported", "Tove").await.unwrap();
    let history = s.events(again, 0, 10).await.unwrap();
    assert_eq!(
        history.iter().map(|e| e.what.as_str()).collect::<Vec<_>>()[..2],
        ["imported", "took back: found on the way: hose chafed"]
    );
    assert_eq!((history.len(), s.case(again).await.unwrap().version), (5, 5));
    // The title that was given before the case left is taken back here.
    assert_eq!(send(&mut s, again, &maren(), vec![(edit(take_back(history[2].id)), None)]).await, ["applied 6"]);
    assert_eq!(s.case(again).await.unwrap().case().title, "Shake");
    let mut torn = s.export_events(id).await.unwrap();
    torn.remove(1);
    let document = s.case(id).await.unwrap().document.clone();
    assert!(
        matches!(s.add_case_with(document, &torn, "imported", "Tove").await, Err(StoreError::Problem(p)) if p.code == "bad-events")
    );
}

/// Two cases as the program before this kept them: a dump of its own.
#[tokio::test]
async fn cases_from_before_edits_open_with_their_history_whole() {
    let owner = database().await;
    let all = sqlx::migrate!("./migrations");
    let before = all.iter().filter(|m| m.version < 12).cloned().collect::<Vec<_>>();
    let pool = sqlx::postgres::PgPoolOptions::new().max_connections(1).connect(&owner).await.unwrap();
    sqlx::migrate::Migrator { migrations: Cow::Owned(before), ..sqlx::migrate::Migrator::DEFAULT }.run(&pool).await.unwrap();
    let dump = include_str!("before_edits.sql");
    let workshop: Uuid = dump.split('\'').nth(1).and_then(|id| id.parse().ok()).expect("the workshop comes first");
    let mut c = pool.acquire().await.unwrap();
    c.execute(format!("SELECT set_config('app.workshop', '{workshop}', false)").as_str()).await.unwrap();
    c.execute(dump).await.unwrap();
    let steps: Vec<(Uuid, i32, String, String, bool)> =
        sqlx::query_as("SELECT case_id, version, what, person, undone FROM case_step ORDER BY case_id, version DESC")
            .fetch_all(&mut *c)
            .await
            .unwrap();
    let documents: Vec<(Uuid, String)> = sqlx::query_as("SELECT id, document FROM case_file").fetch_all(&mut *c).await.unwrap();
    drop(c);
    pool.close().await;
    assert!(steps.len() >= 18 && steps.iter().any(|s| s.4));

    Store::migrate(&owner).await.unwrap();
    let store = store(&owner).await;
    let mut s = store.scope(workshop).await.unwrap();
    for (id, document) in documents {
        let c = s.case(id).await.unwrap();
        assert_eq!(c.document.text(), document, "a case is as it was");
        let kept: Vec<_> =
            s.events(id, 0, 100).await.unwrap().into_iter().map(|e| (id, e.sequence, e.what, e.person, e.taken_back)).collect();
        let of_case: Vec<_> = steps.iter().filter(|s| s.0 == id).cloned().collect();
        assert_eq!(kept, of_case);
        // Undo stops at this border, and says so.
        let last = s.events(id, 0, 1).await.unwrap()[0].id;
        match s.edit_case(id, &maren(), edit(take_back(last)), None).await {
            Err(StoreError::Problem(p)) => {
                assert!(p.code == "before-border" && p.message.contains("correct it where it stands"), "{}", p.message)
            }
            other => panic!("{other:?}"),
        }
        // It goes on from there: old entries have ids by kind and place.
        let observed = c.case().observations.clone();
        assert_eq!(observed[0].id, "o1");
        assert_eq!(
            send(&mut s, id, &maren(), vec![(edit(answer("joint-wiggle", "prop.rear.j1", "play")), None)]).await,
            [format!("applied {}", c.version + 1)]
        );
        if let Some(found) = c.case().found.front() {
            assert_eq!(found.id, "f1");
            let settle = CaseAct::SettleFinding(EntryId { id: "f1".into() });
            assert_eq!(send(&mut s, id, &maren(), vec![(edit(settle), None)]).await, [format!("applied {}", c.version + 2)]);
            let now = s.case(id).await.unwrap();
            assert!(now.case().found[0].settled && now.case().observations.take(observed.len()) == observed);
        }
    }
}

/// What a case is found by follows its edits: what they add, what they take away, what it waits for.
#[tokio::test]
async fn a_case_is_found_by_what_is_said_in_it_now() {
    let (store, w, id) = ground().await;
    let found = async |words: &str| {
        let mut s = store.scope(w).await.unwrap();
        s.search(&[words.to_string()], 10).await.unwrap().len()
    };
    let make = async |act: CaseAct| {
        let mut s = store.scope(w).await.unwrap();
        let one = edit(act);
        let told = send(&mut s, id, &maren(), vec![(one.clone(), None)]).await;
        assert!(told[0].starts_with("applied"), "{told:?}");
        s.commit().await.unwrap();
        one.id
    };
    assert_eq!((found("shake").await, found("hose").await), (1, 0));
    let hose = make(finding("brake hose cracked")).await;
    make(finding("clip missing at the fuel line")).await;
    assert_eq!((found("hose").await, found("hoses").await, found("shake clip fuel").await), (1, 1, 1));
    make(take_back(hose)).await;
    assert_eq!((found("hose").await, found("clip").await, found("shake").await), (0, 1, 1));
    make(title("Buzz in the seat")).await;
    assert_eq!((found("shake").await, found("buzz clip").await), (0, 1));
    // It is found by what it waits for, once that was weighed; and by what is said, after it as before.
    let mut s = store.scope(w).await.unwrap();
    let knowledge = s.knowledge().await.unwrap();
    assert_eq!(s.weigh_board_again(&knowledge).await.unwrap(), [id]);
    s.commit().await.unwrap();
    let mut s = store.scope(w).await.unwrap();
    let waits = s.assessed(id).await.unwrap().assessment.next.words.clone();
    drop(s);
    assert_eq!(found(&format!("{waits} buzz")).await, 1, "{waits}");
    make(finding("rust at the cap")).await;
    assert_eq!(found(&format!("rust {waits}")).await, 1, "{waits}");
}
