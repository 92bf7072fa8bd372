//! A zip archive as a package (PKWARE APPNOTE 6.3), members read in parallel.

use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use libdeflater::{DecompressionError, Decompressor};
use rayon::prelude::*;
use zip::extra_fields::ExtraField;
use zip::result::ZipError;
use zip::{CompressionMethod, ZipArchive};

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, Source, WantedMembers};
use super::listing::{RawKind, RawMember};
use super::names::Names;
use super::{Limits, PackageError};
use crate::address::NameProblem;

/// So many members a thread reads one after the other before it looks for what others have left.
const READ_ON_END: usize = 128;
/// The longest link target that is read.
const LONGEST_LINK_BYTES: u64 = 4096;
const UTF8_FLAG: u16 = 1 << 11;

/// Reads members of one zip file; clones share the file and its directory.
#[derive(Debug, Clone)]
pub(super) struct ZipSource {
    archive: ZipArchive<ArchiveFile>,
    bytes: ArchiveFile,
}

impl ZipSource {
    /// Reads the archive's directory, and nothing of its contents but link targets.
    pub(super) fn open(
        package: &str,
        file: ArchiveFile,
        limits: &Limits,
        names: &Names,
    ) -> Result<(Self, Vec<RawMember>), PackageError> {
        let package = package.to_owned();
        let packed_bytes = file.length_bytes();
        let bytes = file.clone();
        let mut archive = ZipArchive::new(file).map_err(|source| broken(&package, &source))?;
        if archive.has_duplicate_names() {
            return Err(PackageError::Broken {
                package,
                reason: "two members of it have the very same name".to_owned(),
            });
        }
        // Each has a head of its own where its content lies.
        let members: Vec<Result<RawMember, PackageError>> = (0..archive.len())
            .into_par_iter()
            .with_min_len(READ_ON_END)
            .map_init(|| archive.clone(), |archive, index| raw_member(&package, archive, index, names))
            .collect();
        let members: Vec<RawMember> = members.into_iter().collect::<Result<_, _>>()?;
        let sizes = members.iter().map(|member| match member.kind {
            RawKind::File { size_bytes } => size_bytes,
            _ => 0,
        });
        let total_bytes = sizes.fold(0, u64::saturating_add);
        limits
            .check(members.len() as u64, total_bytes, packed_bytes)
            .map_err(|limit| PackageError::OverLimit { package: package.clone(), limit })?;
        if archive.has_overlapping_files().map_err(|source| broken(&package, &source))? {
            return Err(PackageError::Broken {
                package,
                reason: "members of it share the same packed bytes, as if made to fill the disk".to_owned(),
            });
        }
        Ok((Self { archive, bytes }, members))
    }

    /// A reader of members for one thread.
    fn reader(&self) -> ZipReader {
        ZipReader {
            archive: self.archive.clone(),
            inflater: Decompressor::new(),
            packed: Vec::new(),
            whole: Vec::new(),
        }
    }
}

impl Source for ZipSource {
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt> {
        // Those that no thread has just now, for their memory.
        let idle: Mutex<Vec<ZipReader>> = Mutex::default();
        let idle = || idle.lock().unwrap_or_else(PoisonError::into_inner);
        // Rayon by itself makes so few parts that in the end one thread may wait long for another.
        wanted.par_chunks(READ_ON_END).with_max_len(1).try_for_each(|wanted| {
            let known = idle().pop();
            let mut reader = known.unwrap_or_else(|| self.reader());
            wanted.iter().try_for_each(|wanted| match reader.open_member(wanted.source) {
                Ok(mut content) => delivery.deliver(wanted, &mut content),
                Err(error) => Err(delivery.fail(wanted, error)),
            })?;
            idle().push(reader);
            Ok(())
        })
    }

    fn as_file(&self, source: usize) -> Option<ArchiveFile> {
        let mut archive = self.archive.clone();
        let member = archive.by_index_raw(source).ok()?;
        let is_plain = member.compression() == CompressionMethod::Stored && !member.encrypted();
        let start = member.data_start().filter(|_| is_plain)?;
        Some(self.bytes.part(start, member.size()))
    }
}

/// Members up to this size, packed and unpacked, are unpacked whole, which is twice as quick.
const WHOLE_BYTES: u64 = 2 << 20;

/// Reads members one after the other, with memory of its own that is used again.
struct ZipReader {
    archive: ZipArchive<ArchiveFile>,
    inflater: Decompressor,
    packed: Vec<u8>,
    whole: Vec<u8>,
}

impl ZipReader {
    /// Opens the content of one member.
    fn open_member(&mut self, source: usize) -> io::Result<Box<dyn Read + '_>> {
        let mut raw = self.archive.by_index_raw(source).map_err(told)?;
        let is_small = raw.size() <= WHOLE_BYTES && raw.compressed_size() <= WHOLE_BYTES;
        if raw.compression() != CompressionMethod::Deflated || !is_small {
            drop(raw);
            return Ok(Box::new(self.archive.by_index(source).map_err(told)?));
        }
        let (checksum, size_bytes) = (raw.crc32(), usize::try_from(raw.size()).unwrap_or(0));
        self.packed.clear();
        raw.read_to_end(&mut self.packed)?;
        drop(raw);
        if self.whole.len() < size_bytes {
            self.whole.resize(size_bytes, 0);
        }
        let whole = &mut self.whole[..size_bytes];
        let damaged = |reason: &str| io::Error::new(io::ErrorKind::InvalidData, reason.to_owned());
        let unpacked = self.inflater.deflate_decompress(&self.packed, whole);
        let unpacked_bytes = unpacked.map_err(|error| match error {
            DecompressionError::BadData => damaged("its packed data is damaged"),
            DecompressionError::InsufficientSpace => damaged("it is longer than it says"),
        })?;
        let content = &whole[..unpacked_bytes];
        if crc32fast::hash(content) != checksum {
            return Err(damaged("its checksum is wrong"));
        }
        Ok(Box::new(content))
    }
}

fn told(error: ZipError) -> io::Error {
    match error {
        ZipError::Io(source) => source,
        ZipError::UnsupportedArchive(what) => io::Error::new(io::ErrorKind::Unsupported, what),
        other => io::Error::other(other),
    }
}

fn broken(package: &str, error: &ZipError) -> PackageError {
    let told = error.to_string();
    // The directory of a zip archive is at its end, so this is what a download cut short looks like.
    let reason = if told.contains("EOCD") || told.contains("nexpected end") {
        "its end is missing, as if the download was cut short".to_owned()
    } else {
        told
    };
    PackageError::Broken { package: package.to_owned(), reason }
}

fn raw_member(
    package: &str,
    archive: &mut ZipArchive<ArchiveFile>,
    index: usize,
    names: &Names,
) -> Result<RawMember, PackageError> {
    let member = archive.by_index_raw(index).map_err(|source| broken(package, &source))?;
    let name = decode_name(member.name_raw(), member.flags().as_u16() & UTF8_FLAG != 0, names);
    let shown = match &name {
        Ok(name) | Err((name, _)) => name.clone(),
    };
    if member.encrypted() {
        return Err(PackageError::Encrypted { package: package.to_owned(), member: Some(shown) });
    }
    let unix_mode = member.unix_mode().filter(|mode| *mode != 0);
    let modified = modified_of(&member);
    let size_bytes = member.size();
    let is_link = member.is_symlink();
    let is_folder = member.is_dir() || shown.ends_with(['/', '\\']);
    drop(member);
    let kind = if is_link {
        let mut target = Vec::new();
        archive
            .by_index(index)
            .map_err(io::Error::other)
            .and_then(|content| content.take(LONGEST_LINK_BYTES).read_to_end(&mut target))
            .map_err(|source| PackageError::Member {
                package: package.to_owned(),
                member: shown.clone(),
                source,
            })?;
        RawKind::Link { target: String::from_utf8_lossy(&target).into_owned() }
    } else if is_folder {
        RawKind::Folder
    } else {
        RawKind::File { size_bytes }
    };
    Ok(RawMember {
        name,
        backslash_separates: true,
        kind,
        modified,
        executable: unix_mode.map(|mode| mode & 0o111 != 0),
        source: index,
    })
}

/// Names without the UTF-8 flag are in the code page that was said; where none was, they are read as
/// UTF-8 where they are valid, since many tools forget the flag, and else as code page 437, the format's
/// default.
fn decode_name(bytes: &[u8], flagged_utf8: bool, names: &Names) -> Result<String, (String, NameProblem)> {
    match std::str::from_utf8(bytes) {
        Ok(name) if flagged_utf8 || names.said.is_none() => Ok(name.to_owned()),
        Err(_) if flagged_utf8 => Err((String::from_utf8_lossy(bytes).into_owned(), NameProblem::NotText)),
        _ => names.decode(bytes),
    }
}

/// The time of the extended timestamp field, which is UTC, or the DOS time taken as if it were.
fn modified_of(member: &zip::read::ZipFile<'_, ArchiveFile>) -> i64 {
    let extended = member.extra_data_fields().find_map(|field| match field {
        ExtraField::ExtendedTimestamp(times) => times.mod_time(),
        _ => None,
    });
    if let Some(seconds) = extended {
        return i64::from(seconds);
    }
    let Some(dos) = member.last_modified() else { return 0 };
    super::dos_seconds(dos.datepart(), dos.timepart())
}
