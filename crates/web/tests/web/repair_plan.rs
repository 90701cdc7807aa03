//! The repair plan on its page: steps ticked and opened again, what must come first, another way in, put back unrepaired; the same by HTTP.

use crate::support::{Browser, Ground};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::vehicle::sample;
use serde_json::{Value, json};
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";
const VIEWER: &str = "a.look@harrowmere.example";

async fn case_with(g: &Ground, repairs: Value) -> Uuid {
    let mut doc = Case::new_document("boots", "Post car: clicks in bends", json!(sample::front_drive()));
    doc["symptoms"] = json!([{"id": "S1", "kind": "click-repeating", "words": "clicks"}]);
    doc["repairs"] = repairs;
    let mut s = g.store.scope(g.a).await.unwrap();
    let id = s.add_case(CaseDocument::read(doc).unwrap(), "opened", "A").await.unwrap();
    s.commit().await.unwrap();
    id
}

fn done(d: &Value) -> usize {
    d["repairs"][0]["done"].as_array().map_or(0, Vec::len)
}

#[tokio::test(flavor = "multi_thread")]
async fn steps_are_ticked_in_an_order_that_holds_the_vehicle_and_opened_again() {
    let g = Ground::new().await;
    let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": "outer-joint-worn", "at": "half.fl.outer"}])).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let page = format!("{}/cases/{id}/repair?s=S1", g.url);
    b.go(&page).await;
    b.check("the repair plan").await;
    let steps = "return document.querySelectorAll('.stretch-list li').length";
    let all = b.js(steps).await.as_u64().unwrap();
    assert!(all > 50, "{all}");
    // What is off stands lifted out, what is open is a ring, what stays down is chocked.
    for (css, what) in [(".sheet-wide .lifted", "lifted"), (".sheet-wide .opening", "open"), (".sheet-wide .chock", "chocks")] {
        let n = b.js(&format!("return document.querySelectorAll('{css}').length")).await.as_u64().unwrap();
        assert!(n > 0, "{what}");
    }
    // A ball joint is not undone before the vehicle is held: the page says what comes first.
    b.js("document.querySelector('.tick-step[value*=\"hub-out.pinch@hub.fl\"]').click()").await;
    b.says("first:").await;
    assert_eq!(done(&g.document(id).await), 0);
    // Nobody has looked up a torque: it is said before the first bolt, and work begins only with a reason.
    b.go(&page).await;
    b.key("d").await;
    b.says("not ready: torque of").await;
    assert_eq!(done(&g.document(id).await), 0);
    b.go(&page).await;
    b.fill(".not-ready input", "figures are on the wall chart").await;
    b.click(".tick-next button").await;
    g.once(id, |d| d["repairs"][0]["done"][0]["without"] == "figures are on the wall chart").await;
    b.go(&page).await;
    for n in 2..=4 {
        b.key("d").await;
        g.once(id, |d| done(d) == n).await;
        b.go(&page).await;
    }
    assert_eq!(b.js(steps).await.as_u64().unwrap(), all - 4);
    b.click(".done-steps summary").await;
    b.check("steps that are done").await;
    b.click(".done-steps li:last-child button").await;
    g.once(id, |d| done(d) == 3).await;
    b.size(390, 844).await;
    b.go(&page).await;
    b.check("the repair plan on a phone").await;
    b.size(1280, 800).await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn another_way_in_a_boot_that_is_asked_for_and_put_back_unrepaired() {
    let g = Ground::new().await;
    let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": "boot-leaking", "at": "half.fl"}])).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let page = format!("{}/cases/{id}/repair?s=S1", g.url);
    b.go(&page).await;
    b.says("which boot leaks").await;
    b.click(".ask-plan button[value=outer]").await;
    g.once(id, |d| d["repairs"][0]["boot"] == "outer").await;
    b.go(&page).await;
    let minutes = "return document.querySelector('.plan-sum .huge').textContent";
    let usual = b.js(minutes).await;
    b.click(".way-in button[value=shaft-stays-in]").await;
    g.once(id, |d| d["repairs"][0]["way"] == "shaft-stays-in").await;
    b.go(&page).await;
    assert_ne!(b.js(minutes).await, usual);
    b.check("another way in").await;
    // Begun, it can be put back as it was: only what was undone is done up.
    let order = "return [...document.querySelectorAll('.tick-step')].map(x => x.value)";
    let values: Vec<String> = serde_json::from_value(b.js(order).await).unwrap();
    let c = g.client(Some(OWN)).await;
    let off = values.iter().position(|v| v.contains(" wheel.off@wheel.fl")).unwrap();
    for v in &values[..=off] {
        let r = g.post_form(&c, &format!("/cases/{id}/steps?s=S1"), &[("done", v), ("without", "as agreed")]).await;
        assert!(r.status().is_success() || r.status().is_redirection(), "{v}: {}", r.status());
    }
    b.go(&format!("{page}&back=yes")).await;
    b.says("put back unrepaired").await;
    let left: Vec<String> = serde_json::from_value(b.js(order).await).unwrap();
    let has = |name: &str| left.iter().any(|v| v.contains(name));
    assert!(has("wheel.on@wheel.fl") && has("wheel.torque@wheel.fl") && !has("axle-nut") && !has("boot-outer"), "{left:#?}");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_lies_ready_is_noted_and_sizes_and_torques_are_written_once() {
    let g = Ground::new().await;
    let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": "outer-joint-worn", "at": "half.fl.outer"}])).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let page = format!("{}/cases/{id}/repair?s=S1", g.url);
    b.go(&page).await;
    // A part that has not come stops the first bolt; a borrowed tool goes back to its lender.
    let pick = |what: &str| format!("document.querySelector('#elsewhere select').value = '{what}'");
    b.click("#elsewhere summary").await;
    b.js(&pick("axle nut")).await;
    b.fill("#elsewhere input[name=from]", "north store").await;
    b.fill("#elsewhere input[name=when]", "Thursday").await;
    b.click("#elsewhere button[value=awaited]").await;
    g.once(id, |d| d["kit_notes"][0]["state"] == "awaited").await;
    b.go(&page).await;
    b.says("axle nut is awaited from north store").await;
    b.click("#elsewhere summary").await;
    b.js(&pick("boot clamp pliers")).await;
    b.fill("#elsewhere input[name=from]", "the ferry yard").await;
    b.click("#elsewhere button[value=borrowed]").await;
    g.once(id, |d| d["kit_notes"][1]["state"] == "borrowed").await;
    b.go(&page).await;
    b.says("boot clamp pliers, back to the ferry yard").await;
    b.check("what lies ready").await;
    b.click(".awaited li:first-child button").await;
    g.once(id, |d| d["kit_notes"].as_array().map_or(0, Vec::len) == 1).await;
    // The size of the nut is written once; its socket is on the list.
    b.go(&page).await;
    let of = |name: &str| {
        format!(
            "[...document.querySelectorAll('.torque')].find(r => r.querySelector('[name=torque-what]').value === 'axle nut').querySelector('[name={name}]')"
        )
    };
    b.js(&format!(
        "{}.value = '1 7/16 in'; {}.value = '210'; {}.value = 'manual, p. 9'",
        of("torque-drive"),
        of("torque-nm"),
        of("torque-source")
    ))
    .await;
    b.click("form.plan button[value=no]").await;
    g.once(id, |d| d["repairs"][0]["torques"][0]["drive_mm"] == 36.51).await;
    b.go(&page).await;
    b.says("36.51 (1 7/16)").await;
    // A day and a time of the reader's own clock.
    b.click("#deadline summary").await;
    b.js("const i = document.querySelector('#deadline [name=due]'); i.value = '2026-12-04T16:00'; i.dispatchEvent(new Event('input', {bubbles: true}))").await;
    let behind = b.js("return new Date('2026-12-04T16:00').getTimezoneOffset()").await.as_i64().unwrap();
    b.click("#deadline button").await;
    let due = (jiff::tz::TimeZone::UTC.to_timestamp(jiff::civil::date(2026, 12, 4).at(16, 0, 0, 0)).unwrap()
        + jiff::SignedDuration::from_mins(behind))
    .to_string();
    g.once(id, |d| d["due"] == due.as_str()).await;
    b.go(&page).await;
    b.says("begin by").await;
    let c = g.client(Some(OWN)).await;
    let fields = [("due", "Friday")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/deadline"), &fields).await.status(), 422);
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_longest_plan_prints_on_one_sheet() {
    let g = Ground::new().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    for (fault, at) in [("transaxle-internal", "gearbox"), ("outer-joint-worn", "half.fl.outer"), ("wheel-loose", "wheel.fl")] {
        let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": fault, "at": at}])).await;
        b.go(&format!("{}/cases/{id}/repair?s=S1", g.url)).await;
        assert_eq!(b.printed_sheets().await, 1, "{fault}");
    }
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_viewer_reads_the_plan_and_ticks_nothing() {
    let g = Ground::new().await;
    let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": "outer-joint-worn", "at": "half.fl.outer"}])).await;
    let c = g.client(Some(VIEWER)).await;
    let page = g.get(&c, &format!("/cases/{id}/repair?s=S1")).await.text().await.unwrap();
    assert!(page.contains("stretch-list") && !page.contains("tick-step") && !page.contains("name=\"way\""));
    let fields = [("done", "P1 ready@half.fl.outer")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/steps"), &fields).await.status(), 403);
    let fields = [("way", "shaft-stays-in")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/repairs/P1/how"), &fields).await.status(), 403);
    assert_eq!(done(&g.document(id).await), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_workshop_does_it_its_own_way_and_says_whose_school_that_is() {
    let g = Ground::new().await;
    let id = case_with(&g, json!([{"id": "P1", "symptom": "S1", "fault": "wheel-loose", "at": "wheel.fl"}])).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/knowledge/procedures?e=procedure.wheel-refit", g.url)).await;
    b.check("a procedure").await;
    b.js(
        "const t = [...document.querySelectorAll('.entry-form textarea')].find(t => t.value.includes('brushed bare')); t.value = t.value.replace('brushed bare', 'wiped dry, by the house rule')",
    )
    .await;
    b.click(".entry-form .fold summary").await;
    b.fill("input[name=new-what]", "Look for a crack between the studs of the {at}").await;
    b.fill(".entry-form input[name=school]", "ferry workshop manual, 4.2").await;
    b.fill(".entry-form input[name=why]", "brushes ruined the plating").await;
    b.click(".entry-form > .buttons .button").await;
    b.says("our own way").await;
    b.size(390, 844).await;
    b.check("a procedure on a phone").await;
    let c = g.client(Some(OWN)).await;
    let page = format!("/cases/{id}/repair?s=S1");
    let plan = g.get(&c, &page).await.text().await.unwrap();
    assert!(plan.contains("wiped dry, by the house rule") && plan.contains("Look for a crack between the studs"), "{plan}");
    // Another way is added beside the usual one, compared on Repair, and taken out again.
    b.size(1280, 800).await;
    b.go(&format!("{}/knowledge/procedures?e=procedure.wheel-refit", g.url)).await;
    b.click("details:has(input[name=differs]) summary").await;
    b.fill("input[name=differs]", "with the seats cleaned twice").await;
    b.fill("details:has(input[name=differs]) input[name=school]", "our own count").await;
    b.fill("details:has(input[name=differs]) input[name=why]", "salt from the ferry").await;
    b.click("details:has(input[name=differs]) .button").await;
    b.says("wheel refit: with the seats cleaned twice").await;
    assert!(g.get(&c, &page).await.text().await.unwrap().contains("with the seats cleaned twice"));
    let key = "procedure.wheel-refit.own-with-the-seats-cleaned";
    assert!(g.get(&c, "/knowledge/procedures").await.text().await.unwrap().contains(key));
    let r = g.post_form(&c, "/knowledge/procedures", &[("entry", key), ("back", "yes")]).await;
    assert!(r.status().is_success() || r.status().is_redirection());
    assert!(!g.get(&c, "/knowledge/procedures").await.text().await.unwrap().contains(key));
    // What does not read is refused, and nothing is lost of what was there.
    let fields = [("entry", "procedure.wheel-refit"), ("text", "[[procedure]]"), ("school", "x"), ("why", "y")];
    assert_eq!(g.post_form(&c, "/knowledge/procedures", &fields).await.status(), 422);
    let look = g.client(Some(VIEWER)).await;
    assert_eq!(
        g.post_form(&look, "/knowledge/procedures", &[("entry", "procedure.wheel-refit"), ("back", "yes")]).await.status(),
        403
    );
    let r = g.post_form(&c, "/knowledge/procedures", &[("entry", "procedure.wheel-refit"), ("back", "yes")]).await;
    assert!(r.status().is_success() || r.status().is_redirection());
    assert!(g.get(&c, &page).await.text().await.unwrap().contains("brushed bare"));
    b.end().await;
}
