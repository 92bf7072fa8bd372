//! What an update has done to a game with laid layers, told file by file.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::Path;

use super::old_settings::OldSettings;
use crate::address::{Address, RelPath};
use crate::blend::{KeyEdit, MOST_BLENDED_BYTES, edits_between};
use crate::change::{ChangeRequest, ForeignFile, base_as_seen};
use crate::check::{CheckReport, volatile_proposals};
use crate::expected::{Blender, DriftKind};
use crate::files::{look_at, read_small};
use crate::jobs::own::tweak::{OwnChange, keep_own};
use crate::jobs::{PatchDayError, PatchDayReport};
use crate::ledger::{Ledger, LedgerError};
use crate::moment::Moment;
use crate::stack::{Column, Order, PathId, Provider, RootId};

/// What is to be done about it.
pub(in crate::jobs) struct UpdateMet {
    pub request: ChangeRequest,
    /// Addresses of layers that the update touched.
    pub touched: HashSet<PathId>,
    /// The game's own files of settings there, as they were.
    pub old: OldSettings,
    /// And as they are now.
    pub new: OldSettings,
}

/// What a settings file that neither is a layer's nor the base's was made from.
enum Settings {
    /// Of what the layers gave: these are the user's or the game's edits.
    Edited(Vec<KeyEdit>),
    /// Of the game's own: the update brought it.
    OfGame,
}

/// Decides, inside the catalogue's open transaction, what becomes of each drifted file: the game's new files are its
/// own from now on, also those in folders that layers made, and layers' files lie where the stack says; edits of
/// settings are kept as the user's own. What the client took from beneath a layer is not the game's any more. Covered
/// files that it did not touch are noted as being of the old version.
pub(in crate::jobs) fn meet_update(
    ledger: &Ledger,
    found: &CheckReport,
    has_new_version: bool,
    report: &mut PatchDayReport,
    now: Moment,
) -> Result<UpdateMet, PatchDayError> {
    let order = ledger.present_order()?;
    let is_update = has_new_version || found.signs.look_like_an_update();
    let mut request = ChangeRequest::new("patchday finish", now, ledger.catalogue.arrangement()?);
    let (mut old, mut new) = (OldSettings::new(), OldSettings::new());
    let (mut touched, mut missing) = (HashSet::new(), HashSet::new());
    let is_settings = |column: &Column| order.blend_rules().format_of(column.key.as_str()).is_some();
    let is_written_by_itself = |address: &Address| !volatile_proposals([address].into_iter()).is_empty();
    let mut foreign: HashMap<PathId, ForeignFile> = HashMap::new();
    let mut folders: BTreeSet<(RootId, String)> = BTreeSet::new();
    let mut set: Vec<(String, Vec<KeyEdit>)> = Vec::new();
    for drifted in &found.drifted {
        let address = &drifted.drift.address;
        let Some(root) = ledger.game().root_named(&address.root) else { continue };
        let key = ledger.game().folding.key(address.path.as_str());
        let path = address.path.on(&root.folder);
        let mut columns = [ledger.column(root.id, &key)?];
        Blender::new(ledger).learn(&mut columns, &order)?;
        let [column] = columns;
        let name = address.to_string();
        match drifted.drift.kind {
            DriftKind::PutBack => {
                report.put_back.push(name);
                request.files.restore.push(column.path);
            }
            // What the client took from beneath a layer is no longer the game's. Of settings people delete the file,
            // so that the game makes a new one.
            DriftKind::Missing if is_update && drifted.of_base && !is_settings(&column) => {
                report.gone.push(name);
                touched.insert(column.path);
                foreign.insert(column.path, ForeignFile::Accepted);
            }
            DriftKind::Missing => {
                missing.insert(column.path);
                report.put_back.push(name);
                request.files.restore.push(column.path);
            }
            DriftKind::Updated => {
                report.changed.push(name);
                touched.insert(column.path);
                foreign.insert(column.path, ForeignFile::Accepted);
            }
            // What nobody knows, at an address where the base has nothing, is never the game's without being asked.
            DriftKind::Edited if is_update && drifted.of_base => {
                match settings(ledger, &column, &order, &path)? {
                    Some(Settings::Edited(edits)) => {
                        report.kept.push(name.clone());
                        set.push((name, edits));
                    }
                    Some(Settings::OfGame) | None => {
                        if is_settings(&column) {
                            let read = read_small(&path, MOST_BLENDED_BYTES);
                            let read = read.map_err(LedgerError::io("read", &path))?;
                            new.extend(read.map(|read| (column.path, read)));
                            let base = Blender::new(ledger).base_content(&column)?;
                            old.extend(base.map(|base| (column.path, base)));
                        }
                        report.changed.push(name);
                        touched.insert(column.path);
                        foreign.insert(column.path, ForeignFile::Accepted);
                    }
                }
            }
            DriftKind::FolderGone if !drifted.of_base => {
                let folders = crate::jobs::own::mend::folders_at(ledger, &order, root, &key)?;
                request.files.make_folders.extend(folders);
                report.put_back.push(name);
            }
            DriftKind::FolderGone => {
                report.gone.push(format!("{name}/"));
                request
                    .files
                    .accepted
                    .extend(crate::jobs::own::mend::without_folders(ledger, root.id, &key)?);
            }
            DriftKind::Edited | DriftKind::OtherSpelling => report.left.push(name),
            DriftKind::Stray if !is_update || is_written_by_itself(address) => report.left.push(name),
            DriftKind::BaseChanged
            | DriftKind::BaseTouched
            | DriftKind::BaseAdded
            | DriftKind::BaseGone
            | DriftKind::Stray => {
                let list = match drifted.drift.kind {
                    DriftKind::BaseChanged => &mut report.changed,
                    DriftKind::BaseTouched => &mut report.touched,
                    DriftKind::BaseGone => &mut report.gone,
                    _ => &mut report.added,
                };
                list.push(name);
                if drifted.drift.kind == DriftKind::Stray {
                    // What holds the game's own is the game's, whoever made it.
                    folders.extend(address.path.ancestors().map(|folder| (root.id, folder.to_owned())));
                }
                if column.entries.is_empty() {
                    request.files.accepted.push((
                        root.id,
                        key,
                        crate::jobs::own::mend::base_at(address, &path)?,
                    ));
                } else {
                    touched.insert(column.path);
                    foreign.insert(column.path, ForeignFile::Accepted);
                }
            }
        }
    }
    for (root, folder) in folders {
        let folder = RelPath::from_disk(folder);
        let key = ledger.game().folding.key(folder.as_str());
        if let Some(address) = ledger.game().address(root, folder)
            && ledger.catalogue.base_at(root, &key)?.is_none()
        {
            let path = address.path.on(&ledger.site().root(root)?.folder);
            let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
            let file = seen.map(|seen| base_as_seen(&address.path, seen, None));
            request.files.accepted.push((root, key, file));
        }
    }
    if is_update {
        note_old_originals(ledger, &order, &foreign, &missing, report)?;
    }
    if !set.is_empty() {
        let own = OwnChange { set: &set, whole: &[] };
        let command = request.command.clone();
        if let Some(kept) = keep_own(ledger, &own, &command, now)? {
            request = ChangeRequest { files: request.files, ..kept };
        }
    }
    request.files.foreign = foreign;
    Ok(UpdateMet { request, touched, old, new })
}

/// Notes covered files of the base that lie aside as they were before the update. Where the client has put one back or
/// brought a new one it is known.
fn note_old_originals(
    ledger: &Ledger,
    order: &Order,
    foreign: &HashMap<PathId, ForeignFile>,
    missing: &HashSet<PathId>,
    report: &mut PatchDayReport,
) -> Result<(), LedgerError> {
    let laid = ledger.catalogue.arrangement()?.laid();
    let put_back: HashSet<String> = report.put_back.iter().cloned().collect();
    let mut columns = ledger.catalogue.columns_of(&laid, &[])?;
    Blender::new(ledger).learn(&mut columns, order)?;
    for column in &columns {
        let (Some(base), Provider::Layer(_)) = (&column.base, column.provider(order)) else { continue };
        let Some(address) = ledger.game().address(column.root, base.spelled.clone()) else { continue };
        let address = address.to_string();
        let is_known = put_back.contains(&address) && !missing.contains(&column.path);
        if is_known || foreign.contains_key(&column.path) {
            continue;
        }
        ledger.catalogue.doubt_original(column.root, &column.key, &base.spelled)?;
        report.originals_old.push(address);
    }
    report.originals_old.sort();
    Ok(())
}

/// Whether a settings file is nearer to what the layers gave or to the game's own; nothing if it can't be read as
/// settings.
fn settings(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
    path: &Path,
) -> Result<Option<Settings>, LedgerError> {
    let Some(format) = order.blend_rules().format_of(column.key.as_str()) else { return Ok(None) };
    let Provider::Layer(entry) = column.provider(order) else { return Ok(None) };
    let mine = read_small(path, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", path))?;
    let Some(mine) = mine else { return Ok(None) };
    let blender = Blender::new(ledger);
    let laid = match blender.content_of(column, entry, order)? {
        Some(made) => made,
        None => blender.stored(entry)?.unwrap_or_default(),
    };
    let Ok(from_laid) = edits_between(format.of_content(&laid), &laid, &mine) else { return Ok(None) };
    let base = blender.base_content(column)?;
    let from_base = base.and_then(|base| edits_between(format.of_content(&base), &base, &mine).ok());
    Ok(Some(match from_base {
        Some(from_base) if from_base.len() < from_laid.len() => Settings::OfGame,
        _ => Settings::Edited(from_laid),
    }))
}
