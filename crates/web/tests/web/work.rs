//! Several jobs at once, work without a search, sizes that are others from a day on, notes.

use crate::support::{Browser, Ground};
use serde_json::{Value, json};

const OWN: &str = "a@harrowmere.example";

fn count(d: &Value, list: &str) -> usize {
    d[list].as_array().map_or(0, Vec::len)
}

#[tokio::test(flavor = "multi_thread")]
async fn two_repairs_and_work_without_a_search_are_open_side_by_side_until_each_is_judged() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let part = |at: &str| format!("{}/cases/{id}/part/{at}?s=S1", g.url);
    // From the part, two presses: a repair at two joints in one go.
    b.go(&part("prop.rear.j2")).await;
    b.js("[...document.querySelectorAll('.enter-here details')].forEach(d => { d.open = true; })").await;
    b.check("what is done at a part").await;
    b.click("form[action$='/work'] input[value='prop.rear.j3']").await;
    b.fill("form[action$='/work'] input[name=reason]", "both are worn").await;
    b.click("form[action$='/work'] button[value=repair]").await;
    let d = g.once(id, |d| count(d, "repairs") == 2).await;
    assert_eq!(d["repairs"][1]["places"], json!(["prop.rear.j3"]));
    // And work that no complaint asks for.
    b.go(&part("half.rl")).await;
    b.js("[...document.querySelectorAll('.enter-here details')].forEach(d => { d.open = true; })").await;
    b.click("form[action$='/tasks'] button.first").await;
    let d = g.once(id, |d| count(d, "repairs") == 3).await;
    assert!(d["repairs"][2]["task"] == "replace" && d["repairs"][2]["fault"].is_null(), "{}", d["repairs"][2]);
    b.go(&format!("{}/cases/{id}/repair?s=S1", g.url)).await;
    b.click("#other-work summary").await;
    b.fill("#other-work input[name=what]", "rear shock absorbers").await;
    b.click("#other-work button").await;
    let d = g.once(id, |d| count(d, "repairs") == 4).await;
    assert_eq!(d["repairs"][3]["what"], "rear shock absorbers");
    b.says("replace: rear shock absorbers").await;
    b.go(&format!("{}/cases/{id}/repair?s=S1", g.url)).await;
    let tabs = b.js("return document.querySelectorAll('nav.runs a').length").await;
    assert_eq!(tabs, 4);
    b.check("three jobs open").await;
    b.size(390, 844).await;
    b.check("three jobs open, on a phone").await;
    b.size(1280, 800).await;
    // The one is done; the others stay open.
    let second = d["repairs"][1]["id"].as_str().unwrap().to_string();
    b.go(&format!("{}/cases/{id}/repair?s=S1&r={second}", g.url)).await;
    b.fill("input[name=marks]", "one punch at the pinion, two at the gearbox").await;
    b.click("form.plan button[value=yes]").await;
    let d = g.once(id, |d| d["repairs"][1]["result"] == "open").await;
    assert!(d["repairs"][2]["result"].is_null() && d["repairs"][0]["result"] == "open");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn another_length_is_the_vehicles_from_now_on_and_what_was_read_says_so() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let was = g.document(id).await["vehicle"]["props"][0]["sections"][1]["length_mm"].as_f64().unwrap();
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/repair?s=S1", g.url)).await;
    b.click("a[href*='/dimensions']").await;
    b.says("What work has changed").await;
    b.check("changed sizes").await;
    b.size(390, 844).await;
    b.check("changed sizes on a phone").await;
    b.size(1280, 800).await;
    b.fill("input[name=length0_1]", &format!("{}", was - 20.0)).await;
    b.click("form.mend button.first").await;
    b.says("Measure or check again").await;
    let d = g.once(id, |d| count(d, "dimension_changes") == 1).await;
    assert_eq!(d["vehicle"]["props"][0]["sections"][1]["length_mm"].as_f64(), Some(was - 20.0));
    let change = &d["dimension_changes"][0];
    assert_eq!(change["changed"], json!([{"of": "length", "at": "prop.rear.s2"}]));
    assert_eq!(change["before"]["props"][0]["sections"][1]["length_mm"].as_f64(), Some(was));
    // The reading at that section is opened from there, and says why.
    b.click(".entries a[href*='/entries/reading/']").await;
    b.says("changed since: ").await;
    b.check("a reading to be made again").await;
    // Nothing changed is no change.
    b.go(&format!("{}/cases/{id}/dimensions?s=S1", g.url)).await;
    b.click("form.mend button.first").await;
    b.says("nothing here differs").await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_note_is_written_at_a_part_or_out_of_what_was_said_and_mended() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    g.changed_by("A", id, |d| d["symptoms"][0]["words"] = "it buzzes. Owner needs it on Friday".into()).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/part/prop.rear.j2?s=S1", g.url)).await;
    b.js("[...document.querySelectorAll('.enter-here details')].forEach(d => { d.open = true; })").await;
    b.fill("form[action$='/notes'] textarea", "bolts are new").await;
    b.click("form[action$='/notes'] button").await;
    b.says("bolts are new").await;
    let d = g.once(id, |d| count(d, "notes") == 1).await;
    assert_eq!(d["notes"][0]["at"], "prop.rear.j2");
    b.go(&format!("{}/cases/{id}/complaint?s=S1", g.url)).await;
    b.js("document.querySelectorAll('details.said').forEach(d => { d.open = true; })").await;
    b.click(".said-row form[action$='/notes'] button").await;
    let d = g.once(id, |d| count(d, "notes") == 2).await;
    assert_eq!(d["notes"][1]["text"], "Owner needs it on Friday");
    let note = d["notes"][1]["id"].as_str().unwrap().to_string();
    b.go(&format!("{}/cases/{id}/entries/note/{note}?s=S1", g.url)).await;
    b.check("a note, opened").await;
    // It saves by itself once its field is left.
    b.fill("form.mend textarea", "Owner needs it on Saturday").await;
    b.click("form.mend select").await;
    b.says("Saved ").await;
    g.once(id, |d| d["notes"][1]["text"] == "Owner needs it on Saturday").await;
    b.go(&format!("{}/cases/{id}/entries/note/{note}?s=S1", g.url)).await;
    b.click(".take-out button").await;
    g.once(id, |d| count(d, "notes") == 1).await;
    b.end().await;
}
