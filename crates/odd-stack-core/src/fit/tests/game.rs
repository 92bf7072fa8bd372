//! Made-up games and packages for tests of the fit.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;

use crate::address::{Address, AddressBook, Folding, PrefixName, RelPath};
use crate::fit::{
    Fit, FitError, FitInput, GameTree, Hints, NamedThings, ProgramSeen, RootSeen, Rules, WantedNames,
    each_pattern, fit,
};
use crate::members::{Folder, Member};

/// A game that is nothing but names.
pub(in crate::fit) struct TestGame {
    pub roots: Vec<(&'static str, &'static str)>,
    pub files: Vec<Address>,
    pub program: Option<ProgramSeen>,
    pub book: AddressBook,
}

impl TestGame {
    /// `roots` are names and where they lie; `files` are addresses, folders ending in `/`.
    pub(in crate::fit) fn new(
        roots: &[(&'static str, &'static str)],
        files: &[&str],
        program: Option<(&str, &[&str])>,
    ) -> Self {
        let names = roots.iter().map(|(name, _)| PrefixName::parse(name).unwrap());
        let book = AddressBook { roots: names.collect(), ..Default::default() };
        let program = program.map(|(address, imports)| ProgramSeen {
            address: book.resolve(address).unwrap(),
            imports: imports.iter().map(|name| (*name).to_owned()).collect(),
        });
        let resolve = |file: &&str| {
            let mut address = book.resolve(file).unwrap();
            if file.ends_with('/') {
                // Stands for an empty folder.
                address.path = address.path.join(&RelPath::from_disk("\u{0}".to_owned()));
            }
            address
        };
        Self { roots: roots.to_vec(), files: files.iter().map(resolve).collect(), program, book }
    }
}

impl GameTree for TestGame {
    fn has_folder(&self, address: &Address) -> bool {
        let key = |path: &str| Folding::Folded.key(path);
        let wanted = key(address.path.as_str());
        address.path.is_root()
            || self.files.iter().any(|file| {
                file.root == address.root && file.path.ancestors().any(|folder| key(folder) == wanted)
            })
    }

    fn roots(&self) -> Vec<RootSeen> {
        let parts = |path: &str| path.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect();
        let roots = self.roots.iter();
        roots
            .map(|(name, folder)| RootSeen { name: PrefixName::parse(name).unwrap(), folder: parts(folder) })
            .collect()
    }

    fn program(&self) -> Option<ProgramSeen> {
        self.program.clone()
    }

    fn named(&self, wanted: &WantedNames) -> Rc<NamedThings> {
        let mut named = NamedThings::default();
        let mut folders: BTreeSet<(usize, String)> = BTreeSet::new();
        let mut endings: HashMap<String, BTreeMap<(usize, String), u64>> = HashMap::new();
        let mut patterns = endings.clone();
        let folded = |name: &str| Folding::Folded.key(name).as_str().to_owned();
        for file in &self.files {
            let root = self.roots.iter().position(|(name, _)| *name == file.root.as_str()).unwrap();
            let name = folded(file.path.name());
            if wanted.files.contains(&name) {
                named.files.push((root, file.path.clone(), 1));
            }
            let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending).to_owned();
            if wanted.endings.contains(&ending) && !name.contains('\u{0}') {
                let parent = file.path.parent();
                let home = (root, parent.as_str().to_owned());
                let folder = folded(parent.name());
                each_pattern(&name, &folder, &mut String::new(), |pattern| {
                    if wanted.patterns.contains(pattern) {
                        let homes = patterns.entry(pattern.to_owned()).or_default();
                        *homes.entry(home.clone()).or_default() += 1;
                    }
                });
                *endings.entry(ending).or_default().entry(home).or_default() += 1;
            }
            for folder in file.path.ancestors() {
                let path = RelPath::from_disk(folder);
                let child = (root, path.clone());
                if wanted.parents.contains(&folded(path.parent().name())) && !named.children.contains(&child)
                {
                    named.children.push(child);
                }
                if wanted.folders.contains(&folded(RelPath::from_disk(folder).name())) {
                    folders.insert((root, folder.to_owned()));
                }
            }
        }
        named.folders = folders.into_iter().map(|(root, path)| (root, RelPath::from_disk(path))).collect();
        let listed = |all: HashMap<String, BTreeMap<(usize, String), u64>>| {
            let list = |homes: BTreeMap<(usize, String), u64>| {
                homes
                    .into_iter()
                    .map(|((root, path), count)| (root, RelPath::from_disk(path), count))
                    .collect()
            };
            all.into_iter().map(|(what, homes)| (what, list(homes))).collect()
        };
        (named.endings, named.patterns) = (listed(endings), listed(patterns));
        Rc::new(named)
    }
}

/// Members and folders of a package of these files; a name ending in `/` is an empty folder.
pub(in crate::fit) fn package(files: &[&str]) -> (Vec<Member>, Vec<Folder>) {
    let mut folders: Vec<Folder> = Vec::new();
    let inner = |path: &RelPath| {
        let end = path.as_str().rfind("!/").map(|end| end + 1);
        end.or(path.as_str().ends_with('!').then_some(path.as_str().len()))
            .map(|end| RelPath::parse(&path.as_str()[..end]).unwrap())
    };
    let mut members = Vec::new();
    for file in files {
        let path = RelPath::parse(file.trim_end_matches('/')).unwrap();
        let own = file.ends_with('/').then(|| path.as_str().to_owned());
        for folder in path.ancestors().map(str::to_owned).chain(own.clone()) {
            let path = RelPath::parse(&folder).unwrap();
            let folder = Folder { inner: inner(&path), path };
            if !folders.contains(&folder) {
                folders.push(folder);
            }
        }
        if own.is_none() {
            members.push(Member {
                inner: inner(&path),
                content: members.len(),
                path,
                size_bytes: 1,
                modified: 0,
                executable: None,
                copy_of: None,
            });
        }
    }
    (members, folders)
}

/// Fits a package named `lamp-oil` onto the game; those of `copies` are known to be the game's own.
pub(in crate::fit) fn fit_onto(
    game: &TestGame,
    files: &[&str],
    rules: &Rules,
    copies: &[&str],
) -> Result<Fit, FitError> {
    let (members, folders) = package(files);
    let copies = members.iter().enumerate().filter(|(_, member)| copies.contains(&member.path.as_str()));
    let copies: BTreeSet<usize> = copies.map(|(index, _)| index).collect();
    fit(&FitInput {
        members: &members,
        folders: &folders,
        rules,
        book: &game.book,
        folding: Folding::Folded,
        tree: game,
        hints: Hints { package_name: "lamp-oil", told_names: &[] },
        copies: &copies,
    })
}

/// Addresses of all placements.
pub(in crate::fit) fn shown(fit: &Fit) -> Vec<String> {
    fit.placements.iter().map(|placement| placement.to.to_string()).collect()
}
