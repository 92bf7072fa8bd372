//! What a ledger uses, and dropping what nothing needs any more.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;

use rayon::prelude::*;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::check::{CheckError, check_stored};
use crate::files::{KEPT, ORIGINALS, WalkError, is_nothing_there, walk};
use crate::hash::ContentHash;
use crate::jobs::report::in_full;
use crate::jobs::{Count, Permit, StoredSummary};
use crate::ledger::{Ledger, LedgerError, Stored, Transaction, mark_intake, sweep};
use crate::moment::Moment;
use crate::observer::{Observer, Silent, Work};
use crate::stack::{BaseKind, LayerId};

/// What may go.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TidyRequest {
    /// So many of the latest changes can be gone back to afterwards.
    pub keep: Option<u64>,
    /// Changes made since then can be gone back to afterwards.
    pub since: Option<Moment>,
    /// Files that were saved because they had been edited go with the changes that saved them.
    pub edits: bool,
    /// Nothing is dropped.
    pub dry_run: bool,
}

/// What one layer of the stack costs in the ledger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LayerUseRow {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// Its contents.
    pub bytes: u64,
    /// Those that no other layer has.
    pub own_bytes: u64,
}

/// What a ledger uses, and what goes of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct TidyReport {
    /// It was only looked at.
    pub dry_run: bool,
    /// The layers of the stack, the biggest first.
    pub layers: Vec<LayerUseRow>,
    /// Their contents, each counted once.
    pub stack: Count,
    /// Contents that only removed or replaced layers have, for going back.
    pub history: Count,
    /// The game's own files that layers cover.
    pub originals: Count,
    /// Files that were saved because they had been edited.
    pub kept_edits: Count,
    /// Those of all contents that are one with files in the game, so that they take room once.
    pub shared: Count,
    /// The catalogue with its copy.
    pub catalogue_bytes: u64,
    /// Layers that are forgotten for good, each with its version.
    pub forgotten: Vec<String>,
    /// Contents that go.
    pub goes: Count,
    /// Bytes that contents left behind which went before, where small ones lie together.
    pub left_behind_bytes: u64,
    /// Saved edits that go.
    pub edits_go: Count,
    /// The oldest revision that all is kept of; 0 where that is all.
    pub oldest: i64,
    /// A name of a state that keeps older changes.
    pub held_by: Option<String>,
}

/// Says what the ledger uses, and drops what nothing needs: contents of nobody, and what only changes need that are not to be
/// gone back to any more. Never what the stack, an original, a lineup or a named state needs.
///
/// # Errors
/// [`LedgerError`]. What was not removed when it is stopped is removed by the next command.
pub fn tidy(
    ledger: &Ledger,
    _permit: &Permit,
    request: &TidyRequest,
    observer: &dyn Observer,
) -> Result<TidyReport, LedgerError> {
    let catalogue = &ledger.catalogue;
    let (oldest, held_by) = oldest_kept(ledger, request)?;
    let needed = layers_needed(ledger, oldest)?;
    let removed = catalogue.removed_layers()?;
    let goes: Vec<LayerId> =
        removed.iter().map(|(layer, ..)| *layer).filter(|layer| !needed.contains(layer)).collect();
    let mut report = uses(ledger, &goes)?;
    report.dry_run = request.dry_run;
    report.oldest = oldest;
    report.held_by = held_by;
    report.forgotten = removed
        .iter()
        .filter(|(layer, ..)| goes.contains(layer))
        .map(|(_, name, version)| in_full(name, version.as_deref()))
        .collect();
    let edits = match request.edits {
        true => edits_before(ledger, oldest)?,
        false => Vec::new(),
    };
    report.edits_go = count(edits.iter().map(|(_, count)| *count));
    if request.dry_run {
        return Ok(report);
    }
    observer.begin(Work::Clearing, report.goes.files, 0);
    // From here on the next command sweeps what is not listed, whatever happens.
    mark_intake(ledger.folder(), &*ledger.seam)?;
    let transaction = Transaction::begin(ledger)?;
    catalogue.forget_layers(&goes)?;
    catalogue.drop_contents_of_nobody()?;
    catalogue.drop_trees_of_nobody()?;
    transaction.commit()?;
    sweep(ledger)?;
    for (folder, _) in &edits {
        remove_tree(ledger, folder)?;
    }
    ledger.repack(&ledger.repacking()?, observer)?;
    report.left_behind_bytes = report.left_behind_bytes.saturating_sub(ledger.repacking()?.unneeded_bytes);
    observer.end();
    Ok(report)
}

/// The oldest revision that is to be gone back to afterwards, 0 for the state before all, and the name that keeps it where
/// one does.
fn oldest_kept(ledger: &Ledger, request: &TidyRequest) -> Result<(i64, Option<String>), LedgerError> {
    let revisions = ledger.catalogue.revisions()?;
    let last = revisions.last().map_or(0, |last| last.number);
    let by_count = request.keep.map(|keep| last.saturating_sub_unsigned(keep).max(0));
    let by_time = request.since.map(|since| {
        let is_since = |made_at: &str| Moment::parse(made_at).is_ok_and(|made| made >= since);
        let first = revisions.iter().find(|it| is_since(&it.made_at));
        first.map_or(last, |first| first.number - 1)
    });
    let Some(wanted) = [by_count, by_time].into_iter().flatten().min() else { return Ok((0, None)) };
    let mut named = ledger.catalogue.state_names()?;
    named.retain(|(_, revision)| (1..wanted).contains(revision));
    Ok(match named.into_iter().min_by_key(|(_, revision)| *revision) {
        Some((name, revision)) => (revision, Some(name)),
        None => (wanted, None),
    })
}

/// Layers that the stack, a lineup or a state from `oldest` on has.
fn layers_needed(ledger: &Ledger, oldest: i64) -> Result<HashSet<LayerId>, LedgerError> {
    let catalogue = &ledger.catalogue;
    let mut needed: HashSet<LayerId> =
        catalogue.arrangement()?.standings().iter().map(|standing| standing.layer).collect();
    for revision in catalogue.revisions()? {
        if revision.number >= oldest {
            needed.extend(catalogue.arrangement_of(revision.number)?.into_iter().map(|(layer, _)| layer));
        }
    }
    for lineup in catalogue.lineups()? {
        needed.extend(lineup.arrangement.into_iter().map(|(layer, _)| layer));
    }
    Ok(needed)
}

fn count(counts: impl Iterator<Item = Count>) -> Count {
    counts.fold(Count { files: 0, bytes: 0 }, |all, one| Count {
        files: all.files + one.files,
        bytes: all.bytes + one.bytes,
    })
}

/// What everything uses, where the layers `goes` are about to go.
fn catalogue_bytes(ledger: &Ledger) -> Result<u64, LedgerError> {
    let catalogue = std::fs::read_dir(ledger.folder()).map_err(LedgerError::io("read", ledger.folder()))?;
    let catalogue = catalogue
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with("catalogue."))
        .filter_map(|entry| entry.metadata().ok())
        .map(|metadata| metadata.len());
    Ok(catalogue.sum())
}

fn uses(ledger: &Ledger, goes: &[LayerId]) -> Result<TidyReport, LedgerError> {
    let layers = ledger.layers()?;
    let mut owners: HashMap<ContentHash, (u64, Vec<LayerId>)> = HashMap::new();
    for content in ledger.catalogue.contents_by_layer()? {
        owners.entry(content.hash).or_insert((content.size_bytes, Vec::new())).1.push(content.layer);
    }
    let in_stack: HashSet<LayerId> = layers.iter().map(|layer| layer.id).collect();
    let mut by_layer: BTreeMap<LayerId, (u64, u64)> = BTreeMap::new();
    let mut totals = [Count { files: 0, bytes: 0 }; 3];
    let mut add = |at: usize, size_bytes: u64| {
        totals[at].files += 1;
        totals[at].bytes += size_bytes;
    };
    for (size_bytes, of) in owners.values() {
        add(usize::from(!of.iter().any(|layer| in_stack.contains(layer))), *size_bytes);
        if of.iter().all(|layer| goes.contains(layer)) {
            add(2, *size_bytes);
        }
        for layer in of.iter().filter(|layer| in_stack.contains(layer)) {
            let (bytes, own) = by_layer.entry(*layer).or_default();
            *bytes += size_bytes;
            *own += if of.len() == 1 { *size_bytes } else { 0 };
        }
    }
    for (_, size_bytes) in
        ledger.catalogue.all_contents()?.iter().filter(|(hash, _)| !owners.contains_key(hash))
    {
        add(2, *size_bytes);
    }
    let mut rows: Vec<LayerUseRow> = layers
        .iter()
        .map(|layer| {
            let (bytes, own_bytes) = by_layer.get(&layer.id).copied().unwrap_or_default();
            let (name, version) = (layer.about.name.clone(), layer.about.version.clone());
            LayerUseRow { name, version, bytes, own_bytes }
        })
        .collect();
    rows.sort_by(|one, two| two.bytes.cmp(&one.bytes).then_with(|| one.name.cmp(&two.name)));
    let sides: HashSet<_> = ledger.game().roots.iter().map(|root| ledger.site().side(root)).collect();
    let below =
        |name: &str| sides.iter().map(|side| size_of(&side.join(name))).collect::<Result<Vec<_>, _>>();
    Ok(TidyReport {
        dry_run: true,
        layers: rows,
        stack: totals[0],
        history: totals[1],
        originals: count(below(ORIGINALS)?.into_iter()),
        kept_edits: count(below(KEPT)?.into_iter()),
        shared: Count::of_sizes(&ledger.shared_contents()?),
        catalogue_bytes: catalogue_bytes(ledger)?,
        forgotten: Vec::new(),
        goes: totals[2],
        left_behind_bytes: ledger.repacking()?.unneeded_bytes,
        edits_go: Count { files: 0, bytes: 0 },
        oldest: 0,
        held_by: None,
    })
}

/// Files below a folder, and their bytes.
fn size_of(folder: &Path) -> Result<Count, LedgerError> {
    if !folder.is_dir() {
        return Ok(Count { files: 0, bytes: 0 });
    }
    let walked = walk(folder, &Silent).map_err(|error| match error {
        WalkError::Unreadable { path, source } => LedgerError::io("read", path)(source),
        WalkError::Cancelled => LedgerError::io("read", folder)(std::io::ErrorKind::Interrupted.into()),
    })?;
    let files =
        walked.iter().flat_map(|folder| &folder.things).filter(|(_, seen)| seen.kind == BaseKind::File);
    Ok(count(files.map(|(_, seen)| Count { files: 1, bytes: seen.size_bytes })))
}

/// The folders with edits saved by changes that led to `oldest`, which are not taken back any more.
fn edits_before(ledger: &Ledger, oldest: i64) -> Result<Vec<(std::path::PathBuf, Count)>, LedgerError> {
    let mut found = Vec::new();
    let sides: HashSet<_> = ledger.game().roots.iter().map(|root| ledger.site().side(root)).collect();
    for side in sides {
        let kept = side.join(KEPT);
        let entries = match std::fs::read_dir(&kept) {
            Err(error) if is_nothing_there(&error) => continue,
            other => other.map_err(LedgerError::io("read", &kept))?,
        };
        for entry in entries.flatten() {
            let revision = entry.file_name().to_string_lossy().parse::<i64>();
            if revision.is_ok_and(|revision| revision <= oldest) {
                found.push((entry.path(), size_of(&entry.path())?));
            }
        }
    }
    Ok(found)
}

/// Removes a private folder with all in it.
fn remove_tree(ledger: &Ledger, folder: &Path) -> Result<(), LedgerError> {
    let entries = std::fs::read_dir(folder).map_err(LedgerError::io("read", folder))?;
    for entry in entries.flatten() {
        let path = entry.path();
        match entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            true => remove_tree(ledger, &path)?,
            false => ledger.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?,
        }
    }
    ledger.seam.remove_folder(folder).map_err(LedgerError::io("remove", folder))
}

/// What reading everything that is stored tells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct VerifyReport {
    /// Of the stack and the originals.
    pub stored: StoredSummary,
    /// Contents that only removed layers have, for going back.
    pub history: Count,
    /// Removed layers that have some that is gone or damaged.
    pub history_damaged: Vec<String>,
}

/// Reads everything that is stored, also of removed layers, and compares it with its hash.
///
/// # Errors
/// [`CheckError`].
pub fn verify_stored(ledger: &Ledger, observer: &dyn Observer) -> Result<VerifyReport, CheckError> {
    let catalogue = &ledger.catalogue;
    let stored = StoredSummary::of(&check_stored(ledger, observer)?);
    let present: HashSet<ContentHash> =
        catalogue.contents_in_stack()?.into_iter().map(|(hash, _)| hash).collect();
    let mut past = catalogue.all_contents()?;
    past.retain(|(hash, _)| !present.contains(hash));
    let history = count(past.iter().map(|(_, bytes)| Count { files: 1, bytes: *bytes }));
    observer.begin(Work::Comparing, history.files, history.bytes);
    let past_stored = past.iter().map(|(hash, _)| ledger.stored(*hash)).collect::<Result<Vec<_>, _>>()?;
    let is_damaged = |((_, size_bytes), stored): &(&(ContentHash, u64), &Stored)| {
        observer.advance(1, *size_bytes);
        !stored.is_whole()
    };
    let damaged: HashSet<ContentHash> =
        past.par_iter().zip(&past_stored).filter(is_damaged).map(|((hash, _), _)| *hash).collect();
    observer.end();
    let contents = catalogue.contents_by_layer()?;
    let layers: HashSet<LayerId> =
        contents.into_iter().filter(|it| damaged.contains(&it.hash)).map(|it| it.layer).collect();
    let mut history_damaged = catalogue.removed_layers()?;
    history_damaged.retain(|(layer, ..)| layers.contains(layer));
    let named = history_damaged.into_iter().map(|(_, name, version)| in_full(&name, version.as_deref()));
    Ok(VerifyReport { stored, history, history_damaged: named.collect() })
}
