//! The end of a capture: what was changed becomes a layer.

use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;

use rayon::prelude::*;
#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::super::made_by::MadeBy;
use super::differences::{Difference, Differences, differences};
use super::entry::CapturedEntry;
use super::folders::{folders_away, folders_kept, still_needed};
use super::inside::captured_inside;
use super::{CaptureError, CaptureUnderWay, clear_after};
use crate::address::{FoldedKey, INTO, RelPath};
use crate::blend::{KeyEdit, MOST_BLENDED_BYTES, edits_between, write_edits};
use crate::change::{
    BaseBefore, ChangeOptions, ChangeRequest, Direct, Edits, Exchange, ForeignFile, Prepared, prepare,
};
use crate::check::MemberTurn;
use crate::expected::Blender;
use crate::files::{open_regular, read_small};
use crate::fit::Rules;
use crate::game::AddressPatterns;
use crate::hash::ContentHash;
use crate::jobs::add::new_layer::numbered;
use crate::jobs::add::remembered::remembered_rules;
use crate::jobs::add::taken_away::AwayAt;
use crate::jobs::needs::write_needs;
use crate::jobs::order::with_own_on_top;
use crate::jobs::{ChangeReport, Permit};
use crate::ledger::{Intake, Ledger, LedgerError, NewContent, NewLayer, Transaction};
use crate::moment::Moment;
use crate::notice::Notice;
use crate::observer::{Observer, Work};
use crate::stack::{
    Arrangement, BaseKind, Entry, EntryKind, LayerId, Needs, Order, PathId, Provider, RootId, Standing,
    Target,
};

/// Settings that were changed in one file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct SettingsRow {
    /// The file.
    pub address: String,
    /// The keys.
    pub keys: Vec<String>,
}

/// What was captured. A program that fails leaves the capture open: the command ends with exit code 3 and the error
/// `program_failed`, and `--end` makes the layer all the same, `--cancel` takes back what was done.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CaptureEnd {
    /// The layer's name; none if nothing was changed.
    pub layer: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// The program, when it began, and how it ended.
    pub made_by: Option<MadeBy>,
    /// Files that came.
    pub added: Vec<String>,
    /// Files with other content than before.
    pub changed: Vec<String>,
    /// Files of settings whose keys were changed.
    pub settings: Vec<SettingsRow>,
    /// Files that went, and folders of the game, with a `/` at the end.
    pub taken_away: Vec<String>,
    /// What was left out as said: taken out of the game and saved, or put back as it was.
    pub left_out: Vec<String>,
    /// Files that were written anew with the very content.
    pub alike_files: u64,
    /// Files that changed where the game writes by itself, and are no part of the layer.
    pub volatile_files: u64,
    /// Files of the game's own that can't be recovered: they were not protected, or were written in place.
    pub originals_lost: Vec<String>,
    /// What changes on disk.
    pub change: ChangeReport,
}

/// A capture about to be ended.
#[derive(Debug)]
pub struct Ending<'l> {
    /// What was captured.
    pub report: CaptureEnd,
    /// The change; none when nothing was changed.
    pub change: Option<Prepared<'l>>,
}

/// Prepares to make a layer of all that was changed, but for what meets `skip`. With `dry_run` contents are only hashed.
///
/// # Errors
/// [`CaptureError`]; the capture is under way still.
pub fn prepare_capture_end<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    skip: &[String],
    now: Moment,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Ending<'l>, CaptureError> {
    let (begun, begun_at) = CaptureUnderWay::ready(ledger)?;
    let skip = AddressPatterns::parse(ledger.game(), skip)?;
    let order = ledger.present_order()?;
    let found = differences(ledger, &order, observer)?;
    let made_by =
        MadeBy { command: begun.command.clone().unwrap_or_default(), begun_at, end: begun.end.clone() };
    let mut report = report_begun(&begun, &made_by, &found);
    if !dry_run {
        for (path, stamp) in &found.alike {
            ledger.seam.stamp(path, *stamp).map_err(LedgerError::io("set the time of", path))?;
        }
    }
    let intake = Intake::new(ledger, !dry_run);
    let transaction = Transaction::of_contents(ledger);
    let CapturedFiles { drafts, mut request } =
        take(ledger, (&intake, now), &order, &found, &skip, &mut report, observer)?;
    let new = intake.take_new()?;
    let folders_added =
        !found.folders_added.is_empty() && drafts.is_empty() && request.files.direct.is_empty();
    let away = folders_away(ledger, &found, &request)?;
    report.taken_away.extend(away.iter().filter_map(|(root, _, folder)| {
        ledger.game().address(*root, folder.clone()).map(|address| format!("{address}/"))
    }));
    let is_layer = !drafts.is_empty() || !away.is_empty();
    if !is_layer
        && request.files.direct.is_empty()
        && request.files.restore.is_empty()
        && begun.exchange.is_none()
    {
        transaction.discard_contents();
        if !folders_added && found.folders_gone.is_empty() {
            if !dry_run {
                ledger.catalogue.write_ongoing(None)?;
                clear_after(ledger);
            }
            return Ok(Ending { report, change: None });
        }
    }
    let folders = folders_kept(&found, &drafts, &request.files.direct);
    transaction.open()?;
    request.command = format!("capture {}", begun.name);
    request.stack.after = begun.arrangement();
    if is_layer {
        let folders = LayerFolders { new: &folders, away: &away };
        let layer = insert(ledger, &begun, &made_by, &drafts, folders, &new, now)?;
        ask_for(ledger, &begun, layer, drafts, &mut request)?;
        request.noted.new_contents = new;
        report.layer = Some(begun.name.clone());
    } else if begun.exchange.is_none() {
        request.stack.after = ledger.catalogue.arrangement()?;
    }
    request.files.make_folders = still_needed(ledger, &order, &found, &request)?;
    let dropped = found.folders_added.iter().rev().filter(|folder| !folders.contains(folder));
    request.files.drop_folders = dropped.cloned().collect();
    request.noted.ongoing = Some(None);
    request.noted.is_dry_run = dry_run;
    request.noted.undo = Some(known_before(ledger, &request)?);
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(transaction, permit.lock, request, options, observer)?;
    Ok(Ending { report, change: Some(change.then(clear_after)) })
}

fn report_begun(begun: &CaptureUnderWay, made_by: &MadeBy, found: &Differences) -> CaptureEnd {
    CaptureEnd {
        version: begun.version.clone(),
        alike_files: found.alike.len() as u64,
        volatile_files: found.volatile_files,
        made_by: Some(made_by.clone()),
        ..CaptureEnd::default()
    }
}

/// Has the captured layer on the stack, with its files as they lie.
fn ask_for(
    ledger: &Ledger,
    begun: &CaptureUnderWay,
    layer: LayerId,
    drafts: Vec<CapturedEntry>,
    request: &mut ChangeRequest,
) -> Result<(), LedgerError> {
    request.stack.after = with_own_on_top(with_new(begun, layer), ledger.catalogue.own_edits()?);
    let keys: Vec<_> = drafts.iter().map(|draft| (draft.root, draft.key.clone())).collect();
    let numbers = ledger.catalogue.path_numbers(&keys)?;
    request.files.foreign =
        numbers.into_iter().zip(drafts).filter_map(|(path, draft)| Some((path, draft.foreign?))).collect();
    if let Some(old) = begun.exchange {
        request.stack.removed.push(old);
        request.stack.exchanges.push(Exchange { old, new: layer, prefer: None, asks_otherwise: true });
    }
    Ok(())
}

/// What is not known any more after the change, and is known again if it is all taken back.
fn known_before(ledger: &Ledger, request: &ChangeRequest) -> Result<BaseBefore, LedgerError> {
    Ok(BaseBefore {
        base: request_base(request, ledger)?,
        version: ledger.game().version.clone(),
        seen: ledger.game().seen,
        unknown_originals: ledger.catalogue.unknown_originals()?,
        entries: Vec::new(),
        tallies: Vec::new(),
    })
}

/// Rows of the base at addresses whose original may be lost by this.
fn request_base(
    request: &ChangeRequest,
    ledger: &Ledger,
) -> Result<Vec<(RootId, FoldedKey, Option<crate::stack::BaseFile>)>, LedgerError> {
    let mut rows = Vec::new();
    for (path, foreign) in &request.files.foreign {
        if matches!(foreign, ForeignFile::Captured { original: None, .. })
            && let Some((root, key)) = ledger.catalogue.key_at(*path)?
            && let Some(base) = ledger.catalogue.base_at(root, &key)?
        {
            rows.push((root, key, Some(base)));
        }
    }
    Ok(rows)
}

/// What was taken in.
struct CapturedFiles {
    drafts: Vec<CapturedEntry>,
    /// What is to be done beside the layer.
    request: ChangeRequest,
}

fn take(
    ledger: &Ledger,
    (intake, now): (&Intake<'_>, Moment),
    order: &Order,
    found: &Differences,
    skip: &AddressPatterns,
    report: &mut CaptureEnd,
    observer: &dyn Observer,
) -> Result<CapturedFiles, CaptureError> {
    let mut request = ChangeRequest::new("capture", now, Arrangement::default());
    let mut wanted: Vec<&Difference> = Vec::new();
    let mut links: Vec<String> = Vec::new();
    let mut drafts = Vec::new();
    for file in &found.files {
        let name = address_of(ledger, file);
        if skip.meet(file.root, file.key.as_str()) && leave_out(file, order, &mut request) {
            report.left_out.push(name);
            continue;
        }
        if file.now.as_ref().is_some_and(|(_, seen)| seen.kind != BaseKind::File) {
            if file.before.is_none() {
                links.push(name);
                continue;
            }
            let reason = "a link lies where a file was";
            return Err(CaptureError::CannotCapture { address: name, reason });
        }
        match captured_inside(ledger, intake, order, file)? {
            Some(inside) => {
                inside.told.iter().for_each(|(name, turn)| note_member(report, name, *turn));
                for (hash, content) in inside.small {
                    request.noted.unstored.keep(hash, content);
                }
                drafts.extend(inside.drafts);
            }
            None => wanted.push(file),
        }
    }
    if let Some(first) = links.first() {
        observer.notice(Notice::LinksStay { first: first.clone(), count: links.len() });
    }
    let settings: Vec<Option<Vec<KeyEdit>>> =
        wanted.iter().map(|file| settings_of(ledger, order, file)).collect::<Result<_, _>>()?;
    let lists: Vec<Option<Vec<u8>>> = settings
        .iter()
        .map(|edits| edits.as_deref().map(write_edits).transpose())
        .collect::<Result<_, _>>()
        .map_err(|error| ledger.catalogue.damaged_by(&error))?;
    let contents = contents(ledger, intake, &wanted, &lists, observer);
    for (((file, settings), list), content) in wanted.into_iter().zip(settings).zip(lists).zip(contents) {
        let (hash, size_bytes) = content?;
        if let Some(list) = list {
            request.noted.unstored.keep(hash, list);
        }
        note(report, file, settings.as_deref(), &address_of(ledger, file));
        drafts.push(draft(ledger, order, file, settings.is_some(), (hash, size_bytes), &mut request, report));
    }
    Ok(CapturedFiles { drafts, request })
}

/// Takes in each file, or the list of keys in its stead.
fn contents(
    ledger: &Ledger,
    intake: &Intake<'_>,
    wanted: &[&Difference],
    lists: &[Option<Vec<u8>>],
    observer: &dyn Observer,
) -> Vec<Result<(ContentHash, u64), LedgerError>> {
    let bytes = wanted.iter().filter_map(|file| Some(file.now.as_ref()?.1.size_bytes)).sum();
    observer.begin(Work::Reading, wanted.len() as u64, bytes);
    let site = ledger.site();
    let contents = wanted
        .par_iter()
        .zip(lists)
        .map(|(file, list)| {
            let Some((path, seen)) = &file.now else { return Ok((ContentHash::NOTHING, 0)) };
            observer.advance(1, seen.size_bytes);
            if let Some(list) = list {
                let size_bytes = list.len() as u64;
                return Ok((intake.take(&mut list.as_slice(), size_bytes)?, size_bytes));
            }
            let path = path.on(&site.root(file.root)?.folder);
            let mut content = open_regular(&path).map_err(LedgerError::io("read", &path))?;
            Ok((intake.take(&mut content, seen.size_bytes)?, seen.size_bytes))
        })
        .collect();
    observer.end();
    contents
}

fn address_of(ledger: &Ledger, file: &Difference) -> String {
    ledger.game().address(file.root, file.path()).map(|address| address.to_string()).unwrap_or_default()
}

/// Notes what puts the file back as it was, or takes it away; says whether that can be.
fn leave_out(file: &Difference, order: &Order, request: &mut ChangeRequest) -> bool {
    let path = file.path();
    if file.before.is_none() || file.guard.is_some() {
        request.files.direct.push(Direct { root: file.root, path, instead: file.guard.clone() });
        return true;
    }
    let is_layers = matches!(file.column.provider(order), Provider::Layer(_));
    if is_layers {
        request.files.restore.push(file.column.path);
    }
    is_layers
}

/// The keys that were changed in a file of settings; nothing for other files, new ones, and those that went.
fn settings_of(
    ledger: &Ledger,
    order: &Order,
    file: &Difference,
) -> Result<Option<Vec<KeyEdit>>, LedgerError> {
    let Some(format) = order.blend_rules().format_of(file.key.as_str()) else { return Ok(None) };
    let (Some(_), Some((path, _))) = (&file.before, &file.now) else { return Ok(None) };
    let read = |path: &PathBuf| read_small(path, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", path));
    let blender = Blender::new(ledger);
    let before = match (&file.guard, file.column.provider(order)) {
        (Some(guard), _) => read(guard)?,
        (None, Provider::Layer(entry)) => match blender.content_of(&file.column, entry, order)? {
            Some(made) => Some(made),
            None => blender.stored_if_there(entry)?,
        },
        (None, _) => None,
    };
    let Some(before) = before else { return Ok(None) };
    let now = read(&path.on(&ledger.site().root(file.root)?.folder))?;
    let Some(now) = now else { return Ok(None) };
    let edits = edits_between(format.of_content(&before), &before, &now);
    Ok(edits.ok().filter(|edits| !edits.is_empty()))
}

fn note_member(report: &mut CaptureEnd, name: &str, turn: MemberTurn) {
    let list = match turn {
        MemberTurn::Changed => &mut report.changed,
        MemberTurn::Come => &mut report.added,
        MemberTurn::Gone => &mut report.taken_away,
    };
    list.push(name.to_owned());
}

fn note(report: &mut CaptureEnd, file: &Difference, settings: Option<&[KeyEdit]>, name: &str) {
    match (settings, &file.before, &file.now) {
        (Some(edits), ..) => report.settings.push(SettingsRow {
            address: name.to_owned(),
            keys: edits.iter().map(|edit| edit.key.clone()).collect(),
        }),
        (None, None, _) => report.added.push(name.to_owned()),
        (None, Some(_), Some(_)) => report.changed.push(name.to_owned()),
        (None, Some(_), None) => report.taken_away.push(name.to_owned()),
    }
}

fn draft(
    ledger: &Ledger,
    order: &Order,
    file: &Difference,
    is_settings: bool,
    (hash, size_bytes): (ContentHash, u64),
    request: &mut ChangeRequest,
    report: &mut CaptureEnd,
) -> CapturedEntry {
    let is_base = matches!(file.column.provider(order), Provider::Base(_));
    let original = file.guard.clone().filter(|_| is_base);
    if is_base && original.is_none() {
        report.originals_lost.push(address_of(ledger, file));
    }
    if let (Some(guard), false, Some(before)) = (&file.guard, is_base, &file.before) {
        // A person's edits of a layer's file, which the program wrote over.
        request.files.save.push((guard.clone(), file.root, before.path.clone()));
    }
    let (spelled, modified, executable) = match (&file.now, &file.before) {
        (Some((path, seen)), _) => (
            path.clone(),
            seen.modified_ns.div_euclid(1_000_000_000),
            (seen.mode & 0o111 != 0).then_some(true),
        ),
        (None, Some(before)) => (before.path.clone(), 0, None),
        (None, None) => (RelPath::root(), 0, None),
    };
    let kind = match (is_settings, order.blend_rules().format_of(file.key.as_str())) {
        (true, _) => EntryKind::Keys,
        (false, Some(_)) => EntryKind::Whole,
        (false, None) => EntryKind::File,
    };
    let entry = Entry { layer: LayerId(0), kind, spelled, hash, size_bytes, modified, executable };
    let at = file.now.as_ref().map(|(path, _)| path.clone());
    let foreign = Some(ForeignFile::Captured { at, original, edited: false });
    let blended = file.column.blend(order).and_then(|blend| blend.outcome.as_ref().ok());
    let over = match (blended, file.column.provider(order)) {
        (Some(blended), _) => blended.from.clone(),
        (None, Provider::Layer(entry)) => vec![entry.layer],
        (None, _) => Vec::new(),
    };
    CapturedEntry { root: file.root, key: file.key.clone(), entry, foreign, over, is_member: false }
}

/// The layers whose files the program found where it left whole ones of its own: what it made of them is in these.
fn made_over(ledger: &Ledger, drafts: &[CapturedEntry]) -> Result<Vec<String>, LedgerError> {
    let whole = drafts.iter().filter(|draft| draft.entry.kind.is_file());
    let layers: BTreeSet<LayerId> = whole.flat_map(|draft| draft.over.iter().copied()).collect();
    layers.into_iter().map(|layer| ledger.catalogue.layer_name(layer)).collect()
}

/// The stack with the new layer on top, or in place of the one that goes.
fn with_new(begun: &CaptureUnderWay, layer: LayerId) -> Arrangement {
    let before = begun.arrangement();
    match begun.exchange {
        None => before.with(Standing { layer, laid: true }, Target::Top),
        Some(old) => {
            let laid = before.standings().iter().any(|standing| standing.layer == old && standing.laid);
            before.with(Standing { layer, laid }, Target::Above(old)).without(&[old])
        }
    }
}

/// Folders that a captured layer has something to say of.
#[derive(Clone, Copy)]
struct LayerFolders<'a> {
    new: &'a [(RootId, RelPath)],
    away: &'a [AwayAt],
}

fn insert(
    ledger: &Ledger,
    begun: &CaptureUnderWay,
    made_by: &MadeBy,
    drafts: &[CapturedEntry],
    layer_folders: LayerFolders<'_>,
    new: &[NewContent],
    now: Moment,
) -> Result<LayerId, LedgerError> {
    let catalogue = &ledger.catalogue;
    let json = |error| catalogue.damaged_by(&error);
    // What a person said of the older version is said of this one.
    let old = ledger.layers()?.into_iter().find(|layer| Some(layer.id) == begun.exchange);
    let rules = old.as_ref().map(|old| remembered_rules(ledger, old)).transpose()?.unwrap_or_default();
    let rules = Rules { said: rules.said, asked: rules.asked, ..Rules::default() };
    let needs = catalogue.facts()?.into_iter().find(|facts| Some(facts.id) == begun.exchange);
    let needs = needs.map(|facts| facts.needs).unwrap_or_default();
    let source = match &begun.command {
        Some(command) => command.join(" "),
        None => "changes made by hand".to_owned(),
    };
    let layer = catalogue.insert_layer(&NewLayer {
        name: begun.name.clone(),
        version: begun.version.clone(),
        variant: None,
        source,
        source_kind: "capture".to_owned(),
        added_at: now.to_string(),
        fit: serde_json::to_string(&rules).map_err(json)?,
        files: drafts.iter().filter(|draft| draft.entry.kind != EntryKind::Members).count() as u64,
        bytes: drafts.iter().map(|draft| draft.entry.size_bytes).sum(),
    })?;
    catalogue.set_made_by(layer, &serde_json::to_string(made_by).map_err(json)?)?;
    let made_over = made_over(ledger, drafts)?;
    write_needs(ledger, layer, &Needs { made_over, ..needs })?;
    let keys: Vec<_> = drafts.iter().map(|draft| (draft.root, draft.key.clone())).collect();
    let numbers = catalogue.path_numbers(&keys)?;
    let time = now.even_seconds();
    let entry = |draft: &CapturedEntry| {
        // What is made of keys is written anew.
        let is_made = matches!(draft.entry.kind, EntryKind::Keys | EntryKind::Members);
        let modified = if is_made { time } else { draft.entry.modified };
        Entry { layer, modified, ..draft.entry.clone() }
    };
    let mut entries: Vec<(PathId, Entry, RelPath)> =
        numbers.into_iter().zip(drafts).map(|(path, draft)| (path, entry(draft), RelPath::root())).collect();
    entries.sort_by_key(|(path, ..)| *path);
    catalogue.insert_entries(&entries)?;
    insert_folders(ledger, layer, drafts, layer_folders.new)?;
    catalogue.insert_folders_away(layer, &numbered(ledger, layer_folders.away)?)?;
    let mut new = new.to_vec();
    new.sort_unstable();
    catalogue.insert_contents(&new)?;
    Ok(layer)
}

/// The folders of the layer's files, and those that are empty.
fn insert_folders(
    ledger: &Ledger,
    layer: LayerId,
    drafts: &[CapturedEntry],
    empty: &[(RootId, RelPath)],
) -> Result<(), LedgerError> {
    let mut folders: HashMap<(RootId, FoldedKey), RelPath> = HashMap::new();
    for draft in drafts.iter().filter(|draft| !draft.entry.takes_away()) {
        for folder in draft.entry.spelled.ancestors() {
            if draft.is_member && format!("{folder}/").contains(INTO) {
                break;
            }
            let key = (draft.root, ledger.game().folding.key(folder));
            folders.entry(key).or_insert_with(|| RelPath::from_disk(folder));
        }
    }
    for (root, folder) in empty {
        folders.entry((*root, ledger.game().folding.key(folder.as_str()))).or_insert_with(|| folder.clone());
    }
    let mut folders: Vec<_> = folders.into_iter().collect();
    folders.sort_by(|(one, _), (two, _)| one.cmp(two));
    let (keys, paths): (Vec<_>, Vec<_>) = folders.into_iter().unzip();
    let numbers = ledger.catalogue.path_numbers(&keys)?;
    ledger.catalogue.insert_folders(layer, &numbers.into_iter().zip(paths).collect::<Vec<_>>())
}
