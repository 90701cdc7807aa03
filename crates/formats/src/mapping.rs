//! What a file that has just come in seems to be: its columns with what they probably hold, to be
//! looked at before anything is kept.

use crate::csv_in::{CsvShape, sniff_as};
use crate::numbers::{channel_factor, number, speed_factor, time_factor};
use crate::wav::{self, WavProbe};
use baricord_core::case::{ChannelSpec, Column, CsvWriting, RecordingSpec, ReferenceSpec};
use baricord_core::error::Problem;

/// Lines that are shown.
const MAX_SHOWN_LINES: usize = 10;
/// Channels of a recording.
const MAX_CHANNELS: usize = 8;

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Nothing that is wanted.
    Nothing,
    /// Time.
    Time,
    /// A channel of acceleration.
    Acceleration,
    /// A channel of sound.
    Sound,
    /// A channel of vibration velocity.
    Velocity,
    /// A pulse each turn.
    Pulse,
    /// Road speed.
    Speed,
    /// Engine speed.
    Rpm,
}

impl Role {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Role; 8] =
        [Self::Nothing, Self::Time, Self::Acceleration, Self::Sound, Self::Velocity, Self::Pulse, Self::Speed, Self::Rpm];

    /// Its word in forms and case files.
    pub fn id(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Time => "time",
            Self::Acceleration => "acceleration",
            Self::Sound => "sound",
            Self::Velocity => "velocity",
            Self::Pulse => "pulse",
            Self::Speed => "speed",
            Self::Rpm => "rpm",
        }
    }

    /// From its word.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.id() == word)
    }

    /// Units that it may have, the usual one first.
    pub fn units(self) -> &'static [&'static str] {
        match self {
            Self::Nothing | Self::Pulse => &[],
            Self::Time => &["s", "ms", "us", "min"],
            Self::Acceleration => &["m/s2", "g", "mg"],
            Self::Sound => &["fs", "Pa"],
            Self::Velocity => &["mm/s"],
            Self::Speed => &["km/h", "mph", "m/s", "kn"],
            Self::Rpm => &["rpm"],
        }
    }

    fn is_channel(self) -> bool {
        matches!(self, Self::Acceleration | Self::Sound | Self::Velocity | Self::Pulse)
    }

    fn takes(self, unit: &str) -> bool {
        match self {
            Self::Time => time_factor(unit).is_some(),
            Self::Speed => speed_factor(unit).is_some(),
            Self::Acceleration | Self::Sound | Self::Velocity => channel_factor(self.id(), unit).is_some(),
            Self::Nothing | Self::Pulse | Self::Rpm => true,
        }
    }
}

/// A column, what it is called and what it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnRole {
    /// Its heading without the unit.
    pub name: String,
    /// What it holds.
    pub role: Role,
    /// In which unit; empty where there is none.
    pub unit: String,
}

/// A table looked into.
#[derive(Clone, Debug)]
pub struct TableLook {
    /// How it is written.
    pub shape: CsvShape,
    /// Its first lines: the line's number, and each cell with whether it reads as a number.
    pub lines: Vec<(u64, Vec<(String, bool)>)>,
    /// What its columns probably hold.
    pub columns: Vec<ColumnRole>,
}

/// What a file seems to be.
#[derive(Clone, Debug)]
pub enum Look {
    /// A table of numbers.
    Table(TableLook),
    /// A WAV file.
    Sound(WavProbe),
    /// A GPX track.
    Track,
}

/// Looks at a file's first bytes; `how` where separator or decimals were said.
pub fn look(head: &[u8], how: &CsvWriting) -> Result<Look, Problem> {
    if head.starts_with(b"RIFF") {
        return wav::probe(head).map(Look::Sound);
    }
    if head.trim_ascii_start().strip_prefix(b"\xef\xbb\xbf").unwrap_or(head.trim_ascii_start()).starts_with(b"<") {
        return Ok(Look::Track);
    }
    let shape = sniff_as(head, how)?;
    let text = String::from_utf8_lossy(head);
    let lines: Vec<(u64, Vec<(String, bool)>)> = text
        .lines()
        .enumerate()
        .skip(shape.preamble + 1)
        .filter(|(_, l)| !l.trim().is_empty())
        .take(MAX_SHOWN_LINES)
        .map(|(i, l)| {
            let cell = |c: &str| {
                let c = c.trim().trim_matches('"');
                (c.to_string(), c.is_empty() || number(c, shape.comma).is_some())
            };
            (i as u64 + 1, l.split(shape.separator as char).map(cell).collect())
        })
        .collect();
    let is_row = |cells: &[(String, bool)]| cells.len() > 1 && cells.iter().any(|c| c.1 && !c.0.is_empty());
    // A separator that was chosen wrongly is chosen again; what is no table by any is none.
    if *how == CsvWriting::default() && !lines.iter().any(|l| is_row(&l.1)) {
        let what = "nothing in it reads as a table of numbers: a recording has a line of headings and then a row for each moment";
        return Err(Problem::new("no-table", what).field("file").line(shape.preamble as u64 + 1));
    }
    Ok(Look::Table(TableLook { columns: columns(&shape), shape, lines }))
}

/// What the headings say.
fn columns(shape: &CsvShape) -> Vec<ColumnRole> {
    let is = |h: &str, words: &[&str]| {
        words.iter().any(|w| h == *w || h.starts_with(&format!("{w}_")) || h.starts_with(&format!("{w} ")))
    };
    let mut taken: Vec<Role> = vec![];
    shape
        .headings
        .iter()
        .map(|(name, unit)| {
            let h = name.to_lowercase();
            let given = unit.clone().unwrap_or_default();
            let may = |r: Role| given.is_empty() || r.takes(&given);
            let mut role = match () {
                () if is(&h, &["t", "time", "seconds", "timestamp", "zeit"]) && may(Role::Time) => Role::Time,
                () if is(&h, &["rpm", "engine", "revs"]) || given.eq_ignore_ascii_case("rpm") => Role::Rpm,
                () if is(&h, &["speed", "v", "velocity", "gps", "speed_kmh", "speed_mph", "vehicle"]) && may(Role::Speed) => {
                    Role::Speed
                }
                () if h.starts_with("pulse") || h.starts_with("tacho") => Role::Pulse,
                () if (h.starts_with('a') && h.len() <= 4 || h.starts_with("acc")) && may(Role::Acceleration) => {
                    Role::Acceleration
                }
                () if (h.starts_with("mic") || h.starts_with("sound")) && may(Role::Sound) => Role::Sound,
                () if h.starts_with("vib") && may(Role::Velocity) => Role::Velocity,
                // A heading that says nothing, with a unit that only one thing has.
                () if !given.is_empty() && ["g", "mg", "m/s2", "m/s²", "m/s^2"].contains(&given.to_lowercase().as_str()) => {
                    Role::Acceleration
                }
                () if given.eq_ignore_ascii_case("pa") => Role::Sound,
                () => Role::Nothing,
            };
            let once = matches!(role, Role::Time | Role::Speed | Role::Rpm);
            if once && taken.contains(&role)
                || role.is_channel() && taken.iter().filter(|r| r.is_channel()).count() >= MAX_CHANNELS
            {
                role = Role::Nothing;
            }
            taken.push(role);
            let usual = role.units().first().copied().unwrap_or_default();
            let unit = match role {
                Role::Nothing => given,
                Role::Speed if given.is_empty() && h.contains("mph") => "mph".into(),
                _ if given.is_empty() => usual.into(),
                _ => role.units().iter().find(|u| same_unit(u, &given)).map_or(given, |u| (*u).to_string()),
            };
            ColumnRole { name: name.clone(), role, unit }
        })
        .collect()
}

fn same_unit(a: &str, b: &str) -> bool {
    let plain = |u: &str| u.to_lowercase().replace(['²', '^'], "2").replace("22", "2");
    plain(a) == plain(b) || matches!((a, plain(b).as_str()), ("km/h", "kmh" | "kph") | ("kn", "kt" | "knots"))
}

/// The part of a recording's description that a table's columns make: time, channels, speed, rpm.
/// What is missing or stands twice is named.
pub fn described(look: &TableLook, columns: &[ColumnRole]) -> Result<RecordingSpec, Problem> {
    let of = |r: Role| columns.iter().filter(move |c| c.role == r);
    let have = || columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(", ");
    let missing = |what: &str| {
        Problem::new("missing-column", format!("{what}; the columns are called {}", have()))
            .field("file")
            .line(look.shape.preamble as u64 + 1)
    };
    for (role, what) in [(Role::Time, "time"), (Role::Speed, "speed"), (Role::Rpm, "engine speed")] {
        if of(role).count() > 1 {
            let names = of(role).map(|c| c.name.as_str()).collect::<Vec<_>>().join(" and ");
            return Err(Problem::new("column-twice", format!("{names} are both marked as {what}: one of them is")).field(what));
        }
    }
    let time = of(Role::Time).next().ok_or_else(|| missing("no time column is marked"))?;
    let channels: Vec<&ColumnRole> = columns.iter().filter(|c| c.role.is_channel()).collect();
    if channels.is_empty() {
        return Err(missing("no channel is marked: acceleration, sound, velocity or a pulse"));
    }
    if channels.len() > MAX_CHANNELS {
        return Err(Problem::new(
            "too-many-channels",
            format!("{} channels are marked; up to {MAX_CHANNELS} are read", channels.len()),
        )
        .field("channels"));
    }
    let reference = |c: &ColumnRole, unit: Option<&String>| ReferenceSpec {
        column: Some(c.name.clone()),
        unit: unit.cloned(),
        ..ReferenceSpec::default()
    };
    Ok(RecordingSpec {
        time: Some(time.column()),
        channels: channels.into_iter().map(ColumnRole::channel).collect(),
        speed: of(Role::Speed).next().map(|c| reference(c, Some(&c.unit))),
        rpm: of(Role::Rpm).next().map(|c| reference(c, None)),
        ..RecordingSpec::default()
    })
}

impl ColumnRole {
    fn column(&self) -> Column {
        Column { column: self.name.clone(), unit: Some(self.unit.clone()) }
    }

    /// As a channel of a recording.
    pub fn channel(&self) -> ChannelSpec {
        let (unit, per) = match self.role {
            Role::Pulse => (None, Some("wheel".into())),
            _ => (Some(self.unit.clone()), None),
        };
        ChannelSpec { column: self.name.clone(), quantity: self.role.id().into(), unit, per }
    }
}

/// The reference that a speed file's columns make.
pub fn speed_described(look: &TableLook, columns: &[ColumnRole]) -> Result<ReferenceSpec, Problem> {
    let one = |role: Role, what: &str| {
        columns.iter().find(|c| c.role == role).ok_or_else(|| {
            Problem::new("missing-column", format!("no {what} column is marked in the speed file"))
                .field("speed.file")
                .line(look.shape.preamble as u64 + 1)
        })
    };
    let (time, speed) = (one(Role::Time, "time")?, one(Role::Speed, "road speed")?);
    Ok(ReferenceSpec { column: Some(speed.name.clone()), unit: Some(speed.unit.clone()), time: Some(time.column()), file: None })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_table_is_said_to_be_none() {
        let refused = |text: &str| look(text.as_bytes(), &CsvWriting::default()).err().map(|p| p.code);
        assert_eq!(refused("this is not\na table\nat all\n").as_deref(), Some("no-table"));
        assert_eq!(refused("t,az\n0,1\n1,2\n"), None);
    }

    fn table(text: &str) -> TableLook {
        match look(text.as_bytes(), &CsvWriting::default()).unwrap() {
            Look::Table(t) => t,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn columns_are_guessed_with_their_units() {
        let t = table("t;az;speed\n0,0;1,0;40\n");
        assert_eq!(t.columns.iter().map(|c| c.role).collect::<Vec<_>>(), [Role::Time, Role::Acceleration, Role::Speed]);
        assert_eq!(t.columns[2].unit, "km/h");
        let d = described(&table("time [ms],acc_z (g),mic,speed_mph,temp\n0,1,0,20,3\n"), &{
            table("time [ms],acc_z (g),mic,speed_mph,temp\n0,1,0,20,3\n").columns
        })
        .unwrap();
        assert_eq!(d.time.unwrap().unit.as_deref(), Some("ms"));
        assert_eq!(d.channels[0].unit.as_deref(), Some("g"));
        assert_eq!((d.channels.len(), d.speed.unwrap().unit.as_deref()), (2, Some("mph")));
        // Two shocks in one file: a velocity heading in mm/s is no road speed.
        assert_eq!(table("t,v [mm/s],speed\n0,1,2\n").columns[1].role, Role::Nothing);
    }

    #[test]
    fn what_is_missing_or_twice_is_named() {
        let t = table("x,az\n0,1\n");
        assert_eq!(described(&t, &t.columns).unwrap_err().code, "missing-column");
        let t = table("t,speed\n0,1\n");
        assert!(described(&t, &t.columns).unwrap_err().message.contains("channel"));
        let t = table("t,az,time\n0,1,0\n");
        let mut c = t.columns.clone();
        assert_eq!(c[2].role, Role::Nothing, "only the first is taken for the time");
        c[2].role = Role::Time;
        let p = described(&t, &c).unwrap_err();
        assert_eq!((p.code.as_str(), p.message.contains("t and time")), ("column-twice", true));
    }

    #[test]
    fn a_speed_file_needs_its_time_and_its_speed() {
        let t = table("t;speed\n0,0;40\n");
        assert_eq!(speed_described(&t, &t.columns).unwrap().time.unwrap().column, "t");
        let t = table("t,az\n0,1\n");
        assert!(speed_described(&t, &t.columns).unwrap_err().message.contains("road speed"));
    }

    #[test]
    fn lines_keep_their_numbers_and_say_what_is_no_number() {
        let t = table("phone 7\nt,az\n0,1\n\n1,oops\n");
        assert_eq!(t.lines.iter().map(|l| l.0).collect::<Vec<_>>(), [3, 5]);
        assert_eq!(t.lines[1].1[1], ("oops".to_string(), false));
    }

    #[test]
    fn a_separator_and_decimals_can_be_said() {
        let said = CsvWriting { separator: Some(';'), decimal: Some('.') };
        let Look::Table(t) = look(b"t;az\n0;1,5\n", &said).unwrap() else { panic!() };
        assert!(!t.lines[0].1[1].1, "1,5 is no number with a point");
        let bad = CsvWriting { separator: Some('|'), decimal: None };
        assert_eq!(look(b"t|az\n0|1\n", &bad).unwrap_err().code, "unknown-separator");
    }

    #[test]
    fn tracks_and_sounds_are_known_by_their_beginning() {
        assert!(matches!(look(b"<?xml version=\"1.0\"?><gpx/>", &CsvWriting::default()), Ok(Look::Track)));
        assert_eq!(look(b"RIFFxx", &CsvWriting::default()).unwrap_err().code, "bad-wav");
    }
}
