//! What a decision is made of, step by step.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::decision::Decision;
use super::error::ChangeError;
use super::options::Edits;
use super::plan::ClashingFile;
use super::request::{Exchange, ForeignFile};
use super::second_copies::SecondCopies;
use crate::address::{Address, FoldedKey, RelPath};
use crate::check::DamagedFile;
use crate::expected::{Blender, Folders};
use crate::files::{FILES_A_FOLDER, STAGE, TRASH};
use crate::game::Root;
use crate::ledger::{Ledger, OtherGames};
use crate::notice::Notice;
use crate::stack::{Column, LayerId, Order, PathId, Provider, RootId, Tally};

/// New folders with where each is staged.
#[derive(Debug, Default)]
pub(super) struct NewFolders {
    pub staged: HashMap<RootId, HashMap<FoldedKey, Arc<Path>>>,
    pub trees: usize,
    /// The folder that was asked for last, with the answer: files of one come one after the other.
    last: Option<(RootId, FoldedKey, Option<Arc<Path>>)>,
}

impl NewFolders {
    /// Where the folder is staged, if it is new.
    pub(super) fn staged(&self, root: RootId, key: &FoldedKey) -> Option<&Arc<Path>> {
        self.staged.get(&root)?.get(key)
    }

    /// Where the folder around the column's file is staged, if that is new.
    pub(super) fn holding(&mut self, column: &Column) -> Option<Arc<Path>> {
        if self.staged.is_empty() {
            return None;
        }
        if let Some((root, folder, found)) = &self.last
            && *root == column.root
            && column.key.parent_text() == Some(folder.as_str())
        {
            return found.clone();
        }
        let folder = column.key.parent()?;
        let found = self.staged(column.root, &folder).cloned();
        self.last = Some((column.root, folder, found.clone()));
        found
    }
}

/// A cause of something that the user should know; of one cause it is said once.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Note {
    /// What was to go had gone already.
    GoneAlready,
    /// A file of the base that is covered from now on is gone.
    OriginalGone,
    /// Changes of keys found nothing to change.
    Undone(String),
    /// One whole file counts.
    NotBlended { whose: Option<String>, reason: String },
}

impl Note {
    /// What is told of these addresses.
    pub(super) fn of(self, addresses: Vec<Address>) -> Notice {
        match self {
            Self::GoneAlready => Notice::GoneAlready { addresses },
            Self::OriginalGone => Notice::OriginalsGone { addresses },
            Self::Undone(reason) => Notice::NothingToChange { addresses, reason },
            Self::NotBlended { whose, reason } => Notice::NotBlended { addresses, whose, reason },
        }
    }
}

/// One column whose file on disk changes, with who supplies it before and after.
pub(super) struct Move<'c> {
    pub(super) column: &'c Column,
    pub(super) from: Provider<'c>,
    pub(super) to: Provider<'c>,
    pub(super) from_path: RelPath,
    pub(super) to_path: RelPath,
    /// Where its folder is staged, if that is new; nothing can lie there yet.
    pub(super) new_folder: Option<Arc<Path>>,
}

impl Move<'_> {
    /// The path at which something lies, or may lie, before the change.
    pub(super) fn present_or_future(&self) -> &RelPath {
        if self.from_path.is_root() { &self.to_path } else { &self.from_path }
    }

    /// The path at which something lies after the change, or lay before it.
    pub(super) fn future_or_present(&self) -> &RelPath {
        if self.to_path.is_root() { &self.from_path } else { &self.to_path }
    }
}

/// Addresses of files that leave, and nothing takes their place.
#[derive(Debug, Default)]
pub(super) struct Leaving(BTreeMap<RootId, FxHashSet<FoldedKey>>);

impl Leaving {
    pub(super) fn insert(&mut self, root: RootId, key: FoldedKey) {
        self.0.entry(root).or_default().insert(key);
    }

    pub(super) fn contains(&self, root: RootId, key: &FoldedKey) -> bool {
        self.0.get(&root).is_some_and(|keys| keys.contains(key))
    }
}

/// Folders on the way to files that move, by root and path, each with whether something comes into it.
#[derive(Debug, Default)]
pub(super) struct FoldersOnTheWay {
    folders: BTreeMap<RootId, BTreeMap<String, bool>>,
    /// The one that was noted last.
    last: Option<(RootId, String, bool)>,
}

impl FoldersOnTheWay {
    pub(super) fn note(&mut self, at: &Move<'_>) {
        let root = at.column.root;
        for (path, comes) in [(&at.from_path, false), (&at.to_path, !matches!(at.to, Provider::Nothing))] {
            let parent = path.as_str().rfind('/').map(|cut| &path.as_str()[..cut]);
            let Some(parent) = parent.filter(|parent| !self.is_last(root, parent, comes)) else { continue };
            let folders = self.folders.entry(root).or_default();
            // All above a folder that is known are known.
            let is_known = folders.get(parent).is_some_and(|is| *is >= comes);
            if !is_known {
                for folder in path.ancestors() {
                    match folders.get_mut(folder) {
                        Some(is) => *is |= comes,
                        None => drop(folders.insert(folder.to_owned(), comes)),
                    }
                }
            }
            self.last = Some((root, parent.to_owned(), comes));
        }
    }

    fn is_last(&self, root: RootId, folder: &str, comes: bool) -> bool {
        let last = self.last.as_ref();
        last.is_some_and(|(of, last, is)| *of == root && *is >= comes && last == folder)
    }

    /// All of them, each after the one above it.
    pub(super) fn all(&self) -> impl Iterator<Item = (RootId, &str, bool)> {
        self.folders.iter().flat_map(|(root, folders)| {
            folders.iter().map(|(folder, comes)| (*root, folder.as_str(), *comes))
        })
    }
}

/// What changes in the stack: the orders before and after, and all that is at the addresses concerned.
pub(super) struct StackTurn<'a> {
    pub(super) changed: BTreeSet<LayerId>,
    /// Those of the part that is being decided.
    pub(super) columns: Vec<Column>,
    /// Addresses of files at which some layer needs a folder.
    pub(super) also_folders: HashSet<PathId>,
    pub(super) folders_before: Folders<'a>,
    pub(super) folders_after: Folders<'a>,
    pub(super) before: Order,
    pub(super) after: Order,
    pub(super) exchanges: Vec<Exchange>,
    /// Tallies of all parts so far, under the order before and with the base as it was.
    pub(super) tallies_before: BTreeMap<LayerId, Tally>,
    /// The same as they will be.
    pub(super) tallies_after: BTreeMap<LayerId, Tally>,
}

/// What is to become of files that are not what the stack says.
pub(super) struct Wishes<'a> {
    pub(super) edits: Edits,
    /// What other games have in folders of this one, where the user said that it may change.
    pub(super) over_others: Option<&'a OtherGames>,
    /// Originals that are lost do not stop it.
    pub(super) without_lost: bool,
    /// Addresses at which what the stack says is put again.
    pub(super) restore: HashSet<PathId>,
    /// Files on disk that the stack does not know, and that are taken up.
    pub(super) foreign: HashMap<PathId, ForeignFile>,
}

/// What is done with files, as far as it is decided.
pub(super) struct FilesAtWork<'a> {
    pub(super) new_folders: NewFolders,
    /// What lies where it is staged already.
    pub(super) second_copies: Option<&'a SecondCopies>,
    /// The sides of roots that were asked for.
    pub(super) sides: HashMap<RootId, Arc<Path>>,
    pub(super) revision: i64,
    /// What the names begin with of all that goes through the side_folders, for nothing that lies there has them.
    pub(super) batch: u64,
    /// Addresses of files that leave, and nothing takes their place.
    pub(super) leaving: Leaving,
    /// Folders on the way to files that move.
    pub(super) on_the_way: FoldersOnTheWay,
    /// What is decided when all that leaves is known.
    pub(super) after_all: Vec<Column>,
    /// Something is in the way, and the user said nothing about it.
    pub(super) must_stop: bool,
    /// What lay where a folder is to be, and goes.
    pub(super) cleared: BTreeSet<PathBuf>,
    /// Of some addresses it is not known what the game had there.
    pub(super) has_unknown_originals: bool,
}

/// What a person is told.
#[derive(Default)]
pub(super) struct Noted {
    /// What the user should know, by its cause.
    pub(super) notes: BTreeMap<Note, Vec<Address>>,
    /// Files whose edits can't be carried over.
    pub(super) clashing: Vec<ClashingFile>,
    /// Originals that are lost and stop the change.
    pub(super) lost_originals: Vec<DamagedFile>,
    /// Layers' names, for messages.
    pub(super) names: HashMap<LayerId, String>,
}

/// What a decision is made of.
pub(super) struct Decider<'a> {
    pub(super) ledger: &'a Ledger,
    pub(super) blender: Blender<'a>,
    pub(super) stack: StackTurn<'a>,
    pub(super) wishes: Wishes<'a>,
    pub(super) files: FilesAtWork<'a>,
    pub(super) noted: Noted,
    pub(super) decision: Decision,
}

impl<'a> Decider<'a> {
    pub(super) fn root(&self, id: RootId) -> Result<&'a Root, ChangeError> {
        Ok(self.ledger.site().root(id)?)
    }

    pub(super) fn address(&self, root: RootId, path: &RelPath) -> Result<Address, ChangeError> {
        Ok(Address { root: self.root(root)?.name.clone(), path: path.clone() })
    }

    pub(super) fn layer_name(&mut self, layer: LayerId) -> Result<String, ChangeError> {
        if self.noted.names.is_empty() {
            let names = self.ledger.catalogue.layer_names()?;
            self.noted.names = names.into_iter().collect();
        }
        Ok(self.noted.names.get(&layer).cloned().unwrap_or_default())
    }

    /// The side of a root.
    pub(super) fn side(&mut self, root: RootId) -> Result<Arc<Path>, ChangeError> {
        if let Some(side) = self.files.sides.get(&root) {
            return Ok(Arc::clone(side));
        }
        let side: Arc<Path> = self.ledger.site().side(self.root(root)?).into();
        self.files.sides.insert(root, Arc::clone(&side));
        Ok(side)
    }

    /// Where the file of the next step goes to be thrown away.
    pub(super) fn in_trash(&self, side: &Path) -> PathBuf {
        numbered(&side.join(TRASH), self.files.batch, self.decision.steps.len())
    }

    /// Where the next file is staged.
    pub(super) fn in_stage(&self, side: &Path) -> PathBuf {
        numbered(&side.join(STAGE), self.files.batch, self.decision.staged.len())
    }

    pub(super) fn need_private_folders(&mut self, side: &Path, path: &Path) {
        let Some(parent) = path.parent() else { return };
        if self.decision.private_folders.last().is_some_and(|last| last == parent)
            || self.decision.private_folders.iter().rev().take(8).any(|folder| folder == parent)
        {
            return;
        }
        let mut missing: Vec<&Path> = parent.ancestors().take_while(|folder| *folder != side).collect();
        missing.reverse();
        self.decision.private_folders.extend(missing.into_iter().map(Path::to_path_buf));
    }
}

/// The place for the `number`th file of a kind in a side's folder.
pub(super) fn numbered(folder: &Path, batch: u64, number: usize) -> PathBuf {
    let mut path = folder.join(format!("{batch}-{}", number / FILES_A_FOLDER));
    path.push(number.to_string());
    // Many of these are kept at once.
    path.shrink_to_fit();
    path
}
