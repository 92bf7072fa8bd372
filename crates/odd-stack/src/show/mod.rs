//! Reports as text: pure functions from values to strings.

pub mod about;
pub mod change;
pub mod fit;
pub mod needs;
pub mod notice;
pub mod safe;
pub mod style;
pub mod table;
pub mod time;
pub mod tree;
pub mod units;
pub mod wishes;
pub mod wrap;
