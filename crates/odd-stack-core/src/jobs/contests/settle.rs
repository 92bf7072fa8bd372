//! Settling contests.

use std::collections::HashMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::expected::Blender;
use crate::jobs::Permit;
use crate::jobs::addresses::{AddressesError, meant};
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Column, ContestState, LayerId, Order, PathId, Settlement};

/// Why nothing was settled. Nothing was changed.
#[derive(Debug, thiserror::Error)]
pub enum SettleError {
    /// The addresses can't be told.
    #[error(transparent)]
    Addresses(#[from] AddressesError),
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// There is no contest there.
    #[error("no two laid layers disagree at {at}")]
    NoContest {
        /// What was given.
        at: String,
    },
    /// Nothing was settled there.
    #[error("nothing was settled at {at}")]
    NothingSettled {
        /// What was given.
        at: String,
    },
    /// The layer that is to win has nothing there.
    #[error("{layer} has nothing that is contested at {at}")]
    NotThere {
        /// What was given.
        at: String,
        /// The layer.
        layer: String,
    },
}

impl From<LedgerError> for SettleError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

/// What is to count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ruling {
    /// This layer wins, wherever it lies.
    With(LayerId),
    /// It is fine as it is.
    KeepOrder,
    /// What was settled does not hold any more.
    Clear,
}

/// One address that is settled, or that no longer is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SettledRow {
    /// The address.
    pub address: String,
    /// The layer that counts there from now on.
    pub winner: String,
    /// The layers that met there.
    pub sides: Vec<String>,
}

/// A settling about to be made.
#[derive(Debug)]
pub struct Settling<'l> {
    /// What is settled, by address.
    pub rows: Vec<SettledRow>,
    /// The change.
    pub change: Prepared<'l>,
}

/// Prepares rulings, each for what `text` means; see [`conflicts`](crate::jobs::conflicts()). Of several for one address
/// the last counts. They become one revision. `command` is what the history will say.
///
/// # Errors
/// [`SettleError`].
pub fn prepare_settle<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    rulings: &[(String, Ruling)],
    command: &str,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Settling<'l>, SettleError> {
    let order = ledger.present_order()?;
    let names: HashMap<LayerId, String> = ledger.catalogue.layer_names()?.into_iter().collect();
    let name = |layer: LayerId| names.get(&layer).cloned().unwrap_or_default();
    let mut settle: HashMap<PathId, Option<Settlement>> = HashMap::new();
    for (text, ruling) in rulings {
        let mut columns = ledger.catalogue.columns_of(&[], &meant(ledger, text)?)?;
        Blender::new(ledger).learn(&mut columns, &order)?;
        let mut found = 0;
        let mut contested = 0;
        for column in &columns {
            let is_contested = has_contest(column, &order);
            contested += usize::from(is_contested);
            if let Some(settlement) = rule(column, &order, *ruling, is_contested) {
                settle.insert(column.path, settlement);
                found += 1;
            }
        }
        let at = text.clone();
        match ruling {
            _ if found > 0 => {}
            Ruling::Clear => return Err(SettleError::NothingSettled { at }),
            Ruling::With(layer) if contested > 0 => {
                return Err(SettleError::NotThere { at, layer: name(*layer) });
            }
            _ => return Err(SettleError::NoContest { at }),
        }
    }
    let mut settle: Vec<(PathId, Option<Settlement>)> = settle.into_iter().collect();
    settle.sort_by_key(|(path, _)| *path);
    let before = ledger.catalogue.arrangement()?;
    let mut request = ChangeRequest::new(command, now, before.clone());
    request.stack.settle = settle;
    let after = ledger.order(&before, request.settled_after(ledger.catalogue.settlements()?))?;
    let paths: Vec<PathId> = request.stack.settle.iter().map(|(path, _)| *path).collect();
    let mut rows = Vec::new();
    for column in ledger.catalogue.columns_of(&[], &paths)? {
        let spelled = column.spelled().cloned().unwrap_or_default();
        let laid = column.laid(&after);
        rows.push(SettledRow {
            address: ledger.game().address(column.root, spelled).map(|it| it.to_string()).unwrap_or_default(),
            winner: laid.last().map(|entry| name(entry.layer)).unwrap_or_default(),
            sides: laid.iter().rev().map(|entry| name(entry.layer)).collect(),
        });
    }
    rows.sort_by(|one, two| one.address.cmp(&two.address));
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    Ok(Settling { rows, change })
}

/// Whether two laid layers want different things there that are not blended.
fn has_contest(column: &Column, order: &Order) -> bool {
    let laid = column.laid(order);
    let mut pairs =
        laid.iter().enumerate().flat_map(|(at, upper)| laid[..at].iter().map(move |lower| (lower, upper)));
    pairs.any(|(lower, upper)| {
        matches!(column.contest(lower, upper, order), ContestState::Open | ContestState::Won)
    })
}

/// What a ruling makes of one address; nothing if it is not about it.
fn rule(column: &Column, order: &Order, ruling: Ruling, is_contested: bool) -> Option<Option<Settlement>> {
    let laid = column.laid(order);
    let sides = || laid.iter().map(|entry| (entry.layer, entry.hash)).collect();
    match ruling {
        Ruling::Clear => order.settled_at(column.path).map(|_| None),
        Ruling::KeepOrder if is_contested => Some(Some(Settlement { sides: sides(), winner: None })),
        Ruling::With(layer) if is_contested && laid.iter().any(|entry| entry.layer == layer) => {
            Some(Some(Settlement { sides: sides(), winner: Some(layer) }))
        }
        _ => None,
    }
}
