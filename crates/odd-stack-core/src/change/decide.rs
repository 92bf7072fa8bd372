//! Deciding a change: from two orders of layers to steps, without touching the game.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rayon::prelude::*;

use super::apply::{ChangeOptions, ChangeRequest, Edits, Staged, look};
use super::carried_edits::{ClashingFile, Exchange};
use super::discarded::Thrown;
use super::effects::is_same_on_disk;
use super::error::ChangeError;
use super::foreign_files::ForeignFile;
use super::last_look::look_at_file;
use super::new_folders::NewFolders;
use super::notes::Note;
use super::plan::Plan;
use super::step::Step;
use crate::address::{Address, FoldedKey, RelPath};
use crate::blend::BlendRules;
use crate::expected::{Blender, Drift, DriftKind, Finding, Folders};
use crate::files::{STAGE, Stamp, TRASH};
use crate::game::Root;
use crate::ledger::{Covering, Ledger, LedgerError, OtherGames, free_batch};
use crate::observer::{Observer, Work};
use crate::stack::{
    BaseFile, BaseKind, Column, Entry, Hindrance, LayerId, Order, PathId, Provider, RootId, Tally, tallies,
};

/// Everything that follows from a request.
#[derive(Debug, Default)]
pub(super) struct Decision {
    pub plan: Plan,
    pub steps: Vec<Step>,
    pub staged: Vec<Staged>,
    /// What goes to the trash.
    pub thrown: Vec<Thrown>,
    /// Folders in the sides that steps and staging need, each after the one above it.
    pub private_folders: Vec<PathBuf>,
    /// The sides of all roots that change.
    pub sides: Vec<PathBuf>,
    pub tallies: BTreeMap<LayerId, Tally>,
    pub base_now: Vec<(RootId, FoldedKey, Option<BaseFile>)>,
    /// Addresses whose original is lost.
    pub lost: Vec<(RootId, FoldedKey, RelPath)>,
    /// Files of the base that go where covered ones lie.
    pub covering: Vec<Covering>,
    /// Originals that come back, whose times were changed while they lay aside.
    pub restamped: Vec<(PathBuf, Stamp)>,
}

/// What becomes of a file in the way at an address. Another game's is saved: the user was asked for it by itself.
pub(super) fn edits_at(column: &Column, edits: Edits, over_others: Option<&OtherGames>) -> Edits {
    let is_anothers = over_others.is_some_and(|others| others.whose(column.root, &column.key).is_some());
    if is_anothers { Edits::Keep } else { edits }
}

/// How many staged or discarded files share a folder.
const FILES_A_FOLDER: usize = 512;

pub(super) fn decide(
    ledger: &Ledger,
    request: &ChangeRequest,
    options: ChangeOptions,
    others: &OtherGames,
    observer: &dyn Observer,
) -> Result<Decision, ChangeError> {
    let catalogue = &ledger.catalogue;
    let arrangement = catalogue.arrangement()?;
    let changed = arrangement.changed_layers(&request.after);
    // Of a layer that takes another's place only what they do not have alike counts.
    let (columns, alike_files) = match request.exchanges.as_slice() {
        [exchange] if !exchange.asks_otherwise => {
            catalogue.columns_apart(exchange.old, exchange.new, &request.touched())?
        }
        _ => (catalogue.columns_of(&changed, &request.touched())?, 0),
    };
    let settled = catalogue.settlements_among_columns()?;
    let mut after = ledger.order(&request.after, request.settled_after(settled.clone()))?;
    if let Some(rules) = &request.blend_rules {
        let rules = BlendRules::new(rules).map_err(|error| catalogue.damaged_by(&error))?;
        after = after.with_blend_rules(Arc::new(rules));
    }
    let before = ledger.order(&arrangement, settled)?;
    let mut decider = Decider {
        ledger,
        changed: changed.iter().copied().collect(),
        columns,
        alike_files,
        also_folders: catalogue.folders_among_columns()?,
        folders_before: Folders::new(catalogue, before.clone()),
        folders_after: Folders::new(catalogue, after.clone()),
        new_folders: NewFolders::default(),
        before,
        after,
        edits: options.edits,
        over_others: options.over_other_games.then_some(others),
        without_lost: options.without_lost,
        blender: Blender::in_change(ledger, request.unstored.clone(), request.is_dry_run),
        exchanges: request.exchanges.clone(),
        clashing: Vec::new(),
        restore: request.restore.iter().copied().collect(),
        foreign: request.foreign.clone(),
        tallies_before: None,
        has_unknown_originals: catalogue.has_unknown_originals()?,
        revision: catalogue.last_revision()? + 1,
        batch: free_batch(ledger.game().roots.iter().map(|root| ledger.site().side(root)))?,
        leaving: Leaving::new(),
        cleared: BTreeSet::new(),
        notes: BTreeMap::new(),
        names: HashMap::new(),
        decision: Decision::default(),
    };
    decider.check_roots()?;
    let folders = catalogue.folders_of(&changed)?;
    folders.iter().try_for_each(|(root, key)| decider.refuse_folder_clash(*root, key))?;
    decider.find_new_folders(&folders)?;
    observer.begin(Work::Comparing, decider.columns.len() as u64, 0);
    let decided = decider.blend_and_settle_base().and_then(|()| decider.decide_files());
    observer.end();
    decided?;
    decider.decide_direct(request)?;
    decider.decide_folders(&folders, &request.accepted)?;
    decider.tell_notes();
    decider.note_differences()?;
    let old = decider.tallies_before.take();
    let old = old.unwrap_or_else(|| tallies(&decider.columns, &decider.before));
    let new = tallies(&decider.columns, &decider.after);
    decider.decision.tallies = difference(&old, new);
    for exchange in &request.exchanges {
        // What they have alike counts for the new one as it did for the old one.
        let all = catalogue.tally_of(exchange.old)?;
        let apart = old.get(&exchange.old).copied().unwrap_or_default();
        let tally = decider.decision.tallies.entry(exchange.new).or_default();
        *tally = tally.plus(all).minus(apart);
    }
    Ok(decider.decision)
}

fn difference(old: &BTreeMap<LayerId, Tally>, mut new: BTreeMap<LayerId, Tally>) -> BTreeMap<LayerId, Tally> {
    for (layer, tally) in old {
        let change = new.entry(*layer).or_default();
        *change = change.minus(*tally);
    }
    new
}

pub(super) struct Decider<'a> {
    pub(super) ledger: &'a Ledger,
    pub(super) changed: BTreeSet<LayerId>,
    pub(super) columns: Vec<Column>,
    /// Files that both versions of an exchanged layer have alike, which are no columns here.
    pub(super) alike_files: u64,
    /// Addresses of files at which some layer needs a folder.
    also_folders: HashSet<PathId>,
    pub(super) folders_before: Folders<'a>,
    pub(super) folders_after: Folders<'a>,
    pub(super) new_folders: NewFolders,
    pub(super) before: Order,
    pub(super) after: Order,
    pub(super) edits: Edits,
    /// What other games have in folders of this one, where the user said that it may change.
    pub(super) over_others: Option<&'a OtherGames>,
    /// Originals that are lost do not stop it.
    pub(super) without_lost: bool,
    pub(super) blender: Blender<'a>,
    pub(super) exchanges: Vec<Exchange>,
    /// Files whose edits can't be carried over.
    pub(super) clashing: Vec<ClashingFile>,
    /// Addresses at which what the stack says is put again.
    restore: HashSet<PathId>,
    /// Files on disk that the stack does not know, and that are taken up.
    pub(super) foreign: HashMap<PathId, ForeignFile>,
    /// Tallies under the order before, where they must be taken before the base changes.
    tallies_before: Option<BTreeMap<LayerId, Tally>>,
    /// Of some addresses it is not known what the game had there.
    has_unknown_originals: bool,
    pub(super) revision: i64,
    /// What the names begin with of all that goes through the sides, for nothing that lies there has them.
    pub(super) batch: u64,
    /// Addresses of files that leave, and nothing takes their place.
    pub(super) leaving: Leaving,
    /// What lay where a folder is to be, and goes.
    pub(super) cleared: BTreeSet<PathBuf>,
    /// What the user should know, by its cause.
    pub(super) notes: BTreeMap<Note, Vec<Address>>,
    /// Layers' names, for messages.
    names: HashMap<LayerId, String>,
    pub(super) decision: Decision,
}

/// One column whose file on disk changes, with who supplies it before and after.
pub(super) struct Move<'c> {
    pub(super) column: &'c Column,
    pub(super) from: Provider<'c>,
    pub(super) to: Provider<'c>,
    pub(super) from_path: RelPath,
    pub(super) to_path: RelPath,
    /// Nothing can lie there yet, since its folder does not.
    pub(super) is_in_new_folder: bool,
}

impl Decider<'_> {
    pub(super) fn root(&self, id: RootId) -> Result<&Root, ChangeError> {
        Ok(self.ledger.site().root(id)?)
    }

    pub(super) fn address(&self, root: RootId, path: &RelPath) -> Result<Address, ChangeError> {
        Ok(Address { root: self.root(root)?.name.clone(), path: path.clone() })
    }

    pub(super) fn layer_name(&mut self, layer: LayerId) -> Result<String, ChangeError> {
        if self.names.is_empty() {
            let names = self.ledger.catalogue.layer_names()?;
            self.names = names.into_iter().collect();
        }
        Ok(self.names.get(&layer).cloned().unwrap_or_default())
    }

    fn check_roots(&mut self) -> Result<(), ChangeError> {
        let roots: BTreeSet<RootId> = self.columns.iter().map(|column| column.root).collect();
        for id in roots {
            let root = self.root(id)?;
            if look(&root.folder)?.is_none_or(|seen| seen.kind == BaseKind::File) {
                return Err(ChangeError::RootMissing {
                    root: root.name.to_string(),
                    folder: root.folder.clone(),
                });
            }
            let side = self.ledger.site().side(root);
            if !self.decision.sides.contains(&side) {
                self.decision.sides.push(side);
            }
        }
        Ok(())
    }

    /// Learns what blends, before and after, and what the base is.
    fn blend_and_settle_base(&mut self) -> Result<(), ChangeError> {
        self.blender.learn(&mut self.columns, &self.before)?;
        if !self.foreign.is_empty() {
            self.tallies_before = Some(tallies(&self.columns, &self.before));
            self.settle_foreign()?;
        }
        self.settle_base()?;
        self.judge_originals()?;
        self.blender.learn(&mut self.columns, &self.after)?;
        for column in &self.columns {
            let (Some(blend), Some(spelled)) = (column.blend(&self.after), column.spelled()) else {
                continue;
            };
            let address = self.address(column.root, spelled)?;
            match &blend.outcome {
                Ok(blended) => {
                    for reason in &blended.undone {
                        self.notes.entry(Note::Undone(reason.clone())).or_default().push(address.clone());
                    }
                }
                Err(why) => {
                    let whose = match why.hindrance {
                        Hindrance::Base => Some("the game's own file".to_owned()),
                        Hindrance::Content(hash) => {
                            let entry = column.entries.iter().find(|entry| entry.hash == hash);
                            entry.map(|entry| self.ledger.catalogue.layer_name(entry.layer)).transpose()?
                        }
                        Hindrance::Together | Hindrance::NotAtHand => None,
                    };
                    let note = Note::NotBlended { whose, reason: why.reason.clone() };
                    self.notes.entry(note).or_default().push(address);
                }
            }
        }
        Ok(())
    }

    fn decide_files(&mut self) -> Result<(), ChangeError> {
        let columns = std::mem::take(&mut self.columns);
        let result = self.decide_columns(&columns);
        self.columns = columns;
        result
    }

    fn decide_columns(&mut self, columns: &[Column]) -> Result<(), ChangeError> {
        let mut moves = Vec::new();
        for column in columns {
            self.refuse_clash(column)?;
            let (from, to) = (self.present(column), column.provider(&self.after));
            self.meet(column, from, to);
            if self.foreign.get(&column.path) == Some(&ForeignFile::Accepted) {
                self.set_old_original_aside(column)?;
            }
            if !is_same_on_disk(column, from, to) || self.is_put_again(column, to) || self.is_captured(column)
            {
                moves.push(Move {
                    column,
                    from,
                    to,
                    from_path: self.folders_before.file_path(column, from)?,
                    to_path: self.folders_after.file_path(column, to)?,
                    is_in_new_folder: self.new_folders.holding(column).is_some(),
                });
            }
        }
        let leaving = leaving(&moves);
        let in_the_way = self.things_for_folders(&moves, &leaving)?;
        self.make_missing_folders(&moves, &in_the_way)?;
        for (root, path, seen) in in_the_way {
            self.clear_the_way(root, &path, seen)?;
        }
        let site = self.ledger.site();
        let foreign = &self.foreign;
        let findings: Vec<Finding> = moves
            .par_iter()
            .map(|at| match foreign.get(&at.column.path) {
                Some(ForeignFile::Captured { .. }) => Ok(Finding::Fits { now: None }),
                _ => look_at_file(site, at),
            })
            .collect::<Result<_, _>>()?;
        let new = self.changed.iter().copied().filter(|layer| self.before.rank(*layer).is_none()).max();
        let drifted = &self.decision.plan.drifted;
        let mut must_stop =
            self.edits == Edits::Stop && !drifted.iter().all(|drift| self.is_over_others(&drift.address));
        for (at, finding) in moves.iter().zip(findings) {
            if self.is_captured(at.column) {
                self.decide_captured(at, new)?;
                continue;
            }
            let finding = match finding {
                // The folder goes before the file comes.
                Finding::FolderInTheWay if self.is_folder_left_empty(at, &leaving)? => {
                    Finding::Fits { now: None }
                }
                other => other,
            };
            let is_so = match finding {
                Finding::LiesAlready => true,
                Finding::Fits { .. } => self.is_put_again(at.column, at.to),
                _ => false,
            };
            if is_so {
                continue;
            }
            must_stop |= self.decide_file(at, finding)?;
        }
        if must_stop {
            let mut drifted = std::mem::take(&mut self.decision.plan.drifted);
            drifted.sort_by(|one, two| one.address.cmp(&two.address));
            return Err(ChangeError::Drifted { drifted });
        }
        if !self.clashing.is_empty() {
            return Err(ChangeError::EditsClash { files: std::mem::take(&mut self.clashing) });
        }
        self.decision.plan.effects.sort_by(|one, two| one.address.cmp(&two.address));
        self.leaving = leaving;
        Ok(())
    }

    /// Whether another game has a file there, and the user said that it may change.
    fn is_over_others(&self, address: &Address) -> bool {
        let game = self.ledger.game();
        let (Some(others), Some(root)) = (self.over_others, game.root_named(&address.root)) else {
            return false;
        };
        others.whose(root.id, &game.folding.key(address.path.as_str())).is_some()
    }

    fn is_captured(&self, column: &Column) -> bool {
        matches!(self.foreign.get(&column.path), Some(ForeignFile::Captured { .. }))
    }

    /// Whether a layer's file is put again where it should lie already.
    fn is_put_again(&self, column: &Column, to: Provider<'_>) -> bool {
        self.restore.contains(&column.path) && matches!(to, Provider::Layer(_))
    }

    /// Turns one moving file into an effect and steps; says whether it stops the change.
    fn decide_file(&mut self, at: &Move<'_>, finding: Finding) -> Result<bool, ChangeError> {
        let (root, side) = (self.root(at.column.root)?.clone(), self.side(at.column.root)?);
        let address = Address { root: root.name.clone(), path: at.future_or_present().clone() };
        let mut take_out = false;
        let mut kept = None;
        let mut stops = false;
        let mut content = None;
        let seen = match finding {
            Finding::Fits { now } | Finding::Drifted(_, now) => now,
            Finding::FolderInTheWay | Finding::LiesAlready => None,
        };
        match finding {
            Finding::LiesAlready => return Ok(false),
            Finding::FolderInTheWay if matches!(at.to, Provider::Nothing) => {
                self.notes.entry(Note::GoneAlready).or_default().push(address.clone());
            }
            Finding::FolderInTheWay => {
                take_out = true;
                let layer = at.from.entry().map(|entry| entry.layer);
                let kind = if layer.is_some() { DriftKind::Edited } else { DriftKind::Stray };
                self.decision.plan.drifted.push(Drift { address: address.clone(), kind, layer });
                stops = self.edits == Edits::Stop;
                // Nobody knows all that is in it, so it is never thrown away.
                kept = Some(self.keep(&root, at.present_or_future(), &address)?);
            }
            Finding::Fits { now } => take_out = now.is_some(),
            Finding::Drifted(DriftKind::Missing, _) if self.is_put_again(at.column, at.to) => {}
            Finding::Drifted(DriftKind::Missing | DriftKind::BaseGone, _) => {
                self.notes.entry(Note::GoneAlready).or_default().push(address.clone());
            }
            Finding::Drifted(DriftKind::Edited, Some(now))
                if self.edits == Edits::Stop
                    && let Some(carried) = self.carry_or_note(at, &now, &address, &side)? =>
            {
                take_out = true;
                if let Some((path, stamped)) = carried {
                    kept = Some(path);
                    content = Some(stamped);
                }
            }
            Finding::Drifted(kind, _) => {
                take_out = true;
                let layer = at.from.entry().map(|entry| entry.layer);
                self.decision.plan.drifted.push(Drift { address: address.clone(), kind, layer });
                match edits_at(at.column, self.edits, self.over_others) {
                    Edits::Stop => stops = true,
                    Edits::Keep => kept = Some(self.keep(&root, at.present_or_future(), &address)?),
                    Edits::Discard => {}
                }
            }
        }
        if self.has_unknown_originals
            && at.to.entry().is_none()
            && !self.foreign.contains_key(&at.column.path)
            && self.ledger.catalogue.is_original_unknown(at.column.root, &at.column.key)?
        {
            let plan = &mut self.decision.plan;
            let list = match at.to {
                Provider::Base(_) => &mut plan.originals_old,
                _ => &mut plan.originals_missing,
            };
            list.push(address.clone());
        }
        let is_gone = matches!(
            finding,
            Finding::FolderInTheWay | Finding::Drifted(DriftKind::Missing | DriftKind::BaseGone, _)
        );
        self.note_effect(address, at, !is_gone);
        if take_out {
            let public = at.present_or_future().on(&root.folder);
            let private = match (kept, at.from) {
                (Some(path), _) => path,
                (None, Provider::Base(base)) => {
                    self.decision.covering.push((at.column.path, at.column.root, base.clone()));
                    self.ledger.site().original(&root, at.column.path)
                }
                (None, _) => {
                    let path = self.in_trash(&side);
                    if let Some(seen) = seen {
                        let step = self.decision.steps.len();
                        self.decision.thrown.push(Thrown { step, root: at.column.root, seen });
                    }
                    path
                }
            };
            self.need_private_folders(&side, &private);
            self.decision.steps.push(Step::TakeOut { public, private });
        }
        self.put_in(at, &root, side, content)?;
        Ok(stops)
    }

    pub(super) fn put_in(
        &mut self,
        at: &Move<'_>,
        root: &Root,
        side: PathBuf,
        mut content: Option<(Vec<u8>, i64)>,
    ) -> Result<(), ChangeError> {
        if let (None, Provider::Layer(entry)) = (&content, at.to) {
            let made = self.blender.content_of(at.column, entry, &self.after)?;
            content = made.map(|made| (made, entry.modified));
        }
        let private = match at.to {
            Provider::Nothing => return Ok(()),
            Provider::Base(_) => {
                let path = self.ledger.site().original(root, at.column.path);
                if look(&path)?.is_none() {
                    let what = format!("the game's own {}:{}", root.name, at.to_path);
                    return Err(LedgerError::ContentLost { what, path }.into());
                }
                path
            }
            Provider::Layer(entry) => {
                let new_folder =
                    self.new_folders.holding(at.column).map(|folder| folder.join(at.to_path.name()));
                let path = match &new_folder {
                    Some(path) => path.clone(),
                    None => self.in_stage(&side),
                };
                self.need_private_folders(&side, &path);
                self.stage(at.column, entry, path.clone(), side, content);
                if new_folder.is_some() {
                    // It comes into the game with its folder.
                    return Ok(());
                }
                path
            }
        };
        self.decision.steps.push(Step::PutIn { private, public: at.to_path.on(&root.folder) });
        Ok(())
    }

    fn stage(
        &mut self,
        column: &Column,
        entry: &Entry,
        path: PathBuf,
        side: PathBuf,
        content: Option<(Vec<u8>, i64)>,
    ) {
        let mode = column.mode_for(entry);
        let (content, modified) = match content {
            Some((content, modified)) => (Some(content), modified),
            None => (None, entry.modified),
        };
        self.decision.staged.push(Staged {
            hash: entry.hash,
            size_bytes: content.as_ref().map_or(entry.size_bytes, |content| content.len() as u64),
            stamp: Stamp { modified, nanoseconds: 0, mode },
            path,
            side,
            content,
        });
    }

    /// The side of a root.
    pub(super) fn side(&self, root: RootId) -> Result<PathBuf, ChangeError> {
        Ok(self.ledger.site().side(self.root(root)?))
    }

    /// Where the file of the next step goes to be thrown away.
    pub(super) fn in_trash(&self, side: &Path) -> PathBuf {
        numbered(&side.join(TRASH), self.batch, self.decision.steps.len())
    }

    /// Where the next file is staged.
    fn in_stage(&self, side: &Path) -> PathBuf {
        numbered(&side.join(STAGE), self.batch, self.decision.staged.len())
    }

    pub(super) fn need_private_folders(&mut self, side: &Path, path: &Path) {
        let Some(parent) = path.parent() else { return };
        if self.decision.private_folders.last().is_some_and(|last| last == parent)
            || self.decision.private_folders.iter().rev().take(8).any(|folder| folder == parent)
        {
            return;
        }
        let mut missing: Vec<&Path> = parent.ancestors().take_while(|folder| *folder != side).collect();
        missing.reverse();
        self.decision.private_folders.extend(missing.into_iter().map(Path::to_path_buf));
    }

    /// Refuses a column where a newly laid file meets a folder.
    fn refuse_clash(&mut self, column: &Column) -> Result<(), ChangeError> {
        let file = column
            .entries
            .iter()
            .find(|entry| self.after.rank(entry.layer).is_some() && self.before.rank(entry.layer).is_none());
        let Some(file) = file else { return Ok(()) };
        let folder_of = if column.base.as_ref().is_some_and(|base| base.kind == BaseKind::Folder) {
            Some("the game itself".to_owned())
        } else if !self.also_folders.contains(&column.path) {
            None
        } else {
            let needs = &self.folders_after.source(column.root, &column.key)?.needs;
            match needs.iter().find(|need| self.after.rank(need.layer).is_some()).map(|need| need.layer) {
                Some(layer) => Some(format!("the layer {}", self.layer_name(layer)?)),
                None => None,
            }
        };
        let Some(folder_of) = folder_of else { return Ok(()) };
        let file_of = format!("the layer {}", self.layer_name(file.layer)?);
        let address = self.address(column.root, &file.spelled)?;
        Err(ChangeError::FileAgainstFolder { address, file_of, folder_of })
    }
}

impl Move<'_> {
    /// The path at which something lies, or may lie, before the change.
    pub(super) fn present_or_future(&self) -> &RelPath {
        if self.from_path.is_root() { &self.to_path } else { &self.from_path }
    }

    /// The path at which something lies after the change, or lay before it.
    pub(super) fn future_or_present(&self) -> &RelPath {
        if self.to_path.is_root() { &self.from_path } else { &self.to_path }
    }
}

/// Addresses of files that leave, and nothing takes their place.
pub(super) type Leaving = HashSet<(RootId, FoldedKey)>;

fn leaving(moves: &[Move<'_>]) -> Leaving {
    let leaves = |at: &&Move<'_>| matches!(at.to, Provider::Nothing);
    moves.iter().filter(leaves).map(|at| (at.column.root, at.column.key.clone())).collect()
}

/// The place for the `number`th file of a kind in a side's folder.
fn numbered(folder: &Path, batch: u64, number: usize) -> PathBuf {
    let mut path = folder.join(format!("{batch}-{}", number / FILES_A_FOLDER));
    path.push(number.to_string());
    // Many of these are kept at once.
    path.shrink_to_fit();
    path
}
