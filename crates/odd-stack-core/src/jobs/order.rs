//! Changing the order of the stack: laying, lifting, moving, removing.

use super::Permit;
use super::needs::judge;
use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::expected::Blender;
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Arrangement, ContestState, LayerId, PathId, Settlement, Standing, Target};

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
    /// Put above or below another layer, which decides what only these two contest: it is fine as they lie then.
    Decide(LayerId, Target),
}

impl Reorder {
    fn apply_to(&self, before: &Arrangement) -> Arrangement {
        match self {
            Self::Lay(layers) => before.with_laid(layers, true),
            Self::Lift(layers) => before.with_laid(layers, false),
            Self::Remove(layers) => before.without(layers),
            Self::Move(layer, target) | Self::Decide(layer, target) => {
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

/// What is open between just these two layers as they will lie, each settled as it lies.
fn contests_of(
    ledger: &Ledger,
    one: LayerId,
    two: LayerId,
    after: &Arrangement,
) -> Result<Vec<(PathId, Option<Settlement>)>, LedgerError> {
    let order = ledger.order(after, ledger.catalogue.settlements()?)?;
    let mut columns = ledger.catalogue.columns_of(&[one], &[])?;
    columns.retain(|column| column.entries.iter().any(|entry| entry.layer == two));
    Blender::new(ledger).learn(&mut columns, &order)?;
    let settled = columns.iter().filter_map(|column| {
        let laid = column.laid(&order);
        let [lower, upper] = laid.as_slice() else { return None };
        let are_these = [lower.layer, upper.layer].iter().all(|layer| *layer == one || *layer == two);
        let is_open = are_these && column.contest(lower, upper, &order) == ContestState::Open;
        let sides = laid.iter().map(|entry| (entry.layer, entry.hash)).collect();
        is_open.then_some((column.path, Some(Settlement { sides, winner: None })))
    });
    Ok(settled.collect())
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
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Option<Prepared<'l>>, ChangeError> {
    let before = ledger.catalogue.arrangement()?;
    let after = reorder.apply_to(&before);
    let after = with_own_on_top(after, ledger.catalogue.own_edits()?);
    let settle = match reorder {
        Reorder::Decide(layer, Target::Above(other) | Target::Below(other)) => {
            contests_of(ledger, *layer, *other, &after)?
        }
        _ => Vec::new(),
    };
    if after == before && settle.is_empty() {
        return Ok(None);
    }
    let removed = match reorder {
        Reorder::Remove(layers) => layers.clone(),
        _ => Vec::new(),
    };
    let transaction = Transaction::begin(ledger)?;
    judge(ledger, &before, &after, options.despite)?;
    let mut request = ChangeRequest::new(command, now, after);
    request.stack.removed = removed;
    request.stack.settle = settle;
    prepare(transaction, permit.lock, request, options, observer).map(Some)
}
