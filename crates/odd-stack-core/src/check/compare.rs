//! Comparing the whole disk with the stack.

use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;
use std::{io, thread};

use rayon::prelude::*;
use thiserror::Error;

use super::inside::{MemberDrift, inside};
use super::update_signs::{UpdateSigns, volatile_proposals};
use crate::address::{Address, FoldedKey, Folding, RelPath};
use crate::blend::BlendRules;

use crate::expected::{
    Blender, Drift, DriftKind, Expected, Finding, Place, compare, game_version_now, is_base_as_seen,
    is_entry_as_laid, is_put_back, path_on_disk, places,
};
use crate::files::{Seen, WalkError, Walked, is_one_file, look_at, walk};
use crate::game::Root;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, Lock, SharedWith, blob_path};
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, Column, LayerId, Order, Provider, RootId};

/// Why the disk can't be compared; nothing was changed.
#[derive(Debug, Error)]
pub enum CheckError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A folder or file can't be read.
    #[error("can't look at {}", path.display())]
    Look {
        /// What.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A root's folder is gone.
    #[error("the folder {} of the root `{root}` is not there: was the game moved, or is its disk not plugged in?", folder.display())]
    RootMissing {
        /// The root's name.
        root: String,
        /// Where it should be.
        folder: PathBuf,
    },
    /// Another process changes the game.
    #[error(
        "a change of this game is under way, so disk and stack can't be compared; try again when it is done"
    )]
    UnderWay,
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

/// A drifted file with what a user wants to know of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drifted {
    /// Where and how.
    pub drift: Drift,
    /// The layer that has the address, and for unknown files the one that made the folder.
    pub layer: Option<LayerId>,
    /// The base has a file of its own at the address.
    pub of_base: bool,
    /// The other game that has laid a file at the address, in a folder that both use.
    pub anothers: Option<SharedWith>,
    /// Of a container, the members that are not as they should be, where that can be told.
    pub members: Vec<MemberDrift>,
    /// What lies there is one file with the ledger's content, which was the only copy of what the layer brings.
    pub was_only_copy: bool,
}

/// What a comparison found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CheckReport {
    /// Files of layers and base that are as they should be.
    pub as_laid_files: u64,
    /// Files whose content was read and compared.
    pub compared_files: u64,
    /// Bytes of those.
    pub compared_bytes: u64,
    /// Files that differ where the game writes by itself, and are left alone.
    pub volatile_files: u64,
    /// What speaks for an official update since the base was last looked at.
    pub signs: UpdateSigns,
    /// Folders and patterns at which the game seems to write by itself, and that are not known as such.
    pub volatile_proposals: Vec<String>,
    /// Files that another game has laid into a folder that both use, and that are none of this one's.
    pub other_games_files: u64,
    /// All others, in order of addresses.
    pub drifted: Vec<Drifted>,
}

/// Compares every file of the base and of laid layers with the disk: by name, size and time, and
/// with `deep` by content wherever its hash is known. Also finds unknown files in all folders, and judges what
/// has become of each file that differs. Runs on all threads of the current pool. What another process changes meanwhile is
/// waited for and looked at anew.
///
/// # Errors
/// [`CheckError`].
pub fn check(ledger: &Ledger, deep: bool, observer: &dyn Observer) -> Result<CheckReport, CheckError> {
    let catalogue = &ledger.catalogue;
    let state = || Ok::<_, LedgerError>((catalogue.last_revision()?, catalogue.journal()?.is_some()));
    for _ in 0..MOST_TRIES {
        let before = state()?;
        let found = check_and_keep(ledger, deep, observer);
        let after = state()?;
        if before == after && !after.1 {
            return found.map(|(report, _)| report);
        }
        // Another process has changed the game meanwhile, so that disk and stack were not looked at together.
        match Lock::take_silently(ledger.folder(), WAIT_FOR_OTHERS) {
            Err(LedgerError::Busy { .. }) => break,
            Err(error) => return Err(error.into()),
            // What nobody is at stays as it is.
            Ok(_lock) if before == after && state()? == after => return found.map(|(report, _)| report),
            Ok(_lock) => {}
        }
    }
    Err(CheckError::UnderWay)
}

/// How often the disk is looked at before it is said that it changes all the time.
const MOST_TRIES: usize = 4;
const WAIT_FOR_OTHERS: Duration = Duration::from_secs(10);

/// What one root was compared by.
pub(crate) struct LookedAt {
    pub root: RootId,
    /// The whole base, in order of keys.
    pub base: Vec<(FoldedKey, BaseFile)>,
    /// What lies in each folder, by its path.
    pub things: Things,
}

/// As [`check()`], and gives what was looked through, for those who need that as well.
pub(crate) fn check_and_keep(
    ledger: &Ledger,
    deep: bool,
    observer: &dyn Observer,
) -> Result<(CheckReport, Vec<LookedAt>), CheckError> {
    roots_are_there(ledger)?;
    let roots = &ledger.game().roots;
    observer.begin(Work::Scanning, 0, 0);
    let found = thread::scope(|scope| {
        // The disk is looked through while the catalogue is read.
        let walking =
            scope.spawn(|| roots.iter().map(|root| walk(&root.folder, observer)).collect::<Vec<_>>());
        let arrangement = ledger.catalogue.arrangement()?;
        let order = ledger.order(&arrangement, ledger.catalogue.settlements()?)?;
        let laid = arrangement.laid();
        let needed = ledger.catalogue.folders_of(&laid)?;
        let mut columns: HashMap<RootId, Vec<Column>> = HashMap::new();
        for column in ledger.catalogue.columns_of_all(&laid)? {
            columns.entry(column.root).or_default().push(column);
        }
        let mut known = Vec::with_capacity(roots.len());
        for root in roots {
            known.push((ledger.catalogue.base_of(root.id)?, columns.remove(&root.id).unwrap_or_default()));
        }
        let mut expected = Vec::with_capacity(roots.len());
        for (root, (base, columns)) in roots.iter().zip(&mut known) {
            expected.push(places(ledger, root, base, columns, &order, &needed)?);
        }
        let walked = walking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        observer.end();
        let mut report = CheckReport::default();
        let mut things = Vec::with_capacity(roots.len());
        for ((root, places), walked) in roots.iter().zip(expected).zip(walked) {
            let folds = ledger.game().folding == Folding::Folded;
            let look = Looker { root, deep, folds, observer, walked: by_folder(walked)? };
            look.look_everywhere(&places, &mut report)?;
            things.push(look.walked);
        }
        let looked = roots.iter().zip(known).zip(things);
        let looked = looked.map(|((root, (base, _)), things)| LookedAt { root: root.id, base, things });
        Ok::<_, CheckError>((report, looked.collect()))
    });
    let (mut report, looked): (CheckReport, Vec<LookedAt>) = found?;
    report.drifted.sort_by(|one, two| one.drift.address.cmp(&two.drift.address));
    judge_together(ledger, &mut report)?;
    if !report.drifted.is_empty() {
        look_inside(ledger, &ledger.present_order()?, &mut report)?;
    }
    Ok((report, looked))
}

/// Whether all folders of the game are there, so that it can be looked through.
///
/// # Errors
/// [`CheckError::RootMissing`].
pub fn roots_are_there(ledger: &Ledger) -> Result<(), CheckError> {
    match ledger.game().roots.iter().find(|root| !root.folder.is_dir()) {
        Some(root) => {
            Err(CheckError::RootMissing { root: root.name.to_string(), folder: root.folder.clone() })
        }
        None => Ok(()),
    }
}

/// What has become of the file at one address, if it is not as it should be; looks at nothing else but the game's
/// version. Where nobody has anything, `asked` is how it was spelled. Unlike [`check()`] it tells nothing of other
/// spellings, and of an update only by the version.
pub(crate) fn check_at(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
    asked: &RelPath,
) -> Result<Option<Drifted>, CheckError> {
    let root = ledger.site().root(column.root)?;
    let place = match (&column.base, column.entries.is_empty()) {
        (None, true) => asked.clone(),
        _ => path_on_disk(&ledger.catalogue, column, order)?,
    };
    let path = place.on(&root.folder);
    let failed = |source| CheckError::Look { path: path.clone(), source };
    let provider = column.provider(order);
    let seen = look_at(&path).map_err(failed)?;
    let kind = match compare(&path, provider, true).map_err(failed)? {
        Finding::Fits { .. } | Finding::LiesAlready => return Ok(None),
        Finding::FolderInTheWay if matches!(provider, Provider::Nothing) => return Ok(None),
        Finding::FolderInTheWay => DriftKind::Edited,
        Finding::Drifted(kind, _) => kind,
    };
    let covered = column.base.as_deref().filter(|_| provider.entry().is_some());
    let kind = match kind {
        DriftKind::Edited if is_put_back(&path, seen, covered).map_err(failed)? => DriftKind::PutBack,
        DriftKind::Edited => {
            let version = game_version_now(ledger)?;
            let version_now = version.of_game();
            let signs = UpdateSigns { known_version: version.known, version_now, ..UpdateSigns::default() };
            let is_settings = order.blend_rules().format_of(column.key.as_str()).is_some();
            let is_update = signs.look_like_an_update() && !is_settings && column.base.is_some();
            if is_update { DriftKind::Updated } else { kind }
        }
        DriftKind::Stray => match column.key.parent() {
            Some(parent) if ledger.catalogue.base_at(column.root, &parent)?.is_none() => kind,
            _ => DriftKind::BaseAdded,
        },
        kind => kind,
    };
    let layer = provider.entry().map(|entry| entry.layer);
    let address = Address { root: root.name.clone(), path: place };
    let of_base = column.base.is_some();
    let anothers = ledger.other_games()?.whose(column.root, &column.key).cloned();
    if anothers.is_some() && layer.is_none() {
        return Ok(None);
    }
    let members = members_of(ledger, column, order, kind, &path)?;
    let was_only_copy = kind == DriftKind::Edited && is_only_copy(ledger, column, order, &path);
    let drift = Drift { address, kind, layer };
    Ok(Some(Drifted { drift, layer, of_base, anothers, members, was_only_copy }))
}

/// Whether an edited file is one with the content in the ledger.
fn is_only_copy(ledger: &Ledger, column: &Column, order: &Order, path: &Path) -> bool {
    let entry = column.provider(order).entry();
    entry.is_some_and(|entry| is_one_file(path, &blob_path(ledger.folder(), entry.hash)))
}

/// The members of an edited container that are not as they should be.
fn members_of(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
    kind: DriftKind,
    path: &Path,
) -> Result<Vec<MemberDrift>, LedgerError> {
    if kind != DriftKind::Edited {
        return Ok(Vec::new());
    }
    Ok(inside(ledger, column, order, path)?.map(|inside| inside.members).unwrap_or_default())
}

/// Tells of edited containers what changed in them, of so many.
fn look_inside(ledger: &Ledger, order: &Order, report: &mut CheckReport) -> Result<(), LedgerError> {
    const MOST_LOOKED_INTO: usize = 32;
    let is_edited = |drifted: &&mut Drifted| drifted.drift.kind == DriftKind::Edited;
    for drifted in report.drifted.iter_mut().filter(is_edited).take(MOST_LOOKED_INTO) {
        let address = &drifted.drift.address;
        let Some(root) = ledger.game().root_named(&address.root) else { continue };
        let key = ledger.game().folding.key(address.path.as_str());
        let mut columns = [ledger.column(root.id, &key)?];
        Blender::new(ledger).learn(&mut columns, order)?;
        let path = address.path.on(&root.folder);
        drifted.members = members_of(ledger, &columns[0], order, drifted.drift.kind, &path)?;
        drifted.was_only_copy = is_only_copy(ledger, &columns[0], order, &path);
    }
    Ok(())
}

/// What only all drifted files together tell: whether the game was updated, and where it writes by itself.
fn judge_together(ledger: &Ledger, report: &mut CheckReport) -> Result<(), LedgerError> {
    let game = ledger.game();
    let volatile = ledger.volatile()?;
    let rules = BlendRules::new(&game.blend_rules).map_err(|error| ledger.catalogue.damaged_by(&error))?;
    let key = |address: &Address| {
        let root = game.root_named(&address.root).map_or(RootId(0), |root| root.id);
        (root, game.folding.key(address.path.as_str()))
    };
    let others = ledger.other_games()?;
    let all = report.drifted.len();
    report.drifted.retain_mut(|drifted| {
        let (root, key) = key(&drifted.drift.address);
        drifted.anothers = others.whose(root, &key).cloned();
        drifted.anothers.is_none() || drifted.drift.layer.is_some()
    });
    let before = report.drifted.len();
    report.other_games_files = (all - before) as u64;
    report.drifted.retain(|drifted| {
        let is_left_alone = match drifted.drift.kind {
            DriftKind::Missing | DriftKind::OtherSpelling | DriftKind::PutBack | DriftKind::Updated => false,
            DriftKind::FolderGone
            | DriftKind::Edited
            | DriftKind::BaseChanged
            | DriftKind::BaseTouched
            | DriftKind::BaseAdded
            | DriftKind::BaseGone
            | DriftKind::Stray => {
                let (root, key) = key(&drifted.drift.address);
                volatile.meet(root, key.as_str())
            }
        };
        !is_left_alone
    });
    report.volatile_files = (before - report.drifted.len()) as u64;
    let is_settings = |address: &Address| rules.format_of(key(address).1.as_str()).is_some();
    let base_drifts = report.drifted.iter().filter(|drifted| {
        drifted.drift.kind == DriftKind::BaseChanged && !is_settings(&drifted.drift.address)
    });
    let version = game_version_now(ledger)?;
    report.signs = UpdateSigns {
        version_now: version.of_game(),
        known_version: version.known,
        base_changed_files: base_drifts.count() as u64,
        base_files: game.seen.0,
    };
    if report.signs.look_like_an_update() {
        // Settings are changed by games and people as well; those are told as edits.
        for drifted in &mut report.drifted {
            let kind = drifted.drift.kind;
            // Where the base has nothing no update brings anything that could be told from damage.
            if kind == DriftKind::Edited && drifted.of_base && !is_settings(&drifted.drift.address) {
                drifted.drift.kind = DriftKind::Updated;
            }
        }
    }
    let of_game = report.drifted.iter().filter(|drifted| {
        matches!(
            drifted.drift.kind,
            DriftKind::BaseAdded | DriftKind::BaseChanged | DriftKind::BaseTouched | DriftKind::Stray
        )
    });
    report.volatile_proposals = volatile_proposals(of_game.map(|drifted| &drifted.drift.address));
    Ok(())
}

/// Things by the folder that they lie in.
pub(crate) type Things = HashMap<String, Vec<(OsString, Seen)>>;

fn by_folder(walked: Result<Vec<Walked>, WalkError>) -> Result<Things, CheckError> {
    match walked {
        Ok(walked) => {
            Ok(walked.into_iter().map(|folder| (folder.below.as_str().to_owned(), folder.things)).collect())
        }
        Err(WalkError::Unreadable { path, source }) => Err(CheckError::Look { path, source }),
        Err(WalkError::Cancelled) => Err(CheckError::Cancelled),
    }
}

struct Looker<'a> {
    root: &'a Root,
    deep: bool,
    /// Spellings that differ in case are the same.
    folds: bool,
    observer: &'a dyn Observer,
    /// What lies in each folder below the root.
    walked: Things,
}

impl Looker<'_> {
    fn look_everywhere(
        &self,
        places: &HashMap<String, Place<'_>>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let files = places.values().map(|place| place.files.len() as u64).sum();
        let bytes: u64 =
            places.values().flat_map(|place| &place.files).map(|file| file.provider.size_bytes()).sum();
        self.observer.begin(Work::Comparing, files, if self.deep { bytes } else { 0 });
        let parts: Result<Vec<CheckReport>, CheckError> =
            places.par_iter().map(|(folder, place)| self.look_into(folder, place)).collect();
        self.observer.end();
        for part in parts? {
            report.as_laid_files += part.as_laid_files;
            report.compared_files += part.compared_files;
            report.compared_bytes += part.compared_bytes;
            report.drifted.extend(part.drifted);
        }
        Ok(())
    }

    fn look_into(&self, folder: &str, place: &Place<'_>) -> Result<CheckReport, CheckError> {
        if self.observer.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        let below = RelPath::from_disk(folder);
        let mut report = CheckReport::default();
        if place.is_wanted && !self.walked.contains_key(folder) {
            self.judge_folder(&below, place, &mut report)?;
        }
        let files: HashMap<&str, &Expected<'_>> = place.files.iter().map(|file| (file.name, file)).collect();
        let mut met: HashSet<&str> = HashSet::with_capacity(files.len());
        let mut strangers = Vec::new();
        for (name, seen) in self.walked.get(folder).into_iter().flatten() {
            let Some(name) = name.to_str() else {
                // No address can name it: a game's own is passed over, as when it was added.
                if place.made_by.is_some() {
                    strangers.push((name.to_string_lossy().into_owned(), seen.kind));
                }
                continue;
            };
            match files.get(name) {
                Some(file) => {
                    met.insert(file.name);
                    self.judge(&below, file, Some(*seen), &mut report)?;
                }
                None => strangers.push((name.to_owned(), seen.kind)),
            }
        }
        if self.folds && !strangers.is_empty() {
            self.other_spellings(&below, &strangers, &files, &met, &mut report);
        }
        for file in files.values().filter(|file| !met.contains(file.name)) {
            // On a disk that does not tell cases apart the name may be spelled otherwise.
            let path = below.on(&self.root.folder).join(file.name);
            let seen = look_at(&path).map_err(|source| CheckError::Look { path, source })?;
            self.judge(&below, file, seen, &mut report)?;
        }
        if !strangers.is_empty() {
            let lower = |name: &str| name.to_lowercase();
            let folders = place.folders.iter().map(String::as_str);
            let known: HashSet<String> = files.keys().copied().chain(folders).map(lower).collect();
            for (name, kind) in strangers.into_iter().filter(|(name, _)| !known.contains(&lower(name))) {
                self.strange(&below.join(&RelPath::from_disk(name)), kind, place.made_by, &mut report)?;
            }
        }
        self.observer.advance(files.len() as u64, 0);
        Ok(report)
    }

    /// Notes a folder that is gone, unless the one above it is gone as well and says so.
    fn judge_folder(
        &self,
        below: &RelPath,
        place: &Place<'_>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let is_there = |folder: &RelPath| {
            let path = folder.on(&self.root.folder);
            let seen = look_at(&path).map_err(|source| CheckError::Look { path, source })?;
            Ok::<_, CheckError>(seen.is_some_and(|seen| seen.kind == BaseKind::Folder))
        };
        let above = below.parent();
        if is_there(below)? || !above.is_root() && !is_there(&above)? {
            return Ok(());
        }
        let address = Address { root: self.root.name.clone(), path: below.clone() };
        let drift = Drift { address, kind: DriftKind::FolderGone, layer: place.made_by };
        let of_base = place.made_by.is_none();
        report.drifted.push(Drifted {
            drift,
            layer: place.made_by,
            of_base,
            anothers: None,
            members: Vec::new(),
            was_only_copy: false,
        });
        Ok(())
    }

    /// Notes files that lie beside one of a layer under another spelling; both are there.
    fn other_spellings(
        &self,
        below: &RelPath,
        strangers: &[(String, BaseKind)],
        files: &HashMap<&str, &Expected<'_>>,
        met: &HashSet<&str>,
        report: &mut CheckReport,
    ) {
        let key = |name: &str| Folding::Folded.key(name).as_str().to_owned();
        let of_layers = files.iter().filter(|(name, _)| met.contains(*name));
        let of_layers: HashMap<String, LayerId> =
            of_layers.filter_map(|(name, file)| Some((key(name), file.provider.entry()?.layer))).collect();
        for (name, _) in strangers.iter().filter(|(_, kind)| *kind != BaseKind::Folder) {
            if let Some(layer) = of_layers.get(&key(name)) {
                let path = below.join(&RelPath::from_disk(name.clone()));
                let address = Address { root: self.root.name.clone(), path };
                let drift = Drift { address, kind: DriftKind::OtherSpelling, layer: Some(*layer) };
                report.drifted.push(Drifted {
                    drift,
                    layer: Some(*layer),
                    of_base: false,
                    anothers: None,
                    members: Vec::new(),
                    was_only_copy: false,
                });
            }
        }
    }

    fn judge(
        &self,
        below: &RelPath,
        expected: &Expected<'_>,
        seen: Option<Seen>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        let Expected { name, provider, covered } = *expected;
        let looks_right = seen.is_some_and(|seen| match provider {
            Provider::Base(base) => is_base_as_seen(base, &seen),
            Provider::Layer(entry) => is_entry_as_laid(entry, &seen),
            Provider::Nothing => false,
        });
        if looks_right && !(self.deep && provider.hash().is_some()) {
            report.as_laid_files += 1;
            return Ok(());
        }
        let relative = below.join(&RelPath::from_disk(name));
        let path = relative.on(&self.root.folder);
        let failed = |source| CheckError::Look { path: path.clone(), source };
        let kind = if looks_right {
            match provider.hash() {
                Some(hash) => {
                    report.compared_files += 1;
                    report.compared_bytes += provider.size_bytes();
                    let is_alike = ContentHash::of_file(&path).map_err(failed)? == hash;
                    self.observer.advance(0, provider.size_bytes());
                    (!is_alike).then_some(match provider {
                        Provider::Base(_) => DriftKind::BaseChanged,
                        _ => DriftKind::Edited,
                    })
                }
                None => None,
            }
        } else {
            match compare(&path, provider, true).map_err(failed)? {
                Finding::Fits { .. } | Finding::LiesAlready => None,
                Finding::Drifted(kind, _) => Some(kind),
                Finding::FolderInTheWay => Some(match provider {
                    Provider::Base(_) => DriftKind::BaseChanged,
                    _ => DriftKind::Edited,
                }),
            }
        };
        match kind {
            None => report.as_laid_files += 1,
            Some(kind) => {
                let is_back =
                    kind == DriftKind::Edited && is_put_back(&path, seen, covered).map_err(failed)?;
                let kind = if is_back { DriftKind::PutBack } else { kind };
                let layer = provider.entry().map(|entry| entry.layer);
                let address = Address { root: self.root.name.clone(), path: relative };
                let of_base = covered.is_some() || matches!(provider, Provider::Base(_));
                let drift = Drift { address, kind, layer };
                report.drifted.push(Drifted {
                    drift,
                    layer,
                    of_base,
                    anothers: None,
                    members: Vec::new(),
                    was_only_copy: false,
                });
            }
        }
        Ok(())
    }

    /// Notes an unknown file, or all files in an unknown folder.
    fn strange(
        &self,
        path: &RelPath,
        kind: BaseKind,
        made_by: Option<LayerId>,
        report: &mut CheckReport,
    ) -> Result<(), CheckError> {
        if kind == BaseKind::Folder {
            for (name, seen) in self.walked.get(path.as_str()).into_iter().flatten() {
                if name.to_str().is_none() && made_by.is_none() {
                    continue;
                }
                let name = RelPath::from_disk(name.to_string_lossy().into_owned());
                self.strange(&path.join(&name), seen.kind, made_by, report)?;
            }
            return Ok(());
        }
        let address = Address { root: self.root.name.clone(), path: path.clone() };
        let kind = if made_by.is_some() { DriftKind::Stray } else { DriftKind::BaseAdded };
        let drift = Drift { address, kind, layer: None };
        report.drifted.push(Drifted {
            drift,
            layer: made_by,
            of_base: false,
            anothers: None,
            members: Vec::new(),
            was_only_copy: false,
        });
        Ok(())
    }
}
