//! The name of a content.

use std::cell::RefCell;
use std::fmt;
use std::fs::File;
use std::io::{self, Read, Seek};
use std::path::Path;

/// The BLAKE3 hash (256 bits) of a file's content; shown in lower-case hexadecimal.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ContentHash([u8; 32]);

impl ContentHash {
    /// The hash of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// The hash of all that `reader` gives, and how many bytes that was.
    ///
    /// # Errors
    /// The reader's own.
    pub fn of_reader(reader: &mut dyn Read) -> io::Result<(Self, u64)> {
        let mut hasher = blake3::Hasher::new();
        let mut buffer = vec![0; 128 * 1024];
        let mut size_bytes = 0;
        loop {
            let count = reader.read(&mut buffer)?;
            if count == 0 {
                return Ok((Self(*hasher.finalize().as_bytes()), size_bytes));
            }
            hasher.update(&buffer[..count]);
            size_bytes += count as u64;
        }
    }

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
        let mut file = crate::patience::quietly(path, || File::open(path))?;
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
        Ok(Self(*hasher.finalize().as_bytes()))
    }

    /// Stands for having no content: the hash of none.
    pub const NOTHING: Self = Self([0; 32]);

    /// The 32 bytes.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// Takes 32 bytes that [`ContentHash::as_bytes`] gave before.
    pub fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// The first eight digits, enough to tell a few contents apart by eye.
    pub fn short(&self) -> String {
        self.to_string()[..8].to_owned()
    }
}

impl fmt::Display for ContentHash {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&blake3::Hash::from_bytes(self.0).to_hex())
    }
}

impl serde::Serialize for ContentHash {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for ContentHash {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        blake3::Hash::from_hex(text).map(|hash| Self(*hash.as_bytes())).map_err(serde::de::Error::custom)
    }
}

impl fmt::Debug for ContentHash {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "ContentHash({})", self.short())
    }
}

/// Passes bytes on and hashes them on the way.
pub(crate) struct HashingReader<'a> {
    inner: &'a mut dyn Read,
    hasher: blake3::Hasher,
}

impl<'a> HashingReader<'a> {
    pub(crate) fn new(inner: &'a mut dyn Read) -> Self {
        Self { inner, hasher: blake3::Hasher::new() }
    }

    pub(crate) fn finish(self) -> ContentHash {
        ContentHash(*self.hasher.finalize().as_bytes())
    }
}

impl Read for HashingReader<'_> {
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
