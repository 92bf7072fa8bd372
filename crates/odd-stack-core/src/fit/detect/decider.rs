//! What places are found with.

use std::collections::HashMap;

use super::super::{ProgramSeen, RootSeen};
use super::ToldName;
use super::game_matches::{Agreement, GameMatches, Mapping, Spot};
use super::outline::Outline;
use crate::address::Address;

/// Folders of the game that gather add-ons, and the name of the file that each of them has, by where they lie.
pub(super) type Gatherings = HashMap<Spot, (Vec<String>, String)>;

pub(super) struct Decider<'a> {
    pub outline: Outline<'a>,
    pub game_matches: &'a GameMatches,
    pub(super) roots: Vec<RootSeen>,
    pub(super) program: Option<ProgramSeen>,
    /// What the package is called, for a folder of its own.
    pub(super) package_name: &'a str,
    /// Names that its own files tell, each with the file.
    pub(super) told_names: &'a [ToldName],
    pub(super) next_group: usize,
}

/// A folder of the package with the address it goes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FoundFolder {
    pub node: usize,
    pub to: Address,
    /// What speaks for it, in words.
    pub evidence: String,
}

/// A mapping with what the game says to it.
#[derive(Debug, Clone)]
pub(super) struct Weighed {
    pub mapping: Mapping,
    pub(super) agreement: Agreement,
}
