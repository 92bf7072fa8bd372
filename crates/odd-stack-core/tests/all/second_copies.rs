//! What comes into the game as a copy is written there while it is taken in, and not read again.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use proptest::prelude::*;

use crate::acts::{KEEP, two_layers, two_layers_laid};
use crate::archives::{Format, archive, file};
use crate::faulty::{Fault, Faulty};
use crate::world::{NOW, World, add_request, id, permit, reorder};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::steps::prepare_add;
use odd_stack_core::jobs::{AddPlace, AddRequest, Arriving, Reorder};
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
    // Settings blend, so they are made when it is known with what.
    assert_eq!(copies_read(&world, &package(&world, "one.zip"), KEEP, false), Some(0));
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

/// The second copies that lie there.
fn copies_in(world: &World) -> Vec<PathBuf> {
    let names = ["game", "home", "docs"].map(|root| names_in(world, root)).concat();
    let copies = names.into_iter().filter(|path| path.contains("-again"));
    copies.map(PathBuf::from).filter(|path| path.is_file()).collect()
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
    let copies = copies_in(&world);
    assert_eq!(copies.len(), 4, "{copies:?}");
    fs::remove_file(&copies[0]).unwrap();
    adding.change.apply(&Silent).unwrap();
    is_laid(&world);
    assert_eq!(copies_in(&world), Vec::<PathBuf>::new());
}

#[test]
fn each_root_has_its_own() {
    let world = two_layers();
    let files = [("game/data/a.exe", "program a"), ("docs/b.exe", "program b"), ("game/c.txt", "c")];
    let folder = world.package("both", &files);
    let request = add_request(&folder, &["game=game:", "docs=docs:"]);
    let ledger = world.ledger();
    let adding = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, KEEP, false, &Silent).unwrap();
    assert_eq!(copies_in(&world).len(), 3);
    adding.change.apply(&Silent).unwrap();
    for (path, content) in files {
        assert_eq!(fs::read_to_string(world.path(path)).unwrap(), content, "{path}");
    }
    assert!(world.check(true).drifted.is_empty());
    assert_eq!(copies_in(&world), Vec::<PathBuf>::new());
}

/// Two packages that come at once bring the same new folder, the second one over a file of the first.
#[test]
fn what_is_covered_by_the_next_package_does_not_come_with_the_folder() {
    let world = two_layers();
    let one = [("ship/deck/a.bin", "first"), ("ship/deck/b.bin", "b"), ("ship/low/c.bin", "of one only")];
    let two = [("Ship/Deck/a.bin", "second"), ("ship/hold/d.bin", "b")];
    let packages = [world.package("one", &one), world.package("two", &two)];
    let requests = packages.map(|package| add_request(&package, &[".=game:"]));
    let ledger = world.ledger();
    let mut arriving = Arriving::new(&ledger, permit(&ledger).unwrap(), false);
    arriving.prepare(&requests, NOW, KEEP, &Silent).unwrap().change.apply(&Silent).unwrap();
    let laid = names_in(&world, "game/ship");
    let files = laid.iter().map(Path::new).filter(|path| path.is_file());
    let files: Vec<_> = files
        .map(|path| {
            let below = path.strip_prefix(world.path("game")).unwrap().to_string_lossy().replace('\\', "/");
            (below, fs::read_to_string(path).unwrap())
        })
        .collect();
    let expected = [
        ("ship/deck/a.bin", "second"),
        ("ship/deck/b.bin", "b"),
        ("ship/hold/d.bin", "b"),
        ("ship/low/c.bin", "of one only"),
    ];
    assert_eq!(files, expected.map(|(path, content)| (path.to_owned(), content.to_owned())));
    assert!(world.check(true).drifted.is_empty());
    assert_eq!(copies_in(&world), Vec::<PathBuf>::new());
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "two")]), KEEP).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/ship/deck/a.bin")).unwrap(), "first");
}

/// What happens between reading a package and laying it.
#[derive(Debug, Clone, Copy)]
enum Between {
    Nothing,
    /// Nobody wants it after all.
    Dropped,
    /// A scanner takes a second copy away, or a full disk has cut it short.
    CopyGone(usize),
    CopyCut(usize),
    /// Stored contents are damaged.
    PacksCut,
}

fn between() -> impl Strategy<Value = Between> {
    prop_oneof![
        2 => Just(Between::Nothing),
        1 => Just(Between::Dropped),
        1 => any::<usize>().prop_map(Between::CopyGone),
        1 => any::<usize>().prop_map(Between::CopyCut),
        2 => Just(Between::PacksCut),
    ]
}

/// New folders and those of the game, some spelled in two ways; texts, programs, settings that blend.
const PATHS: [&str; 14] = [
    "Ship/Deck/a.bin",
    "ship/deck/b.bin",
    "ship/Deck/low/c.dds",
    "SHIP/hold/d.exe",
    "ship/hold/fog.ini",
    "ship/e",
    "data/lamps/brass.dds",
    "data/LAMPS/tall.txt",
    "data/new/deep/a.txt",
    "Data/new/other/f.dds",
    "config/harbour.ini",
    "config/new/sea.ini",
    "bin/quillhaven.exe",
    "readme.md",
];

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(windows) { 8 } else { 48 }, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever happens between, it is there as if it had been added first and laid later; nothing else is.
    #[test]
    fn read_and_laid_at_once_is_as_one_after_the_other(
        files in proptest::collection::btree_map(0..PATHS.len(), 0..5_u8, 1..PATHS.len()),
        by_link in any::<bool>(),
        between in between(),
    ) {
        let content = |number: u8, path: &str| match path.ends_with(".ini") {
            true => format!("fog={number}\n"),
            false => "x".repeat(usize::from(number) * 40),
        };
        let things: Vec<_> = files.iter().map(|(at, number)| file(PATHS[*at], content(*number, PATHS[*at]))).collect();
        let package = |world: &World| {
            let path = world.path("one.zip");
            fs::write(&path, archive(Format::Zip, &things)).unwrap();
            add_request(&path, &[".=game:"])
        };
        let (at_once, later) = (two_layers_laid(by_link), two_layers_laid(by_link));
        let before = (at_once.tree(), names_in(&at_once, "game"), names_in(&at_once, "docs"));
        let request = package(&at_once);
        let ledger = at_once.ledger();
        let adding = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, KEEP, false, &Silent).unwrap();
        let copies = copies_in(&at_once);
        match between {
            Between::CopyGone(at) if !copies.is_empty() => fs::remove_file(&copies[at % copies.len()]).unwrap(),
            Between::CopyCut(at) if !copies.is_empty() => fs::write(&copies[at % copies.len()], "c").unwrap(),
            Between::PacksCut => {
                for pack in names_in(&at_once, "home").iter().filter(|path| path.contains("/packs/")) {
                    fs::write(pack, "cut").unwrap();
                }
            }
            _ => {}
        }
        if let Between::Dropped = between {
            drop(adding);
            prop_assert_eq!(before, (at_once.tree(), names_in(&at_once, "game"), names_in(&at_once, "docs")));
            return Ok(());
        }
        adding.change.apply(&Silent).unwrap();
        let ledger = later.ledger();
        let request = AddRequest { place: AddPlace::New { target: Some(Target::Top), lifted: true }, ..package(&later) };
        prop_assert_eq!(copies_read(&later, &request, KEEP, false), Some(0));
        reorder(&ledger, &Reorder::Lay(vec![id(&ledger, "one")]), KEEP).unwrap();
        prop_assert_eq!(at_once.tree(), later.tree());
        prop_assert_eq!(names_in(&at_once, "game").len(), names_in(&later, "game").len());
        prop_assert!(at_once.check(true).drifted.is_empty());
        prop_assert_eq!(copies_in(&at_once), Vec::<PathBuf>::new());
    }
}
