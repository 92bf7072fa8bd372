//! A loose folder as a package.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use rayon::prelude::*;

use super::PackageError;
use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, Source, WantedMembers};
use super::listing::{RawKind, RawMember};
use crate::address::NameProblem;
use crate::files::quietly;

/// Reads files below a folder; never follows links.
#[derive(Debug)]
pub(super) struct FolderSource {
    files: Vec<PathBuf>,
}

impl FolderSource {
    /// Walks `folder`, in order of names.
    pub(super) fn open(folder: &Path) -> Result<(Self, Vec<RawMember>), PackageError> {
        let mut walk = Walk { files: Vec::new(), members: Vec::new() };
        walk.enter(folder, "")?;
        Ok((Self { files: walk.files }, walk.members))
    }
}

impl Source for FolderSource {
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt> {
        wanted.par_iter().try_for_each(|wanted| match open(&self.files[wanted.source]) {
            Ok(mut file) => delivery.deliver(wanted, &mut file),
            Err(error) => Err(delivery.fail(wanted, error)),
        })
    }

    fn as_file(&self, source: usize) -> Option<ArchiveFile> {
        ArchiveFile::open(&self.files[source]).ok()
    }
}

struct Walk {
    files: Vec<PathBuf>,
    members: Vec<RawMember>,
}

impl Walk {
    fn enter(&mut self, folder: &Path, below: &str) -> Result<(), PackageError> {
        let unreadable = |source| PackageError::Unreadable { path: folder.to_path_buf(), source };
        let mut entries = fs::read_dir(folder)
            .and_then(|entries| entries.collect::<io::Result<Vec<_>>>())
            .map_err(unreadable)?;
        entries.sort_by_key(fs::DirEntry::file_name);
        for entry in entries {
            self.meet(&entry, below)?;
        }
        Ok(())
    }

    fn meet(&mut self, entry: &fs::DirEntry, below: &str) -> Result<(), PackageError> {
        let path = entry.path();
        let unreadable = |source| PackageError::Unreadable { path: path.clone(), source };
        let metadata = entry.metadata().map_err(unreadable)?;
        let join = |name: &str| if below.is_empty() { name.to_owned() } else { format!("{below}/{name}") };
        let name = match entry.file_name().to_str() {
            Some(name) => Ok(join(name)),
            None => Err((join(&entry.file_name().to_string_lossy()), NameProblem::NotText)),
        };
        let kind = if metadata.is_symlink() {
            let target = fs::read_link(&path).map_err(unreadable)?;
            RawKind::Link { target: target.to_string_lossy().into_owned() }
        } else if metadata.is_dir() {
            RawKind::Folder
        } else if metadata.is_file() {
            RawKind::File { size_bytes: metadata.len() }
        } else {
            return Err(PackageError::NeitherFileNorFolder { path });
        };
        let enter = matches!(kind, RawKind::Folder).then(|| name.clone().unwrap_or_else(|(shown, _)| shown));
        self.members.push(RawMember {
            name,
            backslash_separates: false,
            kind,
            modified: seconds_of(&metadata),
            executable: executable(&metadata),
            source: self.files.len(),
        });
        self.files.push(path.clone());
        match enter {
            Some(below) => self.enter(&path, &below),
            None => Ok(()),
        }
    }
}

fn seconds_of(metadata: &fs::Metadata) -> i64 {
    let Ok(time) = metadata.modified() else { return 0 };
    match time.duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_secs()).unwrap_or(0),
        Err(before) => -i64::try_from(before.duration().as_secs()).unwrap_or(0),
    }
}

#[cfg(unix)]
fn executable(metadata: &fs::Metadata) -> Option<bool> {
    use std::os::unix::fs::PermissionsExt;
    Some(metadata.permissions().mode() & 0o111 != 0)
}

fn open(path: &Path) -> std::io::Result<File> {
    quietly(path, || File::open(path))
}

#[cfg(not(unix))]
fn executable(_metadata: &fs::Metadata) -> Option<bool> {
    None
}
