//! Building a second folder of the game, and bringing it up to date.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use rayon::prelude::*;

use super::error::BuildError;
use super::plan::{BuildReport, Outfitting};
use super::wanted::{Source, WantedFile};
use crate::address::{FoldedKey, SIDE_FOLDER};
use crate::change::ChangeError;
use crate::check::lost_contents;
use crate::expected::{Blender, BuildError as ContainerError};
use crate::files::{
    KEPT, STAGE, Seam, Stamp, TRASH, is_nothing_there, is_seldom_written, look_at, shares_blocks,
};
use crate::game::BigFiles;
use crate::hash::ContentHash;
use crate::jobs::Count;
use crate::jobs::stored::renew::renew_contents;
use crate::ledger::{BuiltThing, Ledger, LedgerError, Stored, Transaction, check_room};
use crate::moment::Moment;
use crate::observer::{Observer, Work};
use crate::stack::{BaseKind, RootId};

/// Why not all lies beside its place.
enum Staging {
    /// Contents of layers that are not what they were.
    Lost(HashSet<ContentHash>),
    Failed(ChangeError),
}

impl std::convert::From<ChangeError> for Staging {
    fn from(error: ChangeError) -> Self {
        Self::Failed(error)
    }
}

impl std::convert::From<LedgerError> for Staging {
    fn from(error: LedgerError) -> Self {
        Self::Failed(error.into())
    }
}

impl Outfitting<'_> {
    /// Builds it. A build that is cut short goes on when it is run again.
    ///
    /// # Errors
    /// [`BuildError::CutShort`] once something was begun.
    pub fn make(mut self, now: Moment, observer: &dyn Observer) -> Result<BuildReport, BuildError> {
        if self.is_up_to_date {
            return Ok(self.report);
        }
        self.check_room()?;
        self.built.made_at = now.to_string();
        self.built.is_finished = false;
        match self.carry_out(observer) {
            Ok(()) => Ok(self.report),
            Err(source) => {
                let what = source.to_string();
                Err(BuildError::CutShort { what, source: Box::new(source) })
            }
        }
    }

    fn check_room(&mut self) -> Result<(), BuildError> {
        for (root, folder) in &self.built.roots {
            let Some(folder) = folder else { continue };
            let there = folder.ancestors().find(|there| there.is_dir()).unwrap_or(folder);
            if shares_blocks(there) {
                self.report.shares_blocks = true;
                continue;
            }
            let comes = self.acts.iter().filter(|act| act.comes && act.at.0 == *root);
            let files = comes.filter_map(|act| self.tree.files.get(&act.at));
            let copies = files.filter(|file| !(self.built.by_link && self.may_be_link(file)));
            check_room(folder, copies.map(|file| file.origin.size_bytes).sum())?;
        }
        Ok(())
    }

    /// Whether a file of the game's own may be linked: a big one that nobody is likely to write to.
    fn may_be_link(&self, file: &WantedFile) -> bool {
        let name = file.path.as_str();
        matches!(file.source, Source::Own(_))
            && file.kind == BaseKind::File
            && file.origin.size_bytes >= BigFiles::USUALLY_FROM_BYTES
            && is_seldom_written(name)
            && self.tree.order.blend_rules().format_of(name).is_none()
    }

    fn carry_out(&mut self, observer: &dyn Observer) -> Result<(), ChangeError> {
        let (ledger, seam) = (self.ledger, &*self.ledger.seam);
        let folders: Vec<PathBuf> =
            self.built.roots.iter().filter_map(|(_, folder)| folder.clone()).collect();
        let game = ledger.game().roots.iter().map(|root| root.folder.clone());
        for folder in &folders {
            make_folders(folder, seam)?;
        }
        seam.fence(&game.chain(folders.iter().cloned()).collect::<Vec<_>>());
        let planned: Vec<BuiltThing> = self.tree.files.iter().map(|(at, file)| planned(at.0, file)).collect();
        let transaction = Transaction::begin(ledger)?;
        self.built.id = ledger.catalogue.write_built(&self.built)?;
        ledger.catalogue.plan_built(self.built.id, &planned)?;
        transaction.commit()?;
        for folder in &folders {
            let side = folder.join(SIDE_FOLDER);
            for path in [side.clone(), side.join(STAGE), side.join(TRASH)] {
                make_folders(&path, seam)?;
            }
            clear(&side, seam)?;
        }
        for (root, path) in &self.tree.folders {
            make_folders(&path.on(self.folder(*root)), seam)?;
        }
        let staged = self.stage_whole(&folders, observer)?;
        self.exchange(&staged, observer)?;
        let touched = self.drop_folders();
        let touched: Vec<&Path> = touched.iter().map(PathBuf::as_path).collect();
        for folder in &folders {
            seam.make_durable(folder, &touched).map_err(LedgerError::io("write to", folder))?;
        }
        let things = self.things_now()?;
        let transaction = Transaction::begin(ledger)?;
        self.built.is_finished = true;
        ledger.catalogue.write_built(&self.built)?;
        ledger.catalogue.note_built(self.built.id, &things)?;
        seam.pass("built").map_err(LedgerError::io("write to", ledger.folder()))?;
        transaction.commit()?;
        for folder in &folders {
            let side = folder.join(SIDE_FOLDER);
            // What stays of it is cleared by the next build.
            let _ = clear(&side, seam);
            for path in [side.join(STAGE), side.join(TRASH), side.join(KEPT), side] {
                let _ = seam.remove_folder(&path);
            }
        }
        Ok(())
    }

    /// As [`Self::stage`]; what is lost is taken again from where it still lies.
    fn stage_whole(
        &mut self,
        folders: &[PathBuf],
        observer: &dyn Observer,
    ) -> Result<HashMap<usize, PathBuf>, ChangeError> {
        let ledger = self.ledger;
        let mut looked_for: HashSet<ContentHash> = HashSet::new();
        loop {
            let lost = match self.stage(observer) {
                Ok(staged) => return Ok(staged),
                Err(Staging::Failed(error)) => return Err(error),
                Err(Staging::Lost(lost)) => lost,
            };
            let is_new = lost.iter().any(|hash| !looked_for.contains(hash));
            if !is_new || renew_contents(ledger, &lost, observer)? == 0 {
                return Err(ChangeError::ContentsLost { files: lost_contents(ledger, &lost)? });
            }
            looked_for.extend(lost);
            for folder in folders {
                clear(&folder.join(SIDE_FOLDER), &*ledger.seam)?;
            }
        }
    }

    /// Puts copies of all that comes beside its place; gives where each is.
    fn stage(&mut self, observer: &dyn Observer) -> Result<HashMap<usize, PathBuf>, Staging> {
        let (ledger, seam) = (self.ledger, &*self.ledger.seam);
        let acts = self.acts.iter().enumerate().filter(|(_, act)| act.comes);
        let comes: Vec<(usize, &WantedFile)> =
            acts.filter_map(|(number, act)| Some((number, self.tree.files.get(&act.at)?))).collect();
        let new = |number: usize| {
            let root = self.acts[number].at.0;
            self.folder(root).join(SIDE_FOLDER).join(STAGE).join(number.to_string())
        };
        let bytes = comes.iter().map(|(_, file)| file.origin.size_bytes).sum();
        observer.begin(Work::Staging, comes.len() as u64, bytes);
        let (made, copied): (Vec<_>, Vec<_>) =
            comes.iter().copied().partition(|(number, file)| self.is_made(&self.acts[*number].at, file));
        let lost: Mutex<HashSet<ContentHash>> = Mutex::default();
        let linked: Mutex<Count> = Mutex::default();
        let has_linked = ledger.catalogue.has_linked()?;
        let mut written = HashSet::new();
        for hash in copied.iter().filter_map(|(_, file)| file.origin.hash.filter(|_| has_linked)) {
            if ledger.is_written_through(hash)? {
                written.insert(hash);
            }
        }
        let from = copied.iter().map(|(_, file)| source_of(ledger, file));
        let from = from.collect::<Result<Vec<_>, _>>()?;
        let copied: Vec<(PathBuf, &WantedFile, bool)> = copied
            .into_iter()
            .map(|(number, file)| (new(number), file, self.built.by_link && self.may_be_link(file)))
            .collect();
        let done = copied.par_iter().zip(&from).try_for_each(|((path, file, may_link), from)| {
            if observer.is_cancelled() {
                return Err(ChangeError::Cancelled);
            }
            let is_lost = matches!(file.source, Source::Layer(_))
                && file.origin.hash.is_some_and(|hash| written.contains(&hash));
            let done = if is_lost { Ok(Put::Other) } else { put(from, file, path, *may_link, seam) };
            match done {
                Ok(Put::Copied) => {}
                Ok(Put::Linked) => {
                    let mut linked = linked.lock().unwrap_or_else(PoisonError::into_inner);
                    linked.files += 1;
                    linked.bytes += file.origin.size_bytes;
                }
                Ok(Put::Other) => {
                    lost.lock().unwrap_or_else(PoisonError::into_inner).extend(file.origin.hash);
                }
                Err(source) => return Err(ChangeError::Stage { path: path.clone(), source }),
            }
            observer.advance(1, file.origin.size_bytes);
            Ok(())
        });
        let done = done.map_err(Staging::from).and_then(|()| self.make_files(&made, &new, observer));
        observer.end();
        done?;
        let lost = lost.into_inner().unwrap_or_else(PoisonError::into_inner);
        if !lost.is_empty() {
            return Err(Staging::Lost(lost));
        }
        let staged = comes.iter().map(|(number, _)| (*number, new(*number))).collect();
        self.report.linked = linked.into_inner().unwrap_or_else(PoisonError::into_inner);
        Ok(staged)
    }

    /// Whether a file is merged of several, or a container with other members, and so is made.
    fn is_made(&self, at: &(RootId, FoldedKey), file: &WantedFile) -> bool {
        let Source::Layer(_) = file.source else { return false };
        self.tree.columns.get(at).is_some_and(|column| {
            column.composition(&self.tree.order).is_some() || column.recipe(&self.tree.order).is_some()
        })
    }

    fn make_files(
        &self,
        made: &[(usize, &WantedFile)],
        new: &dyn Fn(usize) -> PathBuf,
        observer: &dyn Observer,
    ) -> Result<(), Staging> {
        let (ledger, seam, order) = (self.ledger, &*self.ledger.seam, &self.tree.order);
        let blender = Blender::new(ledger);
        for (number, file) in made {
            if observer.is_cancelled() {
                return Err(ChangeError::Cancelled.into());
            }
            let (path, Source::Layer(entry)) = (new(*number), &file.source) else { continue };
            let Some(column) = self.tree.columns.get(&self.acts[*number].at) else { continue };
            let mut columns = [column.clone()];
            blender.learn(&mut columns, order)?;
            let [column] = columns;
            let failed = |source| ChangeError::Stage { path: path.clone(), source };
            let stamp = Stamp::at(file.origin.modified_ns, file.mode);
            let building = match column.composition(order) {
                Some(composition) => {
                    Some(blender.building(&column, &composition, order)?.map_err(|reason| {
                        let container = self.address(&self.acts[*number].at, &file.path);
                        ChangeError::NotIntoContainer { container, reason }
                    })?)
                }
                None => None,
            };
            if let Some(building) = building {
                building
                    .make(false, |blocks| seam.write_blocks(&path, building.made_from(), blocks))
                    .map_err(|error| match error {
                        ContainerError::Io(source) => failed(source).into(),
                        ContainerError::Lost(lost) => Staging::Lost(lost.into_iter().collect()),
                        other => failed(std::io::Error::other(other.to_string())).into(),
                    })?;
                seam.stamp(&path, stamp).map_err(failed)?;
            } else if let Some(content) = blender.content_of(&column, entry, order)? {
                let written = seam.write_file(&path, &mut content.as_slice());
                written.and_then(|_| seam.stamp(&path, stamp)).map_err(failed)?;
            } else if let Put::Other =
                put(&source_of(ledger, file)?, file, &path, false, seam).map_err(failed)?
            {
                return Err(Staging::Lost(file.origin.hash.into_iter().collect()));
            }
            observer.advance(1, file.origin.size_bytes);
        }
        Ok(())
    }

    /// Takes out what goes, and puts in what comes.
    fn exchange(&self, staged: &HashMap<usize, PathBuf>, observer: &dyn Observer) -> Result<(), ChangeError> {
        let seam = &*self.ledger.seam;
        observer.begin(Work::Placing, self.acts.len() as u64, 0);
        let rename = |from: &Path, to: &Path| {
            seam.rename(from, to).map_err(LedgerError::io("move to", to)).map_err(ChangeError::from)
        };
        for (number, act) in self.acts.iter().enumerate() {
            let folder = self.folder(act.at.0);
            if let Some((path, saved)) = &act.goes {
                let to = match saved {
                    Some(saved) => saved.clone(),
                    None => folder.join(SIDE_FOLDER).join(TRASH).join(number.to_string()),
                };
                if let Some(parent) = to.parent().filter(|_| saved.is_some()) {
                    make_folders(parent, seam)?;
                }
                rename(&path.on(folder), &to)?;
            }
            if let (Some(from), Some(file)) = (staged.get(&number), self.tree.files.get(&act.at)) {
                rename(from, &file.path.on(folder))?;
            }
            observer.advance(1, 0);
        }
        observer.end();
        Ok(())
    }

    /// Removes these where nothing lies in them; gives all folders and files that were touched.
    fn drop_folders(&self) -> Vec<PathBuf> {
        for (root, path) in self.folders_to_go().iter().rev() {
            // One with something in it stays.
            let _ = self.ledger.seam.remove_folder(&path.on(self.folder(*root)));
        }
        let files = self.acts.iter().filter(|act| act.comes);
        let files =
            files.filter_map(|act| Some(self.tree.files.get(&act.at)?.path.on(self.folder(act.at.0))));
        let folders = self.tree.folders.iter().map(|(root, path)| path.on(self.folder(*root)));
        files.chain(folders).collect()
    }

    /// What lies in the second folder now, as it is to be known.
    fn things_now(&self) -> Result<Vec<BuiltThing>, ChangeError> {
        let mut things = BTreeMap::new();
        for (at, file) in &self.tree.files {
            let before = self.known.get(at).and_then(|things| things.iter().find(|thing| !thing.is_planned));
            let thing = match before.filter(|_| self.edits_left.contains(at)) {
                Some(before) => before.clone(),
                None => {
                    let path = file.path.on(self.folder(at.0));
                    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
                    let Some(seen) = seen else { continue };
                    BuiltThing {
                        is_planned: false,
                        size_bytes: seen.size_bytes,
                        modified_ns: seen.modified_ns,
                        ..planned(at.0, file)
                    }
                }
            };
            things.insert((at.0, thing.path.clone()), thing);
        }
        // What could not be removed is tried again by the next build.
        for (root, path) in self.tree.folders.iter().chain(&self.folders_to_go()) {
            let folder = BuiltThing {
                root: *root,
                path: path.clone(),
                kind: BaseKind::Folder,
                size_bytes: 0,
                modified_ns: 0,
                hash: None,
                source_ns: 0,
                is_planned: false,
            };
            things.insert((*root, path.clone()), folder);
        }
        Ok(things.into_values().collect())
    }
}

/// Removes what an earlier build has left.
fn clear(side: &Path, seam: &dyn Seam) -> Result<(), ChangeError> {
    for folder in [side.join(STAGE), side.join(TRASH)] {
        let entries = std::fs::read_dir(&folder).map_err(LedgerError::io("look into", &folder))?;
        for entry in entries {
            let path = entry.map_err(LedgerError::io("look into", &folder))?.path();
            seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
        }
    }
    Ok(())
}

/// Makes a folder and those above it, where they are not there.
fn make_folders(path: &Path, seam: &dyn Seam) -> Result<(), ChangeError> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(parent) = path.parent() {
        make_folders(parent, seam)?;
    }
    match seam.create_folder(path) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists || !path.is_dir() => {
            Err(LedgerError::io("make", path)(error).into())
        }
        _ => Ok(()),
    }
}

fn planned(root: RootId, file: &WantedFile) -> BuiltThing {
    BuiltThing {
        root,
        path: file.path.clone(),
        kind: file.kind,
        size_bytes: file.origin.size_bytes,
        modified_ns: file.origin.modified_ns,
        hash: file.origin.hash,
        source_ns: file.origin.modified_ns,
        is_planned: true,
    }
}

/// How a file was put.
enum Put {
    Copied,
    Linked,
    /// What is stored is not what it was.
    Other,
}

/// Where the bytes of a file come from.
enum From {
    File(PathBuf),
    Packed(Stored),
    Nowhere,
}

fn source_of(ledger: &Ledger, file: &WantedFile) -> Result<From, LedgerError> {
    Ok(match (&file.source, file.origin.hash) {
        (Source::Own(own), _) => From::File(own.clone()),
        (Source::Layer(_), Some(hash)) => {
            let stored = ledger.stored(hash)?;
            stored.own_file().map_or_else(|| From::Packed(stored), From::File)
        }
        (Source::Layer(_), None) => From::Nowhere,
    })
}

/// Puts one file that need not be made.
fn put(from: &From, file: &WantedFile, to: &Path, may_link: bool, seam: &dyn Seam) -> std::io::Result<Put> {
    let stamp = Stamp::at(file.origin.modified_ns, file.mode);
    let from = match from {
        From::File(from) => from,
        From::Packed(stored) => {
            return match stored.packed() {
                Ok(Some(content)) if Some(ContentHash::of(&content)) == file.origin.hash => {
                    seam.write_new(to, &content, stamp).map(|()| Put::Copied)
                }
                _ => Ok(Put::Other),
            };
        }
        From::Nowhere => return Ok(Put::Other),
    };
    if file.kind == BaseKind::Link {
        return seam.make_link(&std::fs::read_link(from)?, to).map(|()| Put::Copied);
    }
    if may_link && seam.link_file(from, to).is_ok() {
        return Ok(Put::Linked);
    }
    let copied = seam.copy_file(from, to, file.origin.size_bytes, stamp);
    let copied = match copied {
        Err(error) if is_nothing_there(&error) && !from.exists() => return Ok(Put::Other),
        other => other?,
    };
    let is_whole = copied.size_bytes == file.origin.size_bytes;
    match (&file.source, copied.hash) {
        (Source::Own(_), _) if !is_whole => Err(std::io::Error::other("it changed while it was read")),
        (Source::Layer(_), Some(hash)) if Some(hash) != file.origin.hash => Ok(Put::Other),
        (Source::Layer(_), _) if !is_whole => Ok(Put::Other),
        _ => Ok(Put::Copied),
    }
}
