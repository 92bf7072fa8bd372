//! Placements gathered one by one.

use super::resolve::Aim;
use super::{FitError, Placement, Rank};
use crate::address::{Address, FoldedKey, Folding, PrefixName, RelPath};
use crate::members::Member;

/// Placements so far, with one spelling for each folder.
pub(super) struct Placed {
    folding: Folding,
    placements: Vec<Option<Placement>>,
    pub folders: Vec<Address>,
    /// By address: the placement's number and the rank of its place.
    files_at: foldhash::HashMap<(PrefixName, FoldedKey), (usize, (Rank, bool))>,
    folders_at: foldhash::HashMap<(PrefixName, FoldedKey), RelPath>,
    /// The folder that was noted last, and its spelling: most files come in rows of one folder.
    last_folder: Option<(Address, RelPath)>,
    /// Members whose place another took by rank.
    pub covered: Vec<usize>,
}

impl Placed {
    pub(super) fn new(folding: Folding) -> Self {
        Self {
            folding,
            placements: Vec::new(),
            folders: Vec::new(),
            files_at: foldhash::HashMap::default(),
            folders_at: foldhash::HashMap::default(),
            last_folder: None,
            covered: Vec::new(),
        }
    }

    fn key(&self, address: &Address) -> (PrefixName, FoldedKey) {
        (address.root.clone(), self.folding.key(address.path.as_str()))
    }

    pub(super) fn add_file(&mut self, member: usize, aim: Aim, members: &[Member]) -> Result<(), FitError> {
        let Aim { to, rank } = aim;
        let key = self.key(&to);
        if self.folders_at.contains_key(&key) {
            return Err(FitError::FileAgainstFolder { address: to });
        }
        if let Some((number, of_other)) = self.files_at.get(&key).copied() {
            let other = self.placements[number].as_ref().map_or(member, |placement| placement.member);
            if of_other == rank {
                let (first, second) = (members[other].path.clone(), members[member].path.clone());
                return Err(FitError::TwoToOne { first, second, address: to });
            }
            if of_other > rank {
                self.covered.push(member);
                return Ok(());
            }
            self.covered.push(other);
            self.placements[number] = None;
        }
        self.files_at.insert(key, (self.placements.len(), rank));
        let path = self.spell(&to)?;
        self.placements.push(Some(Placement { member, to: Address { root: to.root, path } }));
        Ok(())
    }

    /// The file's path with its folders as they are spelled here; notes folders that are new.
    fn spell(&mut self, to: &Address) -> Result<RelPath, FitError> {
        let Some(cut) = to.path.as_str().rfind('/') else { return Ok(to.path.clone()) };
        let is_in =
            |folder: &Address| folder.root == to.root && folder.path.as_str() == &to.path.as_str()[..cut];
        let spelled = match &self.last_folder {
            Some((last, spelled)) if is_in(last) => spelled.clone(),
            _ => {
                let folder = Address { root: to.root.clone(), path: to.path.parent() };
                let spelled = self.add_folder(&folder)?;
                self.last_folder = Some((folder, spelled.clone()));
                spelled
            }
        };
        Ok(to.path.spelled_in(&spelled))
    }

    /// Notes a folder and those above it; gives its spelling in this fit.
    pub(super) fn add_folder(&mut self, folder: &Address) -> Result<RelPath, FitError> {
        if folder.path.is_root() {
            return Ok(RelPath::root());
        }
        let key = self.key(folder);
        if let Some(spelled) = self.folders_at.get(&key) {
            return Ok(spelled.clone());
        }
        if self.files_at.contains_key(&key) {
            return Err(FitError::FileAgainstFolder { address: folder.clone() });
        }
        let above = Address { root: folder.root.clone(), path: folder.path.parent() };
        let spelled = self.add_folder(&above)?.join(&RelPath::from_disk(folder.path.name()));
        self.folders.push(Address { root: folder.root.clone(), path: spelled.clone() });
        self.folders_at.insert(key, spelled.clone());
        Ok(spelled)
    }

    /// The placements, in order of members.
    pub(super) fn into_placements(self) -> Vec<Placement> {
        let mut placements: Vec<Placement> = self.placements.into_iter().flatten().collect();
        placements.sort_by_key(|placement| placement.member);
        placements
    }
}
