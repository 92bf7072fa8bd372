//! How contents get from a reader to whoever asked for them.

use std::fmt::Debug;
use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use super::PackageError;
use crate::observer::Observer;

/// One content that was asked for.
#[derive(Debug, Clone)]
pub(super) struct WantedMembers {
    /// The reader's own number of it.
    pub source: usize,
    /// The package's number of it.
    pub content: usize,
    /// What it must be long, unpacked.
    pub size_bytes: u64,
    /// The member it belongs to, for messages.
    pub name: Arc<str>,
}

/// Reading ended early; why is kept in the [`Delivery`].
#[derive(Debug)]
pub(super) struct Halt;

/// Reads contents of one opened folder or archive.
pub(super) trait Source: Debug + Send + Sync {
    /// Hands every content of `wanted` to `delivery`, in any order and from any thread, each once.
    /// `wanted` is in order of the reader's own numbers.
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt>;

    /// The bytes of one content as they lie in a file, where that is how they lie.
    fn as_file(&self, _source: usize) -> Option<super::archive_file::ArchiveFile> {
        None
    }
}

/// What is done with a content: its number, its size, its bytes.
pub(super) type Take<'a> = dyn Fn(&WantedMembers, &mut dyn Read) -> Result<(), Halt> + Sync + 'a;

/// Passes contents on, watches them, and keeps the first failure.
pub(super) struct Delivery<'a> {
    /// The package as it is shown.
    pub package: &'a str,
    pub take: &'a Take<'a>,
    pub observer: &'a dyn Observer,
    /// Whether progress is told in packed bytes, by whoever reads those.
    pub counts_packed: bool,
    failed: Mutex<Option<PackageError>>,
}

impl<'a> Delivery<'a> {
    pub(super) fn new(
        package: &'a str,
        take: &'a Take<'a>,
        observer: &'a dyn Observer,
        counts_packed: bool,
    ) -> Self {
        Self { package, take, observer, counts_packed, failed: Mutex::default() }
    }

    /// Hands one content on. Whoever takes it must read it to its end.
    pub(super) fn deliver(&self, wanted: &WantedMembers, content: &mut dyn Read) -> Result<(), Halt> {
        self.go_on()?;
        let mut watched = Watched {
            inner: content,
            read_bytes: 0,
            size_bytes: wanted.size_bytes,
            failed: None,
            observer: self.observer,
            counts: !self.counts_packed,
        };
        let taken = (self.take)(wanted, &mut watched);
        let (failed, read_bytes) = (watched.failed.take(), watched.read_bytes);
        if let Some(source) = failed {
            self.go_on()?;
            // Then whoever unpacks knows better what happened.
            let is_told = source.kind() == super::relay::BROKEN_OFF;
            return Err(if is_told { Halt } else { self.fail(wanted, source) });
        }
        taken?;
        if read_bytes != wanted.size_bytes {
            let source = io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than it says");
            return Err(self.fail(wanted, source));
        }
        self.observer.advance(1, 0);
        Ok(())
    }

    /// Stops when the user asked to.
    pub(super) fn go_on(&self) -> Result<(), Halt> {
        if self.observer.is_cancelled() { Err(self.halt(PackageError::Cancelled)) } else { Ok(()) }
    }

    /// Ends the reading since one content is broken.
    pub(super) fn fail(&self, wanted: &WantedMembers, source: io::Error) -> Halt {
        let (package, member) = (self.package.to_owned(), wanted.name.to_string());
        self.halt(match source.kind() {
            io::ErrorKind::Unsupported => PackageError::NotRead { package, member, source },
            _ => PackageError::Member { package, member, source },
        })
    }

    /// Ends the reading; the first reason counts.
    pub(super) fn halt(&self, error: PackageError) -> Halt {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        Halt
    }

    /// The first failure, if it was the reader's or the user's and not that of whoever takes.
    pub(super) fn failure(self) -> Option<PackageError> {
        self.failed.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Passes a content's bytes on, remembers whether reading (and not taking) failed, and stops one
/// that gives more than it declared.
struct Watched<'a> {
    inner: &'a mut dyn Read,
    read_bytes: u64,
    size_bytes: u64,
    failed: Option<io::Error>,
    observer: &'a dyn Observer,
    counts: bool,
}

impl Read for Watched<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.observer.is_cancelled() {
            self.failed = Some(io::Error::other("stopped as asked"));
            return Err(io::Error::other("stopped as asked"));
        }
        let result = self.inner.read(buffer).and_then(|count| {
            self.read_bytes += count as u64;
            if self.read_bytes > self.size_bytes {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "it is longer than it says"));
            }
            if self.counts && count > 0 {
                self.observer.advance(0, count as u64);
            }
            Ok(count)
        });
        result.map_err(|error| {
            let told = io::Error::new(error.kind(), error.to_string());
            if error.kind() != io::ErrorKind::Interrupted {
                self.failed = Some(error);
            }
            told
        })
    }
}
