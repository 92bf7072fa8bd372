//! Looking through a whole root, told to the observer.

use std::path::Path;

use super::compare::CheckError;
use crate::address::RelPath;
use crate::files::{Seen, WalkError, Walked, walk};
use crate::observer::{Observer, Work};

/// As [`walk`], told to the observer as looking through a root.
pub(crate) fn walk_root(root: &Path, observer: &dyn Observer) -> Result<Vec<Walked>, CheckError> {
    observer.begin(Work::Scanning, 0, 0);
    let walked = walk(root, observer);
    observer.end();
    walked.map_err(|error| match error {
        WalkError::Unreadable { path, source } => CheckError::Look { path, source },
        WalkError::Cancelled => CheckError::Cancelled,
    })
}

/// Everything below `root` by its path, folders too; names that are not text are passed over.
pub(crate) fn look_through(root: &Path, observer: &dyn Observer) -> Result<Vec<(RelPath, Seen)>, CheckError> {
    let mut all = Vec::new();
    for folder in walk_root(root, observer)? {
        for (name, seen) in folder.things {
            if let Ok(name) = name.into_string() {
                all.push((folder.below.join(&RelPath::from_disk(name)), seen));
            }
        }
    }
    Ok(all)
}
