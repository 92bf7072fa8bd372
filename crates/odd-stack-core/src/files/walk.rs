//! One look at everything below a folder, on all threads.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::{fs, io};

use rayon::prelude::*;

use super::look::Seen;
use crate::address::{RelPath, SIDE_FOLDER};
use crate::observer::Observer;
use crate::stack::BaseKind;

/// A folder and the things directly in it.
#[derive(Debug)]
pub(crate) struct Walked {
    pub below: RelPath,
    pub things: Vec<(OsString, Seen)>,
    /// Things whose paths are longer than the system takes; nothing is known of them.
    pub too_long: Vec<PathBuf>,
}

/// Why a walk broke off.
#[derive(Debug)]
pub(crate) enum WalkError {
    Unreadable { path: PathBuf, source: io::Error },
    Cancelled,
}

/// Looks at everything below `root`, in no promised order. Links and junctions are noted and never
/// entered; the side folder that Odd Stack keeps on another volume is passed over.
pub(crate) fn walk(root: &Path, observer: &dyn Observer) -> Result<Vec<Walked>, WalkError> {
    enter(root, RelPath::root(), observer)
}

fn enter(folder: &Path, below: RelPath, observer: &dyn Observer) -> Result<Vec<Walked>, WalkError> {
    if observer.is_cancelled() {
        return Err(WalkError::Cancelled);
    }
    let unreadable = |source| WalkError::Unreadable { path: folder.to_path_buf(), source };
    let (mut things, mut folders, mut too_long) = (Vec::new(), Vec::new(), Vec::new());
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::InvalidFilename => {
            return Ok(vec![Walked { below, things, too_long: vec![folder.to_path_buf()] }]);
        }
        other => other.map_err(unreadable)?,
    };
    for entry in entries {
        let entry = entry.map_err(unreadable)?;
        let name = entry.file_name();
        if below.is_root() && name == SIDE_FOLDER {
            continue;
        }
        let seen = match entry.metadata() {
            Ok(metadata) => Seen::of(&metadata),
            // Gone since the folder was read.
            Err(error) if super::look::is_nothing_there(&error) => continue,
            Err(error) if error.kind() == io::ErrorKind::InvalidFilename => {
                too_long.push(entry.path());
                continue;
            }
            Err(error) => return Err(unreadable(error)),
        };
        if let (BaseKind::Folder, Some(name)) = (seen.kind, name.to_str()) {
            folders.push((entry.path(), below.join(&RelPath::from_disk(name))));
        }
        things.push((name, seen));
    }
    observer.advance(things.len() as u64, 0);
    let inner: Vec<Vec<Walked>> = folders
        .into_par_iter()
        .map(|(path, below)| enter(&path, below, observer))
        .collect::<Result<_, _>>()?;
    let mut all = vec![Walked { below, things, too_long }];
    all.extend(inner.into_iter().flatten());
    Ok(all)
}
