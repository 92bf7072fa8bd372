//! The catalogue: one SQLite file that knows the game, its base, the layers and the journal.
//!
//! All SQL of the project is in this folder. Changes happen between [`Catalogue::begin`] and
//! [`Catalogue::commit`]; dropping out in between rolls back. The file is in WAL mode, so readers
//! are never held up by a change, and every commit is on disk when it returns
//! (`synchronous = FULL`). After a change it is sealed, with a second copy and sums of its pages (`second`).

mod base;
mod built;
mod columns;
mod container_lists;
mod contests;
mod doubts;
mod game;
mod journal;
mod layers;
mod lineups;
mod linked;
mod migrations;
mod names;
mod ongoing;
mod reserve;
mod revisions;
mod rows;
mod second;
mod stored;
mod texts;
mod tidying;

use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};

pub(crate) use built::{BuiltFolder, BuiltThing};
pub(crate) use columns::{FolderSource, Touched};
pub(crate) use container_lists::ContainerList;
pub(crate) use contests::Side;
#[cfg(test)]
pub(crate) use journal::JournalStep;
pub(crate) use journal::{JournalMark, JournalSteps};
pub use layers::{Layer, LayerState, NewLayer};
pub(crate) use lineups::Lineup;
pub(crate) use linked::LinkedStamp;
pub use ongoing::{Ongoing, OngoingKind};
pub(crate) use reserve::{give_up_if_needed as free_reserve_if_needed, keep as keep_reserve};
pub(crate) use revisions::{NewRevision, Revision};
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

    /// Opens the catalogue in `folder`, bringing an older format to the present one. On a full disk the reserve is given
    /// up for that; where nothing can be written at all, the catalogue can only be looked at.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        if !folder.join(FILE_NAME).is_file() {
            return Err(LedgerError::Missing { folder: folder.to_path_buf() });
        }
        let open = || Self::connect(folder, OpenFlags::SQLITE_OPEN_READ_WRITE);
        let is_about_writing = |error: &LedgerError| {
            matches!(
                error,
                LedgerError::NoRoom { .. } | LedgerError::ReadOnly { .. } | LedgerError::Catalogue { .. }
            )
        };
        match open() {
            Err(error) if is_about_writing(&error) => {}
            other => return other,
        }
        if reserve::give_up(folder)
            && let Ok(catalogue) = open()
        {
            return Ok(catalogue);
        }
        match second::has_log(folder) {
            // What is in the log can't be seen without writing.
            true => open(),
            false => Self::connect(folder, OpenFlags::SQLITE_OPEN_READ_ONLY),
        }
    }

    /// Whether it can only be looked at.
    pub(super) fn is_only_looked_at(&self) -> bool {
        self.connection.is_readonly(rusqlite::MAIN_DB).unwrap_or(true)
    }

    fn connect(folder: &Path, flags: OpenFlags) -> Result<Self> {
        let told = |error| told(folder, error);
        let flags = flags | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let is_only_looked_at = flags.contains(OpenFlags::SQLITE_OPEN_READ_ONLY);
        let path = folder.join(FILE_NAME);
        let opened = match is_only_looked_at {
            // Nothing changes it meanwhile, and no file beside it is needed (sqlite.org/uri.html).
            true => Connection::open_with_flags(immutable(&path), flags | OpenFlags::SQLITE_OPEN_URI),
            false => Connection::open_with_flags(path, flags),
        };
        let mut connection = opened.map_err(told)?;
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
        let settings = "PRAGMA synchronous = FULL; PRAGMA temp_store = MEMORY;";
        connection.execute_batch(settings).map_err(told)?;
        // Else bound values make SQLite plan every query anew.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(told)?;
        // Pages leave the log only when the catalogue is sealed.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true).map_err(told)?;
        connection.query_row("PRAGMA wal_autocheckpoint = 0", [], |_| Ok(())).map_err(told)?;
        if found < migrations::FORMAT && !is_only_looked_at {
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

/// The extended code of an error (sqlite.org/rescode.html): 4874 is a file of shared memory that can't grow, 4618 one that
/// can't be made, 778 a failed write.
fn extended(error: &rusqlite::Error) -> Option<i32> {
    error.sqlite_error().map(|error| error.extended_code)
}

/// The name by which SQLite takes a file as one that nothing changes.
fn immutable(path: &Path) -> String {
    let mut name = String::from("file:");
    for byte in path.to_string_lossy().replace('\\', "/").bytes() {
        match byte {
            b'%' | b'?' | b'#' => name.push_str(&format!("%{byte:02x}")),
            byte if byte.is_ascii() => name.push(char::from(byte)),
            byte => name.push_str(&format!("%{byte:02x}")),
        }
    }
    name + "?immutable=1"
}

fn told(folder: &Path, error: rusqlite::Error) -> LedgerError {
    let folder = folder.to_path_buf();
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            LedgerError::Damaged { folder, reason: error.to_string() }
        }
        Some(ErrorCode::DiskFull) => {
            let free_bytes = fs4::available_space(&folder).unwrap_or(0);
            LedgerError::NoRoom { folder, free_bytes }
        }
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
            LedgerError::ReadOnly { folder }
        }
        // Files beside the catalogue can't be made or grow.
        Some(ErrorCode::SystemIoFailure) if matches!(extended(&error), Some(4874 | 4618 | 778)) => {
            let free_bytes = fs4::available_space(&folder).unwrap_or(0);
            match free_bytes < reserve::ROOM_BYTES {
                true => LedgerError::NoRoom { folder, free_bytes },
                false => LedgerError::Catalogue { folder, source: error },
            }
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
