//! What is known of a layer and can be said of it afterwards: its name and version, what it needs, what starts it, how one
//! sees that it works, and what the game must make anew for it.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::Permit;
use super::add::error::AddError;
use super::add::remembered::remembered_rules;
use super::add::request::{AddPlace, free_name};
use super::add::start_wishes::missing_starts;
use super::needs::{unmet_under, write_needs};
use crate::change::{AboutBefore, ChangeError, ChangeOptions, ChangeRequest, Prepared, prepare};
use crate::fit::{FitError, FitSheet, Rules, SheetNeeds, Wishes};
use crate::ledger::{Layer, Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::stack::{LayerFacts, LayerId, Needs, Unmet};

/// Kinds of facts that can be forgotten.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FactKind {
    /// The game versions and layers that it needs or is incompatible with.
    Needs,
    /// The layers that it must lie above or below.
    Order,
    /// The programs that start the game with it.
    Starts,
    /// How one sees that it works.
    Proofs,
    /// What the game must make anew.
    Clears,
}

/// What is to be said of a layer; what is empty stays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FactsRequest {
    /// Another name.
    pub name: Option<String>,
    /// Another version.
    pub version: Option<String>,
    /// Another make.
    pub variant: Option<String>,
    /// What is forgotten first.
    pub forget: Vec<FactKind>,
    /// What it needs besides; a range of game versions takes the place of the one there was.
    pub needs: Needs,
    /// Programs, proofs and what is cleared, besides; a start of the same name takes the place of the one there was.
    pub wishes: Wishes,
}

/// A layer as it is to be known from then on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct FactsReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The layer's name.
    pub layer: String,
    /// What is said of it now, a line each.
    pub facts: Vec<String>,
    /// Programs that are to start the game and are not there now, in words.
    pub missing: Vec<String>,
    /// Needs of laid layers that are not met.
    pub unmet: Vec<Unmet>,
}

/// What was said, about to be written.
#[derive(Debug)]
pub struct Saying<'l> {
    /// The layer as it will be.
    pub report: FactsReport,
    /// The change.
    pub change: Prepared<'l>,
}

/// Prepares to say it of the layer.
///
/// # Errors
/// [`AddError`]; nothing was changed.
pub fn prepare_facts<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    layer: &Layer,
    request: &FactsRequest,
    now: Moment,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Saying<'l>, AddError> {
    check_facts(ledger, &request.wishes)?;
    request.needs.check().map_err(|reason| AddError::BadNeed { reason })?;
    let place = AddPlace::Exchange(layer.id);
    let name = request.name.clone().map(|name| free_name(&ledger.layers()?, &[], name, place)).transpose()?;
    let name = name.unwrap_or_else(|| layer.about.name.clone());
    let mut rules = remembered_rules(ledger, layer)?;
    let facts = ledger.catalogue.facts()?.into_iter().find(|facts| facts.id == layer.id);
    let mut needs = facts.map(|facts: LayerFacts| facts.needs).unwrap_or_default();
    for kind in &request.forget {
        forget(*kind, &mut rules, &mut needs);
    }
    say(request, &mut rules, &mut needs);
    let version = request.version.clone().or_else(|| layer.about.version.clone());
    let variant = request.variant.clone().or_else(|| layer.about.variant.clone());
    let fit = serde_json::to_string(&rules).map_err(|error| ledger.catalogue.damaged_by(&error))?;
    let arrangement = ledger.catalogue.arrangement()?;
    let transaction = Transaction::begin(ledger)?;
    let before = AboutBefore::of(ledger, layer.id)?;
    ledger.catalogue.write_about(layer.id, &name, version.as_deref(), variant.as_deref(), &fit)?;
    write_needs(ledger, layer.id, &needs)?;
    let unmet = unmet_under(ledger, &ledger.catalogue.facts()?, &arrangement)?;
    let facts = lines(&name, version.as_deref(), variant.as_deref(), &rules, &needs);
    let missing = missing_starts(ledger, &ledger.present_order()?, &rules.starts(), &[])?;
    let report = FactsReport { dry_run, layer: name.clone(), facts, missing, unmet };
    // Who wins is told by what layers need, too.
    let touched = ledger.catalogue.columns_of(&[layer.id], &[])?;
    let mut change = ChangeRequest::new(&format!("set {name}"), now, arrangement);
    change.stack.also_touched = touched.iter().map(|column| column.path).collect();
    change.noted.is_dry_run = dry_run;
    change.noted.about = before.into_iter().collect();
    let change = prepare(transaction, permit.lock, change, ChangeOptions::default(), observer);
    Ok(Saying { report, change: change.map_err(|error: ChangeError| AddError::Change(error))? })
}

/// Holds programs, proofs and patterns to what a sheet may say, and addresses to the game.
///
/// # Errors
/// [`AddError::BadFact`].
pub fn check_facts(ledger: &Ledger, wishes: &Wishes) -> Result<(), AddError> {
    let bad = |reason: String| AddError::BadFact { reason };
    let sheet = FitSheet {
        start: wishes.starts.clone(),
        proof: wishes.proofs.clone(),
        clears: wishes.clears.clone(),
        needs: SheetNeeds::default(),
        ..FitSheet::default()
    };
    let text = toml::to_string(&sheet).map_err(|error| bad(error.to_string()))?;
    FitSheet::parse(&text).map_err(|error| match error {
        FitError::BadSheet { reason, .. } => bad(reason),
        other => bad(other.to_string()),
    })?;
    let book = ledger.game().address_book();
    let starts = wishes.starts.iter().map(|start| start.program.as_str());
    let proofs = wishes.proofs.iter().filter_map(|proof| proof.address());
    for address in starts.chain(proofs) {
        book.resolve(address).map_err(|error| bad(error.to_string()))?;
    }
    Ok(())
}

fn forget(kind: FactKind, rules: &mut Rules, needs: &mut Needs) {
    let (said, told, asked) = (&mut rules.said, &mut rules.wishes, &mut rules.asked);
    match kind {
        FactKind::Needs => {
            for needs in [needs, asked, &mut told.needs] {
                (needs.game, needs.layers, needs.clashes) = Default::default();
            }
        }
        FactKind::Order => {
            for needs in [needs, asked, &mut told.needs] {
                (needs.above, needs.below) = Default::default();
            }
        }
        FactKind::Starts => {
            said.starts.clear();
            told.starts.clear();
            rules.drop_taken(|starts, _| starts.clear());
        }
        FactKind::Proofs => {
            said.proofs.clear();
            told.proofs.clear();
            rules.drop_taken(|_, proofs| proofs.clear());
        }
        FactKind::Clears => {
            said.clears.clear();
            told.clears.clear();
        }
    }
}

fn say(request: &FactsRequest, rules: &mut Rules, needs: &mut Needs) {
    fn add<T: Clone + PartialEq>(list: &mut Vec<T>, more: &[T]) {
        let new: Vec<T> = more.iter().filter(|item| !list.contains(item)).cloned().collect();
        list.extend(new);
    }
    let Needs { game, layers, clashes, above, below, .. } = &request.needs;
    for needs in [needs, &mut rules.asked] {
        needs.game = game.clone().or(needs.game.take());
        add(&mut needs.layers, layers);
        add(&mut needs.clashes, clashes);
        add(&mut needs.above, above);
        add(&mut needs.below, below);
    }
    let said = &mut rules.said;
    let is_named_anew = |name: &Option<String>| request.wishes.starts.iter().any(|start| start.name == *name);
    said.starts.retain(|start| !is_named_anew(&start.name));
    add(&mut said.starts, &request.wishes.starts);
    add(&mut said.proofs, &request.wishes.proofs);
    add(&mut said.clears, &request.wishes.clears);
}

fn lines(
    name: &str,
    version: Option<&str>,
    variant: Option<&str>,
    rules: &Rules,
    needs: &Needs,
) -> Vec<String> {
    let mut lines = vec![format!("name: {name}")];
    lines.extend(version.map(|version| format!("version: {version}")));
    lines.extend(variant.map(|variant| format!("make: {variant}")));
    lines.extend(needs.game.iter().map(|range| format!("needs game {range}")));
    lines.extend(needs.layers.iter().map(|layer| format!("needs {layer}")));
    lines.extend(needs.clashes.iter().map(|layer| format!("is incompatible with {layer}")));
    lines.extend(needs.above.iter().map(|layer| format!("must lie above {layer}")));
    lines.extend(needs.below.iter().map(|layer| format!("must lie below {layer}")));
    lines.extend(rules.starts().iter().map(|start| {
        let words = [std::slice::from_ref(&start.program), &start.arguments].concat().join(" ");
        let with = start.environment.iter().map(|(name, value)| format!(" {name}={value}"));
        format!("starts {words}{}", with.collect::<String>())
    }));
    lines.extend(rules.proofs().iter().map(|proof| {
        let address = proof.address().unwrap_or_default();
        match (&proof.says, &proof.contains, &proof.is) {
            (Some(says), ..) => format!("works when {says}"),
            (_, Some(contains), _) => format!("works when {address} contains \"{contains}\""),
            (_, _, Some(range)) => format!("works when {address} is {range}"),
            _ => format!("works when {address} is there"),
        }
    }));
    lines.extend(rules.clears().iter().map(|pattern| format!("clears {pattern}")));
    lines
}

/// Whether the layer is that of the user's own edits, of which nothing can be said.
///
/// # Errors
/// [`LedgerError`].
pub fn is_own_edits(ledger: &Ledger, layer: LayerId) -> Result<bool, LedgerError> {
    Ok(ledger.catalogue.all_own_edits()?.contains(&layer))
}
