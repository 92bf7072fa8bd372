//! The game's own files that somebody has put aside in the game itself, under other names, to put files of a package in
//! their place.

use std::collections::HashMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::{FoldedKey, RelPath};
use crate::files::{WalkError, walk};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseFile, BaseKind, RootId};

/// A file that is most likely the game's own one of an address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OriginalRow {
    /// Where it belongs.
    pub address: String,
    /// Where it lies.
    pub lies_at: String,
    /// What tells it.
    pub by: FoundBy,
}

/// What tells that a file is one that was put aside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum FoundBy {
    /// It has the size and the time of what the game had there.
    SizeAndTime,
    /// Its name is made of that of what the game had there.
    Name,
}

/// The same, for those who go on with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::jobs) struct FoundOriginal {
    pub root: RootId,
    /// The address it belongs to.
    pub key: FoldedKey,
    /// Where it lies below the root.
    pub lies_at: RelPath,
    pub row: OriginalRow,
}

/// An address at which a package's file lies where the base has one.
#[derive(Debug, Clone)]
pub(in crate::jobs) struct Covered {
    pub root: RootId,
    pub key: FoldedKey,
    /// What the base is known to have had there.
    pub base: BaseFile,
    /// What lies there now.
    pub hash: ContentHash,
    /// The base was something else when the game was added.
    pub is_changed: bool,
}

/// Words that people add to the name of a file that they put aside.
const MARKS: [&str; 10] =
    ["orig", "original", "originals", "bak", "backup", "backups", "old", "org", "vanilla", "unmodded"];

/// Finds them: by size and time where the base knows what lay there, else by their names, and then by its size and hash.
///
/// # Errors
/// [`LedgerError`], also when a folder can't be read.
pub(in crate::jobs) fn find_originals(
    ledger: &Ledger,
    covered: &[Covered],
    observer: &dyn Observer,
) -> Result<Vec<FoundOriginal>, LedgerError> {
    let mut found = Vec::new();
    for root in &ledger.game().roots {
        let of_root: Vec<&Covered> = covered.iter().filter(|it| it.root == root.id).collect();
        if of_root.is_empty() {
            continue;
        }
        let walked = walk(&root.folder, observer).map_err(|error| match error {
            WalkError::Unreadable { path, source } => LedgerError::io("look at", path)(source),
            WalkError::Cancelled => {
                LedgerError::io("look at", &root.folder)(std::io::ErrorKind::Interrupted.into())
            }
        })?;
        let mut by_stamp: HashMap<(u64, i64), Vec<RelPath>> = HashMap::new();
        let mut marked = Marked::default();
        for folder in walked {
            for (name, seen) in folder.things {
                let (Ok(name), BaseKind::File) = (name.into_string(), seen.kind) else { continue };
                let path = folder.below.join(&RelPath::from_disk(name));
                marked.note(&path);
                by_stamp.entry((seen.size_bytes, seen.modified_ns)).or_default().push(path);
            }
        }
        for it in of_root {
            let lies_at = match it.is_changed {
                true => match by_size_and_time(ledger, it, &by_stamp)? {
                    // A copy has another time, but what the base is known to have had.
                    None => by_name(ledger, it, &marked)?,
                    found => found,
                },
                false => by_name(ledger, it, &marked)?,
            };
            let Some((lies_at, by)) = lies_at else { continue };
            let shown =
                |path: &RelPath| ledger.game().address(root.id, path.clone()).map(|it| it.to_string());
            let row = OriginalRow {
                address: shown(&it.base.spelled).unwrap_or_default(),
                lies_at: shown(&lies_at).unwrap_or_default(),
                by,
            };
            found.push(FoundOriginal { root: root.id, key: it.key.clone(), lies_at, row });
        }
    }
    Ok(found)
}

type Lies = Option<(RelPath, FoundBy)>;

/// A file that nobody knows, of the size and time that the base had there.
fn by_size_and_time(
    ledger: &Ledger,
    it: &Covered,
    by_stamp: &HashMap<(u64, i64), Vec<RelPath>>,
) -> Result<Lies, LedgerError> {
    let folding = ledger.game().folding;
    let alike = by_stamp.get(&(it.base.size_bytes, it.base.modified_ns)).into_iter().flatten();
    for path in alike {
        let key = folding.key(path.as_str());
        if key == it.key || ledger.catalogue.base_at(it.root, &key)?.is_some() {
            continue;
        }
        let on_disk = path.on(&ledger.site().root(it.root)?.folder);
        let is_it = match it.base.hash {
            Some(hash) => ContentHash::of_file(&on_disk).map_err(LedgerError::io("read", &on_disk))? == hash,
            None => true,
        };
        if is_it {
            return Ok(Some((path.clone(), FoundBy::SizeAndTime)));
        }
    }
    Ok(None)
}

/// Files whose names, or whose folders' names, have a mark, by the folder that they would belong to and by their words
/// without marks.
#[derive(Default)]
struct Marked(HashMap<(String, Vec<String>), Vec<RelPath>>);

impl Marked {
    fn key(folder: &RelPath, name: &str) -> (String, Vec<String>) {
        let mut own = words(name);
        own.retain(|word| !MARKS.contains(&word.as_str()));
        own.sort_unstable();
        (folder.as_str().to_lowercase(), own)
    }

    fn note(&mut self, path: &RelPath) {
        let (name, folder) = (path.name(), path.parent());
        let has_mark = |text: &str| words(text).iter().any(|word| MARKS.contains(&word.as_str()));
        if has_mark(name) || name.ends_with('~') {
            self.0.entry(Self::key(&folder, name)).or_default().push(path.clone());
        }
        if !folder.is_root() && MARKS.contains(&folder.name().to_lowercase().as_str()) {
            self.0.entry(Self::key(&folder.parent(), name)).or_default().push(path.clone());
        }
    }

    /// Those that may have stood in place of a file.
    fn of<'m>(&'m self, file: &'m RelPath) -> impl Iterator<Item = &'m RelPath> {
        let key = Self::key(&file.parent(), file.name());
        self.0.get(&key).into_iter().flatten().filter(move |path| {
            let is_beside = path.parent().as_str().eq_ignore_ascii_case(file.parent().as_str());
            if is_beside {
                is_marked(path.name(), file.name())
            } else {
                path.name().eq_ignore_ascii_case(file.name())
            }
        })
    }
}

fn words(text: &str) -> Vec<String> {
    let words = text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_lowercase).collect()
}

/// A file beside it, or in a folder of such files beside it, whose name is its own with a mark.
fn by_name(ledger: &Ledger, it: &Covered, marked: &Marked) -> Result<Lies, LedgerError> {
    let root = &ledger.site().root(it.root)?.folder;
    for path in marked.of(&it.base.spelled) {
        let on_disk = path.on(root);
        let is_known = |hash: ContentHash| match it.is_changed {
            true => it.base.hash.is_none_or(|known| known == hash),
            false => true,
        };
        let has_size = || std::fs::metadata(&on_disk).is_ok_and(|found| found.len() == it.base.size_bytes);
        if it.is_changed && !has_size() {
            continue;
        }
        let hash = ContentHash::of_file(&on_disk).map_err(LedgerError::io("read", &on_disk));
        // A second copy of the package's own file is no original.
        if hash.is_ok_and(|hash| hash != it.hash && is_known(hash)) {
            return Ok(Some((path.clone(), FoundBy::Name)));
        }
    }
    Ok(None)
}

/// Whether `name` is `own` with a mark such as `.orig`.
fn is_marked(name: &str, own: &str) -> bool {
    if name.eq_ignore_ascii_case(&format!("{own}~")) {
        return true;
    }
    let mut rest = words(name);
    for word in words(own) {
        let Some(at) = rest.iter().position(|other| *other == word) else { return false };
        rest.remove(at);
    }
    !rest.is_empty() && rest.iter().all(|word| MARKS.contains(&word.as_str()))
}

#[cfg(test)]
mod tests {
    use super::is_marked;

    #[test]
    fn names_of_files_that_were_put_aside() {
        for name in [
            "core.qpk.orig",
            "core.qpk.bak",
            "CORE.QPK_old",
            "core.orig.qpk",
            "core - Original.qpk",
            "original_core.qpk",
            "core (backup).qpk",
            "core.qpk~",
        ] {
            assert!(is_marked(name, "core.qpk"), "{name}");
        }
        for name in ["core.qpk", "core.qpx.orig", "core2.qpk.bak", "core.qpk.new", "score.qpk.old", "old.qpk"]
        {
            assert!(!is_marked(name, "core.qpk"), "{name}");
        }
    }
}
