//! What can go wrong with a ledger.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Why a ledger can't be used. Unless a variant says otherwise, nothing was changed.
#[derive(Debug, Error)]
pub enum LedgerError {
    /// The folder holds no ledger.
    #[error("there is no ledger at {}: was it moved, or is its disk not plugged in?", folder.display())]
    Missing {
        /// Where it should be.
        folder: PathBuf,
    },
    /// The catalogue can't be read as what it should be.
    #[error("the ledger at {} is damaged: {reason}", folder.display())]
    Damaged {
        /// The ledger.
        folder: PathBuf,
        /// What is wrong.
        reason: String,
    },
    /// Made by a later version of this program.
    #[error("the ledger at {} was made by a newer Odd Stack (format {found}); use that one", folder.display())]
    TooNew {
        /// The ledger.
        folder: PathBuf,
        /// Its format number.
        found: i64,
    },
    /// Another process is changing this game.
    #[error("{holder} is changing this game; try again when it is done")]
    Busy {
        /// The process, as it wrote itself down.
        holder: String,
    },
    /// SQLite refused something.
    #[error("the catalogue of the ledger at {} failed", folder.display())]
    Catalogue {
        /// The ledger.
        folder: PathBuf,
        /// Why.
        source: rusqlite::Error,
    },
    /// The file system refused something.
    #[error("can't {action} {}", path.display())]
    Io {
        /// What was tried.
        action: &'static str,
        /// On what.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// A stored content or a kept original is gone or cut short.
    #[error("the ledger has lost {what}: {} is missing or damaged", path.display())]
    ContentLost {
        /// Whose content.
        what: String,
        /// The stored file.
        path: PathBuf,
    },
    /// The list of games can't be read.
    #[error("the list of games at {} can't be read: {reason}", path.display())]
    Registry {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// No room for the catalogue.
    #[error(
        "the disk that {} is on is full ({free_bytes} bytes free): make room there, 16 MB at least, and run this again",
        folder.display()
    )]
    NoRoom {
        /// The ledger.
        folder: PathBuf,
        /// Bytes there.
        free_bytes: u64,
    },
    /// The ledger can't be written to.
    #[error("the ledger at {} can't be written to: is it, or its disk, write-protected?", folder.display())]
    ReadOnly {
        /// The ledger.
        folder: PathBuf,
    },
    /// Too little room for what is to be stored.
    #[error("{} needs {needed_bytes} bytes and has {free_bytes} free; make room and run this again", folder.display())]
    DiskFull {
        /// The folder on the full volume.
        folder: PathBuf,
        /// Bytes needed.
        needed_bytes: u64,
        /// Bytes there.
        free_bytes: u64,
    },
}

impl LedgerError {
    pub(crate) fn io(action: &'static str, path: impl AsRef<Path>) -> impl FnOnce(io::Error) -> Self {
        let path = path.as_ref().to_path_buf();
        move |source| Self::Io { action, path, source }
    }
}
