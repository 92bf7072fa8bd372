//! What containers have at the addresses of their members: those of the game and those that layers bring whole.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;

use crate::address::{FoldedKey, INTO, RelPath};
use crate::blend::MOST_BLENDED_BYTES;
use crate::container::{Directory, NotContainer, Packed, open_member};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::package::ArchiveFile;
use crate::stack::{BaseFile, BaseKind, Column, Entry, EntryKind, PathId, RootId};

/// An opened container.
#[derive(Debug, Clone)]
pub(crate) struct Opened {
    pub file: ArchiveFile,
    pub directory: Arc<Directory>,
}

impl Opened {
    /// Opens the content of a member.
    pub(crate) fn member(&self, member: &Packed) -> io::Result<Box<dyn Read + '_>> {
        open_member(self.file.rewound(), &self.directory, member)
    }
}

/// Whose file is meant at an address.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Whose {
    Base(RootId, FoldedKey),
    Content(ContentHash),
}

/// A member's content, where it is.
#[derive(Debug, Clone)]
pub(crate) struct PackedAt {
    pub container: Opened,
    pub member: Packed,
}

/// The containers of a ledger's game and layers; each is opened once.
#[derive(Debug)]
pub(crate) struct Containers<'l> {
    ledger: &'l Ledger,
    opened: RefCell<HashMap<Whose, Result<Opened, String>>>,
    columns: RefCell<HashMap<(RootId, FoldedKey), Rc<Column>>>,
    /// Hashes of members' contents.
    hashes: RefCell<HashMap<(Whose, FoldedKey), ContentHash>>,
    /// Where files of the base lie that are neither aside nor in their place.
    bases: HashMap<PathId, PathBuf>,
    /// Where contents of members are, by hash.
    packed: RefCell<HashMap<ContentHash, PackedAt>>,
}

impl<'l> Containers<'l> {
    pub(crate) fn new(ledger: &'l Ledger) -> Self {
        Self {
            ledger,
            opened: RefCell::default(),
            columns: RefCell::default(),
            hashes: RefCell::default(),
            bases: HashMap::new(),
            packed: RefCell::default(),
        }
    }

    /// Says where the base's own file at an address lies for now. What was opened before counts no more.
    pub(super) fn set_base_at(&mut self, path: PathId, file: PathBuf) {
        self.bases.insert(path, file);
        self.opened.borrow_mut().clear();
        self.columns.borrow_mut().clear();
        self.hashes.borrow_mut().clear();
    }

    /// Marks the column of a member that no layer touches, in a container of the game or of a layer.
    pub(crate) fn mark_member(&self, column: &mut Column) -> Result<(), LedgerError> {
        if column.base.is_none()
            && column.entries.is_empty()
            && let Some((container, _)) = column.key.member()
        {
            let whole = self.column(column.root, &container)?;
            column.is_member = whole.base.is_some() || !whole.entries.is_empty();
        }
        Ok(())
    }

    /// Opens the container that lies at `path`.
    pub(crate) fn at(&self, path: &Path) -> Result<Opened, String> {
        let file = crate::files::open_regular(path).and_then(ArchiveFile::from_file);
        self.open(file.map_err(|error| error.to_string())?)
    }

    /// Puts into each of `columns` what containers have at its address, if it is a member's; and into those of containers the
    /// columns of their members.
    pub(crate) fn complete(&self, columns: &mut [Column]) -> Result<(), LedgerError> {
        let changes_members = |column: &Column| column.entries.iter().any(|it| it.kind == EntryKind::Members);
        // The base may be known anew since the catalogue was read.
        for column in columns.iter().filter(|column| !column.is_member && changes_members(column)) {
            let key = (column.root, column.key.clone());
            let alone = Column { members: Vec::new(), ..column.clone() };
            self.columns.borrow_mut().insert(key, Rc::new(alone));
        }
        for column in columns.iter_mut() {
            if column.is_member {
                self.fill(column)?;
            }
            if changes_members(column) {
                if column.members.is_empty() {
                    let within = self.ledger.catalogue.columns_within(column.root, &column.key)?;
                    let is_in = |other: &Column| {
                        other.key.member().is_some_and(|(container, _)| container == column.key)
                    };
                    let members = within.into_iter().filter(|other| other.is_member && is_in(other));
                    column.members = members.collect();
                }
                self.complete(&mut column.members)?;
            }
        }
        Ok(())
    }

    /// Puts into a member's column what the containers have there.
    fn fill(&self, column: &mut Column) -> Result<(), LedgerError> {
        let Some((container, member)) = column.key.member() else { return Ok(()) };
        let container = self.column(column.root, &container)?;
        column.entries.retain(|entry| entry.kind != EntryKind::Packed);
        column.base = None;
        if let Some(base) = container.base.as_ref().filter(|base| base.kind == BaseKind::File)
            && let Ok(opened) = self.of_base(&container)?
            && let Some(found) = opened.directory.find(&member)
        {
            let whose = Whose::Base(container.root, container.key.clone());
            column.base = Some(Box::new(BaseFile {
                spelled: within(&base.spelled, &found.path),
                size_bytes: found.size_bytes,
                hash: Some(self.hash_of(whose, &opened, found)),
                ..BaseFile::clone(base)
            }));
        }
        for whole in container.entries.iter().filter(|entry| entry.kind.is_file()) {
            if column.entries.iter().any(|entry| entry.layer == whole.layer) {
                continue;
            }
            let spelled = RelPath::from_disk(member.as_str());
            let nothing = Entry {
                kind: EntryKind::Packed,
                spelled: within(&whole.spelled, &spelled),
                hash: ContentHash::NOTHING,
                size_bytes: 0,
                ..whole.clone()
            };
            let opened = if whole.takes_away() { Err(String::new()) } else { self.of_entry(whole)? };
            let found =
                opened.as_ref().ok().and_then(|opened| Some((opened, opened.directory.find(&member)?)));
            column.entries.push(match found {
                None => nothing,
                Some((opened, found)) => Entry {
                    spelled: within(&whole.spelled, &found.path),
                    hash: self.hash_of(Whose::Content(whole.hash), opened, found),
                    size_bytes: found.size_bytes,
                    ..nothing
                },
            });
        }
        Ok(())
    }

    /// The column of a container, complete but for its members.
    pub(crate) fn column(&self, root: RootId, key: &FoldedKey) -> Result<Rc<Column>, LedgerError> {
        let at = (root, key.clone());
        if let Some(known) = self.columns.borrow().get(&at) {
            return Ok(Rc::clone(known));
        }
        let catalogue = &self.ledger.catalogue;
        let mut column = match catalogue.column_alone(root, key)? {
            Some(column) => column,
            None => {
                let path = catalogue.known_path(root, key)?.unwrap_or(PathId(0));
                Column {
                    base: catalogue.base_at(root, key)?.map(Box::new),
                    ..Column::empty(path, root, key.clone())
                }
            }
        };
        // One in a container that no layer changes yet.
        column.is_member |= column.base.is_none() && key.member().is_some();
        if column.is_member {
            self.fill(&mut column)?;
        }
        let column = Rc::new(column);
        self.columns.borrow_mut().insert(at, Rc::clone(&column));
        Ok(column)
    }

    /// Opens the container at an address of the game, as the base has it.
    ///
    /// # Errors
    /// Why it can't be taken as one, inside.
    pub(crate) fn at_base(
        &self,
        root: RootId,
        key: &FoldedKey,
    ) -> Result<Result<Opened, String>, LedgerError> {
        let column = self.column(root, key)?;
        self.of_base(&column)
    }

    /// Opens a container as the base has it.
    pub(crate) fn of_base(&self, column: &Column) -> Result<Result<Opened, String>, LedgerError> {
        let whose = Whose::Base(column.root, column.key.clone());
        if let Some(known) = self.opened.borrow().get(&whose) {
            return Ok(known.clone());
        }
        let opened = match column.key.member().filter(|_| column.is_member) {
            Some((container, member)) => match self.at_base(column.root, &container)? {
                Ok(outer) => self.unpacked(&outer, &member),
                Err(reason) => Err(reason),
            },
            None => self.base_file(column)?.and_then(|file| self.open(file)),
        };
        self.opened.borrow_mut().insert(whose, opened.clone());
        Ok(opened)
    }

    /// Opens a container that a layer brings whole.
    pub(crate) fn of_entry(&self, entry: &Entry) -> Result<Result<Opened, String>, LedgerError> {
        if entry.kind != EntryKind::Packed {
            return Ok(self.of_content(entry.hash));
        }
        let whose = Whose::Content(entry.hash);
        if let Some(known) = self.opened.borrow().get(&whose) {
            return Ok(known.clone());
        }
        let packed = self.packed(entry.hash).ok_or_else(|| "it can't be had".to_owned());
        let file = packed.and_then(|at| unpacked_file(&at).map_err(|error| error.to_string()));
        let opened = file.and_then(|file| self.open(file));
        self.opened.borrow_mut().insert(whose, opened.clone());
        Ok(opened)
    }

    /// Opens a container that is stored.
    pub(crate) fn of_content(&self, hash: ContentHash) -> Result<Opened, String> {
        let whose = Whose::Content(hash);
        if let Some(known) = self.opened.borrow().get(&whose) {
            return known.clone();
        }
        let stored = self.ledger.stored(hash).map_err(|error| error.to_string())?;
        let file = stored.as_archive().map_err(|error| error.to_string());
        let opened = file.and_then(|file| self.open(file));
        self.opened.borrow_mut().insert(whose, opened.clone());
        opened
    }

    /// The game's own file, where it lies aside or still in its place.
    fn base_file(&self, column: &Column) -> Result<Result<ArchiveFile, String>, LedgerError> {
        let Some(base) = &column.base else { return Ok(Err("the game has no such file".to_owned())) };
        let site = self.ledger.site();
        let root = site.root(column.root)?;
        let mut failed = "the game's own file is not as it was".to_owned();
        if let Some(path) = self.bases.get(&column.path) {
            let file = crate::files::open_regular(path).and_then(ArchiveFile::from_file);
            return Ok(file.map_err(|error| error.to_string()));
        }
        for path in [site.original(root, column.path), base.spelled.on(&root.folder)] {
            match crate::files::open_regular(&path).and_then(ArchiveFile::from_file) {
                Ok(file) if file.length_bytes() == base.size_bytes => return Ok(Ok(file)),
                Ok(_) => {}
                Err(error) if crate::files::is_nothing_there(&error) => {}
                Err(error) => failed = error.to_string(),
            }
        }
        Ok(Err(failed))
    }

    /// Opens a file as a container.
    ///
    /// # Errors
    /// Why it is none that can be read.
    pub(crate) fn open(&self, mut file: ArchiveFile) -> Result<Opened, String> {
        let directory = Directory::read(&mut file, self.ledger.game().folding);
        let directory = directory.map_err(|why: NotContainer| why.to_string())?;
        Ok(Opened { file, directory: Arc::new(directory) })
    }

    /// Opens the container that a member of another one is.
    pub(crate) fn unpacked(&self, outer: &Opened, member: &FoldedKey) -> Result<Opened, String> {
        let Some(found) = outer.directory.find(member) else {
            return Err(format!("there is no {} in it", member.as_str()));
        };
        let at = PackedAt { container: outer.clone(), member: found.clone() };
        unpacked_file(&at).map_err(|error| error.to_string()).and_then(|file| self.open(file))
    }

    /// The hash of a member's content. One that can't be read has a hash of what is known of it.
    fn hash_of(&self, whose: Whose, opened: &Opened, member: &Packed) -> ContentHash {
        let at = (whose, self.ledger.game().folding.key(member.path.as_str()));
        if let Some(known) = self.hashes.borrow().get(&at) {
            return *known;
        }
        let read = opened.member(member).and_then(|mut content| ContentHash::of_reader(&mut content));
        let hash = read.map(|(hash, _)| hash).unwrap_or_else(|_| {
            let known = (member.checksum, member.size_bytes, member.packed_bytes, member.method);
            ContentHash::of(format!("a member that can't be read: {known:?}").as_bytes())
        });
        self.hashes.borrow_mut().insert(at, hash);
        let packed = PackedAt { container: opened.clone(), member: member.clone() };
        self.packed.borrow_mut().insert(hash, packed);
        hash
    }

    /// The size and the hash of a member as it is on disk below `folder`; nothing where there is none.
    pub(crate) fn member_at(&self, folder: &Path, place: &RelPath) -> Option<(u64, ContentHash)> {
        let folding = self.ledger.game().folding;
        let mut parts = place.as_str().split(INTO);
        let container = RelPath::from_disk(parts.next()?).on(folder);
        let mut opened = self.at(&container).ok()?;
        let mut within: Vec<&str> = parts.collect();
        let last = within.pop()?;
        for inner in within {
            opened = self.unpacked(&opened, &folding.key(inner)).ok()?;
        }
        let member = opened.directory.find(&folding.key(last))?;
        let (hash, size_bytes) = ContentHash::of_reader(&mut opened.member(member).ok()?).ok()?;
        Some((size_bytes, hash))
    }

    /// Where the content of that hash is in a container that was looked into.
    pub(crate) fn packed(&self, hash: ContentHash) -> Option<PackedAt> {
        self.packed.borrow().get(&hash).cloned()
    }

    /// A member's content, where it was looked into and is small.
    pub(crate) fn small(&self, hash: ContentHash) -> Option<Vec<u8>> {
        let PackedAt { container, member } = self.packed(hash)?;
        if member.size_bytes > MOST_BLENDED_BYTES {
            return None;
        }
        let mut bytes = Vec::new();
        container.member(&member).and_then(|mut content| content.read_to_end(&mut bytes)).ok()?;
        Some(bytes)
    }
}

/// The path of a member, in a container at another path.
pub(crate) fn within(container: &RelPath, member: &RelPath) -> RelPath {
    RelPath::from_disk(format!("{container}{INTO}{member}"))
}

/// The most that is held in memory of a container in another.
const MOST_HELD_BYTES: u64 = 16 << 20;

/// A member as a file of its own, which is gone when nobody reads it any more.
fn unpacked_file(at: &PackedAt) -> io::Result<ArchiveFile> {
    let mut content = at.container.member(&at.member)?;
    if at.member.size_bytes <= MOST_HELD_BYTES {
        let mut bytes = Vec::new();
        content.read_to_end(&mut bytes)?;
        return Ok(ArchiveFile::from_memory(bytes));
    }
    let mut file = tempfile::tempfile()?;
    io::copy(&mut content, &mut file)?;
    ArchiveFile::from_file(file)
}
