//! The algebra of layers: which of them wins, what lies at an address, who contests what.
//!
//! Pure. Numbers of layers, roots and paths are the catalogue's; nothing here depends on how they
//! are made.

mod arrangement;
mod column;
mod composition;
mod contests;
mod culprit;
mod difference;
mod history;
mod needs;
mod order;
mod recipe;
mod winner;

use serde::{Deserialize, Serialize};

pub use arrangement::{Arrangement, Standing, Target};
pub use column::{
    BaseFile, BaseKind, Blend, Blended, Column, Entry, EntryKind, Hindrance, NotBlendable, Provider, Recipe,
    mode_over,
};
pub use composition::Composition;
pub use contests::{ContestState, Tally, tallies};
pub use culprit::{Hunt, hunt, most_tries};
pub use difference::{Turn, is_open, turn};
pub use history::{History, Past};
pub use needs::{
    LayerFacts, Needs, Unmet, UnmetKind, accepted_pairs, cycle, place_by_rules, plain_name, unmet,
};
pub use order::{Order, Settlement};

pub(crate) use arrangement::moved as moved_among;
pub(crate) use needs::would_meet;

/// The catalogue's number of a layer; never used twice in one ledger, never shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct LayerId(pub i64);

/// The catalogue's number of an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PathId(pub i64);

/// The catalogue's number of a root.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RootId(pub i64);
