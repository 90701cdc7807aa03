//! Nothing typed is lost: every form of the application is typed into, its tab is closed, and what was typed is there again.

use crate::support::{Browser, Ground, csv};
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::vehicle::sample;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";

/// Types into every form that is sent with what was typed, as an `input` of each field; says which forms those were and what stands in them.
const TYPE: &str = r#"
  const forms = [...document.querySelectorAll("form[method=post]")].filter((f) => !f.querySelector("[type=password]"));
  const fields = (f) => [...f.elements].filter((e) => e.name && e.matches("input:not([type=hidden]):not([type=file]):not([type=submit]), textarea, select"));
  const seen = {};
  for (const f of forms) {
    const groups = new Set();
    for (const e of fields(f)) {
      if (e.type === "radio") { if (groups.has(e.name)) continue; groups.add(e.name); const all = [...f.elements].filter((x) => x.name === e.name); (all.find((x) => !x.defaultChecked) || e).checked = true; }
      else if (e.type === "checkbox") e.checked = !e.defaultChecked;
      else if (e.tagName === "SELECT") e.selectedIndex = e.options.length - 1;
      else e.value = e.inputMode === "decimal" || e.inputMode === "numeric" ? "7" : "typed <b>here</b> & there";
      e.dispatchEvent(new Event("input", { bubbles: true }));
    }
  }
  return STATE;
"#;

/// What stands in the forms: for each its address, and for each typed field whether it is as it came.
const STATE: &str = r#"(() => {
  const forms = [...document.querySelectorAll("form[method=post]")].filter((f) => !f.querySelector("[type=password]"));
  const fields = (f) => [...f.elements].filter((e) => e.name && e.matches("input:not([type=hidden]):not([type=file]):not([type=submit]), textarea, select"));
  return forms.filter((f) => fields(f).length).map((f) => [f.getAttribute("action"), fields(f).map((e) => `${e.name}=${e.matches("[type=radio],[type=checkbox]") ? e.checked : e.value}`).join(";")]);
})()"#;

/// An address without what is of one case: `/cases/*/found`.
fn shape(action: &str) -> String {
    /// What follows these is a name.
    const HOLDERS: [&str; 15] = [
        "cases", "symptoms", "repairs", "found", "drives", "incoming", "measure", "test", "faults", "tests", "vehicles",
        "opinions", "tokens", "entries", "work-out",
    ];
    let mut out: Vec<String> = vec![];
    let mut entry = false;
    for part in action.split('?').next().unwrap_or_default().split('/') {
        let named = out.last().is_some_and(|last| HOLDERS.contains(&last.as_str()));
        out.push(if entry || named || part.contains('*') { "*".into() } else { part.to_string() });
        entry |= part == "entries";
    }
    out.join("/")
}

/// The addresses of all forms in the templates that something is typed into.
fn forms_in_templates() -> BTreeSet<String> {
    fn files(dir: &std::path::Path, out: &mut Vec<String>) {
        for entry in std::fs::read_dir(dir).unwrap().flatten() {
            match entry.path() {
                p if p.is_dir() => files(&p, out),
                p if p.extension().is_some_and(|x| x == "html") => out.push(std::fs::read_to_string(p).unwrap()),
                _ => {}
            }
        }
    }
    let mut texts = vec![];
    for dir in ["templates", "src"] {
        files(&std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(dir), &mut texts);
    }
    let mut out = BTreeSet::new();
    for text in texts {
        for form in text.split("<form ").skip(1) {
            let form = form.split("</form>").next().unwrap_or_default();
            let typed = form.contains("<textarea")
                || form.contains("<select")
                || form.contains("{% include")
                || form.contains("|safe")
                || form.split("<input").skip(1).any(|i| {
                    let i = i.split('>').next().unwrap_or_default();
                    !i.contains("type=\"hidden\"") && !i.contains("type=\"file\"")
                });
            if !typed || !form.contains("method=\"post\"") || form.contains("type=\"password\"") {
                continue;
            }
            let action = form.split("action=\"").nth(1).and_then(|a| a.split('"').next()).unwrap_or_default();
            // What is put in is a name; of two branches the first is taken.
            let (mut plain, mut rest, mut off) = (String::new(), action, false);
            while let Some(i) = rest.find('{') {
                if !off {
                    plain += &rest[..i];
                }
                let is_tag = rest[i..].starts_with("{%");
                let end = rest[i..].find(if is_tag { "%}" } else { "}}" }).map_or(rest.len(), |e| i + e + 2);
                match (is_tag, rest[i..end].contains("else"), rest[i..end].contains("endif")) {
                    (false, ..) if !off => plain.push('*'),
                    (true, true, _) => off = true,
                    (true, _, true) => off = false,
                    _ => {}
                }
                rest = &rest[end..];
            }
            if !off {
                plain += rest;
            }
            // The form of an instrument has its address from the page.
            let plain = if plain == "*" { "/cases/*/measure/*".into() } else { plain };
            out.insert(plain.strip_prefix("*/").map_or(plain.clone(), |p| format!("/vehicles/*/{p}")));
        }
    }
    out
}

/// A case that shows every form: a repair that is planned, answers, readings, attempts, findings, a run.
async fn case_with_all_forms(g: &Ground) -> Uuid {
    let id = g.full_case().await;
    g.changed_by("A", id, |d| {
        d["repairs"] = json!([{"id": "r1", "symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j2"}]);
        d["attempts"] = json!([{"id": "a1", "what": "new tyres", "trust": "bill"}]);
        d["found"] = json!([{"id": "f1", "what": "hose chafed", "by": "A"}]);
        d["notes"] = json!([{"id": "n1", "text": "owner needs it on Friday", "by": "A"}]);
        d["symptoms"][0]["condition"] = json!({"heard": "yes"});
        d["symptoms"] = json!([d["symptoms"][0], {"id": "S2", "kind": "growl", "words": "growls at the back"}]);
    })
    .await;
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_typed_into_any_form_is_there_again_after_the_tab_was_closed() {
    let g = Ground::new().await;
    let id = case_with_all_forms(&g).await;
    let done = g.full_case().await;
    let name = VehicleDescription { name: Some("Ferry tug".into()), ..VehicleDescription::default() };
    g.edited_by("A", done, CaseAct::DescribeVehicle(Box::new(name))).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let vehicle = {
        b.go(&format!("{}/vehicles", g.url)).await;
        let href = b.js("return [...document.querySelectorAll('main a')].map(a => a.getAttribute('href')).find(h => /^\\/vehicles\\/.+/.test(h))").await;
        href.as_str().map(String::from)
    };
    let mut pages: Vec<String> = [
        "complaint",
        "road",
        "lift",
        "lift?test=joint-wiggle&at=prop.rear.j1",
        "lift?test=joint-swing&at=prop.rear.j1",
        "lift/listen",
        "measure",
        "measure?tool=angles",
        "decide",
        "repair",
        "opinions",
        "part/prop.rear.j2",
        "test/wheel-rock",
        "test/lift-run",
        "entries/answer/o1",
        "entries/symptom/S1",
        "entries/reading/m1",
        "life",
        "entries/attempt/a1",
        "entries/finding/f1",
        "entries/run/R1",
        "entries/note/n1",
        "dimensions",
        "work-out/balance",
        "work-out/holding",
    ]
    .iter()
    .map(|p| format!("/cases/{id}/{p}"))
    .collect();
    pages.push(format!("/cases/{done}/prove"));
    // A link for somebody outside.
    b.go(&format!("{}/cases/{id}/opinions", g.url)).await;
    b.fill("form[action$='/opinions'] [name=question]", "Balance it?").await;
    b.click("form[action$='/opinions'] button").await;
    b.see("input[data-whole]").await;
    let link = b.js("return new URL(document.querySelector('input[data-whole]').value, location.href).pathname").await;
    pages.push(link.as_str().unwrap().to_string());
    // An upload that waits to be read.
    let c = g.client(Some(OWN)).await;
    let table = csv(&sample::rear_drive(2), "prop-imbalance@prop.rear.s2:0.6", 6);
    let brought = g.bring(&c, done, "other.csv", table.into_bytes(), None).await;
    pages.push(brought.headers()["location"].to_str().unwrap().to_string());
    pages.extend(["/knowledge", "/knowledge/procedures?e=procedure.joint-grease", "/tokens", "/cases/new"].map(String::from));
    pages.extend(vehicle);
    let mut walked: BTreeSet<String> = BTreeSet::new();
    for page in &pages {
        let url = format!("{}{page}", g.url);
        b.go(&url).await;
        b.see("body").await;
        let script = TYPE.replace("STATE", STATE);
        let typed = b.js(&script).await;
        tokio::time::sleep(std::time::Duration::from_millis(400)).await;
        // The tab is closed, and opened again.
        let old = b.web.window().await.unwrap();
        let new = b.web.new_tab().await.unwrap();
        b.web.close_window().await.unwrap();
        b.web.switch_to_window(new.clone()).await.unwrap();
        assert_ne!(format!("{old:?}"), format!("{new:?}"));
        b.go(&url).await;
        b.see("body").await;
        let back = b.js(&format!("return {STATE}")).await;
        assert_eq!(back, typed, "{page}");
        let told = b.js("return document.querySelectorAll('form > .draft-line').length").await.as_u64().unwrap();
        let forms = typed.as_array().unwrap();
        assert!(forms.is_empty() || told > 0, "{page} says that it is back");
        walked.extend(forms.iter().map(|f| shape(f[0].as_str().unwrap_or_default())));
        // Discarded, it is as it came.
        if told > 0 {
            b.js("document.querySelectorAll('form > .draft-line button').forEach((x) => x.click())").await;
            b.go(&url).await;
            assert_eq!(b.js("return document.querySelectorAll('form > .draft-line').length").await, 0, "{page}");
        }
    }
    let missing: Vec<String> = forms_in_templates().iter().map(|a| shape(a)).filter(|a| !walked.contains(a)).collect();
    assert_eq!(missing, Vec::<String>::new(), "walked {walked:#?}");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_belongs_to_who_typed_it_outlives_an_ended_session_and_is_gone_once_sent() {
    let g = Ground::new().await;
    let id = case_with_all_forms(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let page = format!("{}/cases/{id}/complaint", g.url);
    b.go(&page).await;
    b.js("document.querySelector('#tried').open = true").await;
    b.fill("#tried input[name=what]", "both rear hubs").await;
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    // The session ends while one types: what is sent leads to the sign-in, and after it everything is there.
    b.web.delete_cookie("baricord").await.unwrap();
    b.click("#tried form button.button").await;
    b.see("#password").await;
    // Another person does not see it.
    b.sign_in(&g, "a.two@harrowmere.example").await;
    b.go(&page).await;
    assert_eq!(b.js("return document.querySelector('#tried input[name=what]').value").await, "");
    b.sign_in(&g, OWN).await;
    b.go(&page).await;
    b.says("is back").await;
    assert_eq!(b.js("return document.querySelector('#tried input[name=what]').value").await, "both rear hubs");
    b.click("#tried form button.button:not([type=button])").await;
    b.says("both rear hubs").await;
    b.go(&page).await;
    assert_eq!(b.js("return document.querySelector('#tried input[name=what]').value").await, "");
    assert_eq!(g.document(id).await["attempts"][1]["what"], "both rear hubs");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_repair_plan_saves_by_itself_and_an_error_stands_at_its_field() {
    let g = Ground::new().await;
    let id = case_with_all_forms(&g).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/repair", g.url)).await;
    b.fill("form.plan input[name=note]", "bolts renewed").await;
    b.js("document.querySelector('form.plan input[name=note]').dispatchEvent(new Event('change', {bubbles: true}))").await;
    b.says("Saved ").await;
    assert_eq!(g.document(id).await["repairs"][0]["note"], "bolts renewed");
    // What does not fit yet is told and kept; what was saved stays.
    b.fill("form.plan input[name=torque-what]", "flange bolts").await;
    b.fill("form.plan input[name=torque-nm]", "seventy").await;
    b.js("document.querySelector('form.plan input[name=torque-nm]').dispatchEvent(new Event('change', {bubbles: true}))").await;
    b.says("Not saved yet: ").await;
    b.click("form.plan button[value=no]").await;
    let at = b.see("#field-error").await;
    assert!(at.text().await.unwrap().contains("seventy"), "the reader's words");
    assert_eq!(b.js("return document.activeElement.name").await, "torque-nm");
    assert_eq!(b.js("return document.querySelector('form.plan input[name=torque-nm]').value").await, "seventy");
    let seen = b.js("const r = document.getElementById('field-error').getBoundingClientRect(); return r.top >= 0 && r.bottom <= innerHeight").await;
    assert_eq!(seen, Value::Bool(true), "the page goes there");
    b.fill("form.plan input[name=torque-nm]", "70").await;
    assert_eq!(b.js("return document.getElementById('field-error')").await, Value::Null, "typed anew it is no error");
    b.fill("form.plan input[name=torque-source]", "workshop manual").await;
    b.click("form.plan button[value=no]").await;
    for _ in 0..100 {
        if g.document(id).await["repairs"][0]["torques"][0]["nm"] == 70 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(g.document(id).await["repairs"][0]["torques"][0]["source"], "workshop manual");
    b.end().await;
}
