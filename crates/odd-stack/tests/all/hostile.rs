//! Hostile and broken packages, every kind of reader crossed with every kind of harm. Each is refused
//! with the archive, the member and the reason, and game and home stay as they were, byte for byte.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::time::SystemTime;

use crate::archives::{FORMATS, Format, Thing, archive, file, folder, gzip, hard_link, link, rar5_locked};
use crate::sandbox::{Sandbox, some};

/// One package and how it must be refused.
struct Case {
    /// File name and bytes of each of its files; the first is added.
    files: Vec<(String, Vec<u8>)>,
    options: &'static str,
    status: i32,
    /// What the error must say, beside the file's name.
    words: Vec<String>,
}

fn case(name: String, bytes: Vec<u8>, words: &[&str]) -> Case {
    let words = words.iter().map(|&word| word.to_owned()).collect();
    Case { files: vec![(name, bytes)], options: "", status: 1, words }
}

impl Case {
    fn with(self, options: &'static str) -> Self {
        Self { options, ..self }
    }

    fn undecided(self) -> Self {
        Self { status: 4, ..self }
    }
}

/// Names that no package may have, and why.
const NAMES: [(&[u8], &str); 11] = [
    (b"../evil.txt", "steps out of its folder"),
    (b"data/../../evil.txt", "steps out of its folder"),
    (b"..\\evil.txt", "steps out of its folder"),
    (b"/etc/evil.txt", "absolute path"),
    (b"C:\\evil.txt", "names a drive"),
    (b"\\\\quay\\share\\evil.txt", "network (UNC) path"),
    (b"data/nul.txt", "device name"),
    (b"data/a.txt:hidden", "hidden stream"),
    (b"data/be\x07ll.txt", "control character U+0007"),
    (b"data/end. ", "ends with a dot or a space"),
    (b"data/what?.txt", "which Windows refuses"),
];

fn named(format: Format, what: &str) -> String {
    format!("{what}.{}", format.ending())
}

fn hostile_names(format: Format) -> Vec<Case> {
    // Every packed tar reads names as the plain one does; one of them stands for the others.
    let names =
        if matches!(format, Format::TarBz2 | Format::TarXz | Format::TarZst) { &NAMES[..1] } else { &NAMES };
    let of_name = |(index, (name, reason)): (usize, &(&[u8], &str))| {
        let things = [file("fine.txt", "fine"), file(name, "evil")];
        let shown = String::from_utf8_lossy(name).into_owned();
        case(named(format, &format!("name{index}")), archive(format, &things), &[&escaped(&shown), reason])
    };
    names.iter().enumerate().map(of_name).collect()
}

/// As names are shown in messages; the separators of this test's output are all `/`.
fn escaped(name: &str) -> String {
    let shown = format!("{name:?}");
    if cfg!(windows) { shown.replace("\\\\", "/").replace('\\', "/") } else { shown }
}

fn clashes(format: Format) -> Vec<Case> {
    let of = |what: &str, things: &[Thing], words: &[&str]| {
        case(named(format, what), archive(format, things), words)
    };
    let mut cases = vec![
        of(
            "case",
            &[file("data/A.txt", "1"), file("DATA/a.TXT", "2")],
            &["data/A.txt", "DATA/a.TXT", "one name"],
        ),
        of("clash", &[file("data", "1"), file("data/a.txt", "2")], &["as a file and"]),
        of("clash2", &[file("data/a.txt", "1"), file("data", "2")], &["as a file and"]),
        of("empty", &[], &["none of the package's files is placed"]),
        of("folders", &[folder("data"), folder("data/more")], &["none of the package's files is placed"]),
        of(
            "count",
            &[file("a", "1"), file("b", "2"), file("c", "3")],
            &["files and folders", "--limit files="],
        )
        .with("--limit files=2"),
        of("bytes", &[file("a", "12345")], &["5 bytes", "--limit bytes="]).with("--limit bytes=4"),
        of("long", &[file(format!("data/{}", "n".repeat(256)), "1")], &["longer than 255"]),
    ];
    let twice = [file("data/a.txt", "1"), file("data/a.txt", "2")];
    // The reader of zip archives finds these before the gate does.
    let words: &[&str] =
        if format == Format::Zip { &["very same name"] } else { &["data/a.txt", "one name"] };
    cases.push(of("twice", &twice, words));
    cases
}

fn links(format: Format) -> Vec<Case> {
    let mut things = vec![];
    for target in ["../../etc/passwd", "/etc/passwd", "C:\\evil"] {
        things.push(link("data/out", target));
        if matches!(format, Format::Tar | Format::TarGz | Format::Rar5) {
            things.push(hard_link("data/out", target));
        }
    }
    let of_thing = |(index, thing): (usize, Thing)| {
        let archive = archive(format, &[file("data/a.txt", "1"), thing]);
        case(named(format, &format!("link{index}")), archive, &["data/out", "--skip-links"]).undecided()
    };
    things.into_iter().enumerate().map(of_thing).collect()
}

fn invalid_text(format: Format) -> Option<Case> {
    // 7z keeps UTF-16, and version 4 of rar an unknown code page, in which all bytes mean something.
    if matches!(format, Format::SevenZ | Format::Rar4) {
        return None;
    }
    let bytes = archive(format, &[file(b"data/\xff\xfe.txt", "1")]);
    Some(case(named(format, "text"), bytes, &["not valid text"]))
}

fn damage(format: Format) -> Vec<Case> {
    let content: Vec<u8> = (0..6000u32).flat_map(|number| (number * number).to_le_bytes()).collect();
    let things = [file("data/a.bin", &content), file("data/b.txt", "small")];
    let whole = archive(format, &things);
    let mut cases = Vec::new();
    for part in 1..8 {
        let cut = whole.len() * part / 8;
        cases.push(case(named(format, &format!("cut{part}")), whole[..cut].to_vec(), &[]));
    }
    // In the middle of the first content's packed bytes.
    let mut flipped = whole.clone();
    flipped[whole.len() / 2] ^= 0x10;
    // A plain tar has no checksum of its contents.
    if format != Format::Tar {
        cases.push(case(named(format, "flip"), flipped, &[]));
    }
    if matches!(format, Format::Zip | Format::Rar4 | Format::Rar5) {
        let wrong = |thing: Thing, what: &str, words: &[&str]| {
            case(named(format, what), archive(format, &[file("ok.txt", "ok"), thing]), words)
        };
        let shown = file("data/a.txt", "four");
        cases.push(wrong(Thing { checksum: Some(7), ..shown.clone() }, "sum", &["data/a.txt", "checksum"]));
        cases.push(wrong(Thing { size: Some(9), ..shown.clone() }, "longer", &["data/a.txt"]));
        cases.push(wrong(Thing { size: Some(2), ..shown.clone() }, "shorter", &["data/a.txt"]));
        cases.push(wrong(Thing { is_encrypted: true, ..shown }, "locked", &["data/a.txt", "is encrypted"]));
    }
    cases
}

/// Unpacks to much more than it is, or says that it does.
fn bombs(format: Format) -> Vec<Case> {
    if matches!(format, Format::Tar) {
        return vec![];
    }
    let words = ["times its size", "--limit ratio="];
    let told = |size: u64| Thing { size: Some(size), ..file("data/a.bin", "0") };
    match format {
        Format::Zip | Format::Rar4 | Format::Rar5 => {
            vec![case(named(format, "bomb"), archive(format, &[told(3 << 30)]), &words)]
        }
        _ => vec![case(
            named(format, "bomb"),
            archive(format, &[file("data/a.bin", vec![0; 66 << 20])]),
            &words,
        )],
    }
}

fn odd_ones() -> Vec<Case> {
    let things = [file("data/a.txt", "1")];
    let mut cases = vec![
        // One file each, of which one hides its name too; no cipher is built in that could make them here.
        case(
            "sealed.7z".into(),
            include_bytes!("../data/sealed.7z").to_vec(),
            &["the list of what is", "is encrypted"],
        ),
        case(
            "locked.7z".into(),
            include_bytes!("../data/locked.7z").to_vec(),
            &["data/a.txt", "is encrypted"],
        ),
        case("sealed.rar".into(), rar5_locked(), &["the list of what is", "is encrypted"]),
        case("nothing.zip".into(), vec![], &["an empty file"]),
        case("page.7z".into(), b"<!DOCTYPE html><p>Try again".to_vec(), &["a page"]),
        case("noise.rar".into(), (0..4000u32).map(|n| ((n * n) >> 3) as u8).collect(), &["something else"]),
        case("setup.zip".into(), b"MZ\x90\0\x03".to_vec(), &["a program"]),
        case("notes.txt".into(), b"only notes\n".to_vec(), &["a text"]),
        case("single.gz".into(), gzip(b"a letter home, and no archive at all"), &["a single packed file"]),
    ];
    let [first, second, third] = [1, 2, 3].map(|part| format!("split.7z.00{part}"));
    let whole = archive(
        Format::SevenZ,
        &[file("data/a.bin", (0..3000u32).flat_map(u32::to_be_bytes).collect::<Vec<_>>())],
    );
    let (one, two) = whole.split_at(whole.len() / 3);
    let (two, three) = two.split_at(two.len() / 2);
    let set = |files: Vec<(&String, &[u8])>, missing: &str| Case {
        files: files.into_iter().map(|(name, bytes)| (name.clone(), bytes.to_vec())).collect(),
        options: "",
        status: 1,
        words: vec![missing.to_owned(), "is missing".to_owned()],
    };
    cases.push(set(vec![(&first, one), (&third, three)], &second));
    cases.push(set(vec![(&second, two), (&third, three)], &first));
    cases.push(set(vec![(&first, one), (&second, two)], &third));
    let mut nested = archive(Format::Zip, &things);
    for depth in 0..5 {
        nested = archive(Format::Zip, &[file(format!("in{depth}.zip"), nested)]);
    }
    let into = "--place in4.zip!/in3.zip!/in2.zip!/in1.zip!/.=game:";
    cases.push(case("deep.zip".into(), nested.clone(), &["4 deep", "--limit depth=4"]).with(into));
    let wrapped = |inner: Vec<u8>| archive(Format::Zip, &[file("inner.7z", inner)]);
    let unpack = "--place inner.7z!/.=game:";
    let mut evil = archive(Format::SevenZ, &[file("../evil.txt", "1")]);
    cases.push(case("wraps1.zip".into(), wrapped(evil.clone()), &["inner.7z", "steps out"]).with(unpack));
    evil.truncate(evil.len() - 9);
    cases.push(case("wraps2.zip".into(), wrapped(evil), &["inner.7z", "is damaged"]).with(unpack));
    cases.push(
        case("wraps3.zip".into(), wrapped(b"no archive".to_vec()), &["inner.7z", "a text"]).with(unpack),
    );
    cases.push(case("wraps4.zip".into(), wrapped(b"no archive".to_vec()), &["only wraps"]).undecided());
    cases
}

/// Every file below the folder with its bytes and time.
fn bytes_of(folder: &Path) -> BTreeMap<String, (Vec<u8>, SystemTime)> {
    let mut all = BTreeMap::new();
    let mut waiting = vec![folder.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                waiting.push(path);
            } else if path.file_name().is_some_and(|name| name != "lock") {
                let modified = path.metadata().unwrap().modified().unwrap();
                all.insert(path.display().to_string(), (fs::read(&path).unwrap(), modified));
            }
        }
    }
    all
}

fn refuse_all(cases: Vec<Case>) -> usize {
    let sandbox = Sandbox::with_game();
    let everything = || {
        let mut all = bytes_of(&sandbox.path("game"));
        all.extend(bytes_of(&sandbox.path("home")));
        all
    };
    let before = everything();
    for case in some(&cases, 5) {
        fs::create_dir_all(sandbox.path("packages")).unwrap();
        for (name, bytes) in &case.files {
            fs::write(sandbox.path("packages").join(name), bytes).unwrap();
        }
        let name = &case.files[0].0;
        let line = format!("add packages/{name} {}", case.options);
        let ran = sandbox.run_words(&line.split_whitespace().collect::<Vec<_>>());
        assert!(!ran.stderr.contains("panicked"), "{}", ran.stderr);
        let ran = ran.status(case.status);
        for words in case.words.iter().chain([name]) {
            assert!(ran.stderr.contains(words), "{name}: `{words}` is not in\n{}", ran.stderr);
        }
        let after = everything();
        let changed = |(path, bytes): &(&String, &(Vec<u8>, SystemTime))| before.get(*path) != Some(*bytes);
        let changed: Vec<&String> = after.iter().filter(changed).map(|(path, _)| path).collect();
        assert!(changed.is_empty() && after.len() == before.len(), "{name}: {changed:?} changed");
        fs::remove_dir_all(sandbox.path("packages")).unwrap();
    }
    sandbox.run("stack").status(0).says("0 layers");
    cases.len()
}

#[test]
fn hostile_names_clashes_and_links_are_refused_by_every_reader() {
    let of = |format| {
        let cases = hostile_names(format).into_iter().chain(clashes(format)).chain(links(format));
        cases.chain(invalid_text(format)).collect::<Vec<_>>()
    };
    let count = refuse_all(FORMATS.into_iter().flat_map(of).collect());
    assert!(count > 150, "{count}");
}

#[test]
fn damage_and_bombs_are_refused_by_every_reader() {
    let of = |format| damage(format).into_iter().chain(bombs(format)).collect::<Vec<_>>();
    let count = refuse_all(FORMATS.into_iter().flat_map(of).collect());
    assert!(count > 70, "{count}");
}

#[test]
fn what_is_locked_split_wrapped_or_no_archive_is_refused() {
    refuse_all(odd_ones());
}

#[test]
fn names_of_an_untold_code_page_are_pointed_out() {
    let sandbox = Sandbox::with_game();
    sandbox.zip("old-1.zip", &[("data/XX.txt", "old")]);
    let path = sandbox.path("old-1.zip");
    let bytes = fs::read(&path).unwrap();
    // The bytes of `\u{41f}\u{440}` in Windows-1251.
    let mut written = bytes.clone();
    for at in 0..bytes.len() - 2 {
        if bytes[at..].starts_with(b"XX") {
            written[at..at + 2].copy_from_slice(&[0xcf, 0xf0]);
        }
    }
    fs::write(&path, written).unwrap();
    for more in ["", " -q"] {
        sandbox.run(&format!("inspect old-1.zip{more}")).status(0).says("note: ").says("--names shift_jis");
    }
    let told = sandbox.run("add old-1.zip --place .=game: --names 1251 -q").status(0);
    assert!(!told.stderr.contains("note: "), "{}", told.stderr);
    assert_eq!(sandbox.read("game/data/\u{41f}\u{440}.txt"), "old");
}
