//! Finding stored contents.

use std::collections::HashMap;

use super::pack_format::members;
use super::packs::{Packs, Stored};
use super::places::{NewContent, Place, packs_there};
use super::{Ledger, LedgerError};
use crate::files::open_at_once;
use crate::hash::ContentHash;

/// Contents from this size on lie by themselves; from a smaller one where smaller ones are laid as links.
const SMALL_BYTES: u64 = 256 << 10;

impl Ledger {
    /// Contents smaller than this are packed, others lie by themselves.
    pub(crate) fn small_bytes(&self) -> u64 {
        let big_files = self.game().big_files;
        if big_files.by_link { big_files.from_bytes.min(SMALL_BYTES) } else { SMALL_BYTES }
    }

    /// Where a content lies, or would.
    pub(crate) fn stored(&self, hash: ContentHash) -> Result<Stored, LedgerError> {
        Ok(Packs::stored(&self.packs, hash, self.catalogue.place_of(hash)?))
    }

    /// Lists contents that do not lie where the catalogue has them, after it was put back as it was before, where they lie.
    pub(crate) fn find_contents_again(&self) -> Result<(), LedgerError> {
        let mut found: HashMap<ContentHash, Vec<Place>> = HashMap::new();
        for (pack, path) in packs_there(&self.folder)? {
            // What can't be read is told when it is needed.
            let Ok(members) = open_at_once(&path).and_then(|mut file| members(&mut file)) else { continue };
            for member in members {
                let place = Place::Packed { pack, at: member.at, size_bytes: member.size_bytes };
                found.entry(member.hash).or_default().push(place);
            }
        }
        let mut moved = Vec::new();
        for content in self.catalogue.listed_contents()? {
            let stored = |place: Place| Packs::stored(&self.packs, content.hash, Some(place));
            let lies_there = match stored(content.place).own_file() {
                Some(own) => own.is_file(),
                None => stored(content.place).is_whole(),
            };
            let mut others = found.get(&content.hash).into_iter().flatten().copied().chain([Place::Own]);
            if !lies_there && let Some(place) = others.find(|place| stored(*place).is_whole()) {
                moved.push(NewContent { place, ..content });
            }
        }
        self.catalogue.move_contents(&moved)
    }
}
