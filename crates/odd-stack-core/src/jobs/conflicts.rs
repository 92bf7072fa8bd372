//! Where laid layers want different things.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;

use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, Entry, LayerId, PathId, pairs};

/// One address that two laid layers share.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ContestRow {
    /// The address.
    pub address: String,
    /// `same` (equal content, harmless) or `open` (the upper layer wins until it is settled otherwise).
    pub state: String,
    /// The topmost layer at the address, which may be a third one.
    pub winner: String,
    /// Size of the upper layer's file.
    pub upper_bytes: u64,
    /// BLAKE3 hash of the upper layer's file; none when it takes the file away.
    pub upper_hash: Option<String>,
    /// Size of the lower layer's file.
    pub lower_bytes: u64,
    /// BLAKE3 hash of the lower layer's file; none when it takes the file away.
    pub lower_hash: Option<String>,
}

/// Two laid layers with common addresses.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PairRow {
    /// The layer that lies higher, and so wins against the other.
    pub upper: String,
    /// The layer that lies lower.
    pub lower: String,
    /// Addresses with different content.
    pub open_files: u64,
    /// Addresses with equal content.
    pub same_files: u64,
    /// All of them, by address.
    pub contests: Vec<ContestRow>,
}

/// All contests among the laid layers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ConflictsReport {
    /// Pairs with common addresses, the lowest first.
    pub pairs: Vec<PairRow>,
    /// Addresses at which two laid layers have different content, each once.
    pub open_files: u64,
    /// Laid layers that others cover wholly, so that they have no effect.
    pub no_effect: Vec<String>,
}

/// All contests, or those of one layer.
///
/// # Errors
/// [`LedgerError`].
pub fn conflicts(ledger: &Ledger, only: Option<LayerId>) -> Result<ConflictsReport, LedgerError> {
    let catalogue = &ledger.catalogue;
    let layers = ledger.layers()?;
    let order = catalogue.arrangement()?.order();
    let columns = catalogue.shared_columns()?;
    let by_path: HashMap<PathId, &Column> = columns.iter().map(|column| (column.path, column)).collect();
    let names: HashMap<LayerId, &str> =
        layers.iter().map(|layer| (layer.id, layer.about.name.as_str())).collect();
    let name = |layer: LayerId| names.get(&layer).copied().unwrap_or_default().to_owned();
    let mut rows = Vec::new();
    let mut open = std::collections::BTreeSet::new();
    for pair in pairs(&columns, &order) {
        if only.is_some_and(|layer| layer != pair.lower && layer != pair.upper) {
            continue;
        }
        let mut contests = Vec::new();
        for contest in &pair.contests {
            let column = by_path[&contest.path];
            let (Some(upper), Some(lower)) = (entry_of(column, pair.upper), entry_of(column, pair.lower))
            else {
                continue;
            };
            let spelled = column.base.as_ref().map_or(&upper.spelled, |base| &base.spelled);
            let address = ledger.game().address(column.root, spelled.clone());
            if !contest.same {
                open.insert(contest.path);
            }
            contests.push(ContestRow {
                address: address.map(|address| address.to_string()).unwrap_or_default(),
                state: if contest.same { "same" } else { "open" }.to_owned(),
                winner: name(contest.winner),
                upper_bytes: upper.size_bytes,
                upper_hash: hash_of(upper),
                lower_bytes: lower.size_bytes,
                lower_hash: hash_of(lower),
            });
        }
        contests.sort_by(|one, two| one.address.cmp(&two.address));
        let same_files = pair.contests.iter().filter(|contest| contest.same).count() as u64;
        rows.push(PairRow {
            upper: name(pair.upper),
            lower: name(pair.lower),
            open_files: pair.contests.len() as u64 - same_files,
            same_files,
            contests,
        });
    }
    let without_effect = layers.iter().filter(|layer| {
        layer.laid
            && layer.about.files > 0
            && layer.tally.won_files == 0
            && only.is_none_or(|only| only == layer.id)
    });
    Ok(ConflictsReport {
        pairs: rows,
        open_files: open.len() as u64,
        no_effect: without_effect.map(|layer| layer.about.name.clone()).collect(),
    })
}

fn hash_of(entry: &Entry) -> Option<String> {
    (!entry.takes_away()).then(|| entry.hash.to_string())
}

fn entry_of(column: &Column, layer: LayerId) -> Option<&Entry> {
    column.entries.iter().find(|entry| entry.layer == layer)
}
