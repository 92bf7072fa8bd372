//! Laying big contents as links, so that they take room once.
//!
//! A linked file and the stored content are one file with one time and one mode. So a content that has other names already is
//! linked only where it shows the very time that the new file is to have; else the file is a copy.

use std::cell::OnceCell;
use std::collections::{HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use super::decision::Staged;
use crate::address::FoldedKey;
use crate::files::{Seam, identity, is_one_volume, is_seldom_written, look_at, shares_blocks};
use crate::game::AddressPatterns;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, LinkedStamp};
use crate::stack::RootId;

/// Which files of a change may be links, and which became some.
#[derive(Debug, Default)]
pub(super) struct Linking {
    eligible: HashSet<PathBuf>,
    /// What contents were given when they were linked last.
    known: HashMap<ContentHash, LinkedStamp>,
    /// What each content shows in this change.
    claimed: Mutex<HashMap<ContentHash, LinkedStamp>>,
    linked: Mutex<Vec<(ContentHash, LinkedStamp)>>,
}

/// By what means big files of a game may be laid.
pub(crate) struct Means<'l> {
    ledger: &'l Ledger,
    /// Folders of sides, and whether each is on the ledger's volume.
    beside: Vec<(PathBuf, bool)>,
    shares_blocks: OnceCell<bool>,
    volatile: OnceCell<AddressPatterns>,
}

impl<'l> Means<'l> {
    pub(crate) fn of(ledger: &'l Ledger) -> Self {
        Self { ledger, beside: Vec::new(), shares_blocks: OnceCell::new(), volatile: OnceCell::new() }
    }

    /// Whether a file of that size that goes through that side may be a link, if its kind `may_link`.
    pub(crate) fn link(
        &mut self,
        size_bytes: u64,
        side: &Path,
        (root, key): (RootId, &FoldedKey),
        may_link: bool,
    ) -> Result<bool, LedgerError> {
        let big_files = self.ledger.game().big_files;
        let is_big = big_files.by_link && size_bytes >= big_files.from_bytes.max(1);
        if !may_link || !is_big || !self.is_beside(side) || self.shares_blocks() {
            return Ok(false);
        }
        if self.volatile.get().is_none() {
            let _ = self.volatile.set(self.ledger.volatile()?);
        }
        Ok(self.volatile.get().is_some_and(|volatile| !volatile.meet(root, key.as_str())))
    }

    /// Whether a file that goes through that side shares its blocks with the stored content.
    pub(crate) fn share_blocks(&mut self, side: &Path) -> bool {
        self.is_beside(side) && self.shares_blocks()
    }

    fn shares_blocks(&self) -> bool {
        *self.shares_blocks.get_or_init(|| shares_blocks(self.ledger.folder()))
    }

    /// Whether a side is on the ledger's volume.
    pub(crate) fn is_beside(&mut self, side: &Path) -> bool {
        if let Some((_, is_beside)) = self.beside.iter().find(|(known, _)| known == side) {
            return *is_beside;
        }
        let there = side.ancestors().find(|folder| folder.is_dir()).unwrap_or(side);
        let is_beside = is_one_volume(there, self.ledger.folder()).unwrap_or(false);
        self.beside.push((side.to_path_buf(), is_beside));
        is_beside
    }
}

impl Linking {
    pub(super) fn of(ledger: &Ledger, staged: &[Staged]) -> Result<Self, LedgerError> {
        let mut linking = Self::default();
        let mut means = Means::of(ledger);
        for file in staged.iter().filter(|file| file.made.is_none()) {
            let (root, key): &(RootId, FoldedKey) = &file.at;
            if means.link(file.size_bytes, &file.side, (*root, key), file.may_link)? {
                linking.known.extend(ledger.catalogue.linked(file.hash)?.map(|stamp| (file.hash, stamp)));
                linking.eligible.insert(file.path.clone());
            }
        }
        Ok(linking)
    }

    /// Whether a file may become a link.
    pub(super) fn may_be(&self, file: &Staged) -> bool {
        self.eligible.contains(&file.path)
    }

    /// Stages a file as a link, if it may be one; says whether it is. The content was found whole, as far as it was in doubt.
    pub(super) fn link(&self, file: &Staged, blob: &Path, seam: &dyn Seam) -> io::Result<bool> {
        if !self.may_be(file) {
            return Ok(false);
        }
        let wanted = LinkedStamp { modified: file.stamp.modified, mode: file.stamp.mode };
        {
            let mut claimed = self.claimed.lock().unwrap_or_else(PoisonError::into_inner);
            match claimed.get(&file.hash) {
                Some(stamp) if *stamp != wanted => return Ok(false),
                Some(_) => {}
                None => {
                    if look_at(blob)?.is_none_or(|seen| seen.size_bytes != file.size_bytes) {
                        return Ok(false);
                    }
                    let has_names = identity(blob)?.names > 1;
                    if has_names && self.known.get(&file.hash) != Some(&wanted) {
                        return Ok(false);
                    }
                    if !has_names {
                        seam.stamp(blob, file.stamp)?;
                    }
                    claimed.insert(file.hash, wanted);
                }
            }
        }
        // Another volume, too many names, a disk that has none: a copy does it.
        if seam.link_file(blob, &file.path).is_err() {
            return Ok(false);
        }
        self.linked.lock().unwrap_or_else(PoisonError::into_inner).push((file.hash, wanted));
        Ok(true)
    }

    /// The contents that were linked.
    pub(super) fn into_linked(self) -> Vec<(ContentHash, LinkedStamp)> {
        self.linked.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Whether a file of that name is one that programs seldom write to, and no settings.
pub(crate) fn may_be_linked(path: &str, is_settings: bool, is_program: bool) -> bool {
    !is_settings && !is_program && is_seldom_written(path)
}
