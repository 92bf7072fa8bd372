//! All that decides who wins, gathered from the catalogue.

use std::collections::HashMap;
use std::sync::Arc;

use super::{Ledger, LedgerError};
use crate::address::FoldedKey;
use crate::blend::BlendRules;
use crate::stack::{Arrangement, Column, Order, PathId, RootId, Settlement, accepted_pairs};

impl Ledger {
    /// The order that an arrangement gives, with `settled` and what layers ask for.
    pub(crate) fn order(
        &self,
        arrangement: &Arrangement,
        settled: HashMap<PathId, Settlement>,
    ) -> Result<Order, LedgerError> {
        let rules = BlendRules::new(&self.game().blend_rules);
        let rules = rules.map_err(|error| self.catalogue.damaged_by(&error))?;
        Ok(arrangement
            .order()
            .with_settled(settled)
            .with_accepted(accepted_pairs(&self.catalogue.facts()?))
            .with_own_edits(self.catalogue.all_own_edits()?)
            .with_blend_rules(Arc::new(rules)))
    }

    /// The present order, with all that was settled.
    pub(crate) fn present_order(&self) -> Result<Order, LedgerError> {
        self.order(&self.catalogue.arrangement()?, self.catalogue.settlements()?)
    }

    /// Everything at one address, also where no layer ever touched it.
    pub(crate) fn column(&self, root: RootId, key: &FoldedKey) -> Result<Column, LedgerError> {
        if let Some(column) = self.catalogue.column_at(root, key)? {
            return Ok(column);
        }
        self.column_of_base(root, key)
    }

    /// What the base alone has at an address.
    pub(crate) fn column_of_base(&self, root: RootId, key: &FoldedKey) -> Result<Column, LedgerError> {
        let base = self.catalogue.base_at(root, key)?.map(Box::new);
        Ok(Column { base, ..Column::empty(PathId(0), root, key.clone()) })
    }
}
