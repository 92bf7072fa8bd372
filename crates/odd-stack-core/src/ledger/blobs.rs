//! Stored contents: big ones are files named by their BLAKE3 hash, small ones lie in packs.
//!
//! A content counts only when the catalogue lists it. While contents are being taken in, a mark lies
//! beside the catalogue; if it still lies there later, that was cut short, and every file and pack that
//! the catalogue does not list is swept away. So a package that turns out to be broken leaves the catalogue
//! untouched.

use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use rustc_hash::FxHashSet;

use super::buffer::with_buffer;
use super::catalogue::Catalogue;
use super::packs::{Packs, Stored};
use super::places::{BLOBS, NewContent, PACKS, Place, blob_path, packs_there};
use super::{Ledger, LedgerError};
use crate::files::{HashingReader, Seam, Stamp, look_at};
use crate::hash::ContentHash;

/// Lies in the ledger while contents may lie there that the catalogue does not list.
const MARK: &str = "intake";
/// What names of files begin with that have no hash yet.
const INCOMING: &str = "incoming-";
/// Contents up to this size are hashed in memory and written once, under their final name.
const IN_MEMORY_BYTES: u64 = 2 << 20;

/// Makes the folders that blobs lie in.
pub(crate) fn create_folders(ledger: &Path) -> Result<(), LedgerError> {
    let blobs = ledger.join(BLOBS);
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
    let packs = ledger.join(PACKS);
    fs::create_dir_all(&packs).map_err(LedgerError::io("create", &packs))
}

/// Takes contents in, from several threads at once, each content once.
pub(crate) struct Intake<'a> {
    ledger: &'a Path,
    seam: &'a dyn Seam,
    /// Otherwise contents are only hashed.
    stores: bool,
    packs: Arc<Packs>,
    /// Smaller ones are packed.
    small_bytes: u64,
    listed: Mutex<Listed>,
    taken: Mutex<FxHashSet<ContentHash>>,
    new: Mutex<Vec<NewContent>>,
    next_temporary: AtomicU64,
}

/// What was stored before.
enum Listed {
    /// Nobody has looked.
    Unknown,
    Nothing,
    /// A connection of its own, since the ledger's can't be shared between threads.
    In(Catalogue),
}

impl Listed {
    fn catalogue(&self) -> Option<&Catalogue> {
        match self {
            Self::In(catalogue) => Some(catalogue),
            Self::Unknown | Self::Nothing => None,
        }
    }
}

/// Where a content is written a second time, and with what time and mode.
pub(crate) type Again<'p> = (&'p Path, Stamp);

/// What becomes of a content that comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Turn {
    /// It is stored now.
    New,
    /// It was stored before, and a program has written into it: it is stored again.
    Renewed,
    /// Nothing: it is stored already, or another thread does it.
    Known,
}

impl<'a> Intake<'a> {
    /// Makes ready to take in. Nothing is written before the first content comes; from then on the mark
    /// lies in the ledger until the change is done or a sweep. Unless it `stores`, contents are only
    /// hashed and nothing is written.
    pub(crate) fn new(ledger: &'a Ledger, stores: bool) -> Self {
        Self {
            ledger: ledger.folder(),
            seam: &*ledger.seam,
            stores,
            packs: Arc::clone(&ledger.packs),
            small_bytes: ledger.small_bytes(),
            listed: Mutex::new(Listed::Unknown),
            taken: Mutex::default(),
            new: Mutex::default(),
            next_temporary: AtomicU64::new(0),
        }
    }

    /// Sets the mark, durably, and looks what is listed, unless that is done.
    fn begin(&self) -> Result<(), LedgerError> {
        let mut listed = lock(&self.listed);
        if !matches!(*listed, Listed::Unknown) {
            return Ok(());
        }
        set_mark(self.ledger, self.seam)?;
        let catalogue = Catalogue::open(self.ledger)?;
        // One look at the catalogue for all contents: nobody else can change it meanwhile.
        catalogue.begin_reading()?;
        self.packs.begin(catalogue.last_pack()?, self.seam)?;
        *listed = if catalogue.lists_contents()? { Listed::In(catalogue) } else { Listed::Nothing };
        Ok(())
    }

    /// Stores what `content` gives and says under which hash. Nothing is durable yet. What is not had from anywhere else lies
    /// by itself, however small it is.
    pub(crate) fn take(&self, content: &mut dyn Read, size_bytes: u64) -> Result<ContentHash, LedgerError> {
        self.take_as(content, size_bytes, (false, None)).map(|(hash, _)| hash)
    }

    /// As [`Intake::take`], for what comes from a package and could come from it again: small ones lie together. It is written
    /// to a new file `again` as well, if there is one to be; says whether all of it lies there.
    pub(crate) fn take_of_package(
        &self,
        content: &mut dyn Read,
        size_bytes: u64,
        again: Option<Again<'_>>,
    ) -> Result<(ContentHash, bool), LedgerError> {
        self.take_as(content, size_bytes, (true, again))
    }

    fn take_as(
        &self,
        content: &mut dyn Read,
        size_bytes: u64,
        (may_pack, again): (bool, Option<Again<'_>>),
    ) -> Result<(ContentHash, bool), LedgerError> {
        if !self.stores {
            let hashed = ContentHash::of_reader(content);
            return Ok((hashed.map_err(LedgerError::io("read a content for", self.ledger))?.0, false));
        }
        self.begin()?;
        if size_bytes <= IN_MEMORY_BYTES {
            with_buffer(|bytes| {
                bytes.clear();
                bytes.reserve(usize::try_from(size_bytes).unwrap_or(0) + 1);
                content.read_to_end(bytes).map_err(LedgerError::io("read a content for", self.ledger))?;
                let hash = self.keep_small(bytes, may_pack)?;
                let write_again = |(path, stamp)| self.seam.write_new(path, bytes, stamp).is_ok();
                Ok((hash, again.is_some_and(write_again)))
            })
        } else {
            self.take_large(content, again)
        }
    }

    fn keep_small(&self, bytes: &[u8], may_pack: bool) -> Result<ContentHash, LedgerError> {
        let hash = ContentHash::of(bytes);
        let turn = self.turn_of(hash)?;
        if turn == Turn::Known {
            return Ok(hash);
        }
        let size_bytes = bytes.len() as u64;
        if may_pack && turn == Turn::New && size_bytes < self.small_bytes && !is_program(bytes) {
            let place = self.packs.append(hash, bytes, self.seam)?;
            self.note(hash, size_bytes, place);
            return Ok(hash);
        }
        let path = blob_path(self.ledger, hash);
        if turn == Turn::Renewed {
            // Never into a file that has other names.
            self.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
        }
        self.seam.write_file(&path, &mut &bytes[..]).map_err(LedgerError::io("write", &path))?;
        if turn == Turn::New {
            self.note(hash, size_bytes, Place::Own);
        }
        Ok(hash)
    }

    fn take_large(
        &self,
        content: &mut dyn Read,
        again: Option<Again<'_>>,
    ) -> Result<(ContentHash, bool), LedgerError> {
        let number = self.next_temporary.fetch_add(1, Ordering::Relaxed);
        let temporary = incoming_path(self.ledger, number);
        let mut hashing = HashingReader::new(content);
        let written = match again {
            Some(again) => self.seam.write_twice(&temporary, again, &mut hashing),
            None => self.seam.write_file(&temporary, &mut hashing).map(|size_bytes| (size_bytes, false)),
        };
        let (size_bytes, is_again) = written.map_err(LedgerError::io("write", &temporary))?;
        let hash = hashing.hash();
        let turn = self.turn_of(hash)?;
        if turn == Turn::Known {
            self.seam.remove_file(&temporary).map_err(LedgerError::io("remove", &temporary))?;
        } else {
            let path = blob_path(self.ledger, hash);
            // An unlisted file may be left there from a change that was cut short.
            match self.seam.rename(&temporary, &path) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    self.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
                    self.seam.rename(&temporary, &path).map_err(LedgerError::io("write", &path))?;
                }
                other => other.map_err(LedgerError::io("write", &path))?,
            }
            if turn == Turn::New {
                self.note(hash, size_bytes, Place::Own);
            }
        }
        Ok((hash, is_again))
    }

    /// What this thread is to do with a content.
    fn turn_of(&self, hash: ContentHash) -> Result<Turn, LedgerError> {
        if !lock(&self.taken).insert(hash) {
            return Ok(Turn::Known);
        }
        let listed = lock(&self.listed);
        let Some(catalogue) = listed.catalogue() else { return Ok(Turn::New) };
        if catalogue.place_of(hash)?.is_none() {
            return Ok(Turn::New);
        }
        let Some(stamp) = catalogue.linked(hash)? else { return Ok(Turn::Known) };
        let path = blob_path(self.ledger, hash);
        let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        let is_as_linked =
            seen.is_some_and(|seen| seen.modified_ns.div_euclid(1_000_000_000) == stamp.modified);
        let is_whole = is_as_linked || ContentHash::of_file(&path).is_ok_and(|now| now == hash);
        Ok(if is_whole || seen.is_none() { Turn::Known } else { Turn::Renewed })
    }

    fn note(&self, hash: ContentHash, size_bytes: u64, place: Place) {
        lock(&self.new).push(NewContent { hash, size_bytes, place });
    }

    /// A content that was taken, or was stored before.
    pub(crate) fn stored(&self, hash: ContentHash) -> Result<Stored, LedgerError> {
        let listed = lock(&self.listed);
        let place = listed.catalogue().map(|catalogue| catalogue.place_of(hash)).transpose()?;
        Ok(Packs::stored(&self.packs, hash, place.flatten()))
    }

    /// The contents that were not stored before; they are told once. All of them is written then.
    pub(crate) fn take_new(&self) -> Result<Vec<NewContent>, LedgerError> {
        if self.stores {
            self.packs.finish(self.seam)?;
        }
        Ok(std::mem::take(&mut lock(&self.new)))
    }

    /// As [`Intake::take_new`], without those that are not `needed`, which go again.
    pub(crate) fn take_needed(
        &self,
        is_needed: impl Fn(ContentHash) -> bool,
    ) -> Result<Vec<NewContent>, LedgerError> {
        let mut needed = self.take_new()?;
        let unneeded: Vec<NewContent> = needed.extract_if(.., |content| !is_needed(content.hash)).collect();
        for content in unneeded.iter().filter(|content| content.place == Place::Own) {
            let path = content.path(self.ledger);
            self.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
        }
        if unneeded.iter().any(|content| content.place != Place::Own) {
            self.packs.drop_from(&mut needed, &unneeded, self.seam)?;
        }
        needed.sort_unstable();
        Ok(needed)
    }
}

/// Whether a content is of a form that systems run or load.
fn is_program(content: &[u8]) -> bool {
    content.starts_with(b"MZ") || content.starts_with(b"\x7fELF")
}

/// Files on their way to become stored contents that the catalogue lists already. What is left when it is cut short is
/// swept.
pub(crate) struct Incoming<'a> {
    ledger: &'a Path,
    seam: &'a dyn Seam,
}

impl<'a> Incoming<'a> {
    /// Sets the mark, durably.
    pub(crate) fn begin(ledger: &'a Path, seam: &'a dyn Seam) -> Result<Self, LedgerError> {
        set_mark(ledger, seam)?;
        Ok(Self { ledger, seam })
    }

    /// Where the file of that number lies until it has its name.
    pub(crate) fn path(&self, number: u64) -> PathBuf {
        incoming_path(self.ledger, number)
    }

    /// Removes what did not get its name, and the mark.
    pub(crate) fn end(self) -> Result<(), LedgerError> {
        for entry in list(&self.ledger.join(BLOBS))? {
            if entry.file_name().to_string_lossy().starts_with(INCOMING) {
                let path = entry.path();
                self.seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
            }
        }
        end_intake(self.ledger, self.seam)
    }
}

fn incoming_path(ledger: &Path, number: u64) -> PathBuf {
    ledger.join(BLOBS).join(format!("{INCOMING}{number}"))
}

pub(crate) fn set_mark(ledger: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    let mark = ledger.join(MARK);
    let written = seam.write_file(&mark, &mut io::empty());
    written.map_err(LedgerError::io("write", &mark))?;
    let durable = seam.make_durable(ledger, &[&mark, ledger]);
    durable.map_err(LedgerError::io("write", &mark))
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Removes what a taking in that was cut short has left; does nothing if there was none.
pub(crate) fn sweep(ledger: &Ledger) -> Result<(), LedgerError> {
    let (folder, catalogue, seam) = (ledger.folder(), &ledger.catalogue, &*ledger.seam);
    if !is_intake_open(folder) {
        return Ok(());
    }
    ledger.packs.forget();
    for entry in list(&folder.join(BLOBS))? {
        let path = entry.path();
        let first = entry.file_name().to_string_lossy().into_owned();
        if first.starts_with(INCOMING) {
            seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
            continue;
        }
        for blob in list(&path)? {
            let name = format!("{first}{}", blob.file_name().to_string_lossy());
            let listed = match parse_name(&name) {
                Some(hash) => catalogue.place_of(hash)? == Some(Place::Own),
                None => false,
            };
            if !listed {
                seam.remove_file(&blob.path()).map_err(LedgerError::io("remove", blob.path()))?;
            }
        }
    }
    for (number, path) in packs_there(folder)? {
        // A folder is nothing of ours.
        if !catalogue.has_pack(number)? && !path.is_dir() {
            seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
        }
    }
    end_intake(folder, seam)
}

/// Whether contents may lie there that the catalogue does not list.
pub(crate) fn is_intake_open(ledger: &Path) -> bool {
    ledger.join(MARK).exists()
}

/// Takes the mark away, once the catalogue lists all contents there are.
pub(crate) fn end_intake(ledger: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    let mark = ledger.join(MARK);
    match seam.remove_file(&mark) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other.map_err(LedgerError::io("remove", &mark)),
    }
}

fn list(folder: &Path) -> Result<Vec<fs::DirEntry>, LedgerError> {
    fs::read_dir(folder)
        .and_then(|entries| entries.collect::<io::Result<Vec<_>>>())
        .map_err(LedgerError::io("look into", folder))
}

fn parse_name(name: &str) -> Option<ContentHash> {
    blake3::Hash::from_hex(name).ok().map(|hash| ContentHash::from_bytes(*hash.as_bytes()))
}
