//! Why a package can't be read.

use std::io;
use std::path::PathBuf;

use thiserror::Error;

use super::LimitBroken;
use crate::address::{NameProblem, RelPath};

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
        "{} is not a package: it is {found}, and a package is a folder or a zip, 7z, rar or tar archive",
        path.display()
    )]
    UnknownKind {
        /// The file.
        path: PathBuf,
        /// What it is, as far as its first bytes tell.
        found: &'static str,
    },
    /// A part of an archive that was split.
    #[error("{package} is one part of a split archive, and the part {} is missing; get it and put it beside the others", volume.display())]
    MissingVolume {
        /// The part that was given.
        package: String,
        /// The part that is missing.
        volume: PathBuf,
    },
    /// A member is something that can't be a game's file.
    #[error("`{member}` in {package} is {what}, which no game folder can hold")]
    Unsuitable {
        /// The archive.
        package: String,
        /// The member.
        member: String,
        /// What it is.
        what: String,
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
    /// One content is packed in a way that is not read.
    #[error("`{member}` in {package} can't be unpacked here; unpack the archive into a folder and add that")]
    NotRead {
        /// The archive.
        package: String,
        /// The member.
        member: String,
        /// What is not read.
        source: io::Error,
    },
    /// The content, or even the list of what is inside, needs a password.
    #[error(
        "{} in {package} is encrypted: unpack the archive with its password into a folder and add that",
        member.as_ref().map_or_else(|| "the list of what is".to_owned(), |member| format!("`{member}`"))
    )]
    Encrypted {
        /// The archive.
        package: String,
        /// The first such member; none when even the names are encrypted.
        member: Option<String>,
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
    /// An archive inside the package must be unpacked to look into it, and there is no room.
    #[error("can't unpack `{member}` into {}, where it would lie while it is read (TMPDIR says where)", folder.display())]
    NoRoomInside {
        /// The archive inside.
        member: String,
        /// Where it would lie.
        folder: PathBuf,
        /// Why it can't.
        source: io::Error,
    },
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

impl PackageError {
    /// What an error of the disk at `path` means.
    pub(crate) fn unreadable(path: &std::path::Path, source: io::Error) -> Self {
        match source.kind() {
            io::ErrorKind::NotFound => Self::NotFound { path: path.into() },
            _ => Self::Unreadable { path: path.into(), source },
        }
    }
}
