//! How folders and files are spelled on disk under a given order.

use std::collections::HashMap;

use crate::address::{FoldedKey, RelPath};
use crate::ledger::LedgerError;
use crate::ledger::catalogue::{Catalogue, FolderSource};
use crate::stack::{BaseKind, Column, Entry, Order, Provider, RootId};

type FolderKey = (RootId, FoldedKey);

/// Folders as two orders see them. A folder lies on disk if the base has it or a laid layer needs
/// it; it is spelled as the base spells it, else as the lowest laid layer does.
pub(super) struct Folders<'a> {
    catalogue: &'a Catalogue,
    sources: HashMap<FolderKey, FolderSource>,
}

impl<'a> Folders<'a> {
    pub(super) fn new(catalogue: &'a Catalogue) -> Self {
        Self { catalogue, sources: HashMap::new() }
    }

    pub(super) fn source(&mut self, root: RootId, key: &FoldedKey) -> Result<&FolderSource, LedgerError> {
        let at = (root, key.clone());
        if !self.sources.contains_key(&at) {
            let source = self.catalogue.folder_source(root, key)?;
            self.sources.insert(at.clone(), source);
        }
        Ok(&self.sources[&at])
    }

    /// The folder's own name on disk under `order`, or `None` if it does not lie there.
    pub(super) fn name(
        &mut self,
        root: RootId,
        key: &FoldedKey,
        order: &Order,
    ) -> Result<Option<String>, LedgerError> {
        let source = self.source(root, key)?;
        if let Some((spelled, BaseKind::Folder)) = &source.base {
            return Ok(Some(spelled.name().to_owned()));
        }
        let ranked = source.needs.iter().filter_map(|need| Some((order.rank(need.layer)?, need)));
        Ok(ranked.min_by_key(|(rank, _)| *rank).map(|(_, need)| need.spelled.name().to_owned()))
    }

    /// The folder's path on disk under `order`. A part that does not lie there keeps its key.
    pub(super) fn path(
        &mut self,
        root: RootId,
        key: &FoldedKey,
        order: &Order,
    ) -> Result<RelPath, LedgerError> {
        let name = match self.name(root, key, order)? {
            Some(name) => name,
            None => RelPath::from_disk(key.as_str().to_owned()).name().to_owned(),
        };
        let above = match key.parent() {
            Some(parent) => self.path(root, &parent, order)?,
            None => RelPath::root(),
        };
        Ok(above.join(&RelPath::from_disk(name)))
    }

    /// The path on disk of what `provider` supplies at the column's address.
    pub(super) fn file_path(
        &mut self,
        column: &Column,
        provider: Provider<'_>,
        order: &Order,
    ) -> Result<RelPath, LedgerError> {
        let Some(entry) = provider.entry() else {
            return Ok(column.base.as_ref().map(|base| base.spelled.clone()).unwrap_or_default());
        };
        if let Some(base) = &column.base {
            return Ok(base.spelled.clone());
        }
        let name = RelPath::from_disk(file_name(column, entry).to_owned());
        match column.key.parent() {
            Some(parent) => Ok(self.path(column.root, &parent, order)?.join(&name)),
            None => Ok(name),
        }
    }
}

/// The file's own name on disk when `entry` supplies it.
pub(super) fn file_name<'c>(column: &'c Column, entry: &'c Entry) -> &'c str {
    column.base.as_ref().map_or(entry.spelled.name(), |base| base.spelled.name())
}

/// The path below the root at which the column's file lies under `order`, or would lie.
pub(crate) fn path_on_disk(
    catalogue: &Catalogue,
    column: &Column,
    order: &Order,
) -> Result<RelPath, LedgerError> {
    let provider = match column.provider(order) {
        Provider::Nothing => column.entries.first().map_or(Provider::Nothing, Provider::Layer),
        provider => provider,
    };
    Folders::new(catalogue).file_path(column, provider, order)
}
