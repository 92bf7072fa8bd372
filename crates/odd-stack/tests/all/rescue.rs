//! The way out: whatever becomes of a ledger's catalogue, of the list of games, or of where things lie, it is said, and
//! the game's own files can be had again.

use std::fs;
use std::path::{Path, PathBuf};

use crate::closed::Closed;

fn world() -> Closed {
    let closed = Closed::with_game();
    closed.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass"), ("data/new.qtx", "lamps new")]);
    closed.zip("sea.zip", &[("data/lamps/iron.qtx", "sea iron")]);
    closed.run("add lamps.zip sea.zip").status(0);
    closed
}

fn ledger(closed: &Closed) -> PathBuf {
    closed.path("home/ledgers/quillhaven")
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
        let closed = world();
        let before = closed.files();
        damage(&ledger(&closed).join("catalogue.sqlite"));
        for command in
            ["stack", "check", "lift --all", "add lamps.zip --name other", "game forget Quillhaven"]
        {
            let told = closed.run(command).status(5);
            assert!(told.stderr.contains("oddstack rescue"), "{what}: {}", told.stderr);
        }
        closed.run("game list").status(5).says("Quillhaven").says("can't be opened");
        assert_eq!(closed.files(), before, "{what}");
        closed.run("rescue --dry-run").status(0).says("would take");
        closed.run("stack").status(5);
        closed.run("rescue Quillhaven").status(0).says("took the catalogue's place");
        closed.run("check --deep").status(0);
        closed.run("lift --all").status(0);
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "base brass\n", "{what}");
        assert!(!closed.path("game/data/new.qtx").exists(), "{what}");
        closed.run("lay --all").status(0);
        assert_eq!(closed.files(), before, "{what}");
        closed.run("rescue").status(0).says("whole");
    }
}

#[test]
fn every_turned_bit_of_a_catalogue_that_matters_is_seen() {
    let closed = world();
    let path = ledger(&closed).join("catalogue.sqlite");
    let whole = fs::read(&path).unwrap();
    let before = closed.files();
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
        closed.run_words(&["lift", "--all", "--json"]).status(5);
        assert_eq!(closed.files(), before, "byte {at}");
    }
    fs::write(&path, whole).unwrap();
    closed.run("lift --all").status(0);
}

#[test]
fn without_catalogue_and_copy_originals_come_back_by_their_names() {
    for (what, damage) in DAMAGES {
        let closed = world();
        for name in ["catalogue.sqlite", "catalogue.second"] {
            damage(&ledger(&closed).join(name));
        }
        closed.run("stack").status(5);
        closed.run("rescue Quillhaven --to out").status(0).says("game:data/lamps/brass.qtx");
        assert_eq!(closed.read("out/game/data/lamps/brass.qtx"), "base brass\n", "{what}");
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "lamps brass", "{what}");
        closed.run("rescue Quillhaven --to out").status(1).says("not empty");
        closed.run("rescue Quillhaven").status(0).says("back in the game");
        for (path, content) in [("brass", "base brass\n"), ("iron", "base iron\n")] {
            assert_eq!(closed.read(&format!("game/data/lamps/{path}.qtx")), content, "{what}");
        }
        // What lay there is saved, what layers only added lies there, and the game can be taken into care again.
        assert_eq!(
            closed.read("home/ledgers/quillhaven/kept/rescued/game/data/lamps/brass.qtx"),
            "lamps brass"
        );
        closed.run("game add Quillhaven game --root docs=docs --afresh").status(0);
        closed.run("check").status(0);
    }
    // A damaged original is never put back, and one of them holds up no other.
    let closed = world();
    for name in ["catalogue.sqlite", "catalogue.second"] {
        fs::remove_file(ledger(&closed).join(name)).unwrap();
    }
    let originals = fs::read_dir(ledger(&closed).join("originals")).unwrap();
    let brass =
        originals.map(|it| it.unwrap().path()).find(|it| fs::read(it).unwrap() == b"base brass\n").unwrap();
    fs::write(brass, "base brasz\n").unwrap();
    closed.run("rescue Quillhaven").status(5).says("damaged");
    assert_eq!(closed.read("game/data/lamps/iron.qtx"), "base iron\n");
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "lamps brass");
}

#[test]
fn lists_and_ledgers_that_went_elsewhere_are_found_again() {
    // The list of games is lost: the modded state is never taken for the game's own.
    let closed = world();
    let before = closed.files();
    fs::remove_file(closed.path("home/games.toml")).unwrap();
    closed.run("game add Quillhaven game").status(0).says("was in care before").says("2 layers");
    closed.run("check --deep").status(0);
    for content in ["", "game = 3\n", "[[game]]\nname"] {
        fs::write(closed.path("home/games.toml"), content).unwrap();
        closed.run("rescue").status(0);
        closed.run("stack").status(0).says("lamps");
    }
    // A second data home.
    let other = closed.path("other").display().to_string();
    let told = closed.run_in("", &["--home", &other, "game", "add", "Mine", "game"], &[]).status(1);
    assert!(told.stderr.contains("two homes can't look after one game"), "{}", told.stderr);
    // The ledger is moved.
    fs::rename(ledger(&closed), closed.path("moved")).unwrap();
    closed.run("stack").status(5).says("oddstack rescue FOLDER");
    closed.run("game list").status(5).says("Quillhaven");
    let asked = closed.run("game add Again game").status(4);
    assert!(asked.stderr.contains("--afresh"), "{}", asked.stderr);
    closed.run("rescue moved").status(0);
    closed.run("check --deep").status(0);
    closed.run("game forget Quillhaven --leave-layers").status(0);
    closed.run("game add Quillhaven game --ledger moved").status(0).says("was in care before");
    // The game is copied, and moved.
    fs::create_dir_all(closed.path("copy")).unwrap();
    copy(&closed.path("game"), &closed.path("copy"));
    closed.run("game add Copy copy").status(4).says("is a copy of");
    closed.run("lift --all").status(0);
    fs::remove_dir_all(closed.path("copy")).unwrap();
    copy(&closed.path("game"), &closed.path("copy"));
    closed.run("game add Copy copy").status(0);
    closed.run("lay --all --game Quillhaven").status(0);
    fs::rename(closed.path("game"), closed.path("game2")).unwrap();
    let told = closed.run("game add Elsewhere game2").status(4);
    assert!(told.stderr.contains("game set \"Quillhaven\" --root"), "{}", told.stderr);
    fs::rename(closed.path("game2"), closed.path("game")).unwrap();
    assert_eq!(closed.files(), before);
    // Letting it go takes the mark away.
    closed.run("game forget Quillhaven").status(0);
    closed.run("game forget Copy").status(0);
    assert!(!closed.path("game/.oddstack").exists() && !closed.path("copy/.oddstack").exists());
    assert!(!closed.path("moved").exists());
    closed.run("game list").status(0).says("No game is in care yet");
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
    let closed = world();
    let connection = rusqlite::Connection::open(ledger(&closed).join("catalogue.sqlite")).unwrap();
    connection.pragma_update(None, "user_version", 999).unwrap();
    drop(connection);
    closed.run("stack").status(1).says("newer");
    closed.run("rescue Quillhaven").status(1).says("--put-back");
    closed.run("rescue Quillhaven --to out").status(0);
    assert_eq!(closed.read("out/game/data/lamps/iron.qtx"), "base iron\n");
}
