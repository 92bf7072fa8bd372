//! The catalogue: one SQLite file that knows the game, its base, the layers and the journal.
//!
//! All SQL of the project is in this folder. Changes happen between [`Catalogue::begin`] and
//! [`Catalogue::commit`]; dropping out in between rolls back. The file is in WAL mode, so readers
//! are never held up by a change, and every commit is on disk when it returns
//! (`synchronous = FULL`). After a change it is sealed, with a second copy and sums of its pages (`second`).

mod base;
mod columns;
mod game;
mod journal;
mod layers;
mod meeting;
mod migrations;
mod names;
mod ongoing;
mod second;

use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};

pub(crate) use columns::FolderSource;
pub(crate) use journal::{JournalMark, JournalStep};
pub use layers::{Layer, LayerState, NewLayer};
pub(crate) use meeting::Side;
pub use ongoing::{Ongoing, OngoingKind};
pub(crate) use second::{SECOND_NAME, SUMS_NAME, is_second_whole, restore_second, verify, verify_locked};

use super::LedgerError;

/// The catalogue's file in the ledger's folder.
pub(crate) const FILE_NAME: &str = "catalogue.sqlite";

/// An open catalogue.
#[derive(Debug)]
pub(crate) struct Catalogue {
    connection: Connection,
    folder: PathBuf,
}

pub(crate) type Result<T> = std::result::Result<T, LedgerError>;

impl Catalogue {
    /// Makes a new catalogue in `folder`.
    pub(crate) fn create(folder: &Path) -> Result<Self> {
        Self::connect(folder, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE)
    }

    /// Opens the catalogue in `folder`, bringing an older format to the present one.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        if !folder.join(FILE_NAME).is_file() {
            return Err(LedgerError::Missing { folder: folder.to_path_buf() });
        }
        Self::connect(folder, OpenFlags::SQLITE_OPEN_READ_WRITE)
    }

    fn connect(folder: &Path, flags: OpenFlags) -> Result<Self> {
        let told = |error| told(folder, error);
        let flags = flags | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut connection = Connection::open_with_flags(folder.join(FILE_NAME), flags).map_err(told)?;
        connection.busy_timeout(Duration::from_secs(10)).map_err(told)?;
        connection.set_prepared_statement_cache_capacity(64);
        let number = |name: &str| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
        let (application, found) =
            (number("application_id").map_err(told)?, number("user_version").map_err(told)?);
        let is_new = flags.contains(OpenFlags::SQLITE_OPEN_CREATE);
        if !is_new && application != migrations::APPLICATION {
            let reason = format!("{FILE_NAME} is not a catalogue");
            return Err(LedgerError::Damaged { folder: folder.to_path_buf(), reason });
        }
        if found > migrations::FORMAT {
            return Err(LedgerError::TooNew { folder: folder.to_path_buf(), found });
        }
        let settings = "PRAGMA synchronous = FULL; PRAGMA cache_size = -16384; PRAGMA temp_store = MEMORY;";
        connection.execute_batch(settings).map_err(told)?;
        // Else bound values make SQLite plan every query anew.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(told)?;
        // Pages leave the log only when the catalogue is sealed.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true).map_err(told)?;
        connection.query_row("PRAGMA wal_autocheckpoint = 0", [], |_| Ok(())).map_err(told)?;
        if found < migrations::FORMAT {
            connection.execute_batch("PRAGMA journal_mode = WAL;").map_err(told)?;
            migrations::migrate(&mut connection, found).map_err(told)?;
        }
        Ok(Self { connection, folder: folder.to_path_buf() })
    }

    /// Begins a change; nothing of it is kept before [`Catalogue::commit`].
    pub(crate) fn begin(&self) -> Result<()> {
        self.run(|connection| connection.execute_batch("BEGIN IMMEDIATE"))
    }

    /// Keeps one view of the catalogue until it is dropped, which makes many small queries cheaper.
    pub(crate) fn begin_reading(&self) -> Result<()> {
        self.run(|connection| connection.execute_batch("BEGIN DEFERRED"))
    }

    /// Makes the change durable.
    pub(crate) fn commit(&self) -> Result<()> {
        self.run(|connection| connection.execute_batch("COMMIT"))
    }

    /// Forgets the change; nothing happens if none was begun.
    pub(crate) fn roll_back(&self) {
        if !self.connection.is_autocommit() {
            // A failed rollback leaves the transaction to SQLite, which drops it with the connection.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
    }

    /// Has SQLite look through all of it.
    pub(super) fn check_integrity(&self) -> Result<()> {
        let found: String = self.run(|db| db.query_row("PRAGMA integrity_check(1)", [], |row| row.get(0)))?;
        match found.as_str() {
            "ok" => Ok(()),
            reason => Err(self.damaged_by(&reason)),
        }
    }

    /// Runs `work` and says of its error which ledger failed.
    fn run<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T> {
        work(&self.connection).map_err(|error| told(&self.folder, error))
    }
}

fn told(folder: &Path, error: rusqlite::Error) -> LedgerError {
    let folder = folder.to_path_buf();
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            LedgerError::Damaged { folder, reason: error.to_string() }
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            LedgerError::Busy { holder: "another process".to_owned() }
        }
        None if !matches!(error, rusqlite::Error::QueryReturnedNoRows) => {
            // Values of a kind that the catalogue never holds.
            LedgerError::Damaged { folder, reason: error.to_string() }
        }
        _ => LedgerError::Catalogue { folder, source: error },
    }
}
