//! What layers take away, told apart from the files that they bring.

use std::collections::BTreeMap;

use crate::ledger::{Ledger, LedgerError};
use crate::stack::LayerId;

/// How many addresses each layer takes away, and at how many of them that is what counts.
#[derive(Debug, Default)]
pub(super) struct TakenAway(BTreeMap<LayerId, (u64, u64)>);

impl TakenAway {
    /// What the layers of the stack take away now. Reads only the addresses where any does.
    pub(super) fn of(ledger: &Ledger) -> Result<Self, LedgerError> {
        let columns = ledger.catalogue.columns_taken_away()?;
        let mut taken: BTreeMap<LayerId, (u64, u64)> = BTreeMap::new();
        if columns.is_empty() {
            return Ok(Self(taken));
        }
        let order = ledger.present_order()?;
        for column in &columns {
            let winner = column.winner(&order).map(|entry| entry.layer);
            for entry in column.entries.iter().filter(|entry| entry.takes_away()) {
                let (all, won) = taken.entry(entry.layer).or_default();
                *all += 1;
                *won += u64::from(winner == Some(entry.layer));
            }
        }
        Ok(Self(taken))
    }

    /// How many a layer takes away.
    pub(super) fn all(&self, layer: LayerId) -> u64 {
        self.0.get(&layer).map_or(0, |(all, _)| *all)
    }

    /// At how many of them no layer above says otherwise; 0 while it is lifted.
    pub(super) fn won(&self, layer: LayerId) -> u64 {
        self.0.get(&layer).map_or(0, |(_, won)| *won)
    }
}
