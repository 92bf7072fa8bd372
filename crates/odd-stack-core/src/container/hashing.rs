//! Hashing what goes by beside its being written.
//!
//! BLAKE3 is a tree over blocks of its input, each hashed with its place (section 2.1 of its paper). What two streams have at the
//! same place is therefore hashed once for both.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

use blake3::hazmat::{ChainingValue, HasherExt, Mode, merge_subtrees_non_root, merge_subtrees_root};

use crate::hash::ContentHash;

/// What bytes are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Of {
    Old,
    New,
    Both,
}

/// How much is hashed at once: a subtree of 2^8 chunks.
pub(super) const GROUP_BYTES: u64 = 256 << 10;
/// How many such wait for each thread.
const MOST_WAITING: usize = 8;

/// The hashes of a content's groups, of which its own follows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Tree(Vec<ChainingValue>);

impl Tree {
    /// As it is kept: one hash after the other.
    pub(crate) fn to_bytes(&self) -> Vec<u8> {
        self.0.concat()
    }

    /// What [`Tree::to_bytes`] gave, if it is that of the content with this hash.
    pub(crate) fn of(hash: ContentHash, bytes: &[u8]) -> Option<Self> {
        let tree = Self(bytes.as_chunks().0.to_vec());
        (tree.0.len() > 1 && tree.root() == hash).then_some(tree)
    }

    fn root(&self) -> ContentHash {
        let (left, right) = halves(&self.0);
        ContentHash::from_bytes(*merge_subtrees_root(&joined(left), &joined(right), Mode::Hash).as_bytes())
    }
}

/// What came of hashing two streams.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Hashes {
    pub old: Option<ContentHash>,
    /// Where the old one has more than one group.
    pub old_tree: Option<Tree>,
    pub new: ContentHash,
}

/// Hashes of two streams that have most bytes in common.
pub(super) struct TwoHashes {
    /// How much went by of each.
    old_at: u64,
    new_at: u64,
    with_old: bool,
    hashing: Hashing,
    /// Whose turn it is to hash what is the same in both.
    is_first: bool,
    nothing: Arc<Vec<u8>>,
}

/// Two that hash, each a stream of its own and a part of what is the same in both.
enum Hashing {
    Here(Box<[Hasher; 2]>),
    Beside([(SyncSender<Task>, JoinHandle<Hasher>); 2]),
}

/// What to hash.
struct Task {
    bytes: Arc<Vec<u8>>,
    how: How,
}

#[derive(Clone, Copy)]
enum How {
    /// What comes next in one's own stream.
    Next,
    /// The group of that number in both streams; one's own stream goes on after it.
    Shared(u64),
    /// The next group, whose hash is known.
    Known(ChainingValue),
    /// The other one hashes it.
    Skip,
}

/// Hashes one stream, except for what is given as shared.
#[derive(Default)]
struct Hasher {
    at: u64,
    group: blake3::Hasher,
    groups: HashMap<u64, ChainingValue>,
    shared: HashMap<u64, ChainingValue>,
}

impl Hasher {
    fn take(&mut self, Task { bytes, how }: &Task) {
        match how {
            How::Next => self.update(bytes),
            How::Skip => self.skip(),
            How::Known(group) => {
                self.skip();
                self.groups.insert(self.at / GROUP_BYTES - 1, *group);
            }
            How::Shared(number) => {
                self.skip();
                let mut group = blake3::Hasher::new();
                group.set_input_offset(number * GROUP_BYTES).update(bytes);
                self.shared.insert(*number, group.finalize_non_root());
            }
        }
    }

    fn update(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            self.close_full();
            let room = GROUP_BYTES - self.at % GROUP_BYTES;
            let (now, later) = bytes.split_at(usize::try_from(room).unwrap_or(usize::MAX).min(bytes.len()));
            self.group.update(now);
            self.at += now.len() as u64;
            bytes = later;
        }
    }

    fn skip(&mut self) {
        self.close_full();
        self.at += GROUP_BYTES;
        self.group = blake3::Hasher::new();
        self.group.set_input_offset(self.at);
    }

    /// A full group is closed as soon as it is known that it is not the last.
    fn close_full(&mut self) {
        if self.group.count() == GROUP_BYTES {
            self.close();
        }
    }

    fn close(&mut self) {
        let mut next = blake3::Hasher::new();
        next.set_input_offset(self.at.next_multiple_of(GROUP_BYTES));
        let group = std::mem::replace(&mut self.group, next);
        self.groups.insert((self.at - 1) / GROUP_BYTES, group.finalize_non_root());
    }

    /// The hash of the whole stream, and how it came about where it has more than one group.
    fn finish(mut self, shared: &HashMap<u64, ChainingValue>) -> (ContentHash, Option<Tree>) {
        if self.at <= GROUP_BYTES {
            return (ContentHash::from_bytes(*self.group.finalize().as_bytes()), None);
        }
        if self.group.count() > 0 {
            self.close();
        }
        let all = 0..self.at.div_ceil(GROUP_BYTES);
        let known = |number: u64| self.groups.get(&number).or_else(|| shared.get(&number));
        let tree = Tree(all.map(|number| known(number).copied().unwrap_or_default()).collect());
        (tree.root(), Some(tree))
    }
}

/// The groups below a node of the tree, by the node below which they are.
fn halves(groups: &[ChainingValue]) -> (&[ChainingValue], &[ChainingValue]) {
    groups.split_at(groups.len().next_power_of_two() / 2)
}

fn joined(groups: &[ChainingValue]) -> ChainingValue {
    if let [one] = groups {
        return *one;
    }
    let (left, right) = halves(groups);
    merge_subtrees_non_root(&joined(left), &joined(right), Mode::Hash)
}

impl Hashing {
    /// From now on each does its part on a thread of its own.
    fn go_beside(&mut self) {
        if let Self::Here(hashers) = self {
            *self = Self::Beside(std::mem::take(&mut **hashers).map(beside));
        }
    }

    /// Has each do its part with the bytes.
    fn take(&mut self, bytes: &Arc<Vec<u8>>, hows: [Option<How>; 2]) {
        for (at, how) in hows.into_iter().enumerate() {
            let Some(how) = how else { continue };
            let task = Task { bytes: Arc::clone(bytes), how };
            match self {
                Self::Here(hashers) => hashers[at].take(&task),
                // It ends only when this is dropped.
                Self::Beside(threads) => drop(threads[at].0.send(task)),
            }
        }
    }

    fn finish(self) -> [Hasher; 2] {
        match self {
            Self::Here(hashers) => *hashers,
            Self::Beside(threads) => threads.map(|(sender, thread)| {
                drop(sender);
                thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            }),
        }
    }
}

fn beside(mut hasher: Hasher) -> (SyncSender<Task>, JoinHandle<Hasher>) {
    let (sender, waiting) = sync_channel::<Task>(MOST_WAITING);
    let thread = std::thread::spawn(move || {
        for task in waiting {
            hasher.take(&task);
        }
        hasher
    });
    (sender, thread)
}

impl TwoHashes {
    /// The old stream is hashed only where that is wanted.
    pub(super) fn new(with_old: bool) -> Self {
        let (hashing, nothing) = (Hashing::Here(Box::default()), Arc::default());
        Self { old_at: 0, new_at: 0, with_old, hashing, is_first: false, nothing }
    }

    /// How many bytes [`TwoHashes::take`] takes best next.
    pub(super) fn next_bytes(&self, of: Of) -> usize {
        let at = if of == Of::Old { self.old_at } else { self.new_at };
        usize::try_from(GROUP_BYTES - at % GROUP_BYTES).unwrap_or(usize::MAX)
    }

    /// The group that begins here in the new stream is as it is in a content of that tree; says how long it is. Nothing if none
    /// begins, or it is not one of several full ones.
    pub(super) fn pass_known(&mut self, tree: &Tree) -> Option<u64> {
        let number = self.new_at / GROUP_BYTES;
        // The first group alone may be all there is, the last one shorter.
        if number == 0 || !self.new_at.is_multiple_of(GROUP_BYTES) || number as usize + 1 >= tree.0.len() {
            return None;
        }
        let known = How::Known(tree.0[number as usize]);
        self.hashing.take(&self.nothing, [None, Some(known)]);
        self.new_at += GROUP_BYTES;
        Some(GROUP_BYTES)
    }

    /// Takes what comes next.
    pub(super) fn take(&mut self, of: Of, block: &Arc<Vec<u8>>) {
        let bytes = block.len() as u64;
        // The first group alone may be all there is of a stream.
        let is_shared = of == Of::Both
            && (self.old_at == self.new_at || !self.with_old)
            && self.new_at > 0
            && self.new_at.is_multiple_of(GROUP_BYTES)
            && bytes == GROUP_BYTES;
        let hows = if is_shared {
            self.is_first = !self.is_first;
            let shared = How::Shared(self.new_at / GROUP_BYTES);
            if self.is_first { [shared, How::Skip] } else { [How::Skip, shared] }.map(Some)
        } else {
            let is_old = of != Of::New && self.with_old;
            [is_old.then_some(How::Next), (of != Of::Old).then_some(How::Next)]
        };
        // One hash is made here, beside whoever writes. What both must hash is worth threads, unless it is only the beginning.
        if of == Of::Both && self.with_old && !is_shared && self.new_at > 0 && bytes == GROUP_BYTES {
            self.hashing.go_beside();
        }
        self.hashing.take(block, hows);
        self.old_at += if of == Of::New { 0 } else { bytes };
        self.new_at += if of == Of::Old { 0 } else { bytes };
    }

    /// The hashes of the old stream, if it is wanted, and of the new one; and the old one's tree.
    pub(super) fn finish(self) -> Hashes {
        let mut hashers = self.hashing.finish();
        let mut shared = std::mem::take(&mut hashers[0].shared);
        shared.extend(std::mem::take(&mut hashers[1].shared));
        let [old, new] = hashers;
        let new = new.finish(&shared).0;
        match self.with_old.then(|| old.finish(&shared)) {
            Some((old, old_tree)) => Hashes { old: Some(old), old_tree, new },
            None => Hashes { old: None, old_tree: None, new },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn two_streams_hash_as_each_alone(
            pieces in proptest::collection::vec((0..5u8, 0..900_000usize), 0..8), with_old in any::<bool>(),
        ) {
            let (mut old, mut new, mut both) = (Vec::new(), Vec::new(), TwoHashes::new(with_old));
            for (number, (of, length)) in pieces.iter().enumerate() {
                // Most is the same, or another content of the same length.
                let parts = match of {
                    0 => vec![(Of::Old, 0)],
                    1 => vec![(Of::New, 0)],
                    2 => vec![(Of::New, 1), (Of::Old, 2)],
                    _ => vec![(Of::Both, 0)],
                };
                for (of, salt) in parts {
                    let bytes: Vec<u8> = (0..*length).map(|at| (at / 1000 + number * 7 + salt) as u8).collect();
                    if of != Of::New && (with_old || of == Of::Both) {
                        old.extend_from_slice(&bytes);
                    }
                    if of != Of::Old {
                        new.extend_from_slice(&bytes);
                    }
                    let mut left = if of != Of::Old || with_old { &bytes[..] } else { &[] };
                    while !left.is_empty() {
                        let (now, later) = left.split_at(both.next_bytes(of).min(left.len()));
                        both.take(of, &Arc::new(now.to_vec()));
                        left = later;
                    }
                }
            }
            let hashes = both.finish();
            let expected = (with_old.then(|| ContentHash::of(&old)), ContentHash::of(&new));
            prop_assert_eq!((hashes.old, hashes.new), expected);
            if let Some(tree) = hashes.old_tree {
                let bytes = tree.to_bytes();
                prop_assert_eq!(Tree::of(ContentHash::of(&old), &bytes), Some(tree));
                prop_assert_eq!(Tree::of(ContentHash::of(&new), &bytes).is_some(), old == new);
            }
        }
    }
}
