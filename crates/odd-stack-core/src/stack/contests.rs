//! Where laid layers want different things at one address.

use std::collections::BTreeMap;

use super::{Column, Order, PathId};
use crate::stack::LayerId;

/// Two layers that both have entries at the same addresses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pair {
    /// The layer that lies lower.
    pub lower: LayerId,
    /// The layer that lies higher and so wins against it.
    pub upper: LayerId,
    /// Their common addresses, in order of path number.
    pub contests: Vec<Contest>,
}

/// One address that two laid layers share.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Contest {
    /// The address.
    pub path: PathId,
    /// Both have the same content there: harmless.
    pub same: bool,
    /// The topmost layer at the address, which may be a third one.
    pub winner: LayerId,
}

/// All pairs among the laid layers, lowest first. Linear in the columns, and in the pairs at each.
pub fn pairs<'a>(columns: impl IntoIterator<Item = &'a Column>, order: &Order) -> Vec<Pair> {
    let mut found: BTreeMap<(usize, usize), Pair> = BTreeMap::new();
    for column in columns {
        let laid = column.laid(order);
        let Some(winner) = laid.last() else { continue };
        for (index, lower) in laid.iter().enumerate() {
            for upper in &laid[index + 1..] {
                let ranks = (order.rank(lower.layer), order.rank(upper.layer));
                let (Some(low), Some(high)) = ranks else { continue };
                let pair = found.entry((low, high)).or_insert_with(|| Pair {
                    lower: lower.layer,
                    upper: upper.layer,
                    contests: Vec::new(),
                });
                pair.contests.push(Contest {
                    path: column.path,
                    same: lower.hash == upper.hash,
                    winner: winner.layer,
                });
            }
        }
    }
    found.into_values().collect()
}

/// How many addresses a layer has, wins, and shares with other laid layers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Tally {
    /// Addresses at which it is the topmost laid layer.
    pub won_files: i64,
    /// Addresses at which another laid layer has an entry of other content.
    pub contested_files: i64,
}

/// Each layer's tally over `columns`; lifted layers have none.
pub fn tallies<'a>(columns: impl IntoIterator<Item = &'a Column>, order: &Order) -> BTreeMap<LayerId, Tally> {
    let mut tallies: BTreeMap<LayerId, Tally> = BTreeMap::new();
    for column in columns {
        let laid = column.laid(order);
        for entry in &laid {
            let tally = tallies.entry(entry.layer).or_default();
            let contested = laid.iter().any(|other| other.hash != entry.hash);
            tally.contested_files += i64::from(contested);
            tally.won_files += i64::from(laid.last() == Some(entry));
        }
    }
    tallies
}
