//! Clearing, before the game starts, what layers say it must make anew after a change; and having it back.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::playing::{Launch, PlayError};
use crate::address::RelPath;
use crate::change::{ChangeOptions, ChangeRequest, Direct, Edits, Prepared, prepare};
use crate::files::{KEPT, WalkError, is_nothing_there, look_at, walk};
use crate::hash::ContentHash;
use crate::jobs::Mended;
use crate::jobs::add::remembered::remembered_rules;
use crate::jobs::add::start_wishes::{ClearRow, ToClear, agreement_to_clear, to_clear};
use crate::jobs::{MendRow, Permit};
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::notice::Notice;
use crate::observer::Observer;
use crate::stack::BaseKind;

/// The command that clears, as the history names it.
const COMMAND: &str = "play";

/// What one layer wants cleared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LayerClears {
    /// The layer.
    pub layer: String,
    /// What it names, with what that is now.
    pub clears: ClearRow,
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    files: Vec<ToClear>,
    #[serde(skip)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    agreement: ContentHash,
}

/// What the laid layers want cleared now; nothing if the stack has not changed since that was done last.
///
/// # Errors
/// [`PlayError`].
pub fn wanted_clearing(ledger: &Ledger, observer: &dyn Observer) -> Result<Vec<LayerClears>, PlayError> {
    let catalogue = &ledger.catalogue;
    if catalogue.cleared_revision()? == catalogue.last_revision()? {
        return Ok(Vec::new());
    }
    let mut wanted = Vec::new();
    for layer in ledger.layers()?.iter().filter(|layer| layer.laid) {
        let name = &layer.about.name;
        for (clears, files) in to_clear(ledger, &remembered_rules(ledger, layer)?.clears(), observer)? {
            if let Some(refused) = &clears.refused {
                observer.notice(Notice::NeverCleared { layer: name.clone(), refused: refused.to_string() });
            }
            if !files.is_empty() {
                let agreement = agreement_to_clear(name, &clears.pattern);
                wanted.push(LayerClears { layer: name.clone(), clears, files, agreement });
            }
        }
    }
    Ok(wanted)
}

/// Whether a person has still to agree to what is started; nobody has to where no layer wants it.
///
/// # Errors
/// [`LedgerError`].
pub fn is_start_unagreed(ledger: &Ledger, launch: &Launch) -> Result<bool, LedgerError> {
    launch.agreement.map_or(Ok(false), |hash| Ok(!ledger.catalogue.is_agreed(hash)?))
}

/// Those of `wanted` that a person has not agreed to.
///
/// # Errors
/// [`LedgerError`].
pub fn unagreed_clearing<'w>(
    ledger: &Ledger,
    wanted: &'w [LayerClears],
) -> Result<Vec<&'w LayerClears>, LedgerError> {
    let mut unagreed = Vec::new();
    for clears in wanted {
        if !ledger.catalogue.is_agreed(clears.agreement)? {
            unagreed.push(clears);
        }
    }
    Ok(unagreed)
}

/// Notes that a person has agreed to just this start and these clearings.
///
/// # Errors
/// [`LedgerError`].
pub fn agree(
    ledger: &Ledger,
    _permit: &Permit,
    launch: &Launch,
    wanted: &[LayerClears],
    now: Moment,
) -> Result<(), LedgerError> {
    let start = launch.agreement.zip(launch.layer.as_deref());
    let clears = wanted.iter().map(|clears| (clears.agreement, clears.layer.as_str()));
    for (hash, layer) in start.into_iter().chain(clears) {
        ledger.catalogue.write_agreement(hash, layer, &now.to_string())?;
    }
    Ok(())
}

/// Prepares to clear what is wanted; none when that is nothing, which [`note_cleared`] is to note then. What is cleared is
/// saved in the ledger.
///
/// # Errors
/// [`PlayError`]; nothing was changed.
pub fn prepare_clearing<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    wanted: &[LayerClears],
    now: Moment,
    observer: &dyn Observer,
) -> Result<Option<Prepared<'l>>, PlayError> {
    let files: BTreeSet<&ToClear> = wanted.iter().flat_map(|clears| &clears.files).collect();
    let mut accepted = Vec::new();
    for file in &files {
        let key = ledger.game().folding.key(file.path.as_str());
        if ledger.catalogue.base_at(file.root, &key)?.is_some() {
            accepted.push((file.root, key, None));
        }
    }
    let direct =
        files.into_iter().map(|file| Direct { root: file.root, path: file.path.clone(), instead: None });
    let direct: Vec<Direct> = direct.collect();
    if direct.is_empty() {
        return Ok(None);
    }
    let mut request = ChangeRequest::new(COMMAND, now, ledger.catalogue.arrangement()?);
    request.files.direct = direct;
    request.files.accepted = accepted;
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    Ok(Some(change.then(cleared)))
}

/// Notes that what layers want cleared is cleared, for the stack as it is now.
///
/// # Errors
/// [`LedgerError`]; it will be cleared once more.
pub fn note_cleared(ledger: &Ledger) -> Result<(), LedgerError> {
    ledger.catalogue.set_cleared_revision(ledger.catalogue.last_revision()?)
}

/// As [`note_cleared`]; where it can't be noted it will be cleared once more.
fn cleared(ledger: &Ledger) {
    let _ = note_cleared(ledger);
}

/// What was cleared last, about to be had back.
#[derive(Debug)]
pub struct GivingBack<'l> {
    /// Every file, `given_back`, or `left` in the ledger where the game has made it anew.
    pub rows: Vec<MendRow>,
    /// The change; none when there is nothing to give back.
    pub change: Option<Prepared<'l>>,
}

/// Prepares to put back what was cleared last, where nothing lies there now.
///
/// # Errors
/// [`PlayError`]; nothing was changed.
pub fn prepare_giving_back<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    now: Moment,
    observer: &dyn Observer,
) -> Result<GivingBack<'l>, PlayError> {
    let (mut rows, mut direct) = (Vec::new(), Vec::new());
    for revision in ledger.catalogue.revisions_of(COMMAND)? {
        for root in &ledger.game().roots {
            let folder =
                ledger.site().side(root).join(KEPT).join(revision.to_string()).join(root.name.as_str());
            for (path, saved) in files_below(&folder, observer)? {
                let there = path.on(&root.folder);
                let is_there = look_at(&there).map_err(LedgerError::io("look at", &there))?.is_some();
                let (done, details) = match is_there {
                    true => (
                        Mended::Left,
                        vec![format!("there is one anew; the old one is at {}", saved.display())],
                    ),
                    false => (Mended::GivenBack, Vec::new()),
                };
                let address = ledger.game().address(root.id, path.clone());
                let address = address.map(|address| address.to_string()).unwrap_or_default();
                rows.push(MendRow { address, done, details });
                if !is_there {
                    direct.push(Direct { root: root.id, path, instead: Some(saved) });
                }
            }
        }
        if !rows.is_empty() {
            break;
        }
    }
    if direct.is_empty() {
        return Ok(GivingBack { rows, change: None });
    }
    let command = "put back what was cleared";
    let mut request = ChangeRequest::new(command, now, ledger.catalogue.arrangement()?);
    request.files.direct = direct;
    let mut folders = BTreeSet::new();
    for file in &request.files.direct {
        let root = &ledger.site().root(file.root)?.folder;
        let mut folder = file.path.parent();
        while !folder.is_root() && !folder.on(root).exists() {
            folders.insert((file.root, folder.clone()));
            folder = folder.parent();
        }
    }
    // One above another comes first in their order.
    request.files.make_folders = folders.into_iter().collect();
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(Transaction::begin(ledger)?, permit.lock, request, options, observer)?;
    // Else it would be cleared at the next start.
    Ok(GivingBack { rows, change: Some(change.then(cleared)) })
}

/// The files below a folder of ours that may not be there, by their paths below it.
fn files_below(folder: &Path, observer: &dyn Observer) -> Result<Vec<(RelPath, PathBuf)>, LedgerError> {
    let walked = match walk(folder, observer) {
        Ok(walked) => walked,
        Err(WalkError::Unreadable { source, .. }) if is_nothing_there(&source) => return Ok(Vec::new()),
        Err(WalkError::Unreadable { path, source }) => {
            return Err(LedgerError::io("look into", path)(source));
        }
        Err(WalkError::Cancelled) => return Ok(Vec::new()),
    };
    let mut files = Vec::new();
    for folder_in in walked {
        for (name, seen) in folder_in.things {
            if let (Ok(name), true) = (name.into_string(), seen.kind != BaseKind::Folder) {
                let path = folder_in.below.join(&RelPath::from_disk(name));
                let saved = path.on(folder);
                files.push((path, saved));
            }
        }
    }
    files.sort();
    Ok(files)
}
