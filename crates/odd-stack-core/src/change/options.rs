//! How a change is made.

use crate::ledger::OtherGames;
use crate::stack::Column;

/// What to do with drifted files in the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Edits {
    /// Stop and list them.
    #[default]
    Stop,
    /// Save them in the ledger.
    Keep,
    /// Discard them.
    Discard,
}

/// How a change is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ChangeOptions {
    /// What to do with drifted files in the way.
    pub edits: Edits,
    /// Go on although needs are not met, and note that it is wanted so.
    pub despite: bool,
    /// Go on although files of the game's own are lost: nothing lies there then.
    pub without_lost: bool,
    /// Change files that another game has laid into a folder that both use.
    pub over_other_games: bool,
}

impl ChangeOptions {
    /// Nothing said but what becomes of files in the way.
    pub const fn with(edits: Edits) -> Self {
        Self { edits, despite: false, without_lost: false, over_other_games: false }
    }
}

/// What becomes of a file in the way at an address. Another game's is saved: the user was asked for it by itself.
pub(super) fn edits_at(column: &Column, edits: Edits, over_others: Option<&OtherGames>) -> Edits {
    let is_anothers = over_others.is_some_and(|others| others.whose(column.root, &column.key).is_some());
    if is_anothers { Edits::Keep } else { edits }
}
