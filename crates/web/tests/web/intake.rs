//! The intake in a browser: questions that follow from the answers, a symptom that does not come, and
//! what was tried before.

use crate::support::{Browser, Ground};

#[tokio::test(flavor = "multi_thread")]
async fn questions_follow_and_what_cannot_be_heard_has_a_plan() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/cases/{id}/complaint", g.url)).await;
    let answer = async |words: &str| {
        b.js(&format!("[...document.querySelectorAll('.ask button')].find(x => x.innerText === '{words}').click()")).await;
    };
    b.says("Have you heard or felt it yourself").await;
    b.check("a question of the intake").await;
    answer("tried, it does not come").await;
    b.says("To hear it again").await;
    b.says("What does the right foot do").await;
    answer("lifts off").await;
    b.says("Let it roll in gear, off the throttle").await;
    b.says("In a turn?").await;
    answer("turning left").await;
    b.says("slow, tight turn").await;
    answer("a fast bend").await;
    b.says("Cold or warm?").await;
    answer("cold, the first kilometres").await;
    b.says("After a night's standing").await;
    b.says("no part is bought").await;
    b.check("a symptom that does not come").await;
    // What was tried before.
    b.js("document.querySelector('#tried').open = true").await;
    b.fill("#tried input[name=what]", "both rear wheel bearings").await;
    b.fill("#tried input[name=by]", "the yard at Skerry").await;
    b.fill("#tried input[name=result]", "no change").await;
    b.js("document.querySelector('#tried select[name=trust]').value = 'seen'; document.querySelector('#tried select[name=changed]').value = 'nothing'; document.querySelector('#tried select[name=cause]').value = 'wheel-bearing-worn@hub.fl'").await;
    b.click("#tried button").await;
    b.says("Tried before (1)").await;
    let case = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    let tried = &case.document.json()["attempts"][0];
    assert_eq!((tried["trust"].as_str(), tried["changed"].as_str()), (Some("seen"), Some("nothing")));
    assert_eq!((tried["fault"].as_str(), tried["at"].as_str()), (Some("wheel-bearing-worn"), Some("hub.fl")));
    assert!(case.case().history.contains(&"earlier-work".to_string()));
    let c = &case.case().symptoms[0].condition;
    assert_eq!((c["heard"].as_str(), c["load"].as_str(), c["turn"].as_str()), ("no", "coast", "left"));
    // The condition stands where it is driven again, and the coach asks for its load.
    b.go(&format!("{}/cases/{id}/prove", g.url)).await;
    b.says("as it was heard: lifts off, turning left, a fast bend, cold, the first kilometres").await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let coach = baricord_web::drive_runner::coach(&mut s, id, "S1").await.unwrap();
    assert!(coach.legs().iter().all(|l| l.throttle == "coast"));
    b.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_that_do_not_fit_are_named() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    for (path, fields, words) in [
        ("/symptoms/S1/answer", vec![("question", "mood"), ("answer", "x")], "mood"),
        ("/symptoms/S1/answer", vec![("question", "load"), ("answer", "sideways")], "sideways"),
        ("/symptoms/S9/answer", vec![("question", "load"), ("answer", "drive")], "S9"),
        ("/attempts", vec![("by", "x")], "what was changed"),
        ("/attempts", vec![("what", "x"), ("trust", "blind")], "blind"),
    ] {
        let r = g.post_form(&c, &format!("/cases/{id}{path}"), &fields).await;
        assert_eq!(r.status(), 422, "{path}");
        assert!(r.text().await.unwrap().contains(words), "{words}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_vehicle_has_one_life_and_what_was_changed_is_offered_to_the_next_case() {
    let g = Ground::new().await;
    let first = g.full_case().await;
    let b = Browser::new().await;
    b.sign_in(&g, "a@harrowmere.example").await;
    b.go(&format!("{}/vehicles", g.url)).await;
    b.says("Each with its history").await;
    b.check("the vehicles").await;
    b.click(".fleet a").await;
    b.see("#change").await;
    b.says("1 case, ").await;
    // What happened between cases; a day that is none is named and nothing is lost.
    b.js("document.querySelector('#change').open = true").await;
    b.js("document.querySelector('#change select[name=kind]').value = 'lowered'").await;
    b.fill("#change input[name=words]", "a leaf less in each spring").await;
    b.fill("#change input[name=distance_km]", "80000").await;
    b.js("document.querySelector('#change input[name=on]').value = '2026-08-30'").await;
    b.click("#change button").await;
    b.says("a leaf less in each spring").await;
    b.says("80\u{202f}000 km").await;
    b.check("the life of a vehicle").await;
    // The next case begins as the last one described the vehicle.
    b.fill("main input[name=title]", "hum, loaded").await;
    b.fill("main input[name=distance_km]", "82500").await;
    b.click("main .at-speed button").await;
    b.says("Its history so far").await;
    b.says("lowered on 2026-08-30, 2\u{202f}500 km ago").await;
    b.click(".counts button").await;
    b.see("main .earlier:not(:has(.counts))").await;
    b.check("a complaint with a life").await;
    let mut s = g.store.scope(g.a).await.unwrap();
    let v = s.vehicles(10).await.unwrap();
    assert_eq!((v.len(), v[0].cases), (1, 2));
    let cases = s.cases_of_vehicle(v[0].id).await.unwrap();
    let new = cases.iter().find(|c| c.stored.id != first).unwrap();
    assert!(new.stored.case().history.contains(&"lowered".to_string()));
    assert_eq!(new.stored.case().distance_km.map(|d| d.get()), Some(82_500.0));
    assert_eq!(new.stored.case().vehicle, cases.iter().find(|c| c.stored.id == first).unwrap().stored.case().vehicle);
    drop(s);
    // What someone else calls it finds the case, and the page says so.
    let c = g.client(Some("a@harrowmere.example")).await;
    let words = [("kind", "vibration"), ("words", "the giubo hammers"), ("heard_from", "unknown")];
    let sent = g.post_form(&c, &format!("/cases/{}/symptoms", new.stored.id), &words).await;
    assert_eq!(sent.status(), 303);
    b.go(&format!("{}/cases/{}/complaint", g.url, new.stored.id)).await;
    b.says("“giubo” is called flex coupling here").await;
    b.go(&format!("{}/?q=flex+coupling", g.url)).await;
    b.says("One case mentions it.").await;
    b.says("also looked for: donut, doughnut").await;
    b.check("a search on the board").await;
    b.go(&format!("{}/?q=100%25", g.url)).await;
    b.says("No case mentions it.").await;
    b.end().await;
    // Nobody else's.
    let other = g.client(Some("b@skerry.example")).await;
    for path in [format!("/vehicles/{}", v[0].id)] {
        assert_eq!(other.get(format!("{}{path}", g.url)).send().await.unwrap().status(), 404);
    }
    for path in ["changes", "cases"] {
        let change = [("on", "2026-01-01"), ("kind", "other"), ("words", "x")];
        assert_eq!(g.post_form(&other, &format!("/vehicles/{}/{path}", v[0].id), &change).await.status(), 404, "{path}");
    }
    for (field, value) in [("on", "30.8.2026"), ("kind", "painted"), ("distance_km", "far")] {
        let mut change = vec![("on", "2026-08-30"), ("kind", "other"), ("words", "x"), ("distance_km", "1")];
        change.iter_mut().filter(|c| c.0 == field).for_each(|c| c.1 = value);
        let r = g.post_form(&c, &format!("/vehicles/{}/changes", v[0].id), &change).await;
        assert_eq!(r.status(), 422, "{field}");
        assert!(r.text().await.unwrap().contains(value), "{field}");
    }
}
