//! The user's own changes to keys of configuration files, kept in a layer that stays on top.

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use super::Permit;
use super::add::free_name;
use super::new_layer::{KeysOf, key_entries, key_of};
use super::{AddError, AddPlace};
use crate::address::{Address, AddressError, FoldedKey};
use crate::blend::{Format, KeyEdit, look_up};
use crate::disk::{
    Blender, ChangeError, ChangeOptions, ChangeRequest, Exchange, Prepared, discard_new_contents, prepare,
};
use crate::fit::Rules;
use crate::hash::ContentHash;
use crate::ledger::{Intake, Ledger, LedgerError, NewLayer};
use crate::observer::Observer;
use crate::stack::{Column, Entry, EntryKind, LayerId, Order, Provider, RootId, Standing, Target};

/// What the layer of the user's own edits is called.
pub const OWN_EDITS: &str = "own edits";

/// Why nothing was tweaked. Nothing was changed.
#[derive(Debug, Error)]
pub enum TweakError {
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// What was given is no address.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// There is no file.
    #[error("there is no file at {address}, neither of the game nor of a laid layer")]
    NoFile {
        /// The address.
        address: String,
    },
    /// The file is no configuration that is understood.
    #[error("{address} is no configuration file that can be changed key by key: {reason}")]
    NotKeys {
        /// The address.
        address: String,
        /// Why.
        reason: String,
    },
    /// A key can't be one.
    #[error("{address}: {reason}")]
    BadKey {
        /// The address.
        address: String,
        /// Why.
        reason: String,
    },
    /// There is no such edit.
    #[error("you have no edit of {what}")]
    NoEdit {
        /// The address, with or without a key.
        what: String,
    },
}

impl From<LedgerError> for TweakError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

/// One edit of a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TweakRow {
    /// The file.
    pub address: String,
    /// The key as people write it.
    pub key: String,
    /// The value; none when the key is taken out.
    pub value: Option<String>,
    /// The value beneath the user's edits; none when there is no such key.
    pub beneath: Option<String>,
}

/// What is to become of the user's own edits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tweak {
    /// Keys of files, each by its address, get values or are taken out.
    Set(Vec<(String, Vec<KeyEdit>)>),
    /// Edits of a file are dropped: those of these keys, or all.
    Drop {
        /// The file.
        address: String,
        /// The keys.
        keys: Vec<String>,
    },
    /// All edits are dropped.
    DropAll,
}

/// A tweak about to be made.
#[derive(Debug)]
pub struct Tweaking<'l> {
    /// Edits that are made, or dropped.
    pub rows: Vec<TweakRow>,
    /// The change; none when it is so already.
    pub change: Option<Prepared<'l>>,
}

/// The edits of one file, with what lies beneath.
struct FileEdits {
    address: Address,
    column: Column,
    edits: Vec<KeyEdit>,
}

/// All of the user's own edits.
///
/// # Errors
/// [`TweakError`].
pub fn tweaks(ledger: &Ledger) -> Result<Vec<TweakRow>, TweakError> {
    let order = ledger.present_order()?;
    let beneath = beneath_own(ledger)?;
    let mut rows = Vec::new();
    for file in own_files(ledger)? {
        let column = learnt(ledger, file.column, [&order, &beneath])?;
        let content = supplied(ledger, &column, &beneath)?.unwrap_or_default();
        let format = format_of(&column, &order, &content);
        let address = file.address.to_string();
        rows.extend(file.edits.into_iter().map(|edit| row(&address, edit, format, &content)));
    }
    Ok(rows)
}

fn row(address: &str, edit: KeyEdit, format: Option<Format>, beneath: &[u8]) -> TweakRow {
    let found = format.and_then(|format| look_up(format, beneath, &edit.key).ok());
    let beneath = found.and_then(|(_, value)| value);
    TweakRow { address: address.to_owned(), key: edit.key, value: edit.value, beneath }
}

/// Prepares a tweak. `command` is what the history will say.
///
/// # Errors
/// [`TweakError`].
pub fn prepare_tweak<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    tweak: &Tweak,
    command: &str,
    now: &str,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Tweaking<'l>, TweakError> {
    let mut files = own_files(ledger)?;
    let before: Vec<(String, Vec<KeyEdit>)> =
        files.iter().map(|file| (file.address.to_string(), file.edits.clone())).collect();
    let rows = match tweak {
        Tweak::Set(all) => {
            let mut rows = Vec::new();
            for (address, edits) in all {
                rows.extend(set(ledger, &mut files, address, edits)?);
            }
            rows
        }
        Tweak::Drop { address, keys } => drop_edits(ledger, &mut files, address, keys)?,
        Tweak::DropAll => {
            let rows = tweaks(ledger)?;
            files.clear();
            rows
        }
    };
    files.retain(|file| !file.edits.is_empty());
    let is_same = files.len() == before.len()
        && files.iter().all(|file| before.contains(&(file.address.to_string(), file.edits.clone())));
    if is_same {
        return Ok(Tweaking { rows, change: None });
    }
    let intake = Intake::new(ledger.folder(), &*ledger.seam, true);
    let stored = store(ledger, &intake, &files).inspect_err(|_| discard_new_contents(ledger))?;
    let new = intake.finish();
    ledger.catalogue.begin()?;
    let request = own_layer(ledger, &stored, &new, command, now).inspect_err(|_| {
        ledger.catalogue.roll_back();
        discard_new_contents(ledger);
    })?;
    let change = prepare(ledger, permit.lock, request, options, observer)?;
    Ok(Tweaking { rows, change: Some(change) })
}

fn store(ledger: &Ledger, intake: &Intake<'_>, files: &[FileEdits]) -> Result<Vec<KeysOf>, LedgerError> {
    let stored = files.iter().map(|file| {
        let bytes = serde_json::to_vec(&file.edits).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        let hash = intake.take(&mut bytes.as_slice(), size_bytes)?;
        Ok(KeysOf { address: file.address.clone(), hash, size_bytes })
    });
    stored.collect()
}

/// Writes the layer anew, in the place of the one before, and says what change that is.
fn own_layer(
    ledger: &Ledger,
    stored: &[KeysOf],
    new: &[(ContentHash, u64)],
    command: &str,
    now: &str,
) -> Result<ChangeRequest, LedgerError> {
    let catalogue = &ledger.catalogue;
    let before = catalogue.arrangement()?;
    let old = catalogue.own_edits()?;
    if stored.is_empty() {
        let removed: Vec<LayerId> = old.into_iter().collect();
        let after = before.without(&removed);
        return Ok(ChangeRequest { removed, ..ChangeRequest::new(command, now, after) });
    }
    let layers = ledger.layers()?;
    let name = match layers.iter().find(|layer| Some(layer.id) == old) {
        Some(old) => old.about.name.clone(),
        None => {
            let place = AddPlace::New { target: None, lifted: false };
            match free_name(&layers, OWN_EDITS.to_owned(), place) {
                Err(AddError::NameTaken { free, .. }) => free,
                _ => OWN_EDITS.to_owned(),
            }
        }
    };
    let layer = catalogue.insert_layer(&NewLayer {
        name,
        version: None,
        variant: None,
        source: String::new(),
        source_kind: "own edits".to_owned(),
        added_at: now.to_owned(),
        fit: serde_json::to_string(&Rules::default()).map_err(|error| catalogue.damaged_by(&error))?,
        files: stored.len() as u64,
        bytes: stored.iter().map(|file| file.size_bytes).sum(),
    })?;
    catalogue.mark_as_own_edits(layer)?;
    let modified = OffsetDateTime::parse(now, &Rfc3339).map_or(0, |at| at.unix_timestamp() & !1);
    let mut entries = key_entries(ledger, layer, stored, modified)?;
    if let Some(old) = old {
        // What is as it was keeps its time.
        let known = catalogue.entries_of(old)?;
        for (path, entry, _) in &mut entries {
            if let Some(same) = known.get(path).filter(|same| same.hash == entry.hash) {
                entry.modified = same.modified;
            }
        }
    }
    entries.sort_by_key(|(path, ..)| *path);
    catalogue.insert_entries(&entries)?;
    catalogue.insert_blobs(new)?;
    let mut after = before.with(Standing { layer, laid: true }, Target::Top);
    if let Some(old) = old {
        let laid = before.standings().iter().any(|standing| standing.layer == old && standing.laid);
        after = before.with(Standing { layer, laid }, Target::Top).without(&[old]);
    }
    let exchange = old.map(|old| Exchange { old, new: layer, prefer: None, asks_otherwise: false });
    Ok(ChangeRequest {
        removed: old.into_iter().collect(),
        new_blobs: new.iter().map(|(hash, _)| *hash).collect(),
        exchange,
        ..ChangeRequest::new(command, now, after)
    })
}

fn set(
    ledger: &Ledger,
    files: &mut Vec<FileEdits>,
    text: &str,
    edits: &[KeyEdit],
) -> Result<Vec<TweakRow>, TweakError> {
    let (address, root, key) = resolve(ledger, text)?;
    let at = match files.iter().position(|file| (file.column.root, &file.column.key) == (root, &key)) {
        Some(at) => at,
        None => {
            let column = ledger.column(root, &key)?;
            files.push(FileEdits { address, column, edits: Vec::new() });
            files.len() - 1
        }
    };
    let file = &mut files[at];
    let shown = file.address.to_string();
    let (order, beneath) = (ledger.present_order()?, beneath_own(ledger)?);
    file.column = learnt(ledger, file.column.clone(), [&order, &beneath])?;
    let content = supplied(ledger, &file.column, &beneath)?;
    let content = content.ok_or_else(|| TweakError::NoFile { address: shown.clone() })?;
    let format = format_of(&file.column, &order, &content).ok_or_else(|| TweakError::NotKeys {
        address: shown.clone(),
        reason: "its name is none of a configuration file; `oddstack game set --blend GLOB=FORMAT` says that it is one".to_owned(),
    })?;
    if let Some(spelled) = file.column.spelled() {
        file.address.path.clone_from(spelled);
    }
    let mut rows = Vec::new();
    for edit in edits {
        // The file first: else what is wrong with it would be said of the key.
        crate::blend::combine(format, None, &[&content], &[])
            .map_err(|error| TweakError::NotKeys { address: shown.clone(), reason: error.reason })?;
        let (key, value) = look_up(format, &content, &edit.key)
            .map_err(|reason| TweakError::BadKey { address: shown.clone(), reason })?;
        let edit = KeyEdit { key: key.clone(), value: edit.value.clone() };
        let made = crate::blend::combine(format, None, &[&content], &[std::slice::from_ref(&edit)]);
        let undone = made.map_or_else(|error| vec![error.reason], |made| made.undone);
        if let Some(reason) = undone.into_iter().next() {
            return Err(TweakError::BadKey { address: shown, reason });
        }
        file.edits.retain(|known| known.key != key);
        rows.push(TweakRow { address: shown.clone(), key, value: edit.value.clone(), beneath: value });
        file.edits.push(edit);
    }
    Ok(rows)
}

fn drop_edits(
    ledger: &Ledger,
    files: &mut [FileEdits],
    text: &str,
    keys: &[String],
) -> Result<Vec<TweakRow>, TweakError> {
    let (address, root, key) = resolve(ledger, text)?;
    let file = files.iter_mut().find(|file| (file.column.root, &file.column.key) == (root, &key));
    let Some(file) = file else { return Err(TweakError::NoEdit { what: address.to_string() }) };
    let shown = file.address.to_string();
    let listed = tweaks(ledger)?;
    let mut rows = Vec::new();
    let is_it = |edit: &KeyEdit, key: &String| edit.key == *key || edit.key.eq_ignore_ascii_case(key);
    for key in keys {
        let found = listed.iter().find(|row| row.address == shown && row.key.eq_ignore_ascii_case(key));
        let found = found.ok_or_else(|| TweakError::NoEdit { what: format!("{key} in {shown}") })?;
        rows.push(found.clone());
    }
    if keys.is_empty() {
        rows.extend(listed.into_iter().filter(|row| row.address == shown));
        file.edits.clear();
    }
    file.edits.retain(|edit| !keys.iter().any(|key| is_it(edit, key)));
    Ok(rows)
}

fn resolve(ledger: &Ledger, text: &str) -> Result<(Address, RootId, FoldedKey), TweakError> {
    let address = ledger.game().address_book().resolve(text)?;
    let (root, key) = key_of(ledger, &address)?;
    Ok((address, root, key))
}

/// The files that the user's own edits change.
fn own_files(ledger: &Ledger) -> Result<Vec<FileEdits>, TweakError> {
    let Some(own) = ledger.catalogue.own_edits()? else { return Ok(Vec::new()) };
    let blender = Blender::new(ledger);
    let mut files = Vec::new();
    for column in ledger.catalogue.columns_of(&[own], &[])? {
        let is_own = |entry: &&Entry| entry.layer == own && entry.kind == EntryKind::Keys;
        let Some(entry) = column.entries.iter().find(is_own) else { continue };
        let content = blender.stored(entry)?.unwrap_or_default();
        let edits = serde_json::from_slice(&content).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let spelled = column.base.as_ref().map_or(&entry.spelled, |base| &base.spelled).clone();
        let Some(address) = ledger.game().address(column.root, spelled) else { continue };
        files.push(FileEdits { address, column, edits });
    }
    files.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(files)
}

/// The present order without the user's own edits.
fn beneath_own(ledger: &Ledger) -> Result<Order, LedgerError> {
    let own: Vec<LayerId> = ledger.catalogue.own_edits()?.into_iter().collect();
    ledger.order(&ledger.catalogue.arrangement()?.without(&own), ledger.catalogue.settlements()?)
}

fn learnt(ledger: &Ledger, column: Column, orders: [&Order; 2]) -> Result<Column, LedgerError> {
    let mut columns = [column];
    orders.iter().try_for_each(|order| Blender::new(ledger).learn(&mut columns, order))?;
    let [column] = columns;
    Ok(column)
}

/// What lies at the column's address under `order`.
fn supplied(ledger: &Ledger, column: &Column, order: &Order) -> Result<Option<Vec<u8>>, LedgerError> {
    let blender = Blender::new(ledger);
    match column.provider(order) {
        Provider::Nothing => Ok(None),
        Provider::Base(_) => blender.base_content(column),
        Provider::Layer(entry) => match blender.content_of(column, entry, order)? {
            Some(made) => Ok(Some(made)),
            None => blender.stored(entry),
        },
    }
}

fn format_of(column: &Column, order: &Order, content: &[u8]) -> Option<Format> {
    order.blend_rules().format_of(column.key.as_str()).map(|format| format.of_content(content))
}
