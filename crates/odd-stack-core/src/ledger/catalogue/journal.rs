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

/// The steps as they are stored; what they mean is the change's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum JournalSteps {
    /// All of them, some to a piece.
    Pieces(Vec<Vec<u8>>),
    /// A row for each, as up to format 16.
    Rows(Vec<JournalStep>),
}

/// One step as it was stored up to format 16.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct JournalStep {
    pub kind: i64,
    pub private: Option<String>,
    pub public: String,
}

impl Catalogue {
    /// Notes the change that is about to be made.
    pub(crate) fn write_journal(&self, mark: &JournalMark, steps: &[Vec<u8>]) -> Result<()> {
        self.run(|db| {
            db.execute(
                "INSERT INTO journal VALUES (1, ?1, ?2, ?3, ?4)",
                params![if mark.backward { -1 } else { 1 }, mark.command, mark.begun_at, mark.outcome],
            )?;
            let mut insert = db.prepare_cached("INSERT INTO journal_steps VALUES (?1, ?2)")?;
            for (number, piece) in (0_i64..).zip(steps) {
                insert.execute(params![number, piece])?;
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
    pub(crate) fn journal_steps(&self) -> Result<JournalSteps> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT bytes FROM journal_steps ORDER BY number")?;
            let pieces = query.query_map([], |row| row.get(0))?;
            let pieces: Vec<Vec<u8>> = pieces.collect::<rusqlite::Result<_>>()?;
            if !pieces.is_empty() {
                return Ok(JournalSteps::Pieces(pieces));
            }
            let mut query = db.prepare_cached("SELECT kind, private, public FROM step ORDER BY number")?;
            let rows = query.query_map([], |row| {
                Ok(JournalStep { kind: row.get(0)?, private: row.get(1)?, public: row.get(2)? })
            })?;
            rows.collect::<rusqlite::Result<_>>().map(JournalSteps::Rows)
        })
    }

    /// Turns the change under way back.
    pub(crate) fn turn_back(&self) -> Result<()> {
        self.run(|db| db.execute("UPDATE journal SET direction = -1", []).map(drop))
    }

    /// Says that no change is under way any more.
    pub(crate) fn clear_journal(&self) -> Result<()> {
        self.run(|db| db.execute_batch("DELETE FROM step; DELETE FROM journal_steps; DELETE FROM journal;"))
    }
}
