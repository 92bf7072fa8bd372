//! Contents that go into a container: how they are packed, and what the container says of them.

use std::io::{self, Read};

use super::deflate::Deflating;
use super::directory::{Directory, NotContainer, Packed};
use super::plan::Put;
use super::records::*;
use crate::address::RelPath;

/// Contents that members get.
pub(crate) trait Contents {
    /// Opens one from its beginning; it may be read twice.
    ///
    /// # Errors
    /// What can't be read.
    fn open(&self, content: usize) -> io::Result<Box<dyn Read + '_>>;
}

/// A content that goes into the container, read through once.
pub(super) struct Incoming<'p> {
    pub put: &'p Put,
    /// The member whose place it takes.
    pub old: Option<&'p Packed>,
    name: Vec<u8>,
    flag: u16,
    pub content: Weighed,
}

impl<'p> Incoming<'p> {
    /// Reads it through, and packs it; no more than `most_held_bytes` of that is held.
    pub(super) fn weighed(
        put: &'p Put,
        directory: &'p Directory,
        contents: &dyn Contents,
        most_held_bytes: usize,
    ) -> Result<Self, NotContainer> {
        let old = put.replaces.map(|at| &directory.members[at]);
        let content = Weighed::of(put, wanted_method(directory, put, old), contents, most_held_bytes)?;
        let (name, flag) = name_of(directory, put, old);
        Ok(Self { put, old, name, flag, content })
    }

    /// One of its sizes needs the 64-bit field.
    fn is_wide(&self) -> bool {
        self.put.size_bytes >= u64::from(IN_64) || self.content.packed_bytes >= u64::from(IN_64)
    }

    fn version(&self) -> u16 {
        if self.is_wide() { 45 } else { 20 }
    }

    fn wide_field(&self) -> Record {
        match self.is_wide() {
            true => Record::default().u64(self.put.size_bytes).u64(self.content.packed_bytes),
            false => Record::default(),
        }
    }

    /// What the header takes without padding.
    pub(super) fn header_bytes(&self) -> u64 {
        (LOCAL_BYTES + self.name.len() + if self.is_wide() { 20 } else { 0 }) as u64
    }

    /// What its local header and its record have in common.
    fn common(&self, record: Record) -> Record {
        let (clock, date) = dos_time(self.put.modified);
        let sized = |size: u64| if self.is_wide() { IN_64 } else { u32::try_from(size).unwrap_or(IN_64) };
        record
            .u16(self.flag)
            .u16(self.content.method)
            .u16(clock)
            .u16(date)
            .u32(self.content.checksum)
            .u32(sized(self.content.packed_bytes))
            .u32(sized(self.put.size_bytes))
            .u16(u16::try_from(self.name.len()).unwrap_or(0))
    }

    /// Its local header, with so many bytes of room in it: none, or what a field for it takes at least.
    pub(super) fn header(&self, padding: u16) -> Vec<u8> {
        let wide = self.wide_field().0;
        let extra = match wide.is_empty() {
            true => Record::default(),
            false => Record::default().u16(EXTRA_64).u16(16).bytes(&wide),
        };
        let extra = extra.bytes(&room(padding)).0;
        let header = self.common(Record::default().bytes(&LOCAL).u16(self.version()));
        header.u16(u16::try_from(extra.len()).unwrap_or(0)).bytes(&self.name).bytes(&extra).0
    }

    /// Its record in the directory, when its header lies at `place`.
    pub(super) fn record(&self, directory: &Directory, place: u64) -> Vec<u8> {
        let mut wide = self.wide_field();
        if place >= u64::from(IN_64) {
            wide = wide.u64(place);
        }
        let extra = match u16::try_from(wide.0.len()) {
            Ok(1..) => Record::default().u16(EXTRA_64).u16(wide.0.len() as u16).bytes(&wide.0),
            _ => Record::default(),
        };
        let kept = |at: usize| self.old.and_then(|old| u16_at(&directory.bytes, old.record.0 + at));
        let attributes = self.old.and_then(|old| u32_at(&directory.bytes, old.record.0 + 38)).unwrap_or(0);
        let comment = self.old.map_or(&[][..], |old| comment_of(directory, old));
        let version = self.version();
        let record = Record::default().bytes(&CENTRAL).u16(kept(4).unwrap_or(version)).u16(version);
        self.common(record)
            .u16(u16::try_from(extra.0.len()).unwrap_or(0))
            .u16(u16::try_from(comment.len()).unwrap_or(0))
            .u16(0)
            .u16(kept(36).unwrap_or(0))
            .u32(attributes)
            .short(place)
            .bytes(&self.name)
            .bytes(&extra.0)
            .bytes(comment)
            .0
    }
}

/// A content, read through once.
pub(super) struct Weighed {
    pub method: u16,
    pub packed_bytes: u64,
    pub checksum: u32,
    /// It packed, where that is small.
    pub held: Option<Vec<u8>>,
}

impl Weighed {
    fn of(
        put: &Put,
        method: u16,
        contents: &dyn Contents,
        most_held_bytes: usize,
    ) -> Result<Self, NotContainer> {
        let mut summed =
            Summed { content: contents.open(put.content)?, checksum: crc32fast::Hasher::new(), bytes: 0 };
        let mut held = Vec::new();
        let packed_bytes = match method {
            STORED => io::copy(&mut summed, &mut io::sink())?,
            _ => {
                let mut packing = Deflating::new(Box::new(&mut summed));
                packing.by_ref().take(most_held_bytes as u64 + 1).read_to_end(&mut held)?;
                held.len() as u64 + io::copy(&mut packing, &mut io::sink())?
            }
        };
        if summed.bytes != put.size_bytes {
            let reason = format!("what goes to {} is not as long as it was", put.path);
            return Err(NotContainer::Unreadable(io::Error::new(io::ErrorKind::InvalidData, reason)));
        }
        let checksum = summed.checksum.finalize();
        // What does not become smaller is better stored.
        if method == STORED || packed_bytes >= put.size_bytes {
            return Ok(Self { method: STORED, packed_bytes: put.size_bytes, checksum, held: None });
        }
        let held = (held.len() as u64 == packed_bytes).then_some(held);
        Ok(Self { method, packed_bytes, checksum, held })
    }
}

struct Summed<'c> {
    content: Box<dyn Read + 'c>,
    checksum: crc32fast::Hasher,
    bytes: u64,
}

impl Read for Summed<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.content.read(buffer)?;
        self.checksum.update(&buffer[..read]);
        self.bytes += read as u64;
        Ok(read)
    }
}

/// How a new content is to be packed: as the one that it replaces, else as most of its kind are, else as most are.
fn wanted_method(directory: &Directory, put: &Put, old: Option<&Packed>) -> u16 {
    let of = |member: &Packed| if member.method == STORED { STORED } else { DEFLATED };
    // Nothing is to be learnt from an empty one.
    if let Some(old) = old.filter(|old| old.size_bytes > 0) {
        return of(old);
    }
    let ending = |path: &RelPath| path.name().rsplit_once('.').map(|(_, ending)| ending.to_lowercase());
    let mine = ending(&put.path);
    let most = |members: &mut dyn Iterator<Item = &Packed>| {
        let (mut stored, mut all) = (0, 0);
        for member in members {
            all += 1;
            stored += usize::from(of(member) == STORED);
        }
        (all > 0).then_some(if stored * 2 > all { STORED } else { DEFLATED })
    };
    let is_file = |member: &&Packed| !member.is_folder && member.size_bytes > 0;
    let files = || directory.members.iter().filter(is_file);
    let alike = most(&mut files().filter(|member| mine.is_some() && ending(&member.path) == mine));
    alike.or_else(|| most(&mut files())).unwrap_or(DEFLATED)
}

/// The name's bytes, and the flag that tells what they are.
fn name_of(directory: &Directory, put: &Put, old: Option<&Packed>) -> (Vec<u8>, u16) {
    if let Some(old) = old {
        let at = old.record.0 + CENTRAL_BYTES;
        let bytes = usize::from(u16_at(&directory.bytes, old.record.0 + 28).unwrap_or(0));
        return (directory.bytes[at..at + bytes].to_vec(), old.flags & IS_UTF8);
    }
    let name = put.path.as_str();
    (name.as_bytes().to_vec(), if name.is_ascii() { 0 } else { IS_UTF8 })
}

fn comment_of<'d>(directory: &'d Directory, member: &Packed) -> &'d [u8] {
    let comment_bytes = usize::from(u16_at(&directory.bytes, member.record.0 + 32).unwrap_or(0));
    &directory.bytes[member.record.1 - comment_bytes..member.record.1]
}
