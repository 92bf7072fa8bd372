//! The way out: whatever becomes of a ledger's catalogue, of the list of games, or of where things lie, it is said, and
//! the game's own files can be had again.

use std::fs;
use std::path::{Path, PathBuf};

use crate::sandbox::Sandbox;

fn world() -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass"), ("data/new.qtx", "lamps new")]);
    sandbox.zip("sea.zip", &[("data/lamps/iron.qtx", "sea iron")]);
    sandbox.run("add lamps.zip sea.zip").status(0);
    sandbox
}

fn ledger(sandbox: &Sandbox) -> PathBuf {
    sandbox.path("home/ledgers/quillhaven")
}

/// What is done to a file.
type Damage = (&'static str, fn(&Path));

const DAMAGES: [Damage; 5] = [
    ("gone", |path| fs::remove_file(path).unwrap()),
    ("emptied", |path| fs::write(path, "").unwrap()),
    ("cut", |path| {
        let content = fs::read(path).unwrap();
        fs::write(path, &content[..content.len() / 2]).unwrap();
    }),
    ("a bit turned", |path| {
        let mut content = fs::read(path).unwrap();
        let at = content.len() * 2 / 3;
        content[at] ^= 16;
        fs::write(path, content).unwrap();
    }),
    ("another file", |path| fs::write(path, "not at all a catalogue").unwrap()),
];

#[test]
fn a_catalogue_in_any_condition_is_told_and_had_again() {
    for (what, damage) in DAMAGES {
        let sandbox = world();
        let before = sandbox.files();
        damage(&ledger(&sandbox).join("catalogue.sqlite"));
        for command in
            ["stack", "check", "lift --all", "add lamps.zip --name other", "game forget Quillhaven"]
        {
            let told = sandbox.run(command).status(5);
            assert!(told.stderr.contains("oddstack rescue"), "{what}: {}", told.stderr);
        }
        sandbox.run("game list").status(5).says("Quillhaven").says("can't be opened");
        assert_eq!(sandbox.files(), before, "{what}");
        sandbox.run("rescue --dry-run").status(0).says("would take");
        sandbox.run("stack").status(5);
        sandbox.run("rescue Quillhaven").status(0).says("took the catalogue's place");
        sandbox.run("check --deep").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n", "{what}");
        assert!(!sandbox.path("game/data/new.qtx").exists(), "{what}");
        sandbox.run("lay --all").status(0);
        assert_eq!(sandbox.files(), before, "{what}");
        sandbox.run("rescue").status(0).says("whole");
    }
}

#[test]
fn every_turned_bit_of_a_catalogue_that_matters_is_seen() {
    let sandbox = world();
    let path = ledger(&sandbox).join("catalogue.sqlite");
    let whole = fs::read(&path).unwrap();
    let before = sandbox.files();
    // A generator of numbers (Marsaglia 2003), so that the same bits are turned each time.
    let mut seed = 88_172_645_463_325_252_u64;
    for _ in 0..40 {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        let mut content = whole.clone();
        let at = usize::try_from(seed % content.len() as u64).unwrap();
        content[at] ^= 1 << (seed >> 61);
        fs::write(&path, content).unwrap();
        sandbox.run_words(&["lift", "--all", "--json"]).status(5);
        assert_eq!(sandbox.files(), before, "byte {at}");
    }
    fs::write(&path, whole).unwrap();
    sandbox.run("lift --all").status(0);
}

#[test]
fn without_catalogue_and_copy_originals_come_back_by_their_names() {
    for (what, damage) in DAMAGES {
        let sandbox = world();
        for name in ["catalogue.sqlite", "catalogue.second"] {
            damage(&ledger(&sandbox).join(name));
        }
        sandbox.run("stack").status(5);
        sandbox.run("rescue Quillhaven --to out").status(0).says("game:data/lamps/brass.qtx");
        assert_eq!(sandbox.read("out/game/data/lamps/brass.qtx"), "base brass\n", "{what}");
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass", "{what}");
        sandbox.run("rescue Quillhaven --to out").status(1).says("not empty");
        sandbox.run("rescue Quillhaven").status(0).says("back in the game");
        for (path, content) in [("brass", "base brass\n"), ("iron", "base iron\n")] {
            assert_eq!(sandbox.read(&format!("game/data/lamps/{path}.qtx")), content, "{what}");
        }
        // What lay there is saved, what layers only added lies there, and the game can be added again.
        assert_eq!(
            sandbox.read("home/ledgers/quillhaven/kept/rescued/game/data/lamps/brass.qtx"),
            "lamps brass"
        );
        sandbox.run("game add Quillhaven game --root docs=docs --afresh").status(0);
        sandbox.run("check").status(0);
    }
    // A damaged original is never put back, and one of them holds up no other.
    let sandbox = world();
    for name in ["catalogue.sqlite", "catalogue.second"] {
        fs::remove_file(ledger(&sandbox).join(name)).unwrap();
    }
    let originals = fs::read_dir(ledger(&sandbox).join("originals")).unwrap();
    let brass =
        originals.map(|it| it.unwrap().path()).find(|it| fs::read(it).unwrap() == b"base brass\n").unwrap();
    fs::write(brass, "base brasz\n").unwrap();
    sandbox.run("rescue Quillhaven").status(5).says("damaged");
    assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass");
}

#[test]
fn lists_and_ledgers_that_went_elsewhere_are_found_again() {
    // The list of games is lost: the modded state is never taken for the game's own.
    let sandbox = world();
    let before = sandbox.files();
    fs::remove_file(sandbox.path("home/games.toml")).unwrap();
    sandbox.run("game add Quillhaven game").status(0).says("is back, with").says("2 layers");
    sandbox.run("check --deep").status(0);
    for content in ["", "game = 3\n", "[[game]]\nname"] {
        fs::write(sandbox.path("home/games.toml"), content).unwrap();
        sandbox.run("rescue").status(0);
        sandbox.run("stack").status(0).says("lamps");
    }
    // A second data home.
    let other = sandbox.path("other").display().to_string();
    let told = sandbox.run_in("", &["--home", &other, "game", "add", "Mine", "game"], &[]).status(1);
    assert!(told.stderr.contains("two homes can't look after one game"), "{}", told.stderr);
    // The ledger is moved.
    fs::rename(ledger(&sandbox), sandbox.path("moved")).unwrap();
    sandbox.run("stack").status(5).says("oddstack rescue FOLDER");
    sandbox.run("game list").status(5).says("Quillhaven");
    let asked = sandbox.run("game add Again game").status(4);
    assert!(asked.stderr.contains("--afresh"), "{}", asked.stderr);
    sandbox.run("rescue moved").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("game forget Quillhaven --leave-layers").status(0);
    sandbox.run("game add Quillhaven game --ledger moved").status(0).says("is back, with");
    // The game is copied, and moved.
    fs::create_dir_all(sandbox.path("copy")).unwrap();
    copy(&sandbox.path("game"), &sandbox.path("copy"));
    sandbox.run("game add Copy copy").status(4).says("is a copy of");
    sandbox.run("lift --all").status(0);
    fs::remove_dir_all(sandbox.path("copy")).unwrap();
    copy(&sandbox.path("game"), &sandbox.path("copy"));
    sandbox.run("game add Copy copy").status(0);
    sandbox.run("lay --all --game Quillhaven").status(0);
    fs::rename(sandbox.path("game"), sandbox.path("game2")).unwrap();
    let told = sandbox.run("game add Elsewhere game2").status(4);
    assert!(told.stderr.contains("game set \"Quillhaven\" --root"), "{}", told.stderr);
    fs::rename(sandbox.path("game2"), sandbox.path("game")).unwrap();
    assert_eq!(sandbox.files(), before);
    // Letting it go takes the mark away.
    sandbox.run("game forget Quillhaven").status(0);
    sandbox.run("game forget Copy").status(0);
    assert!(!sandbox.path("game/.oddstack").exists() && !sandbox.path("copy/.oddstack").exists());
    assert!(!sandbox.path("moved").exists());
    sandbox.run("game list").status(0).says("No game has been added yet");
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let place = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &place);
        } else {
            fs::copy(entry.path(), &place).unwrap();
        }
    }
}

#[test]
fn a_ledger_of_a_newer_program_gives_the_originals_out_when_asked() {
    let sandbox = world();
    let connection = rusqlite::Connection::open(ledger(&sandbox).join("catalogue.sqlite")).unwrap();
    connection.pragma_update(None, "user_version", 999).unwrap();
    drop(connection);
    sandbox.run("stack").status(1).says("newer");
    sandbox.run("rescue Quillhaven").status(1).says("--put-back");
    sandbox.run("rescue Quillhaven --to out").status(0);
    assert_eq!(sandbox.read("out/game/data/lamps/iron.qtx"), "base iron\n");
}
