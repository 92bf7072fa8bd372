//! Containers of many kinds, changed and read again by another reader.

use std::collections::BTreeMap;
use std::io::{Cursor, Read, Write};

use proptest::prelude::*;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::*;
use crate::address::{Folding, RelPath};
use crate::files::Block;
use crate::hash::ContentHash;

struct Given(Vec<Vec<u8>>);

impl Contents for Given {
    fn open(&self, content: usize) -> std::io::Result<Box<dyn Read + '_>> {
        Ok(Box::new(self.0[content].as_slice()))
    }
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

/// What another reader makes of it.
fn read_all(bytes: &[u8]) -> BTreeMap<String, Vec<u8>> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).unwrap();
    let mut found = BTreeMap::new();
    for at in 0..archive.len() {
        let mut member = archive.by_index(at).unwrap();
        let mut content = Vec::new();
        member.read_to_end(&mut content).unwrap();
        found.insert(member.name().unwrap().into_owned(), content);
    }
    found
}

fn changed(old: &[u8], changes: &[(&str, Option<&[u8]>)]) -> Result<Vec<u8>, NotContainer> {
    let mut file = Cursor::new(old);
    let directory = Directory::read(&mut file, Folding::Folded)?;
    let given = Given(changes.iter().map(|(_, content)| content.unwrap_or_default().to_vec()).collect());
    let changes: Vec<Change> = changes
        .iter()
        .enumerate()
        .map(|(content, (name, put))| match put {
            Some(put) => {
                let size_bytes = put.len() as u64;
                Change::Put { path: path(name), size_bytes, modified: 1_600_000_000, content }
            }
            None => Change::Remove { path: path(name) },
        })
        .collect();
    let layout = lay_out(&mut file, &directory, &changes, &given, Folding::Folded)?;
    let [mut new, mut unchecked, mut known] = [Vec::new(), Vec::new(), Vec::new()];
    let mut tree = None;
    for (turn, into) in [&mut new, &mut unchecked, &mut known].into_iter().enumerate() {
        let write = |blocks: &mut dyn Iterator<Item = Block>| {
            for block in blocks {
                let same = |bytes: usize| &old[into.len()..into.len() + bytes];
                let bytes = match &block {
                    Block::New(bytes) => bytes,
                    Block::InPlace(bytes) => {
                        assert_eq!(&bytes[..], same(bytes.len()));
                        bytes
                    }
                    Block::Unread(bytes) => same(*bytes as usize),
                };
                into.extend_from_slice(bytes);
            }
            Ok(())
        };
        let known = match (turn, &tree) {
            (0, _) => Old::Hashed,
            (2, Some(tree)) => Old::Known(tree),
            _ => Old::Unchecked,
        };
        let hashes = rebuild(Cursor::new(old), &layout, &given, known, write)?;
        assert_eq!(hashes.old, (turn == 0).then(|| ContentHash::of(old)));
        assert_eq!(hashes.new, ContentHash::of(into));
        tree = tree.or(hashes.old_tree);
    }
    assert_eq!(new.len() as u64, layout.size_bytes);
    assert!(new == unchecked && new == known);
    Ok(new)
}

/// How a container is written.
#[derive(Debug, Clone)]
struct Way {
    aligned: u16,
    streamed: bool,
    large: bool,
    stub: usize,
    comment: bool,
}

fn any_way() -> impl Strategy<Value = Way> {
    (prop_oneof![Just(0u16), Just(64), Just(4096)], any::<bool>(), any::<bool>(), 0..40usize, any::<bool>())
        .prop_map(|(aligned, streamed, large, stub, comment)| Way { aligned, streamed, large, stub, comment })
}

fn written(members: &BTreeMap<String, (Vec<u8>, bool)>, way: &Way) -> Vec<u8> {
    fn fill<W: Write + std::io::Seek>(
        mut writer: ZipWriter<W>,
        members: &BTreeMap<String, (Vec<u8>, bool)>,
        way: &Way,
    ) {
        for (name, (content, is_stored)) in members {
            let method = if *is_stored { CompressionMethod::Stored } else { CompressionMethod::Deflated };
            let options = SimpleFileOptions::default().compression_method(method).large_file(way.large);
            writer.start_file(name.as_str(), options.with_alignment(way.aligned)).unwrap();
            writer.write_all(content).unwrap();
        }
        if way.comment {
            writer.set_comment("PK\u{5}\u{6} is how its end begins").unwrap();
        }
        writer.finish().unwrap();
    }
    let mut bytes = Cursor::new(Vec::new());
    match way.streamed {
        // Sizes come behind the contents then.
        true => {
            let mut streamed = Vec::new();
            let mut writer = ZipWriter::new_stream(&mut streamed);
            for (name, (content, is_stored)) in members {
                let method = if *is_stored { CompressionMethod::Stored } else { CompressionMethod::Deflated };
                let options = SimpleFileOptions::default().compression_method(method).large_file(way.large);
                writer.start_file(name.as_str(), options).unwrap();
                writer.write_all(content).unwrap();
            }
            writer.finish().unwrap();
            bytes = Cursor::new(streamed);
        }
        false => fill(ZipWriter::new(&mut bytes), members, way),
    }
    let mut whole = vec![b'#'; way.stub];
    whole.extend(bytes.into_inner());
    whole
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    /// The naive model: a map of names. What is not touched keeps its packed bytes and its place within pages.
    #[test]
    fn a_changed_container_holds_what_a_map_would(
        members in proptest::collection::btree_map("[a-c]{1,2}(/[a-c]{1,2})?\\.(txt|bin)", (proptest::collection::vec(0..4u8, 0..300), any::<bool>()), 1..8),
        extra in proptest::collection::btree_map("(new/)?[d-f]{1,3}\\.(txt|bin)", proptest::option::of(proptest::collection::vec(any::<u8>(), 0..300)), 0..4),
        touched in proptest::collection::vec(proptest::option::of(proptest::option::of(proptest::collection::vec(0..9u8, 0..200))), 8),
        way in any_way(),
    ) {
        let old = written(&members, &way);
        let mut model: BTreeMap<String, Vec<u8>> =
            members.iter().map(|(name, (content, _))| (name.clone(), content.clone())).collect();
        let mut changes: Vec<(&str, Option<&[u8]>)> = Vec::new();
        for (name, change) in members.keys().zip(&touched) {
            let Some(change) = change else { continue };
            changes.push((name, change.as_deref()));
            match change {
                Some(content) => drop(model.insert(name.clone(), content.clone())),
                None => drop(model.remove(name)),
            }
        }
        for (name, content) in &extra {
            changes.push((name, content.as_deref()));
            if let Some(content) = content {
                model.insert(name.clone(), content.clone());
            }
        }
        let new = changed(&old, &changes).unwrap();
        prop_assert_eq!(read_all(&new), model.clone());
        prop_assert_eq!(&new, &changed(&old, &changes).unwrap());
        let folding = Folding::Folded;
        let (before, after) = (
            Directory::read(&mut Cursor::new(&old), folding).unwrap(),
            Directory::read(&mut Cursor::new(&new), folding).unwrap(),
        );
        prop_assert_eq!(&before.comment, &after.comment);
        prop_assert_eq!(before.versions_64.is_some(), after.versions_64.is_some());
        for member in &before.members {
            let key = folding.key(member.path.as_str());
            let is_touched = changes.iter().any(|(name, _)| folding.key(name) == key);
            let (Some(now), false) = (after.find(&key), is_touched) else { continue };
            let data = |bytes: &[u8], member: &Packed| {
                let at = read::data_at(&mut Cursor::new(bytes), member).unwrap();
                (at.trailing_zeros().min(12), bytes[at as usize..(at + member.packed_bytes) as usize].to_vec())
            };
            let (one, two) = (data(&old, member), data(&new, now));
            prop_assert_eq!(&one.1, &two.1);
            if member.method == 0 && member.size_bytes > 0 {
                prop_assert!(two.0 >= one.0);
            }
        }
        for member in after.members.iter().filter(|member| !member.is_folder) {
            let mut content = Vec::new();
            open_member(Cursor::new(&new), &after, member).unwrap().read_to_end(&mut content).unwrap();
            prop_assert_eq!(&content, &model[member.path.as_str()]);
        }
    }

    /// Where little changes, what is not touched stays where it is; and where members follow each other without a gap, as those
    /// need who read them without the directory, they still do, however much goes.
    #[test]
    fn what_stays_keeps_its_place_and_no_gap_is_left(
        sizes in proptest::collection::vec((prop_oneof![Just(0), 1..4_000usize], any::<bool>(), proptest::option::weighted(0.3, proptest::option::of(0..5_000usize))), 1..7),
        big_at in 0..7usize, has_big in any::<bool>(), way in any_way(),
    ) {
        let content = |seed: usize, bytes: usize| -> Vec<u8> {
            let mut state = seed as u32 + 1;
            let next = |_| { state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223); (state >> 24) as u8 };
            (0..bytes).map(next).collect()
        };
        let mut members = BTreeMap::new();
        let (mut model, mut changes) = (BTreeMap::new(), Vec::new());
        for (at, (bytes, is_stored, change)) in sizes.iter().enumerate() {
            let name = format!("m{at}.dat");
            members.insert(name.clone(), (content(at, *bytes), *is_stored));
            match change {
                None => drop(model.insert(name, content(at, *bytes))),
                Some(change) => {
                    let change = change.map(|bytes| content(at + 100, bytes));
                    model.extend(change.clone().map(|put| (name.clone(), put)));
                    changes.push((name, change));
                }
            }
        }
        if has_big {
            let name = format!("m{big_at}b.dat");
            members.insert(name.clone(), (content(99, 600_000), true));
            model.insert(name, content(99, 600_000));
        }
        let old = written(&members, &way);
        let changes: Vec<_> = changes.iter().map(|(name, put)| (name.as_str(), put.as_deref())).collect();
        let new = changed(&old, &changes).unwrap();
        prop_assert_eq!(&read_all(&new), &model);
        let directory = |bytes: &[u8]| Directory::read(&mut Cursor::new(bytes), Folding::Folded).unwrap();
        let (before, after) = (directory(&old), directory(&new));
        let lie = |bytes: &[u8], directory: &Directory| spans::spans(&mut Cursor::new(bytes), directory).unwrap();
        let seamless = |bytes: &[u8], directory: &Directory| {
            let mut next = directory.shift;
            lie(bytes, directory).iter().all(|span| std::mem::replace(&mut next, span.ends_at) == span.starts_at)
        };
        prop_assert!(seamless(&old, &before));
        prop_assert!(seamless(&new, &after) || after.members.is_empty());
        if has_big {
            let key = |member: &Packed| Folding::Folded.key(member.path.as_str());
            let now: BTreeMap<_, _> =
                lie(&new, &after).iter().map(|span| (key(&after.members[span.member]), span.data_at)).collect();
            for span in lie(&old, &before) {
                let member = &before.members[span.member];
                if !changes.iter().any(|(name, _)| *name == member.path.as_str()) {
                    prop_assert_eq!(now.get(&key(member)), Some(&span.data_at));
                }
            }
        }
    }

    /// Whatever is done to a container's bytes, reading and changing it ends, and with an error or a file.
    #[test]
    fn damage_is_refused_or_harmless(at in 0..400usize, to in any::<u8>(), cut in 0..60usize) {
        let members = BTreeMap::from([
            ("a.txt".to_owned(), (b"one one one one one".to_vec(), false)),
            ("b/c.bin".to_owned(), (vec![7; 40], true)),
        ]);
        let way = Way { aligned: 0, streamed: false, large: false, stub: 0, comment: false };
        let mut old = written(&members, &way);
        let place = at % old.len();
        old[place] = to;
        old.truncate(old.len() - cut.saturating_sub(40));
        let _ = changed(&old, &[("b/c.bin", Some(b"new"))]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    /// Those that are worth threads, with what is known of them and without.
    #[test]
    fn a_big_container_is_what_it_would_be_in_one_piece(
        replaced in proptest::collection::vec((0..40usize, proptest::option::of(0..200_000usize)), 1..4), stub in 0..3usize,
    ) {
        let content = |at: usize, bytes: usize| -> Vec<u8> { (0..bytes).map(|n| ((n * (at + 3)) >> 3) as u8).collect() };
        let members: BTreeMap<_, _> =
            (0..40).map(|at| (format!("m{at:02}.dat"), (content(at, 70_000 + at * 1000), at % 3 > 0))).collect();
        let mut model: BTreeMap<String, Vec<u8>> =
            members.iter().map(|(name, (content, _))| (name.clone(), content.clone())).collect();
        let way = Way { aligned: 0, streamed: false, large: false, stub: stub * 1000, comment: true };
        let replaced: BTreeMap<String, Option<Vec<u8>>> = replaced.into_iter()
            .map(|(at, bytes)| (format!("m{at:02}.dat"), bytes.map(|bytes| content(at + 50, bytes)))).collect();
        for (name, put) in &replaced {
            model.remove(name);
            model.extend(put.clone().map(|put| (name.clone(), put)));
        }
        let changes: Vec<_> = replaced.iter().map(|(name, put)| (name.as_str(), put.as_deref())).collect();
        prop_assert_eq!(read_all(&changed(&written(&members, &way), &changes).unwrap()), model);
    }
}

#[test]
fn names_folders_and_spellings() {
    let mut bytes = Cursor::new(Vec::new());
    let mut writer = ZipWriter::new(&mut bytes);
    let options = SimpleFileOptions::default();
    writer.add_directory("Menu", options).unwrap();
    writer.add_directory("Sign", options).unwrap();
    for name in ["Menu/Title.txt", "Sign/one.sf"] {
        writer.start_file(name, options).unwrap();
        writer.write_all(name.as_bytes()).unwrap();
    }
    writer.finish().unwrap();
    let old = bytes.into_inner();
    let new =
        changed(&old, &[("menu/title.TXT", Some(b"x")), ("MENU/new.txt", Some(b"y")), ("sign/ONE.sf", None)]);
    let names: Vec<String> = read_all(&new.unwrap()).into_keys().collect();
    assert_eq!(names, ["Menu/", "Menu/Title.txt", "Menu/new.txt"]);
}

#[test]
fn what_is_no_container_is_refused() {
    let of =
        |bytes: &[u8]| Directory::read(&mut Cursor::new(bytes), Folding::Folded).unwrap_err().to_string();
    assert_eq!(of(b""), "it is no zip-based container");
    assert_eq!(of(&[0; 5000]), "it is no zip-based container");
    let way = Way { aligned: 0, streamed: false, large: false, stub: 0, comment: false };
    let written = |names: [&str; 2]| {
        let members = names.map(|name| (name.to_owned(), (b"content".to_vec(), true)));
        written(&BTreeMap::from(members), &way)
    };
    assert_eq!(of(&written(["a.txt", "A.TXT"])), "A.TXT and a.txt in it have the same name");
    assert!(of(&written(["a.txt", "../b.txt"])).contains("is not one that a file can have"));
    // Both records lead to the first one's bytes.
    let mut shared = written(["a.txt", "b.txt"]);
    let second = shared.windows(5).rposition(|bytes| bytes == b"b.txt").unwrap();
    shared[second - 4..second].copy_from_slice(&[0; 4]);
    assert!(of(&shared).contains("share the same packed bytes"));
}
