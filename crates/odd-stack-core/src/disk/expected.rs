//! What should lie in each folder of a root, by base and laid layers.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::spelling::{Folders, file_name};
use crate::address::{FoldedKey, RelPath};
use crate::game::Root;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseFile, BaseKind, Column, LayerId, Order, Provider, RootId};

/// What should lie in one folder.
#[derive(Default)]
pub(super) struct Place<'a> {
    /// Names of files and who supplies each.
    pub files: Vec<(&'a str, Provider<'a>)>,
    /// Names of folders.
    pub folders: BTreeSet<String>,
    /// The lowest laid layer that needs the folder, when the base has none there.
    pub made_by: Option<LayerId>,
}

/// Everything that should lie below `root`, by folder. `base` is sorted by key; `columns` are those of
/// the laid layers in this root and get their base here; `folders` are all that laid layers need.
pub(super) fn places<'a>(
    ledger: &Ledger,
    root: &Root,
    base: &'a [(FoldedKey, BaseFile)],
    columns: &'a mut [Column],
    order: &Order,
    needed: &[(RootId, FoldedKey)],
) -> Result<HashMap<String, Place<'a>>, LedgerError> {
    let find = |key: &FoldedKey| {
        let at = base.binary_search_by(|(other, _)| other.cmp(key)).ok()?;
        Some(&base[at].1)
    };
    for column in columns.iter_mut() {
        column.base = find(&column.key).cloned();
    }
    let columns: &'a [Column] = columns;
    let covered: HashSet<&FoldedKey> = columns.iter().map(|column| &column.key).collect();
    let mut places: HashMap<String, Place<'a>> = HashMap::new();
    for (key, base) in base {
        if base.kind == BaseKind::Folder {
            places.entry(base.spelled.as_str().to_owned()).or_default();
        } else if covered.is_empty() || !covered.contains(key) {
            add_file(&mut places, folder_of(&base.spelled), base.spelled.name(), Provider::Base(base));
        }
    }
    let mut folders = Folders::new(&ledger.catalogue, order.clone());
    for column in columns {
        let provider = column.provider(order);
        match (&column.base, provider.entry()) {
            (Some(base), _) => add_file(&mut places, folder_of(&base.spelled), base.spelled.name(), provider),
            (None, Some(entry)) => {
                let folder = match column.key.parent() {
                    Some(parent) => folders.path(root.id, &parent)?,
                    None => RelPath::root(),
                };
                add_file(&mut places, folder.as_str(), file_name(column, entry), provider);
            }
            (None, None) => {}
        }
    }
    for (_, key) in needed.iter().filter(|(of, key)| *of == root.id && find(key).is_none()) {
        let path = folders.path(root.id, key)?;
        let source = folders.source(root.id, key)?;
        let made_by = source.needs.iter().filter_map(|need| Some((order.rank(need.layer)?, need.layer)));
        places.entry(path.as_str().to_owned()).or_default().made_by = made_by.min().map(|(_, layer)| layer);
    }
    let all: Vec<RelPath> = places.keys().cloned().map(RelPath::from_disk).collect();
    for path in all.iter().filter(|path| !path.is_root()) {
        if let Some(place) = places.get_mut(folder_of(path)) {
            place.folders.insert(path.name().to_owned());
        }
    }
    Ok(places)
}

fn folder_of(path: &RelPath) -> &str {
    path.as_str().rfind('/').map_or("", |cut| &path.as_str()[..cut])
}

fn add_file<'a>(
    places: &mut HashMap<String, Place<'a>>,
    folder: &str,
    name: &'a str,
    provider: Provider<'a>,
) {
    match places.get_mut(folder) {
        Some(place) => place.files.push((name, provider)),
        None => {
            let place = Place { files: vec![(name, provider)], ..Place::default() };
            places.insert(folder.to_owned(), place);
        }
    }
}
