//! Starting the game, what layers want cleared, and whether one sees that they work.

pub(super) mod clearing;
pub(super) mod culprit;
pub(super) mod playing;
pub(super) mod proofs;
