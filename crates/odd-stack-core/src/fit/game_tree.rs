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
    /// What file names are written like ([`each_pattern`]), where files of their ending are wanted too.
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
    let mut pattern = String::new();
    put_pattern(name, folder, &mut pattern).then_some(pattern)
}

/// Calls `take` with each way in which a folded file name in that folder is written: with the folder's name and numbers
/// told, with numbers alone. `buffer` is written over.
pub fn each_pattern(name: &str, folder: &str, buffer: &mut String, mut take: impl FnMut(&str)) {
    if put_pattern(name, folder, buffer) {
        take(buffer);
        if buffer.contains('@') && put_pattern(name, "", buffer) {
            take(buffer);
        }
    }
}

/// Writes the pattern into the buffer, unless there is none.
fn put_pattern(name: &str, folder: &str, pattern: &mut String) -> bool {
    const SHORTEST_OWN: usize = 3;
    pattern.clear();
    let own = Some(folder).filter(|own| own.len() >= SHORTEST_OWN).and_then(|own| name.find(own));
    if own.is_none() && !name.bytes().any(|byte| byte.is_ascii_digit()) {
        return false;
    }
    match own {
        Some(at) => {
            put_numbers(&name[..at], pattern);
            pattern.push('@');
            put_numbers(&name[at + folder.len()..], pattern);
        }
        None => put_numbers(name, pattern),
    }
    true
}

/// Writes the text with `#` for each number.
fn put_numbers(text: &str, pattern: &mut String) {
    let mut rest = text;
    while let Some(at) = rest.bytes().position(|byte| byte.is_ascii_digit()) {
        pattern.push_str(&rest[..at]);
        pattern.push('#');
        rest = rest[at..].trim_start_matches(|letter: char| letter.is_ascii_digit());
    }
    pattern.push_str(rest);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_written_alike_but_for_numbers_and_their_folder() {
        let all = |name: &str, folder: &str| {
            let mut patterns = Vec::new();
            each_pattern(name, folder, &mut String::new(), |pattern| patterns.push(pattern.to_owned()));
            patterns
        };
        assert_eq!(all("lamp_021.qtx", "lamps"), ["lamp_#.qtx"]);
        assert_eq!(all("brass12.qm2", "brass"), ["@#.qm#", "brass#.qm#"]);
        assert_eq!(all("brass.qtx", "brass"), ["@.qtx"]);
        assert_eq!(all("b1.qtx", "b1"), ["b#.qtx"], "too short a name tells nothing");
        assert_eq!(all("plain.qtx", "lamps"), [""; 0]);
        assert_eq!(all("\u{f6}l7.qtx", "x"), ["\u{f6}l#.qtx"]);
    }
}
