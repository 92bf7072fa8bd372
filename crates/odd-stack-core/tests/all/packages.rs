//! Zip archives as they really come, hostile and broken ones among them.

use std::fs::{self, File};
use std::io::{Cursor, Read, Write};
use std::path::PathBuf;

use odd_stack_core::jobs::AddError;
use odd_stack_core::jobs::steps::stack;
use odd_stack_core::observer::Silent;
use odd_stack_core::package::{Limits, OpenOptions, Package, PackageError};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use crate::stored::stored;
use crate::world::World;

fn harbour() -> World {
    World::with_game(&[("game/data/a.txt", "base"), ("docs/p", "p")])
}

/// An archive of members by name, each with a content.
fn zip(members: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in members {
        writer.start_file(*name, SimpleFileOptions::default()).unwrap();
        writer.write_all(content).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// Puts `name`, of the same length, in place of every `stand_in` in the archive.
fn renamed(mut archive: Vec<u8>, stand_in: &[u8], name: &[u8]) -> Vec<u8> {
    assert_eq!(stand_in.len(), name.len());
    let found: Vec<usize> =
        (0..archive.len() - name.len()).filter(|at| archive[*at..].starts_with(stand_in)).collect();
    assert_eq!(found.len(), 2, "once at the member, once in the directory");
    for at in found {
        archive[at..at + name.len()].copy_from_slice(name);
    }
    archive
}

fn store(world: &World, name: &str, bytes: &[u8]) -> PathBuf {
    fs::create_dir_all(world.path("packages")).unwrap();
    let path = world.path("packages").join(name);
    fs::write(&path, bytes).unwrap();
    path
}

/// Adding must fail and leave game and stack as they were, and no content behind.
fn refused(world: &World, path: &std::path::Path) -> PackageError {
    let before = (world.tree(), stack(&world.ledger()).unwrap());
    let error = world.add(path, &[]).unwrap_err();
    assert_eq!((world.tree(), stack(&world.ledger()).unwrap()), before, "{error}");
    assert_eq!(stored(world.ledger().folder()), [], "{error}");
    match error {
        AddError::Package(error) => error,
        other => panic!("{other}"),
    }
}

#[test]
fn every_hostile_name_is_refused() {
    let world = harbour();
    let names: &[&[u8]] = &[
        b"../evil.txt",
        b"a/../../ev.tx",
        b"/etc/evil.t",
        b"C:\\evil.txt",
        b"c:evil.txt",
        b"\\\\srv\\x\\e.t",
        b"..\\evil.txt",
        b"a\\..\\..\\e.t",
        b"a//evil.txt",
        b"a/./evil.tx",
        b"evil.txt:ads",
        b"NUL",
        b"data/con.txt",
        b"com1.log",
        b"evil.txt.",
        b"evil.txt ",
        b"dir./evil.t",
        b"ev\x07il.txt",
        b"ev\nil.txt",
        b"ev?il.txt",
        b"ev*il.txt",
        b"lpt9",
        b"aux.c",
        b"\\evil.txt",
        b"a|b",
        b"a<b>",
    ];
    for name in names {
        let stand_in = vec![b'Q'; name.len()];
        let archive = zip(&[(std::str::from_utf8(&stand_in).unwrap(), b"x"), ("zz/fine.txt", b"y")]);
        let path = store(&world, "hostile.zip", &renamed(archive, &stand_in, name));
        let error = refused(&world, &path);
        let PackageError::HostileName { package, name: told, .. } = &error else {
            panic!("{name:?}: {error}")
        };
        assert!(package.ends_with("hostile.zip") && !told.is_empty(), "{error}");
    }
    let long = format!("{}/x", "n".repeat(256));
    assert!(matches!(
        refused(&world, &store(&world, "long.zip", &zip(&[(&long, b"x")]))),
        PackageError::HostileName { .. }
    ));
    let deep = vec!["folder"; 160].join("/");
    assert!(matches!(
        refused(&world, &store(&world, "deep.zip", &zip(&[(&deep, b"x")]))),
        PackageError::HostileName { .. }
    ));
}

#[test]
fn clashes_inside_one_archive_are_refused() {
    let world = harbour();
    let case = zip(&[("data/A.txt", b"1"), ("DATA/a.TXT", b"2")]);
    assert!(matches!(refused(&world, &store(&world, "case.zip", &case)), PackageError::Duplicate { .. }));
    let form = zip(&[("caf\u{e9}", b"1"), ("cafe\u{301}", b"2")]);
    assert!(matches!(refused(&world, &store(&world, "form.zip", &form)), PackageError::Duplicate { .. }));
    let folder = zip(&[("data", b"1"), ("data/a.txt", b"2")]);
    assert!(matches!(
        refused(&world, &store(&world, "folder.zip", &folder)),
        PackageError::FileAgainstFolder { .. }
    ));
    let twice = renamed(zip(&[("aaaa.txt", b"1"), ("bbbb.txt", b"2")]), b"bbbb.txt", b"aaaa.txt");
    assert!(matches!(refused(&world, &store(&world, "twice.zip", &twice)), PackageError::Broken { .. }));
}

#[test]
fn absurd_sizes_are_refused_and_limits_can_be_set() {
    let world = harbour();
    let bomb = zip(&[("data/zeros.bin", &vec![0; 80 << 20])]);
    let path = store(&world, "bomb.zip", &bomb);
    assert!(matches!(refused(&world, &path), PackageError::OverLimit { .. }));
    let with = |text: &str| {
        let mut limits = Limits::default();
        limits.set(text).unwrap();
        Package::open(&path, &OpenOptions { limits, ..OpenOptions::default() }, &Silent)
    };
    assert!(with("ratio=100000").is_ok());
    let small = store(&world, "small.zip", &zip(&[("a", b"12345"), ("b", b"1")]));
    let with = |text: &str| {
        let mut limits = Limits::default();
        limits.set(text).unwrap();
        Package::open(&small, &OpenOptions { limits, ..OpenOptions::default() }, &Silent).map(drop)
    };
    assert!(matches!(with("bytes=5"), Err(PackageError::OverLimit { .. })));
    assert!(matches!(with("files=1"), Err(PackageError::OverLimit { .. })));
    assert!(with("bytes=6").is_ok());
    // A size that is declared smaller than the content is.
    let mut lying = zip(&[("data/liar.txt", &vec![7; 5000])]);
    let declared = 5000u32.to_le_bytes();
    let places: Vec<usize> = (0..lying.len() - 4).filter(|at| lying[*at..].starts_with(&declared)).collect();
    for at in places {
        lying[at..at + 4].copy_from_slice(&50u32.to_le_bytes());
    }
    refused(&world, &store(&world, "lying.zip", &lying));
}

#[test]
fn old_names_backslashes_and_missing_folders_are_read() {
    let world = harbour();
    let archive = zip(&[("data/XXXX.txt", b"old"), ("data/made/y.txt", b"y")]);
    // 0x81 is `ü` in code page 437, and not valid UTF-8.
    let archive = renamed(archive, b"data/XXXX.txt", b"data\\gr\x81n.txt");
    world.add(&store(&world, "old.zip", &archive), &[]).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/gr\u{fc}n.txt")).unwrap(), "old");
    assert_eq!(fs::read_to_string(world.path("game/data/made/y.txt")).unwrap(), "y");
}

#[test]
fn all_methods_are_read_alike() {
    let world = harbour();
    let bytes: Vec<u8> = (0..60_000u32).map(|n| (n / 7) as u8).collect();
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    let methods = [
        CompressionMethod::Stored,
        CompressionMethod::Deflated,
        CompressionMethod::Bzip2,
        CompressionMethod::Zstd,
        CompressionMethod::Xz,
        CompressionMethod::Ppmd,
    ];
    for method in methods {
        // Each also with the wide fields of zip64.
        for is_wide in [false, true] {
            let options = SimpleFileOptions::default().compression_method(method).large_file(is_wide);
            writer.start_file(format!("m/{method}-{is_wide}"), options).unwrap();
            writer.write_all(&bytes).unwrap();
        }
    }
    let path = store(&world, "methods.zip", &writer.finish().unwrap().into_inner());
    let package = Package::open(&path, &OpenOptions::default(), &Silent).unwrap();
    let count = std::sync::atomic::AtomicU64::new(0);
    let take = |_: usize, _: u64, content: &mut dyn Read| -> Result<(), PackageError> {
        let mut read = Vec::new();
        content.read_to_end(&mut read).unwrap();
        assert_eq!(read, bytes);
        count.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
        Ok(())
    };
    let wanted: Vec<usize> = package.members().iter().map(|member| member.content).collect();
    package.read(&wanted, &take, &Silent).unwrap();
    assert_eq!(count.into_inner(), 12);
}

#[test]
fn links_become_copies_and_links_out_stop_an_add() {
    let world = harbour();
    let make = |target: &str| {
        let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
        writer.start_file("data/real.txt", SimpleFileOptions::default()).unwrap();
        writer.write_all(b"real").unwrap();
        writer.add_symlink("data/alias.txt", target, SimpleFileOptions::default()).unwrap();
        writer.finish().unwrap().into_inner()
    };
    let out = store(&world, "out.zip", &make("../../../etc/passwd"));
    let before = world.tree();
    let AddError::LinksOut { links, .. } = world.add(&out, &[]).unwrap_err() else { panic!() };
    assert_eq!(links[0].target, "../../../etc/passwd");
    assert_eq!(world.tree(), before);
    world.add(&store(&world, "in.zip", &make("real.txt")), &[]).unwrap();
    let alias = world.path("game/data/alias.txt");
    assert!(!fs::symlink_metadata(&alias).unwrap().is_symlink());
    assert_eq!(fs::read_to_string(alias).unwrap(), "real");
}

#[test]
fn a_link_to_a_file_of_the_game_becomes_a_copy_of_it() {
    let world =
        World::with_game(&[("game/data/lamps/base.dds", "base"), ("game/data/lamps/other.dds", "other")]);
    world.write("game/data/lamps/base.dds", "now");
    let make = |target: &str, real: &str| {
        let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
        writer.start_file("w/data/lamps/real.dds", SimpleFileOptions::default()).unwrap();
        writer.write_all(real.as_bytes()).unwrap();
        writer.add_symlink("w/data/lamps/alias.dds", target, SimpleFileOptions::default()).unwrap();
        writer.finish().unwrap().into_inner()
    };
    let places = ["w/data=game:data"];
    for out in ["nothing.dds", "../../../docs/x", "../../../../x", "../lamps"] {
        let package = store(&world, "out.zip", &make(out, "real"));
        let error = world.add(&package, &places).unwrap_err();
        assert!(matches!(error, AddError::LinksOut { .. }), "{out}: {error}");
    }
    world.add(&store(&world, "to-game.zip", &make("../lamps/base.dds", "real")), &places).unwrap();
    let alias = world.path("game/data/lamps/alias.dds");
    assert_eq!(fs::read_to_string(&alias).unwrap(), "now", "as the game has it on disk");
    // What a layer covers is still the game's own file.
    let cover = world.package("cover", &[("other.dds", "covered")]);
    world.add(&cover, &["other.dds=game:data/lamps/other.dds"]).unwrap();
    world.add(&store(&world, "again.zip", &make("other.dds", "again")), &places).unwrap();
    assert_eq!(fs::read_to_string(&alias).unwrap(), "other");
}

#[cfg(unix)]
#[test]
fn links_and_pipes_in_a_folder() {
    use std::os::unix::fs::symlink;
    let world = harbour();
    let package = world.package("loose", &[("data/real.txt", "real")]);
    symlink("real.txt", package.join("data/alias.txt")).unwrap();
    symlink("/etc/hostname", package.join("data/out.txt")).unwrap();
    assert!(
        matches!(world.add(&package, &[]).unwrap_err(), AddError::LinksOut { links, .. } if links.len() == 1)
    );
    fs::remove_file(package.join("data/out.txt")).unwrap();
    world.add(&package, &[]).unwrap();
    assert_eq!(fs::read_to_string(world.path("game/data/alias.txt")).unwrap(), "real");
    let odd = world.package("odd", &[("x", "x")]);
    let socket = std::os::unix::net::UnixListener::bind(odd.join("socket")).unwrap();
    assert!(matches!(
        world.add(&odd, &[]),
        Err(AddError::Package(PackageError::NeitherFileNorFolder { .. }))
    ));
    drop(socket);
}

#[test]
fn what_is_no_package_is_said() {
    let world = harbour();
    let open = |path: &PathBuf| Package::open(path, &OpenOptions::default(), &Silent).map(drop);
    assert!(matches!(open(&world.path("packages/none.zip")), Err(PackageError::NotFound { .. })));
    let text = store(&world, "readme.zip", b"only a text that is called zip");
    assert!(matches!(open(&text), Err(PackageError::UnknownKind { .. })));
    let empty = store(&world, "empty.zip", &zip(&[]));
    assert!(matches!(world.add(&empty, &[]).unwrap_err(), AddError::Fit { .. }));
    let nothing = store(&world, "nothing.zip", b"");
    assert!(matches!(open(&nothing), Err(PackageError::UnknownKind { .. })));
    drop(File::open(text).unwrap());
}

#[cfg(unix)]
#[test]
fn times_and_what_may_be_run_come_from_the_archive() {
    use std::os::unix::fs::PermissionsExt;
    let world = World::with_game(&[("game/bin/old", "program"), ("game/data/a", "base")]);
    let time = zip::DateTime::from_date_and_time(2024, 5, 1, 10, 20, 30).unwrap();
    let options = SimpleFileOptions::default().last_modified_time(time);
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, mode) in [("bin/run", 0o755), ("bin/old", 0o644), ("data/a", 0o600)] {
        writer.start_file(name, options.unix_permissions(mode)).unwrap();
        writer.write_all(name.as_bytes()).unwrap();
    }
    let path = store(&world, "modes.zip", &writer.finish().unwrap().into_inner());
    world.add(&path, &[]).unwrap();
    let look = |path: &str| fs::metadata(world.path("game").join(path)).unwrap();
    assert_eq!(look("bin/run").permissions().mode() & 0o777, 0o755, "it says that it may be run");
    assert_eq!(look("data/a").permissions().mode() & 0o777, 0o644, "others must be able to read it");
    // 2024-05-01 10:20:30 UTC.
    let modified = look("data/a").modified().unwrap().duration_since(std::time::UNIX_EPOCH).unwrap();
    assert_eq!(modified.as_secs(), 1_714_558_830);
    assert!(world.check(false).drifted.is_empty());
}
