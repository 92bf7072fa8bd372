//! Deciding what becomes of folders: made, dropped, or spelled otherwise.

use std::collections::HashSet;
use std::path::PathBuf;

use super::decider::{Decider, Move};
use super::error::ChangeError;
use super::looking::look;
use super::step::Step;
use crate::address::{Address, FoldedKey, PrefixName, RelPath};
use crate::files::{Seen, WalkError, is_nothing_there, walk};
use crate::notice::Notice;
use crate::observer::Silent;
use crate::stack::{BaseFile, BaseKind, RootId};

impl Decider<'_> {
    /// Makes the folders again that files go into, that should be there, and that somebody has taken away.
    /// `in_the_way` is what lies where some are to be, and goes.
    pub(super) fn make_missing_folders(
        &mut self,
        in_the_way: &[(RootId, RelPath, Seen)],
    ) -> Result<(), ChangeError> {
        let on_the_way = std::mem::take(&mut self.files.on_the_way);
        let folders = on_the_way.all().filter(|(.., comes)| *comes).map(|(root, folder, _)| (root, folder));
        let folding = self.ledger.game().folding;
        for (id, folder) in folders {
            let key = folding.key(folder);
            if self.stack.folders_before.name(id, &key)?.is_none() {
                // It comes with this change.
                continue;
            }
            let root = self.root(id)?.folder.clone();
            let present = self.stack.folders_before.path(id, &key)?;
            let path = RelPath::from_disk(folder);
            let goes = |at: &RelPath| in_the_way.iter().any(|(root, it, _)| (*root, it) == (id, at));
            let is_there = |at: &RelPath| Ok::<_, ChangeError>(!goes(at) && look(&at.on(&root))?.is_some());
            if !is_there(&present)? && !is_there(&path)? {
                let address = self.address(id, &path)?;
                self.decision.plan.folders_made.push(address);
                self.decision.steps.push(&Step::MakeFolder { path: path.on(&root) });
            }
        }
        Ok(())
    }

    /// Decides which of the changed layers' folders are made, go, or get another spelling.
    /// Those that are `accepted` are the base's from now on, and stay.
    pub(super) fn decide_folders(
        &mut self,
        keys: &[(RootId, FoldedKey)],
        accepted: &[(RootId, FoldedKey, Option<BaseFile>)],
    ) -> Result<(), ChangeError> {
        let is_accepted = |root: &RootId, key: &FoldedKey| {
            accepted.iter().any(|(its_root, its_key, file)| {
                (its_root, its_key) == (root, key)
                    && file.as_ref().is_some_and(|it| it.kind == BaseKind::Folder)
            })
        };
        let mut made = Vec::new();
        let mut renamed = Vec::new();
        let mut dropped = Vec::new();
        for (root, key) in keys {
            let before = self.stack.folders_before.name(*root, key)?;
            let after = self.stack.folders_after.name(*root, key)?;
            match (before, after) {
                (None, Some(_)) => {
                    let (address, path) = self.folder_at(*root, key)?;
                    made.push((address, path, self.files.new_folders.staged(*root, key).is_some()));
                }
                (Some(_), None) if is_accepted(root, key) => {}
                (Some(old), None) => dropped.push((*root, key, self.dropped_at(*root, key, old)?)),
                (Some(old), Some(new)) if old != new => {
                    let (address, to) = self.folder_at(*root, key)?;
                    renamed.push((address, to.with_file_name(old), to));
                }
                _ => {}
            }
        }
        // Keys are sorted, so each folder stands after the one above it.
        let decision = &mut self.decision;
        for (_, from, to) in renamed {
            decision.steps.push(&Step::RenameFolder { from, to });
        }
        for (address, path, is_staged) in made {
            decision.plan.folders_made.push(address);
            if !is_staged {
                decision.steps.push(&Step::MakeFolder { path });
            }
        }
        let mut gone: HashSet<(RootId, FoldedKey)> = HashSet::new();
        let mut stay = Vec::new();
        for (root, key, (address, path)) in dropped.into_iter().rev() {
            match self.lies_empty(root, key, &gone)? {
                // Somebody has taken it away already.
                None => drop(gone.insert((root, key.clone()))),
                Some(false) => stay.push(address),
                Some(true) => {
                    gone.insert((root, key.clone()));
                    self.decision.plan.folders_dropped.push(address);
                    self.decision.steps.push(&Step::DropFolder { path });
                }
            }
        }
        self.tell_staying(stay);
        Ok(())
    }

    /// Whether nothing lies in the folder any more once what leaves has left, and the folders that are `gone`; nothing
    /// if it is not there.
    fn lies_empty(
        &mut self,
        root: RootId,
        key: &FoldedKey,
        gone: &HashSet<(RootId, FoldedKey)>,
    ) -> Result<Option<bool>, ChangeError> {
        let path = self.stack.folders_before.path(root, key)?.on(&self.root(root)?.folder);
        // Where something else lies there, systems differ in what they say of listing it.
        if look(&path)?.is_none_or(|seen| seen.kind != BaseKind::Folder) {
            return Ok(None);
        }
        let failed = |source| ChangeError::Look { path: path.clone(), source };
        let entries = match std::fs::read_dir(&path) {
            Err(error) if is_nothing_there(&error) => return Ok(None),
            other => other.map_err(failed)?,
        };
        let folding = self.ledger.game().folding;
        for entry in entries {
            let name = entry.map_err(failed)?.file_name();
            let inside = (root, folding.key(&format!("{}/{}", key.as_str(), name.to_string_lossy())));
            if !self.files.leaving.contains(inside.0, &inside.1) && !gone.contains(&inside) {
                return Ok(Some(false));
            }
        }
        Ok(Some(true))
    }

    /// Says which folders stay, since not all in them is of the layers that go; of one within another only the upper.
    fn tell_staying(&mut self, mut stay: Vec<Address>) {
        stay.sort();
        let all: HashSet<(PrefixName, String)> =
            stay.iter().map(|folder| (folder.root.clone(), folder.path.as_str().to_owned())).collect();
        let is_inside = |folder: &Address| {
            folder.path.ancestors().any(|above| all.contains(&(folder.root.clone(), above.to_owned())))
        };
        stay.retain(|folder| !is_inside(folder));
        if !stay.is_empty() {
            self.decision.plan.notices.push(Notice::FoldersStay { folders: stay });
        }
    }

    fn folder_at(&mut self, root: RootId, key: &FoldedKey) -> Result<(Address, PathBuf), ChangeError> {
        let path = self.stack.folders_after.path(root, key)?;
        Ok((self.address(root, &path)?, path.on(&self.root(root)?.folder)))
    }

    /// Where a folder that goes lies once the folders above it have their new spelling.
    fn dropped_at(
        &mut self,
        root: RootId,
        key: &FoldedKey,
        name: String,
    ) -> Result<(Address, PathBuf), ChangeError> {
        let mut names = vec![name];
        let mut above = key.parent();
        let parent = loop {
            let Some(key) = above else { break RelPath::root() };
            if self.stack.folders_after.name(root, &key)?.is_some() {
                break self.stack.folders_after.path(root, &key)?;
            }
            if let Some(name) = self.stack.folders_before.name(root, &key)? {
                names.push(name);
            }
            above = key.parent();
        };
        let path = names.into_iter().rev().fold(parent, |path, name| path.join(&RelPath::from_disk(name)));
        Ok((self.address(root, &path)?, path.on(&self.root(root)?.folder)))
    }

    /// Whether the folder that lies where a file is to go is one that this change takes away, with all
    /// that is in it on disk.
    pub(super) fn is_folder_left_empty(&mut self, at: &Move<'_>) -> Result<bool, ChangeError> {
        let (root, folding) = (at.column.root, self.ledger.game().folding);
        if !self.goes(root, &at.column.key)? {
            return Ok(false);
        }
        let folder = self.stack.folders_before.path(root, &at.column.key)?;
        let walked = walk(&folder.on(&self.root(root)?.folder), &Silent).map_err(|error| match error {
            WalkError::Unreadable { path, source } => ChangeError::Look { path, source },
            WalkError::Cancelled => ChangeError::Cancelled,
        })?;
        for inside in walked {
            for (name, seen) in inside.things {
                let below = inside.below.join(&RelPath::from_disk(name.to_string_lossy().into_owned()));
                let key = folding.key(folder.join(&below).as_str());
                let leaves = match seen.kind {
                    BaseKind::Folder => self.goes(root, &key)?,
                    _ => self.files.leaving.contains(root, &key),
                };
                if !leaves {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Whether the folder is needed before the change and not after.
    fn goes(&mut self, root: RootId, key: &FoldedKey) -> Result<bool, ChangeError> {
        Ok(self.stack.folders_before.name(root, key)?.is_some()
            && self.stack.folders_after.name(root, key)?.is_none())
    }

    /// Refuses a folder of a newly laid layer where the base or a laid layer has a file.
    pub(super) fn refuse_folder_clash(&mut self, root: RootId, key: &FoldedKey) -> Result<(), ChangeError> {
        let (before, after) = (self.stack.before.clone(), self.stack.after.clone());
        let source = self.stack.folders_after.source(root, key)?;
        let need = source
            .needs
            .iter()
            .find(|need| after.rank(need.layer).is_some() && before.rank(need.layer).is_none());
        let Some(need) = need.cloned() else { return Ok(()) };
        let base = source.base.clone();
        let address = self.address(root, &need.spelled)?;
        match base {
            Some((_, BaseKind::Folder)) => return Ok(()),
            Some((_, BaseKind::Link | BaseKind::Other)) => return Err(ChangeError::NotAFolder { address }),
            Some((_, BaseKind::File)) | None => {}
        }
        let folder_of = format!("the layer {}", self.layer_name(need.layer)?);
        let file_of = if base.is_some() {
            "the game itself".to_owned()
        } else {
            let layers = self.ledger.catalogue.layers_with_file(root, key)?;
            match layers.into_iter().find(|layer| after.rank(*layer).is_some()) {
                Some(layer) => format!("the layer {}", self.layer_name(layer)?),
                None => return Ok(()),
            }
        };
        Err(ChangeError::FileAgainstFolder { address, file_of, folder_of })
    }
}
