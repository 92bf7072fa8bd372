//! Names and versions as people write them on a package's file name.

use std::path::Path;

/// What a file name says of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameAndVersion {
    /// The name without the version, never empty.
    pub name: String,
    /// The version as written, without a leading `v`.
    pub version: Option<String>,
}

/// Reads name and version off the file name of a package: `brass-lamps-1.2.zip` is `brass-lamps`,
/// `1.2`. An ending is cut off only when `is_archive`, since folder names may hold dots.
pub fn name_and_version_of(package: &Path, is_archive: bool) -> NameAndVersion {
    let file_name = package.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = match file_name.rfind('.') {
        Some(dot) if is_archive && dot > 0 => &file_name[..dot],
        _ => file_name.as_str(),
    };
    let stem = stem.trim();
    let separator = |c: char| matches!(c, '-' | '_' | ' ');
    // From the left: the first cut after which everything is a version wins, so that
    // `ferry-0.7.7-pre13` is not cut before `pre13`.
    for (cut, _) in stem.match_indices(separator) {
        let name = stem[..cut].trim_end_matches(separator);
        let version = stem[cut..].trim_start_matches(separator);
        if !name.is_empty() && is_version(version) {
            return NameAndVersion { name: name.to_owned(), version: Some(without_v(version).to_owned()) };
        }
    }
    let name = if stem.is_empty() { "package" } else { stem };
    NameAndVersion { name: name.to_owned(), version: None }
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
    const WORDS: [&str; 11] =
        ["a", "b", "alpha", "beta", "pre", "preview", "rc", "fix", "hotfix", "final", "patch"];
    word.is_empty()
        || (word.len() == 1 && word.chars().all(|c| c.is_ascii_alphabetic()))
        || WORDS.iter().any(|known| known.eq_ignore_ascii_case(word))
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
        let read = |text: &str| {
            let found = name_and_version_of(Path::new(text), true);
            (found.name, found.version.unwrap_or_default())
        };
        let pair = |name: &str, version: &str| (name.to_owned(), version.to_owned());
        assert_eq!(read("brass-lamps-1.2.zip"), pair("brass-lamps", "1.2"));
        assert_eq!(read("Brass Lamps v1.2b.zip"), pair("Brass Lamps", "1.2b"));
        assert_eq!(read("ferry_tables-0.7.7-pre13.zip"), pair("ferry_tables", "0.7.7-pre13"));
        assert_eq!(read("quay-08.zip"), pair("quay", "08"));
        assert_eq!(read("gulls-2024-05-01.zip"), pair("gulls", "2024-05-01"));
        assert_eq!(read("four-quays.zip"), pair("four-quays", ""));
        assert_eq!(read("1.2.zip"), pair("1.2", ""));
        let folder = name_and_version_of(Path::new("x/charts-2.0"), false);
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
            let told = name_and_version_of(Path::new(&format!("{name}{separator}{v}{version}.zip")), true);
            prop_assert_eq!(told, NameAndVersion { name, version: Some(version) });
        }

        #[test]
        fn any_file_name_gives_a_name(file_name in "\\PC{1,20}") {
            let told = name_and_version_of(Path::new(&file_name), true);
            prop_assert!(!told.name.is_empty());
        }
    }
}
