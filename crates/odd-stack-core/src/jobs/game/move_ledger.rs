//! Moving the ledger of one game.
//!
//! On one volume its folder is renamed. To another volume it is copied: the list of games, which changes in one step, says which
//! of the two counts, so that any stop leaves one that is whole. The game's own files that layers cover stay on the game's volume,
//! in the game's side folder from then on.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use super::forget::finish_leaving;
use super::register::RegisterError;
use super::roots::{check_apart, existing_part, needs_side_folder};
use crate::address::{SIDE_FOLDER, plain_path};
use crate::change::{ChangeError, empty_folder};
use crate::files::{
    KEPT, ORIGINALS, STAGE, Seam, Stamp, TRASH, WalkError, is_nothing_there, is_one_volume, is_remote,
    look_at, walk,
};
use crate::game::{Game, Running};
use crate::jobs::Permit;
use crate::jobs::permit::running;
use crate::ledger::{
    GameMark, Home, Ledger, LedgerError, Lock, Registered, Transaction, check_room, make_private_folder,
};
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, PathId, RootId};

/// Why a ledger stays where it is.
#[derive(Debug, Error)]
pub enum MoveLedgerError {
    /// Another process has it, or something is under way.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The folder can't be one for a ledger.
    #[error(transparent)]
    Place(#[from] RegisterError),
    /// It lies there already.
    #[error("the ledger lies in {} already", folder.display())]
    IsThere {
        /// The folder.
        folder: PathBuf,
    },
    /// Something lies there.
    #[error("{} is there already, with something in it; give a new or empty folder", to.display())]
    NotEmpty {
        /// Where it was to go.
        to: PathBuf,
    },
    /// Programs of the game run.
    #[error("the game is running")]
    Running(Vec<Running>),
}

impl From<LedgerError> for MoveLedgerError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

/// Moves the ledger of a game of the list to `to`, which is new or empty; gives the game as the list has it then. Programs of
/// the game `may_run` meanwhile.
///
/// # Errors
/// [`MoveLedgerError`]; the ledger is where it was.
pub fn move_ledger(
    home: &Home,
    listed: &Registered,
    (to, may_run): (&Path, bool),
    seam: &Arc<dyn Seam>,
    wait: Duration,
    observer: &dyn Observer,
) -> Result<Registered, MoveLedgerError> {
    let to: PathBuf = plain_path(&std::path::absolute(to).map_err(LedgerError::io("find", to))?);
    let to: PathBuf = to.components().collect();
    let old = listed.ledger.clone();
    let ledger = Ledger::open(&old, Arc::clone(seam))?;
    // What was cut short has the old paths in its journal, and is done first.
    drop(Permit::take_during(&ledger, "game set", wait, None, observer)?);
    check_place(home, &ledger, listed, &to, may_run)?;
    let lock = Lock::take(&old, "game set", wait)?;
    let moved = Registered { ledger: to.clone(), ..listed.clone() };
    let there = existing_part(&to);
    if is_one_volume(&old, &there).unwrap_or(false) {
        drop(ledger);
        // A folder in which a file is held can't be renamed everywhere.
        drop(lock);
        rename(&old, &to, &**seam)?;
        let listed = home.change(|list| put(list, listed, &moved, false));
        if let Err(error) = listed {
            seam.rename(&to, &old).map_err(LedgerError::io("move", &to))?;
            return Err(error.into());
        }
    } else {
        let sides = sides_of(&ledger, &to);
        let paths = match sides.is_empty() {
            true => HashMap::new(),
            false => ledger.catalogue.roots_of_paths()?,
        };
        let mut game = ledger.game().clone();
        // Its catalogue is whole and at rest once it is closed.
        drop(ledger);
        copy(&old, &to, &**seam, observer)?;
        put_originals_aside(&old, &sides, &paths, &**seam)?;
        game.roots.iter_mut().for_each(|root| root.has_side_folder |= sides.contains_key(&root.id));
        write_game(&to, game, seam)?;
        seam.make_durable(&to, &[]).map_err(LedgerError::io("write to", &to))?;
        home.change(|list| put(list, listed, &moved, true))?;
        drop(lock);
        for name in [ORIGINALS, KEPT] {
            // All of it lies elsewhere now.
            let _ = empty_folder(&old.join(name), &**seam);
        }
        // What can't be removed now is removed by the next command of this kind.
        let _ = finish_leaving(home, &**seam);
    }
    if let Ok(ledger) = Ledger::open(&to, Arc::clone(seam)) {
        GameMark::write_all(ledger.game(), ledger.folder(), home);
    }
    Ok(moved)
}

fn check_place(
    home: &Home,
    ledger: &Ledger,
    listed: &Registered,
    to: &Path,
    may_run: bool,
) -> Result<(), MoveLedgerError> {
    let old = ledger.folder();
    if old == to {
        return Err(MoveLedgerError::IsThere { folder: to.to_path_buf() });
    }
    if is_remote(to) {
        return Err(RegisterError::LedgerRemote { ledger: to.to_path_buf() }.into());
    }
    let is_full = match std::fs::read_dir(to) {
        Ok(mut entries) => entries.next().is_some(),
        Err(error) => !is_nothing_there(&error),
    };
    if is_full || to.starts_with(old) || old.starts_with(to) {
        return Err(MoveLedgerError::NotEmpty { to: to.to_path_buf() });
    }
    check_apart(&ledger.game().roots, to, home, Some(&listed.name), |_| true)?;
    match running(ledger) {
        programs if programs.is_empty() || may_run => Ok(()),
        programs => Err(MoveLedgerError::Running(programs)),
    }
}

/// Puts the game's new entry in place of the old one; the old ledger is to be removed where it `stays`.
fn put(
    list: &mut Vec<Registered>,
    old: &Registered,
    new: &Registered,
    stays: bool,
) -> Result<(), LedgerError> {
    for listed in list.iter_mut().filter(|listed| listed.name == old.name && !listed.leaving) {
        listed.ledger.clone_from(&new.ledger);
    }
    if stays {
        list.push(Registered { leaving: true, ..old.clone() });
    }
    Ok(())
}

fn rename(old: &Path, to: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    let renamed = || {
        if let Some(above) = to.parent() {
            std::fs::create_dir_all(above)?;
        }
        if to.is_dir() {
            std::fs::remove_dir(to)?;
        }
        seam.rename(old, to)
    };
    renamed().map_err(LedgerError::io("move", old))
}

/// The side folders of roots that need one with the ledger there, and have none.
fn sides_of(ledger: &Ledger, to: &Path) -> HashMap<RootId, PathBuf> {
    let roots = ledger.game().roots.iter().filter(|root| !root.has_side_folder);
    let roots = roots.filter(|root| needs_side_folder(&root.folder, to));
    roots.map(|root| (root.id, root.side_folder())).collect()
}

/// Copies a ledger at rest, but for what lies there only for a while and for the game's own files.
fn copy(old: &Path, to: &Path, seam: &dyn Seam, observer: &dyn Observer) -> Result<(), MoveLedgerError> {
    const NOT_COPIED: [&str; 7] =
        [STAGE, TRASH, ORIGINALS, "lock", "lock-holder", "reserve", "originals.names"];
    let walked = walk(old, observer).map_err(|error| match error {
        WalkError::Unreadable { path, source } => LedgerError::io("read", path)(source).into(),
        WalkError::Cancelled => ChangeError::Cancelled,
    })?;
    let is_copied = |path: &str| !NOT_COPIED.iter().any(|name| path.split('/').next() == Some(name));
    let (mut folders, mut files) = (Vec::new(), Vec::new());
    for folder in walked {
        for (name, seen) in folder.things {
            let path =
                folder.below.join(&crate::address::RelPath::from_disk(name.to_string_lossy().into_owned()));
            match seen.kind {
                _ if !is_copied(path.as_str()) => {}
                BaseKind::Folder => folders.push(path),
                _ => files.push((path, seen)),
            }
        }
    }
    folders.sort();
    let bytes = files.iter().map(|(_, seen)| seen.size_bytes).sum();
    check_room(to, bytes)?;
    std::fs::create_dir_all(to).map_err(LedgerError::io("create", to))?;
    for folder in &folders {
        make_private_folder(&folder.on(to), seam)?;
    }
    observer.begin(Work::Staging, files.len() as u64, bytes);
    let copied = files.iter().try_for_each(|(path, seen)| {
        if observer.is_cancelled() {
            return Err(MoveLedgerError::Change(ChangeError::Cancelled));
        }
        let (from, new) = (path.on(old), path.on(to));
        let stamp = Stamp::at(seen.modified_ns, seen.mode);
        let copied = seam.copy_file(&from, &new, seen.size_bytes, stamp);
        let copied = copied.map_err(LedgerError::io("write", &new))?;
        if copied.size_bytes != seen.size_bytes {
            return Err(LedgerError::io("read", &from)(std::io::ErrorKind::UnexpectedEof.into()).into());
        }
        observer.advance(1, seen.size_bytes);
        Ok(())
    });
    observer.end();
    if copied.is_err() {
        // Nothing else lies there.
        let _ = std::fs::remove_dir_all(to);
    }
    copied
}

/// Gives the originals in the old ledger second names in the side folders of their roots, which lie on the same volume; copies
/// them where the disk has no such thing.
fn put_originals_aside(
    old: &Path,
    sides: &HashMap<RootId, PathBuf>,
    paths: &HashMap<PathId, RootId>,
    seam: &dyn Seam,
) -> Result<(), LedgerError> {
    let folder = old.join(ORIGINALS);
    let entries = match std::fs::read_dir(&folder) {
        Err(error) if is_nothing_there(&error) => return Ok(()),
        other => other.map_err(LedgerError::io("look into", &folder))?,
    };
    let mut touched = Vec::new();
    for entry in entries {
        let from = entry.map_err(LedgerError::io("look into", &folder))?.path();
        let number = from.file_name().and_then(|name| name.to_str()?.parse::<i64>().ok());
        let root = number.and_then(|number| paths.get(&PathId(number)));
        let Some(side) = root.and_then(|root| sides.get(root)) else { continue };
        let originals = side.join(ORIGINALS);
        // The folder of a shared root lies in one of ours.
        let above = side.parent().filter(|above| above.file_name().is_some_and(|name| name == SIDE_FOLDER));
        for folder in above.into_iter().chain([side.as_path(), &originals]) {
            make_private_folder(folder, seam)?;
        }
        let to = originals.join(from.file_name().unwrap_or_default());
        if look_at(&to).map_err(LedgerError::io("look at", &to))?.is_some() {
            // Of a move that was cut short.
            seam.remove_file(&to).map_err(LedgerError::io("remove", &to))?;
        }
        if seam.link_file(&from, &to).is_err() {
            let seen = look_at(&from).map_err(LedgerError::io("look at", &from))?;
            let Some(seen) = seen else { continue };
            let stamp = Stamp::at(seen.modified_ns, seen.mode);
            let copied = seam.copy_original(&from, &to, seen.size_bytes, stamp);
            copied.map_err(LedgerError::io("write", &to))?;
        }
        touched.push(to);
    }
    let touched: Vec<&Path> = touched.iter().map(PathBuf::as_path).collect();
    for side in sides.values().filter(|side| side.is_dir()) {
        seam.make_durable(side, &touched).map_err(LedgerError::io("write to", side))?;
    }
    Ok(())
}

/// Says in the new catalogue where the game's own files lie from then on.
fn write_game(to: &Path, game: Game, seam: &Arc<dyn Seam>) -> Result<(), LedgerError> {
    let ledger = Ledger::open(to, Arc::clone(seam))?;
    let transaction = Transaction::begin(&ledger)?;
    transaction.write_game(game)?;
    transaction.commit()?;
    crate::ledger::ensure_names(&ledger)
}
