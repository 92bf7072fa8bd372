//! The folders beside a game through which its files go: on the same volume, so that a rename is enough.

use std::path::{Path, PathBuf};

use super::error::ChangeError;
use super::execute;
use crate::address::SIDE_FOLDER;
use crate::files::{KEPT, ORIGINALS, STAGE, Seam, TRASH};
use crate::ledger::{Ledger, NAMES, make_private_folder};

/// Makes the folders of a side that are not there.
pub(super) fn make_private_folders(side: &Path, seam: &dyn Seam) -> Result<(), ChangeError> {
    if side.parent().and_then(Path::file_name).is_some_and(|name| name == SIDE_FOLDER) {
        side.parent().map_or(Ok(()), |above| make_private_folder(above, seam))?;
    }
    make_private_folder(side, seam)?;
    let made = [STAGE, TRASH, ORIGINALS, KEPT].iter();
    Ok(made.map(|name| side.join(name)).try_for_each(|folder| make_private_folder(&folder, seam))?)
}

/// Empties stage and trash, and removes folders of a side that are empty. What can't be removed now
/// is removed by the next change.
pub(super) fn tidy_private_folders(ledger: &Ledger, side_folders: &[PathBuf]) {
    let seam = &*ledger.seam;
    for side in side_folders {
        for name in [STAGE, TRASH] {
            let _ = execute::empty_of_what_is_free(&side.join(name), seam);
        }
        drop_empty_folders(side, ledger.folder(), seam);
    }
}

/// Removes folders of a side that are empty; where the `ledger` is its side, they stay.
pub(super) fn drop_empty_folders(side: &Path, ledger: &Path, seam: &dyn Seam) {
    if side == ledger || !side.is_dir() {
        return;
    }
    for name in [STAGE, TRASH, ORIGINALS, KEPT] {
        let _ = seam.remove_folder(&side.join(name));
    }
    if !side.join(ORIGINALS).exists() {
        let _ = seam.remove_file(&side.join(NAMES));
    }
    let _ = seam.remove_folder(side);
    if let Some(above) = side.parent().filter(|above| above.ends_with(SIDE_FOLDER)) {
        let _ = seam.remove_folder(above);
    }
}
