//! Stored contents of which files in the game are further names.

use rusqlite::{OptionalExtension, params};

use super::{Catalogue, Result};
use crate::hash::ContentHash;

/// What a linked content was given, so that it can be seen whether somebody wrote to it since.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct LinkedStamp {
    /// Seconds since 1970.
    pub modified: i64,
    pub mode: u32,
}

impl Catalogue {
    /// What a content was given when it was linked last; nothing for one that never was.
    pub(crate) fn linked(&self, hash: ContentHash) -> Result<Option<LinkedStamp>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT modified, mode FROM linked_content WHERE hash = ?1")?;
            let read = |row: &rusqlite::Row<'_>| Ok(LinkedStamp { modified: row.get(0)?, mode: row.get(1)? });
            query.query_row([hash.as_bytes()], read).optional()
        })
    }

    /// Whether any content was ever linked.
    pub(crate) fn has_linked(&self) -> Result<bool> {
        self.run(|db| db.query_row("SELECT EXISTS (SELECT 1 FROM linked_content)", [], |row| row.get(0)))
    }

    /// The contents that were linked, with their sizes.
    pub(crate) fn linked_contents(&self) -> Result<Vec<(ContentHash, u64)>> {
        self.run(|db| {
            // Few of all contents are linked.
            let sql = "SELECT hash, blob.size_bytes FROM linked_content CROSS JOIN blob USING (hash)";
            let read = |row: &rusqlite::Row<'_>| {
                Ok((ContentHash::from_bytes(row.get(0)?), row.get::<_, i64>(1)?.cast_unsigned()))
            };
            db.prepare_cached(sql)?.query_map([], read)?.collect()
        })
    }

    /// The bytes of all contents that were linked.
    pub(crate) fn linked_bytes(&self) -> Result<u64> {
        self.run(|db| {
            // Few of all contents are linked.
            let sql =
                "SELECT COALESCE(SUM(blob.size_bytes), 0) FROM linked_content CROSS JOIN blob USING (hash)";
            db.query_row(sql, [], |row| Ok(row.get::<_, i64>(0)?.cast_unsigned()))
        })
    }

    /// Notes contents that are linked.
    pub(crate) fn note_linked(&self, linked: &[(ContentHash, LinkedStamp)]) -> Result<()> {
        self.run(|db| {
            let mut insert =
                db.prepare_cached("INSERT OR REPLACE INTO linked_content VALUES (?1, ?2, ?3)")?;
            for (hash, stamp) in linked {
                insert.execute(params![hash.as_bytes(), stamp.modified, stamp.mode])?;
            }
            Ok(())
        })
    }

    /// Notes that no file in the game is a further name of these any more.
    pub(crate) fn forget_linked(&self, hashes: &[ContentHash]) -> Result<()> {
        self.run(|db| {
            let mut delete = db.prepare_cached("DELETE FROM linked_content WHERE hash = ?1")?;
            hashes.iter().try_for_each(|hash| delete.execute([hash.as_bytes()]).map(drop))
        })
    }
}
