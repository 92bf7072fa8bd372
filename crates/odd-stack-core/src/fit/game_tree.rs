//! What the fit sees of a game.

use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::address::{Address, PrefixName, RelPath};

/// A root and where it lies on disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RootSeen {
    /// Its name.
    pub name: PrefixName,
    /// The names of its folder and those above it, from the top of the disk down.
    pub folder: Vec<String>,
}

/// The game's main program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramSeen {
    /// Where it lies.
    pub address: Address,
    /// File names of the libraries it asks the system for, in lower case.
    pub imports: Vec<String>,
}

/// Names to look for in the game, folded ([`Folding::Folded`](crate::address::Folding)).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WantedNames {
    /// Names of files.
    pub files: FxHashSet<String>,
    /// Names of folders.
    pub folders: FxHashSet<String>,
    /// What file names end with, in lower case, without the dot.
    pub endings: FxHashSet<String>,
    /// Names of folders of which the folders in them are wanted.
    pub parents: FxHashSet<String>,
}

/// Where names were found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamedThings {
    /// Files of a wanted name, by number of the root among [`GameTree::roots`], with their sizes in bytes.
    pub files: Vec<(usize, RelPath, u64)>,
    /// Folders of a wanted name.
    pub folders: Vec<(usize, RelPath)>,
    /// Folders directly in one of a wanted parent's name.
    pub children: Vec<(usize, RelPath)>,
    /// For each wanted ending, the folders that directly hold such files, and how many.
    pub endings: FxHashMap<String, Vec<(usize, RelPath, u64)>>,
}

/// What the fit asks of the game's own tree and the layers on it.
pub trait GameTree {
    /// Whether a folder lies at the address.
    fn has_folder(&self, address: &Address) -> bool;

    /// The game's roots, the main one first.
    fn roots(&self) -> Vec<RootSeen>;

    /// The main program, where it is known.
    fn program(&self) -> Option<ProgramSeen>;

    /// All places of some names. One look at everything.
    fn named(&self, wanted: &WantedNames) -> Rc<NamedThings>;
}
