//! What a fit gives: places, and what stays out.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::{Finding, Rules};
use crate::address::Address;

/// One member and the address it goes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placement {
    /// Index of the package's members.
    pub member: usize,
    /// Where it goes, every folder spelled in one way throughout the fit.
    pub to: Address,
}

/// Why a member goes nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum LeftOut {
    /// A pattern of what to skip meets it.
    Skipped,
    /// No pattern of what alone to take meets it.
    NotAmongOnly,
    /// No place reaches it.
    NoPlace,
    /// It lies in an archive inside the package, which stays packed.
    #[serde(rename = "stays_packed")]
    Packed,
    /// It is the package's fit sheet.
    #[serde(rename = "fit_sheet")]
    Sheet,
    /// It is only to be read.
    Document,
    /// It is what others of the package's files were made of.
    Source,
    /// It shows what the package looks like.
    Picture,
    /// A system or a version control left it behind.
    Metadata,
    /// It is a copy of the game's own file.
    Original,
    /// It belongs to an option that was not chosen.
    NotChosen,
    /// It belongs to a part that is off.
    PartOff,
    /// A file of a part, or of a place of higher rank, goes to its address.
    Covered,
    /// It is a link that leads out of the package.
    LinkOut,
}

/// A choice and what was chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChoiceMade {
    /// Its id.
    pub id: String,
    /// All options' names.
    pub options: Vec<String>,
    /// The option that is taken.
    pub chosen: String,
}

/// A part and whether it is taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartSeen {
    /// Its id.
    pub id: String,
    /// What it is, where its author says it.
    pub says: Option<String>,
    /// It is taken.
    pub on: bool,
    /// How many files it has.
    pub files: u64,
    /// The folder it lies in.
    pub folder: String,
}

/// Where a package's files go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fit {
    /// In order of members.
    pub placements: Vec<Placement>,
    /// All folders that the placements need, each after the one above it, and empty ones.
    pub folders: Vec<Address>,
    /// Members that go nowhere, by index.
    pub left_out: Vec<(usize, LeftOut)>,
    /// What decided.
    pub findings: Vec<Finding>,
    /// What was chosen.
    pub choices: Vec<ChoiceMade>,
    /// What is offered beside.
    pub parts: Vec<PartSeen>,
    /// Rules that place this package in the same way, whatever the game has meanwhile, and another
    /// version of it as far as they reach.
    pub rules: Rules,
}
