//! What somebody published: a folder or an archive, read as one list of members plus a way to
//! stream each in bounded memory.
//!
//! Reading changes nothing. Hostile names, clashes and absurd sizes are refused when the package is
//! opened, before a content is read; a broken content is an error of its member. A packed tar alone has
//! no list that could be judged beforehand: its contents can be taken while it is opened
//! ([`Package::open_taking`]), and whoever takes them must be ready to throw them away.
//!
//! All readers give raw members, which go through one gate (`listing`); all hand contents over through
//! one door (`delivery`). Formats that unpack only from front to back do so once, on one thread, while
//! others take (`relay`), or side by side where the format allows it (`lzma_block`).

mod archive_file;
mod delivery;
mod error;
mod folder;
mod inner;
mod kind;
mod limits;
mod listing;
mod lzma_block;
mod names;
mod rar;
mod relay;
mod search;
mod seven;
mod split_zip;
mod tar;
mod tar_gaps;
mod volumes;
mod zip;

use std::collections::HashMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

pub(crate) use archive_file::ArchiveFile;
use delivery::{Delivery, Halt, Source, Take, WantedMembers};
use kind::kind_of;
use listing::RawMember;
use names::Names;
pub(crate) use search::search;
use volumes::{Scheme, Volumes};

use crate::notice::Notice;
use crate::observer::{Observer, Work};
use crate::version::{FileNameParts, parts_of_file_name};

pub use crate::members::{Folder, Member, is_named_like_an_archive};
pub use error::PackageError;
pub use inner::{Inner, Unopened};
pub use kind::{PackageKind, Packing};
pub use limits::{LimitBroken, Limits};
pub use listing::LinkOut;
pub use names::NameEncoding;

/// What a download that was cut short looks like.
const CUT_SHORT: &str = "its end is missing, as if the download was cut short";

/// How a package is opened.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct OpenOptions {
    /// How big it may be.
    pub limits: Limits,
    /// Which archives inside it are looked into.
    pub inner: Inner,
    /// The code page of names of which the archive does not tell it.
    pub names: Option<NameEncoding>,
}

/// What takes contents: it gets the content's number ([`Member::content`]), its size in bytes and its
/// bytes, which it must read to their end; on several threads at once.
pub type Taker<'a, E> = dyn Fn(usize, u64, &mut dyn Read) -> Result<(), E> + Sync + 'a;

/// One archive, or the folder, of a package.
#[derive(Debug)]
struct Part {
    shown: String,
    /// What its own numbers of contents are counted on from.
    first_content: usize,
    contents: usize,
    source: Box<dyn Source>,
}

/// An opened package: its judged members, and their contents on demand.
#[derive(Debug)]
pub struct Package {
    path: PathBuf,
    shown: String,
    kind: PackageKind,
    volumes: usize,
    members: Vec<Member>,
    folders: Vec<Folder>,
    links_out: Vec<LinkOut>,
    unopened: Vec<Unopened>,
    parts: Vec<Part>,
}

impl Package {
    /// Opens the folder or archive at `path`, any one of its volumes if it was split; archives are told
    /// by content, not by ending.
    ///
    /// # Errors
    /// [`PackageError`], naming the package, the member and the reason.
    pub fn open(path: &Path, options: &OpenOptions, observer: &dyn Observer) -> Result<Self, PackageError> {
        Self::open_with(path, options, None, observer)
    }

    /// As [`Package::open`]; contents that can only be listed by unpacking them are given to `take` on
    /// the way. Which ones were is known to `take` alone.
    ///
    /// # Errors
    /// As [`Package::open`], or the first error of `take`.
    pub fn open_taking<E>(
        path: &Path,
        options: &OpenOptions,
        take: &Taker<'_, E>,
        observer: &dyn Observer,
    ) -> Result<Self, E>
    where
        E: From<PackageError> + Send,
    {
        let failed = Mutex::default();
        let opened = Self::open_with(path, options, Some(&bridge(take, &failed)), observer);
        match (opened, into_inner(failed)) {
            (Ok(package), None) => Ok(package),
            // The reader says no more than that it was told to stop.
            (Err(PackageError::Cancelled), Some(error)) if !observer.is_cancelled() => Err(error),
            (Err(error), _) => Err(error.into()),
            (Ok(_), Some(error)) => Err(error),
        }
    }

    fn open_with(
        path: &Path,
        options: &OpenOptions,
        take: Option<&Take<'_>>,
        observer: &dyn Observer,
    ) -> Result<Self, PackageError> {
        let shown = path.display().to_string();
        let metadata = std::fs::metadata(path).map_err(|source| PackageError::unreadable(path, source))?;
        let (kind, source, raws, volumes, packed_bytes) = if metadata.is_dir() {
            let (source, raws) = folder::FolderSource::open(path)?;
            (PackageKind::Folder, Box::new(source) as Box<dyn Source>, raws, 1, u64::MAX)
        } else {
            let volumes = Volumes::of(path)?;
            let files = volumes
                .files
                .iter()
                .map(|file| ArchiveFile::open(file).map_err(|source| PackageError::unreadable(file, source)));
            let files = files.collect::<Result<Vec<_>, _>>()?;
            let packed_bytes = files.iter().map(ArchiveFile::length_bytes).sum();
            let opening = Opening {
                shown: &shown,
                limits: &options.limits,
                names: Names::new(options.names),
                take,
                observer,
            };
            let (kind, source, raws) = opening.open(files, &volumes)?;
            (kind, source, raws, volumes.files.len(), packed_bytes)
        };
        let contents = raws.len();
        let listing = listing::build(&shown, raws, &options.limits)?;
        let mut package = Self {
            path: path.to_path_buf(),
            kind,
            volumes,
            members: listing.members,
            folders: listing.folders,
            links_out: listing.links_out,
            unopened: Vec::new(),
            parts: vec![Part { shown: shown.clone(), first_content: 0, contents, source }],
            shown,
        };
        // Links to folders multiply, so the whole is counted again after they became copies.
        package.check_limits(&options.limits, u64::MAX)?;
        package.open_inner(options, packed_bytes, observer)?;
        Ok(package)
    }

    fn check_limits(&self, limits: &Limits, packed_bytes: u64) -> Result<(), PackageError> {
        let count = (self.members.len() + self.folders.len()) as u64;
        limits
            .check(count, self.size_bytes(), packed_bytes)
            .map_err(|limit| PackageError::OverLimit { package: self.shown.clone(), limit })
    }

    /// Where it was read from, as it was given.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What it was read from.
    pub fn kind(&self) -> PackageKind {
        self.kind
    }

    /// How many files it is split into.
    pub fn volumes(&self) -> usize {
        self.volumes
    }

    /// All files, those of archives inside that were looked into behind those of the package itself.
    pub fn members(&self) -> &[Member] {
        &self.members
    }

    /// All folders, those of files included, each after the one above it.
    pub fn folders(&self) -> &[Folder] {
        &self.folders
    }

    /// Links that lead to nothing inside the package.
    pub fn links_out(&self) -> &[LinkOut] {
        &self.links_out
    }

    /// Archives inside that were to be looked into and could not be.
    pub fn unopened(&self) -> &[Unopened] {
        &self.unopened
    }

    /// All files' sizes together, unpacked.
    pub fn size_bytes(&self) -> u64 {
        self.members.iter().fold(0, |sum, member| sum.saturating_add(member.size_bytes))
    }

    /// Name, version and variant as its file name tells them.
    pub fn file_name_parts(&self) -> FileNameParts {
        let absolute = std::path::absolute(&self.path).unwrap_or_else(|_| self.path.clone());
        parts_of_file_name(&absolute, self.kind != PackageKind::Folder)
    }

    /// Streams the contents of `wanted` ([`Member::content`]) to `take`, each once, several at once on
    /// as many threads as the current rayon pool has, in no promised order.
    ///
    /// # Errors
    /// The first broken member, or the first error of `take`.
    pub fn read<E>(&self, wanted: &[usize], take: &Taker<'_, E>, observer: &dyn Observer) -> Result<(), E>
    where
        E: From<PackageError> + Send,
    {
        let failed = Mutex::default();
        let read = self.read_with(wanted, &bridge(take, &failed), observer);
        match (read, into_inner(failed)) {
            (Ok(()), None) => Ok(()),
            (Err(Some(error)), _) => Err(error.into()),
            (_, Some(error)) => Err(error),
            (Err(None), None) => Err(PackageError::Cancelled.into()),
        }
    }

    /// Whether its contents come front to back, so that reading any of them may unpack all before it.
    pub fn reads_front_to_back(&self) -> bool {
        matches!(self.kind, PackageKind::SevenZ | PackageKind::Rar)
    }

    /// The contents of small `members`, each cut off after `most_bytes`, in one pass.
    ///
    /// # Errors
    /// [`PackageError`], when one is broken.
    pub fn read_small(
        &self,
        members: &[&Member],
        most_bytes: u64,
        observer: &dyn Observer,
    ) -> Result<Vec<Vec<u8>>, PackageError> {
        if members.is_empty() {
            return Ok(Vec::new());
        }
        let all: Mutex<HashMap<usize, Vec<u8>>> = Mutex::default();
        let take = |number: usize, _: u64, content: &mut dyn Read| -> Result<(), PackageError> {
            let mut read = Vec::new();
            let outcome = content.take(most_bytes).read_to_end(&mut read);
            // A broken content is told by whoever reads it.
            outcome
                .and_then(|_| std::io::copy(content, &mut std::io::sink()))
                .map_err(|source| PackageError::Unreadable { path: self.path.clone(), source })?;
            all.lock().unwrap_or_else(PoisonError::into_inner).insert(number, read);
            Ok(())
        };
        let wanted: Vec<usize> = members.iter().map(|member| member.content).collect();
        self.read(&wanted, &take, observer)?;
        let all = all.into_inner().unwrap_or_else(PoisonError::into_inner);
        Ok(members.iter().map(|member| all.get(&member.content).cloned().unwrap_or_default()).collect())
    }

    /// Hands contents over; an error without a reason means that `take` has it.
    fn read_with(
        &self,
        wanted: &[usize],
        take: &Take<'_>,
        observer: &dyn Observer,
    ) -> Result<(), Option<PackageError>> {
        let mut by_content: HashMap<usize, &Member> = HashMap::new();
        for member in &self.members {
            by_content.entry(member.content).or_insert(member);
        }
        let mut wanted: Vec<usize> = wanted.to_vec();
        wanted.sort_unstable();
        wanted.dedup();
        for part in &self.parts {
            let of_part = part.first_content..part.first_content + part.contents;
            let wanted = wanted.iter().filter(|content| of_part.contains(content));
            let wanted: Vec<WantedMembers> = wanted
                .filter_map(|content| {
                    let member = by_content.get(content)?;
                    Some(WantedMembers {
                        source: content - part.first_content,
                        content: *content,
                        size_bytes: member.size_bytes,
                        name: member.path.as_str().into(),
                    })
                })
                .collect();
            if wanted.is_empty() {
                continue;
            }
            let delivery = Delivery::new(&self.shown, take, observer, false);
            if part.source.read(&wanted, &delivery).is_err() {
                return Err(delivery.failure());
            }
        }
        Ok(())
    }
}

fn bridge<'a, E: Send>(
    take: &'a Taker<'_, E>,
    failed: &'a Mutex<Option<E>>,
) -> impl Fn(&WantedMembers, &mut dyn Read) -> Result<(), Halt> + Sync + 'a {
    |wanted, content| {
        take(wanted.content, wanted.size_bytes, content).map_err(|error| {
            failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
            Halt
        })
    }
}

fn into_inner<E>(failed: Mutex<Option<E>>) -> Option<E> {
    failed.into_inner().unwrap_or_else(PoisonError::into_inner)
}

/// What every archive is opened with.
struct Opening<'a> {
    shown: &'a str,
    limits: &'a Limits,
    names: Names,
    take: Option<&'a Take<'a>>,
    observer: &'a dyn Observer,
}

impl Opening<'_> {
    fn open(&self, files: Vec<ArchiveFile>, volumes: &Volumes) -> Result<Opened, PackageError> {
        let (shown, limits) = (self.shown, self.limits);
        let unreadable = |source| PackageError::Unreadable { path: shown.into(), source };
        let whole = match volumes.scheme {
            Scheme::SplitZip => split_zip::join(&files).map_err(|error| PackageError::Broken {
                package: shown.to_owned(),
                reason: error.to_string(),
            })?,
            _ => ArchiveFile::joined(files.iter().cloned()),
        };
        let kind = kind_of(&whole).map_err(unreadable)?;
        let kind = match kind {
            Ok(kind) => kind,
            // A zip archive is found by its end: something may stand before it, as in one that unpacks itself.
            Err(_) if split_zip::end_record(&whole).map_err(unreadable)?.is_some() => PackageKind::Zip,
            Err(found) => return Err(PackageError::UnknownKind { path: shown.into(), found }),
        };
        let opened = match kind {
            // A folder is none of the kinds that a file tells.
            PackageKind::Folder | PackageKind::Zip => {
                zip::ZipSource::open(shown, whole, limits, &self.names).map(boxed)
            }
            PackageKind::SevenZ => seven::SevenSource::open(shown, whole, limits, self.observer).map(boxed),
            PackageKind::Rar => rar::RarSource::open(shown, files, volumes, limits, &self.names).map(boxed),
            PackageKind::Tar(packing) => {
                let early = tar::TakeEarly { take: self.take, observer: self.observer, names: &self.names };
                let is_packed = packing != Packing::Plain;
                if is_packed {
                    self.observer.begin(Work::Reading, 0, whole.length_bytes());
                }
                let opened = tar::TarSource::open(shown, whole, packing, limits, &early).map(boxed);
                if is_packed {
                    self.observer.end();
                }
                opened
            }
        };
        let (source, raws) = opened.map_err(|error| match (error, volumes.next()) {
            // Of a split archive that ends too early, the next piece is what is missing.
            (PackageError::Broken { package, reason }, Some(volume))
                if reason == CUT_SHORT && volumes.scheme == Scheme::Joined =>
            {
                PackageError::MissingVolume { package, volume }
            }
            (error, _) => error,
        })?;
        if let Some(name) = self.names.guessed() {
            self.observer
                .notice(Notice::CodePageGuessed { package: shown.to_string(), name: name.to_owned() });
        }
        Ok((kind, source, raws))
    }
}

/// An archive's kind, its reader, and all that is in it.
type Opened = (PackageKind, Box<dyn Source>, Vec<RawMember>);

fn boxed<S: Source + 'static>((source, raws): (S, Vec<RawMember>)) -> (Box<dyn Source>, Vec<RawMember>) {
    (Box::new(source), raws)
}

/// Seconds since 1970 of the date and the time of day that DOS kept (FAT specification), taken as if
/// they were UTC, since where they were written is not known.
fn dos_seconds(date: u16, clock: u16) -> i64 {
    let month = time::Month::try_from((date >> 5 & 0x0f) as u8);
    let day = (date & 0x1f) as u8;
    let date =
        month.and_then(|month| time::Date::from_calendar_date(1980 + i32::from(date >> 9), month, day));
    let clock =
        time::Time::from_hms((clock >> 11) as u8, (clock >> 5 & 0x3f) as u8, (clock & 0x1f) as u8 * 2);
    match (date, clock) {
        (Ok(date), Ok(clock)) => date.with_time(clock).assume_utc().unix_timestamp(),
        _ => 0,
    }
}
