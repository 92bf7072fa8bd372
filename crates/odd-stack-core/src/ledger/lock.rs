//! One change at a time: having a [`Lock`] is the permission to change a ledger.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use super::LedgerError;
use crate::files::quietly;

const LOCK_FILE: &str = "lock";
/// A file of its own, since a locked one can't be read by others on Windows.
const HOLDER_FILE: &str = "lock-holder";
const LOOK_AGAIN_AFTER: Duration = Duration::from_millis(50);

/// The permission to change one ledger; given back when dropped, and by the system when the process
/// ends in any way.
#[derive(Debug)]
#[must_use = "the lock is given back when it is dropped"]
pub struct Lock {
    _file: File,
    holder: PathBuf,
}

impl Lock {
    /// Waits up to `wait` for the ledger in `folder`.
    ///
    /// # Errors
    /// [`LedgerError::Busy`], naming the process that has it.
    pub fn take(folder: &Path, command: &str, wait: Duration) -> Result<Self, LedgerError> {
        let lock = Self::take_silently(folder, wait)?;
        let text = format!("process {} ({command})", std::process::id());
        // Only read to tell who holds the lock, so a failure here is of no consequence.
        let _ = fs::write(&lock.holder, text);
        Ok(lock)
    }

    /// As [`Lock::take`], and tells nobody who holds it; for a moment.
    pub(crate) fn take_silently(folder: &Path, wait: Duration) -> Result<Self, LedgerError> {
        let path = folder.join(LOCK_FILE);
        let open = || OpenOptions::new().create(true).truncate(false).write(true).open(&path);
        let file = quietly(&path, open).map_err(LedgerError::io("open", &path))?;
        let begun = Instant::now();
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::WouldBlock) if begun.elapsed() < wait => thread::sleep(LOOK_AGAIN_AFTER),
                Err(TryLockError::WouldBlock) => return Err(LedgerError::Busy { holder: holder(folder) }),
                Err(TryLockError::Error(source)) => return Err(LedgerError::io("lock", &path)(source)),
            }
        }
        Ok(Self { _file: file, holder: folder.join(HOLDER_FILE) })
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        // While the lock is still held. A note that stays is written over by the next holder.
        let _ = fs::remove_file(&self.holder);
    }
}

fn holder(folder: &Path) -> String {
    match fs::read_to_string(folder.join(HOLDER_FILE)) {
        Ok(text) if !text.trim().is_empty() => text.trim().to_owned(),
        _ => "another process".to_owned(),
    }
}
