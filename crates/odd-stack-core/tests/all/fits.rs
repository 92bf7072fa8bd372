//! Fits on real files: remembered, upgraded, adopted.

use std::fs;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::archives::{Format, archive, file};
use crate::stored::stored;
use crate::world::{NOW, Thing, World, add_request, id, permit};
use filetime::FileTime;
use odd_stack_core::blend::Prefer;
use odd_stack_core::change::{ChangeError, ChangeOptions, Edits};
use odd_stack_core::expected::DriftKind;
use odd_stack_core::fit::{FitError, Rules};
use odd_stack_core::jobs::WhyNot;
use odd_stack_core::jobs::steps::{
    drifted_files, prepare_add, prepare_adopt, prepare_mend, show, unknown_originals,
};
use odd_stack_core::jobs::{
    AddError, AddPlace, AddRequest, AdoptReport, AdoptRequest, Arriving, Mending, Patch, PlacingRequest,
};
use odd_stack_core::observer::{Observer, Silent, Work};
use odd_stack_core::package::Limits;
use odd_stack_core::stack::Target;

const STOP: ChangeOptions = ChangeOptions::with(Edits::Stop);

fn harbour() -> World {
    World::with_game(&[
        ("game/bin/quillhaven.exe", "program"),
        ("game/data/lamps/brass.dds", "base brass"),
        ("game/data/lamps/iron.dds", "base iron"),
        ("game/config/harbour.ini", "[Gulls]\ncount=40\n"),
        ("docs/profiles/default.ini", "name=keeper"),
    ])
}

/// Puts the package into the place of the layer `old`, changed by `set`.
fn upgrade(
    world: &World,
    old: &str,
    package: &std::path::Path,
    set: impl FnOnce(&mut AddRequest),
) -> Result<odd_stack_core::change::Plan, AddError> {
    let ledger = world.ledger();
    let mut request = AddRequest { place: AddPlace::Exchange(id(&ledger, old)), ..add_request(package, &[]) };
    set(&mut request);
    let adding = prepare_add(&ledger, permit(&ledger)?, &request, NOW, STOP, false, &Silent)?;
    let plan = adding.change.plan().clone();
    adding.change.apply(&Silent)?;
    Ok(plan)
}

fn read(world: &World, path: &str) -> String {
    fs::read_to_string(world.path(path)).unwrap()
}

#[test]
fn an_upgrade_writes_only_what_changed_and_tells_the_difference() {
    let world = harbour();
    let old = [
        ("Lamps 1.0/data/lamps/brass.dds", "one"),
        ("Lamps 1.0/data/lamps/same.dds", "same"),
        ("Lamps 1.0/data/lamps/old.dds", "old"),
        ("Lamps 1.0/data/lamps/Case.dds", "case"),
    ];
    world.add(&world.package("lamps-1.0", &old), &[]).unwrap();
    world
        .add(
            &world.package("fog", &[("data/lamps/iron.dds", "fog iron"), ("data/lamps/old.dds", "fog")]),
            &[],
        )
        .unwrap();
    let others = world.tree()["game/data/lamps/iron.dds"].clone();
    let new = [
        ("Lamps_new/data/lamps/brass.dds", "two"),
        ("Lamps_new/data/lamps/same.dds", "same"),
        ("Lamps_new/data/lamps/iron.dds", "lamps iron"),
        ("Lamps_new/data/lamps/case.DDS", "case"),
        ("Lamps_new/readme.txt", "read me"),
    ];
    let package = world.package("lamps-1.1", &new);
    // The same content with another time is not written again.
    filetime::set_file_mtime(
        package.join("Lamps_new/data/lamps/same.dds"),
        FileTime::from_unix_time(1_650_000_000, 0),
    )
    .unwrap();
    let same = world.tree()["game/data/lamps/same.dds"].clone();
    let plan = upgrade(&world, "lamps", &package, |_| ()).unwrap();
    let difference = plan.differences.into_iter().next().unwrap().1;
    let shown =
        |list: &[odd_stack_core::address::Address]| list.iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(shown(&difference.added), ["game:data/lamps/iron.dds"]);
    assert_eq!(shown(&difference.changed), ["game:data/lamps/brass.dds"]);
    assert_eq!(shown(&difference.respelled), ["game:data/lamps/case.DDS"]);
    assert_eq!(shown(&difference.gone), ["game:data/lamps/old.dds"]);
    assert_eq!(difference.unchanged_files, 1);
    assert_eq!(shown(&difference.newly_contested), ["game:data/lamps/iron.dds"]);
    assert_eq!(shown(&difference.no_longer_contested), ["game:data/lamps/old.dds"]);
    let tree = world.tree();
    assert_eq!(tree["game/data/lamps/same.dds"], same);
    assert_eq!(tree["game/data/lamps/iron.dds"], others, "the layer above still wins, to the byte and time");
    assert_eq!(read(&world, "game/data/lamps/old.dds"), "fog");
    if !cfg!(windows) {
        assert!(
            tree.contains_key("game/data/lamps/case.DDS") && !tree.contains_key("game/data/lamps/Case.dds")
        );
    }
    assert!(world.check(true).drifted.is_empty());
    assert!(!tree.contains_key("game/readme.txt"));
}

#[test]
fn edited_settings_are_carried_over_or_asked_about() {
    let world = harbour();
    let ini = |text: &str| {
        [("data/lamps/brass.dds", "one"), ("config/lamps.ini", text)].map(|(a, b)| (a, b.to_owned()))
    };
    let package = |name: &str, text: &str| {
        let files = ini(text);
        world.package(name, &files.each_ref().map(|(path, content)| (*path, content.as_str())))
    };
    world.add(&package("lamps-1", "[a]\nx=1\ny=1\n"), &[]).unwrap();
    world.write("game/config/lamps.ini", "[a]\nx=7\ny=1\n");
    let plan = upgrade(&world, "lamps", &package("lamps-2", "[a]\nx=1\ny=2\nz=3\n"), |_| ()).unwrap();
    assert_eq!(read(&world, "game/config/lamps.ini"), "[a]\nx=7\ny=2\nz=3\n");
    assert_eq!(plan.carried[0].changes, ["a.x"]);
    assert_eq!(fs::read_to_string(&plan.carried[0].kept).unwrap(), "[a]\nx=7\ny=1\n", "nothing is lost");
    // It is still an edit, which no later change may lose.
    let drifted = world.check(false).drifted;
    assert_eq!(drifted.iter().map(|it| it.drift.kind).collect::<Vec<_>>(), [DriftKind::Edited]);
    let before = world.tree();
    let third = package("lamps-3", "[a]\nx=5\ny=3\nz=3\n");
    let error = upgrade(&world, "lamps", &third, |_| ()).unwrap_err();
    let AddError::Change(ChangeError::EditsClash { files }) = error else { panic!("{error}") };
    let clash = &files[0].clashes[0];
    assert_eq!(
        (clash.what.as_str(), clash.mine.as_deref(), clash.new.as_deref()),
        ("a.x", Some("7"), Some("5"))
    );
    assert_eq!(world.tree(), before);
    upgrade(&world, "lamps", &third, |request| request.prefer = Some(Prefer::Mine)).unwrap();
    assert_eq!(read(&world, "game/config/lamps.ini"), "[a]\nx=7\ny=3\nz=3\n");
    // Back to where it began; what the person has is what the version brings, so no edit is left.
    world.write("game/config/lamps.ini", "[a]\nx=1\ny=1\n");
    upgrade(&world, "lamps", &package("lamps-1", "[a]\nx=1\ny=1\n"), |_| ()).unwrap();
    assert!(world.check(true).drifted.is_empty());
    // What is no text is asked about as before.
    fs::write(world.path("game/data/lamps/brass.dds"), b"\0edited").unwrap();
    let binary = world
        .package("lamps-4", &[("data/lamps/brass.dds", "four"), ("config/lamps.ini", "[a]\nx=1\ny=1\n")]);
    let error = upgrade(&world, "lamps", &binary, |_| ()).unwrap_err();
    assert!(matches!(error, AddError::Change(ChangeError::Drifted { .. })), "{error}");
}

#[test]
fn a_package_of_changed_files_goes_onto_the_version_it_is_for() {
    let world = harbour();
    let whole =
        [("data/lamps/brass.dds", "one"), ("data/lamps/old.dds", "old"), ("data/lamps/keep.dds", "keep")];
    world.add(&world.package("lamps-1.0", &whole), &[]).unwrap();
    let sheet = "patches = \"1.0\"\ntakes_away = [\"data/lamps/old.dds\"]\n";
    let patch = world.package("lamps-1.1", &[("data/lamps/brass.dds", "two"), ("oddfit.toml", sheet)]);
    let is_patch = upgrade(&world, "lamps", &patch, |_| ()).unwrap_err();
    assert!(matches!(is_patch, AddError::IsPatch { .. }), "it would throw away all others: {is_patch}");
    let with_patch = |request: &mut AddRequest| request.patch = Some(Patch::default());
    upgrade(&world, "lamps", &patch, with_patch).unwrap();
    let tree = world.tree();
    assert_eq!(read(&world, "game/data/lamps/brass.dds"), "two");
    assert!(tree.contains_key("game/data/lamps/keep.dds") && !tree.contains_key("game/data/lamps/old.dds"));
    let ledger = world.ledger();
    let layer = show(&ledger, id(&ledger, "lamps"), &Silent).unwrap().layer;
    assert_eq!((layer.version.as_deref(), layer.files), (Some("1.1"), 2));
    let error = upgrade(&world, "lamps", &patch, with_patch).unwrap_err();
    assert!(matches!(error, AddError::PatchOfOther { .. }), "{error}");
    let silent = world.package("lamps-1.2", &[("data/lamps/keep.dds", "kept")]);
    let error = upgrade(&world, "lamps", &silent, with_patch).unwrap_err();
    assert!(matches!(error, AddError::PatchOfOther { wanted: None, .. }), "{error}");
    let onto = |request: &mut AddRequest| {
        request.patch = Some(Patch { onto: Some("v1.1.0".into()), despite: false })
    };
    upgrade(&world, "lamps", &silent, onto).unwrap();
    assert!(world.check(true).drifted.is_empty());
}

#[test]
fn a_remembered_fit_asks_only_about_what_is_new() {
    let world = harbour();
    let first = [
        ("polished/data/lamps/brass.dds", "polished"),
        ("matte/data/lamps/brass.dds", "matte"),
        ("extras/data/lamps/more.dds", "more"),
        ("readme.txt", "read"),
    ];
    let package = world.package("lamps-1", &first);
    let choose = |options: &[(&str, &str)]| {
        let chosen = options.iter().map(|(id, option)| ((*id).to_owned(), (*option).to_owned())).collect();
        PlacingRequest { rules: Rules { chosen, ..Rules::default() }, sheet: None }
    };
    let ledger = world.ledger();
    let add = |wanted: PlacingRequest| {
        let request = AddRequest { wanted, ..add_request(&package, &[]) };
        let adding = prepare_add(&ledger, permit(&ledger)?, &request, NOW, STOP, false, &Silent)?;
        Ok::<_, AddError>(adding.change.apply(&Silent)?)
    };
    let error = add(choose(&[])).unwrap_err();
    assert!(matches!(error, AddError::Fit { source: FitError::ChoiceNeeded { .. }, .. }), "{error}");
    add(choose(&[("variant", "matte"), ("extras", "on")])).unwrap();
    assert_eq!(read(&world, "game/data/lamps/brass.dds"), "matte");
    let shown = show(&ledger, id(&ledger, "lamps"), &Silent).unwrap();
    assert_eq!(shown.chosen["variant"], "matte");
    assert_eq!(shown.fit.choice[0].default.as_deref(), Some("matte"));
    // A further option and a new document are no question.
    let second = [
        ("polished/data/lamps/brass.dds", "polished 2"),
        ("matte/data/lamps/brass.dds", "matte 2"),
        ("golden/data/lamps/brass.dds", "golden 2"),
        ("extras/data/lamps/more.dds", "more 2"),
        ("changelog.txt", "new"),
    ];
    upgrade(&world, "lamps", &world.package("lamps-2", &second), |_| ()).unwrap();
    assert_eq!(
        (read(&world, "game/data/lamps/brass.dds"), read(&world, "game/data/lamps/more.dds")),
        ("matte 2".into(), "more 2".into())
    );
    let gone = [
        ("polished/data/lamps/brass.dds", "p"),
        ("golden/data/lamps/brass.dds", "g"),
        ("extras/data/lamps/more.dds", "m"),
    ];
    let error = upgrade(&world, "lamps", &world.package("lamps-3", &gone), |_| ()).unwrap_err();
    let AddError::Fit { source, .. } = error else { panic!("{error}") };
    assert!(matches!(&source, FitError::NoSuchOption { options, .. } if options.len() == 2), "{source}");
    // When there is nothing to choose any more, that is no question either.
    let one = [("data/lamps/brass.dds", "one"), ("data/lamps/more.dds", "more 3")];
    upgrade(&world, "lamps", &world.package("lamps-4", &one), |_| ()).unwrap();
    assert_eq!(read(&world, "game/data/lamps/brass.dds"), "one");
    // Places that a person gave are kept, and new files that they do not reach are asked about.
    let own = world.package("own-1", &[("a/x.txt", "x"), ("b/y.txt", "y")]);
    world.add(&own, &["a=docs:own"]).unwrap();
    let later = world.package("own-2", &[("a/x.txt", "x2"), ("b/z.txt", "z"), ("c/new.txt", "n")]);
    let error = upgrade(&world, "own", &later, |_| ()).unwrap_err();
    assert!(error_question(&error).contains("`c`") && !error_question(&error).contains("`b`"), "{error}");
    let moved = world.package("own-3", &[("other/z.txt", "x3")]);
    let error = upgrade(&world, "own", &moved, |_| ()).unwrap_err();
    assert!(error_question(&error).contains("none of its files again"), "{error}");
    let moved = world.package("own-4", &[("other/z.txt", "x3"), ("more/y.txt", "x4")]);
    let error = upgrade(&world, "own", &moved, |_| ()).unwrap_err();
    assert!(error_question(&error).contains("no `a`"), "{}", error_question(&error));
}

fn error_question(error: &AddError) -> String {
    match error {
        AddError::Fit { source: FitError::Unclear(unclear), .. } => unclear.question.clone(),
        other => other.to_string(),
    }
}

fn adopt(world: &World, package: &std::path::Path, dry_run: bool) -> Result<AdoptReport, AddError> {
    let ledger = world.ledger();
    let request = AdoptRequest {
        package: package.to_path_buf(),
        name: None,
        version: None,
        variant: None,
        wanted: PlacingRequest::default(),
        limits: Limits::default(),
        originals: None,
    };
    let adopting = prepare_adopt(&ledger, permit(&ledger)?, &request, NOW, dry_run, &Silent)?;
    let mut report = adopting.report;
    if !dry_run {
        report.revision = Some(adopting.change.apply(&Silent)?);
    }
    Ok(report)
}

#[test]
fn files_put_there_by_hand_become_a_layer_and_nothing_is_written() {
    let world = harbour();
    let files = [
        ("Lamps/data/lamps/brass.dds", "base brass"),
        ("Lamps/data/lamps/later.dds", "later"),
        ("Lamps/data/lamps/iron.dds", "other iron"),
        ("Lamps/data/lamps/gone.dds", "gone"),
    ];
    let package = world.package("lamps-1.0", &files);
    // One lay there when the game was added, one was put there since.
    world.write("game/data/lamps/later.dds", "later");
    let before = world.tree();
    let dry = adopt(&world, &package, true).unwrap();
    assert!(world.ledger().layers().unwrap().is_empty());
    let report = adopt(&world, &package, false).unwrap();
    assert_eq!(report.adopted, dry.adopted);
    assert_eq!(report.adopted, ["game:data/lamps/brass.dds", "game:data/lamps/later.dds"]);
    assert_eq!(report.originals_unknown, ["game:data/lamps/brass.dds"]);
    let states: Vec<_> = report.not_there.iter().map(|row| (row.address.as_str(), row.state)).collect();
    assert_eq!(
        states,
        [("game:data/lamps/gone.dds", WhyNot::Missing), ("game:data/lamps/iron.dds", WhyNot::OtherContent),]
    );
    assert_eq!(world.tree(), before);
    assert!(world.check(true).drifted.is_empty());
    let ledger = world.ledger();
    let lift = |lift: bool| {
        let layers = vec![id(&ledger, "lamps")];
        let order = if lift {
            odd_stack_core::jobs::Reorder::Lift(layers)
        } else {
            odd_stack_core::jobs::Reorder::Lay(layers)
        };
        let change = odd_stack_core::jobs::steps::prepare_reorder(
            &ledger,
            permit(&ledger).unwrap(),
            &order,
            "t",
            NOW,
            STOP,
            &Silent,
        );
        let change = change.unwrap().unwrap();
        let missing: Vec<String> = change.plan().originals_missing.iter().map(ToString::to_string).collect();
        change.apply(&Silent).unwrap();
        missing
    };
    assert_eq!(lift(true), ["game:data/lamps/brass.dds"]);
    assert!(!world.tree().contains_key("game/data/lamps/brass.dds"));
    let accept = || {
        let files = drifted_files(&ledger, &[], &Silent).unwrap();
        let files: Vec<_> = files.into_iter().map(|file| (file, Mending::Accept)).collect();
        let plan = prepare_mend(&ledger, permit(&ledger).unwrap(), &files, "t", NOW, &Silent).unwrap();
        let count = plan.rows.len();
        plan.change.map(|change| change.apply(&Silent).unwrap());
        (count, unknown_originals(&ledger).unwrap().len())
    };
    assert_eq!(accept(), (0, 1));
    world.write("game/data/lamps/brass.dds", "the true brass");
    assert_eq!(accept(), (1, 0));
    let repaired = world.tree();
    assert!(lift(false).is_empty());
    assert_eq!(read(&world, "game/data/lamps/brass.dds"), "base brass");
    assert!(lift(true).is_empty());
    assert_eq!(world.tree(), repaired, "the accepted file comes back to the byte, mode and time");
    assert!(adopt(&world, &world.package("none", &[("data/lamps/x.dds", "x")]), false).is_err());
}

#[test]
fn what_a_sheet_takes_away_comes_back() {
    let world = harbour();
    let before = world.tree();
    let sheet = "takes_away = [\"data/lamps/iron.dds\", \"docs:profiles/default.ini\"]\n[[place]]\nfrom = \"data\"\nto = \"data\"\n";
    let package = world.package("away", &[("data/lamps/new.dds", "new"), ("oddfit.toml", sheet)]);
    world.add(&package, &[]).unwrap();
    let tree = world.tree();
    assert!(
        !tree.contains_key("game/data/lamps/iron.dds") && !tree.contains_key("docs/profiles/default.ini")
    );
    assert!(world.check(true).drifted.is_empty());
    // A layer above puts it again; the game's client putting it back is drift.
    world.add(&world.package("above", &[("data/lamps/iron.dds", "above")]), &[]).unwrap();
    assert_eq!(read(&world, "game/data/lamps/iron.dds"), "above");
    world.write("docs/profiles/default.ini", "put back");
    assert_eq!(world.check(false).drifted.len(), 1);
    fs::remove_file(world.path("docs/profiles/default.ini")).unwrap();
    let ledger = world.ledger();
    let all = odd_stack_core::jobs::Reorder::Lift(vec![id(&ledger, "away"), id(&ledger, "above")]);
    let change = odd_stack_core::jobs::steps::prepare_reorder(
        &ledger,
        permit(&ledger).unwrap(),
        &all,
        "t",
        NOW,
        STOP,
        &Silent,
    );
    change.unwrap().unwrap().apply(&Silent).unwrap();
    assert_eq!(world.tree(), before);
}

#[test]
fn copies_of_the_games_own_files_are_left_out() {
    let world = harbour();
    let files = [
        ("data/lamps/brass.dds", "new brass"),
        ("data/lamps/iron.dds", "base iron"),
        ("data/lamps/new.dds", "new"),
    ];
    world.add(&world.package("lamps", &files), &[]).unwrap();
    let ledger = world.ledger();
    let shown = show(&ledger, id(&ledger, "lamps"), &Silent).unwrap();
    assert_eq!(
        shown.entries.iter().map(|entry| entry.address.as_str()).collect::<Vec<_>>(),
        ["game:data/lamps/brass.dds", "game:data/lamps/new.dds"]
    );
    // Two folders with the same addresses are no choice when one holds the originals.
    let both = [("originals/data/lamps/iron.dds", "base iron"), ("new/data/lamps/iron.dds", "new iron")];
    world.add(&world.package("iron", &both), &[]).unwrap();
    assert_eq!(read(&world, "game/data/lamps/iron.dds"), "new iron");
    let only = world.package("only", &[("data/lamps/iron.dds", "base iron")]);
    assert!(matches!(
        world.add(&only, &[]),
        Err(AddError::Fit { source: FitError::NothingPlaced { .. }, .. })
    ));
    let asked = AddRequest {
        place: AddPlace::New { target: Some(Target::Top), lifted: false },
        ..add_request(&only, &[".=game:"])
    };
    let adding = prepare_add(&ledger, permit(&ledger).unwrap(), &asked, NOW, STOP, false, &Silent).unwrap();
    assert_eq!(adding.reports[0].files, 1, "what a person places is placed");
    drop(adding);
    assert!(world.tree().values().any(|thing| matches!(thing, Thing::File { .. })));
}

/// Counts how often a package is read.
#[derive(Default)]
struct Readings(AtomicUsize);

impl Observer for Readings {
    fn begin(&self, work: Work, _items: u64, _bytes: u64) {
        if work == Work::Reading {
            self.0.fetch_add(1, Ordering::SeqCst);
        }
    }
}

#[test]
fn a_package_is_unpacked_once_however_often_it_is_asked_about() {
    let world = harbour();
    let sheet = "format = 1\n[[choice]]\nid = \"finish\"\n\
                 [[choice.option]]\nname = \"gold\"\nplace = [{ from = \"gold\", to = \"data/lamps\" }]\n\
                 [[choice.option]]\nname = \"tin\"\nplace = [{ from = \"tin\", to = \"data/lamps\" }]\n";
    let things = [file("gold/brass.dds", "gold"), file("tin/brass.dds", "tin"), file("oddfit.toml", sheet)];
    for format in [Format::SevenZ, Format::TarGz] {
        let package = world.path(&format!("lamps-{format:?}"));
        fs::write(&package, archive(format, &things)).unwrap();
        let (ledger, readings) = (world.ledger(), Readings::default());
        let mut arriving = Arriving::new(&ledger, permit(&ledger).unwrap(), false);
        let mut request = add_request(&package, &[]);
        let error = arriving.prepare(&[request.clone()], NOW, STOP, &readings).unwrap_err();
        assert!(matches!(error, AddError::Fit { source: FitError::ChoiceNeeded { .. }, .. }), "{error}");
        // Nobody else gets in between, and the package is not needed any more.
        assert!(permit(&ledger).is_err());
        fs::remove_file(&package).unwrap();
        request.wanted.rules.chosen.insert("finish".into(), "tin".into());
        let adding = arriving.prepare(&[request], NOW, STOP, &readings).unwrap();
        assert_eq!(readings.0.load(Ordering::SeqCst), 1, "{format:?}");
        adding.change.apply(&Silent).unwrap();
        drop(arriving);
        assert_eq!(read(&world, "game/data/lamps/brass.dds"), "tin");
        assert_eq!(stored(ledger.folder()).len(), 1, "what is not needed is dropped: {format:?}");
        let lamps = vec![ledger.layers().unwrap()[0].id];
        crate::world::reorder(&ledger, &odd_stack_core::jobs::Reorder::Remove(lamps), STOP).unwrap();
        // Dropped unasked, it leaves nothing.
        fs::write(&package, archive(format, &things)).unwrap();
        let mut arriving = Arriving::new(&ledger, permit(&ledger).unwrap(), false);
        arriving.prepare(&[add_request(&package, &[])], NOW, STOP, &Silent).unwrap_err();
        drop(arriving);
        assert!(!ledger.folder().join("intake").exists());
        assert!(permit(&ledger).is_ok());
    }
}
