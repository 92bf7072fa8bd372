//! What people write before they know the commands.

use std::path::PathBuf;

use crate::sandbox::Sandbox;

/// A folder that looks like a game, not added yet, and a package for it.
fn not_added() -> Sandbox {
    let sandbox = Sandbox::empty();
    sandbox.write("Quillhaven/data/lamp.txt", "base\n");
    let name = if cfg!(windows) { "Quillhaven/quillhaven.exe" } else { "Quillhaven/quillhaven" };
    std::fs::copy(std::env::current_exe().unwrap(), sandbox.path(name)).unwrap();
    sandbox.zip("lamps-1.2.zip", &[("data/lamp.txt", "bright\n")]);
    sandbox
}

#[test]
fn a_game_is_named_after_its_folder() {
    let sandbox = not_added();
    sandbox.run("game add Quillhaven").status(0).says("Added Quillhaven");
    sandbox.run("game add nowhere").status(2).says("there is no folder `nowhere`");
    sandbox.write("Fogport/bin/readme.txt", "inside");
    // Of a folder that is called as programs' own folders are, the one around it tells more.
    sandbox.run("game add Fogport/bin").status(0).says("Added Fogport");
    sandbox.write("other/x.txt", "x");
    sandbox.run_words(&["game", "add", "A name of mine", "other"]).status(0).says("Added A name of mine");
}

#[test]
fn a_folder_that_looks_like_a_game_is_offered_to_be_added() {
    let sandbox = not_added();
    sandbox.run("Quillhaven").status(4).says("looks like a game").says("oddstack game add");
    for words in [&["stack"][..], &["add", "../lamps-1.2.zip"]] {
        let ran = sandbox.run_in("Quillhaven", words, &[]).status(1);
        ran.says("this folder looks like one").says("oddstack game add");
    }
    // Where no game is, nothing is offered.
    sandbox.run("stack").status(1).says("no game has been added yet");
    sandbox.run("Quillhaven --yes").status(0).says("Added Quillhaven");
    sandbox.run_in("Quillhaven", &["stack"], &[]).status(0);
    // It is added already, so it is a package now.
    sandbox.run("Quillhaven").one_of(&[0, 1], "looked into");
}

#[test]
fn packages_alone_are_looked_into_and_added() {
    let sandbox = not_added();
    sandbox.run("game add Quillhaven").status(0);
    sandbox.zip("gulls-1.zip", &[("data/gulls.txt", "gulls\n")]);
    let looked = sandbox.run("lamps-1.2.zip gulls-1.zip").status(0);
    looked.says("lamps 1.2").says("gulls 1").says("oddstack add \"lamps-1.2.zip\" \"gulls-1.zip\"");
    assert_eq!(sandbox.read("Quillhaven/data/lamp.txt"), "base\n", "only looked");
    sandbox.run("lamps-1.2.zip gulls-1.zip --yes").status(0);
    assert_eq!(sandbox.read("Quillhaven/data/lamp.txt"), "bright\n");
    assert_eq!(sandbox.read("Quillhaven/data/gulls.txt"), "gulls\n");
}

#[test]
fn words_that_are_no_commands_name_what_is_meant() {
    let sandbox = Sandbox::empty();
    sandbox.run("mods").status(2).says("oddstack stack");
    sandbox.run("stak").status(2).says("'stack'");
    sandbox.run("mods --json").status(2).says("oddstack stack");
}

#[test]
fn folders_are_found_to_be_opened() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "bright\n")]);
    sandbox.run("add lamps-1.zip").status(0);
    let is = |what: &str, below: &str| {
        let report = sandbox.run(&format!("open {what} --print --json")).status(0).json();
        assert_eq!(report["data"]["opened"], false);
        let folder = PathBuf::from(report["data"]["folder"].as_str().unwrap());
        assert!(folder.ends_with(below), "{what}: {}", folder.display());
    };
    is("", "game");
    is("game", "game");
    is("docs", "docs");
    is("ledger", "home/ledgers/quillhaven");
    is("lamps", "[HERE]");
    is("game:data/lamps/brass.qtx", "game/data/lamps");
    is("docs:profiles", "docs/profiles");
    sandbox.run("open nothing --print").status(1).says("neither a folder of the game, nor a layer");
    std::fs::remove_dir_all(sandbox.path("docs")).unwrap();
    sandbox.run("open docs --print").status(1).says("is not there any more");
}

#[test]
fn a_game_whose_folder_was_moved_is_told_where_it_lies() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "bright\n")]);
    sandbox.run("add lamps-1.zip").status(0);
    std::fs::rename(sandbox.path("game"), sandbox.path("elsewhere")).unwrap();
    sandbox.run("check").one_of(&[1, 4], "its folder is gone");
    // Another folder is not taken for it.
    sandbox.write("other/notes.txt", "?");
    sandbox
        .run("game set --folder other")
        .status(1)
        .says("does not look like the root `game`")
        .says("nothing was changed");
    sandbox.run("game set --folder nowhere").status(1);
    sandbox.run("game set --folder elsewhere").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("elsewhere/data/lamps/brass.qtx"), "base brass\n");
}
