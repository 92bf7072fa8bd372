//! Changing the order of the stack: laying, lifting, moving, removing.

use super::Permit;
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
    if after == before {
        return Ok(None);
    }
    let removed = match reorder {
        Reorder::Remove(layers) => layers.clone(),
        _ => Vec::new(),
    };
    ledger.catalogue.begin()?;
    let request = ChangeRequest {
        command: command.to_owned(),
        made_at: now.to_owned(),
        after,
        removed,
        new_blobs: Vec::new(),
        exchange: None,
    };
    prepare(ledger, permit.lock, request, options, observer).map(Some)
}
