//! Why a change was not made, with what there is to know for a way out.

use std::io;
use std::path::PathBuf;

use thiserror::Error;

use super::plan::ClashingFile;
use crate::address::Address;
use crate::check::DamagedFile;
use crate::expected::Drift;
use crate::ledger::{LedgerError, Ongoing, SharedWith};
use crate::stack::Unmet;

/// Where a layer is before a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Presence {
    /// On the game.
    Laid,
    /// In the stack, off the game.
    Lifted,
    /// Not in the stack.
    Absent,
}

/// A need that a change would leave unmet: the judgement, with what only the change knows, of which the face makes ways
/// out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnmetNeed {
    /// The need.
    pub unmet: Unmet,
    /// Where the layer that needs it is now.
    pub needer: Presence,
    /// The change brings that layer, or a version of it.
    pub needer_comes: bool,
    /// Where the other layer is now.
    pub other: Presence,
    /// The change brings the other layer, or a version of it.
    pub other_comes: bool,
}

/// Why a change was not made. The game is as it was, unless the variant says otherwise.
#[derive(Debug, Error)]
pub enum ChangeError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A container can't be made of what lies beneath it.
    #[error("{container} can't be changed inside: {reason}")]
    NotIntoContainer {
        /// The container.
        container: String,
        /// What stands in the way.
        reason: String,
    },
    /// Stored contents of layers are gone or not what they were.
    #[error("{} file(s) of layers are missing or damaged in the ledger", files.len())]
    ContentsLost {
        /// The files.
        files: Vec<DamagedFile>,
    },
    /// Files of the game's own that would come back are gone or not what they were; a decision is needed.
    #[error("{} file(s) of the game's own are missing or damaged in the ledger", files.len())]
    OriginalsLost {
        /// The files.
        files: Vec<DamagedFile>,
    },
    /// Files that must change are not what the stack says; a decision is needed.
    #[error("{} file(s) in the way are not as Odd Stack left them", drifted.len())]
    Drifted {
        /// The files.
        drifted: Vec<Drift>,
    },
    /// Files that must change are another game's, which uses the same folder; a decision is needed.
    #[error("{} file(s) are another game's", files.len())]
    OfOtherGames {
        /// The files, and whose they are.
        files: Vec<(Address, SharedWith)>,
    },
    /// A person and the new version of a layer changed the same in a file; a decision is needed.
    #[error("{} file(s) have edits of yours where the new version changed the same", files.len())]
    EditsClash {
        /// The files.
        files: Vec<ClashingFile>,
    },
    /// Layers would be without what they need; a decision is needed.
    #[error("{}", if unmet.len() == 1 { "a need is not met".to_owned() } else { format!("{} needs are not met", unmet.len()) })]
    Unmet {
        /// What is not met.
        unmet: Vec<UnmetNeed>,
    },
    /// Rules of order that can't all be kept.
    #[error("the layers' rules of order go in a circle: {} above {}", layers.join(" above "), layers.first().map_or("", String::as_str))]
    Circle {
        /// Each must lie above the next, and the last above the first.
        layers: Vec<String>,
    },
    /// Something is under way that must be ended first; a decision is needed.
    #[error("a {} is under way since {}", ongoing.kind, ongoing.begun_at)]
    UnderWay {
        /// What.
        ongoing: Ongoing,
    },
    /// One address is a file for one and a folder for another.
    #[error("{address} is a file for {file_of} and a folder for {folder_of}; both can't lie on the game")]
    FileAgainstFolder {
        /// The address.
        address: Address,
        /// Who has a file there.
        file_of: String,
        /// Who has a folder there.
        folder_of: String,
    },
    /// A link lies where files are to go into, or come from.
    #[error(
        "{address} is a link on disk, not a folder, and nothing is written or taken away through it; \
         put a real folder in its place"
    )]
    NotAFolder {
        /// The address.
        address: Address,
    },
    /// A root's folder is gone.
    #[error("the folder {} of the root `{root}` is not there: was the game moved, or is its disk not plugged in?", folder.display())]
    RootMissing {
        /// The root's name.
        root: String,
        /// Where it should be.
        folder: PathBuf,
    },
    /// A look at the disk failed.
    #[error("can't look at {}", path.display())]
    Look {
        /// At what.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The disk refused to stage a file.
    #[error("can't prepare {}", path.display())]
    Stage {
        /// Where.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The disk refused a step after the mark; all was taken back.
    #[error("can't change {}{}; everything is as it was", path.display(), likely_cause(source))]
    TakenBack {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The disk refused a step and refused to take all back as well. The next command tries again;
    /// nothing is lost.
    #[error(
        "can't change {}, and could not take back what was done before; nothing is lost: make it accessible and \
         run any command to finish",
        path.display()
    )]
    Stuck {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// All files are in place and the ledger could not be told so. The next command does it.
    #[error(
        "the game is changed as asked, but that could not be written down; make room and run any command to finish"
    )]
    NotWrittenDown {
        /// Why.
        source: Box<ChangeError>,
    },
    /// The user asked to stop.
    #[error("stopped as asked; nothing was changed")]
    Cancelled,
}

/// What most likely keeps a file from being changed, as the end of a sentence.
fn likely_cause(error: &io::Error) -> &'static str {
    match error.kind() {
        io::ErrorKind::PermissionDenied if cfg!(windows) => {
            " (is it open in another program, or write-protected? Below `Program Files` only administrators may write: start the \
             terminal as administrator)"
        }
        io::ErrorKind::PermissionDenied | io::ErrorKind::ResourceBusy | io::ErrorKind::ReadOnlyFilesystem => {
            " (is it open in another program, or write-protected?)"
        }
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => " (its folder is gone)",
        io::ErrorKind::StorageFull => " (the disk is full)",
        _ => "",
    }
}
