//! Stored files that were damaged, put again from anything that has the same content.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::change::ChangeError;
use crate::check::{CheckError, DamagedFile, Lost, look_for_damage};
use crate::files::{HashingReader, KEPT, STAGE, Seam, Stamp, look_at, open_regular};
use crate::hash::ContentHash;
use crate::jobs::Permit;
use crate::ledger::{Incoming, Ledger, LedgerError, make_private_folder, put_again, save_damaged};
use crate::notice::Notice;
use crate::observer::Observer;
use crate::package::{PackageError, search};
use crate::stack::BaseFile;

/// Why nothing was renewed, or not all that could be. What is whole stays as it is, and running again is safe.
#[derive(Debug, Error)]
pub enum RenewError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What is stored can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// The package can't be read.
    #[error(transparent)]
    Package(#[from] PackageError),
}

/// How a stored file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum StoredState {
    /// As it was.
    Whole,
    /// Not as it was.
    Damaged,
    /// Gone.
    Missing,
}

/// A stored file that is gone, or is not what it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DamageRow {
    /// An address at which its content lies, or would.
    pub address: String,
    /// The layer that has it; none for the game's own files.
    pub layer: Option<String>,
    /// The package that the layer was made from.
    pub package: Option<String>,
    /// What is the matter with it.
    pub state: StoredState,
    /// Where it lies in the ledger.
    pub path: String,
    /// Where the same content was found, if it was.
    pub renewed_from: Option<String>,
}

impl DamageRow {
    /// The row of a damaged file.
    pub fn of(file: &DamagedFile) -> Self {
        Self {
            address: file.address.to_string(),
            layer: file.layer.clone(),
            package: file.package.clone(),
            state: if file.is_missing { StoredState::Missing } else { StoredState::Damaged },
            path: file.path.display().to_string(),
            renewed_from: None,
        }
    }
}

/// What became of all damaged files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RenewReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// Contents of layers that were looked at.
    pub contents: u64,
    /// Files of the game's own that are covered, and were looked at.
    pub originals: u64,
    /// Every damaged one.
    pub files: Vec<DamageRow>,
}

/// Reads everything stored, and puts what is damaged again: from the game where the same content lies there, and from
/// `packages`; when none is given, from those that layers were made from, as far as they still lie where they were. A
/// package may be an archive, a folder such as a whole copy of the game, or the very file.
///
/// # Errors
/// [`RenewError`].
pub fn renew(
    ledger: &Ledger,
    _permit: &Permit,
    packages: &[PathBuf],
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<RenewReport, RenewError> {
    for package in packages {
        std::fs::metadata(package).map_err(|source| PackageError::unreadable(package, source))?;
    }
    let (found, lost) = look_for_damage(ledger, observer)?;
    let mut files: Vec<DamageRow> = found.damaged.iter().map(DamageRow::of).collect();
    let mut renewal = Renewal::new(ledger, &lost, dry_run)?;
    if !lost.is_empty() {
        renewal.search_game()?;
        match packages {
            [] => renewal.search_sources(observer)?,
            given => renewal.search_each(given, observer)?,
        }
        renewal.put()?;
    }
    for (file, lost) in files.iter_mut().zip(&lost) {
        file.renewed_from = renewal.source_of(lost);
    }
    Ok(RenewReport { dry_run, contents: found.contents, originals: found.originals, files })
}

/// Has the ledger keep contents of layers again that turned out to be lost, as far as they still lie in the game or in the packages
/// that they came with; says how many, and tells from where.
///
/// # Errors
/// [`ChangeError`]; the next command clears up.
pub(in crate::jobs) fn renew_contents(
    ledger: &Ledger,
    hashes: &HashSet<ContentHash>,
    observer: &dyn Observer,
) -> Result<usize, ChangeError> {
    let mut lost = Vec::new();
    for hash in hashes {
        let size_bytes = ledger.catalogue.size_of(*hash)?;
        lost.extend(size_bytes.map(|size_bytes| Lost::Content { hash: *hash, size_bytes }));
    }
    let mut renewal = Renewal::new(ledger, &lost, false)?;
    renewal.search_game()?;
    renewal.search_sources(observer).map_err(|error| match error {
        RenewError::Ledger(error) => ChangeError::Ledger(error),
        // A package that can't be read is told and passed over.
        RenewError::Package(_) | RenewError::Check(_) => ChangeError::Cancelled,
    })?;
    renewal.put()?;
    let mut files: BTreeMap<String, usize> = BTreeMap::new();
    lost.iter()
        .filter_map(|lost| renewal.source_of(lost))
        .for_each(|from| *files.entry(from).or_default() += 1);
    for (package, files) in &files {
        observer.notice(Notice::TakenAgain { package: package.into(), files: *files });
    }
    Ok(files.values().sum())
}

/// The packages of the layers whose contents are lost, also of their older versions, where they still lie.
fn sources(ledger: &Ledger, lost: &[Lost]) -> Result<Vec<PathBuf>, LedgerError> {
    let hashes = lost.iter().filter_map(wanted).map(|(hash, _)| hash).collect();
    let mut sources = ledger.catalogue.packages_with(&hashes)?;
    sources.retain(|source| source.exists());
    Ok(sources)
}

/// A content that was found again.
struct FoundContent {
    /// Where it lies in the ledger for now; nothing in a dry run.
    at: Option<PathBuf>,
    from: String,
}

/// What is looked for and what was found; several threads share it.
struct Finds<'l> {
    seam: &'l dyn Seam,
    folder: &'l Path,
    /// Hashes that are looked for, with their sizes.
    wanted: HashMap<ContentHash, u64>,
    found: Mutex<HashMap<ContentHash, FoundContent>>,
    /// Nothing in a dry run.
    incoming: Option<Incoming<'l>>,
    next: AtomicU64,
}

impl Finds<'_> {
    /// Whether all was found.
    fn are_complete(&self) -> bool {
        locked(&self.found).len() == self.wanted.len()
    }

    fn has_size(&self, size_bytes: u64) -> bool {
        self.wanted.values().any(|wanted| *wanted == size_bytes)
    }

    /// Takes a content if it is one that is looked for.
    fn take(&self, from: &str, size_bytes: u64, content: &mut dyn Read) -> Result<(), LedgerError> {
        if !self.has_size(size_bytes) {
            return Ok(());
        }
        let (hash, at) = match &self.incoming {
            None => {
                let hashed = ContentHash::of_reader(content);
                (hashed.map_err(LedgerError::io("read a content for", self.folder))?.0, None)
            }
            Some(incoming) => {
                let at = incoming.path(self.next.fetch_add(1, Ordering::Relaxed));
                let mut hashing = HashingReader::new(content);
                self.seam.write_file(&at, &mut hashing).map_err(LedgerError::io("write", &at))?;
                (hashing.hash(), Some(at))
            }
        };
        let mut found = locked(&self.found);
        if self.wanted.contains_key(&hash) && !found.contains_key(&hash) {
            found.insert(hash, FoundContent { at, from: from.to_owned() });
        } else if let Some(at) = at {
            self.seam.remove_file(&at).map_err(LedgerError::io("remove", &at))?;
        }
        Ok(())
    }

    /// Takes the file at `path` if it is one that is looked for; what can't be read is passed over.
    fn take_file(&self, path: &Path) -> Result<(), LedgerError> {
        let Ok(mut file) = open_regular(path) else { return Ok(()) };
        let Ok(size_bytes) = file.metadata().map(|metadata| metadata.len()) else { return Ok(()) };
        self.take(&path.display().to_string(), size_bytes, &mut file)
    }

    /// Looks for the contents in a package, in archives inside it as well, or in a file.
    fn search(&self, path: &Path, observer: &dyn Observer) -> Result<(), RenewError> {
        let from = path.display().to_string();
        let take = |size_bytes: u64, content: &mut dyn Read| {
            self.take(&from, size_bytes, content).map_err(RenewError::from)
        };
        search(path, &|size_bytes| self.has_size(size_bytes), &take, observer)
    }
}

struct Renewal<'l> {
    ledger: &'l Ledger,
    lost: &'l [Lost],
    finds: Finds<'l>,
}

impl<'l> Renewal<'l> {
    fn new(ledger: &'l Ledger, lost: &'l [Lost], dry_run: bool) -> Result<Self, LedgerError> {
        let (folder, seam) = (ledger.folder(), &*ledger.seam);
        let wanted = lost.iter().filter_map(wanted).collect();
        let incoming = match dry_run || lost.is_empty() {
            true => None,
            false => Some(Incoming::begin(folder, seam)?),
        };
        let finds =
            Finds { seam, folder, wanted, found: Mutex::default(), incoming, next: AtomicU64::new(0) };
        Ok(Self { ledger, lost, finds })
    }

    fn source_of(&self, lost: &Lost) -> Option<String> {
        let (hash, _) = wanted(lost)?;
        locked(&self.finds.found).get(&hash).map(|found| found.from.clone())
    }

    /// Looks where the contents lie in the game: those of layers that are laid, and the game's own where its client has
    /// put them back.
    fn search_game(&self) -> Result<(), LedgerError> {
        let site = self.ledger.site();
        let hashes = self.finds.wanted.keys().copied().collect();
        let entries = self.ledger.catalogue.entries_with(&hashes)?.into_iter();
        let of_layers = entries.map(|(_, _, root, spelled)| (root, spelled));
        let of_base = self.lost.iter().filter_map(|lost| match lost {
            Lost::Original { root, base, .. } => Some((*root, base.spelled.clone())),
            Lost::Content { .. } => None,
        });
        for (root, spelled) in of_layers.chain(of_base) {
            self.finds.take_file(&spelled.on(&site.root(root)?.folder))?;
        }
        Ok(())
    }

    /// Looks in these packages, one after the other.
    fn search_each(&self, packages: &[PathBuf], observer: &dyn Observer) -> Result<(), RenewError> {
        for package in packages {
            if !self.finds.are_complete() {
                self.finds.search(package, observer)?;
            }
        }
        Ok(())
    }

    /// Looks in the packages that layers were made from, as far as they still lie where they were; one that can't be read is told.
    fn search_sources(&self, observer: &dyn Observer) -> Result<(), RenewError> {
        for package in sources(self.ledger, self.lost)? {
            match self.search_each(std::slice::from_ref(&package), observer) {
                Err(RenewError::Package(error)) if !matches!(error, PackageError::Cancelled) => {
                    observer.notice(Notice::CannotRenew { package, reason: error.to_string() });
                }
                other => other?,
            }
        }
        Ok(())
    }

    /// Puts all that was found in its place.
    fn put(&mut self) -> Result<(), LedgerError> {
        let Some(incoming) = self.finds.incoming.take() else { return Ok(()) };
        let seam = &*self.ledger.seam;
        let found = locked(&self.finds.found);
        let paths: Vec<&Path> = found.values().filter_map(|found| found.at.as_deref()).collect();
        let durable = seam.make_durable(self.ledger.folder(), &paths);
        durable.map_err(LedgerError::io("write to", self.ledger.folder()))?;
        // Originals first: a content that a layer has as well is moved away after that.
        for lost in self.lost {
            if let Lost::Original { base: BaseFile { hash: Some(hash), .. }, .. } = lost
                && let Some(at) = found.get(hash).and_then(|found| found.at.as_ref())
            {
                self.put_original(lost, at)?;
            }
        }
        let again: Vec<(ContentHash, u64, &Path)> = (self.lost.iter())
            .filter_map(|lost| match lost {
                Lost::Content { hash, size_bytes } => {
                    Some((*hash, *size_bytes, found.get(hash)?.at.as_deref()?))
                }
                Lost::Original { .. } => None,
            })
            .collect();
        put_again(self.ledger, &again)?;
        incoming.end()
    }

    /// Puts one of the game's own files where covered ones lie; what lay there is saved.
    fn put_original(&self, lost: &Lost, at: &Path) -> Result<(), LedgerError> {
        let Lost::Original { root, path, base } = lost else { return Ok(()) };
        let (seam, site) = (&*self.ledger.seam, self.ledger.site());
        let root = site.root(*root)?;
        let (side, public) = (site.side(root), site.original(root, *path));
        let (stage, kept) = (side.join(STAGE), side.join(KEPT));
        for folder in [Some(&*side), Some(&stage), Some(&kept), public.parent()].into_iter().flatten() {
            make_private_folder(folder, seam)?;
        }
        let staged = stage.join(format!("renewed-{}", path.0));
        let copied = seam.copy_file(at, &staged, base.size_bytes, Stamp::of_base(base));
        copied.map_err(LedgerError::io("write", &staged))?;
        let durable = seam.make_durable(&side, &[staged.as_path()]);
        durable.map_err(LedgerError::io("write to", &side))?;
        if look_at(&public).map_err(LedgerError::io("look at", &public))?.is_some() {
            save_damaged(&public, &kept, &path.0.to_string(), seam)?;
        }
        seam.rename(&staged, &public).map_err(LedgerError::io("write", &public))
    }
}

/// What is looked for; nothing where the content is not known.
fn wanted(lost: &Lost) -> Option<(ContentHash, u64)> {
    match lost {
        Lost::Content { hash, size_bytes } => Some((*hash, *size_bytes)),
        Lost::Original { base, .. } => base.hash.map(|hash| (hash, base.size_bytes)),
    }
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}
