//! Second folders of the game: each a complete one in the arrangement of a lineup, to be started beside the first.
//!
//! What lies there is made of the game's own files, wherever they lie now, and of the ledger's contents. It is known what was put
//! and when, so that a later build changes only what differs, and what a person or the game changed there is not lost. A build that
//! is cut short goes on when it is run again: what was to be put is written down before.

pub(super) mod build;
pub(super) mod checking;
pub(super) mod error;
pub(super) mod judge;
pub(super) mod plan;
pub(super) mod playing;
pub(super) mod request;
pub(super) mod wanted;
