//! Files that drifted: put again as the stack has them, kept as own edits, or taken as the game's own.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::addresses::{AddressesError, meant};
use super::{Permit, Tweak, TweakError, prepare_tweak};
use crate::address::{Address, AddressError, FoldedKey, RelPath};
use crate::blend::{KeyEdit, edits_between};
use crate::disk::{
    Blender, ChangeError, ChangeOptions, ChangeRequest, CheckError, DriftKind, Edits, Prepared, check,
    lies_otherwise, look_at, path_on_disk, prepare,
};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseFile, BaseKind, Column, Entry, Order, Provider, RootId};

/// Why nothing was accepted. Nothing was changed.
#[derive(Debug, Error)]
pub enum MendError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What was given is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// A layer's file lies there.
    #[error(
        "at {address} lies a file of the layer {layer}; lift that first, and let the game's client put its own back"
    )]
    OfLayer {
        /// The address.
        address: String,
        /// The layer.
        layer: String,
    },
    /// No layer has anything there.
    #[error("no layer has a file at {at}; `oddstack check` lists what drifted")]
    NoLayer {
        /// What was given.
        at: String,
    },
    /// The addresses can't be told.
    #[error(transparent)]
    Addresses(#[from] AddressesError),
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The edits can't be kept.
    #[error(transparent)]
    Tweak(#[from] TweakError),
    /// The disk can't be compared.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// Nothing lies there.
    #[error("nothing lies at {address}; let the game's client repair its files first")]
    NothingThere {
        /// The address.
        address: String,
    },
}

/// Files that count as the game's own from now on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AcceptReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// Their addresses.
    pub accepted: Vec<String>,
    /// Addresses whose original is still not known, since nothing lies there or a layer's file does.
    pub still_unknown: Vec<String>,
}

/// Takes what lies at `addresses` as the game's own; without any, at all addresses whose original is not known
/// and where no layer's file lies. Writes no file of the game.
///
/// # Errors
/// [`MendError`].
pub fn accept(
    ledger: &Ledger,
    _permit: Permit,
    addresses: &[String],
    dry_run: bool,
) -> Result<AcceptReport, MendError> {
    let game = ledger.game();
    let book = game.address_book();
    let mut wanted: Vec<(RootId, FoldedKey, RelPath)> = Vec::new();
    for text in addresses {
        let address = book.resolve(text)?;
        if let Some(root) = game.root_named(&address.root) {
            wanted.push((root.id, game.folding.key(address.path.as_str()), address.path));
        }
    }
    let is_asked = !addresses.is_empty();
    if !is_asked {
        wanted = ledger.catalogue.unknown_originals()?;
    }
    let mut report = AcceptReport { dry_run, accepted: Vec::new(), still_unknown: Vec::new() };
    let mut found: Vec<(RootId, FoldedKey, BaseFile)> = Vec::new();
    let order = ledger.present_order()?;
    let names = ledger.catalogue.layer_names()?;
    for (root_id, key, spelled) in wanted {
        let root = ledger.site().root(root_id)?;
        let address = Address { root: root.name.clone(), path: spelled.clone() }.to_string();
        let column = ledger.catalogue.column_at(root_id, &key)?;
        let winner = column.as_ref().and_then(|column| column.winner(&order));
        if let Some(winner) = winner {
            let layer = names.iter().find(|(id, _)| *id == winner.layer);
            let layer = layer.map(|(_, name)| name.clone()).unwrap_or_default();
            if is_asked {
                return Err(MendError::OfLayer { address, layer });
            }
            report.still_unknown.push(address);
            continue;
        }
        let path = spelled.on(&root.folder);
        let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        let Some(seen) = seen.filter(|seen| seen.kind == BaseKind::File) else {
            if is_asked {
                return Err(MendError::NothingThere { address });
            }
            report.still_unknown.push(address);
            continue;
        };
        let hash = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
        let base = BaseFile {
            spelled,
            kind: seen.kind,
            size_bytes: seen.size_bytes,
            modified_ns: seen.modified_ns,
            mode: seen.mode,
            hash: Some(hash),
        };
        found.push((root_id, key, base));
        report.accepted.push(address);
    }
    if dry_run || found.is_empty() {
        return Ok(report);
    }
    ledger.catalogue.begin()?;
    let written =
        found.iter().try_for_each(|(root, key, base)| ledger.catalogue.accept_original(*root, key, base));
    match written.and_then(|()| ledger.catalogue.commit()) {
        Ok(()) => Ok(report),
        Err(error) => {
            ledger.catalogue.roll_back();
            Err(error.into())
        }
    }
}

/// What becomes of drifted files of layers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mending {
    /// What the stack says lies there again.
    Restore,
    /// What a person changed becomes part of their own edits.
    Keep,
}

/// One drifted file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MendRow {
    /// Where.
    pub address: String,
    /// `restored`, `kept` (as own edits), or `left` as it is.
    pub done: String,
    /// The keys that are kept, or why it is left.
    pub details: Vec<String>,
}

/// A mending about to be made.
#[derive(Debug)]
pub struct MendingPlan<'l> {
    /// Every drifted file.
    pub rows: Vec<MendRow>,
    /// The change; none when there is nothing to do.
    pub change: Option<Prepared<'l>>,
}

/// Prepares what becomes of drifted files of layers: of those that `texts` mean, as in
/// [`conflicts`](super::conflicts()), or of all. What lies there now is saved in the ledger first. `command` is
/// what the history will say.
///
/// # Errors
/// [`MendError`]; nothing was changed.
pub fn prepare_mend<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    texts: &[String],
    mending: Mending,
    command: &str,
    now: &str,
    observer: &dyn Observer,
) -> Result<MendingPlan<'l>, MendError> {
    let order = ledger.present_order()?;
    let mut columns = drifted(ledger, &order, texts, observer)?;
    Blender::new(ledger).learn(&mut columns, &order)?;
    let options = ChangeOptions { edits: Edits::Keep, despite: false };
    let (mut rows, mut restore, mut keep) = (Vec::new(), Vec::new(), Vec::new());
    for column in &columns {
        let place = path_on_disk(&ledger.catalogue, column, &order)?;
        let root = ledger.site().root(column.root)?;
        let path = place.on(&root.folder);
        let address = Address { root: root.name.clone(), path: place }.to_string();
        let (done, details) = match (column.provider(&order), mending) {
            (Provider::Layer(_), Mending::Restore) => {
                restore.push(column.path);
                ("restored", Vec::new())
            }
            (Provider::Layer(entry), Mending::Keep) => {
                match edits_of(ledger, column, entry, &order, &path)? {
                    Ok(edits) if edits.is_empty() => {
                        ("left", vec!["no setting differs, only its form".to_owned()])
                    }
                    Ok(edits) => {
                        let keys = edits.iter().map(|edit| edit.key.clone()).collect();
                        keep.push((address.clone(), edits));
                        ("kept", keys)
                    }
                    Err(reason) => ("left", vec![reason]),
                }
            }
            _ => ("left", vec!["no layer's file lies there; the game's client repairs its own".to_owned()]),
        };
        rows.push(MendRow { address, done: done.to_owned(), details });
    }
    let change = match mending {
        Mending::Restore if !restore.is_empty() => {
            let after = ledger.catalogue.arrangement()?;
            let request = ChangeRequest { restore, ..ChangeRequest::new(command, now, after) };
            ledger.catalogue.begin()?;
            Some(prepare(ledger, permit.lock, request, options, observer)?)
        }
        Mending::Keep if !keep.is_empty() => {
            prepare_tweak(ledger, permit, &Tweak::Set(keep), command, now, options, observer)?.change
        }
        _ => None,
    };
    Ok(MendingPlan { rows, change })
}

/// The columns of drifted files: those among `texts`, or all.
fn drifted(
    ledger: &Ledger,
    order: &Order,
    texts: &[String],
    observer: &dyn Observer,
) -> Result<Vec<Column>, MendError> {
    if texts.is_empty() {
        let mut columns = Vec::new();
        for drifted in check(ledger, false, observer)?.drifted {
            let is_ours = matches!(drifted.drift.kind, DriftKind::Edited | DriftKind::Missing);
            if is_ours && let Some(root) = ledger.game().root_named(&drifted.drift.address.root) {
                let key = ledger.game().folding.key(drifted.drift.address.path.as_str());
                columns.push(ledger.column(root.id, &key)?);
            }
        }
        return Ok(columns);
    }
    let mut paths = Vec::new();
    for text in texts {
        let found = meant(ledger, text)?;
        if found.is_empty() {
            return Err(MendError::NoLayer { at: text.clone() });
        }
        paths.extend(found);
    }
    let mut columns = ledger.catalogue.columns_of(&[], &paths)?;
    Blender::new(ledger).learn(&mut columns, order)?;
    let mut differ = Vec::new();
    for column in columns {
        let place = path_on_disk(&ledger.catalogue, &column, order)?;
        let path = place.on(&ledger.site().root(column.root)?.folder);
        if lies_otherwise(&path, column.provider(order)).map_err(LedgerError::io("look at", &path))? {
            differ.push(column);
        }
    }
    Ok(differ)
}

/// What a person changed in a file of settings, key by key; or why that can't be said.
fn edits_of(
    ledger: &Ledger,
    column: &Column,
    entry: &Entry,
    order: &Order,
    path: &Path,
) -> Result<Result<Vec<KeyEdit>, String>, MendError> {
    let Some(format) = order.blend_rules().format_of(column.key.as_str()) else {
        return Ok(Err("it is no settings file, so it can't be kept key by key".to_owned()));
    };
    let mine = match std::fs::read(path) {
        Ok(mine) => mine,
        Err(error) if crate::disk::is_nothing_there(&error) => return Ok(Err("it is gone".to_owned())),
        Err(source) => return Err(LedgerError::io("read", path)(source).into()),
    };
    let blender = Blender::new(ledger);
    let laid = match blender.content_of(column, entry, order)? {
        Some(made) => Some(made),
        None => blender.stored(entry)?,
    };
    let laid = laid.unwrap_or_default();
    Ok(edits_between(format.of_content(&laid), &laid, &mine))
}
