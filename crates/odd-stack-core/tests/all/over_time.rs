//! Patch days failing at every step, and what they make of the base.

use std::fs;
use std::time::Duration;

use crate::failing::{Act, fail_and_count};
use crate::faulty::Fault;
use crate::world::{NOW, Thing, Tree, World, id, permit, reorder};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::front::for_tests;
use odd_stack_core::jobs::Fate;
use odd_stack_core::jobs::steps::{
    begin_capture, prepare_capture_cancel, prepare_capture_close, prepare_capture_end,
    prepare_patchday_begin, prepare_patchday_finish, stack,
};
use odd_stack_core::jobs::{CaptureRequest, PatchDayReport, Permit, RegisterRequest, Reorder};
use odd_stack_core::ledger::{Ledger, OngoingKind};
use odd_stack_core::observer::Silent;
use proptest::prelude::*;

const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

/// Faults to try; each step takes its time in Wine.
fn faults() -> impl Iterator<Item = Fault> {
    let all = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    all.into_iter().take(if cfg!(windows) { 1 } else { 4 })
}

/// A game that tells its version, with two layers.
fn harbour() -> World {
    let world = World::empty();
    for (path, content) in [
        ("game/version.txt", "1.7"),
        ("game/bin/quillhaven.exe", "program 1.7"),
        ("game/data/lamps/brass.dds", "base brass"),
        ("game/data/lamps/iron.dds", "base iron"),
        ("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\n"),
    ] {
        world.write(path, content);
    }
    world.care(&RegisterRequest { version_from: Some("version.txt".into()), ..world.request() });
    let lamps = [("data/lamps/brass.dds", "lamps brass"), ("data/lamps/new/a.dds", "a")];
    world.add(&world.package("lamps", &lamps), &[".=game:"]).unwrap();
    let patch = [("bin/quillhaven.exe", "patched"), ("config/harbour.ini", "[Fog]\nthick=9\nslow=2\n")];
    world.add(&world.package("patch", &patch), &[".=game:"]).unwrap();
    world
}

fn update(world: &World) {
    world.write("game/version.txt", "1.8");
    world.write("game/bin/quillhaven.exe", "program 1.8");
    world.write("game/data/ferries.dds", "ferries");
    world.write("game/config/harbour.ini", "[Fog]\nthick=1\nearly=yes\n");
    fs::remove_file(world.path("game/data/lamps/iron.dds")).unwrap();
}

/// Begins a patch day; says whether it was.
pub fn begin(ledger: &Ledger) -> bool {
    permit(ledger)
        .and_then(|permit| prepare_patchday_begin(ledger, permit, NOW, KEEP, &Silent))
        .and_then(|change| change.apply(&Silent))
        .is_ok()
}

/// Ends the patch day.
pub fn finish(ledger: Ledger) -> Option<PatchDayReport> {
    let patience = Duration::from_millis(200);
    let kind = Some(OngoingKind::PatchDay);
    let permit = for_tests::permit(&ledger, patience, kind).ok()?;
    let finishing = prepare_patchday_finish(&ledger, permit, None, NOW, &Silent).ok()?;
    if let Some(change) = finishing.change {
        change.apply(&Silent).ok()?;
    }
    Some(finishing.report)
}

#[test]
fn a_patch_day_begins_or_does_not_whatever_fails() {
    let act: Act = |_, ledger| begin(ledger);
    faults().for_each(|fault| fail_and_count(&harbour(), act, fault, |_| 0));
}

#[test]
fn a_patch_day_ends_or_goes_on_whatever_fails() {
    let act: Act = |world, ledger| finish(world.ledger_through(ledger.seam())).is_some();
    for fault in faults() {
        let world = harbour();
        assert!(begin(&world.ledger()));
        update(&world);
        fail_and_count(&world, act, fault, |is_done| if is_done { 0 } else { 5 });
    }
}

#[test]
fn an_unplanned_update_is_met_or_not_whatever_fails() {
    let act: Act = |world, ledger| finish(world.ledger_through(ledger.seam())).is_some();
    for fault in faults() {
        let world = harbour();
        update(&world);
        world.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=3\n");
        world.write("game/data/lamps/brass.dds", "base brass");
        fail_and_count(&world, act, fault, |is_done| if is_done { 0 } else { 6 });
    }
}

/// What the open ledger knows of the game, whatever becomes of an end of a patch day, is what it has written down.
#[test]
fn an_end_that_is_dropped_or_taken_back_leaves_the_open_ledger_as_it_was() {
    for is_planned in [true, false] {
        let world = harbour();
        assert!(!is_planned || begin(&world.ledger()));
        update(&world);
        let ledger = world.ledger();
        let known = || (ledger.game().clone(), world.ledger().game().clone());
        let before = ledger.game().clone();
        let prepared = || {
            let during = for_tests::permit(&ledger, Duration::from_millis(200), Some(OngoingKind::PatchDay));
            prepare_patchday_finish(&ledger, during.unwrap(), None, NOW, &Silent).unwrap()
        };
        drop(prepared());
        assert_eq!(known(), (before.clone(), before.clone()), "dropped, planned: {is_planned}");
        prepared().change.unwrap().apply(&Silent).unwrap();
        let (open, written) = known();
        assert_eq!(open, written, "made");
        assert_eq!(open.version.unwrap().version, "1.8");
        assert!(!is_planned || open.seen != before.seen);
    }
}

#[test]
fn the_updated_game_is_what_comes_back() {
    let world = harbour();
    update(&world);
    world.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=3\n");
    world.write("game/data/lamps/brass.dds", "base brass");
    let report = finish(world.ledger()).unwrap();
    assert_eq!(report.kept, ["game:config/harbour.ini"]);
    assert_eq!(report.put_back, ["game:data/lamps/brass.dds"]);
    assert_eq!(report.changed, ["game:bin/quillhaven.exe", "game:version.txt"]);
    assert_eq!(report.added, ["game:data/ferries.dds"]);
    assert_eq!(report.gone, ["game:data/lamps/iron.dds"]);
    let fates: Vec<(&str, Fate)> = report.layers.iter().map(|row| (row.layer.as_str(), row.fate)).collect();
    assert_eq!(fates, [("own edits", Fate::Laid), ("patch", Fate::Lifted), ("lamps", Fate::Laid)]);
    let content = |path: &str| fs::read_to_string(world.path(path)).unwrap();
    assert_eq!(content("game/bin/quillhaven.exe"), "program 1.8");
    assert_eq!(
        content("game/config/harbour.ini"),
        "[Fog]\nthick=1\nslow=3\n",
        "the own edit, without the patch"
    );
    let all = world.ledger().layers().unwrap().iter().map(|layer| layer.id).collect();
    reorder(&world.ledger(), &Reorder::Lift(all), KEEP).unwrap();
    assert_eq!(content("game/config/harbour.ini"), "[Fog]\nthick=1\nslow=2\n");
    assert_eq!(content("game/data/lamps/brass.dds"), "base brass");
    assert!(world.check(true).drifted.is_empty());
    // What is laid afterwards all the same goes over the new program, and that comes back.
    reorder(&world.ledger(), &Reorder::Lay(vec![id(&world.ledger(), "patch")]), KEEP).unwrap();
    assert_eq!(content("game/bin/quillhaven.exe"), "patched");
    reorder(&world.ledger(), &Reorder::Lift(vec![id(&world.ledger(), "patch")]), KEEP).unwrap();
    assert_eq!(content("game/bin/quillhaven.exe"), "program 1.8");
}

fn begin_to_capture(ledger: &Ledger, exchange: Option<&str>) -> bool {
    let request = CaptureRequest {
        name: exchange.unwrap_or("workshop").to_owned(),
        exchange: exchange.map(|name| id(ledger, name)),
        ..CaptureRequest::default()
    };
    permit(ledger).is_ok_and(|permit| begin_capture(ledger, permit, &request, NOW, KEEP, &Silent).is_ok())
}

fn during_capture(ledger: &Ledger) -> Option<Permit> {
    let patience = Duration::from_millis(200);
    for_tests::permit(ledger, patience, Some(OngoingKind::Capture)).ok()
}

fn end_capture(ledger: &Ledger) -> bool {
    let Some(permit) = during_capture(ledger) else { return false };
    let skip = ["left/**".to_owned()];
    let Ok(ending) = prepare_capture_end(ledger, permit, &skip, NOW, false, &Silent) else { return false };
    ending.change.is_none_or(|change| change.apply(&Silent).is_ok())
}

fn cancel_capture(ledger: &Ledger) -> bool {
    let Some(permit) = during_capture(ledger) else { return false };
    let Ok(cancelling) = prepare_capture_cancel(ledger, permit, NOW, &Silent) else { return false };
    if cancelling.change.is_some_and(|change| change.apply(&Silent).is_err()) {
        return false;
    }
    let Some(permit) = during_capture(ledger) else { return false };
    match prepare_capture_close(ledger, permit, NOW, &Silent) {
        Ok(Some(change)) => change.apply(&Silent).is_ok(),
        Ok(None) => true,
        Err(_) => false,
    }
}

/// What a program may do: change files of the base and of layers, make new ones, take some away, and write settings.
fn work(world: &World) {
    world.write("game/data/lamps/iron.dds", "forged iron");
    world.write("game/data/lamps/brass.dds", "polished");
    world.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=7\n");
    world.write("game/workshop/bench.dds", "bench");
    world.write("game/left/over.dds", "left over");
    fs::remove_file(world.path("game/version.txt")).unwrap();
}

#[test]
fn a_capture_begins_or_does_not_whatever_fails() {
    // Nothing of the game changes, and what counts is the catalogue's last word alone.
    let act: Act = |_, ledger| begin_to_capture(ledger, None);
    fail_and_count(&harbour(), act, Fault::Refuse, |_| 0);
}

#[test]
fn a_capture_ends_or_goes_on_whatever_fails() {
    let act: Act = |_, ledger| end_capture(ledger);
    for fault in faults() {
        let world = harbour();
        assert!(begin_to_capture(&world.ledger(), None));
        work(&world);
        fail_and_count(&world, act, fault, |is_done| if is_done { 0 } else { 6 });
    }
}

#[test]
fn a_capture_is_taken_back_or_goes_on_whatever_fails() {
    let act: Act = |_, ledger| cancel_capture(ledger);
    for fault in faults() {
        let world = harbour();
        let before = world.tree();
        assert!(begin_to_capture(&world.ledger(), None));
        work(&world);
        fail_and_count(&world, act, fault, |is_done| if is_done { 0 } else { 6 });
        assert_eq!(world.tree(), before, "to the byte, mode and time");
    }
}

#[test]
fn a_captured_layer_goes_and_the_game_is_itself_again() {
    let world = harbour();
    let before = world.tree();
    assert!(begin_to_capture(&world.ledger(), None));
    work(&world);
    assert!(end_capture(&world.ledger()));
    assert!(world.check(true).drifted.is_empty());
    assert!(!world.path("game/left").exists());
    let layer = id(&world.ledger(), "workshop");
    // It was made over the lamps, so going below them is asked about.
    let below = Reorder::Move(layer, odd_stack_core::stack::Target::Bottom);
    reorder(&world.ledger(), &below, KEEP).unwrap_err();
    reorder(&world.ledger(), &below, ChangeOptions { despite: true, ..KEEP }).unwrap();
    let content = |path: &str| fs::read_to_string(world.path(path)).unwrap();
    assert_eq!(content("game/data/lamps/brass.dds"), "lamps brass");
    assert_eq!(content("game/config/harbour.ini"), "[Fog]\nthick=9\nslow=7\n", "settings blend in any order");
    reorder(&world.ledger(), &Reorder::Remove(vec![layer]), KEEP).unwrap();
    assert_eq!(world.tree(), before);
    // In the place of a layer: it and all above are off meanwhile, and come back when it is taken back.
    assert!(begin_to_capture(&world.ledger(), Some("lamps")));
    assert_eq!(content("game/data/lamps/brass.dds"), "base brass");
    assert_eq!(content("game/bin/quillhaven.exe"), "program 1.7");
    work(&world);
    assert!(cancel_capture(&world.ledger()));
    assert_eq!(world.tree(), before);
    assert!(begin_to_capture(&world.ledger(), Some("lamps")));
    work(&world);
    assert!(end_capture(&world.ledger()));
    assert_eq!(content("game/data/lamps/brass.dds"), "polished");
    assert_eq!(content("game/bin/quillhaven.exe"), "patched");
    assert!(!world.path("game/data/lamps/new").exists(), "what only the old one had is gone");
    assert!(world.check(true).drifted.is_empty());
    let all = world.ledger().layers().unwrap().iter().map(|layer| layer.id).collect();
    reorder(&world.ledger(), &Reorder::Lift(all), KEEP).unwrap();
    assert!(world.check(true).drifted.is_empty());
    assert_eq!(content("game/data/lamps/iron.dds"), "base iron");
    assert_eq!(content("game/version.txt"), "1.7");
}

#[test]
fn settings_go_with_the_new_version() {
    for is_planned in [true, false] {
        let world = harbour();
        let clock = [("config/harbour.ini", "[Fog]\nthick=1\nslow=8\n")];
        world.add(&world.package("clock", &clock), &[".=game:"]).unwrap();
        assert_eq!(stack(&world.ledger()).unwrap().unmet, []);
        assert!(!is_planned || begin(&world.ledger()));
        update(&world);
        let report = finish(world.ledger()).unwrap();
        let fate = |name: &str| report.layers.iter().find(|row| row.layer == name).unwrap().clone();
        assert_eq!(fate("clock").fate, Fate::Laid, "{is_planned}");
        assert_eq!(
            fate("clock").reasons,
            ["sets Fog.slow in game:config/harbour.ini, which the game no longer has"]
        );
        assert_eq!(fate("patch").fate, Fate::Lifted, "its program is for the old version");
        let content = || fs::read_to_string(world.path("game/config/harbour.ini")).unwrap();
        assert_eq!(content(), "[Fog]\nthick=1\nearly=yes\nslow=8\n");
        reorder(&world.ledger(), &Reorder::Lay(vec![id(&world.ledger(), "patch")]), KEEP).unwrap();
        assert_eq!(content(), "[Fog]\nthick=9\nearly=yes\nslow=8\n");
        let all = stack(&world.ledger()).unwrap().layers;
        let wins: Vec<u64> = all.iter().map(|layer| layer.wins_files).collect();
        assert!(all.iter().all(|layer| layer.open_files == 0), "{all:?}");
        assert_eq!(wins, [1, 2, 2]);
        assert!(world.check(true).drifted.is_empty());
    }
}

/// What a program does at one of these paths: writes a content, or takes the file away.
const PATHS: [&str; 9] = [
    "game/version.txt",
    "game/bin/quillhaven.exe",
    "game/data/lamps/brass.dds",
    "game/data/lamps/iron.dds",
    "game/data/lamps/new/a.dds",
    "game/config/harbour.ini",
    "game/fresh/deep/x.dds",
    "game/fresh/y.dds",
    "game/config/new.ini",
];

fn deed() -> impl Strategy<Value = (usize, Option<u8>)> {
    (0..PATHS.len(), proptest::option::weighted(0.75, 0..4u8))
}

fn do_deed(world: &World, (path, content): (usize, Option<u8>)) {
    let path = PATHS[path];
    match content {
        Some(number) if path.ends_with(".ini") => {
            world.write(path, &format!("[Fog]\nthick={number}\nslow=2\n"));
        }
        Some(number) => world.write(path, &format!("content {number}")),
        // What is not there can't be taken away.
        None => drop(fs::remove_file(world.path(path))),
    }
}

/// All files without their times: what is blended is written anew.
fn contents(tree: Tree) -> Vec<(String, Vec<u8>)> {
    let file = |(path, thing)| match thing {
        Thing::File { content, .. } => Some((path, content)),
        Thing::Folder => None,
    };
    tree.into_iter().filter_map(file).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(windows) { 6 } else { 24 }, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn whatever_is_captured_stays_and_goes_again(
        deeds in prop::collection::vec(deed(), 1..10),
        lifted in prop::option::of(0..2usize),
    ) {
        let world = harbour();
        if let Some(lifted) = lifted {
            let layer = id(&world.ledger(), ["lamps", "patch"][lifted]);
            reorder(&world.ledger(), &Reorder::Lift(vec![layer]), KEEP).unwrap();
        }
        let before = world.tree();
        prop_assert!(begin_to_capture(&world.ledger(), None));
        deeds.iter().for_each(|deed| do_deed(&world, *deed));
        prop_assert!(cancel_capture(&world.ledger()));
        prop_assert_eq!(&world.tree(), &before, "taken back to the byte, mode and time");
        prop_assert!(begin_to_capture(&world.ledger(), None));
        deeds.iter().for_each(|deed| do_deed(&world, *deed));
        let after = contents(world.tree());
        prop_assert!(end_capture(&world.ledger()));
        prop_assert_eq!(&contents(world.tree()), &after, "what is there stays there");
        let report = world.check(true);
        prop_assert!(report.drifted.is_empty(), "{:?}", report.drifted);
        let ledger = world.ledger();
        let Some(layer) = ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == "workshop") else {
            return Ok(());
        };
        reorder(&ledger, &Reorder::Lift(vec![layer.id]), KEEP).unwrap();
        prop_assert_eq!(&world.tree(), &before, "off again to the byte, mode and time");
        reorder(&ledger, &Reorder::Lay(vec![layer.id]), KEEP).unwrap();
        prop_assert_eq!(&contents(world.tree()), &after);
        prop_assert!(world.check(true).drifted.is_empty());
    }
}
