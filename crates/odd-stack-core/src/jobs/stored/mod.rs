//! What the ledger stores: the way out where it is damaged, and what of it can go.

pub(super) mod originals;
pub(super) mod renew;
pub(super) mod rescue;
pub(super) mod tidy;
