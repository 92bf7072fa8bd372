//! Edits of keys as a file takes them: of what people write, and of what they changed by hand.

use std::sync::Arc;

use super::compare::{Compared, parse};
use super::formats::with_format;
use super::keyed::{Change, Keyed, Setting};
use super::meant::{Meant, OfGone};
use super::text::shown;
use super::{Format, KeyEdit, LastRead, combine};

/// The key that an edit means, as the file names it, and its value there.
///
/// # Errors
/// What is wrong with the file or the key.
pub fn look_up(format: Format, content: &[u8], edit: &KeyEdit) -> Result<(String, Option<String>), String> {
    fn as_format<D: Keyed + Clone>(
        content: &[u8],
        edit: &KeyEdit,
    ) -> Result<(String, Option<String>), String> {
        let document: D = parse(content)?.1;
        let key = Meant::new(&document, None).key(edit, OfGone::Told)?;
        let found = document.value_at(&key).map(|raw| shown(&raw));
        Ok((key.shown, found))
    }
    with_format!(format, as_format(content, edit))
}

/// Edits with the keys that they have in this version of the file; those that mean nothing in it as they are.
pub fn renewed(format: Format, content: &[u8], edits: Vec<KeyEdit>) -> Vec<KeyEdit> {
    fn as_format<D: Keyed + Clone>(content: &[u8], edits: Vec<KeyEdit>) -> Vec<KeyEdit> {
        let Ok((text, document)) = parse::<D>(content) else { return edits };
        let (mut meant, whole) = (Meant::new(&document, None), Arc::<str>::from(text.text.as_str()));
        let renew = |edit: KeyEdit| match meant.key(&edit, OfGone::Told) {
            Ok(key) if edit.seen.is_some() => KeyEdit { key: key.shown, seen: Some(whole.clone()), ..edit },
            _ => edit,
        };
        edits.into_iter().map(renew).collect()
    }
    match edits.iter().any(|edit| edit.seen.is_some()) {
        true => with_format!(format, as_format(content, edits)),
        false => edits,
    }
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
/// The file is the one read last then.
///
/// # Errors
/// [`NotEdited`].
pub fn resolve_edits(
    format: Format,
    content: &[u8],
    edits: &[KeyEdit],
    last: &LastRead,
) -> Result<Vec<(KeyEdit, Option<String>)>, NotEdited> {
    fn as_format<D: Keyed + Clone + Send + 'static>(
        content: &[u8],
        edits: &[KeyEdit],
        last: &LastRead,
    ) -> Result<Vec<(KeyEdit, Option<String>)>, NotEdited> {
        let (text, document): (_, D) = last.take_or_parse(content).map_err(NotEdited::File)?;
        let mut meant = Meant::new(&document, None);
        let mut whole: Option<Arc<str>> = None;
        let resolved = edits.iter().map(|edit| {
            let key = meant.key(edit, OfGone::Added)?;
            let found = document.value_at(&key).map(|raw| shown(&raw));
            let mut made = KeyEdit::new(key.shown.clone(), edit.value.clone());
            if document.is_of_now(&key.id) {
                made.seen = Some(whole.get_or_insert_with(|| text.text.as_str().into()).clone());
            }
            let change = edit.value.as_deref().map_or(Change::Remove, Change::Typed);
            text.encode(&document.changed(&[(key, change)])?)?;
            Ok((made, found))
        });
        let resolved = resolved.collect::<Result<_, String>>().map_err(NotEdited::Key);
        last.keep(content, (text, document));
        resolved
    }
    with_format!(format, as_format(content, edits, last))
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
        let own =
            compared.base.as_ref().map(|(text, document)| (Arc::<str>::from(text.text.as_str()), document));
        let edit = |setting: &Setting, value| {
            let seen = own.as_ref().filter(|(_, own)| own.is_of_now(&setting.key.id));
            let seen = seen.map(|(text, _)| text.clone());
            // Of elements of lists the place in the old file counts.
            let known = before.and_then(|settings| settings.get(&setting.key.id));
            KeyEdit { key: known.unwrap_or(setting).key.shown.clone(), value, seen }
        };
        let gone = gone.map(|setting| edit(setting, None));
        let come = document.settings().iter().filter(|setting| changed.contains_key(&setting.key.id));
        let come = come.map(|setting| {
            let value = Some(shown(&D::as_typed(setting, !is_known(&setting.key.id))));
            edit(setting, value)
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
