//! The game, its roots and spots.

use std::collections::BTreeMap;
use std::path::PathBuf;

use rusqlite::{OptionalExtension, params};

use super::{Catalogue, Result};
use crate::address::{Address, AddressBook, Folding, PrefixName, RelPath};
use crate::blend::BlendRule;
use crate::game::{BigFiles, Game, GameVersion, Root};
use crate::ledger::LedgerError;
use crate::stack::RootId;

impl Catalogue {
    /// Reads the game.
    pub(crate) fn game(&self) -> Result<Game> {
        let (all_roots, all_spots) = (self.roots()?, self.spots()?);
        let row = self.run(|db| {
            let sql = "SELECT name, exact_case, program, version, version_read_from, seen_files, seen_bytes,
                added_at, version_pattern, blend_rules, volatile, runner, later_wins, big_files FROM game";
            let read = |row: &rusqlite::Row<'_>| {
                let version: Option<String> = row.get(3)?;
                let (read_from, pattern) = (row.get(4)?, row.get(8)?);
                Ok((
                    row.get::<_, String>(0)?,
                    row.get::<_, bool>(1)?,
                    row.get::<_, Option<String>>(2)?,
                    version.map(|version| GameVersion { version, read_from, pattern }),
                    (row.get::<_, i64>(5)?.cast_unsigned(), row.get::<_, i64>(6)?.cast_unsigned()),
                    row.get::<_, String>(7)?,
                    row.get::<_, Option<String>>(9)?,
                    row.get::<_, Option<String>>(10)?,
                    (
                        row.get::<_, Option<String>>(11)?,
                        row.get::<_, Option<String>>(12)?,
                        row.get::<_, Option<String>>(13)?,
                    ),
                ))
            };
            db.query_row(sql, [], read).optional()
        })?;
        let Some((
            name,
            exact_case,
            program,
            version,
            seen,
            added_at,
            blend_rules,
            volatile,
            (runner, later_wins, big_files),
        )) = row
        else {
            return Err(self.damaged(&"it names no game"));
        };
        let book =
            AddressBook { roots: all_roots.iter().map(|root| root.name.clone()).collect(), spots: all_spots };
        let program =
            program.map(|text| book.resolve(&text)).transpose().map_err(|error| self.damaged(&error))?;
        let blend_rules: Vec<BlendRule> = self.kept(blend_rules)?;
        let volatile: Vec<String> = self.kept(volatile)?;
        Ok(Game {
            name,
            big_files: self.kept(big_files)?,
            folding: if exact_case { Folding::Exact } else { Folding::Folded },
            roots: all_roots,
            spots: book.spots,
            program,
            version,
            seen,
            added_at,
            blend_rules,
            volatile,
            later_wins: self.kept(later_wins)?,
            runner,
        })
    }

    fn prefix(&self, text: String) -> Result<PrefixName> {
        PrefixName::parse(&text).map_err(|error| self.damaged(&error))
    }

    fn roots(&self) -> Result<Vec<Root>> {
        let roots = self.run(|db| {
            let mut query =
                db.prepare_cached("SELECT id, name, folder, side_folder, share FROM root ORDER BY id")?;
            let rows = query.query_map([], |row| {
                Ok((
                    row.get(0)?,
                    row.get::<_, String>(1)?,
                    row.get::<_, String>(2)?,
                    row.get(3)?,
                    row.get(4)?,
                ))
            })?;
            rows.collect::<rusqlite::Result<Vec<_>>>()
        })?;
        let mut all_roots = Vec::new();
        for (id, name, folder, has_side_folder, share) in roots {
            let (id, name, folder) = (RootId(id), self.prefix(name)?, PathBuf::from(folder));
            all_roots.push(Root { id, name, folder, has_side_folder, share });
        }
        Ok(all_roots)
    }

    fn spots(&self) -> Result<BTreeMap<PrefixName, Address>> {
        let spots = self.run(|db| {
            let mut query = db.prepare_cached(
                "SELECT spot.name, root.name, path FROM spot JOIN root ON root.id = spot.root",
            )?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?)))?;
            rows.collect::<rusqlite::Result<Vec<(String, String, String)>>>()
        })?;
        let mut all_spots = BTreeMap::new();
        for (name, root, path) in spots {
            all_spots.insert(
                self.prefix(name)?,
                Address { root: self.prefix(root)?, path: RelPath::from_disk(path) },
            );
        }
        Ok(all_spots)
    }

    /// Reads what is kept as JSON; as usual where nothing is.
    fn kept<T: serde::de::DeserializeOwned + Default>(&self, text: Option<String>) -> Result<T> {
        match text {
            Some(text) => serde_json::from_str(&text).map_err(|error| self.damaged(&error)),
            None => Ok(T::default()),
        }
    }

    /// Writes the game, its roots (numbers kept) and spots in place of what was there.
    pub(crate) fn write_game(&self, game: &Game) -> Result<()> {
        let blend_rules = serde_json::to_string(&game.blend_rules).map_err(|error| self.damaged(&error))?;
        let volatile = serde_json::to_string(&game.volatile).map_err(|error| self.damaged(&error))?;
        let later_wins = serde_json::to_string(&game.later_wins).map_err(|error| self.damaged(&error))?;
        let big_files = match game.big_files == BigFiles::default() {
            true => None,
            false => Some(serde_json::to_string(&game.big_files).map_err(|error| self.damaged(&error))?),
        };
        self.run(|db| {
            db.execute_batch("DELETE FROM game; DELETE FROM spot; DELETE FROM root;")?;
            db.execute(
                "INSERT INTO game VALUES (1, ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
                params![
                    game.name,
                    game.folding == Folding::Exact,
                    game.program.as_ref().map(ToString::to_string),
                    game.version.as_ref().map(|version| &version.version),
                    game.version.as_ref().and_then(|version| version.read_from.as_ref()),
                    game.seen.0.cast_signed(),
                    game.seen.1.cast_signed(),
                    game.added_at,
                    game.version.as_ref().and_then(|version| version.pattern.as_ref()),
                    blend_rules,
                    volatile,
                    game.runner,
                    later_wins,
                    big_files,
                ],
            )?;
            for root in &game.roots {
                let folder = root.folder.to_string_lossy();
                db.execute(
                    "INSERT INTO root VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![root.id.0, root.name.as_str(), folder, root.has_side_folder, root.share],
                )?;
            }
            for (name, address) in &game.spots {
                db.execute(
                    "INSERT INTO spot SELECT ?1, id, ?3 FROM root WHERE name = ?2",
                    params![name.as_str(), address.root.as_str(), address.path.as_str()],
                )?;
            }
            Ok(())
        })
    }

    /// An error that says the catalogue can't be what it holds.
    pub(crate) fn damaged_by(&self, reason: &dyn std::fmt::Display) -> LedgerError {
        self.damaged(reason)
    }

    pub(super) fn damaged(&self, reason: &dyn std::fmt::Display) -> LedgerError {
        LedgerError::Damaged { folder: self.folder.clone(), reason: reason.to_string() }
    }
}
