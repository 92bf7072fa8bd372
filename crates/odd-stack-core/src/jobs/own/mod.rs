//! The user's own: edits of settings, and what becomes of drifted files.

pub(super) mod mend;
pub(super) mod tweak;
