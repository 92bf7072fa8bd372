//! Making a layer of a package.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::PathBuf;

use super::Permit;
use super::add_error::AddError;
use super::add_report::{AddReport, ReplacedRow, report, set_words};
use super::contents::{Contents, Taken};
use super::needs::judge;
use super::new_layer::{Exchanged, KeysOf, Making, write_base_hashes, write_layer};
use super::order::with_own_on_top;
use super::placing::{Placer, Wanted, told_of};
use super::placing_again::Before;
use super::select::plain;
use super::show::remembered_rules;
use super::tree::LedgerTree;
use crate::address::{Address, AddressError};
use crate::blend::{KeyEdit, Prefer};
use crate::compare_versions;
use crate::disk::{
    ChangeError, ChangeOptions, ChangeRequest, Exchange, Prepared, discard_new_contents, prepare,
};
use crate::fit::{Fit, FitError, Rules};
use crate::hash::ContentHash;
use crate::ledger::{Layer, Ledger, LedgerError, drop_unneeded};
use crate::observer::Observer;
use crate::package::{Inner, Limits, NameEncoding, OpenOptions, Package};
use crate::stack::{Arrangement, LayerFacts, LayerId, Standing, Target, place_by_rules};

/// A package and how it is to become a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddRequest {
    /// A folder or an archive.
    pub package: PathBuf,
    /// The layer's name; read off the fit sheet or the file name when not given.
    pub name: Option<String>,
    /// Its version; read off the fit sheet or the file name when not given.
    pub version: Option<String>,
    /// Which one of several makes it is; read as the version is.
    pub variant: Option<String>,
    /// What is said of where its files go.
    pub wanted: Wanted,
    /// Where in the stack, and whether on the game.
    pub place: AddPlace,
    /// How big the package may be.
    pub limits: Limits,
    /// Whose word counts where a person and a new version changed the same in a file; none to be asked.
    pub prefer: Option<Prefer>,
    /// It holds only the changed files of a version; which one it goes onto, if the user says so.
    pub patch: Option<Patch>,
}

/// How a package of only changed files goes onto a layer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Patch {
    /// The version that it goes onto, as the user says.
    pub onto: Option<String>,
    /// Although the layer is another version.
    pub despite: bool,
}

/// Where a new layer goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddPlace {
    /// Beside the others.
    New {
        /// Where in the stack; if nobody says, as high as rules of order let it.
        target: Option<Target>,
        /// Kept off the game.
        lifted: bool,
    },
    /// In the place of this layer, which goes; laid or lifted as that was.
    Exchange(LayerId),
}

/// A layer about to be made, and the change that makes it.
#[derive(Debug)]
pub struct Adding<'l> {
    /// The layer.
    pub report: AddReport,
    /// The change.
    pub change: Prepared<'l>,
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
    now: &str,
    options: ChangeOptions,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Adding<'l>, AddError> {
    let open = open_options(&request.wanted.rules, &request.limits);
    let contents = Contents::new(ledger, !dry_run);
    let read =
        read(ledger, contents, request, &open, observer).inspect_err(|_| discard_new_contents(ledger))?;
    let Read { package, placed, rules, mut report, taken, before, exchanged, base_hashes, keys } = read;
    ledger.catalogue.begin()?;
    let making = Making {
        package: &package,
        placed: &placed,
        rules: &rules,
        taken: &taken,
        exchanged: exchanged.as_ref(),
        keys: &keys,
        times: &HashMap::new(),
        now,
    };
    let written =
        write_base_hashes(ledger, &base_hashes).and_then(|()| write_layer(ledger, &making, &mut report));
    let give_up = |error: ChangeError| {
        ledger.catalogue.roll_back();
        discard_new_contents(ledger);
        AddError::Change(error)
    };
    let layer = written.map_err(|error| give_up(error.into()))?;
    let facts = ledger.catalogue.facts().map_err(|error| give_up(error.into()))?;
    let (after, removed, verb) = match request.place {
        AddPlace::New { target, lifted } => {
            let target = target.unwrap_or_else(|| place_by_rules(&facts, &before, layer));
            (before.with(Standing { layer, laid: !lifted }, target), Vec::new(), "add")
        }
        AddPlace::Exchange(old) => {
            let laid = before.standings().iter().any(|standing| standing.layer == old && standing.laid);
            let both = before.with(Standing { layer, laid }, Target::Above(old));
            (both.without(&[old]), vec![old], "upgrade")
        }
    };
    let own = ledger.catalogue.own_edits().map_err(|error| give_up(error.into()))?;
    let after = with_own_on_top(after, own);
    judge(ledger, &before, &after, options.despite).map_err(give_up)?;
    report.lies_below = lies_below(&after, &facts, layer, own);
    let asks = |id: LayerId| {
        facts.iter().find(|layer| layer.id == id).map(|layer| (&layer.needs.above, &layer.needs.below))
    };
    let change = ChangeRequest {
        removed,
        new_blobs: taken.new.iter().map(|(hash, _)| *hash).collect(),
        exchange: match request.place {
            AddPlace::New { .. } => None,
            AddPlace::Exchange(old) => Some(Exchange {
                old,
                new: layer,
                prefer: request.prefer,
                asks_otherwise: asks(old) != asks(layer),
            }),
        },
        unstored: taken.small,
        is_dry_run: dry_run,
        ..ChangeRequest::new(&format!("{verb} {}", report.name), now, after)
    };
    Ok(Adding { change: prepare(ledger, permit.lock, change, options, observer)?, report })
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

/// How a package is opened that is placed by `rules`.
pub(super) fn open_options(rules: &Rules, limits: &Limits) -> OpenOptions {
    let inner = Inner::named_in(rules.places.iter().map(|place| place.from.as_str()));
    OpenOptions { limits: *limits, inner, names: rules.names.as_deref().and_then(NameEncoding::parse) }
}

/// A package that was read, and how it would become a layer.
struct Read {
    package: Package,
    placed: Fit,
    /// What is remembered of the fit.
    rules: Rules,
    report: AddReport,
    taken: Taken,
    before: Arrangement,
    exchanged: Option<Exchanged>,
    keys: Vec<KeysOf>,
    /// Hashes of base files that were read.
    base_hashes: BTreeMap<Address, ContentHash>,
}

fn read(
    ledger: &Ledger,
    contents: Contents<'_>,
    request: &AddRequest,
    open: &OpenOptions,
    observer: &dyn Observer,
) -> Result<Read, AddError> {
    request.wanted.rules.asked.check().map_err(|reason| AddError::BadNeed { reason })?;
    if let Some(name) = &request.name {
        // A packed tar is taken in while it is opened, so what can be refused before is.
        free_name(&ledger.layers()?, name.clone(), request.place)?;
    }
    let package = contents.open(&request.package, open, observer)?;
    let old = match request.place {
        AddPlace::Exchange(old) => Some(layer_of(ledger, old)?),
        AddPlace::New { .. } => None,
    };
    let remembered = old.as_ref().map(|old| remembered_rules(ledger, old)).transpose()?;
    let skip_links =
        request.wanted.rules.skip_links || remembered.as_ref().is_some_and(|rules| rules.skip_links);
    if !skip_links && !package.links_out().is_empty() {
        let (package, links) = (request.package.display().to_string(), package.links_out().to_vec());
        return Err(AddError::LinksOut { package, links });
    }
    let before = ledger.catalogue.arrangement()?;
    let told = told_of(&package, observer)?;
    if let Some(old) = &old {
        check_patch(
            request.patch.as_ref(),
            old,
            told.sheet.as_ref().and_then(|sheet| sheet.patches.as_deref()),
        )?;
    }
    let is_patch = request.patch.is_some();
    let replaced = match (&old, remembered.clone()) {
        (Some(old), Some(rules)) => Some(Before { rules, is_patch, layer: old.id }),
        _ => None,
    };
    let tree = LedgerTree::new(ledger, before.order());
    let placer =
        Placer { ledger, tree, package: &package, told: &told, observer, base_hashes: RefCell::default() };
    let placed = match placer.place(&request.wanted, replaced.as_ref(), &contents) {
        Err(AddError::Fit { source: FitError::OnlyPacked { .. }, .. }) => {
            // Looked into only now, to say what there is to choose.
            let open = OpenOptions { inner: Inner { unasked: true, ..Inner::default() }, ..open.clone() };
            let opened = Package::open(&request.package, &open, observer)?;
            let tree = LedgerTree::new(ledger, before.order());
            let inside = Placer {
                package: &opened,
                tree,
                told: &told,
                ledger,
                observer,
                base_hashes: RefCell::default(),
            };
            inside.place(&request.wanted, replaced.as_ref(), &contents)?
        }
        other => other?,
    };
    let name = request.name.clone().or_else(|| old.as_ref().map(|old| old.about.name.clone()));
    let name = free_name(&ledger.layers()?, name.unwrap_or_else(|| told.parts.name.clone()), request.place)?;
    let members = package.members();
    let wanted: BTreeSet<usize> =
        placed.placements.iter().map(|placement| members[placement.member].content).collect();
    contents.read(&package, &wanted, observer)?;
    let placed = placer.without_copies(placed, &contents)?;
    let (keys, not_set) = key_lists(ledger, &placed, &contents)?;
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let mut report = report(&package, &placed, name, version, variant);
    report.replaces = old.as_ref().map(|old| ReplacedRow::of(old, report.version.as_deref()));
    let gone = taken_away(ledger, &placed)?;
    report.noted.extend(not_set);
    report.sets = set_words(&placed.rules.wishes);
    report.takes_away = gone.iter().map(ToString::to_string).collect();
    let exchanged = old.as_ref().map(|old| Exchanged { old: old.id, patch: is_patch.then_some(gone) });
    // What a package of only changed files says is nothing for whole ones.
    let rules = remembered.filter(|_| is_patch).unwrap_or_else(|| placed.rules.clone());
    let base_hashes = placer.base_hashes.into_inner();
    let mut taken = contents.finish();
    // A package that is unpacked while it is listed brings more than is placed, and so do copies.
    let needed: BTreeSet<_> = placed
        .placements
        .iter()
        .filter_map(|placement| taken.hashes.get(&members[placement.member].content))
        .copied()
        .chain(keys.iter().map(|keys| keys.hash))
        .collect();
    let (new, unneeded): (Vec<_>, Vec<_>) =
        taken.new.into_iter().partition(|(hash, _)| needed.contains(hash));
    taken.new = new;
    drop_unneeded(ledger.folder(), &*ledger.seam, unneeded.into_iter().map(|(hash, _)| hash))?;
    Ok(Read { package, placed, rules, report, taken, before, exchanged, base_hashes, keys })
}

/// The keys that the fit sheet sets, file by file; and those that can't be, since the package brings the file
/// itself.
fn key_lists(
    ledger: &Ledger,
    placed: &Fit,
    contents: &Contents<'_>,
) -> Result<(Vec<KeysOf>, Vec<String>), AddError> {
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
        let edit = KeyEdit { key: set.key.clone(), value: Some(set.value.clone()) };
        match lists.iter_mut().find(|(other, _)| is_like(other, &address)) {
            Some((_, list)) => list.push(edit),
            None => lists.push((address, vec![edit])),
        }
    }
    let mut keys = Vec::new();
    for (address, list) in lists {
        let bytes = serde_json::to_vec(&list).map_err(|error| ledger.catalogue.damaged_by(&error))?;
        let size_bytes = bytes.len() as u64;
        keys.push(KeysOf { address, hash: contents.put(bytes)?, size_bytes });
    }
    Ok((keys, not_set))
}

fn bad_sheet(error: AddressError) -> AddError {
    AddError::Fit { package: "the fit sheet".to_owned(), source: FitError::Address(error) }
}

/// The addresses that the fit sheet takes away.
fn taken_away(ledger: &Ledger, placed: &Fit) -> Result<Vec<Address>, AddError> {
    let book = ledger.game().address_book();
    let addresses = placed.rules.wishes.takes_away.iter().map(|text| book.resolve(text));
    addresses.collect::<Result<Vec<_>, _>>().map_err(bad_sheet)
}

/// Makes sure that a package of only changed files goes onto the version that it is for.
fn check_patch(patch: Option<&Patch>, old: &Layer, of_sheet: Option<&str>) -> Result<(), AddError> {
    let (name, present) = (old.about.name.clone(), old.about.version.clone());
    let Some(patch) = patch else {
        return match of_sheet {
            Some(wanted) => Err(AddError::IsPatch { name, wanted: wanted.to_owned() }),
            None => Ok(()),
        };
    };
    let wanted = patch.onto.as_deref().or(of_sheet);
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

fn layer_of(ledger: &Ledger, id: LayerId) -> Result<Layer, LedgerError> {
    let layer = ledger.layers()?.into_iter().find(|layer| layer.id == id);
    layer.ok_or_else(|| ledger.catalogue.damaged_by(&"a layer of it is gone"))
}

/// The layer's name, when no other layer has it.
pub(super) fn free_name(layers: &[Layer], name: String, place: AddPlace) -> Result<String, AddError> {
    let name = name.trim().to_owned();
    if plain(&name).is_empty() || name.chars().any(char::is_control) {
        return Err(AddError::BadName { name });
    }
    let is_other = |layer: &&Layer| !matches!(place, AddPlace::Exchange(old) if old == layer.id);
    let taken: Vec<&Layer> = layers.iter().filter(is_other).collect();
    let find = |name: &str| taken.iter().find(|layer| plain(&layer.about.name) == plain(name));
    let Some(other) = find(&name) else { return Ok(name) };
    let mut free = (2u64..).map(|number| format!("{} {number}", other.about.name));
    Err(AddError::NameTaken {
        name: other.about.name.clone(),
        version: other.about.version.clone(),
        free: free.find(|free| find(free).is_none()).unwrap_or_default(),
    })
}
