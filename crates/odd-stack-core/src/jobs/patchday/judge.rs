//! Which layers fit the game as it is after an update.

use std::collections::{BTreeMap, HashSet};

use super::touched::Touched;
use crate::expected::{Blender, game_version_under};
use crate::hash::ContentHash;
use crate::jobs::file_needs::unmet_files;
use crate::jobs::{Fate, FateRow, Help};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Arrangement, BaseKind, Column, LayerFacts, LayerId, PathId, Unmet, unmet};
use crate::version_range::VersionRange;

/// What was judged.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Judged {
    /// Each layer that was to be laid, from the top to the bottom.
    pub rows: Vec<FateRow>,
    /// Those that do not fit.
    pub unfit: Vec<LayerId>,
}

/// What speaks against a layer, or is to be known of it.
#[derive(Debug, Default, Clone)]
struct LayerCase {
    against: Vec<String>,
    to_know: Vec<String>,
    has_unmet: bool,
    /// It can't be laid at all as the game is.
    is_blocked: bool,
}

/// How many addresses a reason names.
const MOST_NAMED: usize = 4;

/// Judges the layers that `wanted` has laid: their needs against the game's version `now` and each other, and whole
/// files of theirs that cover one which the update touched (`touched`), unless they say that they are for this
/// version. `to_know` is told of each layer and speaks against none.
pub(in crate::jobs) fn judge_layers(
    ledger: &Ledger,
    wanted: &Arrangement,
    touched: &Touched,
    to_know: &BTreeMap<LayerId, Vec<String>>,
    now: Option<&str>,
) -> Result<Judged, LedgerError> {
    let facts = ledger.catalogue.facts()?;
    let own: HashSet<LayerId> = ledger.catalogue.all_own_edits()?.into_iter().collect();
    let laid: Vec<&LayerFacts> =
        wanted.laid().into_iter().filter_map(|layer| facts.iter().find(|facts| facts.id == layer)).collect();
    let mut cases: BTreeMap<LayerId, LayerCase> =
        laid.iter().map(|layer| (layer.id, LayerCase::default())).collect();
    for (layer, texts) in to_know {
        if let Some(case) = cases.get_mut(layer) {
            case.to_know.extend(texts.iter().cloned());
        }
    }
    covered(ledger, wanted, touched, &laid, now, &mut cases)?;
    without_folders(ledger, &mut cases)?;
    let mut unfit: Vec<LayerId> = Vec::new();
    loop {
        let fit: Vec<&LayerFacts> = laid.iter().copied().filter(|layer| !unfit.contains(&layer.id)).collect();
        // A layer's file may tell another version than the game's own.
        let version = game_version_under(ledger, &wanted.with_laid(&unfit, false))?;
        let mut all = unmet(version.as_deref().or(now), &fit);
        all.extend(unmet_files(ledger, &facts, &wanted.with_laid(&unfit, false))?);
        for unmet in all.iter().filter(|unmet| !unmet.despite) {
            if let Some(layer) = fit.iter().find(|layer| layer.name == unmet.layer)
                && let Some(case) = cases.get_mut(&layer.id)
            {
                note_unmet(case, unmet);
            }
        }
        // The user's own edits go on top of whatever is there.
        let before = unfit.len();
        let is_unfit = |layer: &LayerId| {
            cases.get(layer).is_some_and(|case| !case.against.is_empty()) && !own.contains(layer)
        };
        unfit.extend(fit.iter().map(|layer| layer.id).filter(is_unfit));
        if unfit.len() == before {
            break;
        }
    }
    let rows = laid.iter().rev().map(|layer| {
        let LayerCase { mut against, to_know, has_unmet, is_blocked } =
            cases.remove(&layer.id).unwrap_or_default();
        let is_unfit = unfit.contains(&layer.id);
        against.extend(to_know);
        FateRow {
            layer: layer.name.clone(),
            version: layer.version.clone(),
            fate: if is_unfit { Fate::Lifted } else { Fate::Laid },
            reasons: against,
            help: (is_unfit && !is_blocked).then_some(Help::Lay { despite: has_unmet }),
        }
    });
    Ok(Judged { rows: rows.collect(), unfit })
}

/// Notes folders that layers need, and that are files of the game now.
fn without_folders(ledger: &Ledger, cases: &mut BTreeMap<LayerId, LayerCase>) -> Result<(), LedgerError> {
    for (layer, case) in cases {
        for (root, key) in ledger.catalogue.folders_of(&[*layer])? {
            let Some(base) = ledger.catalogue.base_at(root, &key)? else { continue };
            if base.kind != BaseKind::Folder
                && let Some(address) = ledger.game().address(root, base.spelled)
            {
                case.against.push(format!("needs the folder {address}, where the game has a file now"));
                case.is_blocked = true;
            }
        }
    }
    Ok(())
}

fn note_unmet(case: &mut LayerCase, unmet: &Unmet) {
    let reason = format!("needs {}, and {}", unmet.what, unmet.found);
    if !case.against.contains(&reason) {
        case.against.push(reason);
        case.has_unmet = true;
    }
}

/// Whether a member of a container is not what it was when a layer first changed something in it.
fn member_changed(ledger: &Ledger, column: &Column) -> Result<bool, LedgerError> {
    let now = column.base.as_ref().map_or(Some(ContentHash::NOTHING), |base| base.hash);
    Ok(ledger.catalogue.member_seen(column.path)?.is_none_or(|seen| Some(seen) != now))
}

/// Notes whole files over what the update touched, and edits of settings that find nothing to change any more.
fn covered(
    ledger: &Ledger,
    wanted: &Arrangement,
    touched: &Touched,
    laid: &[&LayerFacts],
    now: Option<&str>,
    cases: &mut BTreeMap<LayerId, LayerCase>,
) -> Result<(), LedgerError> {
    let paths: Vec<PathId> = touched.paths.iter().copied().collect();
    let order = ledger.order(wanted, ledger.catalogue.settlements()?)?;
    let mut columns = ledger.catalogue.columns_of(&[], &paths)?;
    let mut blender = Blender::new(ledger);
    touched.brought.iter().for_each(|(path, file)| blender.set_base_at(*path, file.clone()));
    blender.learn(&mut columns, &order)?;
    let mut whole: BTreeMap<LayerId, Vec<String>> = BTreeMap::new();
    for column in &columns {
        let Some(spelled) = column.spelled() else { continue };
        if column.is_member && !member_changed(ledger, column)? {
            continue;
        }
        let Some(address) = ledger.game().address(column.root, spelled.clone()) else { continue };
        let blended = column.blend(&order).and_then(|blend| blend.outcome.as_ref().ok());
        for entry in column.laid(&order) {
            if blended.is_some_and(|blended| blended.from.contains(&entry.layer)) {
                continue;
            }
            let is_alike = column.base.as_ref().is_some_and(|base| base.hash == Some(entry.hash));
            if entry.kind.is_file() && !is_alike {
                whole.entry(entry.layer).or_default().push(address.to_string());
            }
        }
        if let Some(blended) = blended.filter(|blended| !blended.undone.is_empty()) {
            for layer in &blended.from {
                if let Some(case) = cases.get_mut(layer) {
                    let undone = blended.undone.iter().map(|undone| format!("{address}: {undone}"));
                    case.to_know.extend(undone);
                }
            }
        }
    }
    for (layer, addresses) in whole {
        let (Some(case), Some(facts)) = (cases.get_mut(&layer), laid.iter().find(|facts| facts.id == layer))
        else {
            continue;
        };
        let count = addresses.len();
        let named = addresses[..count.min(MOST_NAMED)].join(", ");
        let more =
            if count > MOST_NAMED { format!(" and {} more", count - MOST_NAMED) } else { String::new() };
        let files = if count == 1 { "a file that".to_owned() } else { format!("{count} files that") };
        let reason = format!("replaces {files} the update touched: {named}{more}");
        let range = facts.needs.game.as_deref().and_then(|range| VersionRange::parse(range).ok());
        let is_for_this = range.zip(now).is_some_and(|(range, now)| range.contains(now));
        if is_for_this { case.to_know.push(reason) } else { case.against.push(reason) }
    }
    Ok(())
}
