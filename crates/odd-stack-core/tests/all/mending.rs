//! Drifted files that are mended in each way.

use std::fs;

use crate::acts::{KEEP, drifted_world, mend};
use crate::failing::{Act, fail_and_count};
use crate::faulty::Fault;
use crate::world::{NOW, World, id, permit, reorder, tweak};
use odd_stack_core::jobs::steps::{drifted_files, prepare_mend};
use odd_stack_core::jobs::{Mending, Reorder};
use odd_stack_core::observer::Silent;

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
