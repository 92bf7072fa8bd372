//! The bytes of an archive, wherever they lie: one file, several volumes one after the other, a part
//! of a file, or memory.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;

/// Bytes that several readers share, each with its own position. Cloning is cheap.
#[derive(Debug, Clone)]
pub(crate) struct ArchiveFile {
    pieces: Arc<[Piece]>,
    length_bytes: u64,
    position: u64,
}

#[derive(Debug, Clone)]
struct Piece {
    /// Where it begins in the whole.
    start: u64,
    length_bytes: u64,
    held: Held,
}

#[derive(Debug, Clone)]
enum Held {
    /// A file, from the given byte on.
    File(Arc<File>, u64),
    Memory(Arc<[u8]>),
}

impl ArchiveFile {
    /// All of one file.
    pub(crate) fn open(path: &Path) -> io::Result<Self> {
        Self::from_file(crate::files::quietly(path, || File::open(path))?)
    }

    /// All of an opened file.
    pub(crate) fn from_file(file: File) -> io::Result<Self> {
        let length_bytes = file.metadata()?.len();
        Ok(Self::of(vec![(length_bytes, Held::File(Arc::new(file), 0))]))
    }

    pub(crate) fn from_memory(bytes: Vec<u8>) -> Self {
        Self::of(vec![(bytes.len() as u64, Held::Memory(bytes.into()))])
    }

    /// One after the other.
    pub(super) fn joined(parts: impl IntoIterator<Item = Self>) -> Self {
        let pieces = parts.into_iter().flat_map(|part| {
            part.pieces.iter().map(|piece| (piece.length_bytes, piece.held.clone())).collect::<Vec<_>>()
        });
        Self::of(pieces.collect())
    }

    /// The part from `start` on, `length_bytes` long or shorter where the whole ends before.
    pub(crate) fn part(&self, start: u64, length_bytes: u64) -> Self {
        let end = start.saturating_add(length_bytes).min(self.length_bytes);
        let pieces = self.pieces.iter().filter_map(|piece| {
            let from = start.max(piece.start);
            let to = end.min(piece.start + piece.length_bytes);
            let length_bytes = to.checked_sub(from).filter(|length| *length > 0)?;
            let skipped = from - piece.start;
            let held = match &piece.held {
                Held::File(file, at) => Held::File(file.clone(), at + skipped),
                Held::Memory(bytes) => {
                    let skipped = usize::try_from(skipped).ok()?;
                    let length = usize::try_from(length_bytes).ok()?;
                    Held::Memory(bytes.get(skipped..skipped + length)?.into())
                }
            };
            Some((length_bytes, held))
        });
        Self::of(pieces.collect())
    }

    fn of(held: Vec<(u64, Held)>) -> Self {
        let mut start = 0;
        let pieces = held.into_iter().map(|(length_bytes, held)| {
            let piece = Piece { start, length_bytes, held };
            start += length_bytes;
            piece
        });
        let pieces = pieces.collect::<Vec<_>>().into();
        Self { pieces, length_bytes: start, position: 0 }
    }

    pub(crate) fn length_bytes(&self) -> u64 {
        self.length_bytes
    }

    /// The file, where it is one and all of it.
    pub(crate) fn as_file(&self) -> Option<&File> {
        match &self.pieces[..] {
            [Piece { held: Held::File(file, 0), .. }] => Some(file),
            _ => None,
        }
    }

    /// A reader of the same bytes that stands at their start.
    pub(crate) fn rewound(&self) -> Self {
        Self { position: 0, ..self.clone() }
    }

    /// As many of the bytes from `position` on as fit into `buffer` and are there.
    pub(super) fn read_up_to(&self, position: u64, buffer: &mut [u8]) -> io::Result<usize> {
        fill(&mut Self { position, ..self.clone() }, buffer)
    }
}

/// Reads until the buffer is full or the end is met; gives how much was read.
pub(super) fn fill(reader: &mut dyn Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match reader.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

impl Read for ArchiveFile {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.position >= self.length_bytes || buffer.is_empty() {
            return Ok(0);
        }
        let index = self.pieces.partition_point(|piece| piece.start <= self.position) - 1;
        let piece = &self.pieces[index];
        let within = self.position - piece.start;
        let left = piece.length_bytes - within;
        let most = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
        let buffer = &mut buffer[..most];
        let count = match &piece.held {
            Held::File(file, at) => read_at(file, buffer, at + within)?,
            Held::Memory(bytes) => {
                let within = usize::try_from(within).unwrap_or(usize::MAX);
                buffer.copy_from_slice(&bytes[within..within + most]);
                most
            }
        };
        if count == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the file became shorter"));
        }
        self.position += count as u64;
        Ok(count)
    }
}

#[cfg(unix)]
fn read_at(file: &File, buffer: &mut [u8], position: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, buffer, position)
}

#[cfg(windows)]
fn read_at(file: &File, buffer: &mut [u8], position: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, buffer, position)
}

impl Seek for ArchiveFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(position) => Some(position),
            SeekFrom::End(offset) => self.length_bytes.checked_add_signed(offset),
            SeekFrom::Current(offset) => self.position.checked_add_signed(offset),
        };
        self.position =
            target.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "seek before the start"))?;
        Ok(self.position)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn pieces_read_as_the_whole_and_so_do_parts_of_it(
            pieces in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..9), 0..6),
            start in 0u64..50, length in 0u64..50,
        ) {
            let whole = pieces.concat();
            let mut joined = ArchiveFile::joined(pieces.into_iter().map(ArchiveFile::from_memory));
            let mut read = Vec::new();
            joined.read_to_end(&mut read).unwrap();
            prop_assert_eq!(&read, &whole);
            let mut part = Vec::new();
            joined.part(start, length).read_to_end(&mut part).unwrap();
            let from = (start as usize).min(whole.len());
            let to = (start + length).min(whole.len() as u64) as usize;
            prop_assert_eq!(part, &whole[from..to.max(from)]);
        }
    }
}
