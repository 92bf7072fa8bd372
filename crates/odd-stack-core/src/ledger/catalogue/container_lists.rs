//! Which of the game's files are containers, and what is in them, as long as they have the size and time that they had when they
//! were opened.

use std::collections::HashMap;

use rusqlite::params;

use super::{Catalogue, Result};
use crate::address::FoldedKey;
use crate::stack::RootId;

/// What was found in a file of the game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ContainerList {
    pub size_bytes: u64,
    /// Nanoseconds since 1970.
    pub modified_ns: i64,
    /// The paths of its members, packed; none if it is no container.
    pub members: Option<Vec<u8>>,
}

impl Catalogue {
    /// What is known of the files of a root, by folded path.
    pub(crate) fn container_lists(&self, root: RootId) -> Result<HashMap<String, ContainerList>> {
        self.run(|db| {
            let sql = "SELECT folded, size_bytes, modified_ns, members FROM container_list WHERE root = ?1";
            let mut query = db.prepare_cached(sql)?;
            let read = |row: &rusqlite::Row<'_>| {
                let size_bytes = row.get::<_, i64>(1)?.cast_unsigned();
                let list = ContainerList { size_bytes, modified_ns: row.get(2)?, members: row.get(3)? };
                Ok((row.get(0)?, list))
            };
            query.query_map([root.0], read)?.collect()
        })
    }

    /// Notes what was found.
    pub(crate) fn note_container_lists(
        &self,
        root: RootId,
        lists: &[(FoldedKey, ContainerList)],
    ) -> Result<()> {
        self.run(|db| {
            let sql = "INSERT OR REPLACE INTO container_list VALUES (?1, ?2, ?3, ?4, ?5)";
            let mut insert = db.prepare_cached(sql)?;
            for (key, list) in lists {
                let size_bytes = list.size_bytes.cast_signed();
                insert.execute(params![root.0, key.as_str(), size_bytes, list.modified_ns, list.members])?;
            }
            Ok(())
        })
    }
}
