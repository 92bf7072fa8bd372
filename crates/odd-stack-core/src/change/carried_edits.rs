//! A person's edits of a layer's file carried over to the layer's new version.

use std::path::{Path, PathBuf};

use super::decider::{Decider, Move};
use super::error::ChangeError;
use super::plan::{CarriedFile, ClashingFile};
use super::request::Exchange;
use crate::address::Address;
use crate::blend::{Clash, MOST_BLENDED_BYTES, NotCarried, carry_over};
use crate::files::{KEPT, Seen, read_small};
use crate::hash::ContentHash;
use crate::stack::{BaseKind, Blended, Entry, Order, Provider};

/// What becomes of an edited file.
pub(super) enum Carry {
    /// This is what is to lie there.
    Over {
        content: Vec<u8>,
        changes: Vec<String>,
    },
    /// The person's file is the new version already.
    Same,
    Clashes(Vec<Clash>),
    /// It is no text, or not of a layer that is exchanged.
    Not,
}

impl Decider<'_> {
    /// Tries to carry over the edits of the file that moves.
    pub(super) fn carry(&self, at: &Move<'_>, now: &Seen) -> Result<Carry, ChangeError> {
        let (Provider::Layer(from), Provider::Layer(to)) = (at.from, at.to) else { return Ok(Carry::Not) };
        let most = [from.size_bytes, to.size_bytes, now.size_bytes].into_iter().max();
        let blended = at.column.blend(&self.stack.after).and_then(|blend| blend.outcome.as_ref().ok());
        let is_new = |exchange: &&Exchange| {
            let is_in = |blended: &Blended| blended.from.contains(&exchange.new);
            to.layer == exchange.new || blended.is_some_and(is_in)
        };
        let Some(exchange) = self.stack.exchanges.iter().find(is_new) else { return Ok(Carry::Not) };
        let is_container = !at.column.members.is_empty();
        if is_container || now.kind != BaseKind::File || most > Some(MOST_BLENDED_BYTES) {
            return Ok(Carry::Not);
        }
        let path = at.present_or_future().on(&self.root(at.column.root)?.folder);
        let mine =
            read_small(&path, MOST_BLENDED_BYTES).map_err(|source| ChangeError::Look { path, source })?;
        let Some(mine) = mine else { return Ok(Carry::Not) };
        if ContentHash::of(&mine) == to.hash {
            return Ok(Carry::Same);
        }
        let old = self.content_of(at, from, &self.stack.before)?;
        let new = self.content_of(at, to, &self.stack.after)?;
        let (Some(old), Some(new)) = (old, new) else { return Ok(Carry::Not) };
        let format = self.stack.after.blend_rules().format_of(to.spelled.as_str());
        Ok(match carry_over(format, &old, &mine, &new, exchange.prefer) {
            Ok(carried) if carried.content == new => Carry::Same,
            Ok(carried) => Carry::Over { content: carried.content, changes: carried.changes },
            Err(NotCarried::NoText) => Carry::Not,
            Err(NotCarried::Clashes(clashes)) => Carry::Clashes(clashes),
        })
    }

    /// The content that a layer, or several blended, supply; nothing in a dry run, where it is not stored.
    fn content_of(
        &self,
        at: &Move<'_>,
        entry: &Entry,
        order: &Order,
    ) -> Result<Option<Vec<u8>>, ChangeError> {
        match self.blender.content_of(at.column, entry, order)? {
            Some(made) => Ok(Some(made)),
            None => Ok(self.blender.stored(entry)?),
        }
    }

    /// Carries over the edits of a file; nothing if that is not to be, else where the file is saved and what
    /// takes its place, unless that is just the new version. What clashes is noted and stops the change.
    #[expect(clippy::type_complexity, reason = "read at its one caller")]
    pub(super) fn carry_or_note(
        &mut self,
        at: &Move<'_>,
        now: &Seen,
        address: &Address,
        side: &Path,
    ) -> Result<Option<Option<(PathBuf, (Vec<u8>, i64))>>, ChangeError> {
        match self.carry(at, now)? {
            Carry::Not => Ok(None),
            Carry::Same => Ok(Some(None)),
            Carry::Clashes(clashes) => {
                self.noted.clashing.push(ClashingFile { address: address.clone(), clashes });
                Ok(Some(None))
            }
            Carry::Over { content, changes } => {
                let folder = side.join(KEPT).join(self.files.revision.to_string());
                let path = at.present_or_future().on(&folder.join(address.root.as_str()));
                let kept = path.clone();
                self.decision.plan.carried.push(CarriedFile { address: address.clone(), changes, kept });
                // The edit's own time; never that of the layer's file, or the edit could not be seen.
                let edited = now.modified_ns.div_euclid(1_000_000_000);
                let is_layers = at.to.entry().is_some_and(|entry| entry.modified == edited);
                let modified = if is_layers { edited + 2 } else { edited };
                Ok(Some(Some((path, (content, modified)))))
            }
        }
    }
}
