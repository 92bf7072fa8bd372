//! Addresses: which file of which root is meant, and which names are refused.
//!
//! Pure. An [`Address`] always carries the root's name; spots are aliases that [`AddressBook`]
//! resolves once, at the edge.

mod fold;
mod name_rules;
mod on_disk;
mod path;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize, Serializer};
use thiserror::Error;

pub use fold::{FoldedKey, Folding};
pub use name_rules::{LONGEST_NAME, LONGEST_PATH_BYTES, NameProblem};
pub use on_disk::plain_path;
pub use path::RelPath;

pub(crate) use on_disk::is_disk_path;
pub(crate) use path::last_part;

/// The root that is meant when an address names none.
pub const MAIN_ROOT: &str = "game";

/// What stands between a container's path and a member's.
pub(crate) const INTO: &str = "!/";

/// The folder that Odd Stack keeps at the top of a root that lies on another volume than the ledger,
/// and beside the game for ledgers. No layer has anything there.
pub const SIDE_FOLDER: &str = ".oddstack";

/// Why a text is not an address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AddressError {
    /// The path part breaks a name rule.
    #[error("`{text}` can't be an address: {problem}")]
    Name {
        /// What was given.
        text: String,
        /// The rule it breaks.
        problem: NameProblem,
    },
    /// The prefix is neither a root nor a spot of the game.
    #[error("`{prefix}:` is neither a root nor a spot of this game (there are: {})", known.join(", "))]
    UnknownPrefix {
        /// What stood before the colon.
        prefix: String,
        /// All roots and spots.
        known: Vec<String>,
    },
    /// It is a path on disk that leads elsewhere.
    #[error("`{path}` lies in none of the game's folders ({})", roots.join(", "))]
    OutOfGame {
        /// What was given.
        path: String,
        /// The folders of all roots.
        roots: Vec<String>,
    },
    /// A root or spot name that can't be one.
    #[error(
        "`{0}` can't name a root or spot: use two or more of a-z, 0-9, `-` and `_`, beginning with a letter"
    )]
    BadPrefix(String),
}

/// The name of a root or a spot: lower case, two characters or more, so that `C:` is never one.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PrefixName(Arc<str>);

impl PrefixName {
    /// Takes a name in any case.
    ///
    /// # Errors
    /// [`AddressError::BadPrefix`].
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let name = text.to_ascii_lowercase();
        let fits = name.len() >= 2
            && name.starts_with(|first: char| first.is_ascii_lowercase())
            && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_');
        if fits { Ok(Self(name.into())) } else { Err(AddressError::BadPrefix(text.to_owned())) }
    }

    /// The name in lower case.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for PrefixName {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&self.0)
    }
}

/// One place in a game: a root and a path below it. Shown as `root:path`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Address {
    /// The root's name.
    pub root: PrefixName,
    /// The path below the root; empty for the root itself.
    pub path: RelPath,
}

impl fmt::Display for Address {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}:{}", self.root, self.path)
    }
}

impl Serialize for Address {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// The roots and spots of one game, to resolve what people write.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AddressBook {
    /// Names of the roots.
    pub roots: Vec<PrefixName>,
    /// Spots by name; each leads to a folder.
    pub spots: BTreeMap<PrefixName, Address>,
}

impl AddressBook {
    /// Resolves `ROOT-OR-SPOT:relative/path`; without a prefix the root `game` is meant. Separators
    /// may be `/` or `\`, and one at the end is allowed.
    ///
    /// # Errors
    /// [`AddressError`], naming what is wrong with `text`.
    pub fn resolve(&self, text: &str) -> Result<Address, AddressError> {
        let (prefix, rest) = match text.split_once(':') {
            Some((prefix, rest)) if prefix.len() >= 2 && !prefix.contains(['/', '\\']) => (prefix, rest),
            _ => (MAIN_ROOT, text),
        };
        let prefix = PrefixName::parse(prefix)?;
        let folder = if self.roots.contains(&prefix) {
            Address { root: prefix, path: RelPath::root() }
        } else if let Some(spot) = self.spots.get(&prefix) {
            spot.clone()
        } else {
            let known = self.roots.iter().chain(self.spots.keys());
            return Err(AddressError::UnknownPrefix {
                prefix: prefix.to_string(),
                known: known.map(|name| format!("{name}:")).collect(),
            });
        };
        let rest = rest.strip_suffix(['/', '\\']).unwrap_or(rest);
        if rest.is_empty() || rest == "." {
            return Ok(folder);
        }
        let below =
            RelPath::parse(rest).map_err(|problem| AddressError::Name { text: text.to_owned(), problem })?;
        Ok(Address { root: folder.root, path: folder.path.join(&below) })
    }
}

/// Cuts a pattern of addresses into what stands before it, an address, and the pattern below that; a plain address has
/// none.
pub fn cut_pattern(text: &str) -> (&str, Option<&str>) {
    let Some(wild) = text.find(['*', '?', '[', '{']) else { return (text, None) };
    let start = text[..wild].rfind(['/', ':']).map_or(0, |cut| cut + 1);
    (text[..start].trim_end_matches('/'), Some(&text[start..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roots_spots_and_refusals() {
        let root = |name: &str| PrefixName::parse(name).unwrap();
        let mut book = AddressBook { roots: vec![root("game"), root("docs")], ..Default::default() };
        let bin = book.resolve("engine/bin").unwrap();
        book.spots.insert(root("bin"), bin);
        let shown = |text: &str| book.resolve(text).map(|address| address.to_string());
        assert_eq!(shown("data/a.txt").unwrap(), "game:data/a.txt");
        assert_eq!(shown("bin:loader.dll").unwrap(), "game:engine/bin/loader.dll");
        assert_eq!(shown("bin:").unwrap(), "game:engine/bin");
        assert_eq!(shown("game:").unwrap(), "game:");
        assert_eq!(shown("DOCS:profiles\\one\\").unwrap(), "docs:profiles/one");
        assert!(matches!(shown("c:\\windows"), Err(AddressError::Name { problem: NameProblem::Drive, .. })));
        assert!(matches!(shown("saves:x"), Err(AddressError::UnknownPrefix { .. })));
        assert!(matches!(shown("game:../x"), Err(AddressError::Name { .. })));
        assert!(PrefixName::parse("c").is_err());
    }
}
