//! A change that fails at any single step, whatever is done.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::faulty::{Fault, Faulty};
use crate::stored::stored;
use crate::world::{Tree, World, recover, tempdir};
use odd_stack_core::jobs::StackReport;
use odd_stack_core::jobs::steps::stack;
use odd_stack_core::ledger::Ledger;

/// Something that is done to a game; says whether it was done.
pub type Act = fn(&World, &Ledger) -> bool;

/// Tree, stack and every stored content of a world at rest.
#[derive(Debug, PartialEq)]
struct State {
    tree: Tree,
    stack: StackReport,
    contents: BTreeSet<String>,
}

fn state(world: &World) -> State {
    let ledger = world.ledger();
    let folder = ledger.folder().to_path_buf();
    for rubbish in ["stage", "trash"] {
        let path = folder.join(rubbish);
        let is_empty = fs::read_dir(&path).map_or(!path.exists(), |mut entries| entries.next().is_none());
        assert!(is_empty, "{rubbish} is left over");
    }
    let contents = stored(&folder).into_iter().map(|content| content.hash).collect();
    State { tree: world.tree(), stack: stack(&ledger).unwrap(), contents }
}

pub fn copy_all(from: &Path, to: &Path) {
    copy_with_links(from, to, &mut BTreeMap::new());
}

/// Copies a tree; what is one file there is one file here. `known` are files copied before, by number.
fn copy_with_links(from: &Path, to: &Path, known: &mut BTreeMap<u64, PathBuf>) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy_with_links(&entry.path(), &target, known);
        } else if let Some(first) = number_of(&entry.path()).and_then(|number| known.get(&number)) {
            fs::hard_link(first, &target).unwrap();
        } else {
            known.extend(number_of(&entry.path()).map(|number| (number, target.clone())));
            fs::copy(entry.path(), &target).unwrap();
            let time = filetime::FileTime::from_last_modification_time(&entry.metadata().unwrap());
            filetime::set_file_mtime(&target, time).unwrap();
        }
    }
}

/// What tells a file with several names from others, where that is easy to ask.
fn number_of(path: &Path) -> Option<u64> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        let metadata = fs::symlink_metadata(path).unwrap();
        (metadata.nlink() > 1).then(|| metadata.ino())
    }
    #[cfg(not(unix))]
    {
        let _ = path;
        None
    }
}

/// How far apart the steps are that fail. Each costs ten times as much under Wine and some times as much on a disk that syncs, and what
/// is done there is the same but for the seam.
pub fn stride() -> usize {
    match std::env::var_os("ODDSTACK_TEST_FOLDER") {
        _ if cfg!(windows) => 11,
        Some(_) => 4,
        None => 1,
    }
}

/// Runs `act` with `fault` at its first step, its second, and so on, until it is done untouched.
pub fn fail_everywhere(act: Act, fault: Fault) {
    fail_everywhere_in(&crate::acts::two_layers(), act, fault, 0);
}

/// As [`fail_everywhere`], in a world where so many files are edited.
pub fn fail_everywhere_in(world: &World, act: Act, fault: Fault, edited_files: usize) {
    fail_and_count(world, act, fault, |_| edited_files);
}

/// `edited_files` says how many files are edited before the act, and when it is done.
pub fn fail_and_count(world: &World, act: Act, fault: Fault, edited_files: impl Fn(bool) -> usize) {
    let single = rayon_single();
    let saved = tempdir();
    let parts = ["game", "docs", "home"];
    let mut known = BTreeMap::new();
    for part in parts {
        copy_with_links(&world.path(part), &saved.path().join(part), &mut known);
    }
    let before = state(world);
    assert!(act(world, &world.ledger()), "it can be done at all");
    let after = state(world);
    assert_ne!(before, after);
    let mut ends = BTreeSet::new();
    for at in (0..).step_by(stride()) {
        assert!(at < 500, "it never gets done");
        let mut known = BTreeMap::new();
        for part in parts {
            fs::remove_dir_all(world.path(part)).unwrap();
            copy_with_links(&saved.path().join(part), &world.path(part), &mut known);
        }
        let fault = match fault {
            Fault::LoseSome(seed) => Fault::LoseSome(seed.wrapping_add(at * 7919)),
            other => other,
        };
        let aside = tempfile::tempdir_in(world.folder.path()).unwrap();
        let seam = Arc::new(Faulty::new(fault, at, aside.path().to_path_buf()));
        let was_done = single.install(|| act(world, &world.ledger_through(seam.clone())));
        if !seam.has_struck() {
            assert!(was_done);
            break;
        }
        seam.lose_unsynced();
        if fault == Fault::Refuse && !was_done {
            // Only when the last words can't be written are files in place already.
            let tree = world.tree();
            assert!(tree == before.tree || tree == after.tree, "a refused step {at} is taken back at once");
        }
        recover(&world.ledger());
        let now = state(world);
        assert!(now == before || now == after, "step {at} with {fault:?}: {}", difference(&before, &now));
        assert_eq!(world.check(true).drifted.len(), edited_files(now == after), "step {at}");
        ends.insert(now == after);
        if was_done {
            assert!(now == after, "what was said to be done at step {at} is done");
        }
    }
    if fault != Fault::Refuse && stride() == 1 {
        assert_eq!(ends.len(), 2, "some stops are taken back, and some finished");
    }
}

fn difference(before: &State, now: &State) -> String {
    let all: BTreeSet<&String> = before.tree.keys().chain(now.tree.keys()).collect();
    let paths = all.into_iter().filter(|path| before.tree.get(*path) != now.tree.get(*path));
    let shown: Vec<_> = paths
        .map(|path| format!("{path} was {:?}\n  is {:?}", before.tree.get(path), now.tree.get(path)))
        .collect();
    format!(
        "contents {} to {}, layers {} to {}\n{}",
        before.contents.len(),
        now.contents.len(),
        before.stack.layers.len(),
        now.stack.layers.len(),
        shown.join("\n")
    )
}

pub fn rayon_single() -> rayon::ThreadPool {
    rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap()
}
