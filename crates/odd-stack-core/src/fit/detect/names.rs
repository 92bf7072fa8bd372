//! What a folder of a package may be called, and how its files' names are written.

use std::path::Path;

use super::outline::{Node, Outline, folded};
use super::words;
use crate::fit::game_tree::pattern_of;
use crate::version::parts_of_file_name;

/// The ways in which a folded file name may be written in a folder that may have one of these names.
pub(super) fn patterns_of(name: &str, own_names: &[String]) -> Vec<String> {
    let own = own_names.iter().filter(|own| name.contains(own.as_str()));
    let mut patterns: Vec<String> = own.filter_map(|own| pattern_of(name, own)).collect();
    patterns.extend(pattern_of(name, ""));
    patterns
}

/// Folded names that the folder may have: its own, that without a version, and what its files begin with.
pub(super) fn own_names(outline: &Outline<'_>, node: &Node) -> Vec<String> {
    const SHORTEST: usize = 3;
    let mut names: Vec<String> = node.names.last().cloned().into_iter().collect();
    names.extend(names.first().and_then(|name| without_version(name)));
    names.extend(name_of_files(outline, node).map(folded));
    names.extend(stems(outline, node).into_iter().map(|(stem, _)| folded(stem)));
    if node.parent.is_none() {
        names.push(folded(outline.package_name));
    }
    names.retain(|name| name.len() >= SHORTEST);
    names.dedup();
    names
}

/// What few files directly in the folder are called without their endings, and with: one may be called like the folder.
pub(super) fn stems<'o>(outline: &'o Outline<'_>, node: &Node) -> Vec<(&'o str, &'o str)> {
    const MOST_FILES: usize = 6;
    let files = node.files.iter().map(|file| outline.file_name(*file));
    let stems: Vec<(&str, &str)> =
        files.filter_map(|name| Some((name.rsplit_once('.')?.0, name))).take(MOST_FILES + 1).collect();
    if stems.len() > MOST_FILES { Vec::new() } else { stems }
}

/// What the names of all files directly in the folder begin with, as the first one spells it.
pub(super) fn name_of_files<'o>(outline: &'o Outline<'_>, node: &Node) -> Option<&'o str> {
    const FEWEST_FILES: usize = 3;
    const SHORTEST: usize = 3;
    let mut files: Vec<&str> = node.files.iter().map(|file| outline.file_name(*file)).collect();
    files.retain(|name| {
        !words::is_document_word(name)
            && !words::is_document_ending(&words::ending(name))
            && !super::super::names::is_metadata(name)
    });
    let count = files.len();
    let mut files = files.into_iter();
    let first = files.next().filter(|_| count >= FEWEST_FILES)?;
    let common = files.fold(first, |common, name| {
        let other = common.char_indices().zip(name.chars()).find(|((_, one), two)| one != two);
        let length = other.map_or_else(
            || common.chars().zip(name.chars()).map(|(one, _)| one.len_utf8()).sum(),
            |((at, _), _)| at,
        );
        &common[..length]
    });
    let common = common.trim_end_matches(|letter: char| !letter.is_alphabetic());
    (common.len() >= SHORTEST).then_some(common)
}

/// The name without the version that it has.
pub(super) fn without_version(name: &str) -> Option<String> {
    let parts = parts_of_file_name(Path::new(name), false);
    parts.version.map(|_| parts.name)
}
