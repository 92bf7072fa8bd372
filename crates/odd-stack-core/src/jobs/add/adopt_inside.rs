//! Files of a package that somebody has put into the game's containers by hand.

use std::collections::{BTreeSet, HashSet};
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::content_at::{ContentAt, key_of};
use super::contents::Contents;
use super::error::AddError;
use super::into_containers::{ContainerChange, IntoContainers};
use super::new_layer::numbered;
use super::taken_away::{Away, AwayAt};
use super::why_not::WhyNot;
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::change::ForeignFile;
use crate::check::{inside, inside_over};
use crate::container::{like_signatures, signature_of};
use crate::expected::{Blender, Containers, Opened};
use crate::files::look_at;
use crate::fit::{Fit, Placement};
use crate::hash::ContentHash;
use crate::jobs::stored::originals::{Covered, FoundOriginal};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Order, PathId, RootId};

/// Changes in a container that are of none of the files that are adopted; it stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OtherwiseChangedRow {
    /// The container.
    pub container: String,
    /// The members that were changed, that came or went.
    pub members: Vec<String>,
}

/// The outermost container that an address leads into.
pub(super) fn container_of(address: &Address) -> Option<Address> {
    let (container, _) = address.path.as_str().split_once(INTO)?;
    Some(Address { root: address.root.clone(), path: RelPath::from_disk(container) })
}

/// Why the member that lies at a placement's address is not adopted; nothing if it is the package's very file.
pub(super) fn why_not_within(
    ledger: &Ledger,
    containers: &Containers<'_>,
    order: &Order,
    placement: &Placement,
    hash: Option<ContentHash>,
) -> Result<Option<WhyNot>, LedgerError> {
    let (root, key) = key_of(ledger, &placement.to)?;
    let column = ledger.catalogue.column_at(root, &key)?;
    if column.is_some_and(|column| !column.laid(order).is_empty()) {
        return Ok(Some(WhyNot::OfALayer));
    }
    let now = containers.member_at(&ledger.site().root(root)?.folder, &placement.to.path);
    Ok(match now {
        None => Some(WhyNot::Missing),
        Some((_, now)) if Some(now) != hash => Some(WhyNot::OtherContent),
        Some(_) => None,
    })
}

/// The containers of the base's own, changed by hand, in which files of the package lie: what they were before is sought.
pub(super) fn covered_containers(
    ledger: &Ledger,
    order: &Order,
    placements: &[Placement],
) -> Result<Vec<Covered>, LedgerError> {
    let containers: BTreeSet<Address> =
        placements.iter().filter_map(|placement| container_of(&placement.to)).collect();
    let mut covered = Vec::new();
    for container in containers {
        let (root, key) = key_of(ledger, &container)?;
        let column = ledger.column(root, &key)?;
        let Some(base) = column.base.clone() else { continue };
        if is_made_by_layers(ledger, order, &(root, key.clone()))? {
            continue;
        }
        let path = base.spelled.on(&ledger.site().root(root)?.folder);
        let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        let hash = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
        let stamp = seen.map(|seen| (seen.size_bytes, seen.modified_ns));
        let is_changed = stamp != Some((base.size_bytes, base.modified_ns));
        covered.push(Covered { root, key, base: *base, hash, is_changed });
    }
    Ok(covered)
}

/// Whether a container is of layers, or they change members of it, so that it is known what it was.
pub(super) fn is_made_by_layers(
    ledger: &Ledger,
    order: &Order,
    (root, key): &(RootId, FoldedKey),
) -> Result<bool, LedgerError> {
    Ok(!ledger.column(*root, key)?.laid(order).is_empty())
}

/// Leaves of what was found aside only what the game had before: a container in which the files are not yet. One that was
/// put aside after them is not it.
pub(super) fn true_originals(
    ledger: &Ledger,
    covered: &[Covered],
    placements: &[(Placement, ContentHash)],
    found: Vec<FoundOriginal>,
) -> Result<Vec<FoundOriginal>, LedgerError> {
    let containers = Containers::new(ledger);
    let folding = ledger.game().folding;
    let mut kept = Vec::new();
    for original in found {
        if !covered.iter().any(|it| (it.root, &it.key) == (original.root, &original.key)) {
            kept.push(original);
            continue;
        }
        let folder = &ledger.site().root(original.root)?.folder;
        let Ok(_) = containers.at(&original.lies_at.on(folder)) else { continue };
        let is_without = placements.iter().any(|(placement, hash)| {
            let Some((container, within)) = placement.to.path.as_str().split_once(INTO) else { return false };
            let is_in = folding.key(container) == original.key;
            let there = RelPath::from_disk(format!("{}{INTO}{within}", original.lies_at));
            is_in && containers.member_at(folder, &there).is_none_or(|(_, now)| now != *hash)
        });
        if is_without {
            kept.push(original);
        }
    }
    Ok(kept)
}

/// What a layer of files in containers needs besides them.
#[derive(Default)]
pub(super) struct AdoptedInside {
    pub lists: Vec<ContentAt>,
    pub changes: Vec<ContainerChange>,
    pub away: Away,
    /// What becomes of the containers on disk.
    pub foreign: Vec<(PathId, ForeignFile)>,
    /// Those that are made anew, of what they were and the layer's files.
    pub made_anew: Vec<String>,
    pub otherwise_changed: Vec<OtherwiseChangedRow>,
}

impl AdoptedInside {
    /// Decides what becomes of the containers in which the files of `placed` lie, by what else was changed in them. Numbers
    /// addresses of the catalogue.
    ///
    /// # Errors
    /// [`AddError`], when a container can't be taken as one.
    pub(super) fn of(
        ledger: &Ledger,
        order: &Order,
        placed: &mut Fit,
        taken: &[FoundOriginal],
        contents: &Contents<'_>,
    ) -> Result<Self, AddError> {
        let addresses: BTreeSet<Address> =
            placed.placements.iter().filter_map(|placement| container_of(&placement.to)).collect();
        let mut adopted = Self::default();
        if addresses.is_empty() {
            return Ok(adopted);
        }
        let mut blender = Blender::new(ledger);
        let mut found = Vec::new();
        for address in &addresses {
            let (root, key) = key_of(ledger, address)?;
            let original = taken.iter().find(|original| (original.root, &original.key) == (root, &key));
            let folder = &ledger.site().root(root)?.folder;
            let original = original.map(|original| original.lies_at.on(folder));
            let at: AwayAt = (root, key, address.path.clone());
            let number =
                numbered(ledger, std::slice::from_ref(&at))?.into_iter().map(|(path, _)| path).next();
            let number = number.ok_or_else(|| ledger.catalogue.damaged_by(&"an address has no number"))?;
            if let Some(original) = &original {
                blender.set_base_at(number, original.clone());
            }
            found.push((address, at, number, original));
        }
        for (_, (root, _, path), _, original) in &found {
            let Some(original) = original else { continue };
            let now = blender.containers.at(&path.on(&ledger.site().root(*root)?.folder));
            let (Ok(before), Ok(now)) = (blender.containers.at(original), now) else { continue };
            // Who left the signature in wants it, or its absence would be one more change.
            placed.rules.wishes.keep_signature |= has_signature(ledger, &before, &now);
            adopted.take_like_signatures_away(ledger, (*root, path), &before, &now);
        }
        adopted.away.sort();
        let order_of = (order, &blender.containers);
        let into = IntoContainers::of(ledger, order_of, (placed, &[]), &mut adopted.away, contents)?;
        (adopted.lists, adopted.changes) = (into.lists, into.changes);
        let away = adopted.away.signatures.iter().chain(&adopted.away.files);
        let mut own: HashSet<FoldedKey> = away.map(|(_, key, _)| key.clone()).collect();
        for placement in &placed.placements {
            own.insert(key_of(ledger, &placement.to)?.1);
        }
        // Of a container in the container what is in it counts.
        let around: HashSet<FoldedKey> = own.iter().filter_map(|own| Some(own.member()?.0)).collect();
        for (address, (root, key, _), number, original) in found {
            let path = address.path.on(&ledger.site().root(root)?.folder);
            let changed = changed_in(ledger, &blender, order, (root, &key), original.as_deref(), &path)?;
            let folding = ledger.game().folding;
            let is_other = |member: &&RelPath| {
                let at = folding.key(&format!("{}{INTO}{member}", address.path));
                !own.contains(&at) && !around.contains(&at)
            };
            let others: Vec<String> = changed.iter().filter(is_other).map(ToString::to_string).collect();
            let edited = !others.is_empty();
            if edited {
                let container = address.to_string();
                adopted.otherwise_changed.push(OtherwiseChangedRow { container, members: others });
            } else {
                adopted.made_anew.push(address.to_string());
            }
            let at = Some(address.path.clone());
            adopted.foreign.push((number, ForeignFile::Captured { at, original, edited }));
        }
        Ok(adopted)
    }
}

impl AdoptedInside {
    /// Notes that a folder which looked like a signature is gone from a container.
    fn take_like_signatures_away(
        &mut self,
        ledger: &Ledger,
        (root, container): (RootId, &RelPath),
        before: &Opened,
        now: &Opened,
    ) {
        let folding = ledger.game().folding;
        let tops = like_signatures(&before.file.rewound(), &before.directory);
        let is_of = |path: &RelPath| tops.iter().any(|top| path.as_str().starts_with(&format!("{top}/")));
        let members =
            before.directory.members.iter().filter(|member| !member.is_folder && is_of(&member.path));
        let gone = members.filter(|member| now.directory.find(&folding.key(member.path.as_str())).is_none());
        for member in gone {
            let path = RelPath::from_disk(format!("{container}{INTO}{}", member.path));
            self.away.files.push((root, folding.key(path.as_str()), path));
        }
    }
}

/// Whether a member of the signature that a container had is in it still.
fn has_signature(ledger: &Ledger, before: &Opened, now: &Opened) -> bool {
    let folding = ledger.game().folding;
    let mut signature = signature_of(&before.directory);
    let tops = like_signatures(&before.file.rewound(), &before.directory);
    let files = before.directory.members.iter().filter(|member| !member.is_folder);
    let is_of = |path: &RelPath| tops.iter().any(|top| path.as_str().starts_with(&format!("{top}/")));
    signature.extend(files.map(|member| member.path.clone()).filter(is_of));
    signature.iter().any(|path| now.directory.find(&folding.key(path.as_str())).is_some())
}

/// The members of the container on disk that are not as in its original, or, where layers made it, as in what they made.
fn changed_in(
    ledger: &Ledger,
    blender: &Blender<'_>,
    order: &Order,
    (root, key): (RootId, &FoldedKey),
    original: Option<&Path>,
    path: &Path,
) -> Result<Vec<RelPath>, LedgerError> {
    let mut columns = [ledger.column(root, key)?];
    let found = match original {
        Some(original) => {
            let before = blender.containers.at(original).ok();
            before.and_then(|before| inside_over(blender, &columns[0], order, &before, path))
        }
        None => {
            blender.learn(&mut columns, order)?;
            inside(ledger, &columns[0], order, path)?
        }
    };
    Ok(found.into_iter().flat_map(|inside| inside.members).map(|member| member.path).collect())
}
