//! The journey, in a real browser: from a complaint to a proof, and the case into another workshop.

use crate::support::{Browser, Ground, csv};
use baricord_core::vehicle::sample::rear_drive;
use thirtyfour::Key;

async fn load_run(b: &Browser, dir: &std::path::Path, name: &str, text: &str) {
    let path = dir.join(name);
    std::fs::write(&path, text).unwrap();
    b.js("document.querySelectorAll('details.fold').forEach(d => d.open = true)").await;
    let file = b.see("input[type=file][name=file]").await;
    file.send_keys(path.to_str().unwrap()).await.unwrap();
    b.click("form[action$=recordings] button:not([type=button])").await;
    b.see("table.columns").await;
}

/// What was looked at becomes a run of the case.
async fn keep_run(b: &Browser) {
    b.js("document.querySelector('#keep select[name=gear]').value = '5'").await;
    b.click("button.yellow[form=keep]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_complaint_to_a_proof() {
    let g = Ground::new().await;
    let b = Browser::new().await;
    let dir = tempfile::tempdir().unwrap();
    b.sign_in(&g, "a@harrowmere.example").await;
    b.says("No case yet.").await;
    b.check("the empty board").await;

    // Complaint: layout by picture, numbers, drawing, symptom.
    b.key("n").await;
    b.see(".layout-grid").await;
    b.fill("#title", "Mail van 4: buzz in the seat").await;
    b.check("the layouts").await;
    b.click("button.layout[value='rwd-solid-two']").await;
    b.see("[data-place='prop.rear.s2']").await;
    b.fill("input[name=tyre]", "235/65R16").await;
    b.says("rolls 2.171 m").await;
    b.fill("input[name=tyre]", "215/70R15").await;
    b.says("rolls 2.080 m").await;
    b.fill("input[name=name]", "Whimbrel LWB").await;
    b.click("button[formaction$=vehicle]").await;
    b.says("Whimbrel LWB · 5-speed manual").await;
    b.fill("textarea[name=words]", "hums through the seat from seventy-five").await;
    b.click("input[name=kind][value=vibration]").await;
    b.click("input[name=felt][value=seat]").await;
    for (n, v) in [("from", "70"), ("peak", "95"), ("to", "115")] {
        b.fill(&format!("input[name={n}]"), v).await;
    }
    b.check("the complaint").await;
    b.click("form[action$=symptoms] button:not([formaction])").await;

    // Road: a bad file is refused and named, a good one is analysed with its map.
    b.says("No run yet.").await;
    load_run(&b, dir.path(), "bad.csv", "t,speed\n0,40\n").await;
    b.says("no channel").await;
    b.click("button.yellow[form=keep]").await;
    b.says("no channel is marked").await;
    b.check("a file that is no recording").await;
    b.click("form[action$=forget] button").await;
    b.says("No run yet.").await;
    let v = {
        let mut v = rear_drive(2);
        v.name = "Whimbrel LWB".into();
        v
    };
    load_run(&b, dir.path(), "before.csv", &csv(&v, "prop-imbalance@prop.rear.s2:0.6", 5)).await;
    keep_run(&b).await;
    b.see("canvas[data-drawn=yes]").await;
    b.says("shaft, once a turn").await;
    let first = b.js("return document.querySelector('table.orders tbody tr td:nth-child(2) b').innerText").await;
    assert_eq!(first, "4.10");
    b.js("document.querySelector('table.orders tbody tr').dispatchEvent(new PointerEvent('pointerover', {bubbles: true}))").await;
    let lit = b.js("return document.querySelector(\".sheet-wide [data-place='prop.rear.s2']\").classList.contains('lit')").await;
    assert_eq!(lit, true, "pointing at the line lights the shaft");
    // A finger a little beside a thin part means that part; pressing there opens it.
    let hit = b
        .js("const p = document.querySelector(\".sheet-wide [data-place='prop.rear.s2']\"), r = p.getBoundingClientRect(); let to = '';
             p.addEventListener('click', e => { to = 'prop.rear.s2'; e.preventDefault(); e.stopPropagation(); }, {capture: true, once: true});
             p.closest('svg').dispatchEvent(new MouseEvent('click', {bubbles: true, clientX: (r.left + r.right) / 2, clientY: r.bottom + 7})); return to")
        .await;
    assert_eq!(hit, "prop.rear.s2");
    let ink = b.js("const c = document.querySelector('canvas.ink'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0; for (let i = 3; i < d.length; i += 4) n += d[i] > 120; return n").await;
    assert!(ink.as_i64().unwrap() > 20, "the map has ink: {ink}");
    b.check("the road").await;

    // Measure: the dial answers while it is typed; angles ask by drawing.
    b.key("]").await;
    b.see("h1").await;
    b.says("What each answer leaves").await;
    b.key("]").await;
    b.says("Where the dial stands").await;
    let marks = b.web.find_all(thirtyfour::By::Css("input[name=mm]")).await.unwrap();
    for (m, x) in marks.iter().zip(["0.10", "0,28", "0.41", "0.42", "0.30", "0.13", "-0.01", "-0.02"]) {
        m.send_keys(x).await.unwrap();
    }
    b.says("116°").await;
    b.says("within 0.75 mm").await;
    b.check("the dial").await;
    b.click("form[action$=runout] button.first").await;
    b.says("Read so far").await;
    b.click("nav.runs a:nth-child(2)").await;
    b.says("shaft speed").await;
    for (i, x) in ["4.0", "1.0", "5.5", "3.0"].iter().enumerate() {
        b.fill(&format!("input[name=side{i}]"), x).await;
        b.click(&format!("input[name=end{i}][value=lower]")).await;
    }
    b.fill("input[name=rpm]", "3600").await;
    b.says("limit 300").await;
    b.says("left over after cancelling (residual angle): 2.24°").await;
    b.check("the angles").await;
    b.click("form[action$=angles] button.first").await;
    b.see(".done-list li:nth-child(2)").await;

    // Decide: one tap an outcome, by the keyboard; then act on a cause.
    b.key("]").await;
    b.see("article.head-step").await;
    b.check("decide").await;
    let before = b.js("return document.querySelectorAll('article.head-step .answer').length").await;
    assert!(before.as_i64().unwrap() >= 2);
    let asked = b.js("return document.querySelector('article.head-step h2').innerText").await;
    b.key("1").await;
    for _ in 0..100 {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        if b.js("return (document.querySelector('article.head-step h2') || {innerText: ''}).innerText").await != asked {
            break;
        }
    }
    b.key("u").await;
    b.says(asked.as_str().unwrap()).await;
    b.go(&b.web.current_url().await.unwrap().to_string().replace("/road", "/decide")).await;
    b.click("details.choice summary").await;
    b.js("const r = document.querySelector('details.choice input[name=reason]'); if (r) r.value = 'balancer is here today'")
        .await;
    b.click("details.choice form button").await;

    // Repair: without marks it is not called done.
    b.says("Index marks").await;
    b.check("repair").await;
    b.click("button[value=yes]").await;
    b.says("say how the flanges were marked").await;
    b.fill("input[name=marks]", "one punch at the pinion, two at the gearbox").await;
    b.fill(".torque input[name=torque-what]", "flange bolts").await;
    b.fill(".torque input[name=torque-nm]", "78").await;
    b.fill(".torque input[name=torque-source]", "fleet manual 4-12").await;
    b.click("button[value=yes]").await;

    // Prove: not cured sends the case back; the next one cures it.
    b.says("Drive again as before").await;
    load_run(&b, dir.path(), "same.csv", &csv(&v, "prop-imbalance@prop.rear.s2:0.6", 8)).await;
    keep_run(&b).await;
    b.see(".verdict").await;
    b.says("unchanged").await;
    b.check("the proof").await;
    b.click("button[value=not-cured]").await;
    b.says("Tried before").await;
    b.click("details.choice summary").await;
    b.js("const r = document.querySelector('details.choice input[name=reason]'); if (r) r.value = 'the other section then'")
        .await;
    b.click("details.choice form button").await;
    b.see("form.plan").await;
    b.js("const m = document.querySelector('input[name=marks]'); if (m) m.value = 'as before'").await;
    b.click("button[value=yes]").await;
    b.see("form[action$=verdict]").await;
    load_run(&b, dir.path(), "after.csv", &csv(&v, "prop-imbalance@prop.rear.s2:0.02", 9)).await;
    keep_run(&b).await;
    b.see(".verdict.good").await;
    b.says("cured").await;
    b.click("button[value=cured]").await;
    b.says("The last repair: cured").await;

    // The board, both themes, a phone.
    b.key("b").await;
    b.says("Every case is closed.").await;
    b.check("the board").await;
    b.key("t").await;
    for _ in 0..100 {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        if b.js("return document.documentElement.dataset.theme").await == "pit" {
            break;
        }
    }
    let home = b.js("return document.querySelector('.lane a').href").await.as_str().unwrap().to_string();
    let phone = serde_json::json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    for station in
        ["complaint", "road", "lift", "measure", "measure?tool=angles", "decide", "repair", "prove", "part/prop.rear.s2"]
    {
        b.go(&format!("{home}/{station}")).await;
        assert_eq!(b.js("return document.documentElement.dataset.theme").await, "pit");
        b.check(&format!("{station} in the pit")).await;
    }
    b.web.cdp().send_raw("Emulation.setDeviceMetricsOverride", phone).await.unwrap();
    for station in ["complaint", "road", "decide", "measure", "prove"] {
        b.go(&format!("{home}/{station}")).await;
        b.check(&format!("{station} at 390 px")).await;
        let cut = b.js("const s = document.querySelector('.sheet-narrow').getBoundingClientRect(); return [s.left >= 0, s.right <= innerWidth]").await;
        assert_eq!(cut, serde_json::json!([true, true]), "the drawing is cut at {station}");
    }
    b.end().await;
    leaves_and_comes_back(&g).await;
}

/// Goes to the file box by Tab; the path stands for what the system's own dialog would give.
async fn choose_by_keyboard(b: &Browser, path: &std::path::Path) {
    b.tab_to("input[type=file][name=file]").await;
    b.see("input[type=file][name=file]").await.send_keys(path.to_str().unwrap()).await.unwrap();
}

/// The same journey with no pointer at all: Tab, Enter, space, and the keys that `?` shows.
#[tokio::test(flavor = "multi_thread")]
async fn the_whole_journey_by_keyboard() {
    let g = Ground::new().await;
    let b = Browser::new().await;
    let dir = tempfile::tempdir().unwrap();
    let v = rear_drive(1);
    let run = |name: &str, fault: &str, seed: u64| {
        let path = dir.path().join(name);
        std::fs::write(&path, csv(&v, fault, seed)).unwrap();
        path
    };
    b.go(&format!("{}/sign-in", g.url)).await;
    b.tab_and_type("#email", "a@harrowmere.example").await;
    b.tab_and_type("#password", crate::support::PASSWORD).await;
    b.tab_and_press("form button.yellow", Key::Enter).await;
    b.see("main.board").await;
    b.key("?").await;
    b.says("this list").await;
    b.tab_and_press("dialog button", Key::Enter).await;
    b.key("n").await;
    b.tab_and_type("#title", "Shuttle: shake").await;
    b.tab_and_press("button.layout[value='rwd-solid']", Key::Enter).await;

    b.tab_and_type("input[name=name]", "Lapwing shuttle").await;
    b.tab_and_type("input[name=ring1], input[name=ring0]", "44").await;
    b.says("44:").await;
    b.says("not saved yet").await;
    let ring = v.axles.iter().find_map(|a| a.ring_teeth).unwrap().to_string();
    b.js("document.activeElement.blur(); window.scrollTo(0, 0)").await;
    b.tab_and_type("input[name=ring1], input[name=ring0]", &ring).await;
    b.tab_and_press("button[formaction$=vehicle]", Key::Enter).await;
    b.says("Lapwing shuttle ·").await;
    b.tab_and_type("textarea[name=words]", "shakes at motorway speed").await;
    b.tab_and_press("input[name=kind]", Key::Space).await;
    b.tab_and_press("input[name=felt][value=seat]", Key::Space).await;
    b.tab_and_press("form[action$=symptoms] button:not([formaction])", Key::Enter).await;

    b.says("No run yet.").await;
    choose_by_keyboard(&b, &run("before.csv", "prop-imbalance@prop.rear.s1:0.7", 3)).await;
    b.tab_and_press("form[action$=recordings] button:not([type=button])", Key::Enter).await;
    b.tab_and_type("#keep select[name=gear]", "5").await;
    b.tab_and_press("button.yellow[form=keep]", Key::Enter).await;
    b.see("canvas[data-drawn=yes]").await;
    b.tab_and_press("table.orders tbody a", Key::Enter).await;
    b.see("tr.chosen").await;
    b.tab_to(".sheet-wide [data-place='prop.rear.s1']").await;
    b.see("tr.lit").await;

    b.tab_and_press(".stations li:nth-child(4) a", Key::Enter).await;
    b.says("Where the dial stands").await;
    for x in ["0.10", "0.28", "0.41", "0.42", "0.30", "0.13", "0.01", "0.02"] {
        b.tab_to("input[name=mm]").await;
        b.key(x).await;
        b.web.action_chain().send_keys(Key::Enter).perform().await.unwrap();
    }
    b.says("Read so far").await;
    b.tab_and_press(".stations li:nth-child(5) a", Key::Enter).await;
    b.see("article.head-step").await;
    b.tab_and_press("details.choice summary", Key::Enter).await;
    let reason = b.js("return !!document.querySelector('details.choice[open] input[name=reason]')").await;
    if reason == true {
        b.tab_and_type("details.choice[open] input[name=reason]", "the balancer is free today").await;
    }
    b.tab_and_press("details.choice[open] form button", Key::Enter).await;
    b.see("form.plan").await;
    if b.js("return !!document.querySelector('input[name=marks]')").await == true {
        b.tab_and_type("input[name=marks]", "one punch, two punches").await;
    }
    b.tab_and_press("button[value=yes]", Key::Enter).await;
    b.says("Drive again as before").await;
    choose_by_keyboard(&b, &run("after.csv", "prop-imbalance@prop.rear.s1:0.02", 4)).await;
    b.tab_and_press("form[action$=recordings] button:not([type=button])", Key::Enter).await;
    b.tab_and_press("button.yellow[form=keep]", Key::Enter).await;
    b.see(".verdict.good").await;
    b.tab_and_press("button[value=cured]", Key::Enter).await;
    b.says("The last repair: cured").await;
    b.key("b").await;
    b.says("Every case is closed.").await;
    b.end().await;
}

/// The case leaves as an open file and comes back equal on another workshop's board.
async fn leaves_and_comes_back(g: &Ground) {
    let (a, b) = (g.client(Some("a@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    let mut s = g.store.scope(g.a).await.unwrap();
    let knowledge = s.knowledge().await.unwrap();
    s.weigh_board_again(&knowledge).await.unwrap();
    let line = s.board(&knowledge, &[("done", true)], 10).await.unwrap().0.remove(0).lines.remove(0);
    drop(s);
    let zip = g.get(&a, &format!("/cases/{}/export.zip", line.id)).await.bytes().await.unwrap();
    let form = reqwest::multipart::Form::new().part("case", reqwest::multipart::Part::bytes(zip.to_vec()).file_name("case.zip"));
    let r = b.post(format!("{}/import", g.url)).header("sec-fetch-site", "same-origin").multipart(form).send().await.unwrap();
    assert_eq!(r.status(), 303);
    let path = r.headers()["location"].to_str().unwrap().to_string();
    let again = g.get(&b, &format!("{path}/export.zip")).await.bytes().await.unwrap();
    assert_eq!(zip, again, "export, import, export is not byte for byte the same");
    let board = g.get(&b, "/").await.text().await.unwrap();
    assert!(board.contains("Mail van 4: buzz in the seat"));
}
