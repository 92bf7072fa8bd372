//! Members of a tar that are kept with gaps, in the three ways of GNU's pax records (GNU tar manual, "Storing Sparse
//! Files", formats 0.0, 0.1 and 1.0). The old way, with a header of its own, is read by the library.

use std::io::{self, Read};

/// The most pieces that one member may be kept in.
const MOST_PIECES: usize = 100_000;
/// The map of format 1.0 lies before the content, padded to blocks.
const BLOCK_BYTES: usize = 512;

/// What a member's pax records say of it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Records {
    /// Its real name.
    pub name: Option<Vec<u8>>,
    /// Its size with its gaps.
    pub size_bytes: u64,
    map: Map,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Map {
    /// Begins and lengths of the pieces.
    Here(Vec<(u64, u64)>),
    /// It lies before the content.
    BeforeContent,
}

impl Default for Map {
    fn default() -> Self {
        Self::Here(Vec::new())
    }
}

impl Records {
    /// Reads pairs of key and value; nothing if the member has no gaps.
    ///
    /// # Errors
    /// What is wrong with them.
    pub(super) fn of<'r>(
        pairs: impl Iterator<Item = (&'r str, &'r [u8])>,
    ) -> Result<Option<Self>, &'static str> {
        const WRONG: &str = "its record of gaps is wrong";
        let (mut records, mut is_any) = (Self::default(), false);
        let (mut pieces, mut begin, mut version) = (Vec::new(), None, (0, 0));
        let mut size_bytes = None;
        for (key, value) in pairs {
            let Some(key) = key.strip_prefix("GNU.sparse.") else { continue };
            is_any = true;
            let text = || std::str::from_utf8(value).map_err(|_| WRONG);
            let number = || text()?.parse::<u64>().map_err(|_| WRONG);
            match key {
                "major" => version.0 = number()?,
                "minor" => version.1 = number()?,
                "name" => records.name = Some(value.to_vec()),
                "realsize" | "size" => size_bytes = Some(number()?),
                "offset" => begin = Some(number()?),
                "numbytes" => pieces.push((begin.take().ok_or(WRONG)?, number()?)),
                "map" => {
                    let numbers = text()?.split(',').map(|number| number.parse().map_err(|_| WRONG));
                    let numbers: Vec<u64> = numbers.collect::<Result<_, _>>()?;
                    let (pairs, rest) = numbers.as_chunks::<2>();
                    if !rest.is_empty() {
                        return Err(WRONG);
                    }
                    pieces.extend(pairs.iter().map(|[begin, length]| (*begin, *length)));
                }
                _ => {}
            }
        }
        if !is_any {
            return Ok(None);
        }
        records.size_bytes = size_bytes.ok_or(WRONG)?;
        records.map = match version {
            (1, 0) => Map::BeforeContent,
            (0, _) => {
                check(&pieces, records.size_bytes).map_err(|_| WRONG)?;
                Map::Here(pieces)
            }
            _ => return Err("it is kept with gaps in a way that is not known here"),
        };
        Ok(Some(records))
    }

    /// The member's content with its gaps filled; `kept` gives it as it lies in the archive.
    pub(super) fn filled<R: Read>(&self, kept: R) -> Filled<R> {
        let pieces = match &self.map {
            Map::Here(pieces) => Some(pieces.clone()),
            Map::BeforeContent => None,
        };
        Filled { kept, pieces, next: 0, position: 0, size_bytes: self.size_bytes }
    }
}

/// Pieces must follow each other within the size.
fn check(pieces: &[(u64, u64)], size_bytes: u64) -> io::Result<()> {
    let mut end = 0;
    for (begin, length) in pieces {
        let next = begin.checked_add(*length).filter(|next| *begin >= end && *next <= size_bytes);
        end = next.ok_or_else(wrong)?;
    }
    if pieces.len() > MOST_PIECES { Err(wrong()) } else { Ok(()) }
}

fn wrong() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the record of its gaps is wrong")
}

/// Gives zeros where the gaps are.
pub(super) struct Filled<R> {
    kept: R,
    /// Not known before the map was read.
    pieces: Option<Vec<(u64, u64)>>,
    /// The piece that is read or comes next.
    next: usize,
    position: u64,
    size_bytes: u64,
}

impl<R: Read> Filled<R> {
    /// Reads a map of format 1.0: numbers in decimal, a line each, the count of pieces first.
    fn read_map(&mut self) -> io::Result<Vec<(u64, u64)>> {
        let (mut block, mut at) = ([0; BLOCK_BYTES], BLOCK_BYTES);
        let mut number = |kept: &mut R| {
            let mut value: Option<u64> = None;
            loop {
                if at == BLOCK_BYTES {
                    kept.read_exact(&mut block)?;
                    at = 0;
                }
                let byte = block[at];
                at += 1;
                value = match (byte, value) {
                    (b'\n', Some(value)) => return Ok::<u64, io::Error>(value),
                    (b'0'..=b'9', value) => {
                        let digit = u64::from(byte - b'0');
                        let more =
                            value.unwrap_or(0).checked_mul(10).and_then(|value| value.checked_add(digit));
                        Some(more.ok_or_else(wrong)?)
                    }
                    _ => return Err(wrong()),
                };
            }
        };
        let count = number(&mut self.kept)?;
        if count > MOST_PIECES as u64 {
            return Err(wrong());
        }
        let pieces = (0..count).map(|_| Ok((number(&mut self.kept)?, number(&mut self.kept)?)));
        let pieces = pieces.collect::<io::Result<Vec<_>>>()?;
        check(&pieces, self.size_bytes)?;
        Ok(pieces)
    }
}

impl<R: Read> Read for Filled<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.pieces.is_none() {
            self.pieces = Some(self.read_map()?);
        }
        let pieces = self.pieces.as_deref().unwrap_or_default();
        while pieces.get(self.next).is_some_and(|(begin, length)| begin + length <= self.position) {
            self.next += 1;
        }
        let (begin, end) = match pieces.get(self.next) {
            Some((begin, length)) => (*begin, begin + length),
            None => (self.size_bytes, self.size_bytes),
        };
        let until = if self.position < begin { begin } else { end };
        let left = usize::try_from(until - self.position).unwrap_or(usize::MAX);
        let room = buffer.len().min(left);
        let count = if self.position < begin {
            buffer[..room].fill(0);
            room
        } else {
            let count = self.kept.read(&mut buffer[..room])?;
            if count == 0 && room > 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            count
        };
        self.position += count as u64;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filled(records: &[(&str, &str)], kept: &[u8]) -> Result<Vec<u8>, String> {
        let pairs = records.iter().map(|(key, value)| (*key, value.as_bytes()));
        let records = Records::of(pairs).map_err(str::to_owned)?.ok_or("no gaps")?;
        let mut content = Vec::new();
        records.filled(kept).read_to_end(&mut content).map_err(|error| error.to_string())?;
        Ok(content)
    }

    #[test]
    fn gaps_are_filled_in_every_way_they_are_recorded() {
        let wanted = b"\0\0ab\0\0\0c\0".to_vec();
        let by_pairs = [
            ("GNU.sparse.size", "9"),
            ("GNU.sparse.numblocks", "2"),
            ("GNU.sparse.offset", "2"),
            ("GNU.sparse.numbytes", "2"),
            ("GNU.sparse.offset", "7"),
            ("GNU.sparse.numbytes", "1"),
        ];
        assert_eq!(filled(&by_pairs, b"abc").unwrap(), wanted);
        let by_map = [("GNU.sparse.size", "9"), ("GNU.sparse.map", "2,2,7,1")];
        assert_eq!(filled(&by_map, b"abc").unwrap(), wanted);
        let before = [("GNU.sparse.major", "1"), ("GNU.sparse.minor", "0"), ("GNU.sparse.realsize", "9")];
        let mut kept = b"2\n2\n2\n7\n1\n".to_vec();
        kept.resize(BLOCK_BYTES, 0);
        kept.extend(b"abc");
        assert_eq!(filled(&before, &kept).unwrap(), wanted);
        assert_eq!(filled(&[("GNU.sparse.size", "3"), ("GNU.sparse.map", "")], b"").ok(), None);
    }

    #[test]
    fn wrong_records_are_refused() {
        for map in ["2,2,3,1", "2", "8,2", "x,1", "18446744073709551615,2", "7,1,2,2"] {
            assert!(filled(&[("GNU.sparse.size", "9"), ("GNU.sparse.map", map)], b"abcd").is_err(), "{map}");
        }
        let before = [("GNU.sparse.major", "1"), ("GNU.sparse.minor", "0"), ("GNU.sparse.realsize", "9")];
        for head in ["2\n2\n2\n", "99999999999\n", "1\n-2\n2\n", "1\n7\n9\n", "\n", ""] {
            let mut kept = head.as_bytes().to_vec();
            kept.resize(if head.is_empty() { 0 } else { BLOCK_BYTES }, 0);
            assert!(filled(&before, &kept).is_err(), "{head:?}");
        }
        assert!(filled(&[("GNU.sparse.major", "2"), ("GNU.sparse.realsize", "1")], b"a").is_err());
        assert!(filled(&[("GNU.sparse.size", "9"), ("GNU.sparse.map", "2,4")], b"ab").is_err(), "cut short");
    }
}
