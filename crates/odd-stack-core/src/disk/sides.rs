//! The folders beside a game through which its files go: on the same volume, so that a rename is enough.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::change_error::ChangeError;
use super::execute;
use super::look::is_nothing_there;
use super::named::NAMES;
use super::seam::Seam;
use crate::address::SIDE_FOLDER;
use crate::ledger::{Ledger, LedgerError};

/// Folders beside the game through which files go.
pub(crate) const STAGE: &str = "stage";
pub(crate) const TRASH: &str = "trash";
pub(crate) const ORIGINALS: &str = "originals";
pub(crate) const KEPT: &str = "kept";

/// Makes the folders of a side that are not there.
pub(super) fn make_side(side: &Path, seam: &dyn Seam) -> Result<(), ChangeError> {
    if side.parent().and_then(Path::file_name).is_some_and(|name| name == SIDE_FOLDER) {
        side.parent().map_or(Ok(()), |above| make_private_folder(above, seam))?;
    }
    make_private_folder(side, seam)?;
    let made = [STAGE, TRASH, ORIGINALS, KEPT].iter();
    Ok(made.map(|name| side.join(name)).try_for_each(|folder| make_private_folder(&folder, seam))?)
}

/// Makes a folder of ours that may be there already.
pub(crate) fn make_private_folder(path: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    if path.is_dir() {
        return Ok(());
    }
    match seam.create_folder(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        other => other.map_err(LedgerError::io("create", path)),
    }
}

/// Empties stage and trash, and removes folders of a side that are empty. What can't be removed now
/// is removed by the next change.
pub(super) fn tidy_sides(ledger: &Ledger, sides: &[PathBuf]) {
    let seam = &*ledger.seam;
    for side in sides {
        for name in [STAGE, TRASH] {
            let _ = execute::empty_of_what_is_free(&side.join(name), seam);
        }
        if side != ledger.folder() && side.is_dir() {
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
    }
}

/// A number that no name in stage and trash of these sides begins with. Mostly nothing lies there, but what another
/// program holds can't be removed.
pub(super) fn free_batch(sides: impl Iterator<Item = PathBuf>) -> Result<u64, LedgerError> {
    let mut free = 0;
    for folder in sides.flat_map(|side| [side.join(STAGE), side.join(TRASH)]) {
        let entries = match fs::read_dir(&folder) {
            Err(error) if is_nothing_there(&error) => continue,
            other => other.map_err(LedgerError::io("read", &folder))?,
        };
        for entry in entries {
            let name = entry.map_err(LedgerError::io("read", &folder))?.file_name();
            let name = name.to_string_lossy();
            let number = name.split('-').next().and_then(|number| number.parse::<u64>().ok());
            free = free.max(number.map_or(0, |number| number.saturating_add(1)));
        }
    }
    Ok(free)
}

/// Refuses to begin what the volume of `folder` has no room for.
pub(crate) fn check_room(folder: &Path, needed_bytes: u64) -> Result<(), LedgerError> {
    // Beside the contents, room for the catalogue and for folders.
    const SPARE_BYTES: u64 = 16 << 20;
    let mut there = folder;
    while !there.exists() {
        match there.parent() {
            Some(parent) => there = parent,
            None => return Ok(()),
        }
    }
    match fs4::available_space(there) {
        Ok(free_bytes) if needed_bytes > 0 && free_bytes < needed_bytes.saturating_add(SPARE_BYTES) => {
            let needed_bytes = needed_bytes.saturating_add(SPARE_BYTES);
            Err(LedgerError::DiskFull { folder: folder.to_path_buf(), needed_bytes, free_bytes })
        }
        // A volume that can't tell is tried.
        _ => Ok(()),
    }
}
