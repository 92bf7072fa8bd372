//! The front door: how a face comes to games in care.
//!
//! A ledger is opened, and the permission to change it taken, only here, so that nothing of what belongs to it can be
//! forgotten: what an earlier command left half done is finished or taken back, the marks in the game's folders are put
//! again, and nothing changes under a running game unless that is said.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use crate::Moment;
use crate::change::{ChangeError, ChangeOptions, Prepared, Recovered};
use crate::files::{RealDisk, Seam, is_one_folder};
use crate::game::Running;
use crate::jobs::{
    AddError, AddRequest, Adding, CareError, CareReport, CareRequest, Permit, Reorder, StackReport, heal,
    prepare_add, prepare_reorder, running, select_game, stack, take_into_care,
};
use crate::ledger::{CareMark, Home, Ledger, LedgerError, OngoingKind, Registered};
use crate::observer::{Observer, Silent};

/// Whether a game may be changed while a program of it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhileRunning {
    /// It is refused: files change under the program, which may write over them again.
    #[default]
    Refuse,
    /// A person wants it all the same, or nothing will be changed.
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

/// Why something asked of a game was not done. Nothing was changed.
#[derive(Debug, Error)]
pub enum FrontError {
    /// No one game in care is meant by the name.
    #[error("`{name}` names no one game in care")]
    NoSuchGame {
        /// What was given.
        name: String,
    },
    /// The list of games or a ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The permission was not given.
    #[error(transparent)]
    NoPermission(#[from] NoPermission),
    /// The package can't become a layer.
    #[error(transparent)]
    Add(#[from] AddError),
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
}

/// Everything that is in care from one data home.
pub struct OddStack<'o> {
    home: Home,
    seam: Arc<dyn Seam>,
    observer: &'o dyn Observer,
    command: String,
    wait: Duration,
}

impl std::fmt::Debug for OddStack<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("OddStack").field("home", &self.home).finish_non_exhaustive()
    }
}

impl OddStack<'static> {
    /// Takes the data home in `folder`, which need not be there yet. Nothing is read before it is asked for.
    pub fn open(folder: impl Into<PathBuf>) -> Self {
        Self {
            home: Home::new(folder.into()),
            seam: Arc::new(RealDisk::default()),
            observer: &Silent,
            command: "another program".to_owned(),
            wait: Duration::from_secs(10),
        }
    }
}

impl<'o> OddStack<'o> {
    /// Another way to the file system.
    #[must_use]
    pub fn through(mut self, seam: Arc<dyn Seam>) -> Self {
        self.seam = seam;
        self
    }

    /// Who is told how far things are, and can stop them.
    pub fn observed_by<'n>(self, observer: &'n dyn Observer) -> OddStack<'n> {
        let Self { home, seam, command, wait, .. } = self;
        OddStack { home, seam, observer, command, wait }
    }

    /// What others are told who want to change a game meanwhile, and how long they are waited for.
    #[must_use]
    pub fn asked_for(mut self, command: &str, wait: Duration) -> Self {
        command.clone_into(&mut self.command);
        self.wait = wait;
        self
    }

    /// The list of games.
    pub fn home(&self) -> &Home {
        &self.home
    }

    /// Takes a game into care.
    ///
    /// # Errors
    /// [`CareError`]; nothing was changed.
    pub fn register(&self, request: &CareRequest, now: Moment) -> Result<CareReport, CareError> {
        take_into_care(&self.home, request, now, false, Arc::clone(&self.seam), self.observer)
    }

    /// Opens the game that is meant by a name or by its unique beginning.
    ///
    /// # Errors
    /// [`FrontError`].
    pub fn game(&self, name: &str) -> Result<Opened, FrontError> {
        let games = self.home.games()?;
        match select_game(&games, name) {
            Ok(game) => Ok(self.open_game(game)?),
            Err(_) => Err(FrontError::NoSuchGame { name: name.to_owned() }),
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
            })
        };
        Ok(self.home.games()?.into_iter().find(is_around))
    }

    /// Opens a game of the list: what was cut short is finished first, as far as that can be done now.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_game(&self, game: &Registered) -> Result<Opened, LedgerError> {
        let ledger = Ledger::open(&game.ledger, Arc::clone(&self.seam))?;
        CareMark::write_all(ledger.game(), ledger.folder(), &self.home);
        let (recovered, stuck) = match heal(&ledger, self.observer) {
            Ok(recovered) => (recovered, None),
            // Looking works all the same; what is changed stops at it.
            Err(error) => (None, Some(error)),
        };
        Ok(Opened { ledger, recovered, stuck })
    }

    /// The permission to change a game: waits for other processes, finishes what was cut short, and refuses while the
    /// game runs. While `kind` is under way only what belongs to it may be done.
    ///
    /// # Errors
    /// [`NoPermission`].
    pub fn permission(
        &self,
        ledger: &Ledger,
        kind: Option<OngoingKind>,
        while_running: WhileRunning,
    ) -> Result<Permit, NoPermission> {
        let permit = Permit::take_during(ledger, &self.command, self.wait, kind, self.observer)?;
        match while_running {
            WhileRunning::GoOn => Ok(permit),
            WhileRunning::Refuse => match running(ledger) {
                programs if programs.is_empty() => Ok(permit),
                programs => Err(NoPermission::Running(programs)),
            },
        }
    }

    /// The layers of a game from the top to the base.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn stack(&self, game: &Opened) -> Result<StackReport, LedgerError> {
        stack(&game.ledger)
    }

    /// Prepares to make a layer of a package and to put it onto the game. Look at the plan, then apply it or drop it.
    ///
    /// # Errors
    /// [`FrontError`]; nothing was changed.
    pub fn add<'g>(
        &self,
        game: &'g Opened,
        request: &AddRequest,
        options: ChangeOptions,
        now: Moment,
    ) -> Result<Adding<'g>, FrontError> {
        let permit = self.permission(&game.ledger, None, WhileRunning::Refuse)?;
        Ok(prepare_add(&game.ledger, permit, request, now, options, false, self.observer)?)
    }

    /// Prepares to lay, lift, move or remove layers; nothing where all is so already. Look at the plan, then apply it or
    /// drop it.
    ///
    /// # Errors
    /// [`FrontError`]; nothing was changed.
    pub fn reorder<'g>(
        &self,
        game: &'g Opened,
        reorder: &Reorder,
        options: ChangeOptions,
        now: Moment,
    ) -> Result<Option<Prepared<'g>>, FrontError> {
        let permit = self.permission(&game.ledger, None, WhileRunning::Refuse)?;
        let command = &self.command;
        Ok(prepare_reorder(&game.ledger, permit, reorder, command, now, options, self.observer)?)
    }
}

/// A game in care, opened.
#[derive(Debug)]
pub struct Opened {
    /// All that is known and stored of it.
    pub ledger: Ledger,
    /// What became of an earlier command that was cut short.
    pub recovered: Option<Recovered>,
    /// Why that can be neither finished nor taken back now; the game can be looked at all the same.
    pub stuck: Option<ChangeError>,
}

/// For tests that want to see what the front door mends.
#[doc(hidden)]
pub mod for_tests {
    use super::{Arc, ChangeError, Duration, Ledger, LedgerError, OngoingKind, Path, Permit, Seam, Silent};

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
        super::heal(ledger, &Silent).map(drop)
    }
}
