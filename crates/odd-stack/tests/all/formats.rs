//! Ledgers that earlier formats of the catalogue were written in, with what they hold. `tests/data` has what the program of
//! then left of a small game: two layers, one of them lifted, a settlement, and an edit of the user's own.

use std::fs::File;
use std::time::{Duration, SystemTime};

use zip::ZipArchive;

use crate::sandbox::Sandbox;

/// All of its files are of one time.
const GAME_TIME: Duration = Duration::from_secs(1_714_557_600);

#[test]
fn a_ledger_of_format_10_opens_with_its_stack() {
    let sandbox = Sandbox::empty();
    let data = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/ledger-of-format-10.zip");
    ZipArchive::new(File::open(data).unwrap()).unwrap().extract(sandbox.path("")).unwrap();
    for file in ["game/data/lamp.txt", "game/version.txt", "docs/p.ini"] {
        let file = File::options().append(true).open(sandbox.path(file)).unwrap();
        file.set_modified(SystemTime::UNIX_EPOCH + GAME_TIME).unwrap();
    }
    sandbox.run("rescue home/ledgers/quillhaven").one_of(&[0, 3], "it is in the list again");
    sandbox.run("game set Quillhaven --root game=game --root docs=docs").status(0);
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
