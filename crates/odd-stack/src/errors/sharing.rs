//! Folders that several games use.

use odd_stack_core::address::Address;
use odd_stack_core::jobs::RegisterError;
use odd_stack_core::ledger::SharedWith;

use super::{Exit, Failure};
use crate::shell::in_quotes;
use crate::show::units;

/// Files in a shared folder that another game has laid there.
pub fn of_other_games(files: &[(Address, SharedWith)]) -> Failure {
    let (count, belong) =
        (units::files(files.len() as u64), if files.len() == 1 { "belongs" } else { "belong" });
    let message = format!(
        "{count} that would change {belong} to another game that uses the folder, too; nothing was changed:"
    );
    let lines = files.iter().map(|(address, whose)| {
        let too = if whose.is_both { ", and of this one" } else { "" };
        format!("{address}  (of {} in {}{too})", whose.layer, whose.game)
    });
    let mut failure = Failure::new(Exit::Undecided, "of_other_game", message).about(lines);
    let mut named: Vec<&SharedWith> = Vec::new();
    for (_, whose) in files {
        if !whose.is_both && !named.contains(&whose) {
            named.push(whose);
            let lift = format!("oddstack -g {} lift {}", in_quotes(&whose.game), in_quotes(&whose.layer));
            failure = failure.choice("take that layer off the other game, then run this again", &lift);
        }
    }
    failure.choice("save what lies there, and go on", "--over-other-game")
}

/// A further root that is another game's as well.
pub fn root_of_game(error: &RegisterError, root: &str) -> Failure {
    Failure::of(Exit::Undecided, "root_of_game", error).choice(
        "both games use it: neither changes what the other has laid there",
        format!("--shares {root}"),
    )
}
