//! Everything Odd Stack knows of one game, in one folder.
//!
//! | in the ledger's folder | what it is | who writes it |
//! |---|---|---|
//! | `catalogue.sqlite` | game, base, layers, journal | `catalogue` |
//! | `catalogue.second`, `catalogue.sums` | a second copy of it, sums of its pages | `catalogue` |
//! | `blobs/ab/cdef...` | big stored contents, and programs, by BLAKE3 hash | `blobs` |
//! | `packs/N` | small stored contents, many in a file | `packs` |
//! | `lock`, `lock-holder` | who may change the game | `lock` |
//! | `originals/N` | base files that are covered, themselves | `disk` |
//! | `stage/`, `trash/` | files on their way in and out | `disk` |
//! | `kept/N/...` | drifted files that `--keep-edits` saved | `disk` |
//!
//! The last three lines lie in a side folder `.oddstack` of the root instead, when the root is on
//! another volume than the ledger: files move between them and the game by rename alone.

mod again;
mod blobs;
mod buffer;
pub(crate) mod catalogue;
mod contents;
mod error;
mod home;
mod linked;
mod lock;
mod mark;
mod order;
mod original_names;
mod other_games;
mod pack_format;
mod packs;
mod places;
mod private_room;
mod repack;
mod transaction;
mod volatile;

use std::cell::Cell;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use elsa::FrozenVec;

use crate::blend::LastRead;
use crate::files::{ORIGINALS, Seam, hide_side_folder};
use crate::game::{Game, Root};
use crate::stack::{PathId, RootId};
use packs::Packs;

pub use catalogue::{Layer, LayerState, NewLayer, Ongoing, OngoingKind};
pub use error::LedgerError;
pub use home::{Home, Registered};
pub use lock::Lock;
pub use mark::GameMark;
pub(crate) use mark::{free_share, side_folders_of};
pub(crate) use original_names::{Covering, NAMES, Named, covered, ensure_names, note_names, read_names};
pub use other_games::SharedWith;
pub(crate) use other_games::{OtherGames, games_sharing};
pub(crate) use private_room::{check_room, free_batch, make_private_folder};
pub(crate) use transaction::Transaction;

pub(crate) use again::{put_again, save_damaged};
pub(crate) use blobs::{Incoming, Intake, end_intake, is_intake_open, set_mark as mark_intake, sweep};
pub(crate) use catalogue::Catalogue;
pub(crate) use catalogue::{
    BuiltFolder, BuiltThing, ContainerList, FILE_NAME as CATALOGUE_FILE, Lineup, LinkedStamp, NewRevision,
    Revision, SECOND_NAME, SUMS_NAME, Side, free_reserve_if_needed, is_second_whole, keep_reserve,
    restore_second,
};
pub(crate) use packs::{Stored, StoredBytes};
pub(crate) use places::{NewContent, blob_path};

/// One game's ledger, open for asking and changing.
pub struct Ledger {
    folder: PathBuf,
    pub(crate) catalogue: Catalogue,
    games: Games,
    pub(crate) seam: Arc<dyn Seam>,
    pub(crate) last_read: LastRead,
    packs: Arc<Packs>,
}

impl std::fmt::Debug for Ledger {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("Ledger").field("folder", &self.folder).finish_non_exhaustive()
    }
}

impl Ledger {
    /// Opens the ledger in `folder`. Changes nothing but the catalogue's format, if it is an older
    /// one; a change that was cut short is finished by the jobs, not here.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn open(folder: &Path, seam: Arc<dyn Seam>) -> Result<Self, LedgerError> {
        let is_whole = match folder.join(CATALOGUE_FILE).is_file() {
            true => catalogue::verify(folder, false),
            false => Ok(()),
        };
        let catalogue = match (Catalogue::open(folder), is_whole) {
            // A later version may have other sums.
            (Err(error @ LedgerError::TooNew { .. }), _) | (_, Err(error)) | (Err(error), _) => {
                return Err(error);
            }
            (Ok(catalogue), Ok(())) => catalogue,
        };
        let game = catalogue.game()?;
        fence(&game, &*seam);
        Ok(Self::of(folder, catalogue, game, seam))
    }

    fn of(folder: &Path, catalogue: Catalogue, game: Game, seam: Arc<dyn Seam>) -> Self {
        let (folder, games) = (folder.to_path_buf(), Games::of(game));
        let packs = Arc::new(Packs::of(&folder));
        Self { folder, catalogue, games, seam, last_read: LastRead::default(), packs }
    }

    /// Makes a new ledger in `folder` (made if missing) for `game`; `fill` writes the base.
    ///
    /// # Errors
    /// [`LedgerError`]; what was made is then left for the caller to remove.
    pub(crate) fn create(
        folder: &Path,
        game: Game,
        seam: Arc<dyn Seam>,
        fill: impl FnOnce(&Catalogue) -> Result<(), LedgerError>,
    ) -> Result<Self, LedgerError> {
        fs::create_dir_all(folder).map_err(LedgerError::io("create", folder))?;
        folder.parent().into_iter().for_each(hide_side_folder);
        blobs::create_folders(folder)?;
        let catalogue = Catalogue::create(folder)?;
        catalogue.begin()?;
        catalogue.write_game(&game)?;
        fill(&catalogue)?;
        catalogue.commit()?;
        catalogue::keep_reserve(folder);
        Ok(Self::of(folder, catalogue, game, seam))
    }

    /// Compares every page of the catalogue with its sum, whatever its size and time say.
    ///
    /// # Errors
    /// [`LedgerError::Damaged`] where one differs.
    pub fn verify(&self) -> Result<(), LedgerError> {
        catalogue::verify(&self.folder, true)
    }

    /// Makes the second copy and the sums anew, whatever is known of them.
    pub(crate) fn seal_anew(&self) {
        let _ = fs::remove_file(self.folder.join(SUMS_NAME));
        self.catalogue.seal();
    }

    /// Whether the catalogue in `folder` is whole, for one who has the lock: every page is what was written, and SQLite
    /// finds nothing wrong with it.
    ///
    /// # Errors
    /// What is wrong.
    pub(crate) fn open_locked(folder: &Path, seam: Arc<dyn Seam>) -> Result<(), LedgerError> {
        let is_whole = catalogue::verify_locked(folder);
        let catalogue = Catalogue::open(folder)?;
        is_whole?;
        catalogue.check_integrity()?;
        let game = catalogue.game()?;
        // Without the lock it could not be sealed now.
        drop(Self::of(folder, catalogue, game, seam));
        Ok(())
    }

    /// The ledger's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The game.
    pub fn game(&self) -> &Game {
        self.games.now()
    }

    /// Takes the game to be that until the transaction is over; it is written down with it, or it is as before.
    fn suppose_game(&self, game: Game) {
        fence(&game, &*self.seam);
        self.games.suppose(game);
    }

    /// What was supposed is so from now on.
    fn keep_supposed_game(&self) {
        self.games.lasting.set(self.games.now.get());
    }

    /// What was supposed is not so.
    fn drop_supposed_game(&self) {
        if self.games.now.replace(self.games.lasting.get()) != self.games.lasting.get() {
            fence(self.game(), &*self.seam);
        }
    }

    /// Reads the game again, where another wrote it.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn read_game_again(&self) -> Result<(), LedgerError> {
        let game = self.catalogue.game()?;
        if game != *self.game() {
            self.suppose_game(game);
            self.keep_supposed_game();
        }
        Ok(())
    }

    /// The way to the file system that it goes.
    pub fn seam(&self) -> Arc<dyn Seam> {
        Arc::clone(&self.seam)
    }

    /// The stack from the bottom to the top.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn layers(&self) -> Result<Vec<Layer>, LedgerError> {
        self.catalogue.layers()
    }

    /// Where things lie, for threads to share: the catalogue can't be shared.
    pub(crate) fn site(&self) -> Site<'_> {
        Site { ledger: &self.folder, game: self.game() }
    }
}

/// The game as it was and is while the ledger is open, so that what was lent stays.
struct Games {
    all: FrozenVec<Box<Game>>,
    now: Cell<usize>,
    /// The one that the catalogue has.
    lasting: Cell<usize>,
}

impl Games {
    fn of(game: Game) -> Self {
        let all = FrozenVec::new();
        all.push(Box::new(game));
        Self { all, now: Cell::new(0), lasting: Cell::new(0) }
    }

    fn now(&self) -> &Game {
        &self.all[self.now.get()]
    }

    fn suppose(&self, game: Game) {
        self.all.push(Box::new(game));
        self.now.set(self.all.len() - 1);
    }
}

/// Nothing leads out of a game's folders.
fn fence(game: &Game, seam: &dyn Seam) {
    let folders: Vec<PathBuf> = game.roots.iter().map(|root| root.folder.clone()).collect();
    seam.fence(&folders);
}

impl Drop for Ledger {
    fn drop(&mut self) {
        self.catalogue.close();
    }
}

/// Where a game's files and those of its ledger lie.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Site<'a> {
    ledger: &'a Path,
    game: &'a Game,
}

impl<'a> Site<'a> {
    /// The root of that number.
    pub(crate) fn root(self, id: RootId) -> Result<&'a Root, LedgerError> {
        let reason = "an address of it has no root".to_owned();
        self.game.root(id).ok_or_else(|| LedgerError::Damaged { folder: self.ledger.to_path_buf(), reason })
    }

    /// Where originals, staged, discarded and kept files of a root lie: on the root's own volume.
    pub(crate) fn side(self, root: &Root) -> PathBuf {
        if root.has_side_folder { root.side_folder() } else { self.ledger.to_path_buf() }
    }

    /// The root in which a path on disk lies, and where below it; the innermost, if several do.
    pub(crate) fn root_around(self, path: &Path) -> Option<(&'a Root, &Path)> {
        let within =
            self.game.roots.iter().filter_map(|root| Some((root, path.strip_prefix(&root.folder).ok()?)));
        within.min_by_key(|(_, below)| below.components().count())
    }

    /// Where a covered file of the base lies.
    pub(crate) fn original(self, root: &Root, path: PathId) -> PathBuf {
        self.side(root).join(ORIGINALS).join(path.0.to_string())
    }
}
