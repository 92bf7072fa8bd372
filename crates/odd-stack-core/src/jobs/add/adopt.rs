//! Making a layer of files that lie in the game already, put there by hand before it was added.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::PathBuf;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::adopt_elsewhere::{RenamedRow, SoughtFile as Lookout, elsewhere};
use super::adopt_originals::{Originals, base_before, originals_unknown, taken_originals};
use super::arrival::{Arrival, Opening};
use super::content_at::key_of;
use super::contents::Contents;
use super::game_links::GameLinks;
use super::new_layer::{LayerDraft, Making, Written, numbered, write_layer};
use super::placing::{Placer, folders_holding};
use super::placing_request::PlacingRequest;
use super::report::{AddReport, report};
use super::request::free_name;
use super::taken_away::Away;
use crate::address::{Address, FoldedKey, RelPath};
use crate::blend::{Format, MOST_BLENDED_BYTES, edits_between};
use crate::change::{ChangeOptions, ChangeRequest, Edits, ForeignFile, Prepared, prepare};
use crate::files::{Seen, look_at, read_small};
use crate::fit::{Fit, FitError, Place, Placement, Rank, Rules};
use crate::hash::ContentHash;
use crate::jobs::own::mend::Accepted;
use crate::jobs::stored::originals::{Covered, FoundOriginal, OriginalRow, find_originals};
use crate::jobs::{AddError, AddPlace, Permit};
use crate::ledger::{Ledger, LedgerError, Transaction};
use crate::moment::Moment;
use crate::observer::{Observer, Work};
use crate::package::{Limits, Package};
use crate::stack::LayerId;
use crate::stack::{BaseFile, BaseKind, Order, PathId, RootId, Standing, Target};

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

/// Why a file of a package is not adopted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum WhyNot {
    /// Nothing lies there.
    Missing,
    /// Something else lies there.
    OtherContent,
    /// A layer has a file there.
    OfALayer,
}

/// A file of the package that is no part of the adopted layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct NotAdoptedRow {
    /// Where it would lie.
    pub address: String,
    /// Why.
    pub state: WhyNot,
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

/// What lies at a placement's address.
enum LiesThere {
    /// The package's very file, and what the base is known to have there.
    Alike {
        seen: Seen,
        base: Option<BaseFile>,
        spelled: RelPath,
    },
    Not(WhyNot),
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

/// Where a file of the package would go, its size, and its hash.
type Sized = (Placement, u64, Option<ContentHash>);

/// What of the package lies in the game.
#[derive(Default)]
struct FoundInGame {
    alike: Vec<Placement>,
    not_there: Vec<(Sized, WhyNot)>,
    /// Times on disk, in seconds since 1970.
    times: HashMap<Address, i64>,
    /// Where each file of the layer lies.
    at: Vec<(RootId, FoldedKey, RelPath)>,
    /// Those of them where the base has a file.
    covered: Vec<Covered>,
    /// Those of them of which somebody has edited the settings.
    edited: HashSet<(RootId, FoldedKey)>,
    edited_shown: Vec<String>,
    /// Those that lie under other names.
    renamed: Vec<RenamedRow>,
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
    let mut placed = place_as_it_lies(ledger, request, &arrival, contents, observer)?;
    let name = request.name.clone().unwrap_or_else(|| told.parts.name.clone());
    let name = free_name(&ledger.layers()?, &[], name, place)?;
    let found = look_in_game(ledger, package, contents, &mut placed, observer)?;
    if found.alike.is_empty() {
        return Err(AddError::NothingLies { package: request.package.display().to_string() });
    }
    let taken = taken_originals(request.originals, find_originals(ledger, &found.covered, observer)?)?;
    placed.placements.clone_from(&found.alike);
    let holding = folders_holding(placed.placements.iter().map(|placement| &placement.to));
    placed.folders.retain(|folder| holding.contains(&(&folder.root, folder.path.as_str())));
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let links = GameLinks { out: package.links_out().to_vec(), ..GameLinks::default() };
    let draft = LayerDraft::new(package, &placed, &links, (name, version, variant));
    let report = AdoptReport {
        dry_run,
        adopted: placed.placements.iter().map(|placement| placement.to.to_string()).collect(),
        originals_unknown: originals_unknown(ledger, &found.covered, &taken),
        originals_taken: taken.iter().map(|original| original.row.clone()).collect(),
        layer: report(&draft, package, &placed, &links),
        renamed: found.renamed.clone(),
        edited: found.edited_shown.clone(),
        not_there: found.not_there.iter().map(|((placement, ..), state)| row(placement, *state)).collect(),
        revision: None,
    };
    let (hashes, mut new) = (contents.hashes(), contents.take_new());
    new.sort_unstable();
    transaction.open()?;
    let making = Making {
        draft: &draft,
        package,
        placed: &placed,
        rules: &placed.rules,
        hashes: &hashes,
        exchanged: None,
        keys: &[],
        away: &Away::default(),
        times: &found.times,
        now,
    };
    let Written { layer, .. } = write_layer(ledger, &making)?;
    ledger.catalogue.insert_blobs(&new)?;
    let mut change = change_of(ledger, layer, &format!("adopt {}", draft.name), now)?;
    change.noted.undo = Some(base_before(ledger, &found.covered, &taken)?);
    change.files.foreign = foreign_files_of(ledger, &found.at, &taken, &found.edited)?;
    change.files.accepted = folders_of_its_own(ledger, &placed, &found.at, &taken)?;
    let key = |own: &FoundOriginal| ledger.game().folding.key(own.lies_at.as_str());
    change.files.accepted.extend(taken.iter().map(|own| (own.root, key(own), None)));
    change.noted.new_blobs = new.iter().map(|(hash, _)| *hash).collect();
    change.noted.unstored = contents.take_unstored();
    change.noted.is_dry_run = dry_run;
    Ok((report, change))
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

/// Places the package; where that is not clear, where its files lie says where they go.
fn place_as_it_lies(
    ledger: &Ledger,
    request: &AdoptRequest,
    arrival: &Arrival,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Fit, AddError> {
    let order = ledger.catalogue.arrangement()?.order();
    let placer = Placer::new(ledger, order.clone(), arrival, contents, observer);
    match placer.place(&request.wanted, None) {
        Err(error @ AddError::Fit { source: FitError::Unclear(_) | FitError::OnlyPacked { .. }, .. }) => {
            let places = places_by_content(ledger, &order, &arrival.package, contents, observer)?;
            if places.is_empty() {
                return Err(error);
            }
            let rules =
                request.wanted.rules.clone().with_over(Rules { places, tidy: true, ..Rules::default() });
            placer.place(&PlacingRequest { rules, sheet: request.wanted.sheet.clone() }, None)
        }
        placed => placed,
    }
}

/// Looks which of the placed files lie in the game, also edited, and under other names; takes the placements.
fn look_in_game(
    ledger: &Ledger,
    package: &Package,
    contents: &Contents<'_>,
    placed: &mut Fit,
    observer: &dyn Observer,
) -> Result<FoundInGame, AddError> {
    let order = ledger.catalogue.arrangement()?.order();
    let members = package.members();
    let wanted: BTreeSet<usize> =
        placed.placements.iter().map(|placement| members[placement.member].content).collect();
    contents.read(package, &wanted, observer)?;
    let sized = std::mem::take(&mut placed.placements).into_iter().map(|placement| {
        let member = &members[placement.member];
        (placement, member.size_bytes, contents.hash_of(member.content))
    });
    let mut found = look(ledger, &order, sized.collect(), observer)?;
    found.edited_shown = find_edited(ledger, package, contents, &mut found, observer)?;
    found.renamed = find_renamed(ledger, &order, package, &mut found, observer)?;
    for row in &found.renamed {
        // A later version of the file goes where this one lies.
        let place = Place { from: row.member.clone(), to: row.address.clone(), rank: Rank::Option };
        placed.rules.places.push(place);
    }
    Ok(found)
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

fn row(placement: &Placement, state: WhyNot) -> NotAdoptedRow {
    NotAdoptedRow { address: placement.to.to_string(), state }
}

/// Tells files of settings that lie there edited, and adds them to what was found.
fn find_edited(
    ledger: &Ledger,
    package: &Package,
    contents: &Contents<'_>,
    found: &mut FoundInGame,
    observer: &dyn Observer,
) -> Result<Vec<String>, AddError> {
    let order = ledger.present_order()?;
    let mut edited = Vec::new();
    let mut rest = Vec::new();
    for (sized, state) in std::mem::take(&mut found.not_there) {
        let (placement, size_bytes, _) = &sized;
        let (root, key) = key_of(ledger, &placement.to)?;
        let format = order.blend_rules().format_of(key.as_str());
        let base = ledger.catalogue.base_at(root, &key)?;
        let spelled = base.as_ref().map_or_else(|| placement.to.path.clone(), |base| base.spelled.clone());
        let path = spelled.on(&ledger.site().root(root)?.folder);
        let is_one = match format
            .filter(|_| state == WhyNot::OtherContent && *size_bytes <= MOST_BLENDED_BYTES)
        {
            Some(format) => {
                let member = &package.members()[placement.member];
                let own = contents.read_small(package, &[member], MOST_BLENDED_BYTES, observer)?;
                let own = own.into_iter().next().unwrap_or_default();
                let mine = read_small(&path, MOST_BLENDED_BYTES).map_err(LedgerError::io("read", &path))?;
                mine.is_some_and(|mine| is_edited(&own, &mine, format))
            }
            None => false,
        };
        if !is_one {
            rest.push((sized, state));
            continue;
        }
        // Never the time on disk: of two of one size a look must show that this is another.
        let modified = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        let modified = modified.map_or(0, |seen| seen.modified_ns.div_euclid(1_000_000_000) & !1);
        found.times.insert(placement.to.clone(), modified - 10);
        edited.push(placement.to.to_string());
        found.at.push((root, key.clone(), spelled));
        found.edited.insert((root, key));
        found.alike.push(sized.0);
    }
    found.not_there = rest;
    Ok(edited)
}

/// Whether `mine` are the same settings, some of them changed: both can be read, and most lines are the same.
fn is_edited(own: &[u8], mine: &[u8], format: Format) -> bool {
    let lines = |bytes: &[u8]| -> HashSet<String> {
        let text = String::from_utf8_lossy(bytes);
        text.lines().map(|line| line.trim().to_owned()).filter(|line| !line.is_empty()).collect()
    };
    let (of_own, of_mine) = (lines(own), lines(mine));
    let alike = of_own.intersection(&of_mine).count();
    alike * 2 >= of_own.len()
        && edits_between(format.of_content(own), own, mine).is_ok_and(|edits| !edits.is_empty())
}

/// Finds by content what does not lie under its own name, and adds it to what was found.
fn find_renamed(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    found: &mut FoundInGame,
    observer: &dyn Observer,
) -> Result<Vec<RenamedRow>, AddError> {
    let members = package.members();
    let (open, rest): (Vec<_>, Vec<_>) = std::mem::take(&mut found.not_there)
        .into_iter()
        .partition(|((_, _, hash), state)| hash.is_some() && *state != WhyNot::OfALayer);
    found.not_there = rest;
    let wanted: Vec<Lookout<'_>> = open
        .iter()
        .filter_map(|((placement, size_bytes, hash), _)| {
            let member = &members[placement.member].path;
            Some(Lookout { member, at: Some(&placement.to), size_bytes: *size_bytes, hash: (*hash)? })
        })
        .collect();
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let taken = found.at.iter().map(|(root, key, _)| (*root, key.clone())).collect();
    let places = elsewhere(ledger, order, &wanted, &taken, observer)?;
    let (mut renamed, mut again) = (Vec::new(), Vec::new());
    for (((placement, size_bytes, hash), state), place) in open.into_iter().zip(places) {
        match place {
            Some(to) => {
                let member = members[placement.member].path.to_string();
                renamed.push(RenamedRow { member, address: to.to_string() });
                again.push((Placement { to, ..placement }, size_bytes, hash));
            }
            None => found.not_there.push(((placement, size_bytes, hash), state)),
        }
    }
    let more = look(ledger, order, again, observer)?;
    found.alike.extend(more.alike);
    found.not_there.extend(more.not_there);
    found.times.extend(more.times);
    found.at.extend(more.at);
    found.covered.extend(more.covered);
    Ok(renamed)
}

/// A place for each file of the package that lies in the game, where nothing else says where they go.
fn places_by_content(
    ledger: &Ledger,
    order: &Order,
    package: &Package,
    contents: &Contents<'_>,
    observer: &dyn Observer,
) -> Result<Vec<Place>, AddError> {
    let own = || package.members().iter().filter(|member| member.inner.is_none());
    contents.read(package, &own().map(|member| member.content).collect(), observer)?;
    let wanted: Vec<Lookout<'_>> = own()
        .filter_map(|member| {
            let hash = contents.hash_of(member.content)?;
            Some(Lookout { member: &member.path, at: None, size_bytes: member.size_bytes, hash })
        })
        .collect();
    let places = elsewhere(ledger, order, &wanted, &HashSet::new(), observer)?;
    let place = |(file, to): (&Lookout<'_>, Option<Address>)| {
        Some(Place { from: file.member.to_string(), to: to?.to_string(), rank: Rank::Option })
    };
    Ok(wanted.iter().zip(places).filter_map(place).collect())
}

/// Looks at where each file would go.
fn look(
    ledger: &Ledger,
    order: &Order,
    placements: Vec<Sized>,
    observer: &dyn Observer,
) -> Result<FoundInGame, LedgerError> {
    let mut found = FoundInGame::default();
    observer.begin(Work::Comparing, placements.len() as u64, 0);
    for (placement, size_bytes, hash) in placements {
        let lies_there = look_there(ledger, order, &placement, size_bytes, hash)?;
        observer.advance(1, 0);
        match (lies_there, hash) {
            (LiesThere::Alike { seen, base, spelled }, Some(hash)) => {
                let (root, key) = key_of(ledger, &placement.to)?;
                found.times.insert(placement.to.clone(), seen.modified_ns.div_euclid(1_000_000_000));
                found.at.push((root, key.clone(), spelled));
                if let Some(base) = base {
                    let is_changed =
                        (base.size_bytes, base.modified_ns) != (seen.size_bytes, seen.modified_ns);
                    found.covered.push(Covered { root, key, base, hash, is_changed });
                }
                found.alike.push(placement);
            }
            (LiesThere::Alike { .. }, None) => {}
            (LiesThere::Not(state), hash) => found.not_there.push(((placement, size_bytes, hash), state)),
        }
    }
    observer.end();
    Ok(found)
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

fn look_there(
    ledger: &Ledger,
    order: &Order,
    placement: &Placement,
    size_bytes: u64,
    hash: Option<ContentHash>,
) -> Result<LiesThere, LedgerError> {
    let (root_id, key) = key_of(ledger, &placement.to)?;
    let root = ledger.site().root(root_id)?;
    let column = ledger.catalogue.column_at(root_id, &key)?;
    if column.as_ref().is_some_and(|column| !column.laid(order).is_empty()) {
        return Ok(LiesThere::Not(WhyNot::OfALayer));
    }
    let base = match &column {
        Some(column) => column.base.clone(),
        None => ledger.catalogue.base_at(root_id, &key)?,
    };
    let spelled = base.as_ref().map_or_else(|| placement.to.path.clone(), |base| base.spelled.clone());
    let path = spelled.on(&root.folder);
    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
    let Some(seen) = seen else { return Ok(LiesThere::Not(WhyNot::Missing)) };
    if seen.kind != BaseKind::File || seen.size_bytes != size_bytes {
        return Ok(LiesThere::Not(WhyNot::OtherContent));
    }
    let now = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
    if Some(now) != hash {
        return Ok(LiesThere::Not(WhyNot::OtherContent));
    }
    Ok(LiesThere::Alike { seen, base, spelled })
}
