//! How folders and files are spelled on disk under a given order.

use std::collections::HashMap;

use crate::address::{FoldedKey, RelPath};
use crate::ledger::catalogue::{Catalogue, FolderSource};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, Column, Entry, LayerId, Order, Provider, RootId};

type ByFolder<T> = HashMap<RootId, HashMap<FoldedKey, T>>;

/// Folders as one order sees them. A folder lies on disk if the base has it and no laid layer takes it away, or a laid
/// layer needs it;
/// it is spelled as the base spells it, else as the lowest laid layer does. What was asked once is
/// remembered.
pub(crate) struct Folders<'a> {
    catalogue: &'a Catalogue,
    order: Order,
    sources: ByFolder<FolderSource>,
    paths: ByFolder<RelPath>,
    /// The folder of the file that was asked for last: files of one come one after the other.
    last: Option<(RootId, FoldedKey, RelPath)>,
}

impl<'a> Folders<'a> {
    pub(crate) fn new(catalogue: &'a Catalogue, order: Order) -> Self {
        Self { catalogue, order, sources: HashMap::new(), paths: HashMap::new(), last: None }
    }

    pub(crate) fn source(&mut self, root: RootId, key: &FoldedKey) -> Result<&FolderSource, LedgerError> {
        let known = self.sources.entry(root).or_default();
        if !known.contains_key(key) {
            known.insert(key.clone(), self.catalogue.folder_source(root, key)?);
        }
        Ok(&known[key])
    }

    /// The folder's own name on disk, or `None` if it does not lie there.
    pub(crate) fn name(&mut self, root: RootId, key: &FoldedKey) -> Result<Option<String>, LedgerError> {
        self.source(root, key)?;
        let source = &self.sources[&root][key];
        if let Some((spelled, BaseKind::Folder)) = &source.base {
            let is_laid = |layer: &LayerId| self.order.rank(*layer).is_some();
            let is_there =
                !source.away.iter().any(is_laid) || source.needs.iter().any(|need| is_laid(&need.layer));
            return Ok(is_there.then(|| spelled.name().to_owned()));
        }
        let ranked = source.needs.iter().filter_map(|need| Some((self.order.rank(need.layer)?, need)));
        Ok(ranked.min_by_key(|(rank, _)| *rank).map(|(_, need)| need.spelled.name().to_owned()))
    }

    /// The folder's path on disk. A part that does not lie there keeps its key.
    pub(crate) fn path(&mut self, root: RootId, key: &FoldedKey) -> Result<RelPath, LedgerError> {
        if let Some(known) = self.paths.get(&root).and_then(|paths| paths.get(key)) {
            return Ok(known.clone());
        }
        self.source(root, key)?;
        let of_base = match &self.sources[&root][key].base {
            Some((spelled, BaseKind::Folder)) => Some(spelled.name().to_owned()),
            _ => None,
        };
        let name = match self.name(root, key)?.or(of_base) {
            Some(name) => name,
            None => RelPath::from_disk(key.as_str()).name().to_owned(),
        };
        let above = match key.parent() {
            Some(parent) => self.path(root, &parent)?,
            None => RelPath::root(),
        };
        let path = above.join(&RelPath::from_disk(name));
        self.paths.entry(root).or_default().insert(key.clone(), path.clone());
        Ok(path)
    }

    /// The path on disk of what `provider` supplies at the column's address.
    pub(crate) fn file_path(
        &mut self,
        column: &Column,
        provider: Provider<'_>,
    ) -> Result<RelPath, LedgerError> {
        let Some(entry) = provider.entry() else {
            return Ok(column.base.as_ref().map(|base| base.spelled.clone()).unwrap_or_default());
        };
        if let Some(base) = &column.base {
            return Ok(base.spelled.clone());
        }
        if column.is_member {
            return Ok(entry.spelled.clone());
        }
        let Some(folder) = self.folder_of(column)? else { return Ok(entry.spelled.clone()) };
        let is_spelled_so =
            entry.spelled.as_str().strip_prefix(folder.as_str()).and_then(|rest| rest.strip_prefix('/'));
        Ok(match is_spelled_so == Some(entry.spelled.name()) {
            true => entry.spelled.clone(),
            false => folder.join(&RelPath::from_disk(entry.spelled.name())),
        })
    }

    /// The path on disk of the folder around the column's file, unless that is the root.
    fn folder_of(&mut self, column: &Column) -> Result<Option<RelPath>, LedgerError> {
        if let Some((root, folder, path)) = &self.last
            && *root == column.root
            && column.key.parent_text() == Some(folder.as_str())
        {
            return Ok(Some(path.clone()));
        }
        let Some(parent) = column.key.parent() else { return Ok(None) };
        let path = self.path(column.root, &parent)?;
        self.last = Some((column.root, parent, path.clone()));
        Ok(Some(path))
    }
}

/// The file's own name on disk when `entry` supplies it.
pub(crate) fn file_name<'c>(column: &'c Column, entry: &'c Entry) -> &'c str {
    column.base.as_ref().map_or(entry.spelled.name(), |base| base.spelled.name())
}

/// The path below the root at which the column's file lies under `order`, or would lie.
pub(crate) fn path_on_disk(
    catalogue: &Catalogue,
    column: &Column,
    order: &Order,
) -> Result<RelPath, LedgerError> {
    paths_on_disk(catalogue, std::iter::once(column), order).map(|mut paths| paths.pop().unwrap_or_default())
}

/// As [`path_on_disk`], of many columns.
pub(crate) fn paths_on_disk<'c>(
    catalogue: &Catalogue,
    columns: impl IntoIterator<Item = &'c Column>,
    order: &Order,
) -> Result<Vec<RelPath>, LedgerError> {
    let mut folders = Folders::new(catalogue, order.clone());
    let path = |column: &'c Column| {
        let provider = match column.provider(order) {
            Provider::Nothing => column.entries.first().map_or(Provider::Nothing, Provider::Layer),
            provider => provider,
        };
        folders.file_path(column, provider)
    };
    columns.into_iter().map(path).collect()
}

/// Where these folders lie under `order`, or would lie; those that it does not need are left out.
pub(crate) fn folders_on_disk(
    ledger: &Ledger,
    order: &Order,
    root: RootId,
    keys: &[FoldedKey],
) -> Result<Vec<RelPath>, LedgerError> {
    let mut folders = Folders::new(&ledger.catalogue, order.clone());
    let mut paths = Vec::new();
    for key in keys {
        if folders.name(root, key)?.is_some() {
            paths.push(folders.path(root, key)?);
        }
    }
    Ok(paths)
}
