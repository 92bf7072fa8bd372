//! Telling contests one by one.

use std::collections::HashMap;
use std::ops::ControlFlow;

use super::super::differs::differs;
use super::super::keys::KnownWords;
use super::{ContestRow, PairRow, SharedByPair};
use crate::expected::Blender;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, ContestState, Entry, LayerId, Order, PathId};

/// Tells contests with names, sizes and what differs.
pub(super) struct Teller<'a> {
    pub ledger: &'a Ledger,
    pub order: &'a Order,
    pub names: &'a HashMap<LayerId, &'a str>,
    pub words: &'a KnownWords,
}

impl Teller<'_> {
    fn name(&self, layer: LayerId) -> String {
        self.names.get(&layer).copied().unwrap_or_default().to_owned()
    }

    /// The pair without its contests.
    pub(super) fn pair_row(&self, (lower, upper): (LayerId, LayerId), met: &SharedByPair) -> PairRow {
        let [same_files, blended_files, won_files, open_files] = met.counts;
        let (upper, lower) = (self.name(upper), self.name(lower));
        PairRow { upper, lower, open_files, won_files, blended_files, same_files, contests: Vec::new() }
    }

    /// Tells `most` of a pair's contests: all in order of addresses, or those that tell most.
    pub(super) fn contests(
        &self,
        (lower, upper): (LayerId, LayerId),
        paths: &[(PathId, ContestState)],
        most: usize,
        tell: &mut dyn FnMut(ContestRow) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, LedgerError> {
        let only: Vec<PathId> = paths.iter().map(|(path, _)| *path).collect();
        let mut columns = self.ledger.catalogue.columns_of(&[], &only)?;
        Blender::new(self.ledger).learn(&mut columns, self.order)?;
        let states: HashMap<PathId, ContestState> = paths.iter().copied().collect();
        let mut told: Vec<(&Column, &Entry, &Entry, ContestState)> = Vec::new();
        for column in &columns {
            let of = |layer: LayerId| column.entries.iter().find(|entry| entry.layer == layer);
            if let (Some(low), Some(high), Some(state)) = (of(lower), of(upper), states.get(&column.path)) {
                told.push((column, low, high, *state));
            }
        }
        told.sort_by_cached_key(|(column, low, high, state)| {
            let weight = if most == usize::MAX { (0, 0) } else { weight(self.order, column, low, high) };
            (std::cmp::Reverse((*state, weight)), column.key.clone())
        });
        for (column, low, high, state) in told.into_iter().take(most) {
            if tell(self.row(column, low, high, state)?).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    fn row(
        &self,
        column: &Column,
        lower: &Entry,
        upper: &Entry,
        state: ContestState,
    ) -> Result<ContestRow, LedgerError> {
        let winner = column.winner(self.order);
        // One address is spelled alike in all pairs.
        let spelled = winner.map_or(&upper.spelled, |winner| &winner.spelled);
        let spelled = column.base.as_ref().map_or(spelled, |base| &base.spelled);
        let address = self.ledger.game().address(column.root, spelled.clone());
        let winner = winner.map(|entry| self.name(entry.layer)).unwrap_or_default();
        let differs = match state {
            ContestState::Same => None,
            _ => Some(differs(self.ledger, column, lower, upper, self.order, self.words)?),
        };
        let hash_of = |entry: &Entry| (!entry.takes_away()).then(|| entry.hash.to_string());
        let settled = self.order.settled_at(column.path).filter(|_| state == ContestState::Open);
        let changed = settled.and_then(|settlement| {
            let was_side = |entry: &&&Entry| settlement.sides.iter().any(|(layer, _)| *layer == entry.layer);
            let sides = [lower, upper];
            let changed = sides.iter().filter(was_side).find(|entry| !settlement.covers(entry))?;
            Some(self.name(changed.layer))
        });
        Ok(ContestRow {
            address: address.map(|address| address.to_string()).unwrap_or_default(),
            state,
            winner,
            changed_since_settled: changed,
            upper_bytes: upper.size_bytes,
            upper_hash: hash_of(upper),
            lower_bytes: lower.size_bytes,
            lower_hash: hash_of(lower),
            differs,
        })
    }
}

/// How much a contest tells of what two layers are at: what runs code and configuration first, then big files.
fn weight(order: &Order, column: &Column, lower: &Entry, upper: &Entry) -> (u8, u64) {
    let sort = if crate::jobs::add::runs_code::runs_code(&upper.spelled, upper.executable) {
        3
    } else if order.blend_rules().format_of(column.key.as_str()).is_some() {
        2
    } else {
        u8::from(lower.takes_away() || upper.takes_away())
    };
    (sort, lower.size_bytes.max(upper.size_bytes))
}
