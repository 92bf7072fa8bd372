//! Who set which key of a configuration file.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::differs::KeyClashRow;
use crate::blend::{MOST_BLENDED_BYTES, key_rows, read_edits};
use crate::expected::Blender;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, Entry, LayerId, Order, PathId};

/// One layer's word on a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct KeySetter {
    /// The layer.
    pub layer: String,
    /// The value it gives; none when it takes the key out.
    pub value: Option<String>,
}

/// One key with everyone who has a word on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct KeyTraceRow {
    /// The key as people write it.
    pub key: String,
    /// The value that counts; none when the key is taken out.
    pub value: Option<String>,
    /// Who set it, the topmost first: that is the one who counts.
    pub set_by: Vec<KeySetter>,
    /// The value in the game's own file; none where it has none.
    pub base: Option<String>,
}

/// Who has what at one address, by what the entry is.
struct Words {
    key: String,
    base: Option<String>,
    /// From the bottom to the top.
    set: Vec<(LayerId, Option<String>)>,
}

fn words(
    ledger: &Ledger,
    column: &Column,
    laid: &[&Entry],
    order: &Order,
) -> Result<Result<Vec<Words>, String>, LedgerError> {
    let Some(format) = column.may_blend_as(order) else {
        return Ok(Err("it is no configuration that blends".to_owned()));
    };
    let blender = Blender::new(ledger);
    let above = laid.iter().rposition(|entry| entry.takes_away()).map_or(0, |at| at + 1);
    let base = if above == 0 { blender.base_content(column)? } else { None };
    let mut files: Vec<(LayerId, Vec<u8>)> = Vec::new();
    let mut edits = Vec::new();
    for entry in &laid[above..] {
        let Some(content) = blender.stored_if_there(entry)? else {
            return Ok(Err("a content is missing from the ledger".to_owned()));
        };
        if entry.kind == crate::stack::EntryKind::Keys {
            let list = read_edits(&content);
            edits.push((entry.layer, list.map_err(|error| ledger.catalogue.damaged_by(&error))?));
        } else {
            files.push((entry.layer, content));
        }
    }
    let contents: Vec<&[u8]> = files.iter().map(|(_, content)| content.as_slice()).collect();
    let lists: Vec<&[_]> = edits.iter().map(|(_, list): &(LayerId, Vec<_>)| list.as_slice()).collect();
    let first = base.as_deref().or(contents.first().copied()).unwrap_or_default();
    let rows = match key_rows(format.of_content(first), base.as_deref(), &contents, &lists) {
        Ok(rows) => rows,
        Err(error) => return Ok(Err(error.reason)),
    };
    let layers: Vec<LayerId> =
        files.iter().map(|(layer, _)| *layer).chain(edits.iter().map(|(layer, _)| *layer)).collect();
    Ok(Ok(rows
        .into_iter()
        .map(|row| Words {
            key: row.key,
            base: row.base,
            set: layers
                .iter()
                .zip(row.files.into_iter().chain(row.edits))
                .filter_map(|(layer, value)| Some((*layer, value?)))
                .collect(),
        })
        .collect()))
}

/// Every key that a laid layer changes at the column's address; or why that can't be told.
pub(in crate::jobs) fn trace_keys(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
) -> Result<Result<Vec<KeyTraceRow>, String>, LedgerError> {
    let names = ledger.catalogue.layer_names()?;
    let name = |layer: LayerId| names.iter().find(|(id, _)| *id == layer).map(|(_, name)| name.clone());
    let row = |words: Words| KeyTraceRow {
        key: words.key,
        value: words.set.last().and_then(|(_, value)| value.clone()),
        set_by: words
            .set
            .into_iter()
            .rev()
            .map(|(layer, value)| KeySetter { layer: name(layer).unwrap_or_default(), value })
            .collect(),
        base: words.base,
    };
    let words = words(ledger, column, &column.laid(order), order)?;
    Ok(words.map(|words| words.into_iter().map(row).collect()))
}

/// What layers say on keys, read once for each address however many pairs of layers meet there.
#[derive(Default)]
pub(in crate::jobs) struct KnownWords(RefCell<HashMap<PathId, Option<Rc<Vec<Words>>>>>);

impl KnownWords {
    /// The keys that two layers set differently.
    pub(in crate::jobs) fn clashes(
        &self,
        ledger: &Ledger,
        column: &Column,
        [lower, upper]: [&Entry; 2],
        order: &Order,
    ) -> Result<Vec<KeyClashRow>, LedgerError> {
        let known = self.0.borrow().get(&column.path).cloned();
        let all = match known {
            Some(all) => all,
            None => {
                let laid = column.laid(order);
                let is_small = laid.iter().all(|entry| entry.size_bytes <= MOST_BLENDED_BYTES);
                let all =
                    if is_small { words(ledger, column, &laid, order)?.ok().map(Rc::new) } else { None };
                self.0.borrow_mut().insert(column.path, all.clone());
                all
            }
        };
        match all {
            Some(all) => Ok(all.iter().filter_map(|words| words.clash(lower.layer, upper.layer)).collect()),
            // A third file may be in the way.
            None => {
                let words = words(ledger, column, &[lower, upper], order)?.unwrap_or_default();
                Ok(words.iter().filter_map(|words| words.clash(lower.layer, upper.layer)).collect())
            }
        }
    }
}

impl Words {
    /// What the two say, where they do not say the same.
    fn clash(&self, lower: LayerId, upper: LayerId) -> Option<KeyClashRow> {
        let of = |layer| self.set.iter().rfind(|(own, _)| *own == layer).map(|(_, value)| value.clone());
        let (lower, upper) = (of(lower)?, of(upper)?);
        (lower != upper).then(|| KeyClashRow { key: self.key.clone(), base: self.base.clone(), lower, upper })
    }
}
