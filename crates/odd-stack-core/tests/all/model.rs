//! Any sequence of commands against a naive model: the tree on disk is the fold of base and layers.

use std::collections::{BTreeMap, BTreeSet};

use crate::world::{
    NOW, Thing, Tree, World, add, change_own, exchange, go_to, id, permit, reorder, settle, tweak,
};
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::jobs::steps::{
    conflicts, history, history_difference, prepare_switch, save_lineup, stack,
};
use odd_stack_core::jobs::{
    ConflictsRequest, GoTo, HistoryError, LineupError, OWN_EDITS, PairRow, Reorder, Ruling, Tweak,
};
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::ContestState;
use odd_stack_core::stack::{LayerId, Target};
use proptest::prelude::*;

const BASE: [(&str, &str); 5] = [
    ("game/data/Lamps/Brass.dds", "base"),
    ("game/data/lamps2/x", "x"),
    ("game/config.ini", "fog=1\ngulls=1\n"),
    ("game/bin/run", "run"),
    ("docs/profile/p.ini", "p"),
];

/// Packages that meet each other and the base in every way: contested, equal, new, other spellings; in new folders
/// settings that blend, with files beside them whose names are made from one another.
const PACKAGES: [(&str, &[(&str, &str)]); 6] = [
    (
        "alpha",
        &[
            ("data/lamps/brass.dds", "one"),
            ("new/Deep/a", "a"),
            ("top", "t"),
            ("quay/front.ini", "gulls=4\n"),
            ("quay/front", "no ending"),
            ("quay/front.blend", "a scene"),
            ("quay/front.ini.part", "a part"),
            ("quay/front.ini.new", "newer"),
        ],
    ),
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
            ("quay/front.ini", "gulls=5\n"),
            ("quay/front.tmp", "left over"),
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
    /// Who wins at the lamp: this one, or none for the order as it is.
    Settle(Option<usize>),
    Clear,
    LiftAll,
    LayAll,
    /// The person's own value of a key in a settings file; none drops all of them again.
    Tweak(usize, Option<u8>),
}

fn command() -> impl Strategy<Value = Command> {
    prop_oneof![
        4 => (0..PACKAGES.len(), 0..4usize).prop_map(|(package, at)| Command::Add(package, at)),
        2 => (0..PACKAGES.len()).prop_map(Command::Lift),
        2 => (0..PACKAGES.len()).prop_map(Command::Lay),
        2 => (0..PACKAGES.len(), 0..4usize).prop_map(|(layer, at)| Command::Move(layer, at)),
        1 => (0..PACKAGES.len()).prop_map(Command::Remove),
        2 => (0..PACKAGES.len(), 0..PACKAGES.len()).prop_map(|(old, new)| Command::Exchange(old, new)),
        2 => proptest::option::weighted(0.8, 0..PACKAGES.len()).prop_map(Command::Settle),
        1 => Just(Command::Clear),
        1 => Just(Command::LiftAll),
        1 => Just(Command::LayAll),
        2 => (0..SETTINGS.len(), proptest::option::weighted(0.8, 0..9u8)).prop_map(|(at, to)| Command::Tweak(at, to)),
    ]
}

/// A layer and what it has at the lamp.
type Side = (usize, &'static str);

/// Settings files; the first one is the game's own.
const SETTINGS: [&str; 2] = ["config.ini", "quay/front.ini"];

const LAMP: &str = "game/data/lamps/brass.dds";

/// One layer; `made` tells layers of one package apart that were made one after the other.
#[derive(Debug, Clone, Copy, PartialEq)]
struct ModelLayer {
    package: usize,
    laid: bool,
    made: usize,
}

/// Layers from the bottom to the top, and what a person said.
#[derive(Debug, Clone, Default)]
struct Model {
    layers: Vec<ModelLayer>,
    made: usize,
    /// The layers that met at the lamp, what each had there, and the winner.
    settled: Option<(Vec<Side>, Option<usize>)>,
    tweaks: [Option<u8>; SETTINGS.len()],
}

/// What a package has at the lamp.
fn lamp_of(package: usize) -> Option<&'static str> {
    let files = PACKAGES[package].1.iter();
    files
        .filter(|(path, _)| format!("game/{}", path.to_lowercase()) == LAMP)
        .map(|(_, content)| *content)
        .next()
}

impl Model {
    fn laid(&self) -> impl Iterator<Item = &ModelLayer> {
        self.layers.iter().filter(|layer| layer.laid)
    }

    /// The laid layers that have the lamp, the one that counts last.
    fn at_lamp(&self) -> Vec<(usize, &'static str)> {
        let mut laid: Vec<(usize, &str)> =
            self.laid().filter_map(|layer| Some((layer.made, lamp_of(layer.package)?))).collect();
        if let Some((sides, Some(winner))) = &self.settled
            && let Some(at) = laid.iter().position(|side| side.0 == *winner && sides.contains(side))
            && let Some(above) = laid.iter().rposition(|side| side.0 != *winner && sides.contains(side))
            && above > at
        {
            let side = laid.remove(at);
            laid.insert(above, side);
        }
        laid
    }
}

/// Files by path in lower case; `None` when a path would be both a file and a folder.
fn fold(model: &Model) -> Option<BTreeMap<String, String>> {
    let mut files: BTreeMap<String, String> =
        BASE.iter().map(|(path, content)| (path.to_lowercase(), (*content).to_owned())).collect();
    for layer in model.laid() {
        for (path, content) in PACKAGES[layer.package].1.iter().filter(|(path, _)| !SETTINGS.contains(path)) {
            files.insert(format!("game/{}", path.to_lowercase()), (*content).to_owned());
        }
    }
    if let Some((_, content)) = model.at_lamp().last() {
        files.insert(LAMP.to_owned(), (*content).to_owned());
    }
    for (at, file) in SETTINGS.iter().enumerate() {
        files.extend(blended(model, at).map(|content| (format!("game/{file}"), content)));
    }
    let clashes = files.keys().any(|file| files.keys().any(|other| other.starts_with(&format!("{file}/"))));
    (!clashes).then_some(files)
}

/// What the game itself has in a settings file.
fn own_settings(file: &str) -> Option<&'static str> {
    BASE.iter().find(|(path, _)| path.strip_prefix("game/") == Some(file)).map(|(_, content)| *content)
}

/// The naive blend: of each key the last value that is not the game's own. Nothing where nobody has the file.
fn blended(model: &Model, at: usize) -> Option<String> {
    let table = |content: &str| -> BTreeMap<String, String> {
        content.lines().filter_map(|line| line.split_once('=')).map(|(k, v)| (k.into(), v.into())).collect()
    };
    let own = own_settings(SETTINGS[at]);
    let base = table(own.unwrap_or_default());
    let mut values = base.clone();
    let of_layers = model.laid().flat_map(|layer| PACKAGES[layer.package].1);
    let of_layers: Vec<&str> =
        of_layers.filter(|(path, _)| *path == SETTINGS[at]).map(|(_, content)| *content).collect();
    for content in &of_layers {
        values.extend(table(content).into_iter().filter(|(key, value)| base.get(key) != Some(value)));
    }
    values.extend(model.tweaks[at].map(|value| ("gulls".to_owned(), value.to_string())));
    let is_there = own.is_some() || !of_layers.is_empty();
    is_there.then(|| values.iter().map(|(key, value)| format!("{key}={value}\n")).collect())
}

/// How many addresses two layers share, by state: same, blended, won, open.
type Counts = [u64; 4];

/// All pairs of laid layers with what they share, each pair asked on its own.
fn naive_pairs(model: &Model) -> BTreeMap<(String, String), Counts> {
    let laid: Vec<&ModelLayer> = model.laid().collect();
    let mut pairs = BTreeMap::new();
    for (at, upper) in laid.iter().enumerate() {
        for lower in &laid[..at] {
            let mut counts = Counts::default();
            for (path, content) in PACKAGES[upper.package].1 {
                let is_it = |(other, _): &&(&str, &str)| other.eq_ignore_ascii_case(path);
                let Some((_, beneath)) = PACKAGES[lower.package].1.iter().find(is_it) else { continue };
                let state = if content == beneath {
                    0
                } else if SETTINGS.contains(path) {
                    if key_clash(content, beneath, own_settings(path).unwrap_or_default()) { 3 } else { 1 }
                } else {
                    let sides = model.settled.as_ref().map(|(sides, _)| sides.as_slice()).unwrap_or_default();
                    let is_lamp = format!("game/{}", path.to_lowercase()) == LAMP;
                    let both = [upper, lower].iter().all(|layer| {
                        sides
                            .iter()
                            .any(|side| Some(side.1) == lamp_of(layer.package) && side.0 == layer.made)
                    });
                    if is_lamp && both { 2 } else { 3 }
                };
                counts[state] += 1;
            }
            if counts != Counts::default() {
                let name = |layer: &ModelLayer| PACKAGES[layer.package].0.to_owned();
                pairs.insert((name(upper), name(lower)), counts);
            }
        }
    }
    pairs
}

/// Whether two settings files change one key of the game's own to different values.
fn key_clash(one: &str, two: &str, own: &str) -> bool {
    let value = |text: &str, key: &str| {
        text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('=')).map(str::to_owned)
    };
    ["fog", "gulls", "sea"].iter().any(|key| {
        let (one, two, base) = (value(one, key), value(two, key), value(own, key));
        one != base && two != base && one != two
    })
}

fn pairs_found(world: &World) -> BTreeMap<(String, String), Counts> {
    let request = ConflictsRequest { all: true, ..ConflictsRequest::default() };
    let report = conflicts(&world.ledger(), &request).unwrap();
    // The tallies that the stack shows are kept up to date by differences; counted afresh they agree.
    for row in stack(&world.ledger()).unwrap().layers.iter().filter(|row| row.laid) {
        let of_layer = report.pairs.iter().filter(|pair| pair.upper == row.name || pair.lower == row.name);
        let open =
            of_layer.flat_map(|pair| &pair.contests).filter(|contest| contest.state == ContestState::Open);
        let open: BTreeSet<&str> = open.map(|contest| contest.address.as_str()).collect();
        assert_eq!(row.open_files, open.len() as u64, "{}", row.name);
    }
    let of_layers = report.pairs.into_iter().filter(|pair| pair.upper != OWN_EDITS);
    let row = |pair: PairRow| {
        let listed = pair.contests.len() as u64;
        let counts = [pair.same_files, pair.blended_files, pair.won_files, pair.open_files];
        assert_eq!(listed, counts.iter().sum::<u64>(), "all are listed");
        ((pair.upper, pair.lower), counts)
    };
    of_layers.map(row).collect()
}

fn files_of(world: &World) -> BTreeMap<String, String> {
    let files = world.tree().into_iter().filter_map(|(path, thing)| match thing {
        Thing::File { content, .. } => Some((path.to_lowercase(), String::from_utf8(content).unwrap())),
        Thing::Folder => None,
    });
    files.collect()
}

/// Files that differ between two trees are just those told; of files that are told and are alike one is as the game has it,
/// or settings came out the same.
fn differing_as_told(one: &Tree, two: &Tree, told: &[String]) -> Result<(), TestCaseError> {
    let files = |tree: &Tree| -> BTreeMap<String, Vec<u8>> {
        let files = tree.iter().filter_map(|(path, thing)| match thing {
            Thing::File { content, .. } => Some((path.to_lowercase(), content.clone())),
            Thing::Folder => None,
        });
        files.collect()
    };
    let (one, two) = (files(one), files(two));
    let told: BTreeSet<String> =
        told.iter().map(|address| address.replacen(':', "/", 1).to_lowercase()).collect();
    for path in one.keys().chain(two.keys()).filter(|path| one.get(*path) != two.get(*path)) {
        prop_assert!(told.contains(path), "{} differs, told: {:?}", path, told);
    }
    let base: BTreeSet<String> = BASE.iter().map(|(path, _)| path.to_lowercase()).collect();
    for path in told.iter().filter(|path| one.get(*path) == two.get(*path)) {
        prop_assert!(path.ends_with(".ini") || base.contains(path), "{} does not differ", path);
    }
    Ok(())
}

/// The whole tree. On Windows without regard to case: a rename that changes only case does nothing in
/// Wine, where these tests run.
fn as_spelled(world: &World) -> Tree {
    let fold = |path: String| if cfg!(windows) { path.to_lowercase() } else { path };
    world.tree().into_iter().map(|(path, thing)| (fold(path), thing)).collect()
}

fn target(at: usize, others: &[(usize, LayerId)]) -> Target {
    others.get(at).map_or(Target::Top, |(_, layer)| Target::Below(*layer))
}

/// Does the command in the world and the model; the model only where the world accepts it.
fn run(world: &World, model: &mut Model, command: &Command) -> Result<(), TestCaseError> {
    let ledger = world.ledger();
    let options = ChangeOptions::default();
    let ids: Vec<(usize, LayerId)> =
        model.layers.iter().map(|layer| (layer.package, id(&ledger, PACKAGES[layer.package].0))).collect();
    let find = |package: usize| ids.iter().find(|(other, _)| *other == package).map(|(_, layer)| *layer);
    let mut wanted = model.clone();
    let layers = &mut wanted.layers;
    let at_of =
        |layers: &[ModelLayer], package: usize| layers.iter().position(|layer| layer.package == package);
    let done = match *command {
        Command::Add(package, at) => {
            if find(package).is_some() {
                return Ok(());
            }
            wanted.made += 1;
            layers.insert(at.min(layers.len()), ModelLayer { package, laid: true, made: wanted.made });
            let (name, files) = PACKAGES[package];
            // A file beside the folder, so that a lone folder is not taken for a wrapper.
            let folder = world.package(name, files);
            add(&ledger, &folder, &[".=game:"], target(at, &ids), options).is_ok()
        }
        Command::Lift(package) | Command::Lay(package) => {
            let Some(layer) = find(package) else { return Ok(()) };
            let laid = matches!(command, Command::Lay(_));
            layers.iter_mut().filter(|layer| layer.package == package).for_each(|layer| layer.laid = laid);
            let change = if laid { Reorder::Lay(vec![layer]) } else { Reorder::Lift(vec![layer]) };
            reorder(&ledger, &change, options).is_ok()
        }
        Command::Move(package, at) => {
            let Some(layer) = find(package) else { return Ok(()) };
            let moved = layers.remove(at_of(layers, package).unwrap());
            layers.insert(at.min(layers.len()), moved);
            let others: Vec<_> = ids.iter().copied().filter(|(other, _)| *other != package).collect();
            reorder(&ledger, &Reorder::Move(layer, target(at, &others)), options).is_ok()
        }
        Command::Remove(package) => {
            let Some(layer) = find(package) else { return Ok(()) };
            layers.retain(|layer| layer.package != package);
            reorder(&ledger, &Reorder::Remove(vec![layer]), options).is_ok()
        }
        Command::Exchange(old, new) => {
            let Some(layer) = find(old).filter(|_| old == new || find(new).is_none()) else { return Ok(()) };
            wanted.made += 1;
            let at = at_of(layers, old).unwrap();
            let was = layers[at].made;
            (layers[at].package, layers[at].made) = (new, wanted.made);
            // It is a side in the old one's stead, with what that one had.
            let of = |made: usize| if made == was { wanted.made } else { made };
            if let Some((sides, winner)) = &mut wanted.settled {
                sides.iter_mut().for_each(|side| side.0 = of(side.0));
                *winner = winner.map(of);
            }
            let (name, files) = PACKAGES[new];
            exchange(&ledger, layer, &world.package(name, files), &[".=game:"], options).is_ok()
        }
        Command::Settle(winner) => {
            let sides = model.at_lamp();
            let contested = sides.iter().any(|side| side.1 != sides[0].1);
            let winner = winner.map(|package| {
                let layer = model.layers.iter().find(|layer| layer.package == package);
                (layer.map(|layer| layer.made), find(package))
            });
            let ruling = match winner {
                Some((_, None)) => return Ok(()),
                Some((_, Some(layer))) => Ruling::With(layer),
                None => Ruling::KeepOrder,
            };
            let made = winner.and_then(|(made, _)| made);
            let is_side = made.is_none_or(|made| sides.iter().any(|side| side.0 == made));
            let settled = settle(&ledger, "data/lamps/brass.dds", ruling).is_ok();
            prop_assert_eq!(settled, contested && is_side, "{:?} among {:?}", command, sides);
            if settled {
                wanted.settled = Some((sides, made));
            }
            true
        }
        Command::Clear => {
            let cleared = settle(&ledger, "data/lamps/brass.dds", Ruling::Clear).is_ok();
            prop_assert_eq!(cleared, model.settled.is_some());
            wanted.settled = None;
            true
        }
        Command::LiftAll | Command::LayAll => {
            let laid = matches!(command, Command::LayAll);
            layers.iter_mut().for_each(|layer| layer.laid = laid);
            let all = ids.iter().map(|(_, layer)| *layer).collect();
            let change = if laid { Reorder::Lay(all) } else { Reorder::Lift(all) };
            reorder(&ledger, &change, options).is_ok()
        }
        Command::Tweak(at, Some(value)) => {
            let is_there = blended(model, at).is_some();
            if is_there {
                wanted.tweaks[at] = Some(value);
            }
            let done = tweak(&ledger, SETTINGS[at], &[("gulls", Some(&value.to_string()))]).is_ok();
            prop_assert_eq!(done, is_there, "{:?}", command);
            true
        }
        Command::Tweak(_, None) => {
            wanted.tweaks = Default::default();
            change_own(&ledger, &Tweak::DropAll).is_ok()
        }
    };
    prop_assert_eq!(done, fold(&wanted).is_some(), "{:?}", command);
    if done {
        *model = wanted;
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(windows) { 6 } else { 24 }, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_disk_is_the_fold_of_base_and_layers(commands in prop::collection::vec(command(), 1..14)) {
        let world = World::with_game(&BASE);
        let before = world.tree();
        let mut model = Model::default();
        for command in &commands {
            run(&world, &mut model, command)?;
            prop_assert_eq!(files_of(&world), fold(&model).unwrap(), "after {:?}", command);
            prop_assert_eq!(pairs_found(&world), naive_pairs(&model), "after {:?}", command);
        }
        let report = world.check(true);
        prop_assert!(report.drifted.is_empty(), "{:?}", report.drifted);
        // The same stack made afresh is the same tree, spellings and times included.
        let fresh = World::with_game(&BASE);
        for layer in model.laid() {
            let (name, files) = PACKAGES[layer.package];
            let folder = fresh.package(name, files);
            add(&fresh.ledger(), &folder, &[".=game:"], Target::Top, ChangeOptions::default()).unwrap();
        }
        for (file, value) in SETTINGS.iter().zip(model.tweaks) {
            if let Some(value) = value {
                // Where nothing lies there is nothing to set.
                let _ = tweak(&fresh.ledger(), file, &[("gulls", Some(&value.to_string()))]);
            }
        }
        let winner = model.at_lamp().last().map(|(made, _)| *made);
        if let Some(winner) = model.laid().find(|layer| Some(layer.made) == winner) {
            let winner = id(&fresh.ledger(), PACKAGES[winner.package].0);
            // Where nothing is contested there is nothing to settle.
            let _ = settle(&fresh.ledger(), "data/lamps/brass.dds", Ruling::With(winner));
        }
        prop_assert_eq!(as_spelled(&world), as_spelled(&fresh));
        let ledger = world.ledger();
        let all = ledger.layers().unwrap().iter().map(|layer| layer.id).collect();
        reorder(&ledger, &Reorder::Remove(all), ChangeOptions::default()).unwrap();
        prop_assert_eq!(world.tree(), before);
    }
}

/// What there is to see of a state of the stack: files, layers, how often each pair meets.
type Seen = (Tree, Vec<(String, bool)>, BTreeMap<(String, String), Counts>);

fn seen(world: &World) -> Seen {
    let layers = world.ledger().layers().unwrap();
    let layers = layers.into_iter().map(|layer| (layer.about.name, layer.laid)).collect();
    (as_spelled(world), layers, pairs_found(world))
}

/// Step by step back to the beginning, forth again, and straight to any of it and back.
fn history_leads_everywhere(commands: &[Command], jump: usize) -> Result<(), TestCaseError> {
    let world = World::with_game(&BASE);
    let mut model = Model::default();
    let mut states = vec![(0, seen(&world))];
    for command in commands {
        run(&world, &mut model, command)?;
        let present = history(&world.ledger()).unwrap().present;
        if states.iter().all(|(known, _)| *known != present) {
            states.push((present, seen(&world)));
        }
    }
    for pair in [[0, states.len() - 1], [jump % states.len(), states.len() / 2]] {
        let [(from, (one, ..)), (to, (two, ..))] = pair.map(|at| &states[at]);
        let difference = history_difference(&world.ledger(), *from, *to).unwrap();
        let told = difference.files.unwrap().into_iter();
        differing_as_told(one, two, &told.map(|file| file.address).collect::<Vec<_>>())?;
    }
    for (_, state) in states.iter().rev().skip(1) {
        go_to(&world.ledger(), &GoTo::Before(1)).unwrap();
        prop_assert_eq!(&seen(&world), state, "back");
    }
    let is_at_the_beginning =
        matches!(go_to(&world.ledger(), &GoTo::Before(1)), Err(HistoryError::NothingBefore { there: 0 }));
    prop_assert!(is_at_the_beginning);
    for (_, state) in states.iter().skip(1) {
        go_to(&world.ledger(), &GoTo::Again).unwrap();
        prop_assert_eq!(&seen(&world), state, "forth");
    }
    let (last, target) = (states.len() - 1, jump % states.len());
    if target != last {
        go_to(&world.ledger(), &GoTo::Revision(states[target].0)).unwrap();
        prop_assert_eq!(&seen(&world), &states[target].1, "straight to {}", target);
        go_to(&world.ledger(), &GoTo::Before(1)).unwrap();
        prop_assert_eq!(&seen(&world), &states[last].1, "and back");
    }
    prop_assert!(world.check(true).drifted.is_empty());
    Ok(())
}

#[test]
fn histories_that_went_wrong_once() {
    history_leads_everywhere(&[Command::Add(0, 0), Command::Add(1, 0), Command::Exchange(0, 5)], 0).unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(windows) { 6 } else { 24 }, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_history_leads_to_every_state_that_there_was(
        commands in prop::collection::vec(command(), 1..10),
        jump in 0..10usize,
    ) {
        history_leads_everywhere(&commands, jump)?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(windows) { 6 } else { 24 }, failure_persistence: None, ..ProptestConfig::default() })]

    /// Each lineup that was saved on the way gives the game that it was saved from, whatever came in between, in any order.
    #[test]
    fn a_lineup_gives_the_game_that_it_was_saved_from(
        commands in prop::collection::vec(command(), 1..10),
        switches in prop::collection::vec(0..10usize, 1..5),
    ) {
        let world = World::with_game(&BASE);
        let mut model = Model::default();
        let mut trees = Vec::new();
        // Lineups follow new versions on purpose.
        let commands = commands.iter().filter(|command| !matches!(command, Command::Exchange(..)));
        for (at, command) in commands.enumerate() {
            run(&world, &mut model, command)?;
            save_lineup(&world.ledger(), &permit(&world.ledger()).unwrap(), &format!("after {at}"), NOW).unwrap();
            trees.push(as_spelled(&world));
        }
        for at in switches.into_iter().map(|at| at % trees.len().max(1)).filter(|at| *at < trees.len()) {
            let (ledger, name) = (world.ledger(), format!("after {at}"));
            match prepare_switch(&ledger, permit(&ledger).unwrap(), (&name, None), NOW, ChangeOptions::default(), &Silent) {
                Ok(switching) => drop(switching.change.apply(&Silent).unwrap()),
                Err(LineupError::IsSo { .. }) => {}
                Err(error) => prop_assert!(false, "{error}"),
            }
            prop_assert_eq!(&as_spelled(&world), &trees[at], "{}", name);
            prop_assert!(world.check(true).drifted.is_empty());
        }
    }
}
