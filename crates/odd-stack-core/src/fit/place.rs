//! From members and rules to placements.

use std::collections::{BTreeMap, HashMap};

use super::rules::Patterns;
use super::{FitError, Rules};
use crate::address::{Address, AddressBook, FoldedKey, Folding, MAIN_ROOT, PrefixName, RelPath, SIDE_FOLDER};
use crate::package::Member;

/// What the fit asks of the game's own tree and the layers on it.
pub trait GameTree {
    /// Whether a folder lies at the address.
    fn has_folder(&self, address: &Address) -> bool;
}

/// One member and the address it goes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placement {
    /// Index of the package's members.
    pub member: usize,
    /// Where it goes, every folder spelled in one way throughout the fit.
    pub to: Address,
}

/// Why a member goes nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LeftOut {
    /// A `--skip` pattern meets it.
    Skipped,
    /// No `--only` pattern meets it.
    NotAmongOnly,
    /// No `--place` reaches it.
    NoPlace,
}

/// Something that decided the placement, with its evidence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// The one folder around everything was taken off.
    Wrapper(String),
    /// The one folder around everything stays, since the game has a folder of that name.
    NoWrapper(String),
    /// A `--place` was found inside the wrapper folder.
    InsideWrapper {
        /// The place's `FROM`.
        from: String,
        /// The wrapper folder.
        wrapper: String,
    },
    /// The package goes to the main root as it is.
    AsIs,
    /// `--place` decided.
    ByPlaces,
}

/// Where a package's files go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fit {
    /// In order of members.
    pub placements: Vec<Placement>,
    /// All folders that the placements need, each after the one above it, and empty ones.
    pub folders: Vec<Address>,
    /// Members that go nowhere, by index.
    pub left_out: Vec<(usize, LeftOut)>,
    /// What decided.
    pub findings: Vec<Finding>,
}

/// Places `members` and `folders` of a package by `rules`.
///
/// Without places, one wrapper folder around everything is taken off, unless the game has a folder
/// of that name at its top, and the rest goes to the main root. With places, the most particular
/// place that reaches a file decides; equally particular ones all do.
///
/// # Errors
/// [`FitError`].
pub fn fit(
    members: &[Member],
    folders: &[RelPath],
    rules: &Rules,
    book: &AddressBook,
    folding: Folding,
    tree: &dyn GameTree,
) -> Result<Fit, FitError> {
    let only = Patterns::new(&rules.only)?;
    let skip = Patterns::new(&rules.skip)?;
    let wrapper = wrapper_of(members, folders);
    let mut findings = Vec::new();
    let places = if rules.places.is_empty() {
        vec![by_own_folders(wrapper, tree, book, &mut findings)?]
    } else {
        findings.push(Finding::ByPlaces);
        let resolve = |place| Resolved::new(place, members, folders, wrapper, book, tree, &mut findings);
        rules.places.iter().map(resolve).collect::<Result<_, _>>()?
    };
    let mut placed = Placed::new(folding);
    let mut left_out = Vec::new();
    for (index, member) in members.iter().enumerate() {
        let inner = wrapper.and_then(|wrapper| member.path.below(wrapper));
        let met = |patterns: &Patterns| {
            patterns.meet(&member.path) || inner.as_ref().is_some_and(|inner| patterns.meet(inner))
        };
        if met(&skip) {
            left_out.push((index, LeftOut::Skipped));
        } else if !only.is_empty() && !met(&only) {
            left_out.push((index, LeftOut::NotAmongOnly));
        } else {
            let targets = targets(&places, &member.path)?;
            if targets.is_empty() {
                left_out.push((index, LeftOut::NoPlace));
            }
            for to in targets {
                placed.add_file(index, to, members)?;
            }
        }
    }
    if placed.placements.is_empty() {
        return Err(FitError::NothingPlaced { reason: nothing_reason(members, &left_out) });
    }
    for folder in folders.iter().filter(|folder| !skip.meet(folder) && only.is_empty()) {
        for to in targets(&places, folder)? {
            placed.add_folder(&to)?;
        }
    }
    Ok(Fit { placements: placed.placements, folders: placed.folders, left_out, findings })
}

fn nothing_reason(members: &[Member], left_out: &[(usize, LeftOut)]) -> String {
    match left_out.first() {
        _ if members.is_empty() => "it has none".to_owned(),
        Some((_, LeftOut::Skipped)) => "--skip leaves out all of them".to_owned(),
        Some((_, LeftOut::NotAmongOnly)) => "--only meets none of them".to_owned(),
        _ => "no --place reaches them".to_owned(),
    }
}

/// The one folder that holds everything, if there is one.
fn wrapper_of<'a>(members: &[Member], folders: &'a [RelPath]) -> Option<&'a RelPath> {
    let mut tops = folders.iter().filter(|folder| folder.parent().is_root());
    let top = tops.next()?;
    let alone = tops.next().is_none() && members.iter().all(|member| member.path.below(top).is_some());
    alone.then_some(top)
}

fn by_own_folders(
    wrapper: Option<&RelPath>,
    tree: &dyn GameTree,
    book: &AddressBook,
    findings: &mut Vec<Finding>,
) -> Result<Resolved, FitError> {
    let to = book.resolve(&format!("{MAIN_ROOT}:"))?;
    let from = match wrapper {
        Some(top) if tree.has_folder(&Address { root: to.root.clone(), path: top.clone() }) => {
            findings.push(Finding::NoWrapper(top.to_string()));
            RelPath::root()
        }
        Some(top) => {
            findings.push(Finding::Wrapper(top.to_string()));
            top.clone()
        }
        None => {
            findings.push(Finding::AsIs);
            RelPath::root()
        }
    };
    Ok(Resolved { from, to })
}

/// A place whose two ends are known: what lies at or below `from` goes to the same below `to`.
struct Resolved {
    from: RelPath,
    to: Address,
}

impl Resolved {
    fn new(
        place: &super::Place,
        members: &[Member],
        folders: &[RelPath],
        wrapper: Option<&RelPath>,
        book: &AddressBook,
        tree: &dyn GameTree,
        findings: &mut Vec<Finding>,
    ) -> Result<Self, FitError> {
        let mut to = book.resolve(&place.to)?;
        let text = place.from.replace('\\', "/");
        let text = text.trim_start_matches("./").trim_end_matches('/');
        if text.is_empty() || text == "." {
            return Ok(Self { from: RelPath::root(), to });
        }
        let key = Folding::Folded.key(text);
        let file = |key: &FoldedKey| {
            members.iter().map(|member| &member.path).find(|path| Folding::Folded.key(path.as_str()) == *key)
        };
        let folder = |key: &FoldedKey| folders.iter().find(|path| Folding::Folded.key(path.as_str()) == *key);
        let inside = wrapper.map(|wrapper| Folding::Folded.key(&format!("{wrapper}/{text}")));
        let mut is_file = true;
        let mut look = |key: &FoldedKey| {
            file(key).or_else(|| {
                is_file = false;
                folder(key)
            })
        };
        let from = match (look(&key), inside, wrapper) {
            (Some(found), _, _) => found.clone(),
            (None, Some(inside), Some(wrapper)) => {
                is_file = true;
                let found = file(&inside).or_else(|| {
                    is_file = false;
                    folder(&inside)
                });
                let found = found.ok_or_else(|| missing(place, members, folders))?;
                findings
                    .push(Finding::InsideWrapper { from: place.from.clone(), wrapper: wrapper.to_string() });
                found.clone()
            }
            _ => return Err(missing(place, members, folders)),
        };
        if is_file {
            let into_folder =
                to.path.is_root() || place.to.ends_with(['/', '\\', ':']) || tree.has_folder(&to);
            if into_folder {
                to.path = to.path.join(&RelPath::from_disk(from.name().to_owned()));
            }
        }
        Ok(Self { from, to })
    }
}

fn missing(place: &super::Place, members: &[Member], folders: &[RelPath]) -> FitError {
    let tops = folders.iter().map(|folder| (folder, "/")).chain(members.iter().map(|file| (&file.path, "")));
    let tops = tops.filter(|(path, _)| path.parent().is_root());
    FitError::FromMissing {
        from: place.from.clone(),
        tops: tops.map(|(path, end)| format!("{path}{end}")).take(8).collect(),
    }
}

/// All addresses that the most particular places give to `path`; a root itself is none.
fn targets(places: &[Resolved], path: &RelPath) -> Result<Vec<Address>, FitError> {
    let reaching: Vec<_> =
        places.iter().filter_map(|place| Some((place, path.below(&place.from)?))).collect();
    let Some(longest) = reaching.iter().map(|(place, _)| place.from.as_str().len()).max() else {
        return Ok(Vec::new());
    };
    let mut targets = Vec::new();
    for (place, below) in reaching.into_iter().filter(|(place, _)| place.from.as_str().len() == longest) {
        let address = Address { root: place.to.root.clone(), path: place.to.path.join(&below) };
        if address.path.parts().next().is_some_and(|top| top.eq_ignore_ascii_case(SIDE_FOLDER)) {
            return Err(FitError::Reserved { from: path.clone(), address });
        }
        if !address.path.is_root() {
            // The parts have passed the rules one by one; together they may be too long.
            RelPath::parse(address.path.as_str()).map_err(|problem| crate::address::AddressError::Name {
                text: address.to_string(),
                problem,
            })?;
            if !targets.contains(&address) {
                targets.push(address);
            }
        }
    }
    Ok(targets)
}

/// Placements so far, with one spelling for each folder.
struct Placed {
    folding: Folding,
    placements: Vec<Placement>,
    folders: Vec<Address>,
    files_at: HashMap<(PrefixName, FoldedKey), usize>,
    folders_at: BTreeMap<(PrefixName, FoldedKey), RelPath>,
}

impl Placed {
    fn new(folding: Folding) -> Self {
        Self {
            folding,
            placements: Vec::new(),
            folders: Vec::new(),
            files_at: HashMap::new(),
            folders_at: BTreeMap::new(),
        }
    }

    fn key(&self, address: &Address) -> (PrefixName, FoldedKey) {
        (address.root.clone(), self.folding.key(address.path.as_str()))
    }

    fn add_file(&mut self, member: usize, to: Address, members: &[Member]) -> Result<(), FitError> {
        let key = self.key(&to);
        if self.folders_at.contains_key(&key) {
            return Err(FitError::FileAgainstFolder { address: to });
        }
        if let Some(first) = self.files_at.insert(key, member) {
            return Err(FitError::TwoToOne {
                first: members[first].path.clone(),
                second: members[member].path.clone(),
                address: to,
            });
        }
        let parent = Address { root: to.root.clone(), path: to.path.parent() };
        let spelled = self.add_folder(&parent)?;
        let path = spelled.join(&RelPath::from_disk(to.path.name().to_owned()));
        self.placements.push(Placement { member, to: Address { root: to.root, path } });
        Ok(())
    }

    /// Notes a folder and those above it; gives its spelling in this fit.
    fn add_folder(&mut self, folder: &Address) -> Result<RelPath, FitError> {
        if folder.path.is_root() {
            return Ok(RelPath::root());
        }
        let key = self.key(folder);
        if let Some(spelled) = self.folders_at.get(&key) {
            return Ok(spelled.clone());
        }
        if self.files_at.contains_key(&key) {
            return Err(FitError::FileAgainstFolder { address: folder.clone() });
        }
        let above = Address { root: folder.root.clone(), path: folder.path.parent() };
        let spelled = self.add_folder(&above)?.join(&RelPath::from_disk(folder.path.name().to_owned()));
        self.folders.push(Address { root: folder.root.clone(), path: spelled.clone() });
        self.folders_at.insert(key, spelled.clone());
        Ok(spelled)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fit::Place;
    use proptest::prelude::*;

    struct Tree(&'static [&'static str]);
    impl GameTree for Tree {
        fn has_folder(&self, address: &Address) -> bool {
            self.0.iter().any(|folder| folder.eq_ignore_ascii_case(&address.to_string()))
        }
    }

    const TREE: Tree = Tree(&["game:data", "game:data/lamps", "game:bin", "docs:profiles"]);

    fn run(files: &[&str], rules: &Rules) -> Result<Fit, FitError> {
        let mut folders: Vec<RelPath> = Vec::new();
        let members: Vec<Member> = files
            .iter()
            .map(|file| {
                let path = RelPath::parse(file).unwrap();
                for folder in path.ancestors().map(|folder| RelPath::parse(folder).unwrap()) {
                    if !folders.contains(&folder) {
                        folders.push(folder);
                    }
                }
                Member { path, size_bytes: 1, modified: 0, executable: None, copy_of: None, source: 0 }
            })
            .collect();
        let names = ["game", "docs"].map(|name| PrefixName::parse(name).unwrap());
        let mut book = AddressBook { roots: names.to_vec(), ..Default::default() };
        let bin = book.resolve("bin").unwrap();
        book.spots.insert(PrefixName::parse("bin").unwrap(), bin);
        fit(&members, &folders, rules, &book, Folding::Folded, &TREE)
    }

    fn places(places: &[&str]) -> Rules {
        let places = places.iter().map(|place| Place::parse(place).unwrap()).collect();
        Rules { places, ..Rules::default() }
    }

    fn shown(fit: &Fit) -> Vec<String> {
        fit.placements.iter().map(|placement| placement.to.to_string()).collect()
    }

    #[test]
    fn a_wrapper_is_taken_off_unless_the_game_has_it() {
        let wrapped = run(&["Brass/data/a", "Brass/readme.txt"], &Rules::default()).unwrap();
        assert_eq!(shown(&wrapped), ["game:data/a", "game:readme.txt"]);
        assert_eq!(wrapped.findings, [Finding::Wrapper("Brass".into())]);
        let bare = run(&["DATA/lamps/a"], &Rules::default()).unwrap();
        assert_eq!(shown(&bare), ["game:DATA/lamps/a"]);
        let loose = run(&["a", "x/b"], &Rules::default()).unwrap();
        assert_eq!(shown(&loose), ["game:a", "game:x/b"]);
    }

    #[test]
    fn places_renames_and_two_roots() {
        let rules = places(&["bin=bin:", "profile=docs:profiles", "skin.dds=game:data/lamps/brass.dds"]);
        let fit = run(&["w/bin/hook.dll", "w/profile/a.ini", "w/skin.dds", "w/readme.txt"], &rules).unwrap();
        assert_eq!(shown(&fit), ["game:bin/hook.dll", "docs:profiles/a.ini", "game:data/lamps/brass.dds"]);
        assert_eq!(fit.left_out, [(3, LeftOut::NoPlace)]);
        let into = run(&["lamp.dds"], &places(&["lamp.dds=data/lamps"])).unwrap();
        assert_eq!(shown(&into), ["game:data/lamps/lamp.dds"], "an existing folder takes the file in");
        let both = run(&["a/x"], &places(&["a=game:one", "a=docs:two"])).unwrap();
        assert_eq!(shown(&both), ["game:one/x", "docs:two/x"]);
        let particular = run(&["a/x", "a/docs/y"], &places(&[".=game:", "a/docs=docs:"])).unwrap();
        assert_eq!(shown(&particular), ["game:a/x", "docs:y"]);
    }

    #[test]
    fn patterns() {
        let rules = Rules { skip: vec!["*.TXT".into(), "docs/".into()], ..Rules::default() };
        let fit = run(&["w/data/a.dds", "w/readme.txt", "w/docs/manual.pdf"], &rules).unwrap();
        assert_eq!(shown(&fit), ["game:data/a.dds"]);
        let rules = Rules { only: vec!["data/*.dds".into()], ..Rules::default() };
        let fit = run(&["w/data/a.dds", "w/data/b.ini", "w/readme.txt"], &rules).unwrap();
        assert_eq!(shown(&fit), ["game:data/a.dds"]);
    }

    #[test]
    fn mistakes_are_named() {
        assert!(matches!(run(&["a"], &places(&["b=game:"])), Err(FitError::FromMissing { .. })));
        assert!(matches!(run(&["a"], &places(&["a=nowhere:x"])), Err(FitError::Address(_))));
        assert!(matches!(run(&["a"], &places(&["a=game:../x"])), Err(FitError::Address(_))));
        assert!(matches!(
            run(&["x/a", "y/A"], &places(&["x=game:", "y=game:"])),
            Err(FitError::TwoToOne { .. })
        ));
        let clash = run(&["x", "y/b"], &places(&["x=game:q/z", "y=game:q/z"]));
        assert!(matches!(clash, Err(FitError::FileAgainstFolder { .. })));
        assert!(matches!(
            run(&[".ODDSTACK/originals/1", "x"], &Rules::default()),
            Err(FitError::Reserved { .. })
        ));
        assert!(matches!(
            run(&["a"], &places(&["a=docs:.oddstack/stage/0"])),
            Err(FitError::Reserved { .. })
        ));
        let none = Rules { skip: vec!["*".into()], ..Rules::default() };
        assert!(matches!(run(&["a"], &none), Err(FitError::NothingPlaced { .. })));
        assert!(Place::parse("nothing").is_err());
    }

    proptest! {
        #[test]
        fn every_file_is_placed_once_or_left_out_with_a_reason(
            files in proptest::collection::btree_set("[a-c](/[a-c]{1,2}){0,2}\\.(txt|dds)", 1..8),
            skip in proptest::option::of("[a-c]"),
            from in "[a-c]",
        ) {
            let files: Vec<&str> = files.iter().map(String::as_str).collect();
            let plain = Rules { skip: skip.into_iter().collect(), ..Rules::default() };
            let placed = Rules { places: vec![Place { from, to: "docs:in".into() }], ..plain.clone() };
            for rules in [plain, placed] {
                // Some rules fit no file; that is told, and nothing is placed.
                let Ok(fit) = run(&files, &rules) else { continue };
                let mut told: Vec<usize> = fit.placements.iter().map(|placement| placement.member).collect();
                told.extend(fit.left_out.iter().map(|(index, _)| *index));
                told.sort_unstable();
                prop_assert_eq!(told, (0..files.len()).collect::<Vec<_>>());
                let mut targets: Vec<String> = shown(&fit).iter().map(|target| target.to_lowercase()).collect();
                targets.sort();
                let count = targets.len();
                targets.dedup();
                prop_assert_eq!(targets.len(), count, "no two files go to one address");
                for placement in &fit.placements {
                    let parent = placement.to.path.parent();
                    prop_assert!(parent.is_root() || fit.folders.iter().any(|folder| folder.path == parent));
                }
            }
        }
    }
}
