//! Containers that a package brings: whole, or only the members in which they differ from the ones that are there.

use std::collections::HashMap;

use super::content_at::key_of;
use super::contents::Contents;
use super::ends::may_be_container;
use super::error::AddError;
use super::into_containers::opened;
use super::report::WholeContainerRow;
use super::taken_away::{Away, AwayAt};
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::expected::Containers;
use crate::fit::{Fit, Placement};
use crate::hash::ContentHash;
use crate::ledger::Ledger;
use crate::observer::Observer;
use crate::package::{Member, Package};
use crate::stack::Order;

/// Puts the members of each container that goes where one is in the place of the container.
///
/// # Errors
/// [`AddError::NoContainer`], where the package brings none; [`AddError::NotLookedInto`], for those that are to be looked
/// into before.
pub(in crate::jobs) fn by_members(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    mut placed: Fit,
) -> Result<Fit, AddError> {
    let members = package.members();
    let mut inside: HashMap<&RelPath, Vec<usize>> = HashMap::new();
    for (at, member) in members.iter().enumerate() {
        if let Some(inner) = &member.inner {
            inside.entry(inner).or_default().push(at);
        }
    }
    let containers = Containers::new(ledger);
    let is_container = |to: &Address| opened(ledger, &containers, order, to).is_ok();
    let unread = placed.placements.iter().filter(|placement| {
        let member = &members[placement.member];
        let is_own = member.inner.is_none() && !placement.to.path.as_str().contains(INTO);
        let top = RelPath::from_disk(format!("{}!", member.path));
        is_own && !inside.contains_key(&top) && is_container(&placement.to)
    });
    let archives: Vec<String> =
        unread.map(|placement| format!("{}{INTO}.", members[placement.member].path)).collect();
    if !archives.is_empty() {
        return Err(AddError::NotLookedInto { archives });
    }
    let mut placements = Vec::with_capacity(placed.placements.len());
    let mut is_any = false;
    for placement in placed.placements {
        let top = RelPath::from_disk(format!("{}!", members[placement.member].path));
        let within = inside.get(&top).filter(|_| is_container(&placement.to));
        let Some(within) = within else {
            placements.push(placement);
            continue;
        };
        is_any = true;
        for at in within {
            let Some(below) = members[*at].path.below(&top) else { continue };
            let path = RelPath::from_disk(format!("{}{INTO}{below}", placement.to.path));
            placements.push(Placement { member: *at, to: Address { root: placement.to.root.clone(), path } });
        }
        placed.left_out.retain(|(member, _)| !within.contains(member));
    }
    if !is_any {
        return Err(AddError::NoContainer { package: package.path().display().to_string() });
    }
    placements.sort_by_key(|placement| placement.member);
    placed.placements = placements;
    Ok(placed)
}

/// Of the members of containers that are brought, keeps those that differ from what is there; what is there and not
/// brought goes `away`. Contents must have been read.
pub(in crate::jobs) fn only_differing(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    (placed, away): (&mut Fit, &mut Away),
    contents: &Contents<'_>,
) -> Result<(), AddError> {
    let members = package.members();
    let containers = Containers::new(ledger);
    let mut brought: HashMap<Address, Vec<FoldedKey>> = HashMap::new();
    let folding = ledger.game().folding;
    for placement in &placed.placements {
        if let Some((container, within)) = brought_inside(&members[placement.member], &placement.to) {
            brought.entry(container).or_default().push(folding.key(within.as_str()));
        }
    }
    let mut same: Vec<(usize, Address)> = Vec::new();
    for (address, keys) in &brought {
        let beneath = opened(ledger, &containers, order, address)?;
        for member in beneath.directory.members.iter().filter(|member| !member.is_folder) {
            let key = folding.key(member.path.as_str());
            if !keys.contains(&key) {
                let path = RelPath::from_disk(format!("{}{INTO}{}", address.path, member.path));
                let (root, key) =
                    key_of(ledger, &Address { root: address.root.clone(), path: path.clone() })?;
                away.files.push((root, key, path) as AwayAt);
            }
        }
        for placement in &placed.placements {
            let Some((container, within)) = brought_inside(&members[placement.member], &placement.to) else {
                continue;
            };
            let there = beneath.directory.find(&folding.key(within.as_str()));
            if let (true, Some(there)) = (container == *address, there)
                && there.size_bytes == members[placement.member].size_bytes
            {
                let hash = beneath.member(there).and_then(|mut content| ContentHash::of_reader(&mut content));
                let own = contents.hash_of(members[placement.member].content);
                if hash.is_ok_and(|(hash, _)| Some(hash) == own) {
                    same.push((placement.member, placement.to.clone()));
                }
            }
        }
    }
    placed.placements.retain(|placement| {
        !same.iter().any(|(member, to)| *member == placement.member && *to == placement.to)
    });
    away.sort();
    Ok(())
}

/// The container and the path within it at which a member of a container in the package goes, where it goes so.
fn brought_inside(member: &Member, to: &Address) -> Option<(Address, RelPath)> {
    let below = member.path.below(member.inner.as_ref()?)?;
    let container = to.path.as_str().strip_suffix(below.as_str())?.strip_suffix(INTO)?;
    Some((Address { root: to.root.clone(), path: RelPath::from_disk(container) }, below))
}

/// Containers that come whole where one is, and how far they differ from it. Told by their directories alone.
pub(in crate::jobs) fn whole_containers(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    placed: &Fit,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Vec<WholeContainerRow>, AddError> {
    let (containers, catalogue) = (Containers::new(ledger), &ledger.catalogue);
    let mut rows = Vec::new();
    for placement in &placed.placements {
        let member = &package.members()[placement.member];
        let known = contents.may_be_container(member);
        if placement.to.path.as_str().contains(INTO) || known == Some(false) {
            continue;
        }
        let (root, key) = key_of(ledger, &placement.to)?;
        let base = catalogue.base_at(root, &key)?;
        if catalogue.known_path(root, &key)?.is_none() && base.is_none() {
            continue;
        }
        let spelled = base.as_ref().map_or(&placement.to.path, |base| &base.spelled);
        if known.is_none() && !may_be_container(&spelled.on(&ledger.site().root(root)?.folder)) {
            continue;
        }
        let Ok(beneath) = opened(ledger, &containers, order, &placement.to) else { continue };
        // What is broken is told when it is taken.
        let brought = contents.file_of(package, member, observer).and_then(|file| containers.open(file).ok());
        let Some(brought) = brought else { continue };
        let folding = ledger.game().folding;
        let files = |members: &[crate::container::Packed]| {
            members.iter().filter(|member| !member.is_folder).count() as u64
        };
        let alike = brought.directory.members.iter().filter(|member| {
            let there = beneath.directory.find(&folding.key(member.path.as_str()));
            let is_alike = |there: &crate::container::Packed| {
                (there.checksum, there.size_bytes) == (member.checksum, member.size_bytes)
            };
            !member.is_folder && there.is_some_and(is_alike)
        });
        let (alike, members) = (alike.count() as u64, files(&brought.directory.members));
        let of = members.max(files(&beneath.directory.members));
        let address = placement.to.to_string();
        rows.push(WholeContainerRow { address, members, differing: of - alike });
    }
    rows.retain(|row| row.members > 0);
    Ok(rows)
}
