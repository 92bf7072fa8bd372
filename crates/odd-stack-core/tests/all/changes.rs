//! Laying, lifting, moving: what is written, what comes back, what is never overwritten.

use std::fs;

use crate::world::{NOW, World, add, add_request, exchange, id, permit, reorder};
use filetime::FileTime;
use odd_stack_core::change::{ChangeError, ChangeOptions, Edits, EffectKind};
use odd_stack_core::expected::DriftKind;
use odd_stack_core::jobs::Owner;
use odd_stack_core::jobs::steps::{conflicts, inspect, prepare_add, prepare_reorder, show, stack, trace};
use odd_stack_core::jobs::{AddError, AddPlace, AddRequest, ConflictsRequest, Reorder};
use odd_stack_core::observer::Silent;
use odd_stack_core::package::Limits;
use odd_stack_core::stack::Target;

/// Where a package goes whose files the game does not know.
const AS_IT_IS: &[&str] = &[".=game:"];
const STOP: ChangeOptions = ChangeOptions::with(Edits::Stop);
const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);
const DISCARD: ChangeOptions = ChangeOptions::with(Edits::Discard);

fn harbour() -> World {
    World::with_game(&[
        ("game/data/Lamps/Brass.dds", "base brass"),
        ("game/fog.ini", "fog=1"),
        ("docs/p.ini", "p"),
    ])
}

fn read(world: &World, path: &str) -> String {
    fs::read_to_string(world.path(path)).unwrap()
}

fn lift(world: &World, name: &str, options: ChangeOptions) -> Result<(), ChangeError> {
    reorder(&world.ledger(), &Reorder::Lift(vec![id(&world.ledger(), name)]), options)
}

#[test]
fn files_take_the_spelling_of_the_base_and_folders_that_only_layers_needed_go() {
    let world = harbour();
    let before = world.tree();
    let package = world.package("lamps", &[("DATA/lamps/brass.DDS", "new"), ("Data/lamps/New/a.txt", "a")]);
    world.add(&package, &[".=game:"]).unwrap();
    let tree = world.tree();
    assert!(tree.contains_key("game/data/Lamps/Brass.dds") && tree.contains_key("game/data/Lamps/New/a.txt"));
    assert_eq!(tree.keys().filter(|path| path.to_lowercase().contains("brass")).count(), 1);
    lift(&world, "lamps", STOP).unwrap();
    assert_eq!(world.tree(), before, "names, contents, modes and times");
}

#[test]
fn base_folders_stay_even_if_empty() {
    let world = harbour();
    fs::create_dir_all(world.path("game/empty/inner")).unwrap();
    world.care_again(&world.request());
    let before = world.tree();
    world
        .add(&world.package("pack", &[("empty/inner/x", "x"), ("empty/more/y", "y")]), &[".=game:"])
        .unwrap();
    lift(&world, "pack", STOP).unwrap();
    assert_eq!(world.tree(), before);
}

#[cfg(unix)]
#[test]
fn modes_of_covered_files_come_back_and_patched_programs_stay_runnable() {
    use std::os::unix::fs::PermissionsExt;
    let world = World::with_game(&[("game/bin/run", "program"), ("game/locked", "read only")]);
    let set = |path: &str, mode: u32| {
        fs::set_permissions(world.path(path), fs::Permissions::from_mode(mode)).unwrap()
    };
    set("game/bin/run", 0o755);
    set("game/locked", 0o444);
    world.care_again(&world.request());
    let before = world.tree();
    world.add(&world.package("pack", &[("bin/run", "patched"), ("locked", "new")]), &[".=game:"]).unwrap();
    let mode = |path: &str| fs::metadata(world.path(path)).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode("game/bin/run"), 0o755);
    assert_eq!(mode("game/locked"), 0o644);
    lift(&world, "pack", STOP).unwrap();
    assert_eq!(world.tree(), before);
}

#[test]
fn equal_content_belongs_to_the_layer_and_is_not_rewritten() {
    let world = harbour();
    let before = world.tree();
    let same = world.package("same", &[("fog.ini", "fog=1"), ("extra.txt", "e")]);
    let ledger = world.ledger();
    let adding = prepare_add(
        &ledger,
        permit(&ledger).unwrap(),
        &add_request(&same, &[".=game:"]),
        NOW,
        STOP,
        false,
        &Silent,
    )
    .unwrap();
    let meeting = &adding.change.plan().meeting;
    assert_eq!((meeting.new_files, meeting.identical, meeting.over_base), (1, 1, 0));
    assert_eq!(adding.change.plan().effects.len(), 1);
    adding.change.apply(&Silent).unwrap();
    assert_eq!(world.tree()["game/fog.ini"], before["game/fog.ini"], "the base's own file, its own time");
    // A layer beneath brings other content: configuration that says nothing of its own lets it through.
    let other = world.package("other", &[("fog.ini", "fog=2"), ("other.txt", "o")]);
    add(&world.ledger(), &other, &[], Target::Bottom, STOP).unwrap();
    assert_eq!(read(&world, "game/fog.ini"), "fog=2");
    // What is no configuration keeps its address.
    let whole = world.package("whole", &[("other.txt", "w")]);
    add(&world.ledger(), &whole, &[".=game:"], Target::Bottom, STOP).unwrap();
    assert_eq!(read(&world, "game/other.txt"), "o");
    lift(&world, "other", STOP).unwrap();
    assert_eq!((read(&world, "game/fog.ini"), read(&world, "game/other.txt")), ("fog=1".into(), "w".into()));
}

#[test]
fn edited_files_stop_a_change_until_it_is_said_what_to_do() {
    let world = harbour();
    world.add(&world.package("fog", &[("fog.ini", "fog=9"), ("gone.txt", "g")]), &[]).unwrap();
    world.write("game/fog.ini", "my own fog");
    fs::remove_file(world.path("game/gone.txt")).unwrap();
    let tree = world.tree();
    let error = lift(&world, "fog", STOP).unwrap_err();
    let ChangeError::Drifted { drifted } = error else { panic!("{error}") };
    assert_eq!(drifted.len(), 1, "a file that is gone is in nobody's way");
    assert_eq!(
        (drifted[0].address.to_string().as_str(), drifted[0].kind),
        ("game:fog.ini", DriftKind::Edited)
    );
    assert_eq!(world.tree(), tree);
    let ledger = world.ledger();
    let reorder = Reorder::Lift(vec![id(&ledger, "fog")]);
    let change = prepare_reorder(&ledger, permit(&ledger).unwrap(), &reorder, "lift", NOW, KEEP, &Silent)
        .unwrap()
        .unwrap();
    let kept = change.plan().kept[0].path.clone();
    change.apply(&Silent).unwrap();
    assert_eq!(fs::read_to_string(kept).unwrap(), "my own fog");
    assert_eq!(read(&world, "game/fog.ini"), "fog=1");
}

#[test]
fn discarding_lets_go_and_dry_runs_do_not() {
    let world = harbour();
    world.add(&world.package("fog", &[("fog.ini", "fog=9"), ("x", "x")]), &[]).unwrap();
    world.write("game/fog.ini", "my own fog");
    let tree = world.tree();
    let ledger = world.ledger();
    let reorder = Reorder::Lift(vec![id(&ledger, "fog")]);
    let change = prepare_reorder(&ledger, permit(&ledger).unwrap(), &reorder, "lift", NOW, DISCARD, &Silent);
    drop(change.unwrap().unwrap());
    assert_eq!(world.tree(), tree);
    lift(&world, "fog", DISCARD).unwrap();
    assert_eq!(read(&world, "game/fog.ini"), "fog=1");
}

#[test]
fn a_changed_base_file_counts_as_the_games_own_once_that_is_said() {
    let world = harbour();
    world.write("game/fog.ini", "fog=1, and the game changed it");
    let package = world.package("fog", &[("fog.ini", "fog=9"), ("x", "x")]);
    let AddError::Change(ChangeError::Drifted { drifted }) = world.add(&package, &[]).unwrap_err() else {
        panic!()
    };
    assert_eq!(drifted[0].kind, DriftKind::BaseChanged);
    add(&world.ledger(), &package, &[], Target::Top, KEEP).unwrap();
    assert_eq!(read(&world, "game/fog.ini"), "fog=9");
    lift(&world, "fog", STOP).unwrap();
    assert_eq!(read(&world, "game/fog.ini"), "fog=1, and the game changed it");
    assert!(world.check(true).drifted.is_empty());
}

#[test]
fn touched_but_equal_files_are_no_drift() {
    let world = harbour();
    let package = world.package("fog", &[("fog.ini", "fog=9"), ("x", "x")]);
    world.add(&package, &[]).unwrap();
    filetime::set_file_mtime(world.path("game/fog.ini"), FileTime::from_unix_time(1_800_000_000, 0)).unwrap();
    assert!(world.check(false).drifted.is_empty());
    lift(&world, "fog", STOP).unwrap();
}

#[test]
fn an_unknown_file_in_the_way_is_not_overwritten() {
    let world = harbour();
    world.write("game/new.txt", "mine");
    let package = world.package("pack", &[("new.txt", "theirs"), ("same.txt", "alike")]);
    world.write("game/same.txt", "alike");
    let AddError::Change(ChangeError::Drifted { drifted }) = world.add(&package, AS_IT_IS).unwrap_err()
    else {
        panic!()
    };
    let found: Vec<_> = drifted.iter().map(|drift| (drift.address.to_string(), drift.kind)).collect();
    assert_eq!(found, [("game:new.txt".to_owned(), DriftKind::Stray)], "an equal one may lie there");
    add(&world.ledger(), &package, AS_IT_IS, Target::Top, KEEP).unwrap();
    assert_eq!(read(&world, "game/new.txt"), "theirs");
}

#[cfg(unix)]
#[test]
fn nothing_is_written_through_a_link() {
    use std::os::unix::fs::symlink;
    let world = harbour();
    fs::create_dir_all(world.path("outside")).unwrap();
    symlink(world.path("outside"), world.path("game/mods")).unwrap();
    symlink(world.path("outside/target.txt"), world.path("game/file.txt")).unwrap();
    let through = world.package("through", &[("mods/a.txt", "a"), ("b", "b")]);
    let AddError::Change(ChangeError::NotAFolder { address }) = world.add(&through, AS_IT_IS).unwrap_err()
    else {
        panic!()
    };
    assert_eq!(address.to_string(), "game:mods");
    let onto = world.package("onto", &[("file.txt", "new"), ("b", "b")]);
    add(&world.ledger(), &onto, AS_IT_IS, Target::Top, KEEP).unwrap();
    assert_eq!(read(&world, "game/file.txt"), "new");
    assert_eq!(fs::read_dir(world.path("outside")).unwrap().count(), 0);
    assert!(!fs::symlink_metadata(world.path("game/file.txt")).unwrap().is_symlink());
}

#[test]
fn a_file_against_a_folder_is_refused() {
    let world = harbour();
    let against_base = world.package("one", &[("data", "a file"), ("x", "x")]);
    let error = world.add(&against_base, AS_IT_IS).unwrap_err();
    assert!(matches!(error, AddError::Change(ChangeError::FileAgainstFolder { .. })), "{error}");
    let under_file = world.package("two", &[("fog.ini/inside.txt", "x"), ("x", "x")]);
    let error = world.add(&under_file, AS_IT_IS).unwrap_err();
    assert!(matches!(error, AddError::Change(ChangeError::FileAgainstFolder { .. })), "{error}");
    fs::create_dir_all(world.path("game/late")).unwrap();
    let onto_folder = world.package("three", &[("late", "a file"), ("x", "x")]);
    let error = world.add(&onto_folder, AS_IT_IS).unwrap_err();
    let AddError::Change(ChangeError::Drifted { drifted }) = error else { panic!("{error}") };
    assert_eq!(drifted[0].address.to_string(), "game:late");
    fs::write(world.path("game/late/mine.txt"), "mine").unwrap();
    add(
        &world.ledger(),
        &onto_folder,
        AS_IT_IS,
        Target::Top,
        ChangeOptions { edits: Edits::Discard, ..KEEP },
    )
    .unwrap();
    assert_eq!(read(&world, "game/late"), "a file");
    let saved = world.ledger().folder().join("kept/1/game/late/mine.txt");
    assert_eq!(fs::read_to_string(saved).unwrap(), "mine", "what nobody knows is never thrown away");
}

#[test]
fn what_add_says_before_is_what_happens() {
    let world = harbour();
    world.add(&world.package("low", &[("fog.ini", "low"), ("low.txt", "l")]), &[]).unwrap();
    let package = world.package("high", &[("fog.ini", "high"), ("low.txt", "l"), ("p.ini", "P"), ("n", "n")]);
    let places = ["fog.ini=game:", "low.txt=game:", "p.ini=docs:", "n=game:deep/down/n"];
    let request = add_request(&package, &places);
    let ledger = world.ledger();
    let before = (world.tree(), stack(&ledger).unwrap());
    let dry = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, STOP, true, &Silent).unwrap();
    let planned = dry.change.plan().clone();
    drop(dry);
    assert_eq!((world.tree(), stack(&ledger).unwrap()), before);
    assert_eq!(planned.meeting.over_layers.values().sum::<u64>(), 1);
    assert_eq!((planned.meeting.new_files, planned.meeting.over_base, planned.meeting.identical), (1, 1, 1));
    assert_eq!(planned.count(EffectKind::Add), (1, 1));
    let real = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, STOP, false, &Silent).unwrap();
    assert_eq!(*real.change.plan(), planned);
    real.change.apply(&Silent).unwrap();
    assert_eq!(read(&world, "game/deep/down/n"), "n");
    assert_eq!(read(&world, "docs/p.ini"), "P");
}

#[test]
fn lifted_layers_wait_in_the_stack_and_names_are_unique() {
    let world = harbour();
    let package = world.package("fog-1.2", &[("fog.ini", "fog=9"), ("x", "x")]);
    let ledger = world.ledger();
    let request = AddRequest {
        place: AddPlace::New { target: Some(Target::Top), lifted: true },
        ..add_request(&package, &[])
    };
    let tree = world.tree();
    let adding = prepare_add(&ledger, permit(&ledger).unwrap(), &request, NOW, STOP, false, &Silent).unwrap();
    assert_eq!((adding.reports[0].name.as_str(), adding.reports[0].version.as_deref()), ("fog", Some("1.2")));
    adding.change.apply(&Silent).unwrap();
    assert_eq!(world.tree(), tree);
    let taken = AddRequest { name: Some("F O_G".into()), ..request };
    let error =
        prepare_add(&ledger, permit(&ledger).unwrap(), &taken, NOW, STOP, false, &Silent).unwrap_err();
    assert!(matches!(error, AddError::NameTaken { .. }));
    reorder(&ledger, &Reorder::Lay(vec![id(&ledger, "fog")]), STOP).unwrap();
    assert_eq!(read(&world, "game/fog.ini"), "fog=9");
    let again = Reorder::Lay(vec![id(&ledger, "fog")]);
    let none = prepare_reorder(&ledger, permit(&ledger).unwrap(), &again, "lay", NOW, STOP, &Silent).unwrap();
    assert!(none.is_none(), "a stack that is so already makes no revision");
}

#[test]
fn contests_and_traces_tell_who_wins() {
    let world = harbour();
    for (name, fog, same) in [("one", "1", "s"), ("two", "2", "s"), ("three", "3", "t")] {
        world.add(&world.package(name, &[("fog.ini", fog), ("same", same)]), &[]).unwrap();
    }
    let ledger = world.ledger();
    let report = conflicts(&ledger, &ConflictsRequest::default()).unwrap();
    let pairs: Vec<_> = report
        .pairs
        .iter()
        .map(|p| (p.lower.as_str(), p.upper.as_str(), p.open_files, p.same_files))
        .collect();
    assert_eq!(pairs, [("one", "three", 2, 0), ("two", "three", 2, 0), ("one", "two", 1, 1)]);
    assert!(report.pairs[0].contests.iter().all(|contest| contest.winner == "three"));
    assert_eq!((report.open_files, report.no_effect), (2, vec!["one".to_owned(), "two".to_owned()]));
    assert_eq!(
        conflicts(
            &ledger,
            &ConflictsRequest { layer: Some(id(&ledger, "one")), ..ConflictsRequest::default() }
        )
        .unwrap()
        .pairs
        .len(),
        2
    );
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "two")]), STOP).unwrap();
    let traced = trace(&ledger, "FOG.ini", false).unwrap();
    assert_eq!(traced.address, "game:fog.ini");
    let rows: Vec<_> = traced.rows.iter().map(|row| (row.layer.as_deref(), row.laid, row.wins)).collect();
    assert_eq!(
        rows,
        [
            (Some("three"), true, true),
            (Some("two"), false, false),
            (Some("one"), true, false),
            (None, true, false)
        ]
    );
    assert!(traced.on_disk.as_laid && traced.rows.iter().all(|row| row.hash.is_some()));
    world.write("game/fog.ini", "edited");
    assert!(!trace(&ledger, "fog.ini", false).unwrap().on_disk.as_laid);
    assert!(trace(&ledger, "data", false).unwrap_err().to_string().contains("is a folder"));
    assert!(trace(&ledger, "nowhere", false).is_err());
    let shown = show(&ledger, id(&ledger, "three"), &Silent).unwrap();
    assert_eq!(shown.entries[0].covers, Some(Owner::Layer("one".into())), "a lifted layer covers nothing");
    // The tallies that the stack shows are kept up to date by differences; made afresh they agree.
    let row = stack(&ledger).unwrap().layers[0].clone();
    assert_eq!((row.wins_files, row.contested_files, row.open_files), (2, 2, 2));
}

#[test]
fn inspect_sees_what_add_will_do_and_changes_nothing() {
    let world = harbour();
    world.add(&world.package("low", &[("low.txt", "l"), ("x", "x")]), AS_IT_IS).unwrap();
    let package = world.package(
        "look",
        &[("fog.ini", "fog=1"), ("low.txt", "L"), ("data/Lamps/brass.dds", "!"), ("q.dll", "")],
    );
    let ledger = world.ledger();
    let before = (world.tree(), stack(&ledger).unwrap());
    let wanted = add_request(&package, AS_IT_IS).wanted;
    let report = inspect(&package, &wanted, &Limits::default(), Some(&ledger), &Silent).unwrap();
    let meeting = report.meeting.unwrap();
    assert_eq!((meeting.new_files, meeting.identical, meeting.over_base), (1, 1, 1));
    assert_eq!(meeting.over_layers[0].layer, "low");
    assert!(report.members.iter().any(|member| member.runs_code && member.path == "q.dll"));
    assert_eq!((world.tree(), stack(&ledger).unwrap()), before);
    let alone = inspect(&package, &wanted, &Limits::default(), None, &Silent).unwrap();
    assert!(alone.meeting.is_none() && alone.members.len() == 4);
}

#[test]
fn check_tells_every_kind_of_drift() {
    let world = World::with_game(&[("game/a", "aa"), ("game/b", "bb"), ("game/c/d", "dd"), ("docs/e", "ee")]);
    world.add(&world.package("pack", &[("a", "AA"), ("new/x", "xx"), ("new/y", "yy")]), AS_IT_IS).unwrap();
    assert_eq!(world.check(false).as_laid_files, 6);
    let quiet_edit = |path: &str| {
        let time = FileTime::from_last_modification_time(&fs::metadata(world.path(path)).unwrap());
        world.write(path, "!!");
        filetime::set_file_mtime(world.path(path), time).unwrap();
    };
    world.write("game/new/x", "edited");
    fs::remove_file(world.path("game/new/y")).unwrap();
    world.write("game/b", "changed by the game");
    fs::remove_file(world.path("docs/e")).unwrap();
    world.write("game/new/log/unknown.txt", "?");
    world.write("game/c/own.txt", "in a folder of the game");
    let kinds = |deep| -> Vec<(String, DriftKind)> {
        let found = world.check(deep).drifted.into_iter();
        found.map(|drifted| (drifted.drift.address.to_string(), drifted.drift.kind)).collect()
    };
    let expected = [
        ("docs:e", DriftKind::BaseGone),
        ("game:b", DriftKind::BaseChanged),
        ("game:c/own.txt", DriftKind::BaseAdded),
        ("game:new/log/unknown.txt", DriftKind::Stray),
        ("game:new/x", DriftKind::Edited),
        ("game:new/y", DriftKind::Missing),
    ]
    .map(|(address, kind)| (address.to_owned(), kind));
    assert_eq!(kinds(false), expected);
    // Content that changed behind an unchanged size and time shows only when contents are compared.
    quiet_edit("game/a");
    assert_eq!(kinds(false), expected);
    assert!(kinds(true).contains(&("game:a".to_owned(), DriftKind::Edited)));
    if cfg!(unix) {
        world.write("game/new/Y", "another spelling");
        world.write("game/new/y", "back again");
        assert!(kinds(false).contains(&("game:new/Y".to_owned(), DriftKind::OtherSpelling)));
    }
}

/// What is merged has the time of the newest of what went into it, also where a new version brings the same bytes.
#[test]
fn what_a_new_version_has_alike_gets_its_time() {
    let world = World::with_game(&[("game/config/fog.ini", "fog=1\ngulls=2\n")]);
    let package = |name: &str, content: &str, time: i64| {
        let package = world.package(name, &[("config/fog.ini", content), ("data/note.txt", name)]);
        let time = filetime::FileTime::from_unix_time(time, 0);
        filetime::set_file_mtime(package.join("config/fog.ini"), time).unwrap();
        package
    };
    world.add(&package("one", "fog=5\ngulls=2\n", 1_650_000_000), &[]).unwrap();
    world.add(&package("two", "fog=1\ngulls=7\n", 1_640_000_000), &[]).unwrap();
    let mut before = "one".to_owned();
    for time in [1_660_000_000, 1_630_000_000] {
        let ledger = world.ledger();
        let name = format!("one of {time}");
        let next = package(&name, "fog=5\ngulls=2\n", time);
        exchange(&ledger, id(&ledger, &before), &next, &[], STOP).unwrap();
        before = name;
        assert_eq!(world.check(false).drifted, [], "with {time}");
        assert_eq!(fs::read_to_string(world.path("game/config/fog.ini")).unwrap(), "fog=5\ngulls=7\n");
    }
}
