//! Hashing what goes by beside its being written.

use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};
use std::thread::JoinHandle;

use crate::hash::ContentHash;

/// What bytes are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Of {
    Old,
    New,
    Both,
}

/// Hashes of two streams that have most bytes in common. Big ones are hashed on a thread of their own, so that they cost no time
/// beside reading and writing.
pub(super) struct TwoHashes {
    of: Of,
    held: Vec<u8>,
    hashers: Option<Box<Hashers>>,
    beside: Option<Beside>,
}

/// A thread that hashes what it is sent, and gives the memory back.
struct Beside {
    sender: SyncSender<(Of, Vec<u8>)>,
    emptied: Receiver<Vec<u8>>,
    thread: JoinHandle<Box<Hashers>>,
}

#[derive(Default)]
struct Hashers {
    old: blake3::Hasher,
    new: blake3::Hasher,
}

/// How much is hashed at once, and how many such wait.
const HELD_BYTES: usize = 256 << 10;
const MOST_WAITING: usize = 8;

impl Hashers {
    fn update(&mut self, of: Of, bytes: &[u8]) {
        if of != Of::New {
            self.old.update(bytes);
        }
        if of != Of::Old {
            self.new.update(bytes);
        }
    }
}

impl TwoHashes {
    pub(super) fn new() -> Self {
        Self { of: Of::Both, held: Vec::new(), hashers: Some(Box::default()), beside: None }
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
        let of = self.of;
        if self.held.len() == HELD_BYTES
            && let Some(mut hashers) = self.hashers.take()
        {
            let (sender, waiting) = sync_channel::<(Of, Vec<u8>)>(MOST_WAITING);
            let (give_back, emptied) = channel();
            let thread = std::thread::spawn(move || {
                for (of, mut bytes) in waiting {
                    hashers.update(of, &bytes);
                    bytes.clear();
                    // Nobody may want it any more.
                    let _ = give_back.send(bytes);
                }
                hashers
            });
            self.beside = Some(Beside { sender, emptied, thread });
        }
        match (&mut self.hashers, &self.beside) {
            (Some(hashers), _) => {
                hashers.update(of, &self.held);
                self.held.clear();
            }
            (None, Some(Beside { sender, emptied, .. })) => {
                let empty = emptied.try_recv().unwrap_or_else(|_| Vec::with_capacity(HELD_BYTES));
                let full = std::mem::replace(&mut self.held, empty);
                // It ends only when this is dropped.
                let _ = sender.send((of, full));
            }
            (None, None) => {}
        }
    }

    /// The hashes of the old and the new stream.
    pub(super) fn finish(mut self) -> (ContentHash, ContentHash) {
        self.pass_on();
        let hashers = match (self.hashers.take(), self.beside.take()) {
            (Some(hashers), _) => hashers,
            (None, Some(Beside { sender, thread, .. })) => {
                drop(sender);
                thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            }
            (None, None) => Box::default(),
        };
        let of = |hasher: &blake3::Hasher| ContentHash::from_bytes(*hasher.finalize().as_bytes());
        (of(&hashers.old), of(&hashers.new))
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
            let (mut old, mut new, mut both) = (Vec::new(), Vec::new(), TwoHashes::new());
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
            prop_assert_eq!(both.finish(), (ContentHash::of(&old), ContentHash::of(&new)));
        }
    }
}
