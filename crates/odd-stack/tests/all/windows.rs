//! What only Windows does: other programs that hold files, its ways of writing paths.

use std::fs::File;
use std::os::windows::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use crate::sandbox::Sandbox;

/// Opens a file so that nobody else can open, rename or remove it.
fn hold(path: &Path) -> std::io::Result<File> {
    File::options().read(true).share_mode(0).open(path)
}

fn files_below(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => files_below(&entry.path(), files),
            _ => files.push(entry.path()),
        }
    }
}

/// Says that it is over when dropped, also where what was tried failed.
struct Ends<'f>(&'f AtomicBool);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// While `work` runs, holds each file that is new below `folder` for a moment, as a virus scanner does; gives how many it
/// had.
fn with_a_scanner(folder: &Path, hold_for: Duration, work: impl FnOnce()) -> u64 {
    let (is_over, held) = (AtomicBool::new(false), AtomicU64::new(0));
    std::thread::scope(|scope| {
        let mut seen = Vec::new();
        files_below(folder, &mut seen);
        scope.spawn(|| {
            let mut seen = seen;
            while !is_over.load(Ordering::Relaxed) {
                let mut now = Vec::new();
                files_below(folder, &mut now);
                for path in now {
                    // The catalogue belongs to the one program that locks it.
                    let is_ours = path.to_string_lossy().contains("catalogue") || path.ends_with("lock");
                    if is_ours || seen.contains(&path) {
                        continue;
                    }
                    if let Ok(file) = hold(&path) {
                        held.fetch_add(1, Ordering::Relaxed);
                        std::thread::sleep(hold_for);
                        drop(file);
                    }
                    seen.push(path);
                }
            }
        });
        let _ends = Ends(&is_over);
        work();
    });
    held.load(Ordering::Relaxed)
}

#[test]
fn files_that_a_scanner_holds_for_a_moment_are_waited_for() {
    let sandbox = Sandbox::with_game();
    let files: Vec<(String, String)> =
        (0..6).map(|at| (format!("data/new/{at}.txt"), format!("file {at}"))).collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    sandbox.zip("new-1.zip", &files);
    let mut held = 0;
    for milliseconds in [20, 60, 200] {
        let wait = Duration::from_millis(milliseconds);
        held += with_a_scanner(&sandbox.path(""), wait, || {
            drop(sandbox.run("add new-1.zip --place .=game:").status(0))
        });
        assert_eq!(sandbox.read("game/data/new/3.txt"), "file 3");
        sandbox.run("check --deep").status(0);
        held += with_a_scanner(&sandbox.path(""), wait, || drop(sandbox.run("remove new").status(0)));
        assert!(!sandbox.path("game/data/new").exists());
    }
    assert!(held > 0, "the scanner had none");
}

#[test]
fn a_file_that_stays_held_is_named_and_nothing_is_changed() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("lamp-1.zip", &[("data/lamps/brass.qtx", "layer")]);
    let held = hold(&sandbox.path("game/data/lamps/brass.qtx")).unwrap();
    let refused = sandbox.run("add lamp-1.zip --place .=game:").status(1);
    refused.says("brass.qtx").says("another program");
    drop(held);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "base brass\n");
    sandbox.run("add lamp-1.zip --place .=game:").status(0);
    assert_eq!(sandbox.read("game/data/lamps/brass.qtx"), "layer");
}

#[test]
fn json_is_ascii_for_shells_that_read_it_in_a_code_page() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("light-1.zip", &[("data/größe 図.txt", "x")]);
    sandbox.run("add light-1.zip --place .=game:").status(0);
    let told = sandbox.run("show light --json").status(0);
    // The paths of Windows are shown with `/` here, so the escapes are, too.
    assert!(told.stdout.is_ascii() && told.stdout.contains("gr/u00f6/u00dfe /u56f3.txt"), "{}", told.stdout);
}

/// What [`acts`] does is in this variable: `launches` starts itself to write later and ends, `writes` writes after a while,
/// `stands` stays where it is.
const ACT: &str = "ODDSTACK_TEST_ACT";

/// Not a test: the program that tests start, which is this one with its name as the only test to run.
#[test]
fn acts() {
    let itself = |act: &str| {
        let mut command = Command::new(std::env::current_exe().unwrap());
        command.args(["--exact", "windows::acts"]).env(ACT, act).stdout(Stdio::null()).spawn().unwrap()
    };
    match std::env::var(ACT).as_deref() {
        Ok("launches") => drop(itself("writes")),
        Ok("writes") => {
            std::thread::sleep(Duration::from_secs(2));
            std::fs::write("data/late.txt", "written late").unwrap();
        }
        Ok("stands") => std::thread::sleep(Duration::from_secs(60)),
        _ => {}
    }
}

fn program() -> String {
    std::env::current_exe().unwrap().display().to_string()
}

#[test]
fn a_capture_waits_for_all_that_an_installer_starts() {
    let sandbox = Sandbox::with_game();
    let env = format!("{ACT}=launches");
    let program = program();
    let words = ["capture", "Late", "--env", &env, "--", &program, "--exact", "windows::acts"];
    sandbox.run_words(&words).status(0).says("data/late.txt");
    sandbox.run("lift --all").status(0);
    assert!(!sandbox.path("game/data/late.txt").exists());
}

#[test]
fn a_folder_that_a_program_stands_in_stays_and_goes_later() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("new-1.zip", &[("data/new/a.txt", "a")]);
    sandbox.run("add new-1.zip --place .=game:").status(0);
    let folder = sandbox.path("game/data/new");
    let mut stands = Command::new(program())
        .args(["--exact", "windows::acts"])
        .env(ACT, "stands")
        .stdout(Stdio::null())
        .current_dir(&folder)
        .spawn()
        .unwrap();
    let lifted = sandbox.run("lift --all");
    let is_there = folder.is_dir();
    let checked = sandbox.run("check");
    stands.kill().unwrap();
    stands.wait().unwrap();
    let lifted = lifted.status(0);
    assert!(!folder.join("a.txt").exists());
    // A system may let it go all the same.
    if is_there {
        lifted.says("could not be removed");
        checked.status(0).says("game/data/new was to go and was not removed");
    }
    sandbox.run("lay --all").status(0);
    sandbox.run("lift --all").status(0);
    assert!(!folder.exists());
}

#[test]
fn paths_are_taken_as_windows_has_them_and_shown_plain() {
    let sandbox = Sandbox::empty();
    sandbox.write("Games/Quill Haven/data/a.ini", "a=1\n");
    sandbox.write("Games/Quill Haven/game.exe", "x");
    let folder = sandbox.path(r"Games\Quill Haven");
    let marked = format!(r"\\?\{}", folder.display());
    sandbox.run_words(&["game", "add", "Quill", &marked]).status(0);
    let shown = sandbox.run("game show --json").status(0);
    assert!(!shown.stdout.contains("//?/") && !shown.stdout.contains(r"\\?\"), "{}", shown.stdout);
    sandbox.write("p/b.ini", "b=1\n");
    let place = format!(r".={}\data\mods", folder.display());
    sandbox.run_words(&["add", "p", "--place", &place]).status(0);
    let whole = folder.join(r"data\mods\b.ini").display().to_string();
    for way in [whole.clone(), whole.to_uppercase(), format!(r"\\?\{whole}"), r"data\mods\b.ini".to_owned()] {
        sandbox.run_words(&["trace", &way]).status(0).says("game:data/mods/b.ini");
    }
    sandbox.run_words(&["settle", r"data\mods\*.ini", "--keep-order"]).status(1).says("at data/mods/*.ini");
    sandbox.run_words(&["trace", r"C:\Windows\b.ini"]).status(1).says("lies in none of the game's folders");
}

#[test]
fn what_no_game_lies_in_is_told() {
    let sandbox = Sandbox::empty();
    sandbox.write("game/game.exe", "x");
    let system = std::env::var("SystemRoot").unwrap();
    sandbox.run_words(&["game", "add", "G", &system]).status(1).says("no game's folder");
    sandbox.run_words(&["game", "add", "G", "C:"]).status(2).says("a drive without a folder");
    sandbox.run_words(&["game", "add", "G", "game", "--exe", "'game.exe'"]).status(2).says("\"game.exe\"");
    let swallowed = format!("{}\" --exe game.exe", sandbox.path("game").display());
    sandbox.run_words(&["game", "add", "G", &swallowed]).status(2).says("without a");
    assert!(!sandbox.path("home/games.toml").exists());
    // A home as a command prompt sets it.
    let quoted = format!("\"{}\"", sandbox.path("other home").display());
    sandbox.run_in("", &["game", "add", "con", "game"], &[("ODDSTACK_HOME", &quoted)]).status(0);
    assert!(sandbox.path("other home/games.toml").is_file());
}

#[test]
fn folders_of_our_own_in_a_game_are_hidden_and_go_with_it() {
    use std::os::windows::fs::MetadataExt;
    const HIDDEN: u32 = 2;
    let sandbox = Sandbox::with_game();
    let folder = sandbox.path("game/.oddstack");
    assert_ne!(std::fs::metadata(&folder).unwrap().file_attributes() & HIDDEN, 0);
    sandbox.run("game forget Quillhaven").status(0);
    assert!(!folder.exists());
}

/// What is written into the registry here is the system's: only where that is Wine's own.
#[test]
fn a_folder_that_a_cloud_client_syncs_is_told() {
    if std::env::var_os("WINEPREFIX").is_none() {
        return;
    }
    const KEY: &str = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager\Test";
    let reg = |words: &[&str]| {
        assert!(Command::new("reg").args(words).stdout(Stdio::null()).status().unwrap().success());
    };
    let sandbox = Sandbox::empty();
    sandbox.write("Cloud/game/game.exe", "x");
    let (key, cloud) = (format!(r"{KEY}\UserSyncRoots"), sandbox.path("Cloud").display().to_string());
    reg(&["add", &key, "/v", "S-1-5-21", "/d", &cloud, "/f"]);
    let added = sandbox.run_words(&["game", "add", "G", r"Cloud\game"]);
    reg(&["delete", KEY, "/f"]);
    added.status(0).says("a cloud client keeps the same");
}

#[test]
fn junctions_in_the_game_are_never_followed() {
    let sandbox = Sandbox::with_game();
    sandbox.write("outside/keep.txt", "outside");
    let junction = sandbox.path(r"game\data\linked");
    let mut made = Command::new("cmd");
    made.args(["/c", "mklink", "/J"]).arg(&junction).arg(sandbox.path("outside"));
    // Not every Wine can make one.
    if !made.stdout(Stdio::null()).status().unwrap().success() || !junction.exists() {
        return;
    }
    sandbox.zip("linked-1.zip", &[("data/linked/keep.txt", "layer"), ("data/linked/new.txt", "layer")]);
    let _ = sandbox.run("add linked-1.zip --place .=game:").one_of(&[1, 4], "adding through a junction");
    let _ = sandbox.run("add linked-1.zip --place .=game: --keep-edits").one_of(&[0, 1, 4], "in its place");
    let _ = sandbox.run("lift --all").one_of(&[0, 1, 4], "lifting");
    assert_eq!(sandbox.read("outside/keep.txt"), "outside");
    assert!(!sandbox.path("outside/new.txt").exists());
}
