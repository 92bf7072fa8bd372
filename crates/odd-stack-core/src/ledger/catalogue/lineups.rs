//! Lineups: arrangements of the stack to switch between.

use rusqlite::params;

use super::{Catalogue, Result};
use crate::stack::{LayerId, PathId, Settlement};

/// A lineup as it was saved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Lineup {
    pub name: String,
    /// The layers from the bottom to the top, and whether each was laid.
    pub arrangement: Vec<(LayerId, bool)>,
    /// All that was settled.
    pub settled: Vec<(PathId, Settlement)>,
    /// RFC 3339.
    pub saved_at: String,
}

type Row = (String, String, String, String);

impl Catalogue {
    /// Saves a lineup, in place of another of its name. Says whether there was one.
    pub(crate) fn write_lineup(&self, lineup: &Lineup) -> Result<bool> {
        let json = |error| self.damaged(&error);
        let arrangement = serde_json::to_string(&lineup.arrangement).map_err(json)?;
        let settled = serde_json::to_string(&lineup.settled).map_err(json)?;
        let was = self.drop_lineup(&lineup.name)?;
        self.run(|db| {
            let sql = "INSERT INTO lineup (name, arrangement, settled, saved_at) VALUES (?1, ?2, ?3, ?4)";
            db.execute(sql, params![lineup.name, arrangement, settled, lineup.saved_at]).map(drop)
        })?;
        Ok(was)
    }

    /// Forgets a lineup; says whether there was one.
    pub(crate) fn drop_lineup(&self, name: &str) -> Result<bool> {
        self.run(|db| Ok(db.execute("DELETE FROM lineup WHERE name = ?1", [name])? > 0))
    }

    /// All lineups by name.
    pub(crate) fn lineups(&self) -> Result<Vec<Lineup>> {
        let rows = self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT name, arrangement, settled, saved_at FROM lineup ORDER BY name")?;
            let read = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?));
            query.query_map([], read)?.collect::<rusqlite::Result<Vec<Row>>>()
        })?;
        rows.into_iter().map(|row| self.lineup_of(row)).collect()
    }

    fn lineup_of(&self, (name, arrangement, settled, saved_at): Row) -> Result<Lineup> {
        let arrangement = serde_json::from_str(&arrangement).map_err(|error| self.damaged(&error))?;
        let settled = serde_json::from_str(&settled).map_err(|error| self.damaged(&error))?;
        Ok(Lineup { name, arrangement, settled, saved_at })
    }
}
