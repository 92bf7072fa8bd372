//! What was done, and going back to any of it.
//!
//! Going back is a change like any other: to the arrangement of an earlier revision, with what was settled and said of layers then.
//! Layers that were removed come back with the contents that the ledger still has. The game's own files stay as they are now.

pub(super) mod address;
pub(super) mod differing;
pub(super) mod going_back;
pub(super) mod layer;
pub(super) mod lineups;
pub(super) mod past;

use crate::change::ChangeError;
use crate::jobs::SelectError;
use crate::ledger::LedgerError;

/// Why one can't go there. Nothing was changed.
#[derive(Debug, thiserror::Error)]
pub enum HistoryError {
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// No layer, or several, are called so.
    #[error(transparent)]
    Layer(#[from] SelectError),
    /// Fewer changes led to the present state.
    #[error("{}", match there {
        0 => "nothing has been done yet that could be taken back".to_owned(),
        1 => "only 1 change can be taken back".to_owned(),
        several => format!("only {several} changes can be taken back"),
    })]
    NothingBefore {
        /// How many there were.
        there: u64,
    },
    /// Nothing was taken back, or something else was done since.
    #[error("nothing was taken back that could be done again")]
    NothingAgain,
    /// There is no such revision.
    #[error("there is no revision {revision}; the last one is {last}")]
    NoRevision {
        /// What was given.
        revision: i64,
        /// The last there is.
        last: i64,
    },
    /// No state has that name.
    #[error("no state is called `{name}`")]
    NoSuchName {
        /// What was given.
        name: String,
        /// Those that there are.
        there_are: Vec<String>,
    },
    /// Names of states must be told from revisions and times.
    #[error("`{name}` can't be the name of a state: it must not begin with a digit, and must not be empty")]
    BadName {
        /// What was given.
        name: String,
    },
    /// What the state had was dropped.
    #[error("the stack of revision {revision} can't come back: {layer}, which it had, was tidied away")]
    Tidied {
        /// The revision.
        revision: i64,
        /// A layer of it that was forgotten.
        layer: String,
        /// From this one on all can come back.
        oldest: i64,
        /// The stack is as it was after that one already.
        is_there: bool,
    },
    /// The stack is so already.
    #[error("the stack is as it was after revision {revision} already")]
    IsSo {
        /// The revision.
        revision: i64,
    },
}

impl From<LedgerError> for HistoryError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}
