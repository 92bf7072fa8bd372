//! Big files that come into the game as copies are written there while they are taken in, and not read again.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use crate::acts::{KEEP, two_layers_laid};
use crate::archives::{Format, archive, file};
use crate::faulty::{Fault, Faulty};
use crate::world::{NOW, World, add_request, id, permit, reorder};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::steps::{change_settings, prepare_add};
use odd_stack_core::jobs::{AddPlace, AddRequest, Reorder, SetRequest};
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::Target;

/// Whether the disk on which the tests run shares blocks: then there is nothing to be written twice.
fn shares_blocks(world: &World) -> bool {
    let (one, two) = (world.path("shared-1"), world.path("shared-2"));
    fs::write(&one, "shared").unwrap();
    reflink_copy::reflink(&one, &two).is_ok()
}

/// Adds it, or only says what that would do; gives how many contents were read to be copied.
fn copies_read(world: &World, request: &AddRequest, options: ChangeOptions, dry_run: bool) -> Option<usize> {
    let seam = Arc::new(Faulty::new(Fault::Refuse, u64::MAX, world.path("aside")));
    let ledger = world.ledger_through(seam.clone());
    let adding =
        prepare_add(&ledger, permit(&ledger).unwrap(), request, NOW, options, dry_run, &Silent).ok()?;
    if !dry_run {
        adding.change.apply(&Silent).ok()?;
    }
    let copied = seam.copied.lock().unwrap().len();
    Some(copied)
}

/// The names of all that lies there, also what is ours.
fn names_in(world: &World, below: &str) -> Vec<String> {
    let mut names = Vec::new();
    let mut folders = vec![world.path(below)];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let is_folder = entry.file_type().unwrap().is_dir();
            folders.extend(is_folder.then(|| entry.path()));
            names.push(entry.path().display().to_string().replace('\\', "/"));
        }
    }
    names.sort();
    names
}

fn package(world: &World, name: &str) -> AddRequest {
    let things = [
        file("data/lamps/brass.txt", "brass of the package"),
        file("data/new/tall.txt", "tall"),
        file("data/new/again.txt", "tall"),
        file("bin/helper.exe", "helps"),
        file("data/lamps/linked.dds", "a link takes no room"),
        file("config/harbour.ini", "fog=1\nsea=9\n"),
        file("docs/left out.txt", "left out"),
    ];
    let path = world.path(name);
    fs::write(&path, archive(Format::Zip, &things)).unwrap();
    add_request(&path, &["data=game:data", "bin=game:bin", "config=game:config"])
}

fn is_laid(world: &World) {
    for (path, content) in [
        ("data/lamps/brass.txt", "brass of the package"),
        ("data/new/tall.txt", "tall"),
        ("data/new/again.txt", "tall"),
        ("bin/helper.exe", "helps"),
    ] {
        assert_eq!(fs::read_to_string(world.path("game").join(path)).unwrap(), content, "{path}");
    }
    assert!(world.check(true).drifted.is_empty());
}

#[test]
fn what_comes_as_a_copy_is_written_to_both_places_in_one_pass() {
    let world = two_layers_laid(true);
    if shares_blocks(&world) {
        return;
    }
    let place = |target, lifted| AddPlace::New { target, lifted };
    // One content lies at two places, and settings blend, so they are made when it is known with what.
    assert_eq!(copies_read(&world, &package(&world, "one.zip"), KEEP, false), Some(1));
    is_laid(&world);
    assert!(!names_in(&world, "home").iter().any(|name| name.contains("-again")), "nothing is left");
    let times = |path: &str| fs::metadata(world.path(path)).unwrap().modified().unwrap();
    assert_eq!(
        times("game/data/new/tall.txt"),
        times("game/data/new/again.txt"),
        "both have the package's time"
    );
    let ledger = world.ledger();
    reorder(&ledger, &Reorder::Remove(vec![id(&ledger, "one")]), KEEP).unwrap();
    drop(ledger);
    let before = names_in(&world, "game");
    // What only tells, or is lifted, or lies below others, writes nothing into the game beforehand.
    assert_eq!(copies_read(&world, &package(&world, "two.zip"), KEEP, true), Some(0));
    assert_eq!(names_in(&world, "game"), before);
    let lifted = AddRequest { place: place(None, true), ..package(&world, "three.zip") };
    assert_eq!(copies_read(&world, &lifted, KEEP, false), Some(0));
    assert_eq!(names_in(&world, "game"), before);
    let below = AddRequest { place: place(Some(Target::Bottom), false), ..package(&world, "four.zip") };
    assert_eq!(copies_read(&world, &below, KEEP, false), Some(4));
}

#[test]
fn what_was_written_for_nothing_goes_again() {
    let world = two_layers_laid(true);
    // An edit stops it once all is read.
    world.write("game/data/lamps/brass.txt", "scratched");
    let before = (names_in(&world, "game"), names_in(&world, "home"));
    let stop = ChangeOptions::with(Edits::Stop);
    assert_eq!(copies_read(&world, &package(&world, "one.zip"), stop, false), None);
    assert_eq!((names_in(&world, "game"), names_in(&world, "home")), before);
    // Nobody wants it after all.
    let ledger = world.ledger();
    let request = package(&world, "one.zip");
    drop(prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, KEEP, false, &Silent).unwrap());
    drop(ledger);
    assert_eq!((names_in(&world, "game"), names_in(&world, "home")), before);
    // A broken package: the second copies of what could be read go with the first ones.
    let whole = fs::read(world.path("one.zip")).unwrap();
    let at = whole.windows(5).position(|bytes| bytes == b"helps").map_or(whole.len() / 3, |at| at + 1);
    let mut broken = whole;
    broken[at] ^= 0x55;
    fs::write(world.path("broken.zip"), broken).unwrap();
    let request = add_request(&world.path("broken.zip"), &["data=game:data", "bin=game:bin"]);
    assert_eq!(copies_read(&world, &request, KEEP, false), None);
    assert_eq!((names_in(&world, "game"), names_in(&world, "home")), before);
}

/// A virus scanner takes one away, and something lies where it was to be.
#[test]
fn what_can_not_be_written_a_second_time_is_copied() {
    let world = two_layers_laid(true);
    if shares_blocks(&world) {
        return;
    }
    let ledger = world.ledger();
    let request = package(&world, "one.zip");
    let adding = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, KEEP, false, &Silent).unwrap();
    let again = |name: &str| -> Vec<PathBuf> {
        let all = [names_in(&world, "game"), names_in(&world, "home")]
            .concat()
            .into_iter()
            .filter(|path| path.contains(name));
        all.map(PathBuf::from).filter(|path| path.is_file()).collect()
    };
    let copies = again("-again/");
    assert_eq!(copies.len(), 3, "{copies:?}");
    fs::remove_file(&copies[0]).unwrap();
    adding.change.apply(&Silent).unwrap();
    is_laid(&world);
    assert_eq!(again("-again"), Vec::<PathBuf>::new());
}

#[test]
fn each_root_has_its_own_and_small_files_have_none() {
    let world = two_layers_laid(true);
    let request = SetRequest { big_files_from: Some(4), ..SetRequest::default() };
    let ledger = world.ledger();
    let right = permit(&ledger).unwrap();
    change_settings(&world.home(), &ledger, right, "Quillhaven", &request, false, &Silent).unwrap();
    drop(ledger);
    let files = [("game/data/a.exe", "program a"), ("docs/b.exe", "program b"), ("game/c.exe", "c")];
    let folder = world.package("both", &files);
    let request = add_request(&folder, &["game=game:", "docs=docs:"]);
    assert_eq!(copies_read(&world, &request, KEEP, false), Some(0));
    for (path, content) in files {
        assert_eq!(fs::read_to_string(world.path(path)).unwrap(), content, "{path}");
    }
    assert!(world.check(true).drifted.is_empty());
    assert!(!names_in(&world, "home").iter().any(|name| name.contains("-again")), "nothing is left");
}
