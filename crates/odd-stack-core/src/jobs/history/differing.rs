//! The addresses at which two states of the stack differ.

use std::collections::{BTreeSet, HashMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::past::PastLayer;
use crate::blend::Format;
use crate::jobs::report::in_full;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Arrangement, Column, Entry, EntryKind, LayerId, Order, PathId, Settlement, Standing};

/// An address at which something else counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct FileDifference {
    /// The address.
    pub address: String,
    /// The uppermost layer with something there in the one, with its version; none where no layer has.
    pub from: Option<String>,
    /// That in the other.
    pub to: Option<String>,
    /// The file is merged from several layers in one of them: those beneath count, too.
    pub is_merged: bool,
}

/// The stack at a time.
pub(super) struct StackThen<'a> {
    /// Each layer from the bottom to the top.
    pub layers: &'a [(LayerId, PastLayer)],
    pub settled: HashMap<PathId, Settlement>,
}

impl StackThen<'_> {
    fn order(&self, ledger: &Ledger) -> Result<Order, LedgerError> {
        let standing = |(layer, past): &(LayerId, PastLayer)| Standing { layer: *layer, laid: past.laid };
        let arrangement = Arrangement::new(self.layers.iter().map(standing).collect());
        ledger.order(&arrangement, self.settled.clone())
    }

    fn title(&self, layer: LayerId) -> Option<String> {
        let (_, layer) = self.layers.iter().find(|(known, _)| *known == layer)?;
        Some(in_full(&layer.name, layer.version.as_deref()))
    }
}

/// Where the two differ, in order of addresses; nothing where a layer of one was tidied away, so that nobody can tell.
pub(super) fn differing_files(
    ledger: &Ledger,
    one: &StackThen<'_>,
    two: &StackThen<'_>,
) -> Result<Option<Vec<FileDifference>>, LedgerError> {
    let all: BTreeSet<LayerId> = one.layers.iter().chain(two.layers).map(|(layer, _)| *layer).collect();
    let forgotten = ledger.catalogue.forgotten_layers()?;
    if all.iter().any(|layer| forgotten.contains(layer)) {
        return Ok(None);
    }
    let (before, after) = (one.order(ledger)?, two.order(ledger)?);
    let columns = ledger.catalogue.columns_of_all(&all.into_iter().collect::<Vec<_>>())?;
    let by_content = ledger.catalogue.settings_by_content()?;
    let mut found = Vec::new();
    for column in &columns {
        let (was, is) = (counting(column, &before, &by_content), counting(column, &after, &by_content));
        let contents =
            |laid: &[&Entry]| laid.iter().map(|entry| (entry.hash, entry.kind)).collect::<Vec<_>>();
        if contents(&was) == contents(&is) {
            continue;
        }
        let is_merged = was.len() > 1 || is.len() > 1;
        let (was, is) = (was.last().copied(), is.last().copied());
        // As the one that counts spells it.
        let spelled = is.or(was).map(|entry| entry.spelled.clone());
        let Some(address) = spelled.and_then(|spelled| ledger.game().address(column.root, spelled)) else {
            continue;
        };
        found.push(FileDifference {
            address: address.to_string(),
            from: was.and_then(|entry| one.title(entry.layer)),
            to: is.and_then(|entry| two.title(entry.layer)),
            is_merged,
        });
    }
    found.sort_by(|one, two| one.address.cmp(&two.address));
    Ok(Some(found))
}

/// What layers have at an address, as far as it shows: the uppermost alone, unless it is put together of several.
fn counting<'c>(column: &'c Column, order: &Order, by_content: &HashSet<PathId>) -> Vec<&'c Entry> {
    let mut laid = column.laid(order);
    laid.retain(|entry| entry.kind != EntryKind::Members);
    let is_put_together = match column.may_blend_as(order) {
        Some(Format::ByContent) => by_content.contains(&column.path),
        format => format.is_some() || laid.iter().any(|entry| entry.kind == EntryKind::Keys),
    };
    let above = match is_put_together {
        true => laid.iter().rposition(|entry| entry.takes_away()).unwrap_or(0),
        false => laid.len().saturating_sub(1),
    };
    laid.split_off(above)
}
