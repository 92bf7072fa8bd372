//! Room that is kept for the day when the disk is full: looking at the game and taking layers off must still be possible
//! then.

use std::fs::{self, File};
use std::path::Path;

use fs4::FileExt;

/// The file in the ledger's folder that holds the room.
pub(crate) const NAME: &str = "reserve";
/// How much is kept; enough for the record of taking some ten thousand files off.
pub(super) const ROOM_BYTES: u64 = 4 << 20;
/// Room is only kept where there is plenty.
const PLENTY_BYTES: u64 = 256 << 20;

/// Gives the room up; says whether there was any.
pub(super) fn give_up(folder: &Path) -> bool {
    fs::remove_file(folder.join(NAME)).is_ok()
}

/// Gives the room up where there is hardly any other.
pub(crate) fn give_up_if_needed(folder: &Path) {
    if fs4::available_space(folder).is_ok_and(|free_bytes| free_bytes < ROOM_BYTES) {
        give_up(folder);
    }
}

/// Keeps the room, where there is plenty and none is kept.
pub(crate) fn keep(folder: &Path) {
    let path = folder.join(NAME);
    if path.exists() || fs4::available_space(folder).is_ok_and(|free_bytes| free_bytes < PLENTY_BYTES) {
        return;
    }
    let kept = File::create_new(&path).and_then(|file| FileExt::allocate(&file, ROOM_BYTES));
    if kept.is_err() {
        // It is of no use then.
        let _ = fs::remove_file(path);
    }
}
