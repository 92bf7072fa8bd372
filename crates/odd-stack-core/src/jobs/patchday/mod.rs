//! Official updates, planned or not.

pub(super) mod error;
pub(super) mod judge;
pub(super) mod new_base;
pub(super) mod old_settings;
pub(super) mod patch_day;
pub(super) mod report;
mod touched;
pub(super) mod unplanned;
