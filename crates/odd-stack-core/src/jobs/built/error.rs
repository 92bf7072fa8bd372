//! Why a second folder is not built.

use std::io;
use std::path::PathBuf;

use thiserror::Error;

use crate::change::ChangeError;
use crate::jobs::LineupError;
use crate::ledger::LedgerError;

/// A root of the game of which it must be said what becomes of it in a second folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenRoot {
    /// Its name.
    pub root: String,
    /// Its folder.
    pub folder: PathBuf,
    /// Files that the lineup's layers have there.
    pub files: u64,
    /// A folder that it could have, beside the second folder of the game.
    pub proposed: PathBuf,
}

/// Why a second folder of the game is not built. Unless it is [`BuildError::CutShort`] nothing was changed.
#[derive(Debug, Error)]
pub enum BuildError {
    /// The lineup can't be read, or the ledger failed.
    #[error(transparent)]
    Lineup(#[from] LineupError),
    /// Nobody said where.
    #[error("the lineup `{lineup}` was never built; say in which folder")]
    NoFolder {
        /// The lineup.
        lineup: String,
    },
    /// It was built elsewhere.
    #[error("the lineup `{lineup}` is built in {} already", folder.display())]
    BuiltElsewhere {
        /// The lineup.
        lineup: String,
        /// Where.
        folder: PathBuf,
    },
    /// Another lineup's folder.
    #[error("{} is the folder of the lineup `{lineup}`", folder.display())]
    OfOther {
        /// The folder.
        folder: PathBuf,
        /// That lineup.
        lineup: String,
    },
    /// Something lies there.
    #[error("there is something in {} already; give a new or empty folder", folder.display())]
    NotEmpty {
        /// The folder.
        folder: PathBuf,
    },
    /// It would lie in the game, or around it.
    #[error("{} and {} lie one in the other; a second folder lies by itself", folder.display(), other.display())]
    Overlap {
        /// The folder.
        folder: PathBuf,
        /// The game's, the ledger's, or that of another root.
        other: PathBuf,
    },
    /// It can't be made there.
    #[error("{} can't be a folder of a game", folder.display())]
    BadFolder {
        /// The folder.
        folder: PathBuf,
    },
    /// A root that the game does not have.
    #[error("the game has no further root `{root}`")]
    NoSuchRoot {
        /// What was given.
        root: String,
    },
    /// It is not said what becomes of roots.
    #[error("layers of this lineup have files outside of the game's own folder; say what becomes of these")]
    RootsOpen {
        /// The roots.
        roots: Vec<OpenRoot>,
    },
    /// Somebody changed files in the second folder that are to be others.
    #[error("{} in the second folder were changed there, and the lineup has something new for them", if files.len() == 1 { "a file".to_owned() } else { format!("{} files", files.len()) })]
    Edited {
        /// Their addresses.
        files: Vec<String>,
    },
    /// A folder lies where a file should, or the reverse.
    #[error("{} is in the way", path.display())]
    InTheWay {
        /// What lies there.
        path: PathBuf,
    },
    /// A program in the second folder runs.
    #[error("the game in {} is running", folder.display())]
    Running {
        /// The second folder.
        folder: PathBuf,
    },
    /// Something can't be read.
    #[error("can't look at {}", path.display())]
    Look {
        /// What.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// It was begun and could not be finished.
    #[error("the second folder is not finished: {}", what)]
    CutShort {
        /// What happened.
        what: String,
        /// Why.
        source: Box<ChangeError>,
    },
}

impl From<LedgerError> for BuildError {
    fn from(error: LedgerError) -> Self {
        Self::Lineup(LineupError::Change(ChangeError::from(error)))
    }
}

impl From<ChangeError> for BuildError {
    fn from(error: ChangeError) -> Self {
        Self::Lineup(LineupError::Change(error))
    }
}
