//! Moving the data home.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use std::{fs, io};

use thiserror::Error;

use super::roots::{existing_part, needs_side_folder};
use crate::change::ChangeError;
use crate::files::Seam;
use crate::jobs::Permit;
use crate::ledger::{GameMark, Home, Ledger, LedgerError};
use crate::observer::Observer;

/// Why the data home stays where it is.
#[derive(Debug, Error)]
pub enum MoveHomeError {
    /// A game is being changed, or something is under way in it.
    #[error("{game}: {source}")]
    InUse {
        /// The game's name.
        game: String,
        /// What it is.
        source: Box<ChangeError>,
    },
    /// The list of games or a ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// There is nothing to move.
    #[error("there is nothing at {}", home.display())]
    Nothing {
        /// The home.
        home: PathBuf,
    },
    /// Something is there already.
    #[error("{} is there already, with something in it; give a new or empty folder", to.display())]
    NotEmpty {
        /// Where it was to go.
        to: PathBuf,
    },
    /// The game's own files that lie aside there would have to be copied.
    #[error(
        "{} is on another disk than {}, where the games' own files that layers cover lie aside",
        to.display(), home.display()
    )]
    OtherDisk {
        /// The home.
        home: PathBuf,
        /// Where it was to go.
        to: PathBuf,
    },
}

/// Moves all that the data home holds to `to`, which is new or empty and on the same disk; gives the home there.
///
/// # Errors
/// [`MoveHomeError`]; the home is where it was.
pub fn move_home(
    home: &Home,
    to: &Path,
    seam: &Arc<dyn Seam>,
    observer: &dyn Observer,
) -> Result<Home, MoveHomeError> {
    if !home.list_path().is_file() {
        return Err(MoveHomeError::Nothing { home: home.folder().to_path_buf() });
    }
    if fs::read_dir(to).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(MoveHomeError::NotEmpty { to: to.to_path_buf() });
    }
    if needs_side_folder(home.folder(), &existing_part(to)) {
        return Err(MoveHomeError::OtherDisk { home: home.folder().into(), to: to.to_path_buf() });
    }
    for game in home.games()?.iter().filter(|game| game.ledger.starts_with(home.folder())) {
        let ledger = Ledger::open(&game.ledger, Arc::clone(seam))?;
        // What was cut short has the old paths in its journal, and is done first.
        let permit = Permit::take_during(&ledger, "game move-home", Duration::ZERO, None, observer);
        drop(
            permit.map_err(|source| MoveHomeError::InUse {
                game: game.name.clone(),
                source: Box::new(source),
            })?,
        );
    }
    let moved = || -> io::Result<()> {
        if let Some(above) = to.parent() {
            fs::create_dir_all(above)?;
        }
        if to.is_dir() {
            fs::remove_dir(to)?;
        }
        seam.rename(home.folder(), to)
    };
    moved().map_err(LedgerError::io("move", home.folder()))?;
    let new = Home::new(to.to_path_buf());
    // Those that lay in it are found beside the list.
    new.change(|_| Ok::<_, LedgerError>(()))?;
    for game in new.games()? {
        if let Ok(ledger) = Ledger::open(&game.ledger, Arc::clone(seam)) {
            GameMark::write_all(ledger.game(), ledger.folder(), &new);
        }
    }
    Ok(new)
}
