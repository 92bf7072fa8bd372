//! Laying big contents as links, so that they take room once.
//!
//! A linked file and the stored content are one file with one time and one mode. So a content that has other names already is
//! linked only where it shows the very time that the new file is to have; else the file is a copy.

use std::collections::{HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use super::decision::Staged;
use crate::address::FoldedKey;
use crate::files::{Seam, identity, is_one_volume, is_seldom_written, look_at, shares_blocks};
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

impl Linking {
    pub(super) fn of(ledger: &Ledger, staged: &[Staged]) -> Result<Self, LedgerError> {
        let big_files = ledger.game().big_files;
        let mut linking = Self::default();
        let mut sides: Vec<(Arc<Path>, bool)> = Vec::new();
        for file in staged {
            if !sides.iter().any(|(side, _)| *side == file.side) {
                let there = file.side.ancestors().find(|folder| folder.is_dir()).unwrap_or(&file.side);
                let is_beside = is_one_volume(there, ledger.folder()).unwrap_or(false);
                sides.push((file.side.clone(), is_beside));
            }
        }
        let is_beside = |side: &Path| sides.iter().any(|(known, is_beside)| **known == *side && *is_beside);
        let may_be = |file: &&Staged| {
            file.made.is_none()
                && file.may_link
                && file.size_bytes >= big_files.from_bytes.max(1)
                && is_beside(&file.side)
        };
        let big: Vec<&Staged> = staged.iter().filter(may_be).collect();
        if !big_files.by_link || big.is_empty() || shares_blocks(ledger.folder()) {
            return Ok(linking);
        }
        let volatile = ledger.volatile()?;
        for file in big {
            let (root, key): &(RootId, FoldedKey) = &file.at;
            if !volatile.meet(*root, key.as_str()) {
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
pub(super) fn may_be_linked(path: &str, is_settings: bool, is_program: bool) -> bool {
    !is_settings && !is_program && is_seldom_written(path)
}
