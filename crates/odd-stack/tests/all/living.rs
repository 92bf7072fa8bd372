//! Living with a game: it is updated, repaired, written to by itself and by others.

use std::fs;

use crate::closed::Closed;

/// Quillhaven 1.7 with a version file, and three layers: one of textures, one that replaces the program, one of
/// settings.
fn with_version() -> Closed {
    let closed = Closed::empty();
    closed.write("docs/notes.txt", "not of the game\n");
    closed.write("game/version.txt", "Quillhaven 1.7\n");
    closed.write("game/bin/quillhaven.bin", "program of 1.7\n");
    closed.write("game/data/lamps/brass.qtx", "base brass\n");
    closed.write("game/data/lamps/iron.qtx", "base iron\n");
    closed.write("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\n");
    closed.run("game add Quillhaven game --version-from version.txt").status(0);
    closed.zip("lamps-1.0.zip", &[("data/lamps/brass.qtx", "lamps\n"), ("data/lamps/new/a.qtx", "a\n")]);
    closed.zip("patch-1.0.zip", &[("bin/quillhaven.bin", "patched program\n")]);
    let sheet = "format = 1\nplace = [{ from = \"data\", to = \"data\" }]\n\
                 [[set]]\nfile = \"config/harbour.ini\"\nkey = \"Fog.thick\"\nvalue = \"9\"\n";
    closed.zip("fog-1.0.zip", &[("data/fog.txt", "fog\n"), ("oddfit.toml", sheet)]);
    closed.run("add lamps-1.0.zip --place .=game:").status(0);
    closed.run("add patch-1.0.zip --place .=game:").status(0);
    closed.run("add fog-1.0.zip").status(0);
    closed
}

/// What the update to 1.8 brings, for files that it may write.
fn update(closed: &Closed, files: &[&str]) {
    let all = [
        ("game/version.txt", "Quillhaven 1.8\n"),
        ("game/bin/quillhaven.bin", "program of 1.8\n"),
        ("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\nearly=yes\n"),
        ("game/data/ferries.qtx", "ferries\n"),
    ];
    for (path, content) in all.iter().filter(|(path, _)| files.contains(path) || files.is_empty()) {
        closed.write(path, content);
    }
}

#[test]
fn a_planned_update_lays_what_still_fits() {
    let closed = with_version();
    let begun = closed.run("patchday begin").status(0);
    begun.says("The game is itself again").says("patchday finish");
    assert_eq!(closed.read("game/bin/quillhaven.bin"), "program of 1.7\n");
    closed.run("patchday status").status(0).says("3 layers wait").says("lamps");
    closed.run("stack").status(0).says("a patch day is under way");
    closed.run("lay lamps").status(4).says("patchday finish");
    closed.run("patchday begin").status(4);
    update(&closed, &[]);
    fs::remove_file(closed.path("game/data/lamps/iron.qtx")).unwrap();
    closed.run("patchday status").status(0).says("was 1.7 and is 1.8 now");
    let files = closed.files();
    let looked = closed.run("patchday finish --dry-run").status(3);
    looked
        .says("1.7 → 1.8")
        .says("waits")
        .says("replaces a file that the update touched: game:bin/quillhaven.bin");
    assert_eq!(closed.files(), files);
    let report = closed.run("patchday finish --json").status(3).json();
    let data = &report["data"];
    assert_eq!(data["version_after"], "1.8");
    assert_eq!(data["added"], serde_json::json!(["game:data/ferries.qtx"]));
    assert_eq!(data["gone"], serde_json::json!(["game:data/lamps/iron.qtx"]));
    assert_eq!(data["layers"][1]["layer"], "patch");
    assert_eq!(data["layers"][1]["fate"], "lifted");
    assert_eq!(closed.read("game/bin/quillhaven.bin"), "program of 1.8\n");
    assert_eq!(closed.read("game/config/harbour.ini"), "[Fog]\nthick=9\nslow=2\nearly=yes\n");
    closed.run("check --deep").status(0);
    closed.run("patchday finish").status(0).says("Nothing to do");
    closed.run("lay patch").status(0);
    closed.run("lift --all").status(0);
    assert_eq!(closed.read("game/config/harbour.ini"), "[Fog]\nthick=1\nslow=2\nearly=yes\n");
    closed.run("check --deep").status(0);
}

#[test]
fn an_unplanned_update_is_told_from_the_layers() {
    let closed = with_version();
    // The client brings its program, and what is new; it sees nothing to do where it did not look.
    update(&closed, &["game/version.txt", "game/bin/quillhaven.bin", "game/data/ferries.qtx"]);
    closed.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=5\n");
    fs::remove_file(closed.path("game/data/lamps/new/a.qtx")).unwrap();
    let checked = closed.run("check").status(3);
    checked
        .says("updated")
        .says("by the game, in the place of patch's")
        .says("the game is 1.8 now and was 1.7");
    closed.run("lift patch").status(4);
    let done = closed.run("patchday finish").status(3);
    let done = done.says("1.7 → 1.8").says("settings that you or the game changed: kept").says("patch");
    done.says("what the game itself has there").says("game:data/lamps/brass.qtx");
}

#[test]
fn an_unplanned_update_goes_on_with_a_repair() {
    let closed = with_version();
    update(&closed, &["game/version.txt", "game/bin/quillhaven.bin"]);
    closed.run("patchday finish").status(3);
    assert_eq!(closed.read("game/bin/quillhaven.bin"), "program of 1.8\n", "the patch is for 1.7 and waits");
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "lamps\n");
    closed.run("check --deep").status(0);
    closed
        .run("patchday begin")
        .status(0)
        .says("are back as before the update")
        .says("game:data/lamps/brass.qtx");
    closed.write("game/data/lamps/brass.qtx", "brass of 1.8\n");
    closed.run("patchday finish").status(3).says("replaces a file that the update touched");
    closed.run("lay lamps").status(0);
    closed.run("lift lamps").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "brass of 1.8\n");
    closed.run("check --deep").status(0);
}

#[test]
fn a_repair_by_the_client_is_seen_and_taken_back() {
    let closed = with_version();
    closed.write("game/data/lamps/brass.qtx", "base brass\n");
    closed.write("game/bin/quillhaven.bin", "program of 1.7\n");
    closed.run("check").status(3).says("put back").says("the game's own, in the place of lamps's");
    closed.run("mend data/lamps/brass.qtx --restore").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "lamps\n");
    assert_eq!(closed.read("game/bin/quillhaven.bin"), "program of 1.7\n", "one file is one file");
    closed.run("patchday finish").status(0).says("there again");
    assert_eq!(closed.read("game/bin/quillhaven.bin"), "patched program\n");
    closed.run("check --deep").status(0);
    closed.run("patchday finish").status(0).says("Nothing to do");
}

#[test]
fn where_the_game_writes_by_itself_it_is_left_alone() {
    let closed = with_version();
    closed.write("game/saves/slot1.dat", "1");
    closed.write("game/bin/quill.log", "started\n");
    let seen = closed.run("check").status(3);
    seen.says("base added").says("game set --volatile \"game:*.log\" --volatile \"game:saves/**\"");
    closed.run("game set --volatile game:*.log --volatile saves").status(0).says("volatile");
    closed.run("check").status(0).says("2 files left alone");
    closed.run("game set --not-volatile saves").status(0);
    closed.run("check").status(3);
    closed.run("game set --not-volatile logs").status(1).says("no volatile place `logs`");
    closed.run("game set --volatile [").status(2);
}

#[test]
#[cfg(unix)]
fn nothing_changes_under_a_running_game() {
    let closed = with_version();
    fs::copy("/bin/sleep", closed.path("game/bin/quillhaven")).unwrap();
    let mut game = std::process::Command::new(closed.path("game/bin/quillhaven")).arg("60").spawn().unwrap();
    let stopped = closed.run("lift lamps").status(4);
    let process = format!("process {}", game.id());
    stopped.says("bin/quillhaven").says(&process).says("--while-running");
    closed.run("lift lamps --dry-run").status(0);
    closed.run("stack").status(0);
    closed.run("lift lamps --while-running").status(0);
    game.kill().unwrap();
    game.wait().unwrap();
    closed.run("lay lamps").status(0);
}
