//! Files that drifted: put again as the stack has them, kept as the user's own, or taken as the game's own.

use std::collections::BTreeSet;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use thiserror::Error;

use super::kept_edits::KeptEdits;
use super::tweak::{KeptWhole, OwnChange, keep_own};
use crate::address::{Address, AddressError, FoldedKey, RelPath};
use crate::change::FileChanges;
use crate::change::{
    ChangeError, ChangeOptions, ChangeRequest, Direct, Edits, ForeignFile, Prepared, base_as_seen, prepare,
};
use crate::check::{CheckError, Drifted, check, check_at};
use crate::expected::{Blender, DriftKind, folders_on_disk, tells_version};
use crate::files::look_at;
use crate::game::{AddressPattern, Game, GameVersion, PatternError, Root, version_of_file};
use crate::hash::ContentHash;
use crate::jobs::{Permit, TweakError};
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{BaseFile, BaseKind, Column, Order, Provider, RootId};

/// Why nothing was mended. Nothing was changed.
#[derive(Debug, Error)]
pub enum MendError {
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What was given is neither an address nor a pattern.
    #[error(transparent)]
    Pattern(#[from] PatternError),
    /// A layer's file lies there as it should, so there is nothing to accept.
    #[error(
        "at {address} lies the file of the layer {layer}, as it should; lift that first, and let the game's client \
         put its own back"
    )]
    OfLayer {
        /// The address.
        address: String,
        /// The layer.
        layer: String,
    },
    /// Nothing lies there to be accepted.
    #[error("nothing lies at {address}; let the game's client repair its files first")]
    NothingThere {
        /// The address.
        address: String,
    },
    /// Nobody has anything there.
    #[error("neither the game nor a layer has anything at {at}, and nothing lies there")]
    Nothing {
        /// What was given.
        at: String,
    },
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The edits can't be kept.
    #[error(transparent)]
    Tweak(#[from] TweakError),
    /// The disk can't be compared.
    #[error(transparent)]
    Check(#[from] CheckError),
}

impl From<AddressError> for MendError {
    fn from(error: AddressError) -> Self {
        Self::Pattern(error.into())
    }
}

/// What becomes of a drifted file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mending {
    /// What the stack says lies there again.
    Restore,
    /// What a person changed becomes part of their own edits: by keys for configuration, whole otherwise.
    Keep,
    /// What lies there is the game's own from now on.
    Accept,
}

/// A drifted file that may be mended.
#[derive(Debug, Clone)]
pub struct MendFile {
    /// Where and how.
    pub drifted: Drifted,
    /// It was named, alone or by a pattern; otherwise it is one of all that drifted.
    pub is_named: bool,
}

/// What was done with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Mended {
    /// The layer's file lies there again.
    Restored,
    /// It is kept as the user's own.
    Kept,
    /// It counts as the game's own.
    Accepted,
    /// It was cleared before a start, and lies there again.
    GivenBack,
    /// Nothing: it is left as it is.
    Left,
}

/// What became of one drifted file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MendRow {
    /// Where.
    pub address: String,
    /// What was done.
    pub done: Mended,
    /// The keys that are kept, or why it is left.
    pub details: Vec<String>,
}

/// A mending about to be made.
#[derive(Debug)]
pub struct MendingPlan<'l> {
    /// Every drifted file.
    pub rows: Vec<MendRow>,
    /// The change; none when there is nothing to do.
    pub change: Option<Prepared<'l>>,
}

/// Finds the drifted files that `texts` mean (addresses, folders or patterns of addresses), or all. For plain
/// addresses nothing else is looked at.
///
/// # Errors
/// [`MendError`].
pub fn drifted_files(
    ledger: &Ledger,
    texts: &[String],
    observer: &dyn Observer,
) -> Result<Vec<MendFile>, MendError> {
    let mut files: Vec<MendFile> = Vec::new();
    let mut patterns = Vec::new();
    let order = ledger.present_order()?;
    for text in texts {
        let pattern = AddressPattern::parse(ledger.game(), text)?;
        let pattern = pattern.ok_or_else(|| MendError::Nothing { at: text.clone() })?;
        if pattern.is_plain() && !is_folder(ledger, &pattern)? {
            let column = column_learnt(ledger, pattern.root, &pattern.within, &order)?;
            let asked = ledger.game().meant(text)?.path;
            let drifted = check_at(ledger, &column, &order, &asked)?;
            let is_unknown = column.base.is_none() && column.entries.is_empty();
            if drifted.is_none() && is_unknown {
                return Err(MendError::Nothing { at: text.clone() });
            }
            files.extend(drifted.map(|drifted| MendFile { drifted, is_named: true }));
        } else {
            patterns.push(pattern);
        }
    }
    if patterns.is_empty() && !texts.is_empty() {
        return Ok(files);
    }
    for drifted in check(ledger, false, observer)?.drifted {
        let address = &drifted.drift.address;
        let root = ledger.game().root_named(&address.root).map_or(RootId(0), |root| root.id);
        let key = ledger.game().folding.key(address.path.as_str());
        let is_named = patterns.iter().any(|pattern| pattern.meets(root, key.as_str()));
        let is_known = files.iter().any(|file| file.drifted.drift.address == *address);
        if (is_named || texts.is_empty()) && !is_known {
            files.push(MendFile { drifted, is_named });
        }
    }
    Ok(files)
}

/// Whether a plain text means a folder, with all below.
fn is_folder(ledger: &Ledger, pattern: &AddressPattern) -> Result<bool, LedgerError> {
    if pattern.within.as_str().is_empty() {
        return Ok(true);
    }
    let root = ledger.site().root(pattern.root)?;
    let base = ledger.catalogue.base_at(pattern.root, &pattern.within)?;
    if let Some(base) = base {
        return Ok(base.kind == BaseKind::Folder);
    }
    let path = RelPath::from_disk(pattern.within.as_str()).on(&root.folder);
    let source = ledger.catalogue.folder_source(pattern.root, &pattern.within)?;
    Ok(!source.needs.is_empty() || path.is_dir())
}

fn column_learnt(
    ledger: &Ledger,
    root: RootId,
    key: &FoldedKey,
    order: &Order,
) -> Result<Column, LedgerError> {
    let mut columns = [ledger.column(root, key)?];
    Blender::new(ledger).learn(&mut columns, order)?;
    let [column] = columns;
    Ok(column)
}

/// Files of the base as they are accepted, without any move on disk.
pub(in crate::jobs) type Accepted = Vec<(RootId, FoldedKey, Option<BaseFile>)>;

/// What is to be done, gathered file by file.
#[derive(Default)]
struct MendingWork {
    files: FileChanges,
    /// The version that an accepted file tells, where it is the one that tells the game's.
    version: Option<String>,
    kept: KeptEdits,
}

/// Prepares what becomes of each of `files`. What is replaced is saved in the ledger first. `command` is what the
/// history will say.
///
/// # Errors
/// [`MendError`]; nothing was changed.
pub fn prepare_mend<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    files: &[(MendFile, Mending)],
    command: &str,
    now: Moment,
    observer: &dyn Observer,
) -> Result<MendingPlan<'l>, MendError> {
    let order = ledger.present_order()?;
    let mut work = MendingWork::default();
    let mut rows = Vec::new();
    for (file, mending) in files {
        let (done, details) = match work.take(ledger, file, *mending, &order)? {
            Ok(details) => (Mended::by(*mending), details),
            Err(reason) => (Mended::Left, vec![reason]),
        };
        let address = file.drifted.drift.address.to_string();
        rows.push(MendRow { address, done, details });
    }
    let change = work.prepare(ledger, permit, command, now, observer)?;
    Ok(MendingPlan { rows, change })
}

/// Details of what is done with a file, or why it is left.
pub(super) type Noted = Result<Vec<String>, String>;

fn noted(detail: &str) -> Result<Noted, MendError> {
    Ok(Ok(vec![detail.to_owned()]))
}

pub(super) fn left(reason: &str) -> Result<Noted, MendError> {
    Ok(Err(reason.to_owned()))
}

/// Where a drifted file lies, and what the stack has there.
pub(super) struct AtFile<'a> {
    pub(super) ledger: &'a Ledger,
    pub(super) order: &'a Order,
    root: &'a Root,
    key: FoldedKey,
    /// On disk.
    pub(super) path: PathBuf,
    pub(super) column: Column,
}

impl Mended {
    fn by(mending: Mending) -> Self {
        match mending {
            Mending::Restore => Self::Restored,
            Mending::Keep => Self::Kept,
            Mending::Accept => Self::Accepted,
        }
    }
}

impl MendingWork {
    /// Notes what is to be done with one file; gives details of it, or why it is left.
    fn take(
        &mut self,
        ledger: &Ledger,
        file: &MendFile,
        mending: Mending,
        order: &Order,
    ) -> Result<Noted, MendError> {
        let address = &file.drifted.drift.address;
        let Some(root) = ledger.game().root_named(&address.root) else {
            return left("its folder is no part of the game any more");
        };
        let key = ledger.game().folding.key(address.path.as_str());
        let column = column_learnt(ledger, root.id, &key, order)?;
        let at = AtFile { ledger, order, root, column, path: address.path.on(&root.folder), key };
        match (file.drifted.drift.kind, mending) {
            (DriftKind::OtherSpelling, _) => left("two files lie there; take one of them away by hand"),
            (DriftKind::FolderGone, _) => self.take_folder(&at, file, mending),
            (kind, Mending::Restore) => self.restore(&at, file, kind),
            (kind, Mending::Keep) => self.keep(at, file, kind),
            (kind, Mending::Accept) => self.accept(at, file, kind),
        }
    }

    fn take_folder(
        &mut self,
        at: &AtFile<'_>,
        file: &MendFile,
        mending: Mending,
    ) -> Result<Noted, MendError> {
        match mending {
            Mending::Restore => {
                self.files.make_folders.extend(folders_at(at.ledger, at.order, at.root, &at.key)?);
                noted("the folder")
            }
            Mending::Accept if file.drifted.of_base => {
                self.files.accepted.extend(without_folders(at.ledger, at.root.id, &at.key)?);
                noted("that there is no such folder")
            }
            Mending::Accept | Mending::Keep => left("it is a folder, which is put again or taken as gone"),
        }
    }

    fn restore(&mut self, at: &AtFile<'_>, file: &MendFile, kind: DriftKind) -> Result<Noted, MendError> {
        match kind {
            DriftKind::Stray | DriftKind::BaseAdded if file.is_named => {
                let path = file.drifted.drift.address.path.clone();
                self.files.direct.push(Direct { root: at.root.id, path, instead: None });
                noted("it is taken out of the game")
            }
            DriftKind::Stray | DriftKind::BaseAdded => {
                left("nobody put it there; name it to have it taken out of the game")
            }
            DriftKind::BaseChanged | DriftKind::BaseTouched | DriftKind::BaseGone => {
                left("it is the game's own, which only the game's client can repair")
            }
            _ => {
                self.files.restore.push(at.column.path);
                Ok(Ok(Vec::new()))
            }
        }
    }

    fn keep(&mut self, at: AtFile<'_>, file: &MendFile, kind: DriftKind) -> Result<Noted, MendError> {
        let seen = look_at(&at.path).map_err(LedgerError::io("look at", &at.path))?;
        if let Some(seen) = seen.filter(|seen| seen.kind != BaseKind::File) {
            return left(match seen.kind {
                BaseKind::Folder => "a folder lies there, which can't be kept as an edit",
                BaseKind::Link => "a link lies there, which can't be kept as an edit",
                _ => "something other than a file lies there, which can't be kept as an edit",
            });
        }
        let address = file.drifted.drift.address.clone();
        match kind {
            DriftKind::BaseChanged | DriftKind::BaseTouched | DriftKind::BaseGone => {
                left("it is the game's own, and how it was is not known; it can be accepted as it is now")
            }
            DriftKind::Stray | DriftKind::BaseAdded if !file.is_named => {
                left("it may be the game's; name it to have it kept as yours")
            }
            DriftKind::PutBack | DriftKind::Updated if !file.is_named => {
                left("the game put it there; name it to have it kept as yours")
            }
            DriftKind::Edited | DriftKind::PutBack | DriftKind::Updated => self.kept.keep_edited(at, address),
            DriftKind::Missing => {
                self.kept.whole.push(KeptWhole { address, path: None });
                noted("that no file lies there")
            }
            _ => {
                self.kept.whole.push(KeptWhole { address, path: Some(at.path) });
                noted("as a whole file")
            }
        }
    }

    fn accept(&mut self, at: AtFile<'_>, file: &MendFile, kind: DriftKind) -> Result<Noted, MendError> {
        let AtFile { ledger, root, key, path, column, .. } = at;
        let address = &file.drifted.drift.address;
        if tells_version(ledger, root, &address.path) {
            let pattern = ledger.game().version.as_ref().and_then(|version| version.pattern.as_deref());
            // What can't be read tells nothing.
            self.version = version_of_file(&root.folder, &path, pattern).unwrap_or_default();
        }
        match kind {
            DriftKind::Edited if !file.is_named => {
                left("it may be an edit of yours; name it to have it count as the game's own")
            }
            DriftKind::Missing => left("nothing lies there"),
            DriftKind::Stray if !file.is_named && !ledger.catalogue.is_original_unknown(root.id, &key)? => {
                left("it lies in a folder of a layer; name it to have it count as the game's own")
            }
            DriftKind::Edited | DriftKind::PutBack | DriftKind::Updated => {
                self.files.foreign.insert(column.path, ForeignFile::Accepted);
                noted("the layer's file lies on top of it again")
            }
            _ => {
                // Where layers have something the stack may say otherwise from then on.
                if column.entries.is_empty() {
                    self.files.accepted.push((root.id, key, base_at(address, &path)?));
                } else {
                    self.files.foreign.insert(column.path, ForeignFile::Accepted);
                }
                Ok(Ok(Vec::new()))
            }
        }
    }

    /// Turns all of it into one change of the stack. What only concerns the base's record is written in the same
    /// transaction.
    fn prepare<'l>(
        self,
        ledger: &'l Ledger,
        permit: Permit,
        command: &str,
        now: Moment,
        observer: &dyn Observer,
    ) -> Result<Option<Prepared<'l>>, MendError> {
        let keeps = !self.kept.set.is_empty() || !self.kept.whole.is_empty();
        let has_work = keeps
            || !self.files.restore.is_empty()
            || !self.files.direct.is_empty()
            || !self.files.make_folders.is_empty()
            || !self.files.foreign.is_empty()
            || !self.files.accepted.is_empty();
        if !has_work {
            return Ok(None);
        }
        let transaction = Transaction::begin(ledger)?;
        if let (Some(now), Some(known)) = (&self.version, &ledger.game().version) {
            let version = Some(GameVersion { version: now.clone(), ..known.clone() });
            transaction.write_game(Game { version, ..ledger.game().clone() })?;
        }
        let request = self.request(ledger, keeps, command, now)?;
        let request = ChangeRequest { files: self.files, ..request };
        let options = ChangeOptions { edits: Edits::Keep, despite: false, ..ChangeOptions::default() };
        Ok(Some(prepare(transaction, permit.lock, request, options, observer)?))
    }

    /// What becomes of the stack: only the user's own may change.
    fn request(
        &self,
        ledger: &Ledger,
        keeps: bool,
        command: &str,
        now: Moment,
    ) -> Result<ChangeRequest, MendError> {
        let own = OwnChange { set: &self.kept.set, whole: &self.kept.whole };
        let kept = if keeps { keep_own(ledger, &own, command, now)? } else { None };
        Ok(match kept {
            Some(request) => request,
            None => ChangeRequest::new(command, now, ledger.catalogue.arrangement()?),
        })
    }
}

/// The folder at an address and all below it that should be there, each after the one above it, as they are spelled.
pub(in crate::jobs) fn folders_at(
    ledger: &Ledger,
    order: &Order,
    root: &Root,
    key: &FoldedKey,
) -> Result<Vec<(RootId, RelPath)>, LedgerError> {
    let is_in = |other: &FoldedKey| {
        let rest = other.as_str().strip_prefix(key.as_str());
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let of_base = ledger.catalogue.base_folders_at(root.id, key)?;
    let mut keys: BTreeSet<FoldedKey> = of_base.into_iter().map(|(key, _)| key).collect();
    let laid = ledger.catalogue.arrangement()?.laid();
    let needed = ledger.catalogue.folders_of(&laid)?.into_iter();
    keys.extend(needed.filter(|(of, other)| *of == root.id && is_in(other)).map(|(_, key)| key));
    let keys: Vec<FoldedKey> = keys.into_iter().collect();
    let paths = folders_on_disk(ledger, order, root.id, &keys)?;
    Ok(paths.into_iter().map(|path| (root.id, path)).collect())
}

/// The base without the folder at an address and those below it.
pub(in crate::jobs) fn without_folders(
    ledger: &Ledger,
    root: RootId,
    key: &FoldedKey,
) -> Result<Accepted, LedgerError> {
    let folders = ledger.catalogue.base_folders_at(root, key)?.into_iter();
    Ok(folders.map(|(key, _)| (root, key, None)).collect())
}

/// What lies at the address, as a file of the base.
pub(in crate::jobs) fn base_at(address: &Address, path: &Path) -> Result<Option<BaseFile>, LedgerError> {
    let seen = look_at(path).map_err(LedgerError::io("look at", path))?;
    let Some(seen) = seen.filter(|seen| seen.kind != BaseKind::Folder) else { return Ok(None) };
    let hash = match seen.kind {
        BaseKind::File => Some(ContentHash::of_file(path).map_err(LedgerError::io("read", path))?),
        _ => None,
    };
    Ok(Some(base_as_seen(&address.path, seen, hash)))
}

/// Addresses whose original is not known, and where no layer's file lies that counts; for those where something lies
/// it can be accepted. `still` are the others, for a person.
///
/// # Errors
/// [`MendError`].
pub fn unknown_originals(ledger: &Ledger) -> Result<Vec<String>, MendError> {
    let mut still = Vec::new();
    for (root, _, spelled) in ledger.catalogue.unknown_originals()? {
        if let Some(address) = ledger.game().address(root, spelled) {
            still.push(address.to_string());
        }
    }
    Ok(still)
}

/// Refuses to accept what is just a layer's file as it should lie, and what is not there. Looks at plain addresses
/// only.
///
/// # Errors
/// [`MendError::OfLayer`], [`MendError::NothingThere`].
pub fn refuse_to_accept(ledger: &Ledger, texts: &[String]) -> Result<(), MendError> {
    let order = ledger.present_order()?;
    for text in texts {
        let Some(pattern) = AddressPattern::parse(ledger.game(), text)?.filter(AddressPattern::is_plain)
        else {
            continue;
        };
        let column = column_learnt(ledger, pattern.root, &pattern.within, &order)?;
        let is_as_said = check_at(ledger, &column, &order, &RelPath::root())?.is_none();
        match column.provider(&order) {
            Provider::Layer(entry) if is_as_said => {
                return Err(MendError::OfLayer {
                    address: text.clone(),
                    layer: ledger.catalogue.layer_name(entry.layer)?,
                });
            }
            Provider::Nothing if is_as_said && !column.entries.is_empty() => {
                return Err(MendError::NothingThere { address: text.clone() });
            }
            _ => {}
        }
    }
    Ok(())
}
