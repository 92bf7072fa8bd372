//! Doing the steps of a change, and taking them back.

use std::collections::HashSet;
use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::keeping::Way;
use super::step::{Step, StepKind, is_staged};
use super::steps::Steps;
use crate::files::{Seam, is_nothing_there, look_at};
use crate::observer::Observer;
use crate::stack::BaseKind;

/// A step that the disk refused.
#[derive(Debug)]
pub(super) struct StepFailed {
    pub path: PathBuf,
    pub source: io::Error,
}

type Result<T> = std::result::Result<T, StepFailed>;

fn at(path: &Path) -> impl FnOnce(io::Error) -> StepFailed {
    let path = path.to_path_buf();
    move |source| StepFailed { path, source }
}

/// Does all steps that are not done yet, and makes them durable. `side_folders` are folders on the volumes
/// concerned. What came meanwhile to where something is to lie makes way, or ends it. Can be repeated after any stop.
pub(super) fn forward(
    steps: &Steps,
    side_folders: &[PathBuf],
    way: Option<&Way<'_>>,
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> Result<()> {
    let move_in = |public: &Path, private: &Path| move_in(public, private, way, seam);
    let move_out = |public: &Path, private: &Path| move_out(public, private, seam);
    for kind in [StepKind::SetAside, StepKind::TakeOut] {
        each_at_once(steps.of(&[kind]), observer, move_out)?;
        sync(steps, &[kind], side_folders, seam)?;
    }
    // Folders go before others come: a file may come to where a folder was.
    for kind in [StepKind::RenameFolder, StepKind::DropFolder, StepKind::MakeFolder] {
        for step in steps.of(&[kind]) {
            match &step {
                Step::RenameFolder { from, to } => rename_folder(from, to, seam)?,
                Step::DropFolder { path } => drop_folder(path, seam)?,
                Step::MakeFolder { path } => make_folder(path, way, seam)?,
                Step::TakeOut { .. } | Step::SetAside { .. } | Step::PutIn { .. } => {}
            }
        }
    }
    each_at_once(steps.of(&[StepKind::PutIn]), observer, move_in)?;
    sync(steps, &StepKind::ALL, side_folders, seam)
}

/// Takes back all steps that were done, and makes that durable. What came meanwhile to where something lay makes way. Can
/// be repeated after any stop.
pub(super) fn back(
    steps: &Steps,
    side_folders: &[PathBuf],
    way: &Way<'_>,
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> Result<()> {
    let move_in = |public: &Path, private: &Path| move_in(public, private, Some(way), seam);
    let move_out = |public: &Path, private: &Path| move_out(public, private, seam);
    each_at_once(steps.of(&[StepKind::PutIn]), observer, move_out)?;
    sync(steps, &[StepKind::PutIn], side_folders, seam)?;
    for kind in [StepKind::MakeFolder, StepKind::DropFolder, StepKind::RenameFolder] {
        let folders: Vec<Step> = steps.of(&[kind]).collect();
        for step in folders.iter().rev() {
            match step {
                Step::MakeFolder { path } => drop_folder(path, seam)?,
                Step::DropFolder { path } => make_folder(path, Some(way), seam)?,
                Step::RenameFolder { from, to } => rename_folder(to, from, seam)?,
                Step::TakeOut { .. } | Step::SetAside { .. } | Step::PutIn { .. } => {}
            }
        }
    }
    // Where an original of before lies in its place again, or never left it, what would be taken back from that place
    // is taken back already.
    let mut places: HashSet<PathBuf> = HashSet::new();
    for step in steps.of(&[StepKind::SetAside]) {
        if let Step::SetAside { public, private } = step
            && look_at(&private).map_err(at(&private))?.is_none()
        {
            places.insert(public);
        }
    }
    let is_out = |step: &Step| matches!(step, Step::TakeOut { private, .. } if !places.contains(private));
    each_at_once(steps.of(&[StepKind::TakeOut]).filter(is_out), observer, move_in)?;
    sync(steps, &[StepKind::TakeOut], side_folders, seam)?;
    each_at_once(steps.of(&[StepKind::SetAside]), observer, move_in)?;
    sync(steps, &[StepKind::SetAside], side_folders, seam)
}

/// So many steps are held at once: enough for all threads, and few to remember.
const STEPS_AT_ONCE: usize = 4096;

fn each_at_once(
    mut steps: impl Iterator<Item = Step>,
    observer: &dyn Observer,
    act: impl Fn(&Path, &Path) -> Result<()> + Sync,
) -> Result<()> {
    loop {
        let some: Vec<Step> = steps.by_ref().take(STEPS_AT_ONCE).collect();
        if some.is_empty() {
            return Ok(());
        }
        some.par_iter().try_for_each(|step| {
            if let (Some(private), public) = step.ends() {
                act(public, private)?;
                observer.advance(1, 0);
            }
            Ok(())
        })?;
    }
}

/// Moves a file from the game to its private name; done if something lies there already.
fn move_out(public: &Path, private: &Path, seam: &dyn Seam) -> Result<()> {
    match seam.rename(public, private) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) if is_nothing_there(&error) && look_at(public).map_err(at(public))?.is_none() => Ok(()),
        other => other.map_err(at(public)),
    }
}

/// Moves a file from its private name into the game; done if nothing lies there any more.
fn move_in(public: &Path, private: &Path, way: Option<&Way<'_>>, seam: &dyn Seam) -> Result<()> {
    rename_in(public, private, way, seam)?;
    if is_staged(private) {
        seam.inherit_rights(public);
    }
    Ok(())
}

fn rename_in(public: &Path, private: &Path, way: Option<&Way<'_>>, seam: &dyn Seam) -> Result<()> {
    let error = match seam.rename(private, public) {
        Ok(()) => return Ok(()),
        Err(error) => error,
    };
    let is_taken = error.kind() == io::ErrorKind::AlreadyExists;
    if (is_taken || is_nothing_there(&error)) && look_at(private).map_err(at(private))?.is_none() {
        return Ok(());
    }
    let path = public.to_path_buf();
    match way {
        None if is_taken => {
            let source = io::Error::new(error.kind(), "another program has just put a file there");
            return Err(StepFailed { path, source });
        }
        Some(way) if is_taken || is_nothing_there(&error) => {
            way.make(public, Some(private)).map_err(at(public))?;
        }
        // Somebody has taken the folder away meanwhile.
        None if is_nothing_there(&error) => {}
        _ => return Err(StepFailed { path, source: error }),
    }
    make_folders_above(public, seam);
    seam.rename(private, public).map_err(at(public))
}

/// Makes the folders above a path that are not there, as far as that can be.
fn make_folders_above(path: &Path, seam: &dyn Seam) {
    let missing = path.ancestors().skip(1).take_while(|folder| matches!(look_at(folder), Ok(None)));
    let missing: Vec<&Path> = missing.collect();
    // Another thread may make the same.
    let is_made =
        |folder: &&&Path| seam.create_folder(folder).is_ok() || matches!(look_at(folder), Ok(Some(_)));
    missing.iter().rev().take_while(is_made).for_each(drop);
}

fn rename_folder(from: &Path, to: &Path, seam: &dyn Seam) -> Result<()> {
    match look_at(from).map_err(at(from))? {
        Some(_) => seam.respell(from, to).map_err(at(from)),
        None => Ok(()),
    }
}

fn make_folder(path: &Path, way: Option<&Way<'_>>, seam: &dyn Seam) -> Result<()> {
    match seam.create_folder(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => match (look_at(path), way) {
            (Ok(Some(seen)), Some(way)) if seen.kind != BaseKind::Folder => {
                way.make(path, None).map_err(at(path))?;
                seam.create_folder(path).map_err(at(path))
            }
            _ => Ok(()),
        },
        other => other.map_err(at(path)),
    }
}

/// Whether a folder can't go since another program stands in it or has it open.
pub(super) fn is_held(error: &io::Error) -> bool {
    // ERROR_ACCESS_DENIED and ERROR_SHARING_VIOLATION (learn.microsoft.com, RemoveDirectoryW).
    error.kind() == io::ErrorKind::ResourceBusy
        || cfg!(windows) && matches!(error.raw_os_error(), Some(5 | 32))
}

/// Drops a folder if it is empty and nobody holds it.
fn drop_folder(path: &Path, seam: &dyn Seam) -> Result<()> {
    match seam.remove_folder(path) {
        Err(error) if is_held(&error) => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty || is_nothing_there(&error) => Ok(()),
        other => other.map_err(at(path)),
    }
}

/// Makes durable what steps of these kinds did, if there are any.
fn sync(steps: &Steps, kinds: &[StepKind], side_folders: &[PathBuf], seam: &dyn Seam) -> Result<()> {
    // Paths compare part by part, which takes longer than all else of a step.
    let mut folders: HashSet<OsString> = HashSet::new();
    for step in steps.of(kinds) {
        let (private, public) = step.ends();
        // Where a folder lay before, nothing is written.
        let private = private.filter(|_| step.kind() != StepKind::RenameFolder);
        for folder in private.into_iter().chain([public]).filter_map(Path::parent) {
            if !folders.contains(folder.as_os_str()) {
                folders.insert(folder.as_os_str().to_owned());
            }
        }
    }
    let folders: Vec<&Path> = folders.iter().map(Path::new).collect();
    for side in side_folders.iter().filter(|_| !folders.is_empty()) {
        seam.make_durable(side, &folders).map_err(at(side))?;
    }
    Ok(())
}

/// Removes everything in `folder`, but not the folder. A missing folder is an empty one.
pub(crate) fn empty_folder(folder: &Path, seam: &dyn Seam) -> io::Result<()> {
    empty_by(folder, seam, &|path| seam.remove_file(path))
}

/// As [`empty_folder`], but waits for nobody who holds a file in it.
pub(super) fn empty_of_what_is_free(folder: &Path, seam: &dyn Seam) -> io::Result<()> {
    empty_by(folder, seam, &|path| seam.remove_if_free(path))
}

fn empty_by(
    folder: &Path,
    seam: &dyn Seam,
    remove: &(dyn Fn(&Path) -> io::Result<()> + Sync),
) -> io::Result<()> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries.collect::<io::Result<Vec<_>>>()?,
        Err(error) if is_nothing_there(&error) => return Ok(()),
        Err(error) => return Err(error),
    };
    entries.par_iter().try_for_each(|entry| {
        if entry.file_type()?.is_dir() {
            empty_by(&entry.path(), seam, remove)?;
            seam.remove_folder(&entry.path())
        } else {
            remove(&entry.path())
        }
    })
}
