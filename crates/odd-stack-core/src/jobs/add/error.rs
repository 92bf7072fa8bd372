//! Why a package does not become a layer.

use std::path::PathBuf;

use thiserror::Error;

use crate::change::ChangeError;
use crate::check::CheckError;
use crate::fit::FitError;
use crate::jobs::OriginalRow;
use crate::ledger::LedgerError;
use crate::package::{LinkOut, PackageError};

/// Why no layer was made. The game is as it was.
#[derive(Debug, Error)]
pub enum AddError {
    /// The package can't be read.
    #[error(transparent)]
    Package(#[from] PackageError),
    /// Its files can't be placed.
    #[error("the files of {package} can't be placed")]
    Fit {
        /// The package.
        package: String,
        /// Why.
        source: FitError,
    },
    /// What leads into a file, and that is no container that can be changed.
    #[error("nothing can be put into {container}: {reason}")]
    NotIntoContainer {
        /// The file.
        container: String,
        /// What is wrong with it.
        reason: String,
    },
    /// A container has what looks like a signature of its members, and nobody has said yet what becomes of it.
    #[error(
        "{container} has {} that {} like a signature of its members, which will no longer hold",
        folders.join(", "),
        if folders.len() == 1 { "looks" } else { "look" }
    )]
    LikeSignature {
        /// The container.
        container: String,
        /// Folders at its top.
        folders: Vec<String>,
    },
    /// Containers that the package brings must be looked into first.
    #[error("{} must be looked into first", archives.join(", "))]
    NotLookedInto {
        /// Paths that lead into them.
        archives: Vec<String>,
    },
    /// Only members of containers are wanted, and there is none.
    #[error("{package} brings no container that the game or a layer has there")]
    NoContainer {
        /// The package.
        package: String,
    },
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The game can't be looked at.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// A layer has the name already.
    #[error("there is a layer named `{name}` already{}", version.as_ref().map(|v| format!(" (version {v})")).unwrap_or_default())]
    NameTaken {
        /// The name.
        name: String,
        /// That layer's version.
        version: Option<String>,
        /// A name like it that no layer has.
        free: String,
    },
    /// No layer has the package's name.
    #[error("no layer is named `{name}`, as {} is; say which one it is a new version of", package.display())]
    NoSuchLayer {
        /// The package.
        package: PathBuf,
        /// Its name.
        name: String,
        /// The layers there are, from the top to the bottom.
        layers: Vec<String>,
    },
    /// Two packages would take the place of one layer.
    #[error("two of these packages are for the layer {name}; give one of them")]
    Twice {
        /// The layer.
        name: String,
    },
    /// A name that says nothing or can't be shown.
    #[error("`{name}` can't name a layer: use printable characters and not only `-`, `_` and spaces")]
    BadName {
        /// What was given.
        name: String,
    },
    /// The package holds only the changed files of a version.
    #[error("the package holds only what changed since {wanted} of {name}")]
    IsPatch {
        /// The layer.
        name: String,
        /// The version it goes onto.
        wanted: String,
    },
    /// Most of the layer would go with the new version, which has only files that the layer has.
    #[error(
        "the package has {files} of the layer {name}'s {of} files, so {} would go: it may hold only what changed",
        of - files
    )]
    MayBePatch {
        /// The layer.
        name: String,
        /// The layer's version.
        present: Option<String>,
        /// Files of the layer that the package has.
        files: usize,
        /// Files of the layer.
        of: usize,
    },
    /// The package of changed files is for another version.
    #[error(
        "{}, and the layer {name} {}",
        wanted.as_ref().map_or("the package does not say which version it goes onto".to_owned(), |wanted| {
            format!("the package goes onto version {wanted}")
        }),
        present.as_ref().map_or("has none".to_owned(), |present| format!("is {present}"))
    )]
    PatchOfOther {
        /// The layer.
        name: String,
        /// The version it goes onto, if that is known.
        wanted: Option<String>,
        /// The layer's version.
        present: Option<String>,
    },
    /// What is said of a layer can't be.
    #[error("{reason}")]
    BadFact {
        /// What is wrong with it.
        reason: String,
    },
    /// What a layer is said to need can't be read.
    #[error("{reason}")]
    BadNeed {
        /// What can't be read, and why.
        reason: String,
    },
    /// None of a package's files lies in the game.
    #[error("none of the files of {package} lies in the game with the same content")]
    NothingLies {
        /// The package.
        package: String,
    },
    /// A package's files lie in a container, and what that was before is not known.
    #[error("the files of {package} lie in {container}, but it is not known what that was without them")]
    NoOriginal {
        /// The package.
        package: String,
        /// The container.
        container: String,
    },
    /// Files of the game's own seem to lie in it under other names.
    #[error(
        "{} of the game's own {} to lie in it under {}",
        if found.len() == 1 { "a file".to_owned() } else { format!("{} files", found.len()) },
        if found.len() == 1 { "seems" } else { "seem" },
        if found.len() == 1 { "another name" } else { "other names" }
    )]
    OriginalsFound {
        /// Them.
        found: Vec<OriginalRow>,
    },
    /// A fit sheet can't be read.
    #[error("can't read the fit sheet {}", path.display())]
    Sheet {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// Links lead to nothing inside the package.
    #[error("{} link(s) of {package} lead out of it", links.len())]
    LinksOut {
        /// The package.
        package: String,
        /// The links.
        links: Vec<LinkOut>,
    },
}

impl From<LedgerError> for AddError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}
