//! What a changed container is made of, piece by piece.

use std::collections::BTreeMap;
use std::io::{Read, Seek};

use super::arrange::{Step, arranged};
use super::directory::{Directory, NotContainer};
use super::incoming::{Contents, Incoming, Weighed};
use super::plan::{Change, Plan};
use super::records::*;
use super::spans::{moved_record, padded_header, spans};
use crate::address::Folding;

/// One piece of the new file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Piece {
    Bytes(Vec<u8>),
    /// Bytes of the old file, as they are.
    Copy {
        start: u64,
        end: u64,
    },
    /// Nothing, so long.
    Zeros {
        bytes: u64,
    },
    /// A content as it is, and packed; so long.
    Stored {
        content: usize,
        bytes: u64,
    },
    Deflated {
        content: usize,
        bytes: u64,
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

/// Decides the container `directory` of `file` with `changes` made. Members that stay keep their bytes, their order in the
/// directory, and where they are stored, the places that their contents have within pages. Contents are packed once for it.
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
    let (mut coming, mut left_bytes) = (Vec::with_capacity(plan.puts.len()), MOST_HELD_BYTES);
    for put in &plan.puts {
        let one = Incoming::weighed(put, directory, contents, left_bytes)?;
        left_bytes = left_bytes.saturating_sub(one.content.held.as_ref().map_or(0, Vec::len));
        coming.push(one);
    }
    let steps = arranged(directory, &spans, &plan, &coming);
    let mut out = Out { pieces: Vec::new(), at: 0 };
    let mut records: Vec<Option<Vec<u8>>> = vec![None; directory.members.len()];
    let mut new_records = BTreeMap::new();
    for step in steps {
        match step {
            Step::Between { start, end } => out.copy(start, end),
            Step::Gap { bytes } => out.gap(bytes),
            Step::Member { span, padding } => {
                let span = &spans[span];
                let place = out.at - directory.shift;
                records[span.member] = Some(moved_record(directory, &directory.members[span.member], place)?);
                if padding > 0 {
                    out.bytes(padded_header(file, span, padding)?);
                    out.copy(span.data_at, span.ends_at);
                } else {
                    out.copy(span.starts_at, span.ends_at);
                }
            }
            Step::Put { number, padding } => {
                let one = &mut coming[number];
                let record = one.record(directory, out.at - directory.shift);
                match one.put.replaces {
                    Some(at) => records[at] = Some(record),
                    None => drop(new_records.insert(number, record)),
                }
                out.bytes(one.header(padding));
                out.content(one.put.content, &mut one.content);
            }
        }
    }
    let records: Vec<Vec<u8>> = records.into_iter().flatten().chain(new_records.into_values()).collect();
    out.end(directory, records.concat(), records.len() as u64);
    Ok(Layout { size_bytes: out.at, pieces: out.pieces, old_bytes: directory.file_bytes })
}

/// The file as far as it is decided.
struct Out {
    pieces: Vec<Piece>,
    at: u64,
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

    fn gap(&mut self, bytes: u64) {
        self.at += bytes;
        self.pieces.push(Piece::Zeros { bytes });
    }

    fn bytes(&mut self, bytes: Vec<u8>) {
        self.at += bytes.len() as u64;
        match self.pieces.last_mut() {
            Some(Piece::Bytes(last)) => last.extend_from_slice(&bytes),
            _ if bytes.is_empty() => {}
            _ => self.pieces.push(Piece::Bytes(bytes)),
        }
    }

    fn content(&mut self, content: usize, weighed: &mut Weighed) {
        let bytes = weighed.packed_bytes;
        let piece = match (weighed.held.take(), weighed.method) {
            (Some(packed), _) => return self.bytes(packed),
            (None, STORED) => Piece::Stored { content, bytes },
            (None, _) => Piece::Deflated { content, bytes },
        };
        self.pieces.push(piece);
        self.at += bytes;
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
