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
    /// What file names are written like ([`patterns_in`]), where files of their ending are wanted too.
    pub patterns: FxHashSet<String>,
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
    /// The same for each wanted pattern.
    pub patterns: FxHashMap<String, Vec<(usize, RelPath, u64)>>,
}

/// What a folded file name is written like: `#` for each number and `@` for the name of the folder that it lies in;
/// nothing where it has neither.
pub(super) fn pattern_of(name: &str, folder: &str) -> Option<String> {
    const SHORTEST_OWN: usize = 3;
    let own = Some(folder)
        .filter(|own| own.len() >= SHORTEST_OWN)
        .and_then(|own| name.find(own).map(|at| (at, own.len())));
    if own.is_none() && !name.bytes().any(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let mut pattern = String::with_capacity(name.len());
    let mut number = false;
    for (at, letter) in name.char_indices() {
        if let Some((from, length)) = own
            && (from..from + length).contains(&at)
        {
            if at == from {
                pattern.push('@');
            }
            number = false;
            continue;
        }
        let is_digit = letter.is_ascii_digit();
        if !is_digit {
            pattern.push(letter);
        } else if !number {
            pattern.push('#');
        }
        number = is_digit;
    }
    Some(pattern)
}

/// The ways in which a folded file name in that folder is written: with the folder's name and numbers told, with numbers
/// alone.
pub fn patterns_in(name: &str, folder: &str) -> impl Iterator<Item = String> {
    let with_own = pattern_of(name, folder);
    let alone = with_own.as_ref().filter(|own| own.contains('@')).and_then(|_| pattern_of(name, ""));
    with_own.into_iter().chain(alone)
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
