//! Zip archives in segments (PKWARE APPNOTE 6.3, sections 4.3 and 8): each address in the directory
//! is a segment and a place in it. Joined into one, with a directory of places in the whole, they
//! read like any other zip.

use std::io;

use super::archive_file::ArchiveFile;

const LONGEST_TAIL_BYTES: u64 = 22 + 65_535;
const WIDE_16: u16 = u16::MAX;
const WIDE_32: u32 = u32::MAX;
/// The extra field with what does not fit into 32 bits.
const WIDE_FIELD: u16 = 1;
const MOST_DIRECTORY_BYTES: u64 = 1 << 30;

/// The record at the end of a zip archive, as far as it matters here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct EndRecord {
    /// The number of the segment it lies in, counted from 0.
    pub disk: u16,
    directory_disk: u32,
    directory_start: u64,
    directory_bytes: u64,
    entries: u64,
}

/// Reads the record at the end of the last segment; `None` if there is none.
pub(super) fn end_record(file: &ArchiveFile) -> io::Result<Option<EndRecord>> {
    let length = file.length_bytes();
    let tail_start = length.saturating_sub(LONGEST_TAIL_BYTES);
    let mut tail = vec![0; usize::try_from(length - tail_start).unwrap_or(0)];
    let count = file.read_up_to(tail_start, &mut tail)?;
    tail.truncate(count);
    let is_end = |at: &usize| {
        let comment = short(&tail, at + 20).map(usize::from);
        tail[*at..].starts_with(b"PK\x05\x06")
            && comment.is_some_and(|comment| at + 22 + comment <= tail.len())
    };
    let Some(at) = (0..tail.len().saturating_sub(21)).rev().find(is_end) else { return Ok(None) };
    let read = || {
        Some(EndRecord {
            disk: short(&tail, at + 4)?,
            directory_disk: u32::from(short(&tail, at + 6)?),
            entries: u64::from(short(&tail, at + 10)?),
            directory_bytes: u64::from(long(&tail, at + 12)?),
            directory_start: u64::from(long(&tail, at + 16)?),
        })
    };
    let Some(narrow) = read() else { return Ok(None) };
    let locator = at.checked_sub(20).filter(|at| tail[*at..].starts_with(b"PK\x06\x07"));
    let wide = locator.and_then(|at| Some((long(&tail, at + 4)?, wide(&tail, at + 8)?)));
    match wide {
        // Where it lies in this very segment.
        Some((disk, start)) if disk == u32::from(narrow.disk) => {
            let mut record = [0; 56];
            let count = file.read_up_to(start, &mut record)?;
            Ok(wide_record(&record[..count], narrow.disk).or(Some(narrow)))
        }
        _ => Ok(Some(narrow)),
    }
}

fn wide_record(record: &[u8], disk: u16) -> Option<EndRecord> {
    if !record.starts_with(b"PK\x06\x06") {
        return None;
    }
    Some(EndRecord {
        disk,
        directory_disk: long(record, 20)?,
        entries: wide(record, 32)?,
        directory_bytes: wide(record, 40)?,
        directory_start: wide(record, 48)?,
    })
}

/// Joins the segments and puts a directory behind them that says where things lie in the whole.
///
/// # Errors
/// A sentence on what is wrong with the directory.
pub(super) fn join(segments: &[ArchiveFile]) -> io::Result<ArchiveFile> {
    let damaged = || io::Error::new(io::ErrorKind::InvalidData, "its directory is damaged");
    let last = segments.last().ok_or_else(damaged)?;
    let end = end_record(last)?.ok_or_else(damaged)?;
    let mut starts = Vec::with_capacity(segments.len());
    let mut total = 0;
    for segment in segments {
        starts.push(total);
        total += segment.length_bytes();
    }
    let joined = ArchiveFile::joined(segments.iter().cloned());
    let start_of = |disk: u32| starts.get(usize::try_from(disk).ok()?).copied();
    let directory_at = start_of(end.directory_disk).ok_or_else(damaged)?.saturating_add(end.directory_start);
    if end.directory_bytes > MOST_DIRECTORY_BYTES.min(total) {
        return Err(damaged());
    }
    let mut directory = vec![0; usize::try_from(end.directory_bytes).map_err(|_| damaged())?];
    if joined.read_up_to(directory_at, &mut directory)? < directory.len() {
        return Err(damaged());
    }
    let (mut at, mut entries) = (0, 0);
    let mut rewritten = Vec::with_capacity(directory.len());
    while at < directory.len() && entries < end.entries {
        at += copy_entry(&directory[at..], &start_of, &mut rewritten).ok_or_else(damaged)?;
        entries += 1;
    }
    let mut tail = rewritten;
    append_end(&mut tail, entries, total);
    Ok(ArchiveFile::joined([joined, ArchiveFile::from_memory(tail)]))
}

/// Copies one entry of the directory with its place in the whole; gives its length in `entry`.
fn copy_entry(entry: &[u8], start_of: &dyn Fn(u32) -> Option<u64>, into: &mut Vec<u8>) -> Option<usize> {
    if !entry.starts_with(b"PK\x01\x02") {
        return None;
    }
    let lengths = [short(entry, 28)?, short(entry, 30)?, short(entry, 32)?].map(usize::from);
    let [name, extra, comment] = lengths;
    let whole = 46 + name + extra + comment;
    let (fixed, rest) = (entry.get(..46)?, entry.get(46..whole)?);
    let mut sizes = [u64::from(long(entry, 24)?), u64::from(long(entry, 20)?), u64::from(long(entry, 42)?)];
    let mut disk = u32::from(short(entry, 34)?);
    let mut kept = Vec::new();
    let mut fields = rest.get(name..name + extra)?;
    while fields.len() >= 4 {
        let (id, length) = (short(fields, 0)?, usize::from(short(fields, 2)?));
        let field = fields.get(4..4 + length)?;
        if id == WIDE_FIELD {
            let mut at = 0;
            for size in &mut sizes {
                if *size == u64::from(WIDE_32) {
                    *size = wide(field, at)?;
                    at += 8;
                }
            }
            if disk == u32::from(WIDE_16) {
                disk = long(field, at)?;
            }
        } else {
            kept.extend_from_slice(&fields[..4 + length]);
        }
        fields = &fields[4 + length..];
    }
    sizes[2] = sizes[2].checked_add(start_of(disk)?)?;
    let mut field = Vec::new();
    let mut narrow = |size: u64| {
        u32::try_from(size).ok().filter(|narrow| *narrow != WIDE_32).unwrap_or_else(|| {
            field.extend_from_slice(&size.to_le_bytes());
            WIDE_32
        })
    };
    let [unpacked, packed, place] = sizes.map(&mut narrow);
    if !field.is_empty() {
        kept.extend_from_slice(&WIDE_FIELD.to_le_bytes());
        kept.extend_from_slice(&u16::try_from(field.len()).ok()?.to_le_bytes());
        kept.extend_from_slice(&field);
    }
    let at = into.len();
    into.extend_from_slice(fixed);
    into[at + 20..at + 24].copy_from_slice(&packed.to_le_bytes());
    into[at + 24..at + 28].copy_from_slice(&unpacked.to_le_bytes());
    into[at + 30..at + 32].copy_from_slice(&u16::try_from(kept.len()).ok()?.to_le_bytes());
    into[at + 34..at + 36].copy_from_slice(&0u16.to_le_bytes());
    into[at + 42..at + 46].copy_from_slice(&place.to_le_bytes());
    into.extend_from_slice(&rest[..name]);
    into.extend_from_slice(&kept);
    into.extend_from_slice(&rest[name + extra..]);
    Some(whole)
}

/// The records at the end, for a directory that begins at `directory_start` and is `tail` so far.
fn append_end(tail: &mut Vec<u8>, entries: u64, directory_start: u64) {
    let directory_bytes = tail.len() as u64;
    let record_at = directory_start + directory_bytes;
    tail.extend_from_slice(b"PK\x06\x06");
    tail.extend_from_slice(&44u64.to_le_bytes());
    tail.extend_from_slice(&[45, 0, 45, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    for number in [entries, entries, directory_bytes, directory_start] {
        tail.extend_from_slice(&number.to_le_bytes());
    }
    tail.extend_from_slice(b"PK\x06\x07\0\0\0\0");
    tail.extend_from_slice(&record_at.to_le_bytes());
    tail.extend_from_slice(&1u32.to_le_bytes());
    tail.extend_from_slice(b"PK\x05\x06\0\0\0\0");
    // Both counts, the size and the start: the wide record has them. Then a comment of no bytes.
    tail.extend_from_slice(&[0xff; 2 + 2 + 4 + 4]);
    tail.extend_from_slice(&[0, 0]);
}

fn short(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

fn long(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn wide(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}
