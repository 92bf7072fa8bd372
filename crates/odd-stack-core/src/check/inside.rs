//! What changed in a container that somebody edited, member by member.

use std::collections::HashMap;
use std::path::Path;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::Serialize;

use crate::address::{FoldedKey, RelPath};
use crate::container::Packed;
use crate::expected::{Blender, Opened};
use crate::hash::ContentHash;
use crate::ledger::{Ledger, LedgerError};
use crate::stack::{Column, Order, Provider};

/// How a member on disk differs from what should be in the container.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum MemberTurn {
    /// It has other content.
    Changed,
    /// It should not be there.
    Come,
    /// It is gone.
    Gone,
}

/// One member that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MemberDrift {
    /// The path within the container.
    pub path: RelPath,
    /// How it differs.
    pub turn: MemberTurn,
}

/// A container on disk with what is different in it.
pub(crate) struct Inside {
    pub opened: Opened,
    /// What it was made from.
    pub beneath: Opened,
    pub members: Vec<MemberDrift>,
}

/// Compares the container at `path` with what the column should have under `order`; nothing where one of the two is no
/// container, or how it was is not known. What nobody changed is told by size and checksum.
pub(crate) fn inside(
    ledger: &Ledger,
    column: &Column,
    order: &Order,
    path: &Path,
) -> Result<Option<Inside>, LedgerError> {
    let blender = Blender::new(ledger);
    let beneath = match column.whole_provider(order) {
        Provider::Base(_) if column.composition(order).is_some() => blender.containers.of_base(column)?,
        Provider::Layer(entry) => blender.containers.of_entry(entry)?,
        // The one that lies there is all there is.
        _ => return Ok(None),
    };
    Ok(beneath.ok().and_then(|beneath| inside_over(&blender, column, order, &beneath, path)))
}

/// As [`inside`], of a container made from that one.
pub(crate) fn inside_over(
    blender: &Blender<'_>,
    column: &Column,
    order: &Order,
    beneath: &Opened,
    path: &Path,
) -> Option<Inside> {
    Some(compare(blender, column, order, beneath.clone(), blender.containers.at(path).ok()?))
}

/// As [`inside`], of a container that is a member of `outer`. Of those in members of members it is nothing: they are not looked
/// into.
pub(crate) fn inside_member(
    blender: &Blender<'_>,
    column: &Column,
    order: &Order,
    outer: &Inside,
) -> Result<Option<Inside>, LedgerError> {
    let Some((container, member)) = column.key.member().filter(|_| column.is_member) else { return Ok(None) };
    if container.member().is_some() {
        return Ok(None);
    }
    let beneath = match column.whole_provider(order) {
        Provider::Layer(entry) => blender.containers.of_entry(entry)?,
        Provider::Base(_) => blender.containers.unpacked(&outer.beneath, &member),
        Provider::Nothing => return Ok(None),
    };
    let (Ok(beneath), Ok(now)) = (beneath, blender.containers.unpacked(&outer.opened, &member)) else {
        return Ok(None);
    };
    Ok(Some(compare(blender, column, order, beneath, now)))
}

fn compare(blender: &Blender<'_>, column: &Column, order: &Order, beneath: Opened, opened: Opened) -> Inside {
    let folding = blender.folding();
    let made: HashMap<FoldedKey, Option<ContentHash>> = column
        .composition(order)
        .into_iter()
        .flat_map(|composition| composition.members)
        .filter_map(|(member, to)| Some((member.key.member()?.1, to.hash())))
        .collect();
    let mut members = Vec::new();
    let mut note = |path: &RelPath, turn: MemberTurn| members.push(MemberDrift { path: path.clone(), turn });
    for now in files(&opened) {
        let key = folding.key(now.path.as_str());
        let was = beneath.directory.find(&key);
        let is_alike = match (made.get(&key), was) {
            (Some(Some(hash)), _) => is_content(&opened, now, *hash),
            (Some(None), _) | (None, None) => {
                note(&now.path, MemberTurn::Come);
                continue;
            }
            (None, Some(was)) => (was.size_bytes, was.checksum) == (now.size_bytes, now.checksum),
        };
        if !is_alike {
            note(&now.path, MemberTurn::Changed);
        }
    }
    let is_there = |key: &FoldedKey| opened.directory.find(key).is_some();
    for was in files(&beneath) {
        let key = folding.key(was.path.as_str());
        if !is_there(&key) && !made.contains_key(&key) {
            note(&was.path, MemberTurn::Gone);
        }
    }
    for (key, hash) in &made {
        if hash.is_some() && !is_there(key) {
            note(&RelPath::from_disk(key.as_str()), MemberTurn::Gone);
        }
    }
    members.sort_by(|one, two| one.path.cmp(&two.path));
    Inside { opened, beneath, members }
}

fn files(opened: &Opened) -> impl Iterator<Item = &Packed> {
    opened.directory.members.iter().filter(|member| !member.is_folder)
}

fn is_content(opened: &Opened, member: &Packed, hash: ContentHash) -> bool {
    let read = opened.member(member).and_then(|mut content| ContentHash::of_reader(&mut content));
    read.is_ok_and(|(now, _)| now == hash)
}
