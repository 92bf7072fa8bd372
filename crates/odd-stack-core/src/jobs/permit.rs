//! The permission to change a game, and the finishing of what was cut short before.

use std::time::Duration;

use crate::change::{ChangeError, recover};
use crate::game::{Running, running_in};
use crate::ledger::{Ledger, LedgerError, Lock, OngoingKind, free_reserve_if_needed};
use crate::notice::Notice;
use crate::observer::Observer;

/// The permission to change one game.
#[derive(Debug)]
#[must_use = "the permission is given back when it is dropped"]
pub struct Permit {
    pub(super) lock: Lock,
}

impl Permit {
    /// Waits up to `wait` for other processes, then finishes or takes back what was cut short. For a command that may also
    /// be used while `kind` is under way.
    ///
    /// # Errors
    /// [`LedgerError::Busy`] inside [`ChangeError::Ledger`], [`ChangeError::UnderWay`] while something is that must
    /// be ended first, or the recovery's own.
    pub(crate) fn take_during(
        ledger: &Ledger,
        command: &str,
        wait: Duration,
        kind: Option<OngoingKind>,
        observer: &dyn Observer,
    ) -> Result<Self, ChangeError> {
        let lock = Lock::take(ledger.folder(), command, wait)?;
        free_reserve_if_needed(ledger.folder());
        recover(ledger, &lock, observer)?;
        match ledger.catalogue.ongoing()? {
            Some(ongoing) if Some(ongoing.kind) != kind => Err(ChangeError::UnderWay { ongoing }),
            _ => Ok(Self { lock }),
        }
    }
}

/// The game's programs that run right now. Changing files under a running game may fail half way on some systems,
/// and the game may write over what was changed.
pub fn running(ledger: &Ledger) -> Vec<Running> {
    let roots: Vec<_> = ledger.game().roots.iter().map(|root| root.folder.clone()).collect();
    running_in(&roots)
}

/// For commands that only look: finishes or takes back what was cut short, if there is anything and
/// nobody else is at it. Costs one query when there is nothing.
///
/// # Errors
/// The recovery's own; that another process has the lock is none.
pub(crate) fn heal(ledger: &Ledger, observer: &dyn Observer) -> Result<(), ChangeError> {
    if ledger.catalogue.journal()?.is_none() {
        return Ok(());
    }
    match Lock::take(ledger.folder(), "recovery", Duration::ZERO) {
        Ok(lock) => recover(ledger, &lock, observer),
        Err(LedgerError::Busy { holder }) => {
            observer.notice(Notice::BeingChanged { holder });
            Ok(())
        }
        Err(error) => Err(error.into()),
    }
}
