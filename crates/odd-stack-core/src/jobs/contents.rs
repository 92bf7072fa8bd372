//! Reading a package's contents, into the ledger or only for their hashes.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::Read;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use super::add_error::AddError;
use crate::blend::MOST_BLENDED_BYTES;
use crate::disk::check_room;
use crate::hash::ContentHash;
use crate::ledger::{Intake, Ledger, LedgerError};
use crate::observer::{Observer, Work};
use crate::package::{OpenOptions, Package};

/// Takes the contents of one package, each once.
pub(super) struct Contents<'a> {
    folder: &'a Path,
    intake: Intake<'a>,
    stores: bool,
    hashes: Mutex<BTreeMap<usize, ContentHash>>,
    /// Small texts, when nothing is stored, and how many bytes of them came.
    small: Mutex<HashMap<ContentHash, Vec<u8>>>,
    small_bytes: AtomicUsize,
}

/// The contents of a package by their numbers, and those that the ledger did not have.
pub(super) struct Taken {
    pub hashes: BTreeMap<usize, ContentHash>,
    pub new: Vec<(ContentHash, u64)>,
    /// Small contents, when nothing was stored.
    pub small: HashMap<ContentHash, Vec<u8>>,
}

/// Texts up to this size are kept in memory when nothing is stored, as long as there is room.
const SMALL_BYTES: u64 = MOST_BLENDED_BYTES;
const MOST_SMALL_BYTES: usize = 32 << 20;

impl<'a> Contents<'a> {
    /// Unless it `stores`, contents are hashed and nothing is written.
    pub(super) fn new(ledger: &'a Ledger, stores: bool) -> Self {
        let intake = Intake::new(ledger.folder(), &*ledger.seam, stores);
        Self {
            folder: ledger.folder(),
            intake,
            stores,
            hashes: Mutex::default(),
            small: Mutex::default(),
            small_bytes: AtomicUsize::new(0),
        }
    }

    fn take(&self, content: usize, size_bytes: u64, bytes: &mut dyn Read) -> Result<(), AddError> {
        if !self.stores && size_bytes <= SMALL_BYTES {
            let mut small = Vec::new();
            let read = bytes.read_to_end(&mut small);
            read.map_err(LedgerError::io("read a content for", self.folder))?;
            let hash = self.intake.take(&mut small.as_slice(), size_bytes)?;
            // UTF-16 has zeros, too, and says so at its start.
            let may_be_text =
                matches!(small.as_slice(), [0xff, 0xfe, ..] | [0xfe, 0xff, ..]) || !small.contains(&0);
            if may_be_text {
                let room = self.small_bytes.fetch_add(small.len(), Ordering::Relaxed);
                if room + small.len() <= MOST_SMALL_BYTES {
                    self.small.lock().unwrap_or_else(PoisonError::into_inner).insert(hash, small);
                }
            }
            self.taken().insert(content, hash);
            return Ok(());
        }
        let hash = self.intake.take(bytes, size_bytes)?;
        self.taken().insert(content, hash);
        Ok(())
    }

    /// Takes a content that is made here.
    pub(super) fn put(&self, bytes: Vec<u8>) -> Result<ContentHash, AddError> {
        let hash = self.intake.take(&mut bytes.as_slice(), bytes.len() as u64)?;
        if !self.stores {
            self.small.lock().unwrap_or_else(PoisonError::into_inner).insert(hash, bytes);
        }
        Ok(hash)
    }

    /// Opens the package; contents that can only be listed by unpacking them are taken at once.
    pub(super) fn open(
        &self,
        path: &Path,
        options: &OpenOptions,
        observer: &dyn Observer,
    ) -> Result<Package, AddError> {
        let take =
            |content: usize, size_bytes: u64, bytes: &mut dyn Read| self.take(content, size_bytes, bytes);
        Package::open_taking(path, options, &take, observer)
    }

    /// Takes those of `wanted` that were not taken yet.
    pub(super) fn read(
        &self,
        package: &Package,
        wanted: &BTreeSet<usize>,
        observer: &dyn Observer,
    ) -> Result<(), AddError> {
        let wanted: Vec<usize> = {
            let taken = self.taken();
            wanted.iter().filter(|content| !taken.contains_key(content)).copied().collect()
        };
        let mut sizes: BTreeMap<usize, u64> = BTreeMap::new();
        for member in package.members() {
            sizes.insert(member.content, member.size_bytes);
        }
        let bytes: u64 = wanted.iter().filter_map(|content| sizes.get(content)).sum();
        if self.stores {
            check_room(self.folder, bytes)?;
        }
        if wanted.is_empty() {
            return Ok(());
        }
        let take =
            |content: usize, size_bytes: u64, bytes: &mut dyn Read| self.take(content, size_bytes, bytes);
        observer.begin(Work::Reading, wanted.len() as u64, bytes);
        let read = package.read(&wanted, &take, observer);
        observer.end();
        read
    }

    fn taken(&self) -> std::sync::MutexGuard<'_, BTreeMap<usize, ContentHash>> {
        self.hashes.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The hash of a content that was taken.
    pub(super) fn hash_of(&self, content: usize) -> Option<ContentHash> {
        self.taken().get(&content).copied()
    }

    /// All that was taken.
    pub(super) fn finish(self) -> Taken {
        let hashes = self.hashes.into_inner().unwrap_or_else(PoisonError::into_inner);
        let small = self.small.into_inner().unwrap_or_else(PoisonError::into_inner);
        Taken { hashes, new: self.intake.finish(), small }
    }
}
