//! What is told of changes and checks: plain values that a face renders or prints as JSON.
//!
//! Sizes are in bytes; addresses always carry their root's name; layers go by their names.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::{DamageRow, ProofRow};
use crate::address::Address;
use crate::change::{Difference, Effect, EffectKind, Plan, Prepared};
use crate::check::{CheckReport, MemberTurn, StoredReport, UpdateSigns};
use crate::expected::{Drift, DriftKind};
use crate::ledger::{Ledger, LedgerError, SharedWith};
use crate::stack::LayerId;

/// Name and version.
pub(super) fn in_full(name: &str, version: Option<&str>) -> String {
    [Some(name), version].into_iter().flatten().collect::<Vec<_>>().join(" ")
}

/// Files and their bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Count {
    /// How many files.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
}

impl Count {
    /// Files of these sizes.
    pub(in crate::jobs) fn of_sizes(sizes: &[u64]) -> Self {
        Self { files: sizes.len() as u64, bytes: sizes.iter().sum() }
    }
}

impl From<(u64, u64)> for Count {
    fn from((files, bytes): (u64, u64)) -> Self {
        Self { files, bytes }
    }
}

/// One address that changes on disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct EffectRow {
    /// Where.
    // There may be very many of these, so they share what they can.
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub address: Address,
    /// What happens there.
    pub kind: EffectKind,
    /// Size of the file that will lie there; of the one that goes, for `delete`.
    pub size_bytes: u64,
    /// The layer whose file will lie there; none for the game's own file or nothing.
    pub layer: Option<Arc<str>>,
    /// The layer whose file lies there before; none for the game's own file or nothing.
    pub over: Option<Arc<str>>,
    /// The file that will lie there is made of several layers', key by key.
    pub blended: bool,
    /// What is put back or goes there is not the game's own, though no layer is named.
    pub of_others: bool,
}

/// A drifted file that was saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct KeptRow {
    /// Where it lay in the game.
    pub address: String,
    /// Where it lies now.
    pub path: String,
    /// It counts as the game's own from now on and comes back when no layer covers it.
    pub is_base_now: bool,
}

/// Files of a new layer over another one's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OverRow {
    /// The layer that is covered.
    pub layer: String,
    /// How many of its files.
    pub files: u64,
}

/// How the files of newly laid layers meet what is there.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MeetingRow {
    /// Files that come where nothing was.
    pub new_files: u64,
    /// Files that cover one of the game's own.
    pub over_base: u64,
    /// Files that cover one of another layer.
    pub over_layers: Vec<OverRow>,
    /// Files equal to what they would cover: they belong to the layer and are not written.
    pub identical: u64,
    /// Configuration files that blend with others: both are kept.
    pub blended: u64,
    /// Files that a layer above covers at once.
    pub covered: u64,
    /// Bytes that are written to the game.
    pub written_bytes: u64,
}

/// A file with a person's edits that gets them in its new version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CarriedRow {
    /// Where.
    pub address: String,
    /// What was carried over: keys, or how many places.
    pub changes: Vec<String>,
    /// Where the file as it was on disk is saved.
    pub saved_at: String,
}

/// How the new version of a layer differs from the old one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DifferenceRow {
    /// The layer.
    pub layer: String,
    /// Addresses that only the new version has.
    pub added: Vec<String>,
    /// Addresses that both have, with other content.
    pub changed: Vec<String>,
    /// Addresses that both have alike, spelled otherwise.
    pub respelled: Vec<String>,
    /// Addresses that only the old version has.
    pub gone: Vec<String>,
    /// Files that both have alike.
    pub unchanged_files: u64,
    /// Addresses where other laid layers want something else, and did not before.
    pub newly_contested: Vec<String>,
    /// Addresses where other laid layers wanted something else before, and do not now.
    pub no_longer_contested: Vec<String>,
}

impl DifferenceRow {
    fn of(layer: &str, difference: &Difference) -> Self {
        let shown = |addresses: &[Address]| addresses.iter().map(ToString::to_string).collect();
        Self {
            layer: layer.to_owned(),
            added: shown(&difference.added),
            changed: shown(&difference.changed),
            respelled: shown(&difference.respelled),
            gone: shown(&difference.gone),
            unchanged_files: difference.unchanged_files,
            newly_contested: shown(&difference.newly_contested),
            no_longer_contested: shown(&difference.no_longer_contested),
        }
    }
}

/// One change, planned or made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ChangeReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The number of the revision that the change made.
    pub revision: Option<i64>,
    /// Files that come where nothing was.
    pub added: Count,
    /// Files that take the place of others.
    pub overwritten: Count,
    /// What lay beneath comes back.
    pub restored: Count,
    /// Files that go, and nothing lay beneath.
    pub deleted: Count,
    /// All of these by address.
    pub effects: Vec<EffectRow>,
    /// Folders that are made.
    pub folders_made: Vec<String>,
    /// Folders that go.
    pub folders_dropped: Vec<String>,
    /// Drifted files that are saved.
    pub kept: Vec<KeptRow>,
    /// Drifted files whose content on disk is let go.
    pub discarded: Vec<String>,
    /// Files with a person's edits that get them in their new version.
    pub carried: Vec<CarriedRow>,
    /// Addresses at which nothing will lie, and where the game may have had a file of its own that was gone
    /// before the layer was adopted.
    pub originals_missing: Vec<String>,
    /// Addresses at which nothing will lie, since the ledger has lost the game's own file.
    pub originals_lost: Vec<String>,
    /// Addresses at which the game's own file comes back as it was before an update that it may have missed.
    pub originals_old: Vec<String>,
    /// How the new version of an exchanged layer differs from the old one; of several, the first.
    pub difference: Option<DifferenceRow>,
    /// The same of the others, if several were exchanged at once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub more_differences: Vec<DifferenceRow>,
    /// Addresses at which it is settled who counts.
    #[serde(default)]
    pub settled: u64,
    /// How newly laid layers meet what is there.
    pub meeting: MeetingRow,
}

impl ChangeReport {
    /// Whether any file of the game changes.
    pub fn changes_files(&self) -> bool {
        !self.effects.is_empty()
    }
}

/// What `prepared` will do, with the names of layers as they are before it is applied. It takes the effects.
///
/// # Errors
/// [`LedgerError`].
pub fn change_report(
    ledger: &Ledger,
    prepared: &mut Prepared<'_>,
    dry_run: bool,
) -> Result<ChangeReport, LedgerError> {
    // Many rows share few names.
    let names = ledger.catalogue.layer_names()?.into_iter();
    let names = names.map(|(layer, name)| (layer, Arc::from(name))).collect();
    let counts = EffectKind::ALL.map(|kind| prepared.plan().count(kind).into());
    let effects = prepared.take_effects();
    Ok(report_of(prepared.plan(), effects, counts, &names, dry_run))
}

#[expect(clippy::too_many_lines, reason = "one line for each field")]
fn report_of(
    plan: &Plan,
    effects: Vec<Effect>,
    [added, overwritten, restored, deleted]: [Count; 4],
    names: &HashMap<LayerId, Arc<str>>,
    dry_run: bool,
) -> ChangeReport {
    let name = |layer: LayerId| names.get(&layer).cloned().unwrap_or_default();
    let effects = effects.into_iter().map(|effect| EffectRow {
        address: effect.address,
        kind: effect.kind,
        size_bytes: effect.size_bytes,
        layer: effect.layer.map(name),
        over: effect.over.map(name),
        blended: effect.blended,
        of_others: effect.is_of_others,
    });
    let kept: Vec<KeptRow> = plan
        .kept
        .iter()
        .map(|kept| KeptRow {
            address: kept.address.to_string(),
            path: kept.path.display().to_string(),
            is_base_now: kept.is_base_now,
        })
        .collect();
    let is_kept = |drift: &&Drift| !plan.kept.iter().any(|kept| kept.address == drift.address);
    let mut differences = plan.differences.iter().map(|(layer, it)| DifferenceRow::of(&name(*layer), it));
    let meeting = &plan.meeting;
    let over = meeting.over_layers.iter();
    ChangeReport {
        dry_run,
        revision: None,
        added,
        overwritten,
        restored,
        deleted,
        effects: effects.collect(),
        folders_made: plan.folders_made.iter().map(ToString::to_string).collect(),
        folders_dropped: plan.folders_dropped.iter().map(ToString::to_string).collect(),
        discarded: plan.drifted.iter().filter(is_kept).map(|drift| drift.address.to_string()).collect(),
        kept,
        carried: plan
            .carried
            .iter()
            .map(|file| CarriedRow {
                address: file.address.to_string(),
                changes: file.changes.clone(),
                saved_at: file.kept.display().to_string(),
            })
            .collect(),
        originals_old: plan.originals_old.iter().map(ToString::to_string).collect(),
        settled: plan.settled,
        originals_missing: plan.originals_missing.iter().map(ToString::to_string).collect(),
        originals_lost: plan.originals_lost.iter().map(ToString::to_string).collect(),
        difference: differences.next(),
        more_differences: differences.collect(),
        meeting: MeetingRow {
            new_files: meeting.new_files,
            over_base: meeting.over_base,
            over_layers: over
                .map(|(layer, files)| OverRow { layer: name(*layer).to_string(), files: *files })
                .collect(),
            identical: meeting.identical,
            blended: meeting.blended,
            covered: meeting.covered,
            written_bytes: meeting.written_bytes,
        },
    }
}

/// A file that is not what the stack says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DriftRow {
    /// Where.
    pub address: String,
    /// How it differs.
    pub kind: DriftKind,
    /// The layer whose file should lie there; for strays the one that made the folder.
    pub layer: Option<String>,
    /// The layer of another game that has a file there, in a folder that both use.
    pub other_game: Option<OtherGameRow>,
    /// Of a container, its members that are not as they should be, where that can be told.
    pub members: Vec<MemberDriftRow>,
    /// It was a link to the ledger's content, which was the only copy of what the layer brings there.
    pub was_only_copy: bool,
}

/// A member of a container that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MemberDriftRow {
    /// The path within the container.
    pub path: String,
    /// What became of it.
    pub turn: MemberTurn,
}

/// Whose a file is in a folder that several games use.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OtherGameRow {
    /// The game.
    pub game: String,
    /// Its layer.
    pub layer: String,
}

impl OtherGameRow {
    fn of(shared: &SharedWith) -> Self {
        Self { game: shared.game.clone(), layer: shared.layer.clone() }
    }
}

impl DriftRow {
    /// The row for a drift that stands in the way of a change.
    pub fn of(drift: &Drift, layer: Option<String>) -> Self {
        Self {
            address: drift.address.to_string(),
            kind: drift.kind,
            layer,
            other_game: None,
            members: Vec::new(),
            was_only_copy: false,
        }
    }
}

/// Whose a file is. JSON has a layer by its name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(into = "String")]
pub enum Owner {
    /// The game's own, or nobody's that is known: `base` in JSON.
    Base,
    /// That layer's.
    Layer(String),
}

impl From<Owner> for String {
    fn from(owner: Owner) -> Self {
        match owner {
            Owner::Base => "base".to_owned(),
            Owner::Layer(name) => name,
        }
    }
}

/// How many drifted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DriftCount {
    /// How they differ.
    pub of: DriftKind,
    /// Files, and folders that are gone.
    pub files: u64,
}

/// How many drifted of one owner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OwnerCount {
    /// A layer, or `base` for the game's own and what nobody knows.
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub of: Owner,
    /// Files, and folders that are gone.
    pub files: u64,
}

/// Counts rows by kind and by whose they are.
pub fn count_drift(rows: &[DriftRow]) -> (Vec<DriftCount>, Vec<OwnerCount>) {
    let count = |kind: DriftKind| rows.iter().filter(|row| row.kind == kind).count() as u64;
    let kinds = DriftKind::ALL.iter().map(|kind| DriftCount { of: *kind, files: count(*kind) });
    let kinds = kinds.filter(|count| count.files > 0).collect();
    let mut by_owner: BTreeMap<Owner, u64> = BTreeMap::new();
    for row in rows {
        *by_owner.entry(row.layer.clone().map_or(Owner::Base, Owner::Layer)).or_default() += 1;
    }
    let mut whose: Vec<OwnerCount> =
        by_owner.into_iter().map(|(of, files)| OwnerCount { of, files }).collect();
    whose.sort_by_key(|count| std::cmp::Reverse(count.files));
    (kinds, whose)
}

/// What a comparison of disk and stack found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CheckSummary {
    /// Contents were compared, not only sizes and times.
    pub deep: bool,
    /// Files that are as they should be.
    pub as_laid_files: u64,
    /// Files whose content was read and compared.
    pub compared: Count,
    /// Files that differ where the game writes by itself, and are left alone.
    pub volatile_files: u64,
    /// Files that other games have laid into folders that they share with this one, and that are none of this one's.
    pub other_games_files: u64,
    /// What speaks for an official update of the game, if anything does.
    pub update: Option<UpdateRow>,
    /// Folders and patterns at which the game seems to write by itself; for `game set --volatile`.
    pub volatile_proposals: Vec<String>,
    /// How many drifted of each kind, what weighs most first.
    pub kinds: Vec<DriftCount>,
    /// How many drifted of each layer, and of the game's own, most first.
    pub whose: Vec<OwnerCount>,
    /// All that drifted, by address.
    pub drifted: Vec<DriftRow>,
    /// Empty folders that were to go, and in which another program stands; they go with the next command that changes the game.
    pub folders_left: Vec<String>,
    /// Whether one sees that layers work, if that was asked.
    pub proofs: Option<Vec<ProofRow>>,
    /// How what the ledger stores is, when contents were compared.
    pub stored: Option<StoredSummary>,
}

/// How what the ledger stores is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct StoredSummary {
    /// Contents of layers of the stack.
    pub contents: u64,
    /// Files of the game's own that are covered.
    pub originals: u64,
    /// Bytes of both.
    pub bytes: u64,
    /// What is gone or damaged, in order of addresses.
    pub damaged: Vec<DamageRow>,
}

impl StoredSummary {
    /// The summary of what was found.
    pub fn of(found: &StoredReport) -> Self {
        let StoredReport { contents, originals, bytes, ref damaged } = *found;
        Self { contents, originals, bytes, damaged: damaged.iter().map(DamageRow::of).collect() }
    }
}

/// Signs of an official update since the game's own files were last looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct UpdateRow {
    /// The version that is known.
    pub known_version: Option<String>,
    /// The version that the game's files tell now.
    pub version_now: Option<String>,
    /// Files of the game's own, no settings among them, that have other content.
    pub base_changed_files: u64,
}

impl UpdateRow {
    /// The row, if the signs look like an update.
    pub fn of(signs: &UpdateSigns) -> Option<Self> {
        signs.look_like_an_update().then(|| Self {
            known_version: signs.known_version.clone(),
            version_now: signs.version_now.clone(),
            base_changed_files: signs.base_changed_files,
        })
    }
}

/// Names the layers in `found`.
///
/// # Errors
/// [`LedgerError`].
pub fn check_report(ledger: &Ledger, found: &CheckReport, deep: bool) -> Result<CheckSummary, LedgerError> {
    let names: HashMap<LayerId, String> = ledger.catalogue.layer_names()?.into_iter().collect();
    let row = |drifted: &crate::check::Drifted| {
        let layer = drifted.layer.and_then(|layer| names.get(&layer).cloned());
        let other_game = drifted.anothers.as_ref().map(OtherGameRow::of);
        let members = drifted.members.iter();
        let members = members.map(|it| MemberDriftRow { path: it.path.to_string(), turn: it.turn }).collect();
        let was_only_copy = drifted.was_only_copy;
        DriftRow { other_game, members, was_only_copy, ..DriftRow::of(&drifted.drift, layer) }
    };
    let drifted: Vec<DriftRow> = found.drifted.iter().map(row).collect();
    let (kinds, whose) = count_drift(&drifted);
    let left = ledger.catalogue.folders_left()?.into_iter().filter(|path| path.is_dir());
    Ok(CheckSummary {
        deep,
        as_laid_files: found.as_laid_files,
        compared: (found.compared_files, found.compared_bytes).into(),
        volatile_files: found.volatile_files,
        other_games_files: found.other_games_files,
        update: UpdateRow::of(&found.signs),
        volatile_proposals: found.volatile_proposals.clone(),
        kinds,
        whose,
        drifted,
        folders_left: left.map(|path| path.display().to_string()).collect(),
        proofs: None,
        stored: None,
    })
}
