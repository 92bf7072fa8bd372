//! Any sequence of commands against a naive model: the tree on disk is the fold of base and layers.

use std::collections::BTreeMap;

use odd_stack_core::disk::ChangeOptions;
use odd_stack_core::jobs::Reorder;
use odd_stack_core::stack::{LayerId, Target};
use proptest::prelude::*;

use crate::world::{Thing, Tree, World, add, exchange, id, reorder};

const BASE: [(&str, &str); 5] = [
    ("game/data/Lamps/Brass.dds", "base"),
    ("game/data/lamps2/x", "x"),
    ("game/config.ini", "fog=1\ngulls=1\n"),
    ("game/bin/run", "run"),
    ("docs/profile/p.ini", "p"),
];

/// Packages that meet each other and the base in every way: contested, equal, new, other spellings.
const PACKAGES: [(&str, &[(&str, &str)]); 6] = [
    ("alpha", &[("data/lamps/brass.dds", "one"), ("new/Deep/a", "a"), ("top", "t")]),
    ("bravo", &[("DATA/LAMPS/BRASS.DDS", "two"), ("new/deep/b", "b"), ("config.ini", "fog=1\ngulls=2\n")]),
    ("cedar", &[("config.ini", "fog=2\ngulls=1\n"), ("NEW/deep/a", "a"), ("TOP", "t")]),
    ("delta", &[("data/Lamps/brass.dds", "base"), ("top", "other"), ("new/deep/only/c", "c")]),
    ("ember", &[("new/deep", "a file where others have a folder")]),
    (
        "finch",
        &[
            ("config.ini", "fog=3\ngulls=1\nsea=1\n"),
            ("data/lamps/brass.dds", "one"),
            ("bin/run", "patched"),
            ("new/Deep/b", "b2"),
        ],
    ),
];

#[derive(Debug, Clone)]
enum Command {
    Add(usize, usize),
    Lift(usize),
    Lay(usize),
    Move(usize, usize),
    Remove(usize),
    Exchange(usize, usize),
}

fn command() -> impl Strategy<Value = Command> {
    prop_oneof![
        4 => (0..PACKAGES.len(), 0..4usize).prop_map(|(package, at)| Command::Add(package, at)),
        2 => (0..PACKAGES.len()).prop_map(Command::Lift),
        2 => (0..PACKAGES.len()).prop_map(Command::Lay),
        2 => (0..PACKAGES.len(), 0..4usize).prop_map(|(layer, at)| Command::Move(layer, at)),
        1 => (0..PACKAGES.len()).prop_map(Command::Remove),
        2 => (0..PACKAGES.len(), 0..PACKAGES.len()).prop_map(|(old, new)| Command::Exchange(old, new)),
    ]
}

/// Layers from the bottom to the top, by package, and whether each is laid.
type Model = Vec<(usize, bool)>;

/// Files by path in lower case; `None` when a path would be both a file and a folder.
fn fold(model: &Model) -> Option<BTreeMap<String, String>> {
    let mut files: BTreeMap<String, String> =
        BASE.iter().map(|(path, content)| (path.to_lowercase(), (*content).to_owned())).collect();
    for (package, _) in model.iter().filter(|(_, laid)| *laid) {
        for (path, content) in PACKAGES[*package].1.iter().filter(|(path, _)| *path != "config.ini") {
            files.insert(format!("game/{}", path.to_lowercase()), (*content).to_owned());
        }
    }
    files.insert("game/config.ini".to_owned(), blended(model));
    let clashes = files.keys().any(|file| files.keys().any(|other| other.starts_with(&format!("{file}/"))));
    (!clashes).then_some(files)
}

/// The naive blend: of each key the last value that is not the game's own.
fn blended(model: &Model) -> String {
    let table = |content: &str| -> BTreeMap<String, String> {
        content.lines().filter_map(|line| line.split_once('=')).map(|(k, v)| (k.into(), v.into())).collect()
    };
    let base = table(BASE[2].1);
    let mut values = base.clone();
    for (package, _) in model.iter().filter(|(_, laid)| *laid) {
        for (_, content) in PACKAGES[*package].1.iter().filter(|(path, _)| *path == "config.ini") {
            values.extend(table(content).into_iter().filter(|(key, value)| base.get(key) != Some(value)));
        }
    }
    values.iter().map(|(key, value)| format!("{key}={value}\n")).collect()
}

fn files_of(world: &World) -> BTreeMap<String, String> {
    let files = world.tree().into_iter().filter_map(|(path, thing)| match thing {
        Thing::File { content, .. } => Some((path.to_lowercase(), String::from_utf8(content).unwrap())),
        Thing::Folder => None,
    });
    files.collect()
}

/// The whole tree. On Windows without regard to case: a rename that changes only case does nothing in
/// Wine, where these tests run.
fn as_spelled(world: &World) -> Tree {
    let fold = |path: String| if cfg!(windows) { path.to_lowercase() } else { path };
    world.tree().into_iter().map(|(path, thing)| (fold(path), thing)).collect()
}

fn place(model: &mut Model, at: usize, layer: (usize, bool)) {
    model.insert(at.min(model.len()), layer);
}

fn target(at: usize, others: &[(usize, LayerId)]) -> Target {
    others.get(at).map_or(Target::Top, |(_, layer)| Target::Below(*layer))
}

/// Does the command in the world and the model; the model only where the world accepts it.
fn run(world: &World, model: &mut Model, command: &Command) -> Result<(), TestCaseError> {
    let ledger = world.ledger();
    let options = ChangeOptions::default();
    let ids: Vec<(usize, LayerId)> =
        model.iter().map(|(package, _)| (*package, id(&ledger, PACKAGES[*package].0))).collect();
    let find = |package: usize| ids.iter().find(|(other, _)| *other == package).map(|(_, layer)| *layer);
    let mut wanted = model.clone();
    let done = match *command {
        Command::Add(package, at) => {
            if find(package).is_some() {
                return Ok(());
            }
            place(&mut wanted, at, (package, true));
            let (name, files) = PACKAGES[package];
            // A file beside the folder, so that a lone folder is not taken for a wrapper.
            let folder = world.package(name, files);
            add(&ledger, &folder, &[".=game:"], target(at, &ids), options).is_ok()
        }
        Command::Lift(package) | Command::Lay(package) => {
            let Some(layer) = find(package) else { return Ok(()) };
            let laid = matches!(command, Command::Lay(_));
            wanted.iter_mut().filter(|(other, _)| *other == package).for_each(|(_, state)| *state = laid);
            let change = if laid { Reorder::Lay(vec![layer]) } else { Reorder::Lift(vec![layer]) };
            reorder(&ledger, &change, options).is_ok()
        }
        Command::Move(package, at) => {
            let Some(layer) = find(package) else { return Ok(()) };
            let from = wanted.iter().position(|(other, _)| *other == package).unwrap();
            let moved = wanted.remove(from);
            place(&mut wanted, at, moved);
            let others: Vec<_> = ids.iter().copied().filter(|(other, _)| *other != package).collect();
            reorder(&ledger, &Reorder::Move(layer, target(at, &others)), options).is_ok()
        }
        Command::Remove(package) => {
            let Some(layer) = find(package) else { return Ok(()) };
            wanted.retain(|(other, _)| *other != package);
            reorder(&ledger, &Reorder::Remove(vec![layer]), options).is_ok()
        }
        Command::Exchange(old, new) => {
            let Some(layer) = find(old).filter(|_| old == new || find(new).is_none()) else { return Ok(()) };
            wanted.iter_mut().filter(|(package, _)| *package == old).for_each(|(package, _)| *package = new);
            let (name, files) = PACKAGES[new];
            exchange(&ledger, layer, &world.package(name, files), &[".=game:"], options).is_ok()
        }
    };
    prop_assert_eq!(done, fold(&wanted).is_some(), "{:?}", command);
    if done {
        *model = wanted;
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_disk_is_the_fold_of_base_and_layers(commands in prop::collection::vec(command(), 1..14)) {
        let world = World::with_game(&BASE);
        let before = world.tree();
        let mut model = Model::new();
        for command in &commands {
            run(&world, &mut model, command)?;
            prop_assert_eq!(files_of(&world), fold(&model).unwrap(), "after {:?}", command);
        }
        let report = world.check(true);
        prop_assert!(report.drifted.is_empty(), "{:?}", report.drifted);
        // The same stack made afresh is the same tree, spellings and times included.
        let fresh = World::with_game(&BASE);
        for (package, laid) in &model {
            if *laid {
                let (name, files) = PACKAGES[*package];
                let folder = fresh.package(name, files);
                add(&fresh.ledger(), &folder, &[".=game:"], Target::Top, ChangeOptions::default()).unwrap();
            }
        }
        prop_assert_eq!(as_spelled(&world), as_spelled(&fresh));
        let ledger = world.ledger();
        let all = ledger.layers().unwrap().iter().map(|layer| layer.id).collect();
        reorder(&ledger, &Reorder::Remove(all), ChangeOptions::default()).unwrap();
        prop_assert_eq!(world.tree(), before);
    }
}
