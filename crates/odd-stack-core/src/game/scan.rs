//! One look through a root: names, sizes, times and modes, no contents.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

use crate::address::RelPath;
use crate::files::{WalkError, walk};
use crate::observer::Observer;
use crate::stack::{BaseFile, BaseKind};

/// Why a root can't be scanned; nothing was changed.
#[derive(Debug, Error)]
pub enum ScanError {
    /// A folder can't be read.
    #[error("can't look into {}", path.display())]
    Unreadable {
        /// The folder.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

/// What a scan found below one root.
#[derive(Debug, Clone, Default)]
pub struct Scan {
    /// Everything below the root, in no promised order.
    pub found: Vec<BaseFile>,
    /// Names that are not valid text and so can't be addresses, and paths longer than the system takes; they are left alone.
    pub unnamable: Vec<PathBuf>,
}

impl Scan {
    /// Regular files and links, and their bytes.
    pub fn count_files(&self) -> (u64, u64) {
        let files = self.found.iter().filter(|found| found.kind != BaseKind::Folder);
        files.fold((0, 0), |(files, bytes), found| (files + 1, bytes + found.size_bytes))
    }
}

/// Looks through `root` on all threads of the current pool. Links and junctions are noted and never
/// entered; the side folder that Odd Stack keeps on another volume is passed over.
///
/// # Errors
/// [`ScanError`].
pub fn scan(root: &Path, observer: &dyn Observer) -> Result<Scan, ScanError> {
    let walked = walk(root, observer).map_err(|error| match error {
        WalkError::Unreadable { path, source } => ScanError::Unreadable { path, source },
        WalkError::Cancelled => ScanError::Cancelled,
    })?;
    let mut scan = Scan::default();
    for folder in walked {
        scan.unnamable.extend(folder.too_long);
        for (name, seen) in folder.things {
            match name.into_string() {
                Ok(name) => scan.found.push(BaseFile {
                    spelled: folder.below.join(&RelPath::from_disk(name)),
                    kind: seen.kind,
                    size_bytes: seen.size_bytes,
                    modified_ns: seen.modified_ns,
                    mode: seen.mode,
                    hash: None,
                }),
                Err(name) => scan.unnamable.push(folder.below.on(root).join(name)),
            }
        }
    }
    Ok(scan)
}
