//! How big a package may be before it is refused unread.

use thiserror::Error;

/// Limits on a package; what exceeds one is refused before anything is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// The most bytes all files may have together, unpacked.
    pub most_bytes: u64,
    /// The most files and folders.
    pub most_files: u64,
    /// The most unpacked bytes for each packed byte; only looked at beyond
    /// [`Limits::RATIO_MATTERS_FROM_BYTES`], since small files of one letter pack absurdly well.
    pub most_ratio: u64,
    /// How many archives may lie in each other, the package itself not counted.
    pub most_depth: u64,
}

impl Limits {
    /// Below this unpacked size the ratio is never refused.
    pub const RATIO_MATTERS_FROM_BYTES: u64 = 64 << 20;
    /// For each so many files that a package may have, one may be a copy that a link stands for.
    pub const FILES_A_COPY: u64 = 20;

    /// Sets the limit `kind` (`bytes`, `files`, `ratio` or `depth`) from a `KIND=VALUE` text; bytes take the
    /// endings K, M, G and T (powers of 1024).
    ///
    /// # Errors
    /// A sentence that says what is wrong with `text`.
    pub fn set(&mut self, text: &str) -> Result<(), String> {
        let wrong =
            || format!("`{text}` is not a limit: write bytes=20G, files=500000, ratio=1000 or depth=5");
        let (kind, value) = text.split_once('=').ok_or_else(wrong)?;
        let number = Self::size_given(value).ok_or_else(wrong)?;
        match kind.trim() {
            "bytes" => self.most_bytes = number,
            "files" => self.most_files = number,
            "ratio" => self.most_ratio = number,
            "depth" => self.most_depth = number,
            _ => return Err(wrong()),
        }
        Ok(())
    }

    /// A number as a person writes it, with K, M, G or T at its end (powers of 1024).
    #[must_use]
    pub fn size_given(text: &str) -> Option<u64> {
        let text = text.trim();
        let (digits, factor) = match text.char_indices().last() {
            Some((end, 'k' | 'K')) => (&text[..end], 1 << 10),
            Some((end, 'm' | 'M')) => (&text[..end], 1 << 20),
            Some((end, 'g' | 'G')) => (&text[..end], 1 << 30),
            Some((end, 't' | 'T')) => (&text[..end], 1 << 40),
            _ => (text, 1),
        };
        digits.parse::<u64>().ok().and_then(|number| number.checked_mul(factor))
    }

    /// Compares what an archive declares with the limits.
    pub(super) fn check(&self, files: u64, bytes: u64, packed_bytes: u64) -> Result<(), LimitBroken> {
        if files > self.most_files {
            return Err(LimitBroken::Files { found: files, limit: self.most_files });
        }
        if bytes > self.most_bytes {
            return Err(LimitBroken::Bytes { found: bytes, limit: self.most_bytes });
        }
        let ratio = bytes / packed_bytes.max(1);
        if bytes > Self::RATIO_MATTERS_FROM_BYTES && ratio > self.most_ratio {
            return Err(LimitBroken::Ratio { found: ratio, limit: self.most_ratio });
        }
        Ok(())
    }
}

impl Default for Limits {
    fn default() -> Self {
        Self { most_bytes: 256 << 30, most_files: 1_000_000, most_ratio: 400, most_depth: 3 }
    }
}

/// Which limit a package breaks.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LimitBroken {
    /// Too many files and folders.
    #[error("it has {found} files and folders, more than the limit of {limit}")]
    Files {
        /// How many there are.
        found: u64,
        /// How many there may be.
        limit: u64,
    },
    /// Links that multiply.
    #[error("its links stand for {found} copies of its files, more than the limit of {limit}")]
    Copies {
        /// How many copies there would be.
        found: u64,
        /// How many there may be.
        limit: u64,
    },
    /// Too many bytes.
    #[error("it unpacks to {found} bytes, more than the limit of {limit}")]
    Bytes {
        /// How many there are.
        found: u64,
        /// How many there may be.
        limit: u64,
    },
    /// Archives inside archives, too deep.
    #[error("archives lie {found} deep in each other there, deeper than the limit of {limit}")]
    Depth {
        /// How deep they lie.
        found: u64,
        /// How deep they may lie.
        limit: u64,
    },
    /// Unpacks to absurdly more than it is.
    #[error(
        "it unpacks to {found} times its size, more than the limit of {limit}, as if made to fill the disk"
    )]
    Ratio {
        /// Unpacked bytes for each packed byte.
        found: u64,
        /// How many there may be.
        limit: u64,
    },
}

impl LimitBroken {
    /// The limit that would do, as [`Limits::set`] reads it.
    pub fn that_would_do(&self) -> String {
        match self {
            Self::Files { found, .. } => format!("files={found}"),
            Self::Copies { found, .. } => format!("files={}", found.saturating_mul(Limits::FILES_A_COPY)),
            Self::Bytes { found, .. } => format!("bytes={found}"),
            Self::Depth { found, .. } => format!("depth={found}"),
            Self::Ratio { found, .. } => format!("ratio={found}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_read_and_kept() {
        let mut limits = Limits::default();
        limits.set("bytes=2K").unwrap();
        limits.set("files=3").unwrap();
        assert!(limits.set("bytes=many").is_err() && limits.set("height=3").is_err());
        assert!(limits.check(3, 2048, 1).is_ok());
        assert!(matches!(limits.check(4, 0, 1), Err(LimitBroken::Files { .. })));
        assert!(matches!(limits.check(1, 2049, 1), Err(LimitBroken::Bytes { .. })));
        let generous = Limits { most_ratio: 10, ..Limits::default() };
        assert!(matches!(generous.check(1, 100 << 20, 1 << 20), Err(LimitBroken::Ratio { found: 100, .. })));
        assert!(generous.check(1, 1 << 20, 1).is_ok(), "small files may pack well");
    }
}
