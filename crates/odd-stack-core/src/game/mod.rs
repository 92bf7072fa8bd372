//! What a game is: its roots, its spots, its main program and its version.

mod given;
mod pattern;
mod program;
mod proposed_name;
mod running;
mod scan;
mod started;
mod version_of;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

pub use pattern::{AddressPattern, AddressPatterns, PatternError};
pub(crate) use program::is_named_like_program;
pub use program::{Program, ProgramKind, imports_of, main_program, may_be_program, plays, program_kind};
pub(crate) use proposed_name::INNER;
pub use proposed_name::proposed_name;
pub use running::{Running, parents, running_in};
pub use scan::{Scan, ScanError, scan};
pub use started::Started;
pub(crate) use version_of::version_in;
pub use version_of::version_of_file;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::address::{Address, AddressBook, Folding, PrefixName, RelPath, SIDE_FOLDER};
use crate::blend::BlendRule;
use crate::stack::RootId;

/// A separate folder tree of a game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Root {
    /// The catalogue's number.
    pub id: RootId,
    /// Its name in addresses.
    pub name: PrefixName,
    /// Where it lies, absolute.
    pub folder: PathBuf,
    /// Whether it lies on another volume than the ledger, and so has a side folder of its own.
    pub has_side_folder: bool,
    /// Zero, or the number that tells what is private to this game in it from what is private to other games that use
    /// the same folder.
    pub share: u32,
}

impl Root {
    /// The folder in it for what is private to this game, where that must lie on the same volume.
    pub fn side_folder(&self) -> PathBuf {
        let folder = self.folder.join(SIDE_FOLDER);
        if self.share == 0 { folder } else { folder.join(format!("shared-{}", self.share)) }
    }
}

/// A version and how it became known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GameVersion {
    /// As the game or the user writes it.
    pub version: String,
    /// The address of the file it was read from; `None` when the user stated it.
    pub read_from: Option<String>,
    /// The pattern by which it was read there, if one was given.
    pub pattern: Option<String>,
}

/// One installed game.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Game {
    /// The user's name for it.
    pub name: String,
    /// Whether spellings are told apart.
    pub folding: Folding,
    /// Its roots; the main one first.
    pub roots: Vec<Root>,
    /// Short names for folders.
    pub spots: BTreeMap<PrefixName, Address>,
    /// The main program.
    pub program: Option<Address>,
    /// The game's version, where it is known.
    pub version: Option<GameVersion>,
    /// Files and bytes of its own that were seen when it was added.
    pub seen: (u64, u64),
    /// When it was added, RFC 3339.
    pub added_at: String,
    /// Which files blend, beyond what their names say; the last that meets a file counts.
    pub blend_rules: Vec<BlendRule>,
    /// Addresses, folders and patterns of addresses at which the game writes by itself; what changes there is left
    /// alone.
    pub volatile: Vec<String>,
    /// Patterns of containers that the game loads by name, so that of one member the last one's counts.
    pub later_wins: Vec<String>,
    /// What starts programs of another system, with its arguments, as a shell would read it.
    pub runner: Option<String>,
    /// How big files of layers are laid.
    pub big_files: BigFiles,
}

/// How big files of layers are laid where the disk can't share blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BigFiles {
    /// As links to the ledger's contents, so that they take room once; else as copies.
    pub by_link: bool,
    /// Smaller ones are always copied.
    pub from_bytes: u64,
}

impl BigFiles {
    /// Below this a link saves little, and small files are what programs write.
    pub const USUALLY_FROM_BYTES: u64 = 256 << 10;
}

impl Default for BigFiles {
    fn default() -> Self {
        Self { by_link: true, from_bytes: Self::USUALLY_FROM_BYTES }
    }
}

impl Game {
    /// The names that addresses of this game may begin with.
    pub fn address_book(&self) -> AddressBook {
        AddressBook {
            roots: self.roots.iter().map(|root| root.name.clone()).collect(),
            spots: self.spots.clone(),
        }
    }

    /// The root of that number, if the game has it.
    pub fn root(&self, id: RootId) -> Option<&Root> {
        self.roots.iter().find(|root| root.id == id)
    }

    /// The root of that name, if the game has it.
    pub fn root_named(&self, name: &PrefixName) -> Option<&Root> {
        self.roots.iter().find(|root| root.name == *name)
    }

    /// The address of `path` below the root `id`.
    pub fn address(&self, id: RootId, path: RelPath) -> Option<Address> {
        Some(Address { root: self.root(id)?.name.clone(), path })
    }

    /// Whether `folder` lies in one of the roots.
    pub fn holds(&self, folder: &Path) -> bool {
        self.roots.iter().any(|root| folder.starts_with(&root.folder))
    }
}
