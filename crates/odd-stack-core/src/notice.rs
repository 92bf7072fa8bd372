//! What a person should know, though the work goes on.

use std::path::PathBuf;

use crate::address::Address;

/// Something a person should know. A face puts it into words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notice {
    /// A change that an earlier command had begun was cut short; it is finished now, or taken back.
    Recovered(Recovered),
    /// Another process changes the game right now: what is shown may be half of it.
    BeingChanged {
        /// The process and its command.
        holder: String,
    },
    /// A file of the game has the name of another one except for case: it is left alone.
    SameButForCase {
        /// Its name.
        spelled: String,
    },
    /// Things in a folder of the game have names that are not text, or too long a path: they are left alone.
    Unnamable {
        /// One of them.
        first: PathBuf,
        /// How many there are.
        count: usize,
    },
    /// The ledger lies in a folder that a cloud client keeps the same on other computers.
    LedgerSynced {
        /// The ledger's folder.
        ledger: PathBuf,
        /// What the client keeps the same.
        synced: PathBuf,
    },
    /// So does a folder of the game.
    RootSynced {
        /// The game's folder.
        root: PathBuf,
        /// What the client keeps the same.
        synced: PathBuf,
    },
    /// An archive does not tell in which code page its names are.
    CodePageGuessed {
        /// The archive, as it is shown.
        package: String,
        /// One of its names, as it was read.
        name: String,
    },
    /// A layer wants cleared what never is.
    NeverCleared {
        /// The layer's name.
        layer: String,
        /// What, and why not.
        refused: String,
    },
    /// Links lie in the game, which are no part of a layer: they stay.
    LinksStay {
        /// One of them.
        first: String,
        /// How many there are.
        count: usize,
    },
    /// A package that lost contents may be renewed from can't be read.
    CannotRenew {
        /// The package.
        package: PathBuf,
        /// Why.
        reason: String,
    },
    /// Stored files were lost and are taken from their package again.
    TakenAgain {
        /// The package.
        package: PathBuf,
        /// How many there are.
        files: usize,
    },
    /// Folders are empty and could not be removed, since another program stands in them.
    FoldersHeld {
        /// One of them.
        first: PathBuf,
        /// How many there are.
        count: usize,
    },
    /// Somebody wrote to a file after the look that decided its leaving the game; or to one, or a new one into a folder, that a
    /// change had put there and that is taken back.
    ChangedLate {
        /// Where it lay.
        path: PathBuf,
        /// Where it is saved.
        saved: PathBuf,
    },
    /// Such a file can't be saved.
    ChangedLateAndUnsaved {
        /// Where it lay.
        path: PathBuf,
        /// Why.
        reason: String,
        /// Where it lies for now.
        lies_at: PathBuf,
    },
    /// Of things that came to where a change that was cut short had to go on: where each lay, and where it is saved.
    MadeWay {
        /// In order of where they lay; never empty.
        kept: Vec<(PathBuf, PathBuf)>,
    },
    /// Files that were to go had gone already.
    GoneAlready {
        /// Where.
        addresses: Vec<Address>,
    },
    /// Files of the game itself that are covered from now on are gone.
    OriginalsGone {
        /// Where.
        addresses: Vec<Address>,
    },
    /// Changes of keys found nothing to change.
    NothingToChange {
        /// Where.
        addresses: Vec<Address>,
        /// Why.
        reason: String,
    },
    /// Files can't be blended, so one whole file counts.
    NotBlended {
        /// Where.
        addresses: Vec<Address>,
        /// Whose file stands in the way, where it is one layer's.
        whose: Option<String>,
        /// Why.
        reason: String,
    },
    /// Folders that were to go stay, since not all in them is of the layers that go.
    FoldersStay {
        /// The uppermost of them.
        folders: Vec<Address>,
    },
}

/// What became of a change that an earlier command had begun.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recovered {
    /// The command that had begun it.
    pub command: String,
    /// When, RFC 3339.
    pub begun_at: String,
    /// It was finished; otherwise it was taken back.
    pub finished: bool,
}
