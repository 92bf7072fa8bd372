//! Telling people which keys files change.

use std::collections::HashSet;

use super::combine::combine_as;
use super::compare::{Compared, Difference, parse};
use super::formats::with_format;
use super::keyed::{Key, Keyed, Setting};
use super::meant::{Meant, OfGone, called};
use super::text::shown;
use super::{Format, KeyEdit, LastRead, NotBlended};

/// What the files at one address do to a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyRow {
    /// The key as people write it.
    pub key: String,
    /// The value in the game's own file.
    pub base: Option<String>,
    /// What each file makes of it: nothing, where it leaves it as it is; else its value, if it has one.
    pub files: Vec<Option<Option<String>>>,
    /// What each list of edits makes of it.
    pub edits: Vec<Option<Option<String>>>,
}

/// Every key that a file or an edit changes, in the order of the files.
///
/// # Errors
/// [`NotBlended`].
pub fn key_rows(
    format: Format,
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Vec<KeyRow>, NotBlended> {
    with_format!(format, key_rows_as(base, files, edits))
}

fn key_rows_as<D: Keyed + Clone + Send + 'static>(
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Vec<KeyRow>, NotBlended> {
    let compared = Compared::<D>::new(base, files)?;
    let raw = |document: &D, id: &str| document.settings().get(id).map(|setting| shown(&setting.raw));
    let all = || compared.base.iter().chain(&compared.files).map(|(_, document)| document);
    // The upper files know best what edits mean.
    let mut meant: Vec<Meant<'_, D>> = all().map(|document| Meant::new(document, None)).rev().collect();
    let mut resolve = |edit: &KeyEdit| meant.iter_mut().find_map(|meant| meant.key(edit, OfGone::Told).ok());
    let edited: Vec<Vec<(Key, Option<String>)>> = edits
        .iter()
        .map(|edits| edits.iter().filter_map(|edit| Some((resolve(edit)?, edit.value.clone()))).collect())
        .collect();
    // A value, and others beneath it in another file, are one row.
    let beneath: Vec<HashSet<&str>> = compared.differences.iter().map(set_beneath::<D>).collect();
    let mut seen = HashSet::new();
    let (mut rows, mut ids, mut is_by_place) = (Vec::new(), Vec::new(), false);
    let keys = all().flat_map(|document| document.settings().iter().map(|setting: &Setting| &setting.key));
    for key in keys.chain(edited.iter().flatten().map(|(key, _)| key)) {
        let of_files: Vec<Option<Option<String>>> = (0..files.len())
            .map(|file| {
                let document = compared.document(file);
                let id = key.id.as_str();
                if beneath[file].contains(id) && all().any(|other| is_value(other, id)) {
                    return Some(document.value_at(key).map(|raw| shown(&raw)));
                }
                let changed = compared.differences[file].get(id)?;
                Some(changed.as_ref().and_then(|_| raw(document, id)))
            })
            .collect();
        let of_edits: Vec<Option<Option<String>>> = edited
            .iter()
            .map(|edits| edits.iter().rfind(|(own, _)| own.id == key.id).map(|(_, value)| value.clone()))
            .collect();
        let is_changed = of_files.iter().chain(&of_edits).any(Option::is_some);
        if is_changed && seen.insert(&key.id) {
            is_by_place |=
                D::is_listed(&key.id) || all().any(|document| document.by_place(&key.id).is_some());
            ids.push(key.id.as_str());
            rows.push(KeyRow {
                key: key.shown.clone(),
                base: compared.base.as_ref().and_then(|(_, document)| raw(document, &key.id)),
                files: of_files,
                edits: of_edits,
            });
        }
    }
    if is_by_place && let Some(places) = Places::<D>::of(base, files) {
        for (row, id) in rows.iter_mut().zip(ids) {
            row.key = places.key(id).unwrap_or(std::mem::take(&mut row.key));
        }
    }
    Ok(rows)
}

/// The keys beneath which a file sets others.
fn set_beneath<D: Keyed>(difference: &Difference) -> HashSet<&str> {
    let set = difference.iter().filter(|(_, value)| value.is_some());
    set.flat_map(|(id, _)| D::above(id)).collect()
}

fn is_value<D: Keyed>(document: &D, id: &str) -> bool {
    document.settings().get(id).is_some_and(|setting| !setting.is_holder)
}

/// What files give together, as it is told alone and as it is told with them.
struct Places<D> {
    alone: D,
    together: D,
}

impl<D: Keyed + Clone + Send + 'static> Places<D> {
    fn of(base: Option<&[u8]>, files: &[&[u8]]) -> Option<Self> {
        let made = combine_as::<D>(base, files, &[], &LastRead::default()).ok()?.content;
        let all: Vec<&[u8]> = files.iter().copied().chain([made.as_slice()]).collect();
        let together = Compared::<D>::new(base, &all).ok()?.files.pop()?.1;
        Some(Self { alone: parse(&made).ok()?.1, together })
    }

    /// As people write the key in what the files give together, of one that is told by its place there.
    fn key(&self, id: &str) -> Option<String> {
        let part = match self.together.by_place(id) {
            Some(part) => part,
            None => Some(id).filter(|id| D::is_listed(id))?,
        };
        let own = self.alone.part_as_told_in(&self.together, part)?;
        Some(called(&self.alone, &format!("{own}{}", &id[part.len()..])))
    }
}
