//! Telling people which keys files change, and making edits of these.

use std::collections::HashSet;

use super::compare::{Compared, parse};
use super::formats::with_format;
use super::keyed::{Change, Key, Keyed, Setting};
use super::text::shown;
use super::{Format, KeyEdit, NotBlended, combine};

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

/// The key that a person writes, as the file names it, and its value there.
///
/// # Errors
/// What is wrong with the file or the key.
pub fn look_up(format: Format, content: &[u8], written: &str) -> Result<(String, Option<String>), String> {
    fn as_format<D: Keyed>(content: &[u8], written: &str) -> Result<(String, Option<String>), String> {
        let document: D = parse(content)?.1;
        let key = document.key_of(written)?;
        let found = document.value_at(&key).map(|raw| shown(&raw));
        Ok((key.shown, found))
    }
    with_format!(format, as_format(content, written))
}

/// Why edits can't be made in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotEdited {
    /// The file is none of that format.
    File(String),
    /// One of the keys is none, or can't be set so.
    Key(String),
}

/// Edits as they can be made in a file, each with its key as the file names it, and the value that the key has there.
///
/// # Errors
/// [`NotEdited`].
pub fn resolve_edits(
    format: Format,
    content: &[u8],
    edits: &[KeyEdit],
) -> Result<Vec<(KeyEdit, Option<String>)>, NotEdited> {
    fn as_format<D: Keyed>(
        content: &[u8],
        edits: &[KeyEdit],
    ) -> Result<Vec<(KeyEdit, Option<String>)>, NotEdited> {
        let (text, document): (_, D) = parse(content).map_err(NotEdited::File)?;
        let resolved = edits.iter().map(|edit| {
            let key = document.key_of(&edit.key)?;
            let found = document.value_at(&key).map(|raw| shown(&raw));
            let made = KeyEdit { key: key.shown.clone(), value: edit.value.clone() };
            let change = edit.value.as_deref().map_or(Change::Remove, Change::Typed);
            text.encode(&document.changed(&[(key, change)])?)?;
            Ok((made, found))
        });
        resolved.collect::<Result<_, String>>().map_err(NotEdited::Key)
    }
    with_format!(format, as_format(content, edits))
}

/// The edits that turn the settings of `old` into those of `new`.
///
/// # Errors
/// Why that can't be said key by key.
pub fn edits_between(format: Format, old: &[u8], new: &[u8]) -> Result<Vec<KeyEdit>, String> {
    fn as_format<D: Keyed>(old: &[u8], new: &[u8]) -> Result<Vec<KeyEdit>, String> {
        let compared = Compared::<D>::new(Some(old), &[new]).map_err(|error| error.reason)?;
        let (changed, document) = (&compared.differences[0], compared.document(0));
        let before = compared.base.as_ref().map(|(_, document)| document.settings());
        let is_known = |id: &str| before.is_some_and(|settings| settings.get(id).is_some());
        let gone = before.into_iter().flat_map(|settings| settings.iter());
        let gone = gone.filter(|setting| matches!(changed.get(&setting.key.id), Some(None)));
        let gone = gone.map(|setting| KeyEdit { key: setting.key.shown.clone(), value: None });
        let come = document.settings().iter().filter(|setting| changed.contains_key(&setting.key.id));
        let come = come.map(|setting| {
            let value = Some(shown(&D::as_typed(setting, !is_known(&setting.key.id))));
            KeyEdit { key: setting.key.shown.clone(), value }
        });
        // What goes first makes room.
        Ok(gone.chain(come).collect())
    }
    fn is_alike<D: Keyed>(one: &[u8], two: &[u8]) -> Result<bool, String> {
        Ok(parse::<D>(one)?.1.loose_sense() == parse::<D>(two)?.1.loose_sense())
    }
    let edits = with_format!(format, as_format(old, new))?;
    let made = combine(format, None, &[old], &[&edits]).map_err(|error| error.reason)?;
    if let Some(reason) = made.undone.into_iter().next() {
        return Err(reason);
    }
    match with_format!(format, is_alike(&made.content, new))? {
        true => Ok(edits),
        false => Err("what is changed can't all be told by keys".to_owned()),
    }
}

fn key_rows_as<D: Keyed>(
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Vec<KeyRow>, NotBlended> {
    let compared = Compared::<D>::new(base, files)?;
    let raw = |document: &D, id: &str| document.settings().get(id).map(|setting| shown(&setting.raw));
    let all = || compared.base.iter().chain(&compared.files).map(|(_, document)| document);
    // How keys are resolved that only edits have.
    let resolve = |edit: &KeyEdit| all().next_back().and_then(|document| document.key_of(&edit.key).ok());
    let edited: Vec<Vec<(Key, Option<String>)>> = edits
        .iter()
        .map(|edits| edits.iter().filter_map(|edit| Some((resolve(edit)?, edit.value.clone()))).collect())
        .collect();
    let mut seen = HashSet::new();
    let mut rows = Vec::new();
    let keys = all().flat_map(|document| document.settings().iter().map(|setting: &Setting| &setting.key));
    for key in keys.chain(edited.iter().flatten().map(|(key, _)| key)) {
        let of_files: Vec<Option<Option<String>>> = (0..files.len())
            .map(|file| {
                let changed = compared.differences[file].get(&key.id)?;
                Some(changed.as_ref().and_then(|_| raw(compared.document(file), &key.id)))
            })
            .collect();
        let of_edits: Vec<Option<Option<String>>> = edited
            .iter()
            .map(|edits| edits.iter().rfind(|(own, _)| own.id == key.id).map(|(_, value)| value.clone()))
            .collect();
        let is_changed = of_files.iter().chain(&of_edits).any(Option::is_some);
        if is_changed && seen.insert(&key.id) {
            rows.push(KeyRow {
                key: key.shown.clone(),
                base: compared.base.as_ref().and_then(|(_, document)| raw(document, &key.id)),
                files: of_files,
                edits: of_edits,
            });
        }
    }
    Ok(rows)
}
