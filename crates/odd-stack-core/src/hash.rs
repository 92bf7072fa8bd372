//! The name of a content.

use std::fmt;
use std::io::{self, Read};

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
