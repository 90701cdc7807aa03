//! The sounds of the suspects: made, picked, weighed as little as a memory is worth.

use crate::support::Ground;

#[tokio::test(flavor = "multi_thread")]
async fn the_driver_picks_a_sound_and_it_counts_for_little() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let page = g.get(&c, &format!("/cases/{id}/sounds?s=S1&kmh=95")).await.text().await.unwrap();
    let count = page.matches("<audio").count();
    assert!((2..=6).contains(&count), "{count} sounds");
    assert!(page.contains("The names stand here once one is picked") && !page.contains("class=\"tried\">shaft out of balance"));
    let url = page.split("src=\"").find(|s| s.contains("fault=prop-imbalance")).unwrap().split('"').next().unwrap();
    let url = url.replace("&#38;", "&").replace("&amp;", "&");
    let r = g.get(&c, &url).await;
    assert_eq!((r.status().as_u16(), r.headers()["content-type"].to_str().unwrap()), (200, "audio/wav"));
    let bytes = r.bytes().await.unwrap();
    assert!(bytes.starts_with(b"RIFF") && bytes.len() > 100_000);
    assert_eq!(g.get(&c, &format!("/cases/{id}/sound?s=S1&kmh=95&fault=gremlin&at=engine")).await.status(), 404);
    let likeliest = async |fault: &str| {
        let mut s = g.store.scope(g.a).await.unwrap();
        let case = s.case(id).await.unwrap().case().clone();
        let d = baricord_core::reasoning::diagnose(&case, baricord_core::reasoning::knowledge::builtin(), None);
        assert!(d.warnings.is_empty(), "{:?}", d.warnings);
        d.symptoms[0].ranked.iter().filter(|r| r.fault == fault).map(|r| r.p).sum::<f64>()
    };
    let before = likeliest("wheel-imbalance").await;
    let pick = [("symptom", "S1"), ("outcome", "wheel-imbalance")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/sounds"), &pick).await.status(), 303);
    let after = likeliest("wheel-imbalance").await;
    let odds = |p: f64| p / (1.0 - p);
    let weight = odds(after) / odds(before);
    assert!((1.5..4.0).contains(&weight), "a memory moved the odds {weight} times");
    let page = g.get(&c, &format!("/cases/{id}/sounds?s=S1")).await.text().await.unwrap();
    assert!(page.contains("Picked") && page.contains("shaft out of balance"), "the names stand there now");
    for (fields, words) in [
        (vec![("symptom", "S1")], "sound is missing"),
        (vec![("symptom", "S1"), ("outcome", "gremlin")], "no fault"),
        (vec![("symptom", "S7"), ("outcome", "joint-worn")], "no symptom"),
    ] {
        let r = g.post_form(&c, &format!("/cases/{id}/sounds"), &fields).await;
        assert_eq!(r.status(), 422);
        assert!(r.text().await.unwrap().contains(words), "{words}");
    }
}
