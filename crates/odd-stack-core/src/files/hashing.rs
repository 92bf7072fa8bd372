//! Hashing files.

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Read, Seek};
use std::path::Path;

use super::patience::quietly;
use crate::hash::ContentHash;

impl ContentHash {
    /// The hash of the file at `path`.
    ///
    /// # Errors
    /// When the file can't be opened or read.
    pub fn of_file(path: &Path) -> io::Result<Self> {
        const WORTH_ALL_CORES_BYTES: u64 = 16 << 20;
        const IN_ONE_READ_BYTES: usize = 256 << 10;
        thread_local! {
            static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
        }
        let mut file = quietly(path, || File::open(path))?;
        let small = BUFFER.with_borrow_mut(|buffer| {
            buffer.resize(IN_ONE_READ_BYTES, 0);
            // Most files fit into the buffer, and asking for their size would cost as much as reading.
            let mut filled = 0;
            while filled < buffer.len() {
                match file.read(&mut buffer[filled..])? {
                    0 => return Ok(Some(Self::of(&buffer[..filled]))),
                    count => filled += count,
                }
            }
            Ok::<_, io::Error>(None)
        })?;
        if let Some(hash) = small {
            return Ok(hash);
        }
        let mut hasher = blake3::Hasher::new();
        // The buffer is not held here: hashing on all cores may run other work on this thread.
        if file.metadata()?.len() >= WORTH_ALL_CORES_BYTES {
            hasher.update_mmap_rayon(path)?;
        } else {
            file.rewind()?;
            hasher.update_reader(&mut file)?;
        }
        Ok(Self::from_bytes(*hasher.finalize().as_bytes()))
    }
}

/// Passes bytes on and hashes them on the way.
pub(crate) struct HashingReader<R> {
    inner: R,
    hasher: blake3::Hasher,
}

impl<R: Read> HashingReader<R> {
    pub(crate) fn new(inner: R) -> Self {
        Self { inner, hasher: blake3::Hasher::new() }
    }

    /// The hash of what was read.
    pub(crate) fn hash(&self) -> ContentHash {
        ContentHash::from_bytes(*self.hasher.finalize().as_bytes())
    }
}

impl<R: Read> Read for HashingReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..count]);
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rayon::prelude::*;

    #[test]
    fn files_of_every_size_hash_alike_on_many_threads() {
        let folder = tempfile::tempdir().unwrap();
        let sizes = [0, 1, 262_143, 262_144, 262_145, 3 << 20, 17 << 20, 17 << 20, 18 << 20, 5, 16 << 20];
        let files: Vec<_> = (0u8..)
            .zip(sizes)
            .map(|(number, size)| {
                let (path, content) = (folder.path().join(number.to_string()), vec![number; size]);
                std::fs::write(&path, &content).unwrap();
                (path, ContentHash::of(&content))
            })
            .collect();
        files.par_iter().for_each(|(path, hash)| assert_eq!(ContentHash::of_file(path).unwrap(), *hash));
    }
}
