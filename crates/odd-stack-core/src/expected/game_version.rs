//! Which version the game has, by the file that tells it as it lies on disk.

use super::blending::Blender;
use super::drift::{is_base_as_seen, is_entry_as_laid};
use super::spelling::path_on_disk;
use crate::address::RelPath;
use crate::compare_versions;
use crate::files::look_at;
use crate::game::{GameVersion, Root, version_in, version_of_file};
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Arrangement, Column, LayerId, Order, Provider};

/// The game's version as its files tell it now.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct GameVersionNow {
    /// The version that is known of the game itself.
    pub known: Option<String>,
    /// What the file that tells it tells now, whosever it is.
    pub version: Option<String>,
    /// The layer whose file that is.
    pub layer: Option<LayerId>,
    /// The file is neither the game's own as it was nor a layer's as it was laid, and tells another version.
    pub is_changed: bool,
}

impl GameVersionNow {
    /// The version of the game itself, as far as that can be told.
    pub fn of_game(&self) -> Option<String> {
        if self.layer.is_some() { self.known.clone() } else { self.version.clone().or(self.known.clone()) }
    }
}

/// Looks at the file that tells the version; it is read only where it is not the game's own as it was.
///
/// # Errors
/// [`LedgerError`].
pub fn game_version_now(ledger: &Ledger) -> Result<GameVersionNow, LedgerError> {
    let known = ledger.game().version.as_ref();
    let unchanged = GameVersionNow {
        known: known.map(|known| known.version.clone()),
        version: known.map(|known| known.version.clone()),
        ..GameVersionNow::default()
    };
    let Some((known, root, mut column)) = teller(ledger)? else { return Ok(unchanged) };
    let arrangement = ledger.catalogue.arrangement()?;
    let order = order_at(ledger, &arrangement, &mut column)?;
    let provider = column.provider(&order);
    let relative = match provider {
        Provider::Base(base) => base.spelled.clone(),
        _ => path_on_disk(&ledger.catalogue, &column, &order)?,
    };
    let path = relative.on(&root.folder);
    // What can't be looked at tells nothing; who needs the file says so.
    let Some(seen) = look_at(&path).ok().flatten() else { return Ok(unchanged) };
    let (layer, is_as_known) = match provider {
        Provider::Base(base) if is_base_as_seen(base, &seen) => return Ok(unchanged),
        Provider::Layer(entry) => (Some(entry.layer), is_entry_as_laid(entry, &seen)),
        _ => (None, false),
    };
    // What can't be read tells nothing.
    let told = version_of_file(&root.folder, &path, known.pattern.as_deref()).unwrap_or_default();
    let Some(told) = told else { return Ok(unchanged) };
    let is_changed = !is_as_known && compare_versions(&told, &known.version).is_ne();
    let layer = layer.filter(|_| is_as_known);
    Ok(GameVersionNow { known: unchanged.known, version: Some(told), layer, is_changed })
}

/// The version that the game would have under `arrangement`: a layer's file may tell another one than the game's own.
///
/// # Errors
/// [`LedgerError`].
pub(crate) fn game_version_under(
    ledger: &Ledger,
    arrangement: &Arrangement,
) -> Result<Option<String>, LedgerError> {
    let now = game_version_now(ledger)?;
    let Some((known, _, mut column)) = teller(ledger)? else { return Ok(now.version) };
    let before = ledger.catalogue.arrangement()?;
    let lies = order_at(ledger, &before, &mut column)?;
    let lies = column.provider(&lies).entry().map(|entry| (entry.layer, entry.hash));
    let order = order_at(ledger, arrangement, &mut column)?;
    Ok(match column.provider(&order) {
        Provider::Layer(entry) if lies != Some((entry.layer, entry.hash)) => {
            // In a dry run it is not stored.
            let stored = ledger.stored(entry.hash)?;
            let told = match stored.packed() {
                Ok(None) => version_of_file(ledger.folder(), &stored.path(), known.pattern.as_deref()),
                Ok(Some(content)) => Ok(version_in(&content, known.pattern.as_deref())),
                Err(error) => Err(error),
            };
            told.ok().flatten().or(now.version)
        }
        Provider::Base(_) if lies.is_some() => now.known,
        _ => now.version,
    })
}

/// The version that was read from a file, with the root and the column of that file.
fn teller(ledger: &Ledger) -> Result<Option<(&GameVersion, &Root, Column)>, LedgerError> {
    let game = ledger.game();
    let Some(known) = &game.version else { return Ok(None) };
    let address = known.read_from.as_deref().and_then(|from| game.address_book().resolve(from).ok());
    let Some(address) = address else { return Ok(None) };
    let Some(root) = game.root_named(&address.root) else { return Ok(None) };
    let column = ledger.column(root.id, &game.folding.key(address.path.as_str()))?;
    Ok(Some((known, root, column)))
}

/// The order by which it is told who supplies the column's file; where no layer has one the least that is needed.
fn order_at(ledger: &Ledger, arrangement: &Arrangement, column: &mut Column) -> Result<Order, LedgerError> {
    let laid = arrangement.laid();
    if !column.entries.iter().any(|entry| laid.contains(&entry.layer)) {
        return Ok(arrangement.order());
    }
    let order = ledger.order(arrangement, ledger.catalogue.settlements()?)?;
    let mut columns = [column.clone()];
    Blender::new(ledger).learn(&mut columns, &order)?;
    let [learnt] = columns;
    *column = learnt;
    Ok(order)
}

/// Whether the address is that of the file that tells the game's version.
pub(crate) fn tells_version(ledger: &Ledger, root: &Root, path: &RelPath) -> bool {
    let game = ledger.game();
    let from = game.version.as_ref().and_then(|known| known.read_from.as_deref());
    let address = from.and_then(|from| game.address_book().resolve(from).ok());
    address.is_some_and(|address| {
        address.root == root.name
            && game.folding.key(address.path.as_str()) == game.folding.key(path.as_str())
    })
}
