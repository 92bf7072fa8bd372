//! The game as far as a package's names occur in it, and how well a place for a folder agrees with it.

use std::collections::{BTreeMap, HashMap};

use rustc_hash::{FxHashMap, FxHashSet};

use super::names::{own_names, patterns_of};
use super::outline::{Outline, folded};
use super::words;
use crate::address::{Address, PrefixName, RelPath};
use crate::fit::{GameTree, NamedThings, WantedNames};

/// A place in the game: a root and the folded path below it.
pub(super) type Spot = (usize, String);

/// A folder of the package laid onto a folder of the game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Mapping {
    pub node: usize,
    pub to: Spot,
}

/// How a mapping agrees with the game.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Agreement {
    /// Files below the mapped folder.
    pub files: usize,
    /// Files that lie there in the game, in a folder that has its name in the package.
    pub met: usize,
    /// Files directly in the mapped folder that lie there in the game.
    pub met_flat: usize,
    /// Files directly in the mapped folder that do not lie there, nor do others of their ending.
    pub strange: usize,
    /// Files whose own folder, named in the package, lies there.
    pub housed: usize,
    /// Those of them that have others of their ending there.
    pub kind: usize,
    /// Files below a first folder that lies there.
    pub begun: usize,
    /// First folders that lie there.
    pub branches: Vec<String>,
    /// Folders of the package that lie there.
    pub folders: usize,
    /// First folders of the package.
    pub first_folders: usize,
}

impl Agreement {
    pub(super) fn score(&self) -> usize {
        4 * self.met + 3 * self.met_flat + 2 * self.housed + self.begun
    }
}

pub(super) struct GameMatches {
    roots: Vec<PrefixName>,
    files: FxHashMap<Spot, (RelPath, u64)>,
    folders: FxHashMap<Spot, RelPath>,
    file_places: FxHashMap<String, Vec<Spot>>,
    folder_places: FxHashMap<String, Vec<Spot>>,
    endings: FxHashMap<String, Homes>,
    patterns: FxHashMap<String, Homes>,
    /// Folders that add-ons seem to lie in, by their names, and the add-ons.
    addons: BTreeMap<Spot, Vec<String>>,
}

/// Folders that directly hold files of some kind: their spelling, and how many.
type Homes = FxHashMap<Spot, (RelPath, u64)>;

/// A name that lies in more places than this tells nothing of where it belongs.
const MOST_PLACES: usize = 48;
/// Mappings that are looked at closely.
const MOST_MAPPINGS: usize = 48;

fn last_of(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

fn above(path: &str) -> &str {
    path.rfind('/').map_or("", |cut| &path[..cut])
}

pub(super) fn below(folder: &str, name: &str) -> String {
    if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") }
}

impl GameMatches {
    pub(super) fn of(outline: &Outline<'_>, tree: &dyn GameTree) -> Self {
        let mut wanted = WantedNames::default();
        for node in &outline.nodes {
            wanted.folders.extend(node.names.last().cloned());
            let own_names = own_names(outline, node);
            for file in &node.all_files {
                let name = outline.file_name(*file);
                let key = folded(name);
                wanted.patterns.extend(patterns_of(&key, &own_names));
                wanted.files.insert(key);
                wanted.endings.insert(words::ending(name));
            }
        }
        wanted.parents.extend(words::collections());
        let named = tree.named(&wanted);
        let NamedThings { files, folders, children, endings, patterns } = &*named;
        let mut game_matches = Self {
            roots: tree.roots().into_iter().map(|root| root.name).collect(),
            files: FxHashMap::with_capacity_and_hasher(files.len(), rustc_hash::FxBuildHasher),
            folders: FxHashMap::with_capacity_and_hasher(folders.len(), rustc_hash::FxBuildHasher),
            file_places: FxHashMap::default(),
            folder_places: FxHashMap::default(),
            endings: by_home(endings),
            patterns: by_home(patterns),
            addons: BTreeMap::new(),
        };
        for (root, path) in children {
            let parent = path.parent();
            let spot = (*root, folded(parent.as_str()));
            game_matches.folders.entry(spot.clone()).or_insert(parent);
            game_matches.addons.entry(spot).or_default().push(path.name().to_owned());
        }
        for (root, path, size_bytes) in files {
            let (root, size_bytes) = (*root, *size_bytes);
            let key = folded(path.as_str());
            game_matches.file_places.entry(last_of(&key).to_owned()).or_default().push((root, key.clone()));
            // The folders above are wanted for their spelling.
            let parent = path.parent();
            game_matches.folders.entry((root, above(&key).to_owned())).or_insert(parent);
            game_matches.files.insert((root, key), (path.clone(), size_bytes));
        }
        for (root, path) in folders {
            let (root, path) = (*root, path.clone());
            let key = folded(path.as_str());
            game_matches.folder_places.entry(last_of(&key).to_owned()).or_default().push((root, key.clone()));
            game_matches.folders.insert((root, key), path);
        }
        game_matches
    }

    /// The address of a spot, spelled as the game spells it where that is known.
    pub(super) fn address(&self, spot: &Spot) -> Address {
        let spelled = self.folders.get(spot).cloned().or_else(|| {
            // Some folder below it is known.
            let depth = spot.1.split('/').count();
            let prefix = format!("{}/", spot.1);
            let known =
                self.folders.iter().find(|((root, key), _)| *root == spot.0 && key.starts_with(&prefix))?;
            Some(RelPath::from_disk(known.1.parts().take(depth).collect::<Vec<_>>().join("/")))
        });
        let path = match spelled {
            _ if spot.1.is_empty() => RelPath::root(),
            Some(spelled) => spelled,
            None => RelPath::from_disk(spot.1.clone()),
        };
        Address { root: self.roots[spot.0].clone(), path }
    }

    pub(super) fn root_number(&self, name: &PrefixName) -> Option<usize> {
        self.roots.iter().position(|root| root == name)
    }

    pub(super) fn has_file(&self, spot: &Spot) -> bool {
        self.files.contains_key(spot)
    }

    pub(super) fn has_folder(&self, spot: &Spot) -> bool {
        spot.1.is_empty() || self.folders.contains_key(spot)
    }

    /// Whether a further root is called as the folder, and files of that lie there.
    pub(super) fn is_root_of(&self, outline: &Outline<'_>, node: usize) -> bool {
        let name = folded(outline.name(node));
        let root = self.roots.iter().skip(1).position(|root| root.as_str() == name);
        root.is_some_and(|root| {
            let there = self.agreement(outline, &Mapping { node, to: (root + 1, String::new()) });
            there.met + there.met_flat + there.begun > 0
        })
    }

    pub(super) fn has_folder_named(&self, name: &str) -> bool {
        self.folder_places.contains_key(name)
    }

    /// Whether the game has a folder of that name in one named like the folder above it; at the top of a
    /// root when that is a package's top.
    pub(super) fn has_folder_like(&self, names: &[String], is_at_top: bool) -> bool {
        let (Some(name), parent) = (names.last(), names.iter().rev().nth(1)) else { return false };
        let places = self.folder_places.get(name).into_iter().flatten();
        places.into_iter().any(|(_, key)| {
            let folder = above(key);
            if is_at_top { folder.is_empty() } else { Some(last_of(folder)) == parent.map(String::as_str) }
        })
    }

    /// All spots of folders of that name, unless it lies in so many that it tells nothing.
    pub(super) fn places_of_folder(&self, name: &str) -> &[Spot] {
        let places = self.folder_places.get(name).map_or(&[][..], Vec::as_slice);
        if places.len() <= MOST_PLACES { places } else { &[] }
    }

    pub(super) fn has_file_named(&self, name: &str) -> bool {
        self.file_places.contains_key(name)
    }

    /// Whether the game has a file of that name in a folder of that name.
    pub(super) fn has_like(&self, file_name: &str, folder: Option<&String>) -> bool {
        let (Some(folder), Some(places)) = (folder, self.file_places.get(&folded(file_name))) else {
            return false;
        };
        places.iter().any(|(_, key)| last_of(above(key)) == folder)
    }

    /// Whether the game keeps files of that ending in a folder that is named like the folder and the one above it.
    pub(super) fn has_kind_like(&self, ending: &str, names: &[String]) -> bool {
        let [.., above_it, name] = names else { return false };
        self.endings.get(ending).is_some_and(|homes| {
            homes.keys().any(|(_, key)| {
                let mut there = key.rsplit('/');
                there.next() == Some(name) && there.next() == Some(above_it)
            })
        })
    }

    /// All spots of files of that name.
    pub(super) fn places_of_file(&self, name: &str) -> &[Spot] {
        self.file_places.get(&folded(name)).map_or(&[], Vec::as_slice)
    }

    /// The folders of the game that directly hold a file or a folder of that name.
    pub(super) fn folders_holding(&self, name: &str) -> Vec<Spot> {
        let files = self.file_places.get(name).into_iter().flatten();
        let places = files.chain(self.folder_places.get(name).into_iter().flatten());
        places.map(|(root, key)| (*root, above(key).to_owned())).collect()
    }

    /// Members of which the game has files of the same name and size, with these files' addresses.
    pub(super) fn alike(&self, outline: &Outline<'_>) -> Vec<(usize, Vec<Address>)> {
        let mut found = Vec::new();
        for file in outline.nodes.iter().flat_map(|node| &node.all_files) {
            let size_bytes = outline.members[*file].size_bytes;
            let path = folded(outline.members[*file].path.as_str());
            let mut places: Vec<&Spot> = self.places_of_file(outline.file_name(*file)).iter().collect();
            if places.len() > MOST_PLACES {
                // Those with most of the same folders above.
                let common = |spot: &Spot| {
                    let both = spot.1.rsplit('/').zip(path.rsplit('/'));
                    both.take_while(|(one, two)| one == two).count()
                };
                places.sort_by_key(|spot| std::cmp::Reverse(common(spot)));
                places.truncate(MOST_PLACES);
            }
            let same = places.into_iter().filter_map(|spot| self.files.get(spot).map(|it| (spot.0, it)));
            let same = same.filter(|(_, (_, there_bytes))| *there_bytes == size_bytes && size_bytes > 0);
            let same: Vec<Address> = same
                .map(|(root, (path, _))| Address { root: self.roots[root].clone(), path: path.clone() })
                .collect();
            if !same.is_empty() {
                found.push((*file, same));
            }
        }
        found
    }

    /// Folders that directly hold files of that ending, the fullest first.
    pub(super) fn homes_of_ending(&self, ending: &str) -> Vec<(Spot, u64)> {
        Self::fullest(self.endings.get(ending))
    }

    /// Folders that directly hold files whose names are written so, the fullest first.
    pub(super) fn homes_of_pattern(&self, pattern: &str) -> Vec<(Spot, u64)> {
        Self::fullest(self.patterns.get(pattern))
    }

    fn fullest(homes: Option<&Homes>) -> Vec<(Spot, u64)> {
        let homes = homes.into_iter().flatten();
        let mut homes: Vec<(Spot, u64)> = homes.map(|(spot, (_, count))| (spot.clone(), *count)).collect();
        homes.sort_by(|one, two| two.1.cmp(&one.1).then_with(|| one.0.cmp(&two.0)));
        homes
    }

    /// The address of a folder that holds files of an ending or written in a way, as it is spelled.
    pub(super) fn spelled_home(&self, spot: &Spot) -> Address {
        let mut homes = self.endings.values().chain(self.patterns.values());
        let path = homes.find_map(|homes| homes.get(spot)).map(|(path, _)| path.clone());
        Address { root: self.roots[spot.0].clone(), path: path.unwrap_or_else(|| self.address(spot).path) }
    }

    /// The mappings of folders at or below `top` that names speak for, those with most names first. A
    /// name in the package and one in the game that end alike, folder by folder, speak for the folders
    /// above where they cease to.
    pub(super) fn mappings(&self, outline: &Outline<'_>, top: usize) -> Vec<Mapping> {
        let mut votes: FxHashMap<Spot2, usize> = FxHashMap::default();
        for node in outline.subtree(top) {
            let names = &outline.nodes[node].names;
            if let Some(name) = names.last().filter(|_| node != top && outline.has_content(node)) {
                let weight = 1 + outline.nodes[node].files.len();
                self.vote(names, self.folder_places.get(name), weight, node, outline, top, &mut votes);
            }
            for file in &outline.nodes[node].files {
                let name = folded(outline.file_name(*file));
                let places = self.file_places.get(&name);
                if places.is_some() {
                    let mut path = names.clone();
                    path.push(name);
                    self.vote(&path, places, 4, node, outline, top, &mut votes);
                }
            }
        }
        let mut votes: Vec<(Spot2, usize)> = votes.into_iter().collect();
        votes.sort_by(|one, two| two.1.cmp(&one.1).then_with(|| one.0.cmp(&two.0)));
        votes.truncate(MOST_MAPPINGS);
        votes.into_iter().map(|((node, to), _)| Mapping { node, to }).collect()
    }

    #[expect(clippy::too_many_arguments, reason = "one inner step of `mappings`")]
    fn vote(
        &self,
        path: &[String],
        places: Option<&Vec<Spot>>,
        weight: usize,
        node: usize,
        outline: &Outline<'_>,
        top: usize,
        votes: &mut FxHashMap<Spot2, usize>,
    ) {
        let Some(places) = places.filter(|places| places.len() <= MOST_PLACES) else { return };
        // The path may be of a file in `node` or of `node` itself.
        let is_file = path.len() > outline.nodes[node].names.len();
        for (root, key) in places {
            let alike =
                path.iter().rev().zip(key.rsplit('/')).take_while(|(one, two)| one.as_str() == *two).count();
            // How many names of the path lie below the folder that is spoken for; never above the group's top.
            let most = path.len() - outline.nodes[top].names.len();
            let below_it = alike.min(most);
            let mut to = key.as_str();
            for _ in 0..below_it {
                to = above(to);
            }
            let mut from = Some(node);
            for _ in 0..below_it - usize::from(is_file) {
                from = from.and_then(|node| outline.nodes[node].parent);
            }
            if let Some(from) = from {
                *votes.entry((from, (*root, to.to_owned()))).or_default() += weight;
            }
        }
    }

    /// How well the game agrees with `mapping`, over the files of the group that lie below it.
    pub(super) fn agreement(&self, outline: &Outline<'_>, mapping: &Mapping) -> Agreement {
        let mut agreement = Agreement::default();
        let mut folders: Vec<(usize, String, Option<usize>)> =
            vec![(mapping.node, mapping.to.1.clone(), None)];
        let group = outline.nodes[mapping.node].group;
        let mut begun: FxHashSet<usize> = FxHashSet::default();
        while let Some((node, key, first)) = folders.pop() {
            let spot = (mapping.to.0, key);
            let lies_there = node == mapping.node || self.has_folder(&spot);
            agreement.folders += usize::from(lies_there);
            if lies_there && first == Some(node) {
                begun.insert(node);
                agreement.branches.push(outline.name(node).to_owned());
            }
            let files = &outline.nodes[node].files;
            agreement.files += files.len();
            let is_begun = first.is_some_and(|first| begun.contains(&first));
            agreement.begun += if is_begun { files.len() } else { 0 };
            if lies_there && !files.is_empty() {
                let mut kinds: HashMap<String, bool> = HashMap::new();
                for file in files {
                    let name = outline.file_name(*file);
                    let met = self.has_file(&(spot.0, below(&spot.1, &folded(name))));
                    let ending = words::ending(name);
                    let is_kind = *kinds.entry(ending).or_insert_with_key(|ending| {
                        self.endings.get(ending).is_some_and(|homes| homes.contains_key(&spot))
                    });
                    if first.is_none() {
                        agreement.met_flat += usize::from(met);
                        agreement.strange += usize::from(!met && !is_kind);
                        continue;
                    }
                    agreement.met += usize::from(met);
                    agreement.housed += 1;
                    agreement.kind += usize::from(is_kind);
                }
            }
            for folder in &outline.nodes[node].folders {
                if outline.nodes[*folder].group != group {
                    continue;
                }
                let name = outline.nodes[*folder].names.last().cloned().unwrap_or_default();
                let first = first.or_else(|| {
                    agreement.first_folders += 1;
                    Some(*folder)
                });
                folders.push((*folder, below(&spot.1, &name), first));
            }
        }
        agreement
    }

    /// Folders that add-ons seem to lie in, by their names, and the add-ons.
    pub(super) fn addons(&self) -> &BTreeMap<Spot, Vec<String>> {
        &self.addons
    }

    /// Folders of the game that gather other folders, each of which holds a file of that name.
    pub(super) fn gatherings(&self, name: &str) -> HashMap<Spot, Vec<String>> {
        let mut found: HashMap<Spot, Vec<String>> = HashMap::new();
        for (root, key) in self.places_of_file(name) {
            let folder = above(key);
            if !folder.is_empty() {
                let gathering = (*root, above(folder).to_owned());
                let spelled = self.files.get(&(*root, key.clone())).map(|(path, _)| path.parent());
                let spelled =
                    spelled.map_or_else(|| last_of(folder).to_owned(), |path| path.name().to_owned());
                found.entry(gathering).or_default().push(spelled);
            }
        }
        found.retain(|(_, key), folders| {
            !key.is_empty() && (words::is_collection(last_of(key)) || folders.len() > 1)
                || key.is_empty() && folders.iter().filter(|folder| !folder.is_empty()).count() > 2
        });
        found
    }
}

fn by_home(all: &FxHashMap<String, Vec<(usize, RelPath, u64)>>) -> FxHashMap<String, Homes> {
    let homes = |list: &[(usize, RelPath, u64)]| {
        let homes = list.iter();
        homes.map(|(root, path, count)| ((*root, folded(path.as_str())), (path.clone(), *count))).collect()
    };
    all.iter().map(|(what, list)| (what.clone(), homes(list))).collect()
}

type Spot2 = (usize, Spot);
