//! Beside the search: may it be driven, what was found, the ledger as one page, a second opinion.

use crate::support::{Browser, Ground};

const OWN: &str = "a@harrowmere.example";

#[tokio::test(flavor = "multi_thread")]
async fn not_to_be_driven_stands_on_every_page_until_it_is_cleared() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let path = format!("/cases/{id}/safety");
    for (fields, field) in [
        (vec![("drive", "no"), ("reason", " ")], "reason"),
        (vec![("drive", "perhaps"), ("reason", "x")], "drive"),
        (vec![("drive", "limited"), ("reason", "x")], "km"),
        (vec![("drive", "limited"), ("reason", "x"), ("km", "-2")], "km"),
        (vec![("drive", "limited"), ("reason", "x"), ("kmh", "fast")], "kmh"),
    ] {
        let r = g.post_form(&c, &path, &fields).await;
        assert_eq!(r.status(), 422, "{fields:?}");
        assert!(r.text().await.unwrap().contains(&format!("<b>{field}</b>")), "{fields:?}");
    }
    let road = "other-gear-same-speed";
    let decide = async || g.get(&c, &format!("/cases/{id}/road")).await.text().await.unwrap();
    assert!(decide().await.contains(road), "a drive is proposed");
    let no = [("drive", "no"), ("reason", "<b>the cross joint binds</b>"), ("back", "road")];
    let r = g.post_form(&c, &path, &no).await;
    assert_eq!((r.status().as_u16(), r.headers()["location"].to_str().unwrap()), (303, format!("/cases/{id}/road?s=").as_str()));
    for page in ["complaint", "road", "lift", "measure", "decide", "repair", "prove", "paper", "opinions", "part/prop.rear.j2"] {
        let text = g.get(&c, &format!("/cases/{id}/{page}")).await.text().await.unwrap();
        assert!(text.contains("Not to be driven") && !text.contains("<b>the cross"), "{page}");
    }
    assert!(!decide().await.contains(road), "no drive is proposed while it must not be driven");
    let board = async || g.get(&c, "/").await.text().await.unwrap();
    assert!(board().await.contains("not to be driven; "));
    let yes = [("drive", "yes"), ("reason", "joint renewed, run without a sign")];
    assert_eq!(g.post_form(&c, &path, &yes).await.status(), 303);
    let text = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
    assert!(!text.contains("Not to be driven") && text.contains("Safe to drive: joint renewed"));
    assert!(!board().await.contains("not to be driven"));
    let (looker, other) = (g.client(Some("a.look@harrowmere.example")).await, g.client(Some("b@skerry.example")).await);
    assert_eq!(g.post_form(&looker, &path, &no).await.status(), 403);
    assert_eq!(g.post_form(&other, &path, &no).await.status(), 404);
}

#[tokio::test]
async fn what_is_found_on_the_way_is_listed_apart_and_moves_no_cause() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some(OWN)).await;
    let ledger = async || {
        let text = g.get(&c, &format!("/cases/{id}/decide")).await.text().await.unwrap();
        let causes =
            text.split("cause-name\">").skip(1).map(|t| t[..t.find("</svg>").unwrap_or(80)].to_string()).collect::<Vec<_>>();
        (text, causes)
    };
    let (_, before) = ledger().await;
    let found = [("what", "boot cracked"), ("at", "hub.rl"), ("back", "lift")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/found"), &found).await.status(), 303);
    let (text, after) = ledger().await;
    assert!(text.contains("boot cracked") && !before.is_empty());
    assert_eq!(before, after);
    let odd = [("what", "boot cracked"), ("at", "moon")];
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/found"), &odd).await.status(), 422);
    let found = g.document(id).await["found"][0]["id"].as_str().unwrap().to_string();
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/found/{found}/settled"), &[]).await.status(), 303);
    assert_eq!(g.post_form(&c, &format!("/cases/{id}/found/7/settled"), &[]).await.status(), 422);
    assert!(ledger().await.0.contains("put right"));
    let paper = g.get(&c, &format!("/cases/{id}/paper")).await.text().await.unwrap();
    assert!(paper.contains("Looked at, felt, driven") && paper.contains("× more likely") && !paper.contains("bits"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_opinion_comes_by_a_link_that_shows_one_case_and_ends() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, OWN).await;
    b.go(&format!("{}/cases/{id}/opinions", g.url)).await;
    b.fill("textarea[name=question]", "Bearing alone, or the shaft?").await;
    b.click(".ask-opinion button").await;
    let link = b.see("input[data-whole]").await.prop("value").await.unwrap().unwrap();
    b.check("a link to a case").await;
    assert!(link.starts_with(&format!("{}/opinion/", g.url)), "{link}");
    let path = link[g.url.len()..].to_string();
    // Someone outside, without a sign-in, sees the ledger and answers.
    let outside = Browser::new().await;
    outside.go(&link).await;
    outside.says("Bearing alone, or the shaft?").await;
    outside.check("a second opinion").await;
    let leads = "return [...document.querySelectorAll('a')].filter(a => !a.matches('.skip')).map(a => a.href)";
    assert_eq!(outside.js(leads).await, serde_json::json!([]), "the link leads nowhere else");
    outside.fill("textarea[name=answer]", "The bearing, and look at the angle.").await;
    outside.fill("input[name=name]", "Ruan of Skerry").await;
    outside.click("form button.yellow").await;
    outside.says("Thank you").await;
    let stranger = g.client(None).await;
    let twice = g.post_form(&stranger, &path, &[("answer", "no"), ("name", "x")]).await;
    assert_eq!(twice.status(), 422);
    let d = g.store.scope(g.a).await.unwrap().case(id).await.unwrap().document.json().clone();
    assert_eq!(d["opinions"][0]["answer"], "The bearing, and look at the angle.");
    let own = g.client(Some(OWN)).await;
    let paper = g.get(&own, &format!("/cases/{id}/paper")).await.text().await.unwrap();
    assert!(paper.contains("look at the angle") && paper.contains("Ruan of Skerry"));
    // Nothing else opens with it, and it is not kept on the way.
    let page = g.get(&stranger, &path).await;
    assert_eq!(page.headers()["cache-control"], "no-store");
    assert_eq!(g.get(&stranger, &format!("/cases/{id}/paper")).await.status(), 303);
    // Taken back, it shows nothing; neither does one that never was.
    let other = g.client(Some("b@skerry.example")).await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let opinion = s.opinions(id).await.unwrap()[0].id;
    drop(s);
    let revoke = format!("/cases/{id}/opinions/{opinion}/revoke");
    assert_eq!(g.post_form(&other, &revoke, &[]).await.status(), 404);
    assert_eq!(g.get(&stranger, &path).await.status(), 200);
    assert_eq!(g.post_form(&own, &revoke, &[]).await.status(), 303);
    assert_eq!(g.get(&stranger, &path).await.status(), 404);
    assert_eq!(g.post_form(&stranger, &path, &[("answer", "no"), ("name", "x")]).await.status(), 404);
    // Who tries links is slowed.
    let mut slowed = false;
    for n in 0..60 {
        slowed |= g.get(&stranger, &format!("/opinion/{n:064}")).await.status() == 429;
    }
    assert!(slowed);
    b.end().await;
    outside.end().await;
}

#[tokio::test]
async fn a_link_that_has_ended_shows_nothing() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let secret = s.ask_opinion(id, "What would you do?", "Harrowmere", 0).await.unwrap().unwrap();
    s.commit().await.unwrap();
    let c = g.client(None).await;
    assert_eq!(g.get(&c, &format!("/opinion/{secret}")).await.status(), 404);
    let own = g.client(Some(OWN)).await;
    assert!(g.get(&own, &format!("/cases/{id}/opinions")).await.text().await.unwrap().contains("link has ended"));
    for days in ["0", "2", "-1", "x"] {
        let asked = [("question", "Why?"), ("days", days)];
        assert_eq!(g.post_form(&own, &format!("/cases/{id}/opinions"), &asked).await.status(), 422, "{days}");
    }
}
