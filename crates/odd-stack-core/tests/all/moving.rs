//! A ledger that is moved lies in one place or the other, whatever fails, and has all that it had.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use crate::failing::copy_all;
use crate::faulty::{Fault, Faulty};
use crate::world::{World, permit, reorder, tempdir};
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::check::check_stored;
use odd_stack_core::files::{RealDisk, Seam};
use odd_stack_core::jobs::MoveLedgerError;
use odd_stack_core::jobs::Reorder;
use odd_stack_core::jobs::steps::move_ledger;
use odd_stack_core::observer::Silent;

fn move_it(world: &World, to: &Path, seam: Arc<dyn Seam>) -> Result<(), MoveLedgerError> {
    let home = world.home();
    let listed = home.games().unwrap().remove(0);
    move_ledger(&home, &listed, (to, true), &seam, Duration::ZERO, &Silent).map(drop)
}

/// A game of which layers cover files in both roots.
fn world() -> World {
    let world = World::with_game(&[
        ("game/quillhaven.exe", "program"),
        ("game/data/lamp.dds", "base lamp"),
        ("docs/profile.ini", "name=base"),
    ])
    .with_links();
    let files =
        [("g/data/lamp.dds", "lamp of lamps"), ("g/data/new.dds", "new"), ("d/profile.ini", "name=lamps")];
    world.add(&world.package("lamps", &files), &["g=game:", "d=docs:"]).unwrap();
    world
}

/// All is as it was, and still comes off and on again.
fn is_whole(world: &World, laid: &crate::world::Tree) {
    assert_eq!(world.tree(), *laid);
    assert!(world.check(true).drifted.is_empty());
    assert!(check_stored(&world.ledger(), &Silent).unwrap().damaged.is_empty());
    let layers: Vec<_> = world.ledger().layers().unwrap().iter().map(|layer| layer.id).collect();
    let (options, ledger) = (ChangeOptions::default(), world.ledger());
    reorder(&ledger, &Reorder::Lift(layers.clone()), options).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/lamp.dds")).unwrap(), "base lamp");
    assert_eq!(fs::read_to_string(world.path("docs/profile.ini")).unwrap(), "name=base");
    reorder(&ledger, &Reorder::Lay(layers), options).unwrap();
    assert_eq!(world.tree(), *laid);
}

/// A folder on another volume than the tests' own, where the machine has one.
fn elsewhere(world: &World) -> Option<tempfile::TempDir> {
    let places = [PathBuf::from("/dev/shm"), std::env::temp_dir(), PathBuf::from("/var/tmp")];
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let volume = |path: &Path| fs::metadata(path).map(|metadata| metadata.dev()).ok();
        let own = volume(world.folder.path());
        let other = places.iter().find(|place| volume(place).is_some_and(|other| Some(other) != own))?;
        tempfile::tempdir_in(other).ok()
    }
    #[cfg(not(unix))]
    {
        let _ = (world, places);
        None
    }
}

#[test]
fn a_ledger_is_moved_on_its_disk_and_refused_where_it_can_not_lie() {
    let world = world();
    let laid = world.tree();
    let real = || Arc::new(RealDisk::default());
    for wrong in ["game/ledger", "docs", "home"] {
        assert!(move_it(&world, &world.path(wrong), real()).is_err(), "{wrong}");
    }
    let old = world.ledger().folder().to_path_buf();
    assert!(matches!(move_it(&world, &old, real()), Err(MoveLedgerError::IsThere { .. })));
    move_it(&world, &world.path("ledgers/mine"), real()).unwrap();
    assert!(!old.exists() && world.ledger().folder() == world.path("ledgers/mine"));
    is_whole(&world, &laid);
}

#[test]
fn a_ledger_is_moved_to_another_disk_and_back_whatever_fails() {
    let world = world();
    let Some(other) = elsewhere(&world) else { return };
    let laid = world.tree();
    let saved = tempdir();
    let parts = ["game", "docs", "home"];
    for part in parts {
        copy_all(&world.path(part), &saved.path().join(part));
    }
    let to = other.path().join("ledger");
    let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
    let seam = Arc::new(Faulty::new(Fault::Stop, u64::MAX, aside.path().to_path_buf()));
    move_it(&world, &to, seam.clone()).unwrap();
    let steps = seam.steps();
    for fault in [Fault::Refuse, Fault::Stop] {
        // First it copies; what comes then counts more.
        for at in (0..steps - 24).step_by(37).chain(steps - 24..=steps) {
            for part in parts {
                fs::remove_dir_all(world.path(part)).unwrap();
                copy_all(&saved.path().join(part), &world.path(part));
            }
            let _ = fs::remove_dir_all(&to);
            let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
            let seam = Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
            let done = move_it(&world, &to, seam.clone()).is_ok();
            let lies_there = world.ledger().folder() == to;
            assert_eq!(done, lies_there, "step {at} of {fault:?}");
            assert!(permit(&world.ledger()).is_ok());
            is_whole(&world, &laid);
            assert!(done || seam.has_struck());
        }
    }
    // And back to the game's disk, where big files can be links again.
    move_it(&world, &world.path("ledgers/back"), Arc::new(RealDisk::default())).unwrap();
    is_whole(&world, &laid);
}
