//! What people, clients and other programs do to a game's folders behind our back, against every command: each ends in
//! the right state or says what must be decided, none hangs, and the way back stays open.

use std::fs;
use std::os::unix::fs::symlink;
use std::process::Command;

use crate::sandbox::Sandbox;

/// What is done, and what to do before the way back is open again.
struct Deed {
    name: &'static str,
    act: fn(&Sandbox),
    /// Where only a person can make good what was done.
    undo: Option<fn(&Sandbox)>,
}

const fn deed(name: &'static str, act: fn(&Sandbox)) -> Deed {
    Deed { name, act, undo: None }
}

fn gone(sandbox: &Sandbox, path: &str) {
    let path = sandbox.path(path);
    if path.is_dir() { fs::remove_dir_all(path).unwrap() } else { fs::remove_file(path).unwrap() }
}

fn moved(sandbox: &Sandbox, from: &str, to: &str) {
    fs::rename(sandbox.path(from), sandbox.path(to)).unwrap();
}

fn pipe(sandbox: &Sandbox, path: &str) {
    assert!(Command::new("mkfifo").arg(sandbox.path(path)).status().unwrap().success());
}

fn linked(sandbox: &Sandbox, path: &str, to: &str) {
    symlink(sandbox.path(to), sandbox.path(path)).unwrap();
}

/// `brass.qtx` of the game is covered twice, `fog.ini` is blended of three, and `data/new` is of a layer alone.
fn world() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip(
        "lamps-1.0.zip",
        &[("data/lamps/brass.qtx", "one"), ("data/new/deep/a.txt", "one a"), ("config/fog.ini", "fog=3\n")],
    );
    sandbox.zip(
        "lamps-2.0.zip",
        &[("data/lamps/brass.qtx", "two"), ("data/new/other/b.txt", "two b"), ("config/fog.ini", "fog=4\n")],
    );
    sandbox.zip("mist-1.0.zip", &[("data/lamps/brass.qtx", "mist"), ("config/fog.ini", "fog=1\nmist=1\n")]);
    sandbox.zip("sea-1.0.zip", &[("data/new/deep/a.txt", "sea a"), ("data/lamps/iron.qtx", "sea iron")]);
    sandbox.run("add lamps-1.0.zip mist-1.0.zip").status(0);
    sandbox.run("tweak config/fog.ini own=1").status(0);
    sandbox
}

const COMMANDS: [&str; 20] = [
    "stack",
    "show lamps",
    "trace config/fog.ini --keys",
    "conflicts",
    "inspect sea-1.0.zip",
    "check",
    "check --deep",
    "play --dry-run",
    "add sea-1.0.zip",
    "upgrade lamps lamps-2.0.zip",
    "upgrade lamps lamps-2.0.zip --keep-edits",
    "remove lamps",
    "remove lamps --discard-edits",
    "lift --all --keep-edits",
    "move lamps --top",
    "settle data/lamps/brass.qtx --with lamps",
    "tweak config/fog.ini own=2",
    "mend --keep",
    "mend --accept",
    "patchday begin",
];

/// After each deed, each command from the same state; then the way back.
fn meets_every_command(deeds: &[Deed]) {
    let sandbox = world();
    for deed in deeds {
        for command in COMMANDS {
            sandbox.on_a_copy(|| {
                (deed.act)(&sandbox);
                meets(&sandbox, deed, command);
            });
        }
    }
}

fn meets(sandbox: &Sandbox, deed: &Deed, command: &str) {
    let told = format!("{}, then `{command}`", deed.name);
    // Which program starts the game is not known, if it comes to that.
    let wanted: &[i32] = if command.starts_with("play") { &[0, 1, 3, 4] } else { &[0, 3, 4] };
    let status = sandbox.run(command).one_of(wanted, &told);
    sandbox.run("stack").one_of(&[0], &told);
    if command.starts_with("patchday") && status == 0 {
        sandbox.run("patchday finish").one_of(&[0, 3], &told);
    }
    if let Some(undo) = deed.undo {
        sandbox.run("lift --all --discard-edits").one_of(&[0, 4], &told);
        undo(sandbox);
    }
    for way in ["mend --restore", "lift --all --discard-edits"] {
        sandbox.run(way).one_of(&[0], &format!("{told}, then `{way}`"));
    }
    // What was said to be the game's own from now on is not what it was.
    if command != "mend --accept" && !command.starts_with("patchday") {
        for (path, content) in
            [("game/data/lamps/brass.qtx", "base brass\n"), ("game/config/fog.ini", "fog=1\n")]
        {
            let is_back = sandbox.read(path) == content;
            assert!(is_back, "{told}: the game's own {path} is back");
        }
    }
}

#[test]
fn files_that_were_touched() {
    meets_every_command(&[
        deed("a layer's file was deleted", |sandbox| gone(sandbox, "game/data/new/deep/a.txt")),
        deed("a covering file was deleted", |sandbox| gone(sandbox, "game/data/lamps/brass.qtx")),
        deed("a blended file was deleted", |sandbox| gone(sandbox, "game/config/fog.ini")),
        deed("settings were edited", |sandbox| sandbox.write("game/config/fog.ini", "fog=9\nnew=1\n")),
        deed("a file was emptied", |sandbox| sandbox.write("game/data/lamps/brass.qtx", "")),
        deed("a file was spelled otherwise", |sandbox| {
            moved(sandbox, "game/data/lamps/brass.qtx", "game/data/lamps/Brass.QTX");
        }),
        deed("a file was put into a layer's folder", |sandbox| {
            sandbox.write("game/data/new/other/b.txt", "mine");
        }),
    ]);
}

#[test]
fn folders_that_were_touched() {
    meets_every_command(&[
        deed("a layer's folder was deleted", |sandbox| gone(sandbox, "game/data/new")),
        deed("a folder of the game was deleted", |sandbox| gone(sandbox, "game/data")),
        deed("a layer's folder was moved", |sandbox| moved(sandbox, "game/data/new", "game/data/moved")),
        deed("a folder was spelled otherwise", |sandbox| {
            moved(sandbox, "game/data/lamps", "game/data/Lamps")
        }),
        Deed {
            name: "the game's folder is gone",
            act: |sandbox| moved(sandbox, "game", "elsewhere"),
            undo: Some(|sandbox| moved(sandbox, "elsewhere", "game")),
        },
        Deed {
            name: "a further folder is gone",
            act: |sandbox| moved(sandbox, "docs", "elsewhere"),
            undo: Some(|sandbox| moved(sandbox, "elsewhere", "docs")),
        },
    ]);
}

#[test]
fn things_of_another_kind() {
    meets_every_command(&[
        deed("a file lies where a folder was", |sandbox| {
            gone(sandbox, "game/data/new");
            sandbox.write("game/data/new", "a file");
        }),
        deed("a folder lies where a file was", |sandbox| {
            gone(sandbox, "game/data/lamps/brass.qtx");
            sandbox.write("game/data/lamps/brass.qtx/mine.txt", "mine");
        }),
        deed("a link lies where a file was", |sandbox| {
            sandbox.write("mine.txt", "mine");
            gone(sandbox, "game/data/lamps/brass.qtx");
            linked(sandbox, "game/data/lamps/brass.qtx", "mine.txt");
        }),
        deed("a link to nothing lies where settings were", |sandbox| {
            gone(sandbox, "game/config/fog.ini");
            linked(sandbox, "game/config/fog.ini", "nothing.ini");
        }),
        deed("a pipe lies where a file was", |sandbox| {
            gone(sandbox, "game/data/lamps/brass.qtx");
            pipe(sandbox, "game/data/lamps/brass.qtx");
        }),
        deed("a pipe lies where settings were", |sandbox| {
            gone(sandbox, "game/config/fog.ini");
            pipe(sandbox, "game/config/fog.ini");
        }),
        deed("a pipe lies in the game", |sandbox| pipe(sandbox, "game/data/pipe")),
        Deed {
            name: "a link lies where a folder was",
            act: |sandbox| {
                moved(sandbox, "game/data/lamps", "lamps");
                linked(sandbox, "game/data/lamps", "lamps");
            },
            undo: Some(|sandbox| {
                fs::remove_file(sandbox.path("game/data/lamps")).unwrap();
                moved(sandbox, "lamps", "game/data/lamps");
            }),
        },
    ]);
}

/// What a folder held that lay in a file's way is the user's, whatever they said of edits.
#[test]
fn a_folder_in_the_way_is_never_thrown_away() {
    let sandbox = world();
    gone(&sandbox, "game/data/lamps/brass.qtx");
    sandbox.write("game/data/lamps/brass.qtx/deep/mine.txt", "mine");
    sandbox.run("lift --all").status(4).says("data/lamps/brass.qtx");
    let lifted = sandbox.run("lift --all --discard-edits").status(0);
    lifted.says("game:data/lamps/brass.qtx").says("kept");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
    let mine =
        Command::new("find").arg(sandbox.path("home")).args(["-path", "*brass.qtx/deep/mine.txt"]).output();
    assert_eq!(String::from_utf8(mine.unwrap().stdout).unwrap().lines().count(), 1);
}
