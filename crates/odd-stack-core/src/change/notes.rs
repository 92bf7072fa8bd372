//! What the user should know of a change, said once for each cause.

use super::decide::Decider;
use crate::address::Address;

/// A cause of something that the user should know; of one cause it is said once.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Note {
    /// What was to go had gone already.
    GoneAlready,
    /// A file of the base that is covered from now on is gone.
    OriginalGone,
    /// Changes of keys found nothing to change.
    Undone(String),
    /// One whole file counts.
    NotBlended { whose: Option<String>, reason: String },
}

impl Note {
    /// The sentence on these addresses.
    fn tell(&self, addresses: &[Address]) -> String {
        const MOST: usize = 4;
        let shown: Vec<String> = addresses.iter().take(MOST).map(ToString::to_string).collect();
        let more = addresses.len() - shown.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let (which, is_one) = (format!("{}{more}", shown.join(", ")), addresses.len() == 1);
        let number = |one: &'static str, several: &'static str| if is_one { one } else { several };
        match self {
            Self::GoneAlready => format!("{which} {} gone already", number("was", "were")),
            Self::OriginalGone => format!(
                "{which} of the game itself {} gone; {} can't come back later",
                number("is", "are"),
                number("it", "they")
            ),
            Self::Undone(reason) => format!("{which}: {reason}"),
            Self::NotBlended { whose, reason } => format!(
                "{which} can't be blended, so one whole file counts{}: {}{reason}",
                number("", " for each"),
                whose.as_ref().map(|whose| format!("{whose}: ")).unwrap_or_default()
            ),
        }
    }
}

impl Decider<'_> {
    /// Puts the notes into words.
    pub(super) fn tell_notes(&mut self) {
        for (note, mut addresses) in std::mem::take(&mut self.notes) {
            addresses.sort();
            addresses.dedup();
            self.decision.plan.warnings.push(note.tell(&addresses));
        }
    }
}
