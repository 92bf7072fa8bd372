//! Living with a game: it is updated, repaired, written to by itself and by others.

use std::fs;
use std::time::{Duration, SystemTime};

use crate::sandbox::Sandbox;

/// Quillhaven 1.7 with a version file, and three layers: one of textures, one that replaces the program, one of
/// settings.
pub fn with_version() -> Sandbox {
    let sandbox = Sandbox::empty();
    sandbox.write("docs/notes.txt", "not of the game\n");
    sandbox.write("game/version.txt", "Quillhaven 1.7\n");
    sandbox.write("game/bin/quillhaven.bin", "program of 1.7\n");
    sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
    sandbox.write("game/data/lamps/iron.qtx", "base iron\n");
    sandbox.write("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\n");
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    sandbox.zip("lamps-1.0.zip", &[("data/lamps/brass.qtx", "lamps\n"), ("data/lamps/new/a.qtx", "a\n")]);
    sandbox.zip("patch-1.0.zip", &[("bin/quillhaven.bin", "patched program\n")]);
    let sheet = "format = 1\nplace = [{ from = \"data\", to = \"data\" }]\n\
                 [[set]]\nfile = \"config/harbour.ini\"\nkey = \"Fog.thick\"\nvalue = \"9\"\n";
    sandbox.zip("fog-1.0.zip", &[("data/fog.txt", "fog\n"), ("oddfit.toml", sheet)]);
    sandbox.run("add lamps-1.0.zip --place .=game:").status(0);
    sandbox.run("add patch-1.0.zip --place .=game:").status(0);
    sandbox.run("add fog-1.0.zip").status(0);
    sandbox
}

/// What the update to 1.8 brings, for files that it may write.
pub fn update(sandbox: &Sandbox, files: &[&str]) {
    let all = [
        ("game/version.txt", "Quillhaven 1.8\n"),
        ("game/bin/quillhaven.bin", "program of 1.8\n"),
        ("game/config/harbour.ini", "[Fog]\nthick=1\nslow=2\nearly=yes\n"),
        ("game/data/ferries.qtx", "ferries\n"),
    ];
    for (path, content) in all.iter().filter(|(path, _)| files.contains(path) || files.is_empty()) {
        sandbox.write(path, content);
    }
}

#[test]
fn a_planned_update_lays_what_still_fits() {
    let sandbox = with_version();
    let begun = sandbox.run("patchday begin").status(0);
    begun.says("The game is itself again").says("patchday finish");
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "program of 1.7\n");
    sandbox.run("patchday status").status(0).says("3 layers wait").says("lamps");
    sandbox.run("stack").status(0).says("a patch day is under way");
    sandbox.run("lay lamps").status(4).says("patchday finish");
    sandbox.run("patchday begin").status(4);
    update(&sandbox, &[]);
    fs::remove_file(sandbox.path("game/data/lamps/iron.qtx")).unwrap();
    sandbox.run("patchday status").status(0).says("was 1.7 and is 1.8 now");
    let files = sandbox.files();
    let looked = sandbox.run("patchday finish --dry-run").status(3);
    looked
        .says("1.7 -> 1.8")
        .says("waits")
        .says("replaces a file that the update touched: game:bin/quillhaven.bin");
    assert_eq!(sandbox.files(), files);
    let report = sandbox.run("patchday finish --json").status(3).json();
    let data = &report["data"];
    assert_eq!(data["version_after"], "1.8");
    assert_eq!(data["added"], serde_json::json!(["game:data/ferries.qtx"]));
    assert_eq!(data["gone"], serde_json::json!(["game:data/lamps/iron.qtx"]));
    assert_eq!(data["layers"][1]["layer"], "patch");
    assert_eq!(data["layers"][1]["fate"], "lifted");
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "program of 1.8\n");
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=9\nslow=2\nearly=yes\n");
    sandbox.run("check --deep").status(0);
    sandbox.run("patchday finish").status(0).says("Nothing to do");
    sandbox.run("lay patch").status(0);
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=1\nslow=2\nearly=yes\n");
    sandbox.run("check --deep").status(0);
}

#[test]
fn an_unplanned_update_is_told_from_the_layers() {
    let sandbox = with_version();
    // The client brings its program, and what is new; it sees nothing to do where it did not look.
    update(&sandbox, &["game/version.txt", "game/bin/quillhaven.bin", "game/data/ferries.qtx"]);
    sandbox.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=5\n");
    fs::remove_file(sandbox.path("game/data/lamps/new/a.qtx")).unwrap();
    let checked = sandbox.run("check").status(3);
    checked.says("updated").says("by the game, in place of patch's").says("the game is 1.8 now and was 1.7");
    sandbox.run("lift patch").status(4);
    let done = sandbox.run("patchday finish").status(3);
    let done = done.says("1.7 -> 1.8").says("settings that you or the game changed: kept").says("patch");
    done.says("what the game itself has there").says("game:data/lamps/brass.qtx");
}

#[test]
fn an_unplanned_update_goes_on_with_a_repair() {
    let sandbox = with_version();
    update(&sandbox, &["game/version.txt", "game/bin/quillhaven.bin"]);
    sandbox.run("patchday finish").status(3);
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "program of 1.8\n", "the patch is for 1.7 and waits");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    sandbox.run("check --deep").status(0);
    sandbox
        .run("patchday begin")
        .status(0)
        .says("are back as before the update")
        .says("game:data/lamps/brass.qtx");
    sandbox.write("game/data/lamps/brass.qtx", "brass of 1.8\n");
    sandbox.run("patchday finish").status(3).says("replaces a file that the update touched");
    sandbox.run("lay lamps").status(0);
    sandbox.run("lift lamps").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "brass of 1.8\n");
    sandbox.run("check --deep").status(0);
}

#[test]
fn an_unplanned_update_leaves_the_game_as_its_client_made_it() {
    let sandbox = Sandbox::empty();
    sandbox.write("docs/notes.txt", "not of the game\n");
    sandbox.write("game/version.txt", "Quillhaven 1.7\n");
    for number in 0..40 {
        sandbox.write(&format!("game/data/lamps/{number:02}.qtx"), &format!("base {number:02}\n"));
        sandbox.write(&format!("game/data/sails/{number:02}.qtx"), &format!("sail {number:02}\n"));
    }
    sandbox.write("game/config/harbour.ini", "[Fog]\nthick=1\n");
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    let names: Vec<String> = (0..40).map(|number| format!("data/lamps/{number:02}.qtx")).collect();
    let mut members: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "mine\n")).collect();
    members.push(("data/buoys/red.qtx", "red\n"));
    sandbox.zip("lamps-1.0.zip", &members);
    sandbox.zip("fog-1.0.zip", &[("config/harbour.ini", "[Fog]\nthick=9\n")]);
    sandbox.run("add lamps-1.0.zip --place .=game:").status(0);
    sandbox.run("add fog-1.0.zip --place .=game:").status(0);
    // The client: ten covered files have new content, ten have gone, ten are as they always were; of what nobody
    // covers some are only written anew; new files come into a folder that the layer had made.
    sandbox.write("game/version.txt", "Quillhaven 1.8\n");
    for number in 0..10 {
        sandbox.write(&format!("game/data/lamps/{number:02}.qtx"), &format!("new {number:02}\n"));
        fs::remove_file(sandbox.path(&format!("game/data/lamps/{:02}.qtx", number + 10))).unwrap();
        let as_it_was = format!("base {:02}\n", number + 20);
        sandbox.write(&format!("game/data/lamps/{:02}.qtx", number + 20), &as_it_was);
        sandbox.write(&format!("game/data/sails/{number:02}.qtx"), "another sail\n");
        let sail = format!("game/data/sails/{:02}.qtx", number + 10);
        sandbox.write(&sail, "sail xx\n");
        let sail = fs::File::options().append(true).open(sandbox.path(&sail)).unwrap();
        sail.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(1_600_000_000)).unwrap();
        sandbox.write(&format!("game/data/buoys/{number:02}.qtx"), "buoy\n");
    }
    sandbox.write("game/data/buoys/logs/day.log", "of the running game\n");
    fs::remove_file(sandbox.path("game/config/harbour.ini")).unwrap();
    sandbox.run("check").status(3).says("11 files of the game's own with another time only");
    let done = sandbox.run("patchday finish --json").status(3).json();
    assert_eq!(done["warnings"], serde_json::json!([]), "the folder is the game's now");
    let count = |list: &str| done["data"][list].as_array().unwrap().len();
    assert_eq!(count("changed"), 10 + 10 + 1, "{done}");
    assert_eq!((count("touched"), count("gone"), count("added"), count("left")), (10, 10, 10, 1), "{done}");
    assert_eq!(done["data"]["put_back"].as_array().unwrap().len(), 10 + 1, "{done}");
    // Those that the client did not look at are of before; nobody knows of the settings.
    assert_eq!(count("originals_old"), 10 + 1, "{done}");
    assert_eq!(done["data"]["layers"][1]["fate"], "lifted", "{done}");
    let reason = done["data"]["layers"][1]["reasons"][0].as_str().unwrap();
    assert!(reason.starts_with("replaces 20 files that the update touched"), "{reason}");
    for number in 0..10 {
        assert_eq!(sandbox.read(&format!("game/data/lamps/{number:02}.qtx")), format!("new {number:02}\n"));
        assert!(!sandbox.path(&format!("game/data/lamps/{:02}.qtx", number + 10)).exists());
        assert_eq!(sandbox.read(&format!("game/data/buoys/{number:02}.qtx")), "buoy\n");
    }
    sandbox.run("mend data/buoys --restore").status(0);
    sandbox.run("lay lamps").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("remove lamps").status(0);
    assert!(!sandbox.path("game/data/lamps/10.qtx").exists(), "the update took it away");
    assert_eq!(sandbox.read("game/data/buoys/00.qtx"), "buoy\n");
    sandbox.run("check --deep").status(0);
    let files = sandbox.files();
    sandbox.run("patchday finish").status(0).says("Nothing to do");
    assert_eq!(sandbox.files(), files);
}

#[test]
fn a_version_that_was_not_known_is_not_said_to_be_as_before() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/data/sails.qtx", "sails\n");
    sandbox.run("game add Quillhaven game").status(0);
    sandbox.write("game/data/ferries.qtx", "ferries\n");
    let done = sandbox.run("patchday finish --game-version 2.0").status(0);
    done.says("The game is 2.0; what it was before is not known.");
    sandbox.write("game/data/ferries2.qtx", "ferries\n");
    sandbox.run("patchday finish").status(0).says("The game is 2.0, as before.");
    // What a person stated stays, and else the main program tells it.
    sandbox.write("game/bin/start.bin", "Quillhaven 2.1\n");
    sandbox.run("game set --exe bin/start.bin").status(0).says("2.0");
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game").status(0).says("not known");
    sandbox.run("game set --exe bin/start.bin").status(0).says("2.1");
    sandbox.write("game/bin/other.bin", "Quillhaven 2.2\n");
    sandbox.run("game set --exe bin/other.bin").status(0).says("2.2");
}

#[test]
fn the_version_is_that_of_what_lies_there() {
    let sandbox = with_version();
    sandbox.zip("gulls-1.zip", &[("data/gulls.qtx", "gulls\n")]);
    let gulls = ["add", "gulls-1.zip", "--place", ".=game:", "--needs-game", ">=1.8"];
    sandbox.run_words(&gulls).status(4).says("the game is 1.7");
    // A layer that brings another version of the program: with it on the game the need is met, and without it not.
    sandbox.zip("official-1.8.zip", &[("version.txt", "Quillhaven 1.8\n")]);
    sandbox.run("add official-1.8.zip --place .=game:").status(0);
    sandbox.run("stack").status(0).says("Quillhaven 1.8:").says("the game tells 1.8, by a file of official");
    sandbox.run_words(&gulls).status(0);
    sandbox.run("check").status(0);
    sandbox.run("patchday status").status(0).says("The game is 1.7.");
    sandbox.run("lift official").status(4).says("gulls needs game >=1.8").says("the game is 1.7");
    sandbox.run("patchday finish").status(0).says("Nothing to do");
    sandbox.run("remove official").status(4);
    sandbox.run("remove official gulls").status(0);
    // Both come at once, and are judged as they will lie.
    let sheet = "format = 1\nplace = [{ from = \"data\", to = \"data\" }]\n[needs]\ngame = \">=1.8\"\n";
    sandbox.zip("terns-1.zip", &[("data/terns.qtx", "terns\n"), ("oddfit.toml", sheet)]);
    sandbox.run("add terns-1.zip official-1.8.zip --place official-1.8.zip!/.=game:").status(0);
    sandbox.run("remove official terns").status(0);
    // The client updates it unasked: that is said at each command, until it is taken in.
    sandbox.write("game/version.txt", "Quillhaven 1.10\n");
    for line in ["stack", "lift fog", "lay fog", "add gulls-1.zip --place .=game: --dry-run"] {
        sandbox.run(line).status(0).says("the game is now 1.10, it was 1.7: `oddstack patchday finish`");
    }
    sandbox.run_words(&gulls).status(0);
    sandbox.run("mend version.txt --accept").status(0);
    let told = sandbox.run("stack --json").status(0).json();
    assert_eq!(
        (&told["data"]["base"]["version"], &told["warnings"]),
        (&"1.10".into(), &serde_json::json!([]))
    );
}

/// The head of a Windows program with a window (Microsoft PE/COFF specification).
fn windows_program() -> Vec<u8> {
    let mut program = vec![0; 0x200];
    program[..2].copy_from_slice(b"MZ");
    program[0x3c] = 0x80;
    program[0x80..0x84].copy_from_slice(b"PE\0\0");
    program[0x80 + 24 + 68] = 2;
    program
}

#[test]
fn a_game_that_comes_as_a_package_has_its_program_then() {
    let sandbox = Sandbox::empty();
    fs::create_dir_all(sandbox.path("game")).unwrap();
    sandbox.run("game add Quillhaven game").status(0).says("not known");
    let program = windows_program();
    let files: [(&str, &[u8]); 3] =
        [("bin/quillhaven.exe", &program), ("bin/launcher.exe", &program), ("data/a.qtx", b"a")];
    sandbox.zip_of_bytes("quillhaven-1.7.zip", &files);
    let added = sandbox.run("add quillhaven-1.7.zip --place .=game:").status(0);
    added.says("The game's main program is game:bin/quillhaven.exe");
    let shown = sandbox.run("game show --json").status(0).json();
    assert_eq!(shown["data"]["program"], "game:bin/quillhaven.exe");
    sandbox.run("lift --all").status(0);
    sandbox.run("play").status(1).says("there is no program at");
}

#[test]
#[cfg(unix)]
fn a_windows_program_needs_a_runner_and_nothing_is_begun_without() {
    let sandbox = Sandbox::empty();
    fs::create_dir_all(sandbox.path("game")).unwrap();
    sandbox.write("game/data/a.qtx", "a\n");
    fs::write(sandbox.path("game/quillhaven.exe"), windows_program()).unwrap();
    fs::write(sandbox.path("setup.exe"), windows_program()).unwrap();
    sandbox.run("game add Quillhaven game").status(0);
    let starts_them = fs::read_dir("/proc/sys/fs/binfmt_misc").is_ok_and(|formats| formats.count() > 2);
    if !starts_them {
        for line in ["play", "capture Big -- setup.exe"] {
            sandbox.run(line).status(1).says("needs a runner here").says("game set --runner");
        }
        sandbox.run("capture --cancel").status(1);
    }
    sandbox.run("game set --runner nowhere-at-all").status(0);
    sandbox.run("play").status(1).says("the runner `nowhere-at-all`");
    sandbox
        .run("capture Big -- setup.exe")
        .status(1)
        .says("the runner `nowhere-at-all`")
        .says("nothing was begun");
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run_words(&["game", "add", "Quillhaven", "game", "--runner", "/bin/sh -c 'exit 3'"]).status(0);
    let failed = sandbox.run("capture Big -- setup.exe").status(3);
    failed.says("the runner /bin/sh, for").says("setup.exe, ended with exit code 3");
    sandbox.run("capture --cancel").status(0);
    sandbox.run("play").status(0).says("the runner /bin/sh, for").says("exit code 3");
}

#[test]
fn a_build_beside_a_whole_version_is_said_to_be_doubtful() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/version.txt", "Quillhaven 1.0.3258.0\n");
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    sandbox.zip("gulls-1.zip", &[("data/gulls.qtx", "gulls\n")]);
    let gulls = ["add", "gulls-1.zip", "--place", ".=game:", "--needs-game", "<3258"];
    sandbox.run_words(&gulls).status(0).says("3258 may be meant for a later part of it").says("doubtful");
    sandbox.run("stack").status(0).says("doubtful");
    let bad = ["add", "gulls-1.zip", "--place", ".=game:", "--needs-game", "1.7 to 1.9"];
    sandbox.run_words(&bad).status(2).says("is no range of versions");
}

#[test]
fn a_repair_by_the_client_is_seen_and_taken_back() {
    let sandbox = with_version();
    sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
    sandbox.write("game/bin/quillhaven.bin", "program of 1.7\n");
    sandbox.run("check").status(3).says("put back").says("the game's own, in place of lamps's");
    sandbox.run("mend data/lamps/brass.qtx --restore").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "program of 1.7\n", "one file is one file");
    sandbox.run("patchday finish").status(0).says("there again");
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "patched program\n");
    sandbox.run("check --deep").status(0);
    sandbox.run("patchday finish").status(0).says("Nothing to do");
}

#[test]
fn where_the_game_writes_by_itself_it_is_left_alone() {
    let sandbox = with_version();
    sandbox.write("game/saves/slot1.dat", "1");
    sandbox.write("game/bin/quill.log", "started\n");
    let seen = sandbox.run("check").status(3);
    seen.says("base added").says("game set --volatile \"game:*.log\" --volatile \"game:saves/**\"");
    sandbox.run("game set --volatile game:*.log --volatile saves").status(0).says("volatile");
    sandbox.run("check").status(0).says("2 files left alone");
    sandbox.run("game set --not-volatile saves").status(0);
    sandbox.run("check").status(3);
    sandbox.run("game set --not-volatile logs").status(1).says("no volatile place `logs`");
    sandbox.run("game set --volatile [").status(2);
}

#[test]
#[cfg(unix)]
fn nothing_changes_under_a_running_game() {
    let sandbox = with_version();
    // By another process: a file that a thread beside this one holds open for writing as it forks can't be started.
    let copy = ["/bin/sleep".into(), sandbox.path("game/bin/quillhaven")];
    assert!(std::process::Command::new("cp").args(copy).status().unwrap().success());
    let mut game = std::process::Command::new(sandbox.path("game/bin/quillhaven")).arg("60").spawn().unwrap();
    let stopped = sandbox.run("lift lamps").status(4);
    let process = format!("process {}", game.id());
    stopped.says("bin/quillhaven").says(&process).says("--while-running");
    sandbox.run("lift lamps --dry-run").status(0);
    sandbox.run("stack").status(0);
    sandbox.run("lift lamps --while-running").status(0);
    game.kill().unwrap();
    game.wait().unwrap();
    sandbox.run("lay lamps").status(0);
}

#[test]
fn what_is_changed_by_hand_becomes_a_layer() {
    let sandbox = with_version();
    let before = sandbox.files();
    sandbox.run("capture --end").status(1).says("no capture is under way");
    sandbox.run("capture Workshop --begin").status(0).says("Now change what is to become Workshop");
    sandbox.run("lift lamps").status(4).says("capture --end").says("capture --cancel");
    sandbox.run("capture Again --begin").status(4);
    sandbox.write("game/data/lamps/iron.qtx", "forged iron\n");
    sandbox.write("game/data/lamps/brass.qtx", "polished\n");
    sandbox.write("game/workshop/bench.qtx", "bench\n");
    sandbox.write("game/config/harbour.ini", "[Fog]\nthick=9\nslow=7\n");
    sandbox.write("game/uninstall/undo.dat", "leftover\n");
    fs::remove_file(sandbox.path("game/version.txt")).unwrap();
    let files = sandbox.files();
    let looked = sandbox.run("capture --end --skip uninstall/** --dry-run").status(0);
    looked.says("left out").says("game:uninstall/undo.dat").says("Dry run");
    assert_eq!(sandbox.files(), files);
    let ended = sandbox.run("capture --end --skip uninstall/**").status(0);
    let ended =
        ended.says("added").says("game:workshop/bench.qtx").says("taken away").says("game:version.txt");
    ended.says("settings").says("Fog.slow").says("Workshop is a layer now, on top");
    assert!(!sandbox.path("game/uninstall").exists());
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=9\nslow=7\n");
    sandbox.run("check --deep").status(0);
    sandbox.run("show Workshop").status(0).says("changes made by hand");
    // The layer of fog off: its key goes, the captured one stays.
    sandbox.run("lift fog").status(0);
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=1\nslow=7\n");
    sandbox.run("lay fog").status(0);
    sandbox.run("remove Workshop").status(0);
    assert_eq!(sandbox.files(), before);
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_capture_is_taken_back_whole() {
    let sandbox = with_version();
    sandbox.write("game/data/lamps/brass.qtx", "my own brass\n");
    let before = sandbox.files();
    sandbox.run("capture Workshop --begin").status(0).says("1 file is not as the stack says");
    sandbox.write("game/data/lamps/iron.qtx", "forged iron\n");
    sandbox.write("game/data/lamps/brass.qtx", "polished\n");
    sandbox.write("game/workshop/bench.qtx", "bench\n");
    fs::remove_file(sandbox.path("game/data/lamps/new/a.qtx")).unwrap();
    fs::remove_dir(sandbox.path("game/data/lamps/new")).unwrap();
    fs::remove_file(sandbox.path("game/version.txt")).unwrap();
    sandbox.run("capture --cancel").status(0).says("All is as it was").says("saved in the ledger: 3 files");
    assert_eq!(sandbox.files(), before);
    assert!(!sandbox.path("game/workshop").exists());
    sandbox.run("mend --restore").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("capture Workshop --begin").status(0);
    sandbox.run("capture --end").status(0).says("Nothing was changed, so there is no layer");
    sandbox.run("stack").status(0).says("3 layers");
}

#[cfg(unix)]
mod programs {
    use super::*;

    const SHELL: &str = "/bin/sh";

    fn installer(sandbox: &Sandbox, name: &str, script: &str) -> String {
        sandbox.write(name, script);
        sandbox.path(name).display().to_string()
    }

    #[test]
    fn an_installer_that_writes_to_two_roots_becomes_a_layer() {
        let sandbox = Sandbox::with_game();
        let before = sandbox.files();
        let script = "printf 'iron by %s\\n' \"$SMITH\" > data/lamps/iron.qtx\nmkdir new && echo x > new/x.txt\n\
                      cat config/fog.ini > fog.tmp && cat fog.tmp > config/fog.ini && rm fog.tmp\n\
                      echo 'name=Robin' > ../docs/profiles/wren.ini\n";
        let script = installer(&sandbox, "install.sh", script);
        let words =
            ["capture", "Smithy", "--version", "1", "--env", "SMITH=Wren", "--json", "--", SHELL, &script];
        let report = sandbox.run_words(&words).status(0);
        let report: serde_json::Value = serde_json::from_str(&report.stdout).unwrap();
        let data = &report["data"];
        assert_eq!(data["added"], serde_json::json!(["game:new/x.txt"]));
        assert_eq!(data["changed"], serde_json::json!(["game:data/lamps/iron.qtx"]));
        assert_eq!(data["settings"][0]["address"], "docs:profiles/wren.ini");
        assert_eq!(data["alike_files"], 1, "written anew just as it was");
        assert_eq!(data["made_by"]["end"]["exit_code"], 0);
        assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "iron by Wren\n");
        sandbox.run("check --deep").status(0);
        sandbox.run("show Smithy").status(0).says("install.sh").says("exit code 0");
        sandbox.run("lift Smithy").status(0);
        assert_eq!(sandbox.files(), before);
        sandbox.run("check --deep").status(0);
        sandbox.run("lay Smithy").status(0);
        assert_eq!(sandbox.read("docs/profiles/wren.ini"), "name=Robin\n");
    }

    #[test]
    fn a_program_that_fails_leaves_a_choice() {
        let sandbox = with_version();
        let before = sandbox.files();
        let script = installer(&sandbox, "fail.sh", "echo half > data/half.qtx\nexit 3\n");
        let failed = sandbox.run_words(&["capture", "Half", "--", SHELL, &script]).status(3);
        failed.says("ended with exit code 3").says("capture --end").says("capture --cancel");
        sandbox.run("stack").status(0).says("a capture is under way");
        sandbox.run("capture --cancel").status(0);
        assert_eq!(sandbox.files(), before);
        sandbox.run_words(&["capture", "Half", "--", SHELL, &script]).status(3).says("exit code 3");
        sandbox.run("capture --end").status(0).says("Half is a layer now").says("exit code 3");
        let killed = installer(&sandbox, "killed.sh", "echo cut > data/cut.qtx\nkill -9 $$\n");
        sandbox.run_words(&["capture", "Cut", "--", SHELL, &killed]).status(3).says("ended by a signal");
        sandbox.run("capture --cancel").status(0);
        assert!(!sandbox.path("game/data/cut.qtx").exists());
        let before = sandbox.files();
        for lost in ["capture Lost -- ./nowhere", "capture Lost -- nowhere.exe", "capture Lost -- bin"] {
            sandbox.run(lost).status(1).says("can't be run: there is no such file").says("nothing was begun");
        }
        assert_eq!(sandbox.files(), before, "nothing is protected for a program that is not there");
        // A bare name is that of the file here, as people write it.
        installer(&sandbox, "setup-here", "#!/bin/sh\necho set > data/set.qtx\n");
        std::fs::set_permissions(
            sandbox.path("setup-here"),
            std::os::unix::fs::PermissionsExt::from_mode(0o755),
        )
        .unwrap();
        sandbox.run("capture Set -- setup-here").status(0).says("Set is a layer now");
        sandbox.run("remove Set").status(0);
        let inside = ["capture", "Inside", "--in", "game:bin", "--", SHELL, "-c", "echo here > here.txt"];
        sandbox.run_words(&inside).status(0).says("game:bin/here.txt");
        sandbox.run("capture Half --in bin --begin").status(4).says("there is a layer named `Half` already");
        sandbox.run_words(&["capture", "X", "--in", "far:", "--", SHELL]).status(2).says("--in far:");
        sandbox.run("remove Inside").status(0);
        sandbox.run("check").status(0);
        sandbox.run("stack").status(0).says("4 layers");
    }

    #[test]
    fn a_program_that_is_interrupted_leaves_a_choice() {
        use std::os::unix::process::CommandExt;
        let sandbox = with_version();
        let before = sandbox.files();
        let script = "echo half > data/half.qtx; echo > ../ready; while :; do :; done\n";
        let script = installer(&sandbox, "long.sh", script);
        let stderr = fs::File::create(sandbox.path("said.txt")).unwrap();
        let mut running = std::process::Command::new(assert_cmd::cargo::cargo_bin("oddstack"))
            .args(["capture", "Long", "--", SHELL, &script])
            .env("ODDSTACK_HOME", sandbox.path("home"))
            .stdin(std::process::Stdio::null())
            .stderr(stderr)
            .process_group(0)
            .spawn()
            .unwrap();
        while !sandbox.path("ready").exists() {
            assert!(running.try_wait().unwrap().is_none(), "{}", sandbox.read("said.txt"));
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        // Another command waits for its turn and then says who is at it; the stack can be looked at.
        sandbox.run("stack").status(0).says("a capture is under way");
        let interrupt = format!("kill -INT -{}", running.id());
        let killed = std::process::Command::new(SHELL).args(["-c", &interrupt]).status().unwrap();
        assert!(killed.success());
        assert_eq!(running.wait().unwrap().code(), Some(3), "{}", sandbox.read("said.txt"));
        assert!(sandbox.read("said.txt").contains("was interrupted"), "{}", sandbox.read("said.txt"));
        sandbox.run("capture --cancel").status(0);
        assert_eq!(sandbox.files(), before);
    }

    #[test]
    fn a_new_version_of_a_captured_layer_runs_on_what_lies_beneath() {
        let sandbox = with_version();
        let first =
            installer(&sandbox, "1.sh", "cat bin/quillhaven.bin > old.txt; echo one > bin/quillhaven.bin\n");
        sandbox.run_words(&["capture", "Engine", "--version", "1", "--", SHELL, &first]).status(0);
        assert_eq!(sandbox.read("game/old.txt"), "patched program\n");
        sandbox.zip("top-1.zip", &[("old.txt", "of the top\n")]);
        sandbox.run("add top-1.zip --place .=game:").status(0);
        let second = installer(
            &sandbox,
            "2.sh",
            "cat bin/quillhaven.bin old.txt > seen.txt; echo two > bin/quillhaven.bin\n",
        );
        let words = ["upgrade", "Engine", "--version", "2", "--", SHELL, &second];
        sandbox.run_words(&words).status(0).says("Engine took the place of Engine 1, below top");
        assert_eq!(sandbox.read("game/seen.txt"), "patched program\n", "the old one and all above were off");
        assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "two\n");
        assert_eq!(sandbox.read("game/old.txt"), "of the top\n");
        sandbox.run("check --deep").status(0);
        let third = installer(&sandbox, "3.sh", "echo three > bin/quillhaven.bin; exit 1\n");
        sandbox.run_words(&["upgrade", "Engine", "--", SHELL, &third]).status(3);
        sandbox.run("capture --cancel").status(0);
        assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "two\n");
        sandbox.run("check --deep").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "program of 1.7\n");
        sandbox.run("check --deep").status(0);
    }

    #[test]
    fn what_may_be_written_is_protected_and_the_rest_is_told() {
        let sandbox = with_version();
        let script = "echo x > data/lamps/iron.qtx; echo y > version.txt\n";
        let script = installer(&sandbox, "w.sh", script);
        let words = ["capture", "Watched", "--watch", "data/**", "--", SHELL, &script];
        let done = sandbox.run_words(&words).status(0);
        done.says("original lost").says("game:version.txt").says("do not meet --watch");
        sandbox.run("lift Watched").status(0).says("may be missing now: game:version.txt");
        assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
        sandbox.write("game/version.txt", "Quillhaven 1.7\n");
        sandbox.run("mend --accept").status(0);
        sandbox.run("check").status(0);
        // A second name keeps what is replaced; what is written in place is found out.
        let script = "echo new > t && mv t data/lamps/iron.qtx; echo y > version.txt\n";
        let script = installer(&sandbox, "l.sh", script);
        let words = ["capture", "Linked", "--link-originals", "--", SHELL, &script];
        let done = sandbox.run_words(&words).status(0);
        assert!(!done.says("original lost").stdout.contains("lost  game:data"));
        sandbox.run("lift Linked").status(0);
        assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
    }

    #[test]
    fn a_captured_layer_is_exchanged_by_hand_or_with_edits_in_the_way() {
        let sandbox = with_version();
        let words = |line: &'static str| ["capture", "Tool", "--", SHELL, "-c", line];
        sandbox.run_words(&words("echo one > data/tool.qtx")).status(0).says("Tool is a layer now, on top");
        sandbox.zip("top-1.zip", &[("data/top.qtx", "top\n")]);
        sandbox.run("add top-1.zip --place .=game:").status(0);
        sandbox.write("game/data/tool.qtx", "edited\n");
        let upgrade =
            |more: &'static str| ["upgrade", "Tool", more, "--", SHELL, "-c", "echo two > data/tool.qtx"];
        let asked = sandbox.run_words(&upgrade("--version=2")).status(4);
        asked.says("edited since it was laid").says("--keep-edits");
        assert_eq!(sandbox.read("game/data/tool.qtx"), "edited\n");
        let done = sandbox.run_words(&upgrade("--keep-edits")).status(0);
        done.says("Tool took the place of Tool, below top");
        assert_eq!(sandbox.read("game/data/tool.qtx"), "two\n");
        sandbox.run("upgrade Tool --begin --version 3").status(0);
        sandbox.write("game/data/tool.qtx", "three\n");
        sandbox.run("upgrade lamps --end").status(4);
        sandbox.run("upgrade Tool --end --dry-run").status(0);
        sandbox.run("upgrade Tool --end").status(0).says("took the place of Tool, below top");
        sandbox.run("show Tool").status(0).says("changes made by hand");
        sandbox.run("lift Tool").status(0);
        sandbox.run_words(&upgrade("--version=4")).status(0).says("below top, and is lifted");
        assert!(!sandbox.path("game/data/tool.qtx").exists());
        sandbox.run("check --deep").status(0);
        sandbox.run("upgrade Tool --end").status(1).says("no capture is under way");
    }

    #[test]
    fn odd_deeds_are_told_and_can_be_taken_back() {
        let sandbox = with_version();
        let before = sandbox.files();
        let tried = |name: &str, script: &str| {
            let script = installer(&sandbox, "odd.sh", script);
            sandbox.run_words(&["capture", name, "--", SHELL, &script])
        };
        let deed = "PATH=/bin:/usr/bin; ln -s ../version.txt data/link; echo x > data/x.qtx\n";
        tried("Linked", deed).status(0).says("game:data/link is a link").says("Linked is a layer now");
        assert!(sandbox.path("game/data/link").is_symlink(), "it stays where it is");
        fs::remove_file(sandbox.path("game/data/link")).unwrap();
        sandbox.run("remove Linked").status(0);
        assert_eq!(sandbox.files(), before);
        // A link in a file's place, or a folder, can be in no layer.
        let deed = "PATH=/bin:/usr/bin; rm version.txt; ln -s bin version.txt\n";
        tried("Swapped", deed).status(3).says("a link lies where a file was").says("capture --cancel");
        sandbox.run("capture --cancel").status(0);
        let deed = "PATH=/bin:/usr/bin; rm version.txt; mkdir version.txt; echo x > version.txt/x\n";
        tried("Folded", deed).status(1).says("is a file for");
        sandbox.run("capture --cancel").status(0);
        assert_eq!(sandbox.files(), before);
        // Another spelling is the same address.
        let deed = "PATH=/bin:/usr/bin; rm data/lamps/iron.qtx; echo iron > DATA.txt; echo I > data/lamps/IRON.qtx\n";
        tried("Spelled", deed).status(0).says("changed").says("IRON.qtx");
        sandbox.run("check --deep").status(0);
        sandbox.run("remove Spelled").status(0);
        assert_eq!(sandbox.files(), before);
        // Taking a folder away with all that is in it.
        let deed = "PATH=/bin:/usr/bin; rm -r data/lamps config\n";
        tried("Emptied", deed).status(0).says("taken away");
        sandbox.run("check --deep").status(0);
        sandbox.run("lift Emptied").status(0);
        assert_eq!(sandbox.files(), before);
        sandbox.run("lay Emptied").status(0);
        assert!(!sandbox.path("game/data/lamps/brass.qtx").exists());
        sandbox.run("remove Emptied").status(0);
        assert_eq!(sandbox.files(), before);
        sandbox.run("check --deep").status(0);
    }

    #[test]
    fn a_foreign_program_gets_its_runner() {
        let sandbox = with_version();
        sandbox.write("game/setup.exe", "echo \"$1\" > data/ran.txt\n");
        sandbox.run("mend --accept").status(0);
        sandbox.run_words(&["game", "set", "--runner", "/bin/sh -e"]).status(0).says("runner");
        let exe = sandbox.path("game/setup.exe").display().to_string();
        sandbox.run_words(&["capture", "Foreign", "--", &exe, "quietly"]).status(0);
        assert_eq!(sandbox.read("game/data/ran.txt"), "quietly\n");
        sandbox.run_words(&["game", "set", "--runner", "'open"]).status(2).says("a quote is open");
    }
}

/// A package whose sheet brings a start program, what to clear, and proofs.
#[cfg(unix)]
fn with_loader() -> Sandbox {
    use std::os::unix::fs::PermissionsExt;
    let sandbox = with_version();
    sandbox.write("game/bin/main.sh", "#!/bin/sh\necho main > ../main.log\n");
    let sheet = "format = 1\nplace = [{ from = \"bin\", to = \"bin\" }]\nclears = [\"cache/**\"]\n\
                 [[start]]\nprogram = \"bin/loader.sh\"\narguments = [\"--quiet\"]\nenvironment = { LAMPS = \"bright\" }\n\
                 [[proof]]\nlog = \"loader.log\"\ncontains = \"loader * ready\"\n\
                 [[proof]]\nsays = \"its chart is drawn\"\nfile = \"cache/chart.bin\"\n\
                 [[proof]]\nversion_of = \"version.txt\"\nis = \">=1.7 <1.8\"\n";
    let script = "#!/bin/sh\necho \"Loader $1 $LAMPS READY\" > ../loader.log\nmkdir -p ../cache; echo c > ../cache/chart.bin\n";
    sandbox.zip("loader-1.zip", &[("bin/loader.sh", script), ("oddfit.toml", sheet)]);
    sandbox.run("mend --accept").status(0);
    for name in ["bin/main.sh", "bin/loader.sh"] {
        if name.ends_with("loader.sh") {
            sandbox.run("add loader-1.zip").status(0);
        }
        let path = sandbox.path(&format!("game/{name}"));
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    }
    sandbox.run("game set --exe bin/main.sh --volatile *.log").status(0);
    sandbox
}

#[test]
#[cfg(unix)]
fn the_game_is_started_as_the_stack_needs_it() {
    let sandbox = with_loader();
    sandbox.run("check --proofs").status(3).says("not seen").says("its chart is drawn").says("works");
    sandbox.write("game/cache/old.bin", "of before the loader\n");
    sandbox.run("play --dry-run").status(0).says("1 file would be cleared").says("LAMPS=bright");
    assert!(sandbox.path("game/cache/old.bin").exists() && !sandbox.path("game/loader.log").exists());
    sandbox.run("play").status(4).says("loader wants this started").says("cache/**").says("--trust");
    assert!(sandbox.path("game/cache/old.bin").exists() && !sandbox.path("game/loader.log").exists());
    let played = sandbox.run("play --trust").status(0);
    let played =
        played.says("starting game:bin/loader.sh").says("as loader wants it").says("game:cache/chart.bin");
    played.says("Loader --quiet bright READY").says("works");
    assert!(!sandbox.path("game/cache/old.bin").exists(), "cleared once");
    sandbox.run("mend --cleared").status(0).says("game:cache/old.bin");
    assert_eq!(sandbox.read("game/cache/old.bin"), "of before the loader\n");
    sandbox.run("mend --cleared").status(0).says("Nothing");
    // What the game has made there is nobody's.
    sandbox
        .run("check --proofs")
        .status(3)
        .says("game:cache/chart.bin")
        .says("What shows that layers work is there");
    let again = sandbox.run("play --json").status(0).json();
    assert_eq!(again["data"]["cleared"], serde_json::json!([]), "nothing has changed since");
    assert_eq!(
        again["data"]["written"]["changed"],
        serde_json::json!(["game:cache/chart.bin", "game:loader.log"])
    );
    // A log may have become a link out of the game, or a pipe that nobody writes into.
    sandbox.write("secret.txt", "Loader secret READY");
    fs::remove_file(sandbox.path("game/loader.log")).unwrap();
    std::os::unix::fs::symlink(sandbox.path("secret.txt"), sandbox.path("game/loader.log")).unwrap();
    let linked = sandbox.run("check --proofs").status(3).says("out of the game's folder");
    assert!(!linked.whole().contains("secret READY"));
    fs::remove_file(sandbox.path("game/loader.log")).unwrap();
    let pipe = std::process::Command::new("mkfifo").arg(sandbox.path("game/loader.log")).status();
    assert!(pipe.unwrap().success());
    sandbox.run("check --proofs").status(3).says("no regular file");
    fs::remove_file(sandbox.path("game/loader.log")).unwrap();
    sandbox.write("game/loader.log", "Loader READY");
    sandbox.run_in("", &["lift", "lamps"], &[("ODDSTACK_NOW", "2099-01-01T00:00:00Z")]).status(0);
    sandbox.run("check --proofs").status(3).says("play once more");
    sandbox.run("play nowhere").status(1).says("there are: loader, Quillhaven");
    sandbox.run("lift loader").status(0);
    let without = sandbox.run("play").status(0).says("starting game:bin/main.sh").says("game:main.log");
    assert!(!without.whole().contains("cleared"), "only layers that are laid clear");
    sandbox.run("game set --runner nowhere-at-all").status(0);
    fs::remove_file(sandbox.path("game/bin/main.sh")).unwrap();
    sandbox.run("play").status(1).says("there is no program at");
}

#[test]
#[cfg(unix)]
fn nothing_that_a_package_wants_is_started_or_cleared_unasked() {
    use std::os::unix::fs::PermissionsExt;
    let sandbox = Sandbox::with_game();
    sandbox.write("game/saves/old.sav", "of before the game was added\n");
    sandbox.write("game/bin/tool.sh", "#!/bin/sh\necho \"$1\" > ../ran.txt\n");
    fs::set_permissions(sandbox.path("game/bin/tool.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.run("mend --accept").status(0);
    let package = |version: u32, arguments: &str, clears: &str| {
        let sheet = format!(
            "format = 1\nname = \"Tool\"\nversion = \"{version}\"\nplace = [{{ from = \"a\", to = \"data/a\" }}]\n\
             clears = [{clears}]\n[[start]]\nprogram = \"bin/tool.sh\"\narguments = [\"{arguments}\"]\n\
             environment = {{ LD_PRELOAD = \"data/a/evil.so\" }}\n"
        );
        sandbox.zip(&format!("tool-{version}.zip"), &[("a/new.txt", "new"), ("oddfit.toml", &sheet)]);
    };
    for (clears, why) in [
        ("game:**", "reaches all"),
        ("*.sav", "reaches all"),
        ("**/cache/*", "reaches all"),
        ("../x/**", ".."),
    ] {
        package(1, "one", &format!("\"{clears}\""));
        sandbox.run("add tool-1.zip").status(1).says(why);
    }
    package(1, "one", "\"Saves/**\", \"docs:**\", \"data/**\", \".oddstack/**\"");
    sandbox.zip("torch.zip", &[("data/a/lamp.txt", "lamp")]);
    sandbox.run("add torch.zip").status(0);
    sandbox.write("game/saves/new.sav", "since then\n");
    sandbox.write("game/saves/auto.sav", "volatile\n");
    sandbox.write("game/data/a/found.txt", "nobody's\n");
    sandbox.write("docs/profiles/new.ini", "mine\n");
    sandbox.run("game set --volatile saves/auto*").status(0);
    // It is told before anything is done, and by every command that shows a package.
    sandbox
        .run("inspect tool-1.zip")
        .status(0)
        .says("LD_PRELOAD makes it load other code")
        .says("game:saves/new.sav");
    sandbox
        .run("add tool-1.zip")
        .status(0)
        .says("tool.sh one")
        .says("LD_PRELOAD")
        .says("game:data/a/found.txt");
    sandbox.run("show Tool").status(0).says("tool.sh one").says("LD_PRELOAD").says("never will");
    let before = sandbox.files();
    for line in ["play", "play --yes", "play Tool"] {
        let told = sandbox.run(line).status(4).says("LD_PRELOAD").says("game:saves/new.sav").says("--trust");
        for safe in ["old.sav", "auto.sav", "lamp.txt", "new.txt", "docs:profiles"] {
            assert!(!told.whole().contains(safe), "{safe}");
        }
        assert_eq!(sandbox.files(), before);
    }
    sandbox.run("play Quillhaven --no-clearing").one_of(&[0, 1], "another way");
    assert_eq!(sandbox.files(), before);
    sandbox.run("play --trust").status(0);
    assert_eq!(sandbox.read("game/ran.txt"), "one\n");
    assert!(!sandbox.path("game/saves/new.sav").exists() && !sandbox.path("game/data/a/found.txt").exists());
    for (path, content) in &before {
        let is_cleared = path.ends_with("saves/new.sav") || path.ends_with("found.txt");
        assert!(is_cleared || sandbox.read(path) == *content, "{path}");
    }
    sandbox.run("play").status(0);
    sandbox.run("mend --cleared").status(0).says("2 files back");
    sandbox.run("play").status(0);
    assert_eq!(sandbox.files().len(), before.len() + 1);
    // The very same of a new version is agreed to, anything else is not.
    package(2, "one", "\"Saves/**\", \"docs:**\", \"data/**\", \".oddstack/**\"");
    sandbox.run("upgrade tool-2.zip").status(0);
    sandbox.run("play").status(0);
    package(3, "other", "");
    sandbox.run("upgrade tool-3.zip").status(0);
    sandbox.run("play").status(4).says("tool.sh other");
    assert_eq!(sandbox.read("game/ran.txt"), "one\n");
    // A link in the game may lead anywhere.
    sandbox.write("outside.sh", "#!/bin/sh\necho outside > ../ran.txt\n");
    fs::remove_file(sandbox.path("game/bin/tool.sh")).unwrap();
    std::os::unix::fs::symlink(sandbox.path("outside.sh"), sandbox.path("game/bin/tool.sh")).unwrap();
    sandbox.run("play --trust").status(1).says("leads out of the game's folders");
    for program in ["/bin/sh", "../outside.sh", "C:/x.exe", "game:../outside.sh"] {
        let sheet = format!("format = 1\n[[start]]\nprogram = \"{program}\"\n");
        sandbox.zip("out.zip", &[("data/a/b.txt", "b"), ("oddfit.toml", &sheet)]);
        sandbox.run("add out.zip").status(1);
    }
}

#[test]
#[cfg(unix)]
fn games_are_found_in_folders() {
    use std::os::unix::fs::PermissionsExt;
    let sandbox = Sandbox::empty();
    let program = |path: &str| {
        sandbox.write(path, "");
        fs::copy("/bin/true", sandbox.path(path)).unwrap();
        fs::set_permissions(sandbox.path(path), fs::Permissions::from_mode(0o755)).unwrap();
    };
    program("library/Quillhaven/bin/quillhaven");
    sandbox.zip("library/Quillhaven/core.qpk", &[("menu/title.txt", "t")]);
    program("library/more/Harbour Nights/harbour.x86_64");
    sandbox.write("library/notes/readme.txt", "no game");
    sandbox.run_words(&["game", "add", "Mine", "library/Quillhaven"]).status(0);
    let found = sandbox.run("game find library --json").status(0).json();
    let games = found["data"]["games"].as_array().unwrap();
    assert_eq!(games.len(), 2, "{games:?}");
    assert_eq!(games[0]["name"], "Quillhaven");
    assert_eq!(games[0]["program"], "bin/quillhaven");
    assert_eq!(games[0]["containers"], serde_json::json!({ "qpk": 1 }));
    assert_eq!(games[0]["in_care"], "Mine");
    assert_eq!(games[1]["name"], "Harbour Nights");
    sandbox.run("game find library").status(0).says("added as Mine").says("game add \"Harbour Nights\"");
    sandbox.run("game find library/notes").status(0).says("No games were found");
    sandbox.run("game find nowhere").status(1);
}

/// One layer of each kind of claim on an update.
fn with_claims() -> Sandbox {
    let sandbox = with_version();
    sandbox.zip("core-2.zip", &[("data/core.qtx", "core\n")]);
    sandbox.zip("needy-1.zip", &[("data/needy.qtx", "needy\n")]);
    sandbox.zip("sworn-1.zip", &[("bin/quillhaven.bin", "sworn program\n")]);
    sandbox.zip(
        "away-1.zip",
        &[
            ("data/away.txt", "a\n"),
            (
                "oddfit.toml",
                "takes_away = [\"data/lamps/iron.qtx\"]\n\
        place = [{ from = \"data\", to = \"data\" }]\n",
            ),
        ],
    );
    sandbox.run_words(&["add", "core-2.zip", "--place", ".=game:", "--needs-game", "<1.8"]).status(0);
    sandbox.run_words(&["add", "needy-1.zip", "--place", ".=game:", "--needs", "core >=2"]).status(0);
    sandbox.run("remove patch").status(0);
    sandbox.run_words(&["add", "sworn-1.zip", "--place", ".=game:", "--needs-game", ">=1.7 <2"]).status(0);
    sandbox.run("add away-1.zip").status(0);
    sandbox
}

#[test]
fn each_layer_is_judged_by_what_it_says_and_covers() {
    let sandbox = with_claims();
    sandbox.run("tweak config/harbour.ini Fog.slow=8").status(0);
    sandbox.run("patchday begin").status(0);
    update(&sandbox, &[]);
    sandbox.write("game/data/lamps/iron.qtx", "iron of 1.8\n");
    sandbox.write("game/data/lamps/brass.qtx", "lamps\n");
    let report = sandbox.run("patchday finish --json").status(3).json();
    let fate = |name: &str| {
        let rows = report["data"]["layers"].as_array().unwrap();
        let row = rows.iter().find(|row| row["layer"] == name).unwrap();
        let reasons: Vec<&str> =
            row["reasons"].as_array().unwrap().iter().map(|reason| reason.as_str().unwrap()).collect();
        (row["fate"].as_str().unwrap().to_owned(), reasons.join("; "))
    };
    let told = |fate: &str, reasons: &str| (fate.to_owned(), reasons.to_owned());
    assert_eq!(fate("core"), told("lifted", "needs game <1.8, and the game is 1.8"));
    assert_eq!(fate("needy"), told("lifted", "needs core >=2, and no layer core is laid"));
    let known = "replaces a file that the update touched: game:bin/quillhaven.bin";
    assert_eq!(fate("sworn"), told("laid", known), "it says that it is for this version");
    assert_eq!(fate("lamps"), told("laid", ""), "the game has that very lamp now");
    assert_eq!(fate("away").0, "lifted", "what it takes away is another file now");
    assert_eq!(fate("own edits").0, "laid");
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "sworn program\n");
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "iron of 1.8\n");
    assert_eq!(sandbox.read("game/config/harbour.ini"), "[Fog]\nthick=9\nslow=8\nearly=yes\n");
    sandbox.run("check --deep").status(0);
    // The helps are commands that do it.
    sandbox.run("lay core --despite").status(0);
    sandbox.run("lay needy").status(0);
    sandbox.run("lift --all").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n", "the game's own");
}

#[test]
fn a_version_that_no_file_tells_is_stated() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "lamps\n")]);
    sandbox.run_words(&["add", "lamps-1.zip", "--place", ".=game:", "--needs-game", "<1.8"]).status(0);
    sandbox.run("patchday begin").status(0);
    sandbox.run("patchday finish --game-version 1.8").status(3).says("1.7 -> 1.8").says("needs game <1.8");
    sandbox.run("game show").status(0).says("1.8");
    // Without a stated version, many changed files tell an update that nobody planned.
    let sandbox = Sandbox::with_game();
    sandbox.run("add lamps-1.zip").status(1);
    sandbox.zip("lamps-1.zip", &[("data/lamps/brass.qtx", "lamps\n")]);
    sandbox.run("add lamps-1.zip --place .=game:").status(0);
    for path in ["game/bin/harbour.txt", "game/data/lamps/iron.qtx", "game/data/lamps/brass.qtx"] {
        sandbox.write(path, "of the update\n");
    }
    sandbox.run("check").status(3).says("edited").says("base changed");
    fs::remove_file(sandbox.path("game/bin/harbour.txt")).unwrap();
    sandbox.write("game/bin/harbour.bin", "of the update\n");
    let few = sandbox.run("patchday finish").status(3);
    few.says("left as on disk").says("game:data/lamps/brass.qtx");
    sandbox.run("mend data/lamps/brass.qtx --accept").status(0).says("lies on top of it again");
    sandbox.run("lift lamps").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "of the update\n");
    sandbox.run("check --deep").status(0);
    // A stated version says that it was an update, whatever speaks for it.
    sandbox.run("lay lamps").status(0);
    sandbox.write("game/data/lamps/brass.qtx", "of the next update\n");
    sandbox.run("patchday finish --game-version 1.9").status(3).says("1.7 -> 1.9").says("waits");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "of the next update\n");
    sandbox.run("check --deep").status(0);
}

#[test]
fn one_address_or_a_folder_is_mended_and_no_more() {
    let sandbox = with_version();
    sandbox.run("game set --spot lamps=data/lamps").status(0);
    let drift = || {
        for path in ["data/lamps/brass.qtx", "data/lamps/new/a.qtx", "bin/quillhaven.bin"] {
            sandbox.write(&format!("game/{path}"), "edited\n");
        }
        sandbox.write("game/data/lamps/new/stray.qtx", "stray\n");
    };
    drift();
    sandbox.run("mend lamps:brass.qtx --restore").status(0).says("1 file is as the stack has it");
    sandbox.run("mend lamps:new --restore").status(0).says("taken out of the game");
    assert!(!sandbox.path("game/data/lamps/new/stray.qtx").exists());
    assert_eq!(sandbox.read("game/bin/quillhaven.bin"), "edited\n");
    drift();
    sandbox.run("mend --keep").status(0).says("left").says("name it to have it kept as yours");
    sandbox.run("check").status(3).says("stray");
    sandbox.run("mend lamps:new/*.qtx --keep").status(0).says("as a whole file");
    sandbox.run("check --deep").status(0);
    sandbox.run("lift lamps").status(0);
    assert_eq!(sandbox.read("game/data/lamps/new/stray.qtx"), "stray\n", "yours stays, with its folder");
    sandbox.run_words(&["lift", "own edits"]).status(0);
    assert!(!sandbox.path("game/data/lamps/new").exists());
    sandbox.run_words(&["lay", "own edits", "lamps"]).status(0);
    sandbox.run("tweak list").status(0).says("game:data/lamps/new/stray.qtx");
    sandbox.run("tweak drop --all").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps\n");
    sandbox.run("mend data/lamps/brass.qtx --accept").status(1).says("as it should");
    sandbox.run("mend docs:notes.txt --accept").status(1);
    sandbox.run("mend [ --restore").status(2);
    sandbox.run("mend --keep --accept").status(2);
}

#[test]
fn a_whole_file_of_yours_is_edited_key_by_key() {
    let sandbox = with_version();
    sandbox.write("game/config/other.ini", "[Sea]\ncalm=1\n");
    sandbox.run("mend config/other.ini --keep").status(0).says("as a whole file");
    sandbox.run("tweak config/other.ini Sea.calm=0").status(0);
    assert_eq!(sandbox.read("game/config/other.ini"), "[Sea]\ncalm=0\n");
    sandbox.run("check --deep").status(0);
    sandbox.run("tweak drop config/other.ini").status(0);
    assert!(!sandbox.path("game/config/other.ini").exists());
}

#[test]
#[cfg(unix)]
fn a_big_game_is_not_copied_unasked() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/readme.txt", "r");
    // Three gigabytes that take no room.
    fs::File::create(sandbox.path("game/big.pak")).unwrap().set_len(3 << 30).unwrap();
    sandbox.run("game add Quillhaven game").status(0);
    let asked = sandbox.run("capture Big --begin");
    // Where the disk shares blocks nothing is copied.
    if asked.stdout.contains("Now change") {
        return;
    }
    let asked = asked.status(4).says("2 files (3.0 GB)").says("--watch \"*\"").says("--link-originals");
    drop(asked);
    sandbox.run("capture --end").status(1).says("no capture is under way");
    sandbox.run("capture Big --begin --watch *.txt").status(0).says("do not meet --watch");
    sandbox.write("game/readme.txt", "changed");
    sandbox.run("capture --end").status(0).says("Big is a layer now");
    sandbox.run("remove Big").status(0);
    assert_eq!(sandbox.read("game/readme.txt"), "r");
}

#[test]
fn damage_of_a_layers_own_file_is_no_update() {
    let sandbox = with_version();
    update(&sandbox, &["game/version.txt", "game/data/ferries.qtx"]);
    sandbox.write("game/data/lamps/new/a.qtx", "damaged\n");
    let checked = sandbox.run("check --json").status(3).json();
    let rows = checked["data"]["drifted"].as_array().unwrap().iter();
    let rows: Vec<_> =
        rows.map(|row| (row["address"].as_str().unwrap(), row["kind"].as_str().unwrap())).collect();
    assert!(rows.contains(&("game:data/lamps/new/a.qtx", "edited")), "{rows:?}");
    let done = sandbox.run("patchday finish --json").status(3).json();
    assert_eq!(done["data"]["left"], serde_json::json!(["game:data/lamps/new/a.qtx"]));
    sandbox.run("mend --restore").status(0);
    sandbox.run("remove lamps").status(0);
    assert!(!sandbox.path("game/data/lamps/new").exists(), "it does not outlive the layer");
}

/// Lets the game go and adds it as it is now, with its lamps.
fn in_care_anew(sandbox: &Sandbox) {
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game add Quillhaven game --version-from version.txt").status(0);
    sandbox.run("add lamps-1.0.zip --place .=game:").status(0);
}

#[test]
fn a_folder_that_somebody_took_away_is_made_again_or_given_up() {
    let sandbox = with_version();
    sandbox.write("game/mods/ferry/a.qtx", "a\n");
    fs::create_dir_all(sandbox.path("game/mods/empty/deep")).unwrap();
    in_care_anew(&sandbox);
    fs::remove_dir_all(sandbox.path("game/mods")).unwrap();
    fs::remove_dir_all(sandbox.path("game/data/lamps/new")).unwrap();
    let checked = sandbox.run("check").status(3);
    checked.says("folder gone").says("game:mods").says("game:data/lamps/new");
    // What goes into it brings it back.
    sandbox.zip("gulls-1.zip", &[("mods/gulls/b.qtx", "b\n")]);
    sandbox.run("add gulls-1.zip --place .=game:").status(0);
    assert_eq!(sandbox.read("game/mods/gulls/b.qtx"), "b\n");
    sandbox.run("mend --restore").status(0).says("the folder");
    assert_eq!(sandbox.read("game/data/lamps/new/a.qtx"), "a\n");
    assert!(sandbox.path("game/mods/empty/deep").is_dir());
    sandbox.run("mend mods/ferry --accept").status(0);
    sandbox.run("check --deep").status(0);
    // An empty folder that is gone for good is nobody's any more.
    fs::remove_dir_all(sandbox.path("game/mods/empty")).unwrap();
    sandbox.run("check").status(3).says("game:mods/empty");
    sandbox.run("mend mods/empty --accept").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("lift --all").status(0);
    sandbox.run("lay --all").status(0);
    assert!(!sandbox.path("game/mods/empty").exists());
}

#[test]
#[cfg(unix)]
fn a_program_may_take_folders_away() {
    let sandbox = with_version();
    fs::create_dir_all(sandbox.path("game/addons/old/deep")).unwrap();
    sandbox.write("game/addons/old/a.qtx", "a\n");
    in_care_anew(&sandbox);
    let before = sandbox.files();
    sandbox.run("capture Tidy -- rm -rf addons/old").status(0).says("game:addons/old/");
    assert!(!sandbox.path("game/addons/old").exists() && sandbox.path("game/addons").is_dir());
    sandbox.run("check --deep").status(0);
    sandbox.run("lift Tidy").status(0);
    assert_eq!(sandbox.files(), before);
    assert!(sandbox.path("game/addons/old/deep").is_dir());
    sandbox.run("lay Tidy").status(0);
    assert!(!sandbox.path("game/addons/old").exists());
    // And nothing but folders.
    sandbox.run("remove Tidy").status(0);
    sandbox.run("capture Less -- rmdir addons/old/deep").status(0);
    sandbox.run("check").status(0);
    sandbox.run("remove Less").status(0);
    assert!(sandbox.path("game/addons/old/deep").is_dir());
    // Of what is left out the folder comes back, too.
    sandbox.run_words(&["capture", "Skip", "--skip", "addons/**", "--", "rm", "-rf", "addons"]).status(0);
    assert_eq!(sandbox.files(), before);
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_deleted_folder_and_files_put_there_by_hand_are_no_update() {
    let sandbox = with_version();
    for number in 0..30 {
        sandbox.write(&format!("game/addons/fog/{number:02}.qtx"), "fog\n");
    }
    in_care_anew(&sandbox);
    fs::remove_dir_all(sandbox.path("game/addons/fog")).unwrap();
    sandbox.write("game/notes/mine.txt", "mine\n");
    fs::remove_file(sandbox.path("game/data/lamps/new/a.qtx")).unwrap();
    let checked = sandbox.run("check").status(3);
    checked.says(
        "1 file of layers missing, 1 folder gone, 30 files of the game's own gone, 1 file that nobody knows",
    );
    let checked = sandbox.run("check").status(3).stdout;
    let at = |words: &str| checked.find(words).unwrap_or_else(|| panic!("{words} is not in\n{checked}"));
    assert!(at("missing ") < at("folder gone  ") && at("folder gone  ") < at("base gone "), "{checked}");
    assert!(!checked.contains("update"), "{checked}");
    let json = sandbox.run("check --json").status(3).json();
    assert_eq!(json["data"]["kinds"][2], serde_json::json!({ "of": "base_gone", "files": 30 }));
    assert_eq!(json["data"]["whose"][0], serde_json::json!({ "of": "base", "files": 32 }));
    // The client would have to repair what is gone; what is mine is no fault of the game's.
    let begun = sandbox.run("patchday begin").status(0);
    begun
        .says("of the game itself: 1 folder gone, 30 files of the game's own gone")
        .says("1 file that nobody knows");
    sandbox.run("patchday finish").status(0).says("30 files no longer in the game");
    sandbox.run("patchday begin").status(0).says("The game is itself again");
    sandbox.write("game/notes/more.txt", "more\n");
    sandbox.run("patchday finish").status(0);
    sandbox.run("check --deep").status(0);
}

#[test]
fn what_has_one_cause_is_said_once() {
    let sandbox = with_version();
    let members: Vec<(String, &str)> = (0..9).map(|number| (format!("data/n/{number}.qtx"), "n\n")).collect();
    let members: Vec<(&str, &str)> = members.iter().map(|(name, text)| (name.as_str(), *text)).collect();
    sandbox.zip("many-1.zip", &members);
    sandbox.run("add many-1.zip --place .=game:").status(0);
    fs::remove_dir_all(sandbox.path("game/data/n")).unwrap();
    let lifted = sandbox.run("lift many --json").status(0).json();
    let warnings = lifted["warnings"].as_array().unwrap();
    assert_eq!(warnings.len(), 1, "{warnings:?}");
    assert!(warnings[0].as_str().unwrap().ends_with("and 5 more were gone already"), "{warnings:?}");
}

#[test]
#[cfg(unix)]
fn what_was_made_over_a_layer_does_not_hide_it() {
    let sandbox = with_version();
    let words = |name: &'static str, line: &'static str| ["capture", name, "--", "/bin/sh", "-c", line];
    sandbox.run_words(&words("First", "echo one >> data/lamps/iron.qtx")).status(0);
    sandbox.run_words(&words("Second", "echo two >> data/lamps/iron.qtx")).status(0);
    sandbox.run_words(&words("Apart", "echo x > data/apart.qtx")).status(0);
    let asked = sandbox.run("remove First").status(4);
    asked.says("Second was made over First").says("oddstack lift Second").says("--despite");
    sandbox.run("lift First").status(4);
    sandbox.run("move First --top").status(4);
    sandbox.run("lift First Second").status(0);
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
    sandbox.run("lay Second").status(4).says("oddstack lay First");
    sandbox.run("lay First").status(0);
    sandbox.run("lay Second").status(0);
    sandbox.run("lift Apart").status(0);
    sandbox.run("remove First --despite").status(0);
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\none\ntwo\n");
    sandbox.run("stack").status(0).says("made over First");
}
