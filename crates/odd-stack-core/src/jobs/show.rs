//! One layer with all it has.

use std::collections::{BTreeMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::MadeBy;
use super::add::remembered::remembered_rules;
use super::add::runs_code::runs_code;
use super::add::start_wishes::{ClearRow, StartRow, wish_rows};
use super::needs::{needs_words, unmet_under};
use super::stack::LayerRow;
use super::taken_away::TakenAway;
use crate::check::CheckError;
use crate::expected::{Blender, path_on_disk, paths_on_disk};
use crate::files::{is_one_file, may_share_blocks};
use crate::fit::FitSheet;
use crate::jobs::{Count, Owner};
use crate::ledger::{Layer, Ledger, LedgerError, blob_path};
use crate::observer::Observer;
use crate::stack::{Entry, EntryKind, LayerId, RootId, Unmet};

/// One file of a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct EntryRow {
    /// Where it goes.
    pub address: String,
    /// The file in the package that it came from.
    pub member: String,
    /// Its size.
    pub size_bytes: u64,
    /// BLAKE3 hash of its content; none when it takes away what lies there.
    pub hash: Option<String>,
    /// What it covers, or would while lifted: `base`, or the name of the laid layer directly beneath.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub covers: Option<Owner>,
    /// The laid layer that counts in its stead.
    pub covered_by: Option<String>,
    /// It changes keys of what lies beneath, and is no file.
    pub changes_keys: bool,
    /// It is a program, library or script.
    pub runs_code: bool,
    /// Whether the game had a file of its own there is not known.
    pub original_unknown: bool,
}

/// A layer with its source, its fit and its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct ShowReport {
    /// As in the stack.
    pub layer: LayerRow,
    /// The package it was made of.
    pub source: String,
    /// `folder`, or the kind of archive.
    pub source_kind: String,
    /// The program that made it, if it was captured.
    pub made_by: Option<MadeBy>,
    /// `FROM=TO` of the places given; empty when it was placed by its own folders.
    pub places: Vec<String>,
    /// What it asks for: game versions, other layers, an order.
    pub needs: Vec<String>,
    /// What of this is not met while it is laid.
    pub unmet: Vec<Unmet>,
    /// Patterns of which a file must meet one.
    pub only: Vec<String>,
    /// Patterns of which a file must meet none.
    pub skip: Vec<String>,
    /// What was chosen, by id: an option of a choice, or `on` or `off` of a part.
    pub chosen: BTreeMap<String, String>,
    /// Files and folders of the package that no place reaches.
    pub passed_over: Vec<String>,
    /// The whole fit as a fit sheet, with what was chosen as the default.
    pub fit: FitSheet,
    /// Programs that `play` is to start with it, once that is agreed to.
    pub starts: Vec<StartRow>,
    /// What `play` is to clear after a change, once that is agreed to.
    pub clears: Vec<ClearRow>,
    /// Those of its files that lie in the game as links to the ledger's contents, so that they take room once.
    pub linked: Count,
    /// The disk can keep what is alike once, however many files have it.
    pub may_share_blocks: bool,
    /// Its files, by address.
    pub entries: Vec<EntryRow>,
}

/// Shows the layer `id`.
///
/// # Errors
/// [`CheckError`].
pub fn show(ledger: &Ledger, id: LayerId, observer: &dyn Observer) -> Result<ShowReport, CheckError> {
    let catalogue = &ledger.catalogue;
    let layers = ledger.layers()?;
    let layer = layers.iter().find(|layer| layer.id == id);
    let layer = layer.ok_or_else(|| catalogue.damaged_by(&"a layer of it is gone"))?;
    let rules = remembered_rules(ledger, layer)?;
    let entries = entry_rows(ledger, &layers, layer)?;
    let facts = ledger.catalogue.facts()?;
    let unmet = unmet_under(ledger, &facts, &catalogue.arrangement()?)?;
    let (starts, clears) = wish_rows(ledger, &rules, observer)?;
    Ok(ShowReport {
        starts,
        clears,
        layer: LayerRow::of(layer, &TakenAway::of(ledger)?),
        source: layer.about.source.clone(),
        source_kind: layer.about.source_kind.clone(),
        made_by: match catalogue.made_by(layer.id)? {
            Some(text) => Some(serde_json::from_str(&text).map_err(|error| catalogue.damaged_by(&error))?),
            None => None,
        },
        places: rules.places.iter().map(|place| format!("{}={}", place.from, place.to)).collect(),
        fit: FitSheet::of(&rules),
        needs: facts
            .iter()
            .find(|facts| facts.id == id)
            .map(|facts| needs_words(&facts.needs))
            .unwrap_or_default(),
        unmet: unmet.into_iter().filter(|unmet| unmet.layer == layer.about.name).collect(),
        chosen: rules.chosen,
        passed_over: rules.passed_over,
        only: rules.only,
        skip: rules.skip,
        linked: linked_of(ledger, id)?,
        may_share_blocks: may_share_blocks(ledger.folder()),
        entries,
    })
}

/// The files of a layer that are one with stored contents.
fn linked_of(ledger: &Ledger, id: LayerId) -> Result<Count, LedgerError> {
    let mut linked = Count::default();
    if !ledger.catalogue.has_linked()? {
        return Ok(linked);
    }
    let order = ledger.present_order()?;
    for column in ledger.catalogue.columns_of(&[id], &[])?.iter().filter(|column| !column.is_member) {
        let Some(entry) = column.provider(&order).entry().filter(|entry| entry.layer == id) else { continue };
        if ledger.catalogue.linked(entry.hash)?.is_none() {
            continue;
        }
        let path = path_on_disk(&ledger.catalogue, column, &order)?;
        let path = path.on(&ledger.site().root(column.root)?.folder);
        if is_one_file(&path, &blob_path(ledger.folder(), entry.hash)) {
            linked.files += 1;
            linked.bytes += entry.size_bytes;
        }
    }
    Ok(linked)
}

/// The files of `shown`, by address.
fn entry_rows(ledger: &Ledger, layers: &[Layer], shown: &Layer) -> Result<Vec<EntryRow>, LedgerError> {
    let (catalogue, id) = (&ledger.catalogue, shown.id);
    let order = ledger.present_order()?;
    let name = |wanted: LayerId| {
        layers
            .iter()
            .find(|layer| layer.id == wanted)
            .map(|layer| layer.about.name.clone())
            .unwrap_or_default()
    };
    let members = catalogue.members_of(id)?;
    let unknown = catalogue.unknown_originals()?;
    let unknown: HashSet<(RootId, String)> =
        unknown.into_iter().map(|(root, key, _)| (root, key.as_str().to_owned())).collect();
    let mut entries = Vec::new();
    let mut columns = catalogue.columns_of(&[id], &[])?;
    Blender::new(ledger).learn(&mut columns, &order)?;
    // As they lie on disk, or would lie if the layer were laid.
    let as_laid = catalogue.arrangement()?.with_laid(&[id], true);
    let as_laid = ledger.order(&as_laid, catalogue.settlements()?)?;
    let paths = paths_on_disk(catalogue, &columns, &as_laid)?;
    for (column, path) in columns.into_iter().zip(paths) {
        let own = |entry: &&Entry| entry.layer == id && entry.kind != EntryKind::Members;
        let Some(entry) = column.entries.iter().find(own).filter(|it| it.kind != EntryKind::Packed) else {
            continue;
        };
        let laid = column.laid(&order);
        // A lifted layer is looked at as if it were laid where it stands.
        let below = laid.iter().rev().find(|other| {
            let position = |wanted: LayerId| layers.iter().position(|layer| layer.id == wanted);
            position(other.layer) < position(id)
        });
        let covers = below
            .map(|other| Owner::Layer(name(other.layer)))
            .or_else(|| column.base.as_ref().map(|_| Owner::Base));
        // What blends is covered by nobody.
        let blended = column.blend(&order).and_then(|blend| blend.outcome.as_ref().ok());
        let is_in = blended.is_some_and(|blended| blended.from.contains(&id));
        let winner = laid.last().filter(|winner| shown.laid && winner.layer != id && !is_in);
        let address = ledger.game().address(column.root, path);
        entries.push(EntryRow {
            address: address.map(|address| address.to_string()).unwrap_or_default(),
            member: members.get(&column.path).cloned().unwrap_or_default(),
            size_bytes: entry.size_bytes,
            hash: (!entry.takes_away()).then(|| entry.hash.to_string()),
            original_unknown: unknown.contains(&(column.root, column.key.as_str().to_owned())),
            covers,
            covered_by: winner.map(|winner| name(winner.layer)),
            changes_keys: entry.kind == EntryKind::Keys,
            runs_code: runs_code(&entry.spelled, entry.executable),
        });
    }
    entries.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(entries)
}
