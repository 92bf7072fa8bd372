//! What is told of a layer that is about to be made.

use std::cmp::Ordering;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::game_links::{GameCopy, GameLinks};
use super::into_containers::ContainerChange;
use super::new_layer::LayerDraft;
use super::runs_code::runs_code;
use super::start_wishes::{ClearRow, StartRow};
use crate::compare_versions;
use crate::fit::{ChoiceMade, Finding, Fit, LeftOut, PartSeen, Wishes};
use crate::jobs::needs::{needs_of, needs_words};
use crate::ledger::Layer;
use crate::package::{Package, PackageKind};

/// A file that is left out and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LeftOutRow {
    /// The file in the package.
    pub member: String,
    /// Why.
    pub reason: LeftOut,
}

/// A choice between several variants of a package, and what was chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ChoiceRow {
    /// Its name in `--choose ID=OPTION`.
    pub id: String,
    /// All its options.
    pub options: Vec<String>,
    /// The one that was chosen; none while nobody has.
    pub chosen: Option<String>,
}

/// A part of a package that may be left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
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

pub(in crate::jobs) fn choice_rows(placed: &Fit) -> Vec<ChoiceRow> {
    let row = |made: &ChoiceMade| ChoiceRow {
        id: made.id.clone(),
        options: made.options.clone(),
        chosen: Some(made.chosen.clone()),
    };
    placed.choices.iter().map(row).collect()
}

pub(in crate::jobs) fn part_rows(parts: &[PartSeen]) -> Vec<PartRow> {
    let row = |part: &PartSeen| PartRow {
        id: part.id.clone(),
        says: part.says.clone(),
        on: part.on,
        files: part.files,
        folder: part.folder.clone(),
    };
    parts.iter().map(row).collect()
}

/// Keys that a sheet sets, each with its value and file.
pub(in crate::jobs) fn set_words(wishes: &Wishes) -> Vec<String> {
    wishes.sets.iter().map(|set| format!("{} = {} in {}", set.key, set.value, set.file)).collect()
}

/// A link that became a copy of what it leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct CopiedLinkRow {
    /// The link, or a file below it.
    pub member: String,
    /// What it is a copy of: another path of the package, or an address of the game.
    pub copy_of: String,
}

/// The layer whose place a new version takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ReplacedRow {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// What the new version is to it.
    pub direction: Direction,
    /// What becomes of the new version in its place.
    pub standing: InItsPlace,
}

/// What one version is to another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Direction {
    /// A later one.
    Newer,
    /// An earlier one.
    Older,
    /// The same.
    Same,
    /// Of one of them no version is known.
    Unknown,
}

/// What becomes of a layer that takes another one's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum InItsPlace {
    /// It is laid, as that was.
    Laid,
    /// It is lifted, as that was.
    Lifted,
    /// It is laid: that one had waited for this since a patch day.
    LaidAgain,
    /// It stays off, as that had since a patch day: it does not fit either.
    Waiting,
}

impl ReplacedRow {
    pub(in crate::jobs) fn of(old: &Layer, new: Option<&str>) -> Self {
        let direction = match (old.about.version.as_deref(), new) {
            (Some(old), Some(new)) => match compare_versions(old, new) {
                Ordering::Less => Direction::Newer,
                Ordering::Greater => Direction::Older,
                Ordering::Equal => Direction::Same,
            },
            _ => Direction::Unknown,
        };
        let (name, version) = (old.about.name.clone(), old.about.version.clone());
        let standing = if old.laid { InItsPlace::Laid } else { InItsPlace::Lifted };
        Self { name, version, direction, standing }
    }
}

/// A container in which a layer changes members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ContainerRow {
    /// Its address.
    pub address: String,
    /// Members that are put or taken away.
    pub members: u64,
    /// Members that sign the others and are taken away, since the signature no longer holds.
    pub signature: Vec<String>,
    /// The signature stays, though it no longer holds.
    pub keeps_signature: bool,
    /// Folders in it that look like a signature of another kind, and stay.
    pub like_signatures: Vec<String>,
}

/// A container that a layer brings whole, in the place of another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct WholeContainerRow {
    /// Its address.
    pub address: String,
    /// Members that it has.
    pub members: u64,
    /// Members in which the two differ.
    pub differing: u64,
}

impl ContainerRow {
    pub(in crate::jobs) fn of(change: &ContainerChange) -> Self {
        let ContainerChange { address, members, signature, keeps_signature, like_signatures } = change;
        Self {
            address: address.to_string(),
            members: *members,
            signature: signature.iter().map(ToString::to_string).collect(),
            keeps_signature: *keeps_signature,
            like_signatures: like_signatures.clone(),
        }
    }
}

/// A layer that is about to be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct AddReport {
    /// The layer's name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// Which of several variants of its package it is.
    pub variant: Option<String>,
    /// The package, as an absolute path.
    pub package: String,
    /// What it is.
    pub kind: PackageKind,
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
    /// Addresses whose files it takes away.
    pub takes_away: Vec<String>,
    /// Containers in which it changes members.
    pub containers: Vec<ContainerRow>,
    /// Containers that it brings whole where one is.
    pub whole_containers: Vec<WholeContainerRow>,
    /// What its fit sheet says and what is kept with the layer without being acted on.
    pub noted: Vec<String>,
    /// Keys of configuration files that it sets.
    pub sets: Vec<String>,
    /// What it asks for: game versions, other layers, an order.
    pub needs: Vec<String>,
    /// The layer above it, where rules of order kept it from the top.
    pub lies_below: Option<String>,
    /// Files that are left out.
    pub left_out: Vec<LeftOutRow>,
    /// Links that became copies.
    pub copied_links: Vec<CopiedLinkRow>,
    /// Addresses of programs, libraries and scripts.
    pub runs_code: Vec<String>,
    /// Programs that `play` is to start with it, once that is agreed to.
    pub starts: Vec<StartRow>,
    /// What `play` is to clear after a change, once that is agreed to.
    pub clears: Vec<ClearRow>,
}

/// What the fit says, in words.
pub(in crate::jobs) fn findings_of(findings: &[Finding]) -> Vec<String> {
    findings.iter().map(ToString::to_string).collect()
}

/// What is said of links that become copies of the game's files.
pub(in crate::jobs) fn link_copies(links: &GameLinks) -> impl Iterator<Item = CopiedLinkRow> {
    let row = |copy: &GameCopy| CopiedLinkRow { member: copy.link.to_string(), copy_of: copy.of.to_string() };
    links.copies.iter().map(row)
}

/// What is told of a draft of a layer.
pub(in crate::jobs) fn report(
    draft: &LayerDraft,
    package: &Package,
    placed: &Fit,
    links: &GameLinks,
) -> AddReport {
    let members = package.members();
    let placements = placed.placements.iter();
    let left_out = placed
        .left_out
        .iter()
        .map(|(index, reason)| LeftOutRow { member: members[*index].path.to_string(), reason: *reason });
    let out = links.out.iter().map(|link| LeftOutRow {
        member: format!("{} -> {}", link.path, link.target),
        reason: LeftOut::LinkOut,
    });
    let copied = members.iter().filter_map(|member| {
        let copy_of = member.copy_of.as_ref()?.to_string();
        Some(CopiedLinkRow { member: member.path.to_string(), copy_of })
    });
    let LayerDraft { name, version, variant, source, kind, files, bytes } = draft.clone();
    AddReport {
        name,
        version,
        variant,
        package: source,
        kind,
        files,
        bytes,
        findings: findings_of(&placed.findings),
        replaces: None,
        choices: choice_rows(placed),
        parts: part_rows(&placed.parts),
        takes_away: Vec::new(),
        noted: Vec::new(),
        containers: Vec::new(),
        whole_containers: Vec::new(),
        starts: Vec::new(),
        clears: Vec::new(),
        needs: needs_words(&needs_of(&placed.rules)),
        lies_below: None,
        sets: Vec::new(),
        left_out: left_out.chain(out).collect(),
        copied_links: copied.chain(link_copies(links)).collect(),
        runs_code: placements
            .filter(|placement| runs_code(&placement.to.path, members[placement.member].executable))
            .map(|placement| placement.to.to_string())
            .collect(),
    }
}
