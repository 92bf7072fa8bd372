//! All that a fit is made of.

use std::collections::BTreeSet;

use super::{GameTree, Rules};
use crate::address::{AddressBook, Folding, RelPath};
use crate::members::{Folder, Member};

/// All that a fit is made of.
#[derive(Clone, Copy)]
pub struct FitInput<'a> {
    /// The package's files.
    pub members: &'a [Member],
    /// Its folders.
    pub folders: &'a [Folder],
    /// What is said of where they go.
    pub rules: &'a Rules,
    /// The names that addresses may begin with.
    pub book: &'a AddressBook,
    /// How spellings are compared.
    pub folding: Folding,
    /// The game.
    pub tree: &'a dyn GameTree,
    /// What else is known of the package.
    pub hints: Hints<'a>,
    /// Members known to be copies of the game's own files.
    pub copies: &'a BTreeSet<usize>,
}

impl std::fmt::Debug for FitInput<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("FitInput").field("rules", self.rules).finish_non_exhaustive()
    }
}

/// A package's files and folders, to find what a `from` means.
#[derive(Clone, Copy)]
pub(super) struct Package<'a> {
    pub members: &'a [Member],
    pub folders: &'a [Folder],
    /// The one folder around everything, if there is one.
    pub wrapper: Option<&'a RelPath>,
}

/// What detection is given beside the package and the game.
#[derive(Debug, Clone, Copy, Default)]
pub struct Hints<'a> {
    /// What the package is called.
    pub package_name: &'a str,
    /// Names that small files of the package tell of it.
    pub told_names: &'a [ToldName],
}

/// What a small file of a package tells of the add-on it belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToldName {
    /// The file's path in the package.
    pub file: String,
    /// The name.
    pub name: String,
    /// It is what programs know it by, not what people call it.
    pub is_id: bool,
}
