//! Ledgers that earlier formats of the catalogue were written in, with what they hold. `tests/data` has what the program of
//! each time left of a small game: two layers with the same files, the upper one lifted, and from format 4 on a settlement
//! and an edit of the user's own.

use std::fs::File;
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use rusqlite::Connection;
use zip::ZipArchive;

use crate::sandbox::Sandbox;

/// All files are of one time.
const GAME_TIME: Duration = Duration::from_secs(1_714_557_600);

/// The first format that settles, tweaks and blends.
const SETTLES_FROM: i64 = 4;

fn data_of(format: i64) -> PathBuf {
    PathBuf::from(format!("{}/tests/data/ledger-of-format-{format}.zip", env!("CARGO_MANIFEST_DIR")))
}

/// A sandbox with what the program of then left.
fn sandbox_of(format: i64) -> Sandbox {
    let sandbox = Sandbox::empty();
    ZipArchive::new(File::open(data_of(format)).unwrap()).unwrap().extract(sandbox.path("")).unwrap();
    for file in ["game/data/lamp.txt", "game/version.txt", "game/config/fog.ini", "docs/p.ini"] {
        let file = File::options().append(true).open(sandbox.path(file)).unwrap();
        file.set_modified(SystemTime::UNIX_EPOCH + GAME_TIME).unwrap();
    }
    let catalogue = Connection::open(sandbox.path("home/ledgers/quillhaven/catalogue.sqlite")).unwrap();
    let found: i64 = catalogue.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
    assert_eq!(found, format);
    drop(catalogue);
    sandbox.run("rescue home/ledgers/quillhaven").one_of(&[0, 3], "it is in the list again");
    sandbox.run("game set Quillhaven --root game=game --root docs=docs").status(0);
    sandbox
}

#[test]
fn there_is_a_ledger_of_each_format_before_this_one() {
    let sandbox = Sandbox::with_game();
    let catalogue = Connection::open(sandbox.path("home/ledgers/quillhaven/catalogue.sqlite")).unwrap();
    let now: i64 = catalogue.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
    assert!((1..now).all(|format| data_of(format).is_file()), "add one of each, made by the program of then");
}

#[test]
fn ledgers_of_all_formats_open_with_their_stacks_and_give_the_game_back() {
    for format in (1..10).chain(11..17) {
        let sandbox = sandbox_of(format);
        let settles = format >= SETTLES_FROM;
        let stack = sandbox.run("stack --json").status(0).json();
        let layers = stack["data"]["layers"].as_array().unwrap();
        let layers: Vec<_> = layers
            .iter()
            .map(|row| (row["name"].as_str().unwrap(), row["laid"].as_bool().unwrap()))
            .collect();
        let known = [("own edits", true), ("Bravo", false), ("Alpha", true)];
        assert_eq!(layers, known[usize::from(!settles)..], "format {format}");
        assert_eq!(stack["data"]["base"]["version"], "1.7", "{stack}");
        sandbox.run("check --deep").status(0);
        sandbox.run("lay Bravo").status(0);
        // What was laid before settings blended is as it was laid.
        let (lamp, fog) = match settles {
            true => ("one\n", "fog=5\ngulls=7\nnight=3\n"),
            false => ("two\n", "fog=1\ngulls=7\n"),
        };
        assert_eq!(sandbox.read("game/data/lamp.txt"), lamp, "format {format}");
        assert_eq!(sandbox.read("game/config/fog.ini"), fog, "format {format}");
        assert_eq!(sandbox.read("game/data/new/only.txt"), "only Bravo\n");
        sandbox.run("check --deep").status(0);
        sandbox.run("tidy").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/data/lamp.txt"), "base\n");
        assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\ngulls=2\n");
        assert!(!sandbox.path("game/data/new").exists());
        sandbox.run("check --deep").status(0);
    }
}

#[test]
fn a_ledger_of_format_10_knows_what_its_layers_need() {
    let sandbox = sandbox_of(10);
    let stack = sandbox.run("stack --json").status(0).json();
    let layers: Vec<_> = stack["data"]["layers"].as_array().unwrap().iter().map(|row| &row["name"]).collect();
    assert_eq!(layers, ["own edits", "Bravo", "Alpha"]);
    assert_eq!(stack["data"]["base"]["version"], "1.7", "{stack}");
    sandbox.run("check --deep").status(0);
    sandbox.run("lay Bravo").status(0);
    // The settlement holds, settings of both blend, and the edit lies on top.
    assert_eq!(sandbox.read("game/data/lamp.txt"), "one\n");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=5\ngulls=7\nnight=3\n");
    sandbox.run("lift Alpha").status(4).says("needs Alpha");
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/data/lamp.txt"), "base\n");
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=1\ngulls=2\n");
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_ledger_of_format_16_tells_what_its_layers_take_away() {
    let sandbox = sandbox_of(16);
    let stack = sandbox.run("stack --json").status(0).json();
    let layers = stack["data"]["layers"].as_array().unwrap();
    let counts: Vec<_> = layers.iter().map(|row| [&row["takes_away"], &row["wins_files"]]).collect();
    assert_eq!(counts, [[0, 1], [0, 0], [1, 2]], "{stack}");
    sandbox.run("lift Alpha").status(0);
    assert_eq!(sandbox.read("game/data/moth.txt"), "moth\n");
}
