//! Small contents, kept together in packs, and where each stored content lies.
//!
//! A file for each small content costs a name, a block and two calls more than its bytes. So what is below the size of links is
//! written into a pack, one or more for each change. A pack is never written to again once its change is done: what of it
//! nobody needs any more takes room until it is made anew, without that. Two things lie by themselves all the same: programs, so
//! that a virus scanner which takes one away takes nothing else; and what is had from nowhere else, such as a person's edits and what was captured,
//! so that a lost pack can be renewed from packages.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Cursor, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustc_hash::FxHashMap;

use super::buffer::with_buffer;
use super::error::LedgerError;
use super::pack_format::{BEFORE_CONTENT_BYTES, append, end, size_in_pack};
use super::places::{NewContent, PACKS, Place, pack_path, packs_there, path_of};
use super::private_room::make_private_folder;
use crate::files::{Seam, open_at_once, read_exact_at};
use crate::hash::ContentHash;
use crate::package::ArchiveFile;

/// A pack that is longer gets nothing more.
pub(super) const MOST_BYTES: u64 = 64 << 20;
/// So much is written at once.
const WRITTEN_AT_ONCE_BYTES: usize = 1 << 20;

/// The packs of a ledger, for all threads.
#[derive(Debug)]
pub(crate) struct Packs {
    ledger: PathBuf,
    opened: Mutex<HashMap<u64, Arc<File>>>,
    growing: Mutex<Growing>,
    /// Taken while the one before is held, so that all is written in its order; that one is free again while it is written.
    writing: Mutex<Writing>,
}

/// What the change under way writes.
#[derive(Debug, Default)]
struct Growing {
    /// The number of the next pack; none before it is known.
    next: Option<u64>,
    /// The pack that is written, and how much of it is, or is being written.
    pack: Option<(u64, u64)>,
    /// What comes after that.
    bytes: Vec<u8>,
    /// What the catalogue may not list yet.
    fresh: FxHashMap<ContentHash, Place>,
}

/// What one thread writes to the end of a pack.
#[derive(Debug, Default)]
struct Writing {
    bytes: Vec<u8>,
    /// Why a pack could not be written. What it was to have is lost, so nothing more is taken.
    failed: Option<(PathBuf, io::ErrorKind, String)>,
}

impl Writing {
    fn go_on(&self) -> Result<(), LedgerError> {
        match &self.failed {
            Some((path, kind, why)) => {
                Err(LedgerError::io("write", path)(io::Error::new(*kind, why.clone())))
            }
            None => Ok(()),
        }
    }
}

impl Packs {
    pub(super) fn of(ledger: &Path) -> Self {
        Self {
            ledger: ledger.to_path_buf(),
            opened: Mutex::default(),
            growing: Mutex::default(),
            writing: Mutex::default(),
        }
    }

    /// Makes ready to write: `last_listed` is the highest number that the catalogue knows.
    pub(super) fn begin(&self, last_listed: u64, seam: &dyn Seam) -> Result<(), LedgerError> {
        let mut growing = held(&self.growing);
        if growing.next.is_none() {
            make_private_folder(&self.ledger.join(PACKS), seam)?;
            let there = packs_there(&self.ledger)?.into_iter().map(|(number, _)| number).max();
            growing.next = Some(there.unwrap_or(0).max(last_listed) + 1);
        }
        Ok(())
    }

    /// Writes a content to the pack of this change; what is written is durable no sooner than asked.
    pub(super) fn append(
        &self,
        hash: ContentHash,
        content: &[u8],
        seam: &dyn Seam,
    ) -> Result<Place, LedgerError> {
        let mut growing = held(&self.growing);
        let (pack, written) = match growing.pack {
            Some(pack) => pack,
            None => {
                let number = growing.next.unwrap_or(1);
                growing.next = Some(number + 1);
                (number, 0)
            }
        };
        growing.pack = Some((pack, written));
        let at = written + (growing.bytes.len() + BEFORE_CONTENT_BYTES) as u64;
        append(&mut growing.bytes, hash, content);
        let place = Place::Packed { pack, at, size_bytes: content.len() as u64 };
        growing.fresh.insert(hash, place);
        if written + growing.bytes.len() as u64 >= MOST_BYTES {
            self.end_pack(growing, seam)?;
        } else if growing.bytes.len() >= WRITTEN_AT_ONCE_BYTES {
            self.write_out(growing, seam)?;
        }
        Ok(place)
    }

    /// Writes what is not written yet, and ends the pack.
    pub(super) fn finish(&self, seam: &dyn Seam) -> Result<(), LedgerError> {
        self.end_pack(held(&self.growing), seam)?;
        held(&self.writing).go_on()
    }

    fn end_pack(&self, mut growing: MutexGuard<'_, Growing>, seam: &dyn Seam) -> Result<(), LedgerError> {
        let Some((number, _)) = growing.pack.take() else { return Ok(()) };
        end(&mut growing.bytes);
        self.write_to(number, growing, seam)
    }

    fn write_out(&self, mut growing: MutexGuard<'_, Growing>, seam: &dyn Seam) -> Result<(), LedgerError> {
        let Some((number, written)) = growing.pack else { return Ok(()) };
        growing.pack = Some((number, written + growing.bytes.len() as u64));
        self.write_to(number, growing, seam)
    }

    /// Writes what is not written yet to the end of that pack.
    fn write_to(
        &self,
        number: u64,
        mut growing: MutexGuard<'_, Growing>,
        seam: &dyn Seam,
    ) -> Result<(), LedgerError> {
        let path = pack_path(&self.ledger, number);
        let mut writing = held(&self.writing);
        std::mem::swap(&mut growing.bytes, &mut writing.bytes);
        drop(growing);
        writing.go_on()?;
        if let Err(error) = seam.append_file(&path, &writing.bytes) {
            writing.failed = Some((path.clone(), error.kind(), error.to_string()));
            return Err(LedgerError::io("write", &path)(error));
        }
        writing.bytes.clear();
        Ok(())
    }

    /// Makes the packs of this change anew without what is not needed of them, where that is much; `needed` lie elsewhere then.
    pub(super) fn drop_from(
        &self,
        needed: &mut [NewContent],
        unneeded: &[NewContent],
        seam: &dyn Seam,
    ) -> Result<(), LedgerError> {
        let mut dead: HashMap<u64, u64> = HashMap::new();
        for content in unneeded {
            if let Place::Packed { pack, size_bytes, .. } = content.place {
                *dead.entry(pack).or_default() += size_in_pack(size_bytes);
            }
        }
        for (number, dead_bytes) in dead {
            let path = pack_path(&self.ledger, number);
            let length = fs::metadata(&path).map_err(LedgerError::io("look at", &path))?.len();
            if dead_bytes * 4 < length {
                continue;
            }
            for content in needed.iter_mut() {
                if let Place::Packed { pack, at, size_bytes } = content.place
                    && pack == number
                {
                    let bytes = self.read(pack, at, size_bytes).map_err(LedgerError::io("read", &path))?;
                    content.place = self.append(content.hash, &bytes, seam)?;
                }
            }
            held(&self.opened).remove(&number);
            let is_there = |place: Place| !matches!(place, Place::Packed { pack, .. } if pack == number);
            held(&self.growing).fresh.retain(|_, place| is_there(*place));
            seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
        }
        self.finish(seam)
    }

    /// A content that is `listed` there, or that the change under way has written.
    pub(super) fn stored(this: &Arc<Self>, hash: ContentHash, listed: Option<Place>) -> Stored {
        let place = listed.or_else(|| held(&this.growing).fresh.get(&hash).copied());
        Stored { packs: Arc::clone(this), hash, place: place.unwrap_or(Place::Own) }
    }

    /// Forgets what the change under way wrote, and drops all files.
    pub(super) fn forget(&self) {
        let mut growing = held(&self.growing);
        let next = growing.next;
        *growing = Growing { next, ..Growing::default() };
        *held(&self.writing) = Writing::default();
        held(&self.opened).clear();
    }

    /// Reads `length_bytes` of a pack.
    fn read(&self, pack: u64, at: u64, length_bytes: u64) -> io::Result<Vec<u8>> {
        let mut bytes = vec![0; usize::try_from(length_bytes).map_err(io::Error::other)?];
        self.read_into(pack, at, &mut bytes)?;
        Ok(bytes)
    }

    /// Fills `bytes` from a pack.
    fn read_into(&self, pack: u64, at: u64, bytes: &mut [u8]) -> io::Result<()> {
        {
            let growing = held(&self.growing);
            if let Some((_, written)) =
                growing.pack.filter(|(number, written)| *number == pack && at >= *written)
            {
                let start = usize::try_from(at - written).map_err(io::Error::other)?;
                let there = growing.bytes.get(start..start + bytes.len());
                bytes.copy_from_slice(there.ok_or(io::ErrorKind::UnexpectedEof)?);
                return Ok(());
            }
        }
        // What is being written is there once that is done.
        drop(held(&self.writing));
        read_exact_at(&*self.open(pack)?, bytes, at)
    }

    fn open(&self, pack: u64) -> io::Result<Arc<File>> {
        /// What one command holds open at most.
        const MOST_OPEN: usize = 64;
        let mut opened = held(&self.opened);
        if let Some(file) = opened.get(&pack) {
            return Ok(Arc::clone(file));
        }
        if opened.len() >= MOST_OPEN {
            opened.clear();
        }
        let file = Arc::new(open_at_once(&pack_path(&self.ledger, pack))?);
        opened.insert(pack, Arc::clone(&file));
        Ok(file)
    }
}

/// A stored content, to be read on any thread.
#[derive(Debug, Clone)]
pub(crate) struct Stored {
    packs: Arc<Packs>,
    hash: ContentHash,
    place: Place,
}

/// The bytes of a stored content.
#[derive(Debug)]
pub(crate) enum StoredBytes {
    File(File),
    Held(Cursor<Vec<u8>>),
}

impl Read for StoredBytes {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::File(file) => file.read(buffer),
            Self::Held(bytes) => bytes.read(buffer),
        }
    }
}

impl Seek for StoredBytes {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        match self {
            Self::File(file) => file.seek(to),
            Self::Held(bytes) => bytes.seek(to),
        }
    }
}

impl Stored {
    /// What it should be.
    pub(crate) fn hash(&self) -> ContentHash {
        self.hash
    }

    /// The file that it is in: its own, or a pack.
    pub(crate) fn path(&self) -> PathBuf {
        path_of(&self.packs.ledger, self.hash, self.place)
    }

    /// Its own file, where it has one.
    pub(crate) fn own_file(&self) -> Option<PathBuf> {
        (self.place == Place::Own).then(|| self.path())
    }

    /// Opens it.
    ///
    /// # Errors
    /// When it is gone, cut off, or can't be read.
    pub(crate) fn open(&self) -> io::Result<StoredBytes> {
        Ok(match self.packed()? {
            Some(bytes) => StoredBytes::Held(Cursor::new(bytes)),
            None => StoredBytes::File(open_at_once(&self.path())?),
        })
    }

    /// Opens it as a file that can be shared.
    ///
    /// # Errors
    /// As [`Stored::open`].
    pub(crate) fn as_archive(&self) -> io::Result<ArchiveFile> {
        match self.packed()? {
            Some(bytes) => Ok(ArchiveFile::from_memory(bytes)),
            None => ArchiveFile::open(&self.path()),
        }
    }

    /// Its bytes where it is in a pack.
    ///
    /// # Errors
    /// As [`Stored::open`].
    pub(crate) fn packed(&self) -> io::Result<Option<Vec<u8>>> {
        match self.place {
            Place::Own => Ok(None),
            Place::Packed { pack, at, size_bytes } => self.packs.read(pack, at, size_bytes).map(Some),
        }
    }

    /// Gives its bytes to `act` where it is in a pack. For very many one after the other: they come in one buffer.
    ///
    /// # Errors
    /// As [`Stored::open`].
    pub(crate) fn with_packed<T>(&self, act: impl FnOnce(&[u8]) -> T) -> io::Result<Option<T>> {
        let Place::Packed { pack, at, size_bytes } = self.place else { return Ok(None) };
        let length = usize::try_from(size_bytes).map_err(io::Error::other)?;
        with_buffer(|buffer| {
            if buffer.len() < length {
                buffer.resize(length, 0);
            }
            self.packs.read_into(pack, at, &mut buffer[..length])?;
            Ok(Some(act(&buffer[..length])))
        })
    }

    /// Its first bytes.
    ///
    /// # Errors
    /// As [`Stored::open`].
    pub(crate) fn read(&self, most_bytes: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        match self.place {
            Place::Own => drop(open_at_once(&self.path())?.take(most_bytes).read_to_end(&mut bytes)?),
            Place::Packed { pack, at, size_bytes } => {
                bytes = self.packs.read(pack, at, size_bytes.min(most_bytes))?;
            }
        }
        Ok(bytes)
    }

    /// Whether it is what its name says; what can't be read is not.
    pub(crate) fn is_whole(&self) -> bool {
        let now = match self.with_packed(ContentHash::of) {
            Ok(Some(now)) => Ok(now),
            Ok(None) => ContentHash::of_file(&self.path()),
            Err(error) => Err(error),
        };
        now.is_ok_and(|now| now == self.hash)
    }
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use rayon::prelude::*;

    use super::super::pack_format::members;
    use super::*;
    use crate::files::RealDisk;

    #[test]
    fn what_one_thread_has_just_appended_is_there_for_all_while_others_write() {
        let folder = tempfile::tempdir().unwrap();
        let (packs, seam) = (Arc::new(Packs::of(folder.path())), RealDisk::default());
        packs.begin(0, &seam).unwrap();
        let content = |number: usize| number.to_string().repeat(number * 7 % 9_000).into_bytes();
        let read = |number: usize| {
            let hash = ContentHash::of(&content(number));
            let place = held(&packs.growing).fresh.get(&hash).copied();
            place.map(|place| (place, Packs::stored(&packs, hash, None).packed().unwrap().unwrap()))
        };
        let places: Vec<Place> = (0..600)
            .into_par_iter()
            .map(|number| {
                let bytes = content(number);
                let place = packs.append(ContentHash::of(&bytes), &bytes, &seam).unwrap();
                assert_eq!(read(number), Some((place, bytes)));
                // What others have appended, too, if they have.
                for other in [number / 2, number.saturating_sub(1), (number * 31) % 600] {
                    assert!(read(other).is_none_or(|(_, bytes)| bytes == content(other)));
                }
                place
            })
            .collect();
        packs.finish(&seam).unwrap();
        let mut pack = File::open(pack_path(folder.path(), 1)).unwrap();
        let found = members(&mut pack).unwrap();
        assert_eq!(found.len(), places.len());
        for (number, place) in places.into_iter().enumerate() {
            assert!(matches!(place, Place::Packed { pack: 1, at, size_bytes } if found.iter().any(|member| {
                (member.hash, member.at, member.size_bytes) == (ContentHash::of(&content(number)), at, size_bytes)
            })));
        }
    }
}
