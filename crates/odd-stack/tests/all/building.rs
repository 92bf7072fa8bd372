//! Second folders of the game, each as a lineup has it.

use std::fs;

use crate::sandbox::Sandbox;
use crate::stored::stored_as;

/// The stack in two seasons; in winter a layer has something in the documents, too.
fn two_seasons() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "one\n"), ("config/fog.ini", "fog=1\ngulls=1\n")]);
    sandbox.zip("lamps-2.zip", &[("data/lamps/brass.qtx", "two\n"), ("config/fog.ini", "fog=1\ngulls=2\n")]);
    sandbox.zip("snow-1.zip", &[("g/data/snow.qtx", "snow\n"), ("d/keeper.ini", "snow=1\n")]);
    sandbox.run("add lamps-1.zip").status(0);
    sandbox.run("lineup save summer").status(0);
    sandbox.run("add snow-1.zip --place g=game: --place d=docs:").status(0);
    sandbox.run("lineup save winter").status(0);
    sandbox.run("lineup switch summer").status(0);
    sandbox
}

#[test]
fn a_second_folder_is_built_checked_and_brought_up_to_date() {
    let sandbox = two_seasons();
    let before = sandbox.files();
    sandbox.run("lineup build winter").status(1).says("was never built");
    sandbox.run("lineup build spring second").status(1).says("there is no lineup `spring`");
    for inside in ["game/second", "game", "home/ledgers/quillhaven/second", "."] {
        sandbox.run(&format!("lineup build summer {inside}")).one_of(&[1], "");
    }
    sandbox.write("full/mine.txt", "mine\n");
    sandbox.run("lineup build summer full").status(1).says("there is something in");
    // Nothing of summer lies outside of the game's own folder; of winter it is asked.
    sandbox.run("lineup build winter second").status(4).says("1 file of layers").says("--without-root docs");
    let dry = sandbox.run("lineup build winter second --without-root docs -n").status(0);
    dry.says("Dry run: nothing was changed");
    assert!(!sandbox.path("second").exists());
    let built = sandbox.run("lineup build winter second --without-root docs").status(0);
    let built = built.says("The lineup `winter` is built in [HERE]/second");
    let built = built.says("the second game has that of the first").whole();
    assert!(!built.contains("oddstack play"), "no program is known: {built}");
    assert_eq!(sandbox.files(), before, "the game itself stays in summer");
    assert_eq!(sandbox.read("second/data/snow.qtx"), "snow\n");
    assert_eq!(sandbox.read("second/data/lamps/brass.qtx"), "one\n");
    assert!(!sandbox.path("second/.oddstack").exists());
    sandbox.run("check --lineup winter --deep").status(0).says("Nothing was changed there since");
    sandbox.run("lineup list").status(0).says("built in [HERE]/second");
    sandbox.run("lineup build winter elsewhere --without-root docs").status(1).says("already");
    sandbox.run("lineup build summer second").status(1).says("is the folder of the lineup `winter`");

    // The lineup follows the new version; what was changed there is asked for only where something new comes.
    sandbox.run("upgrade lamps lamps-2.zip").status(0);
    sandbox.write("second/config/fog.ini", "mine=1\n");
    sandbox.write("second/bin/harbour.txt", "mine, too");
    sandbox.write("second/saves/one.sav", "saved\n");
    sandbox
        .run("check --lineup winter")
        .status(3)
        .says("config/fog.ini")
        .says("has 2 files otherwise by now");
    let asked = sandbox.run("lineup build winter").status(4).says("--keep-edits").whole();
    assert!(asked.contains("config/fog.ini") && !asked.contains("harbour.txt"), "{asked}");
    assert_eq!(sandbox.read("second/data/lamps/brass.qtx"), "one\n");
    let built = sandbox.run("lineup build winter --keep-edits --json").status(0).json();
    let saved = built["data"]["saved"][0]["saved"].as_str().unwrap();
    assert_eq!(
        fs::read_to_string(saved.replace("[HERE]", &sandbox.path("").display().to_string())).unwrap(),
        "mine=1\n"
    );
    assert_eq!(built["data"]["edits_left"], serde_json::json!(["game:bin/harbour.txt"]));
    assert_eq!(built["data"]["replaced"]["files"], 2, "{built}");
    assert_eq!(sandbox.read("second/data/lamps/brass.qtx"), "two\n");
    assert_eq!(sandbox.read("second/saves/one.sav"), "saved\n");
    sandbox.run("lineup build winter").status(0).says("is up to date");

    // What stands in the second folder is meant there.
    sandbox.run_in("second", &["check"], &[]).status(3).says("The second folder of the lineup `winter`");
    sandbox.run_in("second", &["stack"], &[]).status(0).says("about the game itself, in [HERE]/game");
    sandbox.run("lineup switch winter").status(0);
    sandbox.run("lineup save WINTER").status(0).says("is saved anew");
    sandbox.run("lineup build Winter").status(0).says("is up to date");
    sandbox.run("lineup rename winter frost").status(0);
    sandbox.run("check --lineup frost").status(3).says("[HERE]/second");
    sandbox.run("lineup drop frost").status(0).says("[HERE]/second, stays as well");
    assert_eq!(sandbox.read("second/data/snow.qtx"), "snow\n");
    sandbox.run("lineup build summer second").status(1).says("there is something in");
}

#[test]
fn a_second_folder_that_was_deleted_is_built_anew_and_further_roots_may_have_their_own() {
    let sandbox = two_seasons();
    sandbox.run("lineup build winter second --root docs=second-docs").status(0);
    assert_eq!(sandbox.read("second-docs/keeper.ini"), "snow=1\n");
    fs::remove_dir_all(sandbox.path("second")).unwrap();
    sandbox.run("check --lineup winter").status(3).says("missing");
    sandbox.run("lineup build winter").status(0).says("put");
    sandbox.run("check --lineup winter").status(0);
    sandbox.run("lineup build winter --root nowhere=x").status(2).says("no further root `nowhere`");
    // Elsewhere, once the first one is gone.
    fs::rename(sandbox.path("second"), sandbox.path("moved")).unwrap();
    sandbox.run("lineup build winter game/../third").status(0).says("is built in [HERE]/third:");
    assert_eq!(sandbox.read("third/data/snow.qtx"), "snow\n");
}

#[test]
fn a_build_that_meets_a_damaged_content_takes_it_again_or_says_what_renews_it_and_goes_on_then() {
    let sandbox = two_seasons();
    stored_as(&sandbox.path("home/ledgers/quillhaven"), "snow\n").damage(b"sn0w\n");
    fs::rename(sandbox.path("snow-1.zip"), sandbox.path("away.zip")).unwrap();
    let stopped = sandbox.run("lineup build winter second --without-root docs").status(5);
    stopped.says("the second folder is not finished").says("data/snow.qtx").says("mend --renew");
    assert!(!sandbox.path("second/data/snow.qtx").exists());
    sandbox.run("check --lineup winter").status(3).says("was cut short");
    sandbox.run("play winter").status(1).says("`oddstack lineup build winter` goes on");
    sandbox.run("mend --renew away.zip").status(0);
    sandbox.run("lineup build winter").status(0);
    assert_eq!(sandbox.read("second/data/snow.qtx"), "snow\n");
    sandbox.run("check --lineup winter --deep").status(0);
    // With the package at hand nobody need do anything.
    fs::remove_dir_all(sandbox.path("second")).unwrap();
    fs::rename(sandbox.path("away.zip"), sandbox.path("snow-1.zip")).unwrap();
    stored_as(&sandbox.path("home/ledgers/quillhaven"), "snow\n").damage(b"sn0w\n");
    let built = sandbox.run("lineup build winter").status(0);
    built.says("one stored file was damaged or gone; it was taken again from").says("snow-1.zip");
    assert_eq!(sandbox.read("second/data/snow.qtx"), "snow\n");
    sandbox.run("tidy --verify").status(0);
}

#[cfg(unix)]
#[test]
fn the_game_in_a_second_folder_is_started_and_big_files_may_be_links() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    let sandbox = Sandbox::empty();
    sandbox.write("game/play.sh", "#!/bin/sh\ncat \"$(dirname \"$0\")/season.txt\"\n");
    fs::set_permissions(sandbox.path("game/play.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.write("game/data/big.dat", &"b".repeat(300 << 10));
    sandbox.write("game/config/big.ini", &"a=1\n".repeat(80 << 10));
    sandbox.run("game add Quillhaven game --exe play.sh").status(0);
    sandbox.zip("winter-1.zip", &[("season.txt", "it is winter\n")]);
    sandbox.run("add winter-1.zip --place .=game:").status(0);
    sandbox.run("lineup save cold").status(0);
    sandbox.run("remove winter").status(0);
    sandbox
        .run("lineup build cold second --links")
        .status(0)
        .says("1 file (300 KB) is a link")
        .says("`oddstack play cold` starts it");
    let number = |path: &str| fs::metadata(sandbox.path(path)).unwrap().ino();
    assert_eq!(number("second/data/big.dat"), number("game/data/big.dat"));
    // Settings are written by games, so they are never linked.
    assert_ne!(number("second/config/big.ini"), number("game/config/big.ini"));
    sandbox.run("play cold").status(0).says("it is winter").says("in the second folder of the lineup cold");
    sandbox.run_in("second", &["play"], &[]).status(0).says("it is winter");
    sandbox.run("play warm").status(1).says("nothing that starts the game is called `warm`");
    // What is written into a link is told, in both.
    sandbox.write("second/data/big.dat", "written through");
    sandbox.run("check --lineup cold").status(3).says("data/big.dat");
    sandbox.run("check").status(3).says("data/big.dat");
}
