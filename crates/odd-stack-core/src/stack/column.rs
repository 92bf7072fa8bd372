//! Everything that touches one address, and what follows from it.

use serde::{Deserialize, Serialize};

use super::{LayerId, PathId, RootId};
use crate::address::{FoldedKey, RelPath};
use crate::blend::Format;
use crate::hash::ContentHash;

/// How an entry's content is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub enum EntryKind {
    /// A file, which may blend with others if it is configuration.
    #[default]
    File,
    /// A file that never blends.
    Whole,
    /// A list of changes to keys of what lies beneath.
    Keys,
    /// A file whose changes are merged by lines, where nothing else says how it blends.
    Lines,
    /// A list of members that the layer changes in a container; what it does with each is at the member's own address.
    Members,
    /// What a container that the layer brings whole has at a member's address. Never stored: it follows from the container.
    Packed,
}

impl EntryKind {
    /// Whether the entry is a file, or takes one away; not what only changes what lies beneath.
    pub fn is_file(self) -> bool {
        !matches!(self, Self::Keys | Self::Members)
    }
}

/// What a layer has at one address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The layer it belongs to.
    pub layer: LayerId,
    /// How the content is meant.
    pub kind: EntryKind,
    /// The path below the root as the layer spells it.
    pub spelled: RelPath,
    /// The content; [`ContentHash::NOTHING`] to take away what lies beneath.
    pub hash: ContentHash,
    /// The content's size.
    pub size_bytes: u64,
    /// Modification time that the file gets, in seconds since 1970, even.
    pub modified: i64,
    /// Whether it may be run, where the package said so.
    pub executable: Option<bool>,
}

impl Entry {
    /// One that takes away what lies beneath.
    pub fn taking_away(layer: LayerId, spelled: RelPath) -> Self {
        let (kind, hash) = (EntryKind::File, ContentHash::NOTHING);
        Self { layer, kind, spelled, hash, size_bytes: 0, modified: 0, executable: None }
    }

    /// Whether it wants no file there, and takes away what lies beneath.
    pub fn takes_away(&self) -> bool {
        self.hash == ContentHash::NOTHING
    }
}

/// What kind of thing the base has at an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum BaseKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link or junction; never followed.
    Link,
    /// A pipe, a device or the like.
    Other,
}

/// One thing of the base as it was when it was last seen uncovered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BaseFile {
    /// The path below the root as it is spelled on disk.
    pub spelled: RelPath,
    /// File, folder or link.
    pub kind: BaseKind,
    /// Size in bytes.
    pub size_bytes: u64,
    /// Modification time in nanoseconds since 1970.
    pub modified_ns: i64,
    /// Permission bits on Unix; elsewhere 0o444 for read-only files and 0o644 for others.
    pub mode: u32,
    /// The content's hash, known from the first time a layer covers it.
    pub hash: Option<ContentHash>,
}

/// Who supplies the file that physically lies at an address.
///
/// The winner is the topmost laid layer. Where the layers directly beneath it, and perhaps the base
/// at last, have the same content, the lowest of them supplies the file, so that laying identical
/// content changes nothing on disk and base files keep their own times. Configuration that blends is supplied by
/// a made entry, which stands for all that went into it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Provider<'a> {
    /// Nothing lies there.
    Nothing,
    /// The base's own file.
    Base(&'a BaseFile),
    /// A stored content.
    Layer(&'a Entry),
}

impl<'a> Provider<'a> {
    /// Size of the file, 0 for nothing.
    pub fn size_bytes(self) -> u64 {
        match self {
            Self::Nothing => 0,
            Self::Base(base) => base.size_bytes,
            Self::Layer(entry) => entry.size_bytes,
        }
    }

    /// The content's hash, where there is a file and the hash is known.
    pub fn hash(self) -> Option<ContentHash> {
        match self {
            Self::Nothing => None,
            Self::Base(base) => base.hash,
            Self::Layer(entry) => Some(entry.hash),
        }
    }

    /// Whether both mean the same file on disk.
    pub fn is_same_file(self, other: Provider<'_>) -> bool {
        match (self, other) {
            (Self::Nothing, Provider::Nothing) | (Self::Base(_), Provider::Base(_)) => true,
            (Self::Layer(one), Provider::Layer(two)) => one.layer == two.layer,
            _ => false,
        }
    }

    /// The layer's entry, if a layer supplies the file.
    pub fn entry(self) -> Option<&'a Entry> {
        match self {
            Self::Layer(entry) => Some(entry),
            _ => None,
        }
    }
}

/// One address with its base file and the entries of all layers kept in the stack, laid or lifted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// The catalogue's number of the address.
    pub path: PathId,
    /// The root.
    pub root: RootId,
    /// The folded path below the root.
    pub key: FoldedKey,
    /// What the base has there.
    pub base: Option<Box<BaseFile>>,
    /// In no particular order.
    pub entries: Vec<Entry>,
    /// What blending gives, for those ways of it that were asked for; see [`Column::recipe`] and [`Column::composition`].
    pub blends: Vec<Blend>,
    /// Of a container, the columns of its members that any layer touches.
    pub members: Vec<Column>,
    /// It is a member's in a container, and so is no file on disk.
    pub is_member: bool,
}

impl Column {
    /// One with nothing in it.
    pub fn empty(path: PathId, root: RootId, key: FoldedKey) -> Self {
        let (base, entries, blends, members) = (None, Vec::new(), Vec::new(), Vec::new());
        Self { path, root, key, base, entries, blends, members, is_member: false }
    }

    /// How the address is spelled: as the base does, else as a layer does.
    pub fn spelled(&self) -> Option<&RelPath> {
        let base = self.base.as_ref().map(|base| &base.spelled);
        base.or_else(|| self.entries.first().map(|entry| &entry.spelled))
    }

    /// The mode that a layer's file gets here: that of the base file it covers, else the usual one;
    /// runnable if the package or the base says so.
    pub fn mode_for(&self, entry: &Entry) -> u32 {
        mode_over(self.base.as_ref().map(|base| base.mode), entry.executable)
    }
}

/// The mode that a layer's file gets over a base file of that mode, or over none, as [`Column::mode_for`].
pub fn mode_over(base: Option<u32>, executable: Option<bool>) -> u32 {
    let mode = base.map_or(0o644, |mode| mode & 0o777) | 0o200;
    if executable == Some(true) { mode | 0o111 } else { mode }
}

/// What a recipe gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blend {
    /// What was made, by [`Column::made_under`].
    pub made: ContentHash,
    /// The file; or why there is none, so that the topmost file counts as a whole.
    pub outcome: Result<Blended, NotBlendable>,
}

/// What stands in the way of blending.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Hindrance {
    /// The game's own file.
    Base,
    /// The file of that content.
    Content(ContentHash),
    /// Each file is fine, but not with the others.
    Together,
    /// Not all that goes into it can be had now.
    NotAtHand,
}

/// Why files at an address do not blend.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct NotBlendable {
    /// What stands in the way.
    pub hindrance: Hindrance,
    /// What is wrong with it.
    pub reason: String,
}

/// A file made of several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blended {
    /// Stands for the file: its content, time and spelling; its layer is the topmost that went into it.
    pub entry: Entry,
    /// The layers that went into it.
    pub from: Vec<LayerId>,
    /// Pairs of contents that set a key to different values.
    pub clashes: Vec<(ContentHash, ContentHash)>,
    /// Edits that could not be made, and why.
    pub undone: Vec<String>,
}

/// Contents that are blended into one, the lowest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recipe<'c> {
    /// What they are.
    pub format: Format,
    /// The game's own file, unless a layer takes it away.
    pub base: Option<&'c BaseFile>,
    /// Files, each content once, none equal to the game's own.
    pub files: Vec<&'c Entry>,
    /// Lists of changes to keys, made in the result.
    pub edits: Vec<&'c Entry>,
}
