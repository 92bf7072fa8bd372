//! A last look at what is thrown away.
//!
//! Between the look that decides a change and the rename that takes a file out, another program may
//! write to the file; a person may even be asked in between. So each file is looked at once more when
//! it lies in the trash, where nobody else writes, and is kept if it is not what was seen.

use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::change::make_private_folder;
use super::look::{Seen, look_at};
use super::seam::Seam;
use crate::address::Address;
use crate::observer::Observer;

/// A file that goes to the trash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Thrown {
    pub address: Address,
    /// Where it lies in the trash.
    pub path: PathBuf,
    /// What was seen of it when the change was decided.
    pub seen: Seen,
    /// Where it is kept if it is something else by now.
    pub kept: PathBuf,
}

/// Saves what changed since it was seen, and says so. When something can't be saved it is said where it
/// lies, and that the trash must not be emptied now.
pub(super) fn save_changed(
    thrown: &[Thrown],
    sides: &[PathBuf],
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> bool {
    let changed: Vec<&Thrown> = thrown
        .par_iter()
        .filter(|thrown| !matches!(look_at(&thrown.path), Ok(Some(now)) if now == thrown.seen))
        .collect();
    let mut may_empty = true;
    for Thrown { address, path, kept, .. } in changed {
        if matches!(look_at(path), Ok(None)) {
            continue;
        }
        let folder = kept.parent().unwrap_or(kept);
        if make_folders(folder, sides, seam) && seam.rename(path, kept).is_ok() {
            observer.warn(&format!(
                "{address} was changed at the last moment; it is saved at {}",
                kept.display()
            ));
        } else {
            may_empty = false;
            let lies = path.display();
            observer.warn(&format!("{address} was changed at the last moment; copy it now from {lies}"));
        }
    }
    may_empty
}

fn make_folders(folder: &Path, sides: &[PathBuf], seam: &dyn Seam) -> bool {
    let mut missing: Vec<&Path> =
        folder.ancestors().take_while(|folder| !sides.iter().any(|side| side == folder)).collect();
    missing.reverse();
    missing.into_iter().all(|folder| make_private_folder(folder, seam).is_ok())
}
