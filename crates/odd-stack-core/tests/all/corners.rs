//! Corners of the main job: other volumes, spellings, cancelling, lost contents.

use std::collections::BTreeSet;
use std::fs;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use crate::faulty::{Fault, Faulty};
use crate::stored::stored;
use crate::world::{NOW, Thing, World, add, add_request, exchange, go_to, id, permit, reorder};
use odd_stack_core::change::{ChangeError, ChangeOptions};
use odd_stack_core::jobs::steps::{conflicts, prepare_add, stack};
use odd_stack_core::jobs::{AddError, ConflictsRequest, GoTo, Reorder};
use odd_stack_core::notice::Notice;
use odd_stack_core::observer::{Observer, Work};
use odd_stack_core::stack::Target;

fn options() -> ChangeOptions {
    ChangeOptions::default()
}

fn lift_all(world: &World) -> Result<(), ChangeError> {
    let ledger = world.ledger();
    let all = ledger.layers().unwrap().iter().map(|layer| layer.id).collect();
    reorder(&ledger, &Reorder::Lift(all), options())
}

/// A folder on another volume than the worlds of these tests, where the machine has one.
#[cfg(unix)]
fn other_volume(world: &World) -> Option<tempfile::TempDir> {
    use std::os::unix::fs::MetadataExt;
    use std::path::Path;
    let other = tempfile::tempdir_in(std::env::current_dir().unwrap().join("../../target")).ok()?;
    let device = |path: &Path| fs::metadata(path).unwrap().dev();
    (device(other.path()) != device(world.folder.path())).then_some(other)
}

#[cfg(unix)]
#[test]
fn a_ledger_on_another_volume_keeps_covered_files_beside_the_game() {
    let world = World::empty();
    let Some(other) = other_volume(&world) else { return };
    world.write("game/data/a.txt", "base");
    world.write("docs/p.ini", "p");
    world.care(&odd_stack_core::jobs::RegisterRequest {
        roots: vec![("docs".into(), world.path("docs"))],
        ledger: Some(other.path().join("ledger")),
        ..world.request()
    });
    let before = world.tree();
    let package = world.package("pack", &[("data/a.txt", "layer"), ("new/b", "b"), ("p.ini", "P")]);
    world.add(&package, &["data=game:data", "new=game:new", "p.ini=docs:p.ini"]).unwrap();
    let side = world.path("game/.oddstack");
    assert_eq!(fs::read_dir(side.join("originals")).unwrap().count(), 1);
    assert_eq!(fs::read_to_string(world.path("game/data/a.txt")).unwrap(), "layer");
    assert!(world.check(true).drifted.is_empty());
    lift_all(&world).unwrap();
    assert_eq!(world.tree(), before, "the side folder goes when nothing is in it");
}

#[cfg(unix)]
#[test]
fn with_the_home_on_another_volume_the_ledger_lies_beside_the_game() {
    use odd_stack_core::jobs::steps::default_ledger_folder;
    use odd_stack_core::ledger::Home;
    let world = World::empty();
    let Some(other) = other_volume(&world) else { return };
    let home = Home::new(other.path().join("home"));
    let chosen = default_ledger_folder(&home, "Quill haven!", &world.path("game"));
    assert_eq!(chosen, world.path(".oddstack/quill-haven-"));
    let chosen = default_ledger_folder(&world.home(), "Quill haven!", &world.path("game"));
    assert_eq!(chosen, world.path("home/ledgers/quill-haven-"));
}

#[test]
fn one_name_in_two_unicode_forms_is_one_address() {
    // Composed in the package, decomposed on disk.
    let world = World::with_game(&[("game/caf\u{65}\u{301}/men\u{75}\u{308}.txt", "base"), ("docs/x", "x")]);
    let before = world.tree();
    world
        .add(&world.package("pack", &[("caf\u{e9}/MEN\u{dc}.txt", "layer"), ("y", "y")]), &[".=game:"])
        .unwrap();
    let tree = world.tree();
    assert_eq!(tree.len(), before.len() + 1, "{tree:?}");
    let Some(Thing::File { content, .. }) = tree.get("game/caf\u{65}\u{301}/men\u{75}\u{308}.txt") else {
        panic!()
    };
    assert_eq!(content, b"layer");
    lift_all(&world).unwrap();
    assert_eq!(world.tree(), before);
}

#[cfg(target_os = "linux")]
#[test]
fn an_exact_game_tells_spellings_apart() {
    let world = World::empty();
    world.write("game/Data/A.txt", "base");
    world.care(&odd_stack_core::jobs::RegisterRequest { exact_case: true, ..world.request() });
    let before = world.tree();
    world
        .add(&world.package("pack", &[("data/a.txt", "layer"), ("Data/A.txt", "over")]), &[".=game:"])
        .unwrap_err();
    world.add(&world.package("low", &[("data/a.txt", "layer"), ("x", "x")]), &[".=game:"]).unwrap();
    let tree = world.tree();
    assert!(tree.contains_key("game/data/a.txt") && tree.contains_key("game/Data/A.txt"));
    lift_all(&world).unwrap();
    assert_eq!(world.tree(), before);
}

#[cfg(target_os = "linux")]
#[test]
fn two_base_files_of_one_name_are_left_alone_and_said() {
    let world = World::empty();
    world.write("game/data/a.txt", "one");
    world.write("game/data/A.TXT", "two");
    let told = Recording::default();
    let seam = std::sync::Arc::new(odd_stack_core::files::RealDisk::default());
    let request = world.request();
    odd_stack_core::jobs::steps::register_game(&world.home(), &request, NOW, false, seam, &told).unwrap();
    assert_eq!(told.notices.lock().unwrap().len(), 1);
    let before = world.tree();
    world.add(&world.package("pack", &[("data/b.txt", "b"), ("x", "x")]), &[".=game:"]).unwrap();
    lift_all(&world).unwrap();
    assert_eq!(world.tree(), before);
}

#[test]
fn folders_take_one_spelling_and_follow_the_lowest_layer() {
    let world = World::with_game(&[("game/a", "a")]);
    world.add(&world.package("one", &[("Mods/Fog/one.txt", "1"), ("x", "x")]), &[".=game:"]).unwrap();
    world.add(&world.package("two", &[("MODS/fog/two.txt", "2"), ("y", "y")]), &[".=game:"]).unwrap();
    assert!(world.tree().contains_key("game/Mods/Fog/two.txt"));
    if cfg!(windows) {
        // A rename that changes only case does nothing in Wine, where these tests run.
        return;
    }
    reorder(&world.ledger(), &Reorder::Lift(vec![id(&world.ledger(), "one")]), options()).unwrap();
    assert!(world.tree().contains_key("game/MODS/fog/two.txt"), "{:?}", world.tree().keys());
    reorder(&world.ledger(), &Reorder::Lay(vec![id(&world.ledger(), "one")]), options()).unwrap();
    assert!(world.tree().contains_key("game/Mods/Fog/two.txt"));
    assert!(world.check(true).drifted.is_empty());
}

#[test]
fn empty_folders_of_a_package_come_and_go() {
    let world = World::with_game(&[("game/a", "a")]);
    let before = world.tree();
    let package = world.package("pack", &[("w/b.txt", "b")]);
    fs::create_dir_all(package.join("w/empty/inner")).unwrap();
    world.add(&package, &["*=game:"]).unwrap();
    assert_eq!(world.tree().get("game/empty/inner"), Some(&Thing::Folder));
    lift_all(&world).unwrap();
    assert_eq!(world.tree(), before);
}

#[test]
fn a_folder_with_unknown_files_stays_with_them() {
    let world = World::with_game(&[("game/a", "a")]);
    world.add(&world.package("pack", &[("new/b.txt", "b"), ("x", "x")]), &[".=game:"]).unwrap();
    world.write("game/new/notes.txt", "mine");
    lift_all(&world).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/new/notes.txt")).unwrap(), "mine");
    reorder(&world.ledger(), &Reorder::Lay(vec![id(&world.ledger(), "pack")]), options()).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/new/b.txt")).unwrap(), "b");
    assert_eq!(fs::read_to_string(world.path("game/new/notes.txt")).unwrap(), "mine");
}

#[test]
fn a_lost_original_is_told_before_anything_changes() {
    let world = World::with_game(&[("game/a", "base"), ("game/b", "base too")]);
    world.add(&world.package("pack", &[("a", "layer"), ("b", "layer")]), &[".=game:"]).unwrap();
    let originals = world.ledger().folder().join("originals");
    let lost = fs::read_dir(originals).unwrap().next().unwrap().unwrap().path();
    fs::remove_file(lost).unwrap();
    let before = world.tree();
    let error = lift_all(&world).unwrap_err();
    assert!(matches!(&error, ChangeError::OriginalsLost { files } if files.len() == 1), "{error}");
    assert_eq!(world.tree(), before);
}

#[test]
fn tallies_kept_by_differences_equal_those_counted_afresh() {
    let world = World::with_game(&[("game/a", "base"), ("game/b", "base")]);
    let packages: [(&str, &[(&str, &str)]); 4] = [
        ("one", &[("a", "1"), ("b", "base"), ("c", "x")]),
        ("two", &[("a", "1"), ("c", "y")]),
        ("three", &[("b", "3"), ("c", "x"), ("d", "z")]),
        ("four", &[("a", "4"), ("d", "z")]),
    ];
    for (name, files) in packages {
        add(&world.ledger(), &world.package(name, files), &[".=game:"], Target::Bottom, options()).unwrap();
    }
    let ledger = world.ledger();
    let act = |change: Reorder| reorder(&ledger, &change, options()).unwrap();
    act(Reorder::Lift(vec![id(&ledger, "two")]));
    act(Reorder::Move(id(&ledger, "four"), Target::Top));
    act(Reorder::Lay(vec![id(&ledger, "two")]));
    act(Reorder::Remove(vec![id(&ledger, "one")]));
    act(Reorder::Move(id(&ledger, "three"), Target::Above(id(&ledger, "two"))));
    let order: Vec<String> = stack(&ledger).unwrap().layers.iter().map(|layer| layer.name.clone()).collect();
    for row in stack(&ledger).unwrap().layers {
        let files = |name: &str| packages.iter().find(|(other, _)| *other == name).unwrap().1;
        let above = order.iter().take_while(|name| **name != row.name);
        let covered: Vec<&str> = above.flat_map(|name| files(name)).map(|(path, _)| *path).collect();
        let own = files(&row.name);
        let wins = own.iter().filter(|(path, _)| !covered.contains(path)).count() as u64;
        let others = order.iter().filter(|name| **name != row.name).flat_map(|name| files(name));
        let others: Vec<_> = others.collect();
        let contested =
            own.iter().filter(|(path, text)| others.iter().any(|(p, t)| p == path && t != text)).count()
                as u64;
        assert_eq!((row.wins_files, row.contested_files), (wins, contested), "{} in {order:?}", row.name);
    }
    assert_eq!(conflicts(&ledger, &ConflictsRequest::default()).unwrap().open_files, 2);
}

/// Notes what it is told, and asks to stop after some number of questions.
#[derive(Default)]
struct Recording {
    notices: Mutex<Vec<Notice>>,
    begun: Mutex<Vec<(Work, u64, u64)>>,
    files: AtomicU64,
    bytes: AtomicU64,
    stops_after: Option<u64>,
    asked: AtomicU64,
}

impl Observer for Recording {
    fn begin(&self, work: Work, total_files: u64, total_bytes: u64) {
        self.begun.lock().unwrap().push((work, total_files, total_bytes));
    }
    fn advance(&self, files: u64, bytes: u64) {
        self.files.fetch_add(files, Ordering::SeqCst);
        self.bytes.fetch_add(bytes, Ordering::SeqCst);
    }
    fn notice(&self, notice: Notice) {
        self.notices.lock().unwrap().push(notice);
    }
    fn is_cancelled(&self) -> bool {
        let asked = self.asked.fetch_add(1, Ordering::SeqCst);
        self.stops_after.is_some_and(|after| asked >= after)
    }
}

#[test]
fn stopping_at_any_question_leaves_everything_as_it_was() {
    let world = World::with_game(&[("game/a", "base"), ("docs/p", "p")]);
    let files: Vec<(String, String)> =
        (0..12).map(|n| (format!("data/{n}"), format!("content {n}"))).collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let package = world.package("pack", &files);
    let before = (world.tree(), stack(&world.ledger()).unwrap());
    let mut stopped = 0;
    for after in 0.. {
        let observer = Recording { stops_after: Some(after), ..Recording::default() };
        let ledger = world.ledger();
        let request = add_request(&package, &[".=game:"]);
        let prepared =
            prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, options(), false, &observer);
        let done = prepared.and_then(|adding| Ok(adding.change.apply(&observer)?));
        match done {
            Ok(_) => break,
            Err(AddError::Change(ChangeError::Cancelled) | AddError::Package(_)) => stopped += 1,
            Err(other) => panic!("{other}"),
        }
        drop(ledger);
        assert_eq!((world.tree(), stack(&world.ledger()).unwrap()), before, "after {after} questions");
        let left = stored(world.ledger().folder());
        assert_eq!(left, [], "nothing is left of what was read");
    }
    assert!(stopped > 12, "reading and staging ask for every file, {stopped} did");
    assert!(world.check(true).drifted.is_empty());
}

#[test]
fn progress_adds_up() {
    let world = World::with_game(&[("game/a", "base")]);
    let package = world.package("pack", &[("a", "12345"), ("b", "123")]);
    let ledger = world.ledger();
    let told = Recording::default();
    let request = add_request(&package, &[".=game:"]);
    let adding =
        prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, options(), false, &told).unwrap();
    assert!(told.begun.lock().unwrap().contains(&(Work::Reading, 2, 8)));
    assert_eq!((told.files.load(Ordering::SeqCst), told.bytes.load(Ordering::SeqCst)), (2, 8));
    adding.change.apply(&told).unwrap();
    assert!(told.begun.lock().unwrap().contains(&(Work::Staging, 2, 8)));
}

/// Writes to a file of the game just before files are put in place.
struct Meddler<'w> {
    world: &'w World,
    notices: Mutex<Vec<Notice>>,
}

impl Observer for Meddler<'_> {
    fn begin(&self, work: Work, _: u64, _: u64) {
        if work == Work::Placing {
            self.world.write("game/fog.ini", "written while the change was made");
        }
    }
    fn notice(&self, notice: Notice) {
        self.notices.lock().unwrap().push(notice);
    }
}

#[test]
fn a_file_written_at_the_last_moment_is_saved() {
    let world = World::with_game(&[("game/fog.ini", "fog=1")]);
    world.add(&world.package("pack", &[("fog.ini", "fog=9"), ("x", "x")]), &[".=game:"]).unwrap();
    let ledger = world.ledger();
    let meddler = Meddler { world: &world, notices: Mutex::default() };
    let lift = Reorder::Lift(vec![id(&ledger, "pack")]);
    let right = permit(&ledger).unwrap();
    let change =
        odd_stack_core::jobs::steps::prepare_reorder(&ledger, right, &lift, "lift", NOW, options(), &meddler)
            .unwrap();
    change.unwrap().apply(&meddler).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/fog.ini")).unwrap(), "fog=1");
    let saved = ledger.folder().join("kept/2/game/fog.ini");
    assert_eq!(fs::read_to_string(saved).unwrap(), "written while the change was made");
    let notices = meddler.notices.into_inner().unwrap();
    let (path, saved) = (world.path("game/fog.ini"), ledger.folder().join("kept/2/game/fog.ini"));
    assert_eq!(notices, [Notice::ChangedLate { path, saved }]);
}

#[cfg(unix)]
#[test]
fn a_capture_and_a_patch_day_on_another_volume_keep_all_beside_the_game() {
    use odd_stack_core::front::for_tests;
    use odd_stack_core::jobs::steps::{
        begin_capture, prepare_capture_end, prepare_patchday_begin, prepare_patchday_finish,
    };
    use odd_stack_core::jobs::{CaptureRequest, RegisterRequest};
    use odd_stack_core::ledger::OngoingKind;
    use odd_stack_core::observer::Silent;

    let world = World::empty();
    let Some(other) = other_volume(&world) else { return };
    world.write("game/data/iron.dds", "base iron");
    let docs = other.path().join("docs");
    fs::create_dir(&docs).unwrap();
    fs::write(docs.join("wren.txt"), "base wren").unwrap();
    world.care(&RegisterRequest { roots: vec![("docs".into(), docs.clone())], ..world.request() });
    let during = |kind| {
        let patience = std::time::Duration::from_millis(200);
        for_tests::permit(&world.ledger(), patience, Some(kind)).unwrap()
    };
    let request = CaptureRequest { name: "both".into(), ..CaptureRequest::default() };
    let ledger = world.ledger();
    drop(
        begin_capture(&ledger, permit(&ledger).unwrap(), &request, NOW, ChangeOptions::default(), &Silent)
            .unwrap(),
    );
    assert!(docs.join(".oddstack/guard").is_dir(), "protected on its own volume");
    fs::write(docs.join("wren.txt"), "changed").unwrap();
    world.write("game/data/iron.dds", "changed");
    let ending =
        prepare_capture_end(&ledger, during(OngoingKind::Capture), &[], NOW, false, &Silent).unwrap();
    ending.change.unwrap().apply(&Silent).unwrap();
    assert!(docs.join(".oddstack/originals").is_dir() && !docs.join(".oddstack/guard").exists());
    assert!(world.check(true).drifted.is_empty());
    let begun =
        prepare_patchday_begin(&ledger, permit(&ledger).unwrap(), NOW, ChangeOptions::default(), &Silent);
    begun.unwrap().apply(&Silent).unwrap();
    assert_eq!(fs::read_to_string(docs.join("wren.txt")).unwrap(), "base wren");
    let left: Vec<_> =
        fs::read_dir(docs.join(".oddstack")).unwrap().map(|it| it.unwrap().file_name()).collect();
    assert_eq!(left, ["care.toml"], "nothing else is left beside the documents");
    fs::write(docs.join("wren.txt"), "of the update").unwrap();
    let again = world.ledger();
    let permit = during(OngoingKind::PatchDay);
    let finishing = prepare_patchday_finish(&again, permit, None, NOW, &Silent).unwrap();
    assert_eq!(finishing.report.changed, ["docs:wren.txt"]);
    finishing.change.unwrap().apply(&Silent).unwrap();
    assert_eq!(fs::read_to_string(docs.join("wren.txt")).unwrap(), "of the update");
    assert!(world.check(true).drifted.is_empty());
}

/// On Windows a file that is moved takes its rights along.
#[test]
fn what_comes_into_the_game_gets_the_rights_of_its_folder() {
    let world = World::with_game(&[("game/data/fog.ini", "fog=1"), ("game/data/own.txt", "own")]);
    let files = [("data/fog.ini", "fog=9"), ("data/new.txt", "new"), ("fresh/deep.txt", "deep")];
    world.add(&world.package("pack", &files), &[".=game:"]).unwrap();
    let layer = vec![id(&world.ledger(), "pack")];
    reorder(&world.ledger(), &Reorder::Lift(layer.clone()), options()).unwrap();
    let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
    let seam = Arc::new(Faulty::new(Fault::Stop, u64::MAX, aside.path().to_path_buf()));
    reorder(&world.ledger_through(seam.clone()), &Reorder::Lay(layer.clone()), options()).unwrap();
    // Where folders come whole there is one for all in it.
    let fresh = if cfg!(windows) { "game/fresh/deep.txt" } else { "game/fresh" };
    let new = ["game/data/fog.ini", "game/data/new.txt", fresh].map(|path| world.path(path));
    let told = |seam: &Faulty| seam.given_rights.lock().unwrap().drain(..).collect::<BTreeSet<_>>();
    assert_eq!(told(&seam), BTreeSet::from(new));
    // The game's own files have theirs.
    reorder(&world.ledger_through(seam.clone()), &Reorder::Lift(layer), options()).unwrap();
    assert_eq!(told(&seam), BTreeSet::new());
}

/// Files are decided some at a time; what one of them hangs on may be among others.
#[test]
fn files_and_folders_change_places_wherever_a_part_ends() {
    for fillers in 0..12 {
        let world = World::with_game(&[("game/own/base.txt", "base"), ("game/a", "a")]);
        let before = world.tree();
        let filler =
            |number: usize, version: &str| (format!("m{number:02}.txt"), format!("{version} {number}"));
        let files = |version: &str, swapped: &[&str]| -> Vec<(String, String)> {
            let some = (0..fillers).map(|number| filler(number, version));
            some.chain(swapped.iter().map(|path| ((*path).to_owned(), format!("{version} {path}")))).collect()
        };
        let package = |name: &str, files: &[(String, String)]| {
            let files: Vec<_> =
                files.iter().map(|(path, content)| (path.as_str(), content.as_str())).collect();
            world.package(name, &files)
        };
        let old = package("pack", &files("old", &["b", "lamp", "n/x", "zone/deep/x", "zone/y"]));
        let new = package("pack-2", &files("new", &["b/inside", "lamp/on/x", "n", "zone"]));
        world.add(&old, &[".=game:"]).unwrap();
        let laid = world.tree();
        exchange(&world.ledger(), id(&world.ledger(), "pack"), &new, &[".=game:"], options()).unwrap();
        for path in ["b/inside", "lamp/on/x", "n", "zone"] {
            let content = fs::read_to_string(world.path(&format!("game/{path}"))).unwrap();
            assert_eq!(content, format!("new {path}"), "{fillers}");
        }
        assert!(world.check(true).drifted.is_empty(), "{fillers}");
        go_to(&world.ledger(), &GoTo::Before(1)).unwrap();
        assert_eq!(world.tree(), laid, "{fillers}");
        lift_all(&world).unwrap();
        assert_eq!(world.tree(), before, "{fillers}");
        // What somebody put in the way of any of them stops all of them, and all are named.
        for path in ["b", "lamp"] {
            fs::create_dir(world.path(&format!("game/{path}"))).unwrap();
            world.write(&format!("game/{path}/mine.txt"), "mine");
        }
        let lay = Reorder::Lay(vec![id(&world.ledger(), "pack")]);
        match reorder(&world.ledger(), &lay, ChangeOptions::default()) {
            Err(ChangeError::Drifted { drifted }) => assert_eq!(drifted.len(), 2, "{fillers}: {drifted:?}"),
            other => panic!("{fillers}: {other:?}"),
        }
    }
}
