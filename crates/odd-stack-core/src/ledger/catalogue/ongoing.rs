//! What a person has begun with one command and ends with another.

use std::path::{Path, PathBuf};

use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};

use super::{Catalogue, Result};

/// What is under way between two commands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OngoingKind {
    /// The game gets an official update while all layers are lifted.
    PatchDay,
    /// A program, or a person, changes the game; what is changed becomes a layer.
    Capture,
    /// It is searched which layer breaks the game: some are off it meanwhile.
    Culprit,
}

impl OngoingKind {
    fn word(self) -> &'static str {
        match self {
            Self::PatchDay => "patch day",
            Self::Capture => "capture",
            Self::Culprit => "search for a culprit",
        }
    }
}

impl std::fmt::Display for OngoingKind {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str(self.word())
    }
}

/// Something under way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ongoing {
    /// What.
    pub kind: OngoingKind,
    /// Since when, RFC 3339.
    pub begun_at: String,
    /// What is needed to end it, as JSON.
    pub(crate) about: String,
}

impl Catalogue {
    /// What is under way, if something is.
    pub(crate) fn ongoing(&self) -> Result<Option<Ongoing>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT kind, begun_at, about FROM ongoing")?;
            let read = |row: &rusqlite::Row<'_>| {
                let kind = match row.get_ref(0)?.as_str()? {
                    "capture" => OngoingKind::Capture,
                    "search for a culprit" => OngoingKind::Culprit,
                    _ => OngoingKind::PatchDay,
                };
                Ok(Ongoing { kind, begun_at: row.get(1)?, about: row.get(2)? })
            };
            query.query_row([], read).optional()
        })
    }

    /// Folders of the game that were to go and could not, the innermost first.
    pub(crate) fn folders_left(&self) -> Result<Vec<PathBuf>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT path FROM folder_left ORDER BY length(path) DESC")?;
            let read = |row: &rusqlite::Row<'_>| Ok(PathBuf::from(row.get_ref(0)?.as_str()?));
            query.query_map([], read)?.collect()
        })
    }

    /// Notes one of them.
    pub(crate) fn note_folder_left(&self, path: &Path) -> Result<()> {
        self.run(|db| {
            db.execute("INSERT OR IGNORE INTO folder_left VALUES (?1)", [path.to_string_lossy()]).map(drop)
        })
    }

    /// Forgets one of them.
    pub(crate) fn forget_folder_left(&self, path: &Path) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM folder_left WHERE path = ?1", [path.to_string_lossy()]).map(drop)
        })
    }

    /// Notes what is under way, or that nothing is any more.
    pub(crate) fn write_ongoing(&self, ongoing: Option<&Ongoing>) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM ongoing", [])?;
            if let Some(Ongoing { kind, begun_at, about }) = ongoing {
                let row = params![kind.word(), begun_at, about];
                db.execute("INSERT INTO ongoing VALUES (1, ?1, ?2, ?3)", row)?;
            }
            Ok(())
        })
    }
}
