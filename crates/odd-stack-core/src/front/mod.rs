//! The front door: everything that a face does goes through it.
//!
//! [`OddStack`] is all that one data home knows; [`OpenGame`] is one game of it, opened: it is asked (`asking`) and
//! changed (`changing`). A ledger is opened, and the permission to change it taken and given back, only here, so that
//! nothing of what belongs to it can be forgotten: what an earlier command left half done is finished or taken back, the
//! marks in the game's folders are put again, and nothing changes under a running game unless that is said.

mod asking;
mod changing;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use crate::Moment;
use crate::change::ChangeError;
use crate::check::CheckError;
use crate::files::{RealDisk, Seam, is_one_folder};
use crate::game::Running;
use crate::jobs::{
    FoundGame, MoveHomeError, MoveLedgerError, Permit, RegisterError, RegisterReport, RegisterRequest,
    RescueError, RescueReport, RescueRequest, built_around, find_games, game_in, heal, ledger_meant,
    list_again, move_home, move_ledger, register_game, rescue, running, select_game,
};
use crate::ledger::{GameMark, Home, Ledger, LedgerError, OngoingKind, Registered};
use crate::observer::{Observer, Silent};

pub use changing::Mender;

/// Whether a game may be changed while a program of it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhileRunning {
    /// It is refused: files change under the program, which may write over them again.
    #[default]
    Refuse,
    /// A person wants it all the same.
    GoOn,
}

/// Why the permission to change a game is not given. Nothing was changed.
#[derive(Debug, Error)]
pub enum NoPermission {
    /// Another process has it, something is under way, or what was cut short can't be finished.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// Programs of the game run.
    #[error("the game is running")]
    Running(Vec<Running>),
}

/// Why a change was not prepared. Nothing was changed.
#[derive(Debug, Error)]
pub enum Refused<E: std::error::Error + 'static> {
    /// The permission to change the game was not given.
    #[error(transparent)]
    NoPermission(#[from] NoPermission),
    /// The change can't be made.
    #[error(transparent)]
    Job(E),
}

/// Why a game was not opened.
#[derive(Debug, Error)]
pub enum OpenError {
    /// The name means no one game.
    #[error("`{name}` is not the name of a game that was added")]
    NoSuchGame {
        /// What was given.
        name: String,
        /// The names of all games.
        known: Vec<String>,
    },
    /// The list of games or a ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

/// All games that were added to one data home.
#[derive(Clone)]
pub struct OddStack {
    home: Home,
    seam: Arc<dyn Seam>,
    observer: Arc<dyn Observer>,
    command: String,
    wait: Duration,
    time: Option<Moment>,
    while_running: WhileRunning,
}

impl std::fmt::Debug for OddStack {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("OddStack").field("home", &self.home).finish_non_exhaustive()
    }
}

impl OddStack {
    /// Takes the data home in `folder`, which need not be there yet. Nothing is read before it is asked for.
    pub fn open(folder: impl Into<PathBuf>) -> Self {
        Self {
            home: Home::new(folder.into()),
            seam: Arc::new(RealDisk::default()),
            observer: Arc::new(Silent),
            command: "another program".to_owned(),
            wait: Duration::from_secs(10),
            time: None,
            while_running: WhileRunning::Refuse,
        }
    }

    /// Another way to the file system.
    #[must_use]
    pub fn through(mut self, seam: Arc<dyn Seam>) -> Self {
        self.seam = seam;
        self
    }

    /// Who is told how far things are and what a person should know, and can stop them.
    #[must_use]
    pub fn observed_by(mut self, observer: Arc<dyn Observer>) -> Self {
        self.observer = observer;
        self
    }

    /// What others are told who want to change a game meanwhile, and how long they are waited for.
    #[must_use]
    pub fn asked_for(mut self, command: &str, wait: Duration) -> Self {
        command.clone_into(&mut self.command);
        self.wait = wait;
        self
    }

    /// The time that is noted with what is done; otherwise that of the system's clock.
    #[must_use]
    pub fn at(mut self, time: Moment) -> Self {
        self.time = Some(time);
        self
    }

    /// Whether a game may be changed while it runs.
    #[must_use]
    pub fn while_running(mut self, while_running: WhileRunning) -> Self {
        self.while_running = while_running;
        self
    }

    /// The list of games.
    pub fn home(&self) -> &Home {
        &self.home
    }

    /// The time that changes are noted with: the one it was given, else that of the clock.
    pub fn now(&self) -> Moment {
        self.time.unwrap_or_else(Moment::of_clock)
    }

    /// Adds a game, or only says what would be added.
    ///
    /// # Errors
    /// [`RegisterError`]; nothing was changed.
    pub fn register(
        &self,
        request: &RegisterRequest,
        dry_run: bool,
    ) -> Result<RegisterReport, RegisterError> {
        let seam = Arc::clone(&self.seam);
        register_game(&self.home, request, self.now(), dry_run, seam, &*self.observer)
    }

    /// Looks for games in folders.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn find_games(&self, folders: &[PathBuf]) -> Result<Vec<FoundGame>, CheckError> {
        find_games(&self.home, folders, &self.seam, &*self.observer)
    }

    /// The game in a folder itself, where one is.
    ///
    /// # Errors
    /// [`CheckError`].
    pub fn game_in(&self, folder: &Path) -> Result<Option<FoundGame>, CheckError> {
        game_in(&self.home, folder, &self.seam, &*self.observer)
    }

    /// Moves the data home into a new or empty folder.
    ///
    /// # Errors
    /// [`MoveHomeError`]; the home is where it was.
    pub fn move_home(&mut self, to: &Path) -> Result<(), MoveHomeError> {
        self.home = move_home(&self.home, to, &self.seam, &*self.observer)?;
        Ok(())
    }

    /// Moves the ledger of a game of the list into a new or empty folder; gives the game as the list has it then.
    ///
    /// # Errors
    /// [`MoveLedgerError`]; the ledger is where it was.
    pub fn move_ledger(&self, game: &Registered, to: &Path) -> Result<Registered, MoveLedgerError> {
        let may_run = self.while_running == WhileRunning::GoOn;
        move_ledger(&self.home, game, (to, may_run), &self.seam, self.wait, &*self.observer)
    }

    /// Puts ledgers that the list of games has lost into it again, or only gives their names.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn list_again(&self, dry_run: bool) -> Result<Vec<String>, LedgerError> {
        list_again(&self.home, &self.seam, dry_run)
    }

    /// The folder of the ledger that a name or a folder means, whether or not it can be opened.
    ///
    /// # Errors
    /// [`RescueError`].
    pub fn ledger_meant(&self, text: &str) -> Result<PathBuf, RescueError> {
        ledger_meant(&self.home, text)
    }

    /// Says what of a damaged ledger is whole, and rebuilds what can be rebuilt when `agrees` says so.
    ///
    /// # Errors
    /// [`RescueError`]; what was whole still is.
    pub fn rescue(
        &self,
        request: &RescueRequest,
        agrees: &mut dyn FnMut(&RescueReport) -> bool,
    ) -> Result<RescueReport, RescueError> {
        rescue(&self.home, request, &self.seam, agrees, &*self.observer)
    }

    /// Opens the game that is meant by a name or by its unique beginning.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn game(&self, name: &str) -> Result<OpenGame, OpenError> {
        let games = self.home.games()?;
        match select_game(&games, name) {
            Ok(game) => Ok(self.open_game(game)?),
            Err(known) => Err(OpenError::NoSuchGame { name: name.to_owned(), known }),
        }
    }

    /// The game of the list that has a root around a folder.
    ///
    /// # Errors
    /// [`LedgerError`] of the list; ledgers that can't be opened are passed over.
    pub fn game_around(&self, folder: &Path) -> Result<Option<Registered>, LedgerError> {
        let is_around = |game: &Registered| {
            Ledger::open(&game.ledger, Arc::clone(&self.seam)).is_ok_and(|ledger| {
                let roots = &ledger.game().roots;
                folder.ancestors().any(|above| roots.iter().any(|root| is_one_folder(above, &root.folder)))
                    || built_around(&ledger, folder).is_ok_and(|built| built.is_some())
            })
        };
        Ok(self.home.games()?.into_iter().find(is_around))
    }

    /// Opens a game of the list: what was cut short is finished first, as far as that can be done now.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_game(&self, game: &Registered) -> Result<OpenGame, LedgerError> {
        let ledger = Ledger::open(&game.ledger, Arc::clone(&self.seam))?;
        GameMark::write_all(ledger.game(), ledger.folder(), &self.home);
        // Looking works all the same; what is changed stops at it.
        let stuck = heal(&ledger, &*self.observer).err();
        Ok(OpenGame { door: self.clone(), ledger, listed_name: game.name.clone(), stuck })
    }
}

/// A game that was added, opened. Every change of it is prepared first; it is made when the prepared value is applied, and nothing
/// is left of it when that is dropped, so a dry run is one that is dropped.
#[derive(Debug)]
pub struct OpenGame {
    door: OddStack,
    ledger: Ledger,
    listed_name: String,
    /// Why what was cut short can be neither finished nor taken back now; the game can be looked at all the same.
    pub stuck: Option<ChangeError>,
}

impl OpenGame {
    fn observer(&self) -> &dyn Observer {
        &*self.door.observer
    }

    /// The permission to change the game: waits for other processes, finishes what was cut short, and refuses while the
    /// game runs unless nothing will be changed. While `kind` is under way only what belongs to it may be done.
    fn permit(&self, kind: Option<OngoingKind>, dry_run: bool) -> Result<Permit, NoPermission> {
        let OddStack { command, wait, while_running, .. } = &self.door;
        let permit = Permit::take_during(&self.ledger, command, *wait, kind, self.observer())?;
        if dry_run || *while_running == WhileRunning::GoOn {
            return Ok(permit);
        }
        match running(&self.ledger) {
            programs if programs.is_empty() => Ok(permit),
            programs => Err(NoPermission::Running(programs)),
        }
    }
}

/// For tests that want to see what the front door mends.
#[doc(hidden)]
pub mod for_tests {
    use std::io::{self, Cursor, Read};

    use super::{Arc, ChangeError, Duration, Ledger, LedgerError, OngoingKind, Path, Permit, Seam, Silent};
    use crate::address::{Folding, RelPath};
    use crate::container::{Change, Contents, Directory, Old, Packed, lay_out, open_member, rebuild};
    use crate::files::Block;

    /// A ledger as it lies there.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_as_it_is(folder: &Path, seam: Arc<dyn Seam>) -> Result<Ledger, LedgerError> {
        Ledger::open(folder, seam)
    }

    /// The permission, whatever runs.
    ///
    /// # Errors
    /// [`ChangeError`].
    pub fn permit(ledger: &Ledger, wait: Duration, kind: Option<OngoingKind>) -> Result<Permit, ChangeError> {
        Permit::take_during(ledger, "test", wait, kind, &Silent)
    }

    /// Finishes what was cut short.
    ///
    /// # Errors
    /// [`ChangeError`].
    pub fn heal(ledger: &Ledger) -> Result<(), ChangeError> {
        super::heal(ledger, &Silent)
    }

    /// A container with a member put, one replaced and one taken away, if the bytes are one that can be changed; its
    /// members are read on the way.
    #[must_use]
    pub fn change_container(bytes: &[u8]) -> Option<Vec<u8>> {
        struct New;
        impl Contents for New {
            fn open(&self, _: usize) -> io::Result<Box<dyn Read + '_>> {
                Ok(Box::new(b"new".as_slice()))
            }
        }
        const MOST_READ_BYTES: u64 = 1 << 20;
        let (mut file, folding) = (Cursor::new(bytes), Folding::Folded);
        let directory = Directory::read(&mut file, folding).ok()?;
        let files: Vec<&Packed> = directory.members.iter().filter(|member| !member.is_folder).collect();
        for member in files.iter().take(8) {
            if let Ok(content) = open_member(Cursor::new(bytes), &directory, member) {
                let _ = io::copy(&mut content.take(MOST_READ_BYTES), &mut io::sink());
            }
        }
        let put = |path: RelPath| Change::Put { path, size_bytes: 3, modified: 1, content: 0 };
        let mut changes = vec![put(RelPath::from_disk("new/member.txt".to_owned()))];
        changes.extend(files.first().map(|member| Change::Remove { path: member.path.clone() }));
        changes.extend(files.iter().skip(1).last().map(|member| put(member.path.clone())));
        let layout = lay_out(&mut file, &directory, &changes, &New, folding).ok()?;
        let mut changed = Vec::new();
        let write = |blocks: &mut dyn Iterator<Item = Block>| {
            for block in blocks {
                changed.extend_from_slice(block.read()?);
            }
            Ok(())
        };
        rebuild(Cursor::new(bytes), &layout, &New, Old::Hashed, write).ok()?;
        Directory::read(&mut Cursor::new(&changed), folding).is_ok().then_some(changed)
    }
}
