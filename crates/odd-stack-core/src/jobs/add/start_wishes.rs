//! What layers want done when the game is started: programs with what is given to them, and files that the game must make
//! anew. A package and its sheet may be a stranger's, so nothing of it is done before a person has agreed to just that.

use std::collections::BTreeMap;
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::{FoldedKey, Folding, RelPath, SIDE_FOLDER};
use crate::check::{CheckError, lies_in_cache};
use crate::files::{WalkError, walk};
use crate::fit::{Placement, Rules, Start};
use crate::game::AddressPattern;
use crate::hash::ContentHash;
use crate::jobs::Count;
use crate::jobs::select::plain;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseKind, Order, Provider, RootId};

/// A program that a layer wants started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct StartRow {
    /// What it is called, if it has a name of its own.
    pub name: Option<String>,
    /// Its address.
    pub program: String,
    /// What is given to it.
    pub arguments: Vec<String>,
    /// Variables in its environment.
    pub environment: BTreeMap<String, String>,
    /// Those of the variables that make it, or what it starts, load other code.
    pub loads_code: Vec<String>,
}

impl StartRow {
    pub(in crate::jobs) fn of(start: &Start) -> Self {
        let Start { name, program, arguments, environment } = start.clone();
        let loads_code = environment.keys().filter(|name| loads_code(name)).cloned().collect();
        Self { name, program, arguments, environment, loads_code }
    }
}

/// Files that a layer wants cleared, by one pattern.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ClearRow {
    /// An address, a folder or a pattern.
    pub pattern: String,
    /// Files that it would clear as things are now.
    pub files: Count,
    /// Their addresses.
    pub addresses: Vec<String>,
    /// Why it clears nothing, whatever lies there.
    pub refused: Option<String>,
}

/// Whether a variable of that name makes a program, or one that it starts, load code of somebody's choice.
fn loads_code(name: &str) -> bool {
    const BEGINNINGS: [&str; 9] =
        ["LD_", "DYLD_", "PYTHON", "PERL", "RUBY", "NODE_", "LUA_", "GTK_", "COMPLUS_"];
    const NAMES: [&str; 30] = [
        "PATH",
        "PATHEXT",
        "COMSPEC",
        "SHELL",
        "ENV",
        "BASH_ENV",
        "ZDOTDIR",
        "PROMPT_COMMAND",
        "IFS",
        "JAVA_TOOL_OPTIONS",
        "_JAVA_OPTIONS",
        "JDK_JAVA_OPTIONS",
        "CLASSPATH",
        "GCONV_PATH",
        "GIO_EXTRA_MODULES",
        "GIO_MODULE_DIR",
        "QT_PLUGIN_PATH",
        "QT_QPA_PLATFORM_PLUGIN_PATH",
        "QML2_IMPORT_PATH",
        "VK_LAYER_PATH",
        "VK_ADD_LAYER_PATH",
        "VK_INSTANCE_LAYERS",
        "VK_ICD_FILENAMES",
        "VK_DRIVER_FILES",
        "OPENSSL_CONF",
        "OPENSSL_MODULES",
        "SYSTEMROOT",
        "WINDIR",
        "DOTNET_STARTUP_HOOKS",
        "CORECLR_PROFILER_PATH",
    ];
    let name = name.to_uppercase();
    BEGINNINGS.iter().any(|beginning| name.starts_with(beginning))
        || NAMES.contains(&name.as_str())
        || name.ends_with("DLLPATH")
        || name.ends_with("DLLOVERRIDES")
}

/// A file that would be cleared.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::jobs) struct ToClear {
    pub root: RootId,
    /// As spelled on disk.
    pub path: RelPath,
    pub size_bytes: u64,
}

/// What each pattern would clear as things are now: never what the game itself or a layer has, nor what is volatile, nor
/// what is ours. What lay in a cache by its name when the game was added is the game's no more once it is cleared.
///
/// # Errors
/// [`CheckError`].
pub(in crate::jobs) fn to_clear(
    ledger: &Ledger,
    patterns: &[String],
    observer: &dyn Observer,
) -> Result<Vec<(ClearRow, Vec<ToClear>)>, CheckError> {
    let game = ledger.game();
    let volatile = ledger.volatile()?;
    let mut rows = Vec::new();
    for text in patterns {
        let refused = |reason: String| {
            let (files, addresses) = (Count::default(), Vec::new());
            (ClearRow { pattern: text.clone(), files, addresses, refused: Some(reason) }, Vec::new())
        };
        let pattern = match AddressPattern::parse(game, text) {
            Ok(Some(pattern)) => pattern,
            Ok(None) => {
                rows.push(refused("the game has no such folder".to_owned()));
                continue;
            }
            Err(error) => {
                rows.push(refused(error.to_string()));
                continue;
            }
        };
        if pattern.within.as_str().is_empty() {
            rows.push(refused(reaches_too_far(text)));
            continue;
        }
        let mut found = found_by(ledger, &pattern, observer)?;
        found.retain(|file| !volatile.meet(file.root, game.folding.key(file.path.as_str()).as_str()));
        let mut unknown = Vec::new();
        for file in found {
            let column = ledger.column(file.root, &game.folding.key(file.path.as_str()))?;
            // What lay in a cache when the game was added is no file of the game's either.
            let address = game.address(file.root, file.path.clone());
            let is_made_by_game = address.is_some_and(|address| lies_in_cache(&address));
            if column.entries.is_empty() && (column.base.is_none() || is_made_by_game) {
                unknown.push(file);
            }
        }
        let bytes = unknown.iter().map(|file| file.size_bytes).sum();
        let addresses = unknown.iter().filter_map(|file| game.address(file.root, file.path.clone()));
        let row = ClearRow {
            pattern: text.clone(),
            files: (unknown.len() as u64, bytes).into(),
            addresses: addresses.map(|address| address.to_string()).collect(),
            refused: None,
        };
        rows.push((row, unknown));
    }
    Ok(rows)
}

/// Why a pattern is refused that begins in no folder.
fn reaches_too_far(pattern: &str) -> String {
    format!(
        "`{pattern}` reaches all of a game's folder; name the folder that is meant in full, such as `cache/**`"
    )
}

/// All files that a pattern means, in order.
fn found_by(
    ledger: &Ledger,
    pattern: &AddressPattern,
    observer: &dyn Observer,
) -> Result<Vec<ToClear>, CheckError> {
    let root = ledger.site().root(pattern.root)?;
    let folding = ledger.game().folding;
    let mut found = Vec::new();
    for folder in spelled_on_disk(&root.folder, &pattern.within, folding) {
        let path = folder.on(&root.folder);
        if !path.is_dir() || path.is_symlink() {
            let Ok(metadata) = std::fs::symlink_metadata(&path) else { continue };
            let file = ToClear { root: pattern.root, path: folder, size_bytes: metadata.len() };
            if pattern.meets(pattern.root, folding.key(file.path.as_str()).as_str()) {
                found.push(file);
            }
            continue;
        }
        let walked = walk(&path, observer).map_err(|error| match error {
            WalkError::Unreadable { path, source } => CheckError::Look { path, source },
            WalkError::Cancelled => CheckError::Cancelled,
        })?;
        for walked in walked {
            for (name, seen) in walked.things {
                let Ok(name) = name.into_string() else { continue };
                let path = folder.join(&walked.below).join(&RelPath::from_disk(name));
                let is_meant = pattern.meets(pattern.root, folding.key(path.as_str()).as_str());
                if is_meant && seen.kind != BaseKind::Folder {
                    found.push(ToClear { root: pattern.root, path, size_bytes: seen.size_bytes });
                }
            }
        }
    }
    found.sort();
    Ok(found)
}

/// Every spelling on disk of a folded path that is not empty; no link leads on. Our own folder is none.
fn spelled_on_disk(root: &std::path::Path, key: &FoldedKey, folding: Folding) -> Vec<RelPath> {
    let mut found = vec![RelPath::root()];
    for (depth, part) in key.as_str().split('/').enumerate() {
        let mut next = Vec::new();
        for folder in found {
            let path: PathBuf = folder.on(root);
            if depth > 0 && path.is_symlink() {
                continue;
            }
            let Ok(entries) = std::fs::read_dir(path) else { continue };
            for name in entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok()) {
                let is_ours = depth == 0 && name.eq_ignore_ascii_case(SIDE_FOLDER);
                if !is_ours && folding.key(&name).as_str() == part {
                    next.push(folder.join(&RelPath::from_disk(name)));
                }
            }
        }
        found = next;
    }
    found
}

/// What a layer's wishes are, as they are shown before it is made.
pub(in crate::jobs) fn wish_rows(
    ledger: &Ledger,
    rules: &Rules,
    observer: &dyn Observer,
) -> Result<(Vec<StartRow>, Vec<ClearRow>), CheckError> {
    let starts = rules.starts().iter().map(StartRow::of).collect();
    let clears = to_clear(ledger, &rules.clears(), observer)?;
    Ok((starts, clears.into_iter().map(|(row, _)| row).collect()))
}

/// Those of the programs that neither the package, whose files are to be placed, nor the game has, in words.
///
/// # Errors
/// [`LedgerError`].
pub(in crate::jobs) fn missing_starts(
    ledger: &Ledger,
    order: &Order,
    starts: &[Start],
    placements: &[Placement],
) -> Result<Vec<String>, LedgerError> {
    let game = ledger.game();
    let mut missing = Vec::new();
    for start in starts {
        let there_is = match game.address_book().resolve(&start.program) {
            Err(error) => Err(error.to_string()),
            Ok(address) => {
                let key = game.folding.key(address.path.as_str());
                let is_it = |placement: &Placement| {
                    placement.to.root == address.root && game.folding.key(placement.to.path.as_str()) == key
                };
                let there = match game.root_named(&address.root) {
                    Some(root) => {
                        let column = ledger.column(root.id, &key)?;
                        // A layer that is off may be the one that brings it.
                        !matches!(column.provider(order), Provider::Nothing)
                            || !column.entries.is_empty()
                            || address.path.on(&root.folder).is_file()
                    }
                    None => false,
                };
                Ok(there || placements.iter().any(is_it))
            }
        };
        let program = &start.program;
        match there_is {
            Ok(true) => {}
            Ok(false) => missing.push(format!("wants {program} started, and there is no such program")),
            Err(error) => missing.push(format!("wants {program} started, and that can't be found: {error}")),
        }
    }
    Ok(missing)
}

/// What agreement to a start is known by: the layer's name and all that is started.
pub(in crate::jobs) fn agreement_to_start(layer: &str, start: &Start) -> ContentHash {
    agreement(&("start", plain(layer), &start.program, &start.arguments, &start.environment))
}

/// What agreement to a clearing is known by: the layer's name and just that pattern.
pub(in crate::jobs) fn agreement_to_clear(layer: &str, pattern: &str) -> ContentHash {
    agreement(&("clear", plain(layer), pattern))
}

fn agreement(what: &impl Serialize) -> ContentHash {
    // Texts, lists and maps by texts can always be written.
    ContentHash::of(&serde_json::to_vec(what).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::loads_code;

    #[test]
    fn variables_that_make_other_code_load() {
        for name in
            ["LD_PRELOAD", "ld_library_path", "DYLD_INSERT_LIBRARIES", "Path", "PYTHONPATH", "BASH_ENV"]
        {
            assert!(loads_code(name), "{name}");
        }
        for name in ["LAMPS", "LANG", "TZ", "XPATH", "HOME", "SDL_VIDEODRIVER"] {
            assert!(!loads_code(name), "{name}");
        }
    }
}
