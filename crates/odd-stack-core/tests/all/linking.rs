//! Big files laid as links: they take room once, and what a program writes into one never comes into the game as what a layer
//! brings, nor is it lost.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Write;
use std::path::Path;

use filetime::FileTime;
use proptest::prelude::*;

use crate::world::{NOW, Thing, Tree, World, add, exchange, permit, reorder, toggled, walk};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::steps::change_settings;
use odd_stack_core::jobs::{Mending, Reorder, SetRequest};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::Target;

const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

/// How many names a file has.
#[cfg(unix)]
fn names(path: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(path).unwrap().nlink()
}

/// Writes into a file in place, as a program does that has it open.
fn write_into(path: &Path, content: &[u8], time: i64) {
    let mut file = fs::OpenOptions::new().write(true).truncate(true).open(path).unwrap();
    file.write_all(content).unwrap();
    filetime::set_file_handle_times(&file, None, Some(FileTime::from_unix_time(time, 0))).unwrap();
}

#[derive(Debug, Clone)]
enum Deed {
    Put(usize, u8),
    Toggle(usize),
    Remove(usize),
    Top(usize),
    /// A program writes into the file of that number.
    Write(usize),
    /// A program puts another file in its place.
    Replace(usize),
    Keep,
    Restore,
    Means(bool),
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        5 => (0..3usize, 0..3u8).prop_map(|(package, version)| Deed::Put(package, version)),
        3 => (0..3usize).prop_map(Deed::Toggle),
        1 => (0..3usize).prop_map(Deed::Remove),
        2 => (0..3usize).prop_map(Deed::Top),
        3 => (0..8usize).prop_map(Deed::Write),
        1 => (0..8usize).prop_map(Deed::Replace),
        1 => Just(Deed::Keep),
        2 => Just(Deed::Restore),
        1 => any::<bool>().prop_map(Deed::Means),
    ]
}

struct Life {
    world: World,
    /// The version of each package's layer.
    versions: BTreeMap<usize, u8>,
    /// Contents that programs wrote.
    written: BTreeSet<Vec<u8>>,
    /// What of that a person has kept as their own, and where.
    kept: BTreeSet<(String, Vec<u8>)>,
    time: i64,
}

impl Life {
    fn new() -> Self {
        let base = [("game/quillhaven.exe", "program"), ("game/data/shared.dat", "the game's own")];
        let world = World::with_game(&base).with_links();
        let (versions, written, kept) = (BTreeMap::new(), BTreeSet::new(), BTreeSet::new());
        Self { world, versions, written, kept, time: 1_650_000_000 }
    }

    fn put(&mut self, package: usize, version: u8) -> bool {
        let ledger = self.world.ledger();
        let name = format!("p{package}");
        let _ = fs::remove_dir_all(self.world.path("packages").join(&name));
        let (own, twice) = (format!("data/own{package}.dat"), format!("data/twice{package}.dat"));
        let (shared, alike) = (format!("shared {package} {version}"), format!("alike {version}"));
        let files = [("data/shared.dat", shared.as_str()), (&own, &alike), (&twice, &alike)];
        let folder = self.world.package(&name, &files);
        if package == 2 {
            // One content cannot show two times.
            filetime::set_file_mtime(folder.join(&own), FileTime::from_unix_time(1_600_000_500, 0)).unwrap();
        }
        let layer = ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name);
        let done = match layer {
            Some(layer) => exchange(&ledger, layer.id, &folder, &[".=game:"], KEEP),
            None => add(&ledger, &folder, &[".=game:"], Target::Top, KEEP),
        };
        if done.is_ok() {
            self.versions.insert(package, version);
        }
        done.is_ok()
    }

    /// What each file of the game is to have.
    fn expected(&self, ledger: &Ledger) -> BTreeMap<String, Vec<u8>> {
        let mut files = BTreeMap::from([("game/data/shared.dat".to_owned(), b"the game's own".to_vec())]);
        for layer in ledger.layers().unwrap().into_iter().filter(|layer| layer.laid) {
            let Some(package) = layer.about.name.strip_prefix('p').and_then(|it| it.parse::<usize>().ok())
            else {
                continue;
            };
            let version = self.versions[&package];
            files.insert(
                "game/data/shared.dat".to_owned(),
                format!("shared {package} {version}").into_bytes(),
            );
            for name in ["own", "twice"] {
                files.insert(
                    format!("game/data/{name}{package}.dat"),
                    format!("alike {version}").into_bytes(),
                );
            }
        }
        files
    }

    fn write(&mut self, number: usize, is_new_file: bool) {
        let files: Vec<String> = self
            .world
            .tree()
            .into_iter()
            .filter(|(path, thing)| path.ends_with(".dat") && matches!(thing, Thing::File { .. }))
            .map(|(path, _)| path)
            .collect();
        let Some(path) = files.get(number % files.len().max(1)).map(|path| self.world.path(path)) else {
            return;
        };
        let before = fs::read(&path).unwrap();
        self.time += 10;
        // Of the very size that was there, or of another.
        let digits = self.time.to_string();
        let content = match number % 2 {
            0 => digits.bytes().rev().cycle().take(before.len()).collect::<Vec<u8>>(),
            _ => format!("written at {digits}").into_bytes(),
        };
        if is_new_file {
            fs::remove_file(&path).unwrap();
            fs::write(&path, b"").unwrap();
        }
        write_into(&path, &content, self.time);
        // What programs have written over in the game is nobody's edit any more, though the ledger may have it.
        let (mut game, mut home) = (Tree::new(), Tree::new());
        walk(&self.world.path("game"), "game", &mut game);
        walk(&self.world.path("home"), "home", &mut home);
        home.retain(|path, _| path.contains("/kept/") || path.contains("/originals/"));
        let has = |tree: &Tree, wanted: &Vec<u8>| {
            tree.values().any(|thing| matches!(thing, Thing::File { content, .. } if content == wanted))
        };
        self.written.retain(|written| has(&game, written) || has(&home, written));
        self.written.insert(content);
    }

    fn live(&mut self, deed: &Deed) {
        let ledger = self.world.ledger();
        let layer = |package: usize| {
            let name = format!("p{package}");
            ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name)
        };
        let before = self.world.tree();
        let change = |reorder_to: Reorder| reorder(&ledger, &reorder_to, KEEP).is_ok();
        let done = match deed {
            Deed::Put(package, version) => self.put(*package, *version),
            Deed::Toggle(package) => layer(*package).is_none_or(|layer| change(toggled(&layer))),
            Deed::Remove(package) => {
                layer(*package).is_none_or(|layer| change(Reorder::Remove(vec![layer.id])))
            }
            Deed::Top(package) => {
                layer(*package).is_none_or(|layer| change(Reorder::Move(layer.id, Target::Top)))
            }
            Deed::Write(number) => {
                self.write(*number, false);
                true
            }
            Deed::Replace(number) => {
                self.write(*number, true);
                true
            }
            Deed::Keep => self.world.mend(&ledger, Mending::Keep),
            Deed::Restore => {
                let restored = self.world.mend(&ledger, Mending::Restore);
                // Whoever wants what the stack says wants no more what was written.
                let all = self.world.all_contents();
                self.written.retain(|content| all.contains(content));
                restored
            }
            Deed::Means(by_link) => {
                let request = SetRequest { big_files_by_link: Some(*by_link), ..SetRequest::default() };
                let right = permit(&ledger).unwrap();
                change_settings(&self.world.home(), &ledger, right, "Quillhaven", &request, false, &Silent)
                    .is_ok()
            }
        };
        if !done {
            assert_eq!(self.world.tree(), before, "what is refused changes nothing: {deed:?}");
            assert!(!self.written.is_empty(), "nothing is lost where nobody wrote: {deed:?}");
        }
        if matches!(deed, Deed::Keep) && done {
            let edited = self.world.tree().into_iter().filter_map(|(path, thing)| match thing {
                Thing::File { content, .. } if self.written.contains(&content) => Some((path, content)),
                _ => None,
            });
            self.kept.extend(edited);
        }
        let expected = self.expected(&ledger);
        for (path, thing) in self.world.tree() {
            let Thing::File { content, .. } = thing else { continue };
            if let Some(wanted) = expected.get(&path) {
                let by_program = matches!(deed, Deed::Write(_) | Deed::Replace(_));
                // What a program wrote may stay where it is, and comes nowhere else.
                let was_there =
                    matches!(before.get(&path), Some(Thing::File { content: was, .. }) if *was == content);
                // An edit of the game's own file goes aside with it, and comes back.
                let is_base = wanted == b"the game's own";
                let is_left = self.written.contains(&content) && (by_program || was_there || is_base);
                let is_told = is_base || !matches!(deed, Deed::Restore) || !done;
                let shown = String::from_utf8_lossy(&content);
                let is_own = self.kept.contains(&(path.clone(), content.clone()));
                assert!(
                    content == *wanted || is_own || is_left && is_told,
                    "{path} has {shown:?} after {deed:?}"
                );
            }
        }
        let all = self.world.all_contents();
        for written in &self.written {
            assert!(all.contains(written), "{:?} is lost", String::from_utf8_lossy(written));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if cfg!(windows) { 6 } else { 48 }, failure_persistence: None, ..ProptestConfig::default()
    })]
    #[test]
    fn what_is_written_through_a_link_is_never_laid_as_a_layers_and_never_lost(
        deeds in proptest::collection::vec(deed(), 1..24)
    ) {
        let mut life = Life::new();
        deeds.iter().for_each(|deed| life.live(deed));
    }
}

/// Whether the disk on which the tests run shares blocks.
#[cfg(unix)]
fn shares_blocks(world: &World) -> bool {
    let (one, two) = (world.path("shared-1"), world.path("shared-2"));
    fs::write(&one, "shared").unwrap();
    reflink_copy::reflink(&one, &two).is_ok()
}

#[cfg(unix)]
#[test]
fn a_link_takes_room_once_and_a_capture_parts_it_from_the_ledger() {
    use crate::world::id;
    use odd_stack_core::jobs::CaptureRequest;
    use odd_stack_core::jobs::steps::{begin_capture, show};
    let mut life = Life::new();
    assert!(life.put(0, 0));
    let path = life.world.path("game/data/own0.dat");
    if shares_blocks(&life.world) {
        assert_eq!(names(&path), 1, "each file is its own, and takes no room of its own");
        return;
    }
    assert_eq!(names(&path), 3, "two names in the game, and the ledger's");
    let ledger = life.world.ledger();
    let shown = show(&ledger, id(&ledger, "p0"), &Silent).unwrap();
    assert_eq!(shown.linked.files, 3);
    // What programs write, and the game's own files, are never links.
    assert_eq!(names(&life.world.path("game/quillhaven.exe")), 1);
    let right = permit(&ledger).unwrap();
    let request = CaptureRequest { name: "seen".to_owned(), ..CaptureRequest::default() };
    drop(begin_capture(&ledger, right, &request, NOW, KEEP, &Silent).unwrap());
    assert_eq!(names(&path), 2, "only its two names in the game");
    write_into(&path, b"by the program", 1_650_000_000);
    let damaged = odd_stack_core::check::check_stored(&ledger, &Silent).unwrap().damaged;
    assert!(damaged.is_empty(), "{damaged:?}");
}
