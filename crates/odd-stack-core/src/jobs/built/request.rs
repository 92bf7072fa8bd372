//! Where a second folder lies, and what of the game's roots goes into it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::error::{BuildError, OpenRoot};
use crate::address::{MAIN_ROOT, PrefixName, plain_path};
use crate::change::Edits;
use crate::files::is_no_games;
use crate::jobs::game::roots::real_of_future;
use crate::ledger::{BuiltFolder, Ledger};
use crate::stack::RootId;

/// A second folder that is to be built or brought up to date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuildRequest {
    /// The lineup.
    pub lineup: String,
    /// Where; none for where it was built before.
    pub folder: Option<PathBuf>,
    /// Folders for further roots, by name.
    pub roots: Vec<(String, PathBuf)>,
    /// Further roots that are left out.
    pub without_roots: Vec<String>,
    /// Big files of the game's own may be links to those. Kept for later builds.
    pub by_link: bool,
    /// What becomes of files that were changed there and are to be others.
    pub edits: Edits,
    /// It is only looked what would be done.
    pub dry_run: bool,
}

/// The folders of a build, checked; `known` is what was built for the lineup before, `files_of` how many files layers have in a
/// root.
pub(super) fn folders(
    ledger: &Ledger,
    request: &BuildRequest,
    lineup: &str,
    known: Option<&BuiltFolder>,
    files_of: &HashMap<RootId, u64>,
) -> Result<Vec<(RootId, Option<PathBuf>)>, BuildError> {
    let game = ledger.game();
    let before = |root: RootId| known.and_then(|known| known.roots.iter().find(|(id, _)| *id == root));
    for name in request.roots.iter().map(|(name, _)| name).chain(&request.without_roots) {
        let is_there =
            game.roots.iter().any(|root| root.name.as_str() == name && root.name.as_str() != MAIN_ROOT);
        if !is_there {
            return Err(BuildError::NoSuchRoot { root: name.clone() });
        }
    }
    let (mut folders, mut open) = (Vec::new(), Vec::new());
    for root in &game.roots {
        let given = |name: &PrefixName| request.roots.iter().find(|(given, _)| given == name.as_str());
        let old = before(root.id).map(|(_, folder)| folder.clone());
        let folder = if root.name.as_str() == MAIN_ROOT {
            let old = old.flatten();
            let folder = match (&request.folder, old) {
                (Some(folder), Some(old)) if !is_same(folder, &old) && old.exists() => {
                    return Err(BuildError::BuiltElsewhere { lineup: lineup.to_owned(), folder: old });
                }
                (Some(folder), _) => absolute(folder)?,
                (None, Some(old)) => old,
                (None, None) => return Err(BuildError::NoFolder { lineup: lineup.to_owned() }),
            };
            Some(folder)
        } else if let Some((_, folder)) = given(&root.name) {
            Some(absolute(folder)?)
        } else if request.without_roots.iter().any(|name| name == root.name.as_str()) {
            None
        } else if let Some(old) = old {
            old
        } else {
            let files = files_of.get(&root.id).copied().unwrap_or_default();
            if files > 0 {
                let main = folders.first().and_then(|(_, folder): &(RootId, Option<PathBuf>)| folder.clone());
                let beside = |main: PathBuf| {
                    let name = main.file_name().unwrap_or_default().to_string_lossy().into_owned();
                    main.with_file_name(format!("{name}-{}", root.name))
                };
                let (name, folder) = (root.name.to_string(), root.folder.clone());
                let proposed = main.map(beside).unwrap_or_default();
                open.push(OpenRoot { root: name, folder, files, proposed });
            }
            None
        };
        folders.push((root.id, folder));
    }
    if !open.is_empty() {
        return Err(BuildError::RootsOpen { roots: open });
    }
    check_apart(ledger, lineup, &folders)?;
    Ok(folders)
}

fn absolute(folder: &Path) -> Result<PathBuf, BuildError> {
    let bad = || BuildError::BadFolder { folder: folder.to_path_buf() };
    let absolute = plain_path(&std::path::absolute(folder).map_err(|_| bad())?);
    let is_bad = absolute.parent().is_none() || is_no_games(&absolute) || absolute.to_str().is_none();
    if is_bad || absolute.symlink_metadata().is_ok_and(|there| !there.is_dir()) {
        return Err(bad());
    }
    Ok(absolute.components().collect())
}

pub(super) fn is_same(one: &Path, two: &Path) -> bool {
    real_of_future(one) == real_of_future(two)
}

/// Refuses folders that lie in each other, in the game, around it, or in another lineup's.
fn check_apart(
    ledger: &Ledger,
    lineup: &str,
    folders: &[(RootId, Option<PathBuf>)],
) -> Result<(), BuildError> {
    let new: Vec<&PathBuf> = folders.iter().filter_map(|(_, folder)| folder.as_ref()).collect();
    let overlap = |one: &Path, two: &Path| {
        let (one, two) = (real_of_future(one), real_of_future(two));
        one.starts_with(&two) || two.starts_with(&one)
    };
    let mut others: Vec<PathBuf> = ledger.game().roots.iter().map(|root| root.folder.clone()).collect();
    others.push(ledger.folder().to_path_buf());
    for (index, folder) in new.iter().enumerate() {
        let beside = new.iter().enumerate().filter(|(other, _)| *other != index).map(|(_, folder)| *folder);
        if let Some(other) = others.iter().chain(beside).find(|other| overlap(folder, other)) {
            return Err(BuildError::Overlap { folder: (*folder).clone(), other: other.clone() });
        }
    }
    for built in ledger.catalogue.built_folders()?.into_iter().filter(|built| !built.is_of(lineup)) {
        for theirs in built.roots.iter().filter_map(|(_, folder)| folder.as_ref()) {
            if let Some(folder) = new.iter().find(|folder| overlap(folder, theirs)) {
                return Err(BuildError::OfOther { folder: (*folder).clone(), lineup: built.lineup });
            }
        }
    }
    Ok(())
}
