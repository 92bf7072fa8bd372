//! The user's own: edits of settings, and what becomes of drifted files.

mod kept_edits;
pub(super) mod mend;
mod own_layer;
pub(super) mod tweak;
