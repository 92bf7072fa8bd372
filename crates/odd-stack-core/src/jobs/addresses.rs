//! Which addresses of layers a text means.

use crate::game::{AddressPattern, PatternError};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::PathId;

/// Why nothing is meant.
#[derive(Debug, thiserror::Error)]
pub enum AddressesError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// It is neither an address nor a pattern.
    #[error(transparent)]
    Pattern(#[from] PatternError),
}

/// The addresses that layers touch and `text` means: one address, all below a folder, or all that meet a pattern
/// (`*` is any text, also across folders).
pub(super) fn meant(ledger: &Ledger, text: &str) -> Result<Vec<PathId>, AddressesError> {
    let catalogue = &ledger.catalogue;
    let Some(pattern) = AddressPattern::parse(ledger.game(), text)? else { return Ok(Vec::new()) };
    if pattern.is_plain()
        && !pattern.within.as_str().is_empty()
        && let Some(column) = catalogue.column_at(pattern.root, &pattern.within)?
    {
        return Ok(vec![column.path]);
    }
    Ok(catalogue.paths_in(pattern.root, |path| pattern.meets(pattern.root, path))?)
}
