//! Making a layer of files that lie in the game already, put there by hand before it was added.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::adopt_elsewhere::RenamedRow;
use super::adopt_inside::{AdoptedInside, OtherwiseChangedRow};
use super::adopt_looking::{FoundInGame, look_in_game};
use super::adopt_originals::{Originals, base_before, originals_unknown};
use super::adopt_placing::place_as_it_lies;
use super::arrival::{Arrival, Opening};
use super::content_at::key_of;
use super::contents::Contents;
use super::game_links::GameLinks;
use super::new_layer::{LayerDraft, Making, Written, numbered, write_layer};
use super::placing::folders_holding;
use super::placing_request::PlacingRequest;
use super::report::{AddReport, ContainerRow, report};
use super::request::free_name;
use super::why_not::{NotAdoptedRow, WhyNot};
use crate::address::{FoldedKey, RelPath};
use crate::change::{ChangeOptions, ChangeRequest, Edits, ForeignFile, Prepared, prepare};
use crate::fit::{Fit, Placement};
use crate::jobs::own::mend::Accepted;
use crate::jobs::stored::originals::{FoundOriginal, OriginalRow};
use crate::jobs::{AddError, AddPlace, Permit};
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::Observer;
use crate::package::Limits;
use crate::stack::LayerId;
use crate::stack::{BaseKind, PathId, RootId, Standing, Target};

/// A package whose files may lie in the game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdoptRequest {
    /// A folder or an archive.
    pub package: PathBuf,
    /// The layer's name; read off the fit sheet or the file name when not given.
    pub name: Option<String>,
    /// Its version; read likewise.
    pub version: Option<String>,
    /// Which of several variants it is; read likewise.
    pub variant: Option<String>,
    /// What is said of where its files go.
    pub wanted: PlacingRequest,
    /// How big the package may be.
    pub limits: Limits,
    /// What becomes of the game's own files that lie aside under other names; none to be asked.
    pub originals: Option<Originals>,
}

/// What adopting finds, or has made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct AdoptReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The layer, of those files that lie in the game.
    pub layer: AddReport,
    /// Addresses of the layer's files.
    pub adopted: Vec<String>,
    /// Those of them where the game may have had a file of its own, which nobody knows any more.
    pub originals_unknown: Vec<String>,
    /// The game's own files that lay aside under other names, and come back when the layer is lifted.
    pub originals_taken: Vec<OriginalRow>,
    /// Files of the package that were found under other names than theirs; they keep these, also in later versions.
    pub renamed: Vec<RenamedRow>,
    /// Files of settings of the layer that somebody has edited; the edits are to be kept as the user's own.
    pub edited: Vec<String>,
    /// Containers that are made anew, of the game's own ones and the layer's files.
    pub made_anew: Vec<String>,
    /// Containers that stay as they are, since more was changed in them than the layer's files.
    pub otherwise_changed: Vec<OtherwiseChangedRow>,
    /// Files of the package that are no part of it.
    pub not_there: Vec<NotAdoptedRow>,
    /// The revision that was made.
    pub revision: Option<i64>,
}

/// A layer about to be adopted; dropping it leaves nothing of it.
#[derive(Debug)]
#[must_use = "nothing is adopted until it is applied"]
pub struct Adopting<'l> {
    /// What was found.
    pub report: AdoptReport,
    /// The change.
    pub change: Prepared<'l>,
}

/// Looks which files of the package lie in the game, and prepares a layer of them at the bottom of the stack.
/// No file of the game is written; originals that lie aside in it go to the ledger. With `dry_run` contents are only
/// hashed.
///
/// # Errors
/// [`AddError`]; nothing was changed.
pub fn prepare_adopt<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    request: &AdoptRequest,
    now: Moment,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Adopting<'l>, AddError> {
    let contents = Contents::new(ledger, !dry_run);
    let transaction = Transaction::of_contents(ledger);
    let (report, change) = decide(&transaction, &contents, request, now, dry_run, observer)?;
    let options = ChangeOptions { edits: Edits::Keep, despite: true, ..ChangeOptions::default() };
    let change = prepare(transaction, permit.lock, change, options, observer)?;
    Ok(Adopting { report, change })
}

fn decide(
    transaction: &Transaction<'_>,
    contents: &Contents<'_>,
    request: &AdoptRequest,
    now: Moment,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<(AdoptReport, ChangeRequest), AddError> {
    let ledger = transaction.ledger();
    let place = AddPlace::New { target: Some(Target::Bottom), lifted: false };
    let arrival = arrived(request, contents, observer)?;
    let Arrival { package, told, .. } = &arrival;
    let mut placed = place_as_it_lies(ledger, &request.wanted, &arrival, contents, observer)?;
    let name = request.name.clone().unwrap_or_else(|| told.parts.name.clone());
    let name = free_name(&ledger.layers()?, &[], name, place)?;
    let mut found = look_in_game(ledger, package, contents, &mut placed, observer)?;
    let taken = found.take_originals(ledger, (package, contents), request.originals, observer)?;
    found.must_have_something(&request.package)?;
    placed.placements.clone_from(&found.alike);
    let holding = folders_holding(placed.placements.iter().map(|placement| &placement.to));
    placed.folders.retain(|folder| holding.contains(&(&folder.root, folder.path.as_str())));
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let links = GameLinks { out: package.links_out().to_vec(), ..GameLinks::default() };
    let draft = LayerDraft::new(package, &placed, &links, (name, version, variant));
    transaction.open()?;
    let order = ledger.present_order()?;
    let inside = AdoptedInside::of(ledger, &order, &mut placed, &taken, contents)?;
    let told = report_of(
        ledger,
        (dry_run, &inside),
        &placed,
        &found,
        &taken,
        report(&draft, package, &placed, &links),
    );
    let (hashes, mut new) = (contents.hashes(), contents.take_new()?);
    new.sort_unstable();
    let making = Making {
        draft: &draft,
        package,
        placed: &placed,
        rules: &placed.rules,
        hashes: &hashes,
        exchanged: None,
        keys: &inside.lists,
        away: &inside.away,
        times: &found.times,
        now,
    };
    let Written { layer, .. } = write_layer(ledger, &making)?;
    ledger.catalogue.insert_contents(&new)?;
    let mut change = change_of(ledger, layer, &format!("adopt {}", draft.name), now)?;
    change.noted.undo = Some(base_before(ledger, &found.covered, &taken)?);
    change.files.foreign = foreign_files_of(ledger, &found.at, &taken, &found.edited)?;
    change.files.foreign.extend(inside.foreign);
    change.files.accepted = folders_of_its_own(ledger, &placed, &found.at, &taken)?;
    let key = |own: &FoundOriginal| ledger.game().folding.key(own.lies_at.as_str());
    change.files.accepted.extend(taken.iter().map(|own| (own.root, key(own), None)));
    change.noted.new_contents = new;
    change.noted.unstored = contents.unstored();
    change.noted.is_dry_run = dry_run;
    Ok((told, change))
}

fn report_of(
    ledger: &Ledger,
    (dry_run, inside): (bool, &AdoptedInside),
    placed: &Fit,
    found: &FoundInGame,
    taken: &[FoundOriginal],
    layer: AddReport,
) -> AdoptReport {
    let row =
        |(placement, state): (&Placement, WhyNot)| NotAdoptedRow { address: placement.to.to_string(), state };
    AdoptReport {
        dry_run,
        adopted: placed.placements.iter().map(|placement| placement.to.to_string()).collect(),
        originals_unknown: originals_unknown(ledger, &found.covered, taken),
        originals_taken: taken.iter().map(|original| original.row.clone()).collect(),
        layer: AddReport { containers: inside.changes.iter().map(ContainerRow::of).collect(), ..layer },
        renamed: found.renamed.clone(),
        edited: found.edited_shown.clone(),
        made_anew: inside.made_anew.clone(),
        otherwise_changed: inside.otherwise_changed.clone(),
        not_there: found.not_there.iter().map(|((placement, ..), state)| row((placement, *state))).collect(),
        revision: None,
    }
}

fn arrived(
    request: &AdoptRequest,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Arrival, AddError> {
    let (wanted, limits) = (&request.wanted, &request.limits);
    let opening = Opening { wanted, remembered: None, limits, unasked: false, inside: &[] };
    Arrival::open(&request.package, &opening, Some(contents), observer)
}

/// The change that has the layer at the bottom.
fn change_of(
    ledger: &Ledger,
    layer: LayerId,
    command: &str,
    now: Moment,
) -> Result<ChangeRequest, LedgerError> {
    let before = ledger.catalogue.arrangement()?;
    let after = before.with(Standing { layer, laid: true }, Target::Bottom);
    Ok(ChangeRequest::new(command, now, after))
}

/// What lies there already, by the numbers of the addresses.
fn foreign_files_of(
    ledger: &Ledger,
    at: &[(RootId, FoldedKey, RelPath)],
    taken: &[FoundOriginal],
    edited: &HashSet<(RootId, FoldedKey)>,
) -> Result<HashMap<PathId, ForeignFile>, LedgerError> {
    let mut foreign = HashMap::new();
    for ((root, key, _), (path, spelled)) in at.iter().zip(numbered(ledger, at)?) {
        let original = taken.iter().find(|own| (own.root, &own.key) == (*root, key));
        let original = match original {
            Some(own) => Some(own.lies_at.on(&ledger.site().root(own.root)?.folder)),
            None => None,
        };
        let edited = edited.contains(&(*root, key.clone()));
        foreign.insert(path, ForeignFile::Captured { at: Some(spelled), original, edited });
    }
    Ok(foreign)
}

/// Folders of the base in which nothing lies but the layer's files: they came with these, and go with them. One that a
/// spot leads to is the game's.
fn folders_of_its_own(
    ledger: &Ledger,
    placed: &Fit,
    at: &[(RootId, FoldedKey, RelPath)],
    taken: &[FoundOriginal],
) -> Result<Accepted, LedgerError> {
    let game = ledger.game();
    let files = at.iter().map(|(root, key, _)| (*root, key.clone()));
    let aside = taken.iter().map(|own| (own.root, game.folding.key(own.lies_at.as_str())));
    let mut own: HashSet<(RootId, FoldedKey)> = files.chain(aside).collect();
    let mut folders = Vec::new();
    // Each stands after the one above it.
    for folder in placed.folders.iter().rev() {
        let (root, key) = key_of(ledger, folder)?;
        let base = ledger.catalogue.base_at(root, &key)?;
        let Some(base) = base.filter(|base| base.kind == BaseKind::Folder) else { continue };
        let is_spot = game
            .spots
            .values()
            .any(|spot| spot.root == folder.root && game.folding.key(spot.path.as_str()) == key);
        let path = base.spelled.on(&ledger.site().root(root)?.folder);
        let entries = std::fs::read_dir(&path).map_err(LedgerError::io("look into", &path))?;
        let names = entries.map(|entry| entry.map(|entry| entry.file_name().to_string_lossy().into_owned()));
        let names: Vec<String> =
            names.collect::<std::io::Result<_>>().map_err(LedgerError::io("look into", &path))?;
        let is_own =
            |name: &String| own.contains(&(root, game.folding.key(&format!("{}/{name}", key.as_str()))));
        if !is_spot && names.iter().all(is_own) {
            own.insert((root, key.clone()));
            folders.push((root, key, None));
        }
    }
    Ok(folders)
}
