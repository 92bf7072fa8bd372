//! Stored contents that turn out to be lost while they are put beside their places: they are taken from their packages again, where
//! these still lie where they were. The ledger has them again once the change is made.

use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use super::decision::{Made, Staged};
use super::error::ChangeError;
use super::staging::build;
use crate::expected::Built;
use crate::files::{HashingReader, STAGE, Seam, open_regular};
use crate::hash::ContentHash;
use crate::ledger::{Incoming, Ledger, LedgerError, put_again};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::package::{PackageError, search};

/// Contents by hash, each with its size in bytes and where it lies until the change is made.
pub(super) type Fetched = HashMap<ContentHash, (u64, PathBuf)>;

/// What stops a package from being searched.
enum Fetching {
    Package(PackageError),
    Change(ChangeError),
}

impl From<PackageError> for Fetching {
    fn from(error: PackageError) -> Self {
        Self::Package(error)
    }
}

/// Puts `lost` contents beside their places, as far as the packages that they came with have them; and what to tell of it.
///
/// # Errors
/// [`ChangeError`] where they can't be written; nothing visible was changed.
pub(super) fn fetch_again(
    ledger: &Ledger,
    staged: &[Staged],
    lost: &HashSet<ContentHash>,
    observer: &dyn Observer,
) -> Result<(Fetched, Vec<Notice>), ChangeError> {
    let looking = Looking::new(ledger, staged, lost)?;
    let mut notices = Vec::new();
    for package in ledger.catalogue.packages_with(lost)?.into_iter().filter(|package| package.exists()) {
        let before = looking.found_files();
        if before == lost.len() {
            break;
        }
        let take = |size_bytes: u64, content: &mut dyn Read| looking.take(size_bytes, content);
        match search(&package, &|size_bytes| looking.by_size.contains_key(&size_bytes), &take, observer) {
            Ok(()) => {}
            Err(Fetching::Package(PackageError::Cancelled)) => return Err(ChangeError::Cancelled),
            Err(Fetching::Package(error)) => {
                observer.notice(Notice::CannotRenew { package: package.clone(), reason: error.to_string() });
            }
            Err(Fetching::Change(error)) => return Err(error),
        }
        let files = looking.found_files() - before;
        if files > 0 {
            notices.push(Notice::TakenAgain { package, files });
        }
    }
    Ok((looking.found.into_inner().unwrap_or_else(PoisonError::into_inner), notices))
}

/// Makes the containers again that wanted something of what was fetched.
///
/// # Errors
/// [`ChangeError`], as when they are made first.
pub(super) fn build_again(
    staged: &mut [Staged],
    fetched: &Fetched,
    seam: &dyn Seam,
) -> Result<Vec<(ContentHash, Built)>, ChangeError> {
    let found = |hash: ContentHash| fetched.get(&hash).map(|(_, at)| at.clone());
    let mut built = Vec::new();
    for file in staged {
        let Some(Made::Container(building)) = &mut file.made else { continue };
        if !building.find(&found) {
            continue;
        }
        let Some(Made::Container(building)) = &file.made else { continue };
        match build(file, building, seam)? {
            Ok(one) => built.push((building.name, one)),
            Err(_) => {
                let source = std::io::Error::other("what goes into it was changed meanwhile");
                return Err(ChangeError::Stage { path: file.path.clone(), source });
            }
        }
    }
    Ok(built)
}

/// What is looked for, by whom it is wanted, and what was found; several threads share it.
struct Looking<'c> {
    seam: &'c dyn Seam,
    /// Files that are nothing but this content; none where it goes into one that is made.
    wanted: HashMap<ContentHash, Vec<&'c Staged>>,
    /// For each size in bytes, the side folder in which it is read to.
    by_size: HashMap<u64, &'c Path>,
    found: Mutex<Fetched>,
    next: AtomicU64,
}

impl<'c> Looking<'c> {
    fn new(
        ledger: &'c Ledger,
        staged: &'c [Staged],
        lost: &HashSet<ContentHash>,
    ) -> Result<Self, LedgerError> {
        let mut wanted: HashMap<ContentHash, Vec<&Staged>> =
            lost.iter().map(|hash| (*hash, Vec::new())).collect();
        for file in staged.iter().filter(|file| file.made.is_none()) {
            wanted.entry(file.hash).and_modify(|files| files.push(file));
        }
        let made = staged.iter().find(|file| file.made.is_some());
        let mut by_size = HashMap::new();
        for (hash, files) in &wanted {
            let near = files.first().copied().or(made);
            if let (Some(size_bytes), Some(near)) = (ledger.catalogue.size_of(*hash)?, near) {
                by_size.insert(size_bytes, &*near.side);
            }
        }
        let (seam, found, next) = (&*ledger.seam, Mutex::default(), AtomicU64::new(0));
        Ok(Self { seam, wanted, by_size, found, next })
    }

    fn found_files(&self) -> usize {
        self.found.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Takes a content if it is one that is wanted.
    fn take(&self, size_bytes: u64, content: &mut dyn Read) -> Result<(), Fetching> {
        let Some(side) = self.by_size.get(&size_bytes) else { return Ok(()) };
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let at = side.join(STAGE).join(format!("again-{number}"));
        let failed = |source| Fetching::Change(ChangeError::Stage { path: at.clone(), source });
        let mut hashing = HashingReader::new(content);
        self.seam.write_file(&at, &mut hashing).map_err(failed)?;
        let hash = hashing.hash();
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        let files = self.wanted.get(&hash).filter(|_| !found.contains_key(&hash));
        let Some(files) = files else { return self.seam.remove_file(&at).map_err(failed) };
        for file in files {
            if file.path.exists() {
                self.seam.remove_file(&file.path).map_err(failed)?;
            }
            self.seam.copy_file(&at, &file.path, size_bytes, file.stamp).map_err(failed)?;
        }
        found.insert(hash, (size_bytes, at.clone()));
        Ok(())
    }
}

/// Has the ledger keep contents again that were fetched.
///
/// # Errors
/// [`LedgerError`]; the next command clears up, and `fetched` may be lost as before.
pub(super) fn keep_again(ledger: &Ledger, fetched: &Fetched) -> Result<(), LedgerError> {
    let (folder, seam) = (ledger.folder(), &*ledger.seam);
    let incoming = Incoming::begin(folder, seam)?;
    let mut found: Vec<(ContentHash, u64, PathBuf)> = Vec::new();
    for (number, (hash, (size_bytes, from))) in fetched.iter().enumerate() {
        let Ok(mut file) = open_regular(from) else { continue };
        let at = incoming.path(number as u64);
        let mut hashing = HashingReader::new(&mut file);
        seam.write_file(&at, &mut hashing).map_err(LedgerError::io("write", &at))?;
        if hashing.hash() == *hash {
            found.push((*hash, *size_bytes, at));
        }
    }
    let paths: Vec<&Path> = found.iter().map(|(.., at)| at.as_path()).collect();
    seam.make_durable(folder, &paths).map_err(LedgerError::io("write to", folder))?;
    let again: Vec<_> =
        found.iter().map(|(hash, size_bytes, at)| (*hash, *size_bytes, at.as_path())).collect();
    put_again(ledger, &again)?;
    incoming.end()
}
