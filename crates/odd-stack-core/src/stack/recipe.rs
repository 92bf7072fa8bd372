//! What goes into a blended file.

use super::column::{Blend, Recipe};
use super::{BaseKind, Column, Entry, EntryKind, LayerId, Order};
use crate::blend::{Format, MOST_GUESSED_BYTES};
use crate::hash::ContentHash;

/// Counts the ways of blending there were, for what an older one made is not what this one makes.
const BLENDING: u8 = 3;

impl Recipe<'_> {
    /// Names the recipe: equal ones give the same.
    pub fn hash(&self) -> ContentHash {
        let mut bytes = Vec::with_capacity(32 * (self.files.len() + self.edits.len() + 2));
        bytes.push(BLENDING);
        bytes.extend_from_slice(self.format.name().as_bytes());
        bytes.extend_from_slice(
            self.base.and_then(|base| base.hash).unwrap_or(ContentHash::NOTHING).as_bytes(),
        );
        let counts = [self.files.len() as u64, self.edits.len() as u64];
        counts.iter().for_each(|count| bytes.extend_from_slice(&count.to_le_bytes()));
        let inputs = self.files.iter().chain(&self.edits);
        inputs.for_each(|entry| bytes.extend_from_slice(entry.hash.as_bytes()));
        ContentHash::of(&bytes)
    }

    /// Those of `laid` that went into it.
    pub fn from(&self, laid: &[&Entry]) -> Vec<LayerId> {
        let is_in = |entry: &&&Entry| {
            let inputs = if entry.kind == EntryKind::Keys { &self.edits } else { &self.files };
            inputs.iter().any(|input| input.hash == entry.hash)
        };
        laid.iter().filter(is_in).map(|entry| entry.layer).collect()
    }

    /// The entry that stands for the file that comes of it.
    pub fn entry(&self, hash: ContentHash, size_bytes: u64) -> Option<Entry> {
        let inputs = || self.files.iter().chain(&self.edits);
        let top = inputs().next_back()?;
        Some(Entry {
            layer: top.layer,
            kind: EntryKind::File,
            // Key edits bring no spelling of their own.
            spelled: self.files.last().unwrap_or(top).spelled.clone(),
            hash,
            size_bytes,
            modified: inputs().map(|entry| entry.modified).max().unwrap_or_default(),
            executable: self.files.iter().rev().find_map(|entry| entry.executable),
        })
    }
}

impl Column {
    /// What is blended here under `order`; nothing where a whole file counts. Hashes of base files must be known.
    pub fn recipe(&self, order: &Order) -> Option<Recipe<'_>> {
        // By far the most columns have nothing to blend.
        if self.entries.len() < 2 && self.entries.iter().all(|entry| entry.kind != EntryKind::Keys) {
            return None;
        }
        let format = self.may_blend_as(order)?;
        let mut laid = self.laid(order);
        laid.retain(|entry| entry.kind != EntryKind::Members);
        // What lies beneath a whole container does not show through it.
        let whole_at = laid.iter().rposition(|entry| entry.kind == EntryKind::Packed).unwrap_or(0);
        let away = laid.iter().rposition(|entry| entry.takes_away()).filter(|at| *at >= whole_at);
        let above = away.map_or(whole_at, |at| at + 1);
        let base = self.base.as_deref().filter(|base| away.is_none() && base.kind == BaseKind::File);
        let (edits, mut files): (Vec<&Entry>, Vec<&Entry>) =
            laid[above..].iter().copied().partition(|entry| entry.kind == EntryKind::Keys);
        if files.is_empty() && base.is_none() {
            return None;
        }
        let top = files.last().copied();
        let whole = files.iter().any(|entry| entry.kind == EntryKind::Whole);
        if whole {
            files = top.into_iter().collect();
        }
        let own = base.and_then(|base| base.hash);
        if files.iter().any(|entry| Some(entry.hash) != own) {
            files.retain(|entry| Some(entry.hash) != own || whole);
        }
        // Of equal contents the uppermost counts.
        let all = files.clone();
        let mut index = 0;
        files.retain(|entry| {
            index += 1;
            !all[index..].iter().any(|later| later.hash == entry.hash)
        });
        let is_whole = match (files.as_slice(), top) {
            ([only], Some(top)) => only.hash == top.hash,
            ([], _) => true,
            _ => false,
        };
        if edits.is_empty() && (is_whole || whole) {
            return None;
        }
        let base = base.filter(|_| !whole);
        let sizes = files.iter().map(|entry| entry.size_bytes).chain(base.map(|base| base.size_bytes));
        if format == Format::ByContent && sizes.into_iter().any(|size| size > MOST_GUESSED_BYTES) {
            return None;
        }
        Some(Recipe { format, base, files, edits })
    }

    /// Whether the file under `order` is one that is made, not stored.
    pub fn is_made(&self, order: &Order) -> bool {
        self.composition(order).is_some() || self.recipe(order).is_some()
    }

    /// As what files here may blend under `order`.
    pub fn may_blend_as(&self, order: &Order) -> Option<Format> {
        let is_by_lines = |entry: &Entry| entry.kind == EntryKind::Lines && order.rank(entry.layer).is_some();
        order.blend_rules().may_blend_as(self.key.as_str(), self.entries.iter().any(is_by_lines))
    }

    /// What blending gives under `order`, where something is blended and that is known.
    pub fn blend(&self, order: &Order) -> Option<&Blend> {
        if self.blends.is_empty() {
            return None;
        }
        let made = self.made_under(self.recipe(order)?.hash(), order);
        self.blends.iter().find(|blend| blend.made == made)
    }

    /// Names what a recipe or a composition of that name gives here under `order`: with the layers that supply it and their times,
    /// which what stands for it has from them. Other layers may give the same bytes.
    pub fn made_under(&self, name: ContentHash, order: &Order) -> ContentHash {
        let mut bytes = name.as_bytes().to_vec();
        for entry in self.laid(order) {
            bytes.extend_from_slice(&entry.layer.0.to_le_bytes());
            bytes.extend_from_slice(&entry.modified.to_le_bytes());
        }
        ContentHash::of(&bytes)
    }
}
