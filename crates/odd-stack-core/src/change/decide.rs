//! Deciding a change: from two orders of layers to steps, without touching the game.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rayon::prelude::*;

use super::decider::{Decider, FilesAtWork, Leaving, Move, NewFolders, Note, Noted, StackTurn, Wishes};
use super::decision::{Decision, Made, Staged};
use super::effects::is_same_on_disk;
use super::error::ChangeError;
use super::last_look::look_at_file;
use super::linking::may_be_linked;
use super::looking::look;
use super::options::{ChangeOptions, Edits, edits_at};
use super::request::{ChangeRequest, Exchange, ForeignFile};
use super::step::{Step, Thrown};
use crate::address::Address;
use crate::blend::BlendRules;
use crate::expected::{Blender, Building, Drift, DriftKind, Finding, Folders};
use crate::files::{Seen, Stamp};
use crate::game::Root;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, OtherGames, free_batch};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, Column, Entry, Hindrance, LayerId, Provider, RootId, Tally, tallies};

pub(super) fn decide(
    ledger: &Ledger,
    request: &ChangeRequest,
    options: ChangeOptions,
    others: &OtherGames,
    observer: &dyn Observer,
) -> Result<Decision, ChangeError> {
    let changed = ledger.catalogue.arrangement()?.changed_layers(&request.stack.after);
    let mut decider = decider_of(ledger, request, &changed, options, others)?;
    decider.check_roots()?;
    let folders = ledger.catalogue.folders_of(&changed)?;
    folders.iter().try_for_each(|(root, key)| decider.refuse_folder_clash(*root, key))?;
    decider.find_new_folders(&folders)?;
    observer.begin(Work::Comparing, decider.stack.columns.len() as u64, 0);
    let decided = decider.blend_and_settle_base().and_then(|()| decider.decide_files());
    observer.end();
    decided?;
    decider.decide_direct(request)?;
    decider.decide_folders(&folders, &request.files.accepted)?;
    decider.tell_notes();
    decider.note_differences()?;
    decider.decide_tallies(&request.stack.exchanges)?;
    Ok(decider.decision)
}

/// All that a decision begins with.
fn decider_of<'l>(
    ledger: &'l Ledger,
    request: &ChangeRequest,
    changed: &[LayerId],
    options: ChangeOptions,
    others: &'l OtherGames,
) -> Result<Decider<'l>, ChangeError> {
    let catalogue = &ledger.catalogue;
    // Of a layer that takes another's place only what they do not have alike counts.
    let (columns, alike_files) = match request.stack.exchanges.as_slice() {
        [exchange] if !exchange.asks_otherwise => {
            catalogue.columns_apart(exchange.old, exchange.new, &request.touched())?
        }
        _ => (catalogue.columns_of(changed, &request.touched())?, 0),
    };
    let settled = catalogue.settlements_among_columns()?;
    let mut after = ledger.order(&request.stack.after, request.settled_after(settled.clone()))?;
    if let Some(rules) = &request.stack.blend_rules {
        let rules = BlendRules::new(rules).map_err(|error| catalogue.damaged_by(&error))?;
        after = after.with_blend_rules(Arc::new(rules));
    }
    let before = ledger.order(&catalogue.arrangement()?, settled)?;
    Ok(Decider {
        ledger,
        blender: Blender::in_change(ledger, Arc::clone(&request.noted.unstored), request.noted.is_dry_run),
        stack: StackTurn {
            changed: changed.iter().copied().collect(),
            columns,
            alike_files,
            also_folders: catalogue.folders_among_columns()?,
            folders_before: Folders::new(catalogue, before.clone()),
            folders_after: Folders::new(catalogue, after.clone()),
            before,
            after,
            exchanges: request.stack.exchanges.clone(),
            tallies_before: None,
        },
        wishes: Wishes {
            edits: options.edits,
            over_others: options.over_other_games.then_some(others),
            without_lost: options.without_lost,
            restore: request.files.restore.iter().copied().collect(),
            foreign: request.files.foreign.clone(),
        },
        files: FilesAtWork {
            new_folders: NewFolders::default(),
            sides: HashMap::new(),
            revision: catalogue.last_revision()? + 1,
            batch: free_batch(ledger.game().roots.iter().map(|root| ledger.site().side(root)))?,
            leaving: Leaving::new(),
            cleared: BTreeSet::new(),
            has_unknown_originals: catalogue.has_unknown_originals()?,
        },
        noted: Noted::default(),
        decision: Decision::default(),
    })
}

/// So many files are looked at before they are decided: enough for all threads, and few to remember.
const LOOKED_AT_ONCE: usize = 4096;

/// What becomes of the file that lies where another comes, or where one goes.
#[derive(Default)]
struct PresentFile {
    take_out: bool,
    /// Where it is kept when it is taken out.
    kept: Option<PathBuf>,
    /// Whether the change stops for it.
    stops: bool,
    /// A person's edits carried over into what comes, with the time it is to have.
    carried: Option<(Vec<u8>, i64)>,
}

fn difference(old: &BTreeMap<LayerId, Tally>, mut new: BTreeMap<LayerId, Tally>) -> BTreeMap<LayerId, Tally> {
    for (layer, tally) in old {
        let change = new.entry(*layer).or_default();
        *change = change.minus(*tally);
    }
    new
}

impl Decider<'_> {
    fn check_roots(&mut self) -> Result<(), ChangeError> {
        let roots: BTreeSet<RootId> = self.stack.columns.iter().map(|column| column.root).collect();
        for id in roots {
            let root = self.root(id)?;
            if look(&root.folder)?.is_none_or(|seen| seen.kind == BaseKind::File) {
                return Err(ChangeError::RootMissing {
                    root: root.name.to_string(),
                    folder: root.folder.clone(),
                });
            }
            let side = self.ledger.site().side(root);
            if !self.decision.side_folders.contains(&side) {
                self.decision.side_folders.push(side);
            }
        }
        Ok(())
    }

    /// How many files each layer supplies and covers, against before.
    fn decide_tallies(&mut self, exchanges: &[Exchange]) -> Result<(), LedgerError> {
        let old = self.stack.tallies_before.take();
        let old = old.unwrap_or_else(|| tallies(&self.stack.columns, &self.stack.before));
        let new = tallies(&self.stack.columns, &self.stack.after);
        self.decision.tallies = difference(&old, new);
        for exchange in exchanges {
            // What they have alike counts for the new one as it did for the old one.
            let all = self.ledger.catalogue.tally_of(exchange.old)?;
            let apart = old.get(&exchange.old).copied().unwrap_or_default();
            let tally = self.decision.tallies.entry(exchange.new).or_default();
            *tally = tally.plus(all).minus(apart);
        }
        Ok(())
    }

    /// Learns what blends, before and after, and what the base is.
    fn blend_and_settle_base(&mut self) -> Result<(), ChangeError> {
        self.blender.learn_as_laid(&mut self.stack.columns, &self.stack.before)?;
        if !self.wishes.foreign.is_empty() {
            self.stack.tallies_before = Some(tallies(&self.stack.columns, &self.stack.before));
            self.settle_foreign()?;
        }
        self.settle_base()?;
        self.judge_originals()?;
        self.blender.learn(&mut self.stack.columns, &self.stack.after)?;
        self.note_members()?;
        self.note_blending()
    }

    /// Keeps what the game's containers have where layers change members, to compare with after an update.
    fn note_members(&mut self) -> Result<(), ChangeError> {
        let catalogue = &self.ledger.catalogue;
        for column in self.stack.columns.iter().filter(|column| column.is_member) {
            let now = column.base.as_ref().map_or(Some(ContentHash::NOTHING), |base| base.hash);
            if let Some(now) = now
                && catalogue.member_seen(column.path)? != Some(now)
            {
                catalogue.see_member(column.path, now)?;
            }
        }
        Ok(())
    }

    /// Notes what keys were left alone in files that blend, and why others don't blend.
    fn note_blending(&mut self) -> Result<(), ChangeError> {
        for column in &self.stack.columns {
            let blend = column.composed(&self.stack.after).or_else(|| column.blend(&self.stack.after));
            let (Some(blend), Some(spelled)) = (blend, column.spelled()) else {
                continue;
            };
            let address = self.address(column.root, spelled)?;
            match &blend.outcome {
                Ok(blended) => {
                    for reason in &blended.undone {
                        self.noted
                            .notes
                            .entry(Note::Undone(reason.clone()))
                            .or_default()
                            .push(address.clone());
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
                    self.noted.notes.entry(note).or_default().push(address);
                }
            }
        }
        Ok(())
    }

    fn decide_files(&mut self) -> Result<(), ChangeError> {
        let columns = std::mem::take(&mut self.stack.columns);
        let result = self.decide_columns(&columns);
        self.stack.columns = columns;
        result
    }

    fn decide_columns(&mut self, columns: &[Column]) -> Result<(), ChangeError> {
        let moves = self.moves_of(columns)?;
        let leaving = leaving(&moves);
        let in_the_way = self.things_for_folders(&moves, &leaving)?;
        self.make_missing_folders(&moves, &in_the_way)?;
        for (root, path, seen) in in_the_way {
            self.clear_the_way(root, &path, seen)?;
        }
        if self.decide_moves(&moves, &leaving)? {
            let mut drifted = std::mem::take(&mut self.decision.plan.drifted);
            drifted.sort_by(|one, two| one.address.cmp(&two.address));
            return Err(ChangeError::Drifted { drifted });
        }
        if !self.noted.clashing.is_empty() {
            return Err(ChangeError::EditsClash { files: std::mem::take(&mut self.noted.clashing) });
        }
        self.decision.plan.effects.sort_unstable_by(|one, two| one.address.cmp(&two.address));
        self.files.leaving = leaving;
        Ok(())
    }

    /// The files that do not stay as they are.
    fn moves_of<'c>(&mut self, columns: &'c [Column]) -> Result<Vec<Move<'c>>, ChangeError> {
        let mut moves = Vec::with_capacity(columns.len());
        for column in columns {
            if !column.is_member {
                self.refuse_clash(column)?;
            }
            let (from, to) = (self.present(column), column.provider(&self.stack.after));
            self.meet(column, from, to);
            if column.is_member {
                // It moves with its container.
                continue;
            }
            if self.wishes.foreign.get(&column.path) == Some(&ForeignFile::Accepted) {
                self.set_old_original_aside(column)?;
            }
            if !is_same_on_disk(column, from, to) || self.is_put_again(column, to) || self.is_captured(column)
            {
                moves.push(Move {
                    column,
                    from,
                    to,
                    from_path: self.stack.folders_before.file_path(column, from)?,
                    to_path: self.stack.folders_after.file_path(column, to)?,
                    is_in_new_folder: self.files.new_folders.holding(column).is_some(),
                });
            }
        }
        Ok(moves)
    }

    /// Decides each file by what lies there; says whether one stops the change.
    fn decide_moves(&mut self, moves: &[Move<'_>], leaving: &Leaving) -> Result<bool, ChangeError> {
        let new =
            self.stack.changed.iter().copied().filter(|layer| self.stack.before.rank(*layer).is_none()).max();
        let drifted = &self.decision.plan.drifted;
        let mut must_stop = self.wishes.edits == Edits::Stop
            && !drifted.iter().all(|drift| self.is_over_others(&drift.address));
        let count = |is: fn(&Move<'_>) -> bool| moves.iter().filter(|at| is(at)).count();
        let taken_out = count(|at| !matches!(at.from, Provider::Nothing));
        self.decision.expect(taken_out, count(|at| matches!(at.to, Provider::Layer(_))));
        for moves in moves.chunks(LOOKED_AT_ONCE) {
            for (at, finding) in moves.iter().zip(self.look_at_files(moves)?) {
                if self.is_captured(at.column) {
                    self.decide_captured(at, new)?;
                    continue;
                }
                let finding = match finding {
                    // The folder goes before the file comes.
                    Finding::FolderInTheWay if self.is_folder_left_empty(at, leaving)? => {
                        Finding::Fits { now: None }
                    }
                    other => other,
                };
                let is_so = match finding {
                    Finding::LiesAlready => true,
                    Finding::Fits { .. } => self.is_put_again(at.column, at.to),
                    _ => false,
                };
                if !is_so {
                    must_stop |= self.decide_file(at, finding)?;
                }
            }
        }
        Ok(must_stop)
    }

    /// What lies where these files move.
    fn look_at_files(&self, moves: &[Move<'_>]) -> Result<Vec<Finding>, ChangeError> {
        let (site, foreign) = (self.ledger.site(), &self.wishes.foreign);
        let found = moves.par_iter().map(|at| match foreign.get(&at.column.path) {
            Some(ForeignFile::Captured { .. }) => Ok(Finding::Fits { now: None }),
            _ => look_at_file(site, at),
        });
        found.collect()
    }

    /// Whether another game has a file there, and the user said that it may change.
    fn is_over_others(&self, address: &Address) -> bool {
        let game = self.ledger.game();
        let (Some(others), Some(root)) = (self.wishes.over_others, game.root_named(&address.root)) else {
            return false;
        };
        others.whose(root.id, &game.folding.key(address.path.as_str())).is_some()
    }

    fn is_captured(&self, column: &Column) -> bool {
        matches!(self.wishes.foreign.get(&column.path), Some(ForeignFile::Captured { .. }))
    }

    /// Whether a layer's file is put again where it should lie already.
    fn is_put_again(&self, column: &Column, to: Provider<'_>) -> bool {
        self.wishes.restore.contains(&column.path) && matches!(to, Provider::Layer(_))
    }

    /// Turns one moving file into an effect and steps; says whether it stops the change.
    fn decide_file(&mut self, at: &Move<'_>, finding: Finding) -> Result<bool, ChangeError> {
        let (root, side) = (self.root(at.column.root)?, self.side(at.column.root)?);
        let address = Address { root: root.name.clone(), path: at.future_or_present().clone() };
        let Some(present) = self.judge_present(at, finding, (root, &side), &address)? else {
            return Ok(false);
        };
        self.note_original(at, &address)?;
        let is_gone = matches!(
            finding,
            Finding::FolderInTheWay | Finding::Drifted(DriftKind::Missing | DriftKind::BaseGone, _)
        );
        if is_gone || !self.note_member_effects(at)? {
            self.note_effect(address, at, !is_gone);
        }
        if present.take_out {
            self.take_out(at, (root, &side), present.kept, finding.seen());
        }
        self.put_in(at, root, side, present.carried)?;
        Ok(present.stops)
    }

    /// Decides what becomes of what lies where the file moves; nothing when all is there already.
    fn judge_present(
        &mut self,
        at: &Move<'_>,
        finding: Finding,
        (root, side): (&Root, &Path),
        address: &Address,
    ) -> Result<Option<PresentFile>, ChangeError> {
        let mut present = PresentFile::default();
        match finding {
            Finding::LiesAlready => return Ok(None),
            Finding::FolderInTheWay if matches!(at.to, Provider::Nothing) => {
                self.noted.notes.entry(Note::GoneAlready).or_default().push(address.clone());
            }
            Finding::FolderInTheWay => {
                present.take_out = true;
                let layer = at.from.entry().map(|entry| entry.layer);
                let kind = if layer.is_some() { DriftKind::Edited } else { DriftKind::Stray };
                self.decision.plan.drifted.push(Drift { address: address.clone(), kind, layer });
                present.stops = self.wishes.edits == Edits::Stop;
                // Nobody knows all that is in it, so it is never thrown away.
                present.kept = Some(self.keep(root, at.present_or_future(), address)?);
            }
            Finding::Fits { now } => present.take_out = now.is_some(),
            Finding::Drifted(DriftKind::Missing, _) if self.is_put_again(at.column, at.to) => {}
            Finding::Drifted(DriftKind::Missing | DriftKind::BaseGone, _) => {
                self.noted.notes.entry(Note::GoneAlready).or_default().push(address.clone());
            }
            Finding::Drifted(DriftKind::Edited, Some(now))
                if self.wishes.edits == Edits::Stop
                    && let Some(carried) = self.carry_or_note(at, &now, address, side)? =>
            {
                present.take_out = true;
                if let Some((path, stamped)) = carried {
                    present.kept = Some(path);
                    present.carried = Some(stamped);
                }
            }
            Finding::Drifted(kind, _) => {
                present.take_out = true;
                let layer = at.from.entry().map(|entry| entry.layer);
                self.decision.plan.drifted.push(Drift { address: address.clone(), kind, layer });
                match edits_at(at.column, self.wishes.edits, self.wishes.over_others) {
                    Edits::Stop => present.stops = true,
                    Edits::Keep => present.kept = Some(self.keep(root, at.present_or_future(), address)?),
                    Edits::Discard => {}
                }
            }
        }
        Ok(Some(present))
    }

    /// Notes an original that is of an older version, or not there, because an update came unasked.
    fn note_original(&mut self, at: &Move<'_>, address: &Address) -> Result<(), LedgerError> {
        if self.files.has_unknown_originals
            && at.to.entry().is_none()
            && !self.wishes.foreign.contains_key(&at.column.path)
            && self.ledger.catalogue.is_original_unknown(at.column.root, &at.column.key)?
        {
            let plan = &mut self.decision.plan;
            let list = match at.to {
                Provider::Base(_) => &mut plan.originals_old,
                _ => &mut plan.originals_missing,
            };
            list.push(address.clone());
        }
        Ok(())
    }

    /// Takes what lies there out of the game: where it is kept, among the originals, or to be thrown away.
    fn take_out(
        &mut self,
        at: &Move<'_>,
        (root, side): (&Root, &Path),
        kept: Option<PathBuf>,
        seen: Option<Seen>,
    ) {
        let public = at.present_or_future().on(&root.folder);
        let (private, thrown) = match (kept, at.from) {
            (Some(path), _) => (path, None),
            (None, Provider::Base(base)) => {
                self.decision.covering.push((at.column.path, at.column.root, base.clone()));
                (self.ledger.site().original(root, at.column.path), None)
            }
            (None, _) => (self.in_trash(side), seen.map(|seen| Thrown { root: at.column.root, seen })),
        };
        self.need_private_folders(side, &private);
        self.decision.steps.push(&Step::TakeOut { public, private, thrown });
    }

    pub(super) fn put_in(
        &mut self,
        at: &Move<'_>,
        root: &Root,
        side: Arc<Path>,
        mut content: Option<(Vec<u8>, i64)>,
    ) -> Result<(), ChangeError> {
        let building = match content {
            None => self.building(at)?,
            Some(_) => None,
        };
        if let (None, None, Provider::Layer(entry)) = (&content, &building, at.to) {
            let made = self.blender.content_of(at.column, entry, &self.stack.after)?;
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
                    self.files.new_folders.holding(at.column).map(|folder| folder.join(at.to_path.name()));
                let path = match &new_folder {
                    Some(path) => path.clone(),
                    None => self.in_stage(&side),
                };
                self.need_private_folders(&side, &path);
                let made = match (content, building) {
                    (Some((content, modified)), _) => Some((Made::Content(content), modified)),
                    (None, Some(building)) => Some((Made::Container(Box::new(building)), entry.modified)),
                    (None, None) => None,
                };
                self.stage(at.column, entry, path.clone(), side, made);
                if new_folder.is_some() {
                    // It comes into the game with its folder.
                    return Ok(());
                }
                path
            }
        };
        self.decision.steps.push(&Step::PutIn { private, public: at.to_path.on(&root.folder) });
        Ok(())
    }

    fn stage(
        &mut self,
        column: &Column,
        entry: &Entry,
        path: PathBuf,
        side: Arc<Path>,
        made: Option<(Made, i64)>,
    ) {
        let mode = column.mode_for(entry);
        let (made, modified) = match made {
            Some((made, modified)) => (Some(made), modified),
            None => (None, entry.modified),
        };
        let is_settings = self.stack.after.blend_rules().format_of(entry.spelled.as_str()).is_some();
        let may_link = may_be_linked(entry.spelled.as_str(), is_settings, entry.executable == Some(true));
        self.decision.staged.push(Staged {
            hash: entry.hash,
            at: (column.root, column.key.clone()),
            may_link,
            size_bytes: match &made {
                Some(Made::Content(content)) => content.len() as u64,
                _ => entry.size_bytes,
            },
            stamp: Stamp { modified, nanoseconds: 0, mode },
            path,
            side,
            made,
        });
    }

    /// What is needed to make the container that moves, if it is one whose members layers change.
    fn building(&self, at: &Move<'_>) -> Result<Option<Building>, ChangeError> {
        let (Some(entry), Some(composition)) = (at.to.entry(), at.column.composition(&self.stack.after))
        else {
            return Ok(None);
        };
        let composed = at.column.composed(&self.stack.after).and_then(|blend| blend.outcome.as_ref().ok());
        if composed.is_none_or(|composed| composed.entry != *entry) {
            return Ok(None);
        }
        let building = self.blender.building(at.column, &composition, &self.stack.after)?;
        let address = || self.address(at.column.root, at.future_or_present());
        building.map(Some).or_else(|reason| {
            Err(ChangeError::NotIntoContainer { container: address()?.to_string(), reason })
        })
    }

    /// Refuses a column where a newly laid file meets a folder.
    fn refuse_clash(&mut self, column: &Column) -> Result<(), ChangeError> {
        let file = column.entries.iter().find(|entry| {
            self.stack.after.rank(entry.layer).is_some() && self.stack.before.rank(entry.layer).is_none()
        });
        let Some(file) = file else { return Ok(()) };
        let folder_of = if column.base.as_ref().is_some_and(|base| base.kind == BaseKind::Folder) {
            Some("the game itself".to_owned())
        } else if !self.stack.also_folders.contains(&column.path) {
            None
        } else {
            let needs = &self.stack.folders_after.source(column.root, &column.key)?.needs;
            match needs.iter().find(|need| self.stack.after.rank(need.layer).is_some()).map(|need| need.layer)
            {
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

fn leaving(moves: &[Move<'_>]) -> Leaving {
    let leaves = |at: &&Move<'_>| matches!(at.to, Provider::Nothing);
    moves.iter().filter(leaves).map(|at| (at.column.root, at.column.key.clone())).collect()
}
