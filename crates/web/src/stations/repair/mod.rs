//! Repair: the chosen cause, what will be done, the marks, torques with their source, the caution.

use crate::App;
use crate::auth::{Member, may};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::Posted;
use crate::stations::test_cards::CautionView;
use crate::wording::cause_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::safety::cautions::at_repair;
use baricord_core::workflow::Station;
use serde_json::{Value, json};
use uuid::Uuid;

struct Torque {
    what: String,
    nm: String,
    source: String,
}

struct RepairForm {
    index: usize,
    cause: String,
    what: String,
    cautions: Vec<CautionView>,
    needs_marks: bool,
    marks: String,
    torques: Vec<Torque>,
    note: String,
    part: String,
    result: String,
    reason: String,
    /// What is looked at for little while it is open.
    looks: Vec<String>,
}

#[derive(Template, WebTemplate)]
#[template(path = "repair/repair.html")]
struct RepairPage {
    f: Frame,
    plan: Option<RepairForm>,
    earlier: Vec<(String, String)>,
}

fn text(v: &Value, key: &str) -> String {
    v[key].as_str().unwrap_or_default().to_string()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<RepairPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Repair).await?;
    let (kb, case) = (&*k.knowledge, k.case());
    let raw = k.stored.document["repairs"].as_array().cloned().unwrap_or_default();
    let words = |i: usize| {
        let r = &case.repairs[i];
        cause_words(kb, case, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref())
    };
    let open = case.repairs.iter().rposition(|r| matches!(r.result.as_deref(), None | Some("open")));
    let plan = open.map(|i| {
        let (r, doc) = (&case.repairs[i], &raw[i]);
        let rule = kb.fault(&r.fault);
        let mut torques: Vec<Torque> = doc["torques"]
            .as_array()
            .into_iter()
            .flatten()
            .map(|t| Torque {
                what: text(t, "what"),
                nm: t["nm"].as_f64().map_or(String::new(), |n| n.to_string()),
                source: text(t, "source"),
            })
            .collect();
        while torques.len() < 3 {
            torques.push(Torque { what: String::new(), nm: String::new(), source: String::new() });
        }
        let at = r.at.as_deref().and_then(|a| case.vehicle.place(a));
        let cautions = rule.map_or(vec![], |f| at_repair(case, kb, f, at.as_ref()));
        let cautions = cautions.into_iter().map(CautionView::new).collect();
        RepairForm {
            index: i,
            cause: words(i),
            what: doc["plan"].as_str().map_or_else(|| rule.map_or(String::new(), |f| f.repair.clone()), String::from),
            needs_marks: rule.is_some_and(|f| f.caution.iter().any(|c| c == "marks")),
            cautions,
            marks: text(doc, "marks"),
            torques,
            note: text(doc, "note"),
            part: r.part.clone().unwrap_or_default(),
            result: r.result.clone().unwrap_or_default(),
            reason: text(doc, "reason"),
            looks: crate::stations::test_cards::looks_at_repair(&k, &r.fault, r.at.as_deref()),
        }
    });
    let earlier = (0..case.repairs.len())
        .filter(|i| Some(*i) != open)
        .map(|i| (words(i), case.repairs[i].result.clone().unwrap_or_default().replace('-', " ")))
        .collect();
    Ok(RepairPage { plan, earlier, f })
}

async fn save(Posted { member: m, path: (id, index), form: f }: Posted<(Uuid, usize)>) -> Result<Redirect, PageError> {
    let done = f.text("done") == Some("yes");
    let dropped = f.text("done") == Some("drop");
    let mut s = m.scope().await?;
    let has_part = s.case(id).await?.case.repairs.get(index).and_then(|r| r.part.clone());
    if f.text("part").is_some_and(|p| has_part.as_deref() != Some(p)) {
        may(&m, Act::Buy)?;
    }
    let what = if done {
        "repair done"
    } else if dropped {
        "cancelled the repair"
    } else {
        "repair planned"
    };
    s.edit_case(id, f.version(), what, &m.person.name, |d| {
        let list = d["repairs"].as_array_mut().ok_or_else(|| Problem::new("missing", "there is no repair to change"))?;
        if index >= list.len() {
            return Err(Problem::new("missing", "this repair is not there any more"));
        }
        if dropped {
            list.remove(index);
            return Ok(());
        }
        let r = &mut list[index];
        for key in ["plan", "marks", "note", "part"] {
            if let Some(t) = f.text(key) {
                r[key] = t.into();
            }
        }
        let (what, nm, source) = (
            f.0.iter().filter(|x| x.0 == "torque-what"),
            f.0.iter().filter(|x| x.0 == "torque-nm"),
            f.0.iter().filter(|x| x.0 == "torque-source"),
        );
        let mut torques = vec![];
        for ((w, n), s) in what.zip(nm).zip(source) {
            let (w, n, s) = (w.1.trim(), n.1.trim(), s.1.trim());
            if w.is_empty() && n.is_empty() {
                continue;
            }
            let value = crate::stations::form::parse_number(n)
                .ok_or_else(|| Problem::new("bad-number", format!("torque of {w}: “{n}” is not a number")).field("torque-nm"))?;
            if s.is_empty() {
                return Err(Problem::new(
                    "missing",
                    format!("where does the torque of {w} come from? A figure without a source is a guess"),
                )
                .field("torque-source"));
            }
            torques.push(json!({"what": w, "nm": value, "source": s}));
        }
        if !torques.is_empty() {
            r["torques"] = Value::Array(torques);
        }
        if done {
            let needs =
                builtin().fault(r["fault"].as_str().unwrap_or_default()).is_some_and(|x| x.caution.iter().any(|c| c == "marks"));
            if needs && r["marks"].as_str().is_none_or(|m| m.trim().is_empty()) {
                return Err(Problem::new(
                    "marks",
                    "say how the flanges were marked before they were parted; without marks the balance is lost",
                )
                .field("marks"));
            }
            r["result"] = "open".into();
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    let to = if done {
        "prove"
    } else if dropped {
        "decide"
    } else {
        "repair"
    };
    Ok(Redirect::to(&format!("/cases/{id}/{to}")))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/repair", get(show)).route("/cases/{id}/repairs/{index}", post(save))
}
