//! Doing the steps of a change, and taking them back.

use std::collections::{BTreeSet, HashSet};
use std::io;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::step::Step;
use crate::files::{STAGE, Seam, is_nothing_there, look_at};
use crate::observer::Observer;

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
/// concerned. Can be repeated after any stop.
pub(super) fn forward(
    steps: &[Step],
    side_folders: &[PathBuf],
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> Result<()> {
    let (aside, rest): (Vec<&Step>, Vec<&Step>) =
        steps.iter().partition(|step| matches!(step, Step::SetAside { .. }));
    each_at_once(&aside, seam, observer, move_out)?;
    sync(&aside, side_folders, seam)?;
    let (out, rest): (Vec<&Step>, Vec<&Step>) =
        rest.into_iter().partition(|step| matches!(step, Step::TakeOut { .. }));
    each_at_once(&out, seam, observer, move_out)?;
    sync(&out, side_folders, seam)?;
    let (files, folders): (Vec<&Step>, Vec<&Step>) =
        rest.into_iter().partition(|step| matches!(step, Step::PutIn { .. }));
    // Folders go before others come: a file may come to where a folder was.
    for step in &folders {
        if let Step::RenameFolder { from, to } = step {
            rename_folder(from, to, seam)?;
        }
    }
    for step in &folders {
        if let Step::DropFolder { path } = step {
            drop_folder(path, seam)?;
        }
    }
    for step in &folders {
        if let Step::MakeFolder { path } = step {
            make_folder(path, seam)?;
        }
    }
    each_at_once(&files, seam, observer, move_in)?;
    sync(steps.iter().collect::<Vec<_>>().as_slice(), side_folders, seam)
}

/// Takes back all steps that were done, and makes that durable. Can be repeated after any stop.
pub(super) fn back(
    steps: &[Step],
    side_folders: &[PathBuf],
    seam: &dyn Seam,
    observer: &dyn Observer,
) -> Result<()> {
    let files: Vec<&Step> = steps.iter().filter(|step| matches!(step, Step::PutIn { .. })).collect();
    each_at_once(&files, seam, observer, move_out)?;
    sync(&files, side_folders, seam)?;
    for step in steps.iter().rev() {
        if let Step::MakeFolder { path } = step {
            drop_folder(path, seam)?;
        }
    }
    for step in steps.iter().rev() {
        if let Step::DropFolder { path } = step {
            make_folder(path, seam)?;
        }
    }
    for step in steps.iter().rev() {
        if let Step::RenameFolder { from, to } = step {
            rename_folder(to, from, seam)?;
        }
    }
    // Where an original of before lies in its place again, or never left it, what would be taken back from that place
    // is taken back already.
    let aside: Vec<&Step> = steps.iter().filter(|step| matches!(step, Step::SetAside { .. })).collect();
    let mut places: HashSet<&Path> = HashSet::new();
    for step in &aside {
        if let Step::SetAside { public, private } = step
            && look_at(private).map_err(at(private))?.is_none()
        {
            places.insert(public);
        }
    }
    let is_out =
        |step: &&Step| matches!(step, Step::TakeOut { private, .. } if !places.contains(private.as_path()));
    let out: Vec<&Step> = steps.iter().filter(is_out).collect();
    each_at_once(&out, seam, observer, move_in)?;
    sync(&out, side_folders, seam)?;
    each_at_once(&aside, seam, observer, move_in)?;
    sync(&aside, side_folders, seam)
}

fn each_at_once(
    steps: &[&Step],
    seam: &dyn Seam,
    observer: &dyn Observer,
    act: fn(&Path, &Path, &dyn Seam) -> Result<()>,
) -> Result<()> {
    steps.par_iter().try_for_each(|step| {
        if let Step::TakeOut { public, private }
        | Step::SetAside { public, private }
        | Step::PutIn { private, public } = step
        {
            act(public, private, seam)?;
            observer.advance(1, 0);
        }
        Ok(())
    })
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
fn move_in(public: &Path, private: &Path, seam: &dyn Seam) -> Result<()> {
    let is_new = private.parent().is_some_and(|folder| folder.ends_with(STAGE));
    rename_in(public, private, seam)?;
    if is_new {
        seam.inherit_rights(public);
    }
    Ok(())
}

fn rename_in(public: &Path, private: &Path, seam: &dyn Seam) -> Result<()> {
    let is_done = || Ok(look_at(private).map_err(at(private))?.is_none());
    match seam.rename(private, public) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && !is_done()? => {
            let source = io::Error::new(error.kind(), "another program has just put a file there");
            Err(StepFailed { path: public.to_path_buf(), source })
        }
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) if is_nothing_there(&error) && is_done()? => Ok(()),
        // Somebody has taken the folder away meanwhile.
        Err(error) if is_nothing_there(&error) && make_folders_above(public, seam) => {
            seam.rename(private, public).map_err(at(public))
        }
        other => other.map_err(at(public)),
    }
}

/// Makes the folders above a path that are not there; says whether it made any.
fn make_folders_above(path: &Path, seam: &dyn Seam) -> bool {
    let missing = path.ancestors().skip(1).take_while(|folder| matches!(look_at(folder), Ok(None)));
    let missing: Vec<&Path> = missing.collect();
    let made = missing
        .iter()
        .rev()
        .all(|folder| seam.create_folder(folder).is_ok() || matches!(look_at(folder), Ok(Some(_))));
    made && !missing.is_empty()
}

fn rename_folder(from: &Path, to: &Path, seam: &dyn Seam) -> Result<()> {
    match look_at(from).map_err(at(from))? {
        Some(_) => seam.respell(from, to).map_err(at(from)),
        None => Ok(()),
    }
}

fn make_folder(path: &Path, seam: &dyn Seam) -> Result<()> {
    match seam.create_folder(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
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

fn sync(steps: &[&Step], side_folders: &[PathBuf], seam: &dyn Seam) -> Result<()> {
    if steps.is_empty() {
        return Ok(());
    }
    let mut folders: BTreeSet<&Path> = BTreeSet::new();
    for step in steps {
        let ends = match step {
            Step::TakeOut { public, private }
            | Step::SetAside { public, private }
            | Step::PutIn { private, public } => [Some(public), Some(private)],
            Step::RenameFolder { to, .. } => [Some(to), None],
            Step::MakeFolder { path } | Step::DropFolder { path } => [Some(path), None],
        };
        folders.extend(ends.into_iter().flatten().filter_map(|path| path.parent()));
    }
    let folders: Vec<&Path> = folders.into_iter().collect();
    for side in side_folders {
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
