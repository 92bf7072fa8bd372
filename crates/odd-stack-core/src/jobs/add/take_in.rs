//! Reading one package into all that a layer is made of.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::arrival::Arrival;
use super::as_members::{by_members, only_differing, whole_containers};
use super::content_at::ContentAt;
use super::contents::Contents;
use super::error::AddError;
use super::game_links::GameLinks;
use super::into_containers::{ContainerChange, IntoContainers};
use super::new_layer::{Exchanged, LayerDraft};
use super::placing::Placer;
use super::placing_again::VersionBefore;
use super::remembered::remembered_rules;
use super::report::{AddReport, ContainerRow, ReplacedRow, report, set_words};
use super::request::{AddPlace, AddRequest, free_name};
use super::second_copies::write_copies_again;
use super::start_wishes::{missing_starts, wish_rows};
use super::taken_away::Away;
use crate::address::{Address, AddressError};
use crate::blend::{KeyEdit, write_edits};
use crate::compare_versions;
use crate::expected::Containers;
use crate::fit::{Fit, FitError, Rules};
use crate::hash::ContentHash;
use crate::ledger::{Layer, Ledger};
use crate::observer::Observer;
use crate::package::Package;
use crate::stack::{EntryKind, Order};

/// What a layer is made of, read and not yet written down.
pub(in crate::jobs) struct TakenIn {
    pub draft: LayerDraft,
    pub placed: Fit,
    /// What is remembered of the fit.
    pub rules: Rules,
    /// What is told of it.
    pub report: AddReport,
    pub exchanged: Option<Exchanged>,
    pub keys: Vec<ContentAt>,
    pub away: Away,
    /// Hashes of base files that were read.
    pub base_hashes: BTreeMap<Address, ContentHash>,
    /// Contents of the ledger that it needs.
    pub needed: FxHashSet<ContentHash>,
}

/// A game to which packages come.
#[derive(Clone, Copy)]
pub(in crate::jobs) struct Coming<'a> {
    pub ledger: &'a Ledger,
    /// The laid layers, those of packages before this one in the same change included.
    pub order: &'a Order,
    /// Names of layers that come with the same change.
    pub beside: &'a [String],
    pub observer: &'a dyn Observer,
}

/// Places the package, takes its contents in, and tells what would become of it. `old` is the layer whose place it
/// takes.
///
/// # Errors
/// [`AddError`].
pub(in crate::jobs) fn take_in(
    coming: Coming<'_>,
    request: &AddRequest,
    old: Option<&Layer>,
    arrival: &Arrival,
    contents: &Contents<'_>,
) -> Result<TakenIn, AddError> {
    let Coming { ledger, order, beside, observer } = coming;
    let Arrival { package, told, .. } = arrival;
    let place = old.map_or(request.place, |old| AddPlace::Exchange(old.id));
    let remembered = old.map(|old| remembered_rules(ledger, old)).transpose()?;
    let skip_links =
        request.wanted.rules.skip_links || remembered.as_ref().is_some_and(|rules| rules.skip_links);
    if let Some(old) = old {
        let of_sheet = told.sheet.as_ref().and_then(|sheet| sheet.patches.as_deref());
        check_patch(request, old, of_sheet.or(told.parts.onto.as_deref()))?;
    }
    let is_patch = request.patch.is_some();
    let replaced = match (old, remembered.clone()) {
        (Some(old), Some(rules)) => Some(VersionBefore { rules, is_patch, layer: old.id }),
        _ => None,
    };
    let placer = Placer::new(ledger, order.clone(), arrival, contents, observer);
    let mut placed = placer.place(&request.wanted, replaced.as_ref())?;
    if placed.rules.takes_members() {
        placed = by_members(ledger, order, package, placed)?;
    }
    if let (Some(old), Some(before)) = (old, &replaced) {
        check_whole(&placer, request, old, before, &placed)?;
    }
    let links = GameLinks::follow(ledger, order, package, &placed)?;
    if !skip_links && !links.out.is_empty() {
        let package = request.package.display().to_string();
        return Err(AddError::LinksOut { package, links: links.out });
    }
    let name = request.name.clone().or_else(|| old.map(|old| old.about.name.clone()));
    let name = name.unwrap_or_else(|| told.parts.name.clone());
    let name = free_name(&ledger.layers()?, beside, name, place)?;
    let members = package.members();
    let wanted: BTreeSet<usize> =
        placed.placements.iter().map(|placement| members[placement.member].content).collect();
    write_copies_again((ledger, order), package, &placed, place, contents)?;
    contents.read(package, &wanted, observer)?;
    let placed = placer.without_copies(placed)?;
    let ReadInto { placed, away, keys, not_set, into } =
        read_into(coming, package, placed, &links, contents)?;
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let draft = LayerDraft::new(package, &placed, &links, (name, version, variant));
    let mut report = report(&draft, package, &placed, &links);
    report.replaces = old.map(|old| ReplacedRow::of(old, draft.version.as_deref()));
    report.takes_away = away.told(ledger);
    report.whole_containers = whole_containers(ledger, order, package, &placed, contents, observer)?;
    report.containers = into.iter().map(ContainerRow::of).collect();
    report.noted.extend(not_set);
    let missing = away.missing.iter();
    report.noted.extend(missing.map(|text| format!("takes away {text} (nothing there has such a name)")));
    report.noted.extend(missing_starts(ledger, order, &placed.rules.starts(), &placed.placements)?);
    report.sets = set_words(&placed.rules.wishes);
    (report.starts, report.clears) = wish_rows(ledger, &placed.rules, observer)?;
    let exchanged = old.map(|old| Exchanged { old: old.id, patch: is_patch.then(|| away.addresses(ledger)) });
    // What a package of only changed files says is nothing for whole ones.
    let rules = remembered.filter(|_| is_patch).unwrap_or_else(|| placed.rules.clone());
    let base_hashes = placer.into_base_hashes();
    let hashes =
        placed.placements.iter().filter_map(|placement| contents.hash_of(members[placement.member].content));
    let needed = hashes.chain(keys.iter().map(|keys| keys.hash)).collect();
    Ok(TakenIn { draft, placed, rules, report, exchanged, keys, away, base_hashes, needed })
}

/// What follows from a fit once its contents are read.
struct ReadInto {
    placed: Fit,
    away: Away,
    keys: Vec<ContentAt>,
    /// Keys that can't be set.
    not_set: Vec<String>,
    into: Vec<ContainerChange>,
}

/// Finds what the layer takes away, which keys it sets and what it does in containers.
fn read_into(
    Coming { ledger, order, .. }: Coming<'_>,
    package: &Package,
    mut placed: Fit,
    links: &GameLinks,
    contents: &Contents<'_>,
) -> Result<ReadInto, AddError> {
    let mut away = Away::of(ledger, order, &placed)?;
    if placed.rules.takes_members() {
        only_differing(ledger, order, package, (&mut placed, &mut away), contents)?;
    }
    let (mut keys, not_set) = key_lists(ledger, &placed, contents)?;
    keys.extend(links.take(contents)?);
    let containers = Containers::new(ledger);
    let into = IntoContainers::of(ledger, (order, &containers), (&placed, &keys), &mut away, contents)?;
    keys.extend(into.lists);
    Ok(ReadInto { placed, away, keys, not_set, into: into.changes })
}

/// The keys that the fit sheet sets, file by file; and those that can't be, since the package brings the file
/// itself.
fn key_lists(
    ledger: &Ledger,
    placed: &Fit,
    contents: &Contents<'_>,
) -> Result<(Vec<ContentAt>, Vec<String>), AddError> {
    let (game, book) = (ledger.game(), ledger.game().address_book());
    let mut lists: Vec<(Address, Vec<KeyEdit>)> = Vec::new();
    let mut not_set = Vec::new();
    let is_like = |one: &Address, two: &Address| {
        one.root == two.root && game.folding.key(one.path.as_str()) == game.folding.key(two.path.as_str())
    };
    for set in &placed.rules.wishes.sets {
        let address = book.resolve(&set.file).map_err(bad_sheet)?;
        if placed.placements.iter().any(|placement| is_like(&placement.to, &address)) {
            not_set
                .push(format!("sets {} in {}, a file of its own: its own value counts", set.key, set.file));
            continue;
        }
        let edit = KeyEdit::new(&set.key, Some(set.value.clone()));
        match lists.iter_mut().find(|(other, _)| is_like(other, &address)) {
            Some((_, list)) => list.push(edit),
            None => lists.push((address, vec![edit])),
        }
    }
    let mut keys = Vec::new();
    for (address, list) in lists {
        let bytes = write_edits(&list).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        keys.push(ContentAt { kind: EntryKind::Keys, address, hash: contents.put(bytes)?, size_bytes });
    }
    Ok((keys, not_set))
}

fn bad_sheet(error: AddressError) -> AddError {
    AddError::Fit { package: "the fit sheet".to_owned(), source: FitError::Address(error) }
}

/// Asks where most of the layer would go, and what comes is nearly all of it: that may be only what changed. What a
/// person narrowed by patterns is meant so.
fn check_whole(
    placer: &Placer<'_>,
    request: &AddRequest,
    old: &Layer,
    before: &VersionBefore,
    placed: &Fit,
) -> Result<(), AddError> {
    const FEWEST: usize = 3;
    let said = &request.wanted.rules;
    if request.whole || before.is_patch || !said.only.is_empty() || !said.skip.is_empty() {
        return Ok(());
    }
    let (files, of) = placer.files_again(before, placed);
    let gone = of - files;
    if gone < FEWEST || gone <= files || files == 0 || files * 2 < placed.placements.len() {
        return Ok(());
    }
    let (name, present) = (old.about.name.clone(), old.about.version.clone());
    Err(AddError::MayBePatch { name, present, files, of })
}

/// Makes sure that a package of only changed files goes onto the version that it is for.
fn check_patch(request: &AddRequest, old: &Layer, told: Option<&str>) -> Result<(), AddError> {
    let (name, present) = (old.about.name.clone(), old.about.version.clone());
    let Some(patch) = &request.patch else {
        return match told.filter(|_| !request.whole) {
            Some(wanted) => Err(AddError::IsPatch { name, wanted: wanted.to_owned() }),
            None => Ok(()),
        };
    };
    let wanted = patch.onto.as_deref().or(told);
    let fits = match (wanted, &present) {
        _ if patch.despite => true,
        (Some(wanted), Some(present)) => compare_versions(wanted, present).is_eq(),
        _ => false,
    };
    if fits {
        Ok(())
    } else {
        Err(AddError::PatchOfOther { name, wanted: wanted.map(str::to_owned), present })
    }
}
