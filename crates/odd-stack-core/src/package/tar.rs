//! A tar archive as a package, plain or packed (POSIX.1 pax, ustar, GNU and old headers).
//!
//! A tar has no directory, so its list is made by walking over it. A plain one is then read in any
//! order; a packed one is unpacked again from its start, or, better, taken in while it is listed.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use liblzma::stream::{CONCATENATED, Stream};
use rayon::prelude::*;
use tar::EntryType;

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, Source, Take, WantedMembers};
use super::kind::{HEAD_BYTES, Packing, is_tar_header};
use super::limits::LimitBroken;
use super::listing::{RawKind, RawMember, judge_name};
use super::names::Names;
use super::relay::{Relay, relayed};
use super::tar_gaps::Records;
use super::{Limits, PackageError};
use crate::address::NameProblem;
use crate::observer::Observer;

/// The most memory that an unpacker may ask for: what the packers' strongest levels need.
const MOST_WINDOW_LOG: u32 = 31;
const MOST_XZ_BYTES: u64 = 1 << 31;

/// Reads members of one tar archive.
#[derive(Debug)]
pub(super) struct TarSource {
    package: String,
    file: ArchiveFile,
    packing: Packing,
    names: Names,
    /// Where the contents lie, by number; only of a plain archive.
    places: Option<Vec<(u64, u64)>>,
}

/// Who is told of progress in packed bytes, who takes contents while the list is made, and what code page
/// names are in that are not UTF-8.
pub(super) struct TakeEarly<'a> {
    pub take: Option<&'a Take<'a>>,
    pub observer: &'a dyn Observer,
    pub names: &'a Names,
}

/// One member as the walk meets it.
struct WalkedMember<'a, 'r> {
    raw: RawMember,
    /// Where the content lies, for a plain archive that has no gaps there.
    place: Option<(u64, u64)>,
    content: &'a mut (dyn Read + 'r),
}

impl TarSource {
    /// Walks over the archive to list it. With someone to take them, contents are handed over on the
    /// way, each under its number; unpacked bytes, members and ratio are held against the limits all
    /// along, and names are judged before their contents are taken.
    pub(super) fn open(
        package: &str,
        file: ArchiveFile,
        packing: Packing,
        limits: &Limits,
        early: &TakeEarly<'_>,
    ) -> Result<(Self, Vec<RawMember>), PackageError> {
        let mut source = Self {
            package: package.to_owned(),
            file,
            packing,
            names: early.names.clone(),
            places: (packing == Packing::Plain).then(Vec::new),
        };
        let is_packed = packing != Packing::Plain;
        // A plain archive is listed by skipping, and its contents are read afterwards, in parallel.
        let nothing = |_: &WantedMembers, _: &mut dyn Read| Ok(());
        let take = early.take.filter(|_| is_packed);
        let delivery = Delivery::new(package, take.unwrap_or(&nothing), early.observer, true);
        let mut raws = Vec::new();
        let mut places = Vec::new();
        let mut has_gaps = false;
        let mut list = |relay: Option<&Relay>| {
            source.walk(&delivery, limits, &mut |met| {
                if relay.is_some() {
                    judge_name(package, &met.raw).map_err(|error| delivery.halt(error))?;
                }
                if let (Some(relay), RawKind::File { size_bytes }) = (relay, &met.raw.kind) {
                    let (source, name) = (met.raw.source, met.raw.shown_name().into());
                    let wanted = WantedMembers { source, content: source, size_bytes: *size_bytes, name };
                    relay.send(&delivery, &wanted, met.content)?;
                }
                has_gaps |= met.place.is_none();
                places.push(met.place.unwrap_or_default());
                raws.push(met.raw);
                Ok(true)
            })
        };
        let listed = match take {
            Some(_) => relayed(&delivery, |relay| list(Some(relay))),
            None => list(None),
        };
        if listed.is_err() {
            return Err(delivery.failure().unwrap_or(PackageError::Cancelled));
        }
        source.places = (!is_packed && !has_gaps).then_some(places);
        Ok((source, raws))
    }

    /// Goes over all members, in order, until told to stop.
    fn walk(
        &self,
        delivery: &Delivery<'_>,
        limits: &Limits,
        each: &mut dyn FnMut(WalkedMember<'_, '_>) -> Result<bool, Halt>,
    ) -> Result<(), Halt> {
        let broken = |error: &io::Error| self.broken(delivery, error);
        let read_bytes = Arc::<AtomicU64>::default();
        let allowed = Arc::new(AtomicU64::new(MOST_HEADER_BYTES));
        if self.packing == Packing::Plain {
            let mut archive = tar::Archive::new(Watched::new(self.file.rewound(), allowed.clone()));
            let entries = archive.entries_with_seek().map_err(|error| broken(&error))?;
            let is_whole = self.walk_entries(entries, [&read_bytes, &allowed], delivery, limits, each)?;
            return match is_whole && archive.into_inner().is_at_end {
                // The blocks of zeros that end a tar are not there.
                true => Err(broken(&io::ErrorKind::UnexpectedEof.into())),
                false => Ok(()),
            };
        }
        let packed = Counted { inner: self.file.rewound(), read_bytes: read_bytes.clone() };
        let stream = unpacking(packed, self.packing).and_then(|stream| self.checked_head(stream));
        let stream = stream.map_err(|error| match error.kind() {
            NO_TAR => delivery.halt(PackageError::UnknownKind {
                path: self.package.clone().into(),
                found: "a single packed file",
            }),
            _ => broken(&error),
        })?;
        let mut archive = tar::Archive::new(Watched::new(stream, allowed.clone()));
        let entries = archive.entries().map_err(|error| broken(&error))?;
        if !self.walk_entries(entries, [&read_bytes, &allowed], delivery, limits, each)? {
            return Ok(());
        }
        let mut stream = archive.into_inner();
        allowed.store(u64::MAX, Ordering::Relaxed);
        if stream.is_at_end {
            return Err(broken(&io::ErrorKind::UnexpectedEof.into()));
        }
        // To its end, where the checksums are; a tar is padded, though not with much.
        let rest = io::copy(&mut (&mut stream).take(Limits::RATIO_MATTERS_FROM_BYTES), &mut io::sink());
        match rest {
            // What follows the packed stream is none; unpackers pass it over.
            Err(error) if is_garbage_behind(&error) => {}
            other => drop(other.map_err(|error| broken(&error))?),
        }
        delivery.go_on()
    }

    /// Goes over the entries; says whether all of them were met. Of the two counts, the packed bytes read
    /// so far is looked at, and how far may be read is kept up to date.
    fn walk_entries<R: Read>(
        &self,
        entries: tar::Entries<'_, R>,
        [read_bytes, allowed]: [&AtomicU64; 2],
        delivery: &Delivery<'_>,
        limits: &Limits,
        each: &mut dyn FnMut(WalkedMember<'_, '_>) -> Result<bool, Halt>,
    ) -> Result<bool, Halt> {
        let mut told_bytes = 0;
        let mut unpacked_bytes = 0u64;
        let (mut met, mut number) = (0, 0);
        for entry in entries {
            let mut entry = entry.map_err(|error| self.broken(delivery, &error))?;
            delivery.go_on()?;
            unpacked_bytes = unpacked_bytes.saturating_add(entry.size());
            let packed_bytes = read_bytes.load(Ordering::Relaxed);
            if delivery.counts_packed {
                delivery.observer.advance(0, packed_bytes - told_bytes);
                told_bytes = packed_bytes;
            }
            let over = |limit: LimitBroken| {
                delivery.halt(PackageError::OverLimit { package: self.package.clone(), limit })
            };
            met += 1;
            limits.check(met, unpacked_bytes, self.file.length_bytes()).map_err(over)?;
            let end = entry.raw_file_position().saturating_add(entry.size());
            allowed.store(end.saturating_add(MOST_HEADER_BYTES), Ordering::Relaxed);
            let gaps = self.judge_records(&mut entry).map_err(|error| delivery.halt(error))?;
            if let Some(gaps) = &gaps {
                unpacked_bytes = unpacked_bytes.saturating_add(gaps.size_bytes);
                limits.check(met, unpacked_bytes, self.file.length_bytes()).map_err(over)?;
            }
            let Some(mut raw) = raw_member(&self.package, &entry, number, &self.names)
                .map_err(|error| delivery.halt(error))?
            else {
                continue;
            };
            let is_plain_content = gaps.is_none() && !entry.header().entry_type().is_gnu_sparse();
            let place = is_plain_content.then(|| (entry.raw_file_position(), entry.size()));
            number += 1;
            let goes_on = match gaps {
                None => each(WalkedMember { raw, place, content: &mut entry })?,
                Some(gaps) => {
                    if let Some(name) = &gaps.name {
                        raw.name = text(name, &self.names);
                    }
                    if let RawKind::File { size_bytes } = &mut raw.kind {
                        *size_bytes = gaps.size_bytes;
                    }
                    each(WalkedMember { raw, place, content: &mut gaps.filled(&mut entry) })?
                }
            };
            if !goes_on {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What the pax records say of a member: its gaps, if it is kept with any. A size that is no number is refused, since
    /// readers disagree on what follows then.
    fn judge_records<R: Read>(&self, entry: &mut tar::Entry<'_, R>) -> Result<Option<Records>, PackageError> {
        // Few have any.
        if entry.pax_extensions().ok().flatten().is_none() {
            return Ok(None);
        }
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let Some(records) = entry.pax_extensions().ok().flatten() else { return Ok(None) };
        let records: Vec<_> = records.filter_map(Result::ok).collect();
        let pairs = records.iter().filter_map(|record| Some((record.key().ok()?, record.value_bytes())));
        let is_wrong = |(key, value): (&str, &[u8])| {
            let size = std::str::from_utf8(value).ok().and_then(|value| value.parse::<u64>().ok());
            key == "size" && size.is_none_or(|size| size > i64::MAX.cast_unsigned())
        };
        let broken = |reason: &str| PackageError::Member {
            package: self.package.clone(),
            member: name.clone(),
            source: io::Error::new(io::ErrorKind::InvalidData, reason),
        };
        if pairs.clone().any(is_wrong) {
            return Err(broken("its size is no size"));
        }
        Records::of(pairs).map_err(broken)
    }

    fn broken(&self, delivery: &Delivery<'_>, error: &io::Error) -> Halt {
        let text = error.to_string();
        let reason = match error.kind() {
            _ if text.contains("unexpected EOF") => super::CUT_SHORT.to_owned(),
            io::ErrorKind::UnexpectedEof => super::CUT_SHORT.to_owned(),
            _ => text,
        };
        delivery.halt(PackageError::Broken { package: self.package.clone(), reason })
    }

    /// Makes sure that what was packed is a tar.
    fn checked_head(&self, mut stream: Box<dyn Read>) -> io::Result<Box<dyn Read>> {
        let mut head = Vec::with_capacity(HEAD_BYTES);
        (&mut stream).take(HEAD_BYTES as u64).read_to_end(&mut head)?;
        if !is_tar_header(&head) {
            return Err(io::Error::new(NO_TAR, "no tar"));
        }
        Ok(Box::new(io::Cursor::new(head).chain(stream)))
    }
}

/// Whether a next stream was looked for behind the one that ended, checksum and all.
fn is_garbage_behind(error: &io::Error) -> bool {
    let text = error.to_string();
    text.contains("gzip header") || text.contains("bz2 header")
}

/// The kind of error of a packed stream that holds no tar.
const NO_TAR: io::ErrorKind = io::ErrorKind::Unsupported;

impl Source for TarSource {
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt> {
        if let Some(places) = &self.places {
            return wanted.par_iter().try_for_each(|wanted| {
                let (start, length_bytes) = places[wanted.source];
                delivery.deliver(wanted, &mut self.file.part(start, length_bytes))
            });
        }
        relayed(delivery, |relay| {
            let mut left = wanted.iter().peekable();
            // The limits were held when it was listed.
            let limits = Limits {
                most_bytes: u64::MAX,
                most_files: u64::MAX,
                most_ratio: u64::MAX,
                ..Limits::default()
            };
            self.walk(delivery, &limits, &mut |met| {
                if let Some(wanted) = left.next_if(|wanted| wanted.source == met.raw.source) {
                    relay.send(delivery, wanted, met.content)?;
                }
                Ok(left.peek().is_some())
            })
        })
    }

    fn as_file(&self, source: usize) -> Option<ArchiveFile> {
        let (start, length_bytes) = *self.places.as_ref()?.get(source)?;
        Some(self.file.part(start, length_bytes))
    }
}

fn unpacking(packed: Counted, packing: Packing) -> io::Result<Box<dyn Read>> {
    let buffered = io::BufReader::with_capacity(128 << 10, packed);
    Ok(match packing {
        Packing::Plain => Box::new(buffered),
        Packing::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(buffered)),
        Packing::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(buffered)),
        Packing::Xz => {
            let stream = Stream::new_stream_decoder(MOST_XZ_BYTES, CONCATENATED)?;
            Box::new(liblzma::bufread::XzDecoder::new_stream(buffered, stream))
        }
        Packing::Zstd => {
            let mut decoder = zstd::Decoder::with_buffer(buffered)?;
            decoder.window_log_max(MOST_WINDOW_LOG)?;
            Box::new(decoder)
        }
    })
}

/// A member of the archive, or nothing for what only describes others.
fn raw_member<R: Read>(
    package: &str,
    entry: &tar::Entry<'_, R>,
    source: usize,
    names: &Names,
) -> Result<Option<RawMember>, PackageError> {
    let header = entry.header();
    let name = text(&entry.path_bytes(), names);
    let shown = match &name {
        Ok(name) | Err((name, _)) => name.as_str(),
    };
    let target = || {
        let target = entry.link_name_bytes().unwrap_or_default();
        String::from_utf8_lossy(&target).into_owned()
    };
    let kind = match header.entry_type() {
        EntryType::Directory => RawKind::Folder,
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse if shown.ends_with('/') => {
            RawKind::Folder
        }
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
            RawKind::File { size_bytes: entry.size() }
        }
        EntryType::Symlink => RawKind::Link { target: target() },
        EntryType::Link => RawKind::HardLink { target: target() },
        EntryType::XGlobalHeader => return Ok(None),
        other => {
            let what = match other {
                EntryType::Char | EntryType::Block => "a device",
                EntryType::Fifo => "a pipe",
                _ => "of an unknown kind",
            };
            return Err(PackageError::Unsuitable {
                package: package.to_owned(),
                member: shown.to_owned(),
                what: what.to_owned(),
            });
        }
    };
    let raw = RawMember {
        name,
        backslash_separates: true,
        kind,
        modified: header.mtime().ok().and_then(|seconds| i64::try_from(seconds).ok()).unwrap_or(0),
        executable: header.mode().ok().map(|mode| mode & 0o111 != 0),
        source,
    };
    Ok((!raw.is_top()).then_some(raw))
}

fn text(bytes: &[u8], names: &Names) -> Result<String, (String, NameProblem)> {
    match (std::str::from_utf8(bytes), names.said) {
        (Ok(name), _) => Ok(name.to_owned()),
        (Err(_), Some(_)) => names.decode(bytes),
        (Err(_), None) => Err((String::from_utf8_lossy(bytes).into_owned(), NameProblem::NotText)),
    }
}

/// Counts what is read of the packed bytes.
struct Counted {
    inner: ArchiveFile,
    read_bytes: Arc<AtomicU64>,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.read_bytes.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

/// The most that may lie between two contents: headers, long names and other records on a member,
/// which are held in memory.
const MOST_HEADER_BYTES: u64 = 4 << 20;

/// Remembers whether the end of the stream was met, and does not read beyond what is allowed.
struct Watched<R> {
    inner: R,
    is_at_end: bool,
    position: u64,
    allowed: Arc<AtomicU64>,
}

impl<R> Watched<R> {
    fn new(inner: R, allowed: Arc<AtomicU64>) -> Self {
        Self { inner, is_at_end: false, position: 0, allowed }
    }
}

impl<R: Seek> Seek for Watched<R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.position = self.inner.seek(to)?;
        Ok(self.position)
    }
}

impl<R: Read> Read for Watched<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.position > self.allowed.load(Ordering::Relaxed) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "its headers are absurdly long"));
        }
        let count = self.inner.read(buffer)?;
        self.position += count as u64;
        self.is_at_end |= count == 0 && !buffer.is_empty();
        Ok(count)
    }
}
