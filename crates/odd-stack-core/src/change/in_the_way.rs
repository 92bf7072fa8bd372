//! Things of another kind that lie where a file or a folder is to be: a file in place of a folder, a folder in that of
//! a file, a link.

use std::path::PathBuf;

use rayon::prelude::*;

use super::decider::Decider;
use super::error::ChangeError;
use super::looking::look;
use super::options::Edits;
use super::plan::Kept;
use super::step::Step;
use crate::address::{Address, RelPath};
use crate::expected::{Drift, DriftKind};
use crate::files::{KEPT, Seen};
use crate::game::Root;
use crate::stack::{BaseKind, RootId};

impl Decider<'_> {
    /// What lies where folders on the way to a moving file are to be, other than files that leave.
    ///
    /// # Errors
    /// [`ChangeError::NotAFolder`] for a link: nothing is written or taken away through one.
    pub(super) fn things_for_folders(&self) -> Result<Vec<(RootId, RelPath, Seen)>, ChangeError> {
        let leaving = &self.files.leaving;
        let site = self.ledger.site();
        let folding = self.ledger.game().folding;
        let folders: Vec<_> = self.files.on_the_way.all().collect();
        let found = folders.par_iter().map(|(id, folder, comes)| {
            let (root, path) = (site.root(*id)?, RelPath::from_disk(*folder));
            match look(&path.on(&root.folder))? {
                None | Some(Seen { kind: BaseKind::Folder, .. }) => Ok(None),
                Some(Seen { kind: BaseKind::Link, .. }) => {
                    Err(ChangeError::NotAFolder { address: Address { root: root.name.clone(), path } })
                }
                Some(_) if !comes || leaving.contains(*id, &folding.key(folder)) => Ok(None),
                Some(seen) => Ok(Some((*id, path, seen))),
            }
        });
        Ok(found.collect::<Result<Vec<_>, ChangeError>>()?.into_iter().flatten().collect())
    }

    /// Takes out what lies where a folder is to be; what nobody knows is thrown away only where the user said so.
    pub(super) fn clear_the_way(
        &mut self,
        root: RootId,
        path: &RelPath,
        seen: Seen,
    ) -> Result<(), ChangeError> {
        let (root, side) = (self.root(root)?, self.side(root)?);
        let address = self.address(root.id, path)?;
        self.decision.plan.drifted.push(Drift {
            address: address.clone(),
            kind: DriftKind::Stray,
            layer: None,
        });
        let public = path.on(&root.folder);
        self.files.cleared.insert(public.clone());
        let (private, thrown) = match self.wishes.edits {
            Edits::Discard => (self.in_trash(&side), Some(seen)),
            Edits::Keep | Edits::Stop => (self.keep(root, path, &address)?, None),
        };
        self.need_private_folders(&side, &private);
        self.decision.steps.push(&Step::TakeOut { public, private, thrown });
        Ok(())
    }

    /// Takes out what lies where a folder, or one above it, is to be; once.
    pub(super) fn clear_for_folder(&mut self, root: RootId, path: &RelPath) -> Result<(), ChangeError> {
        let folder = self.root(root)?.folder.clone();
        for above in path.ancestors().chain([path.as_str()]).map(RelPath::from_disk) {
            let public = above.on(&folder);
            let seen = match look(&public)? {
                None | Some(Seen { kind: BaseKind::Folder, .. }) => continue,
                Some(Seen { kind: BaseKind::Link, .. }) => {
                    return Err(ChangeError::NotAFolder { address: self.address(root, &above)? });
                }
                Some(seen) => seen,
            };
            if !self.files.cleared.contains(&public) {
                self.clear_the_way(root, &above, seen)?;
            }
        }
        Ok(())
    }

    /// Where what lies at a path of a root is saved; it is said, too.
    pub(super) fn keep(
        &mut self,
        root: &Root,
        path: &RelPath,
        address: &Address,
    ) -> Result<PathBuf, ChangeError> {
        let folder = self.side(root.id)?.join(KEPT).join(self.files.revision.to_string());
        let path = path.on(&folder.join(root.name.as_str()));
        self.decision.plan.kept.push(Kept {
            address: address.clone(),
            path: path.clone(),
            is_base_now: false,
        });
        Ok(path)
    }
}
