//! Making a layer of a package.

use std::cell::RefCell;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::Permit;
use super::contents::{Contents, Taken};
use super::placing::{Before, Placer, Wanted, told_of};
use super::runs_code::runs_code;
use super::select::plain;
use super::show::remembered_rules;
use super::tree::LedgerTree;
use crate::address::Address;
use crate::blend::Prefer;
use crate::compare_versions;
use crate::disk::Exchange;
use crate::disk::{ChangeError, ChangeOptions, ChangeRequest, Prepared, discard_new_contents, prepare};
use crate::fit::{ChoiceMade, Finding, Fit, FitError, LeftOut, PartSeen, Rules};
use crate::hash::ContentHash;
use crate::ledger::{Layer, Ledger, LedgerError, NewLayer, drop_unneeded};
use crate::observer::Observer;
use crate::package::{Inner, Limits, LinkOut, NameEncoding, OpenOptions, Package, PackageError};
use crate::stack::{Arrangement, Entry, LayerId, Standing, Target};

/// Why no layer was made. The game is as it was.
#[derive(Debug, Error)]
pub enum AddError {
    /// The package can't be read.
    #[error(transparent)]
    Package(#[from] PackageError),
    /// Its files can't be placed.
    #[error("the files of {package} can't be placed")]
    Fit {
        /// The package.
        package: String,
        /// Why.
        source: FitError,
    },
    /// The change can't be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// A layer has the name already.
    #[error("there is a layer named `{name}` already{}", version.as_ref().map(|v| format!(" (version {v})")).unwrap_or_default())]
    NameTaken {
        /// The name.
        name: String,
        /// That layer's version.
        version: Option<String>,
        /// A name like it that no layer has.
        free: String,
    },
    /// A name that says nothing or can't be shown.
    #[error("`{name}` can't name a layer: use printable characters and not only `-`, `_` and spaces")]
    BadName {
        /// What was given.
        name: String,
    },
    /// The package holds only the changed files of a version.
    #[error("the package holds only what changed since {wanted} of {name}")]
    IsPatch {
        /// The layer.
        name: String,
        /// The version it goes onto.
        wanted: String,
    },
    /// The package of changed files is for another version.
    #[error(
        "{}, and the layer {name} {}",
        wanted.as_ref().map_or("the package does not say which version it goes onto".to_owned(), |wanted| {
            format!("the package goes onto version {wanted}")
        }),
        present.as_ref().map_or("has none".to_owned(), |present| format!("is {present}"))
    )]
    PatchOfOther {
        /// The layer.
        name: String,
        /// The version it goes onto, if that is known.
        wanted: Option<String>,
        /// The layer's version.
        present: Option<String>,
    },
    /// A fit sheet can't be read.
    #[error("can't read the fit sheet {}", path.display())]
    Sheet {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// Links lead to nothing inside the package.
    #[error("{} link(s) of {package} lead out of it", links.len())]
    LinksOut {
        /// The package.
        package: String,
        /// The links.
        links: Vec<LinkOut>,
    },
}

impl From<LedgerError> for AddError {
    fn from(error: LedgerError) -> Self {
        Self::Change(error.into())
    }
}

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
        /// Where in the stack.
        target: Target,
        /// Kept off the game.
        lifted: bool,
    },
    /// In the place of this layer, which goes; laid or lifted as that was.
    Exchange(LayerId),
}

/// A file that is left out and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LeftOutRow {
    /// The file in the package.
    pub member: String,
    /// `skipped`, `not_among_only`, `no_place`, `stays_packed`, `fit_sheet`, `document`, `source`, `picture`,
    /// `metadata`, `original` (a copy of the game's own file), `not_chosen`, `part_off`, `covered` or `link_out`.
    pub reason: String,
}

/// A choice between several makes of a package, and what was chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ChoiceRow {
    /// Its name in `--choose ID=OPTION`.
    pub id: String,
    /// All its options.
    pub options: Vec<String>,
    /// The one that was chosen; none while nobody has.
    pub chosen: Option<String>,
}

/// A part of a package that may be left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PartRow {
    /// Its name in `--choose ID=on`.
    pub id: String,
    /// What it is, where its author says it.
    pub says: Option<String>,
    /// It is taken.
    pub on: bool,
    /// How many files it has.
    pub files: u64,
    /// The folder of the package that it lies in.
    pub folder: String,
}

pub(super) fn choice_rows(placed: &Fit) -> Vec<ChoiceRow> {
    let row = |made: &ChoiceMade| ChoiceRow {
        id: made.id.clone(),
        options: made.options.clone(),
        chosen: Some(made.chosen.clone()),
    };
    placed.choices.iter().map(row).collect()
}

pub(super) fn part_rows(placed: &Fit) -> Vec<PartRow> {
    let row = |part: &PartSeen| PartRow {
        id: part.id.clone(),
        says: part.says.clone(),
        on: part.on,
        files: part.files,
        folder: part.folder.clone(),
    };
    placed.parts.iter().map(row).collect()
}

/// A link that became a copy of what it leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CopiedLinkRow {
    /// The link, or a file below it.
    pub member: String,
    /// What it is a copy of.
    pub copy_of: String,
}

/// The layer whose place a new version takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ReplacedRow {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// What the new version is to it: `newer`, `older`, `same` or `unknown`.
    pub direction: String,
}

impl ReplacedRow {
    fn of(old: &Layer, new: Option<&str>) -> Self {
        let direction = match (old.about.version.as_deref(), new) {
            (Some(old), Some(new)) => match compare_versions(old, new) {
                Ordering::Less => "newer",
                Ordering::Greater => "older",
                Ordering::Equal => "same",
            },
            _ => "unknown",
        };
        let (name, version) = (old.about.name.clone(), old.about.version.clone());
        Self { name, version, direction: direction.to_owned() }
    }
}

/// A layer that is about to be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AddReport {
    /// The layer's name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// Which one of several makes of its package it is.
    pub variant: Option<String>,
    /// The package, as an absolute path.
    pub package: String,
    /// `folder`, `zip`, `7z`, `rar`, `tar`, `tar.gz`, `tar.bz2`, `tar.xz` or `tar.zst`.
    pub kind: String,
    /// Its files, once for each address.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
    /// What decided where the files go, in words.
    pub findings: Vec<String>,
    /// The layer whose place it takes, if it takes one.
    pub replaces: Option<ReplacedRow>,
    /// What was chosen.
    pub choices: Vec<ChoiceRow>,
    /// Parts that may be left out, and whether they are.
    pub parts: Vec<PartRow>,
    /// Files that are left out.
    pub left_out: Vec<LeftOutRow>,
    /// Links that became copies.
    pub copied_links: Vec<CopiedLinkRow>,
    /// Addresses of programs, libraries and scripts.
    pub runs_code: Vec<String>,
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
    let Read { package, placed, rules, mut report, taken, before, exchanged, base_hashes } = read;
    ledger.catalogue.begin()?;
    let written = write_base_hashes(ledger, &base_hashes).and_then(|()| {
        write_layer(ledger, &package, &placed, &rules, &mut report, &taken, exchanged.as_ref(), now)
    });
    let layer = match written {
        Ok(layer) => layer,
        Err(error) => {
            ledger.catalogue.roll_back();
            discard_new_contents(ledger);
            return Err(error.into());
        }
    };
    let (after, removed, verb) = match request.place {
        AddPlace::New { target, lifted } => {
            (before.with(Standing { layer, laid: !lifted }, target), Vec::new(), "add")
        }
        AddPlace::Exchange(old) => {
            let laid = before.standings().iter().any(|standing| standing.layer == old && standing.laid);
            let both = before.with(Standing { layer, laid }, Target::Above(old));
            (both.without(&[old]), vec![old], "upgrade")
        }
    };
    let change = ChangeRequest {
        command: format!("{verb} {}", report.name),
        made_at: now.to_owned(),
        after,
        removed,
        new_blobs: taken.new.iter().map(|(hash, _)| *hash).collect(),
        exchange: match request.place {
            AddPlace::New { .. } => None,
            AddPlace::Exchange(old) => {
                Some(Exchange { old, new: layer, prefer: request.prefer, contents: taken.small })
            }
        },
    };
    Ok(Adding { change: prepare(ledger, permit.lock, change, options, observer)?, report })
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
        (Some(old), Some(rules)) => {
            Some(Before { rules, is_patch, addresses: ledger.catalogue.addresses_of(old.id)? })
        }
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
    let version = request.version.clone().or(told.parts.version.clone());
    let variant = request.variant.clone().or(told.parts.variant.clone());
    let mut report = report(&package, &placed, name, version, variant);
    report.replaces = old.as_ref().map(|old| ReplacedRow::of(old, report.version.as_deref()));
    let exchanged = old.as_ref().map(|old| taken_away(ledger, old.id, is_patch, &placed)).transpose()?;
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
        .collect();
    let (new, unneeded): (Vec<_>, Vec<_>) =
        taken.new.into_iter().partition(|(hash, _)| needed.contains(hash));
    taken.new = new;
    drop_unneeded(ledger.folder(), &*ledger.seam, unneeded.into_iter().map(|(hash, _)| hash))?;
    Ok(Read { package, placed, rules, report, taken, before, exchanged, base_hashes })
}

fn taken_away(ledger: &Ledger, old: LayerId, is_patch: bool, placed: &Fit) -> Result<Exchanged, AddError> {
    let book = ledger.game().address_book();
    let addresses = placed.rules.wishes.takes_away.iter().map(|text| book.resolve(text));
    let gone = addresses.collect::<Result<Vec<_>, _>>().map_err(|error| AddError::Fit {
        package: "the fit sheet".to_owned(),
        source: FitError::Address(error),
    })?;
    Ok(Exchanged { old, patch: is_patch.then_some(gone) })
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
fn free_name(layers: &[Layer], name: String, place: AddPlace) -> Result<String, AddError> {
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

fn write_base_hashes(ledger: &Ledger, hashes: &BTreeMap<Address, ContentHash>) -> Result<(), LedgerError> {
    let game = ledger.game();
    for (address, hash) in hashes {
        if let Some(root) = game.root_named(&address.root) {
            ledger.catalogue.set_base_hash(root.id, &game.folding.key(address.path.as_str()), *hash)?;
        }
    }
    Ok(())
}

/// The layer whose place is taken.
struct Exchanged {
    old: LayerId,
    /// For a package of only changed files: the addresses that its sheet takes away.
    patch: Option<Vec<Address>>,
}

fn write_layer(
    ledger: &Ledger,
    package: &Package,
    placed: &Fit,
    rules: &Rules,
    report: &mut AddReport,
    taken: &Taken,
    exchanged: Option<&Exchanged>,
    now: &str,
) -> Result<LayerId, LedgerError> {
    let (catalogue, game) = (&ledger.catalogue, ledger.game());
    let rules = serde_json::to_string(rules).map_err(|error| catalogue.damaged_by(&error))?;
    let layer = catalogue.insert_layer(&NewLayer {
        name: report.name.clone(),
        version: report.version.clone(),
        variant: report.variant.clone(),
        source: report.package.clone(),
        source_kind: report.kind.clone(),
        added_at: now.to_owned(),
        fit: rules,
        files: report.files,
        bytes: report.bytes,
    })?;
    let key = |address: &crate::address::Address| {
        let root = game.root_named(&address.root).ok_or_else(|| catalogue.damaged_by(&"a root is gone"))?;
        Ok::<_, LedgerError>((root.id, game.folding.key(address.path.as_str())))
    };
    // Sorted by key, so that the catalogue's pages are filled one after the other.
    let mut files = Vec::with_capacity(placed.placements.len());
    for placement in &placed.placements {
        files.push((key(&placement.to)?, placement));
    }
    files.sort_by(|(one, _), (two, _)| one.cmp(two));
    let (keys, placements): (Vec<_>, Vec<_>) = files.into_iter().unzip();
    let numbers = catalogue.path_numbers(&keys)?;
    let before =
        exchanged.map(|exchanged| catalogue.entries_of(exchanged.old)).transpose()?.unwrap_or_default();
    let mut entries = Vec::with_capacity(numbers.len());
    for (path, placement) in numbers.into_iter().zip(placements) {
        let member = &package.members()[placement.member];
        let hash = taken.hashes.get(&member.content).copied();
        let hash = hash.ok_or_else(|| catalogue.damaged_by(&"a content was not taken in"))?;
        // What is as it was keeps its time, so that it is not written again.
        let unchanged = before.get(&path).filter(|old| old.hash == hash);
        let entry = Entry {
            layer,
            spelled: placement.to.path.clone(),
            hash,
            size_bytes: member.size_bytes,
            modified: unchanged.map_or(member.modified, |old| old.modified),
            executable: member.executable,
        };
        entries.push((path, entry, member.path.clone()));
    }
    entries.sort_by_key(|(path, ..)| *path);
    catalogue.insert_entries(&entries)?;
    let keys = placed.folders.iter().map(key).collect::<Result<Vec<_>, _>>()?;
    let numbers = catalogue.path_numbers(&keys)?;
    let folders: Vec<_> =
        numbers.into_iter().zip(placed.folders.iter().map(|folder| folder.path.clone())).collect();
    catalogue.insert_folders(layer, &folders)?;
    let mut new = taken.new.clone();
    new.sort_unstable();
    catalogue.insert_blobs(&new)?;
    if let Some(Exchanged { old, patch: Some(gone) }) = exchanged {
        let gone = gone.iter().map(key).collect::<Result<Vec<_>, _>>()?;
        let gone = catalogue.path_numbers(&gone)?;
        (report.files, report.bytes) = catalogue.inherit_entries(layer, *old, &gone)?;
    }
    Ok(layer)
}

/// What the fit says, in words.
pub(super) fn findings_of(findings: &[Finding]) -> Vec<String> {
    findings.iter().map(ToString::to_string).collect()
}

/// The word for why a file is left out.
pub(super) fn left_out_word(reason: LeftOut) -> &'static str {
    match reason {
        LeftOut::Skipped => "skipped",
        LeftOut::NotAmongOnly => "not_among_only",
        LeftOut::NoPlace => "no_place",
        LeftOut::Packed => "stays_packed",
        LeftOut::Sheet => "fit_sheet",
        LeftOut::Document => "document",
        LeftOut::Source => "source",
        LeftOut::Picture => "picture",
        LeftOut::Metadata => "metadata",
        LeftOut::Original => "original",
        LeftOut::NotChosen => "not_chosen",
        LeftOut::PartOff => "part_off",
        LeftOut::Covered => "covered",
    }
}

fn report(
    package: &Package,
    placed: &Fit,
    name: String,
    version: Option<String>,
    variant: Option<String>,
) -> AddReport {
    let members = package.members();
    let placements = placed.placements.iter();
    let absolute = std::path::absolute(package.path()).unwrap_or_else(|_| package.path().to_path_buf());
    let left_out = placed.left_out.iter().map(|(index, reason)| LeftOutRow {
        member: members[*index].path.to_string(),
        reason: left_out_word(*reason).to_owned(),
    });
    let links = package.links_out().iter().map(|link| LeftOutRow {
        member: format!("{} -> {}", link.path, link.target),
        reason: "link_out".to_owned(),
    });
    let copied = members.iter().filter_map(|member| {
        let copy_of = member.copy_of.as_ref()?.to_string();
        Some(CopiedLinkRow { member: member.path.to_string(), copy_of })
    });
    AddReport {
        name,
        version,
        variant,
        package: absolute.display().to_string(),
        kind: package.kind().word().to_owned(),
        files: placed.placements.len() as u64,
        bytes: placements.clone().map(|placement| members[placement.member].size_bytes).sum(),
        findings: findings_of(&placed.findings),
        replaces: None,
        choices: choice_rows(placed),
        parts: part_rows(placed),
        left_out: left_out.chain(links).collect(),
        copied_links: copied.collect(),
        runs_code: placements
            .filter(|placement| runs_code(&placement.to.path, members[placement.member].executable))
            .map(|placement| placement.to.to_string())
            .collect(),
    }
}
