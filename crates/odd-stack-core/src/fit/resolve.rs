//! Places whose two ends are known.

use std::collections::HashMap;

use super::detect::starred;
use super::input::Package;
use super::{FitError, GameTree, Place, Rank};
use crate::address::{Address, AddressBook, AddressError, FoldedKey, Folding, RelPath, SIDE_FOLDER};

/// What a `from` was found to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FromFound {
    pub path: RelPath,
    pub is_file: bool,
    /// It lies in the wrapper folder, which was not written.
    pub in_wrapper: bool,
}

fn key_of(text: &str) -> FoldedKey {
    Folding::Folded.key(text)
}

impl Package<'_> {
    /// Finds what `from` means: `.` is all, `*` the one folder at its place; the wrapper folder may be left
    /// out.
    pub(super) fn find(&self, from: &str) -> Option<FromFound> {
        let text = from.replace('\\', "/");
        let text = text.trim_start_matches("./").trim_end_matches('/');
        let text = text.strip_suffix("/.").unwrap_or(text);
        if text.is_empty() || text == "." {
            return Some(FromFound { path: RelPath::root(), is_file: false, in_wrapper: false });
        }
        if let Some((path, is_file)) = self.look(text) {
            return Some(FromFound { path, is_file, in_wrapper: false });
        }
        let (path, is_file) = self.look(&format!("{}/{text}", self.wrapper?))?;
        Some(FromFound { path, is_file, in_wrapper: true })
    }

    fn look(&self, text: &str) -> Option<(RelPath, bool)> {
        let text = self.without_stars(text)?;
        let key = key_of(&text);
        let is_meant = |path: &&RelPath| key_of(path.as_str()) == key;
        let file = self.members.iter().map(|member| &member.path).find(is_meant);
        let folder = || self.folders.iter().map(|folder| &folder.path).find(is_meant);
        file.map(|path| (path.clone(), true)).or_else(|| folder().map(|path| (path.clone(), false)))
    }

    /// The text with the names in the stead of its stars.
    fn without_stars(&self, text: &str) -> Option<String> {
        if !text.split('/').any(|part| part == "*") {
            return Some(text.to_owned());
        }
        let mut path = RelPath::root();
        for part in text.split('/') {
            let name = match part {
                "*" => self.only_folder_in(&path)?.name().to_owned(),
                part => part.to_owned(),
            };
            path = path.join(&RelPath::from_disk(name));
        }
        Some(path.as_str().to_owned())
    }

    fn only_folder_in(&self, above: &RelPath) -> Option<&RelPath> {
        let above = key_of(above.as_str());
        let own = self.folders.iter().filter(|folder| folder.inner.is_none()).map(|folder| &folder.path);
        let mut own = own.filter(|path| {
            key_of(path.parent().as_str()) == above && !super::names::is_metadata(path.name())
        });
        own.next().filter(|_| own.next().is_none())
    }

    /// The text that [`Package::find`] finds `path` by, also in another version of the package.
    pub(super) fn text_of(&self, path: &RelPath) -> String {
        self.only_folders().text_of(path)
    }

    /// The folders that lie alone in theirs, to ask for many texts.
    pub(super) fn only_folders(&self) -> OnlyFolders<'_> {
        let mut only: HashMap<&str, Option<&RelPath>> = HashMap::new();
        let own = self.folders.iter().filter(|folder| folder.inner.is_none()).map(|folder| &folder.path);
        for path in own.filter(|path| !super::names::is_metadata(path.name())) {
            let above = path.as_str().rfind('/').map_or("", |cut| &path.as_str()[..cut]);
            only.entry(above).and_modify(|only| *only = None).or_insert(Some(path));
        }
        OnlyFolders(only)
    }

    pub(super) fn missing(&self, from: &str) -> FitError {
        let own = self.folders.iter().filter(|folder| folder.inner.is_none());
        let own = own.map(|folder| (&folder.path, "/"));
        let tops = own.chain(self.members.iter().map(|file| (&file.path, "")));
        let tops = tops.filter(|(path, _)| path.parent().is_root());
        FitError::FromMissing {
            from: from.to_owned(),
            tops: tops.map(|(path, end)| format!("{path}{end}")).take(8).collect(),
        }
    }
}

/// The folders of a package that lie alone in theirs, by these.
pub(super) struct OnlyFolders<'a>(HashMap<&'a str, Option<&'a RelPath>>);

impl OnlyFolders<'_> {
    /// As [`Package::text_of`].
    pub(super) fn text_of(&self, path: &RelPath) -> String {
        let mut parts = Vec::new();
        let mut at = path.clone();
        while !at.is_root() {
            let parent = at.parent();
            let only = self.0.get(parent.as_str()).copied().flatten();
            parts.push((at.name().to_owned(), only == Some(&at)));
            at = parent;
        }
        starred(parts.iter().map(|(name, is_only)| (name.as_str(), *is_only)).collect())
    }
}

/// What lies at or below `from` goes to the same below `to`.
#[derive(Debug, Clone)]
pub(super) struct Resolved {
    pub from: RelPath,
    pub to: Address,
    /// The rank of the place, and whether it is of a part, which goes over what is always there.
    pub rank: (Rank, bool),
    pub in_wrapper: bool,
}

impl Resolved {
    pub(super) fn new(
        place: &Place,
        of_part: bool,
        package: &Package<'_>,
        book: &AddressBook,
        tree: &dyn GameTree,
    ) -> Result<Self, FitError> {
        let mut to = book.resolve(&place.to)?;
        let found = package.find(&place.from).ok_or_else(|| package.missing(&place.from))?;
        if found.is_file {
            let into_folder =
                to.path.is_root() || place.to.ends_with(['/', '\\', ':']) || tree.has_folder(&to);
            if into_folder {
                to.path = to.path.join(&RelPath::from_disk(found.path.name()));
            }
        }
        Ok(Self { from: found.path, to, rank: (place.rank, of_part), in_wrapper: found.in_wrapper })
    }

    /// How strongly the place claims what it reaches.
    fn strength(&self) -> ((Rank, bool), usize) {
        (self.rank, self.from.as_str().len())
    }
}

/// The file that an address leads into, `game:core.qpk` of `game:core.qpk!/menu`; nothing where a folder is named so.
pub(super) fn container_in(to: &Address, tree: &dyn GameTree) -> Option<Address> {
    let text = to.path.as_str();
    let ends = text.match_indices('/').map(|(at, _)| at).chain([text.len()]);
    let at = ends.into_iter().find(|end| text[..*end].ends_with('!'))?;
    let folder = Address { root: to.root.clone(), path: RelPath::from_disk(&text[..at]) };
    let container = RelPath::from_disk(&text[..at - 1]);
    let is_file = !container.is_root() && !tree.has_folder(&folder);
    is_file.then(|| Address { root: to.root.clone(), path: container })
}

/// Where a member goes, and how strongly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Aim {
    pub to: Address,
    pub rank: (Rank, bool),
}

/// All addresses that the strongest places give to `path`; a root itself is none. What lies in an archive
/// inside is reached only by places that begin at that archive or in it.
pub(super) fn aims(
    places: &[Resolved],
    path: &RelPath,
    inner: Option<&RelPath>,
) -> Result<Vec<Aim>, FitError> {
    let can_reach = |place: &&Resolved| inner.is_none_or(|inner| place.from.below(inner).is_some());
    let reaching: Vec<_> =
        places.iter().filter(can_reach).filter_map(|place| Some((place, path.below(&place.from)?))).collect();
    let Some(strongest) = reaching.iter().map(|(place, _)| place.strength()).max() else {
        return Ok(Vec::new());
    };
    let mut aims: Vec<Aim> = Vec::new();
    for (place, below) in reaching.into_iter().filter(|(place, _)| place.strength() == strongest) {
        let to = Address { root: place.to.root.clone(), path: place.to.path.join(&below) };
        if to.path.parts().next().is_some_and(|top| top.eq_ignore_ascii_case(SIDE_FOLDER)) {
            return Err(FitError::Reserved { from: path.clone(), address: to });
        }
        if !to.path.is_root() {
            // The parts have passed the rules one by one; together they may be too long.
            to.path.check_length().map_err(|problem| AddressError::Name { text: to.to_string(), problem })?;
            let aim = Aim { to, rank: place.rank };
            if !aims.contains(&aim) {
                aims.push(aim);
            }
        }
    }
    Ok(aims)
}
