//! A changed container, block by block.

use std::collections::VecDeque;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use super::deflate::Deflating;
use super::hashing::{GROUP_BYTES, Hashes, Of, Tree, TwoHashes};
use super::incoming::Contents;
use super::layout::{Layout, Piece};
use crate::files::Block;

/// What has no more bytes than this is not worth threads.
const SMALL_BYTES: u64 = 4 * GROUP_BYTES;
/// How many blocks wait to be written.
const MOST_WAITING: usize = 8;

/// What is to be known of the old file.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Old<'t> {
    /// Nothing.
    Unchecked,
    /// Its hash: it is read through from its beginning to its end, so that it is known afterwards whether it was what it was
    /// taken for.
    Hashed,
    /// It has this tree. What the new file has at the same place is not read.
    Known(&'t Tree),
}

/// Gives `write` the new file, all of it and once; big ones are read and hashed while they are written.
///
/// # Errors
/// What can't be read, or `write`'s own.
pub(crate) fn rebuild<F: Read + Seek + Send>(
    old: F,
    layout: &Layout,
    contents: &(dyn Contents + Sync),
    known: Old<'_>,
    write: impl FnOnce(&mut dyn Iterator<Item = Block>) -> io::Result<()>,
) -> io::Result<Hashes> {
    if layout.size_bytes.max(layout.old_bytes) <= SMALL_BYTES {
        let mut blocks = Vec::new();
        let hashes = Rebuilding::new(old, known, |block| {
            blocks.push(block);
            true
        })
        .run(layout, contents)?;
        return write(&mut blocks.into_iter()).map(|()| hashes);
    }
    std::thread::scope(|scope| {
        let (sender, waiting) = sync_channel(MOST_WAITING);
        let rebuilding = Rebuilding::new(old, known, move |block| sender.send(block).is_ok());
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
struct Rebuilding<'t, F, S> {
    old: F,
    known: Old<'t>,
    /// How far both files are read.
    old_at: u64,
    new_at: u64,
    hashes: TwoHashes,
    of: Of,
    /// The block that comes next, and how much of it is there.
    block: Vec<u8>,
    filled: usize,
    /// What was passed on, to be used again.
    passed: VecDeque<Arc<Vec<u8>>>,
    sink: S,
}

impl<'t, F: Read + Seek, S: FnMut(Block) -> bool> Rebuilding<'t, F, S> {
    fn new(old: F, known: Old<'t>, sink: S) -> Self {
        let (block, passed) = (Vec::new(), VecDeque::new());
        let hashes = TwoHashes::new(matches!(known, Old::Hashed));
        Self { old, known, old_at: 0, new_at: 0, hashes, of: Of::Both, block, filled: 0, passed, sink }
    }

    fn run(mut self, layout: &Layout, contents: &dyn Contents) -> io::Result<Hashes> {
        self.old.seek(SeekFrom::Start(0))?;
        for piece in &layout.pieces {
            match piece {
                Piece::Bytes(bytes) => self.pass(Of::New, Some(&mut bytes.as_slice()), bytes.len() as u64)?,
                Piece::Zeros { bytes } => self.pass(Of::New, Some(&mut io::repeat(0)), *bytes)?,
                Piece::Copy { start, end } => {
                    self.pass_over(*start)?;
                    self.copy(*end)?;
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
        if matches!(self.known, Old::Hashed) {
            return self.pass(Of::Old, None, to - self.old_at);
        }
        self.old.seek(SeekFrom::Start(to))?;
        self.old_at = to;
        Ok(())
    }

    /// Copies up to a place in the old file; what is known and at the same place without reading it.
    fn copy(&mut self, to: u64) -> io::Result<()> {
        let Old::Known(tree) = self.known else { return self.pass(Of::Both, None, to - self.old_at) };
        while self.old_at < to {
            let left = to - self.old_at;
            if self.old_at == self.new_at && left >= GROUP_BYTES {
                self.pass_on()?;
                if let Some(bytes) = self.hashes.pass_known(tree) {
                    self.old_at += bytes;
                    self.new_at += bytes;
                    self.give(Block::Unread(bytes))?;
                    continue;
                }
            }
            let to_group = GROUP_BYTES - self.new_at % GROUP_BYTES;
            self.old.seek(SeekFrom::Start(self.old_at))?;
            self.pass(Of::Both, None, left.min(to_group))?;
        }
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
                    self.new_at += if of == Of::Old { 0 } else { read as u64 };
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
        self.hashes.take(self.of, &bytes);
        let given = match self.of {
            Of::Old => Ok(()),
            Of::Both if self.old_at == self.new_at => self.give(Block::InPlace(Arc::clone(&bytes))),
            Of::Both | Of::New => self.give(Block::New(Arc::clone(&bytes))),
        };
        self.passed.push_back(bytes);
        if let Some(emptied) = self.passed.front_mut().and_then(Arc::get_mut) {
            self.block = std::mem::take(emptied);
            self.passed.pop_front();
        }
        given
    }

    fn give(&mut self, block: Block) -> io::Result<()> {
        if (self.sink)(block) { Ok(()) } else { Err(io::ErrorKind::BrokenPipe.into()) }
    }
}
