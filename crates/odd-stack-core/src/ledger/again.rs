//! Stored contents that are put again after they were lost.

use std::path::Path;

use super::Ledger;
use super::error::LedgerError;
use super::places::{NewContent, Place, blob_path};
use super::private_room::make_private_folder;
use super::transaction::Transaction;
use crate::files::{KEPT, Seam, look_at};
use crate::hash::ContentHash;
use crate::stack::BaseKind;

/// Gives contents (hash, size in bytes, and where each lies in the ledger's folder for now, durably) files of their own; what lay
/// in a pack lies by itself from then on. What lay in their places goes, or is saved where it may be somebody's.
///
/// # Errors
/// [`LedgerError`]; those that have their places keep them, and running again is safe.
pub(crate) fn put_again(ledger: &Ledger, found: &[(ContentHash, u64, &Path)]) -> Result<(), LedgerError> {
    let (folder, seam) = (ledger.folder(), &*ledger.seam);
    let mut alone = Vec::new();
    for (hash, size_bytes, at) in found.iter().copied() {
        let path = blob_path(folder, hash);
        if let Some(folder) = path.parent() {
            make_private_folder(folder, seam)?;
        }
        let kept = folder.join(KEPT);
        make_private_folder(&kept, seam)?;
        // A damaged file is of no use to anybody; somebody's folder may be.
        match look_at(&path).map_err(LedgerError::io("look at", &path))? {
            Some(seen) if seen.kind == BaseKind::File => {
                seam.remove_file(&path).map_err(LedgerError::io("remove", &path))?;
            }
            Some(_) => save_damaged(&path, &kept, &hash.short(), seam)?,
            None => {}
        }
        seam.rename(at, &path).map_err(LedgerError::io("write", &path))?;
        alone.push(NewContent { hash, size_bytes, place: Place::Own });
    }
    seam.make_durable(folder, &[]).map_err(LedgerError::io("write to", folder))?;
    let transaction = Transaction::begin(ledger)?;
    ledger.catalogue.move_contents(&alone)?;
    seam.pass("renewed").map_err(LedgerError::io("write to", folder))?;
    transaction.commit()
}

/// Moves what lies at `path` into the kept files, under a name that nothing has.
pub(crate) fn save_damaged(path: &Path, kept: &Path, name: &str, seam: &dyn Seam) -> Result<(), LedgerError> {
    let mut places = (0u64..).map(|number| kept.join(format!("damaged-{name}-{number}")));
    let place = places.find(|place| !place.exists()).unwrap_or_else(|| kept.join(name));
    seam.rename(path, &place).map_err(LedgerError::io("save", &place))
}
