//! Where layers meet: what they contest, who wins, what is at an address.

pub(super) mod blend_rules;
pub(super) mod conflicts;
pub(super) mod differs;
pub(super) mod keys;
pub(super) mod load_order;
pub(super) mod settle;
pub(super) mod trace;
