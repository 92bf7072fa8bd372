//! Packing contents, the same way on every machine.

use std::io::{self, Read};

use miniz_oxide::deflate::core::{CompressorOxide, create_comp_flags_from_zip_params};
use miniz_oxide::deflate::stream::deflate;
use miniz_oxide::{MZError, MZFlush, MZStatus};

/// Gives what is read of `content` as a raw deflate stream (RFC 1951). The library uses nothing that one processor has and
/// another does not, so that the stream is the same everywhere.
pub(super) struct Deflating<'c> {
    content: Box<dyn Read + 'c>,
    compressor: Box<CompressorOxide>,
    input: Vec<u8>,
    /// What of `input` is not taken yet.
    at: usize,
    filled: usize,
    has_ended: bool,
    is_done: bool,
}

const INPUT_BYTES: usize = 64 << 10;
/// The level and the window of the format's own tools.
const LEVEL: i32 = 6;
const RAW_WINDOW: i32 = -15;

impl<'c> Deflating<'c> {
    pub(super) fn new(content: Box<dyn Read + 'c>) -> Self {
        let flags = create_comp_flags_from_zip_params(LEVEL, RAW_WINDOW, 0);
        Self {
            content,
            compressor: Box::new(CompressorOxide::new(flags)),
            input: vec![0; INPUT_BYTES],
            at: 0,
            filled: 0,
            has_ended: false,
            is_done: false,
        }
    }
}

impl Read for Deflating<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while !self.is_done && !buffer.is_empty() {
            if self.at == self.filled && !self.has_ended {
                self.filled = self.content.read(&mut self.input)?;
                self.at = 0;
                self.has_ended = self.filled == 0;
            }
            let flush = if self.has_ended { MZFlush::Finish } else { MZFlush::None };
            let done = deflate(&mut self.compressor, &self.input[self.at..self.filled], buffer, flush);
            self.at += done.bytes_consumed;
            match done.status {
                Ok(status) => self.is_done = status == MZStatus::StreamEnd,
                Err(MZError::Buf) => {}
                Err(error) => return Err(io::Error::other(format!("packing failed: {error:?}"))),
            }
            if done.bytes_written > 0 {
                return Ok(done.bytes_written);
            }
        }
        Ok(0)
    }
}
