//! What an update has done to a game with laid layers, told file by file.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io::Read;
use std::path::Path;

use super::old_settings::OldSettings;
use super::touched::Touched;
use crate::address::RelPath;
use crate::blend::{KeyEdit, MOST_BLENDED_BYTES, edits_between};
use crate::change::FileChanges;
use crate::change::{ChangeRequest, ForeignFile, base_as_seen};
use crate::check::Drifted;
use crate::check::{CheckReport, volatile_proposals};
use crate::expected::{Blender, DriftKind};
use crate::files::{look_at, read_small};
use crate::jobs::own::mend::base_at;
use crate::jobs::own::mend::folders_at;
use crate::jobs::own::mend::without_folders;
use crate::jobs::own::tweak::{OwnChange, keep_own};
use crate::jobs::{PatchDayError, PatchDayReport};
use crate::ledger::{Ledger, LedgerError};
use crate::moment::Moment;
use crate::stack::{Column, Order, PathId, Provider, RootId};

/// What is to be done about it.
pub(in crate::jobs) struct UpdateMet {
    pub request: ChangeRequest,
    /// Addresses of layers that the update touched.
    pub touched: Touched,
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

/// What is gathered file by file.
struct Meeting<'a> {
    ledger: &'a Ledger,
    order: Order,
    is_update: bool,
    report: &'a mut PatchDayReport,
    files: FileChanges,
    touched: Touched,
    missing: HashSet<PathId>,
    old: OldSettings,
    new: OldSettings,
    /// Folders in which the game has put files of its own, with those above them.
    folders: BTreeSet<(RootId, String)>,
    set: Vec<(String, Vec<KeyEdit>)>,
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
    let mut meeting = Meeting {
        ledger,
        order: ledger.present_order()?,
        is_update: has_new_version || found.signs.look_like_an_update(),
        report,
        files: FileChanges::default(),
        touched: Touched::default(),
        missing: HashSet::new(),
        old: OldSettings::new(),
        new: OldSettings::new(),
        folders: BTreeSet::new(),
        set: Vec::new(),
    };
    found.drifted.iter().try_for_each(|drifted| meeting.meet(drifted))?;
    meeting.take_folders()?;
    let Meeting { order, is_update, report, files, mut touched, missing, old, new, set, .. } = meeting;
    touched.add_members(ledger)?;
    if is_update {
        note_old_originals(ledger, &order, &files.foreign, &missing, report)?;
    }
    let command = "patchday finish";
    let own = OwnChange { set: &set, whole: &[] };
    let kept = if set.is_empty() { None } else { keep_own(ledger, &own, command, now)? };
    let request = match kept {
        Some(kept) => kept,
        None => ChangeRequest::new(command, now, ledger.catalogue.arrangement()?),
    };
    Ok(UpdateMet { request: ChangeRequest { files, ..request }, touched, old, new })
}

impl Meeting<'_> {
    #[expect(clippy::too_many_lines, reason = "one arm for each kind of drift")]
    fn meet(&mut self, drifted: &Drifted) -> Result<(), PatchDayError> {
        let address = &drifted.drift.address;
        let Some(root) = self.ledger.game().root_named(&address.root) else { return Ok(()) };
        let key = self.ledger.game().folding.key(address.path.as_str());
        let path = address.path.on(&root.folder);
        let mut columns = [self.ledger.column(root.id, &key)?];
        Blender::new(self.ledger).learn(&mut columns, &self.order)?;
        let [column] = columns;
        let name = address.to_string();
        let is_written_by_itself = || !volatile_proposals([address].into_iter()).is_empty();
        match drifted.drift.kind {
            DriftKind::PutBack => {
                self.report.put_back.push(name);
                self.files.restore.push(column.path);
            }
            // What the client took from beneath a layer is no longer the game's. Of settings people delete the file,
            // so that the game makes a new one.
            DriftKind::Missing if self.is_update && drifted.of_base && !self.is_settings(&column) => {
                self.report.gone.push(name);
                self.accept(&column);
            }
            DriftKind::Missing => {
                self.missing.insert(column.path);
                self.report.put_back.push(name);
                self.files.restore.push(column.path);
            }
            DriftKind::Updated => {
                self.report.changed.push(name);
                self.meet_container(&column, &path)?;
                self.accept(&column);
            }
            // What nobody knows, at an address where the base has nothing, is never the game's without being asked.
            DriftKind::Edited if self.is_update && drifted.of_base => {
                self.meet_edited(&column, &path, name)?;
            }
            DriftKind::FolderGone if !drifted.of_base => {
                self.files.make_folders.extend(folders_at(self.ledger, &self.order, root, &key)?);
                self.report.put_back.push(name);
            }
            DriftKind::FolderGone => {
                self.report.gone.push(format!("{name}/"));
                self.files.accepted.extend(without_folders(self.ledger, root.id, &key)?);
            }
            DriftKind::Edited | DriftKind::OtherSpelling => self.report.left.push(name),
            DriftKind::Stray if !self.is_update || is_written_by_itself() => self.report.left.push(name),
            DriftKind::BaseChanged
            | DriftKind::BaseTouched
            | DriftKind::BaseAdded
            | DriftKind::BaseGone
            | DriftKind::Stray => {
                let list = match drifted.drift.kind {
                    DriftKind::BaseChanged => &mut self.report.changed,
                    DriftKind::BaseTouched => &mut self.report.touched,
                    DriftKind::BaseGone => &mut self.report.gone,
                    _ => &mut self.report.added,
                };
                list.push(name);
                if drifted.drift.kind == DriftKind::Stray {
                    // What holds the game's own is the game's, whoever made it.
                    let around = address.path.ancestors().map(|folder| (root.id, folder.to_owned()));
                    self.folders.extend(around);
                }
                if column.entries.is_empty() {
                    self.files.accepted.push((root.id, key, base_at(address, &path)?));
                } else {
                    self.accept(&column);
                }
            }
        }
        Ok(())
    }

    /// A layer's file, where the base has one too, that is neither: edits of settings are kept, else the update brought it.
    fn meet_edited(&mut self, column: &Column, path: &Path, name: String) -> Result<(), PatchDayError> {
        if let Some(Settings::Edited(edits)) = settings(self.ledger, column, &self.order, path)? {
            self.report.kept.push(name.clone());
            self.set.push((name, edits));
            return Ok(());
        }
        if self.is_settings(column) {
            let read = read_small(path, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", path))?;
            self.new.extend(read.map(|read| (column.path, read)));
            let base = Blender::new(self.ledger).base_content(column)?;
            self.old.extend(base.map(|base| (column.path, base)));
        }
        self.report.changed.push(name);
        self.meet_container(column, path)?;
        self.accept(column);
        Ok(())
    }

    /// Of a new container that lies where layers change members, the settings in it as they were and as they are.
    fn meet_container(&mut self, column: &Column, path: &Path) -> Result<(), PatchDayError> {
        if column.members.is_empty() {
            return Ok(());
        }
        self.touched.brought.push((column.path, path.to_owned()));
        let blender = Blender::new(self.ledger);
        let Ok(opened) = blender.containers.at(path) else { return Ok(()) };
        let members = column.all_members().into_iter();
        let settings: Vec<&Column> = members.filter(|member| self.is_settings(member)).collect();
        for member in settings {
            let Some((container, within)) = member.key.member() else { continue };
            let found = opened.directory.find(&within).filter(|_| container == column.key);
            let Some(found) = found.filter(|found| found.size_bytes <= MOST_BLENDED_BYTES) else { continue };
            let mut now = Vec::new();
            let read = opened.member(found).and_then(|mut content| content.read_to_end(&mut now));
            read.map_err(LedgerError::io("read a member of", path))?;
            self.new.insert(member.path, now);
            let base = blender.base_content(member)?;
            self.old.extend(base.map(|base| (member.path, base)));
        }
        Ok(())
    }

    /// What lies there is the game's own from now on.
    fn accept(&mut self, column: &Column) {
        self.touched.paths.insert(column.path);
        self.files.foreign.insert(column.path, ForeignFile::Accepted);
    }

    fn is_settings(&self, column: &Column) -> bool {
        self.order.blend_rules().format_of(column.key.as_str()).is_some()
    }

    /// Takes the folders that hold the game's new files as its own.
    fn take_folders(&mut self) -> Result<(), PatchDayError> {
        let ledger = self.ledger;
        for (root, folder) in std::mem::take(&mut self.folders) {
            let folder = RelPath::from_disk(folder);
            let key = ledger.game().folding.key(folder.as_str());
            if let Some(address) = ledger.game().address(root, folder)
                && ledger.catalogue.base_at(root, &key)?.is_none()
            {
                let path = address.path.on(&ledger.site().root(root)?.folder);
                let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
                let file = seen.map(|seen| base_as_seen(&address.path, seen, None));
                self.files.accepted.push((root, key, file));
            }
        }
        Ok(())
    }
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
    for column in columns.iter().filter(|column| !column.is_member) {
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
