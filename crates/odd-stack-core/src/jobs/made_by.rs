//! How a layer came to be that a program made.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::capture::ProgramEnd;

/// How a layer came to be that was captured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MadeBy {
    /// The program with its arguments; empty if a person worked by hand.
    pub command: Vec<String>,
    /// When it began, RFC 3339.
    pub begun_at: String,
    /// How it ended, if a program ran.
    pub end: Option<ProgramEnd>,
}
