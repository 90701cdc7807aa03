//! A repair plan as a line of time.

use crate::wording::hours;
use baricord_core::repair::repair_plan::RepairPlan;
use baricord_core::repair::step::Step;
use std::fmt::Write;

/// The plan as a line of time: a box for each stretch, hatched where nothing can be done but wait, yellow where a helper is needed.
pub fn time_line(plan: &RepairPlan, stance: fn(&Step) -> &'static str) -> String {
    const WIDTH: f64 = 900.0;
    let total = plan.schedule.elapsed[1].max(1.0);
    let x = |m: f64| m / total * WIDTH;
    let mut o = String::from(
        r#"<svg class="time-line" viewBox="0 0 900 62" role="img" aria-label="The plan as a line of time"><defs><pattern id="wait-hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><line x1="0" y1="0" x2="0" y2="6" class="hatch"/></pattern></defs>"#,
    );
    let mut boxes: Vec<(&'static str, f64, f64)> = vec![];
    let mut idle = vec![];
    let mut helper = vec![];
    for (s, from, waited) in plan.timed() {
        if waited > 0.01 {
            idle.push((from - waited, from));
        }
        let now = from + s.minutes[1];
        match boxes.last_mut() {
            Some(b) if b.0 == stance(s) => b.2 = now,
            _ => boxes.push((stance(s), from, now)),
        }
        if s.state.helper {
            helper.push((from, now));
        }
    }
    for (_, from, to) in &boxes {
        let _ = write!(o, r#"<rect class="stretch" x="{:.1}" y="8" width="{:.1}" height="30"/>"#, x(*from), x(*to) - x(*from));
    }
    for (from, to) in &idle {
        let _ = write!(
            o,
            r#"<rect class="idle" x="{:.1}" y="8" width="{:.1}" height="30" fill="url(#wait-hatch)"/>"#,
            x(*from),
            x(*to) - x(*from)
        );
    }
    for (title, from, to) in &boxes {
        let short = title.trim_start_matches("On the ");
        // The word stands where nothing is hatched over it.
        let free = idle.iter().filter(|i| i.0 >= *from && i.0 < *to).map(|i| i.0).fold(*to, f64::min);
        if x(free) - x(*from) > 8.0 * short.len() as f64 + 10.0 {
            let _ = write!(o, r#"<text class="stretch-word" x="{:.1}" y="28">{short}</text>"#, x(*from) + 6.0);
        }
    }
    for (from, to) in helper {
        let _ =
            write!(o, r#"<rect class="helper" x="{:.1}" y="3" width="{:.1}" height="40"/>"#, x(from), (x(to) - x(from)).max(4.0));
    }
    let _ = write!(o, r#"<line class="line" x1="0" y1="44" x2="{WIDTH}" y2="44"/>"#);
    let step = if total > 360.0 {
        120.0
    } else if total > 150.0 {
        60.0
    } else {
        30.0
    };
    let mut t = 0.0;
    while t <= total {
        let _ = write!(
            o,
            r#"<line class="line" x1="{a:.1}" y1="41" x2="{a:.1}" y2="47"/><text class="time" x="{a:.1}" y="60">{}</text>"#,
            hours(t),
            a = x(t)
        );
        t += step;
    }
    o += "</svg>";
    o
}
