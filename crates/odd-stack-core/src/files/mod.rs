//! The way to the file system: one seam that a test can make fail at any single step, looking without following links,
//! walking, hashing, patience with what holds a file for a moment, and the names of private folders.

mod beneath;
mod hashing;
mod links;
mod look;
mod patience;
mod places;
mod private_folders;
mod reading;
mod seam;
mod walk;
#[cfg(windows)]
pub(crate) mod windows;

pub use seam::{Block, Copied, RealDisk, Seam, Stamp};

pub(crate) use hashing::HashingReader;
pub(crate) use links::{identity, is_one_file, is_seldom_written};
pub(crate) use look::{Seen, is_nothing_there, is_one_folder, is_one_volume, look_at};
pub(crate) use patience::{firmly, quietly};
pub(crate) use places::{is_no_games, is_remote, may_share_blocks, synced_around};
pub(crate) use private_folders::{FILES_A_FOLDER, KEPT, ORIGINALS, STAGE, TRASH};
pub(crate) use reading::{open_at_once, open_below, open_regular, read_exact_at, read_small};
pub(crate) use seam::{hide_side_folder, shares_blocks};
pub(crate) use walk::{WalkError, Walked, walk};
