//! What only Windows does: other programs that hold files, its ways of writing paths.

use std::fs::File;
use std::os::windows::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use crate::closed::Closed;

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
    let closed = Closed::with_game();
    let files: Vec<(String, String)> =
        (0..6).map(|at| (format!("data/new/{at}.txt"), format!("file {at}"))).collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    closed.zip("new-1.zip", &files);
    let mut held = 0;
    for milliseconds in [20, 60, 200] {
        let wait = Duration::from_millis(milliseconds);
        held += with_a_scanner(&closed.path(""), wait, || {
            drop(closed.run("add new-1.zip --place .=game:").status(0))
        });
        assert_eq!(closed.read("game/data/new/3.txt"), "file 3");
        closed.run("check --deep").status(0);
        held += with_a_scanner(&closed.path(""), wait, || drop(closed.run("remove new").status(0)));
        assert!(!closed.path("game/data/new").exists());
    }
    assert!(held > 0, "the scanner had none");
}

#[test]
fn a_file_that_stays_held_is_named_and_nothing_is_changed() {
    let closed = Closed::with_game();
    closed.zip("lamp-1.zip", &[("data/lamps/brass.qtx", "layer")]);
    let held = hold(&closed.path("game/data/lamps/brass.qtx")).unwrap();
    let refused = closed.run("add lamp-1.zip --place .=game:").status(1);
    refused.says("brass.qtx").says("another program");
    drop(held);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "base brass\n");
    closed.run("add lamp-1.zip --place .=game:").status(0);
    assert_eq!(closed.read("game/data/lamps/brass.qtx"), "layer");
}

#[test]
fn json_is_ascii_for_shells_that_read_it_in_a_code_page() {
    let closed = Closed::with_game();
    closed.zip("light-1.zip", &[("data/größe 図.txt", "x")]);
    closed.run("add light-1.zip --place .=game:").status(0);
    let told = closed.run("show light --json").status(0);
    // The paths of Windows are shown with `/` here, so the escapes are, too.
    assert!(told.stdout.is_ascii() && told.stdout.contains("gr/u00f6/u00dfe /u56f3.txt"), "{}", told.stdout);
}
