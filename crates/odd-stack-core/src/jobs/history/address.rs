//! Which layers had something at one address, and when that changed: what a person asks when it worked last week.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::HistoryError;
use super::past::{Tidied, layers_of};
use crate::address::AddressError;
use crate::change::RevisionBefore;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, EntryKind, LayerId, Order};

/// A layer that was laid there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PastSupplier {
    /// The layer's name then.
    pub layer: String,
    /// Its version then.
    pub version: Option<String>,
    /// Its size; of changes to keys that of the list of them.
    pub size_bytes: u64,
    /// BLAKE3 hash of its content; none when it took the file away.
    pub hash: Option<String>,
    /// It changed keys of what lay beneath, and was no file.
    pub changes_keys: bool,
}

/// From one change on it was so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct AddressPast {
    /// The revision that made it so.
    pub revision: i64,
    /// When it was made, RFC 3339.
    pub made_at: String,
    /// What was asked for.
    pub command: String,
    /// The laid layers with something there, the one that counted first. None where the game's own file lay there, if it has one.
    pub suppliers: Vec<PastSupplier>,
}

/// What lay at one address over time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct AddressHistory {
    /// The address.
    pub address: String,
    /// The changes, the last first.
    pub changes: Vec<AddressPast>,
}

/// Why it can't be told.
#[derive(Debug, thiserror::Error)]
pub enum AddressHistoryError {
    /// It is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// The history can't be read.
    #[error(transparent)]
    History(#[from] HistoryError),
    /// No layer ever had anything there.
    #[error("no layer ever had anything at {address}")]
    NeverTouched {
        /// The address.
        address: String,
    },
}

impl From<LedgerError> for AddressHistoryError {
    fn from(error: LedgerError) -> Self {
        Self::History(error.into())
    }
}

/// What lay at what people write as an address, and when that changed.
///
/// # Errors
/// [`AddressHistoryError`].
pub fn address_history(ledger: &Ledger, text: &str) -> Result<AddressHistory, AddressHistoryError> {
    let catalogue = &ledger.catalogue;
    let address = ledger.game().meant(text)?;
    let key = ledger.game().folding.key(address.path.as_str());
    let shown = address.to_string();
    let root = ledger.game().root_named(&address.root).map(|root| root.id);
    let path = root.map(|root| catalogue.known_path(root, &key)).transpose()?.flatten();
    let entries = path.map(|path| catalogue.past_entries(path)).transpose()?.unwrap_or_default();
    let (Some(root), Some(path)) = (root, path.filter(|_| !entries.is_empty())) else {
        return Err(AddressHistoryError::NeverTouched { address: shown });
    };
    let column = Column { entries, ..Column::empty(path, root, key) };
    let mut states = Vec::new();
    // What later revisions changed, as it was.
    let mut before = RevisionBefore::default();
    let befores = catalogue.befores_since(0)?;
    let revisions = catalogue.revisions()?;
    let tidied = Tidied::of(ledger, &revisions)?;
    // What was tidied away had something there, or had not: earlier than that nothing can be told.
    let known = revisions.into_iter().rev().take_while(|it| !tidied.revisions.contains_key(&it.number));
    for (revision, text) in known.zip(befores) {
        let suppliers = suppliers(ledger, &column, revision.number, &before)?;
        if let Some(text) = text {
            before.beneath(serde_json::from_str(&text).map_err(|error| catalogue.damaged_by(&error))?);
        }
        states.push((revision, suppliers));
    }
    let mut changes: Vec<AddressPast> = Vec::new();
    for (revision, suppliers) in states.into_iter().rev() {
        let last = changes.last().map(|last| last.suppliers.as_slice()).unwrap_or_default();
        if last != suppliers.as_slice() {
            let (number, made_at, command) = (revision.number, revision.made_at, revision.command);
            changes.push(AddressPast { revision: number, made_at, command, suppliers });
        }
    }
    changes.reverse();
    Ok(AddressHistory { address: shown, changes })
}

/// The laid layers with something there after a revision, the one that counted first.
fn suppliers(
    ledger: &Ledger,
    column: &Column,
    revision: i64,
    before: &RevisionBefore,
) -> Result<Vec<PastSupplier>, LedgerError> {
    let laid: Vec<LayerId> = ledger
        .catalogue
        .arrangement_of(revision)?
        .into_iter()
        .filter(|(_, laid)| *laid)
        .map(|(id, _)| id)
        .collect();
    let then =
        before.settled.iter().find(|(path, _)| *path == column.path).map(|(_, settled)| settled.clone());
    let settled = match then {
        Some(then) => then,
        None => ledger.catalogue.settlements_at(column.path)?,
    };
    let order =
        Order::new(laid).with_settled(settled.into_iter().map(|settled| (column.path, settled)).collect());
    let mut suppliers = Vec::new();
    for entry in column.laid(&order).into_iter().rev() {
        let (_, layer) = layers_of(ledger, vec![(entry.layer, true)], before)?.remove(0);
        suppliers.push(PastSupplier {
            layer: layer.name,
            version: layer.version,
            size_bytes: entry.size_bytes,
            hash: (!entry.takes_away()).then(|| entry.hash.to_string()),
            changes_keys: entry.kind == EntryKind::Keys,
        });
    }
    Ok(suppliers)
}
