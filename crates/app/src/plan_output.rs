//! `baricord repair-plan`: the plan as JSON, or as a sheet for the bench.

use crate::commands::print_json;
use crate::output::outln;
use baricord_core::error::Problem;
use baricord_core::repair::repair_plan::{Aim, RepairPlan};
use baricord_core::repair::step::{On, Step};
use baricord_formats::{CaseSource, answers};
use std::path::Path;

/// Prints the plan of a case.
pub fn repair_plan(path: &Path, json: bool, put_back: bool) -> Result<(), Problem> {
    let aim = if put_back { Aim::PutBack } else { Aim::Repair };
    let plan = answers::repair_plan(&CaseSource::open(path)?, aim)?;
    if json {
        return print_json(&plan);
    }
    print_plan(&plan);
    Ok(())
}

fn where_words(s: &Step) -> &'static str {
    match s.state.on {
        _ if s.bench => "On the bench",
        On::Lift => "On the lift",
        On::Ground => "On the ground",
    }
}

fn flags(s: &Step) -> String {
    let mut out: Vec<String> = vec![];
    for f in &s.fasteners {
        let size = f.drive_mm.map_or(String::new(), |mm| format!(" {mm} mm"));
        let torque = f.torque_nm.map_or(String::new(), |t| format!(" {t} N·m"));
        let new = if f.renew { ", new" } else { "" };
        out.push(format!("{} {}{size}{torque}{new}", f.count, f.what));
    }
    if s.state.helper {
        out.push("helper".into());
    }
    if let Some(w) = &s.wait {
        out.push(format!("{} {:.0} min", w.kind, w.minutes));
    }
    if out.is_empty() { String::new() } else { format!("  [{}]", out.join("; ")) }
}

fn print_plan(p: &RepairPlan) {
    for x in &p.problems {
        outln!("cannot be planned: {} ({})", x.message, x.at);
    }
    for a in &p.asks {
        outln!("answer first: {} ({}; planned for {})", a.message, a.choices.join(", "), a.usual);
    }
    if p.steps.is_empty() {
        outln!("No repair is planned or under way.");
        return;
    }
    let s = &p.schedule;
    outln!(
        "{:.0} min hands on ({:.0} to {:.0}), {:.0} min from start to end",
        s.minutes[1],
        s.minutes[0],
        s.minutes[2],
        s.elapsed[1]
    );
    if s.helper_minutes > 0.0 {
        outln!("A helper for {:.0} min", s.helper_minutes);
    }
    let mut stands = "";
    for (n, step) in p.in_order().enumerate() {
        if where_words(step) != stands {
            stands = where_words(step);
            outln!("{stands}");
        }
        outln!("{:4}  {:5.1} min  {}{}", n + 1, step.minutes[1], step.what, flags(step));
    }
    let tool = |t: &baricord_core::repair::kit::Tool| match (&t.mm, &t.inch) {
        (Some(mm), Some(inch)) => format!("{} {mm} mm ({inch})", t.what),
        _ => t.what.clone(),
    };
    outln!("Tools: {}", p.kit.tools.iter().map(tool).collect::<Vec<_>>().join(", "));
    let used = p.kit.consumables.iter().map(|c| format!("{} {} {}", c.what, c.amount, c.unit)).collect::<Vec<_>>();
    outln!("Consumables: {}", used.join(", "));
    let once = p.kit.single_use.iter().map(|x| format!("{} × {}", x.count, x.what)).collect::<Vec<_>>();
    outln!("New: {}", once.join(", "));
    outln!("Figures to look up: {}", p.kit.missing_figures.iter().map(|m| m.what.as_str()).collect::<Vec<_>>().join(", "));
    for r in &p.restore {
        outln!("Put back: {}{}", r.what, if r.step.is_none() { " (another trade)" } else { "" });
    }
    for o in &p.owed {
        outln!("After {:.0} km: {}", o.after.km, o.what);
    }
}
