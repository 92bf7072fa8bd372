//! The user's own changes to keys of configuration files, kept in a layer that stays on top.

use std::collections::BTreeSet;
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::own_layer::{OwnFile, Whole, format_of, learnt, own_layer, store, supplied};
use crate::address::{Address, AddressError, FoldedKey, INTO};
use crate::blend::{Format, KeyEdit, NotEdited, look_up, read_edits, renewed, resolve_edits};
use crate::change::{ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::expected::{Blender, Containers};
use crate::files::{look_at, open_regular};
use crate::hash::ContentHash;
use crate::jobs::Permit;
use crate::jobs::add::content_at::key_of;
use crate::ledger::{Intake, Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Entry, EntryKind, LayerId, Order, RootId};

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
        /// Nothing says that it is one; the game's rules of what blends can.
        is_unknown: bool,
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

/// What of a file is the user's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum OwnEdit {
    /// A key.
    Key,
    /// The whole file.
    File,
    /// That it is away.
    Gone,
}

/// One edit of a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct TweakRow {
    /// The file.
    pub address: String,
    /// What is the user's own.
    pub what: OwnEdit,
    /// The key as people write it; empty for whole files.
    pub key: String,
    /// The value; none when the key is taken out, and for whole files.
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

/// A whole file that the user wants to keep as their own.
#[derive(Debug, Clone)]
pub(in crate::jobs) struct KeptWhole {
    pub address: Address,
    /// Where it lies now; `None` to keep that nothing does.
    pub path: Option<PathBuf>,
}

/// What is to become of the user's own edits and files.
#[derive(Debug, Clone, Default)]
pub(in crate::jobs) struct OwnChange<'a> {
    pub set: &'a [(String, Vec<KeyEdit>)],
    pub whole: &'a [KeptWhole],
}

/// All of the user's own edits.
///
/// # Errors
/// [`TweakError`].
pub fn tweaks(ledger: &Ledger) -> Result<Vec<TweakRow>, TweakError> {
    let order = ledger.present_order()?;
    let beneath = beneath_own(ledger)?;
    let mut rows = Vec::new();
    for mut file in own_files(ledger)? {
        let (format, content) = file.renew(ledger, &order, &beneath)?;
        let address = file.address.to_string();
        if let Some(whole) = &file.whole {
            let what = if whole.hash == ContentHash::NOTHING { OwnEdit::Gone } else { OwnEdit::File };
            let address = address.clone();
            rows.push(TweakRow { address, what, key: String::new(), value: None, beneath: None });
        }
        rows.extend(file.edits.into_iter().map(|edit| row(&address, edit, format, &content)));
    }
    Ok(rows)
}

fn row(address: &str, edit: KeyEdit, format: Option<Format>, beneath: &[u8]) -> TweakRow {
    let found = format.and_then(|format| look_up(format, beneath, &edit).ok());
    let beneath = found.and_then(|(_, value)| value);
    let (address, what) = (address.to_owned(), OwnEdit::Key);
    TweakRow { address, what, key: edit.key, value: edit.value, beneath }
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
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Tweaking<'l>, TweakError> {
    let mut files = own_files(ledger)?;
    let before = states(&files);
    let transaction = Transaction::of_contents(ledger);
    let intake = Intake::new(ledger, true);
    let rows = match tweak {
        Tweak::Set(all) => {
            let made = change_own(ledger, &intake, &mut files, &OwnChange { set: all, whole: &[] });
            let made = made.and_then(|rows| {
                take_out_what_is_there(&mut files, &before, &rows)?;
                Ok(rows)
            });
            made?
        }
        Tweak::Drop { address, keys } => drop_edits(ledger, &mut files, address, keys)?,
        Tweak::DropAll => {
            let rows = tweaks(ledger)?;
            files.clear();
            rows
        }
    };
    files.retain(OwnFile::is_something);
    if states(&files) == before {
        return Ok(Tweaking { rows, change: None });
    }
    let request = own_request(&transaction, intake, &files, command, now)?;
    let change = prepare(transaction, permit.lock, request, options, observer)?;
    Ok(Tweaking { rows, change: Some(change) })
}

/// Keeps `change` among the user's own, inside the catalogue's open transaction, and says what is to be changed on disk;
/// nothing when all is so already. What was stored must be discarded if this fails.
pub(in crate::jobs) fn keep_own(
    ledger: &Ledger,
    change: &OwnChange<'_>,
    command: &str,
    now: Moment,
) -> Result<Option<ChangeRequest>, TweakError> {
    let mut files = own_files(ledger)?;
    let before = states(&files);
    let intake = Intake::new(ledger, true);
    change_own(ledger, &intake, &mut files, change)?;
    if states(&files) == before {
        return Ok(None);
    }
    let stored = store(ledger, &intake, &files)?;
    Ok(Some(own_layer(ledger, &files, &stored, &intake.take_new()?, command, now)?))
}

/// An address, its edits, and the whole file there.
type OwnState = (String, Vec<(String, Option<String>)>, Option<ContentHash>);

/// What can be compared of the user's own.
fn states(files: &[OwnFile]) -> BTreeSet<OwnState> {
    let edits =
        |file: &OwnFile| file.edits.iter().map(|edit| (edit.key.clone(), edit.value.clone())).collect();
    let state =
        |file: &OwnFile| (file.address.to_string(), edits(file), file.whole.as_ref().map(|whole| whole.hash));
    files.iter().map(state).collect()
}

/// Refuses to take out keys that are nowhere; one that only the user has set is no longer set.
fn take_out_what_is_there(
    files: &mut [OwnFile],
    before: &BTreeSet<OwnState>,
    rows: &[TweakRow],
) -> Result<(), TweakError> {
    for row in rows.iter().filter(|row| row.value.is_none() && row.beneath.is_none()) {
        let known = before.iter().filter(|(address, ..)| *address == row.address);
        let was_set =
            known.flat_map(|(_, edits, _)| edits).any(|(key, value)| *key == row.key && value.is_some());
        if !was_set {
            let reason = format!("`{}` is not in it, so there is nothing to take out", row.key);
            return Err(TweakError::BadKey { address: row.address.clone(), reason });
        }
        for file in files.iter_mut().filter(|file| file.address.to_string() == row.address) {
            file.edits.retain(|edit| edit.key != row.key);
        }
    }
    Ok(())
}

/// Takes the edits and whole files of `change` into `files`; new contents are stored.
fn change_own(
    ledger: &Ledger,
    intake: &Intake<'_>,
    files: &mut Vec<OwnFile>,
    change: &OwnChange<'_>,
) -> Result<Vec<TweakRow>, TweakError> {
    let mut rows = Vec::new();
    for (address, edits) in change.set {
        rows.extend(set(ledger, intake, files, address, edits)?);
    }
    for kept in change.whole {
        let at = own_at(ledger, files, &kept.address)?;
        let whole = match &kept.path {
            None => Whole { hash: ContentHash::NOTHING, size_bytes: 0, modified: 0, executable: None },
            Some(path) => {
                let failed = |source| LedgerError::io("read", path)(source);
                let seen = look_at(path).map_err(failed)?;
                let seen = seen.ok_or_else(|| failed(std::io::ErrorKind::NotFound.into()))?;
                let mut file = open_regular(path).map_err(failed)?;
                Whole {
                    hash: intake.take(&mut file, seen.size_bytes)?,
                    size_bytes: seen.size_bytes,
                    modified: seen.modified_ns.div_euclid(1_000_000_000),
                    executable: (seen.mode & 0o111 != 0).then_some(true),
                }
            }
        };
        files[at].edits.clear();
        files[at].whole = Some(whole);
        // What was kept of a container's members is in it, or was not wanted.
        let (root, key) = (files[at].column.root, files[at].column.key.clone());
        files.retain(|file| file.column.root != root || !is_within(&file.column.key, &key));
    }
    Ok(rows)
}

/// The container around an address that is the user's own as a whole.
fn whole_around<'f>(ledger: &Ledger, files: &'f [OwnFile], address: &Address) -> Option<&'f Address> {
    let key = ledger.game().folding.key(address.path.as_str());
    let is_around = |file: &&OwnFile| file.whole.is_some() && is_within(&key, &file.column.key);
    files.iter().find(is_around).map(|file| &file.address)
}

fn is_within(member: &FoldedKey, container: &FoldedKey) -> bool {
    let rest = member.as_str().strip_prefix(container.as_str());
    rest.is_some_and(|rest| rest.starts_with(INTO))
}

/// The place of an address in `files`, made if it is new.
fn own_at(ledger: &Ledger, files: &mut Vec<OwnFile>, address: &Address) -> Result<usize, LedgerError> {
    let (root, key) = key_of(ledger, address)?;
    if let Some(at) = files.iter().position(|file| (file.column.root, &file.column.key) == (root, &key)) {
        return Ok(at);
    }
    let mut column = ledger.column(root, &key)?;
    Containers::new(ledger).mark_member(&mut column)?;
    files.push(OwnFile { address: address.clone(), column, edits: Vec::new(), whole: None });
    Ok(files.len() - 1)
}

/// Begins the change of the catalogue that makes the layer of the user's own of `files`.
fn own_request(
    transaction: &Transaction<'_>,
    intake: Intake<'_>,
    files: &[OwnFile],
    command: &str,
    now: Moment,
) -> Result<ChangeRequest, TweakError> {
    let ledger = transaction.ledger();
    let stored = store(ledger, &intake, files)?;
    let new = intake.take_new()?;
    transaction.open()?;
    Ok(own_layer(ledger, files, &stored, &new, command, now)?)
}

fn set(
    ledger: &Ledger,
    intake: &Intake<'_>,
    files: &mut Vec<OwnFile>,
    text: &str,
    edits: &[KeyEdit],
) -> Result<Vec<TweakRow>, TweakError> {
    let (address, ..) = resolve(ledger, text)?;
    if let Some(container) = whole_around(ledger, files, &address) {
        let reason = format!("the whole of {container} is kept as yours; drop that first");
        return Err(TweakError::NotKeys { address: address.to_string(), reason, is_unknown: false });
    }
    let at = own_at(ledger, files, &address)?;
    let file = &mut files[at];
    let shown = file.address.to_string();
    let (order, beneath) = (ledger.present_order()?, beneath_own(ledger)?);
    file.column = learnt(ledger, file.column.clone(), [&order, &beneath])?;
    // A whole file of the user's own is what is edited, if there is one.
    let content = match &file.whole {
        Some(_) => supplied(ledger, &file.column, &order)?,
        None => supplied(ledger, &file.column, &beneath)?,
    };
    let content = content.ok_or_else(|| TweakError::NoFile { address: shown.clone() })?;
    let format = format_of(&file.column, &order, &content).ok_or_else(|| TweakError::NotKeys {
        address: shown.clone(),
        reason: "neither its name nor its content is one of a configuration file".to_owned(),
        is_unknown: true,
    })?;
    if let Some(spelled) = file.column.spelled() {
        file.address.path.clone_from(spelled);
    }
    let resolved =
        resolve_edits(format, &content, edits, &ledger.last_read).map_err(|error| match error {
            NotEdited::File(reason) => {
                TweakError::NotKeys { address: shown.clone(), reason, is_unknown: false }
            }
            NotEdited::Key(reason) => TweakError::BadKey { address: shown.clone(), reason },
        })?;
    file.edits = renewed(format, &content, std::mem::take(&mut file.edits));
    let mut rows = Vec::new();
    for (edit, beneath) in resolved {
        file.edits.retain(|known| known.key != edit.key);
        let (address, what) = (shown.clone(), OwnEdit::Key);
        rows.push(TweakRow { address, what, key: edit.key.clone(), value: edit.value.clone(), beneath });
        file.edits.push(edit);
    }
    if let Some(whole) = &mut file.whole {
        let made = crate::blend::combine(format, None, &[&content], &[&std::mem::take(&mut file.edits)]);
        let made = made
            .map_err(|error| TweakError::NotKeys { address: shown, reason: error.reason, is_unknown: false })?
            .content;
        whole.size_bytes = made.len() as u64;
        whole.hash = intake.take(&mut made.as_slice(), whole.size_bytes)?;
    }
    Ok(rows)
}

fn drop_edits(
    ledger: &Ledger,
    files: &mut [OwnFile],
    text: &str,
    keys: &[String],
) -> Result<Vec<TweakRow>, TweakError> {
    let (address, root, key) = resolve(ledger, text)?;
    let file = files.iter_mut().find(|file| (file.column.root, &file.column.key) == (root, &key));
    let Some(file) = file else { return Err(TweakError::NoEdit { what: address.to_string() }) };
    let shown = file.address.to_string();
    file.renew(ledger, &ledger.present_order()?, &beneath_own(ledger)?)?;
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
        file.whole = None;
    }
    file.edits.retain(|edit| !keys.iter().any(|key| is_it(edit, key)));
    Ok(rows)
}

fn resolve(ledger: &Ledger, text: &str) -> Result<(Address, RootId, FoldedKey), TweakError> {
    let address = ledger.game().meant(text)?;
    let (root, key) = key_of(ledger, &address)?;
    Ok((address, root, key))
}

/// The files that are the user's own, or that their edits change.
fn own_files(ledger: &Ledger) -> Result<Vec<OwnFile>, TweakError> {
    let Some(own) = ledger.catalogue.own_edits()? else { return Ok(Vec::new()) };
    let blender = Blender::new(ledger);
    let mut files = Vec::new();
    for column in ledger.catalogue.columns_of(&[own], &[])? {
        let Some(entry) = column.entries.iter().find(|entry| entry.layer == own) else { continue };
        // Signatures of containers go by themselves.
        let is_signature = column.is_member && entry.kind == EntryKind::File && entry.takes_away();
        if entry.kind == EntryKind::Members || is_signature {
            continue;
        }
        let (edits, whole) = if entry.kind == EntryKind::Keys {
            let content = blender.stored(entry)?.unwrap_or_default();
            let edits = read_edits(&content);
            (edits.map_err(|error| ledger.catalogue.damaged_by(&error))?, None)
        } else {
            let Entry { hash, size_bytes, modified, executable, .. } = *entry;
            (Vec::new(), Some(Whole { hash, size_bytes, modified, executable }))
        };
        let spelled = column.base.as_ref().map_or(&entry.spelled, |base| &base.spelled).clone();
        let Some(address) = ledger.game().address(column.root, spelled) else { continue };
        files.push(OwnFile { address, column, edits, whole });
    }
    files.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(files)
}

/// The present order without the user's own edits.
fn beneath_own(ledger: &Ledger) -> Result<Order, LedgerError> {
    let own: Vec<LayerId> = ledger.catalogue.own_edits()?.into_iter().collect();
    ledger.order(&ledger.catalogue.arrangement()?.without(&own), ledger.catalogue.settlements()?)
}
