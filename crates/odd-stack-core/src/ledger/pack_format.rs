//! The form of a pack: a file with many small contents, one after the other.
//!
//! It is a cpio archive in the portable ASCII form ("newc", as the Linux kernel's documentation of its early user space
//! describes it), so that any unpacker reads it. Each member's name is the hash of its content: a pack can be read without the
//! catalogue, and what is damaged in it can be told.

use std::io::{self, Read, Seek, SeekFrom};

use crate::hash::ContentHash;

const MAGIC: &[u8; 6] = b"070701";
const HEADER_BYTES: usize = 110;
/// A hash in hex, and the zero that ends it.
const NAME_BYTES: usize = 65;
const END: &str = "TRAILER!!!";
/// A regular file that its owner reads and writes.
const MODE: u32 = 0o100_600;

/// Bytes before a content: header, name and filling.
pub(super) const BEFORE_CONTENT_BYTES: usize = (HEADER_BYTES + NAME_BYTES).next_multiple_of(4);

/// A content in a pack.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Member {
    pub hash: ContentHash,
    /// Where its bytes begin.
    pub at: u64,
    pub size_bytes: u64,
}

/// Writes one content to the end of `pack`.
pub(super) fn append(pack: &mut Vec<u8>, hash: ContentHash, content: &[u8]) {
    header(pack, MODE, content.len(), blake3::Hash::from_bytes(*hash.as_bytes()).to_hex().as_str());
    pack.extend_from_slice(content);
    pack.resize(pack.len().next_multiple_of(4), 0);
}

/// What ends a pack.
pub(super) fn end(pack: &mut Vec<u8>) {
    header(pack, 0, 0, END);
}

/// What a content of that size takes in a pack.
pub(super) fn size_in_pack(size_bytes: u64) -> u64 {
    BEFORE_CONTENT_BYTES as u64 + size_bytes.next_multiple_of(4)
}

/// Contents lie on multiples of four, seen from the beginning of the pack: all that was written before does.
fn header(pack: &mut Vec<u8>, mode: u32, size_bytes: usize, name: &str) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    // Number, mode, user, group, links, time, size, devices, length of the name, sum: eight digits each.
    let fields = [0, mode as usize, 0, 0, 1, 0, size_bytes, 0, 0, 0, 0, name.len() + 1, 0];
    pack.extend_from_slice(MAGIC);
    for field in fields {
        pack.extend((0..8).rev().map(|digit| DIGITS[field >> (4 * digit) & 0xf]));
    }
    pack.extend_from_slice(name.as_bytes());
    let length = (HEADER_BYTES + name.len() + 1).next_multiple_of(4) - HEADER_BYTES - name.len();
    pack.resize(pack.len() + length, 0);
}

/// All contents that a pack says it has, without reading them. What is damaged is passed over, and the end may be missing.
///
/// # Errors
/// The reader's.
pub(super) fn members<R: Read + Seek>(pack: &mut R) -> io::Result<Vec<Member>> {
    let length = pack.seek(SeekFrom::End(0))?;
    let (mut members, mut at) = (Vec::new(), 0);
    let mut head = [0; BEFORE_CONTENT_BYTES];
    while at + BEFORE_CONTENT_BYTES as u64 <= length {
        pack.seek(SeekFrom::Start(at))?;
        pack.read_exact(&mut head)?;
        let found = parse(&head).map(|(hash, size_bytes)| {
            let at = at + BEFORE_CONTENT_BYTES as u64;
            Member { hash, at, size_bytes }
        });
        at = match found.filter(|member| member.at + member.size_bytes <= length) {
            Some(member) => {
                members.push(member);
                member.at + member.size_bytes.next_multiple_of(4)
            }
            None => at + 4,
        };
    }
    Ok(members)
}

fn parse(head: &[u8; BEFORE_CONTENT_BYTES]) -> Option<(ContentHash, u64)> {
    let field = |number: usize| {
        let start = MAGIC.len() + number * 8;
        u64::from_str_radix(std::str::from_utf8(&head[start..start + 8]).ok()?, 16).ok()
    };
    let is_content = head.starts_with(MAGIC) && field(11)? == NAME_BYTES as u64;
    let name = &head[HEADER_BYTES..HEADER_BYTES + NAME_BYTES - 1];
    let hash = is_content.then(|| blake3::Hash::from_hex(name).ok())??;
    Some((ContentHash::from_bytes(*hash.as_bytes()), field(6)?))
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
        #[test]
        fn what_is_appended_is_found_and_damage_hides_no_more_than_it_hits(
            contents in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..300), 1..8),
            hit in any::<prop::sample::Index>(), cut in any::<prop::sample::Index>(), ends in any::<bool>(),
        ) {
            let mut pack = Vec::new();
            let mut places = Vec::new();
            for content in &contents {
                let start = pack.len();
                append(&mut pack, ContentHash::of(content), content);
                prop_assert_eq!((pack.len() - start) as u64, size_in_pack(content.len() as u64));
                places.push(start);
            }
            let whole = pack.len();
            if ends {
                end(&mut pack);
            }
            let found = members(&mut Cursor::new(&pack)).unwrap();
            prop_assert_eq!(found.len(), contents.len());
            for (member, content) in found.iter().zip(&contents) {
                let at = member.at as usize;
                prop_assert_eq!(&pack[at..at + member.size_bytes as usize], content);
                prop_assert_eq!(member.hash, ContentHash::of(content));
            }
            // A header that is hit hides its own content alone.
            let victim = hit.index(contents.len());
            let mut damaged = pack.clone();
            damaged[places[victim]..places[victim] + HEADER_BYTES].fill(b'x');
            let mut left = found.clone();
            left.remove(victim);
            let seen = members(&mut Cursor::new(&damaged)).unwrap();
            prop_assert!(left.iter().all(|member| seen.contains(member)));
            // What is cut off hides what it cuts.
            let length = cut.index(whole + 1);
            let seen = members(&mut Cursor::new(&pack[..length])).unwrap();
            prop_assert!(seen.iter().all(|member| found.contains(member)));
            let before = found.iter().filter(|member| member.at + member.size_bytes <= length as u64);
            prop_assert_eq!(before.count(), seen.len());
        }
    }

    #[test]
    fn other_unpackers_read_it() {
        let mut pack = Vec::new();
        for content in ["", "one", "a longer one\n"] {
            append(&mut pack, ContentHash::of(content.as_bytes()), content.as_bytes());
        }
        end(&mut pack);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("pack");
        std::fs::write(&path, &pack).unwrap();
        // Where there is one.
        let Ok(listed) = std::process::Command::new("bsdtar").arg("-tf").arg(&path).output() else { return };
        let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
        let expected = ["", "one", "a longer one\n"].map(|content| ContentHash::of(content.as_bytes()));
        assert_eq!(listed.lines().collect::<Vec<_>>(), expected.map(|hash| hash.to_string()));
    }
}
