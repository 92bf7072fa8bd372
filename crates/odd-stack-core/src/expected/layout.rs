//! What should lie in each folder of a root, by base and laid layers.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::blending::Blender;
use super::spelling::{Folders, file_name};
use crate::address::{FoldedKey, RelPath};
use crate::game::Root;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{BaseFile, BaseKind, Column, LayerId, Order, Provider, RootId};

/// A file that should lie somewhere.
#[derive(Clone, Copy)]
pub(crate) struct Expected<'a> {
    pub name: &'a str,
    pub provider: Provider<'a>,
    /// The base's own file there, if a layer covers it.
    pub covered: Option<&'a BaseFile>,
}

/// What should lie in one folder.
#[derive(Default)]
pub(crate) struct Place<'a> {
    /// Files and who supplies each.
    pub files: Vec<Expected<'a>>,
    /// Names of folders.
    pub folders: BTreeSet<String>,
    /// The lowest laid layer that needs the folder, when the base has none there.
    pub made_by: Option<LayerId>,
    /// The folder should be there; one that a layer takes away should not, whatever else is known of it.
    pub is_wanted: bool,
}

/// Everything that should lie below `root`, by folder. `base` is sorted by key; `columns` are those of
/// the laid layers in this root and get their base here; `folders` are all that laid layers need.
pub(crate) fn places<'a>(
    ledger: &Ledger,
    root: &Root,
    base: &'a [(FoldedKey, BaseFile)],
    columns: &'a mut [Column],
    order: &Order,
    needed: &[(RootId, FoldedKey)],
) -> Result<HashMap<String, Place<'a>>, LedgerError> {
    let find = |key: &FoldedKey| base.binary_search_by(|(other, _)| other.cmp(key)).ok();
    let mut is_covered = vec![false; base.len()];
    for column in columns.iter_mut() {
        if let Some(at) = find(&column.key) {
            column.base = Some(Box::new(base[at].1.clone()));
            is_covered[at] = true;
        }
    }
    Blender::new(ledger).learn(columns, order)?;
    let columns: &'a [Column] = columns;
    let mut places = Places::default();
    places.at("");
    let mut folders = Folders::new(&ledger.catalogue, order.clone());
    // Few folders are taken away, so that is asked of those alone that layers have something to say of.
    let touched: HashSet<&FoldedKey> =
        needed.iter().filter(|(of, _)| *of == root.id).map(|(_, key)| key).collect();
    for ((key, base), is_covered) in base.iter().zip(is_covered) {
        if base.kind == BaseKind::Folder {
            if !touched.contains(key) || folders.name(root.id, key)?.is_some() {
                places.at(base.spelled.as_str()).is_wanted = true;
            }
        } else if !is_covered {
            let place = places.at(folder_of(&base.spelled));
            let (name, provider) = (base.spelled.name(), Provider::Base(base));
            place.files.push(Expected { name, provider, covered: None });
        }
    }
    for column in columns.iter().filter(|column| !column.is_member) {
        let provider = column.provider(order);
        match (column.base.as_deref(), provider.entry()) {
            (Some(base), _) => {
                let place = places.at(folder_of(&base.spelled));
                let covered = provider.entry().map(|_| base);
                place.files.push(Expected { name: base.spelled.name(), provider, covered });
            }
            (None, Some(entry)) => {
                let folder = match column.key.parent() {
                    Some(parent) => folders.path(root.id, &parent)?,
                    None => RelPath::root(),
                };
                let file = Expected { name: file_name(column, entry), provider, covered: None };
                places.at(folder.as_str()).files.push(file);
            }
            (None, None) => {}
        }
    }
    for (_, key) in needed.iter().filter(|(of, key)| *of == root.id && find(key).is_none()) {
        let path = folders.path(root.id, key)?;
        let source = folders.source(root.id, key)?;
        let made_by = source.needs.iter().filter_map(|need| Some((order.rank(need.layer)?, need.layer)));
        let place = places.at(path.as_str());
        place.made_by = made_by.min().map(|(_, layer)| layer);
        place.is_wanted = place.made_by.is_some();
    }
    Ok(with_folders(places))
}

/// Lists in each folder those directly in it.
fn with_folders(places: Places<'_>) -> HashMap<String, Place<'_>> {
    let all: Vec<RelPath> = places.by_folder.keys().cloned().map(RelPath::from_disk).collect();
    let mut places = places.finish();
    for path in all.iter().filter(|path| !path.is_root()) {
        if let Some(place) = places.get_mut(folder_of(path)) {
            place.folders.insert(path.name().to_owned());
        }
    }
    places
}

/// Places as they are gathered. Files come folder by folder, so the last folder is mostly the next.
#[derive(Default)]
struct Places<'a> {
    places: Vec<Place<'a>>,
    by_folder: HashMap<String, usize>,
    last: Option<(String, usize)>,
}

impl<'a> Places<'a> {
    fn at(&mut self, folder: &str) -> &mut Place<'a> {
        let known = self.last.as_ref().filter(|(last, _)| last == folder).map(|(_, index)| *index);
        let index = known.unwrap_or_else(|| {
            let index = self.by_folder.get(folder).copied().unwrap_or_else(|| {
                self.places.push(Place::default());
                self.by_folder.insert(folder.to_owned(), self.places.len() - 1);
                self.places.len() - 1
            });
            self.last = Some((folder.to_owned(), index));
            index
        });
        &mut self.places[index]
    }

    fn finish(mut self) -> HashMap<String, Place<'a>> {
        let places = &mut self.places;
        self.by_folder
            .into_iter()
            .map(|(folder, index)| (folder, std::mem::take(&mut places[index])))
            .collect()
    }
}

fn folder_of(path: &RelPath) -> &str {
    path.as_str().rfind('/').map_or("", |cut| &path.as_str()[..cut])
}
