//! What a change is to make of the stack and of files.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use super::revision_before::AboutBefore;
use super::second_copies::SecondCopies;
use crate::address::{FoldedKey, RelPath};
use crate::blend::{BlendRule, Prefer};
use crate::expected::Unstored;
use crate::game::GameVersion;
use crate::ledger::{NewContent, Ongoing};
use crate::moment::Moment;
use crate::stack::{Arrangement, BaseFile, Entry, LayerId, PathId, RootId, Settlement, Tally};

/// A layer that takes the place of another.
#[derive(Debug, Clone)]
pub(crate) struct Exchange {
    pub old: LayerId,
    pub new: LayerId,
    /// Whose word counts where a person and the new version changed the same.
    pub prefer: Option<Prefer>,
    /// The new one asks for another place in the stack, so that contests may open or close where both are alike.
    pub asks_otherwise: bool,
}

/// One file that changes directly. What lies there is saved in the ledger.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Direct {
    pub root: RootId,
    /// Where it lies below the root, as spelled on disk.
    pub path: RelPath,
    /// A file on the same volume that takes its place, by rename.
    pub instead: Option<PathBuf>,
}

/// What is known of a file on disk that the stack does not know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum ForeignFile {
    /// It is the base's own from now on; where nothing lies, the base has nothing.
    Accepted,
    /// A program has put it there, or has taken away what lay there; all that is in the new layer.
    Captured {
        /// Where it lies, below the root; `None` where nothing lies any more.
        at: Option<RelPath>,
        /// Where the base's own file that lay there was saved before, on the same volume; `None` if it was not, and
        /// for files that layers supplied.
        original: Option<PathBuf>,
        /// What lies there is an edited version of the layer's file, and stays as it is.
        edited: bool,
    },
}

/// What is known of the game and its base before a change that begins with writing it anew.
#[derive(Debug, Default)]
pub(crate) struct BaseBefore {
    /// Rows of the base that change, as they were.
    pub base: Vec<(RootId, FoldedKey, Option<BaseFile>)>,
    /// The version, and files and bytes seen.
    pub version: Option<GameVersion>,
    pub seen: (u64, u64),
    /// Addresses whose original was not known.
    pub unknown_originals: Vec<(RootId, FoldedKey, RelPath)>,
    /// Entries of layers that became others, as they were.
    pub entries: Vec<(PathId, Entry)>,
    /// What the layers' tallies changed by with these.
    pub tallies: Vec<(LayerId, Tally)>,
}

/// What becomes of the stack.
#[derive(Debug)]
pub(crate) struct StackChange {
    /// The stack afterwards.
    pub after: Arrangement,
    /// Layers that leave it.
    pub removed: Vec<LayerId>,
    /// Layers that take the places of others.
    pub exchanges: Vec<Exchange>,
    /// What is settled by it, address by address; nothing clears what was.
    pub settle: Vec<(PathId, Option<Settlement>)>,
    /// The game's rules of what blends from then on, if they change.
    pub blend_rules: Option<Vec<BlendRule>>,
    /// Addresses that this concerns, though no layer there changes.
    pub also_touched: Vec<PathId>,
}

/// What is done with files that no change of the stack tells.
#[derive(Debug, Default)]
pub(crate) struct FileChanges {
    /// Addresses at which what the stack says is put again, whatever lies there.
    pub restore: Vec<PathId>,
    /// Files on disk that the stack does not know, and that are taken up.
    pub foreign: HashMap<PathId, ForeignFile>,
    /// Files of the base that are from then on as given, or are no more, where no layer has anything.
    pub accepted: Vec<(RootId, FoldedKey, Option<BaseFile>)>,
    /// Files that change without any layer's saying so.
    pub direct: Vec<Direct>,
    /// Files on a root's volume, outside of the game, to be saved as what lay at these paths.
    pub save: Vec<(PathBuf, RootId, RelPath)>,
    /// Folders to make where they are not there, each after the one above it.
    pub make_folders: Vec<(RootId, RelPath)>,
    /// Folders to remove where they are empty then, each before the one above it.
    pub drop_folders: Vec<(RootId, RelPath)>,
}

/// What else the ledger is to know, and what was written already.
#[derive(Debug, Default)]
pub(crate) struct ChangeNotes {
    /// What is under way from then on, if that changes.
    pub ongoing: Option<Option<Ongoing>>,
    /// What the transaction has changed already, as it was; written back if the change is taken back.
    pub undo: Option<BaseBefore>,
    /// The revision whose stack it brings back.
    pub restores: Option<i64>,
    /// What was known before of layers of which the transaction has written something else already.
    pub about: Vec<AboutBefore>,
    /// Contents taken in for it, which must be durable before the mark.
    pub new_contents: Vec<NewContent>,
    /// Of some of these what was written a second time, for where it will lie.
    pub second_copies: Option<SecondCopies>,
    /// Contents that are not stored, and that nothing will be made of.
    pub unstored: Arc<Unstored>,
    /// It will be dropped.
    pub is_dry_run: bool,
}

/// What a change is to make of the stack and of files. Layers being added are in the catalogue already, inside the
/// transaction that [`prepare`] takes over.
#[derive(Debug)]
pub(crate) struct ChangeRequest {
    /// The command, for the history and for what a recovery says.
    pub command: String,
    /// RFC 3339.
    pub made_at: String,
    pub stack: StackChange,
    pub files: FileChanges,
    pub noted: ChangeNotes,
}

impl ChangeRequest {
    /// One that only puts the stack into `after`.
    pub(crate) fn new(command: &str, made_at: Moment, after: Arrangement) -> Self {
        let stack = StackChange {
            after,
            removed: Vec::new(),
            exchanges: Vec::new(),
            settle: Vec::new(),
            blend_rules: None,
            also_touched: Vec::new(),
        };
        Self {
            command: command.to_owned(),
            made_at: made_at.to_string(),
            stack,
            files: FileChanges::default(),
            noted: ChangeNotes::default(),
        }
    }

    /// Addresses that change without any layer's changing.
    pub(super) fn touched(&self) -> Vec<PathId> {
        let settled = self.stack.settle.iter().map(|(path, _)| *path);
        let named =
            self.stack.also_touched.iter().chain(&self.files.restore).chain(self.files.foreign.keys());
        settled.chain(named.copied()).collect()
    }

    /// What is settled afterwards, among `before`.
    pub(crate) fn settled_after(
        &self,
        mut settled: HashMap<PathId, Settlement>,
    ) -> HashMap<PathId, Settlement> {
        for exchange in &self.stack.exchanges {
            settled.values_mut().for_each(|settlement| settlement.hand_on(exchange.old, exchange.new));
        }
        for (path, settlement) in &self.stack.settle {
            match settlement {
                Some(settlement) => drop(settled.insert(*path, settlement.clone())),
                None => drop(settled.remove(path)),
            }
        }
        settled
    }
}
