//! A small mark in each root of a game that was added, so that the game is known again where the list of games was lost, or
//! another data home is used, and so that games which share a root know of each other: `.oddstack/care.toml`, and
//! `.oddstack/care-2.toml` for the second game there.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::{fs, io};

use serde::{Deserialize, Serialize};

use super::home::write_whole;
use super::{Home, Ledger, LedgerError};
use crate::address::SIDE_FOLDER;
use crate::files::{RealDisk, hide_side_folder, is_nothing_there};
use crate::game::{Game, Root};

const HEAD: &str = "# Odd Stack keeps this game. What belongs to it lies in the ledger named here. When the game is forgotten,\n\
                    # this goes with it.\n";

/// What a mark says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GameMark {
    /// The game's name.
    pub game: String,
    /// The root that it lies in.
    pub root: String,
    /// The ledger's folder.
    pub ledger: PathBuf,
    /// The data home whose list has the game.
    pub home: PathBuf,
}

/// What the name of a mark tells: the number of its game's share of the root.
fn share_of(file_name: &str) -> Option<u32> {
    match file_name.strip_prefix("care")?.strip_suffix(".toml")? {
        "" => Some(0),
        numbered => numbered.strip_prefix('-')?.parse().ok(),
    }
}

fn path_in(folder: &Path, share: u32) -> PathBuf {
    let name = if share == 0 { "care.toml".to_owned() } else { format!("care-{share}.toml") };
    folder.join(SIDE_FOLDER).join(name)
}

impl GameMark {
    /// The mark in a folder, that of the first game where several share it; nothing if there is none that can be read.
    pub fn read(folder: &Path) -> Option<Self> {
        Self::all_in(folder).into_iter().next().map(|(_, mark)| mark)
    }

    /// All marks in a folder that can be read, by the numbers of their games' shares.
    pub(crate) fn all_in(folder: &Path) -> Vec<(u32, Self)> {
        let there = fs::read_dir(folder.join(SIDE_FOLDER)).into_iter().flatten().flatten();
        let mut marks: Vec<(u32, Self)> = there
            .filter_map(|entry| {
                let share = share_of(entry.file_name().to_str()?)?;
                Some((share, Self::parse(&entry.path())?))
            })
            .collect();
        marks.sort_by_key(|(share, _)| *share);
        marks
    }

    fn parse(path: &Path) -> Option<Self> {
        toml::from_str(&fs::read_to_string(path).ok()?).ok()
    }

    fn of_root(root: &Root) -> Option<Self> {
        Self::parse(&path_in(&root.folder, root.share))
    }

    /// Puts marks into all roots of a game that have none, or another. A root that can't be written to goes without.
    /// Where one was gone, those of other games may be gone with it, and are put again as well.
    pub(crate) fn write_all(game: &Game, ledger: &Path, home: &Home) {
        if !Self::write_own(game, ledger, home) {
            return;
        }
        for other in home.games().unwrap_or_default().iter().filter(|other| other.ledger != ledger) {
            if let Ok(theirs) = Ledger::open(&other.ledger, Arc::new(RealDisk::default())) {
                Self::write_own(theirs.game(), &other.ledger, home);
            }
        }
    }

    /// Whether a mark was not there.
    fn write_own(game: &Game, ledger: &Path, home: &Home) -> bool {
        let mut has_written = false;
        for root in &game.roots {
            let mark = Self {
                game: game.name.clone(),
                root: root.name.to_string(),
                ledger: ledger.to_path_buf(),
                home: home.folder().to_path_buf(),
            };
            if root.folder.is_dir() && Self::of_root(root).as_ref() != Some(&mark) {
                // The mark only helps.
                has_written |= mark.write(root).is_ok();
            }
        }
        has_written
    }

    fn write(&self, root: &Root) -> Result<(), LedgerError> {
        let path = path_in(&root.folder, root.share);
        let folder = root.folder.join(SIDE_FOLDER);
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
        game.roots.iter().try_for_each(|root| Self::remove_from(&root.folder, ledger))
    }

    /// Takes the marks of one ledger out of a folder.
    pub(crate) fn remove_from(folder: &Path, ledger: &Path) -> Result<(), LedgerError> {
        for (share, mark) in Self::all_in(folder) {
            if mark.ledger != ledger {
                continue;
            }
            let path = path_in(folder, share);
            match fs::remove_file(&path) {
                Err(error) if !is_nothing_there(&error) => {
                    return Err(LedgerError::io("remove", &path)(error));
                }
                _ => {}
            }
            // Something of the user's may be in it.
            let _ = fs::remove_dir(folder.join(SIDE_FOLDER));
        }
        Ok(())
    }
}

/// Where what is private to a ledger's game may lie in a folder that is one of its roots, as far as marks tell.
pub(crate) fn side_folders_of(folder: &Path, ledger: &Path) -> Vec<PathBuf> {
    let of_share = |share| match share {
        0 => folder.join(SIDE_FOLDER),
        share => folder.join(SIDE_FOLDER).join(format!("shared-{share}")),
    };
    let marks = GameMark::all_in(folder);
    let own: Vec<PathBuf> =
        marks.iter().filter(|(_, mark)| mark.ledger == ledger).map(|(share, _)| of_share(*share)).collect();
    // A mark may be lost.
    let is_anothers = |share| marks.iter().any(|(of_mark, _)| *of_mark == share);
    match own.is_empty() && !is_anothers(0) {
        true => vec![of_share(0)],
        false => own,
    }
}

/// The first number of a share of `folder` that no game has.
pub(crate) fn free_share(folder: &Path) -> u32 {
    let marked = GameMark::all_in(folder).into_iter().map(|(share, _)| share);
    let there = fs::read_dir(folder.join(SIDE_FOLDER)).into_iter().flatten().flatten();
    let used =
        there.filter_map(|entry| entry.file_name().to_str()?.strip_prefix("shared-")?.parse::<u32>().ok());
    marked.chain(used).max().map_or(1, |highest| highest.saturating_add(1))
}
