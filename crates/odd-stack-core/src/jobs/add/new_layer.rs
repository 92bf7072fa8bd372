//! Writing a new layer into the catalogue.

use std::collections::{BTreeMap, HashMap};

use super::content_at::{ContentAt, key_of};
use super::game_links::GameLinks;
use super::taken_away::{Away, AwayAt};
use crate::address::{Address, RelPath};
use crate::fit::{Fit, Patterns, Placement, Rules};
use crate::hash::ContentHash;
use crate::jobs::needs::{needs_of, write_needs};
use crate::ledger::{Ledger, LedgerError, NewLayer};
use crate::moment::Moment;
use crate::package::{Package, PackageKind};
use crate::stack::{Entry, EntryKind, LayerId, PathId};

/// Notes hashes of base files that were read on the way.
pub(in crate::jobs) fn write_base_hashes(
    ledger: &Ledger,
    hashes: &BTreeMap<Address, ContentHash>,
) -> Result<(), LedgerError> {
    let game = ledger.game();
    for (address, hash) in hashes {
        if let Some(root) = game.root_named(&address.root) {
            ledger.catalogue.set_base_hash(root.id, &game.folding.key(address.path.as_str()), *hash)?;
        }
    }
    Ok(())
}

/// Entries for files that the layer takes away.
fn take_aways(
    ledger: &Ledger,
    layer: LayerId,
    away: &[AwayAt],
) -> Result<Vec<(PathId, Entry, RelPath)>, LedgerError> {
    let entry = |spelled: RelPath| Entry::taking_away(layer, spelled);
    let numbered = numbered(ledger, away)?.into_iter();
    Ok(numbered.map(|(path, spelled)| (path, entry(spelled), RelPath::root())).collect())
}

/// The numbers of addresses, each with how it is spelled.
pub(in crate::jobs) fn numbered(
    ledger: &Ledger,
    addresses: &[AwayAt],
) -> Result<Vec<(PathId, RelPath)>, LedgerError> {
    let keys: Vec<_> = addresses.iter().map(|(root, key, _)| (*root, key.clone())).collect();
    let numbers = ledger.catalogue.path_numbers(&keys)?;
    Ok(numbers.into_iter().zip(addresses.iter().map(|(_, _, spelled)| spelled.clone())).collect())
}

/// The layer whose place is taken.
pub(in crate::jobs) struct Exchanged {
    pub old: LayerId,
    /// For a package of only changed files: the addresses that its sheet takes away.
    pub patch: Option<Vec<Address>>,
}

/// A layer that is about to be made: the catalogue's row and what is told of it both come from this.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::jobs) struct LayerDraft {
    pub name: String,
    pub version: Option<String>,
    pub variant: Option<String>,
    /// The package's absolute path.
    pub source: String,
    pub kind: PackageKind,
    /// Its files, once for each address.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
}

impl LayerDraft {
    /// The layer that a package makes by its fit, with copies of the game's files that its links lead to.
    pub(in crate::jobs) fn new(
        package: &Package,
        placed: &Fit,
        links: &GameLinks,
        (name, version, variant): (String, Option<String>, Option<String>),
    ) -> Self {
        let members = package.members();
        let absolute = std::path::absolute(package.path()).unwrap_or_else(|_| package.path().to_path_buf());
        let sizes = placed.placements.iter().map(|placement| members[placement.member].size_bytes);
        Self {
            name,
            version,
            variant,
            source: absolute.display().to_string(),
            kind: package.kind(),
            files: (placed.placements.len() + links.copies.len()) as u64,
            bytes: sizes.chain(links.copies.iter().map(|copy| copy.size_bytes)).sum(),
        }
    }
}

/// What a layer is made of.
pub(in crate::jobs) struct Making<'a> {
    pub draft: &'a LayerDraft,
    pub package: &'a Package,
    pub placed: &'a Fit,
    /// What is remembered of the fit.
    pub rules: &'a Rules,
    /// Hashes of the package's contents by their numbers.
    pub hashes: &'a BTreeMap<usize, ContentHash>,
    pub exchanged: Option<&'a Exchanged>,
    /// Lists of changes to keys, stored.
    pub keys: &'a [ContentAt],
    pub away: &'a Away,
    /// Times that files have on disk, in seconds since 1970, where they lie there already.
    pub times: &'a HashMap<Address, i64>,
    /// RFC 3339.
    pub now: Moment,
}

/// A layer that is written down and not in the stack yet.
pub(in crate::jobs) struct Written {
    pub layer: LayerId,
    /// All its files, those that it has of an older version included.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
}

/// Writes the layer with its entries and folders; it is not in the stack yet, and its contents are not listed.
pub(in crate::jobs) fn write_layer(ledger: &Ledger, making: &Making<'_>) -> Result<Written, LedgerError> {
    let Making { draft, package, placed, rules, exchanged, keys, away, now, .. } = *making;
    let catalogue = &ledger.catalogue;
    let remembered = serde_json::to_string(rules).map_err(|error| catalogue.damaged_by(&error))?;
    let mut needs = needs_of(rules);
    if let Some(exchanged) = exchanged {
        // What was done without before stays so.
        let old = ledger.catalogue.facts()?.into_iter().find(|facts| facts.id == exchanged.old);
        needs.despite.extend(old.map(|old| old.needs.despite).unwrap_or_default());
    }
    let layer = catalogue.insert_layer(&NewLayer {
        name: draft.name.clone(),
        version: draft.version.clone(),
        variant: draft.variant.clone(),
        source: draft.source.clone(),
        source_kind: draft.kind.to_string(),
        added_at: now.to_string(),
        fit: remembered,
        files: draft.files,
        bytes: draft.bytes,
    })?;
    write_needs(ledger, layer, &needs)?;
    let key = |address: &Address| key_of(ledger, address);
    // Sorted by key, so that the catalogue's pages are filled one after the other.
    let mut files = Vec::with_capacity(placed.placements.len());
    for placement in &placed.placements {
        files.push((key(&placement.to)?, placement));
    }
    files.sort_by(|(one, _), (two, _)| one.cmp(two));
    let (folded, placements): (Vec<_>, Vec<_>) = files.into_iter().unzip();
    let numbers = catalogue.path_numbers(&folded)?;
    let mut entries = file_entries(ledger, making, layer, numbers.into_iter().zip(placements))?;
    if exchanged.is_none_or(|exchanged| exchanged.patch.is_none()) {
        entries.extend(take_aways(ledger, layer, &away.files)?);
    }
    entries.extend(take_aways(ledger, layer, &away.signatures)?);
    let latest = package.members().iter().map(|member| member.modified).max().unwrap_or_default();
    entries.extend(content_entries(ledger, layer, keys, latest)?);
    entries.sort_by_key(|(path, ..)| *path);
    catalogue.insert_entries(&entries)?;
    let folded = placed.folders.iter().map(key).collect::<Result<Vec<_>, _>>()?;
    let numbers = catalogue.path_numbers(&folded)?;
    let folders: Vec<_> =
        numbers.into_iter().zip(placed.folders.iter().map(|folder| folder.path.clone())).collect();
    catalogue.insert_folders(layer, &folders)?;
    catalogue.insert_folders_away(layer, &numbered(ledger, &away.folders)?)?;
    if let Some(Exchanged { old, patch: Some(gone) }) = exchanged {
        let gone = gone.iter().map(key).collect::<Result<Vec<_>, _>>()?;
        let gone = catalogue.path_numbers(&gone)?;
        let (files, bytes) = catalogue.inherit_entries(layer, *old, &gone)?;
        return Ok(Written { layer, files, bytes });
    }
    Ok(Written { layer, files: draft.files, bytes: draft.bytes })
}

/// The entries of the files that the package brings.
fn file_entries<'p>(
    ledger: &Ledger,
    making: &Making<'_>,
    layer: LayerId,
    files: impl Iterator<Item = (PathId, &'p Placement)>,
) -> Result<Vec<(PathId, Entry, RelPath)>, LedgerError> {
    let Making { package, rules, hashes, exchanged, times, .. } = *making;
    let catalogue = &ledger.catalogue;
    let before =
        exchanged.map(|exchanged| catalogue.entries_of(exchanged.old)).transpose()?.unwrap_or_default();
    let by_lines = Patterns::new(&rules.wishes.by_lines).map_err(|error| catalogue.damaged_by(&error))?;
    let mut entries = Vec::with_capacity(files.size_hint().0);
    for (path, placement) in files {
        let member = &package.members()[placement.member];
        let hash = hashes.get(&member.content).copied();
        let hash = hash.ok_or_else(|| catalogue.damaged_by(&"a content was not taken in"))?;
        // What is as it was keeps its time, so that it is not written again.
        let unchanged = before.get(&path).filter(|old| old.hash == hash);
        let known_time = times.get(&placement.to).copied().or(unchanged.map(|old| old.modified));
        let entry = Entry {
            layer,
            kind: match rules.wishes.whole {
                true => EntryKind::Whole,
                false if by_lines.meet(&placement.to.path) => EntryKind::Lines,
                false => EntryKind::File,
            },
            spelled: placement.to.path.clone(),
            hash,
            size_bytes: member.size_bytes,
            modified: known_time.unwrap_or(member.modified),
            executable: member.executable,
        };
        entries.push((path, entry, member.path.clone()));
    }
    Ok(entries)
}

/// Entries for contents that are no file of the package.
pub(in crate::jobs) fn content_entries(
    ledger: &Ledger,
    layer: LayerId,
    keys: &[ContentAt],
    modified: i64,
) -> Result<Vec<(PathId, Entry, RelPath)>, LedgerError> {
    let addresses = keys.iter().map(|keys| key_of(ledger, &keys.address)).collect::<Result<Vec<_>, _>>()?;
    let numbers = ledger.catalogue.path_numbers(&addresses)?;
    let entry = |keys: &ContentAt| Entry {
        layer,
        kind: keys.kind,
        spelled: keys.address.path.clone(),
        hash: keys.hash,
        size_bytes: keys.size_bytes,
        modified,
        executable: None,
    };
    Ok(numbers.into_iter().zip(keys).map(|(path, keys)| (path, entry(keys), RelPath::root())).collect())
}
