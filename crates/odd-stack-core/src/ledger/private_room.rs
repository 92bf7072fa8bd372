//! Private folders of a game: making them, free names in them, and room on their volume.

use std::path::{Path, PathBuf};
use std::{fs, io};

use super::error::LedgerError;
use crate::files::{STAGE, Seam, TRASH, is_nothing_there};

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

/// A number that no name in stage and trash of these sides begins with. Mostly nothing lies there, but what another
/// program holds can't be removed.
pub(crate) fn free_batch(sides: impl Iterator<Item = PathBuf>) -> Result<u64, LedgerError> {
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
