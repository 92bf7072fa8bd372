//! Files of a package that lie in the game under other names, or in other folders, than its own: told by their content.

use std::collections::{HashMap, HashSet};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::{Address, FoldedKey, RelPath};
use crate::check::look_through;
use crate::hash::ContentHash;
use crate::jobs::AddError;
use crate::ledger::{Ledger, LedgerError};
use crate::observer::Observer;
use crate::stack::{BaseKind, Order, RootId};

/// A file of the package and the name that it has in the game.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct RenamedRow {
    /// Its path in the package.
    pub member: String,
    /// Where it lies.
    pub address: String,
}

/// A file that is looked for.
pub(in crate::jobs) struct SoughtFile<'a> {
    pub member: &'a RelPath,
    /// Where it would lie under its own name, if that is known.
    pub at: Option<&'a Address>,
    pub size_bytes: u64,
    pub hash: ContentHash,
}

/// So small files may be alike by chance, and must at least end alike.
const TELLING_BYTES: u64 = 64;

/// Where each of them lies in the game's folders, if it does; no place is given twice, and none that a layer or one of
/// `taken` has. Of several that are alike the one is meant whose name, or folder, is that of the package.
///
/// # Errors
/// [`AddError`], when a folder or a file can't be read.
pub(in crate::jobs) fn elsewhere(
    ledger: &Ledger,
    order: &Order,
    wanted: &[SoughtFile<'_>],
    taken: &HashSet<(RootId, FoldedKey)>,
    observer: &dyn Observer,
) -> Result<Vec<Option<Address>>, AddError> {
    let game = ledger.game();
    let sizes: HashSet<u64> = wanted.iter().map(|file| file.size_bytes).filter(|size| *size > 0).collect();
    let mut by_size: HashMap<u64, Vec<(RootId, RelPath)>> = HashMap::new();
    for root in &game.roots {
        for (path, seen) in look_through(&root.folder, observer)? {
            if seen.kind == BaseKind::File && sizes.contains(&seen.size_bytes) {
                by_size.entry(seen.size_bytes).or_default().push((root.id, path));
            }
        }
    }
    let mut hashes: HashMap<(RootId, RelPath), ContentHash> = HashMap::new();
    let mut used = taken.clone();
    let mut found = Vec::with_capacity(wanted.len());
    for file in wanted {
        let mut best: Option<(u32, (RootId, RelPath))> = None;
        for place in by_size.get(&file.size_bytes).into_iter().flatten() {
            let key = (place.0, game.folding.key(place.1.as_str()));
            let likeness = likeness(file, place, game.root(place.0).map(|root| root.name.as_str()));
            let is_telling = file.size_bytes >= TELLING_BYTES || likeness > 0;
            if used.contains(&key) || !is_telling || best.as_ref().is_some_and(|(most, _)| *most >= likeness)
            {
                continue;
            }
            let hash = match hashes.get(place) {
                Some(hash) => *hash,
                None => {
                    let path = place.1.on(&ledger.site().root(place.0)?.folder);
                    let hash = ContentHash::of_file(&path).map_err(LedgerError::io("read", &path))?;
                    hashes.insert(place.clone(), hash);
                    hash
                }
            };
            let column = ledger.catalogue.column_at(key.0, &key.1)?;
            let is_of_a_layer = column.is_some_and(|column| !column.laid(order).is_empty());
            if hash == file.hash && !is_of_a_layer {
                best = Some((likeness, place.clone()));
            }
        }
        let best = best.map(|(_, place)| place);
        used.extend(best.iter().map(|(root, path)| (*root, game.folding.key(path.as_str()))));
        found.push(best.and_then(|(root, path)| game.address(root, path)));
    }
    Ok(found)
}

/// How much a place looks like the one that the file would have.
fn likeness(file: &SoughtFile<'_>, (_, path): &(RootId, RelPath), root: Option<&str>) -> u32 {
    let ending = |name: &str| name.rsplit_once('.').map(|(_, ending)| ending.to_lowercase());
    let same_name = path.name().eq_ignore_ascii_case(file.member.name());
    let same_folder =
        file.at.is_some_and(|at| Some(at.root.as_str()) == root && at.path.parent() == path.parent());
    let same_ending = ending(path.name()).is_some_and(|own| Some(own) == ending(file.member.name()));
    4 * u32::from(same_name) + 2 * u32::from(same_folder) + u32::from(same_ending)
}
