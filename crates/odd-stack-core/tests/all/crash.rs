//! Every command, failing at every single step: the next one finds the game before or after it.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use crate::acts::{
    KEEP, add_quays, add_sea, add_wharf, adopt, adopt_copper, carry_fog, front_lifted, lay_front, lift_lamps,
    mend, move_lamps, remove_both, settle_brass, take_folders_away, turn_lamps, tweak_both, two_layers,
    two_layers_laid, upgrade_lamps,
};
use crate::failing::{Act, fail_and_count, fail_everywhere, fail_everywhere_in};
use crate::faulty::{Fault, Faulty};
use crate::stored::stored_as;
use crate::world::{NOW, World, exchange, go_to, id, permit, recover, reorder, settle, tweak};
use odd_stack_core::change::{ChangeError, ChangeOptions};
use odd_stack_core::jobs::steps::{check_report, prepare_culprit};
use odd_stack_core::jobs::{CulpritStep, GoTo, Mending, Reorder, Ruling};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;

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

/// All acts; on Windows every third of them, from the `first` on, so that each is done with some fault there.
fn acts(first: usize) -> impl Iterator<Item = Act> {
    let (first, step) = if cfg!(windows) { (first, 3) } else { (0, 1) };
    ACTS.into_iter().skip(first).step_by(step)
}

#[test]
fn refused_at_every_step() {
    acts(0).for_each(|act| fail_everywhere(act, Fault::Refuse));
}

#[test]
fn stopped_at_every_step() {
    acts(1).for_each(|act| fail_everywhere(act, Fault::Stop));
}

#[test]
fn power_lost_at_every_step() {
    acts(2).for_each(|act| fail_everywhere(act, Fault::LoseAll));
}

#[test]
fn power_lost_at_every_step_and_some_of_it_written() {
    for (seed, act) in (1..).zip(acts(0)) {
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

/// What is written into the game while a package is read is there with the change, or not at all.
#[test]
fn big_copies_come_or_do_not_whatever_fails() {
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        fail_everywhere_in(&two_layers_laid(true), add_wharf, fault, 0);
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
