//! The revisions of the stack, and names for some of them.

use rusqlite::{OptionalExtension, params};

use super::{Catalogue, Result};
use crate::stack::LayerId;

/// A change that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Revision {
    pub number: i64,
    /// RFC 3339.
    pub made_at: String,
    pub command: String,
    /// The revision it was made on; none where that is the one before it.
    pub parent: Option<i64>,
    /// The revision whose stack it brought back.
    pub restores: Option<i64>,
    /// What it did with files, as the change wrote it.
    pub did: Option<String>,
}

/// A revision about to be noted.
#[derive(Debug, Clone, Copy)]
pub(crate) struct NewRevision<'a> {
    pub made_at: &'a str,
    pub command: &'a str,
    pub arrangement: &'a str,
    pub restores: Option<i64>,
    pub before: &'a str,
    pub did: &'a str,
}

impl Catalogue {
    /// Notes a new revision of the stack and gives its number.
    pub(crate) fn insert_revision(&self, new: &NewRevision<'_>) -> Result<i64> {
        self.run(|db| {
            let sql = "INSERT INTO revision (made_at, command, arrangement, restores, before, did, parent)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6,
                     (SELECT coalesce(restores, id) FROM revision ORDER BY id DESC LIMIT 1))";
            let NewRevision { made_at, command, arrangement, restores, before, did } = *new;
            db.execute(sql, params![made_at, command, arrangement, restores, before, did])?;
            Ok(db.last_insert_rowid())
        })
    }

    /// All revisions, the first first.
    pub(crate) fn revisions(&self) -> Result<Vec<Revision>> {
        self.run(|db| {
            let sql = "SELECT id, made_at, command, parent, restores, did FROM revision ORDER BY id";
            let mut query = db.prepare_cached(sql)?;
            let read = |row: &rusqlite::Row<'_>| {
                Ok(Revision {
                    number: row.get(0)?,
                    made_at: row.get(1)?,
                    command: row.get(2)?,
                    parent: row.get(3)?,
                    restores: row.get(4)?,
                    did: row.get(5)?,
                })
            };
            query.query_map([], read)?.collect()
        })
    }

    /// The layers of a revision from the bottom to the top, and whether each was laid; none before the first.
    pub(crate) fn arrangement_of(&self, revision: i64) -> Result<Vec<(LayerId, bool)>> {
        let text: Option<String> = self.run(|db| {
            let sql = "SELECT arrangement FROM revision WHERE id = ?1";
            db.query_row(sql, [revision], |row| row.get(0)).optional()
        })?;
        let Some(text) = text else { return Ok(Vec::new()) };
        serde_json::from_str(&text).map_err(|error| self.damaged(&error))
    }

    /// What each later revision changed beside the order, as that was, the last first; none of earlier formats.
    pub(crate) fn befores_since(&self, revision: i64) -> Result<Vec<Option<String>>> {
        self.run(|db| {
            let sql = "SELECT before FROM revision WHERE id > ?1 ORDER BY id DESC";
            db.prepare_cached(sql)?.query_map([revision], |row| row.get(0))?.collect()
        })
    }

    /// Names for states, each with its revision, by name.
    pub(crate) fn state_names(&self) -> Result<Vec<(String, i64)>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT name, revision FROM state_name ORDER BY name")?;
            query.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        })
    }

    /// Gives a state a name, which stands for it alone from then on; without a revision it stands for nothing any more.
    /// Says whether it stood for something before.
    pub(crate) fn write_state_name(&self, name: &str, revision: Option<i64>) -> Result<bool> {
        self.run(|db| {
            let was = db.execute("DELETE FROM state_name WHERE name = ?1", [name])? > 0;
            if let Some(revision) = revision {
                db.execute("INSERT INTO state_name VALUES (?1, ?2)", params![name, revision])?;
            }
            Ok(was)
        })
    }

    /// The command that took the layer off the game last; none if it is on it, or never was.
    pub(crate) fn lifted_by(&self, layer: LayerId) -> Result<Option<String>> {
        self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT command, arrangement FROM revision ORDER BY id DESC")?;
            let mut rows = query.query([])?;
            let mut command = None;
            while let Some(row) = rows.next()? {
                let arrangement: String = row.get(1)?;
                // What can't be read tells nothing.
                let standings: Vec<(LayerId, bool)> = serde_json::from_str(&arrangement).unwrap_or_default();
                match standings.iter().find(|(other, _)| *other == layer) {
                    Some((_, true)) => return Ok(command),
                    Some((_, false)) => command = Some(row.get(0)?),
                    None => return Ok(None),
                }
            }
            Ok(None)
        })
    }

    /// The number of the present revision, 0 before the first.
    pub(crate) fn last_revision(&self) -> Result<i64> {
        self.run(|db| db.query_row("SELECT coalesce(max(id), 0) FROM revision", [], |row| row.get(0)))
    }

    /// When the stack was changed last, RFC 3339.
    pub(crate) fn last_changed_at(&self) -> Result<Option<String>> {
        let sql = "SELECT made_at FROM revision ORDER BY id DESC LIMIT 1";
        self.run(|db| db.query_row(sql, [], |row| row.get(0)).optional())
    }

    /// The revisions that a command made, the last first.
    pub(crate) fn revisions_of(&self, command: &str) -> Result<Vec<i64>> {
        self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT id FROM revision WHERE command = ?1 ORDER BY id DESC")?;
            query.query_map([command], |row| row.get(0))?.collect()
        })
    }
}
