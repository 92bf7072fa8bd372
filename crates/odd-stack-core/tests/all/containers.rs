//! Layers that change members of zip-based containers, on real files, against a model that unpacks and packs.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Cursor, Read, Write};
use std::path::PathBuf;

use filetime::FileTime;
use proptest::prelude::*;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use crate::failing::{fail_and_count, fail_everywhere_in};
use crate::faulty::Fault;
use crate::stored::stored_as;
use crate::world::{NOW, World, add, add_request, id, permit, reorder, settle};
use odd_stack_core::ContentHash;
use odd_stack_core::change::{ChangeError, ChangeOptions};
use odd_stack_core::fit::{Rules, Wishes};
use odd_stack_core::jobs::steps::{prepare_add, stack};
use odd_stack_core::jobs::{AddPlace, AddRequest, PlacingRequest, Reorder, Ruling};
use odd_stack_core::ledger::Ledger;
use odd_stack_core::observer::Silent;
use odd_stack_core::stack::Target;

pub type Members = BTreeMap<String, Vec<u8>>;

/// Packs members; what ends in `.bin` is stored, and the order is that of names.
pub fn packed(members: &Members) -> Vec<u8> {
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in members {
        let is_stored = name.ends_with(".bin") || name.ends_with(".zip");
        let method = if is_stored { CompressionMethod::Stored } else { CompressionMethod::Deflated };
        let options = SimpleFileOptions::default().compression_method(method);
        writer.start_file(name.as_str(), options.with_alignment(if is_stored { 64 } else { 0 })).unwrap();
        writer.write_all(content).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// The members, each by its name.
pub fn read(bytes: &[u8]) -> Members {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).unwrap();
    let mut members = Members::new();
    for at in 0..archive.len() {
        let mut member = archive.by_index(at).unwrap();
        let name = member.name().unwrap().into_owned();
        let mut content = Vec::new();
        member.read_to_end(&mut content).unwrap();
        members.insert(name, content);
    }
    members
}

/// All members, those of containers inside by their whole paths.
pub fn unpacked(bytes: &[u8]) -> Members {
    let mut members = Members::new();
    for (name, content) in read(bytes) {
        match name.ends_with(".zip") {
            true => {
                members.insert(format!("{name}!"), Vec::new());
                members
                    .extend(unpacked(&content).into_iter().map(|(path, it)| (format!("{name}!/{path}"), it)));
            }
            false => drop(members.insert(name, content)),
        }
    }
    members
}

const INI: [&str; 3] = ["fog", "glow", "sea"];

/// Settings with these values.
fn ini(values: [u8; 3]) -> Vec<u8> {
    let lines = INI.iter().zip(values).map(|(key, value)| format!("{key} = {value}\n"));
    lines.collect::<String>().into_bytes()
}

fn members(files: &[(&str, &[u8])]) -> Members {
    files.iter().map(|(name, content)| ((*name).to_owned(), content.to_vec())).collect()
}

fn inner() -> Members {
    members(&[("deep/x.txt", b"x of the game"), ("y.bin", &[5; 90])])
}

pub fn core() -> Members {
    let mut core = members(&[
        ("menu/title.txt", b"title of the game"),
        ("menu/help.txt", b"help of the game, of the game, of the game"),
        ("tex/a.bin", &[1; 300]),
        ("tex/b.bin", &[2; 200]),
    ]);
    core.insert("light.ini".into(), ini([1, 1, 1]));
    core.insert("in.zip".into(), packed(&inner()));
    core
}

fn with_container() -> World {
    world_of(&packed(&core()))
}

pub fn world_of(container: &[u8]) -> World {
    let world = World::empty();
    fs::create_dir_all(world.path("game/data")).unwrap();
    world.write("game/bin/quillhaven.exe", "program");
    fs::write(world.path("game/data/core.qpk"), container).unwrap();
    let time = FileTime::from_unix_time(1_700_000_001, 123_456_700);
    filetime::set_file_mtime(world.path("game/data/core.qpk"), time).unwrap();
    world.care(&world.request());
    world
}

/// What a layer of the model does.
#[derive(Debug, Clone)]
enum Does {
    /// Puts members, or takes them away.
    Inside(BTreeMap<&'static str, Option<u8>>),
    /// Brings another container.
    Whole(BTreeMap<&'static str, Option<u8>>),
}

const PLACES: [&str; 6] =
    ["menu/title.txt", "menu/new.txt", "tex/a.bin", "light.ini", "in.zip!/deep/x.txt", "in.zip!/new.txt"];

/// The content for a place; settings differ from the game's in one key each.
fn content(place: &str, number: u8) -> Vec<u8> {
    match place {
        "light.ini" => {
            let mut values = [1; 3];
            values[usize::from(number % 3)] = number + 2;
            ini(values)
        }
        _ => format!("{place} number {number}").into_bytes(),
    }
}

fn any_does() -> impl Strategy<Value = Does> {
    let place = proptest::sample::select(&PLACES[..]);
    let changes = proptest::collection::btree_map(place, proptest::option::weighted(0.8, 0..6u8), 1..4);
    (changes, proptest::bool::weighted(0.25)).prop_map(|(changes, whole)| match whole {
        true => Does::Whole(changes),
        false => Does::Inside(changes),
    })
}

#[derive(Debug, Clone)]
enum Deed {
    Add(Does),
    Lift(usize),
    Lay(usize),
    Top(usize),
    Remove(usize),
}

fn any_deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        3 => any_does().prop_map(Deed::Add),
        1 => (0..9usize).prop_map(Deed::Lift),
        1 => (0..9usize).prop_map(Deed::Lay),
        1 => (0..9usize).prop_map(Deed::Top),
        1 => (0..9usize).prop_map(Deed::Remove),
    ]
}

/// A container with changes made in it, by unpacking and packing.
fn changed(mut container: Members, changes: &BTreeMap<&'static str, Option<u8>>) -> Members {
    let mut inner = container.get("in.zip").map(|bytes| read(bytes));
    for (place, number) in changes {
        let into = match place.strip_prefix("in.zip!/") {
            Some(_) => inner.as_mut(),
            None => Some(&mut container),
        };
        let name = place.strip_prefix("in.zip!/").unwrap_or(place);
        let Some(into) = into else { continue };
        match number {
            Some(number) => drop(into.insert(name.to_owned(), content(place, *number))),
            None => drop(into.remove(name)),
        }
    }
    if let Some(inner) = inner {
        container.insert("in.zip".to_owned(), packed(&inner));
    }
    container
}

/// What the container holds under these layers, from the bottom to the top. Settings are put together key by key.
fn expected<'d>(laid: impl Iterator<Item = &'d Does>) -> Members {
    let mut container = core();
    let (mut light, mut has_base) = (Some([1; 3]), true);
    for does in laid {
        let (changes, is_whole) = match does {
            Does::Inside(changes) => (changes, false),
            Does::Whole(changes) => (changes, true),
        };
        container = changed(if is_whole { core() } else { container }, changes);
        if is_whole {
            (light, has_base) = (Some([1; 3]), true);
        }
        match changes.get("light.ini") {
            Some(None) => (light, has_base) = (None, false),
            Some(Some(number)) => {
                // Without the game's own to compare with, all that the upper one says counts.
                let mut values = light.filter(|_| has_base).unwrap_or([1; 3]);
                values[usize::from(number % 3)] = number + 2;
                light = Some(values);
            }
            None => {}
        }
    }
    match light {
        Some(values) => drop(container.insert("light.ini".to_owned(), ini(values))),
        None => drop(container.remove("light.ini")),
    }
    unpacked(&packed(&container))
}

/// Makes the package of a layer, and what is asked of it.
fn request(world: &World, name: &str, does: &Does) -> Option<AddRequest> {
    let (places, mut files, mut away) = (vec![".=data/core.qpk!/"], Vec::new(), Vec::new());
    let folder: PathBuf = world.path("packages").join(name);
    fs::create_dir_all(&folder).unwrap();
    let request = match does {
        Does::Whole(changes) => {
            fs::write(folder.join("core.qpk"), packed(&changed(core(), changes))).unwrap();
            return Some(add_request(&folder, &["core.qpk=data/core.qpk"]));
        }
        Does::Inside(changes) => {
            for (place, number) in changes {
                match number {
                    Some(number) => files.push((*place, content(place, *number))),
                    None => away.push(format!("data/core.qpk!/{place}")),
                }
            }
            add_request(&folder, &[])
        }
    };
    if files.is_empty() {
        return None;
    }
    for (place, content) in files {
        let path = folder.join(place);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, content).unwrap();
        // Packages are of different times.
        let time = 1_600_000_000 + 1000 * i64::from(*name.as_bytes().last().unwrap());
        filetime::set_file_mtime(&path, filetime::FileTime::from_unix_time(time, 0)).unwrap();
    }
    let rules = add_request(&folder, &places).wanted.rules;
    let said = Wishes { takes_away: away, ..Wishes::default() };
    let wanted = PlacingRequest { rules: Rules { said, ..rules }, sheet: None };
    Some(AddRequest { wanted, ..request })
}

fn add_layer(ledger: &Ledger, request: &AddRequest) {
    let options = ChangeOptions::default();
    let place = AddPlace::New { target: Some(Target::Top), lifted: false };
    let request = AddRequest { place, ..request.clone() };
    let adding =
        prepare_add(ledger, permit(ledger).unwrap(), &request, NOW, options, false, &Silent).unwrap();
    adding.change.apply(&Silent).unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if cfg!(windows) { 6 } else { 60 },
        failure_persistence: None,
        ..ProptestConfig::default()
    })]
    #[test]
    fn a_container_holds_what_unpacking_and_packing_would(
        deeds in proptest::collection::vec(any_deed(), 1..9),
    ) {
        let world = with_container();
        let original = world.tree();
        let path = world.path("game/data/core.qpk");
        let mut layers: Vec<(String, Does, bool)> = Vec::new();
        for (number, deed) in deeds.iter().enumerate() {
            let ledger = world.ledger();
            let at = |index: &usize| (!layers.is_empty()).then(|| index % layers.len());
            let turn = |reordered: Reorder| reorder(&ledger, &reordered, ChangeOptions::default()).unwrap();
            match deed {
                Deed::Add(does) => {
                    let name = format!("layer {}", char::from(b'a' + u8::try_from(number).unwrap()));
                    let Some(request) = request(&world, &name, does) else { continue };
                    // What is not there can't be taken away.
                    add_layer(&ledger, &request);
                    layers.push((name, does.clone(), true));
                }
                Deed::Lift(index) | Deed::Lay(index) => {
                    let Some(index) = at(index) else { continue };
                    let layer = vec![id(&ledger, &layers[index].0)];
                    let lays = matches!(deed, Deed::Lay(_));
                    turn(if lays { Reorder::Lay(layer) } else { Reorder::Lift(layer) });
                    layers[index].2 = lays;
                }
                Deed::Top(index) => {
                    let Some(index) = at(index) else { continue };
                    turn(Reorder::Move(id(&ledger, &layers[index].0), Target::Top));
                    let layer = layers.remove(index);
                    layers.push(layer);
                }
                Deed::Remove(index) => {
                    let Some(index) = at(index) else { continue };
                    turn(Reorder::Remove(vec![id(&ledger, &layers[index].0)]));
                    layers.remove(index);
                }
            }
            let laid = layers.iter().filter(|(.., laid)| *laid).map(|(_, does, _)| does);
            let now = fs::read(&path).unwrap();
            prop_assert_eq!(unpacked(&now), expected(laid), "after {:?}", deed);
            let drifted = world.check(true).drifted;
            prop_assert!(drifted.is_empty(), "{:?}", drifted);
            let counted = stack(&ledger).unwrap();
            let open: u64 = counted.layers.iter().map(|layer| layer.open_files).sum();
            prop_assert!(open == 0 || layers.len() > 1);
        }
        let ledger = world.ledger();
        let all = layers.iter().map(|(name, ..)| id(&ledger, name)).collect();
        reorder(&ledger, &Reorder::Lift(all), ChangeOptions::default()).unwrap();
        prop_assert_eq!(world.tree(), original);
    }
}

fn two_inside() -> World {
    let world = with_container();
    lay_two(&world);
    world
}

fn lay_two(world: &World) {
    let first =
        world.package("lamps", &[("menu/title.txt", "lamps"), ("light.ini", "fog = 7\nglow = 1\nsea = 1\n")]);
    world.add(&first, &[".=data/core.qpk!/"]).unwrap();
    let second = [("deep/x.txt", "x of fog"), ("light.ini", "fog = 1\nglow = 9\nsea = 1\n")];
    let second = world.package("fog", &second);
    world.add(&second, &["deep=data/core.qpk!/in.zip!/deep", "light.ini=data/core.qpk!/"]).unwrap();
    world.package("quays", &[("quays/q.txt", "q"), ("menu/help.txt", "help of quays")]);
}

fn add_inside(world: &World, ledger: &Ledger) -> bool {
    let places = [".=data/core.qpk!/"];
    add(ledger, &world.path("packages/quays"), &places, Target::Top, ChangeOptions::default()).is_ok()
}

fn lift_inside(_: &World, ledger: &Ledger) -> bool {
    reorder(ledger, &Reorder::Lift(vec![id(ledger, "lamps")]), ChangeOptions::default()).is_ok()
}

#[test]
fn a_container_is_as_before_or_as_asked_whatever_fails() {
    let faults = [Fault::Stop, Fault::Refuse, Fault::LoseAll, Fault::LoseSome(104_729)];
    for fault in faults.into_iter().take(if cfg!(windows) { 1 } else { 4 }) {
        fail_everywhere_in(&two_inside(), add_inside, fault, 0);
        fail_and_count(&two_inside(), lift_inside, fault, |_| 0);
    }
}

#[test]
fn who_wins_inside_can_be_settled() {
    let world = with_container();
    let title = |who: &str| world.package(who, &[("menu/title.txt", who)]);
    for who in ["lamps", "gulls"] {
        world.add(&title(who), &[".=data/core.qpk!/"]).unwrap();
    }
    let now = || unpacked(&fs::read(world.path("game/data/core.qpk")).unwrap())["menu/title.txt"].clone();
    assert_eq!(now(), b"gulls");
    let ledger = world.ledger();
    settle(&ledger, "data/core.qpk!/menu/title.txt", Ruling::With(id(&ledger, "lamps"))).unwrap();
    assert_eq!(now(), b"lamps");
    settle(&ledger, "data/core.qpk!/**", Ruling::Clear).unwrap();
    assert_eq!(now(), b"gulls");
}

/// What is made of the same is the same on every machine, byte for byte; the container was made by another writer.
#[test]
fn the_same_stack_gives_the_same_bytes() {
    let world = world_of(include_bytes!("../data/core.qpk"));
    lay_two(&world);
    let bytes = fs::read(world.path("game/data/core.qpk")).unwrap();
    let hash = ContentHash::of(&bytes).to_string();
    assert_eq!(hash, "02472b4318569f9c37c6f8ca15e909d10de58c5d286a7fff25cf9156f8fc7cab");
}

/// A container big enough for its parts' hashes to be kept is laid again as it was laid first, and its original, if damaged, never
/// taken for whole.
#[test]
fn a_big_container_is_laid_again_as_before() {
    let big = (0..17 << 20).map(|at| (at >> 12) as u8 ^ at as u8).collect::<Vec<_>>();
    let world =
        world_of(&packed(&members(&[("a.txt", b"a"), ("big.bin", &big), ("menu/title.txt", b"title")])));
    let ledger = world.ledger();
    let path = world.path("game/data/core.qpk");
    let original = fs::read(&path).unwrap();
    let title =
        world.package("title", &[("menu/title.txt", "another title, much longer than the first one was")]);
    world.add(&title, &[".=data/core.qpk!/"]).unwrap();
    let first = fs::read(&path).unwrap();
    let expected = members(&[
        ("a.txt", b"a"),
        ("big.bin", &big),
        ("menu/title.txt", b"another title, much longer than the first one was"),
    ]);
    assert_eq!(read(&first), expected);
    let layer = vec![id(&ledger, "title")];
    for _ in 0..2 {
        reorder(&ledger, &Reorder::Lift(layer.clone()), ChangeOptions::default()).unwrap();
        assert!(fs::read(&path).unwrap() == original);
        reorder(&ledger, &Reorder::Lay(layer.clone()), ChangeOptions::default()).unwrap();
        assert!(fs::read(&path).unwrap() == first);
    }
    let aside = fs::read_dir(ledger.folder().join("originals")).unwrap().next().unwrap().unwrap().path();
    let mut damaged = original.clone();
    damaged[1 << 20] ^= 1;
    fs::write(aside, damaged).unwrap();
    let other = world.package("other", &[("a.txt", "another")]);
    assert!(world.add(&other, &[".=data/core.qpk!/"]).is_err());
    assert!(fs::read(&path).unwrap() == first);
}

fn lay_both(_: &World, ledger: &Ledger) -> bool {
    let both = vec![id(ledger, "lamps"), id(ledger, "fog")];
    reorder(ledger, &Reorder::Lay(both), ChangeOptions::default()).is_ok()
}

/// What is stored of a member goes into no container unless it is what it was, wherever the member lies; it comes from its package
/// again where that is there.
#[test]
fn a_damaged_content_goes_into_no_container() {
    let world = two_inside();
    let path = world.path("game/data/core.qpk");
    let laid = fs::read(&path).unwrap();
    let damaged = |content: &str| {
        let ledger = world.ledger();
        let both = vec![id(&ledger, "lamps"), id(&ledger, "fog")];
        let _ = reorder(&ledger, &Reorder::Lift(both), ChangeOptions::default());
        stored_as(ledger.folder(), content).damage(content.to_uppercase().as_bytes());
    };
    damaged("lamps");
    for fault in [Fault::Stop, Fault::Refuse].into_iter().take(if cfg!(windows) { 1 } else { 2 }) {
        fail_and_count(&world, lay_both, fault, |_| 0);
        assert!(fs::read(&path).unwrap() == laid);
        damaged("x of fog");
    }
    let world = two_inside();
    let path = world.path("game/data/core.qpk");
    fs::remove_dir_all(world.path("packages")).unwrap();
    let ledger = world.ledger();
    let both = vec![id(&ledger, "lamps"), id(&ledger, "fog")];
    reorder(&ledger, &Reorder::Lift(both.clone()), ChangeOptions::default()).unwrap();
    let lifted = fs::read(&path).unwrap();
    for content in ["lamps", "x of fog"] {
        let stored = stored_as(ledger.folder(), content);
        stored.damage(content.to_uppercase().as_bytes());
        match reorder(&ledger, &Reorder::Lay(both.clone()), ChangeOptions::default()) {
            Err(ChangeError::ContentsLost { files }) => assert_eq!(files.len(), 1, "{files:?}"),
            other => panic!("a damaged content was laid: {other:?}"),
        }
        assert!(fs::read(&path).unwrap() == lifted);
        stored.damage(content.as_bytes());
    }
    reorder(&ledger, &Reorder::Lay(both), ChangeOptions::default()).unwrap();
    assert!(fs::read(&path).unwrap() == laid);
}

/// Layers that put or take away the same, removed one after the other: what remains is counted as if they had never been.
#[test]
fn what_counts_is_a_matter_of_what_is_laid_alone() {
    let whole = |without: &'static str| Does::Whole([(without, None)].into());
    let world = with_container();
    let does = [
        ("layer a", whole("light.ini")),
        ("layer b", Does::Inside([("light.ini", Some(0))].into())),
        ("layer c", whole("menu/title.txt")),
    ];
    for (name, does) in &does {
        add_layer(&world.ledger(), &request(&world, name, does).unwrap());
    }
    let ledger = world.ledger();
    for name in ["layer b", "layer a"] {
        reorder(&ledger, &Reorder::Remove(vec![id(&ledger, name)]), ChangeOptions::default()).unwrap();
    }
    let left = stack(&ledger).unwrap();
    let counts = left.layers.iter().map(|layer| (layer.wins_files, layer.contested_files, layer.open_files));
    assert_eq!(counts.collect::<Vec<_>>(), [(1, 0, 0)]);
}
