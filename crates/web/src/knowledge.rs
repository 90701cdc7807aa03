//! What the program knows of the trade, readable by a mechanic: each fault with what speaks for and against it, each
//! test with its minutes; and what this workshop has changed of it.

use crate::App;
use crate::auth::{Member, may};
use crate::error::PageError;
use crate::stations::form::FormFields;
use crate::wording::kind_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::Path;
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::error::Problem;
use baricord_core::measure::angle_targets::School;
use baricord_core::permission::Act;
use baricord_core::reasoning::knowledge::{
    BookBearing, Explanation, Fault, FaultOverride, Knowledge, LIMITS, WorkshopOverrides, book_number, builtin,
    kind_of_place_words, shipped_limit,
};
use baricord_core::units::{Degrees, Millimetres, Unit};

struct FaultView {
    id: String,
    name: String,
    /// How often, in the relative numbers of the data file.
    rate: String,
    kinds: String,
    minutes: String,
    price: String,
    repair: String,
    history: String,
    speaks: Vec<SaysLine>,
    against: Vec<SaysLine>,
    cautions: Vec<String>,
    /// What this workshop changed, with what ships.
    changed: String,
}

struct SaysLine {
    words: String,
    often: &'static str,
}

struct TestView {
    id: String,
    ask: String,
    how: String,
    minutes: String,
    needs: String,
    outcomes: String,
    cautions: Vec<String>,
    changed: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "knowledge.html")]
struct KnowledgePage {
    theme: String,
    person: String,
    can_write: bool,
    faults: Vec<FaultView>,
    tests: Vec<TestView>,
    rate: String,
    currency: String,
    certainty: String,
    workshop_changed: String,
    changes: usize,
    limits: Vec<LimitView>,
    /// What joint angles aim at: id, words, whether it is chosen.
    schools: Vec<(&'static str, &'static str, bool)>,
    /// The book of bearings: number, what it is, its source.
    bearings: Vec<(String, String, String)>,
}

/// A limit that a workshop may set.
struct LimitView {
    key: &'static str,
    words: &'static str,
    unit: &'static str,
    own: String,
    ships: String,
}

fn says(all: Vec<Explanation>) -> Vec<SaysLine> {
    let why = |s: &Explanation| s.why.as_ref().map_or(String::new(), |w| format!(" ({w})"));
    all.into_iter().map(|s| SaysLine { often: s.often(), words: format!("{}: {}{}", s.ask, s.outcome, why(&s)) }).collect()
}

fn words_of<'a>(ids: impl IntoIterator<Item = &'a str>) -> String {
    ids.into_iter().map(kind_words).collect::<Vec<_>>().join(", ")
}

/// What a driver calls a fault, the usual word first, and what it is called at some of its places.
fn kinds_of(f: &Fault) -> String {
    let place = |o: &baricord_core::reasoning::knowledge::Only| {
        let at: Vec<String> = o.at.iter().map(|k| kind_of_place_words(k)).collect();
        format!("; at the {} as {}", at.join(", "), words_of(o.kinds.keys().map(String::as_str)))
    };
    let there: String = f.only.iter().filter(|o| !o.kinds.is_empty()).map(place).collect();
    format!("{}{there}", words_of(f.usual_kinds()))
}

fn fault_view(k: &Knowledge, id: &str) -> Option<FaultView> {
    let (f, was) = (k.fault(id)?, builtin().fault(id)?);
    let (speaks, against) = k.explain(f);
    let mut changed = vec![];
    if f.rate != was.rate {
        changed.push(format!("how often: {:.1} instead of {:.1}", f.rate, was.rate));
    }
    if f.minutes != was.minutes {
        changed.push(format!("{} instead of {} minutes", f.minutes, was.minutes));
    }
    if f.price != was.price {
        changed.push(format!("{} instead of {} for parts", f.price, was.price));
    }
    Some(FaultView {
        id: f.id.clone(),
        name: f.name.clone(),
        rate: f.rate.to_string(),
        kinds: kinds_of(f),
        minutes: f.minutes.to_string(),
        price: f.price.to_string(),
        repair: f.repair.clone(),
        history: words_of(f.history.keys().map(String::as_str)),
        speaks: says(speaks),
        against: says(against),
        cautions: f.caution.iter().filter_map(|c| k.caution(c)).map(|c| c.words.clone()).collect(),
        changed: changed.join(", "),
    })
}

fn test_view(k: &Knowledge, id: &str) -> Option<TestView> {
    let (t, was) = (k.test(id)?, builtin().test(id)?);
    Some(TestView {
        id: t.id.clone(),
        ask: t.ask.clone(),
        how: t.how.clone(),
        minutes: t.minutes.to_string(),
        needs: t.posture().join(", "),
        outcomes: t.outcomes.iter().map(|o| o.words.as_str()).collect::<Vec<_>>().join(" · "),
        cautions: t.caution.iter().filter_map(|c| k.caution(c)).map(|c| c.words.clone()).collect(),
        changed: if t.minutes == was.minutes {
            String::new()
        } else {
            format!("{} instead of {} minutes", t.minutes, was.minutes)
        },
    })
}

async fn show(m: Member) -> Result<KnowledgePage, PageError> {
    let k = m.scope().await?.knowledge().await?;
    let overrides = k.overrides();
    let mut names: Vec<(&str, &str)> = k.faults.iter().map(|f| (f.name.as_str(), f.id.as_str())).collect();
    names.sort_unstable();
    let was = &builtin().weights;
    let mut workshop_changed = vec![];
    if k.weights.time.rate != was.time.rate {
        workshop_changed.push(format!("an hour at {} instead of {}", k.weights.time.rate, was.time.rate));
    }
    if k.weights.time.currency != was.time.currency {
        workshop_changed.push(format!("money in {} instead of {}", k.weights.time.currency, was.time.currency));
    }
    if k.weights.gate.certainty != was.gate.certainty {
        workshop_changed.push(format!(
            "parts from {:.0} instead of {:.0} % on",
            100.0 * k.weights.gate.certainty,
            100.0 * was.gate.certainty
        ));
    }
    if let Some(s) = overrides.angle_school {
        workshop_changed.push(format!("joint angles aim at: {}", s.words()));
    }
    let school = overrides.angle_school.unwrap_or(School::Cruise);
    let book = |(number, b): (&String, &BookBearing)| {
        let contact = if b.contact_deg.get() == 0.0 { String::new() } else { format!(", {}°", b.contact_deg.get()) };
        let what = format!("{} × {} mm on {} mm{contact}", b.elements, b.element_mm.get(), b.pitch_mm.get());
        (number.clone(), what, b.source.clone())
    };
    Ok(KnowledgePage {
        schools: School::ALL.map(|s| (s.id(), s.words(), s == school)).to_vec(),
        bearings: overrides.bearings.iter().map(book).collect(),
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        can_write: m.person.role().may(Act::ChangeKnowledge),
        faults: names.iter().filter_map(|n| fault_view(&k, n.1)).collect(),
        tests: k.tests.iter().filter_map(|t| test_view(&k, &t.id)).collect(),
        rate: k.weights.time.rate.to_string(),
        currency: k.weights.time.currency.clone(),
        certainty: format!("{:.0}", 100.0 * k.weights.gate.certainty),
        changes: overrides.tests.len()
            + overrides.faults.len()
            + overrides.bearings.len()
            + overrides.procedures.len()
            + workshop_changed.len()
            + LIMITS.iter().filter(|l| overrides.limit(l.0).is_some()).count(),
        limits: LIMITS
            .iter()
            .map(|&(key, words, unit, ..)| LimitView {
                key,
                words,
                unit,
                own: overrides.limit(key).map_or(String::new(), |x| x.to_string()),
                ships: shipped_limit(key).map_or("no limit".into(), |x| x.to_string()),
            })
            .collect(),
        workshop_changed: workshop_changed.join(", "),
    })
}

/// A field as a number where it differs from what ships.
fn own(f: &FormFields, name: &str, ships: f64) -> Result<Option<f64>, Problem> {
    Ok(f.number(name)?.filter(|x| *x != ships))
}

/// Changes what a workshop has changed; what cannot be is refused by field and nothing is kept.
async fn change(m: &Member, how: impl FnOnce(&mut WorkshopOverrides) -> Result<(), Problem>) -> Result<Redirect, PageError> {
    change_overrides(m, how).await?;
    Ok(Redirect::to("/knowledge"))
}

/// What a workshop changes of the knowledge is kept, once it reads as a whole.
pub(crate) async fn change_overrides(
    m: &Member,
    how: impl FnOnce(&mut WorkshopOverrides) -> Result<(), Problem>,
) -> Result<(), PageError> {
    may(m, Act::ChangeKnowledge)?;
    let mut s = m.scope().await?;
    let k = s.knowledge().await?;
    let mut overrides = k.overrides().clone();
    how(&mut overrides)?;
    overrides.may_replace(k.overrides())?;
    s.set_overrides(&overrides).await?;
    s.commit().await?;
    Ok(())
}

async fn change_fault(m: Member, Path(id): Path<String>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    // What the workshop knows is kept and typed in metric units.
    let f = FormFields::metric(f);
    let ships = builtin().fault(&id).ok_or(PageError::NotFound)?;
    let back = f.text("back") == Some("yes");
    change(&m, |h| {
        let own = FaultOverride {
            rate: own(&f, "rate", ships.rate)?,
            rarity: None,
            minutes: own(&f, "minutes", ships.minutes)?,
            price: own(&f, "price", ships.price)?,
        };
        h.faults.remove(&id);
        if !back && own != FaultOverride::default() {
            h.faults.insert(id.clone(), own);
        }
        Ok(())
    })
    .await
}

async fn change_test(m: Member, Path(id): Path<String>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::metric(f);
    let ships = builtin().test(&id).ok_or(PageError::NotFound)?;
    let back = f.text("back") == Some("yes");
    change(&m, |h| {
        h.tests.remove(&id);
        if let Some(minutes) = own(&f, "minutes", ships.minutes)?.filter(|_| !back) {
            h.tests.insert(id.clone(), minutes);
        }
        Ok(())
    })
    .await
}

async fn change_workshop(m: Member, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::metric(f);
    let was = &builtin().weights;
    change(&m, |h| {
        h.rate = own(&f, "rate", was.time.rate)?;
        h.angle_school = School::ALL.into_iter().find(|s| Some(s.id()) == f.text("school")).filter(|s| *s != School::Cruise);
        h.currency = f.text("currency").filter(|c| *c != was.time.currency).map(String::from);
        h.certainty = f.number("certainty")?.map(|c| c / 100.0).filter(|c| *c != was.gate.certainty);
        Ok(())
    })
    .await
}

/// Its own limits, all at once: an empty field takes one back.
async fn change_limits(m: Member, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::metric(f);
    change(&m, |h| {
        for (key, ..) in LIMITS {
            let ships = shipped_limit(key);
            h.set_limit(key, f.number(key)?.filter(|x| Some(*x) != ships))?;
        }
        Ok(())
    })
    .await
}

/// Writes a bearing into the workshop's book, or takes it out.
async fn change_bearing(m: Member, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::of(&m, f);
    let number = book_number(f.need("number", "the number on the bearing")?);
    let need = |name: &str, what: &str| {
        let missing = || Problem::new("missing", format!("{what} is missing")).field(name);
        f.amount(name, Unit::Millimetre)?.map(Millimetres).ok_or_else(missing)
    };
    change(&m, |h| {
        if f.text("back") == Some("yes") {
            h.bearings.remove(&number);
            return Ok(());
        }
        let elements = f.count("balls")?;
        let bearing = BookBearing {
            elements: elements.ok_or_else(|| Problem::new("missing", "how many balls or rollers?").field("balls"))?,
            element_mm: need("element", "the size of a ball or roller")?,
            pitch_mm: need("pitch", "the pitch circle")?,
            contact_deg: Degrees(f.number("contact")?.unwrap_or(0.0)),
            source: f.sentence("source", "where the geometry comes from", 200)?.into(),
        };
        bearing.check()?;
        h.bearings.insert(number, bearing);
        Ok(())
    })
    .await
}

/// Routes of the knowledge.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/knowledge", get(show))
        .route("/knowledge/house", post(change_workshop))
        .route("/knowledge/limits", post(change_limits))
        .route("/knowledge/bearings", post(change_bearing))
        .route("/knowledge/faults/{id}", post(change_fault))
        .route("/knowledge/tests/{id}", post(change_test))
}
