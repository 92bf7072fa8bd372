//! Several layers' configuration in one file.
//!
//! What a file changes is its difference, key by key, against the game's own file (against nothing, where the game
//! has none). The differences are combined; of a key that several change the uppermost counts. The form is that of
//! the game's own file. Where there is none it is that of the file with the most settings, and new keys come in an
//! order that depends on contents alone, so that files that do not touch the same keys give the same in any order;
//! only elements of lists come in the order of the layers.
//!
//! A change is in the result, or it meets another, or the files are not combined: each file must be the game's own with
//! its difference and nothing else, and the result must say what each last word says. Where that does not hold, or a
//! format is not understood that stands in lines, the files are merged by lines if their changes lie apart.

use std::collections::HashSet;

use super::compare::{Compared, Difference, difference, meanings, parse};
use super::formats::with_format;
use super::keyed::{Change, Key, Keyed, Map};
use super::lines::merge_apart;
use super::meant::{Meant, OfGone};
use super::not_blended::{Culprit, NotBlended};
use super::text::Text;
use super::{Format, KeyEdit, LastRead};
use crate::hash::ContentHash;

/// Files combined into one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Combined {
    /// The file.
    pub content: Vec<u8>,
    /// Pairs of the files and, counted on from them, the lists of edits, the lower first, that set a key to
    /// different values.
    pub clashes: Vec<(usize, usize)>,
    /// Edits that could not be made, and why.
    pub undone: Vec<String>,
}

/// Combines `files`, the lowest first, over the game's own file, and makes `edits` in that, in their order.
///
/// # Errors
/// [`NotBlended`] when one of the files is none of that format, or they can't be combined without doubt.
pub fn combine(
    format: Format,
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Combined, NotBlended> {
    combine_knowing(format, base, files, edits, &LastRead::default())
}

/// As [`combine`], with the file that was read last.
///
/// # Errors
/// [`NotBlended`].
pub fn combine_knowing(
    format: Format,
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
    last: &LastRead,
) -> Result<Combined, NotBlended> {
    with_format!(format, combine_as(base, files, edits, last))
}

pub(super) fn combine_as<D: Keyed + Clone + Send + 'static>(
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
    last: &LastRead,
) -> Result<Combined, NotBlended> {
    let mut usual = None;
    let (mut content, mut differences, mut clashes) = match (base, files) {
        // The game's own file is all that there is.
        (Some(base), []) if !edits.is_empty() => (base.to_vec(), Vec::new(), Vec::new()),
        _ => match Compared::<D>::read(base, files) {
            Ok(compared) => {
                let compared = compared.agreed().map_err(NotBlended::together)?;
                let (content, met) = blended(&compared, base, files)?;
                usual = compared.base.map(|(_, document)| document);
                (content, compared.differences, met)
            }
            Err(error) if D::IS_BY_LINES && files.len() > 1 => {
                let reason = format!("{}, and their changes do not lie apart", error.reason);
                let content = merged_by_lines(base, files).ok_or(NotBlended { reason, ..error })?;
                (content, vec![Difference::default(); files.len()], Vec::new())
            }
            Err(error) => return Err(error),
        },
    };
    let mut undone = Vec::new();
    if !edits.is_empty() {
        let culprit = if files.is_empty() { Culprit::Base } else { Culprit::Together };
        let read = last.take_or_parse::<D>(&content);
        let (text, document) = read.map_err(|reason| NotBlended { culprit, reason })?;
        let mut meant = Meant::new(&document, usual.as_ref());
        let all = edited(&text, &document, &mut meant, edits.iter().copied().flatten(), &mut undone);
        // One alone clashes with nothing.
        let others = edits.len() + files.len() > 1;
        let before = if others { meanings(&document) } else { Map::default() };
        for one in edits.iter().filter(|_| others) {
            let alone = match edits.len() {
                1 => &all,
                _ => &edited(&text, &document, &mut meant, one.iter(), &mut Vec::new()),
            };
            let (_, alone) = parse::<D>(alone).map_err(NotBlended::together)?;
            differences.push(difference(&before, &meanings(&alone)));
        }
        content = all;
    }
    for (upper, two) in differences.iter().enumerate() {
        for (lower, one) in differences[..upper].iter().enumerate() {
            if one.iter().any(|(id, value)| two.get(id).is_some_and(|other| other != value)) {
                clashes.push((lower, upper));
            }
        }
    }
    clashes.sort_unstable();
    clashes.dedup();
    Ok(Combined { content, clashes, undone })
}

/// A file made of several, and the pairs of them that meet otherwise than in one key.
type Made = (Vec<u8>, Vec<(usize, usize)>);

/// The files in one, and the pairs of them that give a key a value and have others beneath it.
fn blended<D: Keyed + Clone>(
    compared: &Compared<D>,
    base: Option<&[u8]>,
    files: &[&[u8]],
) -> Result<Made, NotBlended> {
    if let Some(file) = compared.replacement().filter(|_| files.len() > 1) {
        let reason = "it has little in common with the game's own file".to_owned();
        return Err(NotBlended { culprit: Culprit::File(file), reason });
    }
    let mut effective: Vec<usize> = (0..files.len()).filter(|file| compared.is_changed(*file)).collect();
    // Of equal files the uppermost is enough.
    let mut seen = HashSet::new();
    effective.reverse();
    effective.retain(|file| seen.insert(files[*file]));
    effective.reverse();
    match (effective.as_slice(), base, files.last()) {
        ([only], ..) => Ok((files[*only].to_vec(), Vec::new())),
        // Only comments or blanks are changed.
        ([], _, Some(top)) => Ok((top.to_vec(), Vec::new())),
        ([], Some(base), None) => Ok((base.to_vec(), Vec::new())),
        ([], None, None) => Ok((Vec::new(), Vec::new())),
        (several, ..) => {
            let by_keys = by_keys(compared, several, files);
            by_keys.or_else(|error| {
                let contents: Vec<&[u8]> = several.iter().map(|file| files[*file]).collect();
                let merged = merged_by_lines(base, &contents);
                let is_sound = |content: &Vec<u8>| {
                    parse(content).is_ok_and(|made| compared.has_all_keys(&made, several))
                };
                Ok((merged.filter(is_sound).ok_or(error)?, Vec::new()))
            })
        }
    }
}

/// The files' differences in one file.
fn by_keys<D: Keyed + Clone>(
    compared: &Compared<D>,
    effective: &[usize],
    contents: &[&[u8]],
) -> Result<Made, NotBlended> {
    for file in effective {
        compared
            .check_explained(*file)
            .map_err(|reason| NotBlended { culprit: Culprit::File(*file), reason })?;
    }
    let by_content = |file: &usize| ContentHash::of(contents[*file]);
    let (text, skeleton) = match &compared.base {
        Some((text, document)) => (text, document),
        None => {
            let most = |file: &&usize| {
                (compared.document(**file).settings().len(), std::cmp::Reverse(by_content(file)))
            };
            let file = effective.iter().max_by_key(most).copied().unwrap_or(0);
            (&compared.files[file].0, compared.document(file))
        }
    };
    let (last, met) = compared.last_words(effective);
    let mut in_order = effective.to_vec();
    in_order.sort_by_cached_key(by_content);
    let made = || -> Result<Vec<u8>, String> {
        let others = effective.iter().map(|file| &compared.files[*file].0);
        let content = text
            .as_others(others)?
            .encode(&skeleton.changed(&compared.changes(skeleton, &last, &in_order))?)?;
        compared.check_made(&content, effective)?;
        Ok(content)
    };
    Ok((made().map_err(NotBlended::together)?, met))
}

/// The files merged by lines, if their changes lie apart.
fn merged_by_lines(base: Option<&[u8]>, files: &[&[u8]]) -> Option<Vec<u8>> {
    let base = Text::decode(base?)?;
    let files: Vec<Text> = files.iter().map(|file| Text::decode(file)).collect::<Option<_>>()?;
    let merged = merge_apart(&base, &files.iter().collect::<Vec<_>>())?;
    base.as_others(files.iter()).ok()?.encode(&merged).ok()
}

/// Makes edits in a file; what can't be made is told and passed over.
fn edited<'e, D: Keyed + Clone>(
    text: &Text,
    document: &D,
    meant: &mut Meant<'_, D>,
    edits: impl Iterator<Item = &'e KeyEdit>,
    undone: &mut Vec<String>,
) -> Vec<u8> {
    let mut changes: Vec<(Key, Change<'_, D>)> = Vec::new();
    for edit in edits {
        match meant.key(edit, OfGone::Told) {
            Ok(key) => {
                // Of several edits of one key the last counts.
                changes.retain(|(other, _)| other.id != key.id);
                changes.push((key, edit.value.as_deref().map_or(Change::Remove, Change::Typed)));
            }
            Err(reason) => undone.push(reason),
        }
    }
    let write = |changes: &[(Key, Change<'_, D>)]| text.encode(&document.changed(changes)?);
    let written = write(&changes).or_else(|_| {
        // One of them can't be: each is tried.
        let mut possible = Vec::new();
        for (key, change) in changes {
            let one = [(key, change)];
            match write(&one) {
                Ok(_) => possible.extend(one),
                Err(reason) => undone.push(reason),
            }
        }
        write(&possible)
    });
    written.unwrap_or_else(|reason| {
        undone.push(reason);
        // What was read can be written.
        text.encode(&text.text).unwrap_or_default()
    })
}
