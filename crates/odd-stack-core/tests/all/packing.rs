//! Small contents lie together, and stay what they are however they are put together.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use crate::stored::{StoredContent, stored};
use crate::world::{NOW, World, id, permit, reorder};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::steps::{prepare_mend, tidy, verify_stored};
use odd_stack_core::jobs::{MendFile, Mending, Reorder, TidyReport, TidyRequest};
use odd_stack_core::observer::Silent;

const STOP: ChangeOptions = ChangeOptions::with(Edits::Stop);

fn tidied(world: &World, request: &TidyRequest) -> TidyReport {
    let ledger = world.ledger();
    tidy(&ledger, &permit(&ledger).unwrap(), request, &Silent).unwrap()
}

/// Contents by what they are, and the files that they are in.
fn seen(world: &World) -> (BTreeMap<String, Vec<u8>>, BTreeSet<PathBuf>) {
    let all: Vec<StoredContent> = stored(world.ledger().folder());
    let contents = all.iter().map(|content| (content.hash.clone(), content.bytes())).collect();
    (contents, all.into_iter().map(|content| content.path).collect())
}

fn are_whole(world: &World) -> bool {
    let report = verify_stored(&world.ledger(), &Silent).unwrap();
    report.stored.damaged.is_empty() && report.history_damaged.is_empty()
}

#[test]
fn what_is_small_lies_together_but_for_programs() {
    let world = World::with_game(&[("game/data/lamp.txt", "base")]);
    let big = "big ".repeat(80 << 10);
    let things = [
        ("data/lamp.txt", "lamp"),
        ("data/empty.txt", ""),
        ("data/again.txt", "lamp"),
        ("data/big.dds", big.as_str()),
        ("bin/hook.dll", "MZ a library"),
        ("bin/tool", "\u{7f}ELF a program"),
    ];
    world.add(&world.package("lamps", &things), &[]).unwrap();
    let in_packs = |path: &Path| path.iter().any(|part| part == "packs");
    let mut together: Vec<Vec<u8>> = Vec::new();
    for content in stored(world.ledger().folder()) {
        match in_packs(&content.path) {
            true => together.push(content.bytes()),
            false => assert!(content.size_bytes > 256 << 10 || !content.bytes().starts_with(b"lamp")),
        }
    }
    together.sort();
    assert_eq!(together, [b"".to_vec(), b"lamp".to_vec()]);
    assert!(are_whole(&world));
    // Nor what no package has.
    fs::write(world.path("game/data/empty.txt"), "mine").unwrap();
    let ledger = world.ledger();
    let drifted = world.check(false).drifted.into_iter();
    let keep: Vec<_> = drifted.map(|drifted| (MendFile { drifted, is_named: true }, Mending::Keep)).collect();
    let kept = prepare_mend(&ledger, permit(&ledger).unwrap(), &keep, "mend", NOW, &Silent).unwrap();
    kept.change.unwrap().apply(&Silent).unwrap();
    assert!(!in_packs(&crate::stored::stored_as(ledger.folder(), "mine").path));
}

#[test]
fn packs_become_one_without_what_nobody_needs() {
    let world = World::with_game(&[("game/data/lamp.txt", "base")]);
    let filling = "x".repeat(4000);
    for number in 0..5 {
        let things: Vec<(String, String)> = (0..9)
            .map(|file| (format!("data/{number}/{file}.txt"), format!("{number} {file} {filling}")))
            .collect();
        let things: Vec<(&str, &str)> =
            things.iter().map(|(path, content)| (path.as_str(), content.as_str())).collect();
        world.add(&world.package(&format!("layer{number}"), &things), &[]).unwrap();
    }
    let (all, packs) = seen(&world);
    assert_eq!((all.len(), packs.len()), (45, 5));
    let laid = world.tree();
    // Nothing has to go, and yet they are put together.
    let report = tidied(&world, &TidyRequest::default());
    assert_eq!((report.goes.files, report.left_behind_bytes), (0, 0));
    let (together, packs) = seen(&world);
    assert_eq!((&together, packs.len()), (&all, 1));
    // Once more changes nothing.
    tidied(&world, &TidyRequest::default());
    assert_eq!(seen(&world).1, packs);
    let ledger = world.ledger();
    let two = vec![id(&ledger, "layer1"), id(&ledger, "layer3")];
    reorder(&ledger, &Reorder::Remove(two), STOP).unwrap();
    drop(ledger);
    let dropping = TidyRequest { keep: Some(0), ..TidyRequest::default() };
    assert_eq!(tidied(&world, &dropping).goes.files, 18);
    let (left, packs) = seen(&world);
    assert_eq!((left.len(), packs.len()), (27, 1), "what went is nowhere");
    assert!(left.iter().all(|(hash, content)| all.get(hash) == Some(content)));
    let length: u64 = packs.iter().map(|path| fs::metadata(path).unwrap().len()).sum();
    assert!(length < 27 * 4300, "{length}");
    assert!(are_whole(&world));
    // All of it is laid from where it lies now.
    let ledger = world.ledger();
    let rest: Vec<_> = ledger.layers().unwrap().iter().map(|layer| layer.id).collect();
    reorder(&ledger, &Reorder::Lift(rest.clone()), STOP).unwrap();
    reorder(&ledger, &Reorder::Lay(rest), STOP).unwrap();
    let mut expected = laid;
    expected.retain(|path, _| !path.contains("data/1") && !path.contains("data/3"));
    assert_eq!(world.tree(), expected);
}

#[test]
fn what_is_damaged_stays_where_it_is_told() {
    let world = World::with_game(&[("game/data/lamp.txt", "base")]);
    for name in ["one", "two", "three"] {
        world
            .add(&world.package(name, &[(&format!("data/{name}.txt"), name), ("data/lamp.txt", "lamp")]), &[])
            .unwrap();
    }
    crate::stored::stored_as(world.ledger().folder(), "two").damage(b"twO");
    tidied(&world, &TidyRequest::default());
    let report = verify_stored(&world.ledger(), &Silent).unwrap();
    let damaged: Vec<String> = report.stored.damaged.iter().map(|row| row.address.clone()).collect();
    assert_eq!(damaged, ["game:data/two.txt"]);
    // The whole ones lie together all the same.
    let ledger = world.ledger();
    let others = vec![id(&ledger, "one"), id(&ledger, "three")];
    reorder(&ledger, &Reorder::Lift(others.clone()), STOP).unwrap();
    reorder(&ledger, &Reorder::Lay(others), STOP).unwrap();
    assert_eq!(seen(&world).1.len(), 2);
}
