//! The mark and the steps of a change under way.

use rusqlite::{OptionalExtension, params};

use super::{Catalogue, Result};

/// The journal's one row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct JournalMark {
    /// Whether the steps are being taken back.
    pub backward: bool,
    /// The command that began the change.
    pub command: String,
    /// When, RFC 3339.
    pub begun_at: String,
    /// What becomes of the stack when all steps are done, as JSON.
    pub outcome: String,
}

/// One step as it is stored; what it means is the disk's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct JournalStep {
    pub kind: i64,
    pub private: Option<String>,
    pub public: String,
}

impl Catalogue {
    /// Notes the change that is about to be made.
    pub(crate) fn write_journal(
        &self,
        mark: &JournalMark,
        steps: impl Iterator<Item = JournalStep>,
    ) -> Result<()> {
        self.run(|db| {
            db.execute(
                "INSERT INTO journal VALUES (1, ?1, ?2, ?3, ?4)",
                params![if mark.backward { -1 } else { 1 }, mark.command, mark.begun_at, mark.outcome],
            )?;
            let mut insert = db.prepare_cached("INSERT INTO step VALUES (?1, ?2, ?3, ?4)")?;
            for (number, step) in steps.enumerate() {
                insert.execute(params![number as i64, step.kind, step.private, step.public])?;
            }
            Ok(())
        })
    }

    /// The change under way, if there is one.
    pub(crate) fn journal(&self) -> Result<Option<JournalMark>> {
        self.run(|db| {
            let sql = "SELECT direction, command, begun_at, outcome FROM journal";
            let read = |row: &rusqlite::Row<'_>| {
                Ok(JournalMark {
                    backward: row.get::<_, i64>(0)? < 0,
                    command: row.get(1)?,
                    begun_at: row.get(2)?,
                    outcome: row.get(3)?,
                })
            };
            db.query_row(sql, [], read).optional()
        })
    }

    /// Its steps, in order.
    pub(crate) fn journal_steps(&self) -> Result<Vec<JournalStep>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT kind, private, public FROM step ORDER BY number")?;
            let rows = query.query_map([], |row| {
                Ok(JournalStep { kind: row.get(0)?, private: row.get(1)?, public: row.get(2)? })
            })?;
            rows.collect()
        })
    }

    /// Turns the change under way back.
    pub(crate) fn turn_back(&self) -> Result<()> {
        self.run(|db| db.execute("UPDATE journal SET direction = -1", []).map(drop))
    }

    /// Says that no change is under way any more.
    pub(crate) fn clear_journal(&self) -> Result<()> {
        self.run(|db| db.execute_batch("DELETE FROM step; DELETE FROM journal;"))
    }
}
