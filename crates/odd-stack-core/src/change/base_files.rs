//! The game's own files in a change: what they are before layers cover them, and whether those that come back are still
//! what they were.

use std::path::PathBuf;

use rayon::prelude::*;

use super::decider::{Decider, Note};
use super::error::ChangeError;
use super::last_look::{BaseLook, look_at_base};
use super::options::edits_at;
use super::plan::Kept;
use super::step::Step;
use crate::address::{Address, RelPath};
use crate::check::{Soundness, lost_original, soundness_of_original};
use crate::expected::{Drift, DriftKind};
use crate::files::Stamp;
use crate::stack::{BaseKind, Column, Provider, RootId};

impl Decider<'_> {
    /// Looks at uncovered base files that will be covered, takes changed ones as they are now where
    /// the user said so, and learns the hashes that deciding needs.
    pub(super) fn settle_base(&mut self) -> Result<(), ChangeError> {
        let (ledger, site) = (self.ledger, self.ledger.site());
        let (edits, over_others) = (self.wishes.edits, self.wishes.over_others);
        let (before, after, foreign) = (&self.stack.before, &self.stack.after, &self.wishes.foreign);
        let looked: Vec<Option<BaseLook>> = self
            .stack
            .columns
            .par_iter()
            .map(|column| match foreign.contains_key(&column.path) {
                true => Ok(None),
                false => look_at_base(site, column, before, after, edits_at(column, edits, over_others)),
            })
            .collect::<Result<_, _>>()?;
        for (index, looked) in looked.into_iter().enumerate() {
            let Some(looked) = looked else { continue };
            let column = &mut self.stack.columns[index];
            let spelled = column.base.as_ref().map(|base| base.spelled.clone()).unwrap_or_default();
            let (root, key) = (column.root, column.key.clone());
            match looked {
                BaseLook::Hashed(hash) => {
                    if let Some(base) = &mut column.base {
                        base.hash = Some(hash);
                    }
                    ledger.catalogue.set_base_hash(root, &key, hash)?;
                }
                BaseLook::Now { base, drift } => {
                    column.base = base.clone().map(Box::new);
                    let address = self.address(root, &spelled)?;
                    match drift {
                        Some(DriftKind::BaseGone) => {
                            self.noted.notes.entry(Note::OriginalGone).or_default().push(address);
                        }
                        Some(kind) => {
                            let path = site.original(self.root(root)?, self.stack.columns[index].path);
                            let drift = Drift { address: address.clone(), kind, layer: None };
                            self.decision.plan.drifted.push(drift);
                            self.decision.plan.kept.push(Kept { address, path, is_base_now: true });
                        }
                        None => {}
                    }
                    self.decision.base_now.push((root, key, base));
                }
                BaseLook::Stop(kind) => {
                    let drift = Drift { address: self.address(root, &spelled)?, kind, layer: None };
                    self.decision.plan.drifted.push(drift);
                }
            }
        }
        Ok(())
    }

    /// Looks at the originals that will come back. Those that are not what they were do not: they are saved, and it is
    /// not known any more what the game had there.
    pub(super) fn judge_originals(&mut self) -> Result<(), ChangeError> {
        let site = self.ledger.site();
        let (before, after, foreign) = (&self.stack.before, &self.stack.after, &self.wishes.foreign);
        let coming_back = |column: &Column| {
            column.base.as_ref().is_some_and(|base| base.kind != BaseKind::Folder)
                && !foreign.contains_key(&column.path)
                && matches!(column.provider(after), Provider::Base(_))
                && !column.is_member
                && !column.is_made(after)
                && !matches!(column.provider(before), Provider::Base(_))
        };
        let looked: Vec<Option<(PathBuf, Soundness)>> = self
            .stack
            .columns
            .par_iter()
            .map(|column| match &column.base {
                Some(base) if coming_back(column) => {
                    let path = site.original(site.root(column.root)?, column.path);
                    let soundness = soundness_of_original(&path, base, false);
                    Ok(Some((path, soundness)))
                }
                _ => Ok(None),
            })
            .collect::<Result<_, ChangeError>>()?;
        for (index, (path, soundness)) in
            looked.into_iter().enumerate().filter_map(|(index, looked)| Some((index, looked?)))
        {
            let column = &mut self.stack.columns[index];
            let Some(base) = column.base.clone() else { continue };
            if soundness == Soundness::OtherTime {
                let stamp = Stamp::of_base(&base);
                self.decision.restamped.push((path.clone(), stamp));
            }
            if !soundness.is_lost() {
                continue;
            }
            let file = lost_original(site, column, &base, &path, soundness)?;
            self.decision.plan.originals_lost.push(file.address.clone());
            if !self.wishes.without_lost {
                self.noted.lost_originals.push(file);
            }
            let (root, key) = (column.root, column.key.clone());
            column.base = None;
            self.decision.base_now.push((root, key.clone(), None));
            self.decision.lost.push((root, key, base.spelled.clone()));
            if soundness == Soundness::Damaged {
                self.save_original(root, &base.spelled, path)?;
            }
        }
        Ok(())
    }

    /// Saves an original that is not what it was.
    fn save_original(&mut self, root: RootId, spelled: &RelPath, public: PathBuf) -> Result<(), ChangeError> {
        let root = self.root(root)?;
        let address = Address { root: root.name.clone(), path: spelled.clone() };
        let private = self.keep(root, spelled, &address)?;
        let side = self.side(root.id)?;
        self.need_private_folders(&side, &private);
        self.decision.steps.push(&Step::SetAside { public, private });
        Ok(())
    }
}
