//! What a package holds, as values: its files and folders.

use crate::address::RelPath;

/// One file of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Where it lies in the package, every folder spelled in one way.
    pub path: RelPath,
    /// Size of the content, unpacked.
    pub size_bytes: u64,
    /// Modification time in seconds since 1970, always even (the coarsest disks keep no more).
    pub modified: i64,
    /// Whether it may be run, where the package says so.
    pub executable: Option<bool>,
    /// The path of the link that this member is a copy for, when it is one.
    pub copy_of: Option<RelPath>,
    /// The archive inside the package that it lies in, with its `!`; none for a member of the package
    /// itself.
    pub inner: Option<RelPath>,
    /// The package's number of the content, the same for members that are copies of each other.
    pub content: usize,
}

/// One folder of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// Where it lies in the package.
    pub path: RelPath,
    /// The archive inside the package that it lies in, as [`Member::inner`].
    pub inner: Option<RelPath>,
}

/// Whether a file of this name is most likely an archive that somebody wrapped.
pub fn is_named_like_an_archive(name: &str) -> bool {
    const ENDINGS: [&str; 11] = [
        ".zip", ".7z", ".rar", ".tar", ".tgz", ".tbz2", ".txz", ".tar.gz", ".tar.bz2", ".tar.xz", ".tar.zst",
    ];
    let name = name.to_lowercase();
    ENDINGS.iter().any(|ending| name.ends_with(ending))
}
