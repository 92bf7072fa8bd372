//! Where stored contents lie in a ledger's folder.

use std::path::{Path, PathBuf};
use std::{fs, io};

use super::error::LedgerError;
use crate::hash::ContentHash;

pub(super) const BLOBS: &str = "blobs";
pub(super) const PACKS: &str = "packs";

/// The place of a stored content with a file of its own.
pub(crate) fn blob_path(ledger: &Path, hash: ContentHash) -> PathBuf {
    let name = hash.to_string();
    ledger.join(BLOBS).join(&name[..2]).join(&name[2..])
}

/// The place of a pack.
pub(crate) fn pack_path(ledger: &Path, number: u64) -> PathBuf {
    ledger.join(PACKS).join(number.to_string())
}

/// The packs that lie there, with their numbers.
pub(super) fn packs_there(ledger: &Path) -> Result<Vec<(u64, PathBuf)>, LedgerError> {
    let folder = ledger.join(PACKS);
    let entries = match fs::read_dir(&folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        other => other.map_err(LedgerError::io("look into", &folder))?,
    };
    let mut packs = Vec::new();
    for entry in entries {
        let entry = entry.map_err(LedgerError::io("look into", &folder))?;
        if let Some(number) = entry.file_name().to_str().and_then(|name| name.parse().ok()) {
            packs.push((number, entry.path()));
        }
    }
    Ok(packs)
}

/// Where a stored content lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Place {
    /// A file of its own.
    Own,
    /// A part of a pack.
    Packed { pack: u64, at: u64, size_bytes: u64 },
}

/// A content that was not stored before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct NewContent {
    pub hash: ContentHash,
    pub size_bytes: u64,
    pub place: Place,
}

impl NewContent {
    /// The file that it is in.
    pub(crate) fn path(&self, ledger: &Path) -> PathBuf {
        path_of(ledger, self.hash, self.place)
    }
}

pub(super) fn path_of(ledger: &Path, hash: ContentHash, place: Place) -> PathBuf {
    match place {
        Place::Own => blob_path(ledger, hash),
        Place::Packed { pack, .. } => pack_path(ledger, pack),
    }
}
