//! Queries for what touches an address.

use std::collections::{HashMap, HashSet};
use std::ops::RangeInclusive;

use rusqlite::{OptionalExtension, Row, params};

use super::base::{BASE_COLUMNS, read_base};
use super::layers::{ENTRY_COLUMNS, kind_number, read_entry};
use super::texts::{read_key, read_path};
use super::{Catalogue, Result};
use crate::address::{FoldedKey, INTO, RelPath};
use crate::hash::ContentHash;
use crate::stack::{BaseKind, Column, Entry, EntryKind, LayerId, PathId, RootId};

/// A folder that a layer needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FolderNeed {
    pub layer: LayerId,
    pub spelled: RelPath,
}

/// A folder's address with the base's spelling and the layers that need it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FolderSource {
    pub base: Option<(RelPath, BaseKind)>,
    pub needs: Vec<FolderNeed>,
    /// Layers that take the base's own folder away.
    pub away: Vec<LayerId>,
}

/// So many columns are given at once: few to remember, and enough for all threads. Where it is tested there are parts of
/// small changes, too.
const COLUMNS_A_PART: usize = if cfg!(debug_assertions) { 5 } else { MANY_COLUMNS };

/// As many columns as this are many.
const MANY_COLUMNS: usize = 4096;

/// All numbers of addresses.
const ALL: RangeInclusive<i64> = i64::MIN..=i64::MAX;

/// Addresses that were looked up; what is there is read in parts. Good until others are looked up.
#[derive(Debug)]
pub(crate) struct Touched {
    /// How many they are.
    pub count: usize,
    /// Ranges of their numbers, none of which cuts a container from its members.
    pub parts: Vec<RangeInclusive<i64>>,
}

/// Between which texts the folded paths of a container's members lie.
fn bounds_within(container: &FoldedKey) -> (String, String) {
    (format!("{}{INTO}", container.as_str()), format!("{}!0", container.as_str()))
}

impl Catalogue {
    /// The columns of all addresses at which one of `layers` has an entry, and of those in `also`, in order of
    /// number.
    pub(crate) fn columns_of(&self, layers: &[LayerId], also: &[PathId]) -> Result<Vec<Column>> {
        self.touch(layers, also)?;
        self.touch_containers()?;
        self.columns_among("touched", ALL)
    }

    /// Looks up the addresses of [`Catalogue::columns_of`].
    pub(crate) fn touched_by(&self, layers: &[LayerId], also: &[PathId]) -> Result<Touched> {
        self.touch(layers, also)?;
        let has_containers = self.touch_containers()?;
        self.touched(has_containers)
    }

    fn touch(&self, layers: &[LayerId], also: &[PathId]) -> Result<()> {
        self.run(|db| {
            db.execute_batch(
                "CREATE TEMP TABLE IF NOT EXISTS touched (path INTEGER PRIMARY KEY); DELETE FROM touched;",
            )?;
            let mut touch =
                db.prepare_cached("INSERT OR IGNORE INTO touched SELECT path FROM entry WHERE layer = ?1")?;
            for layer in layers {
                touch.execute([layer.0])?;
            }
            let mut touch = db.prepare_cached("INSERT OR IGNORE INTO touched VALUES (?1)")?;
            for path in also {
                touch.execute([path.0])?;
            }
            Ok(())
        })
    }

    fn touched(&self, has_containers: bool) -> Result<Touched> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT path FROM touched ORDER BY path")?;
            let mut rows = query.query([])?;
            let (mut count, mut parts, mut first, mut last) = (0, Vec::new(), None, 0);
            while let Some(row) = rows.next()? {
                last = row.get(0)?;
                first = first.or(Some(last));
                count += 1;
                if count % COLUMNS_A_PART == 0 && !has_containers {
                    parts.extend(first.take().map(|first| first..=last));
                }
            }
            parts.extend(first.map(|first| first..=last));
            Ok(Touched { count, parts })
        })
    }

    /// The columns of one of the parts of what was looked up last, in order of number.
    pub(crate) fn columns_in(&self, part: &RangeInclusive<i64>) -> Result<Vec<Column>> {
        self.columns_among("touched", part.clone())
    }

    /// Looks up all addresses at which two layers do not have just the same entry, and those in `also`; tells, too, how many
    /// files the two have alike.
    pub(crate) fn touched_apart(
        &self,
        old: LayerId,
        new: LayerId,
        also: &[PathId],
    ) -> Result<(Touched, u64)> {
        const ALIKE: &str = "one.path = two.path AND one.hash = two.hash AND one.spelled = two.spelled
            AND one.modified = two.modified AND one.executable IS two.executable";
        self.touch(&[], also)?;
        self.run(|db| {
            for (this, other) in [(old, new), (new, old)] {
                let sql = format!(
                    "INSERT OR IGNORE INTO touched SELECT path FROM entry AS one WHERE layer = ?1 AND NOT EXISTS (
                         SELECT 1 FROM entry AS two WHERE two.layer = ?2 AND {ALIKE})"
                );
                db.prepare_cached(&sql)?.execute([this.0, other.0])?;
            }
            Ok(())
        })?;
        let has_containers = self.touch_containers()?;
        let alike = self.run(|db| {
            // What is looked at anyway is counted there.
            let sql = format!(
                "SELECT count(*) FROM entry AS one CROSS JOIN entry AS two ON two.layer = ?2 AND {ALIKE}
                 WHERE one.layer = ?1 AND one.kind <> 4 AND NOT EXISTS (
                     SELECT 1 FROM touched WHERE touched.path = one.path)"
            );
            db.query_row(&sql, [old.0, new.0], |row| row.get::<_, i64>(0))
        })?;
        Ok((self.touched(has_containers)?, alike.cast_unsigned()))
    }

    /// Those of the addresses that were looked up last at which a layer needs a folder.
    pub(crate) fn folders_among_columns(&self) -> Result<HashSet<PathId>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT path FROM touched WHERE EXISTS (
                     SELECT 1 FROM layer_folder
                     WHERE layer_folder.path = touched.path AND NOT layer_folder.takes_away)",
            )?;
            query.query_map([], |row| Ok(PathId(row.get(0)?)))?.collect()
        })
    }

    /// The number of an address, if any layer ever touched it.
    pub(crate) fn known_path(&self, root: RootId, key: &FoldedKey) -> Result<Option<PathId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id FROM path WHERE root = ?1 AND folded = ?2")?;
            query.query_row(params![root.0, key.as_str()], |row| Ok(PathId(row.get(0)?))).optional()
        })
    }

    /// Addresses at which one of `layers` has a file whose name meets `may_be`.
    pub(crate) fn paths_named(
        &self,
        layers: &[LayerId],
        may_be: impl Fn(&str) -> bool,
    ) -> Result<Vec<PathId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT path, spelled FROM entry WHERE layer = ?1")?;
            let mut found = Vec::new();
            for layer in layers {
                let mut rows = query.query([layer.0])?;
                while let Some(row) = rows.next()? {
                    if row.get_ref(1)?.as_str().is_ok_and(&may_be) {
                        found.push(PathId(row.get(0)?));
                    }
                }
            }
            Ok(found)
        })
    }

    /// The root of each numbered address.
    pub(crate) fn roots_of_paths(&self) -> Result<HashMap<PathId, RootId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id, root FROM path")?;
            query.query_map([], |row| Ok((PathId(row.get(0)?), RootId(row.get(1)?))))?.collect()
        })
    }

    /// The column of one address, if any layer ever touched it.
    pub(crate) fn column_at(&self, root: RootId, key: &FoldedKey) -> Result<Option<Column>> {
        self.run(|db| {
            db.execute_batch(
                "CREATE TEMP TABLE IF NOT EXISTS touched (path INTEGER PRIMARY KEY); DELETE FROM touched;",
            )?;
            let sql = "INSERT INTO touched SELECT id FROM path WHERE root = ?1 AND folded = ?2";
            db.execute(sql, params![root.0, key.as_str()]).map(drop)
        })?;
        Ok(self.columns_among("touched", ALL)?.pop())
    }

    /// What any layer has at an address, those included that were removed.
    pub(crate) fn past_entries(&self, path: PathId) -> Result<Vec<Entry>> {
        self.run(|db| {
            let sql = format!("SELECT {ENTRY_COLUMNS} FROM entry WHERE path = ?1");
            let mut query = db.prepare_cached(&sql)?;
            query.query_map([path.0], |row| read_entry(row, 0))?.collect()
        })
    }

    /// Columns of every address that one of `layers` touches, with those layers' entries only and
    /// without the base. Walks each layer from end to end, which is the quickest way to have all.
    pub(crate) fn columns_of_all(&self, layers: &[LayerId]) -> Result<Vec<Column>> {
        let mut columns = self.run(|db| {
            let mut query = db.prepare_cached(&format!(
                "SELECT path.id, path.root, path.folded, {ENTRY_COLUMNS}
                 FROM entry CROSS JOIN path ON path.id = entry.path WHERE entry.layer = ?1"
            ))?;
            let mut columns: Vec<Column> = Vec::new();
            // By number of the path; these are given one after the other.
            let mut places: Vec<Option<usize>> = Vec::new();
            for layer in layers {
                let mut rows = query.query([layer.0])?;
                while let Some(row) = rows.next()? {
                    let path = PathId(row.get(0)?);
                    let entry = read_entry(row, 3)?;
                    let number = usize::try_from(path.0).unwrap_or(0);
                    if places.len() <= number {
                        places.resize(number + 1, None);
                    }
                    if let Some(place) = places[number] {
                        columns[place].entries.push(entry);
                        continue;
                    }
                    places[number] = Some(columns.len());
                    let key = FoldedKey::sharing(row.get_ref(2)?.as_str()?, &entry.spelled);
                    let entries = vec![entry];
                    columns.push(Column { entries, ..Column::empty(path, RootId(row.get(1)?), key) });
                }
            }
            Ok(columns)
        })?;
        self.mark_members(&mut columns)?;
        Ok(columns)
    }

    /// The columns of the addresses in a temporary set whose numbers are in that range. The cross join keeps the set in front: else
    /// the whole table of entries may be walked for the sake of its order.
    fn columns_among(&self, set: &str, part: RangeInclusive<i64>) -> Result<Vec<Column>> {
        let mut columns = self.run(|db| {
            let sql = format!(
                "SELECT path.id, path.root, path.folded, {ENTRY_COLUMNS}
                 FROM {set} CROSS JOIN entry ON entry.path = {set}.path
                 CROSS JOIN path ON path.id = entry.path
                 CROSS JOIN layer ON layer.id = entry.layer AND layer.state < 2
                 WHERE {set}.path BETWEEN ?1 AND ?2
                 ORDER BY {set}.path"
            );
            let mut query = db.prepare_cached(&sql)?;
            let mut base = db.prepare_cached(&format!(
                "SELECT {BASE_COLUMNS} FROM base WHERE root = ?1 AND folded = ?2"
            ))?;
            let mut rows = query.query([part.start(), part.end()])?;
            let mut columns: Vec<Column> = Vec::new();
            while let Some(row) = rows.next()? {
                let path = PathId(row.get(0)?);
                let entry = read_entry(row, 3)?;
                match columns.last_mut() {
                    Some(column) if column.path == path => column.entries.push(entry),
                    _ => {
                        let root = row.get(1)?;
                        let key = FoldedKey::sharing(row.get_ref(2)?.as_str()?, &entry.spelled);
                        let mut found = base.query(params![root, key.as_str()])?;
                        let base = found.next()?.map(|row| read_base(row, 0).map(Box::new)).transpose()?;
                        let entries = vec![entry];
                        columns.push(Column { base, entries, ..Column::empty(path, RootId(root), key) });
                    }
                }
            }
            // There may be very many, each of 130 bytes; and what SQLite remembers of the way there is as much as theirs.
            columns.shrink_to_fit();
            if columns.len() >= MANY_COLUMNS {
                db.execute_batch("PRAGMA shrink_memory")?;
            }
            Ok(columns)
        })?;
        self.mark_members(&mut columns)?;
        Ok(columns)
    }

    /// The column of one address, as [`Catalogue::column_at`], which does not change what was looked up last.
    pub(crate) fn column_alone(&self, root: RootId, key: &FoldedKey) -> Result<Option<Column>> {
        self.run(|db| {
            db.execute_batch(
                "CREATE TEMP TABLE IF NOT EXISTS asked (path INTEGER PRIMARY KEY); DELETE FROM asked;",
            )?;
            let sql = "INSERT INTO asked SELECT id FROM path WHERE root = ?1 AND folded = ?2";
            db.execute(sql, params![root.0, key.as_str()]).map(drop)
        })?;
        Ok(self.columns_among("asked", ALL)?.pop())
    }

    /// The columns of all addresses within a container, those within containers in it included; does not change what was
    /// looked up last.
    pub(crate) fn columns_within(&self, root: RootId, container: &FoldedKey) -> Result<Vec<Column>> {
        self.run(|db| {
            db.execute_batch(
                "CREATE TEMP TABLE IF NOT EXISTS asked (path INTEGER PRIMARY KEY); DELETE FROM asked;",
            )?;
            let sql = "INSERT INTO asked SELECT id FROM path WHERE root = ?1 AND folded > ?2 AND folded < ?3";
            let (start, end) = bounds_within(container);
            db.execute(sql, params![root.0, start, end]).map(drop)
        })?;
        self.columns_among("asked", ALL)
    }

    /// The columns of all addresses at which a layer in the stack takes something away; does not change what was looked up
    /// last.
    pub(crate) fn columns_taken_away(&self) -> Result<Vec<Column>> {
        self.run(|db| {
            db.execute_batch(
                "CREATE TEMP TABLE IF NOT EXISTS asked (path INTEGER PRIMARY KEY); DELETE FROM asked;
                 INSERT OR IGNORE INTO asked SELECT path FROM entry
                 WHERE hash = x'0000000000000000000000000000000000000000000000000000000000000000';",
            )
        })?;
        self.columns_among("asked", ALL)
    }

    /// Containers of which a layer in the stack changes members.
    pub(crate) fn containers(&self) -> Result<Vec<(PathId, RootId, FoldedKey)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT DISTINCT path.id, path.root, path.folded FROM entry CROSS JOIN path ON path.id = entry.path WHERE entry.kind = 4",
            )?;
            let row = |row: &Row<'_>| {
                Ok((PathId(row.get(0)?), RootId(row.get(1)?), read_key(row, 2)?))
            };
            query.query_map([], row)?.collect()
        })
    }

    /// What the game's container had at a member's address when that was last decided on; nothing if it never was.
    pub(crate) fn member_seen(&self, path: PathId) -> Result<Option<ContentHash>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT hash FROM member_seen WHERE path = ?1")?;
            query.query_row([path.0], |row| Ok(ContentHash::from_bytes(row.get(0)?))).optional()
        })
    }

    /// Notes what the game's container has at a member's address.
    pub(crate) fn see_member(&self, path: PathId, hash: ContentHash) -> Result<()> {
        self.run(|db| {
            let mut insert = db.prepare_cached("INSERT OR REPLACE INTO member_seen VALUES (?1, ?2)")?;
            insert.execute(params![path.0, hash.as_bytes()]).map(drop)
        })
    }

    /// Touches a container with any member of it, and all members with it: they make one file. Says whether there is any.
    fn touch_containers(&self) -> Result<bool> {
        let mut is_any = false;
        for (path, root, key) in self.containers()? {
            is_any |= self.run(|db| {
                let (start, end) = bounds_within(&key);
                let sql = "SELECT EXISTS (SELECT 1 FROM touched WHERE path = ?4) OR EXISTS (
                               SELECT 1 FROM path JOIN touched ON touched.path = path.id
                               WHERE root = ?1 AND folded > ?2 AND folded < ?3)";
                let mut is_touched = db.prepare_cached(sql)?;
                if !is_touched.query_row(params![root.0, start, end, path.0], |row| row.get::<_, bool>(0))? {
                    return Ok(false);
                }
                let sql = "INSERT OR IGNORE INTO touched SELECT id FROM path
                           WHERE root = ?1 AND folded > ?2 AND folded < ?3";
                db.prepare_cached(sql)?.execute(params![root.0, start, end])?;
                let mut touch = db.prepare_cached("INSERT OR IGNORE INTO touched VALUES (?1)")?;
                touch.execute([path.0]).map(|_| true)
            })?;
        }
        Ok(is_any)
    }

    /// Marks those that are members'.
    fn mark_members(&self, columns: &mut [Column]) -> Result<()> {
        // By far the most games have none.
        let mut containers: Option<HashSet<(RootId, FoldedKey)>> = None;
        for column in columns.iter_mut() {
            let text = column.key.as_str();
            for (at, _) in text.match_indices(INTO) {
                if containers.is_none() {
                    let all = self.containers()?.into_iter();
                    containers = Some(all.map(|(_, root, key)| (root, key)).collect());
                }
                let key = FoldedKey::from_stored(&text[..at]);
                if containers.as_ref().is_some_and(|all| all.contains(&(column.root, key))) {
                    column.is_member = true;
                    break;
                }
            }
        }
        Ok(())
    }

    /// The package members that a layer's entries came from.
    pub(crate) fn members_of(&self, layer: LayerId) -> Result<HashMap<PathId, String>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT path, member FROM entry WHERE layer = ?1")?;
            query.query_map([layer.0], |row| Ok((PathId(row.get(0)?), row.get(1)?)))?.collect()
        })
    }

    /// The addresses at which a layer puts files; not those where it takes something away or changes keys.
    pub(crate) fn addresses_of_files(&self, layer: LayerId) -> Result<Vec<(RootId, FoldedKey)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT path.root, path.folded FROM entry JOIN path ON path.id = entry.path
                 WHERE layer = ?1 AND kind <> ?2 AND hash <> ?3",
            )?;
            let nothing = ContentHash::NOTHING;
            let keys = kind_number(EntryKind::Keys);
            let row = |row: &Row<'_>| Ok((RootId(row.get(0)?), read_key(row, 1)?));
            query.query_map(params![layer.0, keys, nothing.as_bytes()], row)?.collect()
        })
    }

    /// The package member that a layer's entry at one address came from.
    pub(crate) fn member_of(&self, layer: LayerId, path: PathId) -> Result<Option<String>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT member FROM entry WHERE layer = ?1 AND path = ?2")?;
            query.query_row([layer.0, path.0], |row| row.get(0)).optional()
        })
    }

    /// The folders that any of `layers` needs or takes away.
    pub(crate) fn folders_of(&self, layers: &[LayerId]) -> Result<Vec<(RootId, FoldedKey)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT path.root, path.folded FROM layer_folder JOIN path ON path.id = layer_folder.path
                 WHERE layer = ?1",
            )?;
            let mut folders = Vec::new();
            for layer in layers {
                let rows = query.query_map([layer.0], |row| Ok((RootId(row.get(0)?), read_key(row, 1)?)))?;
                for row in rows {
                    folders.push(row?);
                }
            }
            folders.sort();
            folders.dedup();
            Ok(folders)
        })
    }

    /// Who wants a folder at the address.
    pub(crate) fn folder_source(&self, root: RootId, key: &FoldedKey) -> Result<FolderSource> {
        let base = self.base_at(root, key)?.map(|base| (base.spelled, base.kind));
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT layer_folder.layer, layer_folder.spelled, layer_folder.takes_away FROM path
                 JOIN layer_folder ON layer_folder.path = path.id
                 JOIN layer ON layer.id = layer_folder.layer AND layer.state < 2
                 WHERE path.root = ?1 AND path.folded = ?2",
            )?;
            let mut source = FolderSource { base, needs: Vec::new(), away: Vec::new() };
            let mut rows = query.query(params![root.0, key.as_str()])?;
            while let Some(row) = rows.next()? {
                let layer = LayerId(row.get(0)?);
                if row.get(2)? {
                    source.away.push(layer);
                } else {
                    source.needs.push(FolderNeed { layer, spelled: read_path(row, 1)? });
                }
            }
            Ok(source)
        })
    }

    /// Layers, laid or not, that have a file at the address.
    pub(crate) fn layers_with_file(&self, root: RootId, key: &FoldedKey) -> Result<Vec<LayerId>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT entry.layer FROM path JOIN entry ON entry.path = path.id
                 JOIN layer ON layer.id = entry.layer AND layer.state < 2
                 WHERE path.root = ?1 AND path.folded = ?2",
            )?;
            let rows = query.query_map(params![root.0, key.as_str()], |row| Ok(LayerId(row.get(0)?)))?;
            rows.collect()
        })
    }

    /// Names of layers in the stack with entries or folders in a root.
    pub(crate) fn layers_in_root(&self, root: RootId) -> Result<Vec<String>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT name FROM layer WHERE state < 2 AND (
                     EXISTS (SELECT 1 FROM entry JOIN path ON path.id = entry.path
                             WHERE entry.layer = layer.id AND path.root = ?1)
                     OR EXISTS (SELECT 1 FROM layer_folder JOIN path ON path.id = layer_folder.path
                                WHERE layer_folder.layer = layer.id AND path.root = ?1))
                 ORDER BY position",
            )?;
            query.query_map([root.0], |row| row.get(0))?.collect()
        })
    }
}
