//! The game's tree as the fit sees it.

use crate::address::Address;
use crate::fit::GameTree;
use crate::ledger::Ledger;
use crate::stack::{BaseKind, Order};

/// Folders of the base and of laid layers.
pub(super) struct LedgerTree<'a> {
    ledger: &'a Ledger,
    order: Order,
}

impl<'a> LedgerTree<'a> {
    pub(super) fn new(ledger: &'a Ledger, order: Order) -> Self {
        Self { ledger, order }
    }
}

impl GameTree for LedgerTree<'_> {
    fn has_folder(&self, address: &Address) -> bool {
        let game = self.ledger.game();
        let Some(root) = game.root_named(&address.root) else { return false };
        if address.path.is_root() {
            return true;
        }
        let key = game.folding.key(address.path.as_str());
        // A catalogue that fails here fails again, and is reported, when the entries are written.
        self.ledger.catalogue.folder_source(root.id, &key).is_ok_and(|source| {
            matches!(source.base, Some((_, BaseKind::Folder)))
                || source.needs.iter().any(|need| self.order.rank(need.layer).is_some())
        })
    }
}
