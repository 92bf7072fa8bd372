//! What follows from a request: steps, and what they need.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::plan::Plan;
use super::steps::Steps;
use crate::address::{FoldedKey, RelPath};
use crate::expected::Building;
use crate::files::Stamp;
use crate::hash::ContentHash;
use crate::ledger::Covering;
use crate::stack::{BaseFile, LayerId, RootId, Tally};

/// A stored content on its way into the game.
#[derive(Debug)]
pub(super) struct Staged {
    pub hash: ContentHash,
    pub size_bytes: u64,
    pub stamp: Stamp,
    pub path: PathBuf,
    pub side: Arc<Path>,
    /// The address.
    pub at: (RootId, FoldedKey),
    /// It is of a kind that may be a link to the stored content.
    pub may_link: bool,
    /// What lies there instead of the stored content.
    pub made: Option<Made>,
}

/// A file that is made for a change.
#[derive(Debug)]
pub(super) enum Made {
    /// All of it.
    Content(Vec<u8>),
    /// A container, made when it is written.
    Container(Box<Building>),
    /// The stored content itself, written there when it was stored.
    Before,
}

/// Everything that follows from a request.
#[derive(Debug, Default)]
pub(super) struct Decision {
    pub plan: Plan,
    pub steps: Steps,
    pub staged: Vec<Staged>,
    /// Folders in the side_folders that steps and staging need, each after the one above it.
    pub private_folders: Vec<PathBuf>,
    /// The side_folders of all roots that change.
    pub side_folders: Vec<PathBuf>,
    pub tallies: BTreeMap<LayerId, Tally>,
    pub base_now: Vec<(RootId, FoldedKey, Option<BaseFile>)>,
    /// Addresses whose original is lost.
    pub lost: Vec<(RootId, FoldedKey, RelPath)>,
    /// Files of the base that go where covered ones lie.
    pub covering: Vec<Covering>,
    /// Originals that come back, whose times were changed while they lay aside.
    pub restamped: Vec<(PathBuf, Stamp)>,
}

impl Decision {
    /// Makes room for so many files that change, where some of them come from layers if it `brings` any; lists that grow step
    /// by step end up twice as long.
    pub(super) fn expect(&mut self, files: usize, brings: bool) {
        self.plan.effects.reserve_exact(files);
        self.staged.reserve_exact(if brings { files } else { 0 });
    }
}
