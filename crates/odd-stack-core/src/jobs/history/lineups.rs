//! Lineups: named arrangements of the stack to switch between, such as two seasons or two sizes of textures.
//!
//! A lineup holds which layers are laid, their order, what is settled and the user's own edits. It follows upgrades: of a layer
//! that has another version since, that is meant, unless something else was chosen for it. Layers that a lineup does not know stay
//! in the stack, lifted.

use std::collections::HashMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::differing::{FileDifference, StackThen, differing_files};
use super::going_back::{Arranged, Arranging, prepare_arrangement};
use super::past::{LayersDifference, PastLayer, difference_of, layers_of};
use crate::blend::Prefer;
use crate::change::{ChangeError, ChangeOptions, Prepared, RevisionBefore};
use crate::fit::Rules;
use crate::jobs::Permit;
use crate::jobs::order::with_own_on_top;
use crate::ledger::{Ledger, LedgerError, Lineup};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{Arrangement, LayerId, PathId, Settlement, Standing, Target, plain_name};

/// Why nothing was done with a lineup. Nothing was changed.
#[derive(Debug, thiserror::Error)]
pub enum LineupError {
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// There is none of that name.
    #[error("there is no lineup `{name}`")]
    NoSuchLineup {
        /// What was given.
        name: String,
        /// Those that there are.
        there_are: Vec<String>,
    },
    /// Another one has the name.
    #[error("there is a lineup `{name}` already")]
    NameTaken {
        /// The name.
        name: String,
    },
    /// A name must have something in it.
    #[error("give the lineup a name")]
    NoName,
    /// The stack is so already.
    #[error("the stack is as in the lineup `{name}` already")]
    IsSo {
        /// The lineup.
        name: String,
    },
}

impl From<LedgerError> for LineupError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

/// One lineup in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LineupRow {
    /// Its name.
    pub name: String,
    /// When it was saved last, RFC 3339.
    pub saved_at: String,
    /// Layers that it has laid.
    pub laid_layers: u64,
    /// Layers that it keeps off the game.
    pub lifted_layers: u64,
    /// The stack is so now.
    pub is_present: bool,
    /// The second folder that was built of it.
    pub built: Option<String>,
}

/// How a lineup differs from another, or from the stack as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LineupDifference {
    /// The one; none for the stack as it is.
    pub from: Option<String>,
    /// The other.
    pub to: String,
    /// How their layers differ.
    pub layers: LayersDifference,
    /// Addresses at which something else is settled.
    pub settled_files: u64,
    /// Addresses at which something else counts; none where a layer was tidied away, so that nobody can tell.
    pub files: Option<Vec<FileDifference>>,
}

/// Switching to a lineup, about to be done.
#[derive(Debug)]
pub struct Switching<'l> {
    /// The lineup that the stack was before, if it was one.
    pub was: Option<String>,
    /// Layers that come back into the stack, and such as leave it for another version of theirs.
    pub comes: Vec<String>,
    /// Likewise.
    pub goes: Vec<String>,
    /// How the stack differs then.
    pub difference: LayersDifference,
    /// The change.
    pub change: Prepared<'l>,
}

/// Saves the stack as it is under a name; says whether there was a lineup of that name before.
///
/// # Errors
/// [`LineupError`].
pub fn save_lineup(ledger: &Ledger, _permit: &Permit, name: &str, now: Moment) -> Result<bool, LineupError> {
    let name = name_of(name)?;
    let present = Lineup { name, saved_at: now.to_string(), ..present(ledger)? };
    Ok(ledger.catalogue.write_lineup(&present)?)
}

/// Forgets a lineup, and that a second folder was built of it; the layers, and what lies in that folder, stay as they are.
///
/// # Errors
/// [`LineupError`].
pub fn drop_lineup(ledger: &Ledger, _permit: &Permit, name: &str) -> Result<(), LineupError> {
    let lineup = named(ledger, name)?;
    ledger.catalogue.drop_lineup(&lineup.name)?;
    ledger.catalogue.forget_built(&lineup.name)?;
    Ok(())
}

/// Gives a lineup another name.
///
/// # Errors
/// [`LineupError`].
pub fn rename_lineup(ledger: &Ledger, _permit: &Permit, old: &str, new: &str) -> Result<(), LineupError> {
    let (lineup, name) = (named(ledger, old)?, name_of(new)?);
    let is_other = plain_name(&name) != plain_name(&lineup.name);
    if is_other && named(ledger, &name).is_ok() {
        return Err(LineupError::NameTaken { name });
    }
    ledger.catalogue.write_lineup(&Lineup { name: name.clone(), ..lineup.clone() })?;
    if !name.eq_ignore_ascii_case(&lineup.name) {
        ledger.catalogue.drop_lineup(&lineup.name)?;
    }
    ledger.catalogue.rename_built(&lineup.name, &name)?;
    Ok(())
}

/// All lineups, by name.
///
/// # Errors
/// [`LineupError`].
pub fn lineups(ledger: &Ledger) -> Result<Vec<LineupRow>, LineupError> {
    let present = present(ledger)?;
    let mut rows = Vec::new();
    let built = ledger.catalogue.built_folders()?;
    for lineup in ledger.catalogue.lineups()? {
        let folder = built.iter().find(|built| built.is_of(&lineup.name));
        let folder = folder.and_then(|built| built.roots.first()).and_then(|(_, folder)| folder.as_ref());
        let laid = lineup.arrangement.iter().filter(|(_, laid)| *laid).count() as u64;
        rows.push(LineupRow {
            laid_layers: laid,
            lifted_layers: lineup.arrangement.len() as u64 - laid,
            is_present: is_as(ledger, &lineup, &present)?,
            built: folder.map(|folder| folder.display().to_string()),
            name: lineup.name,
            saved_at: lineup.saved_at,
        });
    }
    Ok(rows)
}

/// How the lineup `to` differs from another one, or from the stack as it is.
///
/// # Errors
/// [`LineupError`].
pub fn compare_lineups(
    ledger: &Ledger,
    from: Option<&str>,
    to: &str,
) -> Result<LineupDifference, LineupError> {
    let wanted = |name| -> Result<Wanted, LineupError> { Ok(resolved(ledger, &named(ledger, name)?)?) };
    let two = wanted(to)?;
    let one = match from {
        Some(from) => wanted(from)?,
        None => Wanted::of(present(ledger)?),
    };
    let (before, after) = (one.layers(ledger)?, two.layers(ledger)?);
    let settled_files = differing(&one.settled, &two.settled).len() as u64;
    let one = StackThen { layers: &before, settled: one.settled };
    let two = StackThen { layers: &after, settled: two.settled };
    Ok(LineupDifference {
        from: from.map(str::to_owned),
        to: to.to_owned(),
        layers: difference_of(&before, &after),
        settled_files,
        files: differing_files(ledger, &one, &two)?,
    })
}

/// Prepares to switch to a lineup; `prefer` says whose word counts where a person and a version that comes back changed the same.
///
/// # Errors
/// [`LineupError`]; nothing was changed.
pub fn prepare_switch<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    (name, prefer): (&str, Option<Prefer>),
    now: Moment,
    options: ChangeOptions,
    observer: &dyn Observer,
) -> Result<Switching<'l>, LineupError> {
    let lineup = named(ledger, name)?;
    let present = present(ledger)?;
    if is_as(ledger, &lineup, &present)? {
        return Err(LineupError::IsSo { name: lineup.name });
    }
    let mut was = None;
    for other in ledger.catalogue.lineups()? {
        if is_as(ledger, &other, &present)? {
            was = Some(other.name);
        }
    }
    let wanted = resolved(ledger, &lineup)?;
    let now_there = Wanted::of(present);
    let difference = difference_of(&now_there.layers(ledger)?, &wanted.layers(ledger)?);
    let settled = differing(&now_there.settled, &wanted.settled);
    let before = RevisionBefore { settled, ..RevisionBefore::default() };
    let command = format!("lineup switch {}", lineup.name);
    let arranging = Arranging { after: wanted.after, was: before, restores: None, prefer, command: &command };
    let Arranged { comes, goes, change } =
        prepare_arrangement(ledger, permit, arranging, now, options, observer)?;
    Ok(Switching { was, comes, goes, difference, change })
}

/// The arrangement that a lineup means now.
pub(in crate::jobs) struct Wanted {
    pub after: Arrangement,
    pub settled: HashMap<PathId, Settlement>,
}

impl Wanted {
    fn of(lineup: Lineup) -> Self {
        let standings = lineup.arrangement.into_iter().map(|(layer, laid)| Standing { layer, laid });
        Self { after: Arrangement::new(standings.collect()), settled: lineup.settled.into_iter().collect() }
    }

    fn layers(&self, ledger: &Ledger) -> Result<Vec<(LayerId, PastLayer)>, LedgerError> {
        let standings = self.after.standings().iter().map(|standing| (standing.layer, standing.laid));
        layers_of(ledger, standings.collect(), &RevisionBefore::default())
    }
}

/// A lineup by its name: how it is spelled, and the arrangement that it means now.
pub(in crate::jobs) fn wanted(ledger: &Ledger, name: &str) -> Result<(String, Wanted), LineupError> {
    let lineup = named(ledger, name)?;
    Ok((lineup.name.clone(), resolved(ledger, &lineup)?))
}

fn name_of(name: &str) -> Result<String, LineupError> {
    match name.trim() {
        "" => Err(LineupError::NoName),
        name => Ok(name.to_owned()),
    }
}

fn named(ledger: &Ledger, name: &str) -> Result<Lineup, LineupError> {
    let all = ledger.catalogue.lineups()?;
    let found = all.iter().find(|lineup| plain_name(&lineup.name) == plain_name(name));
    found.cloned().ok_or_else(|| LineupError::NoSuchLineup {
        name: name.to_owned(),
        there_are: all.iter().map(|lineup| lineup.name.clone()).collect(),
    })
}

/// The stack as it is.
fn present(ledger: &Ledger) -> Result<Lineup, LedgerError> {
    let arrangement = ledger.catalogue.arrangement()?;
    let standings = arrangement.standings().iter().map(|standing| (standing.layer, standing.laid));
    let mut settled: Vec<_> = ledger.catalogue.settlements()?.into_iter().collect();
    settled.sort_by_key(|(path, _)| *path);
    Ok(Lineup { name: String::new(), arrangement: standings.collect(), settled, saved_at: String::new() })
}

/// Whether to switch to the lineup would change nothing.
fn is_as(ledger: &Ledger, lineup: &Lineup, present: &Lineup) -> Result<bool, LedgerError> {
    let wanted = resolved(ledger, lineup)?;
    let now = Wanted::of(present.clone());
    Ok(wanted.after == now.after && wanted.settled == now.settled)
}

fn resolved(ledger: &Ledger, lineup: &Lineup) -> Result<Wanted, LedgerError> {
    let catalogue = &ledger.catalogue;
    let present = catalogue.arrangement()?;
    let (own_now, owns) = (catalogue.own_edits()?, catalogue.all_own_edits()?);
    let mut names: HashMap<String, LayerId> = HashMap::new();
    for standing in present.standings() {
        if let Some((name, ..)) = catalogue.about(standing.layer)? {
            names.insert(plain_name(&name), standing.layer);
        }
    }
    let is_there = |layer: LayerId| present.standings().iter().any(|standing| standing.layer == layer);
    let mut followed: HashMap<LayerId, LayerId> = HashMap::new();
    let mut standings = Vec::new();
    for (saved, laid) in &lineup.arrangement {
        let mut layer = *saved;
        if !is_there(layer)
            && !owns.contains(&layer)
            && let Some((name, ..)) = catalogue.about(layer)?
        {
            let other = names.get(&plain_name(&name)).copied();
            if let Some(other) = other
                && choices_of(ledger, other)? == choices_of(ledger, layer)?
            {
                followed.insert(layer, other);
                layer = other;
            }
        }
        standings.push(Standing { layer, laid: *laid });
    }
    let mut after = Arrangement::new(standings);
    // What it does not know stays, lifted, above what it lies above now. Own edits are the lineup's.
    let comes_for: Vec<String> = names_of_coming(ledger, &after, &present)?;
    let mut below = None;
    for standing in present.standings() {
        let layer = standing.layer;
        if after.standings().iter().all(|known| known.layer != layer) {
            let about = catalogue.about(layer)?;
            let is_replaced = about.is_some_and(|(name, ..)| comes_for.contains(&plain_name(&name)));
            if Some(layer) == own_now || is_replaced {
                continue;
            }
            let target = below.map_or(Target::Bottom, Target::Above);
            after = after.with(Standing { layer, laid: false }, target);
        }
        below = Some(layer);
    }
    let own = after.standings().iter().map(|standing| standing.layer).find(|layer| owns.contains(layer));
    let after = with_own_on_top(after, own);
    let mut settled: HashMap<PathId, Settlement> = lineup.settled.iter().cloned().collect();
    for (old, new) in followed {
        settled.values_mut().for_each(|settlement| settlement.hand_on(old, new));
    }
    Ok(Wanted { after, settled })
}

/// Names of layers that come back into the stack.
fn names_of_coming(
    ledger: &Ledger,
    after: &Arrangement,
    present: &Arrangement,
) -> Result<Vec<String>, LedgerError> {
    let mut names = Vec::new();
    for standing in after.standings() {
        let is_there = present.standings().iter().any(|known| known.layer == standing.layer);
        if !is_there && let Some((name, ..)) = ledger.catalogue.about(standing.layer)? {
            names.push(plain_name(&name));
        }
    }
    Ok(names)
}

/// Which of several variants a layer is, and what was chosen of its package.
fn choices_of(ledger: &Ledger, layer: LayerId) -> Result<(Option<String>, String), LedgerError> {
    let Some((_, _, variant, fit, _)) = ledger.catalogue.about(layer)? else { return Ok(Default::default()) };
    let rules: Rules = serde_json::from_str(&fit).map_err(|error| ledger.catalogue.damaged_by(&error))?;
    Ok((variant, format!("{:?}", rules.chosen)))
}

/// Addresses at which the two differ in what is settled, with what `to` has.
fn differing(
    from: &HashMap<PathId, Settlement>,
    to: &HashMap<PathId, Settlement>,
) -> Vec<(PathId, Option<Settlement>)> {
    let paths: std::collections::BTreeSet<PathId> = from.keys().chain(to.keys()).copied().collect();
    let differ = paths.into_iter().filter(|path| from.get(path) != to.get(path));
    differ.map(|path| (path, to.get(&path).cloned())).collect()
}
