//! What a failing disk, a person or a program does to what the ledger stores: each is told before it is used, nothing
//! damaged comes into the game, and there is a way to have it whole again.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use crate::sandbox::{Sandbox, some};
use crate::stored::stored_as;

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

/// All damages but one.
fn all_but(one: Damage) -> impl Iterator<Item = Damage> {
    some(ALL.into_iter().filter(move |damage| *damage != one), 3)
}

impl Damage {
    fn strike(self, path: &Path) {
        self.strike_at(path, (0, fs::metadata(path).unwrap().len() as usize));
    }

    /// Hits a part of a file; what becomes of all of it if that can't be done to a part.
    fn strike_at(self, path: &Path, (at, size_bytes): (usize, usize)) {
        let mut content = fs::read(path).unwrap();
        let time = fs::metadata(path).unwrap().modified().unwrap();
        match self {
            Self::TurnedUnseen | Self::Turned => content[at] ^= 4,
            Self::Cut => content.truncate(at + size_bytes - 1),
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

/// The file aside with that content.
fn original(sandbox: &Sandbox, content: &str) -> PathBuf {
    fn find(folder: &Path, content: &[u8]) -> Option<PathBuf> {
        fs::read_dir(folder).unwrap().find_map(|entry| {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => find(&path, content),
                false => (fs::read(&path).is_ok_and(|found| found == content)).then_some(path),
            }
        })
    }
    find(&sandbox.path("home"), content.as_bytes()).unwrap()
}

fn world() -> Sandbox {
    world_with("lamps brass")
}

/// Small contents lie together, a big one has a file of its own.
fn world_with(brass: &str) -> Sandbox {
    let sandbox = Sandbox::with_game();
    sandbox.run("game set Quillhaven --big-files copy").status(0);
    fs::create_dir_all(sandbox.path("whole/data/lamps")).unwrap();
    fs::copy(sandbox.path("game/data/lamps/brass.qtx"), sandbox.path("whole/data/lamps/brass.qtx")).unwrap();
    sandbox.zip("lamps.zip", &[("data/lamps/brass.qtx", brass), ("data/new.qtx", "lamps new")]);
    sandbox.zip("sea.zip", &[("data/lamps/iron.qtx", "sea iron")]);
    sandbox.run("add lamps.zip").status(0);
    sandbox.run("add sea.zip").status(0);
    sandbox
}

#[test]
fn a_damaged_content_of_a_layer_is_told_never_laid_and_renewed() {
    // Of one that is longer the part that counts is whole, and can be laid.
    let big = "brass ".repeat(60_000);
    for (damage, brass) in
        all_but(Damage::Longer).flat_map(|damage| [(damage, "lamps brass"), (damage, &big)])
    {
        let sandbox = world_with(brass);
        let laid = sandbox.files();
        let content = stored_as(&sandbox.path("home/ledgers/quillhaven"), brass);
        assert_eq!(content.at > 0, brass.len() < 256 << 10, "only small ones lie together");
        damage.strike_at(&content.path, (content.at, content.size_bytes));
        let told = sandbox.run("check --deep").status(5);
        assert!(
            told.stdout.contains("game:data/lamps/brass.qtx") && told.stdout.contains("of lamps"),
            "{damage:?}"
        );
        sandbox.run("check").status(0);
        // The game has it still.
        sandbox.run("mend --renew --dry-run").status(0);
        sandbox.run("check --deep").status(5);
        sandbox.run("lift lamps").status(0);
        let lifted = sandbox.files();
        // Its package lies where it lay: it is taken from there, and the ledger has it again.
        sandbox.run("lay lamps").status(0).says("taken again from");
        assert_eq!(sandbox.files(), laid, "{damage:?}");
        sandbox.run("check --deep").status(0);
        sandbox.run("lift lamps").status(0);
        assert!(!sandbox.run("lay lamps").status(0).whole().contains("taken again"));
        sandbox.run("lift lamps").status(0);

        // Another package of that name has it not.
        let sandbox = world_with(brass);
        let content = stored_as(&sandbox.path("home/ledgers/quillhaven"), brass);
        damage.strike_at(&content.path, (content.at, content.size_bytes));
        sandbox.run("lift lamps").status(0);
        fs::rename(sandbox.path("lamps.zip"), sandbox.path("elsewhere.zip")).unwrap();
        fs::copy(sandbox.path("sea.zip"), sandbox.path("lamps.zip")).unwrap();
        let told = sandbox.run("lay lamps").status(5);
        assert!(told.stderr.contains("game:data/lamps/brass.qtx"), "{damage:?}\n{}", told.stderr);
        assert!(told.stderr.contains("oddstack mend --renew"), "{damage:?}\n{}", told.stderr);
        assert_eq!(sandbox.files(), lifted, "{damage:?}");
        // Others are not held up.
        sandbox.run("lift sea").status(0);
        sandbox.run("lay sea").status(0);
        // From another place, when its own is gone.
        fs::remove_file(sandbox.path("lamps.zip")).unwrap();
        assert!(sandbox.run("lay lamps").status(5).stderr.contains("no longer at"), "{damage:?}");
        sandbox.run("mend --renew").status(5);
        sandbox.run("mend --renew sea.zip").status(5);
        sandbox.run("mend --renew elsewhere.zip").status(0);
        sandbox.run("check --deep").status(0);
        sandbox.run("lay lamps").status(0);
        assert_eq!(sandbox.files(), laid, "{damage:?}");
        sandbox.run("mend --renew").status(0).says("Nothing to renew");
    }
}

/// What a patch left as it was came with the version before it.
#[test]
fn what_an_older_version_brought_comes_from_its_package() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("bells-1.zip", &[("data/noon.qtx", "noon of 1"), ("data/dusk.qtx", "dusk of 1")]);
    sandbox.zip("bells-2.zip", &[("data/noon.qtx", "noon of 2")]);
    sandbox.run("add bells-1.zip").status(0);
    sandbox.run("upgrade bells bells-2.zip --patch --onto 1").status(0);
    let laid = sandbox.files();
    sandbox.run("lift bells").status(0);
    stored_as(&sandbox.path("home/ledgers/quillhaven"), "dusk of 1").damage(b"dusk of 9");
    sandbox.run("mend --renew -n").status(0).says("bells-1.zip");
    sandbox.run("lay bells").status(0).says("taken again from").says("bells-1.zip");
    assert_eq!(sandbox.files(), laid);
    sandbox.run("check --deep").status(0);
}

#[test]
fn a_damaged_original_is_told_never_put_back_and_renewed() {
    for damage in ALL {
        let sandbox = world();
        let laid = sandbox.files();
        Damage::strike(damage, &original(&sandbox, "base brass\n"));
        let told = sandbox.run("check --deep").status(5);
        assert!(told.stdout.contains("the game's own"), "{damage:?}\n{}", told.stdout);
        if damage != Damage::TurnedUnseen {
            for command in ["lift --all", "remove lamps", "patchday begin", "game forget Quillhaven"] {
                let told = sandbox.run(command).status(5);
                assert!(told.stderr.contains("game:data/lamps/brass.qtx"), "{damage:?}\n{}", told.stderr);
                assert_eq!(sandbox.files(), laid, "{damage:?}");
            }
            // What can be lifted is lifted.
            sandbox.run("lift sea").status(0);
            sandbox.run("lay sea").status(0);
        }
        sandbox.run("mend --renew").status(5);
        sandbox.run("mend --renew whole").status(0);
        sandbox.run("check --deep").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
        sandbox.run("check --deep").status(0);
    }
}

#[test]
fn a_lost_original_holds_up_nothing_when_a_person_says_so() {
    for damage in all_but(Damage::TurnedUnseen) {
        let sandbox = world();
        Damage::strike(damage, &original(&sandbox, "base brass\n"));
        let told = sandbox.run("lift --all --without-lost").status(0);
        assert!(told.stdout.contains("missing, since the ledger has lost"), "{damage:?}\n{}", told.stdout);
        let files = sandbox.files();
        assert!(!files.contains_key("game/data/lamps/brass.qtx"), "{damage:?}");
        assert_eq!(files["game/data/lamps/iron.qtx"], "base iron\n");
        // The game's client repairs it, and all is as ever.
        sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
        sandbox.run("check").status(3);
        sandbox.run("mend game:data/lamps/brass.qtx --accept").status(0);
        sandbox.run("check --deep").status(0);
        sandbox.run("lay --all").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
        // The client repairs it under the layer.
        sandbox.run("lay --all").status(0);
        Damage::strike(damage, &original(&sandbox, "base brass\n"));
        sandbox.write("game/data/lamps/brass.qtx", "base brass\n");
        sandbox.run("mend game:data/lamps/brass.qtx --accept").status(0);
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "lamps brass");
        sandbox.run("check --deep").status(0);
        sandbox.run("lift --all").status(0);
        assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
        // And one for which nobody cares any more is discarded with the game.
        sandbox.run("lay --all").status(0);
        Damage::strike(damage, &original(&sandbox, "base brass\n"));
        sandbox.run("game forget Quillhaven --without-lost").status(0);
        assert_eq!(sandbox.read("game/data/lamps/iron.qtx"), "base iron\n");
    }
}

#[test]
fn a_ledger_that_lost_its_times_gives_originals_back_with_theirs() {
    let sandbox = Sandbox::with_game();
    let at = sandbox.path("game/data/lamps/brass.qtx");
    set_time(&at, UNIX_EPOCH + Duration::new(1_500_000_000, 500));
    sandbox.run("mend --accept").status(0);
    let time = fs::metadata(&at).unwrap().modified().unwrap();
    sandbox.zip("lamps.zip", &[("data/lamps/brass.qtx", "lamps brass")]);
    sandbox.run("add lamps.zip").status(0);
    let original = original(&sandbox, "base brass\n");
    set_time(&original, UNIX_EPOCH);
    sandbox.run("lift lamps").status(0);
    assert_eq!(fs::metadata(&at).unwrap().modified().unwrap(), time);
    sandbox.run("check --deep").status(0);
}

#[cfg(unix)]
#[test]
fn what_is_written_into_a_link_is_told_and_renewed() {
    use std::os::unix::fs::MetadataExt;
    let sandbox = Sandbox::with_game();
    let big = "b".repeat(300 << 10);
    sandbox
        .zip("sea-1.zip", &[("data/sea.qtx", &big), ("data/small.qtx", "small\n"), ("config/big.ini", &big)]);
    sandbox.run("add sea-1.zip").status(0);
    let names = |path: &str| std::fs::metadata(sandbox.path(path)).unwrap().nlink();
    assert_eq!(
        [names("game/data/sea.qtx"), names("game/data/small.qtx"), names("game/config/big.ini")],
        [2, 1, 1]
    );
    sandbox
        .run("show sea")
        .status(0)
        .says("600 KB in the game, 300 KB in the ledger; 1 of them, 300 KB, is one file in both");
    sandbox
        .run("tidy -n")
        .status(0)
        .says("1 file of it, 300 KB, is one with a file in the game: it takes room once");
    // A program writes into it, and a person sets the time back; then only the content tells.
    let file = std::fs::OpenOptions::new().write(true).open(sandbox.path("game/data/sea.qtx")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"written", 1000).unwrap();
    drop(file);
    let edited = sandbox.read("game/data/sea.qtx");
    sandbox.run("check").status(3).says("and it was the only copy of that").says("mend --renew");
    let (there, away) = (sandbox.path("sea-1.zip"), sandbox.path("away.zip"));
    std::fs::rename(&there, &away).unwrap();
    sandbox.run("mend --restore data/sea.qtx").status(5).says("data/sea.qtx").says("mend --renew");
    assert_eq!(sandbox.read("game/data/sea.qtx"), edited);
    sandbox.run("lift sea --keep-edits").status(0).says("is saved");
    sandbox.run("lay sea").status(5).says("lost");
    assert!(!sandbox.path("game/data/sea.qtx").exists());
    // The package lies where it lay.
    std::fs::rename(&away, &there).unwrap();
    sandbox.run("lay sea").status(0).says("taken again from");
    sandbox.run("lift sea").status(0);
    sandbox.run("lay sea").status(0);
    assert_eq!(sandbox.read("game/data/sea.qtx"), big);
    sandbox.run("check --deep").status(0);

    // Written to again; what is the user's own then stays, and the layer's own comes back under it.
    let file = std::fs::OpenOptions::new().write(true).open(sandbox.path("game/data/sea.qtx")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"written", 1000).unwrap();
    drop(file);
    sandbox.run("mend --keep data/sea.qtx").status(0);
    assert_eq!(sandbox.read("game/data/sea.qtx"), edited);
    sandbox.run("check --deep").status(5).says("of layers");
    sandbox.run("mend --renew").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("undo --keep-edits").status(0);
    assert_eq!(sandbox.read("game/data/sea.qtx"), big);

    sandbox.run("game set --big-files some").status(2);
    sandbox.run("game set --big-files-from lots").status(2).says("is no size");
    sandbox.run("game set --big-files copy").status(0).says("laid as copies");
    sandbox.run("lift sea").status(0);
    sandbox.run("lay sea").status(0);
    assert_eq!(names("game/data/sea.qtx"), 1);
    sandbox
        .run("game set --big-files link --big-files-from 1M")
        .status(0)
        .says("laid as links from 1.0 MB on");
}

#[test]
fn a_catalogue_of_before_finds_contents_where_they_were_put_since() {
    let sandbox = world();
    let laid = sandbox.files();
    let ledger = sandbox.path("home/ledgers/quillhaven");
    let of_before =
        ["catalogue.second", "catalogue.sums"].map(|name| (name, fs::read(ledger.join(name)).unwrap()));
    let packs = || fs::read_dir(ledger.join("packs")).unwrap().map(|pack| pack.unwrap().file_name());
    let lay_in: Vec<_> = packs().collect();
    sandbox.run("tidy").status(0);
    assert!(packs().all(|pack| !lay_in.contains(&pack)), "they were put together");
    fs::write(ledger.join("catalogue.sqlite"), b"scribbled over").unwrap();
    for (name, content) in of_before {
        fs::write(ledger.join(name), content).unwrap();
    }
    sandbox.run("check").status(5);
    sandbox.run("rescue Quillhaven").status(0);
    sandbox.run("check --deep").status(0);
    sandbox.run("lift --all").status(0);
    sandbox.run("lay --all").status(0);
    assert_eq!(sandbox.files(), laid);
}
