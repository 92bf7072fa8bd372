//! A change beside other games that use a folder of this one: they hold still meanwhile, and what they have laid there
//! changes only where the user said so.

use std::collections::BTreeSet;
use std::time::Duration;

use super::decision::Decision;
use super::error::ChangeError;
use super::options::ChangeOptions;
use crate::address::Address;
use crate::ledger::{Ledger, Lock, OtherGames, SharedWith};

/// How long another game's change is waited for.
const WAIT_FOR_OTHERS: Duration = Duration::from_secs(10);

/// What other games have in folders of this one, none of which can change them meanwhile.
pub(super) fn hold_others(ledger: &Ledger) -> Result<(OtherGames, Vec<Lock>), ChangeError> {
    let others = ledger.other_games()?;
    if others.is_nobody() {
        return Ok((others, Vec::new()));
    }
    let still = others.hold_still(WAIT_FOR_OTHERS)?;
    // What they had before they were still may be old.
    Ok((ledger.other_games()?, still))
}

/// Refuses what changes files of other games, unless the user said so: those that lie where this game has others or none,
/// and those that both have just so.
pub(super) fn others_are_asked(
    ledger: &Ledger,
    decided: Result<Decision, ChangeError>,
    options: ChangeOptions,
    others: &OtherGames,
) -> Result<Decision, ChangeError> {
    if others.is_nobody() || options.over_other_games {
        return decided;
    }
    let addresses = |decision: &Decision| {
        let drifted = decision.plan.drifted.iter().map(|drift| drift.address.clone());
        (drifted.collect(), decision.plan.effects.iter().map(|effect| effect.address.clone()).collect())
    };
    let (drifted, changing): (BTreeSet<Address>, BTreeSet<Address>) = match &decided {
        Ok(decision) => addresses(decision),
        Err(ChangeError::Drifted { drifted }) => {
            (drifted.iter().map(|drift| drift.address.clone()).collect(), BTreeSet::new())
        }
        Err(_) => return decided,
    };
    let order = ledger.present_order()?;
    let mut files = Vec::new();
    for address in drifted.union(&changing) {
        let Some(root) = ledger.game().root_named(&address.root) else { continue };
        let key = ledger.game().folding.key(address.path.as_str());
        let Some(whose) = others.whose(root.id, &key) else { continue };
        let is_drifted = drifted.contains(address);
        let own = ledger.column(root.id, &key)?.provider(&order).entry().map(|entry| entry.hash);
        let is_both = !is_drifted && own.is_some_and(|own| others.has_content(root.id, &key, own));
        if is_drifted || is_both {
            files.push((address.clone(), SharedWith { is_both, ..whose.clone() }));
        }
    }
    if files.is_empty() { decided } else { Err(ChangeError::OfOtherGames { files }) }
}
