//! Making packs anew without what nobody needs any more, and small ones into bigger ones.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::PathBuf;

use super::blobs::{set_mark, sweep};
use super::pack_format::size_in_pack;
use super::packs::MOST_BYTES;
use super::places::{NewContent, Place, packs_there};
use super::{Ledger, LedgerError, Transaction, check_room};
use crate::hash::ContentHash;
use crate::observer::Observer;

/// A big pack is made anew when one byte in so many is not needed.
const UNNEEDED_PART: u64 = 4;
/// Packs smaller than this are put together.
const SMALL_PACK_BYTES: u64 = MOST_BYTES / 16;

/// What is to be made anew: what lies in packs of which too much is not needed, and in small packs.
#[derive(Debug, Default)]
pub(crate) struct Repacking {
    contents: Vec<NewContent>,
    /// Bytes that nobody needs in packs to be made anew.
    pub unneeded_bytes: u64,
}

impl Ledger {
    /// What of the packs could be made anew.
    pub(crate) fn repacking(&self) -> Result<Repacking, LedgerError> {
        let mut packs: BTreeMap<u64, Vec<NewContent>> = BTreeMap::new();
        for content in self.catalogue.packed_contents()? {
            if let Place::Packed { pack, .. } = content.place {
                packs.entry(pack).or_default().push(content);
            }
        }
        let mut repacking = Repacking::default();
        let mut small: Vec<Vec<NewContent>> = Vec::new();
        for (number, path) in packs_there(&self.folder)? {
            let length = fs::metadata(&path).map_err(LedgerError::io("look at", &path))?.len();
            let contents = packs.remove(&number).unwrap_or_default();
            let needed: u64 = contents.iter().map(|content| size_in_pack(content.size_bytes)).sum();
            // What ends a pack is needed, too.
            let unneeded = length.saturating_sub(needed + size_in_pack(0));
            let is_small = length < SMALL_PACK_BYTES;
            match contents {
                contents if contents.is_empty() => {}
                contents if unneeded * UNNEEDED_PART > length || (is_small && unneeded > 0) => {
                    repacking.unneeded_bytes += unneeded;
                    repacking.contents.extend(contents);
                }
                contents if is_small => small.push(contents),
                _ => {}
            }
        }
        if small.len() + usize::from(!repacking.contents.is_empty()) > 1 {
            repacking.contents.extend(small.into_iter().flatten());
        }
        Ok(repacking)
    }

    /// Makes packs anew, as many at a time as fit into one; stops without complaint where there is no room for that, or a
    /// person has had enough. What is damaged stays where it is.
    ///
    /// # Errors
    /// [`LedgerError`]; all contents lie where the catalogue has them, and the next command removes what else was written.
    pub(crate) fn repack(&self, repacking: &Repacking, observer: &dyn Observer) -> Result<(), LedgerError> {
        let mut rest = repacking.contents.as_slice();
        while !rest.is_empty() && !observer.is_cancelled() {
            let mut bytes = 0;
            let fits = |content: &&NewContent| {
                bytes += size_in_pack(content.size_bytes);
                bytes <= MOST_BYTES
            };
            let count = rest.iter().take_while(fits).count().max(1);
            let (now, later) = rest.split_at(count);
            rest = later;
            if check_room(&self.folder, bytes).is_err() {
                break;
            }
            self.repack_some(now)?;
        }
        Ok(())
    }

    fn repack_some(&self, contents: &[NewContent]) -> Result<(), LedgerError> {
        let seam = &*self.seam;
        set_mark(&self.folder, seam)?;
        self.packs.begin(self.catalogue.last_pack()?, seam)?;
        // Left by an error, it takes back what was written.
        let transaction = Transaction::begin(self)?;
        let mut moved = Vec::new();
        for content in contents {
            let stored = self.stored(content.hash)?;
            let Ok(bytes) = stored.read(u64::MAX) else { continue };
            if ContentHash::of(&bytes) == content.hash {
                let place = self.packs.append(content.hash, &bytes, seam)?;
                moved.push(NewContent { place, ..*content });
            }
        }
        self.packs.finish(seam)?;
        let paths: BTreeSet<_> = moved.iter().map(|content| content.path(&self.folder)).collect();
        let durable =
            seam.make_durable(&self.folder, &paths.iter().map(PathBuf::as_path).collect::<Vec<_>>());
        durable.map_err(LedgerError::io("write to", &self.folder))?;
        self.catalogue.move_contents(&moved)?;
        seam.pass("repacked").map_err(LedgerError::io("write to", &self.folder))?;
        transaction.commit()?;
        sweep(self)
    }
}
