//! Finding games in folders, to propose them for care.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::roots::{existing, find_program, real};
use crate::address::{MAIN_ROOT, PrefixName};
use crate::check::CheckError;
use crate::files::open_regular;
use crate::game::{
    INNER, Root, ScanError, may_be_program, program_kind, proposed_name, scan, version_of_file,
};
use crate::ledger::{Home, Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::stack::{BaseFile, BaseKind, RootId};

/// Folders below a given one that are looked into for games.
const MOST_LEVELS: usize = 3;

/// A game that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct FoundGame {
    /// What it may be called.
    pub name: String,
    /// Its folder.
    pub folder: String,
    /// Its main program, below the folder.
    pub program: String,
    /// The version that the program tells.
    pub version: Option<String>,
    /// Its files.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
    /// Endings of files that hold others (zip archives by another ending), each with how many there are.
    pub containers: BTreeMap<String, u64>,
    /// The name under which it was added already.
    pub in_care: Option<String>,
}

/// Looks for games in `folders`: each may be a game, or hold games.
///
/// # Errors
/// [`CheckError`] when a folder that was given can't be read; what can't be read further down is passed over.
pub fn find_games(
    home: &Home,
    folders: &[PathBuf],
    seam: &std::sync::Arc<dyn crate::files::Seam>,
    observer: &dyn Observer,
) -> Result<Vec<FoundGame>, CheckError> {
    let (in_care, mut found) = (in_care(home, seam)?, Vec::new());
    observer.begin(Work::Scanning, 0, 0);
    for folder in folders {
        if let Err(source) = std::fs::read_dir(folder) {
            observer.end();
            return Err(CheckError::Look { path: folder.clone(), source });
        }
        look_into(&real(folder), MOST_LEVELS, &in_care, observer, &mut found)?;
    }
    observer.end();
    found.sort_by(|one, two| one.folder.cmp(&two.folder));
    found.dedup_by(|one, two| one.folder == two.folder);
    Ok(found)
}

/// The game in a folder itself, where one is: it, and not one below it, has the programs.
///
/// # Errors
/// [`CheckError`].
pub fn game_in(
    home: &Home,
    folder: &Path,
    seam: &std::sync::Arc<dyn crate::files::Seam>,
    observer: &dyn Observer,
) -> Result<Option<FoundGame>, CheckError> {
    // Not of the system's folders, nor of one with all that a person has.
    let Ok(folder) = existing(folder).map(|folder| real(&folder)) else { return Ok(None) };
    let (in_care, mut found) = (in_care(home, seam)?, Vec::new());
    look_into(&folder, 0, &in_care, observer, &mut found)?;
    Ok(found.pop())
}

/// The folders of the games, each with the game's name.
fn in_care(
    home: &Home,
    seam: &std::sync::Arc<dyn crate::files::Seam>,
) -> Result<Vec<(PathBuf, String)>, LedgerError> {
    let mut in_care: Vec<(PathBuf, String)> = Vec::new();
    for listed in home.games()? {
        // A ledger that can't be opened is told by other commands.
        if let Ok(ledger) = Ledger::open(&listed.ledger, std::sync::Arc::clone(seam)) {
            let roots = ledger.game().roots.iter();
            in_care.extend(roots.map(|root| (real(&root.folder), listed.name.clone())));
        }
    }
    Ok(in_care)
}

fn look_into(
    folder: &Path,
    levels: usize,
    in_care: &[(PathBuf, String)],
    observer: &dyn Observer,
    found: &mut Vec<FoundGame>,
) -> Result<(), CheckError> {
    if observer.is_cancelled() {
        return Err(CheckError::Cancelled);
    }
    let Ok(entries) = std::fs::read_dir(folder) else { return Ok(()) };
    let (mut inner, mut has_program, mut is_game_folder) = (Vec::new(), false, false);
    for entry in entries.flatten() {
        let Ok(kind) = entry.file_type() else { continue };
        let name = entry.file_name().to_string_lossy().to_lowercase();
        if kind.is_dir() && !name.starts_with('.') {
            is_game_folder |= INNER.contains(&name.as_str()) && has_programs(&entry.path());
            inner.push(entry.path());
        } else if kind.is_file() {
            has_program |= is_program(&entry.path());
        }
    }
    if (has_program || is_game_folder)
        && let Some(game) = game_at(folder, in_care, observer)?
    {
        found.push(game);
        return Ok(());
    }
    if levels > 0 {
        inner.sort();
        for folder in inner {
            look_into(&folder, levels - 1, in_care, observer, found)?;
        }
    }
    Ok(())
}

fn has_programs(folder: &Path) -> bool {
    let Ok(entries) = std::fs::read_dir(folder) else { return false };
    entries.flatten().any(|entry| {
        let path = entry.path();
        is_program(&path)
            || (path.is_dir()
                && std::fs::read_dir(&path)
                    .is_ok_and(|inner| inner.flatten().any(|entry| is_program(&entry.path()))))
    })
}

fn is_program(path: &Path) -> bool {
    let Some(name) = path.file_name().and_then(|name| name.to_str()) else { return false };
    let Ok(Some(seen)) = crate::files::look_at(path) else { return false };
    seen.kind == BaseKind::File
        && may_be_program(&crate::address::RelPath::from_disk(name), seen.mode)
        && program_kind(path).is_ok_and(|kind| kind.is_some())
}

/// The game in a folder, if it has a main program.
fn game_at(
    folder: &Path,
    in_care: &[(PathBuf, String)],
    observer: &dyn Observer,
) -> Result<Option<FoundGame>, CheckError> {
    let scan = match scan(folder, observer) {
        Ok(scan) => scan,
        Err(ScanError::Cancelled) => return Err(CheckError::Cancelled),
        Err(ScanError::Unreadable { .. }) => return Ok(None),
    };
    let bad = |error| CheckError::Ledger(LedgerError::Registry { path: folder.to_path_buf(), reason: error });
    let name = PrefixName::parse(MAIN_ROOT).map_err(|error| bad(error.to_string()))?;
    let root = Root { id: RootId(1), name, folder: folder.to_path_buf(), has_side_folder: false, share: 0 };
    let shown = proposed_name(folder).unwrap_or_default();
    let Some(program) = find_program(&root, &scan, &shown) else { return Ok(None) };
    let (files, bytes) = scan.count_files();
    // What can't be read tells no version.
    let version = version_of_file(folder, &program.path.on(folder), None).ok().flatten();
    Ok(Some(FoundGame {
        name: shown,
        folder: folder.display().to_string(),
        program: program.path.as_str().to_owned(),
        version,
        files,
        bytes,
        containers: containers(folder, &scan.found),
        in_care: in_care.iter().find(|(root, _)| root == folder).map(|(_, name)| name.clone()),
    }))
}

/// Endings of zip archives that are not called so, told by the beginning of one file of each ending.
fn containers(folder: &Path, found: &[BaseFile]) -> BTreeMap<String, u64> {
    const OTHERS: [&str; 6] = ["zip", "jar", "docx", "exe", "dll", "apk"];
    let mut by_ending: BTreeMap<String, Vec<&BaseFile>> = BTreeMap::new();
    for file in found.iter().filter(|file| file.kind == BaseKind::File) {
        if let Some((_, ending)) = file.spelled.name().rsplit_once('.') {
            let ending = ending.to_lowercase();
            if !OTHERS.contains(&ending.as_str()) && ending.len() <= 8 {
                by_ending.entry(ending).or_default().push(file);
            }
        }
    }
    let is_zip = |file: &BaseFile| {
        let mut head = [0; 4];
        let read = open_regular(&file.spelled.on(folder)).and_then(|mut file| file.read_exact(&mut head));
        read.is_ok() && head == *b"PK\x03\x04"
    };
    let holds = |files: &Vec<&BaseFile>| {
        files.iter().max_by_key(|file| file.size_bytes).is_some_and(|file| is_zip(file))
    };
    by_ending.retain(|_, files| holds(files));
    by_ending.into_iter().map(|(ending, files)| (ending, files.len() as u64)).collect()
}
