//! What a failing disk, a person or a program does to what the ledger stores: each is told before it is used, nothing
//! damaged comes into the game, and there is a way to have it whole again.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use crate::closed::Closed;

/// What is done to a stored file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Damage {
    /// A bit is turned, and the time is as it was: only its content tells.
    TurnedUnseen,
    Turned,
    Cut,
    Longer,
    Emptied,
    Gone,
    /// A folder lies there instead.
    Folder,
}

const ALL: [Damage; 7] = [
    Damage::TurnedUnseen,
    Damage::Turned,
    Damage::Cut,
    Damage::Longer,
    Damage::Emptied,
    Damage::Gone,
    Damage::Folder,
];

impl Damage {
    fn strike(self, path: &Path) {
        let mut content = fs::read(path).unwrap();
        let time = fs::metadata(path).unwrap().modified().unwrap();
        match self {
            Self::TurnedUnseen | Self::Turned => content[0] ^= 4,
            Self::Cut => content.truncate(content.len() - 1),
            Self::Longer => content.push(b'x'),
            Self::Emptied => content.clear(),
            Self::Gone | Self::Folder => fs::remove_file(path).unwrap(),
        }
        match self {
            Self::Gone => {}
            Self::Folder => fs::create_dir(path).unwrap(),
            _ => fs::write(path, content).unwrap(),
        }
        if self == Self::TurnedUnseen {
            set_time(path, time);
        }
    }
}

fn set_time(path: &Path, time: SystemTime) {
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

/// The stored file with that content.
fn stored(closed: &Closed, content: &str) -> PathBuf {
    fn find(folder: &Path, content: &[u8]) -> Option<PathBuf> {
        fs::read_dir(folder).unwrap().find_map(|entry| {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => find(&path, content),
                false => (fs::read(&path).is_ok_and(|found| found == content)).then_some(path),
            }
        })
    }
    find(&closed.path("home"), content.as_bytes()).unwrap()
}

fn world() -> Closed {
    let closed = Closed::with_game();
    fs::create_dir_all(closed.path("whole/data/lamps")).unwrap();
    fs::copy(closed.path("game/data/lamps/brass.qtx"), closed.path("whole/data/lamps/brass.qtx")).unwrap();
    closed.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass"), ("data/new.qtx", "lamps new")]);
    closed.zip("sea.zip", &[("data/lamps/iron.qtx", "sea iron")]);
    closed.run("add lamps.zip sea.zip").status(0);
    closed
}

#[test]
fn a_damaged_content_of_a_layer_is_told_never_laid_and_renewed() {
    // Of one that is longer the part that counts is whole, and can be laid.
    for damage in ALL.into_iter().filter(|damage| *damage != Damage::Longer) {
        let closed = world();
        let laid = closed.files();
        Damage::strike(damage, &stored(&closed, "lamps brass"));
        let told = closed.run("check --deep").status(5);
        assert!(
            told.stdout.contains("game:data/lamps/brass.qtx") && told.stdout.contains("of lamps"),
            "{damage:?}"
        );
        closed.run("check").status(0);
        // The game has it still.
        closed.run("mend --renew --dry-run").status(0);
        closed.run("check --deep").status(5);
        closed.run("lift lamps").status(0);
        let lifted = closed.files();
        let told = closed.run("lay lamps").status(5);
        assert!(told.stderr.contains("game:data/lamps/brass.qtx"), "{damage:?}\n{}", told.stderr);
        assert!(told.stderr.contains("oddstack mend --renew"), "{damage:?}\n{}", told.stderr);
        assert_eq!(closed.files(), lifted, "{damage:?}");
        // Others are not held up.
        closed.run("lift sea").status(0);
        closed.run("lay sea").status(0);
        // From another place, when its own is gone.
        fs::rename(closed.path("lamps.zip"), closed.path("elsewhere.zip")).unwrap();
        assert!(closed.run("lay lamps").status(5).stderr.contains("no longer at"), "{damage:?}");
        closed.run("mend --renew").status(5);
        closed.run("mend --renew sea.zip").status(5);
        closed.run("mend --renew elsewhere.zip").status(0);
        closed.run("check --deep").status(0);
        closed.run("lay lamps").status(0);
        assert_eq!(closed.files(), laid, "{damage:?}");
        closed.run("mend --renew").status(0).says("Nothing to renew");
    }
}

#[test]
fn a_damaged_original_is_told_never_put_back_and_renewed() {
    for damage in ALL {
        let closed = world();
        let laid = closed.files();
        Damage::strike(damage, &stored(&closed, "base brass\n"));
        let told = closed.run("check --deep").status(5);
        assert!(told.stdout.contains("the game's own"), "{damage:?}\n{}", told.stdout);
        if damage != Damage::TurnedUnseen {
            for command in ["lift --all", "remove lamps", "patchday begin", "game forget Quillhaven"] {
                let told = closed.run(command).status(5);
                assert!(told.stderr.contains("game:data/lamps/brass.qtx"), "{damage:?}\n{}", told.stderr);
                assert_eq!(closed.files(), laid, "{damage:?}");
            }
            // What can be lifted is lifted.
            closed.run("lift sea").status(0);
            closed.run("lay sea").status(0);
        }
        closed.run("mend --renew").status(5);
        closed.run("mend --renew whole").status(0);
        closed.run("check --deep").status(0);
        closed.run("lift --all").status(0);
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "base brass\n");
        closed.run("check --deep").status(0);
    }
}

#[test]
fn a_lost_original_holds_up_nothing_when_a_person_says_so() {
    for damage in ALL.into_iter().filter(|damage| *damage != Damage::TurnedUnseen) {
        let closed = world();
        Damage::strike(damage, &stored(&closed, "base brass\n"));
        let told = closed.run("lift --all --without-lost").status(0);
        assert!(told.stdout.contains("stay away"), "{damage:?}\n{}", told.stdout);
        let files = closed.files();
        assert!(!files.contains_key("game/data/lamps/brass.qtx"), "{damage:?}");
        assert_eq!(files["game/data/lamps/iron.qtx"], "base iron\n");
        // The game's client repairs it, and all is as ever.
        closed.write("game/data/lamps/brass.qtx", "base brass\n");
        closed.run("check").status(3);
        closed.run("mend game:data/lamps/brass.qtx --accept").status(0);
        closed.run("check --deep").status(0);
        closed.run("lay --all").status(0);
        closed.run("lift --all").status(0);
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "base brass\n");
        // The client repairs it under the layer.
        closed.run("lay --all").status(0);
        Damage::strike(damage, &stored(&closed, "base brass\n"));
        closed.write("game/data/lamps/brass.qtx", "base brass\n");
        closed.run("mend game:data/lamps/brass.qtx --accept").status(0);
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "lamps brass");
        closed.run("check --deep").status(0);
        closed.run("lift --all").status(0);
        assert_eq!(closed.read("game/data/lamps/brass.qtx"), "base brass\n");
        // And one for which nobody cares any more is let go with the game.
        closed.run("lay --all").status(0);
        Damage::strike(damage, &stored(&closed, "base brass\n"));
        closed.run("game forget Quillhaven --without-lost").status(0);
        assert_eq!(closed.read("game/data/lamps/iron.qtx"), "base iron\n");
    }
}

#[test]
fn a_ledger_that_lost_its_times_gives_originals_back_with_theirs() {
    let closed = Closed::with_game();
    let at = closed.path("game/data/lamps/brass.qtx");
    set_time(&at, UNIX_EPOCH + Duration::new(1_500_000_000, 500));
    closed.run("mend --accept").status(0);
    let time = fs::metadata(&at).unwrap().modified().unwrap();
    closed.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass")]);
    closed.run("add lamps.zip").status(0);
    let original = stored(&closed, "base brass\n");
    set_time(&original, UNIX_EPOCH);
    closed.run("lift lamps").status(0);
    assert_eq!(fs::metadata(&at).unwrap().modified().unwrap(), time);
    closed.run("check --deep").status(0);
}
