//! Needs judged before a change.

use super::file_needs::unmet_files;
use crate::change::{ChangeError, Presence, UnmetNeed};
use crate::expected::{game_version_now, game_version_under};
use crate::fit::Rules;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{
    Arrangement, LayerFacts, LayerId, Needs, Unmet, UnmetKind, cycle, plain_name, unmet, would_meet,
};
use crate::version_range::VersionRange;

/// What a layer placed by `rules` asks for: what its sheet says and what a person says.
pub(super) fn needs_of(rules: &Rules) -> Needs {
    Needs { waits: false, ..rules.wishes.needs.clone().with_over(rules.asked.clone()) }
}

/// Notes what a layer asks for.
pub(super) fn write_needs(ledger: &Ledger, layer: LayerId, needs: &Needs) -> Result<(), LedgerError> {
    let text = serde_json::to_string(needs).map_err(|error| ledger.catalogue.damaged_by(&error))?;
    ledger.catalogue.set_needs(layer, (!needs.is_empty()).then_some(&text))
}

/// The laid layers' needs that are not met under `arrangement`.
pub(super) fn unmet_under(
    ledger: &Ledger,
    facts: &[LayerFacts],
    arrangement: &Arrangement,
) -> Result<Vec<Unmet>, LedgerError> {
    if facts.iter().all(|layer| layer.needs.is_empty()) {
        return Ok(Vec::new());
    }
    let laid: Vec<&LayerFacts> = arrangement
        .laid()
        .into_iter()
        .filter_map(|layer| facts.iter().find(|facts| facts.id == layer))
        .collect();
    // Who asks for no version needs no look at it.
    let version = match laid.iter().any(|layer| layer.needs.game.is_some()) {
        true => game_version_under(ledger, arrangement)?,
        false => None,
    };
    let mut unmet = unmet(version.as_deref(), &laid);
    unmet.extend(unmet_files(ledger, facts, arrangement)?);
    Ok(unmet)
}

/// A need of the game's version of which it is doubtful whether it is met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DoubtfulNeed {
    /// The layer's name.
    pub layer: String,
    /// The versions that it needs, as it is written.
    pub needs: String,
    /// The game's version.
    pub version: String,
    /// Whether it is met, as it is written.
    pub is_met: bool,
    /// The number in it that may be meant for a later part of the version.
    pub number: String,
}

/// Needs of laid layers of the game's version of which it is doubtful whether they are met.
///
/// # Errors
/// [`LedgerError`].
pub fn doubtful_needs(ledger: &Ledger) -> Result<Vec<DoubtfulNeed>, LedgerError> {
    let laid = ledger.catalogue.arrangement()?.laid();
    let mut facts = ledger.catalogue.facts()?;
    facts.retain(|layer| laid.contains(&layer.id) && layer.needs.game.is_some());
    if facts.is_empty() {
        return Ok(Vec::new());
    }
    let Some(version) = game_version_now(ledger)?.version else { return Ok(Vec::new()) };
    let doubt = |layer: &LayerFacts| {
        let needs = layer.needs.game.clone()?;
        let range = VersionRange::parse(&needs).ok()?;
        let number = range.doubt(&version)?.to_string();
        let is_met = range.contains(&version);
        Some(DoubtfulNeed { layer: layer.name.clone(), needs, version: version.clone(), is_met, number })
    };
    Ok(facts.iter().filter_map(doubt).collect())
}

/// Stops a change that leaves a need unmet which was met before, unless the user wants it so `despite` that; this
/// is noted then. Runs inside the change's transaction.
pub(super) fn judge(
    ledger: &Ledger,
    before: &Arrangement,
    after: &Arrangement,
    despite: bool,
) -> Result<(), ChangeError> {
    let facts = ledger.catalogue.facts()?;
    if let Some(layers) = cycle(&facts) {
        let is_new = |name: &String| {
            facts
                .iter()
                .any(|layer| layer.name == *name && !before.standings().iter().any(|s| s.layer == layer.id))
        };
        if layers.iter().any(is_new) && !despite {
            return Err(ChangeError::Circle { layers });
        }
    }
    let was = unmet_under(ledger, &facts, before)?;
    let mut new = unmet_under(ledger, &facts, after)?;
    let is_known = |unmet: &Unmet| {
        unmet.despite || was.iter().any(|other| (&other.layer, &other.what) == (&unmet.layer, &unmet.what))
    };
    new.retain(|unmet| !is_known(unmet));
    if new.is_empty() {
        return Ok(());
    }
    if !despite {
        let unmet = new.into_iter().map(|unmet| with_presence(unmet, &facts, before, after)).collect();
        return Err(ChangeError::Unmet { unmet });
    }
    let laid = after.laid();
    for layer in facts.iter().filter(|layer| laid.contains(&layer.id)) {
        let wanted = new.iter().filter(|unmet| unmet.layer == layer.name).map(|unmet| unmet.what.clone());
        let wanted: Vec<String> = wanted.collect();
        if !wanted.is_empty() {
            let mut needs = layer.needs.clone();
            needs.despite.extend(wanted);
            write_needs(ledger, layer.id, &needs)?;
        }
    }
    Ok(())
}

/// The need with where its layers are before the change.
fn with_presence(unmet: Unmet, facts: &[LayerFacts], before: &Arrangement, after: &Arrangement) -> UnmetNeed {
    let named = |name: &str| {
        let name = plain_name(name);
        facts.iter().filter(move |layer| plain_name(&layer.name) == name).map(|layer| layer.id)
    };
    let presence = |name: &str| {
        let standings = before.standings().iter();
        let mut of_name = standings.filter(|standing| named(name).any(|layer| layer == standing.layer));
        match of_name.next().map(|standing| standing.laid) {
            Some(true) => Presence::Laid,
            Some(false) => Presence::Lifted,
            None => Presence::Absent,
        }
    };
    let comes = |name: &str| {
        let is_in = |order: &Arrangement, layer: LayerId| {
            order.standings().iter().any(|standing| standing.layer == layer)
        };
        named(name).any(|layer| is_in(after, layer) && !is_in(before, layer))
    };
    let other = unmet.other.clone().unwrap_or_default();
    let unmet = of_lifted_version(unmet, facts, after);
    UnmetNeed {
        needer: presence(&unmet.layer),
        needer_comes: comes(&unmet.layer),
        other: presence(&other),
        other_comes: comes(&other),
        unmet,
    }
}

/// Of a layer that is missing and lies lifted in a version that would not do, it is the version that is not met: laying
/// it would not help.
fn of_lifted_version(unmet: Unmet, facts: &[LayerFacts], after: &Arrangement) -> Unmet {
    let name = plain_name(unmet.other.as_deref().unwrap_or_default());
    let is_there = |layer: &&LayerFacts| {
        plain_name(&layer.name) == name && after.standings().iter().any(|standing| standing.layer == layer.id)
    };
    let mut lifted = facts.iter().filter(is_there);
    if unmet.kind != UnmetKind::LayerMissing || lifted.clone().any(|layer| would_meet(&unmet.what, layer)) {
        return unmet;
    }
    let Some(LayerFacts { name, version: Some(version), .. }) = lifted.next() else { return unmet };
    let found = format!("{name} is {version}, and lifted");
    Unmet { kind: UnmetKind::LayerVersion, found, ..unmet }
}

/// What a layer asks for, in a few words each.
pub(super) fn needs_words(needs: &Needs) -> Vec<String> {
    let game = needs.game.iter().map(|range| format!("needs the game {range}"));
    let layers = needs.layers.iter().map(|layer| format!("needs {layer}"));
    let clashes = needs.clashes.iter().map(|layer| format!("clashes with {layer}"));
    let above = needs.above.iter().map(|layer| format!("goes above {layer}"));
    let below = needs.below.iter().map(|layer| format!("goes below {layer}"));
    let made_over = needs.made_over.iter().map(|layer| format!("made over {layer}"));
    let clean = needs.clean.iter().map(|file| format!("needs {file} unchanged by others"));
    let made_from = needs.made_from.iter().filter_map(|text| text.split_once('='));
    let made_from = made_from.map(|(file, hash)| {
        format!("made from {file} with hash {}", hash.chars().take(8).collect::<String>())
    });
    let of_files = clean.chain(made_from);
    game.chain(layers).chain(clashes).chain(above).chain(below).chain(made_over).chain(of_files).collect()
}
