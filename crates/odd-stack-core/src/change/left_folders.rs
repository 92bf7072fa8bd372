//! Folders that were to go and stay for now, since a program stands in them or has them open.
//!
//! Nothing is wrong with the game where one stays, so it holds nothing up: it is noted, said, and goes with the next
//! command that changes the game.

use std::fs;
use std::path::{Path, PathBuf};

use super::execute::is_held;
use super::step::{Step, StepKind};
use super::steps::Steps;
use crate::files::is_nothing_there;
use crate::ledger::{Ledger, LedgerError};
use crate::notice::Notice;
use crate::observer::Observer;

/// Notes, in the open transaction, those that steps were to drop and that are still there, though nothing is in them.
pub(super) fn note(ledger: &Ledger, steps: &Steps) -> Result<Vec<PathBuf>, LedgerError> {
    let mut left: Vec<PathBuf> = Vec::new();
    for step in steps.of(&[StepKind::DropFolder, StepKind::MakeFolder]) {
        match step {
            Step::DropFolder { path } if holds_nothing_but(&path, &left) => {
                left.push(path);
            }
            // It is wanted again.
            Step::MakeFolder { path } => ledger.catalogue.forget_folder_left(&path)?,
            _ => {}
        }
    }
    left.iter().try_for_each(|path| ledger.catalogue.note_folder_left(path))?;
    Ok(left)
}

/// Drops those of earlier commands that can go now, and forgets those that somebody has put something into.
pub(super) fn drop_again(ledger: &Ledger) -> Result<(), LedgerError> {
    let mut left: Vec<PathBuf> = Vec::new();
    for path in ledger.catalogue.folders_left()? {
        match ledger.seam.remove_folder(&path) {
            Err(error) if is_held(&error) || holds_nothing_but(&path, &left) => left.push(path),
            // It is gone now, or it is not ours any more.
            _ => ledger.catalogue.forget_folder_left(&path)?,
        }
    }
    Ok(())
}

fn holds_nothing_but(folder: &Path, left: &[PathBuf]) -> bool {
    match fs::read_dir(folder) {
        Ok(mut entries) => entries.all(|entry| entry.is_ok_and(|entry| left.contains(&entry.path()))),
        // What can't be read is there.
        Err(error) => !is_nothing_there(&error),
    }
}

/// Tells of them.
pub(super) fn tell(left: &[PathBuf], observer: &dyn Observer) {
    if let Some(first) = left.first() {
        observer.notice(Notice::FoldersHeld { first: first.clone(), count: left.len() });
    }
}
