//! A case as a whole, and how it begins: when it comes is asked first; a case is put away, deleted, moved, of another driveline.

use crate::support::{Browser, Ground};
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::vehicle::Tyre;
use serde_json::json;
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";

#[tokio::test(flavor = "multi_thread")]
async fn the_intake_asks_when_first_and_a_sentence_becomes_an_answer_with_one_press() {
    let g = Ground::new().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/new", g.url)).await;
    b.fill("#title", "Tug: clonk").await;
    b.click("button.layout[value='4x4-free-hubs']").await;
    b.says("When does it come?").await;
    b.check("the intake").await;
    b.size(390, 844).await;
    b.check("the intake on a phone").await;
    b.size(1280, 800).await;
    let first = b.js("return document.querySelector('#symptom fieldset legend').textContent").await;
    assert_eq!(first, "When does it come?");
    b.click("#symptom input[value='on-and-off']").await;
    b.click("#symptom input[value='axle-engaged']").await;
    b.fill("#symptom textarea[name=words]", "A clunk when lifting off the throttle. Smells of oil after rain").await;
    b.click("#symptom input[name=kind][value=clunk]").await;
    b.click("#symptom ~ button.first, #symptom button.first").await;
    b.see(".ledger").await;
    let id: Uuid = {
        b.says("Road").await;
        let path = b.js("return location.pathname").await;
        path.as_str().unwrap().split('/').nth(2).unwrap().parse().unwrap()
    };
    // The stations stood there before: the symptom is waited for.
    let d = g.once(id, |d| d["symptoms"][0]["condition"]["load"] == "change").await;
    let told = &d["observations"][0];
    assert_eq!((&told["test"], &told["source"]), (&json!("axle-engage"), &json!("driver")));
    assert!(d["state"].is_null(), "what is told moves no vehicle");
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.js("document.querySelectorAll('details.said').forEach(d => { d.open = true; })").await;
    b.check("sentences of the driver").await;
    b.click(".said-row form[action$='/observations'] button").await;
    b.says("Complaint").await;
    let d = g.once(id, |d| d["observations"].as_array().unwrap().len() == 2).await;
    let said = &d["observations"][1];
    assert_eq!((&said["outcome"], &said["source"], &said["symptom"]), (&json!("clunk"), &json!("driver"), &json!("S1")));
    b.js("document.querySelectorAll('details.said').forEach(d => { d.open = true; })").await;
    b.click(".said-row:last-of-type form[action$='/found'] button").await;
    b.says("Also found").await;
    let d = g.once(id, |d| d["found"].as_array().is_some_and(|f| !f.is_empty())).await;
    assert_eq!(d["found"][0]["what"], "Smells of oil after rain");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_case_is_put_away_and_comes_back_and_only_an_owner_deletes_it_by_its_name() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let page = async |path: &str| g.get(&c, path).await.text().await.unwrap();
    let of = |path: &str| format!("/cases/{id}{path}");
    assert!(page("/").await.contains("Mail van 4: buzz"));
    assert_eq!(g.post_form(&c, &of("/archive"), &[("archived", "yes")]).await.status(), 303);
    assert!(!page("/").await.contains("Mail van 4: buzz"));
    assert!(page("/archive").await.contains("Mail van 4: buzz"));
    let found = page("/?q=buzz").await;
    assert!(found.contains("Mail van 4: buzz") && found.contains("put away"), "it is found");
    assert_eq!(g.post_form(&c, &of("/archive"), &[("archived", "no")]).await.status(), 303);
    assert!(page("/").await.contains("Mail van 4: buzz"));
    // Deleted by its owner, by its name; another workshop has no such case.
    let (learner, other) = (g.client(Some("a.learns@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let name = [("title", "Mail van 4: buzz")];
    assert_eq!(g.post_form(&learner, &of("/delete"), &name).await.status(), 403);
    for path in ["/delete", "/archive", "/move", "/layout"] {
        let fields = [("title", "Mail van 4: buzz"), ("archived", "yes"), ("layout", "electric"), ("vehicle", "x")];
        let status = g.post_form(&other, &of(path), &fields).await.status().as_u16();
        assert!(status == 404 || path == "/move" && status == 422, "{path} {status}");
    }
    assert_eq!(g.post_form(&c, &of("/delete"), &[("title", "Mail van")]).await.status(), 422);
    assert!(page(&of("/life")).await.contains("Delete this case"));
    assert_eq!(g.post_form(&c, &of("/delete"), &name).await.status(), 303);
    for path in ["/complaint", "/decide", "/entries", "/export.zip", "/life"] {
        assert_eq!(g.get(&c, &of(path)).await.status(), 404, "{path}");
    }
    assert!(!page("/").await.contains("Mail van 4: buzz"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_case_moves_to_the_vehicle_that_it_is_of_and_a_wrong_driveline_is_corrected() {
    let g = Ground::new().await;
    let (id, other) = (g.full_case().await, g.full_case().await);
    let tyre = Tyre { size: Some("33x12.50R15LT".into()), ..Tyre::default() };
    let tug = VehicleDescription { name: Some("Ferry tug".into()), tyre: Some(tyre), ..VehicleDescription::default() };
    g.edited_by("A", other, CaseAct::DescribeVehicle(Box::new(tug))).await;
    let c = g.client(Some(OWN)).await;
    let of = |path: &str| format!("/cases/{id}{path}");
    let life = g.get(&c, &of("/life")).await.text().await.unwrap();
    let tug = life.split("<option value=\"").find(|o| o.contains(">Ferry tug<")).unwrap().split('"').next().unwrap().to_string();
    assert_eq!(g.post_form(&c, &of("/move"), &[("vehicle", &tug)]).await.status(), 303);
    let d = g.document(id).await;
    assert_eq!((&d["vehicle"]["name"], &d["vehicle"]["tyre"]["size"]), (&json!("Ferry tug"), &json!("33x12.50R15LT")));
    let history = g.get(&c, &format!("/vehicles/{tug}")).await.text().await.unwrap();
    assert_eq!(history.matches("Mail van 4: buzz").count(), 2, "both are in its history");
    assert_eq!(g.post_form(&c, &of("/layout"), &[("layout", "fwd-manual")]).await.status(), 303);
    let d = g.document(id).await;
    assert_eq!((&d["vehicle"]["name"], d["vehicle"]["gearbox"]["transaxle"].as_bool()), (&json!("Ferry tug"), Some(true)));
    assert_eq!(d["observations"].as_array().unwrap().len(), 1, "what was seen stays");
    assert_eq!(g.get(&c, &of("/decide")).await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn in_a_browser_a_case_is_put_away_brought_back_corrected_moved_and_deleted() {
    let g = Ground::new().await;
    let (id, other) = (g.full_case().await, g.full_case().await);
    let name = |n: &str| VehicleDescription {
        name: Some(n.into()),
        title: Some(format!("{n}: clonk")),
        ..VehicleDescription::default()
    };
    g.edited_by("A", other, CaseAct::DescribeVehicle(Box::new(name("Ferry tug")))).await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    let life = format!("{}/cases/{id}/life", g.url);
    b.go(&life).await;
    b.check("the case itself").await;
    b.size(390, 844).await;
    b.check("the case itself on a phone").await;
    b.size(1280, 800).await;
    b.click("form[action$='/archive'] button[value=yes]").await;
    b.see("main.board").await;
    b.says("Ferry tug: clonk").await;
    assert!(!b.text().await.contains("Mail van 4: buzz"));
    b.go(&life).await;
    b.click("form[action$='/archive'] button[value=no]").await;
    // Going on before it was answered would take the press back.
    while g.store.scope(g.a).await.unwrap().is_archived(id).await.unwrap() {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    b.go(&g.url).await;
    b.says("Mail van 4: buzz").await;
    // The driveline was chosen wrongly; then it is another vehicle.
    b.go(&life).await;
    b.js("document.querySelector('form[action$=\"/layout\"] select').value = 'fwd-manual'").await;
    b.click("form[action$='/layout'] button").await;
    g.once(id, |d| d["vehicle"]["gearbox"]["transaxle"] == true).await;
    b.go(&life).await;
    b.js("const s = document.querySelector('form[action$=\"/move\"] select'); s.value = [...s.options].find((o) => o.text === 'Ferry tug').value").await;
    b.click("form[action$='/move'] button").await;
    g.once(id, |d| d["vehicle"]["name"] == "Ferry tug").await;
    // Deleted by its name alone.
    b.go(&life).await;
    b.fill("form[action$='/delete'] input[name=title]", "Mail van").await;
    b.click("form[action$='/delete'] button").await;
    b.see("form[action$='/delete'] [aria-invalid]").await;
    b.fill("form[action$='/delete'] input[name=title]", "Mail van 4: buzz").await;
    b.click("form[action$='/delete'] button").await;
    b.see("main.board").await;
    let c = g.client(Some(OWN)).await;
    assert_eq!(g.get(&c, &format!("/cases/{id}/decide")).await.status(), 404);
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn in_a_browser_what_is_seldom_fitted_is_said_of_the_vehicle_and_what_is_unknown_says_its_cost() {
    let g = Ground::new().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/new", g.url)).await;
    b.fill("#title", "Tug: clonk").await;
    b.click("button.layout[value='4x4-free-hubs']").await;
    b.says("When does it come?").await;
    let path = b.js("return location.pathname").await;
    let id: Uuid = path.as_str().unwrap().split('/').nth(2).unwrap().parse().unwrap();
    let set = |name: &str, value: &str| {
        format!(
            "{{ const e = document.querySelector('#vehicle [name=\"{name}\"]'); e.value = '{value}'; e.dispatchEvent(new Event('input', {{ bubbles: true }})); }}"
        )
    };
    let ends = b.js("return [...document.querySelectorAll('#vehicle legend')].map((l) => l.textContent)").await;
    let rear = usize::from(
        ends.as_array()
            .unwrap()
            .iter()
            .filter_map(|l| l.as_str())
            .filter(|l| l.ends_with(" axle"))
            .position(|l| l == "rear axle")
            == Some(1),
    );
    let front = 1 - rear;
    let fields = [
        ("tyre".to_string(), "33x12.50R15LT"),
        (format!("tyre{front}"), "31x10.50R15LT"),
        ("motor".into(), "yes"),
        ("front-drive".into(), "full-time"),
        (format!("hubs{front}"), "yes"),
        (format!("floating{rear}"), "full"),
        (format!("slip{rear}"), "yes"),
        (format!("ring{rear}"), ""),
        (format!("pinion{rear}"), ""),
        (format!("ratio{rear}"), ""),
        ("bearing-hub.rl".into(), "6310"),
    ];
    b.js(&fields.iter().map(|(n, v)| set(n, v)).collect::<String>()).await;
    b.check("a vehicle with everything that is seldom fitted").await;
    b.js("document.querySelector('button[formaction$=\"/vehicle\"]').click()").await;
    let d = g.once(id, |d| d["vehicle"]["tyre"]["size"] == "33x12.50R15LT").await;
    let v = &d["vehicle"];
    let axle = |end: &str| v["axles"].as_array().unwrap().iter().find(|a| a["end"] == end).unwrap().clone();
    assert_eq!(axle("front")["tyre"]["size"], "31x10.50R15LT");
    assert_eq!((&axle("front")["free_hubs"], &v["transfer"]["front_drive"]), (&json!(true), &json!("full-time")));
    assert_eq!((&axle("rear")["floating"], &axle("rear")["limited_slip"]), (&json!("full"), &json!(true)));
    assert!(v["motor"].is_object() && axle("rear")["ring_teeth"].is_null(), "{v}");
    assert!(v["bearings"].as_array().unwrap().iter().any(|x| x["at"] == "hub.rl" && x["number"] == "6310"), "{v}");
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.says("Ratio not known").await;
    b.end().await;
}
