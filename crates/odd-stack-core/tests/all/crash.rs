//! Every command, failing at every single step: the next one finds the game before or after it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::archives::{Format, archive, file};
use crate::faulty::{Fault, Faulty};
use crate::stored::{stored, stored_as};
use crate::world::{
    NOW, Tree, World, add, exchange, go_to, id, permit, recover, reorder, settle, tempdir, tweak,
};
use odd_stack_core::change::{ChangeError, ChangeOptions, Edits};
use odd_stack_core::jobs::steps::{
    check_report, drifted_files, prepare_adopt, prepare_culprit, prepare_mend, stack,
};
use odd_stack_core::jobs::{
    AddError, AdoptRequest, CulpritStep, GoTo, MendError, Mending, Originals, PlacingRequest, Reorder,
    Ruling, StackReport,
};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::package::Limits;
use odd_stack_core::stack::Target;

pub type Act = fn(&World, &Ledger) -> bool;

const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

pub fn two_layers() -> World {
    two_layers_laid(false)
}

/// As [`two_layers`], all that may be laid as links or not.
pub fn two_layers_laid(by_link: bool) -> World {
    let world = World::with_game(&[
        ("game/bin/quillhaven.exe", "program"),
        ("game/data/lamps/brass.dds", "base brass"),
        ("game/data/lamps/copper.dds", "base copper"),
        ("game/config/harbour.ini", "fog=1"),
        ("docs/profiles/default.ini", "name=keeper"),
    ]);
    let world = if by_link { world.with_links() } else { world };
    let lamps =
        [("data/lamps/brass.dds", "lamps brass"), ("data/new/deep/a.txt", "a"), ("Extra/one.txt", "1")];
    let fog =
        [("data/lamps/brass.dds", "fog brass"), ("extra/two.txt", "2"), ("config/harbour.ini", "fog=9")];
    world.add(&world.package("lamps", &lamps), &[]).unwrap();
    world.add(&world.package("fog", &fog), &[]).unwrap();
    let quays = [
        ("game/data/lamps/copper.dds", "quays copper"),
        ("game/data/lamps/brass.dds", "quays brass"),
        ("game/quays/new/q.txt", "q"),
        ("docs/profiles/default.ini", "name=quays"),
    ];
    world.package("quays", &quays);
    world
}

/// Tree, stack and every stored content of a world at rest.
#[derive(Debug, PartialEq)]
struct State {
    tree: Tree,
    stack: StackReport,
    contents: BTreeSet<String>,
}

fn state(world: &World) -> State {
    let ledger = world.ledger();
    let folder = ledger.folder().to_path_buf();
    for rubbish in ["stage", "trash"] {
        let path = folder.join(rubbish);
        let is_empty = fs::read_dir(&path).map_or(!path.exists(), |mut entries| entries.next().is_none());
        assert!(is_empty, "{rubbish} is left over");
    }
    let contents = stored(&folder).into_iter().map(|content| content.hash).collect();
    State { tree: world.tree(), stack: stack(&ledger).unwrap(), contents }
}

pub fn copy_all(from: &Path, to: &Path) {
    copy_with_links(from, to, &mut BTreeMap::new());
}

/// Copies a tree; what is one file there is one file here. `known` are files copied before, by number.
fn copy_with_links(from: &Path, to: &Path, known: &mut BTreeMap<u64, PathBuf>) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy_with_links(&entry.path(), &target, known);
        } else if let Some(first) = number_of(&entry.path()).and_then(|number| known.get(&number)) {
            fs::hard_link(first, &target).unwrap();
        } else {
            known.extend(number_of(&entry.path()).map(|number| (number, target.clone())));
            fs::copy(entry.path(), &target).unwrap();
            let time = filetime::FileTime::from_last_modification_time(&entry.metadata().unwrap());
            filetime::set_file_mtime(&target, time).unwrap();
        }
    }
}

/// What tells a file with several names from others, where that is easy to ask.
fn number_of(path: &Path) -> Option<u64> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let metadata = fs::symlink_metadata(path).unwrap();
        (metadata.nlink() > 1).then(|| metadata.ino())
    }
    #[cfg(not(unix))]
    {
        let _ = path;
        None
    }
}

/// How far apart the steps are that fail. Each costs ten times as much under Wine, and what is done there is the same but for the
/// seam.
const STRIDE: usize = if cfg!(windows) { 6 } else { 1 };

/// Runs `act` with `fault` at its first step, its second, and so on, until it is done untouched.
fn fail_everywhere(act: Act, fault: Fault) {
    fail_everywhere_in(&two_layers(), act, fault, 0);
}

/// As [`fail_everywhere`], in a world where so many files are edited.
pub fn fail_everywhere_in(world: &World, act: Act, fault: Fault, edited_files: usize) {
    fail_and_count(world, act, fault, |_| edited_files);
}

/// `edited_files` says how many files are edited before the act, and when it is done.
pub fn fail_and_count(world: &World, act: Act, fault: Fault, edited_files: impl Fn(bool) -> usize) {
    let single = rayon_single();
    let saved = tempdir();
    let parts = ["game", "docs", "home"];
    let mut known = BTreeMap::new();
    for part in parts {
        copy_with_links(&world.path(part), &saved.path().join(part), &mut known);
    }
    let before = state(world);
    assert!(act(world, &world.ledger()), "it can be done at all");
    let after = state(world);
    assert_ne!(before, after);
    let mut ends = BTreeSet::new();
    for at in (0..).step_by(STRIDE) {
        assert!(at < 500, "it never gets done");
        let mut known = BTreeMap::new();
        for part in parts {
            fs::remove_dir_all(world.path(part)).unwrap();
            copy_with_links(&saved.path().join(part), &world.path(part), &mut known);
        }
        let fault = match fault {
            Fault::LoseSome(seed) => Fault::LoseSome(seed.wrapping_add(at * 7919)),
            other => other,
        };
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
        let was_done = single.install(|| act(world, &world.ledger_through(seam.clone())));
        if !seam.has_struck() {
            assert!(was_done);
            break;
        }
        seam.lose_unsynced();
        if fault == Fault::Refuse && !was_done {
            // Only when the last words can't be written are files in place already.
            let tree = world.tree();
            assert!(tree == before.tree || tree == after.tree, "a refused step {at} is taken back at once");
        }
        recover(&world.ledger());
        let now = state(world);
        assert!(now == before || now == after, "step {at} with {fault:?}: {}", difference(&before, &now));
        assert_eq!(world.check(true).drifted.len(), edited_files(now == after), "step {at}");
        ends.insert(now == after);
        if was_done {
            assert!(now == after, "what was said to be done at step {at} is done");
        }
    }
    if fault != Fault::Refuse && STRIDE == 1 {
        assert_eq!(ends.len(), 2, "some stops are taken back, and some finished");
    }
}

fn difference(before: &State, now: &State) -> String {
    let all: BTreeSet<&String> = before.tree.keys().chain(now.tree.keys()).collect();
    let paths = all.into_iter().filter(|path| before.tree.get(*path) != now.tree.get(*path));
    let shown: Vec<_> = paths
        .map(|path| format!("{path} was {:?}\n  is {:?}", before.tree.get(path), now.tree.get(path)))
        .collect();
    format!(
        "contents {} to {}, layers {} to {}\n{}",
        before.contents.len(),
        now.contents.len(),
        before.stack.layers.len(),
        now.stack.layers.len(),
        shown.join("\n")
    )
}

fn rayon_single() -> rayon::ThreadPool {
    rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap()
}

pub fn add_quays(world: &World, ledger: &Ledger) -> bool {
    let places = ["game=game:", "docs=docs:"];
    add(ledger, &world.path("packages/quays"), &places, Target::Below(id(ledger, "fog")), KEEP).is_ok()
}

pub fn lift_lamps(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lift(vec![id(ledger, "lamps")]), KEEP).is_ok()
}

pub fn move_lamps(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Move(id(ledger, "lamps"), Target::Top), KEEP).is_ok()
}

pub fn remove_both(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Remove(vec![id(ledger, "lamps"), id(ledger, "fog")]), KEEP).is_ok()
}

/// From a package that is taken in while it is listed, and of which not all is placed.
pub fn upgrade_lamps(world: &World, ledger: &Ledger) -> bool {
    let things = [
        file("lamps/data/lamps/brass.dds", "newer brass"),
        file("lamps/data/new/deep/a.txt", "a"),
        file("lamps/data/new/deep/b.txt", "b"),
        file("extras/readme.txt", "left out"),
    ];
    let package = world.path("packages/lamps.tar.gz");
    fs::write(&package, archive(Format::TarGz, &things)).unwrap();
    exchange(ledger, id(ledger, "lamps"), &package, &["lamps=game:"], KEEP).is_ok()
}

/// A folder of the old version becomes a file of the new one, and a file a folder.
pub fn turn_lamps(world: &World, ledger: &Ledger) -> bool {
    let files = [("data/new", "one file now"), ("Extra/one.txt/inside.txt", "a folder now")];
    let package = world.package("turned", &files);
    exchange(ledger, id(ledger, "lamps"), &package, &[".=game:"], KEEP).is_ok()
}

/// No file changes, and what was the game's own becomes a layer's.
pub fn adopt_copper(world: &World, ledger: &Ledger) -> bool {
    adopt(ledger, world.package("copper", &[("data/lamps/copper.dds", "base copper")]))
}

/// An original that lay aside goes to the ledger, and a folder is from then on the layer's.
fn adopt_with_original(world: &World, ledger: &Ledger) -> bool {
    let files = [("data/lamps/copper.dds", "put there by hand"), ("docs/manual.txt", "read"), ("x", "none")];
    adopt(ledger, world.package("copper", &files))
}

/// Copper was renamed aside by hand, and another put in its place; a folder came with that.
fn with_copper_aside() -> World {
    let world = two_layers();
    world.write("game/docs/manual.txt", "read");
    let (copper, aside) = ("game/data/lamps/copper.dds", "game/data/lamps/copper.dds.orig");
    world.care_again(&world.request());
    world.add(&world.path("packages/lamps"), &[]).unwrap();
    fs::rename(world.path(copper), world.path(aside)).unwrap();
    world.write(copper, "put there by hand");
    world
}

#[test]
fn an_original_put_aside_is_kept_or_stays_whatever_fails() {
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        // Before it two files are not what the base says.
        fail_and_count(&with_copper_aside(), adopt_with_original, fault, |done| if done { 0 } else { 2 });
    }
    let world = with_copper_aside();
    let before = world.tree();
    assert!(adopt_with_original(&world, &world.ledger()));
    let ledger = world.ledger();
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "copper")]), KEEP).unwrap();
    let after = world.tree();
    assert_eq!(after["game/data/lamps/copper.dds"], before["game/data/lamps/copper.dds.orig"]);
    assert!(!after.contains_key("game/data/lamps/copper.dds.orig") && !after.contains_key("game/docs"));
    assert!(world.check(true).drifted.is_empty());
    reorder(&ledger, &Reorder::Lay(vec![id(&ledger, "copper")]), KEEP).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/lamps/copper.dds")).unwrap(), "put there by hand");
}

fn adopt(ledger: &Ledger, package: std::path::PathBuf) -> bool {
    let request = AdoptRequest {
        package,
        name: None,
        version: None,
        variant: None,
        wanted: PlacingRequest::default(),
        limits: Limits::default(),
        originals: Some(Originals::Take),
    };
    let adopting = permit(ledger).map_err(AddError::from);
    let adopting = adopting.and_then(|permit| prepare_adopt(ledger, permit, &request, NOW, false, &Silent));
    adopting.is_ok_and(|adopting| adopting.change.apply(&Silent).is_ok())
}

/// A person's setting goes over into the new version.
pub fn carry_fog(world: &World, ledger: &Ledger) -> bool {
    let package = world.package("fog-2", &[("config/harbour.ini", "fog=9\nsea=3\n"), ("extra/two.txt", "2")]);
    exchange(ledger, id(ledger, "fog"), &package, &[".=game:"], ChangeOptions::default()).is_ok()
}

#[test]
fn an_edit_is_carried_over_or_stays_whatever_fails() {
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    // Each step takes its time in Wine.
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        let world = two_layers();
        world.write("game/config/harbour.ini", "fog=9\nmine=1\n");
        fail_everywhere_in(&world, carry_fog, fault, 1);
    }
}

/// A folder comes whole, with settings in it that blend and files beside them whose names are made from theirs.
pub fn lay_front(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lay(vec![id(ledger, "front")]), KEEP).is_ok()
}

pub fn front_lifted() -> World {
    let world = two_layers();
    let files = [
        ("quay/new/front.ini", "gulls=4\n"),
        ("quay/new/front.blend", "a scene"),
        ("quay/new/front.ini.part", "a part"),
        ("quay/new/front", "no ending"),
    ];
    world.add(&world.package("front", &files), &[".=game:"]).unwrap();
    tweak(&world.ledger(), "quay/new/front.ini", &[("gulls", Some("9"))]).unwrap();
    let ledger = world.ledger();
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "front")]), KEEP).unwrap();
    world
}

#[test]
fn a_folder_with_blended_settings_comes_whole_or_not_whatever_fails() {
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        fail_everywhere_in(&front_lifted(), lay_front, fault, 0);
    }
    let world = front_lifted();
    assert!(lay_front(&world, &world.ledger()));
    let content = |name: &str| fs::read_to_string(world.path("game/quay/new").join(name)).unwrap();
    assert_eq!(content("front.ini"), "gulls=9\n");
    assert_eq!((content("front.blend").as_str(), content("front").as_str()), ("a scene", "no ending"));
    assert_eq!(fs::read_dir(world.path("game/quay/new")).unwrap().count(), 4);
}

/// Folders of the game go with all in them, one that is empty among them.
pub fn take_folders_away(world: &World, ledger: &Ledger) -> bool {
    let sheet = "takes_away = [\"data\", \"empty\", \"config/*\"]\n\
                 place = [{ from = \"x\", to = \"game:x\" }]\n";
    let package = world.package("bare", &[("oddfit.toml", sheet), ("x", "x")]);
    add(ledger, &package, &[], Target::Top, KEEP).is_ok()
}

fn lift_bare(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lift(vec![id(ledger, "bare")]), KEEP).is_ok()
}

#[test]
fn folders_are_taken_away_and_come_back_whatever_fails() {
    let world = || {
        let world = two_layers();
        let ledger = world.ledger();
        let both = vec![id(&ledger, "lamps"), id(&ledger, "fog")];
        reorder(&ledger, &Reorder::Remove(both), KEEP).unwrap();
        drop(ledger);
        fs::create_dir_all(world.path("game/empty/inner")).unwrap();
        world.care_again(&world.request());
        world
    };
    let lifted = || {
        let world = world();
        assert!(take_folders_away(&world, &world.ledger()));
        world
    };
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        fail_everywhere_in(&world(), take_folders_away, fault, 0);
        fail_everywhere_in(&lifted(), lift_bare, fault, 0);
    }
    let world = world();
    let before = world.tree();
    assert!(take_folders_away(&world, &world.ledger()));
    let tree = world.tree();
    let gone = ["game/data", "game/empty", "game/config/harbour.ini"];
    assert!(
        gone.iter().all(|path| !tree.contains_key(*path)) && tree.contains_key("game/config"),
        "{tree:?}"
    );
    // What others put into them is there all the same.
    world.add(&world.path("packages/lamps"), &[".=game:"]).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/lamps/brass.dds")).unwrap(), "lamps brass");
    assert!(!world.path("game/data/lamps/copper.dds").exists());
    let ledger = world.ledger();
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "lamps")]), KEEP).unwrap();
    assert_eq!(world.tree(), tree);
    assert!(world.check(true).drifted.is_empty());
    reorder(&ledger, &Reorder::Remove(vec![id(&ledger, "bare")]), KEEP).unwrap();
    assert_eq!(world.tree(), before);
}

#[test]
fn things_of_another_kind_go_out_of_the_way_or_stay_whatever_fails() {
    let world = || {
        let world = two_layers();
        fs::remove_dir_all(world.path("game/data/new")).unwrap();
        fs::write(world.path("game/data/new"), "a file in place of a folder").unwrap();
        fs::remove_file(world.path("game/data/lamps/brass.dds")).unwrap();
        fs::create_dir(world.path("game/data/lamps/brass.dds")).unwrap();
        fs::write(world.path("game/data/lamps/brass.dds/mine.txt"), "mine").unwrap();
        world
    };
    let drifted = world().check(true).drifted.len();
    let restore: Act = |_, ledger| mend(ledger, Mending::Restore);
    let lift_all: Act = |_, ledger| {
        let both = vec![id(ledger, "lamps"), id(ledger, "fog")];
        reorder(ledger, &Reorder::Lift(both), KEEP).is_ok()
    };
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 3 }) {
        fail_and_count(&world(), restore, fault, |done| if done { 0 } else { drifted });
        // Nobody needs the folder any more, so the file stays there, and is the only thing that nobody knows.
        fail_and_count(&world(), lift_all, fault, |done| if done { 1 } else { drifted });
    }
}

/// The lower layer wins from then on.
pub fn settle_brass(_: &World, ledger: &Ledger) -> bool {
    settle(ledger, "data/lamps/brass.dds", Ruling::With(id(ledger, "lamps"))).is_ok()
}

/// A person's own settings, in a file of a layer and in one of the game.
pub fn tweak_both(_: &World, ledger: &Ledger) -> bool {
    tweak(ledger, "docs:profiles/default.ini", &[("name", Some("me"))]).is_ok()
        && tweak(ledger, "config/harbour.ini", &[("sea", Some("3"))]).is_ok()
}

/// Another layer's settings are blended with those of one that is laid.
pub fn add_sea(world: &World, ledger: &Ledger) -> bool {
    let package = world.package("sea", &[("config/harbour.ini", "fog=1\nsea=2\n")]);
    add(ledger, &package, &[".=game:"], Target::Top, KEEP).is_ok()
}

pub fn mend(ledger: &Ledger, mending: Mending) -> bool {
    let mended = permit(ledger).map_err(MendError::from).and_then(|permit| {
        let files = drifted_files(ledger, &["game:*".to_owned()], &Silent)?;
        let files: Vec<_> = files.into_iter().map(|file| (file, mending)).collect();
        prepare_mend(ledger, permit, &files, "mend", NOW, &Silent)
    });
    mended.is_ok_and(|plan| plan.change.is_none_or(|change| change.apply(&Silent).is_ok()))
}

/// Two layers, and every kind of drift.
pub fn drifted_world() -> World {
    let world = two_layers();
    world.write("game/config/harbour.ini", "fog=9\nmine=1\n");
    world.write("game/data/lamps/brass.dds", "scratched");
    fs::remove_file(world.path("game/data/new/deep/a.txt")).unwrap();
    world.write("game/data/lamps/copper.dds", "newer copper");
    world.write("game/data/lamps/iron.dds", "new iron");
    world.write("game/data/new/deep/b.txt", "b");
    world
}

#[test]
fn files_are_mended_or_as_they_were_whatever_fails() {
    let mendings: [(Act, usize); 3] = [
        // The game's own file is for its client to repair, or to be accepted.
        (|_, ledger| mend(ledger, Mending::Restore), 1),
        (|_, ledger| mend(ledger, Mending::Keep), 1),
        // What is gone can't be the game's own.
        (|_, ledger| mend(ledger, Mending::Accept), 1),
    ];
    for (act, left) in mendings {
        for fault in
            [Fault::Stop, Fault::Refuse, Fault::LoseAll].into_iter().take(if cfg!(windows) { 1 } else { 3 })
        {
            fail_and_count(&drifted_world(), act, fault, |is_done| if is_done { left } else { 6 });
        }
    }
}

#[test]
fn different_files_are_mended_differently_at_once() {
    let world = drifted_world();
    assert!(tweak(&world.ledger(), "docs:profiles/default.ini", &[("name", Some("me"))]).is_ok());
    let ledger = world.ledger();
    let files = drifted_files(&ledger, &["game:*".to_owned()], &Silent).unwrap();
    let files: Vec<_> = files
        .into_iter()
        .map(|file| {
            let mending = match file.drifted.drift.address.path.as_str() {
                "config/harbour.ini" | "data/new/deep/a.txt" => Mending::Keep,
                "data/lamps/brass.dds" | "data/lamps/iron.dds" => Mending::Restore,
                _ => Mending::Accept,
            };
            (file, mending)
        })
        .collect();
    let plan = prepare_mend(&ledger, permit(&ledger).unwrap(), &files, "mend", NOW, &Silent).unwrap();
    plan.change.unwrap().apply(&Silent).unwrap();
    assert!(world.check(true).drifted.is_empty());
    let content = |path: &str| fs::read_to_string(world.path(path)).unwrap();
    assert_eq!(content("game/data/lamps/brass.dds"), "fog brass");
    assert_eq!(content("game/data/lamps/copper.dds"), "newer copper");
    assert_eq!(content("docs/profiles/default.ini"), "name=me");
    assert!(!world.path("game/data/lamps/iron.dds").exists());
    assert!(
        world.path("game/data/new/deep/b.txt").exists() && !world.path("game/data/new/deep/a.txt").exists()
    );
}

#[test]
fn what_is_mended_is_what_was_said() {
    let content = |world: &World, path: &str| fs::read_to_string(world.path(path)).unwrap();
    let layers = |world: &World| ["fog", "lamps"].map(|name| id(&world.ledger(), name)).to_vec();
    let world = drifted_world();
    assert!(mend(&world.ledger(), Mending::Keep));
    assert_eq!(content(&world, "game/config/harbour.ini"), "fog=9\nmine=1\n");
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "scratched");
    assert!(!world.path("game/data/new/deep/a.txt").exists());
    reorder(&world.ledger(), &Reorder::Lift(layers(&world)), KEEP).unwrap();
    assert_eq!(
        content(&world, "game/config/harbour.ini"),
        "fog=1\nmine=1\n",
        "the edit stays, the layer is off"
    );
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "scratched");
    assert_eq!(content(&world, "game/data/lamps/iron.dds"), "new iron");
    let own = id(&world.ledger(), "own edits");
    reorder(&world.ledger(), &Reorder::Remove(vec![own]), KEEP).unwrap();
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "base brass");
    assert!(!world.path("game/data/lamps/iron.dds").exists() && !world.path("game/data/new").exists());

    let world = drifted_world();
    assert!(mend(&world.ledger(), Mending::Accept));
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "fog brass", "the layer lies on top again");
    reorder(&world.ledger(), &Reorder::Lift(layers(&world)), KEEP).unwrap();
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "scratched");
    assert_eq!(content(&world, "game/config/harbour.ini"), "fog=9\nmine=1\n");
    assert!(world.check(true).drifted.is_empty());
    let kept = world.path("home/ledgers/quillhaven/kept");
    let saved = fs::read_dir(kept).unwrap().next().unwrap().unwrap().path();
    assert_eq!(fs::read_to_string(saved.join("game/data/lamps/brass.dds")).unwrap(), "base brass");

    let world = drifted_world();
    assert!(mend(&world.ledger(), Mending::Restore));
    assert_eq!(content(&world, "game/data/lamps/brass.dds"), "fog brass");
    assert!(
        world.path("game/data/new/deep/a.txt").exists() && !world.path("game/data/lamps/iron.dds").exists()
    );
}

const ACTS: [Act; 9] = [
    add_quays,
    lift_lamps,
    move_lamps,
    remove_both,
    upgrade_lamps,
    turn_lamps,
    adopt_copper,
    settle_brass,
    add_sea,
];

#[test]
fn own_settings_are_there_or_not_whatever_fails() {
    // Two changes one after the other: what lies between them is an end, too.
    for fault in [Fault::Stop, Fault::LoseSome(104_729)].into_iter().take(if cfg!(windows) { 1 } else { 2 }) {
        let world = two_layers();
        assert!(tweak(&world.ledger(), "docs:profiles/default.ini", &[("name", Some("me"))]).is_ok());
        fail_everywhere_in(&world, tweak_both, fault, 0);
    }
}

fn undo(_: &World, ledger: &Ledger) -> bool {
    go_to(ledger, &GoTo::Before(1)).is_ok()
}

fn begin_search(_: &World, ledger: &Ledger) -> bool {
    let permit = permit(ledger).unwrap();
    match prepare_culprit(ledger, permit, CulpritStep::Begin, NOW, KEEP, &Silent) {
        Ok(searching) => searching.change.apply(&Silent).is_ok(),
        Err(_) => false,
    }
}

#[test]
fn a_search_for_a_culprit_begins_or_does_not() {
    for fault in [Fault::Refuse, Fault::Stop] {
        fail_everywhere(begin_search, fault);
    }
}

/// A removed layer comes back with a settlement, another goes, an older version takes its place again.
#[test]
fn going_back_stops_anywhere() {
    let made: [fn(&World); 3] = [
        |world| {
            settle(&world.ledger(), "data/lamps/brass.dds", Ruling::With(id(&world.ledger(), "lamps")))
                .unwrap();
            let both = [id(&world.ledger(), "fog"), id(&world.ledger(), "lamps")];
            reorder(&world.ledger(), &Reorder::Remove(both.into()), ChangeOptions::default()).unwrap();
        },
        |world| assert!(add_quays(world, &world.ledger())),
        |world| {
            let ledger = world.ledger();
            let (fog, quays) = (id(&ledger, "fog"), world.path("packages/quays"));
            exchange(&ledger, fog, &quays, &["game=game:", "docs=docs:"], KEEP).unwrap();
        },
    ];
    for make in made {
        for fault in [Fault::Refuse, Fault::Stop, Fault::LoseAll] {
            let world = two_layers();
            make(&world);
            fail_everywhere_in(&world, undo, fault, 0);
        }
    }
}

#[test]
fn refused_at_every_step() {
    ACTS.into_iter().for_each(|act| fail_everywhere(act, Fault::Refuse));
}

#[test]
fn stopped_at_every_step() {
    ACTS.into_iter().for_each(|act| fail_everywhere(act, Fault::Stop));
}

#[test]
fn power_lost_at_every_step() {
    ACTS.into_iter().for_each(|act| fail_everywhere(act, Fault::LoseAll));
}

#[test]
fn power_lost_at_every_step_and_some_of_it_written() {
    for (seed, act) in (1..).zip(ACTS) {
        fail_everywhere(act, Fault::LoseSome(seed * 104_729));
    }
}

#[test]
fn what_is_laid_as_links_comes_and_goes_whole_whatever_fails() {
    for (act, fault) in [
        (add_quays as Act, Fault::LoseSome(7919)),
        (lift_lamps, Fault::Refuse),
        (upgrade_lamps, Fault::LoseSome(104_729)),
        (turn_lamps, Fault::Stop),
        (remove_both, Fault::LoseAll),
    ] {
        fail_everywhere_in(&two_layers_laid(true), act, fault, 0);
    }
}

/// Stored contents that are damaged come from their package again, and the ledger has them as soon as they are laid.
#[test]
fn lost_contents_are_fetched_or_not_whatever_fails() {
    let lay_lamps: Act = |_, ledger| reorder(ledger, &Reorder::Lay(vec![id(ledger, "lamps")]), KEEP).is_ok();
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        let world = two_layers();
        let ledger = world.ledger();
        reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "lamps")]), KEEP).unwrap();
        let content = stored_as(ledger.folder(), "a");
        content.damage(b"A");
        drop(ledger);
        fail_everywhere_in(&world, lay_lamps, fault, 0);
        assert_eq!(fs::read_to_string(world.path("game/data/new/deep/a.txt")).unwrap(), "a");
        fs::remove_dir_all(world.path("packages/lamps")).unwrap();
        let ledger = world.ledger();
        reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "lamps")]), KEEP).unwrap();
        assert!(lay_lamps(&world, &ledger), "the ledger has it again");
    }
}

#[test]
fn a_recovery_that_is_stopped_is_finished_by_the_next() {
    let world = two_layers();
    let before = world.tree();
    for at in 12..40 {
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let broken = |at| Arc::new(Faulty::new(Fault::Stop, at, aside.path().to_path_buf()));
        if remove_both(&world, &world.ledger_through(broken(at))) {
            break;
        }
        for again in 0..6 {
            let ledger = world.ledger_through(broken(again));
            let _ = odd_stack_core::front::for_tests::heal(&ledger);
        }
        recover(&world.ledger());
        if world.ledger().layers().unwrap().is_empty() {
            assert!(world.check(true).drifted.is_empty());
            return;
        }
        assert_eq!(world.tree(), before);
    }
    panic!("no stop was ever finished");
}

/// A copy that shares its blocks is not read, so it would pass on what the stop has damaged.
#[test]
fn after_a_stop_stored_contents_are_read_when_first_used() {
    let world = two_layers_laid(true);
    let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
    let through = |at| {
        let mut faulty = Faulty::new(Fault::Stop, at, aside.path().to_path_buf());
        faulty.shares_blocks = true;
        world.ledger_through(Arc::new(faulty))
    };
    let turn = |laid: bool| {
        let ledger = through(u64::MAX);
        let lamps = vec![id(&ledger, "lamps")];
        let reorder_to = if laid { Reorder::Lay(lamps) } else { Reorder::Lift(lamps) };
        reorder(&ledger, &reorder_to, KEEP)
    };
    turn(false).unwrap();
    let cut_short = through(8);
    reorder(&cut_short, &Reorder::Lift(vec![id(&cut_short, "fog")]), KEEP).unwrap_err();
    drop(cut_short);
    recover(&world.ledger());
    let content = stored_as(world.ledger().folder(), "a");
    content.damage(b"A");
    // Where its package is gone, too.
    fs::remove_dir_all(world.path("packages/lamps")).unwrap();
    match turn(true) {
        Err(ChangeError::ContentsLost { files }) => {
            assert_eq!(files[0].address.path.as_str(), "data/new/deep/a.txt")
        }
        other => panic!("a damaged content was laid: {other:?}"),
    }
    content.damage(b"a");
    turn(true).unwrap();
    turn(false).unwrap();
    // Read once, it is in doubt no more: blocks are shared again without a look.
    content.damage(b"A");
    turn(true).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/new/deep/a.txt")).unwrap(), "A");
}

/// As a scanner of viruses does, or the game.
#[test]
fn what_another_program_holds_is_in_nobodys_way() {
    let world = two_layers();
    let before = world.tree();
    let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
    let mut faulty = Faulty::new(Fault::Stop, u64::MAX, aside.path().to_path_buf());
    faulty.holds_trash = true;
    let seam = Arc::new(faulty);
    let all = |ledger: &Ledger| vec![id(ledger, "lamps"), id(ledger, "fog")];
    for _ in 0..3 {
        let ledger = world.ledger_through(seam.clone());
        reorder(&ledger, &Reorder::Lift(all(&ledger)), KEEP).unwrap();
        assert_eq!(fs::read_to_string(world.path("game/data/lamps/brass.dds")).unwrap(), "base brass");
        reorder(&ledger, &Reorder::Lay(all(&ledger)), KEEP).unwrap();
        drop(ledger);
        assert!(world.check(true).drifted.is_empty());
        assert_eq!(fs::read_to_string(world.path("game/data/lamps/brass.dds")).unwrap(), "fog brass");
    }
    recover(&world.ledger());
    assert_eq!(world.tree(), before, "nothing is left when it lets go");
}

#[test]
fn a_folder_that_a_program_stands_in_goes_later() {
    let world = two_layers();
    let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
    let mut faulty = Faulty::new(Fault::Stop, u64::MAX, aside.path().to_path_buf());
    faulty.stands_in = Some("deep");
    let held = Arc::new(faulty);
    let lamps = |ledger: &Ledger| vec![id(ledger, "lamps")];
    let left = || -> Vec<PathBuf> {
        let report = check_report(&world.ledger(), &world.check(false), false).unwrap();
        report.folders_left.iter().map(PathBuf::from).collect()
    };
    let (deep, above) = (world.path("game/data/new/deep"), world.path("game/data/new"));
    let lift = || {
        let ledger = world.ledger_through(held.clone());
        reorder(&ledger, &Reorder::Lift(lamps(&ledger)), KEEP).unwrap();
    };
    lift();
    assert!(deep.is_dir() && !deep.join("a.txt").exists());
    assert_eq!(left(), [deep.clone(), above.clone()]);
    assert!(world.check(false).drifted.is_empty());
    // It is wanted again, and then not.
    reorder(&world.ledger(), &Reorder::Lay(lamps(&world.ledger())), KEEP).unwrap();
    assert!(left().is_empty() && deep.join("a.txt").is_file());
    lift();
    recover(&world.ledger_through(held.clone()));
    assert_eq!(left().len(), 2, "still held");
    recover(&world.ledger());
    assert!(!above.exists() && left().is_empty());
    // What somebody puts into it makes it theirs.
    reorder(&world.ledger(), &Reorder::Lay(lamps(&world.ledger())), KEEP).unwrap();
    lift();
    fs::write(deep.join("mine.txt"), "mine").unwrap();
    recover(&world.ledger());
    assert!(deep.join("mine.txt").is_file() && left().is_empty());
}
