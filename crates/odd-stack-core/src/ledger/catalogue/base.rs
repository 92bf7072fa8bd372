//! The game's own files.

use rusqlite::{OptionalExtension, Row, params};

use super::rows::{Inserting, ROWS_AT_ONCE, Values, optional};
use super::texts::{read_key, read_path};
use super::{Catalogue, Result};
use crate::address::{FoldedKey, RelPath};
use crate::hash::ContentHash;
use crate::stack::{BaseFile, BaseKind, RootId};

pub(super) const BASE_COLUMNS: &str =
    "base.spelled, base.kind, base.size_bytes, base.modified_ns, base.mode, base.hash";

/// Whether `folded` is the address ?2 or below it; `0` is the letter after `/`.
const WITHIN: &str = "(folded = ?2 OR folded > ?2 || '/' AND folded < ?2 || '0')";

/// Reads [`BASE_COLUMNS`] from the column number `at` on.
pub(super) fn read_base(row: &Row<'_>, at: usize) -> rusqlite::Result<BaseFile> {
    Ok(BaseFile {
        spelled: read_path(row, at)?,
        kind: read_kind(row.get(at + 1)?),
        size_bytes: row.get::<_, i64>(at + 2)?.cast_unsigned(),
        modified_ns: row.get(at + 3)?,
        mode: row.get(at + 4)?,
        hash: row.get::<_, Option<[u8; 32]>>(at + 5)?.map(ContentHash::from_bytes),
    })
}

pub(super) fn read_kind(number: i64) -> BaseKind {
    match number {
        0 => BaseKind::File,
        1 => BaseKind::Folder,
        2 => BaseKind::Link,
        _ => BaseKind::Other,
    }
}

pub(super) fn kind_number(kind: BaseKind) -> i64 {
    match kind {
        BaseKind::File => 0,
        BaseKind::Folder => 1,
        BaseKind::Link => 2,
        BaseKind::Other => 3,
    }
}

fn values<'r>(root: RootId, key: &'r FoldedKey, base: &'r BaseFile) -> Values<'r, 8> {
    [
        root.0.into(),
        key.as_str().into(),
        base.spelled.as_str().into(),
        kind_number(base.kind).into(),
        base.size_bytes.cast_signed().into(),
        base.modified_ns.into(),
        base.mode.into(),
        optional(base.hash.as_ref().map(|hash| hash.as_bytes().as_slice())),
    ]
}

impl Catalogue {
    /// Notes what a scan found; `found` must be sorted by key for speed. Gives those whose key was
    /// taken already by another spelling, which are left out.
    pub(crate) fn insert_base<'a>(
        &self,
        root: RootId,
        found: &'a [(FoldedKey, BaseFile)],
    ) -> Result<Vec<&'a BaseFile>> {
        self.run(|db| {
            let mut inserting = Inserting::new(db, "INSERT OR IGNORE INTO base")?;
            let mut spelled =
                db.prepare_cached("SELECT spelled FROM base WHERE root = ?1 AND folded = ?2")?;
            let mut doubled = Vec::new();
            for some in found.chunks(ROWS_AT_ONCE) {
                let rows: Vec<_> = some.iter().map(|(key, base)| values(root, key, base)).collect();
                if inserting.insert(&rows)? == rows.len() {
                    continue;
                }
                for (key, base) in some {
                    let there: String = spelled.query_row(params![root.0, key.as_str()], |row| row.get(0))?;
                    if there != base.spelled.as_str() {
                        doubled.push(base);
                    }
                }
            }
            Ok(doubled)
        })
    }

    /// Puts one thing of the base in place of what was known there.
    pub(crate) fn replace_base(&self, root: RootId, key: &FoldedKey, base: &BaseFile) -> Result<()> {
        self.forget_base(root, key)?;
        self.insert_base(root, &[(key.clone(), base.clone())]).map(drop)
    }

    /// Takes an address out of the base.
    pub(crate) fn forget_base(&self, root: RootId, key: &FoldedKey) -> Result<()> {
        self.run(|db| {
            let mut delete = db.prepare_cached("DELETE FROM base WHERE root = ?1 AND folded = ?2")?;
            delete.execute(params![root.0, key.as_str()]).map(drop)
        })
    }

    /// Notes the hash of a base file.
    pub(crate) fn set_base_hash(&self, root: RootId, key: &FoldedKey, hash: ContentHash) -> Result<()> {
        self.run(|db| {
            let mut update =
                db.prepare_cached("UPDATE base SET hash = ?3 WHERE root = ?1 AND folded = ?2")?;
            update.execute(params![root.0, key.as_str(), hash.as_bytes()]).map(drop)
        })
    }

    /// What the base has at one address.
    pub(crate) fn base_at(&self, root: RootId, key: &FoldedKey) -> Result<Option<BaseFile>> {
        self.run(|db| {
            let sql = format!("SELECT {BASE_COLUMNS} FROM base WHERE root = ?1 AND folded = ?2");
            let mut query = db.prepare_cached(&sql)?;
            query.query_row(params![root.0, key.as_str()], |row| read_base(row, 0)).optional()
        })
    }

    /// What the base has at and below an address, in order of keys; all of a root for the root's own.
    pub(crate) fn base_within(&self, root: RootId, key: &FoldedKey) -> Result<Vec<(FoldedKey, BaseFile)>> {
        if key.as_str().is_empty() {
            return self.base_of(root);
        }
        self.run(|db| {
            let sql = format!(
                "SELECT folded, {BASE_COLUMNS} FROM base WHERE root = ?1 AND {WITHIN} ORDER BY folded"
            );
            let mut query = db.prepare_cached(&sql)?;
            let rows = query.query_map(params![root.0, key.as_str()], |row| {
                Ok((read_key(row, 0)?, read_base(row, 1)?))
            })?;
            rows.collect()
        })
    }

    /// The addresses at and below one at which layers of the stack put files, each as one of them spells it.
    pub(crate) fn addresses_within(
        &self,
        root: RootId,
        key: &FoldedKey,
    ) -> Result<Vec<(FoldedKey, RelPath)>> {
        self.run(|db| {
            let within = if key.as_str().is_empty() { "?2 = ''" } else { WITHIN };
            let sql = format!(
                "SELECT path.folded, min(entry.spelled) FROM path JOIN entry ON entry.path = path.id
                 JOIN layer ON layer.id = entry.layer AND layer.state = 1
                 WHERE path.root = ?1 AND {within} AND entry.hash <> zeroblob(32) GROUP BY path.id"
            );
            let mut query = db.prepare_cached(&sql)?;
            let rows = query.query_map(params![root.0, key.as_str()], |row| {
                Ok((read_key(row, 0)?, read_path(row, 1)?))
            })?;
            rows.collect()
        })
    }

    /// The folders of the base at and below an address, in order of their keys, each with its spelling.
    pub(crate) fn base_folders_at(&self, root: RootId, key: &FoldedKey) -> Result<Vec<(FoldedKey, RelPath)>> {
        self.run(|db| {
            let sql = format!(
                "SELECT folded, spelled FROM base WHERE root = ?1 AND kind = 1 AND {WITHIN} ORDER BY folded"
            );
            let mut query = db.prepare_cached(&sql)?;
            let rows = query.query_map(params![root.0, key.as_str()], |row| {
                Ok((read_key(row, 0)?, read_path(row, 1)?))
            })?;
            rows.collect()
        })
    }

    /// The whole base of one root, in order of keys.
    pub(crate) fn base_of(&self, root: RootId) -> Result<Vec<(FoldedKey, BaseFile)>> {
        self.run(|db| {
            let sql = format!("SELECT folded, {BASE_COLUMNS} FROM base WHERE root = ?1 ORDER BY folded");
            let mut query = db.prepare_cached(&sql)?;
            let rows = query.query_map([root.0], |row| Ok((read_key(row, 0)?, read_base(row, 1)?)))?;
            rows.collect()
        })
    }

    /// Takes the address out of the base and notes that its original is not known.
    pub(crate) fn forget_original(&self, root: RootId, key: &FoldedKey, spelled: &RelPath) -> Result<()> {
        self.forget_base(root, key)?;
        self.doubt_original(root, key, spelled)
    }

    /// Puts one thing into the base, with the folders it lies in, also where the original was not known.
    pub(crate) fn accept_original(&self, root: RootId, key: &FoldedKey, base: &BaseFile) -> Result<()> {
        let mut above = Some((key.parent(), base.spelled.parent()));
        while let Some((Some(folder), spelled)) = above.take() {
            if self.base_at(root, &folder)?.is_none() {
                let next = (folder.parent(), spelled.parent());
                let kind = BaseKind::Folder;
                let made = BaseFile { spelled, kind, size_bytes: 0, modified_ns: 0, mode: 0o755, hash: None };
                self.insert_base(root, &[(folder, made)])?;
                above = Some(next);
            }
        }
        self.replace_base(root, key, base)?;
        self.run(|db| {
            let mut delete =
                db.prepare_cached("DELETE FROM unknown_original WHERE root = ?1 AND folded = ?2")?;
            delete.execute(params![root.0, key.as_str()]).map(drop)
        })
    }

    /// Notes that the original at an address may be out of date; what is known of it stays.
    pub(crate) fn doubt_original(&self, root: RootId, key: &FoldedKey, spelled: &RelPath) -> Result<()> {
        self.run(|db| {
            let mut insert =
                db.prepare_cached("INSERT OR REPLACE INTO unknown_original VALUES (?1, ?2, ?3)")?;
            insert.execute(params![root.0, key.as_str(), spelled.as_str()]).map(drop)
        })
    }

    /// Says that no original is in doubt any more: the base was looked at while no layer was laid.
    pub(crate) fn forget_unknown_originals(&self) -> Result<()> {
        self.run(|db| db.execute("DELETE FROM unknown_original", []).map(drop))
    }

    /// Addresses whose original is not known, with their spelling.
    pub(crate) fn unknown_originals(&self) -> Result<Vec<(RootId, FoldedKey, RelPath)>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT root, folded, spelled FROM unknown_original")?;
            let rows = query.query_map([], |row| {
                let key = read_key(row, 1)?;
                Ok((RootId(row.get(0)?), key, read_path(row, 2)?))
            })?;
            rows.collect()
        })
    }

    /// Whether there is any address whose original is not known.
    pub(crate) fn has_unknown_originals(&self) -> Result<bool> {
        self.run(|db| db.query_row("SELECT EXISTS (SELECT 1 FROM unknown_original)", [], |row| row.get(0)))
    }

    /// Whether the original at the address is not known.
    pub(crate) fn is_original_unknown(&self, root: RootId, key: &FoldedKey) -> Result<bool> {
        self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT 1 FROM unknown_original WHERE root = ?1 AND folded = ?2")?;
            query.exists(params![root.0, key.as_str()])
        })
    }

    /// The highest number that a root has or had while layers touched it.
    pub(crate) fn highest_root(&self) -> Result<i64> {
        let sql =
            "SELECT max(coalesce((SELECT max(id) FROM root), 0), coalesce((SELECT max(root) FROM path), 0))";
        self.run(|db| db.query_row(sql, [], |row| row.get(0)))
    }

    /// Takes all of a root out of the base.
    pub(crate) fn forget_root(&self, root: RootId) -> Result<()> {
        self.run(|db| db.execute("DELETE FROM base WHERE root = ?1", [root.0]).map(drop))
    }
}
