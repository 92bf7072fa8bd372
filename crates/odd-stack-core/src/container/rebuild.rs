//! A changed container as one stream of bytes.

use std::io::{self, Read, Seek, SeekFrom};

use super::deflate::Deflating;
use super::hashing::{Of, TwoHashes};
use super::layout::{Contents, Layout, Piece};
use crate::hash::ContentHash;

/// Reads the new container. Where it is known what the old one should be, that is read through once from its beginning to its
/// end, so that it is known afterwards whether it was what it was taken for.
pub(crate) struct Rebuilding<'c, F> {
    old: F,
    layout: &'c Layout,
    contents: &'c dyn Contents,
    next: usize,
    current: Current<'c>,
    /// How far the old file was read.
    old_at: u64,
    hashes: TwoHashes,
    /// All of the old file is read.
    is_checked: bool,
}

enum Current<'c> {
    None,
    Bytes { piece: &'c [u8] },
    Copy { left_bytes: u64 },
    Content(Box<dyn Read + 'c>),
}

impl<'c, F: Read + Seek> Rebuilding<'c, F> {
    /// With `is_checked` the old file is hashed, too.
    pub(crate) fn new(
        mut old: F,
        layout: &'c Layout,
        contents: &'c dyn Contents,
        is_checked: bool,
    ) -> io::Result<Self> {
        old.seek(SeekFrom::Start(0))?;
        Ok(Self {
            old,
            layout,
            contents,
            next: 0,
            current: Current::None,
            old_at: 0,
            hashes: TwoHashes::new(is_checked),
            is_checked,
        })
    }

    /// The hashes of the old file, where it is checked, and of the new one, when all was read.
    ///
    /// # Errors
    /// What can't be read of the old file.
    pub(crate) fn finish(mut self) -> io::Result<(Option<ContentHash>, ContentHash)> {
        self.pass_over(self.layout.old_bytes)?;
        Ok(self.hashes.finish())
    }

    /// Goes on to a place in the old file; reads up to it for the hash, where there is one.
    fn pass_over(&mut self, to: u64) -> io::Result<()> {
        if !self.is_checked {
            self.old.seek(SeekFrom::Start(to))?;
            self.old_at = to;
            return Ok(());
        }
        let mut buffer = vec![0; 128 << 10];
        while self.old_at < to {
            let most = usize::try_from(to - self.old_at).unwrap_or(usize::MAX).min(buffer.len());
            let read = self.old.read(&mut buffer[..most])?;
            if read == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            self.hashes.update(Of::Old, &buffer[..read]);
            self.old_at += read as u64;
        }
        Ok(())
    }

    fn begin_next(&mut self) -> io::Result<bool> {
        let layout = self.layout;
        let Some(piece) = layout.pieces.get(self.next) else { return Ok(false) };
        self.next += 1;
        self.current = match piece {
            Piece::Bytes(piece) => Current::Bytes { piece },
            Piece::Copy { start, end } => {
                self.pass_over(*start)?;
                Current::Copy { left_bytes: end - start }
            }
            Piece::Stored { content } => Current::Content(self.contents.open(*content)?),
            Piece::Deflated { content } => {
                Current::Content(Box::new(Deflating::new(self.contents.open(*content)?)))
            }
        };
        Ok(true)
    }

    fn read_current(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match &mut self.current {
            Current::None => Ok(0),
            Current::Bytes { piece } => piece.read(buffer),
            Current::Content(content) => content.read(buffer),
            Current::Copy { left_bytes: 0 } => Ok(0),
            Current::Copy { left_bytes } => {
                let most = usize::try_from(*left_bytes).unwrap_or(usize::MAX).min(buffer.len());
                let read = self.old.read(&mut buffer[..most])?;
                if read == 0 && most > 0 {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                *left_bytes -= read as u64;
                self.old_at += read as u64;
                Ok(read)
            }
        }
    }
}

impl<F: Read + Seek> Read for Rebuilding<'_, F> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() {
            return Ok(0);
        }
        loop {
            let read = self.read_current(buffer)?;
            if read > 0 {
                let is_old = matches!(self.current, Current::Copy { .. });
                self.hashes.update(if is_old { Of::Both } else { Of::New }, &buffer[..read]);
                return Ok(read);
            }
            if !self.begin_next()? {
                return Ok(0);
            }
        }
    }
}
