//! What a file is, told by its first bytes and never by its name.
//!
//! Sources: PKWARE APPNOTE 4.3 (zip), 7zFormat.txt of the LZMA SDK (7z), the RAR 5.0 technote (rar),
//! RFC 1952 (gzip), RFC 8878 (zstd), the .xz file format 1.2, POSIX.1 pax (tar).

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::archive_file::ArchiveFile;

/// How many of the first bytes tell.
pub(super) const HEAD_BYTES: usize = 512;

/// How a stream is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    Plain,
    /// RFC 1952.
    Gzip,
    /// bzip2.
    Bzip2,
    /// .xz
    Xz,
    /// RFC 8878.
    Zstd,
}

/// What a package was read from. JSON has its word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(into = "&'static str")]
#[cfg_attr(feature = "schema", schemars(with = "String"))]
pub enum PackageKind {
    /// A loose folder.
    Folder,
    /// A zip archive.
    Zip,
    /// A 7z archive.
    SevenZ,
    /// A rar archive, of version 4 or 5.
    Rar,
    /// A tar archive.
    Tar(Packing),
}

impl From<PackageKind> for &'static str {
    fn from(kind: PackageKind) -> Self {
        kind.word()
    }
}

impl std::fmt::Display for PackageKind {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str(self.word())
    }
}

impl PackageKind {
    /// The word shown and stored for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Zip => "zip",
            Self::SevenZ => "7z",
            Self::Rar => "rar",
            Self::Tar(Packing::Plain) => "tar",
            Self::Tar(Packing::Gzip) => "tar.gz",
            Self::Tar(Packing::Bzip2) => "tar.bz2",
            Self::Tar(Packing::Xz) => "tar.xz",
            Self::Tar(Packing::Zstd) => "tar.zst",
        }
    }
}

/// Tells the kind of archive by its first bytes; for what is none, what it is instead.
pub(super) fn kind_of(file: &ArchiveFile) -> std::io::Result<Result<PackageKind, &'static str>> {
    let mut head = [0; HEAD_BYTES];
    let count = file.read_up_to(0, &mut head)?;
    Ok(kind_of_head(&head[..count]))
}

/// The kind that the first bytes of a file tell. Whether a packed stream holds a tar shows only when
/// it is unpacked.
pub(super) fn kind_of_head(head: &[u8]) -> Result<PackageKind, &'static str> {
    let begins = |bytes: &[u8]| head.starts_with(bytes);
    if begins(b"PK\x03\x04") || begins(b"PK\x05\x06") || begins(b"PK\x07\x08") || begins(b"PK00PK") {
        Ok(PackageKind::Zip)
    } else if begins(b"7z\xbc\xaf\x27\x1c") {
        Ok(PackageKind::SevenZ)
    } else if begins(b"Rar!\x1a\x07") {
        Ok(PackageKind::Rar)
    } else if let Some(packing) = packing_of(head) {
        Ok(PackageKind::Tar(packing))
    } else if is_tar_header(head) {
        Ok(PackageKind::Tar(Packing::Plain))
    } else {
        Err(other(head))
    }
}

fn packing_of(head: &[u8]) -> Option<Packing> {
    match head {
        [0x1f, 0x8b, 8, ..] => Some(Packing::Gzip),
        [b'B', b'Z', b'h', b'1'..=b'9', ..] => Some(Packing::Bzip2),
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Some(Packing::Xz),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Packing::Zstd),
        // A frame to be skipped, with which parallel packers begin.
        [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..] => Some(Packing::Zstd),
        _ => None,
    }
}

/// Whether `head` is a tar header, or the zeros that end an empty tar archive.
pub(super) fn is_tar_header(head: &[u8]) -> bool {
    let Some(header) = head.get(..512) else { return false };
    if header.iter().all(|byte| *byte == 0) {
        return true;
    }
    let stored = &header[148..156];
    let digits: &[u8] =
        stored.trim_ascii().split(|byte| *byte == 0 || *byte == b' ').next().unwrap_or_default();
    let Some(stored) = std::str::from_utf8(digits).ok().and_then(|text| u32::from_str_radix(text, 8).ok())
    else {
        return false;
    };
    let sum = |bytes: &[u8]| bytes.iter().map(|byte| u32::from(*byte)).sum::<u32>();
    stored == sum(&header[..148]) + sum(&header[156..]) + 8 * u32::from(b' ')
}

fn other(head: &[u8]) -> &'static str {
    match head {
        [] => "an empty file",
        [b'M', b'Z', ..] | [0x7f, b'E', b'L', b'F', ..] => "a program",
        [b'I', b'S', b'c', b'(', ..] | [b'M', b'S', b'C', b'F', ..] => "a cabinet of an installer",
        [0x04, 0x22, 0x4d, 0x18, ..] => "packed with lz4",
        [b'L', b'Z', b'I', b'P', ..] => "packed with lzip",
        [0x1f, 0x9d, ..] => "packed with compress",
        [b'<', ..] => "a page or another text, perhaps saved in place of the download",
        _ if head.iter().all(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace()) => "a text",
        _ => "something else",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn told_by_content() {
        assert_eq!(kind_of_head(b"PK\x03\x04...."), Ok(PackageKind::Zip));
        assert_eq!(kind_of_head(b"7z\xbc\xaf\x27\x1c\0\x04"), Ok(PackageKind::SevenZ));
        assert_eq!(kind_of_head(b"Rar!\x1a\x07\x01\0"), Ok(PackageKind::Rar));
        assert_eq!(kind_of_head(&[0x1f, 0x8b, 8, 0]), Ok(PackageKind::Tar(Packing::Gzip)));
        assert_eq!(kind_of_head(&[0; 512]), Ok(PackageKind::Tar(Packing::Plain)));
        let mut header = tar::Header::new_ustar();
        header.set_path("a").unwrap();
        header.set_cksum();
        assert_eq!(kind_of_head(header.as_bytes()), Ok(PackageKind::Tar(Packing::Plain)));
        let mut damaged = *header.as_bytes();
        damaged[0] ^= 1;
        assert!(kind_of_head(&damaged).is_err());
        assert_eq!(kind_of_head(b"MZ\x90\0"), Err("a program"));
        assert_eq!(kind_of_head(b""), Err("an empty file"));
        assert_eq!(
            kind_of_head(b"<!DOCTYPE html>"),
            Err("a page or another text, perhaps saved in place of the download")
        );
    }
}
