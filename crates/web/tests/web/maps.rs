//! The order map in a browser: nearer by mouse, keys and touch, over Hz, against another run; and what
//! can be taken away from it.

use crate::support::{Browser, Ground, csv};
use baricord_core::vehicle::sample::rear_drive;
use thirtyfour::Key;

#[tokio::test(flavor = "multi_thread")]
async fn the_map_is_moved_by_keys_and_mouse_and_held_against_another_run() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let r = g.upload(&c, id, csv(&rear_drive(2), "prop-imbalance@prop.rear.s2:0.1", 8).into_bytes()).await;
    assert_eq!(r.status(), 303);
    g.wait_for_analysis(id).await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/road?run=R1", g.url)).await;
    b.see("canvas[data-drawn=yes]").await;
    b.check("the map with its tools").await;
    let view = async || b.js("return document.querySelector('[data-map]').dataset.shown.split(',').map(Number)").await;
    let span = |v: &serde_json::Value| v[1].as_f64().unwrap() - v[0].as_f64().unwrap();
    let all = view().await;
    let until = async |what: &str, holds: &dyn Fn(&serde_json::Value) -> bool| {
        for _ in 0..100 {
            let v = view().await;
            if holds(&v) {
                return v;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{what}: {}", view().await);
    };
    // Plus and an arrow while the map has the focus.
    b.js("document.querySelector('[data-map]').focus()").await;
    b.key("+").await;
    let near = until("plus", &|v| (span(v) - 0.5 * span(&all)).abs() < 0.1).await;
    b.js("document.querySelector('[data-map]').focus()").await;
    b.web.action_chain().send_keys(Key::Right).perform().await.unwrap();
    let moved = until("right", &|v| v[0].as_f64() > near[0].as_f64()).await;
    // The address holds the view: coming back shows the same.
    b.web.refresh().await.unwrap();
    b.see("canvas[data-drawn=yes]").await;
    assert_eq!(view().await, moved);
    // Dragging to the right shows slower speeds.
    b.js("const m = document.querySelector('[data-map]'), box = m.querySelector('canvas').getBoundingClientRect();
          const at = (type, x, y) => m.dispatchEvent(new PointerEvent(type, {pointerId: 7, bubbles: true, button: 0, clientX: box.left + x, clientY: box.top + y}));
          at('pointerdown', 200, 100); at('pointermove', 300, 100); at('pointerup', 300, 100);")
        .await;
    let dragged = until("drag", &|v| v[0].as_f64() < moved[0].as_f64()).await;
    assert!((span(&dragged) - span(&moved)).abs() < 0.1);
    // Two fingers that come together show more.
    b.js("const m = document.querySelector('[data-map]'), box = m.querySelector('canvas').getBoundingClientRect();
          const at = (type, id, x) => m.dispatchEvent(new PointerEvent(type, {pointerId: id, bubbles: true, button: 0, clientX: box.left + x, clientY: box.top + 100}));
          at('pointerdown', 1, 100); at('pointerdown', 2, 400); at('pointermove', 2, 250); at('pointerup', 2, 250);")
        .await;
    until("two fingers", &|v| span(v) > span(&dragged) + 5.0).await;
    b.js("[...document.querySelectorAll('.map-tools a')].find(a => a.innerText === 'Hz').click()").await;
    b.see(".map-tools a[aria-current][href*='axis=hz']").await;
    b.js("[...document.querySelectorAll('.map-tools a')].find(a => a.innerText === 'beside R2').click()").await;
    b.says("R2").await;
    for _ in 0..100 {
        if b.js("return document.querySelectorAll('canvas[data-drawn=yes]').length").await == 2 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(b.js("return document.querySelectorAll('canvas[data-drawn=yes]').length").await, 2);
    b.js("[...document.querySelectorAll('.map-tools a')].find(a => a.innerText === 'less R2').click()").await;
    b.says("what it has more of than R2").await;
    b.size(390, 844).await;
    b.check("the map on a phone").await;
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_view_can_be_taken_away_with_its_numbers() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let get = async |path: &str| {
        let r = g.get(&c, &format!("/cases/{id}{path}")).await;
        assert_eq!(r.status(), 200, "{path}");
        assert!(r.headers()["content-disposition"].to_str().unwrap().starts_with("attachment"), "{path}");
        r.bytes().await.unwrap()
    };
    let text = async |path: &str| String::from_utf8(get(path).await.to_vec()).unwrap();
    let a: serde_json::Value = serde_json::from_str(&text("/analysis.json").await).unwrap();
    let shaft = &a["recordings"][0]["orders"][0];
    assert!((shaft["order"].as_f64().unwrap() - 4.1).abs() < 0.03);
    let levels = text("/levels.csv").await;
    let mut rows = levels.lines();
    assert_eq!(
        rows.next(),
        Some(
            "run,channel,base,order,order_sigma,speed_kmh,amplitude,amplitude_sigma,unit,behind_pulse_deg,behind_pulse_sigma_deg"
        )
    );
    let own = format!("R1,az,wheel,{:.5},", shaft["order"].as_f64().unwrap());
    assert!(rows.all(|r| r.split(',').count() == 11) && levels.contains(&own), "{own} in {levels}");
    // The map's darkest cell stands at the shaft's order, at about the level that is shown.
    let map = text("/runs/R1/az/map.csv").await;
    let (mut best, mut at) = (0.0, 0.0);
    for row in map.lines().skip(1) {
        let mut cells = row.split(',').map(|c| c.parse::<f64>().unwrap());
        let order = cells.next().unwrap();
        for v in cells {
            if v > best {
                (best, at) = (v, order);
            }
        }
    }
    assert!((at - 4.1).abs() < 0.1, "{at}");
    let told = shaft["amplitude_ms2"].as_f64().unwrap();
    assert!((0.6..1.4).contains(&(best / told)), "{best} {told}");
    assert!(get("/runs/R1/az/map.png?v=70,90&o=3,5").await.starts_with(b"\x89PNG"));
    let svg = text("/runs/R1/az/map.svg?axis=hz").await;
    assert!(
        svg.starts_with("<svg xmlns") && svg.contains("data:image/png;base64,") && svg.contains(">Hz<") && !svg.contains("<a ")
    );
    let level = text("/runs/R1/lines/0/level.svg").await;
    assert!(level.starts_with("<svg xmlns") && level.contains("felt from this line up") && level.contains("<style>"));
    for (path, why) in [
        ("/runs/R1/lines/0/phase.svg", "no pulse"),
        ("/runs/R1/lines/99/level.svg", "no such line"),
        ("/runs/R9/lines/0/level.svg", "no such run"),
    ] {
        assert_eq!(g.get(&c, &format!("/cases/{id}{path}")).await.status(), 404, "{why}");
    }
    // To be heard: all of a stretch, one order alone, everything but it.
    for query in ["kmh=95", "kmh=95&part=only&order=4.1&fast=4", "from=10&to=15&part=without&order=4.1"] {
        let r = g.get(&c, &format!("/cases/{id}/runs/R1/az/listen.wav?{query}")).await;
        assert_eq!((r.status().as_u16(), r.headers()["content-type"].to_str().unwrap()), (200, "audio/wav"), "{query}");
        let bytes = r.bytes().await.unwrap();
        let w = hound::WavReader::new(&bytes[..]).unwrap();
        let seconds = if query.contains("from") { 5.0 } else { 10.0 };
        assert_eq!(w.spec().sample_rate, if query.contains("fast") { 32_000 } else { 8000 });
        assert!((f64::from(w.duration()) / 8000.0 - seconds).abs() < 0.1, "{query}: {}", w.duration());
    }
    for (query, status) in [("part=only", 422), ("from=500&to=510", 422)] {
        assert_eq!(g.get(&c, &format!("/cases/{id}/runs/R1/az/listen.wav?{query}")).await.status(), status, "{query}");
    }
    for bad in ["/runs/R9/az/listen.wav", "/runs/R9/az/map.csv", "/runs/R1/ax/map.png", "/runs/R9/az/map.svg"] {
        assert_eq!(g.get(&c, &format!("/cases/{id}{bad}")).await.status(), 404, "{bad}");
    }
}
