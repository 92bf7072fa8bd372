//! A rar archive as a package, of version 4 or 5, in one file or in volumes.
//!
//! The reader pushes contents in order of the archive, so they are unpacked on one thread while
//! others take.

use std::io::{self, Write};

use rars::{
    Archive, ArchiveMember, ArchiveMemberDetail, ArchiveReadOptions, ArchiveReader, AttrSource, Error,
    ErrorKind, ExtractionDecision, StoredTimestamp,
};

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, Source, WantedMembers};
use super::listing::{RawKind, RawMember};
use super::names::Names;
use super::relay::{Relay, RelayWriter, relayed};
use super::volumes::Volumes;
use super::{Limits, PackageError};
use crate::address::NameProblem;

const LONGEST_LINK_BYTES: u64 = 4096;
/// Members bigger than this are unpacked as a stream instead of in memory.
const BUFFERED_BYTES: u64 = 8 << 20;
const MOST_DICTIONARY_BYTES: u64 = 4 << 30;

/// Reads members of one rar archive.
#[derive(Debug)]
pub(super) struct RarSource {
    volumes: Vec<Archive>,
    members: Vec<ArchiveMember>,
}

impl RarSource {
    /// Reads the headers, and nothing of the contents but link targets.
    pub(super) fn open(
        package: &str,
        files: Vec<ArchiveFile>,
        names: &Volumes,
        limits: &Limits,
        encoding: &Names,
    ) -> Result<(Self, Vec<RawMember>), PackageError> {
        let packed_bytes = files.iter().map(ArchiveFile::length_bytes).sum();
        let options = ArchiveReadOptions::new().with_max_header_count(limits.most_files.saturating_add(16));
        let volumes = files.into_iter().map(|file| ArchiveReader::read_reader_with_options(file, options));
        let volumes: Vec<Archive> =
            volumes.collect::<Result<_, _>>().map_err(|error| broken(package, &error))?;
        let cut = |archive: Option<&Archive>, is_cut: fn(&ArchiveMember) -> bool| {
            archive.is_some_and(|archive| archive.members().any(|member| is_cut(&member)))
        };
        let starts_late = volumes
            .first()
            .and_then(|first| first.members().next())
            .is_some_and(|member| member.meta.is_split_before);
        if starts_late {
            let reason = "it is a later volume of a set whose names do not show it; name them \
                          x.part1.rar, x.part2.rar, ..."
                .to_owned();
            return Err(PackageError::Broken { package: package.to_owned(), reason });
        }
        if cut(volumes.last(), |member| member.meta.is_split_after) {
            let volume = names.next().unwrap_or_default();
            return Err(PackageError::MissingVolume { package: package.to_owned(), volume });
        }
        let members = match volumes.as_slice() {
            [only] => only.members().collect(),
            all => rars::volume_members(all).map_err(|error| broken(package, &error))?,
        };
        let total_bytes =
            members.iter().fold(0u64, |sum, member| sum.saturating_add(member.meta.unpacked_size));
        limits
            .check(members.len() as u64, total_bytes, packed_bytes)
            .map_err(|limit| PackageError::OverLimit { package: package.to_owned(), limit })?;
        let source = Self { volumes, members };
        let raws = (0..source.members.len()).map(|index| source.raw_member(package, index, encoding));
        let raws = raws.collect::<Result<_, _>>()?;
        Ok((source, raws))
    }

    fn raw_member(&self, package: &str, index: usize, encoding: &Names) -> Result<RawMember, PackageError> {
        let member = &self.members[index];
        let name = name_of(member, encoding);
        let shown = match &name {
            Ok(name) | Err((name, _)) => name.clone(),
        };
        let owned = || (package.to_owned(), shown.clone());
        if member.meta.is_encrypted {
            let (package, member) = owned();
            return Err(PackageError::Encrypted { package, member: Some(member) });
        }
        let unix_mode = (member.meta.attr_source() == AttrSource::Unix).then_some(member.meta.file_attr);
        let kind = match &member.detail {
            _ if member.meta.is_directory => RawKind::Folder,
            ArchiveMemberDetail::Rar50Plus { redirection: Some(link), .. } => {
                let target = String::from_utf8_lossy(&link.target_name).into_owned();
                match link.redirection_type {
                    1..=3 => RawKind::Link { target },
                    4 | 5 => RawKind::HardLink { target },
                    _ => {
                        let (package, member) = owned();
                        let what = "a link of an unknown kind".to_owned();
                        return Err(PackageError::Unsuitable { package, member, what });
                    }
                }
            }
            _ if unix_mode.is_some_and(|mode| mode & 0o170_000 == 0o120_000) => {
                RawKind::Link { target: self.link_target(package, index, &shown)? }
            }
            _ => RawKind::File { size_bytes: member.meta.unpacked_size },
        };
        let modified = match member.meta.stored_modification_time() {
            Some(StoredTimestamp::UnixSeconds(seconds)) => i64::from(seconds),
            Some(StoredTimestamp::DosLocal(raw)) => super::dos_seconds((raw >> 16) as u16, raw as u16),
            _ => 0,
        };
        let executable = unix_mode.map(|mode| mode & 0o111 != 0);
        Ok(RawMember { name, backslash_separates: true, kind, modified, executable, source: index })
    }

    /// The content of a link of version 4.
    fn link_target(&self, package: &str, index: usize, shown: &str) -> Result<String, PackageError> {
        let options = ArchiveReadOptions::new().with_max_member_output_bytes(LONGEST_LINK_BYTES);
        let read = match self.volumes.as_slice() {
            [only] => only.read_member_at_with_options(index, options),
            _ => Ok(None),
        };
        match read {
            Ok(target) => Ok(String::from_utf8_lossy(&target.unwrap_or_default()).into_owned()),
            Err(error) => Err(PackageError::Member {
                package: package.to_owned(),
                member: shown.to_owned(),
                source: told(&error),
            }),
        }
    }

    fn unpack(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>, relay: &Relay) -> rars::Result<()> {
        let options = ArchiveReadOptions::new()
            .with_rar50_buffered_decode_limit(BUFFERED_BYTES)
            .with_rar50_dictionary_size_limit(MOST_DICTIONARY_BYTES);
        let mut left = wanted.iter().peekable();
        let mut pick = |index: usize| {
            let sink = left.next_if(|wanted| wanted.source == index).map(|wanted| Sink::new(relay, wanted));
            (sink, left.peek().is_none())
        };
        let go_on =
            || if delivery.go_on().is_ok() && !relay.has_halted() { Ok(()) } else { Err(Error::Cancelled) };
        let [only] = self.volumes.as_slice() else {
            let mut index = 0;
            return rars::extract_volumes_to_with_options(&self.volumes, options, |meta| {
                go_on()?;
                // Members without a content are passed over.
                while self.members.get(index).is_some_and(|member| member.meta.name != meta.name) {
                    index += 1;
                }
                index += 1;
                Ok(match pick(index - 1).0 {
                    Some(sink) => Box::new(sink) as Box<dyn Write>,
                    None => Box::new(io::sink()),
                })
            });
        };
        let is_solid = self.members.iter().any(ArchiveMember::is_solid);
        let (mut index, mut is_done) = (0, false);
        only.extract_with_control(options, |member| {
            go_on()?;
            index += 1;
            if is_done {
                return Ok(ExtractionDecision::Stop);
            }
            let (sink, is_last) = pick(index - 1);
            is_done = is_last;
            Ok(match sink {
                Some(sink) => ExtractionDecision::Extract(Box::new(sink)),
                // A solid archive is unpacked from its start, wanted or not.
                None if is_solid && !member.meta.is_directory && !member.meta.is_redirection => {
                    ExtractionDecision::Extract(Box::new(io::sink()))
                }
                None => ExtractionDecision::Skip,
            })
        })?;
        Ok(())
    }
}

impl Source for RarSource {
    fn read(&self, wanted: &[WantedMembers], delivery: &Delivery<'_>) -> Result<(), Halt> {
        relayed(delivery, |relay| {
            let Err(error) = self.unpack(wanted, delivery, relay) else { return Ok(()) };
            delivery.go_on()?;
            if relay.has_halted() {
                return Err(Halt);
            }
            let entry = error.entry_context().map(|(name, _)| name.to_vec());
            let at =
                wanted.iter().find(|wanted| Some(&self.members[wanted.source].meta.name) == entry.as_ref());
            Err(match at.or(wanted.first()) {
                Some(wanted) => delivery.fail(wanted, told(&error)),
                None => Halt,
            })
        })
    }
}

/// Sends one content on; a content that has all its bytes is whole, since a wrong checksum ends the
/// reading as such.
struct Sink {
    writer: Option<RelayWriter>,
    left_bytes: u64,
}

impl Sink {
    fn new(relay: &Relay, wanted: &WantedMembers) -> Self {
        Self { writer: Some(relay.writer(wanted.clone())), left_bytes: wanted.size_bytes }
    }
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = match &mut self.writer {
            Some(writer) => writer.write(bytes)?,
            None => bytes.len(),
        };
        self.left_bytes = self.left_bytes.saturating_sub(count as u64);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Sink {
    fn drop(&mut self) {
        if let Some(writer) = self.writer.take().filter(|_| self.left_bytes == 0) {
            // When nobody takes any more, they have noted why.
            let _ = writer.finish();
        }
    }
}

fn name_of(member: &ArchiveMember, encoding: &Names) -> Result<String, (String, NameProblem)> {
    let bytes = &member.meta.name;
    match std::str::from_utf8(bytes) {
        Ok(name) if member.name_is_unicode() || encoding.said.is_none() => Ok(name.to_owned()),
        Err(_) if member.name_is_unicode() => {
            Err((String::from_utf8_lossy(bytes).into_owned(), NameProblem::NotText))
        }
        _ => encoding.decode(bytes),
    }
}

fn broken(package: &str, error: &Error) -> PackageError {
    let package = package.to_owned();
    let is_locked = matches!(error.root_cause(), Error::FeatureDisabled { .. });
    match error.kind() {
        _ if is_locked => PackageError::Encrypted { package, member: None },
        ErrorKind::PasswordRequired | ErrorKind::BadPassword => {
            PackageError::Encrypted { package, member: None }
        }
        _ => PackageError::Broken { package, reason: told(error).to_string() },
    }
}

fn told(error: &Error) -> io::Error {
    let root = error.root_cause();
    let text = match error.kind() {
        ErrorKind::ChecksumMismatch => "its checksum is wrong".to_owned(),
        ErrorKind::PasswordRequired | ErrorKind::BadPassword => "it is encrypted".to_owned(),
        _ if matches!(root, Error::TooShort) => super::CUT_SHORT.to_owned(),
        _ => match root {
            Error::Io(source) if source.kind == io::ErrorKind::UnexpectedEof => super::CUT_SHORT.to_owned(),
            other => other.to_string(),
        },
    };
    let kind = match error.kind() {
        ErrorKind::UnsupportedFormat | ErrorKind::UnsupportedFeature => io::ErrorKind::Unsupported,
        _ => io::ErrorKind::InvalidData,
    };
    io::Error::new(kind, text)
}
