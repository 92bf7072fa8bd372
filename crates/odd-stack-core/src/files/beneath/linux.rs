//! On Linux: in one call that refuses every link on the way (`openat2`, Linux 5.6), and what is done is done in that
//! folder, wherever its path leads by then. Older systems act by paths.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{OnceLock, PoisonError, RwLock};

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags, openat, openat2};
use rustix::io::Errno;

/// The folders that nothing leads out of.
#[derive(Debug, Default)]
pub(in crate::files) struct Fences(RwLock<Vec<Fence>>);

#[derive(Debug)]
struct Fence {
    folder: PathBuf,
    /// Opened when it is first needed.
    handle: OnceLock<OwnedFd>,
}

const FOLDER: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

impl Fences {
    /// Sets them; those of before are none any more.
    pub(in crate::files) fn set(&self, folders: &[PathBuf]) {
        let mut fences = self.0.write().unwrap_or_else(PoisonError::into_inner);
        let new = |folder: &PathBuf| Fence { folder: folder.clone(), handle: OnceLock::new() };
        *fences = folders.iter().map(new).collect();
    }

    /// Calls `act` with the folder that `path` lies in, and its name there.
    ///
    /// # Errors
    /// Those of `act`, of opening the folder, and [`io::ErrorKind::NotADirectory`] where a link lies on the way.
    pub(in crate::files) fn at<T>(
        &self,
        path: &Path,
        act: impl FnOnce(BorrowedFd<'_>, &Path) -> io::Result<T>,
    ) -> io::Result<T> {
        let fences = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let inside = fences.iter().find_map(|fence| Some((fence, path.strip_prefix(&fence.folder).ok()?)));
        let Some((fence, (parent, name))) = inside.and_then(|(fence, below)| Some((fence, split(below)?)))
        else {
            return act(CWD, path);
        };
        let root = match fence.handle.get() {
            Some(root) => root,
            None => {
                let opened = openat(CWD, &fence.folder, FOLDER, Mode::empty())?;
                fence.handle.get_or_init(|| opened)
            }
        };
        if parent.as_os_str().is_empty() {
            return act(root.as_fd(), Path::new(name));
        }
        let refused = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match openat2(root, parent, FOLDER, Mode::empty(), refused) {
            Ok(folder) => act(folder.as_fd(), Path::new(name)),
            Err(Errno::NOSYS | Errno::PERM) => act(CWD, path),
            Err(Errno::LOOP | Errno::XDEV) => Err(super::super::beneath::link_on_the_way()),
            // Another program moved something meanwhile.
            Err(Errno::AGAIN) => Err(io::ErrorKind::ResourceBusy.into()),
            Err(error) => Err(error.into()),
        }
    }
}

fn split(below: &Path) -> Option<(&Path, &OsStr)> {
    Some((below.parent()?, below.file_name()?))
}
