//! Ledgers that can't be used, or have lost something: what is gone, and every way to have it again.

use super::{Exit, Failure};
use crate::commands::rescue::next_step;
use crate::show::units::{files as files_of, size};
use odd_stack_core::check::DamagedFile;
use odd_stack_core::jobs::{RenewError, RescueError};
use odd_stack_core::ledger::LedgerError;

impl From<LedgerError> for Failure {
    fn from(error: LedgerError) -> Self {
        let next = next_step(&error);
        let with_next = |failure: Self| match &next {
            Some((does, option)) => failure.choice(does, option),
            None => failure,
        };
        match &error {
            LedgerError::Damaged { .. } => with_next(Self::of(Exit::Damaged, "ledger_damaged", &error)),
            LedgerError::ContentLost { .. } => {
                let mut failure = Self::of(Exit::Damaged, "content_lost", &error);
                failure.message.push_str("; nothing was changed");
                renewals(failure, &[])
            }
            LedgerError::Missing { .. } => {
                let mut failure = with_next(Self::of(Exit::Damaged, "ledger_missing", &error));
                failure
                    .message
                    .push_str("; if it lies elsewhere now, `oddstack rescue FOLDER` takes it up there");
                failure
            }
            LedgerError::TooNew { .. } => Self::of(Exit::Failed, "ledger_too_new", &error),
            LedgerError::Busy { .. } => Self::of(Exit::Failed, "busy", &error),
            LedgerError::DiskFull { folder, needed_bytes, free_bytes } => {
                let (needed, free) = (size(*needed_bytes), size(*free_bytes));
                let more = size(needed_bytes.saturating_sub(*free_bytes));
                let needs = format!("{} needs {needed} and has {free} free", folder.display());
                let message = format!("{needs}: make room for {more} more and run this again");
                Self::new(Exit::Failed, "disk_full", message)
            }
            LedgerError::NoRoom { folder, free_bytes } => {
                let (folder, free) = (folder.display(), size(*free_bytes));
                let full = format!("the disk that {folder} is on is full ({free} free)");
                let message = format!("{full}: make room there, 16 MB at least, and run this again");
                Self::new(Exit::Failed, "disk_full", message)
            }
            LedgerError::ReadOnly { .. } => Self::of(Exit::Failed, "read_only", &error),
            LedgerError::Registry { .. } => {
                with_next(Self::of(Exit::Damaged, "list_of_games_damaged", &error))
            }
            LedgerError::Catalogue { .. } | LedgerError::Io { .. } => {
                Self::of(Exit::Failed, "ledger_failed", &error)
            }
        }
    }
}

/// Lost contents of layers, with the packages that renew them.
pub(super) fn contents_lost(files: &[DamagedFile]) -> Failure {
    let message =
        format!("the ledger has lost {} of layers; nothing was changed:", files_of(files.len() as u64));
    let failure = Failure::new(Exit::Damaged, "content_lost", message).about(files.iter().map(damage_line));
    renewals(failure, files)
}

/// Lost files of the game's own, with every way back.
pub(super) fn originals_lost(files: &[DamagedFile]) -> Failure {
    let (count, it) = (files.len() as u64, if files.len() == 1 { "it" } else { "them" });
    let message = format!(
        "the ledger has lost {} of the game's own that would come back; nothing was changed. To have {it} again, let \
         the game's client repair {it} and use `oddstack mend ADDRESS --accept`; or, with a whole copy of the game, \
         `oddstack mend --renew FOLDER`:",
        files_of(count)
    );
    let failure = Failure::new(Exit::Damaged, "original_lost", message).about(files.iter().map(damage_line));
    failure.choice("go on without; nothing lies there until the client repairs it", "--without-lost")
}

/// `game:data/a.dds  (of Lamps: damaged)`.
fn damage_line(file: &DamagedFile) -> String {
    let whose = match &file.layer {
        Some(layer) => format!("of {layer}"),
        None => "the game's own".to_owned(),
    };
    let state = if file.is_missing { "missing" } else { "damaged" };
    format!("{}  ({whose}; {state} in the ledger)", file.address)
}

/// The ways to renew contents of layers.
fn renewals(failure: Failure, files: &[DamagedFile]) -> Failure {
    let mut packages: Vec<&str> = files.iter().filter_map(|file| file.package.as_deref()).collect();
    packages.sort_unstable();
    packages.dedup();
    let gone: Vec<&str> =
        packages.iter().copied().filter(|package| !std::path::Path::new(package).exists()).collect();
    let mut failure = failure;
    if !gone.is_empty() {
        let gone = gone.join(", ");
        // The list of what was lost follows.
        let message = failure.message.trim_end_matches(':');
        failure.message = format!(
            "{message}. What they were made from is no longer at {gone}; give the same package with \
             `oddstack mend --renew PACKAGE`:"
        );
    }
    failure.choice(
        "put them again, from the game and from the packages where they still lie",
        "oddstack mend --renew",
    )
}

impl From<RescueError> for Failure {
    fn from(error: RescueError) -> Self {
        match error {
            RescueError::Ledger(error) => {
                let is_too_new = matches!(error, LedgerError::TooNew { .. });
                let failure = Self::from(error);
                match is_too_new {
                    true => failure
                        .choice("copy the game's own files into a folder", "--to originals")
                        .choice("put the game's own files back, and forget the game", "--put-back"),
                    false => Self { choices: Vec::new(), ..failure },
                }
            }
            RescueError::Check(error) => error.into(),
            RescueError::Declined => Self::of(Exit::Failed, "declined", &error),
            RescueError::NotNow(_) => Self::of(Exit::Failed, "not_readable_now", &error)
                .choice("copy the game's own files into a folder", "--to originals")
                .choice("put the game's own files back all the same, and forget the game", "--put-back"),
            RescueError::NoLedger { .. } => {
                Self::of(Exit::Failed, "no_ledger", &error).advising("`oddstack game list` lists the games")
            }
            RescueError::Nothing { .. } => Self::of(Exit::Damaged, "nothing_left", &error),
            RescueError::NotEmpty { .. } => {
                Self::of(Exit::Failed, "not_empty", &error).advising("give a new or empty folder to --to")
            }
        }
    }
}

impl From<RenewError> for Failure {
    fn from(error: RenewError) -> Self {
        match error {
            RenewError::Ledger(error) => error.into(),
            RenewError::Check(error) => error.into(),
            RenewError::Package(error) => error.into(),
        }
    }
}
