//! What a person should know of a change, told once for each cause.

use super::decider::Decider;

impl Decider<'_> {
    /// Tells the notes, each with all its addresses.
    pub(super) fn tell_notes(&mut self) {
        for (note, mut addresses) in std::mem::take(&mut self.noted.notes) {
            addresses.sort();
            addresses.dedup();
            self.decision.plan.notices.push(note.of(addresses));
        }
    }
}
