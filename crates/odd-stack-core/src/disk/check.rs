//! Comparing the whole disk with the stack.

use std::collections::{BTreeSet, HashMap};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use thiserror::Error;

use super::drift::{Drift, DriftKind, Finding, compare, is_base_as_seen, is_entry_as_laid};
use super::look::{Seen, is_nothing_there};
use super::spelling::Folders;
use crate::address::{Address, FoldedKey, RelPath};
use crate::game::Root;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, Column, LayerId, Order, Provider};

/// Why the disk can't be compared; nothing was changed.
#[derive(Debug, Error)]
pub enum CheckError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A folder or file can't be read.
    #[error("can't look at {}", path.display())]
    Look {
        /// What.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A root's folder is gone.
    #[error("the folder {} of the root `{root}` is not there: was the game moved, or is its disk not plugged in?", folder.display())]
    RootMissing {
        /// The root's name.
        root: String,
        /// Where it should be.
        folder: PathBuf,
    },
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

/// A drifted file with what a user wants to know of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drifted {
    /// Where and how.
    pub drift: Drift,
    /// The layer that has the address, and for unknown files the one that made the folder.
    pub layer: Option<LayerId>,
}

/// What a comparison found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CheckReport {
    /// Files of layers and base that are as they should be.
    pub as_laid_files: u64,
    /// Files whose content was read and compared.
    pub compared_files: u64,
    /// Bytes of those.
    pub compared_bytes: u64,
    /// All others, in order of addresses.
    pub drifted: Vec<Drifted>,
}

/// Compares every file of the base and of laid layers with the disk: by name, size and time, and
/// with `deep` by content wherever its hash is known. Also finds unknown files in folders that
/// layers made. Runs on all threads of the current pool.
///
/// # Errors
/// [`CheckError`].
pub fn check(ledger: &Ledger, deep: bool, observer: &dyn Observer) -> Result<CheckReport, CheckError> {
    let order = ledger.catalogue.arrangement()?.order();
    let mut columns: HashMap<_, Vec<Column>> = HashMap::new();
    for column in ledger.catalogue.laid_columns()? {
        columns.entry(column.root).or_default().push(column);
    }
    let mut report = CheckReport::default();
    for root in &ledger.game().roots {
        if !root.folder.is_dir() {
            return Err(CheckError::RootMissing { root: root.name.to_string(), folder: root.folder.clone() });
        }
        let base = ledger.catalogue.base_of(root.id)?;
        let mut columns = columns.remove(&root.id).unwrap_or_default();
        let places = places(ledger, root, &base, &mut columns, &order)?;
        let files = places.values().map(|place| place.files.len() as u64).sum();
        let bytes = places.values().flat_map(|place| place.files.values()).map(|p| p.size_bytes()).sum();
        observer.begin(Work::Comparing, files, if deep { bytes } else { 0 });
        let look = Looker { root, deep, observer };
        let parts: Result<Vec<CheckReport>, CheckError> =
            places.par_iter().map(|(folder, place)| look.look_into(folder, place)).collect();
        observer.end();
        for part in parts? {
            report.as_laid_files += part.as_laid_files;
            report.compared_files += part.compared_files;
            report.compared_bytes += part.compared_bytes;
            report.drifted.extend(part.drifted);
        }
    }
    report.drifted.sort_by(|one, two| one.drift.address.cmp(&two.drift.address));
    Ok(report)
}

/// What should lie in one folder.
#[derive(Default)]
struct Place<'a> {
    files: HashMap<&'a str, Provider<'a>>,
    /// Names of files that laid layers spell otherwise than the map's key can borrow.
    made_by: Option<LayerId>,
    folders: BTreeSet<String>,
}

/// Everything that should lie below a root, by folder.
fn places<'a>(
    ledger: &Ledger,
    root: &Root,
    base: &'a [(FoldedKey, BaseFile)],
    columns: &'a mut [Column],
    order: &Order,
) -> Result<HashMap<String, Place<'a>>, LedgerError> {
    let by_key: HashMap<&FoldedKey, &BaseFile> = if columns.is_empty() {
        HashMap::new()
    } else {
        base.iter().map(|(key, base)| (key, base)).collect()
    };
    for column in columns.iter_mut() {
        column.base = by_key.get(&column.key).map(|base| (*base).clone());
    }
    let columns: &'a [Column] = columns;
    let covered: BTreeSet<&FoldedKey> = columns.iter().map(|column| &column.key).collect();
    let mut places: HashMap<String, Place<'a>> = HashMap::new();
    for (key, base) in base {
        if base.kind == BaseKind::Folder {
            places.entry(base.spelled.as_str().to_owned()).or_default();
        } else if covered.is_empty() || !covered.contains(key) {
            add_file(&mut places, base.spelled.parent().as_str(), base.spelled.name(), Provider::Base(base));
        }
    }
    let mut folders = Folders::new(&ledger.catalogue, order.clone());
    let mut spelled: HashMap<FoldedKey, String> = HashMap::new();
    for column in columns {
        let provider = column.provider(order);
        let Some(entry) = provider.entry() else {
            if let Some(base) = &column.base {
                add_file(&mut places, base.spelled.parent().as_str(), base.spelled.name(), provider);
            }
            continue;
        };
        let name = super::spelling::file_name(column, entry);
        let folder = match (&column.base, column.key.parent()) {
            (Some(base), _) => base.spelled.parent().as_str().to_owned(),
            (None, None) => String::new(),
            (None, Some(parent)) => match spelled.get(&parent) {
                Some(known) => known.clone(),
                None => {
                    let path = folders.path(root.id, &parent)?.as_str().to_owned();
                    spelled.insert(parent, path.clone());
                    path
                }
            },
        };
        add_file(&mut places, &folder, name, provider);
    }
    let laid: Vec<LayerId> = ledger
        .catalogue
        .arrangement()?
        .standings()
        .iter()
        .filter(|standing| standing.laid)
        .map(|standing| standing.layer)
        .collect();
    for (of, key) in ledger.catalogue.folders_of(&laid)? {
        if of == root.id && !by_key.contains_key(&key) && !is_base_folder(base, &key) {
            let path = folders.path(root.id, &key)?;
            let source = folders.source(root.id, &key)?;
            let made_by = source.needs.iter().filter_map(|need| Some((order.rank(need.layer)?, need.layer)));
            places.entry(path.as_str().to_owned()).or_default().made_by =
                made_by.min().map(|(_, layer)| layer);
        }
    }
    let all: Vec<String> = places.keys().cloned().collect();
    for folder in all {
        let path = RelPath::from_disk(folder);
        if let Some(place) = places.get_mut(path.parent().as_str()) {
            place.folders.insert(path.name().to_owned());
        }
    }
    Ok(places)
}

fn is_base_folder(base: &[(FoldedKey, BaseFile)], key: &FoldedKey) -> bool {
    base.binary_search_by(|(other, _)| other.cmp(key)).is_ok()
}

fn add_file<'a>(
    places: &mut HashMap<String, Place<'a>>,
    folder: &str,
    name: &'a str,
    provider: Provider<'a>,
) {
    if !places.contains_key(folder) {
        places.insert(folder.to_owned(), Place::default());
    }
    if let Some(place) = places.get_mut(folder) {
        place.files.insert(name, provider);
    }
}

struct Looker<'a> {
    root: &'a Root,
    deep: bool,
    observer: &'a dyn Observer,
}

impl Looker<'_> {
    fn look_into(&self, folder: &str, place: &Place<'_>) -> Result<CheckReport, CheckError> {
        if self.observer.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        let below = RelPath::from_disk(folder.to_owned());
        let path = below.on(&self.root.folder);
        let failed = |source| CheckError::Look { path: path.clone(), source };
        let mut report = CheckReport::default();
        let mut met: BTreeSet<&str> = BTreeSet::new();
        let mut strangers = Vec::new();
        match fs::read_dir(&path) {
            Ok(entries) => {
                for entry in entries {
                    let entry = entry.map_err(failed)?;
                    let name = entry.file_name();
                    let known = name.to_str().and_then(|name| place.files.get_key_value(name));
                    if let Some((name, provider)) = known {
                        met.insert(name);
                        let seen = Seen::of(&entry.metadata().map_err(failed)?);
                        self.judge(&below, name, *provider, Some(seen), &mut report)?;
                    } else if place.made_by.is_some() {
                        strangers.push(entry);
                    }
                }
            }
            Err(error) if is_nothing_there(&error) => {}
            Err(error) => return Err(failed(error)),
        }
        for (name, provider) in place.files.iter().filter(|(name, _)| !met.contains(*name)) {
            // On a disk that does not tell cases apart the name may be spelled otherwise.
            let seen = super::look_at(&path.join(name)).map_err(failed)?;
            self.judge(&below, name, *provider, seen, &mut report)?;
        }
        for entry in strangers {
            let name = entry.file_name().to_string_lossy().into_owned();
            let is_known = place.folders.contains(&name)
                || place.files.keys().any(|known| known.to_lowercase() == name.to_lowercase())
                    && !met.contains(name.as_str());
            if !is_known || entry.file_type().map_err(failed)?.is_file() && place.folders.contains(&name) {
                self.strange(&below, &name, &entry.path(), place.made_by, &mut report)?;
            }
        }
        self.observer.advance(place.files.len() as u64, 0);
        Ok(report)
    }

    fn judge(
        &self,
        below: &RelPath,
        name: &str,
        provider: Provider<'_>,
        seen: Option<Seen>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let relative = below.join(&RelPath::from_disk(name.to_owned()));
        let path = relative.on(&self.root.folder);
        let failed = |source| CheckError::Look { path: path.clone(), source };
        let looks_right = seen.is_some_and(|seen| match provider {
            Provider::Base(base) => is_base_as_seen(base, &seen),
            Provider::Layer(entry) => is_entry_as_laid(entry, &seen),
            Provider::Nothing => false,
        });
        let kind = if looks_right {
            match provider.hash() {
                Some(hash) if self.deep => {
                    report.compared_files += 1;
                    report.compared_bytes += provider.size_bytes();
                    let is_alike = ContentHash::of_file(&path).map_err(failed)? == hash;
                    self.observer.advance(0, provider.size_bytes());
                    (!is_alike).then_some(match provider {
                        Provider::Base(_) => DriftKind::BaseChanged,
                        _ => DriftKind::Edited,
                    })
                }
                _ => None,
            }
        } else {
            match compare(&path, provider, true).map_err(failed)? {
                Finding::Fits { .. } => None,
                Finding::Drifted(kind, _) => Some(kind),
                Finding::FolderInTheWay => Some(match provider {
                    Provider::Base(_) => DriftKind::BaseChanged,
                    _ => DriftKind::Edited,
                }),
            }
        };
        match kind {
            None => report.as_laid_files += 1,
            Some(kind) => {
                let layer = provider.entry().map(|entry| entry.layer);
                let address = Address { root: self.root.name.clone(), path: relative };
                report.drifted.push(Drifted { drift: Drift { address, kind, layer }, layer });
            }
        }
        Ok(())
    }

    /// Notes an unknown file, or all files in an unknown folder.
    fn strange(
        &self,
        below: &RelPath,
        name: &str,
        path: &Path,
        made_by: Option<LayerId>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let failed = |source| CheckError::Look { path: path.to_path_buf(), source };
        let relative = below.join(&RelPath::from_disk(name.to_owned()));
        if fs::symlink_metadata(path).map_err(failed)?.is_dir() {
            for entry in fs::read_dir(path).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                let name = entry.file_name().to_string_lossy().into_owned();
                self.strange(&relative, &name, &entry.path(), made_by, report)?;
            }
            return Ok(());
        }
        let address = Address { root: self.root.name.clone(), path: relative };
        let drift = Drift { address, kind: DriftKind::Unknown, layer: None };
        report.drifted.push(Drifted { drift, layer: made_by });
        Ok(())
    }
}
