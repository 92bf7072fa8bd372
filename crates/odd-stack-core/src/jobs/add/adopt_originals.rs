//! What the game had of its own where files are adopted.

use super::error::AddError;
use crate::change::BaseBefore;
use crate::jobs::stored::originals::{Covered, FoundOriginal};
use crate::ledger::{Ledger, LedgerError};

/// What becomes of the game's own files that somebody has put aside in the game itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Originals {
    /// They go to the ledger, and come back in their places when the layer is lifted.
    Take,
    /// They stay where they are, as files of their own.
    Leave,
}

/// The originals that are kept, as a person says it.
pub(super) fn taken_originals(
    said: Option<Originals>,
    originals: Vec<FoundOriginal>,
) -> Result<Vec<FoundOriginal>, AddError> {
    match said {
        Some(Originals::Take) => Ok(originals),
        Some(Originals::Leave) => Ok(Vec::new()),
        None if originals.is_empty() => Ok(Vec::new()),
        None => {
            let found = originals.into_iter().map(|original| original.row).collect();
            Err(AddError::OriginalsFound { found })
        }
    }
}

/// What lies where the game may have had a file of its own that nobody knows.
fn unknown<'f>(covered: &'f [Covered], taken: &'f [FoundOriginal]) -> impl Iterator<Item = &'f Covered> {
    let is_taken = |it: &&Covered| taken.iter().any(|own| (own.root, &own.key) == (it.root, &it.key));
    covered.iter().filter(move |it| !is_taken(it))
}

pub(super) fn originals_unknown(
    ledger: &Ledger,
    covered: &[Covered],
    taken: &[FoundOriginal],
) -> Vec<String> {
    let shown = |it: &Covered| ledger.game().address(it.root, it.base.spelled.clone());
    unknown(covered, taken).filter_map(shown).map(|address| address.to_string()).collect()
}

/// What is not known any more is known again if it is all taken back.
pub(super) fn base_before(
    ledger: &Ledger,
    covered: &[Covered],
    taken: &[FoundOriginal],
) -> Result<BaseBefore, LedgerError> {
    let base = unknown(covered, taken).map(|it| (it.root, it.key.clone(), Some(it.base.clone())));
    Ok(BaseBefore {
        base: base.collect(),
        version: ledger.game().version.clone(),
        seen: ledger.game().seen,
        unknown_originals: ledger.catalogue.unknown_originals()?,
        ..BaseBefore::default()
    })
}
