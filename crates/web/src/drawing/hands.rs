//! Where the hands go: one small drawing for each way of feeling, turning, prying, listening and looking.

use baricord_core::hands::Hands;

fn hand(x: i32, y: i32) -> String {
    format!(r#"<circle class="hand" cx="{x}" cy="{y}" r="10"/>"#)
}

fn wheel() -> &'static str {
    r#"<circle class="part" cx="110" cy="60" r="44"/><circle class="part" cx="110" cy="60" r="27"/><circle class="part" cx="110" cy="60" r="6"/>"#
}

fn shaft(from: i32, to: i32, y: i32) -> String {
    format!(r#"<path class="part" d="M{from} {a} H{to} M{from} {b} H{to}"/>"#, a = y - 9, b = y + 9)
}

fn joint(x: i32, y: i32) -> String {
    format!(
        r#"<path class="part" d="M{a} {t} q12 9 0 18 M{b} {t} q-12 9 0 18"/><circle class="part" cx="{x}" cy="{y}" r="9"/><path class="part" d="M{x} {t} v18 M{l} {y} h18"/>"#,
        a = x - 18,
        b = x + 18,
        t = y - 9,
        l = x - 9
    )
}

/// An arrow along a path, its head drawn by the marker of the page.
fn moves(d: &str) -> String {
    format!(r#"<path class="moves" d="{d}"/>"#)
}

const EYE: &str = r#"<path class="part" d="M150 22 q18 -16 36 0 q-18 16 -36 0"/><circle class="eye" cx="168" cy="22" r="5"/>"#;

/// Two vehicles from above, turning left and right; the wheels that carry the load are filled.
const BEND: &str = r#"<path class="moves" d="M44 108 C44 60 40 34 12 20 l10 -2 m-10 2 l4 9"/><rect class="part" x="60" y="34" width="9" height="22"/><rect class="part" x="60" y="82" width="9" height="22"/><rect class="hand" x="94" y="34" width="9" height="22"/><rect class="hand" x="94" y="82" width="9" height="22"/><path class="part" d="M82 34 v70 M69 45 h25 M69 93 h25"/><path class="moves" d="M176 108 C176 60 180 34 208 20 l-10 -2 m10 2 l-4 9"/><rect class="hand" x="118" y="34" width="9" height="22"/><rect class="hand" x="118" y="82" width="9" height="22"/><rect class="part" x="152" y="34" width="9" height="22"/><rect class="part" x="152" y="82" width="9" height="22"/><path class="part" d="M140 34 v70 M127 45 h25 M127 93 h25"/>"#;

/// The drawing, with what it shows in words.
pub fn hands(of: Hands) -> String {
    let (words, inside) = match of {
        Hands::Rock => (
            "hands at the top and the bottom of the wheel, rocked in and out",
            format!(
                "{}{}{}{}{}",
                wheel(),
                hand(110, 16),
                hand(110, 104),
                moves("M128 16 h28 l-7 -5 m7 5 l-7 5"),
                moves("M92 104 h-28 l7 -5 m-7 5 l7 5")
            ),
        ),
        Hands::Spin => (
            "one hand spins it, the other rests on spring or hub and feels",
            format!("{}{}{}{}", wheel(), hand(152, 46), hand(72, 60), moves("M160 66 a50 50 0 0 1 -30 38 l3 -9 m-3 9 l10 1")),
        ),
        Hands::Twist => (
            "a hand on either side of the joint, twisted against each other and lifted",
            format!(
                "{}{}{}{}{}{}{}",
                shaft(14, 92, 60),
                shaft(128, 206, 60),
                joint(110, 60),
                hand(58, 60),
                hand(162, 60),
                moves("M48 40 a12 18 0 0 1 20 0 l-8 -2 m8 2 l1 -9"),
                moves("M172 80 a12 18 0 0 1 -20 0 l8 2 m-8 -2 l-1 9")
            ),
        ),
        Hands::Swing => (
            "one side held, the other swung through both planes",
            format!(
                r#"{}{}<path class="part" d="M124 50 L204 22 M130 66 L208 40"/><path class="faint" d="M128 54 L206 82 M122 68 L200 98"/>{}{}"#,
                shaft(14, 92, 60),
                joint(110, 60),
                hand(190, 36),
                moves("M198 52 q6 10 -2 24 l-2 -9 m2 9 l8 -4")
            ),
        ),
        Hands::Lift => (
            "lifted and pressed by hand, close to the bearing",
            format!(
                r#"{}<rect class="part" x="32" y="32" width="34" height="56" rx="6"/>{}{}"#,
                shaft(66, 206, 60),
                hand(96, 80),
                moves("M120 98 V44 l-5 8 m5 -8 l5 8 M120 98 l-5 -8 m5 8 l5 -8")
            ),
        ),
        Hands::Bar => (
            "a bar against it, pushed to and fro",
            format!(
                r#"<rect class="part" x="24" y="26" width="70" height="26" rx="8"/><rect class="part" x="36" y="52" width="46" height="22"/><path class="bar-tool" d="M76 46 L186 98"/>{}{}"#,
                hand(180, 95),
                moves("M196 74 v28 l-5 -7 m5 7 l5 -7 M196 74 l-5 7 m5 -7 l5 7")
            ),
        ),
        Hands::Squeeze => (
            "every fold squeezed and turned",
            format!(
                r#"{}<path class="part" d="M62 42 l10 -14 10 14 10 -14 10 14 10 -14 10 14 10 -14 10 14 V78 l-10 14 -10 -14 -10 14 -10 -14 -10 14 -10 -14 -10 14 -10 -14 Z"/>{}{}{}{}{}"#,
                shaft(14, 62, 60),
                shaft(142, 206, 60),
                hand(102, 16),
                hand(102, 106),
                moves("M124 10 v18 l-5 -6 m5 6 l5 -6"),
                moves("M124 112 v-18 l-5 6 m5 -6 l5 6")
            ),
        ),
        Hands::Listen => (
            "the rod on the housing, close to the bearing; sleeves and hair away from what turns",
            format!(
                r#"<path class="part" d="M24 92 V50 a32 32 0 0 1 64 0 V92 Z"/><circle class="part" cx="56" cy="58" r="13"/><path class="bar-tool" d="M68 52 L168 24"/><path class="part" d="M176 10 q18 4 12 20 q-6 8 -10 2"/>{}"#,
                hand(136, 33)
            ),
        ),
        Hands::Dial => (
            "the dial stands still on the body, the part is turned by hand",
            format!(
                r#"<circle class="part" cx="70" cy="72" r="34"/><path class="part" d="M104 72 h24"/><circle class="part" cx="150" cy="72" r="22"/><path class="part" d="M150 72 l10 -12 M150 94 v18 M132 112 h36"/>{}{}"#,
                hand(46, 48),
                moves("M84 22 a52 52 0 0 0 -44 12 l9 1 m-9 -1 l1 -9")
            ),
        ),
        Hands::Gauge => (
            "the gauge lies on a machined face, in line with the shaft",
            format!(
                r#"<path class="part" d="M12 44 L208 92 M8 62 L204 110"/><path class="faint" d="M12 104 H208"/><rect class="part" x="82" y="22" width="46" height="40" transform="rotate(14 105 62)"/><path class="part" d="M108 26 v14"/>{}"#,
                hand(146, 52)
            ),
        ),
        Hands::Watch => (
            "one turns it to and fro, the other watches what follows late",
            format!(
                "{}{}{}{}{}{EYE}",
                shaft(14, 92, 70),
                shaft(128, 206, 70),
                joint(110, 70),
                hand(44, 70),
                moves("M28 48 a18 16 0 0 1 32 0 l-8 -3 m8 3 l2 -9 M28 48 l-2 -9 m2 9 l8 -3")
            ),
        ),
        Hands::Wrench => (
            "a wrench on it, turned slowly",
            format!(
                r#"<path class="part" d="M40 60 l14 -24 h28 l14 24 -14 24 h-28 Z"/><path class="bar-tool" d="M84 60 H176"/>{}{}"#,
                hand(176, 60),
                moves("M186 40 a60 60 0 0 0 -24 -24 l3 9 m-3 -9 l9 -1")
            ),
        ),
        Hands::Look => (
            "a lamp on it; hands away",
            format!(
                r#"<path class="part" d="M24 96 V58 l18 -16 h56 l18 16 V96 Z"/><circle class="part" cx="70" cy="70" r="14"/><path class="faint" d="M160 96 L112 54 M160 96 L104 88"/><path class="part" d="M158 88 l22 8 -6 16 -22 -8 Z"/>{EYE}"#
            ),
        ),
        Hands::Bend => {
            ("in a left turn the right wheels stand outside and carry the load, in a right turn the left ones", BEND.to_string())
        }
    };
    format!(r#"<svg class="hands" viewBox="0 0 220 120" role="img" aria-label="{words}">{inside}</svg>"#)
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::reasoning::knowledge::builtin;

    #[test]
    fn every_look_under_the_vehicle_has_its_picture() {
        let without: Vec<_> = builtin()
            .tests
            .iter()
            .filter(|t| t.lift && t.hands.is_none())
            .map(|t| t.id.as_str())
            .filter(|id| !["grease-and-retest", "reindex-retest"].contains(id))
            .collect();
        assert!(without.is_empty(), "{without:?}");
        let drawn: Vec<String> = builtin().tests.iter().filter_map(|t| t.hands).map(hands).collect();
        assert!(drawn.iter().all(|d| d.contains("aria-label") && (d.contains("hand") || d.contains("eye"))));
    }
}
