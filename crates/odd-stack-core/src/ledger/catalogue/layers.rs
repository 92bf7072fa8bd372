//! Layers, their entries and folders.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

use rusqlite::{OptionalExtension, Row, params};

use super::rows::{Inserting, ROWS_AT_ONCE, Values, insert_rows, optional};
use super::texts::read_path;
use super::{Catalogue, Result};
use crate::address::{FoldedKey, RelPath};
use crate::hash::ContentHash;
use crate::stack::{Arrangement, Entry, EntryKind, LayerId, PathId, RootId, Standing, Tally};

/// Where a layer is in its life.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LayerState {
    /// Its contents are stored, the change that puts it into the stack is not done.
    BeingAdded,
    /// In the stack, laid or lifted.
    InStack,
    /// Taken out; its record is kept for going back.
    Removed,
    /// It was taken out, and the change that brings it back is not done.
    ComingBack,
    /// It was taken out, and what it had was dropped: it can't come back, only its name is known.
    Forgotten,
}

/// Name, version, variant, fit and needs.
pub(crate) type AboutRow = (String, Option<String>, Option<String>, String, Option<String>);

impl LayerState {
    pub(super) fn number(self) -> i64 {
        match self {
            Self::BeingAdded => 0,
            Self::InStack => 1,
            Self::Removed => 2,
            Self::Forgotten => 3,
            // Less than `Removed`, as all that a change looks at.
            Self::ComingBack => -1,
        }
    }
}

/// What is known of a layer that is about to be added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewLayer {
    /// The user's name for it.
    pub name: String,
    /// Its version as written by its author.
    pub version: Option<String>,
    /// Which of several variants of its package it is.
    pub variant: Option<String>,
    /// The package it was read from, as a path.
    pub source: String,
    /// `folder`, or the kind of archive, such as `zip`.
    pub source_kind: String,
    /// RFC 3339.
    pub added_at: String,
    /// The fit's rules as JSON.
    pub fit: String,
    /// Count of its files.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
}

/// One layer of the stack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layer {
    /// The catalogue's number.
    pub id: LayerId,
    /// Place from 1 at the bottom.
    pub position: u64,
    /// On the game or kept off it.
    pub laid: bool,
    /// Name, version, source.
    pub about: NewLayer,
    /// Addresses it wins, and shares with others.
    pub tally: Tally,
}

const LAYER_COLUMNS: &str = "id, position, laid, name, version, source, source_kind, added_at, fit, files, bytes, \
                             won_files, contested_files, variant, open_files";

fn read_layer(row: &Row<'_>) -> rusqlite::Result<Layer> {
    Ok(Layer {
        id: LayerId(row.get(0)?),
        position: row.get::<_, i64>(1)?.cast_unsigned(),
        laid: row.get(2)?,
        about: NewLayer {
            name: row.get(3)?,
            version: row.get(4)?,
            variant: row.get(13)?,
            source: row.get(5)?,
            source_kind: row.get(6)?,
            added_at: row.get(7)?,
            fit: row.get(8)?,
            files: row.get::<_, i64>(9)?.cast_unsigned(),
            bytes: row.get::<_, i64>(10)?.cast_unsigned(),
        },
        tally: Tally { won_files: row.get(11)?, contested_files: row.get(12)?, open_files: row.get(14)? },
    })
}

pub(super) const ENTRY_COLUMNS: &str =
    "entry.layer, entry.spelled, entry.hash, entry.size_bytes, entry.modified, entry.executable, entry.kind";

pub(super) fn kind_number(kind: EntryKind) -> i64 {
    match kind {
        EntryKind::File => 0,
        EntryKind::Whole => 1,
        EntryKind::Keys => 2,
        EntryKind::Lines => 3,
        EntryKind::Members => 4,
        // Follows from the container, and so is never written.
        EntryKind::Packed => 1,
    }
}

pub(super) fn read_kind(number: i64) -> EntryKind {
    match number {
        0 => EntryKind::File,
        2 => EntryKind::Keys,
        3 => EntryKind::Lines,
        4 => EntryKind::Members,
        _ => EntryKind::Whole,
    }
}

/// Reads [`ENTRY_COLUMNS`] from the column number `at` on.
pub(super) fn read_entry(row: &Row<'_>, at: usize) -> rusqlite::Result<Entry> {
    Ok(Entry {
        layer: LayerId(row.get(at)?),
        spelled: read_path(row, at + 1)?,
        hash: ContentHash::from_bytes(row.get(at + 2)?),
        size_bytes: row.get::<_, i64>(at + 3)?.cast_unsigned(),
        modified: row.get(at + 4)?,
        executable: row.get(at + 5)?,
        kind: read_kind(row.get(at + 6)?),
    })
}

impl Catalogue {
    /// The stack from the bottom to the top.
    pub(crate) fn layers(&self) -> Result<Vec<Layer>> {
        self.run(|db| {
            let sql = format!("SELECT {LAYER_COLUMNS} FROM layer WHERE state = 1 ORDER BY position");
            let mut query = db.prepare_cached(&sql)?;
            query.query_map([], read_layer)?.collect()
        })
    }

    /// A layer, also one that was removed.
    pub(crate) fn layer(&self, layer: LayerId) -> Result<Option<Layer>> {
        self.run(|db| {
            // One that was removed has no place.
            let columns = LAYER_COLUMNS.replace("position, laid", "COALESCE(position, 0), COALESCE(laid, 0)");
            let mut query = db.prepare_cached(&format!("SELECT {columns} FROM layer WHERE id = ?1"))?;
            query.query_row([layer.0], read_layer).optional()
        })
    }

    /// Names of all layers in the stack or being added.
    pub(crate) fn layer_names(&self) -> Result<Vec<(LayerId, String)>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id, name FROM layer WHERE state < 2")?;
            query.query_map([], |row| Ok((LayerId(row.get(0)?), row.get(1)?)))?.collect()
        })
    }

    /// The name of a layer, removed ones too.
    pub(crate) fn layer_name(&self, layer: LayerId) -> Result<String> {
        self.run(|db| db.query_row("SELECT name FROM layer WHERE id = ?1", [layer.0], |row| row.get(0)))
    }

    /// The present arrangement.
    pub(crate) fn arrangement(&self) -> Result<Arrangement> {
        self.run(|db| {
            let sql = "SELECT id, laid FROM layer WHERE state = 1 ORDER BY position";
            let mut query = db.prepare_cached(sql)?;
            let rows =
                query.query_map([], |row| Ok(Standing { layer: LayerId(row.get(0)?), laid: row.get(1)? }))?;
            Ok(Arrangement::new(rows.collect::<rusqlite::Result<_>>()?))
        })
    }

    /// Notes a layer that is being added; it is not in the stack yet.
    pub(crate) fn insert_layer(&self, new: &NewLayer) -> Result<LayerId> {
        self.run(|db| {
            db.execute(
                "INSERT INTO layer (state, laid, name, version, source, source_kind, added_at, fit, files, bytes, variant)
                 VALUES (0, 0, ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
                params![
                    new.name,
                    new.version,
                    new.source,
                    new.source_kind,
                    new.added_at,
                    new.fit,
                    new.files.cast_signed(),
                    new.bytes.cast_signed(),
                    new.variant
                ],
            )?;
            Ok(LayerId(db.last_insert_rowid()))
        })
    }

    /// Notes how a layer came to be that a program made, as JSON.
    pub(crate) fn set_made_by(&self, layer: LayerId, made_by: &str) -> Result<()> {
        self.run(|db| {
            let sql = "UPDATE layer SET made_by = ?2 WHERE id = ?1";
            db.execute(sql, params![layer.0, made_by]).map(drop)
        })
    }

    /// How a layer came to be, if a program made it.
    pub(crate) fn made_by(&self, layer: LayerId) -> Result<Option<String>> {
        let sql = "SELECT made_by FROM layer WHERE id = ?1";
        self.run(|db| db.query_row(sql, [layer.0], |row| row.get(0)))
    }

    /// The numbers of addresses, making those that are new.
    pub(crate) fn path_numbers(&self, paths: &[(RootId, FoldedKey)]) -> Result<Vec<PathId>> {
        self.run(|db| {
            let mut inserting = Inserting::new(db, "INSERT OR IGNORE INTO path (root, folded)")?;
            let mut find = db.prepare_cached("SELECT id FROM path WHERE root = ?1 AND folded = ?2")?;
            let mut numbers = Vec::with_capacity(paths.len());
            // Most come in rows of new ones and of known ones.
            let mut are_likely_new = false;
            for some in paths.chunks(ROWS_AT_ONCE) {
                let made = match are_likely_new {
                    true => {
                        let rows: Vec<Values<'_, 2>> =
                            some.iter().map(|(root, key)| [root.0.into(), key.as_str().into()]).collect();
                        inserting.insert(&rows)?
                    }
                    false => 0,
                };
                if made == some.len() {
                    // New rows are numbered one after the other.
                    let last = db.last_insert_rowid();
                    numbers.extend((last - made as i64 + 1..=last).map(PathId));
                    continue;
                }
                are_likely_new = false;
                for (root, key) in some {
                    let path = params![root.0, key.as_str()];
                    let found = find.query_row(path, |row| row.get(0)).optional()?;
                    if found.is_none() {
                        inserting.insert(&[[root.0.into(), key.as_str().into()]])?;
                        are_likely_new = true;
                    }
                    numbers.push(PathId(found.unwrap_or_else(|| db.last_insert_rowid())));
                }
            }
            Ok(numbers)
        })
    }

    /// Notes a layer's entries with the package members they came from.
    pub(crate) fn insert_entries(&self, entries: &[(PathId, Entry, RelPath)]) -> Result<()> {
        self.run(|db| {
            let rows = entries.iter().map(|(path, entry, member)| {
                [
                    entry.layer.0.into(),
                    path.0.into(),
                    entry.spelled.as_str().into(),
                    entry.hash.as_bytes().as_slice().into(),
                    entry.size_bytes.cast_signed().into(),
                    entry.modified.into(),
                    optional(entry.executable),
                    member.as_str().into(),
                    kind_number(entry.kind).into(),
                ]
            });
            // Where one fails all of the change goes, so SQLite need not be able to take back the statement alone.
            insert_rows::<9>(db, "INSERT OR FAIL INTO entry", rows)
        })
    }

    /// Puts an entry in place of what its layer had at the address.
    pub(crate) fn replace_entry(&self, path: PathId, entry: &Entry) -> Result<()> {
        self.run(|db| {
            let mut update = db.prepare_cached(
                "UPDATE entry SET hash = ?3, size_bytes = ?4, modified = ?5, kind = ?6 WHERE layer = ?1 AND path = ?2",
            )?;
            let (layer, kind) = (entry.layer.0, kind_number(entry.kind));
            let size_bytes = entry.size_bytes.cast_signed();
            let row = params![layer, path.0, entry.hash.as_bytes(), size_bytes, entry.modified, kind];
            update.execute(row).map(drop)
        })
    }

    /// A layer's entries by address.
    pub(crate) fn entries_of(&self, layer: LayerId) -> Result<HashMap<PathId, Entry>> {
        self.run(|db| {
            let sql = format!("SELECT path, {ENTRY_COLUMNS} FROM entry WHERE layer = ?1");
            let mut query = db.prepare_cached(&sql)?;
            query.query_map([layer.0], |row| Ok((PathId(row.get(0)?), read_entry(row, 1)?)))?.collect()
        })
    }

    /// Gives `layer` all entries of `old` that it has not, but for those at `gone`, with their folders; says
    /// how many files it then has and their sizes together.
    pub(crate) fn inherit_entries(
        &self,
        layer: LayerId,
        old: LayerId,
        gone: &[PathId],
    ) -> Result<(u64, u64)> {
        self.run(|db| {
            db.execute(
                "INSERT OR IGNORE INTO entry
                 SELECT ?1, path, spelled, hash, size_bytes, modified, executable, member, kind
                 FROM entry WHERE layer = ?2",
                [layer.0, old.0],
            )?;
            db.execute(
                "INSERT OR IGNORE INTO layer_folder SELECT ?1, path, spelled, takes_away FROM layer_folder
                 WHERE layer = ?2",
                [layer.0, old.0],
            )?;
            let mut delete = db.prepare_cached("DELETE FROM entry WHERE layer = ?1 AND path = ?2")?;
            for path in gone {
                delete.execute([layer.0, path.0])?;
            }
            let sql = "SELECT count(*), coalesce(sum(size_bytes), 0) FROM entry WHERE layer = ?1";
            let (files, bytes): (i64, i64) =
                db.query_row(sql, [layer.0], |row| Ok((row.get(0)?, row.get(1)?)))?;
            db.execute(
                "UPDATE layer SET files = ?2, bytes = ?3 WHERE id = ?1",
                params![layer.0, files, bytes],
            )?;
            Ok((files.cast_unsigned(), bytes.cast_unsigned()))
        })
    }

    /// Notes the folders a layer needs.
    pub(crate) fn insert_folders(&self, layer: LayerId, folders: &[(PathId, RelPath)]) -> Result<()> {
        self.note_folders(layer, folders, false)
    }

    /// Notes folders of the base that a layer takes away; one that it needs stays.
    pub(crate) fn insert_folders_away(&self, layer: LayerId, folders: &[(PathId, RelPath)]) -> Result<()> {
        self.note_folders(layer, folders, true)
    }

    fn note_folders(&self, layer: LayerId, folders: &[(PathId, RelPath)], away: bool) -> Result<()> {
        self.run(|db| {
            let rows = folders
                .iter()
                .map(|(path, spelled)| [layer.0.into(), path.0.into(), spelled.as_str().into(), away.into()]);
            insert_rows::<4>(db, "INSERT OR IGNORE INTO layer_folder", rows)
        })
    }

    /// Puts the stack into `arrangement`; `removed` leave it. Layers being added that the
    /// arrangement names are in the stack from then on.
    pub(crate) fn write_arrangement(&self, arrangement: &Arrangement, removed: &[LayerId]) -> Result<()> {
        self.run(|db| {
            let mut update =
                db.prepare_cached("UPDATE layer SET state = ?2, position = ?3, laid = ?4 WHERE id = ?1")?;
            for (index, standing) in arrangement.standings().iter().enumerate() {
                let state = LayerState::InStack.number();
                update.execute(params![standing.layer.0, state, index as i64 + 1, standing.laid])?;
            }
            for layer in removed {
                update.execute(params![layer.0, LayerState::Removed.number(), None::<i64>, false])?;
            }
            Ok(())
        })
    }

    /// Has removed layers take part in the change that brings them back. They count nothing yet: what took a layer's place
    /// had on what both had alike.
    pub(crate) fn bring_back(&self, layers: &[LayerId]) -> Result<()> {
        self.run(|db| {
            let mut update = db.prepare_cached(
                "UPDATE layer SET state = ?2, won_files = 0, contested_files = 0, open_files = 0
                 WHERE id = ?1 AND state = ?3",
            )?;
            let (from, to) = (LayerState::Removed.number(), LayerState::ComingBack.number());
            layers.iter().try_for_each(|layer| update.execute(params![layer.0, to, from]).map(drop))
        })
    }

    /// The contents of layers being added.
    pub(crate) fn unfinished_contents(&self) -> Result<Vec<ContentHash>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT DISTINCT hash FROM entry WHERE layer IN (SELECT id FROM layer WHERE state = 0)",
            )?;
            query.query_map([], |row| Ok(ContentHash::from_bytes(row.get(0)?)))?.collect()
        })
    }

    /// Drops layers whose adding was taken back, with their entries; those that were to come back stay removed.
    pub(crate) fn drop_unfinished_layers(&self) -> Result<()> {
        self.run(|db| {
            db.execute_batch(
                "DELETE FROM entry WHERE layer IN (SELECT id FROM layer WHERE state = 0);
                 DELETE FROM layer_folder WHERE layer IN (SELECT id FROM layer WHERE state = 0);
                 DELETE FROM layer WHERE state = 0;
                 UPDATE layer SET state = 2 WHERE state = -1;",
            )
        })
    }

    /// A layer's tally.
    pub(crate) fn tally_of(&self, layer: LayerId) -> Result<Tally> {
        self.run(|db| {
            let sql = "SELECT won_files, contested_files, open_files FROM layer WHERE id = ?1";
            db.query_row(sql, [layer.0], |row| {
                Ok(Tally { won_files: row.get(0)?, contested_files: row.get(1)?, open_files: row.get(2)? })
            })
        })
    }

    /// Adds to a layer's tally.
    pub(crate) fn add_to_tally(&self, layer: LayerId, change: Tally) -> Result<()> {
        self.run(|db| {
            let mut update = db.prepare_cached(
                "UPDATE layer SET won_files = won_files + ?2, contested_files = contested_files + ?3,
                     open_files = open_files + ?4 WHERE id = ?1",
            )?;
            let Tally { won_files, contested_files, open_files } = change;
            update.execute(params![layer.0, won_files, contested_files, open_files]).map(drop)
        })
    }

    /// Name, version, variant, fit and needs of a layer, whether it is in the stack or not.
    pub(crate) fn about(&self, layer: LayerId) -> Result<Option<AboutRow>> {
        self.run(|db| {
            let sql = "SELECT name, version, variant, fit, needs FROM layer WHERE id = ?1";
            let read = |row: &rusqlite::Row<'_>| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
            };
            db.prepare_cached(sql)?.query_row([layer.0], read).optional()
        })
    }

    /// The package that any layer was made from, and when, RFC 3339.
    pub(crate) fn made_of(&self, layer: LayerId) -> Result<(String, String)> {
        self.run(|db| {
            let sql = "SELECT source, added_at FROM layer WHERE id = ?1";
            db.query_row(sql, [layer.0], |row| Ok((row.get(0)?, row.get(1)?)))
        })
    }

    /// Writes what is known of a layer anew.
    pub(crate) fn write_about(
        &self,
        layer: LayerId,
        name: &str,
        version: Option<&str>,
        variant: Option<&str>,
        fit: &str,
    ) -> Result<()> {
        self.run(|db| {
            let sql = "UPDATE layer SET name = ?2, version = ?3, variant = ?4, fit = ?5 WHERE id = ?1";
            db.execute(sql, params![layer.0, name, version, variant, fit]).map(drop)
        })
    }

    /// The revision for which what layers want cleared was cleared last, 0 if never.
    pub(crate) fn cleared_revision(&self) -> Result<i64> {
        self.run(|db| db.query_row("SELECT coalesce(max(revision), 0) FROM cleared", [], |row| row.get(0)))
    }

    /// Notes for which revision it was cleared.
    pub(crate) fn set_cleared_revision(&self, revision: i64) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO cleared VALUES (1, ?1)";
        self.run(|db| db.execute(sql, [revision]).map(drop))
    }

    /// Whether a person has agreed to what the hash stands for.
    pub(crate) fn is_agreed(&self, hash: ContentHash) -> Result<bool> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT 1 FROM agreement WHERE hash = ?1")?;
            query.exists([hash.as_bytes()])
        })
    }

    /// Notes what a person has agreed to.
    pub(crate) fn write_agreement(&self, hash: ContentHash, layer: &str, agreed_at: &str) -> Result<()> {
        self.run(|db| {
            let sql = "INSERT OR REPLACE INTO agreement VALUES (?1, ?2, ?3)";
            db.execute(sql, params![hash.as_bytes(), layer, agreed_at]).map(drop)
        })
    }

    /// The contents that layers of the stack have, with their sizes, each once.
    pub(crate) fn contents_in_stack(&self) -> Result<Vec<(ContentHash, u64)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT DISTINCT hash, size_bytes FROM entry JOIN layer ON layer.id = entry.layer
                 WHERE layer.state < 2 AND hash <> zeroblob(32)",
            )?;
            let read = |row: &Row<'_>| {
                Ok((ContentHash::from_bytes(row.get(0)?), row.get::<_, i64>(1)?.cast_unsigned()))
            };
            query.query_map([], read)?.collect()
        })
    }

    /// The entries of layers of the stack, or being added, that have one of `hashes`: content, layer, root, path.
    pub(crate) fn entries_with(
        &self,
        hashes: &HashSet<ContentHash>,
    ) -> Result<Vec<(ContentHash, LayerId, RootId, RelPath)>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT entry.hash, entry.layer, path.root, entry.spelled FROM entry
                 JOIN path ON path.id = entry.path JOIN layer ON layer.id = entry.layer AND layer.state < 2",
            )?;
            let mut rows = query.query([])?;
            let mut found = Vec::new();
            while let Some(row) = rows.next()? {
                let hash = ContentHash::from_bytes(row.get(0)?);
                if hashes.contains(&hash) {
                    let spelled = read_path(row, 3)?;
                    found.push((hash, LayerId(row.get(1)?), RootId(row.get(2)?), spelled));
                }
            }
            Ok(found)
        })
    }

    /// The packages, as paths, of all layers that have one of `hashes`, also those of before: the present ones first, each once.
    pub(crate) fn packages_with(&self, hashes: &HashSet<ContentHash>) -> Result<Vec<PathBuf>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT entry.hash, layer.source FROM layer JOIN entry ON entry.layer = layer.id
                 ORDER BY layer.state < 2 DESC, layer.id DESC",
            )?;
            let mut rows = query.query([])?;
            let mut packages: Vec<PathBuf> = Vec::new();
            while let Some(row) = rows.next()? {
                if hashes.contains(&ContentHash::from_bytes(row.get(0)?)) {
                    let package = PathBuf::from(row.get::<_, String>(1)?);
                    // What was made here has no package.
                    if package.is_absolute() && !packages.contains(&package) {
                        packages.push(package);
                    }
                }
            }
            Ok(packages)
        })
    }

    /// Names and packages of all layers in the stack or being added.
    pub(crate) fn layer_sources(&self) -> Result<Vec<(LayerId, (String, String))>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id, name, source FROM layer WHERE state < 2")?;
            query.query_map([], |row| Ok((LayerId(row.get(0)?), (row.get(1)?, row.get(2)?))))?.collect()
        })
    }
}
