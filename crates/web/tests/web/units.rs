//! Each person reads and types in their own units: what was typed is kept, what nobody touched stays exactly what it was.

use crate::support::{Browser, Ground};
use baricord_core::edit::act::CaseAct;
use serde_json::json;
use uuid::Uuid;

const OWN: &str = "a@harrowmere.example";
const OTHER: &str = "a.two@harrowmere.example";

async fn reads_inches(g: &Ground, email: &str) -> reqwest::Client {
    let c = g.client(Some(email)).await;
    assert_eq!(g.post_form(&c, "/preferences", &[("units", "imperial"), ("back", "/")]).await.status(), 303);
    c
}

async fn page(g: &Ground, c: &reqwest::Client, path: &str) -> String {
    g.get(c, path).await.text().await.unwrap()
}

/// The value of a field of a page, and of what it says it showed.
fn field(html: &str, name: &str) -> (String, String) {
    let value = |of: &str| {
        let at = html.split(&format!("name=\"{of}\"")).nth(1).and_then(|rest| rest.split('>').next());
        let text = at.and_then(|tag| tag.split("value=\"").nth(1)).and_then(|v| v.split('"').next());
        text.unwrap_or_default().to_string()
    };
    (value(name), value(&format!("was.{name}")))
}

#[tokio::test(flavor = "multi_thread")]
async fn one_reads_inches_and_the_other_millimetres_of_the_same_case() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let of = |p: &str| format!("/cases/{id}/{p}");
    let (inch, metric) = (reads_inches(&g, OWN).await, g.client(Some(OTHER)).await);
    let (there, here) = (page(&g, &inch, &of("complaint")).await, page(&g, &metric, &of("complaint")).await);
    assert!(there.contains("worst at 59 mph") && !there.contains("worst at 95 km/h"), "95 km/h");
    assert!(here.contains("worst at 95 km/h") && !here.contains("59 mph"));
    // No figure is left metric on any page; the words of people are.
    let act = json!({"add-note": {"text": "shakes at 90 km/h, 3 mm play"}});
    g.edited_by("A", id, serde_json::from_value(act).unwrap()).await;
    for p in [
        "complaint",
        "road",
        "lift",
        "measure",
        "measure?tool=angles",
        "decide",
        "repair",
        "prove",
        "history",
        "print",
        "entries",
        "life",
        "dimensions",
    ] {
        let html = page(&g, &inch, &of(p)).await;
        let said = html.replace("shakes at 90 km/h, 3 mm play", "");
        let text = visible(&said);
        for unit in [" km/h", " mm", " N·m", " km", " °C"] {
            let left = text.match_indices(unit).find(|(i, _)| {
                let before = text[..*i].chars().next_back();
                let after = text[i + unit.len()..].chars().next();
                before.is_some_and(|c| c.is_ascii_digit()) && !after.is_some_and(char::is_alphanumeric)
            });
            assert!(left.is_none(), "{p}: …{}…", &text[left.unwrap().0.saturating_sub(60)..left.unwrap().0 + 8]);
        }
    }
    assert!(page(&g, &inch, &of("complaint")).await.contains("shakes at 90 km/h, 3 mm play"));
}

/// What of a page is read.
fn visible(html: &str) -> String {
    let mut out = String::new();
    let mut rest = html;
    while let Some(i) = rest.find('<') {
        out += &rest[..i];
        let end = match rest[i..].starts_with("<script") {
            true => rest[i..].find("</script>").map_or(rest.len(), |e| i + e + 9),
            false => rest[i..].find('>').map_or(rest.len(), |e| i + e + 1),
        };
        rest = &rest[end..];
    }
    out + rest
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_in_inches_is_kept_and_what_nobody_touched_stays() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.click("button[data-other-units]").await;
    b.see("button[data-other-units][value=metric]").await;
    b.js("document.querySelector('#vehicle').open = true").await;
    b.check("the vehicle in inches").await;
    let was = g.document(id).await["vehicle"].clone();
    b.fill("input[name=length0_0]", "46 1/4").await;
    b.js("document.querySelector('button[formaction$=\"/vehicle\"]').click()").await;
    let mut now = g.once(id, |d| d["vehicle"] != was).await["vehicle"].clone();
    assert_eq!(now["props"][0]["sections"][0]["length_mm"], 1174.75);
    now["props"][0]["sections"][0]["length_mm"] = was["props"][0]["sections"][0]["length_mm"].clone();
    assert_eq!(now, was, "nothing else moved");
    b.go(&format!("{}/cases/{id}/history", g.url)).await;
    b.says("typed: 46 1/4 in").await;
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    assert_eq!(b.js("return document.querySelector('input[name=length0_0]').value").await, "46 1/4");
    // A length in mm is asked about in words of inches, at its field, and stays typed.
    b.js("document.querySelector('#vehicle').open = true").await;
    b.fill("input[name=length0_0]", "1175").await;
    b.js("document.querySelector('button[formaction$=\"/vehicle\"]').click()").await;
    b.says("is it “1175 mm”, which is 46.26 in?").await;
    assert_eq!(b.js("return document.querySelector('input[name=length0_0]').value").await, "1175");
    // What is typed and not sent comes back, also when another size of the form has changed meanwhile.
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.js("document.querySelector('#vehicle').open = true; const x = document.querySelector('input[name=wall0_0]'); x.value = '0.07'; x.dispatchEvent(new Event('input', { bubbles: true }))").await;
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    let tube = json!({"describe-vehicle": {"sections": [{"at": "prop.rear.s1", "od_mm": 76.2}]}});
    g.edited_by("A", id, serde_json::from_value(tube).unwrap()).await;
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    b.says("Not saved yet: what you typed").await;
    let typed = b
        .js("return [document.querySelector('input[name=wall0_0]').value, document.querySelector('input[name=od0_0]').value]")
        .await;
    assert_eq!(typed, json!(["0.07", "3"]));
    b.go(&format!("{}/cases/{id}/measure?tool=runout&at=prop.rear.s1.centre", g.url)).await;
    b.see("input[name=mm]").await;
    let label = b.js("return document.querySelector('input[name=mm] ~ i').textContent").await;
    assert_eq!(label, "thou");
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dial_in_thousandths_a_torque_in_pound_feet_a_speed_in_miles() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = reads_inches(&g, OWN).await;
    let path = |p: &str| format!("/cases/{id}/{p}");
    let mut dial = vec![("at", "prop.rear.s1.centre")];
    for d in ["0", "90", "180", "270"] {
        dial.extend([("deg", d), ("mm", "8")]);
    }
    assert_eq!(g.post_form(&c, &path("measure/runout"), &dial).await.status(), 303);
    let d = g.document(id).await;
    let read = d["measurements"][1]["input"]["readings"][0]["mm"].as_f64().unwrap();
    assert!((read - 0.2032).abs() < 1e-9, "{read}");
    let told = [("kind", "vibration"), ("words", "shakes"), ("peak", "55"), ("from", "40 km/h")];
    assert_eq!(g.post_form(&c, &path("symptoms"), &told).await.status(), 303);
    let d = g.document(id).await;
    let speed = &d["symptoms"][1]["speed_kmh"];
    assert!((speed["peak"].as_f64().unwrap() - 88.513_92).abs() < 1e-9 && speed["from"] == 40, "{speed}");
    // Of what is planned for the repair: 41 lb·ft, and N·m typed with its unit.
    let repair: Vec<CaseAct> =
        [json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j2", "reason": "x", "symptom": "S1"}})]
            .into_iter()
            .map(|a| serde_json::from_value(a).unwrap())
            .collect();
    for act in repair {
        g.edited_by("A", id, act).await;
    }
    let r: Uuid = g.document(id).await["repairs"][1]["id"].as_str().unwrap().parse().unwrap();
    let torques = [
        ("torque-what", "flange bolts"),
        ("torque-nm", "41"),
        ("torque-source", "plate"),
        ("torque-what", "clips"),
        ("torque-nm", "12 N·m"),
        ("torque-source", "plate"),
        ("done", "no"),
    ];
    assert_eq!(g.post_form(&c, &path(&format!("repairs/{r}")), &torques).await.status(), 303);
    let kept = g.document(id).await["repairs"][1]["torques"].clone();
    assert!((kept[0]["nm"].as_f64().unwrap() - 55.588_537).abs() < 1e-5, "{kept}");
    assert_eq!(kept[1]["nm"], 12);
    let html = page(&g, &c, &path(&format!("repair?r={r}"))).await;
    let (shown, was) = field(&html, "torque-nm");
    assert!(shown == "41" && was.ends_with("=41"), "{shown} {was}");
    assert!(page(&g, &c, &path("paper")).await.contains("flange bolts 41 lb·ft"));
    let metric = g.client(Some(OTHER)).await;
    assert!(page(&g, &metric, &path("paper")).await.contains("flange bolts 55.6 N·m"));
    // Sent again as it stands, it is what it was to the last digit.
    let again = [
        ("torque-what", "flange bolts"),
        ("torque-nm", "41"),
        ("was.torque-nm", was.as_str()),
        ("torque-source", "plate"),
        ("done", "no"),
    ];
    assert_eq!(g.post_form(&c, &path(&format!("repairs/{r}")), &again).await.status(), 303);
    assert_eq!(g.document(id).await["repairs"][1]["torques"][0]["nm"], kept[0]["nm"]);
    // What is no torque is named, in the reader's words.
    let bad = [("torque-what", "bolts"), ("torque-nm", "41 mph"), ("torque-source", "plate"), ("done", "no")];
    let refused = g.post_form(&c, &path(&format!("repairs/{r}")), &bad).await;
    assert_eq!((refused.status().as_u16(), refused.headers()["x-problem-field"].to_str().unwrap()), (422, "torque%2Dnm"));
}
