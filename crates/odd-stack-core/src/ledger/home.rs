//! The list of the games, kept in the data home as `games.toml`.
//!
//! The list says only where each ledger lies; all else of a game is in its ledger.

use std::path::{Path, PathBuf};
use std::time::Duration;
use std::{fs, io};

use serde::{Deserialize, Serialize};

use super::{CATALOGUE_FILE, LedgerError, Lock};
use crate::files::{firmly, quietly};

const LIST: &str = "games.toml";
const LEDGERS: &str = "ledgers";

/// One game of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Registered {
    /// The user's name for it.
    pub name: String,
    /// The folder of its ledger, absolute.
    pub ledger: PathBuf,
    /// It is being let go: its ledger is removed, and it is no longer in the list.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaving: bool,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct List {
    #[serde(default)]
    game: Vec<Registered>,
}

/// The data home.
#[derive(Debug, Clone)]
pub struct Home {
    folder: PathBuf,
}

impl Home {
    /// The home in `folder`, which need not exist yet.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    /// The folder of the home.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Where ledgers lie when nothing else is said.
    pub fn ledgers(&self) -> PathBuf {
        self.folder.join(LEDGERS)
    }

    /// The file that the list is in.
    pub fn list_path(&self) -> PathBuf {
        self.folder.join(LIST)
    }

    /// All the games, in order of registration.
    ///
    /// # Errors
    /// [`LedgerError::Registry`] or [`LedgerError::Io`].
    pub fn games(&self) -> Result<Vec<Registered>, LedgerError> {
        let mut games = self.all()?;
        games.retain(|game| !game.leaving);
        Ok(games)
    }

    /// All that the list has, those that are being let go as well.
    pub(crate) fn all(&self) -> Result<Vec<Registered>, LedgerError> {
        let path = self.folder.join(LIST);
        match quietly(&path, || fs::read_to_string(&path)) {
            Ok(text) => {
                let list: List = toml::from_str(&text)
                    .map_err(|error| LedgerError::Registry { path, reason: error.message().to_owned() })?;
                let mut games = list.game;
                self.find_beside(&mut games);
                Ok(games)
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(LedgerError::io("read", &path)(error)),
        }
    }

    /// A ledger that is not where it was lies here, if the home was moved with all that is in it.
    fn find_beside(&self, games: &mut [Registered]) {
        for at in 0..games.len() {
            let ledger = &games[at].ledger;
            let was_in_home = ledger.parent().and_then(Path::file_name).is_some_and(|name| name == LEDGERS);
            let Some(name) = ledger.file_name().filter(|_| was_in_home && !ledger.exists()) else { continue };
            let beside = self.ledgers().join(name);
            let is_anothers = games.iter().any(|other| other.ledger == beside);
            if !is_anothers && beside.join(CATALOGUE_FILE).is_file() {
                games[at].ledger = beside;
            }
        }
    }

    /// Changes the list as one step; two processes do so one after the other.
    ///
    /// # Errors
    /// The change's own, or those of reading and writing; the list is then as it was.
    pub fn change<T, E: From<LedgerError>>(
        &self,
        change: impl FnOnce(&mut Vec<Registered>) -> Result<T, E>,
    ) -> Result<T, E> {
        fs::create_dir_all(&self.folder).map_err(LedgerError::io("create", &self.folder))?;
        let _lock = Lock::take(&self.folder, "game", Duration::from_secs(10))?;
        let mut list = List { game: self.all()? };
        let result = change(&mut list.game)?;
        let path = self.folder.join(LIST);
        let text = toml::to_string(&list)
            .map_err(|error| LedgerError::Registry { path: path.clone(), reason: error.to_string() })?;
        write_whole(&path, text.as_bytes())?;
        Ok(result)
    }
}

/// Replaces a small file so that it is the old or the new one after any stop.
pub(super) fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), LedgerError> {
    let temporary = path.with_extension("new");
    let write = || {
        firmly(&temporary, || fs::write(&temporary, bytes))?;
        let open = || fs::OpenOptions::new().write(true).open(&temporary);
        firmly(&temporary, open)?.sync_all()?;
        firmly(path, || fs::rename(&temporary, path))
    };
    write().map_err(LedgerError::io("write", path))
}
