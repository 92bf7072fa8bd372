//! Where the game writes by itself: as the user says, and the logs by which layers show that they work.

use super::{Ledger, LedgerError};
use crate::fit::Rules;
use crate::game::AddressPatterns;

impl Ledger {
    /// Where it writes by itself.
    pub(crate) fn volatile(&self) -> Result<AddressPatterns, LedgerError> {
        let game = self.game();
        let mut texts = game.volatile.clone();
        for layer in self.layers()?.into_iter().filter(|layer| layer.laid) {
            // Few name one, and what is remembered of a fit may be long.
            if !layer.about.fit.contains("\"log\"") {
                continue;
            }
            let rules: Rules =
                serde_json::from_str(&layer.about.fit).map_err(|error| self.catalogue.damaged_by(&error))?;
            for log in rules.proofs().into_iter().filter_map(|proof| proof.log) {
                if self.may_be_log(&log)? {
                    texts.push(log);
                }
            }
        }
        AddressPatterns::parse(game, &texts).map_err(|error| self.catalogue.damaged_by(&error))
    }

    /// Whether what is named as a log is one: nobody is to hide changes of other files by naming them so.
    fn may_be_log(&self, text: &str) -> Result<bool, LedgerError> {
        let game = self.game();
        let Ok(address) = game.address_book().resolve(text) else { return Ok(false) };
        let Some(root) = game.root_named(&address.root) else { return Ok(false) };
        let column = self.column(root.id, &game.folding.key(address.path.as_str()))?;
        let is_named_so = address.path.name().to_lowercase().ends_with(".log");
        Ok(column.entries.is_empty() && (column.base.is_none() || is_named_so))
    }
}
