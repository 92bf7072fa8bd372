//! Everything at one address, from the top to the base.

use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::keys::{KeyTraceRow, trace_keys};
use crate::address::{Address, AddressError, INTO, RelPath};
use crate::blend::Format;
use crate::expected::{Blender, Containers, path_on_disk};
use crate::files::look_at;
use crate::hash::ContentHash;
use crate::ledger::{Layer, Ledger, LedgerError};
use crate::stack::{BaseKind, Column, EntryKind, LayerId, Order, Provider};

/// Why nothing can be told of an address.
#[derive(Debug, Error)]
pub enum TraceError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What was given is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// The address is a folder's.
    #[error("{address} is a folder; name a file in it")]
    Folder {
        /// The address.
        address: String,
    },
    /// The keys can't be told.
    #[error("the keys of {address} can't be told: {reason}")]
    NoKeys {
        /// The address.
        address: String,
        /// Why.
        reason: String,
    },
    /// Neither the game nor any layer has anything there.
    #[error("neither the game nor a layer has {address}")]
    Nothing {
        /// The address.
        address: String,
    },
}

/// One layer, or the base, at an address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct TraceRow {
    /// The layer's name; none for the game's own file.
    pub layer: Option<String>,
    /// The layer's number in the stack.
    pub number: Option<u64>,
    /// The layer's version.
    pub version: Option<String>,
    /// On the game; always so for the game's own file.
    pub laid: bool,
    /// This is the one that counts.
    pub wins: bool,
    /// It is part of what is blended here.
    pub blended: bool,
    /// It changes keys of what lies beneath, and is no file.
    pub changes_keys: bool,
    /// It changes members of the container here, and is no file.
    pub changes_members: bool,
    /// It has the same content as the one that counts.
    pub same_as_winner: bool,
    /// Its size.
    pub size_bytes: u64,
    /// BLAKE3 hash of its content; none when the game's own file is gone, or the layer takes the file away.
    pub hash: Option<String>,
    /// The file in the package that it came from.
    pub member: Option<String>,
}

/// What lies on disk at an address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OnDisk {
    /// Where.
    pub path: String,
    /// Its size; none when nothing lies there.
    pub size_bytes: Option<u64>,
    /// BLAKE3 hash of its content, for a file.
    pub hash: Option<String>,
    /// It is what the stack says.
    pub as_laid: bool,
}

/// Everything at one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct TraceReport {
    /// The address.
    pub address: String,
    /// From the top to the base.
    pub rows: Vec<TraceRow>,
    /// The file on disk is made of several layers'.
    pub blended: bool,
    /// If so, they are merged by lines, not key by key.
    pub by_lines: bool,
    /// Why it is not, though it might be.
    pub not_blended: Option<String>,
    /// The layer that was settled to win here.
    pub settled_with: Option<String>,
    /// Every key that a layer changes, where that was asked for.
    pub keys: Option<Vec<KeyTraceRow>>,
    /// Whether the game had a file of its own there is not known: a layer was adopted.
    pub original_unknown: bool,
    /// What lies there now.
    pub on_disk: OnDisk,
}

/// Traces what people write as an address; with `wants_keys` also each key of a configuration file.
///
/// # Errors
/// [`TraceError`].
#[expect(clippy::too_many_lines, reason = "one line for each field")]
pub fn trace(ledger: &Ledger, text: &str, wants_keys: bool) -> Result<TraceReport, TraceError> {
    let (catalogue, game) = (&ledger.catalogue, ledger.game());
    let address = game.meant(text)?;
    let shown = || address.to_string();
    let root = game.root_named(&address.root).ok_or_else(|| catalogue.damaged_by(&"a root is gone"))?;
    let key = game.folding.key(address.path.as_str());
    let order = ledger.present_order()?;
    let mut columns = [ledger.column(root.id, &key)?];
    Containers::new(ledger).mark_member(&mut columns[0])?;
    Blender::new(ledger).learn(&mut columns, &order)?;
    let [column] = columns;
    let is_base_folder = column.base.as_ref().is_some_and(|base| base.kind == BaseKind::Folder);
    if address.path.is_root() || is_base_folder {
        return Err(TraceError::Folder { address: shown() });
    }
    if column.base.is_none() && column.entries.is_empty() {
        let source = catalogue.folder_source(root.id, &key)?;
        return Err(match source.needs.is_empty() {
            true => TraceError::Nothing { address: shown() },
            false => TraceError::Folder { address: shown() },
        });
    }
    let place = path_on_disk(catalogue, &column, &order)?;
    let path = if column.is_member { on_disk(&root.folder, &place) } else { place.on(&root.folder) };
    let provider = column.provider(&order);
    let is_uncovered = matches!(provider, Provider::Base(_));
    let original = if is_uncovered { path.clone() } else { ledger.site().original(root, column.path) };
    let base_hash = match &column.base {
        Some(base) if base.kind == BaseKind::File => {
            base.hash.or_else(|| ContentHash::of_file(&original).ok())
        }
        _ => None,
    };
    let winner = if is_uncovered { base_hash } else { provider.hash() };
    let blend = column.blend(&order).map(|blend| &blend.outcome);
    let settled = order.settled_at(column.path);
    let layers = ledger.layers()?;
    let name_of = |wanted: LayerId| {
        layers.iter().find(|layer| layer.id == wanted).map(|layer| layer.about.name.clone())
    };
    let keys = if wants_keys {
        let keys = trace_keys(ledger, &column, &order)?;
        Some(keys.map_err(|reason| TraceError::NoKeys { address: shown(), reason })?)
    } else {
        None
    };
    let rows = rows(&column, &layers, &order, base_hash, winner, ledger)?;
    let (size_now, now) = match column.is_member {
        true => member_now(ledger, &root.folder, &place),
        false => {
            let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
            let file = seen.filter(|seen| seen.kind == BaseKind::File);
            (seen.map(|seen| seen.size_bytes), file.and_then(|_| ContentHash::of_file(&path).ok()))
        }
    };
    let is_something_laid = !matches!(provider, Provider::Nothing);
    Ok(TraceReport {
        address: Address { root: root.name.clone(), path: place }.to_string(),
        rows,
        blended: blend.is_some_and(Result::is_ok),
        by_lines: column.may_blend_as(&order) == Some(Format::Lines),
        not_blended: blend.and_then(|outcome| outcome.as_ref().err()).map(|why| why.reason.clone()),
        settled_with: settled.and_then(|settlement| settlement.winner).and_then(name_of),
        keys,
        original_unknown: catalogue.is_original_unknown(root.id, &key)?,
        on_disk: OnDisk {
            path: path.display().to_string(),
            size_bytes: size_now,
            hash: now.map(|hash| hash.to_string()),
            as_laid: if is_something_laid { size_now.is_some() && now == winner } else { size_now.is_none() },
        },
    })
}

/// Where a member is, for a person to find it.
fn on_disk(folder: &Path, place: &RelPath) -> PathBuf {
    let (container, member) = place.as_str().split_once(INTO).unwrap_or((place.as_str(), ""));
    let container = RelPath::from_disk(container).on(folder);
    PathBuf::from(format!("{}{INTO}{member}", container.display()))
}

/// The size and the hash of a member as it is in the container that lies on disk.
fn member_now(ledger: &Ledger, folder: &Path, place: &RelPath) -> (Option<u64>, Option<ContentHash>) {
    match Containers::new(ledger).member_at(folder, place) {
        Some((size_bytes, hash)) => (Some(size_bytes), Some(hash)),
        None => (None, None),
    }
}

fn rows(
    column: &Column,
    layers: &[Layer],
    order: &Order,
    base_hash: Option<ContentHash>,
    winner: Option<ContentHash>,
    ledger: &Ledger,
) -> Result<Vec<TraceRow>, LedgerError> {
    let winning = column.winner(order).map(|entry| entry.layer);
    let blended = column.blend(order).and_then(|blend| blend.outcome.as_ref().ok());
    let mut rows = Vec::new();
    for layer in layers.iter().rev() {
        let Some(entry) = column.entries.iter().find(|entry| entry.layer == layer.id) else { continue };
        if entry.kind == EntryKind::Packed && entry.takes_away() && column.base.is_none() {
            continue;
        }
        let member = ledger.catalogue.member_of(layer.id, column.path)?;
        rows.push(TraceRow {
            layer: Some(layer.about.name.clone()),
            number: Some(layer.position),
            version: layer.about.version.clone(),
            laid: layer.laid,
            wins: winning == Some(layer.id),
            blended: blended.is_some_and(|blended| blended.from.contains(&layer.id)),
            changes_keys: entry.kind == EntryKind::Keys,
            changes_members: entry.kind == EntryKind::Members,
            same_as_winner: winner == Some(entry.hash),
            size_bytes: entry.size_bytes,
            hash: (!entry.takes_away()).then(|| entry.hash.to_string()),
            member,
        });
    }
    if let Some(base) = &column.base {
        rows.push(TraceRow {
            layer: None,
            number: None,
            version: ledger.game().version.as_ref().map(|version| version.version.clone()),
            laid: true,
            wins: winning.is_none(),
            blended: false,
            changes_keys: false,
            changes_members: false,
            same_as_winner: base_hash.is_some() && base_hash == winner,
            size_bytes: base.size_bytes,
            hash: base_hash.map(|hash| hash.to_string()),
            member: None,
        });
    }
    Ok(rows)
}
