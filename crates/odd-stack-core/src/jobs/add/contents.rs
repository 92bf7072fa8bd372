//! Reading packages' contents, into the ledger or only for their hashes.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::ends::WithEnds;
use super::error::AddError;
use crate::blend::MOST_BLENDED_BYTES;
use crate::change::{SecondCopies, SecondPlace};
use crate::expected::Unstored;
use crate::hash::ContentHash;
use crate::ledger::{Intake, Ledger, LedgerError, NewContent, check_room};
use crate::observer::{Observer, Work};
use crate::package::{ArchiveFile, Member, OpenOptions, Package};

/// What is taken in for one change, from as many packages as it has.
struct Store<'a> {
    folder: &'a Path,
    intake: Intake<'a>,
    stores: bool,
    /// Small texts, when nothing is stored.
    small: Arc<Unstored>,
    second_copies: Mutex<Option<SecondCopies>>,
}

/// Takes the contents of one package, each once.
pub(in crate::jobs) struct Contents<'a> {
    store: Arc<Store<'a>>,
    hashes: Mutex<BTreeMap<usize, ContentHash>>,
    /// Where contents are to be written a second time when they are taken.
    again: Mutex<BTreeMap<usize, SecondPlace>>,
    /// Those taken that may be zip-based containers.
    container_like: Mutex<BTreeSet<usize>>,
    /// Most of the package will be taken. So where reading a part would unpack it front to back, and again later,
    /// all of it is taken at the first time; what turns out not to be needed is dropped.
    takes_all: bool,
}

/// Texts up to this size are kept when nothing is stored.
const SMALL_BYTES: u64 = MOST_BLENDED_BYTES;

impl<'a> Contents<'a> {
    /// Unless it `stores`, contents are hashed and nothing is written.
    pub(in crate::jobs) fn new(ledger: &'a Ledger, stores: bool) -> Self {
        let intake = Intake::new(ledger, stores);
        let (small, second_copies) = (Arc::default(), Mutex::default());
        let store = Store { folder: ledger.folder(), intake, stores, small, second_copies };
        Self {
            store: Arc::new(store),
            hashes: Mutex::default(),
            again: Mutex::default(),
            container_like: Mutex::default(),
            takes_all: false,
        }
    }

    /// For packages of which most will be taken.
    pub(in crate::jobs) fn taking_all(ledger: &'a Ledger, stores: bool) -> Self {
        Self { takes_all: true, ..Self::new(ledger, stores) }
    }

    /// For another package of the same change.
    pub(in crate::jobs) fn beside(&self) -> Self {
        Self {
            store: Arc::clone(&self.store),
            hashes: Mutex::default(),
            again: Mutex::default(),
            container_like: Mutex::default(),
            takes_all: self.takes_all,
        }
    }

    fn take(&self, content: usize, size_bytes: u64, bytes: &mut dyn Read) -> Result<(), AddError> {
        let mut bytes = WithEnds::of(bytes);
        self.take_bytes(content, size_bytes, &mut bytes)?;
        if bytes.are_of_container() {
            locked(&self.container_like).insert(content);
        }
        Ok(())
    }

    fn take_bytes(&self, content: usize, size_bytes: u64, bytes: &mut dyn Read) -> Result<(), AddError> {
        let store = &*self.store;
        if !store.stores && size_bytes <= SMALL_BYTES {
            let mut small = Vec::with_capacity(usize::try_from(size_bytes).unwrap_or(0) + 1);
            let read = bytes.read_to_end(&mut small);
            read.map_err(LedgerError::io("read a content for", store.folder))?;
            let (hash, _) = store.intake.take_of_package(&mut small.as_slice(), size_bytes, None)?;
            // UTF-16 has zeros, too, and says so at its start.
            let may_be_text =
                matches!(small.as_slice(), [0xff, 0xfe, ..] | [0xfe, 0xff, ..]) || !small.contains(&0);
            if may_be_text {
                store.small.keep(hash, small);
            }
            locked(&self.hashes).insert(content, hash);
            return Ok(());
        }
        let place = locked(&self.again).remove(&content);
        let path = place.as_ref().map(SecondPlace::path);
        let again = path.as_deref().zip(place.as_ref().map(|place| place.stamp));
        let (hash, is_again) = store.intake.take_of_package(bytes, size_bytes, again)?;
        if let (Some(place), Some(copies)) = (place, &*locked(&store.second_copies)) {
            copies.note(hash, place, is_again);
        }
        locked(&self.hashes).insert(content, hash);
        Ok(())
    }

    /// Whether what is taken is stored, and not only hashed.
    pub(in crate::jobs) fn are_stored(&self) -> bool {
        self.store.stores
    }

    /// From now on contents are written a second time when they are taken, where `place` says.
    pub(in crate::jobs) fn write_again(
        &self,
        ledger: &Ledger,
        place: impl FnOnce(&mut SecondCopies) -> BTreeMap<usize, SecondPlace>,
    ) {
        let mut copies = locked(&self.store.second_copies);
        let copies = copies.get_or_insert_with(|| SecondCopies::of(ledger));
        let places = place(copies);
        copies.expect(places.len());
        *locked(&self.again) = places;
    }

    /// What was written a second time, of all packages of the change.
    pub(in crate::jobs) fn take_second_copies(&self) -> Option<SecondCopies> {
        locked(&self.store.second_copies).take()
    }

    /// Takes a content that is made here.
    pub(in crate::jobs) fn put(&self, bytes: Vec<u8>) -> Result<ContentHash, AddError> {
        let hash = self.store.intake.take(&mut bytes.as_slice(), bytes.len() as u64)?;
        if !self.store.stores {
            self.store.small.keep(hash, bytes);
        }
        Ok(hash)
    }

    /// Takes a copy of a file of the game.
    pub(in crate::jobs) fn put_file(&self, path: &Path, size_bytes: u64) -> Result<ContentHash, AddError> {
        let mut file = std::fs::File::open(path).map_err(LedgerError::io("read", path))?;
        Ok(self.store.intake.take(&mut file, size_bytes)?)
    }

    /// Opens the package; contents that can only be listed by unpacking them are taken at once.
    pub(in crate::jobs) fn open(
        &self,
        path: &Path,
        options: &OpenOptions,
        observer: &dyn Observer,
    ) -> Result<Package, AddError> {
        // Numbers of contents are those of this opening.
        locked(&self.hashes).clear();
        locked(&self.again).clear();
        locked(&self.container_like).clear();
        let take =
            |content: usize, size_bytes: u64, bytes: &mut dyn Read| self.take(content, size_bytes, bytes);
        Package::open_taking(path, options, &take, observer)
    }

    /// Takes those of `wanted` that were not taken yet, before it is known what else will be.
    pub(in crate::jobs) fn read_ahead(
        &self,
        package: &Package,
        wanted: &BTreeSet<usize>,
        observer: &dyn Observer,
    ) -> Result<(), AddError> {
        let is_taken = {
            let taken = locked(&self.hashes);
            wanted.iter().all(|content| taken.contains_key(content))
        };
        if !is_taken && self.takes_all && package.reads_front_to_back() {
            let own = package.members().iter().filter(|member| member.inner.is_none());
            // What is broken or has no room, and may not be needed, is told if it is.
            let all: BTreeSet<usize> = own.map(|member| member.content).collect();
            let _ = self.read(package, &all, observer);
        }
        self.read(package, wanted, observer)
    }

    /// Takes those of `wanted` that were not taken yet.
    pub(in crate::jobs) fn read(
        &self,
        package: &Package,
        wanted: &BTreeSet<usize>,
        observer: &dyn Observer,
    ) -> Result<(), AddError> {
        let wanted: Vec<usize> = {
            let taken = locked(&self.hashes);
            wanted.iter().filter(|content| !taken.contains_key(content)).copied().collect()
        };
        let mut sizes: BTreeMap<usize, u64> = BTreeMap::new();
        for member in package.members() {
            sizes.insert(member.content, member.size_bytes);
        }
        let bytes: u64 = wanted.iter().filter_map(|content| sizes.get(content)).sum();
        if self.store.stores {
            check_room(self.store.folder, bytes)?;
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

    /// The contents of small `members`, each cut off after `most_bytes`: those taken already from where they were
    /// put, all others in one pass over the package.
    ///
    /// # Errors
    /// The first one that is broken.
    pub(in crate::jobs) fn read_small(
        &self,
        package: &Package,
        members: &[&Member],
        most_bytes: u64,
        observer: &dyn Observer,
    ) -> Result<Vec<Vec<u8>>, AddError> {
        if self.takes_all && package.reads_front_to_back() {
            self.read_ahead(package, &members.iter().map(|member| member.content).collect(), observer)?;
        }
        let mut read: Vec<Option<Vec<u8>>> =
            members.iter().map(|member| self.taken_bytes(member.content, most_bytes)).collect();
        let missing: Vec<&Member> =
            members.iter().zip(&read).filter(|(_, read)| read.is_none()).map(|(member, _)| *member).collect();
        let mut rest = package.read_small(&missing, most_bytes, observer)?.into_iter();
        read.iter_mut().filter(|read| read.is_none()).for_each(|slot| *slot = rest.next());
        Ok(read.into_iter().map(Option::unwrap_or_default).collect())
    }

    /// The bytes of a content that was taken, if they are at hand.
    fn taken_bytes(&self, content: usize, most_bytes: u64) -> Option<Vec<u8>> {
        let hash = self.hash_of(content)?;
        if !self.store.stores {
            return self.store.small.get(hash, usize::try_from(most_bytes).unwrap_or(usize::MAX));
        }
        self.store.intake.stored(hash).ok()?.read(most_bytes).ok()
    }

    /// Whether a member's content begins or ends like a zip-based container; nothing where it was not taken.
    pub(in crate::jobs) fn may_be_container(&self, member: &Member) -> Option<bool> {
        self.hash_of(member.content)?;
        Some(locked(&self.container_like).contains(&member.content))
    }

    /// A member's content as a file, if it is at hand: what was not stored is unpacked for a while.
    pub(in crate::jobs) fn file_of(
        &self,
        package: &Package,
        member: &Member,
        observer: &dyn Observer,
    ) -> Option<ArchiveFile> {
        /// What is unpacked at most only to say something of it.
        const MOST_UNPACKED_BYTES: u64 = 2 << 30;
        if let Some(hash) = self.hash_of(member.content).filter(|_| self.store.stores) {
            return self.store.intake.stored(hash).ok()?.as_archive().ok();
        }
        if member.size_bytes > MOST_UNPACKED_BYTES {
            return None;
        }
        let file = Mutex::new(tempfile::tempfile().ok()?);
        let write = |_: usize, _: u64, bytes: &mut dyn Read| {
            let written = std::io::copy(bytes, &mut *locked(&file));
            written
                .map(drop)
                .map_err(|error| AddError::from(LedgerError::io("read", self.store.folder)(error)))
        };
        package.read(&[member.content], &write, observer).ok()?;
        ArchiveFile::from_file(file.into_inner().ok()?).ok()
    }

    /// The hash of a content that was taken.
    pub(in crate::jobs) fn hash_of(&self, content: usize) -> Option<ContentHash> {
        locked(&self.hashes).get(&content).copied()
    }

    /// All of this package that was taken.
    pub(in crate::jobs) fn hashes(&self) -> BTreeMap<usize, ContentHash> {
        locked(&self.hashes).clone()
    }

    /// What the ledger did not have, of all packages of the change; it is told once.
    pub(in crate::jobs) fn take_new(&self) -> Result<Vec<NewContent>, LedgerError> {
        self.store.intake.take_new()
    }

    /// As [`Contents::take_new`], without what is not needed, which goes again.
    pub(in crate::jobs) fn take_needed(
        &self,
        is_needed: impl Fn(ContentHash) -> bool,
    ) -> Result<Vec<NewContent>, LedgerError> {
        self.store.intake.take_needed(is_needed)
    }

    /// Small contents of all packages of the change, when nothing was stored.
    pub(in crate::jobs) fn unstored(&self) -> Arc<Unstored> {
        Arc::clone(&self.store.small)
    }
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
