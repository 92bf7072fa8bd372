//! Which files of a package are written to where they will lie while they are read.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::contents::Contents;
use super::request::AddPlace;
use crate::address::INTO;
use crate::change::{Means, may_be_linked};
use crate::files::Stamp;
use crate::fit::Fit;
use crate::game::Root;
use crate::ledger::{Ledger, LedgerError, check_room};
use crate::package::Package;
use crate::stack::{Order, Target, mode_over};

/// Has files that will come into the game as copies written twice while they are read, where there is room for it: they
/// would have to be read again else. A file that may blend with others is not there as it is read.
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
    let roots: Vec<(&Root, PathBuf)> =
        game.roots.iter().map(|root| (root, ledger.site().side(root))).collect();
    let mut means = Means::of(ledger);
    // By number of the content.
    let mut copies = BTreeMap::new();
    let mut copied_bytes: BTreeMap<&Path, u64> = BTreeMap::new();
    let mut all_bytes = 0;
    for placement in &placed.placements {
        let (member, path) = (&package.members()[placement.member], placement.to.path.as_str());
        all_bytes += member.size_bytes;
        let root = roots.iter().find(|(root, _)| root.name == placement.to.root);
        let Some((root, side)) = root.filter(|_| !path.contains(INTO)) else { continue };
        if order.blend_rules().format_of(path).is_some()
            || copies.contains_key(&member.content)
            || contents.hash_of(member.content).is_some()
        {
            continue;
        }
        if member.size_bytes >= ledger.small_bytes() {
            let may_link = may_be_linked(path, false, member.executable == Some(true));
            let key = game.folding.key(path);
            if means.share_blocks(side) || means.link(member.size_bytes, side, (root.id, &key), may_link)? {
                continue;
            }
        }
        copies.insert(member.content, (*root, side.as_path(), placement));
        *copied_bytes.entry(side).or_default() += member.size_bytes;
    }
    for (side, copied_bytes) in copied_bytes {
        let stored_bytes = if means.is_beside(side) { all_bytes } else { 0 };
        if check_room(side, stored_bytes + copied_bytes).is_err() {
            return Ok(());
        }
    }
    contents.write_again(ledger, |again| {
        let places = copies.into_iter().filter_map(|(content, (root, side, placement))| {
            let member = &package.members()[placement.member];
            let mode = mode_over(None, member.executable);
            let stamp = Stamp { modified: member.modified, nanoseconds: 0, mode };
            Some((content, again.place((game, root, side), &placement.to.path, stamp)?))
        });
        places.collect()
    });
    Ok(())
}
