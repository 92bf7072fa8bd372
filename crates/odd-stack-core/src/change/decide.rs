//! Deciding a change: from two orders of layers to steps, without touching the game.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use super::decider::{
    Decider, FilesAtWork, FoldersOnTheWay, Leaving, NewFolders, Note, Noted, StackTurn, Wishes,
};
use super::decision::Decision;
use super::error::ChangeError;
use super::looking::look;
use super::options::{ChangeOptions, Edits};
use super::plan::{Difference, Plan};
use super::request::{ChangeRequest, Exchange};
use crate::blend::BlendRules;
use crate::expected::{Blender, Folders};
use crate::hash::ContentHash;
use crate::ledger::catalogue::Touched;
use crate::ledger::{Ledger, LedgerError, OtherGames, free_batch};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, Hindrance, LayerId, RootId, Tally, tallies};

pub(super) fn decide(
    ledger: &Ledger,
    request: &ChangeRequest,
    options: ChangeOptions,
    others: &OtherGames,
    observer: &dyn Observer,
) -> Result<Decision, ChangeError> {
    let changed = ledger.catalogue.arrangement()?.changed_layers(&request.stack.after);
    let (mut decider, touched) = decider_of(ledger, request, &changed, options, others)?;
    let folders = ledger.catalogue.folders_of(&changed)?;
    folders.iter().try_for_each(|(root, key)| decider.refuse_folder_clash(*root, key))?;
    decider.find_new_folders(&folders)?;
    observer.begin(Work::Comparing, touched.count as u64, 0);
    let decided = decider.decide_files(&touched);
    observer.end();
    decided?;
    decider.decide_direct(request)?;
    decider.decide_folders(&folders, &request.files.accepted)?;
    decider.decision.plan.effects.sort_unstable_by(|one, two| one.address.cmp(&two.address));
    decider.tell_notes();
    decider.decide_tallies(&request.stack.exchanges)?;
    Ok(decider.decision)
}

/// All that a decision begins with, and the addresses that it is about.
fn decider_of<'l>(
    ledger: &'l Ledger,
    request: &'l ChangeRequest,
    changed: &[LayerId],
    options: ChangeOptions,
    others: &'l OtherGames,
) -> Result<(Decider<'l>, Touched), ChangeError> {
    let catalogue = &ledger.catalogue;
    // Of a layer that takes another's place only what they do not have alike counts.
    let (touched, alike_files) = match request.stack.exchanges.as_slice() {
        [exchange] if !exchange.asks_otherwise => {
            catalogue.touched_apart(exchange.old, exchange.new, &request.touched())?
        }
        _ => (catalogue.touched_by(changed, &request.touched())?, 0),
    };
    let settled = catalogue.settlements_among_columns()?;
    let mut after = ledger.order(&request.stack.after, request.settled_after(settled.clone()))?;
    if let Some(rules) = &request.stack.blend_rules {
        let rules = BlendRules::new(rules).map_err(|error| catalogue.damaged_by(&error))?;
        after = after.with_blend_rules(Arc::new(rules));
    }
    let before = ledger.order(&catalogue.arrangement()?, settled)?;
    let differences = request.stack.exchanges.iter().map(|exchange| {
        let difference = Difference { unchanged_files: alike_files, ..Difference::default() };
        (exchange.new, difference)
    });
    let plan = Plan { differences: differences.collect(), ..Plan::default() };
    let decider = Decider {
        ledger,
        blender: Blender::in_change(ledger, Arc::clone(&request.noted.unstored), request.noted.is_dry_run),
        stack: StackTurn {
            changed: changed.iter().copied().collect(),
            columns: Vec::new(),
            also_folders: catalogue.folders_among_columns()?,
            folders_before: Folders::new(catalogue, before.clone()),
            folders_after: Folders::new(catalogue, after.clone()),
            before,
            after,
            exchanges: request.stack.exchanges.clone(),
            tallies_before: BTreeMap::new(),
            tallies_after: BTreeMap::new(),
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
            second_copies: request.noted.second_copies.as_ref(),
            sides: HashMap::new(),
            revision: catalogue.last_revision()? + 1,
            batch: free_batch(ledger.game().roots.iter().map(|root| ledger.site().side(root)))?,
            leaving: Leaving::default(),
            on_the_way: FoldersOnTheWay::default(),
            after_all: Vec::new(),
            must_stop: false,
            cleared: BTreeSet::new(),
            has_unknown_originals: catalogue.has_unknown_originals()?,
        },
        noted: Noted::default(),
        decision: Decision { plan, ..Decision::default() },
    };
    Ok((decider, touched))
}

fn difference(old: &BTreeMap<LayerId, Tally>, mut new: BTreeMap<LayerId, Tally>) -> BTreeMap<LayerId, Tally> {
    for (layer, tally) in old {
        let change = new.entry(*layer).or_default();
        *change = change.minus(*tally);
    }
    new
}

fn add_up(all: &mut BTreeMap<LayerId, Tally>, more: BTreeMap<LayerId, Tally>) {
    for (layer, tally) in more {
        let sum = all.entry(layer).or_default();
        *sum = sum.plus(tally);
    }
}

impl Decider<'_> {
    /// Decides what becomes of all files, part by part, so that not all that is known of very many is held at once;
    /// then what hangs on other parts.
    fn decide_files(&mut self, touched: &Touched) -> Result<(), ChangeError> {
        let brings = self.stack.changed.iter().any(|layer| self.stack.after.rank(*layer).is_some());
        self.decision.expect(touched.count, brings);
        for part in &touched.parts {
            self.stack.columns = self.ledger.catalogue.columns_in(part)?;
            self.check_roots()?;
            let told = self.decision.plan.drifted.len();
            self.blend_and_settle_base()?;
            self.stop_for_drift(told);
            self.note_differences()?;
            let columns = std::mem::take(&mut self.stack.columns);
            if self.noted.lost_originals.is_empty() {
                self.decide_part(&columns)?;
            }
        }
        self.decide_after_all()?;
        self.decision.plan.differences.iter_mut().for_each(|(_, difference)| difference.sort());
        Ok(())
    }

    /// Decides what hangs on what leaves anywhere; or tells why the change can't be.
    fn decide_after_all(&mut self) -> Result<(), ChangeError> {
        if !self.noted.lost_originals.is_empty() {
            let mut files = std::mem::take(&mut self.noted.lost_originals);
            files.sort_by(|one, two| one.address.cmp(&two.address));
            return Err(ChangeError::OriginalsLost { files });
        }
        let in_the_way = self.things_for_folders()?;
        self.make_missing_folders(&in_the_way)?;
        let told = self.decision.plan.drifted.len();
        for (root, path, seen) in in_the_way {
            self.clear_the_way(root, &path, seen)?;
        }
        self.stop_for_drift(told);
        self.decide_in_place_of_folders()?;
        if self.files.must_stop {
            let mut drifted = std::mem::take(&mut self.decision.plan.drifted);
            drifted.sort_by(|one, two| one.address.cmp(&two.address));
            return Err(ChangeError::Drifted { drifted });
        }
        if !self.noted.clashing.is_empty() {
            return Err(ChangeError::EditsClash { files: std::mem::take(&mut self.noted.clashing) });
        }
        Ok(())
    }

    /// Has the change stop for what drifted, from the `told`th on, unless that is another game's and may change.
    fn stop_for_drift(&mut self, told: usize) {
        let drifted = &self.decision.plan.drifted[told..];
        self.files.must_stop |= self.wishes.edits == Edits::Stop
            && !drifted.iter().all(|drift| self.is_over_others(&drift.address));
    }

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
        let old = std::mem::take(&mut self.stack.tallies_before);
        self.decision.tallies = difference(&old, std::mem::take(&mut self.stack.tallies_after));
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
        // The base of before counts for what was.
        let before = tallies(&self.stack.columns, &self.stack.before);
        if !self.wishes.foreign.is_empty() {
            self.settle_foreign()?;
        }
        self.settle_base()?;
        self.judge_originals()?;
        self.blender.learn(&mut self.stack.columns, &self.stack.after)?;
        add_up(&mut self.stack.tallies_before, before);
        add_up(&mut self.stack.tallies_after, tallies(&self.stack.columns, &self.stack.after));
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
}
