//! How the vehicle stands now.

use crate::vehicle::Place;
use serde::{Deserialize, Serialize};

/// On the ground or up, what is off, warm until when.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct State {
    /// ground or lift.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<String>,
    /// Places that are off.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub off: Vec<String>,
    /// Until when it counts as warm from the road, as 2026-11-26T21:22:00Z.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warm_until: Option<String>,
}

impl State {
    /// Whether it is up on the lift.
    pub fn is_up(&self) -> bool {
        self.on.as_deref() == Some("lift")
    }

    /// Whether a part is off, on its own or with the shaft that it belongs to.
    pub fn is_off(&self, p: &Place) -> bool {
        let named = |id: &str| self.off.iter().any(|o| o == id);
        named(&p.id) || p.whole().is_some_and(|w| named(&w))
    }
}
