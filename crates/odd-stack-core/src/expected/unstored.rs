//! Contents that a dry run has read and does not store.

use std::collections::HashMap;
use std::fs::File;
use std::io::Write;
use std::sync::{Mutex, PoisonError};

use crate::files::read_exact_at;
use crate::hash::ContentHash;

/// So much is held in memory; what comes then lies in a temporary file without a name.
const MOST_HELD_BYTES: usize = 8 << 20;
/// So much lies in the file.
const MOST_WRITTEN_BYTES: u64 = 4 << 30;

/// Small contents that serve to say what would become of them, for all threads.
#[derive(Debug, Default)]
pub(crate) struct Unstored(Mutex<Kept>);

#[derive(Debug, Default)]
struct Kept {
    places: HashMap<ContentHash, At>,
    held_bytes: usize,
    file: Option<(File, u64)>,
}

#[derive(Debug)]
enum At {
    Held(Vec<u8>),
    Written { at: u64, size_bytes: usize },
}

impl Unstored {
    /// Keeps a content, if there is a place for it.
    pub(crate) fn keep(&self, hash: ContentHash, content: Vec<u8>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.places.contains_key(&hash) {
            return;
        }
        let at = if kept.held_bytes + content.len() <= MOST_HELD_BYTES {
            kept.held_bytes += content.len();
            At::Held(content)
        } else {
            // What finds no place is as what was not read.
            let Some(at) = kept.write(&content) else { return };
            At::Written { at, size_bytes: content.len() }
        };
        kept.places.insert(hash, at);
    }

    /// The first `most_bytes` of a content that was kept.
    pub(crate) fn get(&self, hash: ContentHash, most_bytes: usize) -> Option<Vec<u8>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match kept.places.get(&hash)? {
            At::Held(content) => Some(content[..content.len().min(most_bytes)].to_vec()),
            At::Written { at, size_bytes } => {
                let mut content = vec![0; *size_bytes.min(&most_bytes)];
                let (file, _) = kept.file.as_ref()?;
                read_exact_at(file, &mut content, *at).ok()?;
                Some(content)
            }
        }
    }
}

impl Kept {
    fn write(&mut self, content: &[u8]) -> Option<u64> {
        if self.file.is_none() {
            self.file = Some((tempfile::tempfile().ok()?, 0));
        }
        let (file, length) = self.file.as_mut()?;
        let at = *length;
        if at + content.len() as u64 > MOST_WRITTEN_BYTES || file.write_all(content).is_err() {
            return None;
        }
        *length += content.len() as u64;
        Some(at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_back_wherever_it_lies() {
        let unstored = Unstored::default();
        let contents: Vec<Vec<u8>> =
            (0..12u8).map(|number| vec![number; (1 << 20) + usize::from(number)]).collect();
        let hashes: Vec<ContentHash> = contents.iter().map(|content| ContentHash::of(content)).collect();
        for _ in 0..2 {
            for (hash, content) in hashes.iter().zip(&contents) {
                unstored.keep(*hash, content.clone());
            }
        }
        for (hash, content) in hashes.iter().zip(&contents) {
            assert_eq!(unstored.get(*hash, usize::MAX).as_ref(), Some(content));
            assert_eq!(unstored.get(*hash, 5).unwrap(), &content[..5]);
        }
        assert_eq!(unstored.get(ContentHash::of(b"another"), 5), None);
        let kept = unstored.0.lock().unwrap();
        assert!(kept.held_bytes <= MOST_HELD_BYTES && kept.file.as_ref().unwrap().1 < 6 << 20);
    }
}
