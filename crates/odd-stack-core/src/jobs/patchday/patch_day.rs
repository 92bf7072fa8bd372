//! Patch day: the game gets an official update, and its layers go with the new version or wait.
//!
//! Planned, all layers are lifted before the update (`begin`), so that the game's client meets nothing but its own
//! files; afterwards (`finish`) the disk is the new base, each layer is judged against it, and those that still fit
//! are laid again. Unplanned, when the client has already updated over laid layers, `finish` tells by content what is
//! the game's and what is a layer's. What is under way is noted in the catalogue in the same transaction as the change
//! that it belongs to, so a stop anywhere leaves the day begun or not, ended or not.

use std::collections::HashSet;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::error::PatchDayError;
use super::judge::{Judged, judge_layers};
use super::new_base::{BaseChanges, new_base};
use super::old_settings::{self, Carried};
use super::report::PatchDayReport;
use super::touched::Touched;
use super::unplanned::{UpdateMet, meet_update};
use crate::change::{BaseBefore, ChangeError, ChangeOptions, ChangeRequest, Edits, Prepared, prepare};
use crate::check::check;
use crate::expected::{Blender, game_version_now};
use crate::game::{Game, GameVersion};
use crate::hash::ContentHash;
use crate::jobs::Permit;
use crate::ledger::{Ledger, LedgerError, Ongoing, OngoingKind, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Arrangement, LayerId, PathId, Standing};

/// What is kept of a patch day between its commands.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(in crate::jobs) struct PatchDayUnderWay {
    /// The stack as it was, from the bottom to the top.
    pub arrangement: Vec<(LayerId, bool)>,
    /// The game's version then.
    pub version: Option<String>,
    /// The game's own files of settings at which layers have something, stored as they were.
    #[serde(default)]
    pub settings: Vec<(PathId, ContentHash)>,
}

impl PatchDayUnderWay {
    pub(in crate::jobs) fn of(ongoing: &Ongoing, ledger: &Ledger) -> Result<Self, LedgerError> {
        serde_json::from_str(&ongoing.about).map_err(|error| ledger.catalogue.damaged_by(&error))
    }
}

/// Where a patch day stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PatchDayStatus {
    /// Since when one is under way, RFC 3339; none when none is.
    pub begun_at: Option<String>,
    /// Layers that were laid when it began, from the bottom to the top.
    pub waiting: Vec<String>,
    /// The version of the game that is known.
    pub known_version: Option<String>,
    /// The version that the game's files tell now.
    pub version_now: Option<String>,
}

/// Prepares to lift everything and to note that a patch day is under way.
///
/// # Errors
/// [`ChangeError`]; nothing was changed.
pub fn prepare_patchday_begin<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Prepared<'l>, ChangeError> {
    let before = ledger.catalogue.arrangement()?;
    let transaction = Transaction::of_contents(ledger);
    let (settings, new) = old_settings::keep(ledger)?;
    let begun = PatchDayUnderWay {
        arrangement: before.standings().iter().map(|standing| (standing.layer, standing.laid)).collect(),
        version: ledger.game().version.as_ref().map(|version| version.version.clone()),
        settings,
    };
    let about = serde_json::to_string(&begun).map_err(|error| ledger.catalogue.damaged_by(&error))?;
    let ongoing = Ongoing { kind: OngoingKind::PatchDay, begun_at: now.to_string(), about };
    let after = before.with_laid(&before.laid(), false);
    let mut request = ChangeRequest::new("patchday begin", now, after);
    request.noted.ongoing = Some(Some(ongoing));
    transaction.open()?;
    ledger.catalogue.insert_contents(&new)?;
    request.noted.new_contents = new;
    prepare(transaction, permit.lock, request, options, observer)
}

/// Where the patch day stands.
///
/// # Errors
/// [`LedgerError`].
pub fn patchday_status(ledger: &Ledger) -> Result<PatchDayStatus, LedgerError> {
    let ongoing = ledger.catalogue.ongoing()?.filter(|ongoing| ongoing.kind == OngoingKind::PatchDay);
    let mut waiting = Vec::new();
    if let Some(ongoing) = &ongoing {
        for (layer, was_laid) in PatchDayUnderWay::of(ongoing, ledger)?.arrangement {
            if was_laid {
                waiting.push(ledger.catalogue.layer_name(layer)?);
            }
        }
    }
    let version = game_version_now(ledger)?;
    Ok(PatchDayStatus {
        begun_at: ongoing.map(|ongoing| ongoing.begun_at),
        waiting,
        known_version: version.known.clone(),
        version_now: version.of_game(),
    })
}

/// The end of a patch day, about to be made.
#[derive(Debug)]
pub struct Finishing<'l> {
    /// What was found.
    pub report: PatchDayReport,
    /// The change; none when all is as it should be.
    pub change: Option<Prepared<'l>>,
}

/// Looks at the game anew, judges the layers, and prepares to lay what still fits. `stated` is the new version as the
/// user says it, where no file tells it.
///
/// # Errors
/// [`PatchDayError`]; nothing was changed.
pub fn prepare_patchday_finish<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    stated: Option<&str>,
    now: Moment,
    observer: &dyn Observer,
) -> Result<Finishing<'l>, PatchDayError> {
    let ongoing = ledger.catalogue.ongoing()?;
    let begun = ongoing.as_ref().map(|ongoing| PatchDayUnderWay::of(ongoing, ledger)).transpose()?;
    let version_before = match &begun {
        Some(begun) => begun.version.clone(),
        None => ledger.game().version.as_ref().map(|version| version.version.clone()),
    };
    // Told by the signs of what drifted, which need the version as it was known.
    let drifted = if begun.is_none() { Some(check(ledger, false, observer)?) } else { None };
    let mut game = ledger.game().clone();
    let version = stated.map(str::to_owned).or(game_version_now(ledger)?.of_game());
    if let Some(version) = version {
        let known = game.version.take();
        let (read_from, pattern) =
            known.filter(|_| stated.is_none()).map_or((None, None), |known| (known.read_from, known.pattern));
        game.version = Some(GameVersion { version, read_from, pattern });
    }
    let has_new_version = game.version != ledger.game().version;
    let mut before = BaseBefore {
        base: Vec::new(),
        version: ledger.game().version.clone(),
        seen: ledger.game().seen,
        unknown_originals: ledger.catalogue.unknown_originals()?,
        entries: Vec::new(),
        tallies: Vec::new(),
    };
    let transaction = Transaction::begin(ledger)?;
    transaction.write_game(game)?;
    let mut report = PatchDayReport {
        planned: begun.is_some(),
        version_before,
        version_after: ledger.game().version.as_ref().map(|version| version.version.clone()),
        ..PatchDayReport::default()
    };
    let request = match (begun, drifted) {
        (Some(begun), _) => planned(&transaction, &begun, &mut report, &mut before, now, observer),
        (None, Some(drifted)) => unplanned(ledger, &drifted, has_new_version, &mut report, &mut before, now),
        (None, None) => Ok(None),
    };
    let Some(mut request) = request? else {
        return Ok(Finishing { report, change: None });
    };
    tell_of_version(ledger.game(), &mut report);
    request.noted.undo = Some(before);
    if ongoing.is_some() {
        request.noted.ongoing = Some(None);
    }
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(transaction, permit.lock, request, options, observer)?;
    Ok(Finishing { report, change: Some(change) })
}

/// The file that tells another version has changed, whatever its size.
fn tell_of_version(game: &Game, report: &mut PatchDayReport) {
    let read_from = game.version.as_ref().and_then(|version| version.read_from.as_ref());
    let Some(read_from) = read_from.filter(|_| report.version_before != report.version_after) else { return };
    let read_from = read_from.to_string();
    if let Some(at) = report.touched.iter().position(|address| *address == read_from) {
        report.changed.push(report.touched.remove(at));
        report.changed.sort();
    }
}

/// Takes what was carried over into the change, with what undoes it.
fn take_over(carried: Carried, request: &mut ChangeRequest, before: &mut BaseBefore) {
    // All addresses of these are of layers that lie on the game or are to; their contents are durable with the change.
    request.noted.new_contents.extend_from_slice(&carried.new);
    request.stack.also_touched.extend(carried.before.iter().map(|(path, _)| *path));
    before.entries = carried.before;
    before.tallies = carried.tallies.into_iter().collect();
}

/// The client has updated over laid layers.
fn unplanned(
    ledger: &Ledger,
    found: &crate::check::CheckReport,
    has_new_version: bool,
    report: &mut PatchDayReport,
    before: &mut BaseBefore,
    now: Moment,
) -> Result<Option<ChangeRequest>, PatchDayError> {
    let UpdateMet { mut request, touched, old, new } =
        meet_update(ledger, found, has_new_version, report, now)?;
    let wanted = request.stack.after.clone();
    let carried = old_settings::carry(ledger, &old, &touched, &|column| Ok(new.get(&column.path).cloned()))?;
    let after = fates(ledger, &wanted, &touched, &carried, report)?;
    take_over(carried, &mut request, before);
    let has_work = has_new_version
        || after != wanted
        || !request.files.foreign.is_empty()
        || !request.files.accepted.is_empty()
        || !request.files.restore.is_empty()
        || !request.files.make_folders.is_empty()
        || !request.stack.exchanges.is_empty()
        || request.stack.after != ledger.catalogue.arrangement()?;
    request.stack.after = after;
    Ok(has_work.then_some(request))
}

/// Judges the layers that `wanted` has laid and lifts those that do not fit.
fn fates(
    ledger: &Ledger,
    wanted: &Arrangement,
    touched: &Touched,
    carried: &Carried,
    report: &mut PatchDayReport,
) -> Result<Arrangement, LedgerError> {
    let now = report.version_after.as_deref();
    let Judged { rows, unfit } = judge_layers(ledger, wanted, touched, &carried.to_know, now)?;
    report.layers = rows;
    Ok(wanted.with_laid(&unfit, false))
}

/// All layers are lifted, so what lies there is the base.
fn planned(
    transaction: &Transaction<'_>,
    begun: &PatchDayUnderWay,
    report: &mut PatchDayReport,
    before: &mut BaseBefore,
    now: Moment,
    observer: &dyn Observer,
) -> Result<Option<ChangeRequest>, PatchDayError> {
    let ledger = transaction.ledger();
    let new = new_base(ledger, observer)?;
    let BaseChanges { changed, only_times, added, gone, touched, seen, before: rows } = new;
    before.base = rows;
    transaction.write_game(Game { seen, ..ledger.game().clone() })?;
    (report.changed, report.touched, report.added, report.gone) = (changed, only_times, added, gone);
    // Layers that were removed meanwhile do not come back.
    let present: HashSet<LayerId> =
        ledger.catalogue.arrangement()?.standings().iter().map(|standing| standing.layer).collect();
    let was = begun.arrangement.iter().filter(|(layer, _)| present.contains(layer));
    let wanted = Arrangement::new(was.map(|(layer, laid)| Standing { layer: *layer, laid: *laid }).collect());
    let old = old_settings::kept(ledger, &begun.settings)?;
    let blender = Blender::new(ledger);
    let carried = old_settings::carry(ledger, &old, &touched, &|column| blender.base_content(column))?;
    let after = fates(ledger, &wanted, &touched, &carried, report)?;
    let mut request = ChangeRequest::new("patchday finish", now, after);
    take_over(carried, &mut request, before);
    Ok(Some(request))
}
