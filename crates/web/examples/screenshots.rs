//! Takes every picture of docs/screenshots from the demo workshop of a running server, at 1280×800 and
//! at 390×844. `./scripts/screenshots` starts the server and calls this with its address.

#[path = "../tests/web/support/mod.rs"]
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
    let kestrel = of("Harbour master");
    b.go(&format!("{url}/vehicles")).await;
    b.js("[...document.querySelectorAll('.fleet a')].find(a => a.innerText.startsWith('Mail van 4')).click()").await;
    b.see(".lifeline").await;
    shot(&b, &out, "life").await;
    b.go(&format!("{url}/knowledge")).await;
    b.js("document.querySelector('#joint-worn').open = true; document.querySelector('#joint-worn').scrollIntoView()").await;
    shot(&b, &out, "knowledge").await;
    b.go(&format!("{url}/cases/new")).await;
    shot(&b, &out, "new-case").await;
    let part = |at: &str| format!("{ranger}/part/{at}?s=S1");
    let found = format!("{ranger}/find?q=nut+came+off+by+hand&s=S1");
    sheet(&b, &out, "part-and-search", &[(part("prop.rear.j1"), ""), (found, "")]).await;
    let answer = {
        b.go(&format!("{ranger}/entries?s=S1")).await;
        let href = b.js("return document.querySelector('a[href*=\"/entries/answer/\"]').href").await;
        href.as_str().expect("an answer").to_string()
    };
    sheet(&b, &out, "mending", &[(format!("{ranger}/entries?s=S1"), ""), (answer, "")]).await;
    let open =
        |fold: &str| format!("document.querySelector('#{fold}').open = true; document.querySelector('#{fold}').scrollIntoView()");
    let complaint = format!("{pilot}/complaint");
    sheet(&b, &out, "vehicle-and-intake", &[(complaint.clone(), &open("vehicle")), (complaint, &open("symptom"))]).await;
    b.go(&format!("{van}/road")).await;
    b.see("canvas[data-drawn=yes]").await;
    shot(&b, &out, "road").await;
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
    b.go(&format!("{kestrel}/paper")).await;
    shot(&b, &out, "paper").await;
    let balance = "for (const [n, v] of Object.entries({'v0-a': '3', mass: '10', 't0-a': '4.551', 't1-a': '1.087', 't2-a': '4.136', clamp: '9'})) {
        const e = document.querySelector(`input[name=${n}]`); e.value = v; e.dispatchEvent(new Event('input', {bubbles: true})); }
        setTimeout(() => document.querySelector('.worksheet').scrollIntoView(), 300)";
    let up = "for (const c of ['up-rl', 'up-rr']) { const e = document.querySelector(`input[name=${c}]`); if (!e.checked) e.click(); }";
    let sums = [
        (format!("{fish}/work-out/angle-plan"), ""),
        (format!("{van}/work-out/balance"), balance),
        (format!("{van}/work-out/holding"), up),
    ];
    sheet(&b, &out, "sums", &sums).await;
    b.go(&format!("{van}/repair")).await;
    b.js("const f = document.querySelector('#other-work form'); f.task.value = 'replace'; f.what.value = ''; f.what.required = false; \
          const at = document.createElement('input'); at.name = 'at'; at.value = 'prop.rear.sb1'; f.append(at); f.submit();")
        .await;
    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
    let plan = format!("{van}/repair");
    sheet(&b, &out, "repair", &[(plan.clone(), ""), (plan, "window.scrollTo(0, 620)")]).await;
    b.go(&format!("{van}/decide")).await;
    b.key("t").await;
    b.go(&format!("{fish}/measure?tool=angles")).await;
    shot(&b, &out, "angles-pit").await;
    b.end().await;
}

async fn shot(b: &Browser, out: &str, name: &str) {
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    let png = b.web.screenshot_as_png().await.expect("a picture");
    std::fs::write(format!("{out}/{name}.png"), png).expect("the picture can be written");
}

async fn phone(b: &Browser) {
    let phone = serde_json::json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    b.web.cdp().send_raw("Emulation.setDeviceMetricsOverride", phone).await.expect("a phone");
}

/// A picture as rows of four bytes a point.
struct Picture {
    width: usize,
    height: usize,
    points: Vec<u8>,
}

async fn picture(b: &Browser) -> Picture {
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    let bytes = b.web.screenshot_as_png().await.expect("a picture");
    let mut decoder = png::Decoder::new(std::io::Cursor::new(bytes));
    decoder.set_transformations(png::Transformations::ALPHA | png::Transformations::STRIP_16);
    let mut reader = decoder.read_info().expect("a picture");
    let mut points = vec![0; reader.output_buffer_size().expect("a picture that fits")];
    let info = reader.next_frame(&mut points).expect("a picture");
    Picture { width: info.width as usize, height: info.height as usize, points }
}

/// Pages, a row each: on the desk light and dark, and on a phone. What is run on each page comes with it.
async fn sheet(b: &Browser, out: &str, name: &str, pages: &[(String, &str)]) {
    const GAP: usize = 24;
    let mut rows = vec![];
    for (page, script) in pages {
        let mut row = vec![];
        for view in ["light", "dark", "phone"] {
            if view == "phone" {
                phone(b).await;
            }
            b.go(page).await;
            b.see("main").await;
            if view == "dark" {
                b.js("document.documentElement.dataset.theme = 'pit'").await;
            }
            b.js(script).await;
            row.push(picture(b).await);
            if view == "phone" {
                b.web.cdp().send_raw("Emulation.clearDeviceMetricsOverride", serde_json::json!({})).await.expect("the desk");
                b.size(1280, 800).await;
            }
        }
        rows.push(row);
    }
    let width = rows.iter().map(|r| r.iter().map(|p| p.width + GAP).sum::<usize>() - GAP).max().unwrap_or(0);
    let height = rows.iter().map(|r| r.iter().map(|p| p.height).max().unwrap_or(0) + GAP).sum::<usize>() - GAP;
    let mut sheet = vec![0xff; width * height * 4];
    let mut top = 0;
    for row in &rows {
        let mut left = 0;
        for p in row {
            for y in 0..p.height {
                let to = ((top + y) * width + left) * 4;
                sheet[to..to + p.width * 4].copy_from_slice(&p.points[y * p.width * 4..(y + 1) * p.width * 4]);
            }
            left += p.width + GAP;
        }
        top += row.iter().map(|p| p.height).max().unwrap_or(0) + GAP;
    }
    let file = std::fs::File::create(format!("{out}/{name}.png")).expect("a folder that can be written");
    let mut encoder = png::Encoder::new(std::io::BufWriter::new(file), width as u32, height as u32);
    encoder.set_color(png::ColorType::Rgba);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_compression(png::Compression::High);
    encoder.write_header().and_then(|mut w| w.write_image_data(&sheet)).expect("the picture can be written");
}
