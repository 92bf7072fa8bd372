//! What a container is made of whose members layers change.

use super::{Blend, Column, Entry, EntryKind, Order, Provider};
use crate::hash::ContentHash;

/// Counts the ways of changing containers there were, for what an older one made is not what this one makes.
const COMPOSING: u8 = 1;

/// A container with other members than the file that it is made from.
#[derive(Debug)]
pub struct Composition<'c> {
    /// The file that it is made from: the game's own, or one that a layer brings whole.
    pub beneath: Provider<'c>,
    /// Members that are not what `beneath` has, in order of keys, each with who supplies it.
    pub members: Vec<(&'c Column, Provider<'c>)>,
    /// What names each: the hash of its content, and the composition's name where it is a changed container itself. That is known
    /// before it is made.
    named: Vec<Option<ContentHash>>,
    /// The topmost entry that changes members.
    top: &'c Entry,
    modified: i64,
}

impl Composition<'_> {
    /// Names the composition: equal ones give the same file.
    pub fn hash(&self) -> ContentHash {
        let mut bytes = vec![COMPOSING];
        bytes.extend_from_slice(b"container");
        bytes.extend_from_slice(self.beneath.hash().unwrap_or(ContentHash::NOTHING).as_bytes());
        for ((column, to), named) in self.members.iter().zip(&self.named) {
            bytes.extend_from_slice(column.key.as_str().as_bytes());
            bytes.push(0);
            let entry = to.entry();
            // The name and the time of a new member are in the container.
            bytes.extend_from_slice(entry.map_or("", |entry| entry.spelled.as_str()).as_bytes());
            bytes.push(0);
            bytes.extend_from_slice(&entry.map_or(0, |entry| entry.modified).to_le_bytes());
            bytes.extend_from_slice(named.unwrap_or(ContentHash::NOTHING).as_bytes());
        }
        ContentHash::of(&bytes)
    }

    /// The entry that stands for the file that comes of it.
    pub fn entry(&self, hash: ContentHash, size_bytes: u64) -> Entry {
        Entry {
            kind: EntryKind::File,
            spelled: self.beneath.entry().unwrap_or(self.top).spelled.clone(),
            hash,
            size_bytes,
            modified: self.modified,
            executable: self.beneath.entry().and_then(|entry| entry.executable),
            ..self.top.clone()
        }
    }

    /// The size of the file that comes of it, but for how contents pack.
    pub fn about_bytes(&self) -> u64 {
        self.beneath.size_bytes() + self.members.iter().map(|(_, to)| to.size_bytes()).sum::<u64>()
    }
}

impl Column {
    /// The columns of its members, those in containers in it after these; containers that layers change inside are left out.
    pub fn all_members(&self) -> Vec<&Column> {
        let mut all: Vec<&Column> = self.members.iter().filter(|member| member.members.is_empty()).collect();
        all.extend(self.members.iter().flat_map(Self::all_members));
        all
    }

    /// What changing members gives under `order`, where that is done and known.
    pub fn composed(&self, order: &Order) -> Option<&Blend> {
        let made = self.made_under(self.composition(order)?.hash(), order);
        self.blends.iter().find(|blend| blend.made == made)
    }

    /// How members of the container here differ under `order` from the file that it is made from; nothing where none do, or
    /// there is no such file. The columns of its members must be in it, with what the file has at their addresses.
    pub fn composition(&self, order: &Order) -> Option<Composition<'_>> {
        if self.members.is_empty() {
            return None;
        }
        let beneath = self.whole_provider(order);
        if matches!(beneath, Provider::Nothing) {
            return None;
        }
        let laid = self.laid(order);
        let top = laid.iter().rev().find(|entry| entry.kind == EntryKind::Members)?;
        let mut members: Vec<(&Column, Provider<'_>)> = Vec::new();
        for member in &self.members {
            let to = member.provider(order);
            let own = match beneath {
                Provider::Layer(whole) => {
                    let packed =
                        |entry: &&Entry| entry.layer == whole.layer && entry.kind == EntryKind::Packed;
                    let packed = member.entries.iter().find(packed).filter(|entry| !entry.takes_away());
                    packed.map(|entry| entry.hash)
                }
                _ => member.base.as_ref().and_then(|base| base.hash),
            };
            if to.hash() != own || member.composition(order).is_some() {
                members.push((member, to));
            }
        }
        if members.is_empty() {
            return None;
        }
        members.sort_by(|(one, _), (two, _)| one.key.cmp(&two.key));
        let named = |(member, to): &(&Column, Provider<'_>)| {
            member.composition(order).map(|inner| inner.hash()).or_else(|| to.hash())
        };
        let named = members.iter().map(named).collect();
        let modified = laid.iter().map(|entry| entry.modified).max().unwrap_or_default();
        Some(Composition { beneath, members, named, top, modified })
    }
}
