//! Names that tell something by themselves.

pub(super) fn is_metadata(name: &str) -> bool {
    name.starts_with("._") || has(&METADATA, &name.to_lowercase())
}

/// The text of a place from names, the lowest first, each with whether it is the only folder where it
/// lies.
pub(in crate::fit) fn starred(names: Vec<(&str, bool)>) -> String {
    let mut is_around = true;
    let parts = names.into_iter().rev().map(|(name, is_only)| {
        is_around &= is_only;
        if is_around { "*" } else { name }
    });
    let parts: Vec<&str> = parts.collect();
    if parts.is_empty() { ".".to_owned() } else { parts.join("/") }
}

/// File names that systems and version control leave behind.
pub(super) const METADATA: [&str; 10] = [
    ".ds_store",
    "thumbs.db",
    "desktop.ini",
    "__macosx",
    ".git",
    ".gitignore",
    ".gitattributes",
    ".github",
    ".svn",
    ".editorconfig",
];

pub(super) fn has(words: &[&str], word: &str) -> bool {
    words.contains(&word)
}
