//! A container over a long life: layers come, are exchanged and go, a person edits it by hand with an archiver, the game is updated.
//! It holds what the stack describes, no edit is lost, and in the end it is the game's own again.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::PathBuf;

use filetime::FileTime;
use proptest::prelude::*;

use crate::containers::{Members, core, packed, read, unpacked, world_of};
use crate::over_time::{begin, finish};
use crate::stored::stored;
use crate::world::{World, add, exchange, reorder, toggled};
use odd_stack_core::change::{ChangeOptions, Edits};
use odd_stack_core::jobs::{Mending, OWN_EDITS, Reorder};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::stack::Target;

const KEEP: ChangeOptions = ChangeOptions::with(Edits::Keep);

#[derive(Debug, Clone)]
enum Deed {
    /// The package of that number in a version: added, or put into its layer's place.
    Put(usize, u8),
    Toggle(usize),
    Remove(usize),
    /// Another content for a member, or none, by hand.
    Edit(usize, bool),
    Keep,
    Restore,
    Update,
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        4 => (0..2usize, 0..3u8).prop_map(|(package, version)| Deed::Put(package, version)),
        2 => (0..2usize).prop_map(Deed::Toggle),
        1 => (0..2usize).prop_map(Deed::Remove),
        4 => (0..EDITED.len(), proptest::bool::weighted(0.8)).prop_map(|(at, puts)| Deed::Edit(at, puts)),
        2 => Just(Deed::Keep),
        1 => Just(Deed::Restore),
        1 => Just(Deed::Update),
    ]
}

/// Members that a person edits.
const EDITED: [&str; 5] =
    ["menu/title.txt", "menu/help.txt", "hand/made.txt", "in.zip!/deep/x.txt", "tex/a.bin"];

/// What the package of that number has in that version.
fn files_of(package: usize, version: u8) -> Vec<(&'static str, Vec<u8>)> {
    let places: &[&str] = match (package, version) {
        (0, 2) => &["menu/new.txt"],
        (0, _) => &["menu/title.txt", "menu/new.txt"],
        (_, 0) => &["menu/title.txt", "in.zip!/deep/x.txt"],
        (_, 1) => &["tex/a.bin", "in.zip!/deep/x.txt"],
        _ => &["in.zip!/new.txt"],
    };
    places.iter().map(|place| (*place, format!("{package} {version} {place}").into_bytes())).collect()
}

/// Packs what was unpacked; a container inside stays as it was `before` unless something in it is other.
fn repacked(members: &Members, before: &[u8]) -> Vec<u8> {
    let (mut outer, mut inner) = (Members::new(), Members::new());
    for (path, content) in members.iter().filter(|(path, _)| !path.ends_with('!')) {
        match path.strip_prefix("in.zip!/") {
            Some(path) => inner.insert(path.to_owned(), content.clone()),
            None => outer.insert(path.clone(), content.clone()),
        };
    }
    let before = read(before).remove("in.zip").filter(|before| read(before) == inner);
    outer.insert("in.zip".to_owned(), before.unwrap_or_else(|| packed(&inner)));
    packed(&outer)
}

fn changed(mut members: Members, changes: &BTreeMap<String, Option<Vec<u8>>>) -> Members {
    for (path, content) in changes {
        match content {
            Some(content) => drop(members.insert(path.clone(), content.clone())),
            None => drop(members.remove(path)),
        }
    }
    members
}

/// Members that are not the same in both, with what each has there.
fn difference(one: &Members, two: &Members) -> Vec<String> {
    let paths: BTreeSet<&String> = one.keys().chain(two.keys()).collect();
    let told = |members: &Members, path: &str| {
        members.get(path).map(|content| String::from_utf8_lossy(content).chars().take(30).collect::<String>())
    };
    let differ = paths.into_iter().filter(|path| one.get(*path) != two.get(*path));
    differ.map(|path| format!("{path}: {:?}, {:?}", told(one, path), told(two, path))).collect()
}

struct Life {
    world: World,
    /// The game's own container, and its time.
    official: (Vec<u8>, i64),
    versions: BTreeMap<usize, u8>,
    /// What was edited by hand and not decided on.
    edits: BTreeMap<String, Option<Vec<u8>>>,
    /// What of that is a layer of the person's own.
    kept: BTreeMap<String, Option<Vec<u8>>>,
    /// It was packed by hand.
    is_repacked: bool,
    /// Contents that a person wrote and never took back.
    written: BTreeSet<Vec<u8>>,
    time: i64,
}

impl Life {
    fn new() -> Self {
        let mut core = core();
        core.remove("light.ini");
        let container = packed(&core);
        let world = world_of(&container);
        let mut life = Self {
            world,
            official: (container.clone(), 0),
            versions: BTreeMap::new(),
            edits: BTreeMap::new(),
            kept: BTreeMap::new(),
            is_repacked: false,
            written: BTreeSet::new(),
            time: 1_700_000_100,
        };
        life.official.1 = life.time_there();
        life
    }

    fn path(&self) -> PathBuf {
        self.world.path("game/data/core.qpk")
    }

    fn time_there(&self) -> i64 {
        FileTime::from_last_modification_time(&fs::metadata(self.path()).unwrap()).unix_seconds()
    }

    fn now(&self) -> Members {
        unpacked(&fs::read(self.path()).unwrap())
    }

    /// Puts another container there, as an archiver or the game's client does.
    fn write(&mut self, container: &[u8]) {
        self.time += 10;
        fs::write(self.path(), container).unwrap();
        filetime::set_file_mtime(self.path(), FileTime::from_unix_time(self.time, 0)).unwrap();
    }

    /// What the container is to hold.
    fn expected(&self, ledger: &Ledger) -> Members {
        let mut members = unpacked(&self.official.0);
        for layer in ledger.layers().unwrap().into_iter().filter(|layer| layer.laid) {
            let changes = match layer.about.name.strip_prefix('p').and_then(|number| number.parse().ok()) {
                Some(package) => files_of(package, self.versions[&package])
                    .into_iter()
                    .map(|(path, content)| (path.to_owned(), Some(content)))
                    .collect(),
                None => {
                    assert_eq!(layer.about.name, OWN_EDITS);
                    self.kept.clone()
                }
            };
            members = changed(members, &changes);
        }
        members
    }

    /// All that lies anywhere, also in containers.
    fn everywhere(&self, ledger: &Ledger) -> BTreeSet<Vec<u8>> {
        let mut all = self.world.all_contents();
        all.extend(stored(ledger.folder()).iter().map(|content| content.bytes()));
        let inside =
            all.iter().filter(|content| content.starts_with(b"PK")).flat_map(|content| unpacked(content));
        let inside: Vec<Vec<u8>> = inside.map(|(_, content)| content).collect();
        all.into_iter().chain(inside).collect()
    }

    fn put(&mut self, ledger: &Ledger, package: usize, version: u8) -> bool {
        let name = format!("p{package}");
        let folder = self.world.path("packages").join(&name);
        let _ = fs::remove_dir_all(&folder);
        for (path, content) in files_of(package, version) {
            fs::create_dir_all(folder.join(path).parent().unwrap()).unwrap();
            fs::write(folder.join(path), content).unwrap();
        }
        let places = [".=data/core.qpk!/"];
        let layer = ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name);
        let done = match layer {
            Some(layer) => exchange(ledger, layer.id, &folder, &places, KEEP),
            None => add(ledger, &folder, &places, Target::Top, KEEP),
        };
        if done.is_ok() {
            self.versions.insert(package, version);
        }
        done.is_ok()
    }

    /// Says whether anything was edited.
    fn edit(&mut self, ledger: &Ledger, at: usize, puts: bool) -> bool {
        let mut now = self.now();
        let place = EDITED[at].to_owned();
        // The game's own container is the game's own, also as a person leaves it.
        if !ledger.layers().unwrap().iter().any(|layer| layer.laid) || !puts && !now.contains_key(&place) {
            return false;
        }
        let content = puts.then(|| format!("by hand at {}", self.time).into_bytes());
        let before = now.get(&place).cloned();
        now = changed(now, &BTreeMap::from([(place.clone(), content.clone())]));
        let there = fs::read(self.path()).unwrap();
        self.write(&repacked(&now, &there));
        if let Some(before) =
            before.filter(|before| !self.kept.values().any(|kept| kept.as_ref() == Some(before)))
        {
            self.written.remove(&before);
        }
        self.written.extend(content.clone());
        self.is_repacked = true;
        self.edits.insert(place, content);
        true
    }

    fn update(&mut self) -> bool {
        if !begin(&self.world.ledger()) {
            return false;
        }
        assert_eq!(self.now(), unpacked(&self.official.0), "a patch day leaves nothing in the game");
        let mut members = self.now();
        members.insert("tex/b.bin".to_owned(), self.time.to_string().into_bytes());
        members.insert(format!("new/{}.txt", self.time), b"of the update".to_vec());
        let container = repacked(&members, &self.official.0);
        self.write(&container);
        self.official = (container, self.time);
        assert!(finish(self.world.ledger()).is_some());
        true
    }

    fn live(&mut self, deed: &Deed) {
        let ledger = self.world.ledger();
        let layer = |package: &usize| {
            let name = format!("p{package}");
            ledger.layers().unwrap().into_iter().find(|layer| layer.about.name == name)
        };
        let turn = |turned: Reorder| reorder(&ledger, &turned, KEEP).is_ok();
        let done = match deed {
            Deed::Put(package, version) => self.put(&ledger, *package, *version),
            Deed::Toggle(package) => layer(package).is_none_or(|layer| turn(toggled(&layer))),
            Deed::Remove(package) => layer(package).is_none_or(|layer| turn(Reorder::Remove(vec![layer.id]))),
            Deed::Edit(at, puts) => {
                self.edit(&ledger, *at, *puts);
                return;
            }
            Deed::Keep => self.world.mend(&ledger, Mending::Keep),
            Deed::Restore => self.world.mend(&ledger, Mending::Restore),
            Deed::Update => {
                drop(ledger);
                self.update()
            }
        };
        assert!(done, "{deed:?} with {:?}", self.edits);
        let ledger = self.world.ledger();
        match deed {
            Deed::Keep => self.kept.append(&mut self.edits),
            // Whoever wants what the stack says wants no more what was written.
            Deed::Restore => {
                for content in std::mem::take(&mut self.edits).into_values().flatten() {
                    self.written.remove(&content);
                }
            }
            _ => {}
        }
        let (now, plain) = (self.now(), self.expected(&ledger));
        if now == plain {
            self.edits.clear();
        }
        assert_eq!(difference(&now, &changed(plain, &self.edits)), Vec::<String>::new(), "after {deed:?}");
        let drifted = self.world.check(true).drifted;
        // Packed by another hand it may have another form alone, of which there is nothing to keep.
        self.is_repacked &= !drifted.is_empty() && !matches!(deed, Deed::Restore);
        assert!(!drifted.is_empty() || self.edits.is_empty(), "no drift after {deed:?}");
        let may_drift = !self.edits.is_empty() || self.is_repacked;
        assert!(drifted.is_empty() || may_drift, "{drifted:?} after {deed:?}");
        let all = self.everywhere(&ledger);
        for written in &self.written {
            assert!(all.contains(written), "{:?} is lost after {deed:?}", String::from_utf8_lossy(written));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if cfg!(windows) { 6 } else { 48 }, failure_persistence: None, ..ProptestConfig::default()
    })]
    #[test]
    fn a_container_is_as_the_stack_says_and_no_edit_in_it_is_lost(
        deeds in proptest::collection::vec(deed(), 1..16)
    ) {
        let mut life = Life::new();
        deeds.iter().for_each(|deed| life.live(deed));
        life.live(&Deed::Restore);
        let ledger = life.world.ledger();
        let all = ledger.layers().unwrap().into_iter().map(|layer| layer.id).collect();
        reorder(&ledger, &Reorder::Lift(all), KEEP).unwrap();
        prop_assert!(fs::read(life.path()).unwrap() == life.official.0);
        prop_assert_eq!(life.time_there(), life.official.1);
    }
}
