//! A small mark in each root of a game in care, so that the game is known again where the list of games was lost, or
//! another data home is used: `.oddstack/care.toml`.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::home::write_whole;
use super::{Home, LedgerError};
use crate::address::SIDE_FOLDER;
use crate::disk::{hide_side_folder, is_nothing_there};
use crate::game::Game;

const NAME: &str = "care.toml";
const HEAD: &str = "# Odd Stack keeps this game. What belongs to it lies in the ledger named here; `oddstack game forget`\n\
                    # lets the game go, and takes this away.\n";

/// What a mark says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CareMark {
    /// The game's name.
    pub game: String,
    /// The root that it lies in.
    pub root: String,
    /// The ledger's folder.
    pub ledger: PathBuf,
    /// The data home whose list has the game.
    pub home: PathBuf,
}

fn path_in(root: &Path) -> PathBuf {
    root.join(SIDE_FOLDER).join(NAME)
}

impl CareMark {
    /// The mark in a root; nothing if there is none that can be read.
    pub fn read(root: &Path) -> Option<Self> {
        toml::from_str(&fs::read_to_string(path_in(root)).ok()?).ok()
    }

    /// Puts marks into all roots of a game that have none, or another. A root that can't be written to goes without.
    pub fn write_all(game: &Game, ledger: &Path, home: &Home) {
        for root in &game.roots {
            let mark = Self {
                game: game.name.clone(),
                root: root.name.to_string(),
                ledger: ledger.to_path_buf(),
                home: home.folder().to_path_buf(),
            };
            if root.folder.is_dir() && Self::read(&root.folder).as_ref() != Some(&mark) {
                // The mark only helps.
                let _ = mark.write(&root.folder);
            }
        }
    }

    fn write(&self, root: &Path) -> Result<(), LedgerError> {
        let path = path_in(root);
        let folder = root.join(SIDE_FOLDER);
        match fs::create_dir(&folder) {
            Ok(()) => hide_side_folder(&folder),
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                return Err(LedgerError::io("create", &path)(error));
            }
            Err(_) => {}
        }
        // Paths that are no text can't be written down.
        let text = toml::to_string(self)
            .map_err(|error| LedgerError::io("write", &path)(io::Error::other(error)))?;
        write_whole(&path, format!("{HEAD}{text}").as_bytes())
    }

    /// Takes the marks of one ledger away, and the folders that they lay in if nothing else is in these.
    pub(crate) fn remove_all(game: &Game, ledger: &Path) -> Result<(), LedgerError> {
        for root in &game.roots {
            let is_its_own = Self::read(&root.folder).is_some_and(|mark| mark.ledger == ledger);
            if !is_its_own {
                continue;
            }
            let path = path_in(&root.folder);
            match fs::remove_file(&path) {
                Err(error) if !is_nothing_there(&error) => {
                    return Err(LedgerError::io("remove", &path)(error));
                }
                _ => {}
            }
            // Something of the user's may be in it.
            let _ = fs::remove_dir(root.folder.join(SIDE_FOLDER));
        }
        Ok(())
    }
}
