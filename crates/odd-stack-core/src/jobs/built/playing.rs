//! Starting the game in a second folder.

use super::checking::built_of;
use crate::game::{Running, running_in};
use crate::jobs::history::lineups::wanted;
use crate::jobs::play::playing::{Launch, PlayError, Where, launch_in};
use crate::ledger::{Layer, Ledger};

/// The programs in the second folder of a lineup that run right now.
pub fn running_in_built(ledger: &Ledger, lineup: &str) -> Vec<Running> {
    let built = built_of(ledger, lineup).ok();
    let folders: Vec<_> =
        built.into_iter().flat_map(|built| built.roots).filter_map(|(_, folder)| folder).collect();
    running_in(&folders)
}

/// How the game in the second folder of a lineup is started; nothing if no lineup of that name was built.
///
/// # Errors
/// [`PlayError`].
pub fn launch_built(ledger: &Ledger, name: &str) -> Result<Option<Launch>, PlayError> {
    let built = match built_of(ledger, name) {
        Ok(built) => built,
        Err(_) => return Ok(None),
    };
    if !built.is_finished {
        return Err(PlayError::NotBuilt { lineup: built.lineup });
    }
    let Ok((_, arranged)) = wanted(ledger, &built.lineup) else { return Ok(None) };
    let mut layers: Vec<Layer> = Vec::new();
    for layer in arranged.after.laid() {
        layers.extend(ledger.catalogue.layer(layer)?);
    }
    let folders = built.roots.iter().filter_map(|(root, folder)| Some((*root, folder.clone()?))).collect();
    let place = Where { layers, folders, lineup: Some(built.lineup) };
    launch_in(ledger, &place, None).map(Some)
}
