//! Folders that a program made or took away.

use std::collections::HashSet;

use super::super::add::taken_away::AwayAt;
use super::differences::Differences;
use super::entry::CapturedEntry;
use crate::address::{FoldedKey, RelPath};
use crate::change::{ChangeRequest, Direct};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, Order, RootId};

/// The new folders that are the layer's: those with a file of it, and empty ones; not those with nothing but what is
/// left out.
pub(super) fn folders_kept(
    found: &Differences,
    drafts: &[CapturedEntry],
    direct: &[Direct],
) -> Vec<(RootId, RelPath)> {
    if drafts.is_empty() {
        return Vec::new();
    }
    let kept: HashSet<_> = drafts.iter().flat_map(|draft| above(draft.root, &draft.entry.spelled)).collect();
    let left_out: HashSet<_> = direct.iter().flat_map(|direct| above(direct.root, &direct.path)).collect();
    let is_kept = |(root, folder): &&(RootId, RelPath)| {
        let folder = (*root, folder.as_str());
        kept.contains(&folder) || !left_out.contains(&folder)
    };
    found.folders_added.iter().filter(is_kept).cloned().collect()
}

/// The folders that a path lies in.
pub(super) fn above(root: RootId, path: &RelPath) -> impl Iterator<Item = (RootId, &str)> {
    path.ancestors().map(move |folder| (root, folder))
}

/// Folders that went and must be there all the same: laid layers need them, or something is put back in them.
pub(super) fn still_needed(
    ledger: &Ledger,
    order: &Order,
    found: &Differences,
    request: &ChangeRequest,
) -> Result<Vec<(RootId, RelPath)>, LedgerError> {
    let game = ledger.game();
    let put_back = request.files.direct.iter().filter(|direct| direct.instead.is_some());
    let put_back: HashSet<_> = put_back.flat_map(|direct| above(direct.root, &direct.path)).collect();
    let mut needed = Vec::new();
    for (root, folder) in &found.folders_gone {
        let source = ledger.catalogue.folder_source(*root, &game.folding.key(folder.as_str()))?;
        let is_laid = source.needs.iter().any(|need| order.rank(need.layer).is_some());
        if is_laid || put_back.contains(&(*root, folder.as_str())) {
            needed.push((*root, folder.clone()));
        }
    }
    Ok(needed)
}

/// Folders of the base that were taken away, and in which nothing is put back.
pub(super) fn folders_away(
    ledger: &Ledger,
    found: &Differences,
    request: &ChangeRequest,
) -> Result<Vec<AwayAt>, LedgerError> {
    let game = ledger.game();
    let mut put_back: HashSet<(RootId, String)> = HashSet::new();
    let mut note = |root: RootId, key: &FoldedKey| {
        let path = RelPath::from_disk(key.as_str());
        put_back.extend(path.ancestors().map(|folder| (root, folder.to_owned())));
    };
    for direct in request.files.direct.iter().filter(|direct| direct.instead.is_some()) {
        note(direct.root, &game.folding.key(direct.path.as_str()));
    }
    for path in &request.files.restore {
        if let Some((root, key)) = ledger.catalogue.key_at(*path)? {
            note(root, &key);
        }
    }
    let mut away = Vec::new();
    for (root, folder) in &found.folders_gone {
        let key = game.folding.key(folder.as_str());
        let base = ledger.catalogue.base_at(*root, &key)?;
        if let Some(base) = base.filter(|base| base.kind == BaseKind::Folder)
            && !put_back.contains(&(*root, key.as_str().to_owned()))
        {
            away.push((*root, key, base.spelled));
        }
    }
    Ok(away)
}
