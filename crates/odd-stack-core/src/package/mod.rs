//! What somebody published: a folder or an archive, read as one list of members plus a way to
//! stream each in bounded memory.
//!
//! Reading changes nothing. Hostile names, clashes and absurd sizes are refused when the package is
//! opened, before a single content is read; a broken content is an error of its member.

mod folder;
mod limits;
mod listing;
mod zip;

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use thiserror::Error;

pub use limits::{LimitBroken, Limits};
pub use listing::{LinkOut, Member};

use crate::address::{NameProblem, RelPath};
use crate::observer::Observer;
use crate::version::{NameAndVersion, name_and_version_of};

/// Why a package can't be read. In every case nothing was written.
#[derive(Debug, Error)]
pub enum PackageError {
    /// There is nothing at the path.
    #[error("there is no package at {}", path.display())]
    NotFound {
        /// Where it was looked for.
        path: PathBuf,
    },
    /// The disk refused to be read.
    #[error("can't read {}", path.display())]
    Unreadable {
        /// What was read.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// The file is of a kind that is not read.
    #[error(
        "{} is not a package this version reads: it takes folders and zip archives, so unpack it into a folder and add that",
        path.display()
    )]
    UnknownKind {
        /// The file.
        path: PathBuf,
    },
    /// A pipe, a device or the like inside a folder.
    #[error("{} is neither a file nor a folder", path.display())]
    NeitherFileNorFolder {
        /// What it is.
        path: PathBuf,
    },
    /// The archive as a whole is damaged.
    #[error("{package} is damaged: {reason}; get it again")]
    Broken {
        /// The archive.
        package: String,
        /// What is wrong with it.
        reason: String,
    },
    /// One content is damaged.
    #[error("`{member}` in {package} can't be unpacked; get the package again")]
    Member {
        /// The archive.
        package: String,
        /// The member.
        member: String,
        /// What is wrong with it.
        source: io::Error,
    },
    /// The content needs a password.
    #[error(
        "`{member}` in {package} is encrypted: unpack the archive with its password into a folder and add that"
    )]
    Encrypted {
        /// The archive.
        package: String,
        /// The first such member.
        member: String,
    },
    /// A name breaks the rules.
    #[error("{package} has a file named {name:?}: {problem}")]
    HostileName {
        /// The package.
        package: String,
        /// The name as far as it can be shown.
        name: String,
        /// The rule it breaks.
        problem: NameProblem,
    },
    /// Two members have one address.
    #[error("{package} has both `{first}` and `{second}`, which are one name in a game folder")]
    Duplicate {
        /// The package.
        package: String,
        /// The one met first.
        first: RelPath,
        /// The other one.
        second: RelPath,
    },
    /// A file and a folder of one name.
    #[error("{package} has `{file}` as a file and `{folder}` as a folder")]
    FileAgainstFolder {
        /// The package.
        package: String,
        /// The file.
        file: RelPath,
        /// The folder.
        folder: RelPath,
    },
    /// Bigger than allowed.
    #[error("{package} is refused: {limit}")]
    OverLimit {
        /// The package.
        package: String,
        /// Which limit, by how much.
        limit: LimitBroken,
    },
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

/// What a package was read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PackageKind {
    /// A loose folder.
    Folder,
    /// A zip archive.
    Zip,
}

impl PackageKind {
    /// The word shown and stored for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Zip => "zip",
        }
    }
}

#[derive(Debug)]
enum Contents {
    Folder(folder::FolderSource),
    Zip(zip::ZipSource),
}

/// An opened package: its judged members, and their contents on demand.
#[derive(Debug)]
pub struct Package {
    path: PathBuf,
    shown: String,
    kind: PackageKind,
    members: Vec<Member>,
    folders: Vec<RelPath>,
    links_out: Vec<LinkOut>,
    contents: Contents,
}

impl Package {
    /// Opens the folder or archive at `path`; archives are told by content, not by ending.
    ///
    /// # Errors
    /// [`PackageError`], naming the package, the member and the reason.
    pub fn open(path: &Path, limits: &Limits) -> Result<Self, PackageError> {
        let shown = path.display().to_string();
        let unreadable = |source: io::Error| match source.kind() {
            io::ErrorKind::NotFound => PackageError::NotFound { path: path.into() },
            _ => PackageError::Unreadable { path: path.into(), source },
        };
        let metadata = std::fs::metadata(path).map_err(unreadable)?;
        let (kind, contents, raw) = if metadata.is_dir() {
            let (source, raw) = folder::FolderSource::open(path)?;
            (PackageKind::Folder, Contents::Folder(source), raw)
        } else {
            let mut head = [0; 8];
            let read =
                File::open(path).and_then(|mut file| read_head(&mut file, &mut head)).map_err(unreadable)?;
            if !zip::ZipSource::recognises(&head[..read]) {
                return Err(PackageError::UnknownKind { path: path.into() });
            }
            let (source, raw) = zip::ZipSource::open(path, limits)?;
            (PackageKind::Zip, Contents::Zip(source), raw)
        };
        let listing = listing::build(&shown, raw)?;
        let package = Self {
            path: path.to_path_buf(),
            shown,
            kind,
            members: listing.members,
            folders: listing.folders,
            links_out: listing.links_out,
            contents,
        };
        let count = (package.members.len() + package.folders.len()) as u64;
        // Links to folders multiply, so the whole is counted again after they became copies.
        limits
            .check(count, package.size_bytes(), u64::MAX)
            .map_err(|limit| PackageError::OverLimit { package: package.shown.clone(), limit })?;
        Ok(package)
    }

    /// Where it was read from.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What it was read from.
    pub fn kind(&self) -> PackageKind {
        self.kind
    }

    /// All files.
    pub fn members(&self) -> &[Member] {
        &self.members
    }

    /// All folders, those of files included, each after the one above it.
    pub fn folders(&self) -> &[RelPath] {
        &self.folders
    }

    /// Links that lead to nothing inside the package.
    pub fn links_out(&self) -> &[LinkOut] {
        &self.links_out
    }

    /// All files' sizes together, unpacked.
    pub fn size_bytes(&self) -> u64 {
        self.members.iter().fold(0, |sum, member| sum.saturating_add(member.size_bytes))
    }

    /// Name and version as its file name tells them.
    pub fn name_and_version(&self) -> NameAndVersion {
        let absolute = std::path::absolute(&self.path).unwrap_or_else(|_| self.path.clone());
        name_and_version_of(&absolute, self.kind != PackageKind::Folder)
    }

    /// Streams the contents of `wanted` (indices of [`Package::members`]) to `take`, several at once
    /// on as many threads as the current rayon pool has, in no promised order.
    ///
    /// # Errors
    /// The first broken member, or the first error of `take`.
    pub fn read<E>(
        &self,
        wanted: &[usize],
        take: &(dyn Fn(usize, &mut dyn Read) -> Result<(), E> + Sync),
        observer: &dyn Observer,
    ) -> Result<(), E>
    where
        E: From<PackageError> + Send,
    {
        let one = |index: usize, content: &mut dyn Read| {
            if observer.is_cancelled() {
                return Err(PackageError::Cancelled.into());
            }
            let member = &self.members[index];
            let mut watched =
                Watched { inner: content, read_bytes: 0, size_bytes: member.size_bytes, failed: None };
            let taken = take(index, &mut watched);
            if let Some(source) = watched.failed {
                return Err(self.member_error(index, source).into());
            }
            taken?;
            if watched.read_bytes != member.size_bytes {
                let source = io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than it says");
                return Err(self.member_error(index, source).into());
            }
            observer.advance(1, member.size_bytes);
            Ok(())
        };
        match &self.contents {
            Contents::Folder(source) => wanted.par_iter().try_for_each(|&index| {
                let mut file = source
                    .open_file(self.members[index].source)
                    .map_err(|error| self.member_error(index, error))?;
                one(index, &mut file)
            }),
            Contents::Zip(source) => wanted.par_iter().try_for_each_init(
                || source.reader(),
                |reader, &index| {
                    let mut content = reader
                        .open_member(self.members[index].source)
                        .map_err(|error| self.member_error(index, error))?;
                    one(index, &mut content)
                },
            ),
        }
    }

    fn member_error(&self, index: usize, source: io::Error) -> PackageError {
        PackageError::Member {
            package: self.shown.clone(),
            member: self.members[index].path.to_string(),
            source,
        }
    }
}

fn read_head(file: &mut File, head: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < head.len() {
        match file.read(&mut head[filled..])? {
            0 => break,
            count => filled += count,
        }
    }
    Ok(filled)
}

/// Passes a member's bytes on, remembers whether reading (and not taking) failed, and stops a
/// member that gives more than it declared.
struct Watched<'a> {
    inner: &'a mut dyn Read,
    read_bytes: u64,
    size_bytes: u64,
    failed: Option<io::Error>,
}

impl Read for Watched<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let result = self.inner.read(buffer).and_then(|count| {
            self.read_bytes += count as u64;
            if self.read_bytes > self.size_bytes {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "it is longer than it says"));
            }
            Ok(count)
        });
        result.map_err(|error| {
            let told = io::Error::new(error.kind(), error.to_string());
            if error.kind() != io::ErrorKind::Interrupted {
                self.failed = Some(error);
            }
            told
        })
    }
}
