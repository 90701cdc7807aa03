//! Takes every picture of docs/screenshots from the demo workshop of a running server, at 1280×800 and
//! at 390×844. `./scripts/screenshots` starts the server and calls this with its address.

#[path = "../tests/support/mod.rs"]
mod support;

use baricord_web::demo;
use std::collections::HashMap;
use support::Browser;

#[tokio::main]
async fn main() {
    let mut args = std::env::args().skip(1);
    let (url, out) = (args.next().expect("the server's address"), args.next().expect("a folder"));
    let b = Browser::new().await;
    b.go(&format!("{url}/sign-in")).await;
    b.fill("#email", demo::EMAIL).await;
    b.fill("#password", demo::PASSWORD).await;
    b.click("form button.yellow").await;
    b.see("main.board").await;
    shot(&b, &out, "board").await;
    let list = b.js("return Object.fromEntries([...document.querySelectorAll('.lane li a')].map(a => [a.querySelector('strong').innerText, a.href]))").await;
    let cases: HashMap<String, String> = serde_json::from_value(list).expect("the cases of the demo");
    let of = |start: &str| cases.iter().find(|(t, _)| t.starts_with(start)).map(|(_, u)| u.clone()).expect(start);
    let (van, fish, shake, pilot, ranger) =
        (of("Mail van 4: buzz"), of("Fish lorry"), of("Mail van 2"), of("Pilot"), of("Ranger"));
    let (shuttle, kestrel) = (of("Airstrip shuttle"), of("Harbour master"));
    b.go(&format!("{url}/vehicles")).await;
    b.js("[...document.querySelectorAll('.fleet a')].find(a => a.innerText.startsWith('Mail van 4')).click()").await;
    b.see(".lifeline").await;
    shot(&b, &out, "life").await;
    b.go(&format!("{url}/knowledge")).await;
    b.js("document.querySelector('#joint-worn').open = true; document.querySelector('#joint-worn').scrollIntoView()").await;
    shot(&b, &out, "knowledge").await;
    b.go(&format!("{url}/cases/new")).await;
    shot(&b, &out, "new-case").await;
    b.go(&format!("{pilot}/complaint")).await;
    shot(&b, &out, "complaint").await;
    b.go(&format!("{van}/road")).await;
    b.see("canvas[data-drawn=yes]").await;
    shot(&b, &out, "road").await;
    // A file on its way in, a spreadsheet of another country's.
    let run = std::env::temp_dir().join("van 4, harbour road.csv");
    let text = support::csv(&baricord_core::vehicle::sample::rear_drive(2), "prop-imbalance@prop.rear.s2:0.6", 8);
    std::fs::write(&run, text.replace(',', ";").replace('.', ",")).expect("a recording");
    b.js("document.querySelector('#load').open = true").await;
    b.see("#load input[type=file]").await.send_keys(run.to_str().expect("a path")).await.expect("a file");
    b.click("#load form[data-upload] button:not([type=button])").await;
    b.see("table.columns").await;
    shot(&b, &out, "mapping").await;
    b.click("form[action$=forget] button").await;
    b.go(&format!("{van}/sounds")).await;
    shot(&b, &out, "sounds").await;
    // A drive with the recorder, the first run too fast.
    b.go(&format!("{ranger}/road")).await;
    b.js("for (const [n, v] of [['driver', 'hasty'], ['pace', '4']]) document.querySelector(`#record select[name=${n}]`).value = v").await;
    b.click("#record form button").await;
    b.says("again: too fast through it").await;
    tokio::time::sleep(std::time::Duration::from_millis(4200)).await;
    shot(&b, &out, "drive").await;
    b.go(&format!("{van}/measure?tool=runout&at=prop.rear.s2.centre")).await;
    for (i, x) in ["0.10", "0.28", "0.41", "0.42", "0.30", "0.13", "-0.01", "-0.02"].iter().enumerate() {
        b.fill(&format!(".mark:nth-of-type({}) input[name=mm]", i + 1), x).await;
    }
    b.says("high spot").await;
    shot(&b, &out, "dial").await;
    for (name, page) in
        [("decide", format!("{van}/decide")), ("lift", format!("{ranger}/lift")), ("prove", format!("{shake}/prove"))]
    {
        b.go(&page).await;
        shot(&b, &out, name).await;
    }
    b.go(&format!("{ranger}/lift")).await;
    b.js(
        r#"const id = location.pathname.split("/")[2], acts = [{"record-attempt": {what: "new tyres", trust: "bill", changed: "nothing"}},
        {stand: {on: "lift"}}, {"ask-later": {test: "joint-wiggle", at: "prop.rear.j1"}}, {"report-finding": {what: "rubbed brake hose at the front left", at: "hub.fl"}}];
        const edits = acts.map((d, n) => ({id: `0192f0c1-2a3b-7c4d-8e5f-00112233440${n}`, at_time: new Date().toISOString(), do: d}));
        fetch(`/api/v1/cases/${id}/edits`, {method: "POST", headers: {"content-type": "application/json"}, body: JSON.stringify({edits})})
          .then(async r => document.body.append("kept: " + r.status))"#,
    )
    .await;
    b.says("kept: 200").await;
    b.go(&format!("{ranger}/history")).await;
    shot(&b, &out, "history").await;
    b.go(&format!("{shuttle}/lift/listen")).await;
    for (at, level) in
        [("hub.fl", "72"), ("hub.fr", "66"), ("hub.rl", "63"), ("hub.rr", "64"), ("diff.rear", "61"), ("gearbox", "65")]
    {
        b.fill(&format!("#levels input[name='{at}']"), level).await;
    }
    b.js("document.querySelectorAll('#levels .seen-to input').forEach(c => c.click())").await;
    b.click("#levels button:not(.quiet)").await;
    b.says("Loudest: front left hub").await;
    shot(&b, &out, "listening").await;
    b.go(&format!("{kestrel}/paper")).await;
    shot(&b, &out, "paper").await;
    b.go(&format!("{van}/decide")).await;
    b.key("t").await;
    for (name, page) in [("angles-pit", format!("{fish}/measure?tool=angles")), ("road-pit", format!("{van}/road"))] {
        b.go(&page).await;
        if name == "road-pit" {
            b.see("canvas[data-drawn=yes]").await;
        }
        shot(&b, &out, name).await;
    }
    b.go(&url).await;
    b.key("t").await;
    let phone = serde_json::json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    b.web.cdp().send_raw("Emulation.setDeviceMetricsOverride", phone).await.expect("a phone");
    b.go(&format!("{ranger}/lift")).await;
    shot(&b, &out, "phone").await;
    b.end().await;
}

async fn shot(b: &Browser, out: &str, name: &str) {
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    let png = b.web.screenshot_as_png().await.expect("a picture");
    std::fs::write(format!("{out}/{name}.png"), png).expect("the picture can be written");
}
