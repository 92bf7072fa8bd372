//! The order of the layers and which of them are laid.

use std::hash::Hash;

use super::{LayerId, Order};

/// One layer's place in the stack.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// The layer.
    pub layer: LayerId,
    /// On the game, or kept off it.
    pub laid: bool,
}

/// Where a layer is to go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// Above all others.
    Top,
    /// Directly on the base.
    Bottom,
    /// Directly above another layer.
    Above(LayerId),
    /// Directly below another layer.
    Below(LayerId),
}

/// All layers of the stack from the bottom to the top. Each layer occurs once.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Arrangement(Vec<Standing>);

impl Arrangement {
    /// Takes the layers from the bottom to the top.
    pub fn new(bottom_to_top: Vec<Standing>) -> Self {
        Self(bottom_to_top)
    }

    /// The layers from the bottom to the top.
    pub fn standings(&self) -> &[Standing] {
        &self.0
    }

    /// The laid layers from the bottom to the top.
    pub fn laid(&self) -> Vec<LayerId> {
        self.0.iter().filter(|standing| standing.laid).map(|standing| standing.layer).collect()
    }

    /// The laid layers' order.
    pub fn order(&self) -> Order {
        Order::new(self.laid())
    }

    /// This arrangement with `layer` put at `target`. A layer it goes above or below that is not in
    /// the stack counts as the top.
    #[must_use]
    pub fn with(&self, standing: Standing, target: Target) -> Self {
        let mut standings = self.without(&[standing.layer]).0;
        let find = |layer| standings.iter().position(|other: &Standing| other.layer == layer);
        let index = match target {
            Target::Bottom => Some(0),
            Target::Top => None,
            Target::Above(layer) => find(layer).map(|index| index + 1),
            Target::Below(layer) => find(layer),
        };
        standings.insert(index.unwrap_or(standings.len()), standing);
        Self(standings)
    }

    /// This arrangement without `layers`.
    #[must_use]
    pub fn without(&self, layers: &[LayerId]) -> Self {
        Self(self.0.iter().copied().filter(|standing| !layers.contains(&standing.layer)).collect())
    }

    /// This arrangement with `layers` laid or lifted.
    #[must_use]
    pub fn with_laid(&self, layers: &[LayerId], laid: bool) -> Self {
        let set = |standing: &Standing| match layers.contains(&standing.layer) {
            true => Standing { laid, ..*standing },
            false => *standing,
        };
        Self(self.0.iter().map(set).collect())
    }

    /// The layers that make a difference between the two: laid in only one of them, or passed by
    /// another laid layer. Of a layer that merely moved only the moved one is named, so that the
    /// work follows that layer's size.
    pub fn changed_layers(&self, after: &Self) -> Vec<LayerId> {
        let (old, new) = (self.laid(), after.laid());
        let mut changed: Vec<LayerId> = old.iter().filter(|layer| !new.contains(layer)).copied().collect();
        changed.extend(new.iter().filter(|layer| !old.contains(layer)));
        let old: Vec<_> = old.into_iter().filter(|layer| !changed.contains(layer)).collect();
        let new: Vec<_> = new.into_iter().filter(|layer| !changed.contains(layer)).collect();
        changed.extend(moved(&old, &new));
        changed
    }
}

/// The fewest layers that must move to turn `old` into `new`, two orders of the same layers: all
/// outside a longest common subsequence (patience sorting).
pub(crate) fn moved<T: Clone + Eq + Hash>(old: &[T], new: &[T]) -> Vec<T> {
    let place: std::collections::HashMap<_, _> =
        old.iter().enumerate().map(|(at, layer)| (layer, at)).collect();
    let sequence: Vec<usize> = new.iter().map(|layer| place[layer]).collect();
    let mut tails: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; sequence.len()];
    for (index, value) in sequence.iter().enumerate() {
        let slot = tails.partition_point(|tail| sequence[*tail] < *value);
        before[index] = slot.checked_sub(1).map(|slot| tails[slot]);
        if slot == tails.len() {
            tails.push(index);
        } else {
            tails[slot] = index;
        }
    }
    let mut stays = vec![false; sequence.len()];
    let mut at = tails.last().copied();
    while let Some(index) = at {
        stays[index] = true;
        at = before[index];
    }
    new.iter().zip(stays).filter(|(_, stays)| !stays).map(|(layer, _)| layer.clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn stack(layers: &[i64]) -> Arrangement {
        Arrangement::new(layers.iter().map(|id| Standing { layer: LayerId(*id), laid: true }).collect())
    }
    fn ids(arrangement: &Arrangement) -> Vec<i64> {
        arrangement.standings().iter().map(|standing| standing.layer.0).collect()
    }

    #[test]
    fn targets() {
        let three = stack(&[1, 2, 3]);
        let moved = |id, target| ids(&three.with(Standing { layer: LayerId(id), laid: true }, target));
        assert_eq!(moved(1, Target::Top), [2, 3, 1]);
        assert_eq!(moved(3, Target::Bottom), [3, 1, 2]);
        assert_eq!(moved(1, Target::Above(LayerId(2))), [2, 1, 3]);
        assert_eq!(moved(3, Target::Below(LayerId(2))), [1, 3, 2]);
        assert_eq!(moved(9, Target::Below(LayerId(1))), [9, 1, 2, 3]);
    }

    #[test]
    fn only_what_moved_is_changed() {
        let before = stack(&[1, 2, 3, 4, 5]);
        assert_eq!(before.changed_layers(&stack(&[2, 3, 4, 5, 1])), [LayerId(1)]);
        assert_eq!(before.changed_layers(&stack(&[1, 2, 5, 3])), [LayerId(4), LayerId(5)]);
        assert_eq!(before.changed_layers(&before), []);
        let lifted = before.with_laid(&[LayerId(2)], false);
        assert_eq!(before.changed_layers(&lifted), [LayerId(2)]);
        let lifted_moved = lifted.with(Standing { layer: LayerId(2), laid: false }, Target::Top);
        assert_eq!(lifted.changed_layers(&lifted_moved), [], "a lifted layer moves without effect");
    }

    fn arrangement() -> impl Strategy<Value = Arrangement> {
        (
            Just((1..7i64).collect::<Vec<_>>()).prop_shuffle(),
            0..7usize,
            proptest::collection::vec(any::<bool>(), 6),
        )
            .prop_map(|(ids, kept, laid)| {
                let standings = ids.iter().zip(laid).take(kept);
                Arrangement::new(standings.map(|(id, laid)| Standing { layer: LayerId(*id), laid }).collect())
            })
    }

    proptest! {
        #[test]
        fn layers_that_are_not_changed_keep_their_order(before in arrangement(), after in arrangement()) {
            let changed = before.changed_layers(&after);
            let rest = |arrangement: &Arrangement| -> Vec<LayerId> {
                arrangement.laid().into_iter().filter(|layer| !changed.contains(layer)).collect()
            };
            prop_assert_eq!(rest(&before), rest(&after));
            // None is named twice, and none could be left out that is laid on both sides: putting any
            // one of them back breaks the order of the rest.
            for layer in &changed {
                prop_assert_eq!(changed.iter().filter(|other| *other == layer).count(), 1);
                let with = |arrangement: &Arrangement| -> Vec<LayerId> {
                    arrangement.laid().into_iter().filter(|l| l == layer || !changed.contains(l)).collect()
                };
                prop_assert_ne!(with(&before), with(&after));
            }
        }

        #[test]
        fn a_layer_lands_where_it_was_put(before in arrangement(), other in 1..7i64) {
            let standing = Standing { layer: LayerId(99), laid: true };
            for target in [Target::Top, Target::Bottom, Target::Above(LayerId(other)), Target::Below(LayerId(other))] {
                let after = before.with(standing, target);
                prop_assert_eq!(after.without(&[LayerId(99)]), before.clone());
                let at = after.standings().iter().position(|standing| standing.layer == LayerId(99)).unwrap();
                let neighbour = |step: isize| {
                    let index = at.checked_add_signed(step)?;
                    after.standings().get(index).map(|standing| standing.layer)
                };
                let is_there = before.standings().iter().any(|standing| standing.layer == LayerId(other));
                match target {
                    Target::Bottom => prop_assert_eq!(at, 0),
                    Target::Above(layer) if is_there => prop_assert_eq!(neighbour(-1), Some(layer)),
                    Target::Below(layer) if is_there => prop_assert_eq!(neighbour(1), Some(layer)),
                    _ => prop_assert_eq!(neighbour(1), None),
                }
            }
        }
    }
}
