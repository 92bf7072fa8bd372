//! Which contents are stored, and where.

use std::collections::BTreeSet;

use rusqlite::{OptionalExtension, Row, params};

use super::rows::{insert_rows, optional};
use super::{Catalogue, Result};
use crate::hash::ContentHash;
use crate::ledger::places::{NewContent, Place};

impl Catalogue {
    /// Where the content lies; nothing if it is not stored.
    pub(crate) fn place_of(&self, hash: ContentHash) -> Result<Option<Place>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT pack, place, size_bytes FROM blob WHERE hash = ?1")?;
            query.query_row([hash.as_bytes()], place).optional()
        })
    }

    /// Whether any content is stored.
    pub(crate) fn lists_contents(&self) -> Result<bool> {
        self.run(|db| db.prepare_cached("SELECT 1 FROM blob LIMIT 1")?.exists([]))
    }

    /// How long the content is, in bytes; nothing if it is not stored.
    pub(crate) fn size_of(&self, hash: ContentHash) -> Result<Option<u64>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT size_bytes FROM blob WHERE hash = ?1")?;
            query.query_row([hash.as_bytes()], |row| Ok(row.get::<_, i64>(0)?.cast_unsigned())).optional()
        })
    }

    /// All contents.
    pub(crate) fn listed_contents(&self) -> Result<Vec<NewContent>> {
        self.contents("SELECT pack, place, size_bytes, hash FROM blob")
    }

    /// All contents that lie in packs.
    pub(crate) fn packed_contents(&self) -> Result<Vec<NewContent>> {
        self.contents(
            "SELECT pack, place, size_bytes, hash FROM blob WHERE pack IS NOT NULL ORDER BY pack, place",
        )
    }

    fn contents(&self, sql: &str) -> Result<Vec<NewContent>> {
        self.run(|db| db.prepare_cached(sql)?.query_map([], content)?.collect())
    }

    /// Whether contents are listed in the pack.
    pub(crate) fn has_pack(&self, number: u64) -> Result<bool> {
        self.run(|db| {
            db.prepare_cached("SELECT 1 FROM pack WHERE number = ?1")?.exists([number.cast_signed()])
        })
    }

    /// The highest number of a pack, 0 if there is none.
    pub(crate) fn last_pack(&self) -> Result<u64> {
        self.run(|db| {
            let sql = "SELECT COALESCE(MAX(number), 0) FROM pack";
            db.query_row(sql, [], |row| Ok(row.get::<_, i64>(0)?.cast_unsigned()))
        })
    }

    /// Notes stored contents.
    pub(crate) fn insert_contents(&self, new: &[NewContent]) -> Result<()> {
        self.run(|db| {
            // Sorted, so that the table's pages are filled one after the other.
            let mut sorted: Vec<&NewContent> = new.iter().collect();
            sorted.sort_unstable_by_key(|content| content.hash);
            let rows = sorted.iter().map(|content| {
                let (pack, at) = columns(content.place);
                [
                    content.hash.as_bytes().as_slice().into(),
                    content.size_bytes.cast_signed().into(),
                    optional(pack),
                    optional(at),
                ]
            });
            insert_rows::<4>(db, "INSERT OR IGNORE INTO blob", rows)?;
            let packs: BTreeSet<i64> = new.iter().filter_map(|content| columns(content.place).0).collect();
            let mut insert = db.prepare_cached("INSERT OR IGNORE INTO pack VALUES (?1)")?;
            packs.iter().try_for_each(|pack| insert.execute([pack]).map(drop))
        })
    }

    /// Notes that contents lie elsewhere now. Packs in which nothing lies any more are not listed then.
    pub(crate) fn move_contents(&self, moved: &[NewContent]) -> Result<()> {
        self.run(|db| {
            let mut update = db.prepare_cached("UPDATE blob SET pack = ?2, place = ?3 WHERE hash = ?1")?;
            let mut packs = db.prepare_cached("INSERT OR IGNORE INTO pack VALUES (?1)")?;
            for content in moved {
                let (pack, at) = columns(content.place);
                update.execute(params![content.hash.as_bytes(), pack, at])?;
                if pack.is_some() {
                    packs.execute([pack])?;
                }
            }
            Ok(())
        })?;
        self.drop_empty_packs()
    }

    fn drop_empty_packs(&self) -> Result<()> {
        let sql = "DELETE FROM pack WHERE number NOT IN (SELECT pack FROM blob WHERE pack IS NOT NULL)";
        self.run(|db| db.execute(sql, []).map(drop))
    }

    /// Drops the record of contents that no layer has and gives their hashes.
    pub(crate) fn drop_unused_contents(&self, candidates: &[ContentHash]) -> Result<Vec<ContentHash>> {
        let dropped = self.run(|db| {
            let mut delete = db.prepare_cached(
                "DELETE FROM blob WHERE hash = ?1 AND NOT EXISTS (SELECT 1 FROM entry WHERE entry.hash = ?1)",
            )?;
            let mut dropped = Vec::new();
            for hash in candidates {
                if delete.execute([hash.as_bytes()])? > 0 {
                    dropped.push(*hash);
                }
            }
            Ok(dropped)
        })?;
        self.drop_empty_packs()?;
        Ok(dropped)
    }

    /// Takes contents off the list that no layer has.
    pub(crate) fn drop_contents_of_nobody(&self) -> Result<()> {
        self.run(|db| {
            db.execute("DELETE FROM blob WHERE hash NOT IN (SELECT hash FROM entry)", []).map(drop)
        })?;
        self.drop_empty_packs()
    }
}

fn columns(place: Place) -> (Option<i64>, Option<i64>) {
    match place {
        Place::Own => (None, None),
        Place::Packed { pack, at, .. } => (Some(pack.cast_signed()), Some(at.cast_signed())),
    }
}

fn place(row: &Row<'_>) -> rusqlite::Result<Place> {
    let pack: Option<i64> = row.get(0)?;
    let at: Option<i64> = row.get(1)?;
    let size_bytes = row.get::<_, i64>(2)?.cast_unsigned();
    Ok(match (pack, at) {
        (Some(pack), Some(at)) => {
            Place::Packed { pack: pack.cast_unsigned(), at: at.cast_unsigned(), size_bytes }
        }
        _ => Place::Own,
    })
}

fn content(row: &Row<'_>) -> rusqlite::Result<NewContent> {
    Ok(NewContent {
        hash: ContentHash::from_bytes(row.get(3)?),
        size_bytes: row.get::<_, i64>(2)?.cast_unsigned(),
        place: place(row)?,
    })
}
