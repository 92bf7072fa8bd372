//! Taking games into care, changing their settings, letting them go.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use crate::world::{NOW, World, id, permit, reorder};
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::files::RealDisk;
use odd_stack_core::front::for_tests::open_as_it_is;
use odd_stack_core::jobs::steps::{change_settings, forget, game_report, register_game};
use odd_stack_core::jobs::{RegisterError, RegisterReport, RegisterRequest, Reorder, SetError, SetRequest};
use odd_stack_core::ledger::Home;
use odd_stack_core::observer::Silent;

/// The least of a Windows program: headers, and a size to be told apart by.
fn program(size: usize, is_library: bool) -> Vec<u8> {
    let mut bytes = vec![0; size.max(0x200)];
    bytes[..2].copy_from_slice(b"MZ");
    bytes[0x3c] = 0x80;
    bytes[0x80..0x84].copy_from_slice(b"PE\0\0");
    bytes[0x80 + 23] = if is_library { 0x20 } else { 0 };
    bytes[0x80 + 24 + 68] = 2;
    bytes
}

fn care(world: &World, request: &RegisterRequest) -> Result<RegisterReport, RegisterError> {
    register_game(&world.home(), request, NOW, false, Arc::new(RealDisk::default()), &Silent)
}

fn set(world: &World, request: &SetRequest, dry_run: bool) -> Result<(), SetError> {
    let ledger = world.ledger();
    let permit = permit(&ledger).unwrap();
    change_settings(&world.home(), &ledger, permit, "Quillhaven", request, dry_run, &Silent).map(drop)
}

#[test]
fn the_scan_finds_the_program_and_its_version() {
    let world = World::empty();
    world.write("game/version.txt", "Quillhaven build v1.7.2\n");
    world.write("game/data/a", "12345");
    for (path, size, is_library) in [
        ("QuillhavenLauncher.exe", 90_000, false),
        ("bin/quillhaven.exe", 40_000, false),
        ("bin/engine.dll", 99_000, true),
        ("uninstall.exe", 60_000, false),
    ] {
        world.write(&format!("game/{path}"), "");
        fs::write(world.path("game").join(path), program(size, is_library)).unwrap();
    }
    let asked = RegisterRequest { version_from: Some("version.txt".into()), ..world.request() };
    let game = care(&world, &asked).unwrap().game;
    assert_eq!(game.program.as_deref(), Some("game:bin/quillhaven.exe"));
    assert_eq!(game.version.as_deref(), Some("1.7.2"));
    assert_eq!(game.version_read_from.as_deref(), Some("game:version.txt"));
    assert_eq!((game.seen.files, game.seen.bytes), (6, 289_000 + 24 + 5));
}

#[test]
fn folders_that_can_not_be_a_game_are_refused() {
    let world = World::with_game(&[("game/a", "a"), ("docs/b", "b")]);
    fs::create_dir_all(world.path("other/inner")).unwrap();
    world.write("file", "x");
    let other =
        RegisterRequest { name: "Other".into(), folder: world.path("other"), ..RegisterRequest::default() };
    let with = |change: &dyn Fn(&mut RegisterRequest)| {
        let mut asked = other.clone();
        change(&mut asked);
        let before = world.home().games().unwrap();
        let error = care(&world, &asked).unwrap_err();
        assert_eq!(world.home().games().unwrap(), before, "{error}");
        error
    };
    type C = RegisterError;
    assert!(matches!(with(&|r| r.folder = world.path("nowhere")), C::NotAFolder { .. }));
    assert!(matches!(with(&|r| r.folder = world.path("file")), C::NotAFolder { .. }));
    assert!(
        matches!(with(&|r| r.folder = world.path("game")), C::AlreadyInCare { game, .. } if game == "Quillhaven")
    );
    assert!(matches!(with(&|r| r.folder = world.folder.path().to_path_buf()), C::LedgerInRoot { .. }));
    assert!(matches!(with(&|r| r.roots = vec![("docs".into(), world.path("docs"))]), C::RootOfGame { .. }));
    fs::create_dir_all(world.path("docs/inner")).unwrap();
    assert!(matches!(
        with(&|r| r.roots = vec![("docs".into(), world.path("docs/inner"))]),
        C::OverlapsGame { .. }
    ));
    assert!(matches!(with(&|r| r.roots = vec![("in".into(), world.path("other/inner"))]), C::Overlap { .. }));
    assert!(matches!(with(&|r| r.roots = vec![("in".into(), world.path("other"))]), C::Overlap { .. }));
    assert!(matches!(
        with(&|r| r.roots = vec![("game".into(), world.path("packages"))]),
        C::NotAFolder { .. }
    ));
    assert!(matches!(with(&|r| r.ledger = Some(world.path("other/inner/ledger"))), C::LedgerInRoot { .. }));
    assert!(matches!(with(&|r| r.ledger = Some(world.path("docs"))), C::LedgerNotEmpty { .. }));
    assert!(matches!(with(&|r| r.folder = world.path("home")), C::LedgerInRoot { .. }));
    fs::create_dir_all(world.path("home/ledgers/within")).unwrap();
    assert!(matches!(with(&|r| r.folder = world.path("home/ledgers/within")), C::LedgerInRoot { .. }));
    assert!(matches!(with(&|r| r.name = "QUILL_haven".into()), C::NameTaken { .. }));
    assert!(matches!(with(&|r| r.name = " - ".into()), C::BadName { .. }));
    assert!(matches!(with(&|r| r.program = Some("no.exe".into())), C::FileMissing { .. }));
    assert!(matches!(with(&|r| r.spots = vec![("game".into(), "x".into())]), C::NameOfRoot { .. }));
    assert!(matches!(with(&|r| r.spots = vec![("bin".into(), "game:../x".into())]), C::Address(_)));
    assert!(matches!(with(&|r| r.version_from = Some("nothing.txt".into())), C::FileMissing { .. }));
    if cfg!(unix) {
        assert!(matches!(with(&|r| r.folder = PathBuf::from("/")), C::WholeDisk { .. }));
    }
    assert!(care(&world, &other).is_ok(), "a second game of its own");
    fs::create_dir_all(world.path("home/games/third")).unwrap();
    let third = RegisterRequest {
        name: "Third".into(),
        folder: world.path("home/games/third"),
        ..RegisterRequest::default()
    };
    assert!(care(&world, &third).is_ok(), "below the home, beside the ledgers");
    assert_eq!(world.home().games().unwrap().len(), 3);
}

#[cfg(unix)]
#[test]
fn a_link_to_a_folder_in_care_is_seen_through() {
    let world = World::with_game(&[("game/a", "a")]);
    std::os::unix::fs::symlink(world.path("game"), world.path("shortcut")).unwrap();
    let asked = RegisterRequest {
        name: "Again".into(),
        folder: world.path("shortcut"),
        ..RegisterRequest::default()
    };
    assert!(matches!(care(&world, &asked).unwrap_err(), RegisterError::AlreadyInCare { .. }));
}

#[test]
fn a_dry_run_takes_nothing_into_care() {
    let world = World::empty();
    world.write("game/a", "a");
    let seam = Arc::new(RealDisk::default());
    let report = register_game(&world.home(), &world.request(), NOW, true, seam, &Silent).unwrap();
    assert_eq!(report.game.seen.files, 1);
    assert!(!world.path("home").exists());
}

#[test]
fn settings_stay_where_the_list_of_games_can_not_be_written() {
    let world = World::with_game(&[("game/a", "a"), ("docs/b", "b")]);
    let before = game_report(&world.ledger()).unwrap();
    let blocked = world.path("home/games.new");
    fs::create_dir_all(blocked.join("in the way")).unwrap();
    let asked =
        SetRequest { name: Some("Harbour".into()), version: Some("2".into()), ..SetRequest::default() };
    assert!(set(&world, &asked, false).is_err());
    assert_eq!(game_report(&world.ledger()).unwrap(), before);
    assert_eq!(world.home().games().unwrap()[0].name, "Quillhaven");
    fs::remove_dir_all(blocked).unwrap();
    set(&world, &asked, false).unwrap();
    assert_eq!(game_report(&world.ledger()).unwrap().name, "Harbour");
}

#[test]
fn settings_change_and_stay() {
    let world = World::with_game(&[("game/bin/a.exe", "a"), ("game/v.txt", "3.1"), ("docs/b", "b")]);
    world.write("more/c", "c");
    let asked = SetRequest {
        name: Some("Harbour".into()),
        roots: vec![("more".into(), world.path("more"))],
        spots: vec![("bin".into(), "bin".into())],
        program: Some("bin:a.exe".into()),
        version_from: Some("v.txt".into()),
        ..SetRequest::default()
    };
    let only_spot = SetRequest { spots: asked.spots.clone(), ..SetRequest::default() };
    set(&world, &only_spot, true).unwrap();
    assert!(game_report(&world.ledger()).unwrap().spots.is_empty(), "a dry run sets nothing");
    set(&world, &only_spot, false).unwrap();
    set(&world, &asked, false).unwrap();
    assert_eq!(world.home().games().unwrap()[0].name, "Harbour");
    let game = game_report(&world.ledger()).unwrap();
    assert_eq!((game.name.as_str(), game.version.as_deref()), ("Harbour", Some("3.1")));
    assert_eq!(game.program.as_deref(), Some("game:bin/a.exe"));
    assert_eq!(game.roots.len(), 3);
    world.add(&world.package("pack", &[("d", "d")]), &["d=more:d"]).unwrap();
    assert_eq!(fs::read_to_string(world.path("more/d")).unwrap(), "d");
    let drop = |name: &str| {
        let asked = SetRequest { drop_roots: vec![name.into()], ..SetRequest::default() };
        let ledger = world.ledger();
        let permit = permit(&ledger).unwrap();
        change_settings(&world.home(), &ledger, permit, "Harbour", &asked, false, &Silent).map(|_| ())
    };
    assert!(matches!(drop("more"), Err(SetError::RootInUse { layers, .. }) if layers == ["pack"]));
    assert!(matches!(drop("game"), Err(SetError::Unknown { .. })), "the main root stays");
    reorder(&world.ledger(), &Reorder::Remove(vec![id(&world.ledger(), "pack")]), ChangeOptions::default())
        .unwrap();
    drop("more").unwrap();
    assert_eq!(game_report(&world.ledger()).unwrap().roots.len(), 2);
}

#[test]
fn a_moved_game_is_found_again() {
    let world = World::with_game(&[("game/a", "a"), ("docs/b", "b")]);
    world.add(&world.package("pack", &[("a", "A"), ("new", "n")]), &[]).unwrap();
    fs::rename(world.path("game"), world.path("moved")).unwrap();
    let lift = Reorder::Lift(vec![id(&world.ledger(), "pack")]);
    let error = reorder(&world.ledger(), &lift, ChangeOptions::default()).unwrap_err();
    assert!(error.to_string().contains("was the game moved"), "{error}");
    let asked = SetRequest { roots: vec![("game".into(), world.path("moved"))], ..SetRequest::default() };
    set(&world, &asked, false).unwrap();
    reorder(&world.ledger(), &lift, ChangeOptions::default()).unwrap();
    assert_eq!(fs::read_to_string(world.path("moved/a")).unwrap(), "a");
    assert!(!world.path("moved/new").exists());
}

#[test]
fn a_forgotten_ledger_goes_and_one_with_layers_stays() {
    let world = World::with_game(&[("game/a", "a")]);
    let folder = world.ledger().folder().to_path_buf();
    world.add(&world.package("pack", &[("a", "A")]), &[]).unwrap();
    let ledger = world.ledger();
    let right = permit(&ledger).unwrap();
    let forgotten = forget(&world.home(), ledger, right, "Quillhaven").unwrap();
    assert_eq!(forgotten.ledger_left.as_deref(), folder.to_str());
    assert!(world.home().games().unwrap().is_empty());
    let again = RegisterRequest { ledger: Some(folder.clone()), ..world.request() };
    let other = RegisterRequest { folder: world.path("docs"), ..again.clone() };
    assert!(matches!(care(&world, &other).unwrap_err(), RegisterError::OtherLedger { .. }));
    let report = care(&world, &again).unwrap();
    assert!(report.taken_up_again);
    assert_eq!(report.game.laid_layers, 1);
    let lift = Reorder::Lift(vec![id(&world.ledger(), "pack")]);
    reorder(&world.ledger(), &lift, ChangeOptions::default()).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/a")).unwrap(), "a");
    let ledger = world.ledger();
    let right = permit(&ledger).unwrap();
    assert_eq!(forget(&world.home(), ledger, right, "Quillhaven").unwrap().ledger_left, None);
    assert!(!folder.exists());
}

#[test]
fn damaged_and_foreign_ledgers_are_told_apart() {
    use odd_stack_core::ledger::LedgerError as E;
    let world = World::with_game(&[("game/a", "a")]);
    let folder = world.ledger().folder().to_path_buf();
    let open = || open_as_it_is(&folder, Arc::new(RealDisk::default())).map(drop);
    let catalogue = folder.join("catalogue.sqlite");
    let whole = fs::read(&catalogue).unwrap();
    fs::write(&catalogue, b"this is not a catalogue at all, whatever it is called").unwrap();
    assert!(matches!(open(), Err(E::Damaged { .. })));
    let mut newer = whole.clone();
    // The user version of an SQLite file: four bytes, the high one first, at 60 (file format, 1.3).
    newer[60..64].copy_from_slice(&999u32.to_be_bytes());
    fs::write(&catalogue, &newer).unwrap();
    assert!(matches!(open(), Err(E::TooNew { found: 999, .. })));
    fs::remove_file(&catalogue).unwrap();
    assert!(matches!(open(), Err(E::Missing { .. })));
    fs::write(&catalogue, &whole).unwrap();
    assert!(open().is_ok());
    fs::write(world.path("home/games.toml"), "games are = not here [").unwrap();
    assert!(matches!(Home::new(world.path("home")).games(), Err(E::Registry { .. })));
}

#[test]
fn one_change_at_a_time_and_looking_does_not_wait() {
    let world = World::with_game(&[("game/a", "a")]);
    let ledger = world.ledger();
    let held = permit(&ledger).unwrap();
    let package = world.package("pack", &[("a", "A")]);
    let error = world.add(&package, &[]).unwrap_err().to_string();
    assert!(error.contains(&format!("process {}", std::process::id())), "{error}");
    let looked = world.check(false);
    assert_eq!(looked.as_laid_files, 1);
    drop(held);
    world.add(&package, &[]).unwrap();
}
