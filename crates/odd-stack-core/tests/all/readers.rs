//! What every reader must give alike: the same files from every format, in one pass, in bounded pieces.

use std::fs;
use std::io::{Cursor, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::archives::{
    FORMATS, Format, Thing, archive, file, folder, gzip, hard_link, link, seven, seven_with,
};
use crate::stored::stored;
use crate::world::{NOW, Thing as OnDisk, World, add_request, id, permit, reorder};
use odd_stack_core::change::ChangeOptions;
use odd_stack_core::jobs::AddError;
use odd_stack_core::jobs::steps::{inspect, prepare_add, show, stack};
use odd_stack_core::observer::{Observer, Silent};
use odd_stack_core::package::{Inner, Limits, NameEncoding, OpenOptions, Package, PackageError};
use proptest::prelude::*;
use sevenz_rust2::encoder_options::{DeltaOptions, EncoderOptions, Lzma2Options, PpmdOptions};
use sevenz_rust2::{EncoderConfiguration, EncoderMethod};

fn world() -> World {
    World::with_game(&[("game/data/a.txt", "base"), ("game/bin/tide.exe", "MZ")])
}

fn store(world: &World, name: &str, bytes: &[u8]) -> PathBuf {
    fs::create_dir_all(world.path("packages")).unwrap();
    let path = world.path("packages").join(name);
    fs::write(&path, bytes).unwrap();
    path
}

/// Bytes that pack to about half and never repeat.
fn noise(count: usize, seed: u32) -> Vec<u8> {
    let mut state = seed.wrapping_mul(2_654_435_761) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        b"0123456789abcdef"[(state >> 9) as usize % 16]
    };
    (0..count).map(|_| next()).collect()
}

/// All contents of a package by path.
fn contents(path: &Path, options: &OpenOptions) -> Result<Vec<(String, Vec<u8>)>, PackageError> {
    let package = Package::open(path, options, &Silent)?;
    let read = Mutex::new(Vec::new());
    let take = |content: usize, size_bytes: u64, bytes: &mut dyn Read| -> Result<(), PackageError> {
        let mut all = Vec::new();
        // What can't be read is told by whoever reads it.
        let _ = bytes.read_to_end(&mut all);
        assert!(all.len() as u64 <= size_bytes);
        read.lock().unwrap().push((content, all));
        Ok(())
    };
    let wanted: Vec<usize> = package.members().iter().map(|member| member.content).collect();
    package.read(&wanted, &take, &Silent)?;
    let read = read.into_inner().unwrap();
    let of =
        |content: usize| read.iter().find(|(number, _)| *number == content).map(|(_, bytes)| bytes.clone());
    let mut all: Vec<_> = package
        .members()
        .iter()
        .map(|member| {
            (
                member.path.to_string(),
                of(member.content).unwrap_or_else(|| panic!("{member:?} was not handed over")),
            )
        })
        .collect();
    all.sort();
    Ok(all)
}

fn everything(things: &[Thing]) -> Vec<Thing> {
    [folder("Lamps"), folder("Lamps/empty folder")].into_iter().chain(things.iter().cloned()).collect()
}

#[test]
fn every_format_makes_the_same_layer() {
    let big = noise(3 << 20, 1);
    let things = everything(&[
        file("Lamps/data/a.txt", "brass"),
        file("Lamps/data/none.txt", ""),
        file("Lamps/data/gr\u{fc}n \u{706f}.txt", "names"),
        file("Lamps/bin/big.pak", &big),
        file("Lamps/bin/again.txt", "brass"),
    ]);
    let mut first = None;
    for format in FORMATS {
        let world = world();
        world
            .add(&store(&world, &format!("lamps-1.0.{}", format.ending()), &archive(format, &things)), &[])
            .unwrap();
        // Times are as each format keeps them.
        let mut tree = world.tree();
        for thing in tree.values_mut() {
            if let OnDisk::File { modified, mode, .. } = thing {
                (*modified, *mode) = (filetime::FileTime::zero(), 0);
            }
        }
        tree.retain(|path, _| !path.contains(".oddstack"));
        assert!(tree.contains_key("game/empty folder"), "{format:?}");
        assert_eq!(&tree, first.get_or_insert_with(|| tree.clone()), "{format:?}");
        let ledger = world.ledger();
        let layer = show(&ledger, id(&ledger, "lamps"), &Silent).unwrap();
        assert_eq!((layer.layer.version.as_deref(), layer.entries.len()), (Some("1.0"), 5), "{format:?}");
    }
}

#[test]
fn links_become_copies_in_every_format_that_has_them() {
    for format in FORMATS {
        let mut things =
            vec![file("data/real.txt", "light"), link("data/soft.txt", "real.txt"), link("folder", "data")];
        if matches!(format, Format::Tar | Format::TarGz | Format::Rar5) {
            things.push(hard_link("other/hard.txt", "data/real.txt"));
        }
        let world = world();
        let path = store(&world, &format!("links.{}", format.ending()), &archive(format, &things));
        world.add(&path, &[".=game:"]).unwrap_or_else(|error| panic!("{format:?}: {error}"));
        let read = |path: &str| fs::read_to_string(world.path("game").join(path)).unwrap_or_default();
        assert_eq!(read("data/soft.txt"), "light", "{format:?}");
        assert_eq!(read("folder/real.txt"), "light", "{format:?}");
        if things.len() == 4 {
            assert_eq!(read("other/hard.txt"), "light", "{format:?}");
        }
    }
}

fn all_methods_of_7z() -> Vec<(&'static str, Vec<EncoderConfiguration>)> {
    let lzma2 = || EncoderConfiguration::from(EncoderMethod::LZMA2);
    let chunked = Lzma2Options::from_level_mt(1, 2, 1 << 18);
    let chunked =
        EncoderConfiguration::from(EncoderMethod::LZMA2).with_options(EncoderOptions::Lzma2(chunked));
    let delta = EncoderConfiguration::from(EncoderMethod::DELTA_FILTER)
        .with_options(EncoderOptions::Delta(DeltaOptions::from_distance(4)));
    let ppmd = EncoderConfiguration::from(EncoderMethod::PPMD)
        .with_options(EncoderOptions::Ppmd(PpmdOptions::from_level(3)));
    vec![
        ("copy", vec![EncoderMethod::COPY.into()]),
        ("lzma", vec![EncoderMethod::LZMA.into()]),
        ("lzma2", vec![lzma2()]),
        ("lzma2 in many units", vec![chunked]),
        ("bcj", vec![EncoderMethod::BCJ_X86_FILTER.into(), lzma2()]),
        ("delta", vec![delta, lzma2()]),
        ("ppmd", vec![ppmd]),
        ("bzip2", vec![EncoderMethod::BZIP2.into()]),
        ("deflate", vec![EncoderMethod::DEFLATE.into()]),
        ("zstd", vec![EncoderMethod::ZSTD.into()]),
    ]
}

#[test]
fn every_method_of_7z_is_read_in_one_block_and_in_several() {
    let world = world();
    for (name, methods) in all_methods_of_7z() {
        // Across the borders of units lie a small one and one bigger than is put together in memory.
        let sizes: [usize; 7] = match name.contains("units") {
            true => [300_000, 10, 500_000, 0, 4_400_000, 1, 300_000],
            false => [30_000, 10, 50_000, 0, 90_000, 1, 30_000],
        };
        let named = |number: usize| (format!("data/{number}.bin"), noise(sizes[number], number as u32 + 1));
        let wanted: Vec<_> = (0..sizes.len()).map(named).collect();
        let things: Vec<Thing> = wanted.iter().map(|(name, content)| file(name, content)).collect();
        let solid = seven_with(&things, &mut |writer| {
            writer.set_content_methods(methods.clone());
        });
        let path = store(&world, "methods.7z", &solid);
        assert_eq!(contents(&path, &OpenOptions::default()).unwrap(), wanted, "{name}");
        // Only what is asked for is handed over, the last and the first alike.
        let package = Package::open(&path, &OpenOptions::default(), &Silent).unwrap();
        for number in [0, 4, 6] {
            let member =
                package.members().iter().find(|member| member.path.name() == format!("{number}.bin"));
            let read = package.read_small(&[member.unwrap()], u64::MAX, &Silent).unwrap();
            assert_eq!(read[0], wanted[number].1, "{name} {number}");
        }
        let blocks = seven_with(&[], &mut |writer| {
            writer.set_content_methods(methods.clone());
            for (path, content) in &wanted {
                let entry = sevenz_rust2::ArchiveEntry::new_file(path);
                writer.push_archive_entry(entry, Some(Cursor::new(content.clone()))).unwrap();
            }
        });
        assert_eq!(
            contents(&store(&world, "blocks.7z", &blocks), &OpenOptions::default()).unwrap(),
            wanted,
            "{name}"
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(if cfg!(windows) { 3 } else { 12 }))]
    #[test]
    fn an_lzma2_stream_is_cut_anywhere_without_loss(
        sizes in proptest::collection::vec(1usize..700_000, 1..12),
        unit in 18u32..20,
    ) {
        let world = World::empty();
        let named = |number: usize| format!("{number:02}");
        let all: Vec<_> = sizes.iter().enumerate().map(|(n, size)| (named(n), noise(*size, n as u32 + 9))).collect();
        let things: Vec<Thing> = all.iter().map(|(name, content)| file(name, content)).collect();
        let options = EncoderOptions::Lzma2(Lzma2Options::from_level_mt(0, 1, 1 << unit));
        let bytes = seven_with(&things, &mut |writer| {
            writer.set_content_methods(vec![EncoderConfiguration::from(EncoderMethod::LZMA2).with_options(options.clone())]);
        });
        let path = store(&world, "units.7z", &bytes);
        prop_assert_eq!(contents(&path, &OpenOptions::default()).unwrap(), all);
    }
}

#[test]
fn damage_anywhere_is_found_by_every_reader_or_has_no_effect() {
    let world = world();
    let content = noise(9000, 5);
    let all = [("data/a.txt".to_owned(), content.clone()), ("data/b.txt".to_owned(), b"small".to_vec())];
    let things = [file("data/a.txt", &content), file("data/b.txt", "small")];
    for format in FORMATS {
        let whole = archive(format, &things);
        let (mut refused, mut harmless) = (0, 0);
        let mut judge = |bytes: &[u8], may_differ: bool, what: &str| {
            let path = store(&world, &format!("harm.{}", format.ending()), bytes);
            match contents(&path, &OpenOptions::default()) {
                Err(error) => {
                    assert!(error.to_string().contains("harm."), "{format:?}, {what}: {error}");
                    refused += 1;
                }
                Ok(found) => {
                    // A name, a time or a comment may differ; a content only where nothing guards it.
                    let known = |bytes: &Vec<u8>| all.iter().any(|(_, content)| content == bytes);
                    assert!(may_differ || found.iter().all(|(_, bytes)| known(bytes)), "{format:?}, {what}");
                    harmless += 1;
                }
            }
        };
        for cut in (0..whole.len()).step_by(whole.len() / 50) {
            // The zeros that end a tar are more than it needs.
            let is_end = format == Format::Tar && cut + 1024 >= whole.len();
            judge(&whole[..cut], is_end, &format!("cut at {cut}"));
        }
        for at in (0..whole.len()).step_by(whole.len() / 150) {
            let mut flipped = whole.clone();
            flipped[at] ^= 1 << (at % 8);
            judge(&flipped, format == Format::Tar, &format!("bit at {at}"));
        }
        assert!(refused > 50, "{format:?}: {refused} refused, {harmless} harmless");
    }
}

/// Counts what it is told, and stops when told to.
#[derive(Default)]
struct Counting {
    bytes: AtomicU64,
    questions: AtomicU64,
    stop_at: u64,
}

impl Observer for Counting {
    fn advance(&self, _files: u64, bytes: u64) {
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }
    fn is_cancelled(&self) -> bool {
        let asked = self.questions.fetch_add(1, Ordering::Relaxed);
        self.stop_at > 0 && asked >= self.stop_at
    }
}

#[test]
fn a_packed_tar_is_unpacked_once_and_what_is_not_placed_is_not_kept() {
    let world = world();
    let things: Vec<Thing> = (0..40).map(|n| file(format!("data/{n}.bin"), noise(20_000, n + 1))).collect();
    let bytes = archive(Format::TarGz, &things);
    let path = store(&world, "once.tar.gz", &bytes);
    let ledger = world.ledger();
    let counting = Counting::default();
    let mut request = add_request(&path, &[]);
    request.wanted.rules.only = vec!["data/1*.bin".into()];
    let right = permit(&ledger).unwrap();
    let adding =
        prepare_add(&ledger, right, &request, NOW, ChangeOptions::default(), false, &counting).unwrap();
    let read = counting.bytes.load(Ordering::Relaxed);
    assert!(read <= bytes.len() as u64, "{read} of {}", bytes.len());
    assert!(read > bytes.len() as u64 / 2, "{read}");
    adding.change.apply(&Silent).unwrap();
    assert_eq!(stored(ledger.folder()).len(), 11, "1 and 10 to 19");
    assert!(!ledger.folder().join("intake").exists());
}

#[test]
fn a_big_member_that_packs_well_is_no_bomb_and_absurd_headers_are_refused() {
    let world = world();
    let mut content = vec![0; 66 << 20];
    content[..1 << 20].copy_from_slice(&noise(1 << 20, 7));
    for format in [Format::TarZst, Format::TarGz] {
        let path = store(&world, "big", &archive(format, &[file("data/big.bin", &content)]));
        let package = Package::open(&path, &OpenOptions::default(), &Silent).unwrap();
        assert_eq!(package.size_bytes(), 66 << 20, "{format:?}");
        let long = archive(format, &[file(vec![b'n'; 5 << 20], "1")]);
        let error =
            Package::open(&store(&world, "long", &long), &OpenOptions::default(), &Silent).unwrap_err();
        assert!(error.to_string().contains("absurdly long"), "{format:?}: {error}");
    }
}

#[test]
fn what_stands_before_or_behind_an_archive_is_passed_over() {
    let world = world();
    let wanted = vec![("data/a.txt".to_owned(), b"brass".to_vec())];
    let things = [file("data/a.txt", "brass")];
    // As in a program that unpacks itself.
    let before = [b"MZ\x90\0 a program".to_vec(), archive(Format::Zip, &things)].concat();
    assert_eq!(contents(&store(&world, "self.exe", &before), &OpenOptions::default()).unwrap(), wanted);
    for format in [Format::TarGz, Format::TarBz2] {
        let behind = [archive(format, &things), b"signed by the harbour master".to_vec()].concat();
        assert_eq!(
            contents(&store(&world, "behind", &behind), &OpenOptions::default()).unwrap(),
            wanted,
            "{format:?}"
        );
    }
}

#[test]
fn names_are_read_in_the_code_page_that_is_said() {
    let world = world();
    // In this code page the second byte of the first sign is the one of a backslash.
    let things = [file(b"data/\x95\x5c.txt", "1")];
    let options = |label: &str| OpenOptions { names: NameEncoding::parse(label), ..OpenOptions::default() };
    for format in [Format::Zip, Format::Tar, Format::Rar4] {
        let mut bytes = archive(format, &things);
        if format == Format::Zip {
            // Without the flag that says UTF-8.
            for at in 0..bytes.len() - 9 {
                match &bytes[at..at + 4] {
                    b"PK\x03\x04" => bytes[at + 7] = 0,
                    b"PK\x01\x02" => bytes[at + 9] = 0,
                    _ => {}
                }
            }
        }
        let path = store(&world, "names", &bytes);
        let read = contents(&path, &options("shift_jis")).unwrap();
        assert_eq!(read[0].0, "data/\u{8868}.txt", "{format:?}");
        assert!(contents(&path, &options("utf-8")).is_err(), "{format:?}");
    }
    let path = store(&world, "plain", &archive(Format::Rar5, &[file("data/\u{8868}.txt", "1")]));
    assert_eq!(
        contents(&path, &options("gbk")).unwrap()[0].0,
        "data/\u{8868}.txt",
        "what is told goes before"
    );
}

/// A tar of one member whose name, records and kept bytes are given, and a plain one behind it.
fn tar_with_records(records: &[(&str, &[u8])], kept: &[u8]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    builder.append_pax_extensions(records.iter().copied()).unwrap();
    for (name, content) in [("data/GNUSparseFile.1/hole.bin", kept), ("data/plain.bin", b"plain")] {
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        header.set_cksum();
        builder.append_data(&mut header, name, content).unwrap();
    }
    builder.into_inner().unwrap()
}

#[test]
fn members_with_gaps_are_read_in_every_way_they_are_kept() {
    let world = world();
    let mut with_map = b"2\n4\n2\n9\n1\n".to_vec();
    with_map.resize(512, 0);
    with_map.extend(b"abc");
    let name = ("GNU.sparse.name", &b"data/hole.bin"[..]);
    type Kept<'k> = (&'k [(&'k str, &'k [u8])], &'k [u8], &'k str);
    let kinds: [Kept<'_>; 3] = [
        (
            &[name, ("GNU.sparse.major", b"1"), ("GNU.sparse.minor", b"0"), ("GNU.sparse.realsize", b"12")],
            &with_map,
            "data/hole.bin",
        ),
        (&[name, ("GNU.sparse.size", b"12"), ("GNU.sparse.map", b"4,2,9,1")], b"abc", "data/hole.bin"),
        (
            &[
                ("GNU.sparse.size", b"12"),
                ("GNU.sparse.offset", b"4"),
                ("GNU.sparse.numbytes", b"2"),
                ("GNU.sparse.offset", b"9"),
                ("GNU.sparse.numbytes", b"1"),
            ],
            b"abc",
            "data/GNUSparseFile.1/hole.bin",
        ),
    ];
    for (records, kept, name) in kinds {
        let plain = tar_with_records(records, kept);
        for (path, bytes) in [("gaps.tar", plain.clone()), ("gaps.tar.gz", gzip(&plain))] {
            let read = contents(&store(&world, path, &bytes), &OpenOptions::default()).unwrap();
            let wanted = [
                (name.to_owned(), b"\0\0\0\0ab\0\0\0c\0\0".to_vec()),
                ("data/plain.bin".into(), b"plain".to_vec()),
            ];
            assert_eq!(read, wanted, "{records:?} {path}");
        }
    }
    for size in ["18446744073709551616", "99999999999999999999999", "-1", "4 "] {
        let bytes = tar_with_records(&[("size", size.as_bytes())], b"hole");
        let error = contents(&store(&world, "size.tar", &bytes), &OpenOptions::default()).unwrap_err();
        assert!(
            matches!(error, PackageError::Member { .. } | PackageError::Broken { .. }),
            "{size}: {error}"
        );
    }
    let bytes = tar_with_records(&[("GNU.sparse.size", b"2000000000000"), ("GNU.sparse.map", b"4,2")], b"ab");
    let error = contents(&store(&world, "huge.tar", &bytes), &OpenOptions::default()).unwrap_err();
    assert!(matches!(error, PackageError::OverLimit { .. }), "{error}");
}

#[test]
fn rar_archives_are_read_packed_solid_and_in_volumes() {
    use rars::{ArchiveVersion, Builder};
    let world = world();
    let all: Vec<(String, Vec<u8>)> = (0..6)
        .map(|n| (format!("data/{n}.txt"), noise(40_000, n + 1).into_iter().chain(noise(9_000, 1)).collect()))
        .collect();
    for (version, is_solid) in [
        (ArchiveVersion::Rar29, false),
        (ArchiveVersion::Rar29, true),
        (ArchiveVersion::Rar50, false),
        (ArchiveVersion::Rar50, true),
        (ArchiveVersion::Rar70, false),
    ] {
        let filled = |mut builder: Builder, all: &[(String, Vec<u8>)]| {
            for (name, content) in all {
                builder.add_bytes(name.clone().into_bytes(), content.clone(), None, None).unwrap();
            }
            builder
        };
        let whole = filled(Builder::new(version).solid(is_solid), &all).to_bytes().unwrap();
        assert!(whole.len() < 200_000, "it is packed");
        let path = store(&world, "packed.rar", &whole);
        assert_eq!(contents(&path, &OpenOptions::default()).unwrap(), all, "{version:?} {is_solid}");
        // One of the middle alone, which a solid archive must unpack its way to.
        let package = Package::open(&path, &OpenOptions::default(), &Silent).unwrap();
        let middle = package.members().iter().find(|member| member.path.name() == "3.txt").unwrap();
        assert_eq!(package.read_small(&[middle], u64::MAX, &Silent).unwrap()[0], all[3].1);
        if is_solid {
            continue;
        }
        // The writer of old volumes takes one member.
        let all = if version == ArchiveVersion::Rar29 { &all[..1] } else { &all };
        let size = all.len() * 10_000;
        let parts = filled(Builder::new(version).volume_size(Some(size)), all).build_volumes(None).unwrap();
        assert!(parts.len() > 2);
        for (number, part) in parts.iter().enumerate() {
            store(&world, &format!("set.part{}.rar", number + 1), part);
        }
        let given = world.path("packages/set.part2.rar");
        assert_eq!(contents(&given, &OpenOptions::default()).unwrap(), all, "{version:?}");
        let last = format!("set.part{}.rar", parts.len());
        fs::remove_file(world.path("packages").join(&last)).unwrap();
        let error = contents(&given, &OpenOptions::default()).unwrap_err();
        assert!(
            matches!(&error, PackageError::MissingVolume { volume, .. } if volume.ends_with(&last)),
            "{error}"
        );
        for number in 1..parts.len() {
            fs::remove_file(world.path("packages").join(format!("set.part{number}.rar"))).unwrap();
        }
    }
}

#[test]
fn stopping_at_any_moment_leaves_all_as_it_was() {
    let things: Vec<Thing> = (0..12).map(|n| file(format!("data/{n}.bin"), noise(90_000, n + 1))).collect();
    for format in [Format::Zip, Format::SevenZ, Format::Tar, Format::TarZst, Format::Rar5] {
        let world = world();
        let path = store(&world, &format!("stop.{}", format.ending()), &archive(format, &things));
        let ledger = world.ledger();
        let before = (world.tree(), stack(&ledger).unwrap());
        let (mut stopped, mut at) = (0, 1);
        loop {
            let counting = Counting { stop_at: at, ..Counting::default() };
            let right = permit(&ledger).unwrap();
            let request = add_request(&path, &[]);
            match prepare_add(&ledger, right, &request, NOW, ChangeOptions::default(), false, &counting) {
                Err(AddError::Package(PackageError::Cancelled) | AddError::Change(_)) => stopped += 1,
                Err(other) => panic!("{format:?}: {other}"),
                Ok(adding) => {
                    drop(adding);
                    break;
                }
            }
            assert_eq!((world.tree(), stack(&ledger).unwrap()), before, "{format:?} at {at}");
            assert!(!ledger.folder().join("intake").exists());
            at += 3;
        }
        assert!(stopped > 3, "{format:?}: {stopped}");
    }
}

#[test]
fn split_archives_are_read_from_any_of_their_parts() {
    let world = world();
    let things = [file("data/x.bin", noise(50_000, 3)), file("data/y.txt", "y")];
    for format in [Format::Zip, Format::SevenZ, Format::TarGz] {
        let bytes = archive(format, &things);
        let names: Vec<String> = (1..=3).map(|part| format!("set.{}.{part:03}", format.ending())).collect();
        for (name, part) in names.iter().zip(bytes.chunks(bytes.len().div_ceil(3))) {
            store(&world, name, part);
        }
        for name in &names {
            let read = contents(&world.path("packages").join(name), &OpenOptions::default()).unwrap();
            assert_eq!(read[1], ("data/y.txt".to_owned(), b"y".to_vec()), "{name}");
        }
    }
    for (name, part) in
        ["old.z01", "old.z02", "old.zip"].iter().zip(segments(&archive(Format::Zip, &things), 20_000))
    {
        store(&world, name, &part);
    }
    for name in ["old.z01", "old.z02", "old.zip"] {
        let read = contents(&world.path("packages").join(name), &OpenOptions::default()).unwrap();
        assert_eq!(read[0].1, noise(50_000, 3), "{name}");
    }
    fs::remove_file(world.path("packages/old.z02")).unwrap();
    let gone = contents(&world.path("packages/old.zip"), &OpenOptions::default()).unwrap_err();
    assert!(
        matches!(&gone, PackageError::MissingVolume { volume, .. } if volume.ends_with("old.z02")),
        "{gone}"
    );
}

/// A zip archive cut as PKWARE APPNOTE 8 says: a mark at its start, and a directory that tells segments.
fn segments(zip: &[u8], size: usize) -> Vec<Vec<u8>> {
    let end = zip.len() - 22;
    let number = |at: usize| u32::from_le_bytes(zip[at..at + 4].try_into().unwrap()) as usize;
    let start = number(end + 16);
    let mut whole = [b"PK\x07\x08", &zip[..start]].concat();
    let place = |at: usize| ((at / size) as u16, (at % size) as u32);
    let moved_start = whole.len();
    let mut at = start;
    while at < end {
        let lengths =
            [28, 30, 32].map(|field| usize::from(zip[at + field]) + 256 * usize::from(zip[at + field + 1]));
        let next = at + 46 + lengths.iter().sum::<usize>();
        let mut entry = zip[at..next].to_vec();
        let (segment, within) = place(number(at + 42) + 4);
        entry[34..36].copy_from_slice(&segment.to_le_bytes());
        entry[42..46].copy_from_slice(&within.to_le_bytes());
        whole.extend(entry);
        at = next;
    }
    let mut record = zip[end..].to_vec();
    record[4..6].copy_from_slice(&place(whole.len()).0.to_le_bytes());
    record[6..8].copy_from_slice(&place(moved_start).0.to_le_bytes());
    record[16..20].copy_from_slice(&place(moved_start).1.to_le_bytes());
    whole.extend(record);
    whole.chunks(size).map(<[u8]>::to_vec).collect()
}

#[test]
fn archives_inside_are_listed_and_placed_however_they_lie_there() {
    let inner = seven(&[file("Pack/bin/hook.dll", "MZ"), file("Pack/readme.txt", "r")], EncoderMethod::LZMA2);
    let outer = [file("Wrap/inner.7z", &inner), file("Wrap/data/a.txt", "new")];
    let nested = archive(Format::TarGz, &[file("deep/wrap.zip", archive(Format::Zip, &outer))]);
    let packed = |format| (format!("wrap.{}", Format::ending(format)), archive(format, &outer));
    for (name, bytes) in FORMATS.map(packed) {
        let world = world();
        let path = store(&world, &name, &bytes);
        let report =
            inspect(&path, &Default::default(), &Limits::default(), Some(&world.ledger()), &Silent).unwrap();
        let listed: Vec<_> = report.members.iter().map(|member| member.path.as_str()).collect();
        assert!(listed.contains(&"Wrap/inner.7z!/Pack/bin/hook.dll"), "{name}: {listed:?}");
        assert_eq!(report.total.files, 2, "{name}");
        world.add(&path, &["inner.7z!/Pack/bin=game:bin", "data=game:data"]).unwrap();
        assert_eq!(fs::read_to_string(world.path("game/bin/hook.dll")).unwrap(), "MZ", "{name}");
        assert_eq!(fs::read_to_string(world.path("game/data/a.txt")).unwrap(), "new", "{name}");
    }
    let world = world();
    let path = store(&world, "nested.tar.gz", &nested);
    world.add(&path, &["wrap.zip!/Wrap/INNER.7z!/.=game:"]).unwrap();
    assert!(world.path("game/Pack/readme.txt").exists());
    let ledger = world.ledger();
    let entries = show(&ledger, id(&ledger, "nested"), &Silent).unwrap().entries;
    assert_eq!(entries[0].member, "deep/wrap.zip!/Wrap/inner.7z!/Pack/bin/hook.dll");
    reorder(&ledger, &odd_stack_core::jobs::Reorder::Remove(vec![id(&ledger, "nested")]), Default::default())
        .unwrap();
    let limits = Limits { most_files: 4, ..Limits::default() };
    let inner = Inner { unasked: true, ..Inner::default() };
    let options = OpenOptions { limits, inner, names: None };
    let package = Package::open(&path, &options, &Silent).unwrap();
    assert!(
        package.unopened().iter().any(|inner| inner.reason.contains("more than the limit")),
        "the whole counts"
    );
}

/// Counts how often it is asked whether to stop, and says so after so many times.
struct StopsAfter {
    asked: AtomicU64,
    most: u64,
}

impl Observer for StopsAfter {
    fn is_cancelled(&self) -> bool {
        self.asked.fetch_add(1, Ordering::Relaxed) >= self.most
    }
}

#[test]
fn links_of_a_solid_7z_are_read_in_one_pass_that_can_be_stopped() {
    let world = World::empty();
    let options = OpenOptions::default();
    for method in [EncoderMethod::LZMA2, EncoderMethod::BZIP2] {
        let open = |links: usize, most: u64| {
            let names: Vec<String> = (0..400).map(|number| format!("data/{number:03}")).collect();
            let things: Vec<Thing> = names
                .iter()
                .enumerate()
                .map(|(number, name)| match number % (400 / links) {
                    1 => link(name, "000"),
                    _ => file(name, noise(2000, number as u32)),
                })
                .collect();
            let path = store(&world, "links.7z", &seven(&things, method));
            let observer = StopsAfter { asked: AtomicU64::new(0), most };
            let opened = Package::open(&path, &options, &observer);
            (opened, observer.asked.into_inner())
        };
        let (few, many) = (open(10, u64::MAX), open(200, u64::MAX));
        for ((opened, _), links) in [(&few, 10), (&many, 200)] {
            let members = opened.as_ref().unwrap().members();
            let copies = members.iter().filter(|member| member.size_bytes == 2000).count();
            assert_eq!((members.len(), copies), (400, 400), "{links} links lead to the first");
        }
        // Each link asks a few times for itself; what is unpacked on the way to it is not unpacked for each.
        assert!(many.1 < few.1 + 10 * 200, "{} for 10 links, {} for 200", few.1, many.1);
        for most in [0, few.1 / 3, few.1 * 2 / 3] {
            assert!(matches!(open(10, most).0, Err(PackageError::Cancelled)), "stopped after {most}");
        }
    }
}
