//! Files on disk that the stack does not know, taken up knowingly: as the base's own from now on, or as a program
//! has left them.

use std::path::PathBuf;

use rayon::prelude::*;

use super::decider::{Decider, Move};
use super::error::ChangeError;
use super::last_look::base_as_now;
use super::looking::look;
use super::request::ForeignFile;
use super::step::Step;
use crate::address::Address;
use crate::expected::is_entry_as_laid;
use crate::files::KEPT;
use crate::game::Root;
use crate::hash::ContentHash;
use crate::stack::{BaseFile, BaseKind, Column, Provider};

/// A base file as it is from now on, for one column.
struct Settled {
    column: usize,
    file: Option<BaseFile>,
    /// Where its content lies.
    path: PathBuf,
}

impl Decider<'_> {
    /// Makes the base of the columns what lies there, or what was saved of it.
    pub(super) fn settle_foreign(&mut self) -> Result<(), ChangeError> {
        let mut places = Vec::new();
        for (index, column) in self.stack.columns.iter().enumerate() {
            let root = self.ledger.site().root(column.root)?;
            let from = column.provider(&self.stack.before);
            let place = match self.wishes.foreign.get(&column.path) {
                None => continue,
                Some(ForeignFile::Accepted) => {
                    let spelled = match from {
                        Provider::Nothing => column.spelled().cloned().unwrap_or_default(),
                        from => self.stack.folders_before.file_path(column, from)?,
                    };
                    (index, spelled.clone(), Some(spelled.on(&root.folder)))
                }
                Some(ForeignFile::Captured { original, .. }) => match (&column.base, from) {
                    (Some(base), Provider::Base(_)) => (index, base.spelled.clone(), original.clone()),
                    _ => continue,
                },
            };
            places.push(place);
        }
        let settled: Vec<Settled> = places
            .into_par_iter()
            .map(|(column, spelled, path)| {
                let Some(path) = path else {
                    return Ok(Settled { column, file: None, path: PathBuf::new() });
                };
                let seen = look(&path)?.filter(|seen| matches!(seen.kind, BaseKind::File | BaseKind::Link));
                let file = seen.map(|seen| base_as_now(&spelled, seen, &path)).transpose();
                let file = file.map_err(|source| ChangeError::Look { path: path.clone(), source })?;
                Ok(Settled { column, file, path })
            })
            .collect::<Result<_, ChangeError>>()?;
        for Settled { column, file, path } in settled {
            let at = &mut self.stack.columns[column];
            let is_lost = file.is_none()
                && matches!(self.wishes.foreign.get(&at.path), Some(ForeignFile::Captured { .. }));
            if is_lost && let Some(base) = &at.base {
                self.ledger.catalogue.forget_original(at.root, &at.key, &base.spelled)?;
            }
            if file.is_some() {
                self.blender.set_base_at(at.path, path);
            }
            if at.base.as_deref() != file.as_ref() {
                at.base = file.clone().map(Box::new);
                self.decision.base_now.push((at.root, at.key.clone(), file));
            }
        }
        Ok(())
    }

    /// Who supplies the file that lies at the column's address: the base, where it was accepted as the base's.
    pub(super) fn present<'c>(&self, column: &'c Column) -> Provider<'c> {
        match self.wishes.foreign.get(&column.path) {
            Some(ForeignFile::Accepted) => column.base.as_deref().map_or(Provider::Nothing, Provider::Base),
            _ => column.provider(&self.stack.before),
        }
    }

    /// Makes room for a new original where one of before lies already.
    pub(super) fn set_old_original_aside(&mut self, column: &Column) -> Result<(), ChangeError> {
        let root = self.root(column.root)?;
        let public = self.ledger.site().original(root, column.path);
        if look(&public)?.is_none() {
            return Ok(());
        }
        let side = self.side(column.root)?;
        let is_alike = match column.base.as_ref().and_then(|base| base.hash) {
            // What can't be read is damaged, and saved.
            Some(now) => ContentHash::of_file(&public).is_ok_and(|hash| hash == now),
            None => false,
        };
        let private = if is_alike {
            self.in_trash(&side)
        } else {
            let spelled = column.spelled().cloned().unwrap_or_default();
            let folder = side.join(KEPT).join(self.files.revision.to_string());
            spelled.on(&folder.join(root.name.as_str()))
        };
        self.need_private_folders(&side, &private);
        self.decision.steps.push(&Step::SetAside { public, private });
        Ok(())
    }

    /// Decides what becomes of a file that a program has left at the address, where it is not just what is to lie
    /// there, and puts the base's own file that lay there to the originals.
    pub(super) fn decide_captured(&mut self, at: &Move<'_>) -> Result<(), ChangeError> {
        let Some(ForeignFile::Captured { at: lies_at, original, edited }) =
            self.wishes.foreign.get(&at.column.path).cloned()
        else {
            return Ok(());
        };
        let root = self.root(at.column.root)?;
        if edited && Some(&at.to_path) == lies_at.as_ref() && at.to.entry().is_some() {
            if let (Some(original), Provider::Base(_)) = (original, at.from) {
                self.take_original(at, root, original);
            }
            return Ok(());
        }
        // The layer of what the program did.
        let new =
            self.stack.changed.iter().copied().filter(|layer| self.stack.before.rank(*layer).is_none()).max();
        let side = self.side(at.column.root)?;
        let address = Address { root: root.name.clone(), path: at.future_or_present().clone() };
        let public = lies_at.as_ref().map(|path| path.on(&root.folder));
        let seen = match &public {
            Some(public) => look(public)?,
            None => None,
        };
        let stays = match (at.to, &seen, &public) {
            (Provider::Layer(entry), Some(seen), Some(public)) => {
                let is_so = Some(&at.to_path) == lies_at.as_ref() && is_entry_as_laid(entry, seen);
                let is_its_own = Some(entry.layer) == new && at.column.entries.contains(entry);
                let failed = |source| ChangeError::Look { path: public.clone(), source };
                is_so && (is_its_own || ContentHash::of_file(public).map_err(failed)? == entry.hash)
            }
            (Provider::Nothing, None, _) => true,
            _ => false,
        };
        if !stays {
            self.note_effect(address, at, seen.is_some());
        }
        if let (Some(original), Provider::Base(_)) = (&original, at.from) {
            if matches!(at.to, Provider::Base(_)) {
                let public = at.to_path.on(&root.folder);
                self.decision.steps.push(&Step::PutIn { private: original.clone(), public });
            } else {
                self.take_original(at, root, original.clone());
            }
        }
        if stays {
            return Ok(());
        }
        if let (Some(public), Some(seen)) = (public, seen) {
            let private = self.in_trash(&side);
            self.need_private_folders(&side, &private);
            self.decision.steps.push(&Step::TakeOut { public, private, thrown: Some(seen) });
        }
        if matches!(at.to, Provider::Base(_)) && original.is_some() {
            return Ok(());
        }
        self.put_in(at, root, side, None)
    }

    /// Puts the base's own file, saved elsewhere, to the originals.
    fn take_original(&mut self, at: &Move<'_>, root: &Root, public: PathBuf) {
        if let Some(base) = at.column.base.as_deref() {
            self.decision.covering.push((at.column.path, at.column.root, base.clone()));
        }
        let private = self.ledger.site().original(root, at.column.path);
        self.decision.steps.push(&Step::TakeOut { public, private, thrown: None });
    }
}
