//! Which files of a package are written to where they will lie while they are read.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::contents::Contents;
use super::request::AddPlace;
use crate::address::INTO;
use crate::change::{Means, may_be_linked};
use crate::fit::Fit;
use crate::ledger::{Ledger, LedgerError, check_room};
use crate::package::Package;
use crate::stack::{Order, Target};

/// Has files that are too big for packs and will come into the game as copies written twice while they are read, where there is
/// room for it: they would have to be read again else. A file that may blend with others is not there as it is read.
pub(in crate::jobs) fn write_copies_again(
    (ledger, order): (&Ledger, &Order),
    package: &Package,
    placed: &Fit,
    place: AddPlace,
    contents: &Contents<'_>,
) -> Result<(), LedgerError> {
    // One that goes lower may be covered, and most of a new version may be as it was.
    let AddPlace::New { target: None | Some(Target::Top), lifted: false } = place else { return Ok(()) };
    if !contents.are_stored() {
        return Ok(());
    }
    let game = ledger.game();
    let mut means = Means::of(ledger);
    let mut copies: BTreeMap<usize, (PathBuf, u64)> = BTreeMap::new();
    let mut all_bytes = 0;
    for placement in &placed.placements {
        let (member, path) = (&package.members()[placement.member], placement.to.path.as_str());
        all_bytes += member.size_bytes;
        if member.size_bytes < ledger.small_bytes()
            || path.contains(INTO)
            || contents.hash_of(member.content).is_some()
        {
            continue;
        }
        let Some(root) = game.root_named(&placement.to.root) else { continue };
        let side = ledger.site().side(root);
        let is_settings = order.blend_rules().format_of(path).is_some();
        let may_link = may_be_linked(path, is_settings, member.executable == Some(true));
        let is_copied = !is_settings
            && !means.share_blocks(&side)
            && !means.link(member.size_bytes, &side, (root.id, &game.folding.key(path)), may_link)?;
        if is_copied {
            copies.entry(member.content).or_insert((side, member.size_bytes));
        }
    }
    let mut sides: BTreeMap<&Path, u64> = BTreeMap::new();
    for (side, size_bytes) in copies.values() {
        *sides.entry(side).or_default() += size_bytes;
    }
    for (side, copied_bytes) in sides {
        let stored_bytes = if means.is_beside(side) { all_bytes } else { 0 };
        if check_room(side, stored_bytes + copied_bytes).is_err() {
            return Ok(());
        }
    }
    contents.write_again(ledger, copies.into_iter().map(|(content, (side, _))| (content, side)));
    Ok(())
}
