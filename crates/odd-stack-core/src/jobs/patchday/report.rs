//! What a patch day found and did.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::jobs::ChangeReport;

/// What becomes of one layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct FateRow {
    /// The layer.
    pub layer: String,
    /// Its version.
    pub version: Option<String>,
    /// Whether it is laid again.
    pub fate: Fate,
    /// Why it is lifted, or what to know of it.
    pub reasons: Vec<String>,
    /// What would help; no part of what is written as JSON here, since a face has its own words for it.
    #[serde(skip)]
    pub help: Option<Help>,
}

/// Whether a layer is laid again after an update.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Fate {
    /// It is.
    Laid,
    /// It does not fit the game as it is now.
    Lifted,
}

/// What would help where a layer does not fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Help {
    /// To lay it all the same; needs of it that are not met must be wanted so.
    Lay {
        /// Needs of it are not met.
        despite: bool,
    },
}

/// What a patch day found and does.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PatchDayReport {
    /// All layers were lifted before the update.
    pub planned: bool,
    /// The game's version before.
    pub version_before: Option<String>,
    /// Its version now.
    pub version_after: Option<String>,
    /// The game's own files that have other content.
    pub changed: Vec<String>,
    /// Those that have another time at the same size, and whose content was not known before.
    pub touched: Vec<String>,
    /// Those that came.
    pub added: Vec<String>,
    /// Those that went; folders have a `/` at the end.
    pub gone: Vec<String>,
    /// Addresses at which the game's client had put its own file in place of a layer's.
    pub put_back: Vec<String>,
    /// Settings of the user's that are kept as own edits.
    pub kept: Vec<String>,
    /// Files that were left as they are, for `mend`.
    pub left: Vec<String>,
    /// Each layer that was laid, from the top to the bottom; a face writes them as JSON with what would help.
    #[serde(skip)]
    pub layers: Vec<FateRow>,
    /// Addresses whose original may be that of the old version: a layer's file lies there, so the game's client could
    /// not bring its own.
    pub originals_old: Vec<String>,
    /// What changes on disk.
    pub change: ChangeReport,
}
