//! Archives inside a package: `inner.7z!/file`.

use std::collections::VecDeque;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::Mutex;

use tempfile::SpooledTempFile;

use super::archive_file::ArchiveFile;
use super::delivery::{Delivery, Halt, WantedMembers};
use super::kind::kind_of;
use super::listing::{self, LinkOut, Listing};
use super::names::Names;
use super::volumes::{Scheme, Volumes};
use super::{LimitBroken, OpenOptions, Opening, Package, PackageError, Part};
use crate::address::{Folding, RelPath};
use crate::members::{Folder, Member, is_named_like_an_archive};
use crate::observer::Observer;
use crate::version::name_without_version;

/// What ends the path of an archive whose members are meant.
const INSIDE: char = '!';
/// Bigger ones that have to be unpacked first are not looked into unasked.
const MOST_UNASKED_BYTES: u64 = 1 << 30;
/// Archives up to this size are unpacked in memory, others into the system's folder for such files.
const IN_MEMORY_BYTES: usize = 4 << 20;

/// Which archives inside a package are looked into.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Inner {
    /// All whose names end as archives' names do; what can't be opened is noted and passed over.
    pub unasked: bool,
    /// Those that these paths lead into (`extras/inner.7z!/data`); they must open.
    pub named: Vec<String>,
    /// Those that these paths led into in an older version, also under their next names (`inner-1.3.7z` for
    /// `inner-1.2.7z!/data`); what can't be opened is passed over.
    pub once_named: Vec<String>,
}

impl Inner {
    /// Those that any of `paths` leads into.
    pub fn named_in<'a>(paths: impl IntoIterator<Item = &'a str>) -> Self {
        Self { named: Self::leading_inside(paths), ..Self::default() }
    }

    /// Those of `paths` that lead into an archive.
    pub fn leading_inside<'a>(paths: impl IntoIterator<Item = &'a str>) -> Vec<String> {
        let leads_inside =
            |path: &String| path.split('/').any(|part| part.len() > 1 && part.ends_with(INSIDE));
        paths.into_iter().map(|path| path.replace('\\', "/")).filter(leads_inside).collect()
    }

    fn names(&self, member: &Member) -> bool {
        Self::lead_into(&self.named, member)
    }

    /// Whether it is wanted, but need not open.
    fn wants(&self, member: &Member) -> bool {
        let is_archive = is_named_like_an_archive(member.path.name());
        let plain = |name: &str| name_without_version(name).to_lowercase();
        let is_next = |path: &String| {
            let mut inside = path.split('/').filter_map(|part| part.strip_suffix(INSIDE));
            inside.any(|name| plain(name) == plain(member.path.name()))
        };
        is_archive && (self.unasked || self.once_named.iter().any(is_next))
            || Self::lead_into(&self.once_named, member)
    }

    fn lead_into(paths: &[String], member: &Member) -> bool {
        if paths.is_empty() {
            return false;
        }
        // The wrapper folder around everything may be left out.
        let inside = Folding::Folded.key(&format!("/{}{INSIDE}/", member.path));
        paths.iter().any(|path| {
            let path = Folding::Folded.key(&format!("/{}/", path.trim_start_matches("./")));
            let mut ends = path.as_str().match_indices("!/").map(|(end, _)| end + 2);
            ends.any(|end| inside.as_str().ends_with(&path.as_str()[..end]))
        })
    }
}

/// An archive inside that could not be looked into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unopened {
    /// Where it lies in the package.
    pub path: RelPath,
    /// Why.
    pub reason: String,
}

impl Package {
    /// Looks into the archives inside that are wanted, and into those inside them.
    pub(super) fn open_inner(
        &mut self,
        options: &OpenOptions,
        packed_bytes: u64,
        observer: &dyn Observer,
    ) -> Result<(), PackageError> {
        let mut waiting: VecDeque<(usize, u64)> = (0..self.members.len()).map(|index| (index, 1)).collect();
        while let Some((index, depth)) = waiting.pop_front() {
            let member = &self.members[index];
            let is_named = options.inner.names(member);
            let is_wanted = options.inner.wants(member);
            if !is_named && !is_wanted {
                continue;
            }
            let first = self.members.len();
            match self.open_one(index, depth, options, packed_bytes, observer) {
                Ok(()) => waiting.extend((first..self.members.len()).map(|index| (index, depth + 1))),
                Err(PackageError::Cancelled) => return Err(PackageError::Cancelled),
                Err(error) if is_named => return Err(error),
                // Its name only looked like an archive's.
                Err(PackageError::UnknownKind { .. }) => {}
                Err(error) => {
                    let path = self.members[index].path.clone();
                    self.unopened.push(Unopened { path, reason: error.to_string() });
                }
            }
        }
        Ok(())
    }

    fn open_one(
        &mut self,
        index: usize,
        depth: u64,
        options: &OpenOptions,
        packed_bytes: u64,
        observer: &dyn Observer,
    ) -> Result<(), PackageError> {
        let over = |package: &Self, limit| PackageError::OverLimit { package: package.shown.clone(), limit };
        if depth > options.limits.most_depth {
            return Err(over(self, LimitBroken::Depth { found: depth, limit: options.limits.most_depth }));
        }
        let member = self.members[index].clone();
        let shown = format!("{}{INSIDE}/{}", self.shown, member.path);
        let file = self.file_of(&member, options, observer)?;
        let kind = kind_of(&file).map_err(|source| PackageError::unreadable(self.path(), source))?;
        if let Err(found) = kind {
            return Err(PackageError::UnknownKind { path: shown.into(), found });
        }
        let opening = Opening {
            shown: &shown,
            limits: &options.limits,
            names: Names::new(options.names),
            take: None,
            observer,
        };
        let alone = Volumes { scheme: Scheme::Single, files: Vec::new() };
        let (_, source, raws) = opening.open(vec![file], &alone)?;
        let contents = raws.len();
        let listing = listing::build(&shown, raws, &options.limits)?;
        let first_content = self.parts.last().map_or(0, |part| part.first_content + part.contents);
        let prefix = RelPath::from_disk(format!("{}{INSIDE}", member.path));
        let Listing { members, folders, links_out } = listed_below(&prefix, listing, first_content, &shown)?;
        let taken = self.members.iter().map(|member| &member.path);
        if let Some(clash) = taken.into_iter().find(|path| path.below(&prefix).is_some()) {
            let (first, second) = (clash.clone(), prefix);
            return Err(PackageError::Duplicate { package: self.shown.clone(), first, second });
        }
        let (old_members, old_folders) = (self.members.len(), self.folders.len());
        self.members.extend(members);
        self.folders.extend(folders);
        // All that is inside counts, however deep, against what the package is packed.
        if let Err(error) = self.check_limits(&options.limits, packed_bytes) {
            self.members.truncate(old_members);
            self.folders.truncate(old_folders);
            return Err(error);
        }
        self.links_out.extend(links_out);
        self.parts.push(Part { shown, first_content, contents, source });
        Ok(())
    }

    /// The bytes of an archive inside, where they lie or unpacked for as long as the package is open.
    fn file_of(
        &self,
        member: &Member,
        options: &OpenOptions,
        observer: &dyn Observer,
    ) -> Result<ArchiveFile, PackageError> {
        let part = self.parts.iter().rev().find(|part| member.content >= part.first_content);
        let Some(part) = part else { return Err(PackageError::Cancelled) };
        let source = member.content - part.first_content;
        if let Some(file) = part.source.as_file(source) {
            return Ok(file);
        }
        if !options.inner.names(member) && member.size_bytes > MOST_UNASKED_BYTES {
            return Err(PackageError::Broken {
                package: member.path.to_string(),
                reason: "it is bigger than 1 GB, too big to be unpacked just for a look".to_owned(),
            });
        }
        let spooled = Mutex::new((SpooledTempFile::new(IN_MEMORY_BYTES), None));
        let take = |_: &WantedMembers, content: &mut dyn Read| -> Result<(), Halt> {
            let mut spooled = spooled.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let (file, failed) = &mut *spooled;
            let mut buffer = vec![0; 128 << 10];
            loop {
                // A content that can't be read is told by whoever reads it.
                let count = content.read(&mut buffer).map_err(|_| Halt)?;
                if count == 0 {
                    return Ok(());
                }
                if let Err(error) = file.write_all(&buffer[..count]) {
                    *failed = Some(error);
                    return Err(Halt);
                }
            }
        };
        let delivery = Delivery::new(&part.shown, &take, observer, true);
        let (size_bytes, name) = (member.size_bytes, member.path.as_str().into());
        let read =
            part.source.read(&[WantedMembers { source, content: source, size_bytes, name }], &delivery);
        let failure = delivery.failure();
        let (file, failed) = spooled.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        let no_room = |source: io::Error| PackageError::NoRoomInside {
            member: member.path.to_string(),
            folder: std::env::temp_dir(),
            source,
        };
        match (read, failure, failed) {
            (Ok(()), ..) => as_archive_file(file).map_err(no_room),
            (Err(Halt), Some(error), _) => Err(error),
            (Err(Halt), None, Some(error)) => Err(no_room(error)),
            (Err(Halt), None, None) => Err(PackageError::Cancelled),
        }
    }
}

fn as_archive_file(mut file: SpooledTempFile) -> io::Result<ArchiveFile> {
    file.flush()?;
    file.seek(SeekFrom::Start(0))?;
    match file.into_inner() {
        tempfile::SpooledData::InMemory(bytes) => Ok(ArchiveFile::from_memory(bytes.into_inner())),
        tempfile::SpooledData::OnDisk(file) => ArchiveFile::from_file(file),
    }
}

/// What an archive inside lists, with paths that begin with its own.
fn listed_below(
    prefix: &RelPath,
    listing: Listing,
    first_content: usize,
    shown: &str,
) -> Result<Listing, PackageError> {
    let inside = |path: &RelPath| {
        RelPath::parse(prefix.join(path).as_str()).map_err(|problem| PackageError::HostileName {
            package: shown.to_owned(),
            name: path.to_string(),
            problem,
        })
    };
    let mut members = Vec::with_capacity(listing.members.len());
    for found in listing.members {
        members.push(Member {
            path: inside(&found.path)?,
            inner: Some(prefix.clone()),
            content: found.content + first_content,
            copy_of: found.copy_of.as_ref().map(&inside).transpose()?,
            ..found
        });
    }
    let mut folders = vec![Folder { path: prefix.clone(), inner: Some(prefix.clone()) }];
    for found in &listing.folders {
        folders.push(Folder { path: inside(&found.path)?, inner: Some(prefix.clone()) });
    }
    let link_of = |link: LinkOut| Ok(LinkOut { path: inside(&link.path)?, target: link.target });
    let links_out = listing.links_out.into_iter().map(link_of).collect::<Result<_, PackageError>>()?;
    Ok(Listing { members, folders, links_out })
}
