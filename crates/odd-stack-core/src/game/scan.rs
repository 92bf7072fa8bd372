//! One look through a root: names, sizes, times and modes, no contents.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use thiserror::Error;

use crate::address::RelPath;
use crate::disk::{SIDE_FOLDER, Seen};
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
    /// Names that are not valid text and so can't be addresses; they are left alone.
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
    let mut scan = scan_folder(root, &RelPath::root(), observer)?;
    scan.found.retain(|found| found.spelled.parts().next() != Some(SIDE_FOLDER));
    Ok(scan)
}

fn scan_folder(folder: &Path, below: &RelPath, observer: &dyn Observer) -> Result<Scan, ScanError> {
    if observer.is_cancelled() {
        return Err(ScanError::Cancelled);
    }
    let unreadable = |source| ScanError::Unreadable { path: folder.to_path_buf(), source };
    let mut scan = Scan::default();
    let mut folders = Vec::new();
    for entry in fs::read_dir(folder).map_err(unreadable)? {
        let entry = entry.map_err(unreadable)?;
        let Some(name) = entry.file_name().to_str().map(str::to_owned) else {
            scan.unnamable.push(entry.path());
            continue;
        };
        let seen = Seen::of(&entry.metadata().map_err(unreadable)?);
        let spelled = below.join(&RelPath::from_disk(name));
        if seen.kind == BaseKind::Folder {
            folders.push((entry.path(), spelled.clone()));
        }
        scan.found.push(BaseFile {
            spelled,
            kind: seen.kind,
            size_bytes: seen.size_bytes,
            modified_ns: seen.modified_ns,
            mode: seen.mode,
            hash: None,
        });
    }
    observer.advance(scan.found.len() as u64, 0);
    let inner: Vec<Scan> = folders
        .par_iter()
        .map(|(path, spelled)| scan_folder(path, spelled, observer))
        .collect::<Result<_, _>>()?;
    for mut part in inner {
        scan.found.append(&mut part.found);
        scan.unnamable.append(&mut part.unnamable);
    }
    Ok(scan)
}
