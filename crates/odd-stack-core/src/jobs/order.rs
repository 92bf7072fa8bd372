//! Changing the order of the stack: laying, lifting, moving, removing.

use super::Permit;
use super::needs::judge;
use crate::disk::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::ledger::Ledger;
use crate::observer::Observer;
use crate::stack::{Arrangement, LayerId, Standing, Target};

/// What is to become of layers of the stack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reorder {
    /// Put on the game.
    Lay(Vec<LayerId>),
    /// Taken off the game, kept in the stack.
    Lift(Vec<LayerId>),
    /// Taken out of the stack.
    Remove(Vec<LayerId>),
    /// Put elsewhere in the stack.
    Move(LayerId, Target),
}

impl Reorder {
    fn apply_to(&self, before: &Arrangement) -> Arrangement {
        match self {
            Self::Lay(layers) => before.with_laid(layers, true),
            Self::Lift(layers) => before.with_laid(layers, false),
            Self::Remove(layers) => before.without(layers),
            Self::Move(layer, target) => {
                let standing = before.standings().iter().find(|standing| standing.layer == *layer);
                let laid = standing.is_some_and(|standing| standing.laid);
                before.with(Standing { layer: *layer, laid }, *target)
            }
        }
    }
}

/// The arrangement with the user's own edits above all else.
pub(super) fn with_own_on_top(arrangement: Arrangement, own: Option<LayerId>) -> Arrangement {
    let standing = arrangement.standings().iter().find(|standing| Some(standing.layer) == own).copied();
    match standing {
        Some(standing) => arrangement.with(standing, Target::Top),
        None => arrangement,
    }
}

/// Prepares the change; `None` when the stack is so already. `command` is what the history will say.
///
/// # Errors
/// [`ChangeError`]; nothing was changed.
pub fn prepare_reorder<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    reorder: &Reorder,
    command: &str,
    now: &str,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Option<Prepared<'l>>, ChangeError> {
    let before = ledger.catalogue.arrangement()?;
    let after = reorder.apply_to(&before);
    let after = with_own_on_top(after, ledger.catalogue.own_edits()?);
    if after == before {
        return Ok(None);
    }
    let removed = match reorder {
        Reorder::Remove(layers) => layers.clone(),
        _ => Vec::new(),
    };
    ledger.catalogue.begin()?;
    judge(ledger, &before, &after, options.despite).inspect_err(|_| ledger.catalogue.roll_back())?;
    let request = ChangeRequest { removed, ..ChangeRequest::new(command, now, after) };
    prepare(ledger, permit.lock, request, options, observer).map(Some)
}
