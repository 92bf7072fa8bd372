//! A 7z archive as a package (7zFormat.txt of the LZMA SDK).
//!
//! Contents lie in blocks, each unpacked from front to back. Several blocks are read side by side; one
//! big block of LZMA or LZMA2 goes the quicker way of [`super::lzma_block`], and any other is unpacked
//! on one thread while others take.

use std::collections::HashMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::{Arc, Mutex, PoisonError};

use rayon::prelude::*;
use sevenz_rust2::{Archive, ArchiveEntry, BlockDecoder, EncoderMethod, Error, Password};

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, Source, WantedMembers};
use super::listing::{RawKind, RawMember};
use super::lzma_block::{Method, PackedBlock, Span, read_block};
use super::relay::{Relay, relayed};
use super::{Limits, PackageError};
use crate::observer::Observer;

/// The most memory one decoder may ask for, beyond any dictionary in use.
const MOST_DECODER_KB: usize = 4 << 20;
const MOST_DICTIONARY_BYTES: u64 = (MOST_DECODER_KB as u64) << 10;
/// The most memory that the directory may take.
const MOST_DIRECTORY_KB: usize = 512 << 10;
/// Blocks with more than this are unpacked on one thread and taken on others.
const WORTH_A_THREAD_BYTES: u64 = 16 << 20;
const LONGEST_LINK_BYTES: u64 = 4096;
/// Bytes before the packed contents.
const SIGNATURE_BYTES: u64 = 32;
const UNIX_ATTRIBUTES: u32 = 0x8000;
const REPARSE_POINT: u32 = 0x400;
const FOLDER: u32 = 0x10;
/// Seconds from 1601, where the format counts from, to 1970.
const EPOCH_SECONDS: i64 = 11_644_473_600;

/// Reads members of one 7z archive.
#[derive(Debug)]
pub(super) struct SevenSource {
    archive: Arc<Archive>,
    file: ArchiveFile,
}

impl SevenSource {
    /// Reads the archive's directory, and nothing of its contents but link targets.
    pub(super) fn open(
        package: &str,
        file: ArchiveFile,
        limits: &Limits,
        observer: &dyn Observer,
    ) -> Result<(Self, Vec<RawMember>), PackageError> {
        // An empty archive has no directory at all.
        let archive = match directory_of(&file) {
            Some((_, 0)) => Archive::default(),
            _ => Archive::read_with_memory_limit(&mut file.rewound(), &Password::empty(), MOST_DIRECTORY_KB)
                .map_err(|error| broken(package, &file, &error))?,
        };
        let source = Self { archive: Arc::new(archive), file };
        let files = &source.archive.files;
        let total_bytes = files.iter().fold(0u64, |sum, entry| sum.saturating_add(entry.size));
        limits
            .check(files.len() as u64, total_bytes, source.file.length_bytes())
            .map_err(|limit| PackageError::OverLimit { package: package.to_owned(), limit })?;
        let mut members = Vec::with_capacity(files.len());
        let mut links = Vec::new();
        for (index, entry) in files.iter().enumerate() {
            if entry.is_anti_item {
                return Err(PackageError::Unsuitable {
                    package: package.to_owned(),
                    member: entry.name.clone(),
                    what: "a mark that takes a file away".to_owned(),
                });
            }
            if source.archive.is_file_encrypted(index) {
                let (package, member) = (package.to_owned(), Some(entry.name.clone()));
                return Err(PackageError::Encrypted { package, member });
            }
            if is_link(entry) {
                links.push(index);
            }
            members.push(raw_member(entry, index));
        }
        for (index, target) in source.link_targets(package, &links, observer)? {
            members[index].kind = RawKind::Link { target };
        }
        Ok((source, members))
    }

    /// Reads where links lead, each block once.
    fn link_targets(
        &self,
        package: &str,
        links: &[usize],
        observer: &dyn Observer,
    ) -> Result<Vec<(usize, String)>, PackageError> {
        let wanted = links.iter().map(|&index| {
            let entry = &self.archive.files[index];
            WantedMembers {
                source: index,
                content: index,
                size_bytes: entry.size,
                name: entry.name.as_str().into(),
            }
        });
        let wanted: Vec<WantedMembers> = wanted.collect();
        let targets = Mutex::new(Vec::new());
        let take = |wanted: &WantedMembers, content: &mut dyn Read| {
            let mut target = Vec::new();
            let read = content.take(LONGEST_LINK_BYTES).read_to_end(&mut target);
            // What is longer is no link, and is read to its end all the same.
            read.and_then(|_| io::copy(content, &mut io::sink())).map_err(|_| Halt)?;
            let target = String::from_utf8_lossy(&target).into_owned();
            targets.lock().unwrap_or_else(PoisonError::into_inner).push((wanted.source, target));
            Ok(())
        };
        let delivery = Delivery::new(package, &take, observer, true);
        match self.read(&wanted, &delivery) {
            Ok(()) => Ok(targets.into_inner().unwrap_or_else(PoisonError::into_inner)),
            Err(Halt) => Err(delivery.failure().unwrap_or(PackageError::Cancelled)),
        }
    }

    /// Unpacks a block and hands over each entry with its number, until told not to go on.
    fn each_of_block(
        &self,
        block: usize,
        observer: &dyn Observer,
        each: &mut dyn FnMut(usize, &mut dyn Read) -> Result<bool, Error>,
    ) -> Result<(), Error> {
        let password = Password::empty();
        let mut file = Stopping { file: self.file.rewound(), observer };
        let decoder = BlockDecoder::new_with_memory_limit(
            1,
            MOST_DECODER_KB,
            block,
            &self.archive,
            &password,
            &mut file,
        );
        let mut number = self.archive.stream_map.block_first_file_index[block];
        decoder.for_each_entries(&mut |_, content: &mut dyn Read| {
            number += 1;
            each(number - 1, content)
        })?;
        Ok(())
    }

    /// Unpacks a block and passes on what is wanted of it, in order of the archive.
    fn read_block(
        &self,
        block: usize,
        wanted: &[&WantedMembers],
        delivery: &Delivery<'_>,
        pass_on: &dyn Fn(&WantedMembers, &mut dyn Read) -> Result<(), Halt>,
    ) -> Result<(), Halt> {
        let mut left = wanted.iter().peekable();
        let mut halted = false;
        let read = self.each_of_block(block, delivery.observer, &mut |number, content| {
            if let Some(next) = left.next_if(|next| next.source == number)
                && pass_on(next, content).is_err()
            {
                halted = true;
            }
            Ok(!halted && left.peek().is_some() && delivery.go_on().is_ok())
        });
        let at: Option<&WantedMembers> = left.peek().map(|wanted| **wanted).or(wanted.last().copied());
        match (halted, read, at) {
            (true, ..) => Err(Halt),
            (_, Err(_), _) if delivery.go_on().is_err() => Err(Halt),
            (false, Ok(()), _) => delivery.go_on(),
            (false, Err(error), Some(at)) => Err(delivery.fail(at, told(error))),
            (false, Err(_), None) => Err(Halt),
        }
    }

    /// What [`read_block`] needs of a block, where it is LZMA or LZMA2 and nothing else.
    fn packed_block(&self, block: usize) -> Option<PackedBlock> {
        let archive = &*self.archive;
        let [coder] = archive.blocks[block].coders.as_slice() else { return None };
        let method = match coder.encoder_method_id() {
            EncoderMethod::ID_LZMA => Method::Lzma,
            EncoderMethod::ID_LZMA2 => Method::Lzma2,
            _ => return None,
        };
        // Only then has each block one packed stream, and they lie in order.
        if archive.pack_sizes().len() != archive.blocks.len() {
            return None;
        }
        let start = archive.pack_sizes()[..block]
            .iter()
            .try_fold(archive.pack_pos().checked_add(SIGNATURE_BYTES)?, |sum, size| sum.checked_add(*size))?;
        let first = archive.stream_map.block_first_file_index[block];
        let entries = archive.files[first..].iter().enumerate();
        let mut spans = Vec::new();
        let mut at = 0u64;
        for (number, entry) in entries {
            if archive.stream_map.file_block_index[first + number] != Some(block) {
                if entry.has_stream {
                    break;
                }
                continue;
            }
            if entry.has_stream {
                let checksum = entry.has_crc.then_some(u32::try_from(entry.crc).ok()?);
                spans.push(Span { source: first + number, start: at, length_bytes: entry.size, checksum });
                at = at.checked_add(entry.size)?;
            }
        }
        (at == archive.blocks[block].get_unpack_size()).then(|| PackedBlock {
            packed: self.file.part(start, archive.pack_sizes()[block]),
            method,
            properties: coder.properties().to_vec(),
            spans,
        })
    }
}

impl Source for SevenSource {
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt> {
        let mut by_block: HashMap<usize, Vec<&WantedMembers>> = HashMap::new();
        for wanted in wanted {
            match self.archive.stream_map.file_block_index[wanted.source] {
                Some(block) if wanted.size_bytes > 0 => {
                    by_block.entry(block).or_default().push(wanted);
                }
                _ => delivery.deliver(wanted, &mut io::empty())?,
            }
        }
        let mut blocks: Vec<_> = by_block.into_iter().collect();
        blocks.sort_by_key(|(block, _)| *block);
        let is_only = blocks.len() == 1;
        blocks.par_iter().with_max_len(1).try_for_each(|(block, wanted)| {
            let bytes: u64 = wanted.iter().map(|wanted| wanted.size_bytes).sum();
            // Handing over is worth a thread when there is no other block to go on with.
            let is_relayed = is_only || bytes > WORTH_A_THREAD_BYTES;
            let packed = self.packed_block(*block);
            let quick = packed
                .and_then(|packed| read_block(&packed, wanted, MOST_DICTIONARY_BYTES, is_relayed, delivery));
            match quick {
                Some(read) => read,
                None if is_relayed => relayed(delivery, |relay: &Relay| {
                    let pass_on = |wanted: &WantedMembers, content: &mut dyn Read| {
                        relay.send(delivery, wanted, content)
                    };
                    self.read_block(*block, wanted, delivery, &pass_on)
                }),
                None => self.read_block(*block, wanted, delivery, &|wanted, content| {
                    delivery.deliver(wanted, content)
                }),
            }
        })
    }
}

/// Packed bytes, until the user asks to stop: much may be unpacked before anything of it is wanted.
struct Stopping<'a> {
    file: ArchiveFile,
    observer: &'a dyn Observer,
}

impl Read for Stopping<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.observer.is_cancelled() {
            true => Err(io::Error::other("stopped as asked")),
            false => self.file.read(buffer),
        }
    }
}

impl Seek for Stopping<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

fn is_link(entry: &ArchiveEntry) -> bool {
    let unix = entry.windows_attributes >> 16;
    let is_unix_link = entry.windows_attributes & UNIX_ATTRIBUTES != 0 && unix & 0o170_000 == 0o120_000;
    entry.has_windows_attributes && (is_unix_link || entry.windows_attributes & REPARSE_POINT != 0)
}

fn raw_member(entry: &ArchiveEntry, source: usize) -> RawMember {
    let attributes = entry.has_windows_attributes.then_some(entry.windows_attributes);
    let unix_mode = attributes.filter(|bits| bits & UNIX_ATTRIBUTES != 0).map(|bits| bits >> 16);
    let is_folder =
        entry.is_directory || (!entry.has_stream && attributes.is_some_and(|bits| bits & FOLDER != 0));
    // The format counts in 100 nanoseconds.
    let since_1601 = i64::try_from(u64::from(entry.last_modified_date) / 10_000_000).unwrap_or(0);
    RawMember {
        name: Ok(entry.name.clone()),
        backslash_separates: true,
        kind: if is_folder { RawKind::Folder } else { RawKind::File { size_bytes: entry.size } },
        modified: if entry.has_last_modified_date { since_1601 - EPOCH_SECONDS } else { 0 },
        executable: unix_mode.map(|mode| mode & 0o111 != 0),
        source,
    }
}

fn broken(package: &str, file: &ArchiveFile, error: &Error) -> PackageError {
    let package = package.to_owned();
    match error {
        // The names are encrypted too. No cipher is built in.
        Error::UnsupportedCompressionMethod(method) if *method == EncoderMethod::AES256_SHA256.name() => {
            PackageError::Encrypted { package, member: None }
        }
        _ if is_cut_short(file) => PackageError::Broken { package, reason: super::CUT_SHORT.to_owned() },
        other => PackageError::Broken { package, reason: told_text(other) },
    }
}

/// Where the directory begins, and how long it is; `None` when not even that is there.
fn directory_of(file: &ArchiveFile) -> Option<(u64, u64)> {
    let mut head = [0; 32];
    let count = file.read_up_to(0, &mut head).ok()?;
    let number = |at: usize| u64::from_le_bytes(head[at..at + 8].try_into().unwrap_or_default());
    (count == head.len()).then(|| (number(12).saturating_add(SIGNATURE_BYTES), number(20)))
}

/// Whether the directory, which lies at the end, would lie beyond it.
fn is_cut_short(file: &ArchiveFile) -> bool {
    directory_of(file).is_none_or(|(start, length)| start.saturating_add(length) > file.length_bytes())
}

/// The decoder's error as one of reading.
fn told(error: Error) -> io::Error {
    match error {
        Error::Io(source, _) => source,
        Error::UnsupportedCompressionMethod(method) => not_read(format!("it is packed with {method}")),
        Error::MaxMemLimited { actaul_kb, .. } => {
            not_read(format!("unpacking it would take {} MB of memory", actaul_kb / 1024))
        }
        other => io::Error::new(io::ErrorKind::InvalidData, told_text(&other)),
    }
}

fn not_read(text: String) -> io::Error {
    io::Error::new(io::ErrorKind::Unsupported, text)
}

fn told_text(error: &Error) -> String {
    match error {
        Error::ChecksumVerificationFailed => "its checksum is wrong".to_owned(),
        Error::NextHeaderCrcMismatch => "the checksum of its directory is wrong".to_owned(),
        Error::Io(source, _) => source.to_string(),
        Error::Other(text) | Error::Unsupported(text) => text.to_string(),
        _ => "its directory is damaged".to_owned(),
    }
}
