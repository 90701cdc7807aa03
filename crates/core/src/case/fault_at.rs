//! A fault at a place, as a case file names it.

use serde::{Deserialize, Serialize};

/// A fault at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FaultAt {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
}

impl FaultAt {
    /// Of a fault and a place.
    pub fn new(fault: impl Into<String>, at: impl Into<String>) -> Self {
        Self { fault: fault.into(), at: at.into() }
    }

    /// As `fault@place`.
    pub fn id(&self) -> String {
        format!("{}@{}", self.fault, self.at)
    }

    /// Of `fault@place`; none where it does not read so.
    pub fn parse(text: &str) -> Option<Self> {
        let (fault, at) = text.split_once('@')?;
        Some(Self::new(fault, at)).filter(|p| !p.fault.is_empty() && !p.at.is_empty())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_reads_what_it_writes_and_nothing_half() {
        let f = FaultAt::new("joint-worn", "prop.rear.j1");
        assert_eq!(FaultAt::parse(&f.id()), Some(f));
        for half in ["", "joint-worn", "@prop.rear.j1", "joint-worn@"] {
            assert_eq!(FaultAt::parse(half), None, "{half}");
        }
    }
}
