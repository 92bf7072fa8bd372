//! The user's own: edits of settings, and what becomes of drifted files.

pub(super) mod mend;
mod own_layer;
pub(super) mod tweak;
