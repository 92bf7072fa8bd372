//! The revisions of a game, and what the stack was after each.

use std::collections::{BTreeMap, HashMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::HistoryError;
use super::differing::{FileDifference, StackThen, differing_files};
use crate::change::RevisionBefore;
use crate::jobs::Permit;
use crate::jobs::report::in_full;
use crate::ledger::{Ledger, LedgerError, Revision};
use crate::stack::{History, LayerId, Past, PathId, Settlement};

/// One change that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RevisionRow {
    /// Its number, from 1.
    pub number: i64,
    /// When it was made, RFC 3339.
    pub made_at: String,
    /// What was asked for.
    pub command: String,
    /// What it did with files; not known of changes made by early versions.
    pub did: Option<DidRow>,
    /// The revision whose stack it brought back; 0 is before all changes.
    pub restores: Option<i64>,
    /// Names that were given to the state after it.
    pub names: Vec<String>,
    /// The stack is now as it was after this.
    pub is_present: bool,
    /// Its stack can't come back, since a layer of it was tidied away.
    pub is_tidied: bool,
}

/// How many files a change touched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct DidRow {
    /// Files added.
    pub added: u64,
    /// Files overwritten.
    pub overwritten: u64,
    /// Files restored.
    pub restored: u64,
    /// Files deleted.
    pub deleted: u64,
}

/// All changes, the last first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct HistoryReport {
    /// The revision whose stack there is now; 0 is before all changes.
    pub present: i64,
    /// How many changes can be taken back one after the other.
    pub can_undo: u64,
    /// Whether something was taken back that can be done again.
    pub can_redo: bool,
    /// Names of the state before all changes.
    pub names_of_the_beginning: Vec<String>,
    /// The changes.
    pub revisions: Vec<RevisionRow>,
}

/// One layer as it stood after a revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PastLayer {
    /// Its name then.
    pub name: String,
    /// Its version then.
    pub version: Option<String>,
    /// On the game, or kept off it.
    pub laid: bool,
}

/// The stack after a revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct PastStack {
    /// The revision; 0 is before all changes.
    pub revision: i64,
    /// When it was made; none before all changes.
    pub made_at: Option<String>,
    /// The layers from the top down to the game itself.
    pub layers: Vec<PastLayer>,
}

/// A layer that has another version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ReplacedLayer {
    /// Its name.
    pub name: String,
    /// The version in the earlier stack.
    pub from: Option<String>,
    /// That in the later one.
    pub to: Option<String>,
}

/// How the stacks after two revisions differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct HistoryDifference {
    /// The one.
    pub from: i64,
    /// The other.
    pub to: i64,
    /// How their layers differ.
    pub layers: LayersDifference,
    /// Addresses at which something else is settled.
    pub settled_files: u64,
    /// Addresses at which something else counts; none where a layer was tidied away, so that nobody can tell.
    pub files: Option<Vec<FileDifference>>,
}

/// How two orders of layers differ, told by layers' names.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LayersDifference {
    /// Layers that only the other has.
    pub came: Vec<String>,
    /// Layers that only the one has.
    pub went: Vec<String>,
    /// Layers of which they have different packages.
    pub replaced: Vec<ReplacedLayer>,
    /// Layers laid in the other alone.
    pub laid: Vec<String>,
    /// Layers laid in the one alone, and lifted in the other.
    pub lifted: Vec<String>,
    /// Layers that lie elsewhere in the order.
    pub moved: Vec<String>,
}

/// The history as the pure part needs it.
pub(in crate::jobs) fn history_of(revisions: &[Revision]) -> History {
    let past = |it: &Revision| Past { number: it.number, parent: it.parent, restores: it.restores };
    History::new(revisions.iter().map(past).collect())
}

/// What all later revisions changed beside the order, as it was; and whether all of them tell it.
pub(super) fn changed_since(ledger: &Ledger, revision: i64) -> Result<(RevisionBefore, bool), LedgerError> {
    let (mut merged, mut is_whole) = (RevisionBefore::default(), true);
    for text in ledger.catalogue.befores_since(revision)? {
        match text {
            Some(text) => {
                let before =
                    serde_json::from_str(&text).map_err(|error| ledger.catalogue.damaged_by(&error))?;
                merged.beneath(before);
            }
            None => is_whole = false,
        }
    }
    Ok((merged, is_whole))
}

/// All that was done, the last first.
///
/// # Errors
/// [`LedgerError`].
pub fn history(ledger: &Ledger) -> Result<HistoryReport, LedgerError> {
    let revisions = ledger.catalogue.revisions()?;
    let history = history_of(&revisions);
    let mut names: HashMap<i64, Vec<String>> = HashMap::new();
    for (name, revision) in ledger.catalogue.state_names()? {
        names.entry(revision).or_default().push(name);
    }
    let present = history.position();
    let tidied = Tidied::of(ledger, &revisions)?;
    let is_whole = |revision: &i64| !tidied.revisions.contains_key(revision);
    let undone = (1..=history.depth()).map_while(|count| history.before(count).filter(is_whole));
    let row = |it: &Revision| {
        let did: Option<[u64; 4]> = it.did.as_deref().and_then(|text| serde_json::from_str(text).ok());
        RevisionRow {
            number: it.number,
            made_at: it.made_at.clone(),
            command: it.command.clone(),
            did: did.map(|[added, overwritten, restored, deleted]| DidRow {
                added,
                overwritten,
                restored,
                deleted,
            }),
            restores: it.restores,
            names: names.get(&it.number).cloned().unwrap_or_default(),
            is_present: it.number == present,
            is_tidied: !is_whole(&it.number),
        }
    };
    Ok(HistoryReport {
        present,
        can_undo: undone.count() as u64,
        can_redo: history.again().is_some_and(|again| is_whole(&again)),
        names_of_the_beginning: names.get(&0).cloned().unwrap_or_default(),
        revisions: revisions.iter().rev().map(row).collect(),
    })
}

/// Revisions whose stacks can't come back.
pub(super) struct Tidied {
    /// Each with a layer of it that was forgotten.
    pub revisions: BTreeMap<i64, LayerId>,
}

impl Tidied {
    /// Those among all `revisions` of a ledger.
    pub(super) fn of(ledger: &Ledger, revisions: &[Revision]) -> Result<Self, LedgerError> {
        let forgotten = ledger.catalogue.forgotten_layers()?;
        let mut found = BTreeMap::new();
        for revision in revisions.iter().filter(|_| !forgotten.is_empty()) {
            let layers = ledger.catalogue.arrangement_of(revision.number)?;
            let gone = layers.into_iter().map(|(layer, _)| layer).find(|layer| forgotten.contains(layer));
            found.extend(gone.map(|layer| (revision.number, layer)));
        }
        Ok(Self { revisions: found })
    }

    /// Refuses such a revision.
    pub(super) fn refuse(&self, ledger: &Ledger, revision: i64) -> Result<(), HistoryError> {
        let Some(layer) = self.revisions.get(&revision) else { return Ok(()) };
        let layer = title_of(ledger, *layer)?;
        let oldest = self.revisions.last_key_value().map_or(1, |(last, _)| last + 1);
        let history = history_of(&ledger.catalogue.revisions()?);
        let is_there = history.origin(oldest) == history.position();
        Err(HistoryError::Tidied { revision, layer, oldest, is_there })
    }
}

/// Name and version of a layer.
pub(super) fn title_of(ledger: &Ledger, layer: LayerId) -> Result<String, LedgerError> {
    let about = ledger.catalogue.about(layer)?;
    Ok(about.map(|(name, version, ..)| in_full(&name, version.as_deref())).unwrap_or_default())
}

/// A revision that there is; the change that gave its state.
pub(super) fn origin_of(ledger: &Ledger, revision: i64) -> Result<i64, HistoryError> {
    let history = history_of(&ledger.catalogue.revisions()?);
    match history.has(revision) {
        true => Ok(history.origin(revision)),
        false => Err(HistoryError::NoRevision { revision, last: ledger.catalogue.last_revision()? }),
    }
}

/// Each layer after a revision from the bottom to the top, with what was known of it then.
pub(super) fn layers_after(ledger: &Ledger, revision: i64) -> Result<Vec<(LayerId, PastLayer)>, LedgerError> {
    layers_of(ledger, ledger.catalogue.arrangement_of(revision)?, &changed_since(ledger, revision)?.0)
}

/// Each layer with what is known of it, or was `before` that changed.
pub(super) fn layers_of(
    ledger: &Ledger,
    arrangement: Vec<(LayerId, bool)>,
    before: &RevisionBefore,
) -> Result<Vec<(LayerId, PastLayer)>, LedgerError> {
    let mut layers = Vec::new();
    for (layer, laid) in arrangement {
        let known = before.about.iter().find(|about| about.layer == layer);
        let (name, version) = match known {
            Some(about) => (about.name.clone(), about.version.clone()),
            None => {
                ledger.catalogue.about(layer)?.map(|(name, version, ..)| (name, version)).unwrap_or_default()
            }
        };
        layers.push((layer, PastLayer { name, version, laid }));
    }
    Ok(layers)
}

/// The stack as it was after a revision.
///
/// # Errors
/// [`HistoryError`].
pub fn stack_at(ledger: &Ledger, revision: i64) -> Result<PastStack, HistoryError> {
    let origin = origin_of(ledger, revision)?;
    let revisions = ledger.catalogue.revisions()?;
    let made_at = revisions.into_iter().find(|it| it.number == revision).map(|it| it.made_at);
    let layers = layers_after(ledger, origin)?.into_iter().rev().map(|(_, layer)| layer).collect();
    Ok(PastStack { revision, made_at, layers })
}

/// How two stacks of the history differ.
///
/// # Errors
/// [`HistoryError`].
pub fn history_difference(ledger: &Ledger, from: i64, to: i64) -> Result<HistoryDifference, HistoryError> {
    let (one, two) = (origin_of(ledger, from)?, origin_of(ledger, to)?);
    let (before, after) = (layers_after(ledger, one)?, layers_after(ledger, two)?);
    let layers = difference_of(&before, &after);
    let (one, two) = (changed_since(ledger, one)?.0, changed_since(ledger, two)?.0);
    let now = ledger.catalogue.settlements()?;
    let (one, two) = (settled_then(&now, one), settled_then(&now, two));
    let paths: HashSet<_> = one.keys().chain(two.keys()).collect();
    let settled_files = paths.into_iter().filter(|path| one.get(path) != two.get(path)).count() as u64;
    let one = StackThen { layers: &before, settled: one };
    let two = StackThen { layers: &after, settled: two };
    let files = differing_files(ledger, &one, &two)?;
    Ok(HistoryDifference { from, to, layers, settled_files, files })
}

/// What was settled before later revisions changed it.
fn settled_then(now: &HashMap<PathId, Settlement>, before: RevisionBefore) -> HashMap<PathId, Settlement> {
    let mut settled = now.clone();
    for (path, was) in before.settled {
        match was {
            Some(was) => drop(settled.insert(path, was)),
            None => drop(settled.remove(&path)),
        }
    }
    settled
}

/// How the one order of layers differs from the other.
pub(super) fn difference_of(
    before: &[(LayerId, PastLayer)],
    after: &[(LayerId, PastLayer)],
) -> LayersDifference {
    let named = |layers: &[(LayerId, PastLayer)], name: &str| {
        layers.iter().find(|(_, layer)| layer.name == name).cloned()
    };
    let mut difference = LayersDifference::default();
    for (id, layer) in after {
        match named(before, &layer.name) {
            None => difference.came.push(layer.name.clone()),
            Some((old_id, old)) => {
                if old_id != *id {
                    let (name, from, to) = (layer.name.clone(), old.version, layer.version.clone());
                    difference.replaced.push(ReplacedLayer { name, from, to });
                }
                match (old.laid, layer.laid) {
                    (false, true) => difference.laid.push(layer.name.clone()),
                    (true, false) => difference.lifted.push(layer.name.clone()),
                    _ => {}
                }
            }
        }
    }
    let went = before.iter().filter(|(_, layer)| named(after, &layer.name).is_none());
    difference.went = went.map(|(_, layer)| layer.name.clone()).collect();
    difference.moved = moved(before, after);
    difference
}

/// Layers of both that lie above others in the one and below them in the other: the fewest that tell it.
fn moved(before: &[(LayerId, PastLayer)], after: &[(LayerId, PastLayer)]) -> Vec<String> {
    let names = |layers: &[(LayerId, PastLayer)], others: &[(LayerId, PastLayer)]| -> Vec<String> {
        let in_both = layers.iter().filter(|(_, layer)| others.iter().any(|(_, it)| it.name == layer.name));
        in_both.map(|(_, layer)| layer.name.clone()).collect()
    };
    let (one, two) = (names(before, after), names(after, before));
    crate::stack::moved_among(&one, &two)
}

/// Gives the present state a name, or takes a name away; says whether the name stood for another state before.
///
/// # Errors
/// [`HistoryError`].
pub fn name_state(ledger: &Ledger, _permit: &Permit, name: &str, drop: bool) -> Result<bool, HistoryError> {
    let name = name.trim();
    if name.is_empty() || name.starts_with(|letter: char| letter.is_ascii_digit()) {
        return Err(HistoryError::BadName { name: name.to_owned() });
    }
    let position = history_of(&ledger.catalogue.revisions()?).position();
    let was = ledger.catalogue.write_state_name(name, (!drop).then_some(position))?;
    if drop && !was {
        let there_are = ledger.catalogue.state_names()?.into_iter().map(|(name, _)| name).collect();
        return Err(HistoryError::NoSuchName { name: name.to_owned(), there_are });
    }
    Ok(was)
}
