//! The vehicle's driveline as a drawing: the page's own heading. Rendered on the server as SVG.

mod apart;
mod hands;
mod labels;
mod layout;
mod svg;
pub mod time_line;

pub use hands::hands;
pub use layout::{HEIGHT, Part, Rect, Sheet, lay_out};
pub(crate) use svg::esc;
pub use svg::{Marks, Pin, band, picture};
