//! On Windows: each folder on the way is opened itself, never what it stands for (`FILE_FLAG_OPEN_REPARSE_POINT`), and
//! without leave for others to delete it. While such a handle is open, the system refuses to rename or remove the folder
//! (learn.microsoft.com, CreateFileW, `dwShareMode`), so that the path means the same until it has been acted on. Only a
//! handle that asks for some access to the content counts for that. An empty folder could still be made a junction in
//! place; what is put through it lands outside, nothing of what lies there is touched. Elsewhere paths are acted on.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock};

/// The folders that nothing leads out of.
#[derive(Debug, Default)]
pub(in crate::files) struct Fences(RwLock<Vec<PathBuf>>);

/// Folders that are kept in their places until this is dropped.
#[derive(Debug)]
#[must_use = "the folders are held only as long as it lives"]
pub(in crate::files) struct Held(#[expect(dead_code, reason = "only held open")] Vec<File>);

impl Fences {
    /// Sets them; those of before are none any more.
    pub(in crate::files) fn set(&self, folders: &[PathBuf]) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = folders.to_vec();
    }

    /// Holds all folders on the way from a fence to what lies at `path`.
    ///
    /// # Errors
    /// Those of opening them, and [`io::ErrorKind::NotADirectory`] where a link lies on the way.
    pub(in crate::files) fn hold(&self, path: &Path) -> io::Result<Held> {
        let fences = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let mut held = Vec::new();
        let inside = fences.iter().find_map(|fence| Some((fence, path.strip_prefix(fence).ok()?)));
        if let Some((fence, parent)) = inside.and_then(|(fence, below)| Some((fence, below.parent()?))) {
            let mut folder = fence.clone();
            held.extend(open(&folder, true)?);
            for name in parent {
                folder.push(name);
                held.extend(open(&folder, false)?);
            }
        }
        Ok(Held(held))
    }
}

/// Opens a folder so that nobody can put another in its place. A fence itself may be a link.
#[cfg(windows)]
fn open(folder: &Path, is_fence: bool) -> io::Result<Option<File>> {
    use std::os::windows::fs::OpenOptionsExt;

    // learn.microsoft.com/windows/win32/fileio/file-security-and-access-rights, and CreateFileW.
    const LIST_DIRECTORY: u32 = 0x1;
    const SHARE_READ_AND_WRITE: u32 = 0x1 | 0x2;
    const BACKUP_SEMANTICS: u32 = 0x0200_0000;
    const OPEN_REPARSE_POINT: u32 = 0x0020_0000;
    let flags = if is_fence { BACKUP_SEMANTICS } else { BACKUP_SEMANTICS | OPEN_REPARSE_POINT };
    let mut options = File::options();
    let file = options
        .access_mode(LIST_DIRECTORY)
        .share_mode(SHARE_READ_AND_WRITE)
        .custom_flags(flags)
        .open(folder)?;
    let kind = file.metadata()?.file_type();
    match kind.is_symlink() {
        true => Err(super::super::beneath::link_on_the_way()),
        false if kind.is_dir() => Ok(Some(file)),
        false => Err(io::ErrorKind::NotADirectory.into()),
    }
}

#[cfg(not(windows))]
fn open(_folder: &Path, _is_fence: bool) -> io::Result<Option<File>> {
    Ok(None)
}

#[cfg(all(test, windows))]
mod tests {
    use std::fs;

    use super::*;

    /// Wine shows links of the system beneath as folders and makes none itself, so that refusing one is not tried there.
    #[test]
    fn a_folder_that_is_held_stays_in_its_place() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("game/data/deep")).unwrap();
        fs::write(at("game/data/deep/a"), "a").unwrap();
        let fences = Fences::default();
        fences.set(&[at("game")]);
        let held = fences.hold(&at("game/data/deep/a")).unwrap();
        for name in ["game", "game/data", "game/data/deep"] {
            assert!(fs::rename(at(name), at("elsewhere")).is_err(), "{name}");
        }
        // What lies in them can be acted on.
        fs::write(at("game/data/deep/b"), "b").unwrap();
        fs::rename(at("game/data/deep/a"), at("game/data/c")).unwrap();
        drop(held);
        fs::rename(at("game/data/deep"), at("elsewhere")).unwrap();
        assert!(fences.hold(&at("game/data/deep/a")).is_err());
        assert!(fences.hold(&at("game/data/c/x")).is_err(), "a file is no folder");
        drop(fences.hold(&at("outside/none/x")).unwrap());
    }
}
