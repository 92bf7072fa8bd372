//! Second copies of contents, written in the same pass as the stored ones, to where changes stage what they lay.
//!
//! What can neither be a link nor share its blocks lies on disk twice. Most of it is on its way into the game already when
//! it is taken in, so it is written to both places then, and need not be read back. Nothing depends on a second copy: where the disk
//! hindered it, or it is gone by then, the file is copied from the ledger; one that nobody wants goes again.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::decision::Staged;
use super::execute::empty_folder;
use super::private_folders::{drop_empty_folders, make_private_folders};
use crate::files::{STAGE, Seam};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, free_batch, make_private_folder};

/// The second copies of one change. What of them it does not use goes again when this is dropped.
pub(crate) struct SecondCopies {
    ledger: PathBuf,
    seam: Arc<dyn Seam>,
    /// The folders that they lie in, each with its side.
    folders: Vec<(PathBuf, PathBuf)>,
    next: u64,
    written: Mutex<HashMap<ContentHash, PathBuf>>,
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
            folders: Vec::new(),
            next: 0,
            written: Mutex::default(),
        }
    }

    /// A path for one on that side, where one can be made.
    pub(crate) fn place_on(&mut self, side: &Path) -> Option<PathBuf> {
        let known = self.folders.iter().find(|(of, _)| of == side);
        let folder = match known {
            Some((_, folder)) => folder.clone(),
            None => self.make_folder(side)?,
        };
        self.next += 1;
        Some(folder.join(self.next.to_string()))
    }

    /// Makes the folder for those on that side. No name that a change gives begins as its name does.
    fn make_folder(&mut self, side: &Path) -> Option<PathBuf> {
        let batch = free_batch(std::iter::once(side.to_path_buf())).ok()?;
        let folder = side.join(STAGE).join(format!("{batch}-again"));
        self.folders.push((side.to_path_buf(), folder.clone()));
        make_private_folders(side, &*self.seam).ok()?;
        make_private_folder(&folder, &*self.seam).ok()?;
        Some(folder)
    }

    /// Notes that all of a content was written there.
    pub(crate) fn note(&self, hash: ContentHash, path: PathBuf) {
        self.written().insert(hash, path);
    }

    /// Their contents.
    pub(super) fn contents(&self) -> HashSet<ContentHash> {
        self.written().keys().copied().collect()
    }

    /// Moves one to where the file is staged; says whether it lies there now.
    pub(super) fn stage(&self, file: &Staged) -> bool {
        let Some(path) = self.written().remove(&file.hash) else { return false };
        if self.seam.rename(&path, &file.path).is_err() {
            return false;
        }
        let is_stamped = self.seam.stamp(&file.path, file.stamp).is_ok();
        if !is_stamped {
            let _ = self.seam.remove_file(&file.path);
        }
        is_stamped
    }

    fn written(&self) -> MutexGuard<'_, HashMap<ContentHash, PathBuf>> {
        self.written.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for SecondCopies {
    fn drop(&mut self) {
        // What can't be removed now is removed by the next change.
        for (side, folder) in &self.folders {
            let _ = empty_folder(folder, &*self.seam);
            let _ = self.seam.remove_folder(folder);
            drop_empty_folders(side, &self.ledger, &*self.seam);
        }
    }
}
