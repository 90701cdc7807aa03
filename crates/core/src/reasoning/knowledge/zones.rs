//! Where a fault is heard and felt, by the kind of its place.

use serde::Deserialize;
use std::collections::BTreeMap;

/// One zone of the data file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Zone {
    /// P(heard from): own, opposite, end, other-end, or a zone by name.
    #[serde(default)]
    pub heard: BTreeMap<String, f64>,
    /// P(felt there) at a front place.
    #[serde(default)]
    pub front: BTreeMap<String, f64>,
    /// P(felt there) at a rear place.
    #[serde(default)]
    pub rear: BTreeMap<String, f64>,
    /// P(felt there) where the place says nothing.
    #[serde(default)]
    pub felt: BTreeMap<String, f64>,
}
