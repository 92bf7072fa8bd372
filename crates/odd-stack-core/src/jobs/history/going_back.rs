//! Going to a state that the stack had before.

use std::collections::HashMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::HistoryError;
use super::past::{Tidied, changed_since, history_of, origin_of, title_of};
use crate::blend::Prefer;
use crate::change::{
    AboutBefore, ChangeError, ChangeOptions, ChangeRequest, Exchange, Prepared, RevisionBefore, prepare,
};
use crate::jobs::Permit;
use crate::jobs::contests::blend_rules::touched_by_rules;
use crate::jobs::needs::judge;
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Arrangement, LayerId, PathId, Settlement, Standing, plain_name};

/// Where to go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GoTo {
    /// Before so many of the changes that led here.
    Before(u64),
    /// After the next of the changes that were taken back.
    Again,
    /// After that revision; 0 is before all changes.
    Revision(i64),
    /// The state that was given this name.
    Named(String),
    /// The state at that time.
    At(Moment),
}

/// Going to another state of the stack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BackRequest {
    /// Where to go.
    pub to: GoTo,
    /// Whose word counts where a person and a version that comes back changed the same setting.
    pub prefer: Option<Prefer>,
    /// What the history will say.
    pub command: String,
}

/// What it comes to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct GoneReport {
    /// The revision whose stack there was; 0 is before all changes.
    pub from: i64,
    /// The revision whose stack there is then.
    pub to: i64,
    /// What was asked for in the changes that are taken back or done again, the last one first; none where it goes elsewhere.
    pub changes: Vec<String>,
    /// Layers that come into the stack, each with its version.
    pub comes: Vec<String>,
    /// Layers that leave the stack.
    pub goes: Vec<String>,
    /// The game's own files were changed in between: they stay as they are now.
    pub base_stays: bool,
    /// What was settled then is not known, since an early version made changes in between: what is settled now stays.
    pub settlements_stay: bool,
}

/// Going there, about to be done.
#[derive(Debug)]
pub struct GoingBack<'l> {
    /// What it comes to.
    pub report: GoneReport,
    /// The change.
    pub change: Prepared<'l>,
}

/// Prepares the change that brings back the stack of an earlier revision.
///
/// # Errors
/// [`HistoryError`]; nothing was changed.
pub fn prepare_going_back<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    request: &BackRequest,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<GoingBack<'l>, HistoryError> {
    let BackRequest { to, prefer, command } = request;
    let (from, target, changes) = way(ledger, to)?;
    if from == target {
        return Err(HistoryError::IsSo { revision: target });
    }
    Tidied::of(ledger, &ledger.catalogue.revisions()?)?.refuse(ledger, target)?;
    let standings = ledger.catalogue.arrangement_of(target)?.into_iter();
    let after = Arrangement::new(standings.map(|(layer, laid)| Standing { layer, laid }).collect());
    let (was, is_whole) = changed_since(ledger, target)?;
    let base_stays = was.base;
    // Going elsewhere is a change of its own, which can be taken back.
    let restores = matches!(to, GoTo::Before(_) | GoTo::Again).then_some(target);
    let arranging = Arranging { after, was, restores, prefer: *prefer, command };
    let Arranged { comes, goes, change } =
        prepare_arrangement(ledger, permit, arranging, now, options, observer)?;
    let settlements_stay = !is_whole;
    let report = GoneReport { from, to: target, changes, comes, goes, base_stays, settlements_stay };
    Ok(GoingBack { report, change })
}

/// Another arrangement of layers that are in the stack, or were.
pub(super) struct Arranging<'a> {
    pub after: Arrangement,
    /// What is to be settled and known of layers from then on, and the rules of blending.
    pub was: RevisionBefore,
    /// The revision that it brings back.
    pub restores: Option<i64>,
    pub prefer: Option<Prefer>,
    pub command: &'a str,
}

/// What it comes to.
pub(super) struct Arranged<'l> {
    /// Layers that come into the stack, and those that leave it, with their versions.
    pub comes: Vec<String>,
    pub goes: Vec<String>,
    pub change: Prepared<'l>,
}

/// Prepares the change to the arrangement.
pub(super) fn prepare_arrangement<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    Arranging { after, was, restores, prefer, command }: Arranging<'_>,
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Arranged<'l>, ChangeError> {
    let catalogue = &ledger.catalogue;
    let before = catalogue.arrangement()?;
    let only_in = |one: &Arrangement, two: &Arrangement| -> Vec<LayerId> {
        let is_in_two = |layer: LayerId| two.standings().iter().any(|standing| standing.layer == layer);
        one.standings().iter().map(|standing| standing.layer).filter(|layer| !is_in_two(*layer)).collect()
    };
    let (comes, goes) = (only_in(&after, &before), only_in(&before, &after));
    let transaction = Transaction::begin(ledger)?;
    catalogue.bring_back(&comes)?;
    let about_now = say_again(ledger, &was)?;
    judge(ledger, &before, &after, options.despite)?;
    let names = |layers: &[LayerId]| -> Result<Vec<String>, LedgerError> {
        layers.iter().map(|layer| title_of(ledger, *layer)).collect()
    };
    let (come_names, gone_names) = (names(&comes)?, names(&goes)?);
    let mut request = ChangeRequest::new(command, now, after);
    request.stack.exchanges = exchanges(ledger, &goes, &comes, prefer)?;
    request.stack.settle = settlements(ledger, &request, was.settled)?;
    request.stack.also_touched = touched_by_what_was_said(ledger, &was.about)?;
    if let Some(rules) = was.blend_rules {
        request.stack.also_touched.extend(touched_by_rules(ledger, &rules)?);
        request.stack.blend_rules = Some(rules);
    }
    request.stack.removed = goes;
    request.noted.about = about_now;
    request.noted.restores = restores;
    let change = prepare(transaction, permit.lock, request, options, observer)?;
    Ok(Arranged { comes: come_names, goes: gone_names, change })
}

/// Where the stack is, where it goes, and the changes on the way.
fn way(ledger: &Ledger, to: &GoTo) -> Result<(i64, i64, Vec<String>), HistoryError> {
    let revisions = ledger.catalogue.revisions()?;
    let history = history_of(&revisions);
    let command = |number: i64| {
        let found = revisions.iter().find(|it| it.number == number);
        found.map(|it| it.command.clone()).unwrap_or_default()
    };
    let mut changes = Vec::new();
    let target = match to {
        GoTo::Before(count) => {
            let there = history.depth();
            let target = history.before(*count).ok_or(HistoryError::NothingBefore { there })?;
            changes.extend((0..*count).filter_map(|at| history.before(at)).map(command));
            target
        }
        GoTo::Again => {
            let target = history.again().ok_or(HistoryError::NothingAgain)?;
            changes.push(command(target));
            target
        }
        GoTo::Revision(revision) => origin_of(ledger, *revision)?,
        GoTo::Named(name) => {
            let names = ledger.catalogue.state_names()?;
            match names.iter().find(|(known, _)| plain_name(known) == plain_name(name)) {
                Some((_, revision)) => *revision,
                None => {
                    let there_are = names.into_iter().map(|(name, _)| name).collect();
                    return Err(HistoryError::NoSuchName { name: name.clone(), there_are });
                }
            }
        }
        GoTo::At(time) => {
            let is_then = |made_at: &str| Moment::parse(made_at).is_ok_and(|made| made <= *time);
            let last = revisions.iter().rev().find(|it| is_then(&it.made_at));
            last.map_or(0, |last| history.origin(last.number))
        }
    };
    Ok((history.position(), target, changes))
}

/// Writes again what was known of layers then, and gives what is known of them now.
fn say_again(ledger: &Ledger, was: &RevisionBefore) -> Result<Vec<AboutBefore>, LedgerError> {
    let mut now = Vec::new();
    for about in &was.about {
        now.extend(AboutBefore::of(ledger, about.layer)?);
        about.write(ledger)?;
    }
    Ok(now)
}

/// Layers of one name that take each other's places: a person's edits are carried over.
fn exchanges(
    ledger: &Ledger,
    goes: &[LayerId],
    comes: &[LayerId],
    prefer: Option<Prefer>,
) -> Result<Vec<Exchange>, LedgerError> {
    let name = |layer: LayerId| -> Result<String, LedgerError> {
        Ok(ledger.catalogue.about(layer)?.map(|(name, ..)| plain_name(&name)).unwrap_or_default())
    };
    let mut of_name: HashMap<String, LayerId> = HashMap::new();
    for old in goes {
        of_name.insert(name(*old)?, *old);
    }
    let mut exchanges = Vec::new();
    for new in comes {
        if let Some(old) = of_name.remove(&name(*new)?) {
            exchanges.push(Exchange { old, new: *new, prefer, asks_otherwise: true });
        }
    }
    Ok(exchanges)
}

/// What must be settled otherwise than it would be, so that it is as it was.
fn settlements(
    ledger: &Ledger,
    request: &ChangeRequest,
    was: Vec<(PathId, Option<Settlement>)>,
) -> Result<Vec<(PathId, Option<Settlement>)>, LedgerError> {
    let would_be = request.settled_after(ledger.catalogue.settlements()?);
    let mut was: HashMap<PathId, Option<Settlement>> = was.into_iter().collect();
    // What is handed on to a version that comes back may be settled otherwise than it was, too.
    for (path, settlement) in ledger.catalogue.settlements()? {
        let is_handed_on = would_be.get(&path) != Some(&settlement);
        if is_handed_on {
            was.entry(path).or_insert(Some(settlement));
        }
    }
    let mut settle: Vec<_> =
        was.into_iter().filter(|(path, settlement)| would_be.get(path) != settlement.as_ref()).collect();
    settle.sort_by_key(|(path, _)| *path);
    Ok(settle)
}

/// Who wins is told by what layers need, too.
fn touched_by_what_was_said(ledger: &Ledger, about: &[AboutBefore]) -> Result<Vec<PathId>, LedgerError> {
    let layers: Vec<LayerId> = about.iter().map(|about| about.layer).collect();
    let columns = if layers.is_empty() { Vec::new() } else { ledger.catalogue.columns_of(&layers, &[])? };
    Ok(columns.iter().map(|column| column.path).collect())
}
