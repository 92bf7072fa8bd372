//! From a difference between two orders to files on disk, all or nothing.
//!
//! A change runs in this order, and the catalogue's journal row is the mark that decides:
//!
//! 1. everything is decided inside one catalogue transaction (a dry run ends here and rolls back);
//! 2. new contents are staged on the volume they will lie on and made durable;
//! 3. the transaction is committed with the steps and the outcome: **the mark**. Before it nothing
//!    visible has changed and everything made so far is rubbish; after it the change is finished,
//!    or, if the disk refuses a step, taken back;
//! 4. files leave the game (renamed to `originals/`, `trash/` or `kept/`), and that is made durable;
//! 5. folders are renamed, go and are made, files enter the game by rename, and that is made durable;
//! 6. the outcome becomes the stack and the journal is cleared, in one transaction.
//!
//! Every step has a private end in the ledger under a name of its own, so whether it was done can be
//! seen on disk and every step can be repeated. The sync between 4 and 5 makes sure that no file can
//! be found in its new place while the one it replaces was forgotten.
//!
//! Files are decided some thousand at a time, and the steps are kept in little room, since there may be very many. After a stop
//! people and programs go on before the next command repeats the steps: what they wrote to something that goes is kept, and so
//! is what lies in the way by then.

mod apply;
mod base_files;
mod carried_edits;
mod decide;
mod decide_files;
mod decider;
mod decision;
mod direct_changes;
mod discarded;
mod effects;
mod error;
mod execute;
mod fetching;
mod folders;
mod foreign_files;
mod in_the_way;
mod keeping;
mod last_look;
mod left_folders;
mod linking;
mod looking;
mod new_folders;
mod notes;
mod options;
mod other_games;
mod outcome;
mod plan;
mod private_folders;
mod request;
mod revision_before;
mod second_copies;
mod staging;
mod step;
mod steps;
mod version_difference;

pub use apply::Prepared;
pub use error::{ChangeError, Presence, UnmetNeed};
pub use options::{ChangeOptions, Edits};
pub use plan::{CarriedFile, ClashingFile, Difference, Effect, EffectKind, Plan};

pub(crate) use apply::{prepare, recover};
pub(crate) use execute::empty_folder;
pub(crate) use last_look::base_as_seen;
pub(crate) use linking::{Means, may_be_linked};
pub(crate) use request::{BaseBefore, ChangeRequest, Direct, Exchange, FileChanges, ForeignFile};
pub(crate) use revision_before::{AboutBefore, RevisionBefore};
pub(crate) use second_copies::{SecondCopies, SecondPlace};
