//! What decides where layers meet: settlements, what blending gave, what layers need.

use std::collections::{HashMap, HashSet};
use std::ops::RangeInclusive;

use rusqlite::{OptionalExtension, Row, params};

use super::texts::read_key;
use super::{Catalogue, Result};
use crate::address::FoldedKey;
use crate::hash::ContentHash;
use crate::stack::{EntryKind, LayerFacts, LayerId, Needs, PathId, RootId, Settlement};

/// What a layer has at an address, without names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Side {
    pub path: PathId,
    pub layer: LayerId,
    pub hash: ContentHash,
    pub kind: EntryKind,
}

impl Catalogue {
    /// All that was settled.
    pub(crate) fn settlements(&self) -> Result<HashMap<PathId, Settlement>> {
        self.settlements_in("SELECT path, layer, hash, wins FROM settlement")
    }

    /// What was settled at the addresses that were looked up last; see [`Catalogue::columns_of`].
    pub(crate) fn settlements_among_columns(&self) -> Result<HashMap<PathId, Settlement>> {
        self.settlements_in(
            "SELECT settlement.path, layer, hash, wins FROM touched
             CROSS JOIN settlement ON settlement.path = touched.path",
        )
    }

    /// What is settled at one address.
    pub(crate) fn settlements_at(&self, path: PathId) -> Result<Option<Settlement>> {
        let sql = format!("SELECT path, layer, hash, wins FROM settlement WHERE path = {}", path.0);
        Ok(self.settlements_in(&sql)?.remove(&path))
    }

    fn settlements_in(&self, sql: &str) -> Result<HashMap<PathId, Settlement>> {
        self.run(|db| {
            let mut query = db.prepare_cached(sql)?;
            let mut rows = query.query([])?;
            let mut found: HashMap<PathId, Settlement> = HashMap::new();
            while let Some(row) = rows.next()? {
                let settlement = found.entry(PathId(row.get(0)?)).or_default();
                let layer = LayerId(row.get(1)?);
                settlement.sides.push((layer, ContentHash::from_bytes(row.get(2)?)));
                if row.get(3)? {
                    settlement.winner = Some(layer);
                }
            }
            Ok(found)
        })
    }

    /// Puts what was settled at an address in place of what was before; nothing clears it.
    pub(crate) fn write_settlement(&self, path: PathId, settlement: Option<&Settlement>) -> Result<()> {
        self.run(|db| {
            db.prepare_cached("DELETE FROM settlement WHERE path = ?1")?.execute([path.0])?;
            let mut insert = db.prepare_cached("INSERT INTO settlement VALUES (?1, ?2, ?3, ?4)")?;
            for (layer, hash) in settlement.map(|settlement| settlement.sides.as_slice()).unwrap_or_default()
            {
                let wins = settlement.is_some_and(|settlement| settlement.winner == Some(*layer));
                insert.execute(params![path.0, layer.0, hash.as_bytes(), wins])?;
            }
            Ok(())
        })
    }

    /// Makes `new` a side of everything that `old` was a side of, with the content that `old` had.
    pub(crate) fn hand_on_settlements(&self, old: LayerId, new: LayerId) -> Result<()> {
        self.run(|db| {
            let sql = "UPDATE OR REPLACE settlement SET layer = ?2 WHERE layer = ?1";
            db.execute(sql, [old.0, new.0]).map(drop)
        })
    }

    /// What blending by that recipe gave.
    pub(crate) fn blend(&self, recipe: ContentHash) -> Result<Option<String>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT outcome FROM blend WHERE recipe = ?1")?;
            query.query_row([recipe.as_bytes()], |row| row.get(0)).optional()
        })
    }

    /// Notes what blending by a recipe gave.
    pub(crate) fn write_blend(&self, recipe: ContentHash, outcome: &str) -> Result<()> {
        self.run(|db| {
            let mut insert = db.prepare_cached("INSERT OR REPLACE INTO blend VALUES (?1, ?2)")?;
            insert.execute(params![recipe.as_bytes(), outcome]).map(drop)
        })
    }

    /// The hashes of a big content's parts, where they are known.
    pub(crate) fn tree(&self, content: ContentHash) -> Result<Option<Vec<u8>>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT groups FROM tree WHERE hash = ?1")?;
            query.query_row([content.as_bytes()], |row| row.get(0)).optional()
        })
    }

    /// Notes them.
    pub(crate) fn write_tree(&self, content: ContentHash, groups: &[u8]) -> Result<()> {
        self.run(|db| {
            let mut insert = db.prepare_cached("INSERT OR REPLACE INTO tree VALUES (?1, ?2)")?;
            insert.execute(params![content.as_bytes(), groups]).map(drop)
        })
    }

    /// Forgets those of what is no file of the game any more.
    pub(crate) fn drop_trees_of_nobody(&self) -> Result<()> {
        self.run(|db| {
            let sql = "DELETE FROM tree WHERE hash NOT IN (SELECT hash FROM base WHERE hash IS NOT NULL)";
            db.execute(sql, []).map(drop)
        })
    }

    /// Addresses at which files blended although their names tell nothing.
    pub(crate) fn settings_by_content(&self) -> Result<HashSet<PathId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT path FROM settings_by_content")?;
            query.query_map([], |row| Ok(PathId(row.get(0)?)))?.collect()
        })
    }

    /// Notes such an address.
    pub(crate) fn note_settings_by_content(&self, path: PathId) -> Result<()> {
        self.run(|db| {
            let mut insert = db.prepare_cached("INSERT OR IGNORE INTO settings_by_content VALUES (?1)")?;
            insert.execute([path.0]).map(drop)
        })
    }

    /// What is to be known of the layers in the stack, and of those being added, to judge needs.
    pub(crate) fn facts(&self) -> Result<Vec<LayerFacts>> {
        let rows = self.run(|db| {
            let sql = "SELECT id, name, version, needs FROM layer WHERE state < 2";
            let mut query = db.prepare_cached(sql)?;
            let read = |row: &Row<'_>| {
                let needs: Option<String> = row.get(3)?;
                let facts = LayerFacts {
                    id: LayerId(row.get(0)?),
                    name: row.get(1)?,
                    version: row.get(2)?,
                    needs: Needs::default(),
                };
                Ok((facts, needs))
            };
            query.query_map([], read)?.collect::<rusqlite::Result<Vec<_>>>()
        })?;
        let facts = rows.into_iter().map(|(facts, needs)| match needs {
            Some(text) => {
                let needs = serde_json::from_str(&text).map_err(|error| self.damaged(&error))?;
                Ok(LayerFacts { needs, ..facts })
            }
            None => Ok(facts),
        });
        facts.collect()
    }

    /// Notes what a layer needs, as JSON.
    pub(crate) fn set_needs(&self, layer: LayerId, needs: Option<&str>) -> Result<()> {
        self.run(|db| {
            let mut update = db.prepare_cached("UPDATE layer SET needs = ?2 WHERE id = ?1")?;
            update.execute(params![layer.0, needs]).map(drop)
        })
    }

    /// The layer of the user's own edits in the stack.
    pub(crate) fn own_edits(&self) -> Result<Option<LayerId>> {
        self.run(|db| {
            let sql = "SELECT id FROM layer WHERE own_edits AND state = 1";
            db.query_row(sql, [], |row| Ok(LayerId(row.get(0)?))).optional()
        })
    }

    /// The layers of the user's own edits: that in the stack, one that is about to take its place, and those of before.
    pub(crate) fn all_own_edits(&self) -> Result<HashSet<LayerId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id FROM layer WHERE own_edits")?;
            query.query_map([], |row| Ok(LayerId(row.get(0)?)))?.collect()
        })
    }

    /// Makes a layer that of the user's own edits.
    pub(crate) fn mark_as_own_edits(&self, layer: LayerId) -> Result<()> {
        self.run(|db| db.execute("UPDATE layer SET own_edits = 1 WHERE id = ?1", [layer.0]).map(drop))
    }

    /// Shows what all layers have at each address at which more than one has something, or one takes away or changes
    /// keys, in order of addresses. One walk over an index that holds it all.
    pub(crate) fn pass_meetings(&self, see: impl FnMut(&[Side])) -> Result<()> {
        self.pass_meetings_in(0..=i64::MAX, see)
    }

    /// As [`Catalogue::pass_meetings`], of the addresses with these numbers.
    pub(crate) fn pass_meetings_in(
        &self,
        numbers: RangeInclusive<i64>,
        mut see: impl FnMut(&[Side]),
    ) -> Result<()> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT path, layer, hash, kind FROM entry INDEXED BY entry_at_path
                 WHERE path BETWEEN ?1 AND ?2 ORDER BY path",
            )?;
            let mut rows = query.query([*numbers.start(), *numbers.end()])?;
            let mut sides: Vec<Side> = Vec::new();
            let is_of_interest = |sides: &[Side]| {
                sides.len() > 1
                    || sides
                        .iter()
                        .any(|side| side.kind == EntryKind::Keys || side.hash == ContentHash::NOTHING)
            };
            while let Some(row) = rows.next()? {
                let path = PathId(row.get(0)?);
                if sides.first().is_some_and(|first| first.path != path) {
                    if is_of_interest(&sides) {
                        see(&sides);
                    }
                    sides.clear();
                }
                let hash: [u8; 32] = row.get(2)?;
                sides.push(Side {
                    path,
                    layer: LayerId(row.get(1)?),
                    hash: ContentHash::from_bytes(hash),
                    kind: super::layers::read_kind(row.get(3)?),
                });
            }
            if is_of_interest(&sides) {
                see(&sides);
            }
            Ok(())
        })
    }

    /// Addresses whose folded path `meets` accepts, of one root.
    pub(crate) fn paths_in(&self, root: RootId, mut meets: impl FnMut(&str) -> bool) -> Result<Vec<PathId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id, folded FROM path WHERE root = ?1 ORDER BY id")?;
            let mut rows = query.query([root.0])?;
            let mut found = Vec::new();
            while let Some(row) = rows.next()? {
                if meets(row.get_ref(1)?.as_str()?) {
                    found.push(PathId(row.get(0)?));
                }
            }
            Ok(found)
        })
    }

    /// Addresses in one folder that begin with `start`, a folded path.
    pub(crate) fn paths_beginning(&self, root: RootId, start: &str) -> Result<Vec<(PathId, String)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT id, folded FROM path WHERE root = ?1 AND folded >= ?2 AND folded < ?3",
            )?;
            let end = format!("{start}\u{10ffff}");
            let rows =
                query.query_map(params![root.0, start, end], |row| Ok((PathId(row.get(0)?), row.get(1)?)))?;
            rows.collect()
        })
    }

    /// Addresses at which one layer in the stack has a file and another needs a folder.
    pub(crate) fn files_against_folders(&self) -> Result<Vec<(PathId, LayerId, LayerId)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT entry.path, entry.layer, layer_folder.layer
                 FROM layer_folder CROSS JOIN entry ON entry.path = layer_folder.path
                 JOIN layer AS one ON one.id = entry.layer AND one.state = 1
                 JOIN layer AS two ON two.id = layer_folder.layer AND two.state = 1
                 WHERE entry.hash <> zeroblob(32) AND NOT layer_folder.takes_away",
            )?;
            let rows = query
                .query_map([], |row| Ok((PathId(row.get(0)?), LayerId(row.get(1)?), LayerId(row.get(2)?))))?;
            rows.collect()
        })
    }

    /// The highest number of an address.
    pub(crate) fn highest_path(&self) -> Result<i64> {
        self.run(|db| db.query_row("SELECT coalesce(max(id), 0) FROM path", [], |row| row.get(0)))
    }

    /// The root and the folded path of an address.
    pub(crate) fn key_at(&self, path: PathId) -> Result<Option<(RootId, FoldedKey)>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT root, folded FROM path WHERE id = ?1")?;
            let read = |row: &Row<'_>| Ok((RootId(row.get(0)?), read_key(row, 1)?));
            query.query_row([path.0], read).optional()
        })
    }
}
