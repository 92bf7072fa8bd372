//! Making a layer of files that lie in the game already, put there by hand before it came into care.

use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::add::free_name;
use super::add_report::{AddReport, report};
use super::arrival::{Arrival, Opening};
use super::contents::Contents;
use super::new_layer::{Making, key_of, write_layer};
use super::placing::{Placer, Wanted};
use super::{AddError, AddPlace, Permit};
use crate::address::{Address, FoldedKey, RelPath};
use crate::disk::{Blender, ChangeError, discard_new_contents, look_at};
use crate::fit::Placement;
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError, blob_path, end_intake};
use crate::observer::{Observer, Work};
use crate::package::Limits;
use crate::stack::{Arrangement, BaseKind, LayerId, RootId, Standing, Tally, Target, tallies};

/// A package whose files may lie in the game.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdoptRequest {
    /// A folder or an archive.
    pub package: PathBuf,
    /// The layer's name; read off the fit sheet or the file name when not given.
    pub name: Option<String>,
    /// Its version; read likewise.
    pub version: Option<String>,
    /// Which one of several makes it is; read likewise.
    pub variant: Option<String>,
    /// What is said of where its files go.
    pub wanted: Wanted,
    /// How big the package may be.
    pub limits: Limits,
}

/// A file of the package that is no part of the adopted layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LyingRow {
    /// Where it would lie.
    pub address: String,
    /// `missing` (nothing lies there), `other_content`, or `of_a_layer` (a layer has a file there).
    pub state: String,
}

/// What adopting finds, or has made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AdoptReport {
    /// Nothing was changed: it was only looked what would be.
    pub dry_run: bool,
    /// The layer, of those files that lie in the game.
    pub layer: AddReport,
    /// Addresses of the layer's files.
    pub adopted: Vec<String>,
    /// Those of them where the game may have had a file of its own, which nobody knows any more.
    pub originals_unknown: Vec<String>,
    /// Files of the package that are no part of it.
    pub not_there: Vec<LyingRow>,
    /// The revision that was made.
    pub revision: Option<i64>,
}

/// A layer about to be adopted; dropping it leaves nothing of it.
#[must_use = "nothing is adopted until it is applied"]
pub struct Adopting<'l> {
    ledger: &'l Ledger,
    _permit: Permit,
    /// What was found.
    pub report: AdoptReport,
    arrangement: Arrangement,
    tally: Tally,
    layer: LayerId,
    new_blobs: Vec<PathBuf>,
    now: String,
    is_over: bool,
}

impl std::fmt::Debug for Adopting<'_> {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("Adopting").field("report", &self.report).finish_non_exhaustive()
    }
}

/// What lies at a placement's address.
enum Lying {
    /// The package's very file, with its time in seconds since 1970; in the base or unknown to it.
    Alike {
        modified: i64,
        of_base: bool,
        spelled: RelPath,
    },
    Not(&'static str),
}

/// Looks which files of the package lie in the game, and prepares a layer of them at the bottom of the stack.
/// No file of the game is written. With `dry_run` contents are only hashed.
///
/// # Errors
/// [`AddError`]; nothing was changed.
pub fn prepare_adopt<'l>(
    ledger: &'l Ledger,
    permit: Permit,
    request: &AdoptRequest,
    now: &str,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Adopting<'l>, AddError> {
    let contents = Contents::new(ledger, !dry_run);
    let prepared = prepare(ledger, contents, request, now, dry_run, observer);
    let (report, arrangement, tally, layer, new_blobs) = prepared.inspect_err(|_| {
        ledger.catalogue.roll_back();
        discard_new_contents(ledger);
    })?;
    let now = now.to_owned();
    Ok(Adopting {
        ledger,
        _permit: permit,
        report,
        arrangement,
        tally,
        layer,
        new_blobs,
        now,
        is_over: false,
    })
}

type Parts = (AdoptReport, Arrangement, Tally, LayerId, Vec<PathBuf>);

fn prepare(
    ledger: &Ledger,
    contents: Contents<'_>,
    request: &AdoptRequest,
    now: &str,
    dry_run: bool,
    observer: &dyn Observer,
) -> Result<Parts, AddError> {
    let place = AddPlace::New { target: Some(Target::Bottom), lifted: false };
    let opening =
        Opening { wanted: &request.wanted, remembered: None, limits: &request.limits, unasked: false };
    let arrival = Arrival::open(&request.package, &opening, Some(&contents), observer)?;
    let Arrival { package, told, .. } = &arrival;
    let before = ledger.catalogue.arrangement()?;
    let order = before.order();
    let placer = Placer::new(ledger, order.clone(), &arrival, &contents, observer);
    let mut placed = placer.place(&request.wanted, None)?;
    let name = request.name.clone().unwrap_or_else(|| told.parts.name.clone());
    let name = free_name(&ledger.layers()?, &[], name, place)?;
    let members = package.members();
    let wanted: BTreeSet<usize> =
        placed.placements.iter().map(|placement| members[placement.member].content).collect();
    contents.read(package, &wanted, observer)?;
    observer.begin(Work::Comparing, placed.placements.len() as u64, 0);
    let (mut alike, mut not_there) = (Vec::new(), Vec::new());
    let (mut times, mut forgotten) = (HashMap::new(), Vec::new());
    for placement in std::mem::take(&mut placed.placements) {
        let hash = contents.hash_of(members[placement.member].content);
        let size_bytes = members[placement.member].size_bytes;
        let lying = lying(ledger, &order, &placement, size_bytes, hash)?;
        observer.advance(1, 0);
        match lying {
            Lying::Alike { modified, of_base, spelled } => {
                times.insert(placement.to.clone(), modified);
                if of_base {
                    let (root, key) = key_of(ledger, &placement.to)?;
                    forgotten.push((root, key, spelled, placement.to.to_string()));
                }
                alike.push(placement);
            }
            Lying::Not(state) => {
                let address = placement.to.to_string();
                not_there.push(LyingRow { address, state: state.to_owned() });
            }
        }
    }
    observer.end();
    if alike.is_empty() {
        return Err(AddError::NothingLies { package: request.package.display().to_string() });
    }
    placed.placements = alike;
    let is_needed = |folder: &Address| {
        placed.placements.iter().any(|placement| {
            placement.to.root == folder.root && placement.to.path.below(&folder.path).is_some()
        })
    };
    placed.folders.retain(is_needed);
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let mut layer_report = report(package, &placed, name, version, variant);
    let (hashes, mut new) = (contents.hashes(), contents.take_new());
    new.sort_unstable();
    ledger.catalogue.begin()?;
    let making = Making {
        package,
        placed: &placed,
        rules: &placed.rules,
        hashes: &hashes,
        exchanged: None,
        keys: &[],
        times: &times,
        now,
    };
    let layer = write_layer(ledger, &making, &mut layer_report)?;
    ledger.catalogue.insert_blobs(&new)?;
    forget_originals(ledger, &forgotten)?;
    let arrangement = before.with(Standing { layer, laid: true }, Target::Bottom);
    let mut columns = ledger.catalogue.columns_of(&[layer], &[])?;
    let order = ledger.order(&arrangement, HashMap::new())?;
    Blender::new(ledger).learn(&mut columns, &order)?;
    let tally = tallies(&columns, &order).remove(&layer).unwrap_or_default();
    let new_blobs = new.iter().map(|(hash, _)| blob_path(ledger.folder(), *hash)).collect();
    let report = AdoptReport {
        dry_run,
        adopted: placed.placements.iter().map(|placement| placement.to.to_string()).collect(),
        originals_unknown: forgotten.into_iter().map(|(.., address)| address).collect(),
        layer: layer_report,
        not_there,
        revision: None,
    };
    Ok((report, arrangement, tally, layer, new_blobs))
}

fn forget_originals(
    ledger: &Ledger,
    forgotten: &[(RootId, FoldedKey, RelPath, String)],
) -> Result<(), LedgerError> {
    forgotten
        .iter()
        .try_for_each(|(root, key, spelled, _)| ledger.catalogue.forget_original(*root, key, spelled))
}

fn lying(
    ledger: &Ledger,
    order: &crate::stack::Order,
    placement: &Placement,
    size_bytes: u64,
    hash: Option<ContentHash>,
) -> Result<Lying, LedgerError> {
    let (root_id, key) = key_of(ledger, &placement.to)?;
    let root = ledger.site().root(root_id)?;
    let column = ledger.catalogue.column_at(root_id, &key)?;
    if column.as_ref().is_some_and(|column| !column.laid(order).is_empty()) {
        return Ok(Lying::Not("of_a_layer"));
    }
    let base = match &column {
        Some(column) => column.base.clone(),
        None => ledger.catalogue.base_at(root_id, &key)?,
    };
    let spelled = base.as_ref().map_or_else(|| placement.to.path.clone(), |base| base.spelled.clone());
    let path = spelled.on(&root.folder);
    let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
    let Some(seen) = seen else { return Ok(Lying::Not("missing")) };
    if seen.kind != BaseKind::File || seen.size_bytes != size_bytes {
        return Ok(Lying::Not("other_content"));
    }
    let now = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
    if Some(now) != hash {
        return Ok(Lying::Not("other_content"));
    }
    let modified = seen.modified_ns.div_euclid(1_000_000_000);
    Ok(Lying::Alike { modified, of_base: base.is_some(), spelled })
}

impl Adopting<'_> {
    /// Puts the layer into the stack, in one transaction; no file of the game is written.
    ///
    /// # Errors
    /// [`ChangeError`]; nothing was changed.
    pub fn apply(mut self, observer: &dyn Observer) -> Result<AdoptReport, ChangeError> {
        if observer.is_cancelled() {
            return Err(ChangeError::Cancelled);
        }
        let (ledger, catalogue) = (self.ledger, &self.ledger.catalogue);
        let durable = ledger.seam.make_durable(ledger.folder(), &self.new_blobs);
        durable.map_err(LedgerError::io("write to", ledger.folder()))?;
        catalogue.write_arrangement(&self.arrangement, &[])?;
        catalogue.add_to_tally(self.layer, self.tally)?;
        let standings = self.arrangement.standings().iter().map(|standing| (standing.layer, standing.laid));
        let arrangement = serde_json::to_string(&standings.collect::<Vec<_>>());
        let arrangement = arrangement.map_err(|error| catalogue.damaged_by(&error))?;
        let command = format!("adopt {}", self.report.layer.name);
        let revision = catalogue.insert_revision(&self.now, &command, &arrangement)?;
        ledger.seam.pass("mark").map_err(LedgerError::io("write to", ledger.folder()))?;
        catalogue.commit()?;
        self.is_over = true;
        // A mark that stays is cleared up by the next command.
        let _ = end_intake(ledger.folder(), &*ledger.seam);
        self.report.revision = Some(revision);
        Ok(self.report.clone())
    }
}

impl Drop for Adopting<'_> {
    fn drop(&mut self) {
        if !self.is_over {
            self.ledger.catalogue.roll_back();
            discard_new_contents(self.ledger);
        }
    }
}
