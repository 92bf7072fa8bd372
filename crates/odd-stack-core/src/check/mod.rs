//! What has become of each file: the whole disk or one address compared with the stack, what is stored compared with what
//! is known of it, and what speaks for an official update.

mod compare;
mod inside;
mod looking;
mod stored;
mod update_signs;

pub use compare::{CheckError, CheckReport, Drifted, check, roots_are_there};
pub use inside::{MemberDrift, MemberTurn};
pub use stored::{DamagedFile, StoredReport, check_stored};
pub use update_signs::UpdateSigns;

pub(crate) use compare::{LookedAt, check_and_keep, check_at};
pub(crate) use inside::{Inside, inside, inside_member, inside_over};
pub(crate) use looking::{look_through, walk_root};
pub(crate) use stored::{
    Lost, Soundness, look_for_damage, lost_contents, lost_original, soundness_of_original,
};
pub(crate) use update_signs::{lies_in_cache, volatile_proposals};
