//! Taking files that the game's own client has put back as the game's own.

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::Permit;
use crate::address::{Address, AddressError, FoldedKey, RelPath};
use crate::disk::look_at;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseFile, BaseKind, RootId};

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
