//! Files and folders that change without any layer's saying so: what nobody knows is taken out of the game, and what
//! a program wrote over is put back.

use std::path::{Path, PathBuf};

use super::decider::Decider;
use super::error::ChangeError;
use super::looking::look;
use super::plan::{Effect, EffectKind, Kept};
use super::request::{ChangeRequest, Direct};
use super::step::Step;
use crate::address::{Address, RelPath};
use crate::files::KEPT;
use crate::game::Root;
use crate::stack::BaseKind;

impl Decider<'_> {
    /// Decides what changes directly, after all that follows from the stack.
    pub(super) fn decide_direct(&mut self, request: &ChangeRequest) -> Result<(), ChangeError> {
        request.files.direct.iter().try_for_each(|direct| self.decide_one(direct))?;
        for (from, root, path) in &request.files.save {
            let root = self.root(*root)?;
            let side = self.ledger.site().side(root);
            self.need_side(&side);
            let address = Address { root: root.name.clone(), path: path.clone() };
            self.keep_direct(root, &side, (address, path), from.clone());
        }
        for (root, path) in &request.files.make_folders {
            self.clear_for_folder(*root, path)?;
            let path = path.on(&self.root(*root)?.folder);
            self.decision.steps.push(&Step::MakeFolder { path });
        }
        for (root, path) in &request.files.drop_folders {
            let path = path.on(&self.root(*root)?.folder);
            self.decision.steps.push(&Step::DropFolder { path });
        }
        Ok(())
    }

    /// Takes what lies there out of the game, and keeps it.
    fn keep_direct(
        &mut self,
        root: &Root,
        side: &Path,
        (address, path): (Address, &RelPath),
        public: PathBuf,
    ) {
        let folder = side.join(KEPT).join(self.files.revision.to_string());
        let private = path.on(&folder.join(root.name.as_str()));
        self.need_private_folders(side, &private);
        self.decision.plan.kept.push(Kept { address, path: private.clone(), is_base_now: false });
        self.decision.steps.push(&Step::TakeOut { public, private, thrown: None });
    }

    fn decide_one(&mut self, direct: &Direct) -> Result<(), ChangeError> {
        let Direct { root: id, path, instead } = direct;
        let root = self.root(*id)?;
        let side = self.side(*id)?;
        self.need_side(&side);
        let public = path.on(&root.folder);
        let address = Address { root: root.name.clone(), path: path.clone() };
        // What lies in a folder there goes by itself, and the folder with it.
        let seen = look(&public)?.filter(|seen| seen.kind != BaseKind::Folder);
        if self.files.cleared.contains(&public) || (seen.is_none() && instead.is_none()) {
            return Ok(());
        }
        if seen.is_some() {
            self.keep_direct(root, &side, (address.clone(), path), public.clone());
        }
        let key = self.ledger.game().folding.key(path.as_str());
        let is_of_others = self.ledger.catalogue.base_at(*id, &key)?.is_none();
        if instead.is_none() {
            self.files.leaving.insert(*id, key);
        }
        let kind = if instead.is_some() { EffectKind::Restore } else { EffectKind::Delete };
        let size_bytes = match instead {
            Some(file) => look(file)?.map_or(0, |seen| seen.size_bytes),
            None => seen.map_or(0, |seen| seen.size_bytes),
        };
        let (layer, over, blended) = (None, None, false);
        let effect = Effect { address, kind, size_bytes, layer, over, blended, is_of_others };
        self.decision.plan.effects.push(effect);
        if let Some(private) = instead {
            self.decision.steps.push(&Step::PutIn { private: private.clone(), public });
        }
        Ok(())
    }

    fn need_side(&mut self, side: &Path) {
        if !self.decision.side_folders.iter().any(|known| known == side) {
            self.decision.side_folders.push(side.to_path_buf());
        }
    }
}
