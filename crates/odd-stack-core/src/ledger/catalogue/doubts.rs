//! Which stored contents are in doubt: after a command was cut short, all that nobody has read since.

use super::{Catalogue, Result};
use crate::hash::ContentHash;

impl Catalogue {
    /// Puts every stored content in doubt.
    pub(crate) fn doubt_all(&self) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM whole_since", [])?;
            db.execute("INSERT OR IGNORE INTO cut_short VALUES (1)", [])?;
            Ok(())
        })
    }

    /// Whether a command was cut short once.
    pub(crate) fn has_doubts(&self) -> Result<bool> {
        self.run(|db| db.query_row("SELECT EXISTS (SELECT 1 FROM cut_short)", [], |row| row.get(0)))
    }

    /// Whether a content has been read and found whole since.
    pub(crate) fn is_whole_since(&self, hash: ContentHash) -> Result<bool> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT EXISTS (SELECT 1 FROM whole_since WHERE hash = ?1)")?;
            query.query_row([hash.as_bytes()], |row| row.get(0))
        })
    }

    /// Notes contents that have been read and found whole.
    pub(crate) fn note_whole(&self, hashes: impl IntoIterator<Item = ContentHash>) -> Result<()> {
        self.run(|db| {
            let mut insert = db.prepare_cached("INSERT OR IGNORE INTO whole_since VALUES (?1)")?;
            hashes.into_iter().try_for_each(|hash| insert.execute([hash.as_bytes()]).map(drop))
        })
    }
}
