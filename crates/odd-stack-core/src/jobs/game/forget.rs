//! Giving a game out of care.

use std::fs;
use std::path::Path;
use std::sync::Arc;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::SIDE_FOLDER;
use crate::change::empty_folder;
use crate::files::{KEPT, ORIGINALS, STAGE, Seam, TRASH, is_nothing_there};
use crate::jobs::Permit;
use crate::ledger::{GameMark, Home, Ledger, LedgerError, NAMES, Registered, SECOND_NAME, SUMS_NAME};

/// What is left of a forgotten game's ledger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub struct Forgotten {
    /// The game's name.
    pub name: String,
    /// The ledger's folder, when it stays because layers are still on the game.
    pub ledger_left: Option<String>,
    /// Folders with drifted files that were saved and stay.
    pub kept_left: Vec<String>,
}

/// Takes the game off the list. With layers still laid the ledger stays, since it holds the game's
/// own files that they cover, and can be taken up again; otherwise it is removed, except for saved
/// edits of the user.
///
/// # Errors
/// [`LedgerError`]. When the game is off the list already, what remains of the ledger is harmless.
pub fn forget(
    home: &Home,
    ledger: Ledger,
    permit: Permit,
    listed_name: &str,
) -> Result<Forgotten, LedgerError> {
    let has_laid = ledger.layers()?.iter().any(|layer| layer.laid);
    let mut kept_left = Vec::new();
    for root in &ledger.game().roots {
        let kept = ledger.site().side(root).join(KEPT);
        if !kept_left.contains(&kept) && fs::read_dir(&kept).is_ok_and(|mut entries| entries.next().is_some())
        {
            kept_left.push(kept);
        }
    }
    let (folder, seam) = (ledger.folder().to_path_buf(), Arc::clone(&ledger.seam));
    GameMark::remove_all(ledger.game(), &folder)?;
    if has_laid {
        home.change(|list| {
            list.retain(|listed| listed.name != listed_name);
            Ok::<_, LedgerError>(())
        })?;
    } else {
        home.change(|list| {
            let own = list.iter_mut().filter(|listed| listed.name == listed_name);
            own.for_each(|listed| listed.leaving = true);
            Ok::<_, LedgerError>(())
        })?;
        let sides = ledger.game().roots.iter().map(|root| ledger.site().side(root)).collect::<Vec<_>>();
        drop(ledger);
        drop(permit);
        for side in sides {
            // One that still has a file is somebody's.
            let _ = seam.remove_file(&side.join(NAMES));
        }
        finish_leaving(home, &*seam)?;
    }
    Ok(Forgotten {
        name: listed_name.to_owned(),
        ledger_left: has_laid.then(|| folder.display().to_string()),
        kept_left: kept_left.iter().map(|path| path.display().to_string()).collect(),
    })
}

/// Removes the ledgers of games that are being let go, also where that was cut short before.
///
/// # Errors
/// [`LedgerError`]; it is tried again by the next command of this kind.
pub(in crate::jobs) fn finish_leaving(home: &Home, seam: &dyn Seam) -> Result<(), LedgerError> {
    let leaving: Vec<Registered> = home.all()?.into_iter().filter(|game| game.leaving).collect();
    if leaving.is_empty() {
        return Ok(());
    }
    for game in &leaving {
        remove_ledger(&game.ledger, seam)?;
    }
    home.change(|list| {
        list.retain(|game| !leaving.contains(game));
        Ok(())
    })
}

/// Removes what a ledger is made of, and its folder if nothing else is in it.
fn remove_ledger(folder: &Path, seam: &dyn Seam) -> Result<(), LedgerError> {
    let catalogue = crate::ledger::CATALOGUE_FILE;
    let files = [catalogue.to_owned(), format!("{catalogue}-wal"), format!("{catalogue}-shm")];
    for name in files.iter().map(String::as_str).chain([
        SECOND_NAME,
        SUMS_NAME,
        NAMES,
        "reserve",
        "lock-holder",
        "lock",
    ]) {
        let path = folder.join(name);
        match seam.remove_file(&path) {
            Err(error) if !is_nothing_there(&error) => return Err(LedgerError::io("remove", &path)(error)),
            _ => {}
        }
    }
    for name in ["blobs", "packs", STAGE, TRASH] {
        let path = folder.join(name);
        // A link there is none of ours.
        if path.is_symlink() {
            continue;
        }
        empty_folder(&path, seam).map_err(LedgerError::io("empty", &path))?;
    }
    for name in ["blobs", "packs", STAGE, TRASH, ORIGINALS, KEPT] {
        // A folder that is not empty holds something of the user's, and stays.
        let _ = seam.remove_folder(&folder.join(name));
    }
    let _ = seam.remove_folder(folder);
    if let Some(beside) =
        folder.parent().filter(|above| above.file_name().is_some_and(|name| name == SIDE_FOLDER))
    {
        let _ = seam.remove_folder(beside);
    }
    Ok(())
}
