//! Where laid layers want different things at one address.

use std::collections::BTreeMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Blended, Column, Entry, EntryKind, LayerId, Order};
use crate::hash::ContentHash;

/// How two layers that both have something at an address get along there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum ContestState {
    /// Equal content: harmless.
    Same,
    /// Configuration in which they touch different keys: both are kept.
    Blended,
    /// The upper one wins, and that was asked for or settled.
    Won,
    /// The upper one wins, and nobody has said that it should.
    Open,
}

impl Column {
    /// How two laid layers get along here. `lower` and `upper` as [`Column::laid`] has them.
    pub fn contest(&self, lower: &Entry, upper: &Entry, order: &Order) -> ContestState {
        let blended = self.blend(order).and_then(|blend| blend.outcome.as_ref().ok());
        contest(self, blended, lower, upper, order)
    }
}

fn contest(
    column: &Column,
    blended: Option<&Blended>,
    lower: &Entry,
    upper: &Entry,
    order: &Order,
) -> ContestState {
    if lower.hash == upper.hash || is_no_meeting(column, lower, upper) {
        return ContestState::Same;
    }
    if let Some(blended) = blended
        && upper.kind != EntryKind::Packed
        && !lower.takes_away()
        && !upper.takes_away()
        && !blended.clashes.contains(&(lower.hash, upper.hash))
        && !blended.clashes.contains(&(upper.hash, lower.hash))
    {
        return ContestState::Blended;
    }
    let is_settled = || {
        let settlement = order.settled_at(column.path);
        settlement.is_some_and(|settlement| settlement.covers(lower) && settlement.covers(upper))
    };
    if order.accepts(upper.layer, lower.layer) || is_settled() {
        ContestState::Won
    } else {
        ContestState::Open
    }
}

/// Whether two entries do not meet: what a layer changes in a container is judged member by member, and a whole container
/// beneath says nothing of members that it has as the game has them.
fn is_no_meeting(column: &Column, lower: &Entry, upper: &Entry) -> bool {
    let own = column.base.as_ref().map_or(Some(ContentHash::NOTHING), |base| base.hash);
    lower.kind == EntryKind::Members
        || upper.kind == EntryKind::Members
        || lower.kind == EntryKind::Packed && own == Some(lower.hash)
}

/// How many addresses a layer has, wins, and shares with other laid layers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Tally {
    /// Addresses at which it is the topmost laid layer, or part of what is blended there.
    pub won_files: i64,
    /// Addresses at which another laid layer has other content.
    pub contested_files: i64,
    /// Those of them at which one of its contests is open.
    pub open_files: i64,
}

impl Tally {
    /// This tally with another one's counts added.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        Self {
            won_files: self.won_files + other.won_files,
            contested_files: self.contested_files + other.contested_files,
            open_files: self.open_files + other.open_files,
        }
    }

    /// This tally with another one's counts taken off.
    #[must_use]
    pub fn minus(self, other: Self) -> Self {
        self.plus(Self {
            won_files: -other.won_files,
            contested_files: -other.contested_files,
            open_files: -other.open_files,
        })
    }
}

/// Each layer's tally over `columns`; lifted layers have none.
pub fn tallies<'a>(columns: impl IntoIterator<Item = &'a Column>, order: &Order) -> BTreeMap<LayerId, Tally> {
    let mut tallies: BTreeMap<LayerId, Tally> = BTreeMap::new();
    for column in columns {
        let mut laid = column.laid(order);
        laid.retain(|entry| entry.kind != EntryKind::Members);
        // What only whole containers have counts with these.
        if laid.iter().all(|entry| entry.kind == EntryKind::Packed) {
            continue;
        }
        let blended = match laid.as_slice() {
            [_] => None,
            _ => column.blend(order).and_then(|blend| blend.outcome.as_ref().ok()),
        };
        for (at, entry) in laid.iter().enumerate() {
            let tally = tallies.entry(entry.layer).or_default();
            let is_contested = laid.iter().enumerate().any(|(other_at, other)| {
                let (lower, upper) = if other_at < at { (other, entry) } else { (entry, other) };
                other.hash != entry.hash && !is_no_meeting(column, lower, upper)
            });
            let is_open = is_contested
                && laid.iter().enumerate().any(|(other_at, other)| {
                    let (lower, upper) = if other_at < at { (other, entry) } else { (entry, other) };
                    other_at != at && contest(column, blended, lower, upper, order) == ContestState::Open
                });
            let is_in = blended.is_some_and(|blended| blended.from.contains(&entry.layer));
            tally.contested_files += i64::from(is_contested);
            tally.open_files += i64::from(is_open);
            // A container that is brought whole is one file.
            let is_counted = entry.kind != EntryKind::Packed;
            tally.won_files += i64::from(is_counted && (laid.last() == Some(entry) || is_in));
        }
    }
    tallies
}

#[cfg(test)]
mod tests {
    use std::collections::{HashMap, HashSet};

    use proptest::prelude::*;

    use super::*;
    use crate::address::{Folding, RelPath};
    use crate::stack::{PathId, Provider, RootId, Settlement};

    fn entry(layer: i64, content: u8) -> Entry {
        Entry {
            layer: LayerId(layer),
            kind: EntryKind::File,
            spelled: RelPath::parse("a.dds").unwrap(),
            hash: ContentHash::of(&[content]),
            size_bytes: 1,
            modified: 0,
            executable: None,
        }
    }

    fn column(entries: Vec<Entry>) -> Column {
        let key = Folding::Folded.key("a.dds");
        Column { entries, ..Column::empty(PathId(1), RootId(1), key) }
    }

    fn settled(sides: &[(i64, u8)], winner: Option<i64>) -> HashMap<PathId, Settlement> {
        let sides = sides.iter().map(|(layer, content)| (LayerId(*layer), ContentHash::of(&[*content])));
        HashMap::from([(PathId(1), Settlement { sides: sides.collect(), winner: winner.map(LayerId) })])
    }

    #[test]
    fn what_was_settled_raises_the_winner_just_above_those_it_met() {
        let column = column(vec![entry(1, 1), entry(2, 2), entry(3, 3)]);
        let order = |ids: &[i64]| Order::new(ids.iter().map(|id| LayerId(*id)));
        let top = |order: &Order| column.winner(order).map(|entry| entry.layer.0);
        let with_1 = settled(&[(1, 1), (2, 2)], Some(1));
        assert_eq!(top(&order(&[1, 2]).with_settled(with_1.clone())), Some(1));
        // A layer that came later lies above still, and is contested.
        let three = order(&[1, 2, 3]).with_settled(with_1.clone());
        assert_eq!(top(&three), Some(3));
        let laid: Vec<i64> = column.laid(&three).iter().map(|entry| entry.layer.0).collect();
        assert_eq!(laid, [2, 1, 3]);
        let state = |lower: usize, upper: usize| {
            column.contest(&column.entries[lower], &column.entries[upper], &three)
        };
        assert_eq!(state(1, 0), ContestState::Won);
        assert_eq!(state(0, 2), ContestState::Open);
        // It does not hold for other content, nor while the other is lifted.
        assert_eq!(top(&order(&[1, 2]).with_settled(settled(&[(1, 1), (2, 9)], Some(1)))), Some(2));
        assert_eq!(top(&order(&[1]).with_settled(with_1)), Some(1));
        let kept = order(&[1, 2]).with_settled(settled(&[(1, 1), (2, 2)], None));
        assert_eq!(top(&kept), Some(2));
        assert_eq!(column.contest(&column.entries[0], &column.entries[1], &kept), ContestState::Won);
        let ruled = order(&[1, 2]).with_accepted(HashSet::from([(LayerId(2), LayerId(1))]));
        assert_eq!(column.contest(&column.entries[0], &column.entries[1], &ruled), ContestState::Won);
    }

    proptest! {
        /// The naive model: all pairs, each asked on its own.
        #[test]
        fn tallies_equal_all_pairs(
            contents in proptest::collection::vec((0..3u8, any::<bool>()), 0..6),
            sides in proptest::collection::vec((1..6i64, 0..3u8), 0..5),
            winner in proptest::option::of(1..6i64),
            accepted in proptest::collection::hash_set((1..6i64, 1..6i64), 0..4),
        ) {
            let entries = (1..).zip(&contents).map(|(layer, (content, _))| entry(layer, *content)).collect();
            let column = column(entries);
            let laid = (1..).zip(&contents).filter(|(_, (_, laid))| *laid).map(|(layer, _)| LayerId(layer));
            let winner = winner.filter(|layer| sides.iter().any(|(side, _)| side == layer));
            let accepted: HashSet<_> = accepted.iter().map(|(one, two)| (LayerId(*one), LayerId(*two))).collect();
            let order = Order::new(laid).with_settled(settled(&sides, winner)).with_accepted(accepted.clone());
            let standing = column.laid(&order);
            let counted = tallies([&column], &order);
            for (at, entry) in standing.iter().enumerate() {
                let mut open = 0;
                for (other_at, other) in standing.iter().enumerate() {
                    if other.hash == entry.hash {
                        continue;
                    }
                    let (lower, upper) = if other_at < at { (other, entry) } else { (entry, other) };
                    let is_side = |entry: &Entry| {
                        sides.iter().any(|(layer, content)| {
                            (LayerId(*layer), ContentHash::of(&[*content])) == (entry.layer, entry.hash)
                        })
                    };
                    let is_won = accepted.contains(&(upper.layer, lower.layer)) || (is_side(lower) && is_side(upper));
                    open += i64::from(!is_won);
                }
                prop_assert_eq!(counted[&entry.layer].open_files, i64::from(open > 0));
                prop_assert_eq!(counted[&entry.layer].won_files, i64::from(at + 1 == standing.len()));
            }
            // The file is the topmost one's.
            let supplied = match column.provider(&order) {
                Provider::Layer(supplier) => Some(supplier.hash),
                _ => None,
            };
            prop_assert_eq!(supplied, standing.last().map(|entry| entry.hash));
        }
    }
}
