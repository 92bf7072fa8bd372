//! What a change will do, by address.

use std::collections::BTreeMap;
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::Address;
use crate::blend::Clash;
use crate::expected::Drift;
use crate::notice::Notice;
use crate::stack::LayerId;

/// What happens to the file at one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum EffectKind {
    /// A file comes where nothing was.
    Add,
    /// A file takes the place of another.
    Overwrite,
    /// What lay beneath comes back.
    Restore,
    /// A file goes and nothing lay beneath.
    Delete,
}

impl EffectKind {
    /// All kinds.
    pub const ALL: [Self; 4] = [Self::Add, Self::Overwrite, Self::Restore, Self::Delete];
}

/// One address that changes on disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Effect {
    /// Where.
    pub address: Address,
    /// What happens.
    pub kind: EffectKind,
    /// Size of the file that will lie there; of the one that goes, for [`EffectKind::Delete`].
    pub size_bytes: u64,
    /// The layer whose file will lie there; `None` for the base or nothing.
    pub layer: Option<LayerId>,
    /// The layer whose file lies there now; `None` for the base or nothing.
    pub over: Option<LayerId>,
    /// The file that will lie there is made of several, key by key.
    pub blended: bool,
    /// What is put back or goes there is not the game's own, though no layer is named.
    pub is_of_others: bool,
}

/// A drifted file that a change saves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// Where it lay.
    pub address: Address,
    /// Where it will lie.
    pub path: std::path::PathBuf,
    /// It counts as the game's own from now on and comes back when no layer covers it.
    pub is_base_now: bool,
}

/// How the files of newly laid layers meet what is there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Meeting {
    /// Files that come where nothing was.
    pub new_files: u64,
    /// Files that cover one of the base.
    pub over_base: u64,
    /// Files that cover one of another layer, by layer.
    pub over_layers: BTreeMap<LayerId, u64>,
    /// Files equal to what they would cover; nothing is written.
    pub identical: u64,
    /// Files of configuration that blend with others.
    pub blended: u64,
    /// Files that a layer above covers at once.
    pub covered: u64,
    /// Bytes of files that are written.
    pub written_bytes: u64,
}

/// How a layer's new version differs from its old one, by address.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Difference {
    /// Only the new version has these.
    pub added: Vec<Address>,
    /// Both have these, with other content.
    pub changed: Vec<Address>,
    /// Both have these alike, the name spelled otherwise.
    pub respelled: Vec<Address>,
    /// Only the old version has these.
    pub gone: Vec<Address>,
    /// Files that both have alike.
    pub unchanged_files: u64,
    /// Other laid layers want something else there, and did not before.
    pub newly_contested: Vec<Address>,
    /// Other laid layers wanted something else there before, and do not now.
    pub no_longer_contested: Vec<Address>,
}

/// A whole change, as it is shown before and after it is made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Plan {
    /// What changes on disk, in order of addresses.
    pub effects: Vec<Effect>,
    /// Folders that will be made, each after the one above it.
    pub folders_made: Vec<Address>,
    /// Folders that will go, each before the one above it.
    pub folders_dropped: Vec<Address>,
    /// Drifted files in the way, when the user said what to do with them.
    pub drifted: Vec<Drift>,
    /// Those of them that are saved.
    pub kept: Vec<Kept>,
    /// Files with a person's edits that get them in their new version.
    pub carried: Vec<CarriedFile>,
    /// Addresses at which nothing will lie and the game may have had a file of its own, which nobody knows.
    pub originals_missing: Vec<Address>,
    /// Addresses at which the game's own file comes back as it was before an update that it may have missed.
    pub originals_old: Vec<Address>,
    /// Addresses at which nothing will lie, since the game's own file is lost.
    pub originals_lost: Vec<Address>,
    /// How the new version of each exchanged layer differs from the old one.
    pub differences: Vec<(LayerId, Difference)>,
    /// Addresses at which it is settled who counts.
    pub settled: u64,
    /// How newly laid layers meet what is there.
    pub meeting: Meeting,
    /// What a person should know.
    pub notices: Vec<Notice>,
}

impl Plan {
    /// Files and bytes of one kind of effect.
    pub fn count(&self, kind: EffectKind) -> (u64, u64) {
        let effects = self.effects.iter().filter(|effect| effect.kind == kind);
        effects.fold((0, 0), |(files, bytes), effect| (files + 1, bytes + effect.size_bytes))
    }
}

/// A file with a person's edits that gets them in its new version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CarriedFile {
    /// Where.
    pub address: Address,
    /// What was carried over: keys, or how many places.
    pub changes: Vec<String>,
    /// Where the file as it was on disk is saved.
    pub kept: PathBuf,
}

/// A file whose edits can't be carried over without a decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClashingFile {
    /// Where.
    pub address: Address,
    /// What both sides changed.
    pub clashes: Vec<Clash>,
}
