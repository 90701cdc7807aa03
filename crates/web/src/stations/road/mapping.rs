//! What the columns of a file that came in hold: looked into, guessed, changed by hand.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::FormFields;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::case::{CsvWriting, RecordingSpec};
use baricord_core::error::Problem;
use baricord_core::workflow::Station;
use baricord_formats::{ColumnRole, Look, Role, TableLook, described, look, speed_described};
use baricord_store::Scope;
use baricord_store::incoming::Incoming;
use std::collections::HashMap;
use uuid::Uuid;

use super::recordings::HEAD;

/// One column of the mapping.
struct ColumnView {
    index: usize,
    name: String,
    role: &'static str,
    unit: String,
    units: &'static [&'static str],
}

/// A table to be mapped: its look, and what is wrong or understood.
#[derive(Template, WebTemplate)]
#[template(path = "road/mapping_table.html")]
struct TableView {
    /// Where changes are asked about.
    url: String,
    /// Before the names of its fields: empty, or `s_` for a speed file.
    prefix: &'static str,
    separator: String,
    comma: bool,
    columns: Vec<ColumnView>,
    lines: Vec<(u64, Vec<(String, bool)>)>,
    roles: &'static [(&'static str, &'static str)],
    problem: String,
    understood: String,
}

/// Roles of a recording's columns, with their words.
const ROLES: [(&str, &str); 8] = [
    ("nothing", "not used"),
    ("time", "time"),
    ("acceleration", "acceleration"),
    ("sound", "sound"),
    ("velocity", "velocity"),
    ("pulse", "pulse a turn"),
    ("speed", "road speed"),
    ("rpm", "engine speed"),
];
/// Roles of a speed file's columns.
const SPEED_ROLES: [(&str, &str); 3] = [("nothing", "not used"), ("time", "time"), ("speed", "road speed")];

struct SoundView {
    words: String,
    channels: Vec<ColumnView>,
    roles: &'static [(&'static str, &'static str)],
}

/// Roles of a sound file's channels.
const SOUND_ROLES: [(&str, &str); 3] = [("sound", "sound"), ("acceleration", "acceleration"), ("velocity", "velocity")];

#[derive(Template, WebTemplate)]
#[template(path = "road/mapping.html")]
struct MappingPage {
    f: Frame,
    up: Incoming,
    size: String,
    table: Option<TableView>,
    sound: Option<SoundView>,
    /// A file of speed that came with it.
    speed: Option<(Incoming, Option<TableView>)>,
    /// Whether it may need one.
    may_have_speed_file: bool,
    problem: String,
    symptoms: Vec<(String, String)>,
    gears: Vec<String>,
    ranges: Vec<String>,
    places: Vec<String>,
    gear: String,
    throttle: String,
    place: String,
    after: bool,
}

pub(super) fn writing(f: &FormFields, prefix: &str) -> CsvWriting {
    let one = |name: &str| f.text(&format!("{prefix}{name}")).filter(|t| *t != "guess").map(String::from);
    CsvWriting {
        separator: one("separator").and_then(|t| match t.as_str() {
            "tab" => Some('\t'),
            "semicolon" => Some(';'),
            "comma" => Some(','),
            _ => None,
        }),
        decimal: one("decimal").and_then(|t| t.chars().next()),
    }
}

/// Columns as a form says them; where it says nothing, as they were guessed.
pub(super) fn columns(f: &FormFields, prefix: &str, t: &TableLook) -> Vec<ColumnRole> {
    t.columns
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let role = f.text(&format!("{prefix}role_{i}")).and_then(Role::parse).unwrap_or(c.role);
            let unit = f.text(&format!("{prefix}unit_{i}")).map_or(c.unit.clone(), String::from);
            // A unit that belongs to what the column was before gives way to the usual one.
            let fits = role.units().is_empty() || role.units().contains(&unit.as_str()) || role == c.role && unit == c.unit;
            let unit = if fits { unit } else { role.units().first().copied().unwrap_or_default().to_string() };
            ColumnRole { name: c.name.clone(), role, unit }
        })
        .collect()
}

fn table_view(f: &FormFields, prefix: &'static str, url: String, t: &TableLook) -> TableView {
    let named = columns(f, prefix, t);
    let speed_file = prefix == "s_";
    let of_speed = || speed_described(t, &named).map(|speed| RecordingSpec { speed: Some(speed), ..RecordingSpec::default() });
    let description = if speed_file { of_speed() } else { described(t, &named) };
    let understood = description.as_ref().map_or(String::new(), understood);
    TableView {
        url,
        prefix,
        separator: match t.shape.separator {
            b';' => "semicolon".into(),
            b'\t' => "tab".into(),
            _ => "comma".into(),
        },
        comma: t.shape.comma,
        columns: named.iter().enumerate().map(|(index, c)| column_view(index, c)).collect(),
        lines: t.lines.clone(),
        roles: if speed_file { &SPEED_ROLES } else { &ROLES },
        problem: description.err().map_or(String::new(), |p| p.message),
        understood,
    }
}

fn column_view(index: usize, c: &ColumnRole) -> ColumnView {
    ColumnView { index, name: c.name.clone(), role: c.role.id(), unit: c.unit.clone(), units: c.role.units() }
}

/// What a description of columns says, in words.
fn understood(d: &RecordingSpec) -> String {
    let names: Vec<&str> = d.channels.iter().map(|c| c.column.as_str()).collect();
    let speed = match (&d.speed, &d.rpm) {
        (None, None) => "no speed: add a file with it, or the orders can only be followed by a ridge",
        (None, _) => "the engine's speed as reference",
        _ => "road speed as reference",
    };
    match names.as_slice() {
        [] => "time and road speed".into(),
        names => format!("{}: {}; {speed}", if names.len() == 1 { "one channel" } else { "channels" }, names.join(", ")),
    }
}

pub(super) fn sound_columns(f: &FormFields, channels: usize) -> Vec<ColumnRole> {
    (0..channels)
        .map(|i| {
            let role = f.text(&format!("role_{i}")).and_then(Role::parse).unwrap_or(Role::Sound);
            let unit = f.text(&format!("unit_{i}")).filter(|u| role.units().contains(u)).unwrap_or(role.units()[0]);
            let name = if channels == 1 { "mic".to_string() } else { format!("ch{}", i + 1) };
            ColumnRole { name, role, unit: unit.to_string() }
        })
        .collect()
}

fn size_words(bytes: i64) -> String {
    match bytes as f64 {
        b if b >= 1e9 => format!("{:.2} GB", b / 1e9),
        b if b >= 1e6 => format!("{:.1} MB", b / 1e6),
        b => format!("{:.0} kB", (b / 1e3).max(1.0)),
    }
}

pub(super) async fn looked(s: &mut Scope, up: &Incoming, how: &CsvWriting) -> Result<Look, PageError> {
    let head = s.incoming_head(up.id, HEAD).await?;
    Ok(look(&head, how).map_err(|p| Problem { field: Some("file".into()), ..p })?)
}

fn look_url(id: Uuid, up: Uuid) -> String {
    format!("/cases/{id}/incoming/{up}/look")
}

async fn mapping(m: Member, Path((id, up)): Path<(Uuid, Uuid)>) -> Result<MappingPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    let up = s.incoming(id, up).await?;
    let f = Frame::new(&m, &k, Station::Road);
    let case = k.case();
    let like = case.recordings.iter().rev().find(|r| up.phase != "after" || !r.is_after());
    let nothing = FormFields::metric(vec![]);
    let mut places: Vec<String> = ["seat-rail", "floor", "steering-wheel", "boot-floor", "gearbox"].map(String::from).to_vec();
    places.extend(case.recordings.iter().filter_map(|r| r.place.clone()));
    let mut seen = vec![];
    places.retain(|p| {
        !seen.contains(p) && {
            seen.push(p.clone());
            true
        }
    });
    let mut page = MappingPage {
        size: size_words(up.size),
        table: None,
        sound: None,
        speed: None,
        may_have_speed_file: true,
        problem: String::new(),
        symptoms: case.symptoms.iter().map(|s| (s.id.clone(), crate::wording::kind_words(&s.kind))).collect(),
        gears: case.vehicle.gearbox.gears.iter().map(|g| g.name.clone()).collect(),
        ranges: case.vehicle.transfer.iter().flat_map(|t| t.ranges.iter().map(|r| r.name.clone())).collect(),
        places,
        gear: like.and_then(|r| r.gear.clone()).unwrap_or_default(),
        throttle: like.and_then(|r| r.throttle.clone()).unwrap_or("drive".into()),
        place: like.and_then(|r| r.place.clone()).unwrap_or("seat-rail".into()),
        after: up.phase == "after",
        f,
        up,
    };
    match looked(&mut s, &page.up, &CsvWriting::default()).await {
        Ok(Look::Table(t)) => {
            page.may_have_speed_file = !t.columns.iter().any(|c| c.role == Role::Speed);
            page.table = Some(table_view(&nothing, "", look_url(id, page.up.id), &t));
        }
        Ok(Look::Sound(w)) => {
            let words = format!(
                "{} channel{}, {:.0} Hz, {} bits, {:.1} s",
                w.channels,
                if w.channels == 1 { "" } else { "s" },
                w.rate_hz,
                w.bits,
                w.seconds
            );
            let channels = sound_columns(&nothing, w.channels).iter().enumerate().map(|(i, c)| column_view(i, c)).collect();
            page.sound = Some(SoundView { words, channels, roles: &SOUND_ROLES });
        }
        Ok(Look::Track) => {
            page.problem = "This is a track: it holds the speed only. Load the recording first, then add the track to it.".into();
        }
        Err(PageError::Problem(p)) => page.problem = p.message,
        Err(e) => return Err(e),
    }
    if let Some(speed) = s.speed_for(id, page.up.id).await? {
        let table = match looked(&mut s, &speed, &CsvWriting::default()).await {
            Ok(Look::Table(t)) => Some(table_view(&nothing, "s_", look_url(id, speed.id), &t)),
            Ok(Look::Track) => None,
            Ok(Look::Sound(_)) => return Err(Problem::new("no-speed", "the speed file is a sound").field("speed.file").into()),
            Err(e) => return Err(e),
        };
        page.speed = Some((speed, table));
    }
    Ok(page)
}

/// The table again, with what was changed in it.
async fn look_again(
    m: Member,
    Path((id, up)): Path<(Uuid, Uuid)>,
    Query(q): Query<HashMap<String, String>>,
) -> Result<TableView, PageError> {
    let mut s = m.scope().await?;
    let up = s.incoming(id, up).await?;
    let f = FormFields::metric(q.into_iter().collect());
    let prefix = if up.of_id.is_some() { "s_" } else { "" };
    match looked(&mut s, &up, &writing(&f, prefix)).await? {
        Look::Table(t) => Ok(table_view(&f, prefix, look_url(id, up.id), &t)),
        _ => Err(PageError::NotFound),
    }
}

/// Routes of the mapping.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/incoming/{up}", get(mapping)).route("/cases/{id}/incoming/{up}/look", get(look_again))
}
