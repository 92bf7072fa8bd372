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

mod apart;
mod base_files;
mod beneath;
mod blending;
mod carry;
mod change;
mod change_error;
mod check;
mod decide;
mod decide_folders;
mod direct;
mod drift;
mod effects;
mod execute;
mod expected;
mod game_version;
mod in_the_way;
mod left_folders;
mod look;
mod lying;
mod named;
mod new_folders;
mod notes;
mod other_games;
mod outcome;
mod places;
mod plan;
mod seam;
mod sides;
mod signs;
mod spelling;
mod steps;
mod stored;
mod survey;
mod thrown;
mod walk;

pub use carry::{CarriedFile, ClashingFile};
pub use change::{ChangeOptions, Edits, Prepared, Recovered};
pub use change_error::{ChangeError, Presence, UnmetNeed};
pub use check::{CheckError, CheckReport, Drifted, check, roots_are_there};
pub use drift::{Drift, DriftKind};
pub use game_version::{GameVersionNow, game_version_now};
pub use plan::{Difference, Effect, EffectKind, Plan};
pub use seam::{Copied, RealDisk, Seam, Stamp};
pub use stored::{DamagedFile, StoredReport, check_stored};

pub(crate) use direct::Direct;
pub(crate) use drift::may_be_as_it_was;
pub(crate) use seam::shares_blocks;
pub use signs::UpdateSigns;
pub(crate) use signs::{lies_in_cache, volatile_proposals};

pub(crate) use blending::Blender;
pub(crate) use carry::Exchange;
pub(crate) use change::{ChangeRequest, discard_new_contents, prepare, recover};
pub(crate) use check::{LookedAt, check_and_keep, check_at};
pub(crate) use execute::empty_folder;
pub(crate) use game_version::{game_version_under, tells_version};
pub(crate) use look::{Seen, is_nothing_there, is_one_folder, is_one_volume, look_at};
pub(crate) use lying::Lying;
pub(crate) use named::{NAMES, Named, ensure_names, read_names};
pub(crate) use outcome::BaseBefore;
pub(crate) use places::{is_no_games, is_remote, synced_around};
pub(crate) use seam::hide_side_folder;
pub(crate) use sides::{KEPT, ORIGINALS, STAGE, TRASH, check_room, make_private_folder};
pub(crate) use spelling::{folders_on_disk, path_on_disk, paths_on_disk};
pub(crate) use stored::{Lost, Soundness, look_for_damage, soundness_of_original};
pub(crate) use survey::base_as_seen;
pub(crate) use walk::{WalkError, Walked, look_through, walk, walk_root};
