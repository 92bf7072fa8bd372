//! What the ledger stores: the way out where it is damaged.

pub(super) mod originals;
pub(super) mod renew;
pub(super) mod rescue;
