//! What a captured layer has at one address.

use crate::address::FoldedKey;
use crate::change::ForeignFile;
use crate::stack::{Entry, LayerId, RootId};

/// One entry of the layer, and what lies on disk there.
pub(super) struct CapturedEntry {
    pub(super) root: RootId,
    pub(super) key: FoldedKey,
    pub(super) entry: Entry,
    /// What is to be made of what lies there; none for a member of a container.
    pub(super) foreign: Option<ForeignFile>,
    /// The layers that supplied what lay there.
    pub(super) over: Vec<LayerId>,
    /// It is a member's of a container.
    pub(super) is_member: bool,
}
