//! Reading paths and their keys.

use std::sync::Arc;

use rusqlite::{Result, Row};

use crate::address::{FoldedKey, RelPath};

pub(super) fn read_key(row: &Row<'_>, at: usize) -> Result<FoldedKey> {
    Ok(FoldedKey::from_stored(row.get::<_, Arc<str>>(at)?))
}

pub(super) fn read_path(row: &Row<'_>, at: usize) -> Result<RelPath> {
    Ok(RelPath::from_disk(row.get::<_, Arc<str>>(at)?))
}
