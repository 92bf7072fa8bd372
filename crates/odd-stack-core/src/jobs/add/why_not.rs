//! What of a package is not adopted, and why.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

/// Why a file of a package is not adopted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum WhyNot {
    /// Nothing lies there.
    Missing,
    /// Something else lies there.
    OtherContent,
    /// A layer has a file there.
    OfALayer,
    /// It lies in a container, and what that was before is not known.
    NoOriginal,
}

/// A file of the package that is no part of the adopted layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct NotAdoptedRow {
    /// Where it would lie.
    pub address: String,
    /// Why.
    pub state: WhyNot,
}
