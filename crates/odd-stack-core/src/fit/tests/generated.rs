//! Detection on trees and packages made by chance, with labels known from how they were made: a thousand cases and
//! more, the same in every run.
//!
//! A tree has rows (folders built alike), folders of loose files of a kind, and add-ons. A package is a part of such a
//! tree: files that lie there, a folder that was held back from its row, new loose files, with wrappers, cut paths,
//! variants, optional folders, documents, backups or an archive around it.

use std::collections::{BTreeMap, BTreeSet};

use fastrand::Rng;

use super::game::{TestGame, fit_onto};
use crate::fit::{Candidate, Fit, FitError, Place, Rank, Rules};

const TREES: u64 = if cfg!(windows) { 6 } else { 24 };
const CASES_EACH: u64 = 50;

/// Pronounceable words that no game knows.
fn word(rng: &mut Rng) -> String {
    const HEADS: [&str; 14] =
        ["qua", "lo", "me", "ri", "sto", "fen", "bar", "gul", "tide", "oar", "wick", "har", "mo", "pel"];
    const TAILS: [&str; 12] =
        ["lune", "ster", "rick", "vane", "dow", "mast", "keel", "ra", "bell", "ten", "loom", "der"];
    format!("{}{}", rng.choice(HEADS).unwrap(), rng.choice(TAILS).unwrap())
}

fn words(rng: &mut Rng, count: usize) -> Vec<String> {
    let mut all: BTreeSet<String> = BTreeSet::new();
    while all.len() < count {
        all.insert(word(rng));
    }
    let mut all: Vec<String> = all.into_iter().collect();
    rng.shuffle(&mut all);
    all
}

/// A made-up game and what was held back from it.
struct Tree {
    files: Vec<String>,
    /// For each row its folder, and the files of one folder that the game has not, below the row's folder.
    rows: Vec<(String, Vec<String>)>,
    /// For each folder of loose files, the folder and files that the game has not.
    loose: Vec<(String, Vec<String>)>,
}

fn tree(rng: &mut Rng) -> Tree {
    let mut names = words(rng, 40);
    let mut name = || names.pop().unwrap();
    let (mut files, mut rows, mut loose) = (vec!["bin/quill.exe".to_owned()], Vec::new(), Vec::new());
    let top = name();
    for number in 0..3 {
        let row = match rng.u8(0..3) {
            0 => name(),
            1 => format!("{top}/{}", name()),
            _ => format!("{top}/{}/{}", name(), name()),
        };
        let (main, side) = (format!("qm{number}"), format!("qs{number}"));
        let (part, shared) = (name(), name());
        let built = |own: &str| {
            let mut built = vec![format!("{own}/{own}.{main}"), format!("{own}/{part}/{shared}.{side}")];
            built.extend((1..4).map(|nth| format!("{own}/{part}/{own}{nth:02}.{side}")));
            built
        };
        for folder in words(rng, 5) {
            files.extend(built(&folder).into_iter().map(|file| format!("{row}/{file}")));
        }
        rows.push((row, built(&format!("{}{number}", word(rng)))));
    }
    for number in 0..2 {
        let folder = if rng.bool() { name() } else { format!("{top}/{}", name()) };
        let (stem, ending) = (name(), format!("ql{number}"));
        let numbered = |nth: usize| format!("{stem}_{nth:03}.{ending}");
        files.extend((0..9).map(|nth| format!("{folder}/{}", numbered(nth))));
        loose.push((folder, (20..20 + rng.usize(1..4)).map(numbered).collect()));
    }
    for addon in words(rng, 3) {
        files.push(format!("mods/{addon}/addon.qjs"));
        files.push(format!("mods/{addon}/{addon}.qlu"));
    }
    Tree { files, rows, loose }
}

/// What must come out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Label {
    /// A person would put it there.
    Place,
    /// A person would hesitate.
    Ask,
}

/// A package: for each of its files where it belongs, none for nowhere; with what is to be chosen.
struct Case {
    label: Label,
    says: String,
    files: Vec<(String, Option<String>)>,
    choose: Option<String>,
    copies: Vec<String>,
}

fn case(rng: &mut Rng, tree: &Tree) -> Case {
    if rng.u8(0..8) == 0 {
        return known_by_their_names(rng, tree);
    }
    let (mut label, mut says, placed) = content(rng, tree);
    // As many folders as all have around them may be cut off.
    let depth = folders_around(&placed);
    let is_known = placed.iter().all(|file| tree.files.contains(file));
    let cut = if depth > 0 && rng.bool() { rng.usize(1..=depth) } else { 0 };
    let mut files: Vec<(String, Option<String>)> = placed
        .iter()
        .map(|file| (file.splitn(cut + 1, '/').last().unwrap_or_default().to_owned(), Some(file.clone())))
        .collect();
    if cut > 0 {
        says += &format!(", {cut} folders cut off");
        let is_told = |(path, to): &(String, Option<String>)| {
            let ends: Vec<&String> =
                tree.files.iter().filter(|file| file.ends_with(&format!("/{path}"))).collect();
            !is_known || ends.len() == 1 && Some(ends[0]) == to.as_ref()
        };
        if !files.iter().all(is_told) {
            label = Label::Ask;
        }
    }
    let mut case = Case { label, says, files: Vec::new(), choose: None, copies: Vec::new() };
    match rng.u8(0..10) {
        0 | 1 => {
            let (one, two) = rng.choice([("Option A", "Option B"), ("1k", "2k"), ("Red", "Blue")]).unwrap();
            case.says += ", two makes";
            let chosen = files.iter().map(|(path, to)| (format!("{two}/{path}"), to.clone()));
            let other = files.iter().map(|(path, _)| (format!("{one}/{path}"), None));
            files = chosen.chain(other).collect();
            case.choose = Some(two.to_owned());
            case.label = Label::Ask;
        }
        2 if is_known && cut == 0 => {
            case.says += ", a backup";
            let kept: Vec<String> = placed.iter().map(|file| format!("backup/{file}")).collect();
            files.extend(kept.iter().map(|path| (path.clone(), None)));
            case.copies = kept;
        }
        3 => {
            case.says += ", an optional folder";
            let extra = rng.choice(&tree.files[1..]).unwrap();
            files.push((format!("Optional/{extra}"), None));
        }
        4 | 5 => {
            case.says += ", documents";
            files.extend(["readme.txt", "docs/manual.pdf"].map(|path| (path.to_owned(), None)));
        }
        _ => {}
    }
    let wrapper = match rng.u8(0..4) {
        0 => "Lamp Oil 1.2/",
        1 => "lamp-oil-main/lamp oil/",
        _ => "",
    };
    let inside = if rng.u8(0..20) == 0 { "pack.zip!/" } else { "" };
    if !inside.is_empty() {
        case.says += ", in an archive inside";
        case.label = Label::Ask;
    }
    let around = |path: &String| format!("{inside}{wrapper}{path}");
    case.files = files.iter().map(|(path, to)| (around(path), to.clone())).collect();
    case.copies = case.copies.iter().map(around).collect();
    case.says += &format!(", in `{inside}{wrapper}`");
    if !inside.is_empty() {
        case.files.push(("pack.zip".to_owned(), None));
    }
    case
}

/// Files of two rows, each from the name of its row on.
fn known_by_their_names(rng: &mut Rng, tree: &Tree) -> Case {
    let mut files = Vec::new();
    for (row, _) in rng.choose_multiple(&tree.rows, 2) {
        let known: Vec<&String> =
            tree.files.iter().filter(|file| file.starts_with(&format!("{row}/"))).collect();
        // From the row's name on, or from those of the folders in it.
        let cut = if rng.bool() { row.len() + 1 } else { row.rfind('/').map_or(0, |at| at + 1) };
        let taken = rng.choose_multiple(known, 3);
        files.extend(taken.into_iter().map(|file| (file[cut..].to_owned(), Some(file.clone()))));
    }
    let says = "folders of two rows by their names".to_owned();
    Case { label: Label::Ask, says, files, choose: None, copies: Vec::new() }
}

/// How many folders from the top are around all the files.
fn folders_around(files: &[String]) -> usize {
    let folders = |file: &String| -> Vec<String> { file.split('/').map(str::to_owned).collect() };
    let first = folders(&files[0]);
    let is_around = |depth: &usize| {
        files.iter().all(|file| {
            let own = folders(file);
            own.len() > depth + 1 && own[*depth] == first[*depth]
        })
    };
    (0..first.len().saturating_sub(1)).take_while(is_around).count()
}

/// What is in a package, by the paths that it belongs to.
fn content(rng: &mut Rng, tree: &Tree) -> (Label, String, Vec<String>) {
    let under = |folder: &String, files: &[String]| -> Vec<String> {
        files.iter().map(|file| format!("{folder}/{file}")).collect()
    };
    match rng.u8(0..8) {
        0..=2 => {
            let count = rng.usize(2..7);
            let known: BTreeSet<String> =
                rng.choose_multiple(tree.files[1..].iter().cloned(), count).into_iter().collect();
            (Label::Place, "files that lie there".to_owned(), known.into_iter().collect())
        }
        3..=5 => {
            let (row, new) = rng.choice(&tree.rows).unwrap();
            (Label::Place, "a new folder of a row".to_owned(), under(row, new))
        }
        _ => {
            let (folder, new) = rng.choice(&tree.loose).unwrap();
            (Label::Place, "new loose files".to_owned(), under(folder, new))
        }
    }
}

#[derive(Debug, PartialEq, Eq)]
enum Ended {
    Right,
    /// Asked, with the right answer at that place among the answers of the last question.
    Asked(usize),
    Wrong(String),
}

fn placed_of(fit: &Fit, files: &[&str]) -> BTreeMap<String, String> {
    let placed = fit.placements.iter();
    placed.map(|it| (files[it.member].to_owned(), it.to.to_string().to_lowercase())).collect()
}

/// The rules with the answer given.
fn answered(rules: &Rules, candidate: &Candidate) -> Rules {
    let mut rules = rules.clone();
    rules.places.extend(candidate.places.iter().map(|place| Place { rank: Rank::Option, ..place.clone() }));
    rules.skip.extend(candidate.skip.iter().cloned());
    rules.tidy = true;
    rules
}

fn run(game: &TestGame, case: &Case) -> Ended {
    let files: Vec<&str> = case.files.iter().map(|(path, _)| path.as_str()).collect();
    let copies: Vec<&str> = case.copies.iter().map(String::as_str).collect();
    let wanted: BTreeMap<String, String> = case
        .files
        .iter()
        .filter_map(|(path, to)| Some((path.clone(), format!("game:{}", to.as_ref()?).to_lowercase())))
        .collect();
    let mut todo: Vec<(Rules, usize, usize)> = vec![(Rules::default(), 0, 0)];
    let mut last = String::new();
    while let Some((rules, asked, place)) = todo.pop() {
        let candidates = match fit_onto(game, &files, &rules, &copies) {
            Ok(fit) if placed_of(&fit, &files) == wanted => {
                return if asked == 0 { Ended::Right } else { Ended::Asked(place) };
            }
            Ok(fit) if asked == 0 => {
                return Ended::Wrong(format!("placed {:?}, by {:?}", placed_of(&fit, &files), fit.findings));
            }
            Ok(_) => continue,
            Err(FitError::ChoiceNeeded { choices, .. }) => {
                let wanted = case.choose.as_deref().unwrap_or_default().to_lowercase();
                let taken = choices.iter().filter_map(|choice| {
                    let is_meant =
                        |option: &&String| wanted == **option || wanted.ends_with(&format!(" {option}"));
                    Some((choice.id.clone(), choice.options.iter().find(is_meant)?.clone()))
                });
                let mut rules = rules;
                rules.chosen.extend(taken);
                last = format!("asked to choose of {choices:?}");
                if asked < 3 && !rules.chosen.is_empty() {
                    todo.push((rules, asked + 1, 0));
                }
                continue;
            }
            Err(FitError::Unclear(unclear)) => unclear.candidates,
            Err(FitError::OnlyPacked { candidates, .. }) => candidates,
            Err(error) if asked == 0 => return Ended::Wrong(format!("failed: {error}")),
            Err(error) => {
                last = format!("an answer failed: {error}");
                continue;
            }
        };
        last = format!("asked, with {:?}", candidates.iter().map(|it| &it.places).collect::<Vec<_>>());
        if asked < 3 && (candidates.len() <= 7 || rules == Rules::default()) {
            let each = candidates.iter().enumerate().rev();
            todo.extend(each.map(|(nth, candidate)| (answered(&rules, candidate), asked + 1, nth)));
        }
    }
    Ended::Wrong(last)
}

#[test]
fn of_a_thousand_packages_none_is_placed_wrongly_and_each_question_has_the_right_answer() {
    let (mut faults, mut plain, mut right, mut questions, mut firsts) = (Vec::new(), 0, 0, 0, 0);
    for seed in 0..TREES {
        let mut rng = Rng::with_seed(seed);
        let tree = tree(&mut rng);
        let addresses: Vec<String> = tree.files.iter().map(|file| format!("game:{file}")).collect();
        let addresses: Vec<&str> = addresses.iter().map(String::as_str).collect();
        let game =
            TestGame::new(&[("game", "/games/Quillhaven")], &addresses, Some(("game:bin/quill.exe", &[])));
        for number in 0..CASES_EACH {
            let case = case(&mut rng, &tree);
            let ended = run(&game, &case);
            plain += usize::from(case.label == Label::Place);
            match ended {
                Ended::Right => right += usize::from(case.label == Label::Place),
                Ended::Asked(place) => {
                    questions += 1;
                    firsts += usize::from(place == 0);
                }
                Ended::Wrong(what) => faults.push(format!(
                    "tree {seed}, case {number}, {}: {what}\n    for {:?}",
                    case.says, case.files
                )),
            }
        }
    }
    assert!(
        faults.is_empty(),
        "{} of {} are not right:\n{}",
        faults.len(),
        TREES * CASES_EACH,
        faults[..faults.len().min(12)].join("\n")
    );
    assert!(right * 10 >= plain * 8, "only {right} of {plain} plain ones are placed unasked");
    assert!(firsts * 10 >= questions * 7, "only {firsts} of {questions} right answers come first");
}
