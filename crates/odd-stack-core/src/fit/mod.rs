//! How a package's files are placed onto the roots.
//!
//! Pure: members, the game's tree and the rules go in, placements and what was found come out.

mod chosen;
mod detect;
mod finding;
mod game_tree;
mod inner;
mod input;
mod into_container;
mod merge;
mod names;
mod outcome;
mod place;
mod placed;
mod realign;
mod remembered;
mod resolve;
mod rules;
mod sheet;
mod sheet_rules;
mod sheet_text;
#[cfg(test)]
mod tests;
mod wrapper;

use thiserror::Error;

use crate::address::{Address, AddressError, RelPath};

pub use detect::{ToldName, holds_backups, is_in_backup, suspected_copies};
pub use finding::Finding;
pub use game_tree::{GameTree, NamedThings, ProgramSeen, RootSeen, WantedNames, each_pattern};
pub use input::{FitInput, Hints};
pub use into_container::{ContainerSeen, IntoContainer, into_container};
pub use outcome::{ChoiceMade, Fit, LeftOut, PartSeen, Placement};
pub use place::{RulesFound, draft, fit, unreached};
pub use realign::{OldAddresses, Realigning};
pub use remembered::Inside;
pub use rules::{
    Candidate, Choice, ChoiceOption, Effect, Part, Place, Proof, Rank, Rules, SetKey, Start, Unclear, Wishes,
};
pub use sheet::FitSheet;
pub use sheet::MOST_SHEET_BYTES;
pub use sheet::SHEET_FORMAT;
pub use sheet::SHEET_NAME;
pub use sheet::SheetChoice;
pub use sheet::SheetNeeds;
pub use sheet::SheetOption;
pub use sheet::SheetOrder;
pub use sheet::SheetPart;
pub use sheet::SheetPlace;
pub use sheet::is_sheet;
pub use sheet_rules::check_addresses;
pub use sheet_rules::check_members;
pub use wrapper::wrapper_of;

pub(crate) use detect::name_told;
pub(crate) use place::{is_document, set_aside};
pub(crate) use rules::Patterns;

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
    /// A fit sheet can't be read.
    #[error("the fit sheet has a mistake in line {line}, column {column}: {reason}")]
    BadSheet {
        /// The line, from 1.
        line: usize,
        /// The character in it, from 1.
        column: usize,
        /// What is wrong there.
        reason: String,
    },
    /// The package has no fit sheet.
    #[error("it has no oddfit.toml")]
    NoSheet,
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
    #[error("both `{first}` and `{second}` would go to {address}")]
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
    #[error("`{from}` would go to {address}, and `.oddstack` is where Odd Stack keeps covered files")]
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
        /// What may be done with them: where what is in them would go, were each a package of its own; all of it
        /// unpacked into the game's folder; left packed.
        candidates: Vec<Candidate>,
    },
    /// Where files go is not clear.
    #[error("{}", .0.question)]
    Unclear(Unclear),
    /// One of several must be chosen first.
    #[error("choose first: {}", choices.iter().map(NotChosen::to_text).collect::<Vec<_>>().join("; "))]
    ChoiceNeeded {
        /// The choices.
        choices: Vec<NotChosen>,
        /// Parts that are offered beside.
        parts: Vec<PartSeen>,
    },
    /// A choice has no such option.
    #[error("`{id}` can't be `{option}`; it can be: {}", options.join(", "))]
    NoSuchOption {
        /// The choice or part.
        id: String,
        /// What was chosen.
        option: String,
        /// What can be.
        options: Vec<String>,
    },
    /// There is nothing of that name to choose.
    #[error(
        "there is nothing named `{id}` to choose{}",
        match known.as_slice() {
            [] => ", since the package leaves nothing to choose: leave that out".to_owned(),
            known => format!("; what can be chosen is: {}", known.join(", ")),
        }
    )]
    NoSuchChoice {
        /// What was given.
        id: String,
        /// Choices and parts there are.
        known: Vec<String>,
    },
    /// Where a part's files go can't be told from the game.
    #[error("where the files of the part `{id}` go is not clear")]
    PartNeedsPlace {
        /// The part.
        id: String,
        /// Its folder in the package.
        folder: String,
    },
    /// No file is left to place.
    #[error("none of the package's files is placed: {reason}")]
    NothingPlaced {
        /// Why.
        reason: NothingReason,
    },
}

/// Why no file of a package is placed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum NothingReason {
    /// There are no files.
    #[error("it has none")]
    Empty,
    /// Patterns of what to skip meet all.
    #[error("all of them are to be skipped")]
    Skipped,
    /// Patterns of what alone to take meet none.
    #[error("none is among those that alone are wanted")]
    NotAmongOnly,
    /// All are what the game has.
    #[error("all are copies of the game's own files")]
    Originals,
    /// All belong to options that were not chosen, or to parts that are off.
    #[error("nothing of it was chosen")]
    NotChosen,
    /// There is nothing but a fit sheet.
    #[error("it has nothing but a fit sheet")]
    OnlySheet,
    /// No place reaches any.
    #[error("no place reaches them")]
    NoPlace,
}

/// A choice that nobody has made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotChosen {
    /// Its id.
    pub id: String,
    /// What to ask.
    pub ask: Option<String>,
    /// The options.
    pub options: Vec<String>,
}

impl NotChosen {
    fn to_text(&self) -> String {
        format!("{} ({})", self.ask.as_deref().unwrap_or(&self.id), self.options.join(" or "))
    }
}
