//! Containers that a game loads one after the other, by name, a later one winning member by member.

use std::collections::BTreeMap;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use super::conflicts::odd::{OddKind, OddRow};
use crate::address::{Address, FoldedKey, INTO, RelPath};
use crate::expected::{Blender, Opened};
use crate::game::AddressPattern;
use crate::hash::ContentHash;
use crate::jobs::addresses::AddressesError;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseKind, Column, LayerId, Order, Provider, RootId};

/// A member in one of the containers that are loaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct LoadedRow {
    /// The member's address.
    pub address: String,
    /// The layer that brings it, with its container or into one; none for the game's own.
    pub layer: Option<String>,
    /// Its size.
    pub size_bytes: u64,
    /// The one that the game takes: that of the last container.
    pub counts: bool,
}

/// A container as it lies in the game under an order.
struct Loaded {
    address: Address,
    column: Column,
    opened: Opened,
}

/// Who brings a member, and how big it is.
struct Brought {
    by: Option<LayerId>,
    size_bytes: u64,
}

impl Loaded {
    /// What it has at a path.
    fn member(&self, key: &FoldedKey, order: &Order) -> Option<Brought> {
        let own = self.column.whole_provider(order).entry().map(|entry| entry.layer);
        if let Some(member) =
            self.column.members.iter().find(|it| it.key.member().is_some_and(|(_, it)| it == *key))
        {
            return match member.provider(order) {
                Provider::Nothing => None,
                Provider::Base(base) => Some(Brought { by: own, size_bytes: base.size_bytes }),
                Provider::Layer(entry) => {
                    Some(Brought { by: Some(entry.layer), size_bytes: entry.size_bytes })
                }
            };
        }
        let found = self.opened.directory.find(key)?;
        Some(Brought { by: own, size_bytes: found.size_bytes })
    }

    /// All paths in it, as they are spelled.
    fn paths(&self, order: &Order, ledger: &Ledger) -> Vec<(FoldedKey, RelPath)> {
        let folding = ledger.game().folding;
        let own = self.opened.directory.members.iter().filter(|member| !member.is_folder);
        let mut paths: BTreeMap<FoldedKey, RelPath> =
            own.map(|member| (folding.key(member.path.as_str()), member.path.clone())).collect();
        for member in &self.column.members {
            let Some((_, key)) = member.key.member() else { continue };
            match member.provider(order).hash() {
                Some(hash) if hash != ContentHash::NOTHING => {
                    paths.entry(key.clone()).or_insert_with(|| RelPath::from_disk(key.as_str()));
                }
                _ => drop(paths.remove(&key)),
            }
        }
        paths.into_iter().collect()
    }
}

/// The containers that a pattern means, in the order in which the game loads them.
fn loaded(ledger: &Ledger, pattern: &AddressPattern, order: &Order) -> Result<Vec<Loaded>, LedgerError> {
    let catalogue = &ledger.catalogue;
    let mut keys: BTreeMap<FoldedKey, RootId> = BTreeMap::new();
    for (key, base) in catalogue.base_within(pattern.root, &pattern.within)? {
        if base.kind == BaseKind::File && pattern.meets(pattern.root, key.as_str()) {
            keys.insert(key, pattern.root);
        }
    }
    for (key, _) in catalogue.addresses_within(pattern.root, &pattern.within)? {
        if !key.as_str().contains(INTO) && pattern.meets(pattern.root, key.as_str()) {
            keys.insert(key, pattern.root);
        }
    }
    let blender = Blender::new(ledger);
    let mut found = Vec::new();
    for (key, root) in keys {
        let mut columns = [ledger.column(root, &key)?];
        blender.learn(&mut columns, order)?;
        let [column] = columns;
        let opened = match column.whole_provider(order) {
            Provider::Base(_) => blender.containers.of_base(&column)?,
            Provider::Layer(entry) => blender.containers.of_entry(entry)?,
            Provider::Nothing => continue,
        };
        let spelled = column.spelled().cloned().unwrap_or_default();
        if let (Ok(opened), Some(address)) = (opened, ledger.game().address(root, spelled)) {
            found.push(Loaded { address, column, opened });
        }
    }
    Ok(found)
}

/// Members of layers that a later container hides, one row for each two layers and containers.
pub(super) fn hidden(
    ledger: &Ledger,
    order: &Order,
    name: &impl Fn(LayerId) -> String,
) -> Result<Vec<OddRow>, LedgerError> {
    let mut rows = Vec::new();
    for text in &ledger.game().later_wins {
        let pattern = AddressPattern::parse(ledger.game(), text);
        let Some(pattern) = pattern.map_err(|error| ledger.catalogue.damaged_by(&error))? else { continue };
        let loaded = loaded(ledger, &pattern, order)?;
        let mut last: BTreeMap<FoldedKey, (usize, Option<LayerId>)> = BTreeMap::new();
        let mut hides: BTreeMap<(usize, usize, Option<LayerId>, LayerId), Vec<RelPath>> = BTreeMap::new();
        for (at, container) in loaded.iter().enumerate().rev() {
            for (key, path) in container.paths(order, ledger) {
                let by = container.member(&key, order).and_then(|member| member.by);
                match (last.get(&key), by) {
                    (Some((later, other)), Some(by)) if *other != Some(by) => {
                        hides.entry((*later, at, *other, by)).or_default().push(path);
                    }
                    (Some(_), _) => {}
                    (None, _) => drop(last.insert(key, (at, by))),
                }
            }
        }
        for ((later, at, other, by), paths) in hides {
            let (count, first) = (paths.len(), &paths[0]);
            let what =
                if count == 1 { first.to_string() } else { format!("{count} members, such as {first},") };
            let whose = other.map_or_else(|| "the game's own".to_owned(), name);
            let (hider, hidden) = (&loaded[later].address, &loaded[at].address);
            let says =
                format!("{what} of {} in {hidden} never shows: {hider} ({whose}) is loaded later", name(by));
            rows.push(OddRow {
                kind: OddKind::HiddenByLater,
                address: format!("{hidden}{INTO}{first}"),
                layers: other.map(name).into_iter().chain([name(by)]).collect(),
                says,
            });
        }
    }
    Ok(rows)
}

/// Tells of a member in all containers that a pattern means (`data/core*.qpk!/menu/title.txt`) which the game takes. Nothing
/// where the text means no such thing.
///
/// # Errors
/// [`AddressesError`].
pub fn trace_loaded(ledger: &Ledger, text: &str) -> Result<Option<Vec<LoadedRow>>, AddressesError> {
    let Some((containers, member)) = text.split_once(INTO) else { return Ok(None) };
    if !containers.contains(['*', '?', '[', '{']) {
        return Ok(None);
    }
    let pattern = AddressPattern::parse(ledger.game(), containers).map_err(AddressesError::Pattern)?;
    let Some(pattern) = pattern else { return Ok(Some(Vec::new())) };
    let order = ledger.present_order()?;
    let key = ledger.game().folding.key(member);
    let names: BTreeMap<LayerId, String> = ledger.catalogue.layer_names()?.into_iter().collect();
    let mut rows = Vec::new();
    for container in loaded(ledger, &pattern, &order)? {
        if let Some(Brought { by, size_bytes }) = container.member(&key, &order) {
            let layer = by.and_then(|by| names.get(&by).cloned());
            let address = format!("{}{INTO}{member}", container.address);
            rows.push(LoadedRow { address, layer, size_bytes, counts: false });
        }
    }
    if let Some(last) = rows.last_mut() {
        last.counts = true;
    }
    Ok(Some(rows))
}
