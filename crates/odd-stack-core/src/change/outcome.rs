//! What becomes of the catalogue when all steps of a change are done, and what is written back when they are taken back;
//! both are kept in the journal.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::error::ChangeError;
use super::request::BaseBefore;
use super::revision_before::{AboutBefore, RevisionBefore};
use crate::address::{FoldedKey, RelPath};
use crate::blend::BlendRule;
use crate::game::{Game, GameVersion};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, NewRevision, Ongoing, Transaction};
use crate::stack::{
    Arrangement, BaseFile, BaseKind, Entry, EntryKind, LayerId, PathId, RootId, Settlement, Standing, Tally,
};

/// The same as the journal keeps it.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Undo {
    base: Vec<BaseNow>,
    version: Option<(String, Option<String>, Option<String>)>,
    seen: (u64, u64),
    unknown_originals: Vec<(RootId, String, String)>,
    #[serde(default)]
    entries: Vec<EntryBefore>,
    #[serde(default)]
    tallies: Vec<(LayerId, (i64, i64, i64))>,
}

/// What an entry was: layer, address, kind, content, size, time.
type EntryBefore = (LayerId, PathId, EntryKind, ContentHash, u64, i64);

impl Undo {
    pub(super) fn of(before: BaseBefore) -> Self {
        let unknown = before.unknown_originals.into_iter();
        Self {
            base: before.base.iter().map(BaseNow::of).collect(),
            version: before.version.map(|known| (known.version, known.read_from, known.pattern)),
            seen: before.seen,
            unknown_originals: unknown
                .map(|(root, key, spelled)| (root, key.as_str().to_owned(), spelled.as_str().to_owned()))
                .collect(),
            entries: before
                .entries
                .iter()
                .map(|(path, it)| (it.layer, *path, it.kind, it.hash, it.size_bytes, it.modified))
                .collect(),
            tallies: before
                .tallies
                .iter()
                .map(|(layer, it)| (*layer, (it.won_files, it.contested_files, it.open_files)))
                .collect(),
        }
    }

    pub(super) fn write(self, ledger: &Ledger) -> Result<(), LedgerError> {
        let catalogue = &ledger.catalogue;
        for BaseNow { root, key, file } in self.base {
            let key = FoldedKey::from_stored(key);
            match file {
                Some(file) => catalogue.replace_base(root, &key, &file.into_base())?,
                None => catalogue.forget_base(root, &key)?,
            }
        }
        let version =
            self.version.map(|(version, read_from, pattern)| GameVersion { version, read_from, pattern });
        catalogue.write_game(&Game { version, seen: self.seen, ..ledger.game().clone() })?;
        catalogue.forget_unknown_originals()?;
        for (root, key, spelled) in self.unknown_originals {
            catalogue.doubt_original(root, &FoldedKey::from_stored(key), &RelPath::from_disk(spelled))?;
        }
        for (layer, path, kind, hash, size_bytes, modified) in self.entries {
            let (spelled, executable) = (RelPath::root(), None);
            let entry = Entry { layer, kind, spelled, hash, size_bytes, modified, executable };
            catalogue.replace_entry(path, &entry)?;
        }
        for (layer, (won_files, contested_files, open_files)) in self.tallies {
            let change = Tally { won_files, contested_files, open_files };
            catalogue.add_to_tally(layer, Tally::default().minus(change))?;
        }
        Ok(())
    }
}

/// What becomes of the stack when all steps are done; kept in the journal.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Outcome {
    pub command: String,
    pub made_at: String,
    pub arrangement: Vec<(LayerId, bool)>,
    pub removed: Vec<LayerId>,
    pub tallies: Vec<(LayerId, (i64, i64, i64))>,
    pub base: Vec<BaseNow>,
    #[serde(rename = "sides")]
    pub side_folders: Vec<PathBuf>,
    #[serde(default)]
    pub handed_on: Vec<(LayerId, LayerId)>,
    #[serde(default)]
    pub settle: Vec<(PathId, Option<Settlement>)>,
    #[serde(default)]
    pub blend_rules: Option<Vec<BlendRule>>,
    /// What is under way from then on, if that changes; at most one.
    #[serde(default)]
    pub ongoing: Option<Vec<Ongoing>>,
    /// What is written back if all is taken back.
    #[serde(default)]
    pub undo: Option<Undo>,
    /// Contents that are of no new layer, and are dropped then.
    #[serde(default)]
    pub brought: Vec<ContentHash>,
    /// Addresses whose original is lost, and not known from then on.
    #[serde(default)]
    pub lost: Vec<(RootId, String, String)>,
    /// The revision whose stack it brings back.
    #[serde(default)]
    pub restores: Option<i64>,
    /// What was known before of layers of which something else is known already.
    #[serde(default)]
    pub about: Vec<AboutBefore>,
    /// Files added, overwritten, restored and deleted.
    #[serde(default)]
    pub did: [u64; 4],
}

/// What is written back into the catalogue when a change is taken back.
pub(super) struct Back {
    pub undo: Option<Undo>,
    /// Contents that are of no new layer.
    pub brought: Vec<ContentHash>,
    pub about: Vec<AboutBefore>,
}

impl Outcome {
    /// What is needed to take the change back.
    pub(super) fn into_back(self) -> Back {
        Back { undo: self.undo, brought: self.brought, about: self.about }
    }

    /// What it changes beside the order, as it is.
    fn before(&self, ledger: &Ledger) -> Result<RevisionBefore, LedgerError> {
        let catalogue = &ledger.catalogue;
        let olds: Vec<LayerId> = self.handed_on.iter().map(|(old, _)| *old).collect();
        let mut now = match olds.is_empty() && self.settle.is_empty() {
            true => HashMap::new(),
            false => catalogue.settlements()?,
        };
        let is_named: HashSet<PathId> = self.settle.iter().map(|(path, _)| *path).collect();
        let is_of_old =
            |settlement: &Settlement| settlement.sides.iter().any(|(layer, _)| olds.contains(layer));
        now.retain(|path, settlement| is_named.contains(path) || is_of_old(settlement));
        let mut settled: Vec<_> =
            now.into_iter().map(|(path, settlement)| (path, Some(settlement))).collect();
        let known: HashSet<PathId> = settled.iter().map(|(path, _)| *path).collect();
        settled.extend(is_named.difference(&known).map(|path| (*path, None)));
        settled.sort_by_key(|(path, _)| *path);
        Ok(RevisionBefore {
            settled,
            blend_rules: self.blend_rules.is_some().then(|| ledger.game().blend_rules.clone()),
            about: self.about.clone(),
            base: !self.base.is_empty() || self.undo.as_ref().is_some_and(|undo| !undo.base.is_empty()),
        })
    }
}

/// A file of the base that is from now on what was found on disk, or is no more.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct BaseNow {
    root: RootId,
    key: String,
    file: Option<BaseFileNow>,
}

#[derive(Debug, Serialize, Deserialize)]
struct BaseFileNow {
    spelled: String,
    kind: BaseKind,
    size_bytes: u64,
    modified_ns: i64,
    mode: u32,
    hash: Option<[u8; 32]>,
}

impl BaseNow {
    pub(super) fn of((root, key, file): &(RootId, FoldedKey, Option<BaseFile>)) -> Self {
        let file = file.as_ref().map(BaseFileNow::of);
        Self { root: *root, key: key.as_str().to_owned(), file }
    }
}

impl BaseFileNow {
    fn of(base: &BaseFile) -> Self {
        Self {
            spelled: base.spelled.as_str().to_owned(),
            kind: base.kind,
            size_bytes: base.size_bytes,
            modified_ns: base.modified_ns,
            mode: base.mode,
            hash: base.hash.map(|hash| *hash.as_bytes()),
        }
    }

    fn into_base(self) -> BaseFile {
        BaseFile {
            spelled: RelPath::from_disk(self.spelled),
            kind: self.kind,
            size_bytes: self.size_bytes,
            modified_ns: self.modified_ns,
            mode: self.mode,
            hash: self.hash.map(ContentHash::from_bytes),
        }
    }
}

/// Puts the outcome into the catalogue, inside its open transaction, and gives the number of the new revision.
pub(super) fn write_outcome(transaction: Transaction<'_>, outcome: Outcome) -> Result<i64, ChangeError> {
    let ledger = transaction.ledger();
    let catalogue = &ledger.catalogue;
    let before = outcome.before(ledger)?;
    let standings = outcome.arrangement.iter().map(|(layer, laid)| Standing { layer: *layer, laid: *laid });
    let arrangement = Arrangement::new(standings.collect());
    catalogue.write_arrangement(&arrangement, &outcome.removed)?;
    for (layer, (won_files, contested_files, open_files)) in outcome.tallies {
        let tally = Tally { won_files, contested_files, open_files };
        catalogue.add_to_tally(layer, tally)?;
    }
    for (old, new) in outcome.handed_on {
        catalogue.hand_on_settlements(old, new)?;
    }
    for (path, settlement) in &outcome.settle {
        catalogue.write_settlement(*path, settlement.as_ref())?;
    }
    if let Some(rules) = outcome.blend_rules {
        catalogue.write_game(&Game { blend_rules: rules, ..ledger.game().clone() })?;
    }
    if let Some(ongoing) = outcome.ongoing {
        catalogue.write_ongoing(ongoing.first())?;
    }
    for base in outcome.base {
        let key = FoldedKey::from_stored(base.key);
        match base.file {
            Some(file) => catalogue.accept_original(base.root, &key, &file.into_base())?,
            None => catalogue.forget_base(base.root, &key)?,
        }
    }
    for (root, key, spelled) in outcome.lost {
        catalogue.doubt_original(root, &FoldedKey::from_stored(key), &RelPath::from_disk(spelled))?;
    }
    let json = |error| catalogue.damaged_by(&error);
    let revision = catalogue.insert_revision(&NewRevision {
        made_at: &outcome.made_at,
        command: &outcome.command,
        arrangement: &serde_json::to_string(&outcome.arrangement).map_err(json)?,
        restores: outcome.restores,
        before: &serde_json::to_string(&before).map_err(json)?,
        did: &serde_json::to_string(&outcome.did).map_err(json)?,
    })?;
    catalogue.clear_journal()?;
    ledger.seam.pass("done").map_err(LedgerError::io("write to", ledger.folder()))?;
    transaction.commit()?;
    Ok(revision)
}
