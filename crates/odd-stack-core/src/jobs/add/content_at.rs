//! What lies at an address of a layer that is made.

use crate::address::{Address, FoldedKey};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{EntryKind, RootId};

/// A stored content for one address that no file of the package is: changes to the keys of a file, or a copy of one of
/// the game's.
pub(in crate::jobs) struct ContentAt {
    pub kind: EntryKind,
    pub address: Address,
    pub hash: ContentHash,
    pub size_bytes: u64,
}

/// The root's number and the folded path of an address.
pub(in crate::jobs) fn key_of(
    ledger: &Ledger,
    address: &Address,
) -> Result<(RootId, FoldedKey), LedgerError> {
    let game = ledger.game();
    let root = game.root_named(&address.root);
    let root = root.ok_or_else(|| ledger.catalogue.damaged_by(&"a root is gone"))?;
    Ok((root.id, game.folding.key(address.path.as_str())))
}
