//! Why one can't go back, and what to do then.

use odd_stack_core::jobs::{AddressHistoryError, HistoryError};

use super::{Exit, Failure};

impl From<AddressHistoryError> for Failure {
    fn from(error: AddressHistoryError) -> Self {
        match error {
            AddressHistoryError::History(error) => error.into(),
            AddressHistoryError::Address(_) => Self::of(Exit::Failed, "bad_address", &error),
            AddressHistoryError::NeverTouched { .. } => Self::of(Exit::Failed, "nothing_there", &error),
        }
    }
}

impl From<HistoryError> for Failure {
    fn from(error: HistoryError) -> Self {
        let code = match error {
            HistoryError::Change(error) => return error.into(),
            HistoryError::Layer(error) => return error.into(),
            HistoryError::NothingBefore { .. } => "nothing_to_undo",
            HistoryError::NothingAgain => "nothing_to_redo",
            HistoryError::NoRevision { .. } => "no_such_revision",
            HistoryError::NoSuchName { .. } => "no_such_state",
            HistoryError::BadName { .. } => "bad_name",
            HistoryError::Tidied { .. } => "tidied",
            HistoryError::IsSo { .. } => "is_so",
        };
        let mut failure = Self::of(Exit::Failed, code, &error);
        match &error {
            HistoryError::NoSuchName { there_are, .. } if there_are.is_empty() => {
                failure.message.push_str(
                    ", and it is no revision and no time either; times are written like `yesterday 18:00` or `2026-11-28 18:00`",
                );
            }
            HistoryError::NoSuchName { there_are, .. } => {
                failure.message.push_str(&format!(
                    " (there are: {}), and it is no revision and no time either; times are written like `yesterday 18:00` or \
                     `2026-11-28 18:00`",
                    there_are.join(", ")
                ));
            }
            HistoryError::NothingBefore { there } if *there > 0 => {
                failure = failure.choice("take all of them back", format!("oddstack undo {there}"));
            }
            HistoryError::Tidied { oldest, is_there, .. } => {
                if !is_there {
                    let rewind = format!("oddstack rewind {oldest}");
                    failure = failure.choice("go back as far as that goes", rewind);
                }
                failure = failure.choice("see which states can come back", "oddstack history --all");
            }
            HistoryError::NoRevision { .. } => {
                failure = failure.choice("the revisions that there are", "oddstack history");
            }
            _ => {}
        }
        failure
    }
}
