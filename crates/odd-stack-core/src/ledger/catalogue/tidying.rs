//! What the catalogue knows of the room that things take, and dropping what nothing needs any more.

use std::collections::HashSet;

use rusqlite::params;

use super::layers::LayerState;
use super::{Catalogue, Result};
use crate::hash::ContentHash;
use crate::stack::LayerId;

/// One content of one layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct LayerContent {
    pub layer: LayerId,
    pub hash: ContentHash,
    pub size_bytes: u64,
}

impl Catalogue {
    /// Layers that were removed or replaced and can come back, with their names and versions.
    pub(crate) fn removed_layers(&self) -> Result<Vec<(LayerId, String, Option<String>)>> {
        self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT id, name, version FROM layer WHERE state = ?1 ORDER BY id")?;
            let read = |row: &rusqlite::Row<'_>| Ok((LayerId(row.get(0)?), row.get(1)?, row.get(2)?));
            query.query_map([LayerState::Removed.number()], read)?.collect()
        })
    }

    /// Layers whose contents were dropped.
    pub(crate) fn forgotten_layers(&self) -> Result<HashSet<LayerId>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT id FROM layer WHERE state = ?1")?;
            query.query_map([LayerState::Forgotten.number()], |row| Ok(LayerId(row.get(0)?)))?.collect()
        })
    }

    /// The stored contents of all layers, also of removed ones; each once for each layer.
    pub(crate) fn contents_by_layer(&self) -> Result<Vec<LayerContent>> {
        self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT DISTINCT entry.layer, entry.hash, blob.size_bytes
                 FROM entry JOIN blob ON blob.hash = entry.hash ORDER BY entry.layer",
            )?;
            let row = |row: &rusqlite::Row<'_>| {
                Ok(LayerContent {
                    layer: LayerId(row.get(0)?),
                    hash: ContentHash::from_bytes(row.get(1)?),
                    size_bytes: row.get::<_, i64>(2)?.cast_unsigned(),
                })
            };
            query.query_map([], row)?.collect()
        })
    }

    /// All stored contents.
    pub(crate) fn all_contents(&self) -> Result<Vec<(ContentHash, u64)>> {
        self.run(|db| {
            let mut query = db.prepare_cached("SELECT hash, size_bytes FROM blob")?;
            let row = |row: &rusqlite::Row<'_>| {
                Ok((ContentHash::from_bytes(row.get(0)?), row.get::<_, i64>(1)?.cast_unsigned()))
            };
            query.query_map([], row)?.collect()
        })
    }

    /// Forgets what removed layers had. Their names stay for the history.
    pub(crate) fn forget_layers(&self, layers: &[LayerId]) -> Result<()> {
        self.run(|db| {
            let mut entries = db.prepare("DELETE FROM entry WHERE layer = ?1")?;
            let mut folders = db.prepare("DELETE FROM layer_folder WHERE layer = ?1")?;
            let mut update = db.prepare("UPDATE layer SET state = ?2 WHERE id = ?1 AND state = ?3")?;
            let (to, from) = (LayerState::Forgotten.number(), LayerState::Removed.number());
            layers.iter().try_for_each(|layer| {
                entries.execute([layer.0])?;
                folders.execute([layer.0])?;
                update.execute(params![layer.0, to, from]).map(drop)
            })
        })
    }
}
