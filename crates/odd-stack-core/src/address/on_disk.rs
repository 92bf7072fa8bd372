//! Paths on disk as people and systems write them.

use std::path::{Path, PathBuf};

/// A path without the mark `\\?\` by which Windows takes it literally (learn.microsoft.com, Naming Files, Paths, and
/// Namespaces): nobody types it, and it does not compare equal to the same path without it.
pub fn plain_path(path: &Path) -> PathBuf {
    let marked = path.to_str().filter(|_| cfg!(windows)).and_then(|text| text.strip_prefix(r"\\?\"));
    match marked {
        // Volumes without a letter can be written in no other way.
        Some(plain) if !plain.starts_with("Volume{") => match plain.strip_prefix(r"UNC\") {
            Some(share) => PathBuf::from(format!(r"\\{share}")),
            None => PathBuf::from(plain),
        },
        _ => path.to_path_buf(),
    }
}

/// Whether a text is a path on disk and no address: from the top of a disk, or from the current folder (`./`).
pub(crate) fn is_disk_path(text: &str) -> bool {
    let has_letter = text.starts_with(|c: char| c.is_ascii_alphabetic()) && text[1..].starts_with(':');
    let is_from_here = ["./", r".\", "../", r"..\"].iter().any(|start| text.starts_with(start));
    text.starts_with(['/', '\\']) || has_letter || is_from_here
}
