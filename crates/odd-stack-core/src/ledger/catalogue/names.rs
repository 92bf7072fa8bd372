//! Looking through all names of the base and the layers.

use super::{Catalogue, Result};
use crate::stack::{BaseKind, RootId};

/// One file or folder that a look passes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Passed<'r> {
    pub root: RootId,
    /// The folded path; where spellings are told apart, the path.
    pub key: &'r str,
    pub spelled: &'r str,
    pub kind: BaseKind,
    pub size_bytes: u64,
}

impl Catalogue {
    /// The root and the folded path of every file of the base and of laid layers whose path meets `is_wanted`; where
    /// spellings are told apart, the path. One walk over what is least of them.
    pub(crate) fn files_like(
        &self,
        mut is_wanted: impl FnMut(&str) -> bool,
    ) -> Result<Vec<(RootId, String)>> {
        const LAID: &str = "SELECT 1 FROM entry JOIN layer ON layer.id = entry.layer
             WHERE entry.path = ?1 AND layer.state = 1 AND layer.laid AND entry.hash <> zeroblob(32)";
        self.run(|db| {
            let mut found = Vec::new();
            let mut query = db.prepare_cached("SELECT root, folded FROM base WHERE kind <> 1")?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                let key = row.get_ref(1)?.as_str()?;
                if is_wanted(key) {
                    found.push((RootId(row.get(0)?), key.to_owned()));
                }
            }
            let mut query = db.prepare_cached("SELECT root, folded, id FROM path")?;
            let mut laid = db.prepare_cached(LAID)?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                let key = row.get_ref(1)?.as_str()?;
                if is_wanted(key) && laid.exists([row.get::<_, i64>(2)?])? {
                    found.push((RootId(row.get(0)?), key.to_owned()));
                }
            }
            Ok(found)
        })
    }

    /// Shows everything of the base, then of the laid layers, to `see`. One walk over the tables; costs
    /// with the size of the game.
    pub(crate) fn pass_names(&self, mut see: impl FnMut(Passed<'_>)) -> Result<()> {
        const BASE: &str = "SELECT root, folded, spelled, kind, size_bytes FROM base";
        const FILES: &str = "SELECT path.root, path.folded, entry.spelled, 0, entry.size_bytes
             FROM layer CROSS JOIN entry ON entry.layer = layer.id JOIN path ON path.id = entry.path
             WHERE layer.state = 1 AND layer.laid AND entry.hash <> zeroblob(32)";
        const FOLDERS: &str = "SELECT path.root, path.folded, layer_folder.spelled, 1, 0
             FROM layer CROSS JOIN layer_folder ON layer_folder.layer = layer.id
             JOIN path ON path.id = layer_folder.path
             WHERE layer.state = 1 AND layer.laid AND NOT layer_folder.takes_away";
        self.run(|db| {
            for sql in [BASE, FILES, FOLDERS] {
                let mut query = db.prepare_cached(sql)?;
                let mut rows = query.query([])?;
                while let Some(row) = rows.next()? {
                    let text = |at| row.get_ref(at).and_then(|value| Ok(value.as_str()?));
                    see(Passed {
                        root: RootId(row.get(0)?),
                        key: text(1)?,
                        spelled: text(2)?,
                        kind: if row.get::<_, i64>(3)? == 1 { BaseKind::Folder } else { BaseKind::File },
                        size_bytes: row.get::<_, i64>(4)?.cast_unsigned(),
                    });
                }
            }
            Ok(())
        })
    }
}
