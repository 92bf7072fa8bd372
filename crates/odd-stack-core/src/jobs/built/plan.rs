//! What building a second folder of the game does, found out without changing anything.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

use rayon::prelude::*;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::error::BuildError;
use super::judge::{Known, Origin, Verdict, judge};
use super::request::{BuildRequest, folders, is_same};
use super::wanted::{Source, WantedFile, WantedTree, files_by_root};
use crate::address::{FoldedKey, RelPath, SIDE_FOLDER};
use crate::change::Edits;
use crate::files::{KEPT, Seen, is_nothing_there, look_at};
use crate::game::running_in;
use crate::hash::ContentHash;
use crate::jobs::history::lineups::wanted;
use crate::jobs::{Count, Permit};
use crate::ledger::{BuiltFolder, BuiltThing, Ledger};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, RootId};

/// Where one root of the game is in a second folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BuiltRootRow {
    /// The root.
    pub root: String,
    /// Its folder; none where it is left out, so that the second game has that of the first.
    pub folder: Option<String>,
}

/// A file that was changed in a second folder, and was saved before another took its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SavedRow {
    /// Where it lay.
    pub address: String,
    /// Where it is now.
    pub saved: String,
}

/// What building a second folder does, or did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct BuildReport {
    /// It was only looked what would be done.
    pub dry_run: bool,
    /// The lineup.
    pub lineup: String,
    /// The folder.
    pub folder: String,
    /// It was not built before.
    pub is_new: bool,
    /// The game's further roots.
    pub further_roots: Vec<BuiltRootRow>,
    /// Files that are put where nothing lay.
    pub put: Count,
    /// Files that take the place of others.
    pub replaced: Count,
    /// Files that go.
    pub removed_files: u64,
    /// Files that are as they should be.
    pub unchanged_files: u64,
    /// Those of the ones that are put that are links to the game's own.
    pub linked: Count,
    /// Copies there share their blocks with the original, so that they cost next to nothing.
    pub shares_blocks: bool,
    /// Files that were changed there, and stay since there is nothing new for them.
    pub edits_left: Vec<String>,
    /// Files that were changed there, and are saved.
    pub saved: Vec<SavedRow>,
    /// Files of the game's own that are missing, so that they are missing there as well.
    pub missing: Vec<String>,
    /// Files of the game's own that are not as they are known, and are taken as they lie.
    pub changed: Vec<String>,
}

/// What is done at one place.
pub(super) struct Act {
    pub at: (RootId, FoldedKey),
    /// What lies there goes: it is saved there, or thrown away.
    pub goes: Option<(RelPath, Option<PathBuf>)>,
    /// The wanted file comes.
    pub comes: bool,
}

/// A second folder about to be built. Dropping it leaves nothing of it.
#[must_use = "nothing is built until it is made"]
pub struct Outfitting<'l> {
    /// What it does.
    pub report: BuildReport,
    pub(super) ledger: &'l Ledger,
    _permit: Permit,
    pub(super) built: BuiltFolder,
    pub(super) tree: WantedTree,
    pub(super) acts: Vec<Act>,
    pub(super) known: HashMap<(RootId, FoldedKey), Vec<BuiltThing>>,
    /// Where somebody changed what lies there, and it stays.
    pub(super) edits_left: HashSet<(RootId, FoldedKey)>,
    pub(super) is_up_to_date: bool,
}

impl std::fmt::Debug for Outfitting<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("Outfitting").field("report", &self.report).finish_non_exhaustive()
    }
}

/// Looks what a second folder needs to be as its lineup has it; its own programs `may_run` meanwhile. Nothing is written.
///
/// # Errors
/// [`BuildError`].
pub fn prepare_build<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    request: &BuildRequest,
    may_run: bool,
    observer: &dyn Observer,
) -> Result<Outfitting<'l>, BuildError> {
    let (lineup, arranged) = wanted(ledger, &request.lineup)?;
    let before = ledger.catalogue.built_folders()?.into_iter().find(|built| built.is_of(&lineup));
    let files_of = files_by_root(ledger, &arranged.after)?;
    let roots = folders(ledger, request, &lineup, before.as_ref(), &files_of)?;
    let built = BuiltFolder {
        id: before.as_ref().map_or(0, |before| before.id),
        by_link: request.by_link || before.as_ref().is_some_and(|before| before.by_link),
        is_finished: before.as_ref().is_some_and(|before| before.is_finished),
        made_at: String::new(),
        lineup,
        roots,
    };
    for folder in built.roots.iter().filter_map(|(_, folder)| folder.as_ref()) {
        let is_known = before.iter().flat_map(|before| &before.roots);
        let is_known = is_known.filter_map(|(_, old)| old.as_ref()).any(|old| is_same(folder, old));
        if !is_known && !is_empty(folder)? {
            return Err(BuildError::NotEmpty { folder: folder.clone() });
        }
        if !may_run && !running_in(std::slice::from_ref(folder)).is_empty() {
            return Err(BuildError::Running { folder: folder.clone() });
        }
    }
    observer.begin(Work::Comparing, 0, 0);
    let ids: Vec<RootId> =
        built.roots.iter().filter(|(_, folder)| folder.is_some()).map(|(root, _)| *root).collect();
    let tree = WantedTree::of(ledger, &arranged.after, arranged.settled, &ids)?;
    let mut known: HashMap<(RootId, FoldedKey), Vec<BuiltThing>> = HashMap::new();
    for thing in if built.id == 0 { Vec::new() } else { ledger.catalogue.built_things(built.id)? } {
        let key = ledger.game().folding.key(thing.path.as_str());
        known.entry((thing.root, key)).or_default().push(thing);
    }
    let judged = judge_all(ledger, &built, &tree, &known);
    observer.end();
    let mut outfitting = Outfitting {
        report: first_report(ledger, request, &built, &tree, before.is_none()),
        ledger,
        _permit: permit,
        built,
        tree,
        acts: Vec::new(),
        known,
        edits_left: HashSet::new(),
        is_up_to_date: false,
    };
    outfitting.decide(judged?, request.edits)?;
    Ok(outfitting)
}

fn first_report(
    ledger: &Ledger,
    request: &BuildRequest,
    built: &BuiltFolder,
    tree: &WantedTree,
    is_new: bool,
) -> BuildReport {
    let name =
        |root: &RootId| ledger.game().root(*root).map(|root| root.name.to_string()).unwrap_or_default();
    let shown = |folder: &Option<PathBuf>| folder.as_ref().map(|folder| folder.display().to_string());
    let list = |places: &[(RootId, RelPath)]| {
        let address = |(root, path): &(RootId, RelPath)| ledger.game().address(*root, path.clone());
        places.iter().filter_map(address).map(|address| address.to_string()).collect()
    };
    let further = built.roots.iter().skip(1);
    BuildReport {
        dry_run: request.dry_run,
        lineup: built.lineup.clone(),
        folder: built.roots.first().and_then(|(_, folder)| shown(folder)).unwrap_or_default(),
        is_new,
        further_roots: further
            .map(|(root, folder)| BuiltRootRow { root: name(root), folder: shown(folder) })
            .collect(),
        put: Count::default(),
        replaced: Count::default(),
        removed_files: 0,
        unchanged_files: 0,
        linked: Count::default(),
        shares_blocks: false,
        edits_left: Vec::new(),
        saved: Vec::new(),
        missing: list(&tree.missing),
        changed: list(&tree.changed),
    }
}

/// Whether nothing lies in a folder, or it is not there.
fn is_empty(folder: &Path) -> Result<bool, BuildError> {
    match std::fs::read_dir(folder) {
        Ok(mut entries) => Ok(entries.next().is_none()),
        Err(error) if is_nothing_there(&error) => Ok(true),
        Err(source) => Err(BuildError::Look { path: folder.to_path_buf(), source }),
    }
}

/// What a look tells of one place.
struct Judged {
    at: (RootId, FoldedKey),
    verdict: Verdict,
    /// How what lies there is spelled, and where.
    lies: Option<RelPath>,
}

fn judge_all(
    ledger: &Ledger,
    built: &BuiltFolder,
    tree: &WantedTree,
    known: &HashMap<(RootId, FoldedKey), Vec<BuiltThing>>,
) -> Result<Vec<Judged>, BuildError> {
    let of_files = known.iter().filter(|(_, things)| things.iter().all(|it| it.kind != BaseKind::Folder));
    let places: BTreeSet<&(RootId, FoldedKey)> =
        tree.files.keys().chain(of_files.map(|(at, _)| at)).collect();
    let places: Vec<_> = places.into_iter().collect();
    let folder_of: HashMap<RootId, &PathBuf> =
        built.roots.iter().filter_map(|(root, folder)| Some((*root, folder.as_ref()?))).collect();
    let volatile = ledger.volatile()?;
    let judged = places.into_par_iter().map(|at| {
        let Some(folder) = folder_of.get(&at.0) else { return Ok(None) };
        let (wanted, things) = (tree.files.get(at), known.get(at).map_or(&[][..], Vec::as_slice));
        let path = things.last().map(|thing| &thing.path).or(wanted.map(|wanted| &wanted.path));
        let Some(path) = path else { return Ok(None) };
        let on_disk = path.on(folder);
        let seen = look_at(&on_disk).map_err(|source| BuildError::Look { path: on_disk.clone(), source })?;
        if seen.is_some_and(|seen| seen.kind == BaseKind::Folder) {
            return Err(BuildError::InTheWay { path: on_disk });
        }
        let known: Vec<Known> = things.iter().map(|thing| known_of(thing, seen)).collect();
        let mut verdict = judge(wanted.map(|wanted| wanted.origin), &known, seen.is_some());
        if let (Some(wanted), Some(seen)) = (wanted, seen)
            && matches!(verdict, Verdict::Read | Verdict::EditInTheWay)
        {
            let is_it = is_content(&on_disk, seen, wanted);
            verdict = match (is_it, verdict) {
                (true, _) => Verdict::Stays,
                (false, Verdict::Read) => Verdict::Replace,
                (false, verdict) => verdict,
            };
        }
        if verdict == Verdict::EditInTheWay && volatile.meet(at.0, at.1.as_str()) {
            verdict = Verdict::EditStays;
        }
        Ok(Some(Judged { at: at.clone(), verdict, lies: seen.map(|_| path.clone()) }))
    });
    let judged: Vec<Option<Judged>> = judged.collect::<Result<_, BuildError>>()?;
    Ok(judged.into_iter().flatten().collect())
}

fn known_of(thing: &BuiltThing, seen: Option<Seen>) -> Known {
    const TWO_SECONDS_NS: i64 = 2_000_000_000;
    let origin = Origin { hash: thing.hash, size_bytes: thing.size_bytes, modified_ns: thing.source_ns };
    let lies_there = seen.is_some_and(|seen| {
        let apart = seen.modified_ns.abs_diff(thing.modified_ns);
        // What was only meant to get a time may have got a coarser one.
        let is_time = apart == 0 || thing.is_planned && apart <= TWO_SECONDS_NS.unsigned_abs();
        (seen.kind, seen.size_bytes) == (thing.kind, thing.size_bytes) && is_time
    });
    Known { origin, lies_there, is_planned: thing.is_planned }
}

/// Whether just the content that is wanted lies there.
fn is_content(path: &Path, seen: Seen, wanted: &WantedFile) -> bool {
    let is_alike = (seen.kind, seen.size_bytes) == (wanted.kind, wanted.origin.size_bytes);
    let wanted = match (&wanted.source, wanted.origin.hash) {
        (_, Some(hash)) => Some(hash),
        (Source::Own(own), None) if is_alike => ContentHash::of_file(own).ok(),
        _ => None,
    };
    is_alike && wanted.is_some() && ContentHash::of_file(path).ok() == wanted
}

impl Outfitting<'_> {
    pub(super) fn address(&self, (root, _): &(RootId, FoldedKey), path: &RelPath) -> String {
        self.ledger.game().address(*root, path.clone()).map(|it| it.to_string()).unwrap_or_default()
    }

    pub(super) fn folder(&self, root: RootId) -> &Path {
        let found = self.built.roots.iter().find(|(id, _)| *id == root);
        found.and_then(|(_, folder)| folder.as_deref()).unwrap_or(Path::new(""))
    }

    fn decide(&mut self, judged: Vec<Judged>, edits: Edits) -> Result<(), BuildError> {
        let mut in_the_way = Vec::new();
        let kept = self.kept_folders()?;
        for Judged { at, verdict, lies } in judged {
            let bytes = self.tree.files.get(&at).map(|wanted| wanted.origin.size_bytes);
            let count = |count: &mut Count| {
                count.files += 1;
                count.bytes += bytes.unwrap_or_default();
            };
            match (verdict, lies) {
                (Verdict::Stays | Verdict::Read, lies) => {
                    self.report.unchanged_files += u64::from(lies.is_some());
                }
                (Verdict::EditStays, lies) => {
                    let address = self.address(&at, &lies.unwrap_or_default());
                    self.report.edits_left.push(address);
                    self.edits_left.insert(at);
                }
                (Verdict::Put, _) => {
                    count(&mut self.report.put);
                    self.acts.push(Act { at, goes: None, comes: true });
                }
                (Verdict::Replace, Some(path)) => {
                    count(&mut self.report.replaced);
                    self.acts.push(Act { at, goes: Some((path, None)), comes: true });
                }
                (Verdict::Remove, Some(path)) => {
                    self.report.removed_files += 1;
                    self.acts.push(Act { at, goes: Some((path, None)), comes: false });
                }
                (Verdict::EditInTheWay, Some(path)) => {
                    let comes = bytes.is_some();
                    match comes {
                        true => count(&mut self.report.replaced),
                        false => self.report.removed_files += 1,
                    }
                    let address = self.address(&at, &path);
                    let saved = match edits {
                        Edits::Stop => {
                            in_the_way.push(address);
                            continue;
                        }
                        Edits::Discard => None,
                        Edits::Keep => Some(self.keep(at.0, &path, address, &kept)),
                    };
                    self.acts.push(Act { at, goes: Some((path, saved)), comes });
                }
                (Verdict::Replace | Verdict::Remove | Verdict::EditInTheWay, None) => {}
            }
        }
        if !in_the_way.is_empty() {
            return Err(BuildError::Edited { files: in_the_way });
        }
        let left = self.folders_to_go();
        let is_left = left.iter().any(|(root, path)| is_empty(&path.on(self.folder(*root))).unwrap_or(false));
        let is_whole = self.built.is_finished && !self.report.is_new && !is_left;
        self.is_up_to_date = self.acts.is_empty() && is_whole;
        Ok(())
    }

    /// Notes that what lies there is saved, and gives where.
    fn keep(
        &mut self,
        root: RootId,
        path: &RelPath,
        address: String,
        kept: &HashMap<RootId, PathBuf>,
    ) -> PathBuf {
        let saved = kept.get(&root).map(|folder| path.on(folder)).unwrap_or_default();
        self.report.saved.push(SavedRow { address, saved: saved.display().to_string() });
        saved
    }

    /// A new folder for what is saved of each root.
    fn kept_folders(&self) -> Result<HashMap<RootId, PathBuf>, BuildError> {
        let mut folders = HashMap::new();
        for (root, folder) in &self.built.roots {
            let Some(folder) = folder else { continue };
            let kept = folder.join(SIDE_FOLDER).join(KEPT);
            let free = (1..).map(|number: u64| kept.join(number.to_string())).find(|path| !path.exists());
            folders.insert(*root, free.unwrap_or(kept));
        }
        Ok(folders)
    }

    /// Folders that were made, are no more wanted and are there still, each after the one above it.
    pub(super) fn folders_to_go(&self) -> Vec<(RootId, RelPath)> {
        let wanted: HashSet<(RootId, FoldedKey)> = self
            .tree
            .folders
            .iter()
            .map(|(root, path)| (*root, self.ledger.game().folding.key(path.as_str())))
            .collect();
        let unwanted = self.known.iter().filter(|(at, _)| !wanted.contains(at));
        let unwanted = unwanted.flat_map(|(at, things)| things.iter().map(|thing| (at.0, thing)));
        let mut gone: Vec<(RootId, RelPath)> = unwanted
            .filter(|(root, thing)| {
                thing.kind == BaseKind::Folder && thing.path.on(self.folder(*root)).is_dir()
            })
            .map(|(root, thing)| (root, thing.path.clone()))
            .collect();
        gone.sort();
        gone
    }
}
