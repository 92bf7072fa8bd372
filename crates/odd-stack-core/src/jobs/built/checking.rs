//! Whether a second folder is as it was built, and whether its lineup has something else by now.

use std::path::PathBuf;

use rayon::prelude::*;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::error::BuildError;
use super::judge::Origin;
use super::plan::BuiltRootRow;
use super::wanted::WantedTree;
use crate::files::look_at;
use crate::hash::ContentHash;
use crate::jobs::LineupError;
use crate::jobs::history::lineups::wanted;
use crate::ledger::{BuiltFolder, BuiltThing, Ledger};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, RootId};

/// What became of a file in a second folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum BuiltDrift {
    /// It is gone.
    Missing,
    /// It has other content.
    Changed,
}

/// One file of a second folder that is not as it was put there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BuiltDriftRow {
    /// Its address.
    pub address: String,
    /// What became of it.
    pub state: BuiltDrift,
}

/// How a second folder is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BuiltCheck {
    /// Its lineup.
    pub lineup: String,
    /// Where it is.
    pub folder: String,
    /// The game's further roots.
    pub further_roots: Vec<BuiltRootRow>,
    /// When it was built last, RFC 3339.
    pub built_at: String,
    /// The last build was not cut short.
    pub is_finished: bool,
    /// Files that are as they were put there.
    pub as_built_files: u64,
    /// Those whose content was read and compared.
    pub compared_files: u64,
    /// The others.
    pub drifted: Vec<BuiltDriftRow>,
    /// Files that the lineup has otherwise by now: the next build changes them.
    pub behind_files: u64,
}

/// The second folder of a lineup.
///
/// # Errors
/// [`BuildError`], also where there is none.
pub(super) fn built_of(ledger: &Ledger, name: &str) -> Result<BuiltFolder, BuildError> {
    let (lineup, _) = wanted(ledger, name)?;
    let all = ledger.catalogue.built_folders()?;
    all.into_iter().find(|built| built.is_of(&lineup)).ok_or(BuildError::NoFolder { lineup })
}

/// The lineup whose second folder lies around a path.
///
/// # Errors
/// [`BuildError`].
pub fn built_around(ledger: &Ledger, path: &std::path::Path) -> Result<Option<String>, BuildError> {
    let all = ledger.catalogue.built_folders()?;
    let is_around = |built: &BuiltFolder| {
        let mut folders = built.roots.iter().filter_map(|(_, folder)| folder.as_ref());
        folders.any(|folder| path.ancestors().any(|above| crate::files::is_one_folder(above, folder)))
    };
    Ok(all.into_iter().find(is_around).map(|built| built.lineup))
}

/// Compares a second folder with what was put there; with `deep` by content wherever its hash is known.
///
/// # Errors
/// [`BuildError`].
pub fn check_built(
    ledger: &Ledger,
    name: &str,
    deep: bool,
    observer: &dyn Observer,
) -> Result<BuiltCheck, BuildError> {
    let built = built_of(ledger, name)?;
    let things = ledger.catalogue.built_things(built.id)?;
    let files: Vec<&BuiltThing> =
        things.iter().filter(|thing| !thing.is_planned && thing.kind != BaseKind::Folder).collect();
    let folder_of = |root: RootId| -> Option<&PathBuf> {
        built.roots.iter().find(|(id, _)| *id == root).and_then(|(_, folder)| folder.as_ref())
    };
    let volatile = ledger.volatile()?;
    let folding = ledger.game().folding;
    observer.begin(Work::Comparing, files.len() as u64, 0);
    let found = files.par_iter().map(|thing| {
        let Some(folder) = folder_of(thing.root) else { return Ok((None, false)) };
        let path = thing.path.on(folder);
        let failed = |source| BuildError::Look { path: path.clone(), source };
        let seen = look_at(&path).map_err(failed)?;
        observer.advance(1, 0);
        let is_so = seen.is_some_and(|seen| {
            (seen.kind, seen.size_bytes, seen.modified_ns)
                == (thing.kind, thing.size_bytes, thing.modified_ns)
        });
        let hash = thing.hash.filter(|_| deep && is_so && thing.kind == BaseKind::File);
        let state = match (seen, is_so, hash) {
            (None, ..) => Some(BuiltDrift::Missing),
            (Some(_), false, _) => Some(BuiltDrift::Changed),
            (Some(_), true, Some(hash)) => {
                (ContentHash::of_file(&path).map_err(failed)? != hash).then_some(BuiltDrift::Changed)
            }
            (Some(_), true, None) => None,
        };
        let is_volatile = volatile.meet(thing.root, folding.key(thing.path.as_str()).as_str());
        Ok((state.filter(|_| !is_volatile), hash.is_some()))
    });
    let found: Vec<(Option<BuiltDrift>, bool)> = found.collect::<Result<_, BuildError>>()?;
    observer.end();
    let address = |thing: &BuiltThing| ledger.game().address(thing.root, thing.path.clone());
    let mut drifted: Vec<BuiltDriftRow> = files
        .iter()
        .zip(&found)
        .filter_map(|(thing, (state, _))| {
            Some(BuiltDriftRow { address: address(thing)?.to_string(), state: (*state)? })
        })
        .collect();
    drifted.sort_by(|one, two| one.address.cmp(&two.address));
    let name = |root: &RootId| ledger.game().root(*root).map(|root| root.name.to_string());
    let further = built.roots.iter().skip(1).filter_map(|(root, folder)| {
        let folder = folder.as_ref().map(|folder| folder.display().to_string());
        Some(BuiltRootRow { root: name(root)?, folder })
    });
    let folder = built.roots.first().and_then(|(_, folder)| folder.as_ref());
    Ok(BuiltCheck {
        folder: folder.map(|folder| folder.display().to_string()).unwrap_or_default(),
        further_roots: further.collect(),
        built_at: built.made_at.clone(),
        is_finished: built.is_finished,
        as_built_files: found.iter().filter(|(state, _)| state.is_none()).count() as u64,
        compared_files: found.iter().filter(|(_, compared)| *compared).count() as u64,
        drifted,
        behind_files: behind(ledger, &built, &files)?,
        lineup: built.lineup,
    })
}

/// How many files the lineup has otherwise by now.
fn behind(ledger: &Ledger, built: &BuiltFolder, files: &[&BuiltThing]) -> Result<u64, BuildError> {
    let arranged = match wanted(ledger, &built.lineup) {
        Ok((_, arranged)) => arranged,
        Err(LineupError::NoSuchLineup { .. }) => return Ok(0),
        Err(error) => return Err(error.into()),
    };
    let roots = built.roots.iter().filter(|(_, folder)| folder.is_some());
    let roots: Vec<RootId> = roots.map(|(root, _)| *root).collect();
    let mut tree = WantedTree::of(ledger, &arranged.after, arranged.settled, &roots)?;
    let mut behind = 0;
    for thing in files {
        let at = (thing.root, ledger.game().folding.key(thing.path.as_str()));
        let origin = Origin { hash: thing.hash, size_bytes: thing.size_bytes, modified_ns: thing.source_ns };
        match tree.files.remove(&at) {
            Some(wanted) if wanted.origin.is_as(&origin) => {}
            _ => behind += 1,
        }
    }
    Ok(behind + tree.files.len() as u64)
}
