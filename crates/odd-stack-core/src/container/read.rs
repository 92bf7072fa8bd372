//! The contents of members.

use std::io::{self, Read, Seek, SeekFrom};

use flate2::read::DeflateDecoder;
use zip::ZipArchive;

use super::directory::{Directory, Packed};
use super::records::{LOCAL, LOCAL_BYTES, u16_at};

/// Opens a member's content. It ends with an error where the content is not what the directory says.
///
/// # Errors
/// What can't be read, or is packed in a way that is not known, or is under a password.
pub(crate) fn open_member<'f, F: Read + Seek + 'f>(
    mut file: F,
    directory: &Directory,
    member: &Packed,
) -> io::Result<Box<dyn Read + 'f>> {
    if member.is_encrypted() {
        return Err(io::Error::new(io::ErrorKind::Unsupported, "it is under a password"));
    }
    let checked = |content: Box<dyn Read + 'f>| -> Box<dyn Read + 'f> {
        Box::new(Checked {
            content: content.take(member.size_bytes.saturating_add(1)),
            checksum: crc32fast::Hasher::new(),
            left_bytes: member.size_bytes,
            expected: member.checksum,
        })
    };
    match member.method {
        0 | 8 => {
            let start = data_at(&mut file, member)?;
            file.seek(SeekFrom::Start(start))?;
            let packed = file.take(member.packed_bytes);
            Ok(match member.method {
                0 => checked(Box::new(packed)),
                _ => checked(Box::new(DeflateDecoder::new(packed))),
            })
        }
        _ => {
            let at = directory.members.iter().position(|other| other == member).unwrap_or(0);
            let mut archive = ZipArchive::new(file).map_err(io::Error::other)?;
            let mut content = archive.by_index(at).map_err(io::Error::other)?;
            // A member borrows its archive. Such ways of packing are rare, and of small files.
            let mut whole = Vec::new();
            content.by_ref().take(MOST_HELD_BYTES + 1).read_to_end(&mut whole)?;
            if whole.len() as u64 > MOST_HELD_BYTES {
                return Err(io::Error::new(io::ErrorKind::Unsupported, "it is too big for how it is packed"));
            }
            Ok(checked(Box::new(io::Cursor::new(whole))))
        }
    }
}

/// The most that is held of a member that is neither stored nor deflated.
const MOST_HELD_BYTES: u64 = 64 << 20;

/// Where a member's packed content begins, by its local header.
pub(super) fn data_at(file: &mut (impl Read + Seek), member: &Packed) -> io::Result<u64> {
    let mut header = [0; LOCAL_BYTES];
    file.seek(SeekFrom::Start(member.header_at))?;
    file.read_exact(&mut header)?;
    if !header.starts_with(&LOCAL) {
        let reason = format!("the member {} does not lie where the directory says", member.path);
        return Err(io::Error::new(io::ErrorKind::InvalidData, reason));
    }
    let beyond = [26, 28].into_iter().filter_map(|at| u16_at(&header, at)).map(u64::from).sum::<u64>();
    Ok(member.header_at + LOCAL_BYTES as u64 + beyond)
}

/// Compares what is read with the size and the checksum that the directory has.
struct Checked<'f> {
    content: io::Take<Box<dyn Read + 'f>>,
    checksum: crc32fast::Hasher,
    left_bytes: u64,
    expected: u32,
}

impl Read for Checked<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.content.read(buffer)?;
        let wrong = |reason: &str| Err(io::Error::new(io::ErrorKind::InvalidData, reason.to_owned()));
        if read as u64 > self.left_bytes {
            return wrong("it is longer than it says");
        }
        self.left_bytes -= read as u64;
        self.checksum.update(&buffer[..read]);
        if read == 0 && !buffer.is_empty() {
            if self.left_bytes > 0 {
                return wrong("it is shorter than it says");
            }
            if self.checksum.clone().finalize() != self.expected {
                return wrong("its checksum is wrong");
            }
        }
        Ok(read)
    }
}
