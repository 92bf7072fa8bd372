//! Looking into a package before anything is done with it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::arrival::{Arrival, Opening};
use super::as_members::whole_containers;
use super::contents::Contents;
use super::game_links::GameLinks;
use super::placing::Placer;
use super::placing_request::PlacingRequest;
use super::report::link_copies;
use super::report::{ChoiceRow, PartRow, choice_rows, findings_of, part_rows, set_words};
use super::runs_code::runs_code;
use super::start_wishes::{ClearRow, StartRow, wish_rows};
use crate::address::Address;
use crate::expected::Blender;
use crate::fit::{Candidate, Effect, Fit, FitError, LeftOut, NotChosen, Placement};
use crate::hash::ContentHash;
use crate::jobs::Owner;
use crate::jobs::needs::{needs_of, needs_words, unmet_under};
use crate::jobs::{AddError, CopiedLinkRow, Count, MeetingRow, OverRow, WholeContainerRow};
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::package::PackageKind;
use crate::package::{Limits, LinkOut};
use crate::stack::{LayerFacts, LayerId, Needs, Order, Provider, Standing, Unmet, place_by_rules};

/// Where one file would go and what it would meet there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MemberTarget {
    /// The address.
    pub address: String,
    /// What it would cover: `base`, the name of a layer, or nothing.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub covers: Option<Owner>,
    /// What it would cover has the very same content.
    pub identical: bool,
    /// Both are settings: what each changes is kept, key by key.
    pub blends: bool,
}

/// One file of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct MemberRow {
    /// Its path in the package.
    pub path: String,
    /// Its size, unpacked.
    pub size_bytes: u64,
    /// It is a program, library or script.
    pub runs_code: bool,
    /// For a link: the file it would be a copy of.
    pub copy_of: Option<String>,
    /// Where it would go; empty without a game, or when it is left out.
    pub targets: Vec<MemberTarget>,
    /// Why it would be left out.
    pub left_out: Option<LeftOut>,
}

/// A link that leads to nothing inside the package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LinkRow {
    /// The link.
    pub path: String,
    /// Where it leads, as written.
    pub target: String,
}

/// An archive inside the package that could not be looked into.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct UnopenedRow {
    /// Where it lies in the package.
    pub path: String,
    /// Why.
    pub reason: String,
}

/// One way to place a package when it is not clear.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CandidateRow {
    /// `FROM=TO` for each `--place`.
    pub places: Vec<String>,
    /// What each `--skip` would leave out.
    pub skip: Vec<String>,
    /// What speaks for it.
    pub evidence: String,
    /// What it would do, where that is known.
    pub effect: Option<Effect>,
}

impl CandidateRow {
    pub(in crate::jobs) fn of(candidate: &Candidate) -> Self {
        let place = |place: &crate::fit::Place| format!("{}={}", place.from, place.to);
        Self {
            places: candidate.places.iter().map(place).collect(),
            skip: candidate.skip.clone(),
            evidence: candidate.evidence.clone(),
            effect: candidate.effect,
        }
    }
}

/// A package as it is and as it would be placed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct InspectReport {
    /// The package, as given.
    pub package: String,
    /// What it is.
    pub kind: PackageKind,
    /// How many files it is split into; 1 if it is not split.
    pub volumes: u64,
    /// The name read off its fit sheet or its file name.
    pub name: String,
    /// The version read off its fit sheet or its file name.
    pub version: Option<String>,
    /// Which of several variants it is, read from there too.
    pub variant: Option<String>,
    /// All its files, without those in archives inside it.
    pub total: Count,
    /// One by one.
    pub members: Vec<MemberRow>,
    /// Links that lead out of it; they stop an add.
    pub links_out: Vec<LinkRow>,
    /// Links that would become copies of files of the game.
    pub links_to_game: Vec<CopiedLinkRow>,
    /// Archives inside that could not be looked into.
    pub unopened: Vec<UnopenedRow>,
    /// What decided where the files go, in words; empty without a game.
    pub findings: Vec<String>,
    /// What there is to choose between.
    pub choices: Vec<ChoiceRow>,
    /// Parts that may be left out.
    pub parts: Vec<PartRow>,
    /// Why its files can't be placed with these rules, or what must be said first.
    pub unplaceable: Option<String>,
    /// Ways to place it, when that is not clear.
    pub candidates: Vec<CandidateRow>,
    /// What it asks for: game versions, other layers, an order.
    pub needs: Vec<String>,
    /// What of this would not be met on top of the stack.
    pub unmet: Vec<Unmet>,
    /// Keys of configuration files that it sets.
    pub sets: Vec<String>,
    /// Programs that `play` is to start with it, once that is agreed to.
    pub starts: Vec<StartRow>,
    /// What `play` is to clear after a change, once that is agreed to.
    pub clears: Vec<ClearRow>,
    /// Containers of the game that it would replace whole.
    pub whole_containers: Vec<WholeContainerRow>,
    /// How its files would meet what is there; none without a game.
    pub meeting: Option<MeetingRow>,
}

/// Looks into the package at `path`. With a game it also says where the files would go by `wanted` and
/// what they would cover on top of the stack; contents are read only where a file of the same size
/// would be covered. Changes nothing and needs no permission.
///
/// # Errors
/// [`AddError`].
pub fn inspect(
    path: &Path,
    wanted: &PlacingRequest,
    limits: &Limits,
    ledger: Option<&Ledger>,
    observer: &dyn Observer,
) -> Result<InspectReport, AddError> {
    let contents = ledger.map(|ledger| Contents::new(ledger, false));
    let opening = Opening { wanted, remembered: None, limits, unasked: true, inside: &[] };
    let arrival = Arrival::open(path, &opening, contents.as_ref(), observer)?;
    let mut report = looked_into(path, &arrival);
    let (Some(ledger), Some(contents)) = (ledger, contents) else { return Ok(report) };
    let order = ledger.present_order()?;
    let placer = Placer::new(ledger, order.clone(), &arrival, &contents, observer);
    match placer.place(wanted, None) {
        Ok(placed) => {
            let links = GameLinks::follow(ledger, &order, &arrival.package, &placed)?;
            (report.links_out, report.links_to_game) = (link_rows(&links.out), link_copies(&links).collect());
            report.findings = findings_of(&placed.findings);
            report.choices = choice_rows(&placed);
            report.parts = part_rows(&placed.parts);
            let needs = needs_of(&placed.rules);
            report.needs = needs_words(&needs);
            report.sets = set_words(&placed.rules.wishes);
            (report.starts, report.clears) = wish_rows(ledger, &placed.rules, observer)?;
            report.unmet = unmet_on_top(ledger, &report.name, report.version.clone(), needs)?;
            meet(&placer, &order, placed, &mut report)?;
        }
        Err(AddError::Fit { source, .. }) => {
            let misfit = |source| AddError::Fit { package: path.display().to_string(), source };
            tell_unplaced(source, wanted, &mut report).map_err(misfit)?;
        }
        Err(other) => return Err(other),
    }
    Ok(report)
}

/// What the package itself tells.
fn looked_into(path: &Path, arrival: &Arrival) -> InspectReport {
    let Arrival { package, told, .. } = arrival;
    let own = package.members().iter().filter(|member| member.inner.is_none());
    InspectReport {
        package: path.display().to_string(),
        kind: package.kind(),
        volumes: package.volumes() as u64,
        name: told.parts.name.clone(),
        version: told.parts.version.clone(),
        variant: told.parts.variant.clone(),
        total: Count { files: own.clone().count() as u64, bytes: own.map(|member| member.size_bytes).sum() },
        members: package.members().iter().map(member_row).collect(),
        unopened: package
            .unopened()
            .iter()
            .map(|inner| UnopenedRow { path: inner.path.to_string(), reason: inner.reason.clone() })
            .collect(),
        links_out: link_rows(package.links_out()),
        links_to_game: Vec::new(),
        findings: Vec::new(),
        choices: Vec::new(),
        parts: Vec::new(),
        unplaceable: None,
        candidates: Vec::new(),
        needs: Vec::new(),
        unmet: Vec::new(),
        sets: Vec::new(),
        starts: Vec::new(),
        clears: Vec::new(),
        whole_containers: Vec::new(),
        meeting: None,
    }
}

/// What is told of a package that can't be placed yet; an error that is no question is given back.
fn tell_unplaced(
    source: FitError,
    wanted: &PlacingRequest,
    report: &mut InspectReport,
) -> Result<(), FitError> {
    match source {
        FitError::Unclear(unclear) => {
            report.candidates = unclear.candidates.iter().map(CandidateRow::of).collect();
            report.unplaceable = Some(unclear.question);
        }
        FitError::ChoiceNeeded { choices, parts } => {
            report.parts = part_rows(&parts);
            report.unplaceable = Some("one of several must be chosen first".to_owned());
            let row = |choice: NotChosen| ChoiceRow { id: choice.id, options: choice.options, chosen: None };
            report.choices = choices.into_iter().map(row).collect();
        }
        FitError::NothingPlaced { reason } => {
            let by_skip = wanted.rules.only.is_empty();
            let word = if by_skip { LeftOut::Skipped } else { LeftOut::NotAmongOnly };
            for member in &mut report.members {
                member.left_out = Some(word);
            }
            report.unplaceable = Some(reason.to_string());
        }
        ref packed @ FitError::OnlyPacked { ref candidates, .. } => {
            report.candidates = candidates.iter().map(CandidateRow::of).collect();
            report.unplaceable = Some(packed.to_string());
        }
        source => return Err(source),
    }
    Ok(())
}

fn link_rows(links: &[LinkOut]) -> Vec<LinkRow> {
    let row = |link: &LinkOut| LinkRow { path: link.path.to_string(), target: link.target.clone() };
    links.iter().map(row).collect()
}

fn member_row(member: &crate::package::Member) -> MemberRow {
    MemberRow {
        path: member.path.to_string(),
        size_bytes: member.size_bytes,
        runs_code: runs_code(&member.path, member.executable),
        copy_of: member.copy_of.as_ref().map(ToString::to_string),
        targets: Vec::new(),
        left_out: None,
    }
}

/// What a layer on top of the stack would not have that it needs.
fn unmet_on_top(
    ledger: &Ledger,
    name: &str,
    version: Option<String>,
    needs: Needs,
) -> Result<Vec<Unmet>, LedgerError> {
    let new = LayerId(0);
    let mut facts = ledger.catalogue.facts()?;
    facts.push(LayerFacts { id: new, name: name.to_owned(), version, needs });
    let before = ledger.catalogue.arrangement()?;
    let target = place_by_rules(&facts, &before, new);
    let after = before.with(Standing { layer: new, laid: true }, target);
    Ok(unmet_under(ledger, &facts, &after)?.into_iter().filter(|unmet| unmet.layer == name).collect())
}

/// What lies at a target now.
struct There {
    member: usize,
    /// As the fit has it.
    wanted: Address,
    /// As it is spelled in the game.
    address: Address,
    layer: Option<LayerId>,
    is_something: bool,
    /// A layer has settings there, as this file may be.
    may_blend: bool,
    size_bytes: u64,
    hash: Option<ContentHash>,
}

fn meet(placer: &Placer<'_>, order: &Order, placed: Fit, report: &mut InspectReport) -> Result<(), AddError> {
    let (ledger, package, contents) = (placer.ledger, placer.package, placer.contents);
    let mut all = Vec::with_capacity(placed.placements.len());
    for placement in &placed.placements {
        all.push(what_is_there(ledger, order, placement)?);
    }
    let members = package.members();
    let compared: BTreeSet<usize> = all
        .iter()
        .filter(|there| there.is_something && there.size_bytes == members[there.member].size_bytes)
        .map(|there| members[there.member].content)
        .collect();
    contents.read(package, &compared, placer.observer)?;
    let placed = match placer.without_copies(placed) {
        Err(AddError::Fit { source: FitError::NothingPlaced { reason }, .. }) => {
            report.unplaceable = Some(reason.to_string());
            return Ok(());
        }
        other => other?,
    };
    for (index, reason) in &placed.left_out {
        report.members[*index].left_out = Some(*reason);
    }
    report.whole_containers = whole_containers(ledger, order, package, &placed, contents, placer.observer)?;
    let still: HashSet<(usize, &Address)> =
        placed.placements.iter().map(|placement| (placement.member, &placement.to)).collect();
    all.retain(|there| still.contains(&(there.member, &there.wanted)));
    let rows = &mut report.members;
    let names: HashMap<LayerId, String> = ledger.catalogue.layer_names()?.into_iter().collect();
    let mut meeting = MeetingRow::default();
    let mut over: BTreeMap<String, u64> = BTreeMap::new();
    for there in all {
        let hash = contents.hash_of(members[there.member].content);
        let identical = hash.is_some() && there.hash_now(ledger)? == hash;
        let covers = there.is_something.then(|| match there.layer {
            Some(layer) => Owner::Layer(names.get(&layer).cloned().unwrap_or_default()),
            None => Owner::Base,
        });
        let blends = there.may_blend && !identical;
        match &covers {
            None => meeting.new_files += 1,
            _ if blends => meeting.blended += 1,
            _ if identical => meeting.identical += 1,
            Some(Owner::Layer(name)) => *over.entry(name.clone()).or_default() += 1,
            Some(Owner::Base) => meeting.over_base += 1,
        }
        if !identical {
            meeting.written_bytes += members[there.member].size_bytes;
        }
        let target = MemberTarget { address: there.address.to_string(), covers, identical, blends };
        rows[there.member].targets.push(target);
    }
    meeting.over_layers = over.into_iter().map(|(layer, files)| OverRow { layer, files }).collect();
    report.meeting = Some(meeting);
    Ok(())
}

fn what_is_there(ledger: &Ledger, order: &Order, placement: &Placement) -> Result<There, LedgerError> {
    let (game, address) = (ledger.game(), &placement.to);
    let mut there = There {
        member: placement.member,
        wanted: address.clone(),
        address: address.clone(),
        layer: None,
        is_something: false,
        may_blend: false,
        size_bytes: 0,
        hash: None,
    };
    let Some(root) = game.root_named(&address.root) else { return Ok(there) };
    let key = game.folding.key(address.path.as_str());
    let mut columns = [ledger.column(root.id, &key)?];
    let blender = Blender::new(ledger);
    blender.containers.mark_member(&mut columns[0])?;
    blender.learn(&mut columns, order)?;
    let [column] = columns;
    let provider = column.provider(order);
    there.is_something = !matches!(provider, Provider::Nothing);
    there.layer = column.winner(order).map(|entry| entry.layer);
    there.may_blend = there.layer.is_some() && order.blend_rules().format_of(key.as_str()).is_some();
    there.size_bytes = provider.size_bytes();
    there.hash = provider.hash();
    if let Provider::Base(base) = provider {
        there.address.path = base.spelled.clone();
    }
    Ok(there)
}

impl There {
    /// The content's hash; of a file of the game whose hash is not known yet, by reading it.
    fn hash_now(&self, ledger: &Ledger) -> Result<Option<ContentHash>, LedgerError> {
        if self.hash.is_some() {
            return Ok(self.hash);
        }
        let Some(root) = ledger.game().root_named(&self.address.root) else { return Ok(None) };
        let path = self.address.path.on(&root.folder);
        match ContentHash::of_file(&path) {
            Ok(hash) => Ok(Some(hash)),
            Err(error) if crate::files::is_nothing_there(&error) => Ok(None),
            Err(error) => Err(LedgerError::io("read", &path)(error)),
        }
    }
}
