//! The rules that a layer was placed by.

use crate::fit::Rules;
use crate::ledger::{Layer, Ledger, LedgerError};

/// The rules by which `layer` was placed.
///
/// # Errors
/// [`LedgerError::Damaged`].
pub fn remembered_rules(ledger: &Ledger, layer: &Layer) -> Result<Rules, LedgerError> {
    serde_json::from_str(&layer.about.fit).map_err(|error| ledger.catalogue.damaged_by(&error))
}
