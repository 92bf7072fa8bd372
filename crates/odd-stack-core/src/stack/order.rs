//! How high each laid layer lies, and what was settled where layers meet.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

use super::{Column, Entry, LayerId, PathId};
use crate::blend::BlendRules;
use crate::hash::ContentHash;

/// What a person settled at one address. It holds between layers that have the content they had then.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Settlement {
    /// The layers that met there, each with its content.
    pub sides: Vec<(LayerId, ContentHash)>,
    /// The one of them that wins over the others, even from below; none if it is fine as it is.
    pub winner: Option<LayerId>,
}

impl Settlement {
    /// Puts a layer in place of another, which had the same content or is to be known to have had other.
    pub fn hand_on(&mut self, old: LayerId, new: LayerId) {
        let of = |layer: LayerId| if layer == old { new } else { layer };
        self.sides.iter_mut().for_each(|(layer, _)| *layer = of(*layer));
        self.winner = self.winner.map(of);
    }

    /// Whether it is about `entry` as it is now.
    pub fn covers(&self, entry: &Entry) -> bool {
        self.sides.contains(&(entry.layer, entry.hash))
    }
}

/// The laid layers, how high each lies, and everything else that decides who wins. A higher rank wins.
#[derive(Debug, Clone, Default)]
pub struct Order {
    ranks: FxHashMap<LayerId, usize>,
    settled: HashMap<PathId, Settlement>,
    accepted: HashSet<(LayerId, LayerId)>,
    own_edits: HashSet<LayerId>,
    blend_rules: Arc<BlendRules>,
}

impl Order {
    /// Takes the laid layers from the bottom to the top.
    pub fn new(bottom_to_top: impl IntoIterator<Item = LayerId>) -> Self {
        let ranks = bottom_to_top.into_iter().enumerate().map(|(rank, layer)| (layer, rank)).collect();
        Self { ranks, ..Self::default() }
    }

    /// With what was settled.
    #[must_use]
    pub fn with_settled(mut self, settled: HashMap<PathId, Settlement>) -> Self {
        self.settled = settled;
        self
    }

    /// With pairs of layers, the upper one first, whose order their authors or the user asked for.
    #[must_use]
    pub fn with_accepted(mut self, accepted: HashSet<(LayerId, LayerId)>) -> Self {
        self.accepted = accepted;
        self
    }

    /// With the layers of the user's own edits, which nothing contests: one, or two while one takes the other's
    /// place.
    #[must_use]
    pub fn with_own_edits(mut self, layers: HashSet<LayerId>) -> Self {
        self.own_edits = layers;
        self
    }

    /// With rules of what blends.
    #[must_use]
    pub fn with_blend_rules(mut self, rules: Arc<BlendRules>) -> Self {
        self.blend_rules = rules;
        self
    }

    /// How high `layer` lies, or `None` while it is lifted.
    pub fn rank(&self, layer: LayerId) -> Option<usize> {
        self.ranks.get(&layer).copied()
    }

    /// Which files blend.
    pub fn blend_rules(&self) -> &BlendRules {
        &self.blend_rules
    }

    /// What was settled at an address.
    pub fn settled_at(&self, path: PathId) -> Option<&Settlement> {
        self.settled.get(&path)
    }

    /// The layer that what was settled raises at the column's address, and the rank that it comes above.
    pub(super) fn raised_at(&self, column: &Column) -> Option<(LayerId, usize)> {
        if self.settled.is_empty() {
            return None;
        }
        let settlement = self.settled.get(&column.path)?;
        let winner = settlement.winner?;
        let own = column.entries.iter().find(|entry| entry.layer == winner)?;
        let rank = self.rank(winner).filter(|_| settlement.covers(own))?;
        let others = column.entries.iter().filter(|entry| entry.layer != winner && settlement.covers(entry));
        let highest = others.filter_map(|entry| self.rank(entry.layer)).max()?;
        (highest > rank).then_some((winner, highest))
    }

    /// Whether it was asked for that `upper` wins over `lower`.
    pub fn accepts(&self, upper: LayerId, lower: LayerId) -> bool {
        self.accepted.contains(&(upper, lower)) || self.own_edits.contains(&upper)
    }
}
