//! Deciding what becomes of each file: what is there leaves, and what is to be there comes.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use rayon::prelude::*;

use super::decider::{Decider, Move, Note};
use super::decision::{Made, Staged};
use super::effects::is_same_on_disk;
use super::error::ChangeError;
use super::last_look::look_at_file;
use super::linking::may_be_linked;
use super::looking::look;
use super::options::{Edits, edits_at};
use super::request::ForeignFile;
use super::step::Step;
use crate::address::Address;
use crate::expected::{Building, Drift, DriftKind, Finding};
use crate::files::{Seen, Stamp};
use crate::game::Root;
use crate::ledger::LedgerError;
use crate::stack::{BaseKind, Column, Entry, Provider};

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

impl Decider<'_> {
    /// Decides the files of these columns, but for what hangs on what leaves elsewhere.
    pub(super) fn decide_part(&mut self, columns: &[Column]) -> Result<(), ChangeError> {
        let moves = self.moves_of(columns)?;
        for at in &moves {
            if matches!(at.to, Provider::Nothing) {
                self.files.leaving.insert(at.column.root, at.column.key.clone());
            }
            self.files.on_the_way.note(at);
        }
        for (at, finding) in moves.iter().zip(self.look_at_files(&moves)?) {
            match finding {
                _ if self.is_captured(at.column) => self.decide_captured(at)?,
                Finding::FolderInTheWay => self.files.after_all.push(at.column.clone()),
                finding => self.decide_found(at, finding)?,
            }
        }
        Ok(())
    }

    /// Decides the files in whose place folders lie: such a folder may be one that this change takes away.
    pub(super) fn decide_in_place_of_folders(&mut self) -> Result<(), ChangeError> {
        for column in std::mem::take(&mut self.files.after_all) {
            let (from, to) = (self.present(&column), column.provider(&self.stack.after));
            let Some(at) = self.move_of(&column, from, to)? else { continue };
            let finding = match look_at_file(self.ledger.site(), &at)? {
                // The folder goes before the file comes.
                Finding::FolderInTheWay if self.is_folder_left_empty(&at)? => Finding::Fits { now: None },
                other => other,
            };
            self.decide_found(&at, finding)?;
        }
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
            moves.extend(self.move_of(column, from, to)?);
        }
        Ok(moves)
    }

    /// How the column's file moves, unless it stays as it is.
    fn move_of<'c>(
        &mut self,
        column: &'c Column,
        from: Provider<'c>,
        to: Provider<'c>,
    ) -> Result<Option<Move<'c>>, ChangeError> {
        if is_same_on_disk(column, from, to) && !self.is_put_again(column, to) && !self.is_captured(column) {
            return Ok(None);
        }
        Ok(Some(Move {
            column,
            from,
            to,
            from_path: self.stack.folders_before.file_path(column, from)?,
            to_path: self.stack.folders_after.file_path(column, to)?,
            new_folder: self.files.new_folders.holding(column),
        }))
    }

    /// Decides a file by what lies there, unless all is there already.
    fn decide_found(&mut self, at: &Move<'_>, finding: Finding) -> Result<(), ChangeError> {
        let is_so = match finding {
            Finding::LiesAlready => true,
            Finding::Fits { .. } => self.is_put_again(at.column, at.to),
            _ => false,
        };
        if !is_so {
            self.files.must_stop |= self.decide_file(at, finding)?;
        }
        Ok(())
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
    pub(super) fn is_over_others(&self, address: &Address) -> bool {
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
            (None, _) => (self.in_trash(side), seen),
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
                let new_folder = at.new_folder.as_ref().map(|folder| folder.join(at.to_path.name()));
                let second = self.files.second_copies.filter(|_| content.is_none() && building.is_none());
                let claimed = || second.and_then(|copies| copies.claim(entry.hash, &side));
                let path = new_folder.or_else(claimed).unwrap_or_else(|| self.in_stage(&side));
                self.need_private_folders(&side, &path);
                let made = match (content, building) {
                    (Some((content, modified)), _) => Some((Made::Content(content), modified)),
                    (None, Some(building)) => Some((Made::Container(Box::new(building)), entry.modified)),
                    (None, None) => None,
                };
                self.stage(at.column, entry, path.clone(), side, made);
                if at.new_folder.is_some() {
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
