//! How a container's members lie in the file.

use std::io::{self, Read, Seek, SeekFrom};

use super::directory::{Directory, NotContainer, Packed, odd};
use super::read::data_at;
use super::records::*;

/// What one member takes of the file.
pub(super) struct Span {
    pub member: usize,
    pub starts_at: u64,
    pub data_at: u64,
    /// Its last byte's end, that of its descriptor if it has one.
    pub ends_at: u64,
}

/// All members as they lie in the file, in that order; compared with the directory.
pub(super) fn spans(file: &mut (impl Read + Seek), directory: &Directory) -> Result<Vec<Span>, NotContainer> {
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
        // The long ones first: those of an empty content begin as its short ones do.
        if is_it && long == sizes {
            return Ok(mark_bytes as u64 + 20);
        }
        if is_it && short.map(|size| size.map(u64::from)) == sizes {
            return Ok(mark_bytes as u64 + 12);
        }
    }
    // Some writers set the flag and write none.
    Ok(0)
}

/// The local header of a member, with so many bytes of room in it beyond what it had.
pub(super) fn padded_header(
    file: &mut (impl Read + Seek),
    span: &Span,
    padding: u16,
) -> Result<Vec<u8>, NotContainer> {
    let mut header = vec![0; usize::try_from(span.data_at - span.starts_at).unwrap_or(0)];
    file.seek(SeekFrom::Start(span.starts_at))?;
    file.read_exact(&mut header)?;
    let extra_bytes = u16_at(&header, 28).unwrap_or(0).saturating_add(padding);
    if let Some(field) = header.get_mut(28..30) {
        field.copy_from_slice(&extra_bytes.to_le_bytes());
    }
    header.extend_from_slice(&room(padding));
    Ok(header)
}

/// A member's record, with the place that its header has now.
pub(super) fn moved_record(
    directory: &Directory,
    member: &Packed,
    place: u64,
) -> Result<Vec<u8>, NotContainer> {
    let mut record = directory.bytes[member.record.0..member.record.1].to_vec();
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
