//! Second folders: each has just what the game has in that lineup, what was changed there is never lost, and a build that was
//! cut short goes on.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use proptest::prelude::*;

use crate::after_stop::go_on;
use crate::failing::{copy_all, stride};
use crate::faulty::{Fault, Faulty};
use crate::stored::stored_as;
use crate::world::{
    NOW, Thing, Tree, World, add, exchange, go_to, id, permit, recover, reorder, tempdir, toggled, tweak,
    walk,
};
use odd_stack_core::change::{ChangeError, ChangeOptions, Edits};
use odd_stack_core::jobs::steps::{check_built, prepare_build, prepare_switch, save_lineup};
use odd_stack_core::jobs::{BuildError, BuildReport, BuildRequest, GoTo, LineupError, Reorder};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::Target;

const BIG: usize = 300 << 10;

fn request(world: &World, edits: Edits, by_link: bool) -> BuildRequest {
    BuildRequest {
        lineup: "season".to_owned(),
        folder: Some(world.path("second")),
        roots: vec![("docs".to_owned(), world.path("second-docs"))],
        without_roots: Vec::new(),
        by_link,
        edits,
        dry_run: false,
    }
}

fn build(ledger: &Ledger, request: &BuildRequest) -> Result<BuildReport, BuildError> {
    let permit = permit(ledger).map_err(LineupError::from)?;
    prepare_build(ledger, permit, request, true, &Silent)?.make(NOW, &Silent)
}

fn save(ledger: &Ledger) {
    save_lineup(ledger, &permit(ledger).unwrap(), "season", NOW).unwrap();
}

/// All in the second folder.
fn second(world: &World) -> Tree {
    let mut tree = Tree::new();
    for (folder, root) in [("second", "game"), ("second-docs", "docs")] {
        if world.path(folder).exists() {
            walk(&world.path(folder), root, &mut tree);
        }
    }
    tree
}

/// How two trees differ, in few words.
fn difference(one: &Tree, two: &Tree) -> Vec<String> {
    let told = |thing: Option<&Thing>| match thing {
        Some(Thing::File { content, modified, mode }) => {
            let start = String::from_utf8_lossy(&content[..content.len().min(60)]).into_owned();
            format!("{start:?} of {} bytes, {modified}, {mode:o}", content.len())
        }
        other => format!("{other:?}"),
    };
    let paths: BTreeSet<&String> = one.keys().chain(two.keys()).collect();
    // Of one content a file may have the time of either of its origins.
    let is_alike = |one: Option<&Thing>, two: Option<&Thing>| match (one, two) {
        (Some(Thing::File { content, mode, .. }), Some(Thing::File { content: other, mode: others, .. })) => {
            (content, mode) == (other, others)
        }
        (one, two) => one == two,
    };
    let differ = paths.into_iter().filter(|path| !is_alike(one.get(*path), two.get(*path)));
    differ.map(|path| format!("{path}: {} / {}", told(one.get(path)), told(two.get(path)))).collect()
}

/// How the game itself is in the lineup: it is switched there and back.
fn as_lineup(world: &World) -> Tree {
    let ledger = world.ledger();
    let permit = permit(&ledger).unwrap();
    let switching = prepare_switch(&ledger, permit, ("season", None), NOW, ChangeOptions::default(), &Silent);
    match switching {
        Err(LineupError::IsSo { .. }) => world.tree(),
        switching => {
            switching.unwrap().change.apply(&Silent).unwrap();
            let tree = world.tree();
            go_to(&ledger, &GoTo::Before(1)).unwrap();
            tree
        }
    }
}

#[derive(Debug, Clone)]
enum Deed {
    Put(usize, u8),
    Toggle(usize),
    Remove(usize),
    Tweak(u8),
    /// A file of the game's own changes in the game.
    Base(u8),
    Save,
    /// Whether big files may be links.
    Build(bool),
    /// Another content comes into the second folder, or a file goes, by a program or a person.
    Edit(usize, Option<u8>),
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        4 => (0..2usize, 0..3u8).prop_map(|(package, version)| Deed::Put(package, version)),
        2 => (0..2usize).prop_map(Deed::Toggle),
        1 => (0..2usize).prop_map(Deed::Remove),
        2 => (0..3u8).prop_map(Deed::Tweak),
        1 => (0..3u8).prop_map(Deed::Base),
        3 => Just(Deed::Save),
        4 => any::<bool>().prop_map(Deed::Build),
        3 => (0..16usize, proptest::option::of(0..3u8)).prop_map(|(file, content)| Deed::Edit(file, content)),
    ]
}

struct Life {
    world: World,
    /// What somebody put into the second folder, by its path there.
    edits: BTreeMap<String, Vec<u8>>,
    time: i64,
}

impl Life {
    fn new() -> Self {
        let big = "b".repeat(BIG);
        let world = World::with_game(&[
            ("game/quillhaven.exe", "program"),
            ("game/data/big.dat", &big),
            ("game/data/shared.txt", "base"),
            ("game/config/sea.ini", "[Sea]\nwaves = 1\nfog = 1\n"),
            ("docs/profile.ini", "[Keeper]\nname = nobody\n"),
        ]);
        save(&world.ledger());
        Self { world, edits: BTreeMap::new(), time: 1_600_000_000 }
    }

    fn put(&self, package: usize, version: u8) {
        let ledger = self.world.ledger();
        let name = format!("p{package}");
        let (own, text) = (format!("game/new{package}/own{version}.txt"), format!("{package} {version}"));
        let settings = match package {
            0 => format!("[Sea]\nwaves = {version}\nfog = 1\n"),
            _ => format!("[Sea]\nwaves = 1\nfog = {version}\n"),
        };
        let profile = format!("[Keeper]\nname = {text}\n");
        let _ = fs::remove_dir_all(self.world.path("packages").join(&name));
        let mut files = vec![(own.as_str(), text.as_str()), ("game/config/sea.ini", settings.as_str())];
        match version {
            0 => files.push(("game/data/shared.txt", &text)),
            1 => files.push(("game/data/big.dat", &text)),
            _ => files.push(("docs/profile.ini", &profile)),
        }
        let folder = self.world.package(&name, &files);
        let places = ["game=game:", "docs=docs:"];
        let places = if version == 2 { &places[..] } else { &places[..1] };
        let layer = ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name);
        // One that is the same already, or that is contested, stays as it was.
        let _ = match layer {
            Some(layer) => exchange(&ledger, layer.id, &folder, places, ChangeOptions::default()),
            None => add(&ledger, &folder, places, Target::Top, ChangeOptions::default()),
        };
    }

    fn live(&mut self, deed: &Deed) {
        let ledger = self.world.ledger();
        let layer = |package: &usize| {
            let name = format!("p{package}");
            ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name)
        };
        match deed {
            Deed::Put(package, version) => self.put(*package, *version),
            Deed::Toggle(package) => {
                if let Some(layer) = layer(package) {
                    reorder(&ledger, &toggled(&layer), ChangeOptions::default()).unwrap();
                }
            }
            Deed::Remove(package) => {
                if let Some(layer) = layer(package) {
                    reorder(&ledger, &Reorder::Remove(vec![layer.id]), ChangeOptions::default()).unwrap();
                }
            }
            Deed::Tweak(value) => {
                let value = value.to_string();
                let _ = tweak(&ledger, "game:config/sea.ini", &[("Sea.waves", Some(&value))]);
            }
            Deed::Base(content) => {
                let path = self.world.path("game/quillhaven.exe");
                fs::write(path, format!("program {content}")).unwrap();
            }
            Deed::Save => save(&ledger),
            Deed::Edit(number, content) => self.edit(*number, *content),
            Deed::Build(by_link) => self.build(&ledger, *by_link),
        }
    }

    fn edit(&mut self, number: usize, content: Option<u8>) {
        let now = second(&self.world);
        let files: Vec<&String> = now
            .iter()
            .filter(|(_, thing)| matches!(thing, Thing::File { .. }))
            .map(|(path, _)| path)
            .collect();
        let Some(path) = files.get(number % files.len().max(1)) else { return };
        let on_disk = self.on_disk(path);
        // As most programs do it, so that a link to the game's own is none any more.
        fs::remove_file(&on_disk).unwrap();
        self.edits.remove(*path);
        if let Some(content) = content {
            self.time += 10;
            let content = format!("edited {content} {}", self.time).into_bytes();
            fs::write(&on_disk, &content).unwrap();
            filetime::set_file_mtime(&on_disk, filetime::FileTime::from_unix_time(self.time, 0)).unwrap();
            self.edits.insert((*path).clone(), content);
        }
    }

    fn on_disk(&self, path: &str) -> PathBuf {
        match path.strip_prefix("docs/") {
            Some(below) => self.world.path("second-docs").join(below),
            None => self.world.path("second").join(path.strip_prefix("game/").unwrap()),
        }
    }

    fn build(&mut self, ledger: &Ledger, by_link: bool) {
        let before = self.world.tree();
        let mut request = request(&self.world, Edits::Stop, by_link);
        let built = match build(ledger, &request) {
            Err(BuildError::Edited { files }) => {
                let edited = |file: &String| self.edits.contains_key(&file.replacen(':', "/", 1));
                assert!(files.iter().all(edited), "{files:?} of {:?}", self.edits.keys());
                request.edits = Edits::Keep;
                build(ledger, &request).unwrap()
            }
            built => built.unwrap(),
        };
        assert_eq!(difference(&self.world.tree(), &before), Vec::<String>::new(), "the game stays as it is");
        let mut saved: BTreeSet<Vec<u8>> = BTreeSet::new();
        for row in &built.saved {
            saved.insert(fs::read(&row.saved).unwrap());
            if let Some(edit) = self.edits.remove(&row.address.replacen(':', "/", 1)) {
                assert!(saved.contains(&edit), "{row:?}");
            }
        }
        let (now, mut wanted) = (second(&self.world), as_lineup(&self.world));
        for (path, edit) in &self.edits {
            let there = now.get(path).unwrap_or_else(|| panic!("the edit of {path} is lost"));
            assert!(matches!(there, Thing::File { content, .. } if content == edit), "{path}");
            wanted.insert(path.clone(), there.clone());
        }
        assert_eq!(difference(&now, &wanted), Vec::<String>::new());
        let again = build(ledger, &request).unwrap();
        let changes = again.put.files + again.replaced.files + again.removed_files;
        assert_eq!(changes, 0, "twice is once");
        let found = check_built(ledger, "season", true, &Silent).unwrap();
        assert!(found.is_finished && found.behind_files == 0, "{found:?}");
        assert_eq!(found.drifted.len(), self.edits.len(), "{found:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if cfg!(windows) { 4 } else { 24 }, failure_persistence: None, ..ProptestConfig::default()
    })]
    #[test]
    fn a_second_folder_is_as_the_game_would_be_and_keeps_what_was_changed_there(
        deeds in proptest::collection::vec(deed(), 1..24)
    ) {
        let mut life = Life::new();
        deeds.iter().for_each(|deed| life.live(deed));
        life.live(&Deed::Build(false));
    }
}

/// A second folder that was built, edited, and has another version to come.
fn half_way() -> World {
    let life = Life::new();
    life.put(0, 0);
    life.put(1, 2);
    save(&life.world.ledger());
    build(&life.world.ledger(), &request(&life.world, Edits::Stop, false)).unwrap();
    fs::write(life.world.path("second/quillhaven.exe"), "mine").unwrap();
    life.put(0, 1);
    reorder(
        &life.world.ledger(),
        &Reorder::Remove(vec![id(&life.world.ledger(), "p1")]),
        ChangeOptions::default(),
    )
    .unwrap();
    save(&life.world.ledger());
    life.world
}

#[test]
fn a_build_that_fails_at_any_step_goes_on() {
    goes_on_wherever_it_fails(&half_way());
}

/// What is stored turns out to be damaged when it is to come into the second folder; it lies in the game, too.
#[test]
fn a_build_takes_lost_contents_again() {
    let world = half_way();
    let content = stored_as(world.ledger().folder(), "0 1");
    content.damage(b"0 x");
    fs::remove_dir_all(world.path("packages/p0")).unwrap();
    let edited = ["game/new0/own1.txt", "game/data/big.dat"].map(|path| world.path(path));
    edited.iter().for_each(|path| fs::write(path, "mine").unwrap());
    let kept = second(&world);
    let lost = build(&world.ledger(), &request(&world, Edits::Stop, false)).unwrap_err();
    let is_told = matches!(&lost, BuildError::CutShort { source, .. }
        if matches!(&**source, ChangeError::ContentsLost { files } if files.len() == 1));
    assert!(is_told, "{lost:?}");
    assert_eq!(difference(&second(&world), &kept), Vec::<String>::new());
    edited.iter().for_each(|path| fs::write(path, "0 1").unwrap());
    goes_on_wherever_it_fails(&world);
    assert_eq!(fs::read_to_string(world.path("second/new0/own1.txt")).unwrap(), "0 1");
    assert_eq!(stored_as(world.ledger().folder(), "0 1").bytes(), b"0 1");
}

fn goes_on_wherever_it_fails(world: &World) {
    let saved = tempdir();
    let parts = ["home", "second", "second-docs"];
    for part in parts {
        copy_all(&world.path(part), &saved.path().join(part));
    }
    let mut wanted = as_lineup(world);
    let game = world.tree();
    let single = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    for fault in [Fault::Refuse, Fault::Stop, Fault::LoseAll, Fault::LoseSome(7)] {
        for at in (0..).step_by(stride()) {
            assert!(at < 300, "it never gets done");
            for part in parts {
                fs::remove_dir_all(world.path(part)).unwrap();
                copy_all(&saved.path().join(part), &world.path(part));
            }
            let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
            let seam = Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
            let built = single.install(|| {
                build(&world.ledger_through(seam.clone()), &request(world, Edits::Stop, false)).is_ok()
            });
            if !seam.has_struck() {
                assert!(built);
                break;
            }
            seam.lose_unsynced();
            recover(&world.ledger());
            assert_eq!(difference(&world.tree(), &game), Vec::<String>::new());
            let again = build(&world.ledger(), &request(world, Edits::Stop, false)).unwrap();
            assert!(
                !built || again.put.files + again.replaced.files == 0,
                "what was done at step {at} is done"
            );
            let now = second(world);
            let mine = now["game/quillhaven.exe"].clone();
            assert!(
                matches!(&mine, Thing::File { content, .. } if content == b"mine"),
                "step {at} of {fault:?}"
            );
            wanted.insert("game/quillhaven.exe".to_owned(), mine);
            assert_eq!(difference(&now, &wanted), Vec::<String>::new(), "step {at} of {fault:?}");
            let found = check_built(&world.ledger(), "season", true, &Silent).unwrap();
            assert!(found.is_finished && found.behind_files == 0 && found.drifted.len() == 1, "{found:?}");
        }
    }
}

/// All that lies in a folder, that of Odd Stack included.
fn contents_in(folder: &Path, contents: &mut BTreeSet<Vec<u8>>) {
    for entry in fs::read_dir(folder).into_iter().flatten().map(Result::unwrap) {
        match entry.path() {
            path if path.is_dir() => contents_in(&path, contents),
            path => drop(contents.insert(fs::read(path).unwrap())),
        }
    }
}

/// A build stops, the second folder is played in, and the next build goes on.
#[test]
fn what_is_written_there_after_a_stop_is_never_lost() {
    let world = half_way();
    let saved = tempdir();
    let parts = ["home", "second", "second-docs"];
    for part in parts {
        copy_all(&world.path(part), &saved.path().join(part));
    }
    let single = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
    for at in (0..).step_by(if cfg!(windows) { 9 } else { 1 }) {
        for part in parts {
            fs::remove_dir_all(world.path(part)).unwrap();
            copy_all(&saved.path().join(part), &world.path(part));
        }
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = Arc::new(Faulty::new(Fault::Stop, at, aside.path().to_path_buf()));
        let _ = single
            .install(|| build(&world.ledger_through(seam.clone()), &request(&world, Edits::Stop, false)));
        if !seam.has_struck() {
            break;
        }
        let mut written = BTreeSet::new();
        for part in ["second", "second-docs"] {
            go_on(&world.path(part), &mut written);
        }
        recover(&world.ledger());
        build(&world.ledger(), &request(&world, Edits::Keep, false)).unwrap();
        let mut left = BTreeSet::new();
        parts.iter().for_each(|part| contents_in(&world.path(part), &mut left));
        let lost: Vec<_> =
            written.difference(&left).map(|content| String::from_utf8_lossy(content)).collect();
        assert!(lost.is_empty(), "step {at}: {lost:?}");
    }
}
