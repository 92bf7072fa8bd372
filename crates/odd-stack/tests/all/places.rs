//! Where things lie: the data home, ledgers, paths on disk in place of addresses.

use std::fs;

use crate::sandbox::Sandbox;

#[test]
fn a_home_is_moved_with_all_that_is_in_it() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamp-1.zip", &[("data/lamps/brass.qtx", "layer")]);
    sandbox.run("add lamp-1.zip --place .=game:").status(0);
    sandbox.write("taken/file.txt", "x");
    sandbox.run("game move-home taken").status(1).says("with something in it");
    sandbox.run("game move-home home").status(1).says("already");
    sandbox.run("patchday begin").status(0);
    sandbox.run("game move-home new/home").status(4).says("patch day");
    sandbox.run("patchday finish").status(0);
    sandbox.run("game move-home new/home").status(0).says("ODDSTACK_HOME");
    assert!(!sandbox.path("home").exists());
    sandbox.run("stack").status(1).says("no game has been added");
    let new = sandbox.path("new/home").display().to_string();
    for line in ["check --deep", "lift --all", "lay --all"] {
        let words: Vec<&str> = line.split(' ').chain(["--home", &new]).collect();
        sandbox.run_words(&words).status(0);
    }
    // By hand, too.
    fs::rename(sandbox.path("new/home"), sandbox.path("home")).unwrap();
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
    sandbox.run("game forget Quillhaven").status(0);
    assert!(!sandbox.path("home/ledgers/quillhaven").exists() && !sandbox.path("game/.oddstack").exists());
}

#[test]
fn a_game_that_could_not_be_taken_into_care_leaves_nothing() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/game.exe", "x");
    // The list can't be written.
    sandbox.write("home/games.new/in/the.way", "x");
    sandbox.run("game add Quill game").status(1).says("games.toml");
    sandbox.run("game add Quill game --ledger own/ledger").status(1);
    fs::create_dir(sandbox.path("empty")).unwrap();
    sandbox.run("game add Quill game --ledger empty").status(1);
    for made in ["home/ledgers", "own", "game/.oddstack"] {
        assert!(!sandbox.path(made).exists(), "{made}");
    }
    assert_eq!(fs::read_dir(sandbox.path("empty")).unwrap().count(), 0);
    fs::remove_dir_all(sandbox.path("home/games.new")).unwrap();
    sandbox.run("game add Quill game --ledger empty").status(0);
}

#[test]
fn paths_on_disk_are_addresses_in_every_command() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("fog-1.zip", &[("config/fog.ini", "fog=2\n"), ("x/readme.md", "x")]);
    sandbox.zip("mist-1.zip", &[("config/fog.ini", "fog=3\n")]);
    let whole = |below: &str| sandbox.path(below).display().to_string();
    let ini = whole("game/config/fog.ini");
    let to = format!("config={}", whole("game/config"));
    sandbox.run_words(&["add", "fog-1.zip", "--place", &to]).status(0);
    sandbox.run("add mist-1.zip --place .=game:").status(0);
    sandbox.run_words(&["trace", &ini]).status(0).says("game:config/fog.ini");
    sandbox.run_words(&["settle", &ini, "--with", "fog"]).status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=2\n");
    sandbox.run_words(&["conflicts", "--all", "--at", &whole("game/config/*.ini")]).status(0).says("fog.ini");
    sandbox.run_words(&["tweak", &ini, "fog=7"]).status(0);
    assert_eq!(sandbox.read("game/config/fog.ini"), "fog=7\n");
    sandbox.run_words(&["tweak", "drop", &ini, "--all"]).one_of(&[0, 1, 2], "dropping");
    sandbox.write("game/config/fog.ini", "fog=9\n");
    sandbox.run_words(&["mend", &ini, "--restore"]).status(0);
    let spot = format!("cfg={}", whole("game/config"));
    sandbox.run_words(&["game", "set", "--spot", &spot, "--volatile", &whole("docs/profiles/*")]).status(0);
    sandbox.run_in("game/config", &["trace", "./fog.ini"], &[]).status(0).says("game:config/fog.ini");
    sandbox
        .run_words(&["trace", &whole("elsewhere/fog.ini")])
        .status(1)
        .says("lies in none of the game's folders");
}

#[test]
fn what_a_capture_takes_back_is_named_for_what_it_is() {
    let sandbox = Sandbox::with_game();
    sandbox.run("capture X --begin").status(0);
    sandbox.write("game/new.txt", "new");
    sandbox.write("game/config/fog.ini", "fog=5\n");
    let cancelled = sandbox.run("capture --cancel").status(0);
    let line = |name: &str| cancelled.stdout.lines().find(|line| line.contains(name)).unwrap().to_owned();
    assert!(line("new.txt").contains("neither the game nor a layer has it"), "{}", cancelled.stdout);
    assert!(line("fog.ini").contains("the game's own"), "{}", cancelled.stdout);
}

#[test]
fn no_game_is_all_that_a_person_has() {
    let sandbox = Sandbox::empty();
    sandbox.write("me/games/quill/game.exe", "x");
    let me = sandbox.path("me").display().to_string();
    let set = [(if cfg!(windows) { "USERPROFILE" } else { "HOME" }, me.as_str())];
    for folder in ["me", "."] {
        sandbox.run_in("", &["game", "add", "G", folder], &set).status(1).says("no game's folder");
    }
    sandbox.run_in("", &["game", "add", "G", "me/games/quill"], &set).status(0);
}

#[test]
fn a_ledger_is_moved_with_all_that_it_has() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n")]);
    sandbox.run("add lamps-1.zip").status(0);
    sandbox.run("lineup save summer").status(0);
    sandbox.write("full/mine.txt", "mine\n");
    sandbox.run("game set --ledger full").status(1).says("with something in it");
    sandbox.run("game set --ledger game/ledger").one_of(&[1], "");
    sandbox.run("game set --ledger kept/quill").status(0).says("[HERE]/kept/quill");
    assert!(!sandbox.path("home/ledgers/quillhaven").exists());
    sandbox.run("game set --ledger kept/quill").status(1).says("already");
    sandbox.run("history").status(0).says("add lamps");
    sandbox.run("lineup list").status(0).says("summer");
    sandbox.run("check --deep").status(0);
    sandbox.run("undo").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
    sandbox.run("redo").status(0);
    sandbox.run("game set --ledger home/ledgers/again --name Quill").status(0).says("home/ledgers/again");
    sandbox.run("stack").status(0).says("Quill 1.7");
}
