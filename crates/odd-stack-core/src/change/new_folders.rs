//! Folders that come into the game whole.
//!
//! A folder that neither lies on disk nor is needed before the change is staged with all that is in
//! it and comes in by one rename, instead of one for each file. Windows refuses to rename a folder
//! while any program, such as a virus scanner, has a file in it open; there each file goes by itself.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::apply::look;
use super::decide::Decider;
use super::error::ChangeError;
use super::step::Step;
use crate::address::FoldedKey;
use crate::files::STAGE;
use crate::stack::{BaseKind, Column, RootId};

/// New folders with where each is staged.
#[derive(Debug, Default)]
pub(super) struct NewFolders {
    staged: HashMap<RootId, HashMap<FoldedKey, PathBuf>>,
    trees: usize,
}

impl NewFolders {
    /// Where the folder is staged, if it is new.
    pub(super) fn staged(&self, root: RootId, key: &FoldedKey) -> Option<&Path> {
        Some(self.staged.get(&root)?.get(key)?.as_path())
    }

    /// Where the folder around the column's file is staged, if that is new.
    pub(super) fn holding(&self, column: &Column) -> Option<&Path> {
        if self.staged.is_empty() {
            return None;
        }
        self.staged(column.root, &column.key.parent()?)
    }
}

impl Decider<'_> {
    /// Finds the new ones among `keys`, folders of the changed layers with each after the one above it.
    pub(super) fn find_new_folders(&mut self, keys: &[(RootId, FoldedKey)]) -> Result<(), ChangeError> {
        if cfg!(windows) {
            return Ok(());
        }
        for (root, key) in keys {
            let Some(name) = self.folders_after.name(*root, key)? else { continue };
            let of_base = matches!(self.folders_after.source(*root, key)?.base, Some((_, BaseKind::Folder)));
            if of_base || self.folders_before.name(*root, key)?.is_some() {
                // Originals go into a folder of the base one by one.
                continue;
            }
            let above = key.parent().and_then(|parent| self.new_folders.staged(*root, &parent));
            let path = match above {
                Some(above) => above.join(name),
                None => {
                    let public = self.folders_after.path(*root, key)?.on(&self.root(*root)?.folder);
                    if look(&public)?.is_some() {
                        // Somebody has made it meanwhile.
                        continue;
                    }
                    let name = format!("{}-tree-{}", self.batch, self.new_folders.trees);
                    let path = self.side(*root)?.join(STAGE).join(name);
                    self.new_folders.trees += 1;
                    self.decision.steps.push(Step::PutIn { private: path.clone(), public });
                    path
                }
            };
            self.decision.private_folders.push(path.clone());
            self.new_folders.staged.entry(*root).or_default().insert(key.clone(), path);
        }
        Ok(())
    }
}
