//! Unpacks one block of LZMA or LZMA2, the latter on several threads where that is possible, in
//! bounded memory.
//!
//! An LZMA2 stream (.xz file format 1.2, section 5.3.1, and Lzma2Dec of the LZMA SDK) is a row of
//! chunks whose headers give their sizes. Where a chunk begins the dictionary anew, what follows can be
//! unpacked without what came before. Such units are unpacked side by side, each straight to whoever
//! takes its contents. A content that lies across the border of two units is put together in memory
//! when it is small; two units that share a big one are unpacked as one. A stream of one unit is
//! unpacked on one thread, while others take.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use liblzma::bufread::XzDecoder;
use liblzma::stream::{Filters, Stream};
use rayon::prelude::*;

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, WantedMembers};
use super::relay::relayed;

/// The biggest content that is put together in memory.
const MOST_ACROSS_BYTES: u64 = 4 << 20;

/// A stream of more units than any packer makes is not cut.
const MOST_UNITS: usize = 100_000;

/// Where one content lies in the unpacked stream.
#[derive(Debug, Clone, Copy)]
pub(super) struct Span {
    /// The reader's own number of it.
    pub source: usize,
    pub start: u64,
    pub length_bytes: u64,
    /// CRC-32 of it, where the archive has one.
    pub checksum: Option<u32>,
}

impl Span {
    fn end(&self) -> u64 {
        self.start + self.length_bytes
    }
}

/// How a block is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Method {
    Lzma,
    Lzma2,
}

/// One packed stream and what lies in it, in order and without gaps.
#[derive(Debug)]
pub(super) struct PackedBlock {
    pub packed: ArchiveFile,
    pub method: Method,
    /// The method's settings as the archive keeps them.
    pub properties: Vec<u8>,
    pub spans: Vec<Span>,
}

impl PackedBlock {
    fn unpacked(&self, unit: &Unit) -> io::Result<impl Read + use<>> {
        let mut filters = Filters::new();
        let filters = match self.method {
            Method::Lzma => filters.lzma1_properties(&self.properties),
            Method::Lzma2 => filters.lzma2_properties(&self.properties),
        };
        let packed = self.packed.part(unit.packed_start, unit.packed_bytes);
        // A unit does not say that it ends there.
        let ended = io::BufReader::with_capacity(64 << 10, packed).chain(&[0u8][..]);
        Ok(XzDecoder::new_stream(ended, Stream::new_raw_decoder(filters?)?))
    }

    /// The size of the dictionary; `None` where the settings are not valid.
    fn dictionary_bytes(&self) -> Option<u64> {
        match (self.method, self.properties.as_slice()) {
            (Method::Lzma, [_, size @ ..]) => Some(u64::from(u32::from_le_bytes(size.try_into().ok()?))),
            (Method::Lzma2, [40]) => Some(u64::from(u32::MAX)),
            (Method::Lzma2, [bits @ 0..40]) => Some(u64::from(2 | bits & 1) << (bits / 2 + 11)),
            _ => None,
        }
    }

    /// The whole stream as one unit.
    fn whole(&self) -> Unit {
        let length_bytes = self.spans.last().map_or(0, Span::end);
        Unit { packed_start: 0, packed_bytes: self.packed.length_bytes(), start: 0, length_bytes }
    }
}

/// A part of the stream that unpacks by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Unit {
    packed_start: u64,
    packed_bytes: u64,
    start: u64,
    length_bytes: u64,
}

/// Hands over what is `wanted` of the block; `None` if its settings are not valid or ask for more than
/// `most_dictionary_bytes`. What can't be unpacked side by side `is_relayed` to other threads, or is
/// taken on this one.
pub(super) fn read_block(
    block: &PackedBlock,
    wanted: &[&WantedMembers],
    most_dictionary_bytes: u64,
    is_relayed: bool,
    delivery: &Delivery<'_>,
) -> Option<Result<(), Halt>> {
    block.dictionary_bytes().filter(|bytes| *bytes <= most_dictionary_bytes)?;
    let units = match block.method {
        Method::Lzma => Vec::new(),
        Method::Lzma2 => units_of(&block.packed).ok().flatten().unwrap_or_default(),
    };
    let units = joined(units, &block.spans);
    let wanted: HashMap<usize, &WantedMembers> =
        wanted.iter().map(|wanted| (wanted.source, *wanted)).collect();
    let across = Mutex::default();
    let reading = |unit| Reading { block, unit, wanted: &wanted, across: &across, delivery };
    if units.len() < 2 || rayon::current_num_threads() < 2 {
        let whole = block.whole();
        if !is_relayed {
            return Some(reading(&whole).run(&|wanted, content| delivery.deliver(wanted, content)));
        }
        return Some(relayed(delivery, |relay| {
            reading(&whole).run(&|wanted, content| relay.send(delivery, wanted, content))
        }));
    }
    Some(
        units
            .par_iter()
            .with_max_len(1)
            .try_for_each(|unit| reading(unit).run(&|wanted, content| delivery.deliver(wanted, content))),
    )
}

/// Walks over the chunk headers; `None` for a stream that does not follow the rules, or is better not
/// cut.
fn units_of(packed: &ArchiveFile) -> io::Result<Option<Vec<Unit>>> {
    let mut units: Vec<Unit> = Vec::new();
    let (mut at, mut start) = (0u64, 0u64);
    loop {
        let mut header = [0; 6];
        let count = packed.read_up_to(at, &mut header)?;
        let control = header[0];
        if count == 0 {
            return Ok(None);
        }
        if control == 0 {
            return Ok(Some(units));
        }
        let pair = |index: usize| u64::from(header[index]) << 8 | u64::from(header[index + 1]);
        let (chunk_bytes, length_bytes) = match control {
            1 | 2 => (3 + pair(1) + 1, pair(1) + 1),
            0x80.. => {
                let has_properties = u64::from(control >= 0xc0);
                let length = (u64::from(control & 0x1f) << 16 | pair(1)) + 1;
                (5 + has_properties + pair(3) + 1, length)
            }
            _ => return Ok(None),
        };
        let begins_anew = control == 1 || control >= 0xe0;
        if begins_anew && units.len() == MOST_UNITS {
            return Ok(None);
        }
        match units.last_mut() {
            Some(unit) if !begins_anew => {
                unit.packed_bytes += chunk_bytes;
                unit.length_bytes += length_bytes;
            }
            _ if begins_anew => {
                units.push(Unit { packed_start: at, packed_bytes: chunk_bytes, start, length_bytes });
            }
            _ => return Ok(None),
        }
        at += chunk_bytes;
        start += length_bytes;
    }
}

/// Makes one of units whose border a big content lies across.
fn joined(units: Vec<Unit>, spans: &[Span]) -> Vec<Unit> {
    let mut kept: Vec<Unit> = Vec::new();
    for unit in units {
        let index = spans.partition_point(|span| span.end() <= unit.start);
        let is_across = |span: &Span| span.start < unit.start && span.length_bytes > MOST_ACROSS_BYTES;
        match kept.last_mut() {
            Some(last) if spans.get(index).is_some_and(is_across) => {
                last.packed_bytes += unit.packed_bytes;
                last.length_bytes += unit.length_bytes;
            }
            _ => kept.push(unit),
        }
    }
    kept
}

/// The parts so far of a content that lies across borders, by where they begin in it.
type Across = HashMap<usize, Vec<(u64, Vec<u8>)>>;

struct Reading<'a> {
    block: &'a PackedBlock,
    unit: &'a Unit,
    wanted: &'a HashMap<usize, &'a WantedMembers>,
    across: &'a Mutex<Across>,
    delivery: &'a Delivery<'a>,
}

impl Reading<'_> {
    fn run(&self, pass_on: &dyn Fn(&WantedMembers, &mut dyn Read) -> Result<(), Halt>) -> Result<(), Halt> {
        let end = self.unit.start + self.unit.length_bytes;
        let first = self.block.spans.partition_point(|span| span.end() <= self.unit.start);
        let spans = self.block.spans[first..].iter().take_while(|span| span.start < end);
        let spans: Vec<&Span> = spans.filter(|span| span.length_bytes > 0).collect();
        let Some(last) = spans.iter().rposition(|span| self.wanted.contains_key(&span.source)) else {
            return Ok(());
        };
        let mut stream = self.block.unpacked(self.unit).map_err(|error| {
            match spans.iter().find_map(|span| self.wanted.get(&span.source)) {
                Some(wanted) => self.delivery.fail(wanted, error),
                None => Halt,
            }
        })?;
        for span in &spans[..=last] {
            self.delivery.go_on()?;
            let from = span.start.max(self.unit.start);
            let mut part = (&mut stream).take(span.end().min(end) - from);
            match self.wanted.get(&span.source) {
                Some(wanted) if part.limit() == span.length_bytes => {
                    let mut content = Checked::new(&mut part, span);
                    pass_on(wanted, &mut content)?;
                }
                Some(wanted) => self.add_part(wanted, span, from - span.start, &mut part)?,
                None => self.skip(span, &mut part)?,
            }
        }
        Ok(())
    }

    fn skip(&self, span: &Span, part: &mut dyn Read) -> Result<(), Halt> {
        io::copy(part, &mut io::sink()).map(drop).map_err(|error| {
            // What is skipped has no name here; what comes next in the unit can't be had either.
            let next = self.wanted.values().find(|wanted| wanted.source > span.source);
            match next.or_else(|| self.wanted.values().next()) {
                Some(wanted) => self.delivery.fail(wanted, error),
                None => Halt,
            }
        })
    }

    /// Keeps a part of a content that lies across borders; the one who brings the last part hands it on.
    fn add_part(
        &self,
        wanted: &WantedMembers,
        span: &Span,
        at: u64,
        part: &mut dyn Read,
    ) -> Result<(), Halt> {
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).map_err(|error| self.delivery.fail(wanted, error))?;
        let mut across = self.across.lock().unwrap_or_else(PoisonError::into_inner);
        let parts = across.entry(span.source).or_default();
        parts.push((at, bytes));
        if parts.iter().map(|(_, bytes)| bytes.len() as u64).sum::<u64>() < span.length_bytes {
            return Ok(());
        }
        let mut parts = across.remove(&span.source).unwrap_or_default();
        drop(across);
        parts.sort_unstable_by_key(|(at, _)| *at);
        let whole: Vec<u8> = parts.into_iter().flat_map(|(_, bytes)| bytes).collect();
        self.delivery.deliver(wanted, &mut Checked::new(&mut whole.as_slice(), span))
    }
}

/// A content that is compared with its checksum at its end.
struct Checked<'a> {
    inner: &'a mut dyn Read,
    left_bytes: u64,
    checksum: Option<u32>,
    hasher: crc32fast::Hasher,
}

impl<'a> Checked<'a> {
    fn new(inner: &'a mut dyn Read, span: &Span) -> Self {
        Self {
            inner,
            left_bytes: span.length_bytes,
            checksum: span.checksum,
            hasher: crc32fast::Hasher::new(),
        }
    }
}

impl Read for Checked<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.left_bytes = self.left_bytes.saturating_sub(count as u64);
        if self.checksum.is_some() {
            self.hasher.update(&buffer[..count]);
        }
        if self.left_bytes == 0
            && let Some(checksum) = self.checksum.take()
            && self.hasher.clone().finalize() != checksum
        {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "its checksum is wrong"));
        }
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A chunk of `length` bytes as it is; the first kind begins the dictionary anew.
    fn chunk(begins_anew: bool, length: u16) -> Vec<u8> {
        let mut chunk = vec![if begins_anew { 1 } else { 2 }];
        chunk.extend((length - 1).to_be_bytes());
        chunk.resize(3 + usize::from(length), 7);
        chunk
    }

    fn units(chunks: &[(bool, u16)]) -> Option<Vec<(u64, u64)>> {
        let mut packed: Vec<u8> = chunks.iter().flat_map(|(anew, length)| chunk(*anew, *length)).collect();
        packed.push(0);
        let units = units_of(&ArchiveFile::from_memory(packed)).unwrap()?;
        Some(units.iter().map(|unit| (unit.packed_start, unit.length_bytes)).collect())
    }

    #[test]
    fn a_stream_is_cut_where_the_dictionary_begins_anew() {
        let cut = units(&[(true, 100), (false, 50), (true, 30), (true, 1), (false, 2)]).unwrap();
        assert_eq!(cut, [(0, 150), (156, 30), (189, 3)]);
        assert_eq!(units(&[(false, 1)]), None, "it must begin with a new dictionary");
        let endless = ArchiveFile::from_memory(chunk(true, 9));
        assert_eq!(units_of(&endless).unwrap(), None, "it has no end");
        let unknown = ArchiveFile::from_memory(vec![0x40, 0, 0, 0]);
        assert_eq!(units_of(&unknown).unwrap(), None);
    }

    #[test]
    fn units_that_share_a_big_content_are_one() {
        let unit = |start: u64, length_bytes: u64| Unit {
            packed_start: start,
            packed_bytes: 1,
            start,
            length_bytes,
        };
        let span = |source: usize, start: u64, length_bytes: u64| Span {
            source,
            start,
            length_bytes,
            checksum: None,
        };
        let big = MOST_ACROSS_BYTES + 1;
        let spans = [span(0, 0, 10), span(1, 10, 20), span(2, 30, big), span(3, 30 + big, 5)];
        let units = vec![unit(0, 15), unit(15, 25), unit(40, big - 20), unit(20 + big, 15)];
        // The border at 15 lies in a small content, those at 40 and near the end in the big one.
        let kept: Vec<_> = joined(units, &spans).iter().map(|unit| (unit.start, unit.length_bytes)).collect();
        assert_eq!(kept, [(0, 15), (15, 20 + big)]);
    }

    #[test]
    fn dictionaries_are_told_by_the_settings() {
        let block = |method, properties: &[u8]| PackedBlock {
            packed: ArchiveFile::from_memory(Vec::new()),
            method,
            properties: properties.to_vec(),
            spans: Vec::new(),
        };
        assert_eq!(block(Method::Lzma2, &[0]).dictionary_bytes(), Some(4096));
        assert_eq!(block(Method::Lzma2, &[24]).dictionary_bytes(), Some(16 << 20));
        assert_eq!(block(Method::Lzma2, &[41]).dictionary_bytes(), None);
        assert_eq!(block(Method::Lzma, &[93, 0, 0, 16, 0]).dictionary_bytes(), Some(1 << 20));
        assert_eq!(block(Method::Lzma, &[93]).dictionary_bytes(), None);
    }
}
