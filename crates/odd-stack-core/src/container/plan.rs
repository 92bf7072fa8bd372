//! Changes of members, held against what a container has.

use std::collections::{HashMap, HashSet};

use super::directory::{Directory, Packed};
use crate::address::{FoldedKey, Folding, RelPath};

/// What becomes of one member.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Change {
    /// A content takes its place, or comes after all others.
    Put {
        /// Where, within the container.
        path: RelPath,
        /// Size of the content.
        size_bytes: u64,
        /// Seconds since 1970.
        modified: i64,
        /// The number by which [`Contents`] has it.
        content: usize,
    },
    /// It goes.
    Remove {
        /// Where, within the container.
        path: RelPath,
    },
}

impl Change {
    /// The member's path within the container.
    pub(crate) fn path(&self) -> &RelPath {
        match self {
            Self::Put { path, .. } | Self::Remove { path } => path,
        }
    }
}

/// One content to put.
pub(super) struct Put {
    pub path: RelPath,
    pub size_bytes: u64,
    pub modified: i64,
    pub content: usize,
    /// The member whose place it takes.
    pub replaces: Option<usize>,
}

/// Changes held against the directory.
pub(super) struct Plan {
    /// In order of their paths.
    pub puts: Vec<Put>,
    goes: HashSet<usize>,
}

impl Plan {
    pub(super) fn new(directory: &Directory, changes: &[Change], folding: Folding) -> Self {
        let mut plan = Self { puts: Vec::new(), goes: HashSet::new() };
        let numbers: HashMap<FoldedKey, usize> = directory
            .members
            .iter()
            .enumerate()
            .filter(|(_, member)| !member.is_folder)
            .map(|(at, member)| (folding.key(member.path.as_str()), at))
            .collect();
        for change in changes {
            let old = numbers.get(&folding.key(change.path().as_str())).copied();
            plan.goes.extend(old);
            if let Change::Put { path, size_bytes, modified, content } = change {
                let path = match old {
                    Some(at) => directory.members[at].path.clone(),
                    None => directory.spelled(path, folding),
                };
                let (size_bytes, modified, content) = (*size_bytes, *modified, *content);
                let put = Put { path, size_bytes, modified, content, replaces: old };
                plan.puts.push(put);
            }
        }
        plan.puts.sort_by(|one, two| one.path.cmp(&two.path));
        plan.drop_empty_folders(directory);
        plan
    }

    /// Whether a member stays as it is.
    pub(super) fn stays(&self, member: usize) -> bool {
        !self.goes.contains(&member)
    }

    /// Members that stand for folders go with the last member in them.
    fn drop_empty_folders(&mut self, directory: &Directory) {
        let mut used: HashSet<&str> = HashSet::new();
        let mut left: HashSet<&str> = HashSet::new();
        for (at, member) in directory.members.iter().enumerate().filter(|(_, member)| !member.is_folder) {
            let folders = if self.stays(at) { &mut used } else { &mut left };
            folders.extend(member.path.ancestors());
        }
        for put in &self.puts {
            used.extend(put.path.ancestors());
        }
        let is_left = |member: &Packed| {
            member.is_folder && left.contains(member.path.as_str()) && !used.contains(member.path.as_str())
        };
        let empty: Vec<usize> =
            (0..directory.members.len()).filter(|at| is_left(&directory.members[*at])).collect();
        self.goes.extend(empty);
    }
}
