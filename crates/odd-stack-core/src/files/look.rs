//! Looking at the disk without changing or following anything.

use std::fs::{self, Metadata};
use std::io;
use std::path::Path;
use std::time::UNIX_EPOCH;

use super::patience::quietly;
use crate::stack::BaseKind;

/// One thing on disk, as a quick look tells it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Seen {
    pub kind: BaseKind,
    pub size_bytes: u64,
    pub modified_ns: i64,
    /// When its content or anything known of it changed last, in nanoseconds since 1970, where the system tells it;
    /// else 0. A rename counts, too, so this makes no two looks differ.
    pub changed_ns: i64,
    pub mode: u32,
}

impl PartialEq for Seen {
    fn eq(&self, other: &Self) -> bool {
        (self.kind, self.size_bytes, self.modified_ns, self.mode)
            == (other.kind, other.size_bytes, other.modified_ns, other.mode)
    }
}

impl Eq for Seen {}

impl Seen {
    pub(crate) fn of(metadata: &Metadata) -> Self {
        let kind = if metadata.is_symlink() {
            BaseKind::Link
        } else if metadata.is_dir() {
            BaseKind::Folder
        } else if metadata.is_file() {
            BaseKind::File
        } else {
            BaseKind::Other
        };
        Self {
            kind,
            size_bytes: metadata.len(),
            modified_ns: modified_ns(metadata),
            changed_ns: changed_ns(metadata),
            mode: mode(metadata),
        }
    }
}

/// What lies at `path`, or `None` if nothing does. Links are not followed.
pub(crate) fn look_at(path: &Path) -> io::Result<Option<Seen>> {
    match quietly(path, || fs::symlink_metadata(path)) {
        Ok(metadata) => Ok(Some(Seen::of(&metadata))),
        Err(error) if is_nothing_there(&error) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Whether the error only says that nothing lies there, also when a file stands where a folder of
/// the path should be.
pub(crate) fn is_nothing_there(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

fn modified_ns(metadata: &Metadata) -> i64 {
    let Ok(time) = metadata.modified() else { return 0 };
    match time.duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_nanos()).unwrap_or(i64::MAX),
        Err(before) => i64::try_from(before.duration().as_nanos()).map_or(i64::MIN, |ns| -ns),
    }
}

#[cfg(unix)]
fn changed_ns(metadata: &Metadata) -> i64 {
    use std::os::unix::fs::MetadataExt;
    metadata.ctime().saturating_mul(1_000_000_000).saturating_add(metadata.ctime_nsec())
}

#[cfg(not(unix))]
fn changed_ns(_metadata: &Metadata) -> i64 {
    0
}

#[cfg(unix)]
fn mode(metadata: &Metadata) -> u32 {
    use std::os::unix::fs::PermissionsExt;
    metadata.permissions().mode() & 0o7777
}

#[cfg(not(unix))]
fn mode(metadata: &Metadata) -> u32 {
    if metadata.permissions().readonly() { 0o444 } else { 0o644 }
}

/// Whether two paths lead to the same folder, whatever links lead there.
pub(crate) fn is_one_folder(one: &Path, two: &Path) -> bool {
    let real = |folder: &Path| fs::canonicalize(folder).unwrap_or_else(|_| folder.to_path_buf());
    real(one) == real(two)
}

/// Whether two existing folders lie on one volume, so that a rename between them copies nothing.
#[cfg(unix)]
pub(crate) fn is_one_volume(one: &Path, two: &Path) -> io::Result<bool> {
    use std::os::unix::fs::MetadataExt;
    Ok(fs::metadata(one)?.dev() == fs::metadata(two)?.dev())
}

/// Whether two existing folders lie on one volume, so that a rename between them copies nothing.
#[cfg(windows)]
pub(crate) fn is_one_volume(one: &Path, two: &Path) -> io::Result<bool> {
    Ok(super::windows::volume_of(one)? == super::windows::volume_of(two)?)
}
