//! Why a patch day went no further.

use thiserror::Error;

use crate::change::ChangeError;
use crate::check::CheckError;
use crate::jobs::TweakError;
use crate::ledger::LedgerError;

/// Why a patch day can't begin or end. Nothing was changed.
#[derive(Debug, Error)]
pub enum PatchDayError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The disk can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// Settings can't be kept as the user's own.
    #[error(transparent)]
    Tweak(#[from] TweakError),
}
