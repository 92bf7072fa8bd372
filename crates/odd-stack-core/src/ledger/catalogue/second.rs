//! A second copy of the catalogue, and a sum of every page, so that damage is seen and one whole copy is always there.
//!
//! | in the ledger's folder | what it is |
//! |---|---|
//! | `catalogue.sqlite` | the catalogue; changed only by moving pages from its log into it, under the lock |
//! | `catalogue.sqlite-wal` | SQLite's log: what was committed since then |
//! | `catalogue.second` | the catalogue as it was when its log was emptied last, page by page |
//! | `catalogue.sums` | a sum of each page of both, and size and time of the catalogue then |
//!
//! When a change is done the catalogue is *sealed*: the log's pages go into the catalogue, then the same pages into the
//! second copy and their sums into a new file of sums, then the log is emptied. While a page is in the log it may
//! differ from its sum; no other page ever may. So whatever stops in between, the catalogue with its log is whole, and
//! where the catalogue is damaged the second copy with the log is. Sealing costs what was changed.
//!
//! Source of the log's format: sqlite.org/fileformat2.html, section 4.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rayon::prelude::*;
use rusqlite::Connection;
use rusqlite::config::DbConfig;

use super::{Catalogue, FILE_NAME, Result};
use crate::files::{firmly, quietly};
use crate::ledger::{LedgerError, Lock};

/// The second copy's file in the ledger's folder.
pub(crate) const SECOND_NAME: &str = "catalogue.second";
/// The file of sums.
pub(crate) const SUMS_NAME: &str = "catalogue.sums";
const WAL_NAME: &str = "catalogue.sqlite-wal";
const MAGIC: &[u8; 8] = b"oddsums1";
const HEAD_BYTES: usize = 32;
const SUM_BYTES: usize = 8;
const WAL_HEAD_BYTES: usize = 32;
const FRAME_HEAD_BYTES: usize = 24;
/// How long others may hold the lock before damage is believed.
const WAIT_FOR_OTHERS: Duration = Duration::from_secs(5);

type Sum = [u8; SUM_BYTES];

/// The sums of all pages, and what the catalogue's file was when they were taken.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Sums {
    page_bytes: u32,
    size_bytes: u64,
    modified_ns: i64,
    pages: Vec<Sum>,
}

fn sum(bytes: &[u8]) -> Sum {
    let mut sum = Sum::default();
    sum.copy_from_slice(&blake3::hash(bytes).as_bytes()[..SUM_BYTES]);
    sum
}

impl Sums {
    /// Reads them; nothing if there are none, or they are themselves damaged.
    fn read(folder: &Path) -> Option<Self> {
        let path = folder.join(SUMS_NAME);
        let bytes = quietly(&path, || fs::read(&path)).ok()?;
        let (body, end) = bytes.split_last_chunk::<SUM_BYTES>()?;
        let (head, pages) = body.split_first_chunk::<HEAD_BYTES>()?;
        let is_whole = sum(body) == *end && head.starts_with(MAGIC) && pages.len() % SUM_BYTES == 0;
        let part = |from: usize| head.get(from..from + 8)?.try_into().ok();
        is_whole.then_some(Self {
            page_bytes: u32::try_from(u64::from_le_bytes(part(8)?)).ok()?,
            size_bytes: u64::from_le_bytes(part(16)?),
            modified_ns: i64::from_le_bytes(part(24)?),
            pages: pages.as_chunks::<SUM_BYTES>().0.to_vec(),
        })
    }

    /// Puts them in place of those of before, whole or not at all.
    fn write(&self, folder: &Path) -> io::Result<()> {
        let mut bytes = MAGIC.to_vec();
        bytes.extend(u64::from(self.page_bytes).to_le_bytes());
        bytes.extend(self.size_bytes.to_le_bytes());
        bytes.extend(self.modified_ns.to_le_bytes());
        bytes.extend(self.pages.iter().flatten());
        bytes.extend(sum(&bytes));
        let (path, new) = (folder.join(SUMS_NAME), folder.join("catalogue.sums-new"));
        let mut file = firmly(&new, || File::create(&new))?;
        file.write_all(&bytes)?;
        file.sync_all()?;
        drop(file);
        firmly(&path, || fs::rename(&new, &path))
    }

    /// Which pages of a file differ from their sums, those in `passed_over` not counted; the first one, or where it
    /// ends otherwise.
    fn first_wrong(&self, path: &Path, passed_over: &HashSet<u32>) -> io::Result<Option<u32>> {
        let pages = read_pages(path, self.page_bytes)?;
        let is_longer = pages.len() > self.pages.len() && passed_over.is_empty();
        let is_wrong = |number: usize| {
            let known = passed_over.contains(&(number as u32 + 1));
            !known && pages.get(number) != self.pages.get(number)
        };
        let wrong = (0..self.pages.len()).find(|number| is_wrong(*number)).map(|number| number as u32 + 1);
        Ok(wrong.or(is_longer.then_some(self.pages.len() as u32 + 1)))
    }
}

/// The sums of a file's pages.
fn read_pages(path: &Path, page_bytes: u32) -> io::Result<Vec<Sum>> {
    let bytes = quietly(path, || fs::read(path))?;
    Ok(bytes.par_chunks(page_bytes.max(512) as usize).map(sum).collect())
}

/// What is in the log: the numbers of its pages, and how big they are.
#[derive(Debug, Default)]
struct Log {
    page_bytes: u32,
    pages: HashSet<u32>,
}

impl Log {
    fn read(folder: &Path) -> io::Result<Self> {
        let path = folder.join(WAL_NAME);
        let mut file = match quietly(&path, || File::open(&path)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(error),
        };
        let mut head = [0; WAL_HEAD_BYTES];
        match file.read_exact(&mut head) {
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(Self::default()),
            other => other?,
        }
        let number = |bytes: &[u8], at: usize| {
            bytes.get(at..at + 4).and_then(|four| four.try_into().ok()).map_or(0, u32::from_be_bytes)
        };
        let page_bytes = number(&head, 8);
        if !(512..=65_536).contains(&page_bytes) {
            return Ok(Self::default());
        }
        let mut pages = HashSet::new();
        let mut frame = [0; FRAME_HEAD_BYTES];
        // Those of before the log was begun anew have another salt.
        while file.read_exact(&mut frame).is_ok() && frame[8..16] == head[16..24] {
            pages.insert(number(&frame, 0));
            file.seek(SeekFrom::Current(i64::from(page_bytes)))?;
        }
        Ok(Self { page_bytes, pages })
    }
}

fn size_and_time(path: &Path) -> io::Result<(u64, i64)> {
    let seen = crate::files::look_at(path)?.ok_or(io::ErrorKind::NotFound)?;
    Ok((seen.size_bytes, seen.modified_ns))
}

/// Whether the catalogue in `folder` is what it was when it was sealed, its log aside. Looks only at size and time, unless
/// these differ or it is asked to look `closely`.
pub(crate) fn verify(folder: &Path, closely: bool) -> Result<()> {
    let Some(wrong) = wrong_page(folder, closely).map_err(LedgerError::io("read", folder.join(FILE_NAME)))?
    else {
        return Ok(());
    };
    // Another process may just have sealed it.
    let lock = match Lock::take_silently(folder, WAIT_FOR_OTHERS) {
        Ok(lock) => lock,
        Err(LedgerError::Busy { .. }) => return Ok(()),
        Err(error) => return Err(error),
    };
    let still = wrong_page(folder, closely).map_err(LedgerError::io("read", folder.join(FILE_NAME)))?;
    drop(lock);
    match still {
        None => Ok(()),
        Some(_) => Err(damaged(folder, wrong)),
    }
}

/// As [`verify`], closely, for one who has the lock.
pub(crate) fn verify_locked(folder: &Path) -> Result<()> {
    match wrong_page(folder, true).map_err(LedgerError::io("read", folder.join(FILE_NAME)))? {
        None => Ok(()),
        Some(wrong) => Err(damaged(folder, wrong)),
    }
}

fn damaged(folder: &Path, page: u32) -> LedgerError {
    let reason = format!("page {page} of {FILE_NAME} is not what was written");
    LedgerError::Damaged { folder: folder.to_path_buf(), reason }
}

fn wrong_page(folder: &Path, closely: bool) -> io::Result<Option<u32>> {
    let path = folder.join(FILE_NAME);
    // Before the log, which may be emptied meanwhile.
    let Some(sums) = Sums::read(folder) else { return Ok(None) };
    if !closely && size_and_time(&path)? == (sums.size_bytes, sums.modified_ns) {
        return Ok(None);
    }
    sums.first_wrong(&path, &Log::read(folder)?.pages)
}

/// Whether something is in the log that is not in the catalogue.
pub(super) fn has_log(folder: &Path) -> bool {
    Log::read(folder).map_or(true, |log| !log.pages.is_empty())
}

/// Whether the second copy is whole, so that it can take the catalogue's place.
///
/// # Errors
/// When something can't be read that is there; then it is not known.
pub(crate) fn is_second_whole(folder: &Path) -> Result<bool> {
    let read = |name: &str| {
        let path = folder.join(name);
        match quietly(&path, || fs::read(&path)) {
            Err(error) if !crate::files::is_nothing_there(&error) => {
                Err(LedgerError::io("read", path)(error))
            }
            other => Ok(other.is_ok()),
        }
    };
    if !read(SECOND_NAME)? || !read(SUMS_NAME)? {
        return Ok(false);
    }
    let Some(sums) = Sums::read(folder) else { return Ok(false) };
    let log = Log::read(folder).map_err(LedgerError::io("read", folder.join(WAL_NAME)))?;
    let wrong = sums.first_wrong(&folder.join(SECOND_NAME), &log.pages);
    Ok(wrong.map_err(LedgerError::io("read", folder.join(SECOND_NAME)))?.is_none())
}

impl Catalogue {
    /// Seals the catalogue and closes it, so that nothing of a log is left where nobody else is at it. Nothing can be asked
    /// of it any more.
    pub(crate) fn close(&mut self) {
        if self.is_only_looked_at() {
            return;
        }
        self.seal();
        // While nobody else can commit: SQLite would move what is in the log into the catalogue.
        let Ok(_lock) = Lock::take_silently(&self.folder, Duration::ZERO) else { return };
        let is_empty = Log::read(&self.folder).is_ok_and(|log| log.pages.is_empty());
        if let (true, true, Ok(nothing)) =
            (is_empty, self.connection.is_autocommit(), Connection::open_in_memory())
        {
            let unlocked = self.connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, false);
            if unlocked.is_ok() {
                drop(std::mem::replace(&mut self.connection, nothing));
            }
        }
    }

    /// Seals the catalogue, if something is in its log and nobody else is at it. What can't be done now is done after
    /// the next change.
    pub(crate) fn seal(&self) {
        // Its log keeps what is not sealed.
        let _ = self.try_to_seal();
    }

    fn try_to_seal(&self) -> Result<()> {
        let folder = &self.folder;
        let failed = |path: &str| LedgerError::io("write", folder.join(path));
        let log = Log::read(folder).map_err(failed(WAL_NAME))?;
        let known = Sums::read(folder);
        let is_sealed = || {
            let now = size_and_time(&folder.join(FILE_NAME)).ok();
            known.as_ref().is_some_and(|sums| now == Some((sums.size_bytes, sums.modified_ns)))
        };
        if !self.connection.is_autocommit() || log.pages.is_empty() && is_sealed() {
            return Ok(());
        }
        let _lock = Lock::take_silently(folder, Duration::ZERO)?;
        let is_all_in = self.run(|db| {
            db.busy_timeout(Duration::ZERO)?;
            db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |row| {
                Ok(row.get::<_, i64>(0)? == 0 && row.get::<_, i64>(1)? == row.get::<_, i64>(2)?)
            })
        })?;
        if !is_all_in {
            return Ok(());
        }
        // With the lock nobody writes any more.
        let log = Log::read(folder).map_err(failed(WAL_NAME))?;
        self.copy_pages(&log, known).map_err(failed(SECOND_NAME))?;
        self.run(|db| db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())))
    }

    /// Brings the second copy and the sums to what the catalogue is, of which only the log's pages can be new.
    fn copy_pages(&self, log: &Log, known: Option<Sums>) -> io::Result<()> {
        let (main, second) = (self.folder.join(FILE_NAME), self.folder.join(SECOND_NAME));
        let (size_bytes, modified_ns) = size_and_time(&main)?;
        let mut file = quietly(&main, || File::open(&main))?;
        let page_bytes = match log.page_bytes {
            0 => page_bytes_of(&mut file)?,
            page_bytes => page_bytes,
        };
        let count = usize::try_from(size_bytes / u64::from(page_bytes)).map_err(io::Error::other)?;
        let is_like_it = |sums: &Sums| {
            let size = u64::from(page_bytes) * sums.pages.len() as u64;
            sums.page_bytes == page_bytes
                && fs::metadata(&second).is_ok_and(|metadata| metadata.len() == size)
        };
        let sums = match known.filter(|sums| is_like_it(sums) && !log.pages.is_empty()) {
            Some(mut sums) => {
                let mut copy = firmly(&second, || File::options().write(true).open(&second))?;
                sums.pages.resize(count, Sum::default());
                let mut page = vec![0; page_bytes as usize];
                let mut numbers: Vec<u32> = log.pages.iter().copied().collect();
                numbers.sort_unstable();
                for number in numbers.into_iter().filter(|number| (1..=count).contains(&(*number as usize))) {
                    let at = SeekFrom::Start(u64::from(number - 1) * u64::from(page_bytes));
                    file.seek(at)?;
                    file.read_exact(&mut page)?;
                    copy.seek(at)?;
                    copy.write_all(&page)?;
                    sums.pages[number as usize - 1] = sum(&page);
                }
                copy.set_len(size_bytes)?;
                copy.sync_all()?;
                Sums { size_bytes, modified_ns, ..sums }
            }
            None => {
                let new = self.folder.join("catalogue.second-new");
                let _ = fs::remove_file(&new);
                firmly(&new, || fs::copy(&main, &new))?;
                firmly(&new, || File::options().write(true).open(&new))?.sync_all()?;
                firmly(&second, || fs::rename(&new, &second))?;
                let pages = read_pages(&main, page_bytes)?;
                Sums { page_bytes, size_bytes, modified_ns, pages }
            }
        };
        sums.write(&self.folder)
    }
}

/// The size of a page as the catalogue's own head tells it.
fn page_bytes_of(file: &mut File) -> io::Result<u32> {
    let mut head = [0; 18];
    file.read_exact(&mut head)?;
    match u16::from_be_bytes([head[16], head[17]]) {
        1 => Ok(65_536),
        bytes @ 512.. => Ok(u32::from(bytes)),
        _ => Err(io::ErrorKind::InvalidData.into()),
    }
}

/// Puts the second copy in the catalogue's place; what lay there is kept, and is named. The log stays: it has what was
/// committed since.
pub(crate) fn restore_second(folder: &Path, _lock: &Lock) -> Result<Option<PathBuf>> {
    let (main, second) = (folder.join(FILE_NAME), folder.join(SECOND_NAME));
    let failed = |path: PathBuf| LedgerError::io("write", path);
    let new = folder.join("catalogue.sqlite-new");
    fs::copy(&second, &new).map_err(failed(new.clone()))?;
    let synced = File::options().write(true).open(&new).and_then(|file| file.sync_all());
    synced.map_err(failed(new.clone()))?;
    let mut aside = None;
    if main.symlink_metadata().is_ok() {
        let places = (1..).map(|number| folder.join(format!("catalogue.damaged-{number}")));
        let place = places.into_iter().find(|place| place.symlink_metadata().is_err());
        let place = place.unwrap_or_else(|| folder.join("catalogue.damaged"));
        fs::rename(&main, &place).map_err(failed(place.clone()))?;
        aside = Some(place);
    }
    fs::rename(&new, &main).map_err(failed(main.clone()))?;
    // Made anew by SQLite; an old one may lead astray.
    let _ = fs::remove_file(folder.join("catalogue.sqlite-shm"));
    Ok(aside)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn revisions(folder: &Path) -> i64 {
        Catalogue::open(folder).unwrap().last_revision().unwrap()
    }

    fn change(catalogue: &Catalogue, command: &str) {
        catalogue.begin().unwrap();
        let new = super::super::NewRevision {
            made_at: "2026-01-02T03:04:05Z",
            command,
            arrangement: "[]",
            restores: None,
            before: "{}",
            did: "[0,0,0,0]",
        };
        catalogue.insert_revision(&new).unwrap();
        catalogue.commit().unwrap();
    }

    fn turn_a_bit(path: &Path, at: usize) {
        let mut content = fs::read(path).unwrap();
        content[at] ^= 1;
        fs::write(path, content).unwrap();
    }

    #[test]
    fn one_copy_is_whole_wherever_it_stops() {
        let folder = tempfile::tempdir().unwrap();
        let folder = folder.path();
        let path = |name: &str| folder.join(name);
        let catalogue = Catalogue::create(folder).unwrap();
        change(&catalogue, "one");
        catalogue.seal();
        assert!(is_second_whole(folder).unwrap() && verify(folder, true).is_ok());
        assert_eq!(fs::read(path(FILE_NAME)).unwrap(), fs::read(path(SECOND_NAME)).unwrap());
        assert_eq!(fs::metadata(path(WAL_NAME)).unwrap().len(), 0);
        // It stops after a commit: the log has it, and either copy makes it whole.
        change(&catalogue, "two");
        drop(catalogue);
        assert!(fs::metadata(path(WAL_NAME)).unwrap().len() > 0);
        assert!(is_second_whole(folder).unwrap() && verify(folder, true).is_ok());
        let whole = fs::read(path(FILE_NAME)).unwrap();
        // A page that the log has not, to be sure.
        let log = Log::read(folder).unwrap();
        let other = (2..).find(|page| !log.pages.contains(page)).unwrap();
        turn_a_bit(&path(FILE_NAME), (other as usize - 1) * log.page_bytes as usize + 100);
        assert!(verify(folder, false).is_err());
        let lock = Lock::take(folder, "test", Duration::ZERO).unwrap();
        let aside = restore_second(folder, &lock).unwrap().unwrap();
        drop(lock);
        assert!(aside.exists() && verify(folder, true).is_ok());
        assert_eq!(revisions(folder), 2);
        // It stops while pages go from the log into the catalogue.
        fs::write(path(FILE_NAME), whole).unwrap();
        let catalogue = Catalogue::open(folder).unwrap();
        catalogue.run(|db| db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(()))).unwrap();
        drop(catalogue);
        assert!(verify(folder, true).is_ok() && is_second_whole(folder).unwrap());
        // It stops when the second copy has them, and the sums have not.
        fs::copy(path(FILE_NAME), path(SECOND_NAME)).unwrap();
        assert!(verify(folder, true).is_ok() && is_second_whole(folder).unwrap());
        let mut catalogue = Catalogue::open(folder).unwrap();
        catalogue.close();
        assert!(verify(folder, true).is_ok() && is_second_whole(folder).unwrap() && !path(WAL_NAME).exists());
        assert_eq!(revisions(folder), 2);
        // Every page counts, and the copy's pages too.
        let pages = fs::metadata(path(FILE_NAME)).unwrap().len() / u64::from(log.page_bytes);
        for page in 0..usize::try_from(pages).unwrap() {
            let at = page * log.page_bytes as usize + 7;
            turn_a_bit(&path(FILE_NAME), at);
            assert!(verify(folder, true).is_err(), "page {page}");
            turn_a_bit(&path(FILE_NAME), at);
            turn_a_bit(&path(SECOND_NAME), at);
            assert!(!is_second_whole(folder).unwrap(), "page {page}");
            turn_a_bit(&path(SECOND_NAME), at);
        }
        assert!(verify(folder, true).is_ok());
        // Sums that are damaged are none, and are made anew.
        turn_a_bit(&path(SUMS_NAME), 40);
        assert!(verify(folder, true).is_ok() && !is_second_whole(folder).unwrap());
        let mut catalogue = Catalogue::open(folder).unwrap();
        change(&catalogue, "three");
        catalogue.close();
        assert!(is_second_whole(folder).unwrap());
    }
}
