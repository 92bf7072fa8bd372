//! Telling by how it begins and ends whether something may be a zip-based container.

use std::io::{self, Read};
use std::path::Path;

use crate::files::{open_regular, read_exact_at};

/// Remembers how what passes through it begins and ends.
pub(super) struct WithEnds<'a> {
    inner: &'a mut dyn Read,
    head: [u8; 4],
    tail: [u8; END_BYTES],
    size_bytes: usize,
}

/// Bytes of the record that ends a zip archive without a comment (PKWARE's appnote, 4.3.16).
const END_BYTES: usize = 22;

impl<'a> WithEnds<'a> {
    pub(super) fn of(inner: &'a mut dyn Read) -> Self {
        Self { inner, head: [0; 4], tail: [0; END_BYTES], size_bytes: 0 }
    }

    /// Whether it begins or ends as zip archives do.
    pub(super) fn are_of_container(&self) -> bool {
        are_of_container(self.head, &self.tail)
    }
}

impl Read for WithEnds<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        let bytes = &buffer[..count];
        if let Some(head) = self.head.get_mut(self.size_bytes..) {
            head.iter_mut().zip(bytes).for_each(|(head, byte)| *head = *byte);
        }
        match bytes.len().checked_sub(END_BYTES) {
            Some(from) => self.tail.copy_from_slice(&bytes[from..]),
            None => {
                self.tail.rotate_left(count);
                self.tail[END_BYTES - count..].copy_from_slice(bytes);
            }
        }
        self.size_bytes += count;
        Ok(count)
    }
}

fn are_of_container(head: [u8; 4], tail: &[u8]) -> bool {
    let begins = [*b"PK\x03\x04", *b"PK\x05\x06"].contains(&head);
    begins || tail.starts_with(b"PK\x05\x06")
}

/// Whether the file there may be one; what can't be read is none.
pub(super) fn may_be_container(path: &Path) -> bool {
    let read = || {
        let (mut head, mut tail) = ([0; 4], [0; END_BYTES]);
        let file = open_regular(path)?;
        read_exact_at(&file, &mut head, 0)?;
        let from = file.metadata()?.len().saturating_sub(END_BYTES as u64);
        read_exact_at(&file, &mut tail, from)?;
        Ok::<_, io::Error>(are_of_container(head, &tail))
    };
    read().unwrap_or(false)
}
