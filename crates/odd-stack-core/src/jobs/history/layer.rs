//! One layer as it was after an earlier change.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::HistoryError;
use super::past::{layers_after, origin_of};
use crate::jobs::select::select_among;
use crate::ledger::Ledger;
use crate::stack::EntryKind;

/// A file that a layer had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PastFile {
    /// Its address.
    pub address: String,
    /// Its size; of changes to keys that of the list of them.
    pub size_bytes: u64,
    /// BLAKE3 hash of its content; none when it took the file away.
    pub hash: Option<String>,
    /// It changed keys of what lay beneath, and was no file.
    pub changes_keys: bool,
}

/// A layer as it was after a revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LayerThen {
    /// The revision.
    pub revision: i64,
    /// The layer's name then.
    pub name: String,
    /// Its version then.
    pub version: Option<String>,
    /// Its number in the stack then, from 1 at the bottom.
    pub number: u64,
    /// On the game, or kept off it.
    pub laid: bool,
    /// The package it was made from, as a path; empty for a person's own edits.
    pub source: String,
    /// When that was, RFC 3339.
    pub added_at: String,
    /// What it had, by address; none when that was tidied away.
    pub files: Option<Vec<PastFile>>,
}

/// The layer that `wanted` names among those after a revision.
///
/// # Errors
/// [`HistoryError`].
pub fn layer_at(ledger: &Ledger, revision: i64, wanted: &str) -> Result<LayerThen, HistoryError> {
    let catalogue = &ledger.catalogue;
    let layers = layers_after(ledger, origin_of(ledger, revision)?)?;
    let names: Vec<&str> = layers.iter().map(|(_, layer)| layer.name.as_str()).collect();
    let numbers: Vec<u64> = (1..=layers.len() as u64).collect();
    let index = select_among(&names, &numbers, wanted)?;
    let (id, layer) = &layers[index];
    let (source, added_at) = catalogue.made_of(*id)?;
    let files = match catalogue.forgotten_layers()?.contains(id) {
        true => None,
        false => {
            let mut files = Vec::new();
            for column in catalogue.columns_of_all(&[*id])? {
                for entry in column.entries.iter().filter(|entry| entry.kind != EntryKind::Members) {
                    let Some(address) = ledger.game().address(column.root, entry.spelled.clone()) else {
                        continue;
                    };
                    files.push(PastFile {
                        address: address.to_string(),
                        size_bytes: entry.size_bytes,
                        hash: (!entry.takes_away()).then(|| entry.hash.to_string()),
                        changes_keys: entry.kind == EntryKind::Keys,
                    });
                }
            }
            files.sort_by(|one, two| one.address.cmp(&two.address));
            Some(files)
        }
    };
    Ok(LayerThen {
        revision,
        name: layer.name.clone(),
        version: layer.version.clone(),
        number: numbers[index],
        laid: layer.laid,
        source,
        added_at,
        files,
    })
}
