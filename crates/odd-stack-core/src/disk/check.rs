//! Comparing the whole disk with the stack.

use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::io;
use std::path::PathBuf;
use std::thread;

use rayon::prelude::*;
use thiserror::Error;

use super::drift::{Drift, DriftKind, Finding, compare, is_base_as_seen, is_entry_as_laid};
use super::expected::{Place, places};
use super::look::{Seen, look_at};
use super::walk::{WalkError, Walked, walk};
use crate::address::{Address, Folding, RelPath};
use crate::game::Root;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, Column, LayerId, Provider, RootId};

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
    let roots = &ledger.game().roots;
    if let Some(root) = roots.iter().find(|root| !root.folder.is_dir()) {
        return Err(CheckError::RootMissing { root: root.name.to_string(), folder: root.folder.clone() });
    }
    observer.begin(Work::Scanning, 0, 0);
    let found = thread::scope(|scope| {
        // The disk is looked through while the catalogue is read.
        let walking =
            scope.spawn(|| roots.iter().map(|root| walk(&root.folder, observer)).collect::<Vec<_>>());
        let arrangement = ledger.catalogue.arrangement()?;
        let order = ledger.order(&arrangement, ledger.catalogue.settlements()?)?;
        let laid = arrangement.laid();
        let needed = ledger.catalogue.folders_of(&laid)?;
        let mut columns: HashMap<RootId, Vec<Column>> = HashMap::new();
        for column in ledger.catalogue.columns_of_all(&laid)? {
            columns.entry(column.root).or_default().push(column);
        }
        let mut known = Vec::with_capacity(roots.len());
        for root in roots {
            known.push((ledger.catalogue.base_of(root.id)?, columns.remove(&root.id).unwrap_or_default()));
        }
        let mut expected = Vec::with_capacity(roots.len());
        for (root, (base, columns)) in roots.iter().zip(&mut known) {
            expected.push(places(ledger, root, base, columns, &order, &needed)?);
        }
        let walked = walking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        observer.end();
        let mut report = CheckReport::default();
        for ((root, places), walked) in roots.iter().zip(expected).zip(walked) {
            let folds = ledger.game().folding == Folding::Folded;
            let look = Looker { root, deep, folds, observer, walked: by_folder(walked)? };
            look.look_everywhere(&places, &mut report)?;
        }
        Ok::<_, CheckError>(report)
    });
    let mut report = found?;
    report.drifted.sort_by(|one, two| one.drift.address.cmp(&two.drift.address));
    Ok(report)
}

type Things = HashMap<String, Vec<(OsString, Seen)>>;

fn by_folder(walked: Result<Vec<Walked>, WalkError>) -> Result<Things, CheckError> {
    match walked {
        Ok(walked) => Ok(walked.into_iter().map(|folder| (folder.below.into(), folder.things)).collect()),
        Err(WalkError::Unreadable { path, source }) => Err(CheckError::Look { path, source }),
        Err(WalkError::Cancelled) => Err(CheckError::Cancelled),
    }
}

struct Looker<'a> {
    root: &'a Root,
    deep: bool,
    /// Spellings that differ in case are the same.
    folds: bool,
    observer: &'a dyn Observer,
    /// What lies in each folder below the root.
    walked: Things,
}

impl Looker<'_> {
    fn look_everywhere(
        &self,
        places: &HashMap<String, Place<'_>>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let files = places.values().map(|place| place.files.len() as u64).sum();
        let bytes: u64 =
            places.values().flat_map(|place| &place.files).map(|(_, file)| file.size_bytes()).sum();
        self.observer.begin(Work::Comparing, files, if self.deep { bytes } else { 0 });
        let parts: Result<Vec<CheckReport>, CheckError> =
            places.par_iter().map(|(folder, place)| self.look_into(folder, place)).collect();
        self.observer.end();
        for part in parts? {
            report.as_laid_files += part.as_laid_files;
            report.compared_files += part.compared_files;
            report.compared_bytes += part.compared_bytes;
            report.drifted.extend(part.drifted);
        }
        Ok(())
    }

    fn look_into(&self, folder: &str, place: &Place<'_>) -> Result<CheckReport, CheckError> {
        if self.observer.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        let below = RelPath::from_disk(folder.to_owned());
        let mut report = CheckReport::default();
        let files: HashMap<&str, Provider<'_>> = place.files.iter().copied().collect();
        let mut met: HashSet<&str> = HashSet::with_capacity(files.len());
        let mut strangers = Vec::new();
        for (name, seen) in self.walked.get(folder).into_iter().flatten() {
            let known = name.to_str().and_then(|name| files.get_key_value(name));
            if let Some((name, provider)) = known {
                met.insert(name);
                self.judge(&below, name, *provider, Some(*seen), &mut report)?;
            } else {
                strangers.push((name.to_string_lossy().into_owned(), seen.kind));
            }
        }
        if self.folds && !strangers.is_empty() {
            self.other_spellings(&below, &strangers, &files, &met, &mut report);
        }
        let missing: Vec<_> = files.iter().filter(|(name, _)| !met.contains(*name)).collect();
        for (name, provider) in &missing {
            // On a disk that does not tell cases apart the name may be spelled otherwise.
            let path = below.on(&self.root.folder).join(name);
            let seen = look_at(&path).map_err(|source| CheckError::Look { path, source })?;
            self.judge(&below, name, **provider, seen, &mut report)?;
        }
        if place.made_by.is_some() {
            let lower = |name: &str| name.to_lowercase();
            let known: HashSet<String> = match strangers.is_empty() {
                true => HashSet::new(),
                false => {
                    files.keys().copied().chain(place.folders.iter().map(String::as_str)).map(lower).collect()
                }
            };
            for (name, kind) in strangers.into_iter().filter(|(name, _)| !known.contains(&lower(name))) {
                self.strange(&below.join(&RelPath::from_disk(name)), kind, place.made_by, &mut report)?;
            }
        }
        self.observer.advance(files.len() as u64, 0);
        Ok(report)
    }

    /// Notes files that lie beside one of a layer under another spelling; both are there.
    fn other_spellings(
        &self,
        below: &RelPath,
        strangers: &[(String, BaseKind)],
        files: &HashMap<&str, Provider<'_>>,
        met: &HashSet<&str>,
        report: &mut CheckReport,
    ) {
        let key = |name: &str| Folding::Folded.key(name).as_str().to_owned();
        let of_layers = files.iter().filter(|(name, _)| met.contains(*name));
        let of_layers: HashMap<String, LayerId> =
            of_layers.filter_map(|(name, file)| Some((key(name), file.entry()?.layer))).collect();
        for (name, _) in strangers.iter().filter(|(_, kind)| *kind != BaseKind::Folder) {
            if let Some(layer) = of_layers.get(&key(name)) {
                let path = below.join(&RelPath::from_disk(name.clone()));
                let address = Address { root: self.root.name.clone(), path };
                let drift = Drift { address, kind: DriftKind::OtherSpelling, layer: Some(*layer) };
                report.drifted.push(Drifted { drift, layer: Some(*layer) });
            }
        }
    }

    fn judge(
        &self,
        below: &RelPath,
        name: &str,
        provider: Provider<'_>,
        seen: Option<Seen>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let looks_right = seen.is_some_and(|seen| match provider {
            Provider::Base(base) => is_base_as_seen(base, &seen),
            Provider::Layer(entry) => is_entry_as_laid(entry, &seen),
            Provider::Nothing => false,
        });
        if looks_right && !(self.deep && provider.hash().is_some()) {
            report.as_laid_files += 1;
            return Ok(());
        }
        let relative = below.join(&RelPath::from_disk(name.to_owned()));
        let path = relative.on(&self.root.folder);
        let failed = |source| CheckError::Look { path: path.clone(), source };
        let kind = if looks_right {
            match provider.hash() {
                Some(hash) => {
                    report.compared_files += 1;
                    report.compared_bytes += provider.size_bytes();
                    let is_alike = ContentHash::of_file(&path).map_err(failed)? == hash;
                    self.observer.advance(0, provider.size_bytes());
                    (!is_alike).then_some(match provider {
                        Provider::Base(_) => DriftKind::BaseChanged,
                        _ => DriftKind::Edited,
                    })
                }
                None => None,
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
        path: &RelPath,
        kind: BaseKind,
        made_by: Option<LayerId>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        if kind == BaseKind::Folder {
            for (name, seen) in self.walked.get(path.as_str()).into_iter().flatten() {
                let name = RelPath::from_disk(name.to_string_lossy().into_owned());
                self.strange(&path.join(&name), seen.kind, made_by, report)?;
            }
            return Ok(());
        }
        let address = Address { root: self.root.name.clone(), path: path.clone() };
        let drift = Drift { address, kind: DriftKind::Unknown, layer: None };
        report.drifted.push(Drifted { drift, layer: made_by });
        Ok(())
    }
}
