//! What the user should know of a change, said once for each cause.

use super::decider::Decider;

impl Decider<'_> {
    /// Puts the notes into words.
    pub(super) fn tell_notes(&mut self) {
        for (note, mut addresses) in std::mem::take(&mut self.noted.notes) {
            addresses.sort();
            addresses.dedup();
            self.decision.plan.warnings.push(note.tell(&addresses));
        }
    }
}
