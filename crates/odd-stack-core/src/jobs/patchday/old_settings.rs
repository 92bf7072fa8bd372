//! Settings across an update: whole files of settings become edits of their keys, so that they go with the new version.
//!
//! A layer's file of settings was made for the game's own file as it was. Compared with a new one it would seem to take
//! back all that the update brought. So where the old one is known, what the layer changes in it is worked out once, and
//! the entry becomes a list of these changes.

use std::collections::{BTreeMap, HashMap};

use super::touched::Touched;
use crate::blend::{Format, KeyEdit, MOST_BLENDED_BYTES, edits_between, look_up, read_edits, write_edits};
use crate::expected::Blender;
use crate::hash::ContentHash;
use crate::jobs::PatchDayError;
use crate::ledger::{Intake, Ledger, LedgerError, NewContent};
use crate::stack::{BaseKind, Column, Entry, EntryKind, LayerId, PathId, Tally, tallies};

/// Old files of the base by address.
pub(in crate::jobs) type OldSettings = HashMap<PathId, Vec<u8>>;

/// Contents by address, and those that are new in the ledger, with their sizes.
pub(in crate::jobs) type KeptSettings = (Vec<(PathId, ContentHash)>, Vec<NewContent>);

/// Tells the game's own file at a column's address as it is now.
pub(in crate::jobs) type NewBase<'a> = dyn Fn(&Column) -> Result<Option<Vec<u8>>, LedgerError> + 'a;

/// Stores the game's own files of settings at which layers have something, as they are before an update. Gives them by
/// address, and what is new in the ledger.
pub(in crate::jobs) fn keep(ledger: &Ledger) -> Result<KeptSettings, LedgerError> {
    let layers: Vec<LayerId> = ledger.layers()?.iter().map(|layer| layer.id).collect();
    let order = ledger.present_order()?;
    let mut columns = ledger.catalogue.columns_of(&layers, &[])?;
    let blender = Blender::new(ledger);
    blender.containers.complete(&mut columns)?;
    columns.retain(|column| {
        let is_small = |base: &crate::stack::BaseFile| {
            base.kind == BaseKind::File && base.size_bytes <= MOST_BLENDED_BYTES
        };
        order.blend_rules().format_of(column.key.as_str()).is_some()
            && column.base.as_deref().is_some_and(is_small)
    });
    let intake = Intake::new(ledger, true);
    let taken = columns.iter().filter_map(|column| {
        let content = match blender.base_content(column) {
            Ok(content) => content?,
            Err(error) => return Some(Err(error)),
        };
        let hash = intake.take(&mut content.as_slice(), content.len() as u64);
        Some(hash.map(|hash| (column.path, hash)))
    });
    let kept = taken.collect::<Result<Vec<_>, _>>()?;
    Ok((kept, intake.take_new()?))
}

/// Reads what [`keep`] stored.
pub(in crate::jobs) fn kept(
    ledger: &Ledger,
    kept: &[(PathId, ContentHash)],
) -> Result<OldSettings, LedgerError> {
    let read = |(path, hash): &(PathId, ContentHash)| {
        let stored = ledger.stored(*hash)?;
        Ok((*path, stored.read(u64::MAX).map_err(LedgerError::io("read", stored.path()))?))
    };
    kept.iter().map(read).collect()
}

/// What was carried over.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Carried {
    /// Entries that became lists of edits, as they were.
    pub before: Vec<(PathId, Entry)>,
    /// New contents.
    pub new: Vec<NewContent>,
    /// What the layers' tallies changed by, for the entries that became others.
    pub tallies: BTreeMap<LayerId, Tally>,
    /// What is to be known of each layer: keys that the update no longer has.
    pub to_know: BTreeMap<LayerId, Vec<String>>,
}

/// Turns whole files of settings at `touched` addresses into edits of keys, inside the catalogue's open transaction.
/// `new_base` gives the game's own file as it is now.
pub(in crate::jobs) fn carry(
    ledger: &Ledger,
    old: &OldSettings,
    touched: &Touched,
    new_base: &NewBase<'_>,
) -> Result<Carried, PatchDayError> {
    let catalogue = &ledger.catalogue;
    let order = ledger.present_order()?;
    let paths: Vec<PathId> = touched.paths.iter().filter(|path| old.contains_key(path)).copied().collect();
    let intake = Intake::new(ledger, true);
    let blender = Blender::new(ledger);
    let mut carried = Carried::default();
    let mut columns = catalogue.columns_of(&[], &paths)?;
    blender.learn(&mut columns, &order)?;
    let before = tallies(&columns, &order);
    for column in columns {
        let (Some(format), Some(old)) =
            (order.blend_rules().format_of(column.key.as_str()), old.get(&column.path))
        else {
            continue;
        };
        let format = format.of_content(old);
        let new = new_base(&column)?.unwrap_or_default();
        for entry in &column.entries {
            let Some(edits) = edits_of(ledger, &blender, entry, format, old)? else { continue };
            note_gone(&mut carried, ledger, &column, entry.layer, format, (old, &new), &edits);
            if entry.kind == EntryKind::Keys {
                continue;
            }
            let list = write_edits(&edits).map_err(|error| catalogue.damaged_by(&error))?;
            let size_bytes = list.len() as u64;
            let hash = intake.take(&mut list.as_slice(), size_bytes)?;
            carried.before.push((column.path, entry.clone()));
            let entry = Entry { kind: EntryKind::Keys, hash, size_bytes, ..entry.clone() };
            catalogue.replace_entry(column.path, &entry)?;
        }
    }
    carried.new = intake.take_new()?;
    catalogue.insert_contents(&carried.new)?;
    let mut columns = catalogue.columns_of(&[], &paths)?;
    blender.learn(&mut columns, &order)?;
    carried.tallies = tallies(&columns, &order);
    for (layer, was) in before {
        let tally = carried.tallies.entry(layer).or_default();
        *tally = tally.minus(was);
    }
    carried.tallies.iter().try_for_each(|(layer, change)| catalogue.add_to_tally(*layer, *change))?;
    Ok(carried)
}

/// What an entry changes in the old file of the base; nothing where that can't be said, or it never blends.
fn edits_of(
    ledger: &Ledger,
    blender: &Blender<'_>,
    entry: &Entry,
    format: Format,
    old: &[u8],
) -> Result<Option<Vec<KeyEdit>>, LedgerError> {
    if matches!(entry.kind, EntryKind::Whole | EntryKind::Packed | EntryKind::Members) || entry.takes_away() {
        return Ok(None);
    }
    let Some(content) = blender.stored_if_there(entry)? else { return Ok(None) };
    if entry.kind == EntryKind::Keys {
        let edits = read_edits(&content);
        return edits.map(Some).map_err(|error| ledger.catalogue.damaged_by(&error));
    }
    Ok(edits_between(format, old, &content).ok().filter(|edits| !edits.is_empty()))
}

/// Notes keys that the old file had and the new one has not.
fn note_gone(
    carried: &mut Carried,
    ledger: &Ledger,
    column: &Column,
    layer: LayerId,
    format: Format,
    (old, new): (&[u8], &[u8]),
    edits: &[KeyEdit],
) {
    let has = |content: &[u8], edit: &KeyEdit| {
        look_up(format, content, edit).is_ok_and(|(_, value)| value.is_some())
    };
    let gone = edits.iter().filter(|edit| has(old, edit) && !has(new, edit));
    let gone: Vec<&str> = gone.map(|edit| edit.key.as_str()).collect();
    let spelled = column.spelled().cloned().unwrap_or_default();
    let Some(address) = ledger.game().address(column.root, spelled) else { return };
    if !gone.is_empty() {
        let text = format!("sets {} in {address}, which the game no longer has", gone.join(", "));
        carried.to_know.entry(layer).or_default().push(text);
    }
}
