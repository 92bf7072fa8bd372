//! From members and rules to placements.

use std::collections::{BTreeMap, HashMap};

use super::rules::Patterns;
use super::sheet::is_sheet;
use super::{FitError, Rules};
use crate::address::{Address, AddressBook, FoldedKey, Folding, MAIN_ROOT, PrefixName, RelPath, SIDE_FOLDER};
use crate::package::{Folder, Member, is_named_like_an_archive};

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
    /// It lies in an archive inside the package, which stays packed.
    Packed,
    /// It is the package's fit sheet.
    Sheet,
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
    folders: &[Folder],
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
        // A pattern may leave out the wrapper folder, and the archive inside that a file lies in.
        let tops = [wrapper, member.inner.as_ref()];
        let below: Vec<_> = tops.into_iter().flatten().filter_map(|top| member.path.below(top)).collect();
        let met = |patterns: &Patterns| {
            patterns.meet(&member.path) || below.iter().any(|below| patterns.meet(below))
        };
        if member.inner.is_some() && !reaches_into(&places, member) {
            // What lies in an archive inside is looked at only when a place leads there.
            left_out.push((index, LeftOut::Packed));
        } else if is_sheet(&member.path, wrapper) {
            left_out.push((index, LeftOut::Sheet));
        } else if met(&skip) {
            left_out.push((index, LeftOut::Skipped));
        } else if !only.is_empty() && !met(&only) {
            left_out.push((index, LeftOut::NotAmongOnly));
        } else {
            let targets = targets(&places, &member.path, member.inner.as_ref())?;
            if targets.is_empty() {
                left_out.push((index, LeftOut::NoPlace));
            }
            for to in targets {
                placed.add_file(index, to, members)?;
            }
        }
    }
    if rules.places.is_empty() {
        let own = placed.placements.iter().map(|placement| &members[placement.member].path);
        let (archives, others): (Vec<_>, Vec<_>) =
            own.partition(|path| is_named_like_an_archive(path.name()));
        if !archives.is_empty() && others.iter().all(|path| is_document(path)) {
            let archives: Vec<RelPath> = archives.into_iter().cloned().collect();
            let insides =
                archives.iter().filter_map(|archive| inside_of(archive, members, folders)).collect();
            return Err(FitError::OnlyPacked { archives, insides });
        }
    }
    if placed.placements.is_empty() {
        return Err(FitError::NothingPlaced { reason: nothing_reason(members, &left_out) });
    }
    for folder in folders.iter().filter(|folder| !skip.meet(&folder.path) && only.is_empty()) {
        for to in targets(&places, &folder.path, folder.inner.as_ref())? {
            placed.add_folder(&to)?;
        }
    }
    Ok(Fit { placements: placed.placements, folders: placed.folders, left_out, findings })
}

/// What to place of an archive inside; nothing if it was not looked into.
fn inside_of(archive: &RelPath, members: &[Member], folders: &[Folder]) -> Option<RelPath> {
    let top = RelPath::from_disk(format!("{archive}!"));
    let own_members = || members.iter().filter(|member| member.inner.as_ref() == Some(&top));
    own_members().next()?;
    let own =
        folders.iter().filter(|folder| folder.inner.as_ref() == Some(&top) && folder.path.parent() == top);
    let mut tops = own.map(|folder| &folder.path);
    let first = tops.next().filter(|_| tops.next().is_none());
    let wrapper = first.filter(|first| own_members().all(|member| member.path.below(first).is_some()));
    Some(wrapper.cloned().unwrap_or(top))
}

/// Whether a file is something to read, and no part of what the package adds.
fn is_document(path: &RelPath) -> bool {
    const ENDINGS: [&str; 10] = ["txt", "md", "pdf", "html", "htm", "rtf", "doc", "docx", "url", "nfo"];
    path.name().rsplit_once('.').is_some_and(|(_, ending)| ENDINGS.contains(&ending.to_lowercase().as_str()))
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
pub fn wrapper_of<'a>(members: &[Member], folders: &'a [Folder]) -> Option<&'a RelPath> {
    let own = folders.iter().filter(|folder| folder.inner.is_none()).map(|folder| &folder.path);
    let mut tops = own.filter(|path| path.parent().is_root());
    let top = tops.next()?;
    let mut own = members.iter().filter(|member| member.inner.is_none());
    (tops.next().is_none() && own.all(|member| member.path.below(top).is_some())).then_some(top)
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
        folders: &[Folder],
        wrapper: Option<&RelPath>,
        book: &AddressBook,
        tree: &dyn GameTree,
        findings: &mut Vec<Finding>,
    ) -> Result<Self, FitError> {
        let mut to = book.resolve(&place.to)?;
        let text = place.from.replace('\\', "/");
        let text = text.trim_start_matches("./").trim_end_matches('/');
        let text = text.strip_suffix("/.").unwrap_or(text);
        if text.is_empty() || text == "." {
            return Ok(Self { from: RelPath::root(), to });
        }
        let key = Folding::Folded.key(text);
        let file = |key: &FoldedKey| {
            members.iter().map(|member| &member.path).find(|path| Folding::Folded.key(path.as_str()) == *key)
        };
        let folder = |key: &FoldedKey| {
            let mut paths = folders.iter().map(|folder| &folder.path);
            paths.find(|path| Folding::Folded.key(path.as_str()) == *key)
        };
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

fn missing(place: &super::Place, members: &[Member], folders: &[Folder]) -> FitError {
    let own = folders.iter().filter(|folder| folder.inner.is_none());
    let tops = own.map(|folder| (&folder.path, "/")).chain(members.iter().map(|file| (&file.path, "")));
    let tops = tops.filter(|(path, _)| path.parent().is_root());
    FitError::FromMissing {
        from: place.from.clone(),
        tops: tops.map(|(path, end)| format!("{path}{end}")).take(8).collect(),
    }
}

fn reaches_into(places: &[Resolved], member: &Member) -> bool {
    let Some(inner) = &member.inner else { return false };
    places.iter().any(|place| place.from.below(inner).is_some())
}

/// All addresses that the most particular places give to `path`; a root itself is none. What lies in
/// an archive inside is reached only by places that begin at that archive or in it.
fn targets(places: &[Resolved], path: &RelPath, inner: Option<&RelPath>) -> Result<Vec<Address>, FitError> {
    let can_reach = |place: &Resolved| inner.is_none_or(|inner| place.from.below(inner).is_some());
    let reaching: Vec<_> = places
        .iter()
        .filter(|place| can_reach(place))
        .filter_map(|place| Some((place, path.below(&place.from)?)))
        .collect();
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
        let mut folders: Vec<Folder> = Vec::new();
        let members: Vec<Member> = files
            .iter()
            .map(|file| {
                let path = RelPath::parse(file).unwrap();
                let inner = |path: &RelPath| {
                    let end = path.as_str().rfind("!/").map(|end| end + 1);
                    end.or(path.as_str().ends_with('!').then_some(path.as_str().len()))
                        .map(|end| RelPath::parse(&path.as_str()[..end]).unwrap())
                };
                for path in path.ancestors().map(|folder| RelPath::parse(folder).unwrap()) {
                    let folder = Folder { inner: inner(&path), path };
                    if !folders.contains(&folder) {
                        folders.push(folder);
                    }
                }
                let inner = inner(&path);
                Member {
                    path,
                    size_bytes: 1,
                    modified: 0,
                    executable: None,
                    copy_of: None,
                    inner,
                    content: 0,
                }
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
    fn archives_inside_stay_packed_unless_a_place_leads_into_them() {
        let files = ["w/pack.7z", "w/pack.7z!/own/a", "w/pack.7z!/deep.zip", "w/pack.7z!/deep.zip!/b", "w/c"];
        let packed = run(&files, &places(&[".=game:"])).unwrap();
        assert_eq!(shown(&packed), ["game:w/pack.7z", "game:w/c"]);
        assert_eq!(packed.left_out[0], (1, LeftOut::Packed));
        let open = run(&files, &places(&["w/pack.7z!/.=bin:"])).unwrap();
        assert_eq!(shown(&open), ["game:bin/own/a", "game:bin/deep.zip"]);
        let deep = run(&files, &places(&["pack.7z!/own=game:x", "PACK.7z!/deep.zip!=game:y"])).unwrap();
        assert_eq!(shown(&deep), ["game:x/a", "game:y/b"], "the wrapper may be left out");
    }

    #[test]
    fn a_package_that_only_wraps_another_is_not_guessed_at() {
        let only = run(&["w/inner.7z", "w/readme.txt"], &Rules::default());
        assert!(
            matches!(only, Err(FitError::OnlyPacked { archives, insides }) if archives.len() == 1 && insides.is_empty())
        );
        let seen = run(&["w/inner.7z", "w/inner.7z!/Pack/a"], &Rules::default());
        let pack = RelPath::parse("w/inner.7z!/Pack").unwrap();
        assert!(matches!(seen, Err(FitError::OnlyPacked { insides, .. }) if insides == [pack]));
        assert!(run(&["w/inner.7z", "w/data/a.dds"], &Rules::default()).is_ok());
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
