//! Fields of a sheet, and how they are read.

use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::typed_input::Length;
use baricord_core::units::Unit;

/// How a field is filled.
pub(super) enum FieldKind {
    /// One number.
    Number,
    /// Several numbers, or words, in one line.
    Line,
    /// One of these: value, words.
    Choice(Vec<(String, String)>),
    /// Yes or no.
    Tick,
}

/// One field.
pub(super) struct Field {
    pub name: String,
    pub label: String,
    pub unit: Option<Unit>,
    /// A dial's millimetres, thousandths for who reads inches.
    pub dial: bool,
    pub value: String,
    pub hint: &'static str,
    pub kind: FieldKind,
}

impl Field {
    fn new(name: impl Into<String>, label: impl Into<String>, kind: FieldKind) -> Self {
        Self { name: name.into(), label: label.into(), unit: None, dial: false, value: String::new(), hint: "", kind }
    }
    /// A number without unit.
    pub fn number(name: impl Into<String>, label: impl Into<String>) -> Self {
        Self::new(name, label, FieldKind::Number)
    }
    /// An amount.
    pub fn amount(name: impl Into<String>, label: impl Into<String>, unit: Unit) -> Self {
        Self { unit: Some(unit), ..Self::new(name, label, FieldKind::Number) }
    }
    /// Millimetres as a dial or a feeler gauge shows them.
    pub fn dial(name: impl Into<String>, label: impl Into<String>) -> Self {
        Self { dial: true, ..Self::amount(name, label, Unit::Millimetre) }
    }
    /// Several in one line.
    pub fn line(name: impl Into<String>, label: impl Into<String>, hint: &'static str) -> Self {
        Self { hint, ..Self::new(name, label, FieldKind::Line) }
    }
    /// One of several.
    pub fn choice(name: impl Into<String>, label: impl Into<String>, of: &[(&str, &str)]) -> Self {
        let of: Vec<(String, String)> = of.iter().map(|(v, w)| ((*v).to_string(), (*w).to_string())).collect();
        let first = of.first().map_or(String::new(), |o| o.0.clone());
        Self { value: first, ..Self::new(name, label, FieldKind::Choice(of)) }
    }
    /// Yes or no.
    pub fn tick(name: impl Into<String>, label: impl Into<String>) -> Self {
        Self::new(name, label, FieldKind::Tick)
    }
    /// Filled before anybody typed.
    pub fn filled(self, value: impl ToString) -> Self {
        Self { value: value.to_string(), ..self }
    }
    /// Filled where something is known.
    pub fn known(self, value: Option<f64>, digits: usize) -> Self {
        match value {
            Some(x) => self.filled(trimmed(x, digits)),
            None => self,
        }
    }

    pub fn is_line(&self) -> bool {
        matches!(self.kind, FieldKind::Line)
    }
    pub fn is_tick(&self) -> bool {
        matches!(self.kind, FieldKind::Tick)
    }
    pub fn options(&self) -> &[(String, String)] {
        match &self.kind {
            FieldKind::Choice(of) => of,
            _ => &[],
        }
    }
    pub fn symbol(&self) -> &'static str {
        self.unit.map_or("", Unit::symbol)
    }
}

/// Fields that belong together.
pub(super) struct Group {
    pub legend: String,
    pub fields: Vec<Field>,
    /// Shut until it is wanted.
    pub is_folded: bool,
}

impl Group {
    pub fn new(legend: impl Into<String>, fields: Vec<Field>) -> Self {
        Self { legend: legend.into(), fields, is_folded: false }
    }
    pub fn folded(self) -> Self {
        Self { is_folded: true, ..self }
    }
}

/// A number without zeros that say nothing.
pub(super) fn trimmed(x: f64, digits: usize) -> String {
    let s = format!("{x:.digits$}");
    match s.contains('.') {
        true => s.trim_end_matches('0').trim_end_matches('.').to_string(),
        false => s,
    }
}

/// What is typed for a sheet.
pub(super) trait Typed {
    /// An amount that must be there.
    fn need_amount(&self, name: &str, what: &str, unit: Unit) -> Result<f64, Problem>;
    /// A number that must be there.
    fn need_number(&self, name: &str, what: &str) -> Result<f64, Problem>;
    /// Amounts in one line, by spaces or semicolons.
    fn amounts(&self, name: &str, unit: Unit) -> Result<Vec<f64>, Problem>;
    /// What a dial or a feeler gauge shows, mm: its plain numbers are thousandths for who reads inches.
    fn dial(&self, name: &str) -> Result<Option<f64>, Problem>;
    /// Several of them in one line.
    fn dials(&self, name: &str) -> Result<Vec<f64>, Problem>;
    /// Both ends of a range of them.
    fn dial_range(&self, from: &str, to: &str) -> Result<Option<[f64; 2]>, Problem>;
    /// Both ends of a range; none where neither was typed.
    fn range(&self, from: &str, to: &str, unit: Unit) -> Result<Option<[f64; 2]>, Problem>;
    /// Whether a field is ticked.
    fn ticked(&self, name: &str) -> bool;
}

fn missing(name: &str, what: &str) -> Problem {
    Problem::new("missing", format!("{what} is missing")).field(name)
}

/// What stands in a line, by spaces or semicolons.
fn words<'a>(f: &'a FormFields, name: &str) -> impl Iterator<Item = &'a str> {
    f.text(name).unwrap_or_default().split([' ', ';', '\t']).filter(|t| !t.is_empty())
}

/// Both ends of a range; none where neither is there.
fn both((from, low): (&str, Option<f64>), (to, high): (&str, Option<f64>)) -> Result<Option<[f64; 2]>, Problem> {
    match (low, high) {
        (Some(a), Some(b)) => Ok(Some([a, b])),
        (None, None) => Ok(None),
        (Some(_), None) => Err(missing(to, "the upper end of the range")),
        (None, Some(_)) => Err(missing(from, "the lower end of the range")),
    }
}

impl Typed for FormFields {
    fn need_amount(&self, name: &str, what: &str, unit: Unit) -> Result<f64, Problem> {
        self.amount(name, unit)?.ok_or_else(|| missing(name, what))
    }
    fn need_number(&self, name: &str, what: &str) -> Result<f64, Problem> {
        self.number(name)?.ok_or_else(|| missing(name, what))
    }
    fn amounts(&self, name: &str, unit: Unit) -> Result<Vec<f64>, Problem> {
        words(self, name).map(|t| self.typed(name, t, unit)).collect()
    }
    fn dial(&self, name: &str) -> Result<Option<f64>, Problem> {
        Ok(self.length(name, Length::Dial)?.map(|mm| mm.get()))
    }
    fn dials(&self, name: &str) -> Result<Vec<f64>, Problem> {
        let of = |t: &str| self.typed_length(name, t, Length::Dial).map(|mm| mm.get());
        words(self, name).map(of).collect()
    }
    fn dial_range(&self, from: &str, to: &str) -> Result<Option<[f64; 2]>, Problem> {
        both((from, self.dial(from)?), (to, self.dial(to)?))
    }
    fn range(&self, from: &str, to: &str, unit: Unit) -> Result<Option<[f64; 2]>, Problem> {
        both((from, self.amount(from, unit)?), (to, self.amount(to, unit)?))
    }
    fn ticked(&self, name: &str) -> bool {
        self.text(name).is_some_and(|v| v == "yes")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::units::UnitSystem;

    fn f(pairs: &[(&str, &str)]) -> FormFields {
        FormFields::metric(pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect())
    }

    #[test]
    fn a_line_of_numbers_and_a_range_name_what_is_wrong() {
        assert_eq!(f(&[("a", "0,15 0.17; 0.2")]).amounts("a", Unit::Millimetre).unwrap(), [0.15, 0.17, 0.2]);
        assert!(f(&[("a", "0.1 x")]).amounts("a", Unit::Millimetre).unwrap_err().message.contains('x'));
        let mut inches = f(&[("a", "6 8"), ("b", "7")]);
        inches.units = UnitSystem::Imperial;
        let near = |x: f64, want: f64| assert!((x - want).abs() < 1e-9, "{x}");
        near(inches.dials("a").unwrap()[1], 0.2032);
        near(inches.dial("b").unwrap().unwrap(), 0.1778);
        assert_eq!(f(&[("lo", "1")]).range("lo", "hi", Unit::Millimetre).unwrap_err().field.as_deref(), Some("hi"));
        assert_eq!(f(&[]).range("lo", "hi", Unit::Millimetre).unwrap(), None);
        assert_eq!((trimmed(4.10, 3), trimmed(120.0, 0)), ("4.1".to_string(), "120".to_string()));
    }
}
