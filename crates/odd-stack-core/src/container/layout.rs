//! What a changed container is made of, piece by piece.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::{self, Read, Seek, SeekFrom};

use super::deflate::Deflating;
use super::directory::{Directory, NotContainer, Packed, odd};
use super::read::data_at;
use super::records::*;
use crate::address::{FoldedKey, Folding, RelPath};

/// What becomes of one member.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Change {
    /// A content takes its place, or comes after all others.
    Put {
        /// Where, within the container.
        path: RelPath,
        /// Size of the content.
        size_bytes: u64,
        /// Seconds since 1970.
        modified: i64,
        /// The number by which [`Contents`] has it.
        content: usize,
    },
    /// It goes.
    Remove {
        /// Where, within the container.
        path: RelPath,
    },
}

impl Change {
    /// The member's path within the container.
    pub(crate) fn path(&self) -> &RelPath {
        match self {
            Self::Put { path, .. } | Self::Remove { path } => path,
        }
    }
}

/// Contents that members get.
pub(crate) trait Contents {
    /// Opens one from its beginning; it may be read twice.
    ///
    /// # Errors
    /// What can't be read.
    fn open(&self, content: usize) -> io::Result<Box<dyn Read + '_>>;
}

/// One piece of the new file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Piece {
    Bytes(Vec<u8>),
    /// Bytes of the old file, as they are.
    Copy {
        start: u64,
        end: u64,
    },
    Stored {
        content: usize,
    },
    Deflated {
        content: usize,
    },
}

/// The new file, decided.
#[derive(Debug)]
pub(crate) struct Layout {
    pub(super) pieces: Vec<Piece>,
    /// Size of the new file.
    pub size_bytes: u64,
    /// Size of the old file.
    pub(super) old_bytes: u64,
}

/// The most that is held of packed contents; what is beyond is packed again when it is written.
const MOST_HELD_BYTES: usize = 32 << 20;
/// The largest step in which places of stored content are kept: what systems map is in pages of 4 or 16 KiB.
const MOST_ALIGNMENT: u64 = 16 << 10;
const PAGE: u64 = 4096;
/// How the format packs: not at all, or as RFC 1951 has it.
const STORED: u16 = 0;
const DEFLATED: u16 = 8;

/// Decides the container `directory` of `file` with `changes` made. Members that stay keep their bytes, their order, and
/// where they are stored, the places that their contents have within pages. Contents are packed once for it.
///
/// # Errors
/// [`NotContainer`], where the file is not what its directory says, or a content can't be read.
pub(crate) fn lay_out(
    file: &mut (impl Read + Seek),
    directory: &Directory,
    changes: &[Change],
    contents: &dyn Contents,
    folding: Folding,
) -> Result<Layout, NotContainer> {
    let spans = spans(file, directory)?;
    let plan = Plan::new(directory, changes, folding);
    let alignment = alignment(directory, &spans, &plan);
    let mut out = Out { pieces: Vec::new(), at: 0, held_bytes: 0 };
    let mut moved: Vec<Option<u64>> = vec![None; directory.members.len()];
    let first = spans.first().map_or(directory.starts_at, |span| span.starts_at);
    out.copy(0, first);
    for (number, span) in spans.iter().enumerate() {
        let next = spans.get(number + 1).map_or(directory.starts_at, |next| next.starts_at);
        let is_kept = plan.stays(span.member);
        if is_kept {
            out.pad((span.starts_at + alignment - out.at % alignment) % alignment);
            moved[span.member] = Some(out.at);
            out.copy(span.starts_at, span.ends_at);
        }
        // Nobody knows what lies between members.
        out.copy(span.ends_at, next);
    }
    let mut records: BTreeMap<usize, Vec<u8>> = BTreeMap::new();
    let mut new_records = Vec::new();
    for put in &plan.puts {
        let old = put.replaces.map(|at| &directory.members[at]);
        let aligned = match old.filter(|old| old.method == STORED) {
            Some(old) if is_on_page(old, &spans, directory) => alignment.max(PAGE),
            _ => alignment,
        };
        let record = out.put(directory, put, old, contents, aligned)?;
        match put.replaces {
            Some(at) => drop(records.insert(at, record)),
            None => new_records.push(record),
        }
    }
    let mut central = Record::default();
    let mut count = 0;
    for (at, member) in directory.members.iter().enumerate() {
        let record = match (records.remove(&at), moved[at]) {
            (Some(new), _) => new,
            (None, Some(place)) => moved_record(directory, member, place)?,
            (None, None) => continue,
        };
        central = central.bytes(&record);
        count += 1;
    }
    count += new_records.len() as u64;
    let central = new_records.iter().fold(central, |central, record| central.bytes(record));
    out.end(directory, central.0, count);
    Ok(Layout { size_bytes: out.at, pieces: out.pieces, old_bytes: directory.file_bytes })
}

/// What one member takes of the file.
struct Span {
    member: usize,
    starts_at: u64,
    data_at: u64,
    /// Its last byte's end, that of its descriptor if it has one.
    ends_at: u64,
}

/// All members as they lie in the file, in that order; compared with the directory.
fn spans(file: &mut (impl Read + Seek), directory: &Directory) -> Result<Vec<Span>, NotContainer> {
    let mut order: Vec<usize> = (0..directory.members.len()).collect();
    order.sort_unstable_by_key(|at| directory.members[*at].header_at);
    let mut spans: Vec<Span> = Vec::with_capacity(order.len());
    for at in order {
        let member = &directory.members[at];
        let data_at = data_at(file, member).map_err(|error| match error.kind() {
            io::ErrorKind::InvalidData | io::ErrorKind::UnexpectedEof => NotContainer::Odd(error.to_string()),
            _ => NotContainer::Unreadable(error),
        })?;
        let data_ends = data_at.saturating_add(member.packed_bytes);
        if data_ends > directory.starts_at {
            return odd(format!("{} in it reaches beyond its place", member.path));
        }
        let ends_at = data_ends + descriptor_bytes(file, member, data_ends)?;
        if spans.last().is_some_and(|before| before.ends_at > member.header_at) {
            return odd("members of it share the same packed bytes, as if made to fill the disk");
        }
        spans.push(Span { member: at, starts_at: member.header_at, data_at, ends_at });
    }
    Ok(spans)
}

/// How long the descriptor behind a member's content is (APPNOTE 4.3.9): with or without its mark, of short or long sizes.
fn descriptor_bytes(file: &mut (impl Read + Seek), member: &Packed, at: u64) -> Result<u64, NotContainer> {
    if member.flags & HAS_DESCRIPTOR == 0 {
        return Ok(0);
    }
    file.seek(SeekFrom::Start(at))?;
    let mut found = Vec::new();
    file.take(24).read_to_end(&mut found)?;
    for mark_bytes in [4, 0] {
        if mark_bytes == 4 && !found.starts_with(&DESCRIPTOR) {
            continue;
        }
        let is_it = u32_at(&found, mark_bytes) == Some(member.checksum);
        let long = [u64_at(&found, mark_bytes + 4), u64_at(&found, mark_bytes + 12)];
        let short = [u32_at(&found, mark_bytes + 4), u32_at(&found, mark_bytes + 8)];
        let sizes = [Some(member.packed_bytes), Some(member.size_bytes)];
        if is_it && short.map(|size| size.map(u64::from)) == sizes {
            return Ok(mark_bytes as u64 + 12);
        }
        if is_it && long == sizes {
            return Ok(mark_bytes as u64 + 20);
        }
    }
    // Some writers set the flag and write none.
    Ok(0)
}

/// One content to put.
struct Put {
    path: RelPath,
    size_bytes: u64,
    modified: i64,
    content: usize,
    replaces: Option<usize>,
}

/// Changes held against the directory.
struct Plan {
    puts: Vec<Put>,
    goes: HashSet<usize>,
}

impl Plan {
    fn new(directory: &Directory, changes: &[Change], folding: Folding) -> Self {
        let mut plan = Self { puts: Vec::new(), goes: HashSet::new() };
        let numbers: HashMap<FoldedKey, usize> = directory
            .members
            .iter()
            .enumerate()
            .filter(|(_, member)| !member.is_folder)
            .map(|(at, member)| (folding.key(member.path.as_str()), at))
            .collect();
        for change in changes {
            let old = numbers.get(&folding.key(change.path().as_str())).copied();
            plan.goes.extend(old);
            if let Change::Put { path, size_bytes, modified, content } = change {
                let path = match old {
                    Some(at) => directory.members[at].path.clone(),
                    None => directory.spelled(path, folding),
                };
                let (size_bytes, modified, content) = (*size_bytes, *modified, *content);
                let put = Put { path, size_bytes, modified, content, replaces: old };
                plan.puts.push(put);
            }
        }
        plan.puts.sort_by(|one, two| one.path.cmp(&two.path));
        plan.drop_empty_folders(directory);
        plan
    }

    fn stays(&self, member: usize) -> bool {
        !self.goes.contains(&member)
    }

    /// Members that stand for folders go with the last member in them.
    fn drop_empty_folders(&mut self, directory: &Directory) {
        let mut used: HashSet<&str> = HashSet::new();
        let mut left: HashSet<&str> = HashSet::new();
        for (at, member) in directory.members.iter().enumerate().filter(|(_, member)| !member.is_folder) {
            let folders = if self.stays(at) { &mut used } else { &mut left };
            folders.extend(member.path.ancestors());
        }
        for put in &self.puts {
            used.extend(put.path.ancestors());
        }
        let is_left = |member: &Packed| {
            member.is_folder && left.contains(member.path.as_str()) && !used.contains(member.path.as_str())
        };
        let empty: Vec<usize> =
            (0..directory.members.len()).filter(|at| is_left(&directory.members[*at])).collect();
        self.goes.extend(empty);
    }
}

/// In what steps members may move without a stored content's losing its place within a page.
fn alignment(directory: &Directory, spans: &[Span], plan: &Plan) -> u64 {
    let stored = spans.iter().filter(|span| {
        let member = &directory.members[span.member];
        member.method == STORED && member.size_bytes > 0 && plan.stays(span.member)
    });
    let steps = stored.map(|span| 1 << span.data_at.trailing_zeros().min(MOST_ALIGNMENT.trailing_zeros()));
    steps.max().unwrap_or(1)
}

fn is_on_page(member: &Packed, spans: &[Span], directory: &Directory) -> bool {
    let span = spans.iter().find(|span| &directory.members[span.member] == member);
    span.is_some_and(|span| span.data_at % PAGE == 0)
}

/// The file as far as it is decided.
struct Out {
    pieces: Vec<Piece>,
    at: u64,
    held_bytes: usize,
}

impl Out {
    fn copy(&mut self, start: u64, end: u64) {
        if start == end {
            return;
        }
        self.at += end - start;
        match self.pieces.last_mut() {
            Some(Piece::Copy { end: last, .. }) if *last == start => *last = end,
            _ => self.pieces.push(Piece::Copy { start, end }),
        }
    }

    fn bytes(&mut self, bytes: Vec<u8>) {
        self.at += bytes.len() as u64;
        match self.pieces.last_mut() {
            Some(Piece::Bytes(last)) => last.extend_from_slice(&bytes),
            _ if bytes.is_empty() => {}
            _ => self.pieces.push(Piece::Bytes(bytes)),
        }
    }

    fn pad(&mut self, bytes: u64) {
        self.bytes(vec![0; usize::try_from(bytes).unwrap_or(0)]);
    }

    /// Puts a content after all that is there, and gives its record.
    fn put(
        &mut self,
        directory: &Directory,
        put: &Put,
        old: Option<&Packed>,
        contents: &dyn Contents,
        aligned: u64,
    ) -> Result<Vec<u8>, NotContainer> {
        let method = wanted_method(directory, put, old);
        let content = Weighed::of(put, method, contents, MOST_HELD_BYTES.saturating_sub(self.held_bytes))?;
        self.held_bytes += content.held.as_ref().map_or(0, Vec::len);
        let (name, flag) = name_of(directory, put, old);
        let is_wide = put.size_bytes >= u64::from(IN_64) || content.packed_bytes >= u64::from(IN_64);
        let wide = || Record::default().u16(EXTRA_64).u16(16).u64(put.size_bytes).u64(content.packed_bytes).0;
        let local_extra = if is_wide { wide() } else { Vec::new() };
        if content.method == STORED && aligned > 1 {
            let data_at = self.at + (LOCAL_BYTES + name.len() + local_extra.len()) as u64;
            self.pad((aligned - data_at % aligned) % aligned);
        }
        let place = self.at - directory.shift;
        let (clock, date) = dos_time(put.modified);
        let version = if is_wide { 45 } else { 20 };
        let sized = |size: u64| if is_wide { IN_64 } else { u32::try_from(size).unwrap_or(IN_64) };
        let common = |record: Record| {
            record
                .u16(flag)
                .u16(content.method)
                .u16(clock)
                .u16(date)
                .u32(content.checksum)
                .u32(sized(content.packed_bytes))
                .u32(sized(put.size_bytes))
                .u16(u16::try_from(name.len()).unwrap_or(0))
        };
        let local = common(Record::default().bytes(&LOCAL).u16(version));
        let local = local.u16(u16::try_from(local_extra.len()).unwrap_or(0)).bytes(&name).bytes(&local_extra);
        self.bytes(local.0);
        self.at += content.packed_bytes;
        self.pieces.push(match (content.held, content.method) {
            (Some(packed), _) => Piece::Bytes(packed),
            (None, STORED) => Piece::Stored { content: put.content },
            (None, _) => Piece::Deflated { content: put.content },
        });
        let mut extra = Record::default();
        let place_is_wide = place >= u64::from(IN_64);
        if is_wide || place_is_wide {
            extra = extra.u16(EXTRA_64).u16(if is_wide { 16 } else { 0 } + if place_is_wide { 8 } else { 0 });
            if is_wide {
                extra = extra.u64(put.size_bytes).u64(content.packed_bytes);
            }
            if place_is_wide {
                extra = extra.u64(place);
            }
        }
        let kept = |at: usize| old.and_then(|old| u16_at(&directory.bytes, old.record.0 + at));
        let attributes = old.and_then(|old| u32_at(&directory.bytes, old.record.0 + 38)).unwrap_or(0);
        let comment = old.map_or(&[][..], |old| comment_of(directory, old));
        let record = Record::default().bytes(&CENTRAL).u16(kept(4).unwrap_or(version)).u16(version);
        let record = common(record)
            .u16(u16::try_from(extra.0.len()).unwrap_or(0))
            .u16(u16::try_from(comment.len()).unwrap_or(0))
            .u16(0)
            .u16(kept(36).unwrap_or(0))
            .u32(attributes)
            .short(place);
        Ok(record.bytes(&name).bytes(&extra.0).bytes(comment).0)
    }

    /// The directory and the end.
    fn end(&mut self, directory: &Directory, central: Vec<u8>, count: u64) {
        let (bytes, place) = (central.len() as u64, self.at - directory.shift);
        self.bytes(central);
        let is_wide = count >= u64::from(u16::MAX) || bytes >= u64::from(IN_64) || place >= u64::from(IN_64);
        if is_wide || directory.versions_64.is_some() {
            let (made, needed) = directory.versions_64.unwrap_or((45, 45));
            let end_at = self.at - directory.shift;
            let end = Record::default()
                .bytes(&END_64)
                .u64((END_64_BYTES - 12) as u64)
                .u16(made)
                .u16(needed)
                .u32(0)
                .u32(0)
                .u64(count)
                .u64(count)
                .u64(bytes)
                .u64(place);
            let locator = end.bytes(&LOCATOR_64).u32(0).u64(end_at).u32(1);
            self.bytes(locator.0);
        }
        let few = u16::try_from(count).unwrap_or(u16::MAX);
        let end = Record::default().bytes(&END).u16(0).u16(0).u16(few).u16(few).short(bytes).short(place);
        let comment = &directory.comment;
        self.bytes(end.u16(u16::try_from(comment.len()).unwrap_or(0)).bytes(comment).0);
    }
}

/// A content, read through once.
struct Weighed {
    method: u16,
    packed_bytes: u64,
    checksum: u32,
    /// It packed, where that is small.
    held: Option<Vec<u8>>,
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

/// A member's record, with the place that its header has now.
fn moved_record(directory: &Directory, member: &Packed, at: u64) -> Result<Vec<u8>, NotContainer> {
    let mut record = directory.bytes[member.record.0..member.record.1].to_vec();
    let place = at - directory.shift;
    let [name_bytes, extra_bytes] = [28, 30].map(|at| usize::from(u16_at(&record, at).unwrap_or(0)));
    let extra_at = CENTRAL_BYTES + name_bytes;
    if u32_at(&record, 42) == Some(IN_64) {
        let extra = &record[extra_at..extra_at + extra_bytes];
        if let Some((start, end)) = extra_field(extra, EXTRA_64) {
            let before = [24, 20].iter().filter(|at| u32_at(&record, **at) == Some(IN_64)).count();
            let field = extra_at + start + 8 * before;
            if field + 8 <= extra_at + end {
                record[field..field + 8].copy_from_slice(&place.to_le_bytes());
                return Ok(record);
            }
        }
    }
    match u32::try_from(place) {
        Ok(short) if short != IN_64 => record[42..46].copy_from_slice(&short.to_le_bytes()),
        _ if extra_field(&record[extra_at..extra_at + extra_bytes], EXTRA_64).is_some() => {
            return odd(format!("the record of {} in it has no room for where it would lie", member.path));
        }
        _ => {
            record[42..46].copy_from_slice(&IN_64.to_le_bytes());
            let extra_bytes = u16::try_from(extra_bytes + 12).ok();
            let Some(extra_bytes) = extra_bytes else {
                return odd(format!(
                    "the record of {} in it has no room for where it would lie",
                    member.path
                ));
            };
            record[30..32].copy_from_slice(&extra_bytes.to_le_bytes());
            let field = Record::default().u16(EXTRA_64).u16(8).u64(place).0;
            record.splice(extra_at..extra_at, field);
        }
    }
    Ok(record)
}
