//! What else is odd where layers meet.

use std::collections::{HashMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::address::{FoldedKey, RelPath};
use crate::expected::Blender;
use crate::jobs::add::runs_code::runs_code;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, EntryKind, LayerId, Order, PathId, Provider, RootId};

/// The kinds of odd things.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum OddKind {
    /// Files of one name in one folder, such as a library and its settings, come from different layers, though one
    /// of these has both.
    SplitPair,
    /// A layer changes keys of a file, or takes one away, and there is none.
    NothingBeneath,
    /// One layer takes away what another puts.
    AwayAgainstPut,
    /// A file of one layer lies where another needs a folder; both can't be laid.
    FileAgainstFolder,
    /// What a layer has in a container never shows, since the game loads a later one that has it too.
    HiddenByLater,
}

/// One odd thing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct OddRow {
    /// Its kind.
    pub kind: OddKind,
    /// Where.
    pub address: String,
    /// The layers that it is about, the one that counts first.
    pub layers: Vec<String>,
    /// What it is, in a sentence.
    pub says: String,
}

/// Contested addresses at which split pairs are looked for.
const MOST_LOOKED_AT: usize = 2_000;

/// Endings of files that stand alone: pictures, sounds, films, models.
const ALONE: [&str; 20] = [
    "dds", "png", "jpg", "jpeg", "tga", "bmp", "gif", "webp", "tif", "wav", "ogg", "mp3", "flac", "wem",
    "bnk", "mp4", "webm", "bik", "ttf", "otf",
];

/// Finds odd things at addresses where contents differ (`unlike`) and where something is taken away or keys are
/// changed (`leaning`).
pub(super) fn find(
    ledger: &Ledger,
    order: &Order,
    unlike: &[(PathId, RootId, FoldedKey)],
    leaning: &[PathId],
    names: &HashMap<LayerId, &str>,
) -> Result<Vec<OddRow>, LedgerError> {
    let name = |layer: LayerId| names.get(&layer).copied().unwrap_or_default().to_owned();
    let mut rows = Vec::new();
    let mut columns = ledger.catalogue.columns_of(&[], leaning)?;
    Blender::new(ledger).learn(&mut columns, order)?;
    for column in &columns {
        rows.extend(leaning_row(ledger, column, order, &name));
    }
    for (path, file_of, folder_of) in ledger.catalogue.files_against_folders()? {
        let Some((root, key)) = ledger.catalogue.key_at(path)? else { continue };
        let address = ledger.game().address(root, RelPath::from_disk(key.as_str()));
        let says =
            format!("a file for {} and a folder for {}; both can't be laid", name(file_of), name(folder_of));
        rows.push(OddRow {
            kind: OddKind::FileAgainstFolder,
            address: address.map(|address| address.to_string()).unwrap_or_default(),
            layers: vec![name(file_of), name(folder_of)],
            says,
        });
    }
    rows.extend(super::super::load_order::hidden(ledger, order, &name)?);
    rows.extend(split_pairs(ledger, order, unlike, &name)?);
    rows.sort();
    rows.dedup();
    Ok(rows)
}

fn shown(ledger: &Ledger, column: &Column) -> String {
    let spelled = column.spelled().cloned().unwrap_or_default();
    ledger.game().address(column.root, spelled).map(|address| address.to_string()).unwrap_or_default()
}

fn leaning_row(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
    name: &impl Fn(LayerId) -> String,
) -> Option<OddRow> {
    let laid = column.laid(order);
    let address = shown(ledger, column);
    let away = laid.iter().position(|entry| entry.takes_away());
    if let Some(at) = away {
        let other = laid[..at].iter().chain(&laid[at + 1..]).find(|entry| !entry.takes_away());
        if let Some(other) = other {
            let away = laid[at].layer;
            let is_away = matches!(column.provider(order), Provider::Nothing);
            let end = if is_away { "it is away" } else { "it is there" };
            let says = format!("{} takes it away, {} puts it: {end}", name(away), name(other.layer));
            let layers = if is_away { [away, other.layer] } else { [other.layer, away] };
            let layers = layers.into_iter().map(name).collect();
            return Some(OddRow { kind: OddKind::AwayAgainstPut, address, layers, says });
        }
        if column.base.is_none() {
            let says = format!("{} takes it away, and there is nothing", name(laid[at].layer));
            let layers = vec![name(laid[at].layer)];
            return Some(OddRow { kind: OddKind::NothingBeneath, address, layers, says });
        }
    }
    let keys = laid.iter().find(|entry| entry.kind == EntryKind::Keys)?;
    let has_file = !matches!(column.provider(order), Provider::Nothing);
    (!has_file).then(|| OddRow {
        kind: OddKind::NothingBeneath,
        address,
        layers: vec![name(keys.layer)],
        says: format!("{} changes keys of it, and there is no such file", name(keys.layer)),
    })
}

/// Files of one stem in one folder that come from different layers although a loser has them all.
fn split_pairs(
    ledger: &Ledger,
    order: &Order,
    unlike: &[(PathId, RootId, FoldedKey)],
    name: &impl Fn(LayerId) -> String,
) -> Result<Vec<OddRow>, LedgerError> {
    let catalogue = &ledger.catalogue;
    let mut seen: HashSet<(RootId, String)> = HashSet::new();
    let mut rows = Vec::new();
    // What runs code and settings first: there a split does harm.
    let mut looked_at: Vec<_> =
        unlike.iter().filter(|(_, _, key)| may_be_one_of_a_pair(key.as_str())).collect();
    let is_common = |key: &FoldedKey| {
        let path = RelPath::from_disk(key.as_str());
        !runs_code(&path, None) && order.blend_rules().format_of(key.as_str()).is_none()
    };
    if looked_at.len() > MOST_LOOKED_AT {
        looked_at.sort_by_cached_key(|(_, _, key)| is_common(key));
        looked_at.truncate(MOST_LOOKED_AT);
    }
    for (path, root, key) in looked_at {
        let Some(stem) = stem(key.as_str()) else { continue };
        if !seen.insert((*root, stem.to_owned())) {
            continue;
        }
        let siblings: Vec<PathId> = catalogue
            .paths_beginning(*root, &format!("{stem}."))?
            .into_iter()
            .filter(|(_, other)| self::stem(other) == Some(stem) && may_be_one_of_a_pair(other))
            .map(|(path, _)| path)
            .collect();
        if siblings.len() < 2 || !siblings.contains(path) {
            continue;
        }
        let mut columns = catalogue.columns_of(&[], &siblings)?;
        Blender::new(ledger).learn(&mut columns, order)?;
        rows.extend(split_pair(ledger, order, &columns, name));
    }
    Ok(rows)
}

fn split_pair(
    ledger: &Ledger,
    order: &Order,
    columns: &[Column],
    name: &impl Fn(LayerId) -> String,
) -> Option<OddRow> {
    // What blends has something of each.
    let whole: Vec<&Column> = columns
        .iter()
        .filter(|column| column.blend(order).is_none_or(|blend| blend.outcome.is_err()))
        .collect();
    for one in &whole {
        let winner = one.winner(order)?;
        for other in whole.iter().filter(|other| other.path != one.path) {
            let other_winner = other.winner(order)?;
            let has = |column: &Column, layer: LayerId| {
                column.laid(order).iter().any(|entry| entry.layer == layer && !entry.takes_away())
            };
            let both = one.laid(order).into_iter().map(|entry| entry.layer);
            let mut both = both.filter(|layer| has(one, *layer) && has(other, *layer));
            if winner.layer != other_winner.layer
                && let Some(whose) = both.next()
            {
                let (mine, theirs) = (shown(ledger, one), shown(ledger, other));
                let last = |address: &str| address.rsplit('/').next().unwrap_or(address).to_owned();
                let says = format!(
                    "{} has both {} and {}; of these {} counts from {} and {} from {}",
                    name(whose),
                    last(&mine),
                    last(&theirs),
                    last(&mine),
                    name(winner.layer),
                    last(&theirs),
                    name(other_winner.layer),
                );
                let layers = vec![name(winner.layer), name(other_winner.layer)];
                return Some(OddRow { kind: OddKind::SplitPair, address: mine, layers, says });
            }
        }
    }
    None
}

/// The path without its last ending.
fn stem(path: &str) -> Option<&str> {
    let name = path.rfind('/').map_or(0, |cut| cut + 1);
    let dot = path[name..].rfind('.').filter(|dot| *dot > 0)?;
    Some(&path[..name + dot])
}

fn may_be_one_of_a_pair(path: &str) -> bool {
    path.rsplit_once('.').is_some_and(|(_, ending)| !ALONE.contains(&ending) && !ending.contains('/'))
}
