//! Second copies of contents, written in the same pass as the stored ones, to where a change is about to stage them.
//!
//! What can neither be a link nor share its blocks lies on disk twice. Most of it is on its way into the game already when
//! it is taken in, so it is written to both places then, and need not be read back: into the very folder that comes into the game
//! whole, or under a number of its own. Nothing depends on a second copy: where the disk hindered it, or it is gone by then, the
//! file is copied from the ledger; one that nobody wants goes again.

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::decision::{Made, Staged};
use super::error::ChangeError;
use super::execute::empty_folder;
use super::private_folders::{drop_empty_folders, make_private_folders};
use crate::address::{FoldedKey, RelPath};
use crate::files::{FILES_A_FOLDER, STAGE, Seam, Stamp, is_nothing_there, look_at};
use crate::game::{Game, Root};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, free_batch, make_private_folder};
use crate::stack::{BaseKind, RootId};

/// Where one is written, and with what time and mode.
#[derive(Debug)]
pub(crate) struct SecondPlace {
    folder: Arc<Path>,
    name: Box<str>,
    pub stamp: Stamp,
    /// It goes its own way, and comes into the game with no folder.
    is_free: bool,
}

impl SecondPlace {
    pub(crate) fn path(&self) -> PathBuf {
        self.folder.join(&*self.name)
    }

    fn order(&self) -> (&OsStr, &str) {
        (self.folder.as_os_str(), &self.name)
    }
}

/// What is kept of one side.
struct Side {
    folder: PathBuf,
    /// What the names of its folders begin with.
    batch: u64,
    trees: usize,
    /// Files that go their own way, and the folder of the last one.
    loose: usize,
    loose_folder: Option<Arc<Path>>,
}

#[derive(Default)]
struct Written {
    whole: Vec<(ContentHash, SecondPlace)>,
    /// Whether these are in order of contents, and of places with the same content.
    is_sorted: bool,
    /// How many of each content were asked for, in that order.
    claimed: FxHashMap<ContentHash, usize>,
    /// Where a part was written, if anything.
    broken: Vec<SecondPlace>,
}

impl Written {
    fn sort(&mut self) {
        if !self.is_sorted {
            let by_order = |(one, at): &(ContentHash, SecondPlace),
                            (two, other): &(ContentHash, SecondPlace)| {
                one.cmp(two).then_with(|| at.order().cmp(&other.order()))
            };
            self.whole.sort_unstable_by(by_order);
            self.is_sorted = true;
        }
    }

    /// The number of what was written there with that content, once they are sorted.
    fn find(&self, hash: ContentHash, path: &Path) -> Option<usize> {
        let sought = (path.parent()?.as_os_str(), path.file_name()?.to_str()?);
        self.whole.binary_search_by(|(other, at)| other.cmp(&hash).then_with(|| at.order().cmp(&sought))).ok()
    }

    /// The next one of that content that is free, on that side. What is passed over is not given any more.
    fn claim(&mut self, hash: ContentHash, side: &Path) -> Option<&SecondPlace> {
        self.sort();
        let start = self.whole.partition_point(|(other, _)| *other < hash);
        let claimed = self.claimed.entry(hash).or_default();
        loop {
            let (other, place) = self.whole.get(start + *claimed)?;
            if *other != hash {
                return None;
            }
            *claimed += 1;
            if place.is_free && place.folder.starts_with(side) {
                return Some(place);
            }
        }
    }
}

/// The second copies of one change. What of them it does not use goes again.
pub(crate) struct SecondCopies {
    ledger: PathBuf,
    seam: Arc<dyn Seam>,
    sides: Vec<Side>,
    /// All folders that were made for them, each after the one above it.
    folders: Vec<Arc<Path>>,
    /// Folders of the game that were asked for, with where each is staged if it is new. Their names are the package's, so they are
    /// hashed in a way that nobody can foresee.
    staged: HashMap<(RootId, FoldedKey), Option<Arc<Path>>>,
    written: Mutex<Written>,
    is_settled: bool,
}

impl std::fmt::Debug for SecondCopies {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("SecondCopies").field("folders", &self.folders).finish_non_exhaustive()
    }
}

impl SecondCopies {
    /// None yet.
    pub(crate) fn of(ledger: &Ledger) -> Self {
        Self {
            ledger: ledger.folder().to_path_buf(),
            seam: Arc::clone(&ledger.seam),
            sides: Vec::new(),
            folders: Vec::new(),
            staged: HashMap::new(),
            written: Mutex::default(),
            is_settled: false,
        }
    }

    /// A place for the file that comes to `path` below a root and goes through that side, where one can be made.
    pub(crate) fn place(
        &mut self,
        (game, root, side): (&Game, &Root, &Path),
        path: &RelPath,
        stamp: Stamp,
    ) -> Option<SecondPlace> {
        let (above, name) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
        if let Some(folder) = self.new_folder((game, root, side), above) {
            return Some(SecondPlace { folder, name: name.into(), stamp, is_free: false });
        }
        let at = self.side(side)?;
        let number = self.sides[at].loose;
        if number.is_multiple_of(FILES_A_FOLDER) {
            let name = format!("{}-again-{}", self.sides[at].batch, number / FILES_A_FOLDER);
            self.sides[at].loose_folder = self.make_folder(side.join(STAGE).join(name));
        }
        let side = &mut self.sides[at];
        side.loose += 1;
        let folder = side.loose_folder.clone()?;
        Some(SecondPlace { folder, name: number.to_string().into(), stamp, is_free: true })
    }

    /// Where a folder of the game is staged, if it is new and comes whole.
    fn new_folder(&mut self, of: (&Game, &Root, &Path), path: &str) -> Option<Arc<Path>> {
        let (game, root, side) = of;
        if cfg!(windows) || path.is_empty() {
            return None;
        }
        let key = (root.id, game.folding.key(path));
        if let Some(known) = self.staged.get(&key) {
            return known.clone();
        }
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = match self.new_folder(of, above) {
            Some(above) => Some(above.join(name)),
            None => match look_at(&root.folder.join(path)) {
                Ok(None) => self.tree(side),
                _ => None,
            },
        };
        let folder = folder.and_then(|folder| self.make_folder(folder));
        self.staged.insert(key, folder.clone());
        folder
    }

    /// A path for the next new folder of that side.
    fn tree(&mut self, side: &Path) -> Option<PathBuf> {
        let at = self.side(side)?;
        let of = &mut self.sides[at];
        of.trees += 1;
        Some(side.join(STAGE).join(format!("{}-again-tree-{}", of.batch, of.trees)))
    }

    /// The number of a side here. No name that a change gives begins as its names do.
    fn side(&mut self, side: &Path) -> Option<usize> {
        let known = self.sides.iter().position(|known| known.folder == side);
        if known.is_some() {
            return known;
        }
        let batch = free_batch(std::iter::once(side.to_path_buf())).ok()?;
        let folder = side.to_path_buf();
        self.sides.push(Side { folder, batch, trees: 0, loose: 0, loose_folder: None });
        make_private_folders(side, &*self.seam).ok()?;
        Some(self.sides.len() - 1)
    }

    fn make_folder(&mut self, path: PathBuf) -> Option<Arc<Path>> {
        make_private_folder(&path, &*self.seam).ok()?;
        let folder: Arc<Path> = path.into();
        self.folders.push(Arc::clone(&folder));
        Some(folder)
    }

    /// Makes room for so many that will be written; a list that grows step by step ends up twice as long.
    pub(crate) fn expect(&self, copies: usize) {
        self.written().whole.reserve_exact(copies);
    }

    /// Notes that a content was written there; or only a part of it, if anything.
    pub(crate) fn note(&self, hash: ContentHash, place: SecondPlace, is_whole: bool) {
        let mut written = self.written();
        if is_whole {
            written.is_sorted = false;
            written.whole.push((hash, place));
        } else {
            written.broken.push(place);
        }
    }

    /// Where a new folder of the game is staged already, with some of what is in it.
    pub(super) fn staged(&self, root: RootId, key: &FoldedKey) -> Option<&Path> {
        self.staged.get(&(root, key.clone()))?.as_deref()
    }

    /// Where the content lies, for a file that goes through that side by itself; each is given once.
    pub(super) fn claim(&self, hash: ContentHash, side: &Path) -> Option<PathBuf> {
        self.written().claim(hash, side).map(SecondPlace::path)
    }

    /// Marks the files that lie where they are staged, and removes all else. `folders` are those that the change needs, on the
    /// sides of `in_use`, and are there.
    ///
    /// # Errors
    /// [`ChangeError::Stage`] when something would come into the game with a folder, and can't be removed.
    pub(super) fn settle(
        mut self,
        staged: &mut [Staged],
        folders: &[PathBuf],
        in_use: &[PathBuf],
    ) -> Result<(), ChangeError> {
        let unused = self.put_in_place(staged);
        self.remove(&unused, &folders.iter().map(PathBuf::as_path).collect())?;
        for side in self.sides.iter().filter(|side| !in_use.contains(&side.folder)) {
            drop_empty_folders(&side.folder, &self.ledger, &*self.seam);
        }
        self.is_settled = true;
        Ok(())
    }

    /// Marks the files that lie where they are staged, and gives what is of no use.
    fn put_in_place(&self, staged: &mut [Staged]) -> Vec<SecondPlace> {
        let mut written = std::mem::take(&mut *self.written());
        written.sort();
        let in_place = staged.par_iter_mut().filter(|file| file.made.is_none()).filter_map(|file| {
            let at = written.find(file.hash, &file.path)?;
            mark(file, written.whole[at].1.stamp, &*self.seam);
            Some(at)
        });
        let in_place: FxHashSet<usize> = in_place.collect();
        let mut unused = written.broken;
        // Some folders have another spelling, or came meanwhile.
        let mut elsewhere: FxHashMap<ContentHash, Vec<SecondPlace>> = FxHashMap::default();
        let all = written.whole.into_iter().enumerate();
        for (_, (hash, place)) in all.filter(|(at, _)| !in_place.contains(at)) {
            elsewhere.entry(hash).or_default().push(place);
        }
        for file in staged.iter_mut().filter(|file| file.made.is_none()) {
            let Some(place) = elsewhere.get_mut(&file.hash).and_then(Vec::pop) else { continue };
            match self.seam.rename(&place.path(), &file.path) {
                Ok(()) => mark(file, place.stamp, &*self.seam),
                Err(_) => unused.push(place),
            }
        }
        unused.extend(elsewhere.into_values().flatten());
        unused
    }

    /// Removes what is of no use, and folders that are not `needed`.
    fn remove(&self, unused: &[SecondPlace], needed: &HashSet<&Path>) -> Result<(), ChangeError> {
        let seam = &*self.seam;
        // What is in a new folder comes into the game with it; all else goes once the change is done.
        let would_come = |path: &Path| {
            let mut new = self.staged.values().flatten().filter(|folder| needed.contains(&***folder));
            new.any(|folder| path != &**folder && path.starts_with(folder))
        };
        let gone = |path: &Path, removed: io::Result<()>| match removed {
            Err(error) if !is_nothing_there(&error) && would_come(path) => {
                Err(ChangeError::Stage { path: path.to_path_buf(), source: error })
            }
            _ => Ok(()),
        };
        unused.par_iter().map(SecondPlace::path).try_for_each(|path| gone(&path, seam.remove_file(&path)))?;
        let mut folders = self.folders.iter().rev().filter(|folder| !needed.contains(&***folder));
        folders.try_for_each(|folder| gone(folder, seam.remove_folder(folder)))
    }

    fn written(&self) -> MutexGuard<'_, Written> {
        self.written.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Marks a file that lies where it is staged, and has `stamp`. One that is not what was written there goes.
fn mark(file: &mut Staged, stamp: Stamp, seam: &dyn Seam) {
    let is_there = look_at(&file.path).is_ok_and(|seen| {
        seen.is_some_and(|seen| seen.kind == BaseKind::File && seen.size_bytes == file.size_bytes)
    });
    if is_there && (stamp == file.stamp || seam.stamp(&file.path, file.stamp).is_ok()) {
        file.made = Some(Made::Before);
    } else {
        // Where it stays nothing can be staged, and that is told.
        let _ = seam.remove_file(&file.path);
    }
}

impl Drop for SecondCopies {
    fn drop(&mut self) {
        if self.is_settled {
            return;
        }
        // What can't be removed now is removed by the next change.
        let is_outermost = |folder: &&Arc<Path>| folder.parent().is_some_and(|above| above.ends_with(STAGE));
        for folder in self.folders.iter().filter(is_outermost) {
            let _ = empty_folder(folder, &*self.seam);
            let _ = self.seam.remove_folder(folder);
        }
        for side in &self.sides {
            drop_empty_folders(&side.folder, &self.ledger, &*self.seam);
        }
    }
}
