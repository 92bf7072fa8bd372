//! How a layer's new version differs from its old one.

use super::{Column, LayerId, Order};

/// What one address is to the exchange of a layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turn {
    /// Only the new version has it.
    Added,
    /// Both have it, with other content.
    Changed,
    /// Both have it, the name spelled otherwise.
    Respelled,
    /// Both have it, alike.
    Unchanged,
    /// Only the old version has it.
    Gone,
}

/// How `new` in place of `old` turns the column; nothing if neither has the address.
pub fn turn(column: &Column, old: LayerId, new: LayerId) -> Option<Turn> {
    let of = |layer: LayerId| column.entries.iter().find(|entry| entry.layer == layer);
    Some(match (of(old), of(new)) {
        (None, Some(_)) => Turn::Added,
        (Some(_), None) => Turn::Gone,
        (Some(one), Some(two)) if one.hash != two.hash => Turn::Changed,
        (Some(one), Some(two)) if one.spelled.name() != two.spelled.name() => Turn::Respelled,
        (Some(_), Some(_)) => Turn::Unchanged,
        (None, None) => return None,
    })
}

/// Whether a contest of `layer` at the column's address is open.
pub fn is_open(column: &Column, layer: LayerId, order: &Order) -> bool {
    super::tallies([column], order).get(&layer).is_some_and(|tally| tally.open_files > 0)
}
