//! Needs that are not met, in words.

use odd_stack_core::stack::{Unmet, UnmetKind};

use super::style::{DIM, WARN, paint};

/// `gulls needs game >=1.8`.
pub fn unmet_words(unmet: &Unmet) -> String {
    let (layer, what) = (&unmet.layer, &unmet.what);
    match unmet.kind {
        UnmetKind::Clash => format!("{layer} can't live with {}", what.strip_prefix("no ").unwrap_or(what)),
        UnmetKind::Order => format!("{layer} must lie {what}"),
        UnmetKind::MadeOver => format!("{layer} was made {what}, and its files hold what that had there"),
        _ => format!("{layer} needs {what}"),
    }
}

/// A need that is not met, with what there is instead.
pub fn unmet_line(unmet: &Unmet) -> String {
    let line = format!("{}: {}", unmet_words(unmet), unmet.found);
    if unmet.despite { paint(DIM, &format!("{line} (you wanted it so)")) } else { paint(WARN, &line) }
}
