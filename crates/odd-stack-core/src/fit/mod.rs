//! How a package's files are placed onto the roots.
//!
//! Pure: members, the game's tree and the rules go in, placements and what was found come out.

mod place;
mod rules;
mod sheet;

use thiserror::Error;

pub use place::{Finding, Fit, GameTree, LeftOut, Placement, fit, wrapper_of};
pub use rules::{Place, Rules};
pub use sheet::{MOST_SHEET_BYTES, SHEET_NAME, SheetHead, is_sheet};

use crate::address::{Address, AddressError, RelPath};

/// Why files can't be placed. Nothing was written.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FitError {
    /// Not a `FROM=TO`.
    #[error("`{text}` is not FROM=TO, such as `textures=game:data/textures`")]
    BadPlace {
        /// What was given.
        text: String,
    },
    /// Not a pattern.
    #[error("`{pattern}` is not a pattern: {reason}")]
    BadPattern {
        /// What was given.
        pattern: String,
        /// What is wrong with it.
        reason: String,
    },
    /// The package's fit sheet can't be read.
    #[error("the package's oddfit.toml has a mistake in line {line}, column {column}: {reason}")]
    BadSheet {
        /// The line, from 1.
        line: usize,
        /// The character in it, from 1.
        column: usize,
        /// What is wrong there.
        reason: String,
    },
    /// The package has nothing under that name.
    #[error("the package has no file or folder `{from}` (it has at its top: {})", tops.join(", "))]
    FromMissing {
        /// What was given.
        from: String,
        /// What lies at the package's top.
        tops: Vec<String>,
    },
    /// The target is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// Two files would go to one address.
    #[error("both `{first}` and `{second}` would go to {address}; leave one out with --skip")]
    TwoToOne {
        /// One member.
        first: RelPath,
        /// The other.
        second: RelPath,
        /// Where both go.
        address: Address,
    },
    /// One address would be a file and a folder.
    #[error("{address} would be both a file and a folder")]
    FileAgainstFolder {
        /// The address.
        address: Address,
    },
    /// The place is Odd Stack's own.
    #[error(
        "`{from}` would go to {address}, and `.oddstack` is where Odd Stack keeps covered files; leave it out with --skip"
    )]
    Reserved {
        /// The member.
        from: RelPath,
        /// Where it would go.
        address: Address,
    },
    /// The package holds nothing but other archives and things to read.
    #[error(
        "the package only wraps {}: say whether that is to be unpacked",
        archives.iter().map(|path| format!("`{path}`")).collect::<Vec<_>>().join(", ")
    )]
    OnlyPacked {
        /// The archives in it.
        archives: Vec<RelPath>,
        /// For each of them that can be looked into, what to place: all of it, or the one folder that
        /// is around everything in it.
        insides: Vec<RelPath>,
    },
    /// No file is left to place.
    #[error("none of the package's files is placed: {reason}")]
    NothingPlaced {
        /// Why.
        reason: String,
    },
}
