//! Addresses and patterns of addresses, as people write them.

use globset::GlobBuilder;

use crate::address::{Address, AddressError, Folding};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::PathId;

/// Why nothing is meant.
#[derive(Debug, thiserror::Error)]
pub enum AddressesError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// It is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// It is no pattern.
    #[error("`{text}` is no pattern: {reason}")]
    Pattern {
        /// What was given.
        text: String,
        /// What is wrong with it.
        reason: String,
    },
}

/// The addresses that layers touch and `text` means: one address, all below a folder, or all that meet a pattern
/// (`*` is any text, also across folders).
pub(super) fn meant(ledger: &Ledger, text: &str) -> Result<Vec<PathId>, AddressesError> {
    let (game, catalogue) = (ledger.game(), &ledger.catalogue);
    let book = game.address_book();
    let Some(wild) = text.find(['*', '?', '[', '{']) else {
        let address = book.resolve(text)?;
        let Some(root) = game.root_named(&address.root) else { return Ok(Vec::new()) };
        let key = game.folding.key(address.path.as_str());
        if let Some(column) = catalogue.column_at(root.id, &key)?
            && !address.path.is_root()
        {
            return Ok(vec![column.path]);
        }
        let below = if address.path.is_root() { String::new() } else { format!("{}/", key.as_str()) };
        return Ok(catalogue.paths_in(root.id, |path| path.starts_with(&below))?);
    };
    // What stands before the pattern says which root; a spot stands for a folder.
    let start = text[..wild].rfind(['/', ':']).map_or(0, |cut| cut + 1);
    let before = text[..start].trim_end_matches('/');
    let Address { root, path } = match before {
        "" => book.resolve("")?,
        before => book.resolve(before)?,
    };
    let Some(root) = game.root_named(&root) else { return Ok(Vec::new()) };
    let folder = game.folding.key(path.as_str()).as_str().to_owned();
    let wanted = &text[start..];
    let glob = GlobBuilder::new(wanted).case_insensitive(game.folding == Folding::Folded).build();
    let glob = glob.map_err(|error| AddressesError::Pattern {
        text: text.to_owned(),
        reason: error.kind().to_string(),
    })?;
    let matcher = glob.compile_matcher();
    let inside = |path: &str| match folder.as_str() {
        "" => matcher.is_match(path),
        folder => path
            .strip_prefix(folder)
            .and_then(|rest| rest.strip_prefix('/'))
            .is_some_and(|rest| matcher.is_match(rest)),
    };
    Ok(catalogue.paths_in(root.id, inside)?)
}
