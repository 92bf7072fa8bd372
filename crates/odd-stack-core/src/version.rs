//! Names and versions as people write them on a package's file name.

use std::path::Path;

/// What a file name says of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileNameParts {
    /// The name without the version, never empty.
    pub name: String,
    /// The version as written, without a leading `v`.
    pub version: Option<String>,
    /// Which of several variants it is, as written in brackets or behind the version.
    pub variant: Option<String>,
    /// The version that it takes to another one: `17.1` of `Harbour 17.1 to 17.2`.
    pub onto: Option<String>,
}

fn is_separator(c: char) -> bool {
    matches!(c, '-' | '_' | ' ')
}

/// Reads name, version and variant off the file name of a package: `brass-lamps_v1.2b (full).zip` is
/// `brass-lamps`, `1.2b`, `full`. An ending is cut off only when `is_archive`, since folder names may
/// hold dots. The number that a browser puts behind a second download, `(1)`, is dropped. Which part of a pack it is
/// belongs to the name: `Harbour Part 1` and `Harbour Part 2` are two things, and no versions of one.
pub fn parts_of_file_name(package: &Path, is_archive: bool) -> FileNameParts {
    let file_name = package.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let whole = if is_archive { without_endings(&file_name) } else { &file_name };
    let (stem, bracketed) = without_brackets(whole.trim());
    let mut variants = Vec::new();
    let mut in_brackets = None;
    let mut onto = None;
    let mut part = None;
    for text in bracketed {
        if onto.is_none()
            && in_brackets.is_none()
            && let Some(("", from, to)) = cut_at_step(&text)
        {
            (onto, in_brackets) = (Some(from), Some(to));
        } else if part.is_none() && is_part(&text) {
            part = Some(text);
        } else if in_brackets.is_none()
            && is_version(&text)
            && (text.contains('.') || text.starts_with(['v', 'V']))
        {
            in_brackets = Some(without_v(&text).to_owned());
        } else if !(text.len() <= 2 && text.bytes().all(|byte| byte.is_ascii_digit())) {
            variants.push(text);
        }
    }
    let (name, version, behind) = match cut_at_step(&stem).filter(|_| onto.is_none()) {
        Some((name, from, to)) => {
            onto = Some(from);
            (name, Some(to), None)
        }
        None => cut_at_version(&stem),
    };
    variants.splice(0..0, behind);
    let name = if name.is_empty() { whole.trim() } else { name };
    let name = if name.is_empty() { "package" } else { name };
    FileNameParts {
        name: part.map_or(name.to_owned(), |part| format!("{name} {part}")),
        version: version.or(in_brackets),
        variant: Some(variants.join(", ")).filter(|variant| !variant.is_empty()),
        onto,
    }
}

/// A file's name without the version in it, its ending kept: `Pack_0.7.7.7z` and `Pack_0.7.8.7z` are both `Pack.7z`.
pub(crate) fn name_without_version(file_name: &str) -> String {
    let FileNameParts { name, .. } = parts_of_file_name(Path::new(file_name), true);
    let ending = file_name.rsplit_once('.').map(|(_, ending)| format!(".{ending}"));
    name + ending.as_deref().unwrap_or_default()
}

/// Words behind which a number says which part of something it is.
const PART_WORDS: [&str; 16] = [
    "part", "parts", "pt", "disc", "disk", "cd", "dvd", "volume", "vol", "chapter", "episode", "book", "act",
    "season", "side", "archive",
];

/// Whether a text says which part of something it is: `Part 2`, `2 of 3`.
fn is_part(text: &str) -> bool {
    let words: Vec<String> = text
        .split(|c: char| is_separator(c) || c == '.')
        .filter(|word| !word.is_empty())
        .map(str::to_lowercase)
        .collect();
    let is_number = |word: &str| word.bytes().all(|byte| byte.is_ascii_digit());
    match words.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        [first, _, ..] if PART_WORDS.contains(first) => words.len() <= 4,
        [number, "of", all] => is_number(number) && is_number(all),
        _ => false,
    }
}

/// Whether the number at the start of what stands behind `name` says which part it is.
fn is_number_of_part(name: &str, behind: &str) -> bool {
    let word = name.rsplit(is_separator).next().unwrap_or(name).trim_end_matches('.').to_lowercase();
    let number = behind.split(is_separator).next().unwrap_or(behind);
    PART_WORDS.contains(&word.as_str()) && number.bytes().all(|byte| byte.is_ascii_digit())
}

/// Cuts what goes from one version to another into its name and the two: `Harbour 17.1 to 17.2`.
fn cut_at_step(stem: &str) -> Option<(&str, String, String)> {
    const FILLERS: [&str; 9] =
        ["from", "patch", "update", "upgrade", "hotfix", "version", "ver", "v", "incremental"];
    let lower = stem.to_ascii_lowercase();
    let (at, word) = ["to", "->", "\u{2192}"].iter().find_map(|word| {
        let is_apart = |at: &usize| {
            let (before, behind) = (&stem[..*at], &stem[at + word.len()..]);
            *word != "to" || (before.ends_with(is_separator) && behind.starts_with(is_separator))
        };
        let at = lower.match_indices(word).map(|(at, _)| at).find(is_apart)?;
        Some((at, *word))
    })?;
    let before = stem[..at].trim_end_matches(is_separator);
    let to = stem[at + word.len()..].trim_start_matches(is_separator);
    let cuts = std::iter::once(0).chain(before.match_indices(is_separator).map(|(cut, _)| cut + 1));
    let from = cuts.map(|cut| (before[..cut].trim_end_matches(is_separator), &before[cut..]));
    let (mut name, from) = from.into_iter().find(|(_, from)| is_version(from))?;
    if !is_version(to) || !(from.contains(['.', '_']) || to.contains(['.', '_'])) {
        return None;
    }
    while let Some(cut) = name.rfind(is_separator)
        && FILLERS.iter().any(|filler| name[cut + 1..].eq_ignore_ascii_case(filler))
    {
        name = name[..cut].trim_end_matches(is_separator);
    }
    Some((name, plain_version(from), plain_version(to)))
}

/// Cuts a stem into its name, its version, and what stands behind that.
fn cut_at_version(stem: &str) -> (&str, Option<String>, Option<String>) {
    // From the left: the first cut after which everything is a version wins, so that
    // `ferry-0.7.7-pre13` is not cut before `pre13`.
    for (cut, _) in stem.match_indices(is_separator) {
        let name = stem[..cut].trim_end_matches(is_separator);
        let rest = stem[cut..].trim_start_matches(is_separator);
        if !name.is_empty() && is_version(rest) && !is_number_of_part(name, rest) {
            return (without_version_word(name), Some(plain_version(rest)), None);
        }
    }
    // Else the first that is a version beyond doubt, with a word or two behind it.
    for (cut, _) in stem.match_indices(is_separator) {
        let name = stem[..cut].trim_end_matches(is_separator);
        let rest = stem[cut..].trim_start_matches(is_separator);
        let mut ends = rest.match_indices(is_separator).map(|(end, _)| end);
        let longest = ends.rfind(|end| is_version(&rest[..*end]));
        let is_sure =
            |text: &str| text.contains('.') || text.starts_with(['v', 'V']) || text.matches('_').count() >= 2;
        if let Some(end) = longest.filter(|_| !name.is_empty() && !is_number_of_part(name, rest))
            && is_sure(&rest[..end])
        {
            let behind = rest[end..].trim_matches(is_separator).to_owned();
            return (without_version_word(name), Some(plain_version(&rest[..end])), Some(behind));
        }
    }
    (stem, None, None)
}

fn without_version_word(name: &str) -> &str {
    let cut = name.rfind(is_separator);
    let word = &name[cut.map_or(0, |cut| cut + 1)..];
    match cut {
        Some(cut) if ["version", "ver", "v"].iter().any(|known| word.eq_ignore_ascii_case(known)) => {
            name[..cut].trim_end_matches(is_separator)
        }
        _ => name,
    }
}

/// The version without its `v`, and without the number of the download before it and the time stamp
/// behind it that some download pages add: `4711-1-2-1612345678` is `1.2`.
fn plain_version(text: &str) -> String {
    let parts: Vec<&str> = text.split('-').collect();
    let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit()).then_some(part.len());
    match parts.as_slice() {
        [number, version @ .., stamp]
            if !version.is_empty() && digits(stamp) == Some(10) && digits(number) >= Some(3) =>
        {
            without_v(&version.join(".")).to_owned()
        }
        // `2_0_10` is `2.0.10` where no dot may stand.
        _ if !text.contains('.') => without_v(text).replace('_', "."),
        _ => without_v(text).to_owned(),
    }
}

/// The file name without what archives' names end with, such as `.tar.gz` or `.part1.rar`.
fn without_endings(file_name: &str) -> &str {
    let cut = |name: &'_ str| name.rfind('.').filter(|dot| *dot > 0);
    let Some(dot) = cut(file_name) else { return file_name };
    let (stem, ending) = (&file_name[..dot], file_name[dot + 1..].to_lowercase());
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let is_volume = is_number(&ending) && ending.len() >= 3;
    // `lamps-1.2` has no ending.
    let is_version = ending.starts_with(|c: char| c.is_ascii_digit()) && ending != "7z" && !is_volume;
    if is_version || ending.is_empty() || ending.contains(' ') {
        return file_name;
    }
    let Some(dot) = cut(stem) else { return stem };
    let inner = stem[dot + 1..].to_lowercase();
    let is_more = match ending.as_str() {
        "gz" | "bz2" | "xz" | "zst" => inner == "tar",
        "rar" => inner.strip_prefix("part").is_some_and(is_number),
        _ => is_volume && matches!(inner.as_str(), "7z" | "zip" | "rar" | "tar"),
    };
    if is_more { &stem[..dot] } else { stem }
}

/// The text without its brackets, and what stood in them. One at the very start stays.
fn without_brackets(text: &str) -> (String, Vec<String>) {
    let (mut kept, mut bracketed) = (String::new(), Vec::new());
    let mut rest = text;
    while let Some(open) = rest.find(['(', '[', '{']) {
        let close = match rest.as_bytes()[open] {
            b'(' => ')',
            b'[' => ']',
            _ => '}',
        };
        let Some(end) = rest[open..].find(close).map(|end| open + end) else { break };
        let inside = rest[open + 1..end].trim();
        kept.push_str(&rest[..open]);
        if kept.trim_matches(is_separator).is_empty() {
            kept.push_str(&rest[open..=end]);
        } else if !inside.is_empty() {
            bracketed.push(inside.to_owned());
        }
        rest = &rest[end + 1..];
    }
    kept.push_str(rest);
    (kept.trim_matches(is_separator).to_owned(), bracketed)
}

fn without_v(text: &str) -> &str {
    match text.strip_prefix(['v', 'V']) {
        Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
        _ => text,
    }
}

/// Whether all of `text` reads as a version: numbers and dots, then at most a letter or a
/// pre-release word, as in `1.2`, `v1.2b`, `0.7.7-pre13`, `08`, `2024-05-01`.
pub fn is_version(text: &str) -> bool {
    let text = without_v(text);
    let mut parts = text.split(['.', '-', '_']);
    let starts_with_number = parts.next().is_some_and(|part| {
        let digits = part.trim_end_matches(|c: char| c.is_ascii_alphabetic());
        !digits.is_empty() && digits.chars().all(|c| c.is_ascii_digit()) && is_suffix(&part[digits.len()..])
    });
    starts_with_number && parts.all(is_version_part)
}

fn is_version_part(part: &str) -> bool {
    let letters_at = part.find(|c: char| !c.is_ascii_digit()).unwrap_or(part.len());
    let rest = &part[letters_at..];
    let word = rest.trim_end_matches(|c: char| c.is_ascii_digit());
    !part.is_empty() && is_suffix(word)
}

fn is_suffix(word: &str) -> bool {
    const WORDS: [&str; 15] = [
        "a", "b", "alpha", "beta", "pre", "preview", "rc", "fix", "hotfix", "final", "patch", "dev",
        "nightly", "snapshot", "build",
    ];
    word.is_empty()
        || (word.len() == 1 && word.chars().all(|c| c.is_ascii_alphabetic()))
        || WORDS.iter().any(|known| known.eq_ignore_ascii_case(word))
}

/// Whether `text` can be meant as one version of anything: numbers and words parted by `.`, `-`, `_` or `+`, a number
/// among the first, and no two versions with a dash between them.
pub(crate) fn is_one_version(text: &str) -> bool {
    let is_part = |part: &str| !part.is_empty() && part.chars().all(char::is_alphanumeric);
    let is_dotted = |text: &str| {
        text.contains('.')
            && without_v(text).split('.').all(|part| part.bytes().all(|byte| byte.is_ascii_digit()))
    };
    let has_number = text
        .split(['.', '-', '_', '+'])
        .next()
        .is_some_and(|part| part.contains(|c: char| c.is_ascii_digit()));
    let is_span = text.split_once('-').is_some_and(|(from, to)| is_dotted(from) && is_dotted(to));
    has_number && !is_span && text.split(['.', '-', '_', '+']).all(is_part)
}

/// The first text in `content` that reads as a version with at least one dot.
pub fn first_version_in(content: &str) -> Option<&str> {
    content
        .split(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_')))
        .map(|word| without_v(word.trim_matches(['.', '-', '_'])))
        .find(|word| word.contains('.') && is_version(word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn file_names() {
        let cases = [
            ("brass-lamps_v1.2b (full).zip", "brass-lamps", "1.2b", "full"),
            ("brass-lamps-1.2.zip", "brass-lamps", "1.2", ""),
            ("Brass Lamps v1.2b.zip", "Brass Lamps", "1.2b", ""),
            ("Brass Lamps version 1.2.7z", "Brass Lamps", "1.2", ""),
            ("ferry_tables-0.7.7-pre13.zip", "ferry_tables", "0.7.7-pre13", ""),
            ("quay-08.zip", "quay", "08", ""),
            ("gulls-2024-05-01.zip", "gulls", "2024-05-01", ""),
            ("four-quays.zip", "four-quays", "", ""),
            ("four-2-quays.zip", "four-2-quays", "", ""),
            ("1.2.zip", "1.2", "", ""),
            ("gulls-2.0-hd.tar.gz", "gulls", "2.0", "hd"),
            ("gulls (2.0) [no sound].rar", "gulls", "2.0", "no sound"),
            ("gulls 2.0 (1).zip", "gulls", "2.0", ""),
            ("gulls-2.0.part1.rar", "gulls", "2.0", ""),
            ("gulls-2.0.7z.001", "gulls", "2.0", ""),
            ("gulls-2.0.z01", "gulls", "2.0", ""),
            ("Fog Ferries-4711-1-2-1612345678.zip", "Fog Ferries", "1.2", ""),
            ("[harbour] gulls 3.zip", "[harbour] gulls", "3", ""),
            ("(full).zip", "(full)", "", ""),
            ("lamps-1.2", "lamps", "1.2", ""),
            ("gulls-4.3.0-dev.11.zip", "gulls", "4.3.0-dev.11", ""),
            ("gulls_2_0_10.zip", "gulls", "2.0.10", ""),
            ("gulls_2_0_10_hd.zip", "gulls", "2.0.10", "hd"),
            ("gulls-2024_05_01.zip", "gulls", "2024.05.01", ""),
            ("gulls 1.2-build5.zip", "gulls", "1.2-build5", ""),
            ("gulls 1.0.3258.0.zip", "gulls", "1.0.3258.0", ""),
            ("Harbour Pack Part 1.zip", "Harbour Pack Part 1", "", ""),
            ("Harbour Pack Part 2.zip", "Harbour Pack Part 2", "", ""),
            ("Harbour-Pack-pt.2-v1.5.zip", "Harbour-Pack-pt.2", "1.5", ""),
            ("harbour_part_1_v2.0.zip", "harbour_part_1", "2.0", ""),
            ("Harbour Pack 1.5 (Part 2).zip", "Harbour Pack Part 2", "1.5", ""),
            ("Harbour Pack (1 of 3).zip", "Harbour Pack 1 of 3", "", ""),
            ("Harbour Pack Disc 2 1.1.zip", "Harbour Pack Disc 2", "1.1", ""),
            ("Harbour Pack Vol. 3.zip", "Harbour Pack Vol. 3", "", ""),
            ("Harbour Party 2.zip", "Harbour Party", "2", ""),
        ];
        for (file_name, name, version, variant) in cases {
            let found = parts_of_file_name(Path::new(file_name), true);
            let told =
                (found.name.as_str(), found.version.unwrap_or_default(), found.variant.unwrap_or_default());
            assert_eq!(told, (name, version.to_owned(), variant.to_owned()), "{file_name}");
        }
        let steps = [
            ("Harbour Core 17.1 to 17.2.zip", "Harbour Core", "17.1", "17.2"),
            ("harbour-core_v17.1_to_v17.2.7z", "harbour-core", "17.1", "17.2"),
            ("Harbour Core Patch from 17.1 to 17.2b.zip", "Harbour Core", "17.1", "17.2b"),
            ("harbour-core-update-1_0_3-to-1_0_4.zip", "harbour-core", "1.0.3", "1.0.4"),
            ("Harbour Core (17.1 to 17.2).zip", "Harbour Core", "17.1", "17.2"),
            ("Harbour Core 17.1 -> 17.2.zip", "Harbour Core", "17.1", "17.2"),
        ];
        for (file_name, name, from, to) in steps {
            let found = parts_of_file_name(Path::new(file_name), true);
            let wanted = (name, Some(to), Some(from), None);
            let (version, onto) = (found.version.as_deref(), found.onto.as_deref());
            assert_eq!((found.name.as_str(), version, onto, found.variant), wanted, "{file_name}");
        }
        for no_step in ["Road to 2.0.zip", "Two to Three.zip", "Ferry 4 to 5.zip", "Back to Harbour 1.2.zip"]
        {
            assert_eq!(parts_of_file_name(Path::new(no_step), true).onto, None, "{no_step}");
        }
        let folder = parts_of_file_name(Path::new("x/charts-2.0"), false);
        assert_eq!((folder.name.as_str(), folder.version.as_deref()), ("charts", Some("2.0")));
    }

    #[test]
    fn version_inside_a_text() {
        assert_eq!(first_version_in("Quillhaven build\nversion = v1.7.2 (harbour)"), Some("1.7.2"));
        assert_eq!(first_version_in("no number here 12"), None);
    }

    proptest! {
        #[test]
        fn a_version_behind_a_name_is_found_whole(
            name in "[a-z]{3,8}([-_ ][a-z]{3,8}){0,2}",
            separator in "[-_ ]",
            v in "[vV]?",
            version in "[0-9]{1,3}(\\.[0-9]{1,3}){0,3}[a-z]?(-(pre|rc|beta)[0-9]{0,2})?",
        ) {
            let told = parts_of_file_name(Path::new(&format!("{name}{separator}{v}{version}.zip")), true);
            prop_assert_eq!(told, FileNameParts { name, version: Some(version), variant: None, onto: None });
        }

        #[test]
        fn any_file_name_gives_a_name(file_name in "\\PC{1,20}") {
            let told = parts_of_file_name(Path::new(&file_name), true);
            prop_assert!(!told.name.is_empty());
        }
    }
}
