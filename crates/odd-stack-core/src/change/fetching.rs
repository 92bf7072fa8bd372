//! Stored contents that turn out to be lost while they are put beside their places: they are taken from their packages again, where
//! these still lie where they were. The ledger has them again once the change is made, from where they lie in the game then.

use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use super::decision::Staged;
use super::error::ChangeError;
use crate::files::{HashingReader, Seam, open_regular};
use crate::hash::ContentHash;
use crate::ledger::{Incoming, Ledger, LedgerError, put_again};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::package::{PackageError, search};

/// Contents by hash, each with its size in bytes.
pub(super) type Fetched = HashMap<ContentHash, u64>;

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
    let mut wanted: HashMap<ContentHash, Vec<&Staged>> = HashMap::new();
    for file in staged.iter().filter(|file| file.made.is_none() && lost.contains(&file.hash)) {
        wanted.entry(file.hash).or_default().push(file);
    }
    let packages = ledger.catalogue.packages_with(lost)?;
    let by_size = wanted.values().flatten().map(|file| (file.size_bytes, *file)).collect();
    let (seam, found, next) = (&*ledger.seam, Mutex::default(), AtomicU64::new(0));
    let looking = Looking { seam, wanted, by_size, found, next };
    let mut notices = Vec::new();
    for package in packages.into_iter().filter(|package| package.exists()) {
        let before = looking.found_files();
        if before == looking.wanted.len() {
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

/// What is looked for, by whom it is wanted, and what was found; several threads share it.
struct Looking<'c> {
    seam: &'c dyn Seam,
    wanted: HashMap<ContentHash, Vec<&'c Staged>>,
    /// One of those for each size in bytes: what has it is read to beside this one.
    by_size: HashMap<u64, &'c Staged>,
    found: Mutex<Fetched>,
    next: AtomicU64,
}

impl Looking<'_> {
    fn found_files(&self) -> usize {
        self.found.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Takes a content if it is one that is wanted.
    fn take(&self, size_bytes: u64, content: &mut dyn Read) -> Result<(), Fetching> {
        let Some(near) = self.by_size.get(&size_bytes) else { return Ok(()) };
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let at = near.path.with_file_name(format!("again-{number}"));
        let failed = |source| Fetching::Change(ChangeError::Stage { path: near.path.clone(), source });
        let mut hashing = HashingReader::new(content);
        self.seam.write_file(&at, &mut hashing).map_err(failed)?;
        let hash = hashing.hash();
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        for file in self.wanted.get(&hash).into_iter().flatten().filter(|_| !found.contains_key(&hash)) {
            if file.path.exists() {
                self.seam.remove_file(&file.path).map_err(failed)?;
            }
            self.seam.copy_file(&at, &file.path, size_bytes, file.stamp).map_err(failed)?;
        }
        if self.wanted.contains_key(&hash) {
            found.insert(hash, size_bytes);
        }
        self.seam.remove_file(&at).map_err(failed)
    }
}

/// Has the ledger keep contents again that were fetched, from where they lie in the game now.
///
/// # Errors
/// [`LedgerError`]; the next command clears up, and `fetched` may be lost as before.
pub(super) fn keep_again(ledger: &Ledger, fetched: &Fetched) -> Result<(), LedgerError> {
    let (folder, seam, site) = (ledger.folder(), &*ledger.seam, ledger.site());
    let incoming = Incoming::begin(folder, seam)?;
    let mut found: HashMap<ContentHash, PathBuf> = HashMap::new();
    let hashes = fetched.keys().copied().collect();
    for (number, (_, _, root, spelled)) in ledger.catalogue.entries_with(&hashes)?.into_iter().enumerate() {
        let Ok(mut file) = open_regular(&spelled.on(&site.root(root)?.folder)) else { continue };
        let at = incoming.path(number as u64);
        let mut hashing = HashingReader::new(&mut file);
        seam.write_file(&at, &mut hashing).map_err(LedgerError::io("write", &at))?;
        let hash = hashing.hash();
        if fetched.contains_key(&hash) {
            found.entry(hash).or_insert(at);
        }
    }
    let paths: Vec<PathBuf> = found.values().cloned().collect();
    seam.make_durable(folder, &paths).map_err(LedgerError::io("write to", folder))?;
    let again: Vec<_> = found.iter().map(|(hash, at)| (*hash, fetched[hash], at.as_path())).collect();
    put_again(ledger, &again)?;
    incoming.end()
}
