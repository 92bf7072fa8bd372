//! Needs that are not met, in words.

use odd_stack_core::jobs::DoubtfulNeed;
use odd_stack_core::stack::{Unmet, UnmetKind};

use super::style::{DIM, WARN, paint};

/// `gulls needs game >=1.8`.
pub fn unmet_words(unmet: &Unmet) -> String {
    let (layer, what) = (&unmet.layer, &unmet.what);
    match unmet.kind {
        UnmetKind::Clash => {
            format!("{layer} is incompatible with {}", what.strip_prefix("no ").unwrap_or(what))
        }
        UnmetKind::Order => format!("{layer} must lie {what}"),
        UnmetKind::MadeOver => format!("{layer} was made {what}, and its files hold what that had there"),
        UnmetKind::FileChanged => {
            format!("{layer} needs {} unchanged by others", what.strip_prefix("clean ").unwrap_or(what))
        }
        UnmetKind::OtherFile => format!("{layer} was made from {what}"),
        _ => format!("{layer} needs {what}"),
    }
}

/// A need that is not met, with what there is instead.
pub fn unmet_line(unmet: &Unmet) -> String {
    let line = format!("{}: {}", unmet_words(unmet), unmet.found);
    if unmet.despite { paint(DIM, &format!("{line} (you wanted it so)")) } else { paint(WARN, &line) }
}

/// Why it is doubtful whether a need is met.
pub fn doubt_words(doubtful: &DoubtfulNeed) -> String {
    let DoubtfulNeed { layer, needs, version, is_met, number } = doubtful;
    let is_met = if *is_met { "met" } else { "not met" };
    format!(
        "{layer} needs game {needs}: as written that is {is_met} by {version}, but {number} may be meant for a later part \
         of it, so whether it fits is doubtful"
    )
}
