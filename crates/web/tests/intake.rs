//! The intake in a browser: questions that follow from the answers, a symptom that does not come, and
//! what was tried before.

mod support;

use support::{Browser, Ground};

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
    b.js("document.querySelector('#tried select').value = 'seen'").await;
    b.click("#tried button").await;
    b.says("Tried before (1)").await;
    let case = g.store.scope(g.a).await.unwrap().case(id).await.unwrap();
    assert_eq!(case.document["attempts"][0]["trust"], "seen");
    assert!(case.case.history.contains(&"earlier-work".to_string()));
    let c = &case.case.symptoms[0].condition;
    assert_eq!((c["heard"].as_str(), c["load"].as_str(), c["turn"].as_str()), ("no", "coast", "left"));
    // The condition stands where it is driven again, and the coach asks for its load.
    b.go(&format!("{}/cases/{id}/prove", g.url)).await;
    b.says("as it was heard: lifts off, turning left, a fast bend, cold, the first kilometres").await;
    let coach = baricord_web::driving::coach(&case.case, "S1").unwrap();
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
