//! Second folders of the game, each in the arrangement of a lineup, and what was put there.

use std::path::PathBuf;

use rusqlite::{OptionalExtension, Row, params};

use super::base::{kind_number, read_kind};
use super::rows::{insert_rows, optional};
use super::texts::read_path;
use super::{Catalogue, Result};
use crate::address::RelPath;
use crate::hash::ContentHash;
use crate::stack::{BaseKind, RootId, plain_name};

/// One second folder of the game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BuiltFolder {
    /// 0 for one that is not written down yet.
    pub id: i64,
    /// The lineup that it is for.
    pub lineup: String,
    /// The folder for each root; none for roots that are left out.
    pub roots: Vec<(RootId, Option<PathBuf>)>,
    /// Big files may be links to the game's own.
    pub by_link: bool,
    /// All was put there that was meant to.
    pub is_finished: bool,
    /// RFC 3339.
    pub made_at: String,
}

impl BuiltFolder {
    /// Whether it is for the lineup of that name, however that is written.
    pub(crate) fn is_of(&self, lineup: &str) -> bool {
        plain_name(&self.lineup) == plain_name(lineup)
    }
}

/// What was put at one place of a second folder, or is to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BuiltThing {
    pub root: RootId,
    /// Below the root, as it is spelled there.
    pub path: RelPath,
    pub kind: BaseKind,
    pub size_bytes: u64,
    /// The time that it has there, in nanoseconds since 1970.
    pub modified_ns: i64,
    /// Of what it was made: the hash of its content where that is known, and the time there.
    pub hash: Option<ContentHash>,
    pub source_ns: i64,
    /// It is to be put and may not be there yet.
    pub is_planned: bool,
}

const FOLDER_COLUMNS: &str = "id, lineup, roots, by_link, is_finished, made_at";

fn read_thing(row: &Row<'_>) -> rusqlite::Result<BuiltThing> {
    Ok(BuiltThing {
        is_planned: row.get(0)?,
        root: RootId(row.get(1)?),
        path: read_path(row, 2)?,
        kind: read_kind(row.get(3)?),
        size_bytes: row.get::<_, i64>(4)?.cast_unsigned(),
        modified_ns: row.get(5)?,
        hash: row.get::<_, Option<[u8; 32]>>(6)?.map(ContentHash::from_bytes),
        source_ns: row.get(7)?,
    })
}

impl Catalogue {
    /// The second folders that there are, by lineup.
    pub(crate) fn built_folders(&self) -> Result<Vec<BuiltFolder>> {
        type Found = (i64, String, String, bool, bool, String);
        let rows: Vec<Found> = self.run(|db| {
            let mut query =
                db.prepare_cached(&format!("SELECT {FOLDER_COLUMNS} FROM built ORDER BY lineup"))?;
            let read = |row: &Row<'_>| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?))
            };
            query.query_map([], read)?.collect()
        })?;
        let folder = |(id, lineup, roots, by_link, is_finished, made_at): Found| {
            let roots: Vec<(i64, Option<PathBuf>)> =
                serde_json::from_str(&roots).map_err(|error| self.damaged(&error))?;
            let roots = roots.into_iter().map(|(root, folder)| (RootId(root), folder)).collect();
            Ok(BuiltFolder { id, lineup, roots, by_link, is_finished, made_at })
        };
        rows.into_iter().map(folder).collect()
    }

    /// Writes a second folder down, in place of what was known of it, and gives its number.
    pub(crate) fn write_built(&self, built: &BuiltFolder) -> Result<i64> {
        let roots: Vec<(i64, &Option<PathBuf>)> =
            built.roots.iter().map(|(root, folder)| (root.0, folder)).collect();
        let roots = serde_json::to_string(&roots).map_err(|error| self.damaged(&error))?;
        let id = (built.id != 0).then_some(built.id);
        self.run(|db| {
            db.query_row(
                &format!("INSERT OR REPLACE INTO built ({FOLDER_COLUMNS}) VALUES (?1, ?2, ?3, ?4, ?5, ?6) RETURNING id"),
                params![id, built.lineup, roots, built.by_link, built.is_finished, built.made_at],
                |row| row.get(0),
            )
        })
    }

    /// Forgets the second folder of a lineup; what lies there stays. Gives where it is.
    pub(crate) fn forget_built(&self, lineup: &str) -> Result<()> {
        self.run(|db| {
            let found: Option<i64> = db
                .query_row("SELECT id FROM built WHERE lineup = ?1", [lineup], |row| row.get(0))
                .optional()?;
            if let Some(id) = found {
                db.execute("DELETE FROM built_thing WHERE built = ?1", [id])?;
                db.execute("DELETE FROM built WHERE id = ?1", [id])?;
            }
            Ok(())
        })
    }

    /// A lineup has another name.
    pub(crate) fn rename_built(&self, old: &str, new: &str) -> Result<()> {
        self.run(|db| db.execute("UPDATE built SET lineup = ?2 WHERE lineup = ?1", [old, new]).map(drop))
    }

    /// What was put into a second folder, and what is to be.
    pub(crate) fn built_things(&self, built: i64) -> Result<Vec<BuiltThing>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT is_planned, root, path, kind, size_bytes, modified_ns, hash, source_ns
                 FROM built_thing WHERE built = ?1 ORDER BY is_planned, root, path",
            )?;
            query.query_map([built], read_thing)?.collect()
        })
    }

    /// Adds what is to be put into a second folder to what is known of it.
    pub(crate) fn plan_built(&self, built: i64, things: &[BuiltThing]) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM built_thing WHERE built = ?1 AND is_planned", [built])?;
            insert_things(db, built, things)
        })
    }

    /// Notes what lies in a second folder, in place of all that was known of it.
    pub(crate) fn note_built(&self, built: i64, things: &[BuiltThing]) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM built_thing WHERE built = ?1", [built])?;
            insert_things(db, built, things)
        })
    }
}

fn insert_things(db: &rusqlite::Connection, built: i64, things: &[BuiltThing]) -> rusqlite::Result<()> {
    let rows = things.iter().map(|thing| {
        [
            built.into(),
            thing.is_planned.into(),
            thing.root.0.into(),
            thing.path.as_str().into(),
            kind_number(thing.kind).into(),
            thing.size_bytes.cast_signed().into(),
            thing.modified_ns.into(),
            optional(thing.hash.as_ref().map(|hash| hash.as_bytes().as_slice())),
            thing.source_ns.into(),
        ]
    });
    insert_rows::<9>(db, "INSERT OR REPLACE INTO built_thing", rows)
}
