//! Making a container whose members layers change, of the file that it is made from and the layers' contents.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use super::Blender;
use super::containers::{Opened, PackedAt};
use crate::address::{Folding, INTO, RelPath};
use crate::container::{Change, Contents, NotContainer, Old, Tree, lay_out, rebuild};
use crate::files::{Block, HashingReader, Seen, open_regular};
use crate::hash::ContentHash;
use crate::ledger::{LedgerError, Stored, StoredBytes};
use crate::package::ArchiveFile;
use crate::stack::{Column, Composition, Entry, EntryKind, LayerId, Order, Provider};

/// Why a container can't be made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum BuildError {
    /// A file can't be read or written.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// What it is made from is no container that can be changed.
    #[error("{0}")]
    NotContainer(String),
    /// Contents that it is made of are not what they were.
    #[error("not all that it is made of is what it was")]
    Lost(Vec<ContentHash>),
}

impl From<NotContainer> for BuildError {
    fn from(why: NotContainer) -> Self {
        match why {
            NotContainer::Unreadable(source) => Self::Io(source),
            other => Self::NotContainer(other.to_string()),
        }
    }
}

/// What came of making one.
#[derive(Debug)]
pub(crate) struct Built {
    pub hash: ContentHash,
    pub size_bytes: u64,
    /// That of the file that it is made from, where it is worth keeping and was not known.
    pub tree_beneath: Option<(ContentHash, Tree)>,
    /// Containers in it that were made for it: the names of their compositions, their hashes and sizes in bytes.
    pub inside: Vec<(ContentHash, ContentHash, u64)>,
}

/// From this size on it saves time to know a file's tree.
const BIG_BYTES: u64 = 16 << 20;

/// A container about to be made. It can be made on any thread.
#[derive(Debug)]
pub(crate) struct Building {
    /// The composition's name.
    pub name: ContentHash,
    beneath: Opened,
    /// The hash of the file that it is made from, where that lies by itself.
    pub beneath_hash: Option<ContentHash>,
    /// The tree of that file, if its time and size still tell that it is the same.
    tree_beneath: Option<Tree>,
    changes: Vec<Change>,
    parts: Parts,
    folding: Folding,
}

/// Where contents come from.
#[derive(Debug)]
enum Part {
    Stored(Stored),
    Held(Vec<u8>),
    Packed(PackedAt),
    /// A container in the container.
    Made(Box<Building>, MadeOnce),
}

/// What came of making a container in the container, and where that lies.
type MadeOnce = OnceLock<Result<(ArchiveFile, Built), Arc<io::Error>>>;

#[derive(Debug)]
struct Parts {
    parts: Vec<Part>,
    /// Stored ones that turned out not to be what they were.
    lost: Mutex<Vec<ContentHash>>,
    /// Where such are now.
    elsewhere: HashMap<ContentHash, PathBuf>,
}

impl Parts {
    fn new(parts: Vec<Part>) -> Self {
        Self { parts, lost: Mutex::default(), elsewhere: HashMap::new() }
    }

    fn lose(&self, stored: &Stored) {
        self.lost.lock().unwrap_or_else(PoisonError::into_inner).push(stored.hash());
    }

    /// Those, and those of containers in it.
    fn lost(&self) -> Vec<ContentHash> {
        let mut lost = self.lost.lock().unwrap_or_else(PoisonError::into_inner).clone();
        for part in &self.parts {
            if let Part::Made(building, _) = part {
                lost.extend(building.parts.lost());
            }
        }
        lost
    }

    /// The containers in it that are made.
    fn made(&self) -> Vec<(ContentHash, ContentHash, u64)> {
        let mut made_inside = Vec::new();
        for part in &self.parts {
            if let Part::Made(building, made) = part
                && let Some(Ok((_, built))) = made.get()
            {
                made_inside.push((building.name, built.hash, built.size_bytes));
                made_inside.extend_from_slice(&built.inside);
            }
        }
        made_inside
    }

    fn find(&mut self, found: &dyn Fn(ContentHash) -> Option<PathBuf>) {
        let lost = std::mem::take(self.lost.get_mut().unwrap_or_else(PoisonError::into_inner));
        self.elsewhere.extend(lost.into_iter().filter_map(|hash| Some((hash, found(hash)?))));
        for part in &mut self.parts {
            if let Part::Made(building, made) = part {
                building.parts.find(found);
                *made = OnceLock::new();
            }
        }
    }
}

/// Reads a stored content, and compares it with what it should be where it ends.
struct Compared<'p> {
    content: HashingReader<StoredBytes>,
    stored: &'p Stored,
    parts: &'p Parts,
}

impl Read for Compared<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.content.read(buffer)?;
        if read == 0 && !buffer.is_empty() && self.content.hash() != self.stored.hash() {
            self.parts.lose(self.stored);
            return Err(io::Error::new(io::ErrorKind::InvalidData, "what the ledger stores is damaged"));
        }
        Ok(read)
    }
}

impl Contents for Parts {
    fn open(&self, content: usize) -> io::Result<Box<dyn Read + '_>> {
        let part = self.parts.get(content).ok_or(io::ErrorKind::NotFound)?;
        Ok(match part {
            Part::Stored(stored) => {
                let opened = match self.elsewhere.get(&stored.hash()) {
                    Some(path) => open_regular(path).map(StoredBytes::File),
                    None => stored.open(),
                };
                let opened = opened.inspect_err(|_| self.lose(stored))?;
                Box::new(Compared { content: HashingReader::new(opened), stored, parts: self })
            }
            Part::Held(bytes) => Box::new(bytes.as_slice()),
            Part::Packed(at) => at.container.member(&at.member)?,
            Part::Made(building, made) => Box::new(made_file(building, made)?),
        })
    }
}

fn made_file(building: &Building, made: &MadeOnce) -> io::Result<ArchiveFile> {
    let file = made.get_or_init(|| {
        let make = || {
            let mut file = tempfile::tempfile()?;
            let write = |blocks: &mut dyn Iterator<Item = Block>| {
                for block in blocks {
                    file.write_all(block.read()?)?;
                }
                Ok(())
            };
            let built = building.make(false, write).map_err(|error| match error {
                BuildError::Io(source) => source,
                other => io::Error::other(other.to_string()),
            })?;
            Ok((ArchiveFile::from_file(file)?, built))
        };
        make().map_err(Arc::new)
    });
    match file {
        Ok((file, _)) => Ok(file.rewound()),
        Err(error) => Err(io::Error::new(error.kind(), error.to_string())),
    }
}

impl Building {
    /// The file that it is made from, where that lies by itself.
    pub(crate) fn made_from(&self) -> Option<&File> {
        self.beneath.file.as_file()
    }

    /// Takes lost contents from where they are `found`, the next time that it is made; says whether any were lost.
    pub(crate) fn find(&mut self, found: &dyn Fn(ContentHash) -> Option<PathBuf>) -> bool {
        let is_any = !self.parts.lost().is_empty();
        self.parts.find(found);
        is_any
    }

    /// Whether [`Building::make`] need not read what is in place.
    pub(crate) fn knows_beneath(&self) -> bool {
        self.tree_beneath.is_some()
    }

    /// Makes it: `write` is given all of it, once. With `shares_blocks` it gets what is known and in place unread.
    ///
    /// # Errors
    /// [`BuildError`]; what was written then is of no use.
    pub(crate) fn make(
        &self,
        shares_blocks: bool,
        write: impl FnOnce(&mut dyn Iterator<Item = Block>) -> io::Result<()>,
    ) -> Result<Built, BuildError> {
        self.try_to_make(shares_blocks, write).map_err(|error| match self.parts.lost() {
            lost if lost.is_empty() => error,
            lost => BuildError::Lost(lost),
        })
    }

    fn try_to_make(
        &self,
        shares_blocks: bool,
        write: impl FnOnce(&mut dyn Iterator<Item = Block>) -> io::Result<()>,
    ) -> Result<Built, BuildError> {
        let mut changes = self.changes.clone();
        for change in &mut changes {
            // How long a container in it becomes is known when that is made.
            if let Change::Put { content, size_bytes, .. } = change
                && let Some(Part::Made(building, made)) = self.parts.parts.get(*content)
            {
                *size_bytes = made_file(building, made)?.length_bytes();
            }
        }
        let directory = &self.beneath.directory;
        let layout =
            lay_out(&mut self.beneath.file.rewound(), directory, &changes, &self.parts, self.folding)?;
        let old = match (&self.tree_beneath, self.beneath_hash) {
            (Some(tree), _) if shares_blocks => Old::Known(tree),
            (_, Some(_)) => Old::Hashed,
            (_, None) => Old::Unchecked,
        };
        let hashes = rebuild(self.beneath.file.rewound(), &layout, &self.parts, old, write)?;
        if matches!(old, Old::Hashed) && self.beneath_hash != hashes.old {
            return Err(BuildError::Lost(self.beneath_hash.into_iter().collect()));
        }
        let is_new = self.tree_beneath.is_none() && self.beneath.file.length_bytes() >= BIG_BYTES;
        let tree_beneath = hashes.old.zip(hashes.old_tree).filter(|_| is_new);
        let inside = self.parts.made();
        Ok(Built { hash: hashes.new, size_bytes: layout.size_bytes, tree_beneath, inside })
    }
}

impl Blender<'_> {
    /// What is needed to make the container at `column`, as `order` has it; why it can't be made, inside.
    pub(crate) fn building(
        &self,
        column: &Column,
        composition: &Composition<'_>,
        order: &Order,
    ) -> Result<Result<Building, String>, LedgerError> {
        let opened = match composition.beneath {
            Provider::Base(_) => self.containers.of_base(column)?,
            Provider::Layer(entry) => self.containers.of_entry(entry)?,
            Provider::Nothing => Err("there is nothing to make it from".to_owned()),
        };
        let beneath = match opened {
            Ok(opened) => opened,
            Err(reason) => return Ok(Err(reason)),
        };
        let (mut changes, mut parts) = (Vec::new(), Vec::new());
        for (member, to) in &composition.members {
            let Some((_, key)) = member.key.member() else { continue };
            let Some(entry) = entry_of(*to) else {
                changes.push(Change::Remove { path: RelPath::from_disk(key.as_str()) });
                continue;
            };
            let part = match self.part_of(member, &entry, order)? {
                Ok(part) => part,
                Err(reason) => return Ok(Err(reason)),
            };
            let path = match entry.spelled.as_str().rsplit_once(INTO) {
                Some((_, path)) => RelPath::from_disk(path),
                None => RelPath::from_disk(key.as_str()),
            };
            let (size_bytes, modified) = (entry.size_bytes, entry.modified);
            changes.push(Change::Put { path, size_bytes, modified, content: parts.len() });
            parts.push(part);
        }
        let beneath_hash = composition.beneath.hash().filter(|_| !column.is_member);
        let tree_beneath = self.tree_beneath(&beneath, composition.beneath)?;
        let (name, parts) = (composition.hash(), Parts::new(parts));
        let folding = self.ledger.game().folding;
        Ok(Ok(Building { name, beneath, beneath_hash, tree_beneath, changes, parts, folding }))
    }

    /// The tree of the game's own file, where it is known and the file has the time and the size that it had.
    fn tree_beneath(&self, opened: &Opened, beneath: Provider<'_>) -> Result<Option<Tree>, LedgerError> {
        let (Provider::Base(base), Some(file)) = (beneath, opened.file.as_file()) else { return Ok(None) };
        let seen = file.metadata().map(|metadata| Seen::of(&metadata)).ok();
        let is_as_it_was =
            |seen: Seen| (seen.size_bytes, seen.modified_ns) == (base.size_bytes, base.modified_ns);
        let (true, Some(hash)) = (base.size_bytes >= BIG_BYTES && seen.is_some_and(is_as_it_was), base.hash)
        else {
            return Ok(None);
        };
        let known = self.ledger.catalogue.tree(hash)?;
        Ok(known.and_then(|groups| Tree::of(hash, &groups)))
    }

    fn part_of(
        &self,
        member: &Column,
        entry: &Entry,
        order: &Order,
    ) -> Result<Result<Part, String>, LedgerError> {
        if let Some(inner) = member.composition(order) {
            let inner = self.building(member, &inner, order)?;
            return Ok(inner.map(|inner| Part::Made(Box::new(inner), OnceLock::new())));
        }
        if let Some(content) = self.content_of(member, entry, order)? {
            return Ok(Ok(Part::Held(content)));
        }
        if entry.kind == EntryKind::Packed {
            let packed = self.containers.packed(entry.hash).map(Part::Packed);
            return Ok(packed.ok_or_else(|| "a member of another container can't be had".to_owned()));
        }
        if self.ledger.is_written_through(entry.hash)? {
            let reason = "a program has written into a content in the ledger that goes into it";
            return Ok(Err(reason.to_owned()));
        }
        Ok(Ok(Part::Stored(self.ledger.stored(entry.hash)?)))
    }
}

/// The entry that stands for what `to` supplies at a member's address.
fn entry_of(to: Provider<'_>) -> Option<Entry> {
    match to {
        Provider::Nothing => None,
        Provider::Layer(entry) => Some(entry.clone()),
        // What the game has there, in a container that a layer brings.
        Provider::Base(base) => Some(Entry {
            layer: LayerId(0),
            kind: EntryKind::Packed,
            spelled: base.spelled.clone(),
            hash: base.hash.unwrap_or(ContentHash::NOTHING),
            size_bytes: base.size_bytes,
            modified: base.modified_ns.div_euclid(1_000_000_000),
            executable: None,
        }),
    }
}
