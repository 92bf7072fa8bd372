//! What a container says that it holds.

use std::collections::HashMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::OnceLock;

use oem_cp::code_table::DECODING_TABLE_CP437;

use super::records::*;
use crate::address::{FoldedKey, Folding, RelPath};

/// The most members that are listed, and the longest directory that is read.
const MOST_MEMBERS: u64 = 1 << 20;
const LONGEST_DIRECTORY_BYTES: u64 = 256 << 20;
/// The longest comment of an archive.
const LONGEST_COMMENT_BYTES: u64 = 65_535;

/// Why a file is not taken as a container.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotContainer {
    /// It can't be read.
    #[error(transparent)]
    Unreadable(#[from] io::Error),
    /// It is another kind of file.
    #[error("it is no zip-based container")]
    OfOtherKind,
    /// It looks like one, and can't be changed safely.
    #[error("{0}")]
    Odd(String),
}

pub(super) fn odd<T>(reason: impl Into<String>) -> Result<T, NotContainer> {
    Err(NotContainer::Odd(reason.into()))
}

/// One member as the directory has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Packed {
    /// The path within the container.
    pub path: RelPath,
    /// It stands for a folder.
    pub is_folder: bool,
    /// Size of the content, unpacked and packed.
    pub size_bytes: u64,
    pub packed_bytes: u64,
    /// CRC-32 of the content.
    pub checksum: u32,
    /// How it is packed (APPNOTE 4.4.5).
    pub method: u16,
    pub flags: u16,
    /// Where its local header begins in the file.
    pub header_at: u64,
    /// Its record in the directory, from where to where.
    pub(super) record: (usize, usize),
}

impl Packed {
    /// Whether its content is under a password.
    pub(crate) fn is_encrypted(&self) -> bool {
        self.flags & ENCRYPTED != 0
    }
}

/// A container's directory.
#[derive(Debug)]
pub(crate) struct Directory {
    /// In the order of the directory.
    pub members: Vec<Packed>,
    by_key: HashMap<FoldedKey, usize>,
    /// Folders as the first member in each spells them; found when first asked for.
    folders: OnceLock<HashMap<FoldedKey, RelPath>>,
    /// The directory's records as they stand.
    pub(super) bytes: Vec<u8>,
    pub(super) starts_at: u64,
    pub(super) file_bytes: u64,
    /// What lies before the place that all places are counted from: a program, say.
    pub(super) shift: u64,
    pub(super) comment: Vec<u8>,
    /// It has the records of the 64-bit form; their two versions.
    pub(super) versions_64: Option<(u16, u16)>,
}

/// Where the directory is, as the end of the file says.
struct Ending {
    starts_at: u64,
    bytes: u64,
    members: u64,
    shift: u64,
    comment: Vec<u8>,
    versions_64: Option<(u16, u16)>,
}

impl Directory {
    /// Reads it from the end of `file`, and compares it with itself.
    ///
    /// # Errors
    /// [`NotContainer`].
    pub(crate) fn read(file: &mut (impl Read + Seek), folding: Folding) -> Result<Self, NotContainer> {
        let file_bytes = file.seek(SeekFrom::End(0))?;
        let ending = ending(file, file_bytes)?;
        if ending.members > MOST_MEMBERS || ending.bytes > LONGEST_DIRECTORY_BYTES {
            return odd("it has too many members");
        }
        let mut bytes = vec![0; usize::try_from(ending.bytes).unwrap_or(0)];
        file.seek(SeekFrom::Start(ending.starts_at))?;
        file.read_exact(&mut bytes)?;
        let mut members = Vec::with_capacity(usize::try_from(ending.members).unwrap_or(0));
        let mut at = 0;
        while at < bytes.len() {
            let member = member(&bytes, at, ending.shift)?;
            at = member.record.1;
            members.push(member);
        }
        if members.len() as u64 != ending.members {
            return odd("its directory has another number of members than it says");
        }
        let by_key = by_key(&members, folding)?;
        let Ending { starts_at, shift, comment, versions_64, .. } = ending;
        let folders = OnceLock::new();
        let directory =
            Self { members, by_key, folders, bytes, starts_at, file_bytes, shift, comment, versions_64 };
        directory.refuse_overlap()?;
        Ok(directory)
    }

    /// The member at a path within the container.
    pub(crate) fn find(&self, key: &FoldedKey) -> Option<&Packed> {
        self.by_key.get(key).map(|at| &self.members[*at]).filter(|member| !member.is_folder)
    }

    /// How the container spells a path: its own member's, or that of the folders that it has.
    pub(crate) fn spelled(&self, path: &RelPath, folding: Folding) -> RelPath {
        if let Some(own) = self.find(&folding.key(path.as_str())) {
            return own.path.clone();
        }
        let known = self.folders.get_or_init(|| {
            let mut known = HashMap::new();
            for member in &self.members {
                let own = member.path.as_str();
                for folder in member.path.ancestors().chain(member.is_folder.then_some(own)) {
                    known.entry(folding.key(folder)).or_insert_with(|| RelPath::from_disk(folder));
                }
            }
            known
        });
        let folders: Vec<&str> = path.ancestors().collect();
        let own =
            folders.into_iter().rev().find_map(|folder| Some((folder, known.get(&folding.key(folder))?)));
        match own {
            Some((folder, own)) => {
                let below = path.as_str().get(folder.len() + 1..).unwrap_or_default();
                own.join(&RelPath::from_disk(below))
            }
            None => path.clone(),
        }
    }

    /// What is needed of each member at the least does not reach into the next.
    fn refuse_overlap(&self) -> Result<(), NotContainer> {
        let mut spans: Vec<(u64, u64)> = Vec::with_capacity(self.members.len());
        for member in &self.members {
            let name_bytes = u16_at(&self.bytes, member.record.0 + 28).unwrap_or(0);
            let least = (LOCAL_BYTES as u64 + u64::from(name_bytes)).saturating_add(member.packed_bytes);
            spans.push((member.header_at, member.header_at.saturating_add(least)));
        }
        spans.sort_unstable();
        let follow = spans.iter().map(|span| span.0).skip(1).chain([self.starts_at]);
        match spans.iter().zip(follow).any(|(span, next)| span.1 > next) {
            true => odd("members of it share the same packed bytes, as if made to fill the disk"),
            false => Ok(()),
        }
    }
}

fn by_key(members: &[Packed], folding: Folding) -> Result<HashMap<FoldedKey, usize>, NotContainer> {
    let mut by_key = HashMap::with_capacity(members.len());
    for (at, member) in members.iter().enumerate() {
        if let Some(other) = by_key.insert(folding.key(member.path.as_str()), at) {
            return odd(format!("{} and {} in it have the same name", members[other].path, member.path));
        }
    }
    Ok(by_key)
}

/// Finds the end record, and what it says.
fn ending(file: &mut (impl Read + Seek), file_bytes: u64) -> Result<Ending, NotContainer> {
    let tail_bytes = file_bytes.min(END_BYTES as u64 + LONGEST_COMMENT_BYTES);
    let mut tail = vec![0; usize::try_from(tail_bytes).unwrap_or(0)];
    // By far the most have no comment.
    let short = tail.len().min(END_BYTES);
    let start = tail.len() - short;
    file.seek(SeekFrom::Start(file_bytes - short as u64))?;
    file.read_exact(&mut tail[start..])?;
    let mut end = is_end(&tail, start).then_some(start);
    if end.is_none() {
        // A file that does not even begin like one is rarely one.
        file.seek(SeekFrom::Start(file_bytes - tail_bytes))?;
        file.read_exact(&mut tail)?;
        let last = tail.len().saturating_sub(END_BYTES);
        end = (0..=last).rev().find(|at| is_end(&tail, *at));
    }
    let Some(end) = end else { return Err(NotContainer::OfOtherKind) };
    let short = |at: usize| u16_at(&tail, end + at).map_or(0, u64::from);
    let long = |at: usize| u32_at(&tail, end + at).map_or(0, u64::from);
    let comment = tail[end + END_BYTES..].to_vec();
    let end_at = file_bytes - tail_bytes + end as u64;
    let (mut disks, mut members, mut bytes, mut offset) =
        ([short(4), short(6)], [short(8), short(10)], long(12), long(16));
    let (mut versions_64, mut closes_at) = (None, end_at);
    if let Some(at) = end_64(file, end_at, offset.saturating_add(bytes))? {
        let mut record = vec![0; END_64_BYTES];
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut record)?;
        let number = |place: usize| u64_at(&record, place).unwrap_or(0);
        if number(4) != (END_64_BYTES - 12) as u64 {
            return odd("its end has fields that are not known");
        }
        let short = |place: usize| u16_at(&record, place).unwrap_or(0);
        disks = [u32_at(&record, 16).map_or(0, u64::from), u32_at(&record, 20).map_or(0, u64::from)];
        members = [number(24), number(32)];
        (bytes, offset) = (number(40), number(48));
        (versions_64, closes_at) = (Some((short(12), short(14))), at);
    }
    if disks != [0, 0] || members[0] != members[1] {
        return odd("it is one of several volumes");
    }
    let starts_at = closes_at.checked_sub(bytes);
    let shift = starts_at.and_then(|starts_at| starts_at.checked_sub(offset));
    match (starts_at, shift) {
        (Some(starts_at), Some(shift)) => {
            Ok(Ending { starts_at, bytes, members: members[0], shift, comment, versions_64 })
        }
        _ => odd("its directory does not lie where it says"),
    }
}

fn is_end(tail: &[u8], at: usize) -> bool {
    let comment_bytes = u16_at(tail, at + 20).map(usize::from);
    tail[at..].starts_with(&END) && comment_bytes == Some(tail.len() - at - END_BYTES)
}

/// Where the end record of the 64-bit form begins, where there is one.
fn end_64(
    file: &mut (impl Read + Seek),
    end_at: u64,
    directory_ends: u64,
) -> Result<Option<u64>, NotContainer> {
    let Some(locator_at) = end_at.checked_sub(LOCATOR_64_BYTES as u64) else { return Ok(None) };
    let mut locator = [0; LOCATOR_64_BYTES];
    file.seek(SeekFrom::Start(locator_at))?;
    file.read_exact(&mut locator)?;
    // The end of the last record of the directory may happen to look so.
    if !locator.starts_with(&LOCATOR_64) || directory_ends == end_at {
        return Ok(None);
    }
    let Some(at) = locator_at.checked_sub(END_64_BYTES as u64) else {
        return odd("its directory does not lie where it says");
    };
    let mut begins = [0; 4];
    file.seek(SeekFrom::Start(at))?;
    file.read_exact(&mut begins)?;
    if begins != END_64 {
        return odd("its end has fields that are not known");
    }
    Ok(Some(at))
}

/// The member whose record begins at `at`.
fn member(bytes: &[u8], at: usize, shift: u64) -> Result<Packed, NotContainer> {
    let cut = || NotContainer::Odd("its directory is damaged".to_owned());
    let head = bytes.get(at..at + CENTRAL_BYTES).ok_or_else(cut)?;
    if !head.starts_with(&CENTRAL) {
        return Err(cut());
    }
    let short = |place: usize| u16_at(head, place).unwrap_or(0);
    let long = |place: usize| u32_at(head, place).unwrap_or(0);
    let [name_bytes, extra_bytes, comment_bytes] = [28, 30, 32].map(|place| usize::from(short(place)));
    let name_at = at + CENTRAL_BYTES;
    let extra_at = name_at + name_bytes;
    let ends = extra_at + extra_bytes + comment_bytes;
    let name = bytes.get(name_at..extra_at).ok_or_else(cut)?;
    let extra = bytes.get(extra_at..extra_at + extra_bytes).ok_or_else(cut)?;
    if ends > bytes.len() {
        return Err(cut());
    }
    let flags = short(8);
    if flags & MASKED != 0 {
        return odd("its directory is encrypted");
    }
    let mut wide = extra_field(extra, EXTRA_64).map_or(&[][..], |(start, end)| &extra[start..end]);
    let mut full = |short: u32| -> Result<u64, NotContainer> {
        if short != IN_64 || wide.is_empty() {
            return Ok(u64::from(short));
        }
        let number = u64_at(wide, 0).ok_or_else(cut)?;
        wide = &wide[8..];
        Ok(number)
    };
    let (size_bytes, packed_bytes, offset) = (full(long(24))?, full(long(20))?, full(long(42))?);
    let (path, is_folder) = path_of(name, flags)?;
    let header_at = offset.checked_add(shift).ok_or_else(cut)?;
    Ok(Packed {
        path,
        is_folder,
        size_bytes,
        packed_bytes,
        checksum: long(16),
        method: short(10),
        flags,
        header_at,
        record: (at, ends),
    })
}

/// The path that a name means, and whether it is a folder's. Names without the flag are UTF-8 where they are valid, and else
/// of code page 437, the format's default.
fn path_of(name: &[u8], flags: u16) -> Result<(RelPath, bool), NotContainer> {
    let text = match std::str::from_utf8(name) {
        Ok(text) => text.to_owned(),
        Err(_) if flags & IS_UTF8 != 0 => return odd("a name in it is no text"),
        Err(_) => oem_cp::decode_string_complete_table(name, &DECODING_TABLE_CP437),
    };
    let is_folder = text.ends_with(['/', '\\']);
    let trimmed = text.trim_end_matches(['/', '\\']);
    match RelPath::parse(trimmed) {
        Ok(path) if !path.is_root() => Ok((path, is_folder)),
        _ => odd(format!("the name {text:?} in it is not one that a file can have")),
    }
}
