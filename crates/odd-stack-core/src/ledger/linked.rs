//! Contents of which files in the game are further names: what is written into such a file is written into the ledger.

use std::path::PathBuf;

use super::blobs::Incoming;
use super::places::blob_path;
use super::{Ledger, LedgerError};
use crate::files::{Stamp, identity, is_one_file, look_at};
use crate::hash::ContentHash;
use crate::observer::{Observer, Work};

impl Ledger {
    /// Whether a content was linked once and does not have the time any more that it was given then.
    pub(crate) fn may_be_written_through(&self, hash: ContentHash) -> Result<bool, LedgerError> {
        let Some(stamp) = self.catalogue.linked(hash)? else { return Ok(false) };
        let path = blob_path(self.folder(), hash);
        let seen = look_at(&path).map_err(LedgerError::io("look at", &path))?;
        Ok(seen.is_none_or(|seen| seen.modified_ns.div_euclid(1_000_000_000) != stamp.modified))
    }

    /// Whether somebody has written into a content.
    pub(crate) fn is_written_through(&self, hash: ContentHash) -> Result<bool, LedgerError> {
        let may_be = self.may_be_written_through(hash)?;
        let is_it = |hash| ContentHash::of_file(&blob_path(self.folder(), hash)).is_ok_and(|now| now == hash);
        Ok(may_be && !is_it(hash))
    }

    /// Contents that are one with files elsewhere now, so that they take room once; each with its size.
    pub(crate) fn shared_contents(&self) -> Result<Vec<u64>, LedgerError> {
        let has_names =
            |hash: ContentHash| identity(&blob_path(self.folder(), hash)).is_ok_and(|it| it.names > 1);
        let linked = self.catalogue.linked_contents()?.into_iter();
        Ok(linked.filter(|(hash, _)| has_names(*hash)).map(|(_, size_bytes)| size_bytes).collect())
    }

    /// Gives contents files of their own, so that nobody writes through `names` of them any more: of each content a name in
    /// the game, and its size. What was written to already is left.
    pub(crate) fn part_from(
        &self,
        names: &[(ContentHash, PathBuf, u64)],
        observer: &dyn Observer,
    ) -> Result<(), LedgerError> {
        let linked: Vec<_> = names
            .iter()
            .filter(|(hash, name, _)| is_one_file(&blob_path(self.folder(), *hash), name))
            .collect();
        if linked.is_empty() {
            return Ok(());
        }
        let seam = &*self.seam;
        let incoming = Incoming::begin(self.folder(), seam)?;
        observer.begin(Work::Guarding, linked.len() as u64, linked.iter().map(|(.., size)| size).sum());
        let mut parted = Vec::new();
        for (number, (hash, _, size_bytes)) in (0..).zip(linked) {
            let (path, own) = (blob_path(self.folder(), *hash), incoming.path(number));
            let Some(seen) = look_at(&path).map_err(LedgerError::io("look at", &path))? else { continue };
            let stamp = Stamp::at(seen.modified_ns, seen.mode);
            let copied = seam.copy_file(&path, &own, *size_bytes, stamp);
            let copied = copied.map_err(LedgerError::io("write", &own))?;
            let is_it = match copied.hash {
                Some(read) => read == *hash,
                None => ContentHash::of_file(&own).is_ok_and(|now| now == *hash),
            };
            if is_it {
                let durable = seam.make_durable(self.folder(), &[own.as_path()]);
                durable.map_err(LedgerError::io("write to", self.folder()))?;
                seam.replace(&own, &path).map_err(LedgerError::io("write", &path))?;
                parted.push(*hash);
            }
            observer.advance(1, *size_bytes);
        }
        observer.end();
        let durable = seam.make_durable(self.folder(), &[]);
        durable.map_err(LedgerError::io("write to", self.folder()))?;
        self.catalogue.forget_linked(&parted)?;
        incoming.end()
    }
}
