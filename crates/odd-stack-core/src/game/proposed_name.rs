//! What a game may be called, where nobody says it.

use std::fs;
use std::path::Path;

use super::version_of::product_name;

/// Names that programs' own folders mostly have; the game is the folder around these.
pub(crate) const INNER: [&str; 14] = [
    "bin", "bin32", "bin64", "binaries", "win32", "win64", "x64", "x86", "system", "engine", "game",
    "release", "app", "program",
];

/// The folder's name. Of one that is called as programs' own folders mostly are, what a Windows program in it says it is
/// called, by its version resource, or the name of the folder around it.
pub fn proposed_name(folder: &Path) -> Option<String> {
    let name = |folder: &Path| Some(folder.file_name()?.to_string_lossy().into_owned());
    let is_plain = |name: &String| !INNER.contains(&name.to_lowercase().as_str());
    if let Some(own) = name(folder).filter(is_plain) {
        return Some(own);
    }
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut programs: Vec<_> =
        entries.filter(|path| path.extension().is_some_and(|ending| ending == "exe")).collect();
    programs.sort();
    let told = programs.iter().find_map(|program| product_name(program));
    let around = || folder.ancestors().skip(1).filter_map(name).find(is_plain);
    told.or_else(around).or_else(|| name(folder))
}
