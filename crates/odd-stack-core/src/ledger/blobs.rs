//! Stored contents, each a file named by its BLAKE3 hash.
//!
//! A blob counts only when the catalogue lists it. The catalogue also says that contents are being
//! taken in; if it still says so later, that was cut short, and every blob that the catalogue does
//! not list is swept away.

use std::collections::HashSet;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use super::LedgerError;
use super::catalogue::Catalogue;
use crate::disk::Seam;
use crate::hash::{ContentHash, HashingReader};

const FOLDER: &str = "blobs";
/// Contents up to this size are hashed in memory and written once, under their final name.
const IN_MEMORY_BYTES: u64 = 2 << 20;

/// The place of a stored content.
pub(crate) fn blob_path(ledger: &Path, hash: ContentHash) -> PathBuf {
    let name = hash.to_string();
    ledger.join(FOLDER).join(&name[..2]).join(&name[2..])
}

/// Makes the folders that blobs lie in.
pub(crate) fn create_folders(ledger: &Path) -> Result<(), LedgerError> {
    let blobs = ledger.join(FOLDER);
    fs::create_dir_all(&blobs).map_err(LedgerError::io("create", &blobs))?;
    for number in 0..=255u8 {
        let folder = blobs.join(format!("{number:02x}"));
        match fs::create_dir(&folder) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                return Err(LedgerError::io("create", &folder)(error));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Takes contents in, from several threads at once, each content once.
pub(crate) struct Intake<'a> {
    ledger: &'a Path,
    seam: &'a dyn Seam,
    /// Otherwise contents are only hashed.
    stores: bool,
    /// A connection of its own: the ledger's can't be shared between threads.
    listed: Mutex<Catalogue>,
    taken: Mutex<HashSet<ContentHash>>,
    new: Mutex<Vec<(ContentHash, u64)>>,
    next_temporary: AtomicU64,
}

impl<'a> Intake<'a> {
    /// Begins to take in, and says so in the catalogue until the change is done or a sweep. Unless it
    /// `stores`, contents are only hashed and nothing is written.
    pub(crate) fn begin(ledger: &'a Path, seam: &'a dyn Seam, stores: bool) -> Result<Self, LedgerError> {
        let listed = Catalogue::open(ledger)?;
        if stores {
            seam.pass("intake").map_err(LedgerError::io("write to", ledger))?;
            listed.begin_intake()?;
        }
        // One look at the catalogue for all contents: nobody else can change it meanwhile.
        listed.begin_reading()?;
        Ok(Self {
            ledger,
            seam,
            stores,
            listed: Mutex::new(listed),
            taken: Mutex::default(),
            new: Mutex::default(),
            next_temporary: AtomicU64::new(0),
        })
    }

    /// Stores what `content` gives and says under which hash. Nothing is durable yet.
    pub(crate) fn take(&self, content: &mut dyn Read, size_bytes: u64) -> Result<ContentHash, LedgerError> {
        if !self.stores {
            let hashed = ContentHash::of_reader(content);
            return Ok(hashed.map_err(LedgerError::io("read a content for", self.ledger))?.0);
        }
        if size_bytes <= IN_MEMORY_BYTES {
            self.take_small(content, size_bytes)
        } else {
            self.take_large(content)
        }
    }

    fn take_small(&self, content: &mut dyn Read, size_bytes: u64) -> Result<ContentHash, LedgerError> {
        let mut bytes = Vec::with_capacity(usize::try_from(size_bytes).unwrap_or(0) + 1);
        content.read_to_end(&mut bytes).map_err(LedgerError::io("read a content for", self.ledger))?;
        let hash = ContentHash::of(&bytes);
        if self.is_first(hash)? {
            let path = blob_path(self.ledger, hash);
            self.seam.write_file(&path, &mut bytes.as_slice()).map_err(LedgerError::io("write", &path))?;
            self.note(hash, bytes.len() as u64);
        }
        Ok(hash)
    }

    fn take_large(&self, content: &mut dyn Read) -> Result<ContentHash, LedgerError> {
        let number = self.next_temporary.fetch_add(1, Ordering::Relaxed);
        let temporary = self.ledger.join(FOLDER).join(format!("incoming-{number}"));
        let mut hashing = HashingReader::new(content);
        let size_bytes =
            self.seam.write_file(&temporary, &mut hashing).map_err(LedgerError::io("write", &temporary))?;
        let hash = hashing.finish();
        if self.is_first(hash)? {
            let path = blob_path(self.ledger, hash);
            // An unlisted file may be left there from a change that was cut short.
            match self.seam.rename(&temporary, &path) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    self.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
                    self.seam.rename(&temporary, &path).map_err(LedgerError::io("write", &path))?;
                }
                other => other.map_err(LedgerError::io("write", &path))?,
            }
            self.note(hash, size_bytes);
        } else {
            self.seam.remove_file(&temporary).map_err(LedgerError::io("remove", &temporary))?;
        }
        Ok(hash)
    }

    /// Whether this thread is to store the content: nobody has, now or before.
    fn is_first(&self, hash: ContentHash) -> Result<bool, LedgerError> {
        if !lock(&self.taken).insert(hash) {
            return Ok(false);
        }
        Ok(!lock(&self.listed).has_blob(hash)?)
    }

    fn note(&self, hash: ContentHash, size_bytes: u64) {
        lock(&self.new).push((hash, size_bytes));
    }

    /// The contents that were not stored before, with their sizes.
    pub(crate) fn finish(self) -> Vec<(ContentHash, u64)> {
        self.new.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Removes what a taking in that was cut short has left; does nothing if there was none.
pub(crate) fn sweep(ledger: &Path, catalogue: &Catalogue, seam: &dyn Seam) -> Result<(), LedgerError> {
    if !catalogue.is_taking_in()? {
        return Ok(());
    }
    let blobs = ledger.join(FOLDER);
    for entry in list(&blobs)? {
        let path = entry.path();
        let first = entry.file_name().to_string_lossy().into_owned();
        if first.starts_with("incoming-") {
            seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
            continue;
        }
        for blob in list(&path)? {
            let name = format!("{first}{}", blob.file_name().to_string_lossy());
            let listed = match parse_name(&name) {
                Some(hash) => catalogue.has_blob(hash)?,
                None => false,
            };
            if !listed {
                seam.remove_file(&blob.path()).map_err(LedgerError::io("remove", blob.path()))?;
            }
        }
    }
    catalogue.end_intake()
}

fn list(folder: &Path) -> Result<Vec<fs::DirEntry>, LedgerError> {
    fs::read_dir(folder)
        .and_then(|entries| entries.collect::<io::Result<Vec<_>>>())
        .map_err(LedgerError::io("look into", folder))
}

fn parse_name(name: &str) -> Option<ContentHash> {
    blake3::Hash::from_hex(name).ok().map(|hash| ContentHash::from_bytes(*hash.as_bytes()))
}
