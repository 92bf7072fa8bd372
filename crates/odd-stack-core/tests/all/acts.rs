//! Worlds, and what is done in them where changes are cut short.

use std::fs;

use crate::archives::{Format, archive, file};
use crate::world::{NOW, World, add, exchange, id, permit, reorder, settle, tweak};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::steps::{drifted_files, prepare_adopt, prepare_mend};
use odd_stack_core::jobs::{
    AddError, AdoptRequest, MendError, Mending, Originals, PlacingRequest, Reorder, Ruling,
};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::package::Limits;
use odd_stack_core::stack::Target;

pub const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

pub fn two_layers() -> World {
    two_layers_laid(false)
}

/// As [`two_layers`], all that may be laid as links or not.
pub fn two_layers_laid(by_link: bool) -> World {
    let world = World::with_game(&[
        ("game/bin/quillhaven.exe", "program"),
        ("game/data/lamps/brass.dds", "base brass"),
        ("game/data/lamps/copper.dds", "base copper"),
        ("game/config/harbour.ini", "fog=1"),
        ("docs/profiles/default.ini", "name=keeper"),
    ]);
    let world = if by_link { world.with_links() } else { world };
    let lamps =
        [("data/lamps/brass.dds", "lamps brass"), ("data/new/deep/a.txt", "a"), ("Extra/one.txt", "1")];
    let fog =
        [("data/lamps/brass.dds", "fog brass"), ("extra/two.txt", "2"), ("config/harbour.ini", "fog=9")];
    world.add(&world.package("lamps", &lamps), &[]).unwrap();
    world.add(&world.package("fog", &fog), &[]).unwrap();
    let quays = [
        ("game/data/lamps/copper.dds", "quays copper"),
        ("game/data/lamps/brass.dds", "quays brass"),
        ("game/quays/new/q.txt", "q"),
        ("docs/profiles/default.ini", "name=quays"),
    ];
    world.package("quays", &quays);
    world
}

/// Files that are written into the game while they are read, where all are big.
pub fn add_wharf(world: &World, ledger: &Ledger) -> bool {
    let files = [
        ("bin/helper.exe", "helps"),
        ("data/lamps/read me.txt", "read"),
        ("wharf/new/tall.txt", "tall"),
        ("wharf/new/tall again.txt", "tall"),
    ];
    add(ledger, &world.package("wharf", &files), &[".=game:"], Target::Top, KEEP).is_ok()
}

pub fn add_quays(world: &World, ledger: &Ledger) -> bool {
    let places = ["game=game:", "docs=docs:"];
    add(ledger, &world.path("packages/quays"), &places, Target::Below(id(ledger, "fog")), KEEP).is_ok()
}

pub fn lift_lamps(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lift(vec![id(ledger, "lamps")]), KEEP).is_ok()
}

pub fn move_lamps(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Move(id(ledger, "lamps"), Target::Top), KEEP).is_ok()
}

pub fn remove_both(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Remove(vec![id(ledger, "lamps"), id(ledger, "fog")]), KEEP).is_ok()
}

/// From a package that is taken in while it is listed, and of which not all is placed.
pub fn upgrade_lamps(world: &World, ledger: &Ledger) -> bool {
    let things = [
        file("lamps/data/lamps/brass.dds", "newer brass"),
        file("lamps/data/new/deep/a.txt", "a"),
        file("lamps/data/new/deep/b.txt", "b"),
        file("extras/readme.txt", "left out"),
    ];
    let package = world.path("packages/lamps.tar.gz");
    fs::write(&package, archive(Format::TarGz, &things)).unwrap();
    exchange(ledger, id(ledger, "lamps"), &package, &["lamps=game:"], KEEP).is_ok()
}

/// A folder of the old version becomes a file of the new one, and a file a folder.
pub fn turn_lamps(world: &World, ledger: &Ledger) -> bool {
    let files = [("data/new", "one file now"), ("Extra/one.txt/inside.txt", "a folder now")];
    let package = world.package("turned", &files);
    exchange(ledger, id(ledger, "lamps"), &package, &[".=game:"], KEEP).is_ok()
}

/// No file changes, and what was the game's own becomes a layer's.
pub fn adopt_copper(world: &World, ledger: &Ledger) -> bool {
    adopt(ledger, world.package("copper", &[("data/lamps/copper.dds", "base copper")]))
}

pub fn adopt(ledger: &Ledger, package: std::path::PathBuf) -> bool {
    let request = AdoptRequest {
        package,
        name: None,
        version: None,
        variant: None,
        wanted: PlacingRequest::default(),
        limits: Limits::default(),
        originals: Some(Originals::Take),
    };
    let adopting = permit(ledger).map_err(AddError::from);
    let adopting = adopting.and_then(|permit| prepare_adopt(ledger, permit, &request, NOW, false, &Silent));
    adopting.is_ok_and(|adopting| adopting.change.apply(&Silent).is_ok())
}

/// A person's setting goes over into the new version.
pub fn carry_fog(world: &World, ledger: &Ledger) -> bool {
    let package = world.package("fog-2", &[("config/harbour.ini", "fog=9\nsea=3\n"), ("extra/two.txt", "2")]);
    exchange(ledger, id(ledger, "fog"), &package, &[".=game:"], ChangeOptions::default()).is_ok()
}

/// A folder comes whole, with settings in it that blend and files beside them whose names are made from theirs.
pub fn lay_front(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lay(vec![id(ledger, "front")]), KEEP).is_ok()
}

pub fn front_lifted() -> World {
    let world = two_layers();
    let files = [
        ("quay/new/front.ini", "gulls=4\n"),
        ("quay/new/front.blend", "a scene"),
        ("quay/new/front.ini.part", "a part"),
        ("quay/new/front", "no ending"),
    ];
    world.add(&world.package("front", &files), &[".=game:"]).unwrap();
    tweak(&world.ledger(), "quay/new/front.ini", &[("gulls", Some("9"))]).unwrap();
    let ledger = world.ledger();
    reorder(&ledger, &Reorder::Lift(vec![id(&ledger, "front")]), KEEP).unwrap();
    world
}

/// Folders of the game go with all in them, one that is empty among them.
pub fn take_folders_away(world: &World, ledger: &Ledger) -> bool {
    let sheet = "takes_away = [\"data\", \"empty\", \"config/*\"]\n\
                 place = [{ from = \"x\", to = \"game:x\" }]\n";
    let package = world.package("bare", &[("oddfit.toml", sheet), ("x", "x")]);
    add(ledger, &package, &[], Target::Top, KEEP).is_ok()
}

/// The lower layer wins from then on.
pub fn settle_brass(_: &World, ledger: &Ledger) -> bool {
    settle(ledger, "data/lamps/brass.dds", Ruling::With(id(ledger, "lamps"))).is_ok()
}

/// A person's own settings, in a file of a layer and in one of the game.
pub fn tweak_both(_: &World, ledger: &Ledger) -> bool {
    tweak(ledger, "docs:profiles/default.ini", &[("name", Some("me"))]).is_ok()
        && tweak(ledger, "config/harbour.ini", &[("sea", Some("3"))]).is_ok()
}

/// Another layer's settings are blended with those of one that is laid.
pub fn add_sea(world: &World, ledger: &Ledger) -> bool {
    let package = world.package("sea", &[("config/harbour.ini", "fog=1\nsea=2\n")]);
    add(ledger, &package, &[".=game:"], Target::Top, KEEP).is_ok()
}

pub fn mend(ledger: &Ledger, mending: Mending) -> bool {
    let mended = permit(ledger).map_err(MendError::from).and_then(|permit| {
        let files = drifted_files(ledger, &["game:*".to_owned()], &Silent)?;
        let files: Vec<_> = files.into_iter().map(|file| (file, mending)).collect();
        prepare_mend(ledger, permit, &files, "mend", NOW, &Silent)
    });
    mended.is_ok_and(|plan| plan.change.is_none_or(|change| change.apply(&Silent).is_ok()))
}

/// Two layers, and every kind of drift.
pub fn drifted_world() -> World {
    let world = two_layers();
    world.write("game/config/harbour.ini", "fog=9\nmine=1\n");
    world.write("game/data/lamps/brass.dds", "scratched");
    fs::remove_file(world.path("game/data/new/deep/a.txt")).unwrap();
    world.write("game/data/lamps/copper.dds", "newer copper");
    world.write("game/data/lamps/iron.dds", "new iron");
    world.write("game/data/new/deep/b.txt", "b");
    world
}
