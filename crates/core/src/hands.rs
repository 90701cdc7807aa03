//! What the hands do at a test or with an instrument: each has its picture.

use serde::Deserialize;

/// A way of feeling, turning, prying, listening or looking.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Hands {
    /// Rock a wheel, above and below.
    Rock,
    /// Spin a wheel, the other hand on the hub or spring.
    Spin,
    /// Twist both sides of a joint against each other.
    Twist,
    /// Swing a joint through both planes.
    Swing,
    /// Lift a shaft or a yoke up and down.
    Lift,
    /// A bar against it.
    Bar,
    /// Squeeze every fold.
    Squeeze,
    /// A listening rod on the housing.
    Listen,
    /// A dial against it, turned by hand.
    Dial,
    /// An angle gauge laid on a machined face.
    Gauge,
    /// Turn to and fro and watch.
    Watch,
    /// A wrench on a plug or a nut.
    Wrench,
    /// A lamp and the eyes, hands away.
    Look,
    /// No hands: bends to both sides, and which wheels they load.
    Bend,
}
