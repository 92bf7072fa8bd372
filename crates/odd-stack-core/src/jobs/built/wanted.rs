//! What should lie in a second folder.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;

use rayon::prelude::*;

use super::error::BuildError;
use super::judge::Origin;
use crate::address::{FoldedKey, RelPath};
use crate::expected::places;
use crate::files::{Seen, look_at};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{
    Arrangement, BaseFile, BaseKind, Column, Entry, LayerId, Order, PathId, Provider, RootId, Settlement,
};

/// Where a file of a second folder comes from.
#[derive(Debug, Clone)]
pub(super) enum Source {
    /// The game's own file, which lies there now.
    Own(PathBuf),
    /// What a layer supplies; or several, merged.
    Layer(Entry),
}

/// One file of a second folder.
#[derive(Debug, Clone)]
pub(super) struct WantedFile {
    /// As it is spelled.
    pub path: RelPath,
    pub kind: BaseKind,
    pub origin: Origin,
    pub mode: u32,
    pub source: Source,
}

/// All that should lie in a second folder.
pub(super) struct WantedTree {
    pub files: BTreeMap<(RootId, FoldedKey), WantedFile>,
    /// Folders, each after the one above it.
    pub folders: Vec<(RootId, RelPath)>,
    /// The game's own files that are not there, so that they can't be copied.
    pub missing: Vec<(RootId, RelPath)>,
    /// The game's own files that are not as they are known, and are taken as they lie.
    pub changed: Vec<(RootId, RelPath)>,
    /// The columns of what layers supply.
    pub columns: HashMap<(RootId, FoldedKey), Column>,
    pub order: Order,
}

/// How many files the layers of an arrangement have in each root.
pub(super) fn files_by_root(
    ledger: &Ledger,
    wanted: &Arrangement,
) -> Result<HashMap<RootId, u64>, LedgerError> {
    let mut files = HashMap::new();
    for column in ledger.catalogue.columns_of_all(&wanted.laid())? {
        *files.entry(column.root).or_default() += 1;
    }
    Ok(files)
}

impl WantedTree {
    /// Finds it out for those of the `roots` that are built.
    pub(super) fn of(
        ledger: &Ledger,
        arrangement: &Arrangement,
        settled: HashMap<PathId, Settlement>,
        roots: &[RootId],
    ) -> Result<Self, BuildError> {
        let catalogue = &ledger.catalogue;
        let order = ledger.order(arrangement, settled)?;
        let laid = arrangement.laid();
        let needed = catalogue.folders_of(&laid)?;
        let mut by_root: HashMap<RootId, Vec<Column>> = HashMap::new();
        for column in catalogue.columns_of_all(&laid)? {
            by_root.entry(column.root).or_default().push(column);
        }
        let mut tree = Self {
            files: BTreeMap::new(),
            folders: Vec::new(),
            missing: Vec::new(),
            changed: Vec::new(),
            columns: HashMap::new(),
            order: order.clone(),
        };
        let aside = covered_now(ledger)?;
        for root in roots {
            let mut columns = by_root.remove(root).unwrap_or_default();
            let own = tree.add_layers(ledger, *root, &mut columns, &needed)?;
            tree.add_own(ledger, *root, own, &aside)?;
            tree.columns.extend(columns.into_iter().map(|column| ((*root, column.key.clone()), column)));
        }
        tree.folders.sort();
        tree.missing.sort();
        Ok(tree)
    }

    /// Adds the folders of a root and what layers supply there; gives the game's own files that lie there.
    fn add_layers(
        &mut self,
        ledger: &Ledger,
        root: RootId,
        columns: &mut [Column],
        needed: &[(RootId, FoldedKey)],
    ) -> Result<Vec<(RelPath, BaseFile)>, LedgerError> {
        let root = ledger.site().root(root)?;
        let base = ledger.catalogue.base_of(root.id)?;
        let mut own = Vec::new();
        for (folder, place) in places(ledger, root, &base, columns, &self.order.clone(), needed)? {
            let folder = RelPath::from_disk(folder);
            let is_there = place.is_wanted || !place.files.is_empty() || !place.folders.is_empty();
            if !folder.is_root() && is_there {
                self.folders.push((root.id, folder.clone()));
            }
            for file in &place.files {
                let path = folder.join(&RelPath::from_disk(file.name));
                match file.provider {
                    Provider::Nothing => {}
                    Provider::Base(base) => own.push((path, base.clone())),
                    Provider::Layer(entry) => {
                        let key = ledger.game().folding.key(path.as_str());
                        self.files.insert((root.id, key), of_layer(path, entry, file.covered));
                    }
                }
            }
        }
        Ok(own)
    }

    /// Adds the game's own files, as they lie now.
    fn add_own(
        &mut self,
        ledger: &Ledger,
        root: RootId,
        own: Vec<(RelPath, BaseFile)>,
        aside: &HashMap<(RootId, FoldedKey), PathId>,
    ) -> Result<(), BuildError> {
        let (site, folding) = (ledger.site(), ledger.game().folding);
        let root = site.root(root)?;
        let lying = own.into_par_iter().map(|(path, base)| {
            let own = base.spelled.on(&root.folder);
            let number = aside.get(&(root.id, folding.key(base.spelled.as_str())));
            let from = number.map_or(own, |number| site.original(root, *number));
            let seen = look_at(&from).map_err(|source| BuildError::Look { path: from.clone(), source })?;
            Ok((path, base, from, seen))
        });
        let lying: Vec<(RelPath, BaseFile, PathBuf, Option<Seen>)> =
            lying.collect::<Result<_, BuildError>>()?;
        for (path, base, from, seen) in lying {
            let Some(seen) = seen.filter(|seen| seen.kind == base.kind) else {
                self.missing.push((root.id, path));
                continue;
            };
            let is_known = (seen.size_bytes, seen.modified_ns) == (base.size_bytes, base.modified_ns);
            if !is_known {
                self.changed.push((root.id, path.clone()));
            }
            let (size_bytes, modified_ns) = (seen.size_bytes, seen.modified_ns);
            let origin = Origin { hash: base.hash.filter(|_| is_known), size_bytes, modified_ns };
            let (kind, mode, source) = (base.kind, seen.mode, Source::Own(from));
            let key = folding.key(path.as_str());
            self.files.insert((root.id, key), WantedFile { path, kind, origin, mode, source });
        }
        Ok(())
    }
}

fn of_layer(path: RelPath, entry: &Entry, covered: Option<&BaseFile>) -> WantedFile {
    let mode = covered.map_or(0o644, |base| base.mode & 0o777) | 0o200;
    let mode = if entry.executable == Some(true) { mode | 0o111 } else { mode };
    let (hash, size_bytes) = (Some(entry.hash), entry.size_bytes);
    let modified_ns = entry.modified.saturating_mul(1_000_000_000);
    let origin = Origin { hash, size_bytes, modified_ns };
    WantedFile { path, kind: BaseKind::File, origin, mode, source: Source::Layer(entry.clone()) }
}

/// The game's own files that lie aside now, since layers cover them, by the numbers of their addresses.
fn covered_now(ledger: &Ledger) -> Result<HashMap<(RootId, FoldedKey), PathId>, LedgerError> {
    let laid = ledger.catalogue.arrangement()?.laid();
    let layers: HashSet<LayerId> = laid.iter().copied().collect();
    let columns = ledger.catalogue.columns_of_all(&laid)?;
    let is_covered = |column: &Column| {
        !column.is_member && column.entries.iter().any(|entry| layers.contains(&entry.layer))
    };
    let mut covered = HashMap::new();
    for column in columns.into_iter().filter(is_covered) {
        // A layer of settings alone, or one that is beneath the game's own, may leave it where it is.
        let root = ledger.site().root(column.root)?;
        let aside = ledger.site().original(root, column.path);
        if look_at(&aside).map_err(LedgerError::io("look at", &aside))?.is_some() {
            covered.insert((column.root, column.key), column.path);
        }
    }
    Ok(covered)
}
