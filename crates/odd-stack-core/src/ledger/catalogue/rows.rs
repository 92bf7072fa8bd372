//! Many rows at once.
//!
//! A statement for each row costs more than twice what a row of several does; what one inserts is put together here.

use rusqlite::types::{Null, ToSqlOutput};
use rusqlite::{CachedStatement, Connection};

/// More rows in one statement save nothing that can be measured.
pub(super) const ROWS_AT_ONCE: usize = 8;

/// One row with its values in order of the columns.
pub(super) type Values<'r, const COLUMNS: usize> = [ToSqlOutput<'r>; COLUMNS];

/// A value that may be none.
pub(super) fn optional<'r>(value: Option<impl Into<ToSqlOutput<'r>>>) -> ToSqlOutput<'r> {
    value.map_or(Null.into(), Into::into)
}

/// What inserts rows of so many columns.
pub(super) struct Inserting<'db, const COLUMNS: usize> {
    several: CachedStatement<'db>,
    one: CachedStatement<'db>,
}

impl<'db, const COLUMNS: usize> Inserting<'db, COLUMNS> {
    /// `into` is the statement up to its values, such as `INSERT INTO entry`.
    pub(super) fn new(db: &'db Connection, into: &str) -> rusqlite::Result<Self> {
        let row = format!("({})", ["?"; COLUMNS].join(", "));
        let of = |rows| db.prepare_cached(&format!("{into} VALUES {}", vec![row.as_str(); rows].join(", ")));
        Ok(Self { several: of(ROWS_AT_ONCE)?, one: of(1)? })
    }

    /// Inserts at most [`ROWS_AT_ONCE`] rows; says how many came.
    pub(super) fn insert(&mut self, rows: &[Values<'_, COLUMNS>]) -> rusqlite::Result<usize> {
        if rows.len() == ROWS_AT_ONCE {
            return insert(&mut self.several, rows);
        }
        rows.chunks(1).map(|row| insert(&mut self.one, row)).sum()
    }
}

fn insert<const COLUMNS: usize>(
    statement: &mut CachedStatement<'_>,
    rows: &[Values<'_, COLUMNS>],
) -> rusqlite::Result<usize> {
    for (number, value) in (1..).zip(rows.iter().flatten()) {
        statement.raw_bind_parameter(number, value)?;
    }
    statement.raw_execute()
}

/// Inserts all rows, as [`Inserting`] does.
pub(super) fn insert_rows<'r, const COLUMNS: usize>(
    db: &Connection,
    into: &str,
    rows: impl IntoIterator<Item = Values<'r, COLUMNS>>,
) -> rusqlite::Result<()> {
    let (mut inserting, mut rows) = (Inserting::new(db, into)?, rows.into_iter());
    loop {
        let some: Vec<Values<'r, COLUMNS>> = rows.by_ref().take(ROWS_AT_ONCE).collect();
        if some.is_empty() {
            return Ok(());
        }
        inserting.insert(&some)?;
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::super::Catalogue;
    use crate::address::{FoldedKey, RelPath};
    use crate::stack::{BaseFile, BaseKind, PathId, RootId};

    fn base(spelled: String) -> BaseFile {
        BaseFile {
            spelled: RelPath::from_disk(spelled),
            kind: BaseKind::File,
            size_bytes: 1,
            modified_ns: 2,
            mode: 0,
            hash: None,
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 40, failure_persistence: None, ..ProptestConfig::default() })]

        /// However many come at once, known or new, an address has one number and one spelling: its first.
        #[test]
        fn rows_come_together_as_they_would_one_by_one(
            batches in proptest::collection::vec(proptest::collection::vec((1_i64..3, 0..60_u8, any::<bool>()), 0..40), 1..6),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let catalogue = Catalogue::create(folder.path()).unwrap();
            let (mut numbered, mut spelled) = (HashMap::new(), HashMap::new());
            for batch in batches {
                let key = |number: u8| FoldedKey::from_stored(format!("data/{number}"));
                let keys: Vec<_> = batch.iter().map(|(root, number, _)| (RootId(*root), key(*number))).collect();
                let numbers = catalogue.path_numbers(&keys).unwrap();
                prop_assert_eq!(numbers.len(), keys.len());
                for (key, number) in keys.iter().zip(numbers) {
                    prop_assert_eq!(*numbered.entry(key.clone()).or_insert(number), number);
                }
                let spell = |number: u8, is_big: bool| format!("{}/{number}", if is_big { "DATA" } else { "data" });
                let found: Vec<_> =
                    batch.iter().map(|(_, number, is_big)| (key(*number), base(spell(*number, *is_big)))).collect();
                let doubled = catalogue.insert_base(RootId(1), &found).unwrap();
                let is_doubled = |(key, base): &&(FoldedKey, BaseFile)| {
                    *spelled.entry(key.clone()).or_insert_with(|| base.spelled.clone()) != base.spelled
                };
                prop_assert_eq!(doubled, found.iter().filter(is_doubled).map(|(_, base)| base).collect::<Vec<_>>());
            }
            let mut all: Vec<PathId> = numbered.values().copied().collect();
            all.sort_unstable();
            all.dedup();
            prop_assert_eq!(all.len(), numbered.len());
            let again: Vec<_> = numbered.keys().cloned().collect();
            let numbers: Vec<PathId> = again.iter().map(|key| numbered[key]).collect();
            prop_assert_eq!(catalogue.path_numbers(&again).unwrap(), numbers);
        }
    }
}
