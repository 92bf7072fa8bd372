//! A changed container, block by block.

use std::collections::VecDeque;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use super::deflate::Deflating;
use super::hashing::{GROUP_BYTES, Of, TwoHashes};
use super::incoming::Contents;
use super::layout::{Layout, Piece};
use crate::files::Block;
use crate::hash::ContentHash;

/// What has no more bytes than this is not worth threads.
const SMALL_BYTES: u64 = 4 * GROUP_BYTES;
/// How many blocks wait to be written.
const MOST_WAITING: usize = 8;

/// The hashes of the old file, where it is checked, and of the new one.
type Hashes = (Option<ContentHash>, ContentHash);

/// Gives `write` the new file, all of it and once; big ones are read and hashed while they are written. With `is_checked` the
/// old file is read through from its beginning to its end, so that it is known afterwards whether it was what it was taken for.
///
/// # Errors
/// What can't be read, or `write`'s own.
pub(crate) fn rebuild<F: Read + Seek + Send>(
    old: F,
    layout: &Layout,
    contents: &(dyn Contents + Sync),
    is_checked: bool,
    write: impl FnOnce(&mut dyn Iterator<Item = Block>) -> io::Result<()>,
) -> io::Result<Hashes> {
    if layout.size_bytes.max(layout.old_bytes) <= SMALL_BYTES {
        let mut blocks = Vec::new();
        let hashes = Rebuilding::new(old, is_checked, |block| {
            blocks.push(block);
            true
        })
        .run(layout, contents)?;
        return write(&mut blocks.into_iter()).map(|()| hashes);
    }
    std::thread::scope(|scope| {
        let (sender, waiting) = sync_channel(MOST_WAITING);
        let rebuilding = Rebuilding::new(old, is_checked, move |block| sender.send(block).is_ok());
        let reading = scope.spawn(|| rebuilding.run(layout, contents));
        let mut blocks = waiting.into_iter();
        let written = write(&mut blocks);
        // So that nothing waits for being taken.
        drop(blocks);
        let read = reading.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        written.and(read)
    })
}

/// The new file on its way to `sink`, which says whether it takes more.
struct Rebuilding<F, S> {
    old: F,
    /// All of the old file is read.
    is_checked: bool,
    /// How far that is.
    old_at: u64,
    hashes: TwoHashes,
    of: Of,
    /// The block that comes next, and how much of it is there.
    block: Vec<u8>,
    filled: usize,
    /// What was passed on, to be used again.
    passed: VecDeque<Arc<Vec<u8>>>,
    sink: S,
}

impl<F: Read + Seek, S: FnMut(Block) -> bool> Rebuilding<F, S> {
    fn new(old: F, is_checked: bool, sink: S) -> Self {
        let (block, passed) = (Vec::new(), VecDeque::new());
        let hashes = TwoHashes::new(is_checked);
        Self { old, is_checked, old_at: 0, hashes, of: Of::Both, block, filled: 0, passed, sink }
    }

    fn run(mut self, layout: &Layout, contents: &dyn Contents) -> io::Result<Hashes> {
        self.old.seek(SeekFrom::Start(0))?;
        for piece in &layout.pieces {
            match piece {
                Piece::Bytes(bytes) => self.pass(Of::New, Some(&mut bytes.as_slice()), bytes.len() as u64)?,
                Piece::Zeros { bytes } => self.pass(Of::New, Some(&mut io::repeat(0)), *bytes)?,
                Piece::Copy { start, end } => {
                    self.pass_over(*start)?;
                    self.pass(Of::Both, None, end - start)?;
                }
                Piece::Stored { content, bytes } => {
                    self.pass(Of::New, Some(&mut *contents.open(*content)?), *bytes)?;
                }
                Piece::Deflated { content, bytes } => {
                    let mut content = Deflating::new(contents.open(*content)?);
                    self.pass(Of::New, Some(&mut content), *bytes)?;
                }
            }
        }
        self.pass_over(layout.old_bytes)?;
        self.pass_on()?;
        Ok(self.hashes.finish())
    }

    /// Goes on to a place in the old file; reads up to it for the hash, where there is one.
    fn pass_over(&mut self, to: u64) -> io::Result<()> {
        if self.is_checked {
            return self.pass(Of::Old, None, to - self.old_at);
        }
        self.old.seek(SeekFrom::Start(to))?;
        self.old_at = to;
        Ok(())
    }

    /// Passes so many bytes of a content on, or of the old file.
    fn pass(&mut self, of: Of, mut content: Option<&mut dyn Read>, bytes: u64) -> io::Result<()> {
        let mut left = bytes;
        while left > 0 {
            if of != self.of {
                self.pass_on()?;
                self.of = of;
            }
            let room = self.hashes.next_bytes(of) - self.filled;
            let most = usize::try_from(left).unwrap_or(usize::MAX).min(room);
            if self.block.len() < self.filled + most {
                self.block.resize(self.filled + most, 0);
            }
            let buffer = &mut self.block[self.filled..self.filled + most];
            let read = match &mut content {
                Some(content) => content.read(buffer),
                None => self.old.read(buffer),
            };
            match read {
                Ok(0) => return Err(io::ErrorKind::UnexpectedEof.into()),
                Ok(read) => {
                    self.filled += read;
                    left -= read as u64;
                    self.old_at += if of == Of::New { 0 } else { read as u64 };
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
            if self.filled == self.hashes.next_bytes(of) {
                self.pass_on()?;
            }
        }
        Ok(())
    }

    fn pass_on(&mut self) -> io::Result<()> {
        if self.filled == 0 {
            return Ok(());
        }
        self.block.truncate(std::mem::take(&mut self.filled));
        let bytes = Arc::new(std::mem::take(&mut self.block));
        let is_in_place = self.of == Of::Both && self.hashes.is_in_step();
        self.hashes.take(self.of, &bytes);
        let is_taken = self.of == Of::Old || (self.sink)(Block { bytes: Arc::clone(&bytes), is_in_place });
        self.passed.push_back(bytes);
        if let Some(emptied) = self.passed.front_mut().and_then(Arc::get_mut) {
            self.block = std::mem::take(emptied);
            self.passed.pop_front();
        }
        if is_taken { Ok(()) } else { Err(io::ErrorKind::BrokenPipe.into()) }
    }
}
