//! The layer of the user's own edits.

use std::collections::{BTreeMap, BTreeSet};

use super::super::add::content_at::{ContentAt, key_of};
use super::super::add::new_layer::content_entries;
use super::super::add::request::free_name;
use super::super::{AddError, AddPlace};
use super::tweak::OWN_EDITS;
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::blend::{Format, KeyEdit, renewed, write_edits};
use crate::change::{ChangeRequest, Exchange};
use crate::container::signature_of;
use crate::expected::{Blender, Containers};
use crate::fit::Rules;
use crate::hash::ContentHash;
use crate::ledger::{Intake, Layer, Ledger, LedgerError, NewContent, NewLayer};
use crate::moment::Moment;
use crate::stack::{Column, Entry, EntryKind, LayerId, Order, PathId, Provider, RootId, Standing, Target};

/// What the user has of their own at one address, with what lies beneath: edits of keys, or a whole file.
pub(super) struct OwnFile {
    pub(super) address: Address,
    pub(super) column: Column,
    pub(super) edits: Vec<KeyEdit>,
    pub(super) whole: Option<Whole>,
}

impl OwnFile {
    /// Names the edits by the keys that they have in what lies beneath, and gives that.
    pub(super) fn renew(
        &mut self,
        ledger: &Ledger,
        order: &Order,
        beneath: &Order,
    ) -> Result<(Option<Format>, Vec<u8>), LedgerError> {
        self.column = learnt(ledger, self.column.clone(), [order, beneath])?;
        let content = supplied(ledger, &self.column, beneath)?.unwrap_or_default();
        let format = format_of(&self.column, order, &content);
        if let Some(format) = format {
            self.edits = renewed(format, &content, std::mem::take(&mut self.edits));
        }
        Ok((format, content))
    }

    pub(super) fn is_something(&self) -> bool {
        !self.edits.is_empty() || self.whole.is_some()
    }
}

pub(super) fn store(
    ledger: &Ledger,
    intake: &Intake<'_>,
    files: &[OwnFile],
) -> Result<Vec<ContentAt>, LedgerError> {
    let stored = files.iter().filter(|file| !file.edits.is_empty()).map(|file| {
        let bytes = write_edits(&file.edits).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        let hash = intake.take(&mut bytes.as_slice(), size_bytes)?;
        Ok(ContentAt { kind: EntryKind::Keys, address: file.address.clone(), hash, size_bytes })
    });
    let mut stored: Vec<ContentAt> = stored.collect::<Result<_, LedgerError>>()?;
    stored.extend(member_lists(ledger, intake, files)?);
    Ok(stored)
}

/// A list for each container in which members are the user's own.
fn member_lists(
    ledger: &Ledger,
    intake: &Intake<'_>,
    files: &[OwnFile],
) -> Result<Vec<ContentAt>, LedgerError> {
    let mut lists: BTreeMap<Address, BTreeSet<&str>> = BTreeMap::new();
    for file in files.iter().filter(|file| file.column.is_member) {
        let text = file.address.path.as_str();
        for (at, _) in text.match_indices(INTO) {
            let path = RelPath::from_disk(&text[..at]);
            let container = Address { root: file.address.root.clone(), path };
            lists.entry(container).or_default().insert(&text[at + INTO.len()..]);
        }
    }
    let stored = lists.into_iter().map(|(address, members)| {
        let bytes = serde_json::to_vec(&members).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        let hash = intake.take(&mut bytes.as_slice(), size_bytes)?;
        Ok(ContentAt { kind: EntryKind::Members, address, hash, size_bytes })
    });
    stored.collect()
}

/// Entries for whole files of the user's own.
pub(super) fn whole_entries(
    ledger: &Ledger,
    layer: LayerId,
    files: &[OwnFile],
) -> Result<Vec<(PathId, Entry, RelPath)>, LedgerError> {
    let wholes: Vec<(&OwnFile, &Whole)> =
        files.iter().filter_map(|file| Some((file, file.whole.as_ref()?))).collect();
    let keys: Vec<_> = wholes.iter().map(|(file, _)| (file.column.root, file.column.key.clone())).collect();
    let numbers = ledger.catalogue.path_numbers(&keys)?;
    let entry = |(file, whole): (&OwnFile, &Whole)| Entry {
        layer,
        kind: EntryKind::Whole,
        spelled: file.address.path.clone(),
        hash: whole.hash,
        size_bytes: whole.size_bytes,
        modified: whole.modified,
        executable: whole.executable,
    };
    Ok(numbers.into_iter().zip(wholes).map(|(path, whole)| (path, entry(whole), RelPath::root())).collect())
}

/// Writes the layer anew, in place of the one before, and says what change that is.
pub(super) fn own_layer(
    ledger: &Ledger,
    files: &[OwnFile],
    stored: &[ContentAt],
    new: &[NewContent],
    command: &str,
    now: Moment,
) -> Result<ChangeRequest, LedgerError> {
    let catalogue = &ledger.catalogue;
    let before = catalogue.arrangement()?;
    let old = catalogue.own_edits()?;
    if files.is_empty() {
        let removed: Vec<LayerId> = old.into_iter().collect();
        let mut request = ChangeRequest::new(command, now, before.without(&removed));
        request.stack.removed = removed;
        return Ok(request);
    }
    let layers = ledger.layers()?;
    let known = layers.iter().find(|layer| Some(layer.id) == old);
    let name = known.map_or_else(|| free_name_of_own(&layers), |old| old.about.name.clone());
    let layer = catalogue.insert_layer(&NewLayer {
        name,
        version: None,
        variant: None,
        source: String::new(),
        source_kind: "own edits".to_owned(),
        added_at: now.to_string(),
        fit: serde_json::to_string(&Rules::default()).map_err(|error| catalogue.damaged_by(&error))?,
        files: files.len() as u64,
        bytes: stored.iter().map(|file| file.size_bytes).sum::<u64>()
            + files.iter().filter_map(|file| Some(file.whole.as_ref()?.size_bytes)).sum::<u64>(),
    })?;
    catalogue.mark_as_own_edits(layer)?;
    let modified = now.even_seconds();
    let mut entries = content_entries(ledger, layer, stored, modified)?;
    if let Some(old) = old {
        // What is as it was keeps its time.
        let known = catalogue.entries_of(old)?;
        for (path, entry, _) in &mut entries {
            if let Some(same) = known.get(path).filter(|same| same.hash == entry.hash) {
                entry.modified = same.modified;
            }
        }
    }
    entries.extend(whole_entries(ledger, layer, files)?);
    entries.extend(signatures(ledger, layer, &before.order(), stored, &entries)?);
    entries.sort_by_key(|(path, ..)| *path);
    catalogue.insert_entries(&entries)?;
    catalogue.insert_folders(layer, &own_folders(ledger, files)?)?;
    catalogue.insert_contents(new)?;
    let mut after = before.with(Standing { layer, laid: true }, Target::Top);
    if let Some(old) = old {
        let laid = before.standings().iter().any(|standing| standing.layer == old && standing.laid);
        after = before.with(Standing { layer, laid }, Target::Top).without(&[old]);
    }
    let exchange = old.map(|old| Exchange { old, new: layer, prefer: None, asks_otherwise: false });
    let mut request = ChangeRequest::new(command, now, after);
    request.stack.removed = old.into_iter().collect();
    request.stack.exchanges = exchange.into_iter().collect();
    request.noted.new_contents = new.to_vec();
    Ok(request)
}

/// Entries that take away signatures of containers in which members are the user's own: they no longer hold.
fn signatures(
    ledger: &Ledger,
    layer: LayerId,
    order: &Order,
    stored: &[ContentAt],
    entries: &[(PathId, Entry, RelPath)],
) -> Result<Vec<(PathId, Entry, RelPath)>, LedgerError> {
    let containers = Containers::new(ledger);
    let mut away = Vec::new();
    for list in stored.iter().filter(|list| list.kind == EntryKind::Members) {
        let (root, key) = key_of(ledger, &list.address)?;
        let column = containers.column(root, &key)?;
        let opened = match column.whole_provider(order) {
            Provider::Base(_) => containers.of_base(&column)?,
            Provider::Layer(entry) => containers.of_entry(entry)?,
            Provider::Nothing => continue,
        };
        let paths = opened.map(|opened| signature_of(&opened.directory)).unwrap_or_default();
        for path in paths {
            let spelled = RelPath::from_disk(format!("{}{INTO}{path}", list.address.path));
            let number =
                ledger.catalogue.path_numbers(&[(root, ledger.game().folding.key(spelled.as_str()))])?;
            let entry = Entry::taking_away(layer, spelled);
            away.extend(number.into_iter().map(|number| (number, entry.clone(), RelPath::root())));
        }
    }
    away.retain(|(number, ..)| entries.iter().all(|(other, ..)| other != number));
    Ok(away)
}

fn free_name_of_own(layers: &[Layer]) -> String {
    let place = AddPlace::New { target: None, lifted: false };
    match free_name(layers, &[], OWN_EDITS.to_owned(), place) {
        Err(AddError::NameTaken { free, .. }) => free,
        _ => OWN_EDITS.to_owned(),
    }
}

/// Folders around whole files of the user's own that must be there.
pub(super) fn own_folders(ledger: &Ledger, files: &[OwnFile]) -> Result<Vec<(PathId, RelPath)>, LedgerError> {
    let puts = |file: &&OwnFile| file.whole.as_ref().is_some_and(|whole| whole.hash != ContentHash::NOTHING);
    let mut folders: Vec<((RootId, FoldedKey), RelPath)> = Vec::new();
    for file in files.iter().filter(puts) {
        let on_disk = |folder: &&str| !file.column.is_member || !format!("{folder}/").contains(INTO);
        for folder in file.address.path.ancestors().filter(on_disk) {
            let key = (file.column.root, ledger.game().folding.key(folder));
            if !folders.iter().any(|(known, _)| *known == key) {
                folders.push((key, RelPath::from_disk(folder)));
            }
        }
    }
    folders.sort_by(|(one, _), (two, _)| one.cmp(two));
    let (keys, paths): (Vec<_>, Vec<_>) = folders.into_iter().unzip();
    Ok(ledger.catalogue.path_numbers(&keys)?.into_iter().zip(paths).collect())
}

/// A whole file of the user's own, stored; [`ContentHash::NOTHING`] where none is to lie.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Whole {
    pub(super) hash: ContentHash,
    pub(super) size_bytes: u64,
    pub(super) modified: i64,
    pub(super) executable: Option<bool>,
}

pub(super) fn learnt(ledger: &Ledger, column: Column, orders: [&Order; 2]) -> Result<Column, LedgerError> {
    let mut columns = [column];
    orders.iter().try_for_each(|order| Blender::new(ledger).learn(&mut columns, order))?;
    let [column] = columns;
    Ok(column)
}

/// What lies at the column's address under `order`.
pub(super) fn supplied(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
) -> Result<Option<Vec<u8>>, LedgerError> {
    let blender = Blender::new(ledger);
    match column.provider(order) {
        // A container that is made is no settings file.
        _ if column.composition(order).is_some() => Ok(None),
        Provider::Nothing => Ok(None),
        Provider::Base(_) => blender.base_content(column),
        Provider::Layer(entry) => match blender.content_of(column, entry, order)? {
            Some(made) => Ok(Some(made)),
            None => blender.stored(entry),
        },
    }
}

pub(super) fn format_of(column: &Column, order: &Order, content: &[u8]) -> Option<Format> {
    let format = column.may_blend_as(order)?.of_content(content);
    (format != Format::ByContent).then_some(format)
}
