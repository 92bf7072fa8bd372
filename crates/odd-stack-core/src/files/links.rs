//! Files with several names.

#[cfg(unix)]
use std::io;
use std::path::Path;

use crate::address::last_part;

/// What tells one file from all others of its system, and how many names it has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Identity {
    volume: u64,
    file: u64,
    /// How many names it has.
    pub names: u64,
}

/// Looks at a file; links are not followed where the system can say so.
#[cfg(unix)]
pub(crate) fn identity(path: &Path) -> io::Result<Identity> {
    use std::os::unix::fs::MetadataExt;
    let metadata = std::fs::symlink_metadata(path)?;
    Ok(Identity { volume: metadata.dev(), file: metadata.ino(), names: metadata.nlink() })
}

#[cfg(windows)]
pub(crate) use super::windows::identity_of as identity;

#[cfg(windows)]
impl Identity {
    pub(super) fn new(volume: u64, file: u64, names: u64) -> Self {
        Self { volume, file, names }
    }
}

/// Whether two paths are names of one file. What can't be told is not.
pub(crate) fn is_one_file(one: &Path, two: &Path) -> bool {
    match (identity(one), identity(two)) {
        (Ok(one), Ok(two)) => (one.volume, one.file) == (two.volume, two.file),
        _ => false,
    }
}

/// Whether programs seldom write to a file of that name: it is no program, no text, no log and no save.
pub(crate) fn is_seldom_written(path: &str) -> bool {
    const WRITTEN: [&str; 26] = [
        "exe", "dll", "so", "com", "bat", "cmd", "ps1", "sh", "msi", "txt", "md", "log", "ini", "cfg",
        "conf", "json", "xml", "toml", "yaml", "yml", "lua", "csv", "sav", "save", "db", "sqlite",
    ];
    let name = last_part(path);
    let ending = name.rsplit_once('.').map_or(String::new(), |(_, ending)| ending.to_lowercase());
    !ending.is_empty() && !WRITTEN.contains(&ending.as_str())
}
