//! Needs that a change would leave unmet, and the ways out.

use super::{Exit, Failure};
use crate::shell::quoted;
use crate::show::needs::unmet_words;
use odd_stack_core::change::{ChangeError, Presence, UnmetNeed};
use odd_stack_core::stack::UnmetKind;

/// Needs that would not be met, with what would help for each.
pub(super) fn unmet_needs(needs: &[UnmetNeed], error: &ChangeError) -> Failure {
    let mut failure = Failure::of(Exit::Undecided, "unmet_need", error);
    if needs.iter().any(|need| need.unmet.found.contains("not known")) {
        failure.message.push_str(
            "; where the game's version is not known, state it with `oddstack game set --game-version`",
        );
    }
    let is_of_version = |need: &&UnmetNeed| need.unmet.kind == UnmetKind::LayerVersion;
    for need in needs.iter().filter(is_of_version) {
        let UnmetNeed { unmet, needer_comes, .. } = need;
        let which = if *needer_comes { unmet.other.as_ref() } else { Some(&unmet.layer) };
        let which = which.map(String::as_str).unwrap_or_default();
        let advice = format!("; upgrade {which} first, or in the same command");
        if !failure.message.contains(&advice) {
            failure.message.push_str(&advice);
        }
    }
    failure.message.push_str("; nothing was changed:");
    let mut failure = failure
        .about(needs.iter().map(|need| format!("{}, and {}", unmet_words(&need.unmet), need.unmet.found)));
    for need in needs {
        // Where several rules of order are against it, no one place helps.
        let is_order = |other: &&UnmetNeed| {
            other.unmet.kind == UnmetKind::Order && other.unmet.layer == need.unmet.layer
        };
        if need.unmet.kind != UnmetKind::Order || needs.iter().filter(is_order).count() == 1 {
            failure = ways_out(need, failure);
        }
    }
    failure.choice("continue despite unmet requirements, and remember this decision", "--despite")
}

/// What would help for one need.
fn ways_out(need: &UnmetNeed, failure: Failure) -> Failure {
    let UnmetNeed { unmet, needer, needer_comes, other_comes, .. } = need;
    let other = unmet.other.as_deref().unwrap_or_default();
    let (layer, quoted_other) = (quoted(&unmet.layer), quoted(other));
    let lift = |failure: Failure, name: &str| {
        failure.choice(&format!("lift {name} first"), format!("oddstack lift {}", quoted(name)))
    };
    // A layer that the change brings is not on the game to be lifted.
    let needer_stays = *needer == Presence::Laid && !needer_comes;
    match unmet.kind {
        UnmetKind::LayerMissing | UnmetKind::LayerVersion | UnmetKind::MadeOver => {
            let failure = match (unmet.kind, need.other) {
                (UnmetKind::LayerMissing | UnmetKind::MadeOver, Presence::Lifted) => {
                    failure.choice(&format!("lay {other} first"), format!("oddstack lay {quoted_other}"))
                }
                _ => failure,
            };
            if needer_stays { lift(failure, &unmet.layer) } else { failure }
        }
        UnmetKind::Clash if need.other == Presence::Laid && !other_comes => lift(failure, other),
        UnmetKind::Clash if needer_stays => lift(failure, &unmet.layer),
        UnmetKind::Order => {
            let option = unmet.what.split(' ').next().unwrap_or("above");
            match needer {
                // It was put where its rules have it, as far as that goes, or where somebody said.
                Presence::Absent => failure,
                _ => failure.choice(
                    "move it there first",
                    format!("oddstack move {layer} --{option} {quoted_other}"),
                ),
            }
        }
        UnmetKind::FileChanged if !other.is_empty() && !other_comes => lift(failure, other),
        UnmetKind::FileChanged | UnmetKind::OtherFile if needer_stays => lift(failure, &unmet.layer),
        UnmetKind::Clash | UnmetKind::GameVersion | UnmetKind::FileChanged | UnmetKind::OtherFile => failure,
    }
}
