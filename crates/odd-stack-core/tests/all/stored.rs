//! What a ledger stores, read from its files alone: big contents have files of their own, small ones lie in cpio archives.

use std::fs;
use std::path::{Path, PathBuf};

/// One stored content.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct StoredContent {
    /// In hex, by its name.
    pub hash: String,
    pub path: PathBuf,
    pub at: usize,
    pub size_bytes: usize,
}

impl StoredContent {
    pub fn bytes(&self) -> Vec<u8> {
        fs::read(&self.path).unwrap()[self.at..self.at + self.size_bytes].to_vec()
    }

    /// Writes other bytes in its place, as many or fewer.
    pub fn damage(&self, other: &[u8]) {
        let mut file = fs::read(&self.path).unwrap();
        file[self.at..self.at + other.len()].copy_from_slice(other);
        fs::write(&self.path, file).unwrap();
    }
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { files_below(&path) } else { vec![path] }).collect()
}

/// All that is stored, also what nobody needs any more.
pub fn stored(ledger: &Path) -> Vec<StoredContent> {
    let mut found = Vec::new();
    for path in files_below(&ledger.join("blobs")) {
        let name = |path: &Path| path.file_name().unwrap().to_string_lossy().into_owned();
        let hash = format!("{}{}", name(path.parent().unwrap()), name(&path));
        let size_bytes = fs::metadata(&path).unwrap().len() as usize;
        found.push(StoredContent { hash, path, at: 0, size_bytes });
    }
    for path in files_below(&ledger.join("packs")) {
        let pack = fs::read(&path).unwrap();
        let mut at = 0;
        while pack[at..].starts_with(b"070701") {
            let field = |number: usize| {
                let text = std::str::from_utf8(&pack[at + 6 + number * 8..at + 14 + number * 8]).unwrap();
                usize::from_str_radix(text, 16).unwrap()
            };
            let (size_bytes, name_bytes) = (field(6), field(11));
            let name = String::from_utf8_lossy(&pack[at + 110..at + 109 + name_bytes]).into_owned();
            let start = (at + 110 + name_bytes).next_multiple_of(4);
            if name == "TRAILER!!!" {
                assert_eq!(start, pack.len(), "the end of {}", path.display());
                break;
            }
            found.push(StoredContent { hash: name, path: path.clone(), at: start, size_bytes });
            at = (start + size_bytes).next_multiple_of(4);
        }
    }
    found.sort();
    found
}

/// The stored content that is `content`.
pub fn stored_as(ledger: &Path, content: &str) -> StoredContent {
    let mut found = stored(ledger);
    found.retain(|stored| stored.bytes() == content.as_bytes());
    assert_eq!(found.len(), 1, "{content}");
    found.remove(0)
}
