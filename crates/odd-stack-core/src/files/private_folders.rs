//! The names of folders that are private to a game, beside it and on the same volume: a rename is enough to move files there.

/// Folders beside the game through which files go.
pub(crate) const STAGE: &str = "stage";
pub(crate) const TRASH: &str = "trash";
pub(crate) const ORIGINALS: &str = "originals";
pub(crate) const KEPT: &str = "kept";

/// How many staged or discarded files share a folder.
pub(crate) const FILES_A_FOLDER: usize = 512;
