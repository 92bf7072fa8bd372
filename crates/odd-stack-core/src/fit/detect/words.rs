//! Words that tell what a folder or file of a package is for.

use super::super::names::has;

/// Documents of these endings are no part of a game, unless the game has such a file.
const DOCUMENTS: [&str; 15] = [
    "pdf", "html", "htm", "rtf", "doc", "docx", "odt", "url", "webloc", "nfo", "diz", "md", "markdown",
    "epub", "ods",
];
const TEXTS: [&str; 3] = ["txt", "text", ""];
const PICTURES: [&str; 8] = ["png", "jpg", "jpeg", "gif", "webp", "bmp", "tif", "tiff"];
const SOURCES: [&str; 17] = [
    "psd", "xcf", "kra", "blend", "blend1", "max", "spp", "ai", "sln", "vcxproj", "csproj", "pdb", "cpp",
    "hpp", "cc", "rs", "cs",
];
const LIBRARIES: [&str; 4] = ["dll", "asi", "so", "dylib"];
/// Endings of which many games have files in many places.
const GENERAL: [&str; 22] = [
    "txt", "ini", "cfg", "json", "xml", "toml", "yaml", "yml", "lua", "py", "js", "csv", "dll", "exe", "asi",
    "so", "png", "jpg", "log", "dat", "bin", "html",
];

const DOCUMENT_WORDS: [&str; 21] = [
    "news",
    "readme",
    "read me",
    "changelog",
    "changes",
    "license",
    "licence",
    "credits",
    "install",
    "instruction",
    "howto",
    "how to",
    "faq",
    "manual",
    "history",
    "release notes",
    "authors",
    "copying",
    "todo",
    "about",
    "notes",
];
/// These are documents wherever they lie.
const SURE_DOCUMENT_WORDS: [&str; 10] = [
    "readme",
    "read me",
    "changelog",
    "license",
    "licence",
    "whatsnew",
    "whats new",
    "what's new",
    "what\u{2019}s new",
    "what s new",
];
const DOCUMENT_FOLDERS: [&str; 7] =
    ["doc", "docs", "documentation", "manual", "manuals", "readme", "readmes"];
const SOURCE_FOLDERS: [&str; 7] =
    ["src", "source", "sources", "source code", "source files", "sourcecode", "project files"];
const PICTURE_FOLDERS: [&str; 8] = [
    "screenshot",
    "screenshots",
    "screens",
    "preview",
    "previews",
    "pictures",
    "example pictures",
    "gallery",
];
const PICTURE_WORDS: [&str; 6] = ["screenshot", "preview", "thumb", "banner", "before", "after"];

/// Words of folders that stand for another root, each line under the name that the root mostly has.
const OTHER_ROOTS: [(&str, &[&str]); 4] = [
    ("docs", &["documents", "my documents", "docs", "my games", "user documents"]),
    ("saves", &["saves", "savegames", "savegame", "saved games", "save games", "savedgames"]),
    ("profiles", &["profiles", "profile", "user profile", "user profiles"]),
    ("appdata", &["appdata", "app data", "application data", "localappdata", "locallow", "roaming"]),
];
const MAIN_ROOT: [&str; 12] = [
    "game",
    "game folder",
    "game directory",
    "game dir",
    "gamedir",
    "game root",
    "root",
    "install folder",
    "installation folder",
    "program files",
    "program files (x86)",
    "main folder",
];
const OPTIONAL: [&str; 8] =
    ["optional", "optionals", "extra", "extras", "opt", "bonus", "optional files", "addon"];
/// Folders that keep the game's own files beside those that replace them.
const BACKUPS: [&str; 11] = [
    "backup",
    "backups",
    "bak",
    "original",
    "originals",
    "original files",
    "orig",
    "vanilla",
    "restore",
    "uninstall",
    "unmodified",
];
const COLLECTIONS: [&str; 10] = [
    "mods",
    "addons",
    "add-ons",
    "plugins",
    "extensions",
    "packages",
    "modules",
    "workshop",
    "custom",
    "usermods",
];

/// Words of which a package's makes are told apart.
const VARIANTS: [&str; 103] = [
    "option",
    "colour",
    "color",
    "shade",
    "theme",
    "flavour",
    "flavor",
    "variant",
    "version",
    "choice",
    "style",
    "edition",
    "preset",
    "with",
    "without",
    "no",
    "a",
    "b",
    "c",
    "d",
    "e",
    "f",
    "x86",
    "x64",
    "32bit",
    "64bit",
    "win32",
    "win64",
    "bit",
    "lite",
    "light",
    "full",
    "standard",
    "normal",
    "default",
    "alternative",
    "alternate",
    "alt",
    "classic",
    "modern",
    "vanilla",
    "enhanced",
    "original",
    "mature",
    "safe",
    "sfw",
    "nsfw",
    "low",
    "medium",
    "high",
    "ultra",
    "small",
    "large",
    "big",
    "tiny",
    "huge",
    "dark",
    "darker",
    "bright",
    "brighter",
    "hd",
    "sd",
    "uhd",
    "hdr",
    "dx9",
    "dx11",
    "dx12",
    "opengl",
    "vulkan",
    "performance",
    "quality",
    "balanced",
    "minimal",
    "complete",
    "on",
    "off",
    "english",
    "german",
    "french",
    "spanish",
    "italian",
    "polish",
    "russian",
    "japanese",
    "chinese",
    "korean",
    "portuguese",
    "czech",
    "turkish",
    "dutch",
    "red",
    "green",
    "blue",
    "black",
    "white",
    "grey",
    "gray",
    "yellow",
    "orange",
    "purple",
    "brown",
    "gold",
    "silver",
];

/// Whether packages call makes of theirs so.
pub(super) fn is_variant(word: &str) -> bool {
    has(&VARIANTS, word)
}

/// Whether a folder's plain name says that a hosting site has packed a branch of a repository.
pub(super) fn is_export(plain: &str) -> bool {
    ["master", "main", "trunk"].contains(&plain.rsplit(' ').next().unwrap_or_default())
}

pub(super) fn is_backup_folder(name: &str) -> bool {
    BACKUPS.contains(&plain(name).as_str())
}

/// Letters and digits with single spaces between words.
pub(super) fn plain(name: &str) -> String {
    let spaced: String = name.chars().map(|c| if matches!(c, '_' | '-' | '.') { ' ' } else { c }).collect();
    spaced.to_lowercase().split_whitespace().collect::<Vec<_>>().join(" ")
}

/// What a file name ends with, in lower case.
pub(super) fn ending(name: &str) -> String {
    name.rsplit_once('.').map(|(_, ending)| ending.to_lowercase()).unwrap_or_default()
}

pub(super) fn is_document_ending(ending: &str) -> bool {
    has(&DOCUMENTS, ending)
}

pub(super) fn is_text_ending(ending: &str) -> bool {
    has(&TEXTS, ending)
}

pub(super) fn is_picture_ending(ending: &str) -> bool {
    has(&PICTURES, ending)
}

pub(super) fn is_source_ending(ending: &str) -> bool {
    has(&SOURCES, ending)
}

pub(super) fn is_library_ending(ending: &str) -> bool {
    has(&LIBRARIES, ending)
}

pub(super) fn is_general_ending(ending: &str) -> bool {
    has(&GENERAL, ending) || is_document_ending(ending) || ending.is_empty()
}

fn stem(name: &str) -> String {
    plain(name.rsplit_once('.').map_or(name, |(stem, _)| stem))
}

pub(super) fn is_document_word(name: &str) -> bool {
    let stem = stem(name);
    DOCUMENT_WORDS.iter().any(|word| stem.starts_with(word)) || is_sure_document_word(name)
}

pub(super) fn is_sure_document_word(name: &str) -> bool {
    let stem = stem(name);
    SURE_DOCUMENT_WORDS.iter().any(|word| stem.starts_with(word) || stem.ends_with(word))
}

pub(super) fn is_picture_word(name: &str) -> bool {
    let stem = stem(name);
    PICTURE_WORDS.iter().any(|word| stem.starts_with(word) || stem.ends_with(word))
}

pub(super) fn is_document_folder(name: &str) -> bool {
    has(&DOCUMENT_FOLDERS, &plain(name))
}

pub(super) fn is_source_folder(name: &str) -> bool {
    has(&SOURCE_FOLDERS, &plain(name))
}

pub(super) fn is_picture_folder(name: &str) -> bool {
    has(&PICTURE_FOLDERS, &plain(name))
}

/// The usual name of the root that a folder of that name stands for, and all words for it.
pub(super) fn other_root(name: &str) -> Option<(&'static str, &'static [&'static str])> {
    let name = plain(name);
    OTHER_ROOTS.iter().find(|(_, words)| has(words, &name)).copied()
}

pub(super) fn is_main_root(name: &str) -> bool {
    has(&MAIN_ROOT, &plain(name))
}

pub(super) fn is_optional(name: &str) -> bool {
    let name = plain(name);
    has(&OPTIONAL, &name)
        || name.starts_with("optional ")
        || name.ends_with(" optional")
        || name.ends_with("(optional)")
}

pub(super) fn collections() -> impl Iterator<Item = String> {
    COLLECTIONS.iter().map(|name| (*name).to_owned())
}

pub(super) fn is_collection(name: &str) -> bool {
    has(&COLLECTIONS, &name.to_lowercase())
}

/// A short name for options and parts: letters, digits and `-`.
pub(super) fn slug(name: &str) -> String {
    let words = plain(name);
    let kept: String = words.chars().map(|c| if c.is_alphanumeric() { c } else { ' ' }).collect();
    kept.split_whitespace().collect::<Vec<_>>().join("-")
}
