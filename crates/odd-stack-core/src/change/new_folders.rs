//! Folders that come into the game whole.
//!
//! A folder that neither lies on disk nor is needed before the change is staged with all that is in
//! it and comes in by one rename, instead of one for each file. Windows refuses to rename a folder
//! while any program, such as a virus scanner, has a file in it open; there each file goes by itself.

use super::decider::Decider;
use super::error::ChangeError;
use super::looking::look;
use super::step::Step;
use crate::address::FoldedKey;
use crate::files::STAGE;
use crate::stack::{BaseKind, RootId};

impl Decider<'_> {
    /// Finds the new ones among `keys`, folders of the changed layers with each after the one above it.
    pub(super) fn find_new_folders(&mut self, keys: &[(RootId, FoldedKey)]) -> Result<(), ChangeError> {
        if cfg!(windows) {
            return Ok(());
        }
        for (root, key) in keys {
            let Some(name) = self.stack.folders_after.name(*root, key)? else { continue };
            let of_base =
                matches!(self.stack.folders_after.source(*root, key)?.base, Some((_, BaseKind::Folder)));
            if of_base || self.stack.folders_before.name(*root, key)?.is_some() {
                // Originals go into a folder of the base one by one.
                continue;
            }
            let above =
                key.parent().and_then(|parent| self.files.new_folders.staged(*root, &parent)).cloned();
            let path = match above {
                Some(above) => above.join(name),
                None => {
                    let public = self.stack.folders_after.path(*root, key)?.on(&self.root(*root)?.folder);
                    if look(&public)?.is_some() {
                        // Somebody has made it meanwhile.
                        continue;
                    }
                    let path = match self.files.second_copies.and_then(|copies| copies.staged(*root, key)) {
                        Some(path) => path.to_path_buf(),
                        None => {
                            let name = format!("{}-tree-{}", self.files.batch, self.files.new_folders.trees);
                            self.files.new_folders.trees += 1;
                            self.side(*root)?.join(STAGE).join(name)
                        }
                    };
                    self.decision.steps.push(&Step::PutIn { private: path.clone(), public });
                    path
                }
            };
            self.decision.private_folders.push(path.clone());
            self.files.new_folders.staged.entry(*root).or_default().insert(key.clone(), path.into());
        }
        Ok(())
    }
}
