//! Whether what the ledger stores is still what it was: contents of layers, and the game's own files that they cover.
//!
//! A disk can lose or turn bits, and a person or a program can get at the ledger's folder. What differs from what the
//! catalogue knows is never used: it is told, with what it belongs to, and can be put again from anything that has the
//! same content.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::compare::CheckError;
use crate::address::Address;
use crate::files::look_at;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, Site, Stored, covered};
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, Column, LayerId, PathId, RootId};

/// A stored file that is gone, or is not what it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DamagedFile {
    /// An address at which its content lies, or would.
    pub address: Address,
    /// The layer that has it; `None` for the game's own files.
    pub layer: Option<String>,
    /// The package that the layer was made from, as a path.
    pub package: Option<String>,
    /// It is gone; otherwise its content differs or can't be read.
    pub is_missing: bool,
    /// Where it lies in the ledger.
    pub path: PathBuf,
}

/// What a look at everything stored found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StoredReport {
    /// Contents of layers of the stack.
    pub contents: u64,
    /// The game's own files that are covered.
    pub originals: u64,
    /// Bytes of both that were read.
    pub bytes: u64,
    /// What is gone or damaged, in order of addresses.
    pub damaged: Vec<DamagedFile>,
}

/// How a stored file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Soundness {
    Whole,
    /// Its content is right and its time is not.
    OtherTime,
    Missing,
    Damaged,
}

impl Soundness {
    pub(crate) fn is_lost(self) -> bool {
        matches!(self, Self::Missing | Self::Damaged)
    }
}

/// Where a damaged file belongs, so that it can be put again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Lost {
    Content { hash: ContentHash, size_bytes: u64 },
    Original { root: RootId, path: PathId, base: BaseFile },
}

/// Compares a stored content with its hash. What can't be read is damaged, whatever the reason.
fn soundness_of_content(stored: &Stored, hash: ContentHash, size_bytes: u64) -> Soundness {
    match stored.own_file() {
        Some(own) => soundness_of(&own, hash, size_bytes),
        None if stored.is_whole() => Soundness::Whole,
        None if matches!(look_at(&stored.path()), Ok(None)) => Soundness::Missing,
        None => Soundness::Damaged,
    }
}

/// Compares the content of a stored file with its hash. What can't be read is damaged, whatever the reason.
fn soundness_of(path: &Path, hash: ContentHash, size_bytes: u64) -> Soundness {
    match look_at(path) {
        Ok(None) => Soundness::Missing,
        Ok(Some(seen)) if seen.kind == BaseKind::File && seen.size_bytes == size_bytes => {
            match ContentHash::of_file(path) {
                Ok(now) if now == hash => Soundness::Whole,
                _ => Soundness::Damaged,
            }
        }
        _ => Soundness::Damaged,
    }
}

/// Compares a covered file of the base with what is known of it: by size and time, and where these differ, or `deep`, by
/// content.
pub(crate) fn soundness_of_original(path: &Path, base: &BaseFile, deep: bool) -> Soundness {
    let seen = match look_at(path) {
        Ok(None) => return Soundness::Missing,
        Ok(Some(seen)) if seen.kind == base.kind => seen,
        _ => return Soundness::Damaged,
    };
    if base.kind != BaseKind::File {
        return Soundness::Whole;
    }
    let has_time = seen.modified_ns == base.modified_ns;
    let as_timed = if has_time { Soundness::Whole } else { Soundness::OtherTime };
    if seen.size_bytes != base.size_bytes {
        return Soundness::Damaged;
    }
    match base.hash {
        Some(hash) if deep || !has_time => match soundness_of(path, hash, base.size_bytes) {
            Soundness::Whole => as_timed,
            other => other,
        },
        None if !has_time => Soundness::Damaged,
        _ => Soundness::Whole,
    }
}

/// Reads everything stored that the stack needs and compares it with what is known of it.
///
/// # Errors
/// [`CheckError`].
pub fn check_stored(ledger: &Ledger, observer: &dyn Observer) -> Result<StoredReport, CheckError> {
    look_for_damage(ledger, observer).map(|(report, _)| report)
}

/// As [`check_stored`], with where each damaged file belongs, in the same order.
pub(crate) fn look_for_damage(
    ledger: &Ledger,
    observer: &dyn Observer,
) -> Result<(StoredReport, Vec<Lost>), CheckError> {
    let contents = ledger.catalogue.contents_in_stack()?;
    let laid = ledger.catalogue.arrangement()?.laid();
    let columns = ledger.catalogue.columns_of(&laid, &[])?;
    let covered = covered(ledger, &columns)?;
    let bytes_of_originals: u64 = covered.iter().map(|(_, base, _)| base.size_bytes).sum();
    let bytes = contents.iter().map(|(_, size_bytes)| size_bytes).sum::<u64>() + bytes_of_originals;
    observer.begin(Work::Comparing, (contents.len() + covered.len()) as u64, bytes);
    let look = |size_bytes: u64, judge: &dyn Fn() -> Soundness| {
        if observer.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        let soundness = judge();
        observer.advance(1, size_bytes);
        Ok(soundness)
    };
    let stored = contents.iter().map(|(hash, _)| ledger.stored(*hash));
    let stored = stored.collect::<Result<Vec<_>, _>>()?;
    let of_contents: Result<Vec<Soundness>, CheckError> = contents
        .par_iter()
        .zip(&stored)
        .map(|((hash, size_bytes), stored)| {
            look(*size_bytes, &|| soundness_of_content(stored, *hash, *size_bytes))
        })
        .collect();
    let of_originals: Result<Vec<Soundness>, CheckError> = covered
        .par_iter()
        .map(|(_, base, path)| look(base.size_bytes, &|| soundness_of_original(path, base, true)))
        .collect();
    observer.end();
    let lost_contents = contents.iter().zip(of_contents?).filter(|(_, soundness)| soundness.is_lost());
    let lost_contents: Vec<(ContentHash, u64, Soundness)> =
        lost_contents.map(|((hash, size_bytes), soundness)| (*hash, *size_bytes, soundness)).collect();
    let mut found: Vec<(DamagedFile, Lost)> = Vec::new();
    let told = tell(ledger, &lost_contents.iter().map(|(hash, ..)| *hash).collect())?;
    for (hash, size_bytes, soundness) in lost_contents {
        if let Some(mut file) = told.get(&hash).cloned() {
            file.is_missing = soundness == Soundness::Missing;
            found.push((file, Lost::Content { hash, size_bytes }));
        }
    }
    let lost_originals = covered.iter().zip(of_originals?).filter(|(_, soundness)| soundness.is_lost());
    for ((column, base, path), soundness) in lost_originals {
        let file = lost_original(ledger.site(), column, base, path, soundness)?;
        let lost = Lost::Original { root: column.root, path: column.path, base: (*base).clone() };
        found.push((file, lost));
    }
    found.sort_by(|(one, _), (two, _)| one.address.cmp(&two.address));
    let (damaged, lost) = found.into_iter().unzip();
    let report =
        StoredReport { contents: contents.len() as u64, originals: covered.len() as u64, bytes, damaged };
    Ok((report, lost))
}

/// What is told of an original that is lost.
pub(crate) fn lost_original(
    site: Site<'_>,
    column: &Column,
    base: &BaseFile,
    path: &Path,
    soundness: Soundness,
) -> Result<DamagedFile, LedgerError> {
    let address = Address { root: site.root(column.root)?.name.clone(), path: base.spelled.clone() };
    let is_missing = soundness == Soundness::Missing;
    Ok(DamagedFile { address, layer: None, package: None, is_missing, path: path.to_path_buf() })
}

/// What is told of lost contents: an address and a layer of each. All of them are taken for damaged.
fn tell(
    ledger: &Ledger,
    hashes: &HashSet<ContentHash>,
) -> Result<HashMap<ContentHash, DamagedFile>, LedgerError> {
    if hashes.is_empty() {
        return Ok(HashMap::new());
    }
    let layers: HashMap<LayerId, (String, String)> = ledger.catalogue.layer_sources()?.into_iter().collect();
    let mut told = HashMap::new();
    for (hash, layer, root, spelled) in ledger.catalogue.entries_with(hashes)? {
        let (name, package) = layers.get(&layer).cloned().unwrap_or_default();
        let address = Address { root: ledger.site().root(root)?.name.clone(), path: spelled };
        let (layer, package, path) = (Some(name), Some(package), ledger.stored(hash)?.path());
        told.insert(hash, DamagedFile { address, layer, package, is_missing: false, path });
    }
    Ok(told)
}

/// What is told of contents that turned out to be lost while they were used, in order of addresses.
pub(crate) fn lost_contents(
    ledger: &Ledger,
    hashes: &HashSet<ContentHash>,
) -> Result<Vec<DamagedFile>, LedgerError> {
    let mut files: Vec<DamagedFile> = tell(ledger, hashes)?.into_values().collect();
    for file in &mut files {
        file.is_missing = !file.path.exists();
    }
    files.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(files)
}
