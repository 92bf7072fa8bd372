//! From members and rules to placements.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::NothingReason;
use super::chosen::{part_seen, take};
use super::input::{FitInput, Package};
use super::outcome::{Fit, LeftOut, PartSeen};
use super::placed::Placed;
use super::resolve::{Resolved, aims, container_in};
use super::rules::Patterns;
use super::sheet::is_sheet;
use super::wrapper::wrapper_of;
use super::{Choice, Finding, FitError, GameTree, Part, Rules, Wishes, detect, inner};
use crate::address::{Address, AddressBook, RelPath};
use crate::members::{Folder, Member, is_named_like_an_archive};

/// The rules by which a package is placed, with nothing chosen yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RulesFound {
    /// Those given, or those that say what was found out.
    pub rules: Rules,
    /// What decided.
    pub findings: Vec<Finding>,
    /// Members that are left out, whatever will be chosen.
    pub left_out: BTreeMap<usize, LeftOut>,
}

/// Finds out the rules by which a package is placed, unless they say so themselves.
///
/// # Errors
/// [`FitError`], such as [`FitError::Unclear`].
pub fn draft(input: &FitInput<'_>) -> Result<RulesFound, FitError> {
    let FitInput { members, folders, rules, book, tree, hints, .. } = *input;
    let (only, skip) = (Patterns::new(&rules.only)?, Patterns::new(&rules.skip)?);
    let package = Package { members, folders, wrapper: wrapper_of(members, folders) };
    let mut reasons = left_out_by_rules(input, &package, (&only, &skip));
    let mut findings = Vec::new();
    let takes_part = |index: usize| !reasons.contains_key(&index);
    let effective = if rules.say_where() {
        findings.push(Finding::ByPlaces);
        let mut effective = rules.clone();
        if rules.tidy {
            let is_open = rules.choices.is_empty() && rules.parts.is_empty();
            let beside = detect::beside(members, folders, &takes_part, tree);
            if is_open {
                let places = resolved(rules, &package, book, tree)?;
                effective.parts = left_open(beside.parts, &package, &places);
                effective.choices = colliding(beside.choices, &rules.chosen, &package, &places)?;
            }
            reasons.extend(beside.aside);
            reasons.extend(inner::aside(input));
        }
        effective
    } else {
        let packed = only_packed(members, &takes_part);
        let mut rest = members.iter().enumerate().filter(|(index, _)| takes_part(*index)).peekable();
        let none = rest.peek().is_none();
        if acts_without_files(rules, &reasons) && rest.all(|(_, member)| is_document(&member.path)) {
            let documents = (0..members.len()).filter(|index| !reasons.contains_key(index));
            let documents: Vec<usize> = documents.collect();
            reasons.extend(documents.into_iter().map(|index| (index, LeftOut::Document)));
            return Ok(RulesFound { rules: rules.clone(), findings, left_out: reasons });
        }
        if none {
            return Err(FitError::NothingPlaced { reason: nothing_reason(members, &reasons) });
        }
        let found = match (packed, detect::detect(members, folders, &takes_part, hints, &rules.chosen, tree))
        {
            // The game may read such archives as they are, and keep them in a place of theirs.
            (_, Ok(found)) => found,
            (Some(archives), Err(_)) => {
                let insides = archives.iter().filter_map(|archive| inside_of(archive, members, folders));
                let candidates = inner::ways(input, &archives, insides);
                return Err(FitError::OnlyPacked { archives, candidates });
            }
            (None, Err(error)) => return Err(inner::offered(error, input, &takes_part)),
        };
        findings.extend(found.findings.iter().cloned());
        reasons.extend(found.aside.iter().copied());
        found.into_rules(rules)
    };
    Ok(RulesFound { rules: effective, findings, left_out: reasons })
}

/// What the rules leave out: sheets, what is skipped or not among what is wanted, copies of originals.
fn left_out_by_rules(
    input: &FitInput<'_>,
    package: &Package<'_>,
    (only, skip): (&Patterns, &Patterns),
) -> BTreeMap<usize, LeftOut> {
    let FitInput { members, rules, copies, .. } = *input;
    let mut reasons: BTreeMap<usize, LeftOut> = BTreeMap::new();
    for (index, member) in members.iter().enumerate() {
        // A pattern may leave out the wrapper folder, and the archive inside that a file lies in.
        let tops = [package.wrapper, member.inner.as_ref()];
        let below: Vec<_> = tops.into_iter().flatten().filter_map(|top| member.path.below(top)).collect();
        let met = |patterns: &Patterns| {
            patterns.meet(&member.path) || below.iter().any(|below| patterns.meet(below))
        };
        let reason = if is_sheet(&member.path, package.wrapper) {
            Some(LeftOut::Sheet)
        } else if met(skip) {
            Some(LeftOut::Skipped)
        } else if !only.is_empty() && !met(only) {
            Some(LeftOut::NotAmongOnly)
        } else if copies.contains(&index) && (rules.tidy || !rules.say_where()) {
            Some(LeftOut::Original)
        } else {
            None
        };
        reasons.extend(reason.map(|reason| (index, reason)));
    }
    reasons
}

/// Whether a sheet says what a layer does that has no files.
fn acts_without_files(rules: &Rules, reasons: &BTreeMap<usize, LeftOut>) -> bool {
    rules.wishes != Wishes::default() && reasons.values().any(|reason| *reason == LeftOut::Sheet)
}

fn resolved(
    rules: &Rules,
    package: &Package<'_>,
    book: &AddressBook,
    tree: &dyn GameTree,
) -> Result<Vec<Resolved>, FitError> {
    rules.places.iter().map(|place| Resolved::new(place, false, package, book, tree)).collect()
}

/// The parts that no place leads into.
fn left_open(parts: Vec<Part>, package: &Package<'_>, places: &[Resolved]) -> Vec<Part> {
    let is_placed = |part: &Part| {
        let folders = part.folder.iter().chain(part.places.iter().map(|place| &place.from));
        let mut folders = folders.filter_map(|folder| package.find(folder));
        folders.any(|folder| places.iter().any(|place| place.from.below(&folder.path).is_some()))
    };
    parts.into_iter().filter(|part| !is_placed(part)).collect()
}

/// The choices in which something is chosen, or of which the places would put two options' files at one address.
fn colliding(
    choices: Vec<Choice>,
    chosen: &BTreeMap<String, String>,
    package: &Package<'_>,
    places: &[Resolved],
) -> Result<Vec<Choice>, FitError> {
    let mut kept = Vec::new();
    for choice in choices {
        let mut targets: BTreeMap<Address, usize> = BTreeMap::new();
        let mut collide = chosen.contains_key(&choice.id);
        for (number, option) in choice.options.iter().enumerate() {
            let folder = option.folder.as_deref().and_then(|folder| package.find(folder));
            let is_inside = |member: &&Member| {
                folder.as_ref().is_some_and(|folder| member.path.below(&folder.path).is_some())
            };
            for member in package.members.iter().filter(is_inside) {
                for aim in aims(places, &member.path, member.inner.as_ref())? {
                    collide |= *targets.entry(aim.to).or_insert(number) != number;
                }
            }
        }
        if collide {
            kept.push(choice);
        }
    }
    Ok(kept)
}

/// Places the files of a package.
///
/// Rules that say where things go are followed: the place of the highest rank that reaches a file
/// decides, of those the most particular one; equally particular ones all do. Without such rules it is
/// found out from the package's folders and the game's.
///
/// # Errors
/// [`FitError`]; [`FitError::Unclear`] and [`FitError::ChoiceNeeded`] when a person must decide.
pub fn fit(input: &FitInput<'_>) -> Result<Fit, FitError> {
    let FitInput { members, folders, rules, book, folding, tree, .. } = *input;
    let (only, skip) = (Patterns::new(&rules.only)?, Patterns::new(&rules.skip)?);
    let package = Package { members, folders, wrapper: wrapper_of(members, folders) };
    let RulesFound { rules: effective, mut findings, left_out: mut reasons } = draft(input)?;
    let taken = take(&effective, &package, book, tree, &mut findings)?;
    let mut placed = Placed::new(folding);
    let reaches_into = |member: &Member| {
        let inner = member.inner.as_ref();
        inner.is_none_or(|inner| taken.places.iter().any(|place| place.from.below(inner).is_some()))
    };
    for (index, member) in members.iter().enumerate() {
        if !reaches_into(member) {
            // What lies in an archive inside is looked at only when a place leads there.
            reasons.insert(index, LeftOut::Packed);
        }
        if reasons.contains_key(&index) {
            continue;
        }
        if let Some(reason) = taken.left_out(&member.path) {
            reasons.insert(index, reason);
            continue;
        }
        let aims = aims(&taken.places, &member.path, member.inner.as_ref())?;
        if aims.is_empty() {
            reasons.insert(index, LeftOut::NoPlace);
        }
        for aim in aims {
            placed.add_file(index, aim, members)?;
        }
    }
    reasons.extend(placed.covered.iter().map(|member| (*member, LeftOut::Covered)));
    if members.len() == reasons.len() && !acts_without_files(&effective, &reasons) {
        return Err(FitError::NothingPlaced { reason: nothing_reason(members, &reasons) });
    }
    let aside = if effective.tidy { folders_aside(members, &reasons) } else { HashSet::new() };
    let wanted = |folder: &&Folder| {
        !skip.meet(&folder.path)
            && only.is_empty()
            && taken.left_out(&folder.path).is_none()
            && !aside.contains(folder.path.as_str())
    };
    for folder in folders.iter().filter(wanted) {
        for aim in aims(&taken.places, &folder.path, folder.inner.as_ref())? {
            placed.add_folder(&aim.to)?;
        }
    }
    let parts = taken.parts.iter().map(|(part, on, folders)| part_seen(part, *on, folders, members));
    let parts: Vec<PartSeen> = parts.collect();
    let mut folders = std::mem::take(&mut placed.folders);
    // What is in a container is no folder on disk.
    folders.retain(|folder| container_in(folder, tree).is_none());
    let placements = placed.into_placements();
    let choices = taken.choices_made(placements.iter().map(|placement| &members[placement.member].path));
    let passed_over = passed_over(&package, &reasons);
    let rules = Rules { chosen: taken.chosen, passed_over, ..effective.clone() };
    Ok(Fit { placements, folders, left_out: reasons.into_iter().collect(), findings, choices, parts, rules })
}

/// The folders that hold something, all of which is left out.
fn folders_aside<'m>(members: &'m [Member], reasons: &BTreeMap<usize, LeftOut>) -> HashSet<&'m str> {
    let (mut kept, mut aside) = (HashSet::new(), HashSet::new());
    for (index, member) in members.iter().enumerate() {
        let list = if reasons.contains_key(&index) { &mut aside } else { &mut kept };
        list.extend(member.path.ancestors());
    }
    aside.retain(|folder| !kept.contains(folder));
    aside
}

/// Files that no place reached, as few folders as will do.
fn passed_over(package: &Package<'_>, reasons: &BTreeMap<usize, LeftOut>) -> Vec<String> {
    let is_passed = |index: usize| reasons.get(&index) == Some(&LeftOut::NoPlace);
    let mut used: BTreeSet<&str> = BTreeSet::new();
    let own = package.members.iter().enumerate().filter(|(_, member)| member.inner.is_none());
    for (_, member) in own.clone().filter(|(index, _)| !is_passed(*index)) {
        used.extend(member.path.ancestors());
    }
    let mut passed: BTreeSet<&str> = BTreeSet::new();
    for (_, member) in own.filter(|(index, _)| is_passed(*index)) {
        let top = member.path.ancestors().find(|folder| !used.contains(folder));
        passed.insert(top.unwrap_or(member.path.as_str()));
    }
    let only = package.only_folders();
    passed.into_iter().map(|path| only.text_of(&RelPath::from_disk(path))).collect()
}

/// Members that the rules neither place nor left out when they were made: they are new.
pub fn unreached(fit: &Fit, members: &[Member], folders: &[Folder], remembered: &Rules) -> Vec<usize> {
    let package = Package { members, folders, wrapper: wrapper_of(members, folders) };
    let known: HashSet<RelPath> = remembered
        .passed_over
        .iter()
        .filter_map(|text| package.find(text))
        .map(|found| found.path)
        .filter(|path| !path.is_root())
        .collect();
    let no_place =
        fit.left_out.iter().filter(|(_, reason)| *reason == LeftOut::NoPlace).map(|(index, _)| *index);
    let is_known = |path: &RelPath| {
        known.contains(path) || path.ancestors().any(|above| known.contains(&RelPath::from_disk(above)))
    };
    no_place.filter(|index| !is_known(&members[*index].path)).collect()
}

/// Members that are no part of what a package adds: only to be read, sources, pictures, left behind.
pub(crate) fn set_aside(
    members: &[Member],
    folders: &[Folder],
    tree: &dyn GameTree,
) -> Vec<(usize, LeftOut)> {
    detect::aside(members, folders, &|_| true, tree)
}

/// The archives of a package that holds nothing but these and things to read: it is not guessed at.
fn only_packed(members: &[Member], takes_part: &dyn Fn(usize) -> bool) -> Option<Vec<RelPath>> {
    let own =
        members.iter().enumerate().filter(|(index, member)| member.inner.is_none() && takes_part(*index));
    let (archives, others): (Vec<_>, Vec<_>) =
        own.map(|(_, member)| &member.path).partition(|path| is_named_like_an_archive(path.name()));
    let is_packed = !archives.is_empty() && others.iter().all(|path| is_document(path));
    is_packed.then(|| archives.into_iter().cloned().collect())
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
pub(crate) fn is_document(path: &RelPath) -> bool {
    const ENDINGS: [&str; 10] = ["txt", "md", "pdf", "html", "htm", "rtf", "doc", "docx", "url", "nfo"];
    path.name().rsplit_once('.').is_some_and(|(_, ending)| ENDINGS.contains(&ending.to_lowercase().as_str()))
}

fn nothing_reason(members: &[Member], reasons: &BTreeMap<usize, LeftOut>) -> NothingReason {
    let own = reasons.values().filter(|reason| **reason != LeftOut::Packed);
    match own.min() {
        _ if members.is_empty() => NothingReason::Empty,
        Some(LeftOut::Skipped) => NothingReason::Skipped,
        Some(LeftOut::NotAmongOnly) => NothingReason::NotAmongOnly,
        Some(LeftOut::Original) => NothingReason::Originals,
        Some(LeftOut::NotChosen | LeftOut::PartOff) => NothingReason::NotChosen,
        Some(LeftOut::Sheet) if reasons.len() == members.len() && members.len() == 1 => {
            NothingReason::OnlySheet
        }
        _ => NothingReason::NoPlace,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::PrefixName;
    use crate::fit::tests::game::{TestGame, fit_onto, shown};
    use crate::fit::{Choice, ChoiceOption, Part, Place, Rank};
    use proptest::prelude::*;

    fn game() -> TestGame {
        let files = ["game:data/lamps/base.dds", "game:bin/quillhaven.exe", "docs:profiles/own.ini"];
        let mut game =
            TestGame::new(&[("game", "/games/Quillhaven"), ("docs", "/me/Documents/Q")], &files, None);
        let bin = game.book.resolve("bin").unwrap();
        game.book.spots.insert(PrefixName::parse("bin").unwrap(), bin);
        game
    }

    fn run(files: &[&str], rules: &Rules) -> Result<Fit, FitError> {
        fit_onto(&game(), files, rules, &[])
    }

    fn places(places: &[&str]) -> Rules {
        let places = places.iter().map(|place| Place::parse(place).unwrap()).collect();
        Rules { places, ..Rules::default() }
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
            matches!(only, Err(FitError::OnlyPacked { archives, candidates }) if (archives.len(), candidates.len()) == (1, 1))
        );
        let seen = run(&["w/inner.7z", "w/inner.7z!/Pack/a"], &Rules::default());
        let Err(FitError::OnlyPacked { candidates, .. }) = seen else { panic!("{seen:?}") };
        let places: Vec<String> =
            candidates.iter().map(|it| format!("{}={}", it.places[0].from, it.places[0].to)).collect();
        assert!(places.contains(&"w/inner.7z!/Pack=game:".to_owned()), "{places:?}");
        assert_eq!(places.last().map(String::as_str), Some(".=game:"), "left packed");
        assert!(run(&["w/inner.7z", "w/data/a.dds"], &Rules::default()).is_ok());
        // Unless the game reads such archives as they are.
        let files = ["game:packs/a.zip", "game:packs/b.zip", "game:packs/c.zip"];
        let game = TestGame::new(&[("game", "/games/Quillhaven")], &files, None);
        let packed =
            fit_onto(&game, &["w/inner.zip", "w/inner.zip!/a", "w/readme.txt"], &Rules::default(), &[]);
        assert_eq!(shown(&packed.unwrap()), ["game:packs/inner.zip"]);
    }

    #[test]
    fn patterns() {
        let rules = Rules { skip: vec!["*.TXT".into(), "docs/".into()], ..places(&["*=game:"]) };
        let fit = run(&["w/data/a.dds", "w/readme.txt", "w/docs/manual.pdf"], &rules).unwrap();
        assert_eq!(shown(&fit), ["game:data/a.dds"]);
        let both = ["w/data/a.dds", "w/data/lamps/b.dds"];
        for (pattern, met) in [("data/*.dds", 1), ("data/**/*.dds", 2), ("data/*", 2), ("*.dds", 2)] {
            let rules = Rules { only: vec![pattern.into()], ..places(&["*=game:"]) };
            assert_eq!(run(&both, &rules).unwrap().placements.len(), met, "{pattern}");
        }
        let rules = Rules { only: vec!["data/*.dds".into()], ..places(&["*=game:"]) };
        let fit = run(&["w/data/a.dds", "w/data/b.ini", "w/readme.txt"], &rules).unwrap();
        assert_eq!(shown(&fit), ["game:data/a.dds"]);
    }

    #[test]
    fn stars_stand_for_the_one_folder_there() {
        let rules = places(&["*/*=game:data"]);
        assert_eq!(shown(&run(&["a 1.2/b/x", "readme.txt", "__MACOSX/y"], &rules).unwrap()), ["game:data/x"]);
        assert!(matches!(run(&["a/x", "b/y"], &places(&["*=game:"])), Err(FitError::FromMissing { .. })));
    }

    #[test]
    fn a_higher_rank_decides_and_goes_over() {
        let mut rules = places(&["data=game:data", "data/lamps=game:lamps"]);
        rules.places.push(Place { rank: Rank::Option, ..Place::parse("data=docs:data").unwrap() });
        assert_eq!(shown(&run(&["data/lamps/a", "x"], &rules).unwrap()), ["docs:data/lamps/a"]);
        let mut rules = places(&["a=game:x"]);
        rules.places.push(Place { rank: Rank::Sheet, ..Place::parse("b=game:x").unwrap() });
        let fit = run(&["a/1", "b/1"], &rules).unwrap();
        assert_eq!((fit.placements[0].member, fit.left_out), (1, vec![(0, LeftOut::Covered)]));
    }

    #[test]
    fn choices_and_parts() {
        let option = |name: &str| ChoiceOption {
            name: name.into(),
            places: vec![Place::new(name.into(), "game:data".into())],
            ..ChoiceOption::default()
        };
        let rules = Rules {
            choices: vec![Choice {
                id: "finish".into(),
                ask: None,
                default: None,
                options: vec![option("polished"), option("matte")],
            }],
            parts: vec![Part {
                id: "extras".into(),
                places: vec![Place::new("more".into(), "game:data".into())],
                ..Part::default()
            }],
            ..places(&[".=game:"])
        };
        let files = ["polished/lamp", "matte/lamp", "more/lamp", "core"];
        let choose = |chosen: &[(&str, &str)]| {
            let chosen = chosen.iter().map(|(id, option)| ((*id).to_owned(), (*option).to_owned())).collect();
            run(&files, &Rules { chosen, ..rules.clone() })
        };
        assert!(
            matches!(choose(&[]), Err(FitError::ChoiceNeeded { choices, parts }) if (choices.len(), parts.len()) == (1, 1))
        );
        assert!(matches!(choose(&[("finish", "gold")]), Err(FitError::NoSuchOption { .. })));
        assert!(matches!(choose(&[("finish", "matte"), ("x", "y")]), Err(FitError::NoSuchChoice { .. })));
        let matte = choose(&[("finish", "Matte")]).unwrap();
        assert_eq!(shown(&matte), ["game:data/lamp", "game:core"]);
        assert_eq!(matte.left_out, [(0, LeftOut::NotChosen), (2, LeftOut::PartOff)]);
        let with_part = choose(&[("finish", "matte"), ("extras", "on")]).unwrap();
        assert_eq!(with_part.left_out, [(0, LeftOut::NotChosen), (1, LeftOut::Covered)], "a part goes over");
    }

    #[test]
    fn new_files_of_a_later_version_are_told_from_those_passed_over() {
        let first = run(&["w/a/x", "w/b/y", "w/c/z"], &places(&["w/a=game:"])).unwrap();
        assert_eq!(first.rules.passed_over, ["*/b", "*/c"]);
        let later = ["w 2/a/x", "w 2/b/new", "w 2/d"];
        let rules = Rules { places: places(&["*/a=game:"]).places, ..first.rules };
        let (members, folders) = crate::fit::tests::game::package(&later);
        let fit = run(&later, &rules).unwrap();
        assert_eq!(unreached(&fit, &members, &folders, &rules), [2]);
    }

    #[test]
    fn mistakes_are_named() {
        assert!(matches!(run(&["a"], &places(&["b=game:"])), Err(FitError::FromMissing { .. })));
        assert!(matches!(run(&["a"], &places(&["a=nowhere:x"])), Err(FitError::Address(_))));
        assert!(matches!(run(&["a"], &places(&["a=game:../x"])), Err(FitError::Address(_))));
        let into = run(&["a"], &places(&["a=game:data/core.qpk!/menu/"])).unwrap();
        assert_eq!(into.placements[0].to.to_string(), "game:data/core.qpk!/menu/a");
        assert_eq!(into.folders.iter().map(ToString::to_string).collect::<Vec<_>>(), ["game:data"]);
        assert!(matches!(
            run(&["x/a", "y/A"], &places(&["x=game:", "y=game:"])),
            Err(FitError::TwoToOne { .. })
        ));
        let clash = run(&["x", "y/b"], &places(&["x=game:q/z", "y=game:q/z"]));
        assert!(matches!(clash, Err(FitError::FileAgainstFolder { .. })));
        assert!(matches!(
            run(&[".ODDSTACK/originals/1", "x"], &places(&[".=game:"])),
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
            let placed = Rules { places: vec![Place::new(from, "docs:in".into())], ..plain.clone() };
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
