//! Making layers of packages.

use std::collections::HashMap;

use rustc_hash::FxHashSet;

use super::arrival::{Arrival, Opening};
use super::contents::Contents;
use super::error::AddError;
use super::new_layer::{Making, Written, write_base_hashes, write_layer};
use super::remembered::remembered_rules;
use super::report::AddReport;
use super::report::InItsPlace;
use super::request::{AddPlace, AddRequest, free_name};
use super::take_in::{Coming, TakenIn, take_in};
use crate::blend::Prefer;
use crate::change::{ChangeOptions, ChangeRequest, Exchange, Prepared, prepare};
use crate::fit::{FitError, Rules};
use crate::hash::ContentHash;
use crate::jobs::Permit;
use crate::jobs::needs::{judge, unmet_under, write_needs};
use crate::jobs::order::with_own_on_top;
use crate::jobs::select::plain;
use crate::ledger::{Layer, Ledger, LedgerError, NewContent, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::package::PackageKind;
use crate::stack::{Arrangement, LayerFacts, LayerId, Needs, Standing, Target, place_by_rules};
use crate::version::parts_of_file_name;

/// Layers about to be made, and the one change that makes them.
#[derive(Debug)]
pub struct Adding<'l> {
    /// The layers, in order of the packages.
    pub reports: Vec<AddReport>,
    /// The change.
    pub change: Prepared<'l>,
}

/// Packages that are to become layers in one change. They are opened and read once, however often a person is asked
/// meanwhile; the permission is kept as long. Dropping it leaves nothing of them.
#[must_use = "nothing is added until a change is prepared and applied"]
pub struct Arriving<'l> {
    ledger: &'l Ledger,
    /// There until it is handed to the change; what was stored goes again with it.
    transaction: Option<Transaction<'l>>,
    // Dropped before the permission: what goes again with these goes while nobody else may change the game.
    contents: Contents<'l>,
    opened: Vec<Option<(Arrival, Contents<'l>)>>,
    /// There until it is handed to the change.
    permit: Option<Permit>,
    at: usize,
    dry_run: bool,
}

impl std::fmt::Debug for Arriving<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("Arriving").field("at", &self.at).finish_non_exhaustive()
    }
}

/// A layer that is written down and not in the stack yet.
struct WrittenLayer {
    layer: LayerId,
    name: String,
    exchanges: Option<LayerId>,
    /// The layer whose place it takes is lifted.
    of_lifted: bool,
    prefer: Option<Prefer>,
}

/// Reads the package into the ledger and prepares the change that puts it into the stack. With
/// `dry_run` its contents are hashed and not stored; the result must then be dropped.
///
/// # Errors
/// [`AddError`]; nothing was changed, and what was stored is removed again.
pub fn prepare_add<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    request: &AddRequest,
    now: Moment,
    options: ChangeOptions,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Adding<'l>, AddError> {
    let requests = std::slice::from_ref(request);
    Arriving::new(ledger, permit, dry_run).prepare(requests, now, options, observer)
}

impl<'l> Arriving<'l> {
    /// With `dry_run` contents are hashed and not stored; what is prepared must then be dropped.
    pub fn new(ledger: &'l Ledger, permit: Permit, dry_run: bool) -> Self {
        let contents = Contents::taking_all(ledger, !dry_run);
        let transaction = Some(Transaction::of_contents(ledger));
        Self { ledger, transaction, permit: Some(permit), contents, opened: Vec::new(), at: 0, dry_run }
    }

    /// The place of the package that was looked at last, among those asked for: an error is about that one.
    pub fn at(&self) -> usize {
        self.at
    }

    /// Reads the packages into the ledger and prepares the one change that puts all of them into the stack, the first
    /// one lowest. Can be done again with other requests for the same packages when it fails.
    ///
    /// # Errors
    /// [`AddError`]; nothing was changed.
    pub fn prepare(
        &mut self,
        requests: &[AddRequest],
        now: Moment,
        options: ChangeOptions,
        observer: &dyn Observer,
    ) -> Result<Adding<'l>, AddError> {
        let made = self.make(requests, now, options, observer);
        let transaction = self.transaction.as_ref();
        let (reports, change) =
            made.inspect_err(|_| transaction.into_iter().for_each(Transaction::roll_back))?;
        let (Some(permit), Some(transaction)) = (self.permit.take(), self.transaction.take()) else {
            return Err(self.ledger.catalogue.damaged_by(&"the permission was used before").into());
        };
        // Nothing is asked of the packages any more, and what is known of them can be as much as the change.
        self.opened.clear();
        self.contents = Contents::taking_all(self.ledger, false);
        let change = prepare(transaction, permit.lock, change, options, observer)?;
        Ok(Adding { reports, change })
    }

    fn make(
        &mut self,
        requests: &[AddRequest],
        now: Moment,
        options: ChangeOptions,
        observer: &dyn Observer,
    ) -> Result<(Vec<AddReport>, ChangeRequest), AddError> {
        let ledger = self.ledger;
        let catalogue = &ledger.catalogue;
        let before = catalogue.arrangement()?;
        let mut after = before.clone();
        let (mut reports, mut new): (Vec<AddReport>, Vec<WrittenLayer>) = (Vec::new(), Vec::new());
        let mut needed: FxHashSet<ContentHash> = FxHashSet::default();
        for (at, request) in requests.iter().enumerate() {
            self.at = at;
            let beside: Vec<String> = new.iter().map(|new| new.name.clone()).collect();
            let exchanged: Vec<LayerId> = new.iter().filter_map(|new| new.exchanges).collect();
            let (mut taken, old) = self.read(request, &after, &beside, &exchanged, observer)?;
            if new.is_empty() {
                self.transaction.iter().try_for_each(Transaction::open)?;
            }
            needed.extend(taken.needed.drain());
            let Written { layer, files, bytes } = self.write_at(at, &taken, now)?;
            let TakenIn { draft, mut report, .. } = taken;
            (report.files, report.bytes) = (files, bytes);
            let below = new.last().map(|new| new.layer);
            after = placed_in(ledger, after, layer, request.place, old, below)?;
            let mut standings = before.standings().iter();
            let of_lifted = standings.any(|standing| Some(standing.layer) == old && !standing.laid);
            let (name, prefer) = (draft.name, request.prefer);
            new.push(WrittenLayer { layer, name, exchanges: old, of_lifted, prefer });
            reports.push(report);
        }
        let after = lay_what_waited(ledger, after, &new, &mut reports)?;
        let own = catalogue.own_edits()?;
        let after = with_own_on_top(after, own);
        judge(ledger, &before, &after, options.despite)?;
        let facts = catalogue.facts()?;
        for (report, new) in reports.iter_mut().zip(&new) {
            report.lies_below = lies_below(&after, &facts, new.layer, own);
        }
        let new_contents = self.keep_needed(&needed)?;
        let mut change = ChangeRequest::new(&command_of(&new), now, after);
        change.stack.removed = new.iter().filter_map(|new| new.exchanges).collect();
        change.noted.new_contents = new_contents;
        change.noted.second_copies = self.contents.take_second_copies();
        change.stack.exchanges = exchanges(&facts, &new);
        change.noted.unstored = self.contents.unstored();
        change.noted.is_dry_run = self.dry_run;
        Ok((reports, change))
    }

    /// Writes the layer of the package at that place into the catalogue.
    fn write_at(&mut self, at: usize, taken: &TakenIn, now: Moment) -> Result<Written, AddError> {
        let ledger = self.ledger;
        let (arrival, contents) = self.opened_at(at)?;
        let hashes = contents.hashes();
        let making = Making {
            draft: &taken.draft,
            package: &arrival.package,
            placed: &taken.placed,
            rules: &taken.rules,
            hashes: &hashes,
            exchanged: taken.exchanged.as_ref(),
            keys: &taken.keys,
            away: &taken.away,
            times: &HashMap::new(),
            now,
        };
        write_base_hashes(ledger, &taken.base_hashes)?;
        Ok(write_layer(ledger, &making)?)
    }

    /// Opens the package, unless it is open far enough, and reads it; gives the layer whose place it takes.
    fn read(
        &mut self,
        request: &AddRequest,
        after: &Arrangement,
        beside: &[String],
        exchanged: &[LayerId],
        observer: &dyn Observer,
    ) -> Result<(TakenIn, Option<LayerId>), AddError> {
        let ledger = self.ledger;
        request.wanted.rules.asked.check().map_err(|reason| AddError::BadNeed { reason })?;
        if let Some(name) = &request.name {
            // A packed tar is taken in while it is opened, so what can be refused before is.
            free_name(&ledger.layers()?, beside, name.clone(), request.place)?;
        }
        let mut old = match request.place {
            AddPlace::Exchange(old) => Some(layer_of(ledger, old)?),
            AddPlace::New { .. } | AddPlace::NewVersion => None,
        };
        self.open(request, old.as_ref(), (false, &[]), observer)?;
        if matches!(request.place, AddPlace::NewVersion) {
            let (arrival, _) = self.opened_at(self.at)?;
            old = Some(named_like(ledger, request, arrival)?);
            self.open(request, old.as_ref(), (false, &[]), observer)?;
        }
        if let Some(old) = old.as_ref().filter(|old| exchanged.contains(&old.id)) {
            return Err(AddError::Twice { name: old.about.name.clone() });
        }
        let order = after.order();
        let coming = Coming { ledger, order: &order, beside, observer };
        let (arrival, contents) = self.opened_at(self.at)?;
        let taken = match take_in(coming, request, old.as_ref(), arrival, contents) {
            Err(AddError::Fit { source: FitError::OnlyPacked { .. } | FitError::Unclear(_), .. })
                if arrival.holds_unread_archives() =>
            {
                // Looked into only now, to say what there is to choose.
                self.open(request, old.as_ref(), (true, &[]), observer)?;
                let (arrival, contents) = self.opened_at(self.at)?;
                take_in(coming, request, old.as_ref(), arrival, contents)?
            }
            Err(AddError::NotLookedInto { archives }) => {
                self.open(request, old.as_ref(), (false, &archives), observer)?;
                let (arrival, contents) = self.opened_at(self.at)?;
                take_in(coming, request, old.as_ref(), arrival, contents)?
            }
            other => other?,
        };
        Ok((taken, old.map(|old| old.id)))
    }

    fn open(
        &mut self,
        request: &AddRequest,
        old: Option<&Layer>,
        (unasked, inside): (bool, &[String]),
        observer: &dyn Observer,
    ) -> Result<(), AddError> {
        let remembered: Option<Rules> = old.map(|old| remembered_rules(self.ledger, old)).transpose()?;
        let (wanted, limits) = (&request.wanted, &request.limits);
        let opening = Opening { wanted, remembered: remembered.as_ref(), limits, unasked, inside };
        self.opened.resize_with(self.opened.len().max(self.at + 1), || None);
        let slot = &mut self.opened[self.at];
        if slot.as_ref().is_some_and(|(arrival, _)| arrival.is_open_for(&opening)) {
            return Ok(());
        }
        let contents = self.contents.beside();
        let arrival = Arrival::open(&request.package, &opening, Some(&contents), observer)?;
        *slot = Some((arrival, contents));
        Ok(())
    }

    fn opened_at(&self, at: usize) -> Result<(&Arrival, &Contents<'l>), LedgerError> {
        let opened = self.opened.get(at).and_then(Option::as_ref);
        let opened = opened.ok_or_else(|| self.ledger.catalogue.damaged_by(&"a package was not opened"))?;
        Ok((&opened.0, &opened.1))
    }

    /// Lists what was stored and is needed, inside the catalogue's open transaction, and drops the rest: a package that
    /// is unpacked while it is listed brings more than is placed, and so do copies.
    fn keep_needed(&self, needed: &FxHashSet<ContentHash>) -> Result<Vec<NewContent>, LedgerError> {
        let new = self.contents.take_needed(|hash| needed.contains(&hash))?;
        self.ledger.catalogue.insert_contents(&new)?;
        Ok(new)
    }
}

/// Whether a patch day took the layer off, and nobody has decided otherwise since.
fn waits_since_patch_day(ledger: &Ledger, layer: LayerId) -> Result<bool, LedgerError> {
    Ok(match ledger.catalogue.lifted_by(layer)? {
        Some(command) => command.starts_with("patchday "),
        // It was never on the game; the one before it may have waited.
        None => ledger.catalogue.facts()?.iter().any(|facts| facts.id == layer && facts.needs.waits),
    })
}

/// Lays new versions of layers that waited since a patch day, as far as all they need is met when these are laid together;
/// the others stay off, and it is said why.
fn lay_what_waited(
    ledger: &Ledger,
    after: Arrangement,
    new: &[WrittenLayer],
    reports: &mut [AddReport],
) -> Result<Arrangement, LedgerError> {
    let mut waited = Vec::new();
    for (at, new) in new.iter().enumerate() {
        if let (Some(old), true) = (new.exchanges, new.of_lifted)
            && waits_since_patch_day(ledger, old)?
        {
            waited.push((at, new.layer));
        }
    }
    let facts = ledger.catalogue.facts()?;
    loop {
        let layers: Vec<LayerId> = waited.iter().map(|(_, layer)| *layer).collect();
        let laid = after.with_laid(&layers, true);
        let unmet = unmet_under(ledger, &facts, &laid)?;
        let before = waited.len();
        for (at, layer) in std::mem::take(&mut waited) {
            let report = &mut reports[at];
            match unmet.iter().find(|unmet| unmet.layer == new[at].name && !unmet.despite) {
                None => waited.push((at, layer)),
                Some(unmet) => {
                    note_waiting(ledger, layer)?;
                    report.noted.push(format!("stays off: it needs {}, and {}", unmet.what, unmet.found));
                    stands(report, InItsPlace::Waiting);
                }
            }
        }
        if waited.len() == before {
            waited.iter().for_each(|(at, _)| stands(&mut reports[*at], InItsPlace::LaidAgain));
            return Ok(laid);
        }
    }
}

fn stands(report: &mut AddReport, how: InItsPlace) {
    if let Some(replaced) = &mut report.replaces {
        replaced.standing = how;
    }
}

/// Notes that the layer waits as the one before it did.
fn note_waiting(ledger: &Ledger, layer: LayerId) -> Result<(), LedgerError> {
    let facts = ledger.catalogue.facts()?.into_iter().find(|facts| facts.id == layer);
    let needs = facts.map(|facts| facts.needs).unwrap_or_default();
    write_needs(ledger, layer, &Needs { waits: true, ..needs })
}

/// The order with the new layer in it. Of several with one wish each later one lies directly above the one before.
fn placed_in(
    ledger: &Ledger,
    after: Arrangement,
    layer: LayerId,
    place: AddPlace,
    old: Option<LayerId>,
    below: Option<LayerId>,
) -> Result<Arrangement, LedgerError> {
    if let Some(old) = old {
        let laid = after.standings().iter().any(|standing| standing.layer == old && standing.laid);
        return Ok(after.with(Standing { layer, laid }, Target::Above(old)).without(&[old]));
    }
    let (target, lifted) = match place {
        AddPlace::New { target, lifted } => (target, lifted),
        AddPlace::Exchange(_) | AddPlace::NewVersion => (None, false),
    };
    let target = match (target, below) {
        (Some(Target::Above(_)), Some(below)) => Target::Above(below),
        (Some(target), _) => target,
        (None, _) => place_by_rules(&ledger.catalogue.facts()?, &after, layer),
    };
    Ok(after.with(Standing { layer, laid: !lifted }, target))
}

fn exchanges(facts: &[LayerFacts], new: &[WrittenLayer]) -> Vec<Exchange> {
    let asks = |id: LayerId| {
        facts.iter().find(|layer| layer.id == id).map(|layer| (&layer.needs.above, &layer.needs.below))
    };
    let exchange = |new: &WrittenLayer| {
        let old = new.exchanges?;
        let asks_otherwise = asks(old) != asks(new.layer);
        Some(Exchange { old, new: new.layer, prefer: new.prefer, asks_otherwise })
    };
    new.iter().filter_map(exchange).collect()
}

fn command_of(new: &[WrittenLayer]) -> String {
    let is_upgrade = new.iter().all(|new| new.exchanges.is_some());
    let names: Vec<&str> = new.iter().map(|new| new.name.as_str()).collect();
    format!("{} {}", if is_upgrade { "upgrade" } else { "add" }, names.join(", "))
}

/// The layer that a package of this name is a new version of: one of the same name, or one that was made of a package
/// of the same name.
fn named_like(ledger: &Ledger, request: &AddRequest, arrival: &Arrival) -> Result<Layer, AddError> {
    let layers: Vec<Layer> =
        ledger.layers()?.into_iter().filter(|layer| !layer.about.source.is_empty()).collect();
    let name = plain(&arrival.told.parts.name);
    let is_named = |layer: &&Layer| plain(&layer.about.name) == name;
    let comes_of = |layer: &&Layer| {
        let is_archive = layer.about.source_kind != PackageKind::Folder.word();
        plain(&parts_of_file_name(layer.about.source.as_ref(), is_archive).name) == name
    };
    let mut alike = layers.iter().filter(comes_of);
    let alike = alike.next().filter(|_| alike.next().is_none());
    let found = layers.iter().find(is_named).or(alike).cloned();
    found.ok_or_else(|| AddError::NoSuchLayer {
        package: request.package.clone(),
        name: arrival.told.parts.name.clone(),
        layers: layers.into_iter().rev().map(|layer| layer.about.name).collect(),
    })
}

/// The layer directly above a new one, if one lies there that is not the user's own edits.
fn lies_below(
    after: &Arrangement,
    facts: &[LayerFacts],
    layer: LayerId,
    own: Option<LayerId>,
) -> Option<String> {
    let at = after.standings().iter().position(|standing| standing.layer == layer)?;
    let above = after.standings().get(at + 1).filter(|standing| Some(standing.layer) != own)?;
    facts.iter().find(|facts| facts.id == above.layer).map(|facts| facts.name.clone())
}

fn layer_of(ledger: &Ledger, id: LayerId) -> Result<Layer, LedgerError> {
    let layer = ledger.layers()?.into_iter().find(|layer| layer.id == id);
    layer.ok_or_else(|| ledger.catalogue.damaged_by(&"a layer of it is gone"))
}
