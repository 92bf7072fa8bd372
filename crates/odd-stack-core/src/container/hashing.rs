//! Hashing what goes by beside its being written.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

use crate::hash::ContentHash;

/// What bytes are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Of {
    Old,
    New,
    Both,
}

/// Hashes of two streams that have most bytes in common. Big ones are hashed on a thread for each, so that they cost little
/// time beside reading and writing.
pub(super) struct TwoHashes {
    of: Of,
    held: Vec<u8>,
    /// None where nobody asks for it.
    old: Option<OneHash>,
    new: OneHash,
    /// What was passed on to threads, to be used again.
    passed: VecDeque<Arc<Vec<u8>>>,
}

/// A hash that is made here, until its stream turns out to be big.
enum OneHash {
    Here(Box<blake3::Hasher>),
    Beside { sender: SyncSender<Arc<Vec<u8>>>, thread: JoinHandle<Box<blake3::Hasher>> },
}

/// How much is hashed at once, and how many such wait.
const HELD_BYTES: usize = 256 << 10;
const MOST_WAITING: usize = 8;

impl OneHash {
    fn new() -> Self {
        Self::Here(Box::default())
    }

    fn take(&mut self, bytes: &Arc<Vec<u8>>) {
        if let (Self::Here(hasher), true) = (&mut *self, bytes.len() == HELD_BYTES) {
            let mut hasher = std::mem::take(hasher);
            let (sender, waiting) = sync_channel::<Arc<Vec<u8>>>(MOST_WAITING);
            let thread = std::thread::spawn(move || {
                for bytes in waiting {
                    hasher.update(&bytes);
                }
                hasher
            });
            *self = Self::Beside { sender, thread };
        }
        match self {
            Self::Here(hasher) => drop(hasher.update(bytes)),
            // It ends only when this is dropped.
            Self::Beside { sender, .. } => drop(sender.send(Arc::clone(bytes))),
        }
    }

    fn finish(self) -> ContentHash {
        let hasher = match self {
            Self::Here(hasher) => hasher,
            Self::Beside { sender, thread } => {
                drop(sender);
                thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            }
        };
        ContentHash::from_bytes(*hasher.finalize().as_bytes())
    }
}

impl TwoHashes {
    /// The old stream is hashed only where that is wanted.
    pub(super) fn new(with_old: bool) -> Self {
        let (old, new) = (with_old.then(OneHash::new), OneHash::new());
        Self { of: Of::Both, held: Vec::new(), old, new, passed: VecDeque::new() }
    }

    pub(super) fn update(&mut self, of: Of, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            if of != self.of || self.held.len() == HELD_BYTES {
                self.pass_on();
                self.of = of;
            }
            let (now, later) = bytes.split_at(bytes.len().min(HELD_BYTES - self.held.len()));
            self.held.extend_from_slice(now);
            bytes = later;
        }
    }

    fn pass_on(&mut self) {
        if self.held.is_empty() {
            return;
        }
        let full = Arc::new(std::mem::take(&mut self.held));
        if let (Some(old), true) = (&mut self.old, self.of != Of::New) {
            old.take(&full);
        }
        if self.of != Of::Old {
            self.new.take(&full);
        }
        self.passed.push_back(full);
        let emptied = self.passed.front_mut().and_then(Arc::get_mut).map(std::mem::take);
        self.held = match emptied {
            Some(mut emptied) => {
                self.passed.pop_front();
                emptied.clear();
                emptied
            }
            None => Vec::with_capacity(HELD_BYTES),
        };
    }

    /// The hashes of the old stream, if it is wanted, and of the new one.
    pub(super) fn finish(mut self) -> (Option<ContentHash>, ContentHash) {
        self.pass_on();
        (self.old.map(OneHash::finish), self.new.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn two_streams_hash_as_each_alone(pieces in proptest::collection::vec((0..3u8, 0..700_000usize), 0..6)) {
            let (mut old, mut new, mut both) = (Vec::new(), Vec::new(), TwoHashes::new(true));
            for (number, (of, length)) in pieces.iter().enumerate() {
                let bytes = vec![number as u8; *length];
                let of = [Of::Old, Of::New, Of::Both][usize::from(*of)];
                if of != Of::New {
                    old.extend_from_slice(&bytes);
                }
                if of != Of::Old {
                    new.extend_from_slice(&bytes);
                }
                both.update(of, &bytes);
            }
            prop_assert_eq!(both.finish(), (Some(ContentHash::of(&old)), ContentHash::of(&new)));
        }
    }
}
