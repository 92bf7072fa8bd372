//! Which key of a file a change means.
//!
//! A key that names an element of a list by its place alone, such as `Section.path[2]`, means the element that stood
//! there when the change was made, wherever that stands now. So such a change keeps the text that it was made in, and
//! is led from there as elements are from one file to another (see [`super::align`]). What an author sets so is meant
//! for the game's own file.

use std::sync::Arc;

use super::KeyEdit;
use super::keyed::{Key, Keyed};
use super::text::shown;

/// Longer values are not shown in messages.
const MOST_QUOTED_BYTES: usize = 60;

/// A file that an edit was made in and the one that it is meant for, told together; or why that can't be.
type Pair<D> = Result<(D, D), String>;

/// Finds the keys of one document that edits mean.
pub(super) struct Meant<'d, D> {
    document: &'d D,
    /// What edits that know no better were made for: the game's own file.
    usual: Option<&'d D>,
    /// What edits were made in, beside the document as it is told with each; the usual has no text.
    told: Vec<(Option<Arc<str>>, Pair<D>)>,
}

/// What becomes of an edit of an element that is not there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum OfGone {
    /// It can't be made.
    Told,
    /// What it sets is added to the list, if that can be.
    Added,
}

impl<'d, D: Keyed + Clone> Meant<'d, D> {
    pub(super) fn new(document: &'d D, usual: Option<&'d D>) -> Self {
        Self { document, usual, told: Vec::new() }
    }

    /// The key of the document that an edit means.
    ///
    /// # Errors
    /// Why it means none.
    pub(super) fn key(&mut self, edit: &KeyEdit, of_gone: OfGone) -> Result<Key, String> {
        let document = self.document;
        let plain = document.key_of(&edit.key);
        // Only what stands in a list can be meant otherwise than it is written.
        let is_in_list = |document: &D, key: &Result<Key, String>| {
            key.as_ref().is_ok_and(|key| document.by_place(&key.id).is_some())
        };
        let is_unsure = |usual: &D| {
            plain.is_err() || is_in_list(document, &plain) || is_in_list(usual, &usual.key_of(&edit.key))
        };
        if edit.seen.is_none() && !self.usual.is_some_and(is_unsure) {
            return plain;
        }
        // What can't be read is nothing that the key was seen in.
        let Some(told) = self.told_with(edit.seen.as_ref()) else { return plain };
        let (then, now) = told.as_ref().map_err(|reason| format!("`{}`: {reason}", edit.key))?;
        let is_added = |key: &Key| of_gone == OfGone::Added && D::is_listed(&key.id);
        match key_now(document, then, now, &edit.key)? {
            Some(key) => Ok(key),
            None => plain.ok().filter(is_added).ok_or_else(|| {
                let was = then.key_of(&edit.key).ok().and_then(|key| then.value_at(&key));
                let was = was.filter(|was| was.len() <= MOST_QUOTED_BYTES && !was.contains('\n'));
                let was = was.map_or_else(String::new, |was| format!(", which was `{}`,", shown(&was)));
                format!("`{}`{was} is not there any more, so what is set there has no effect", edit.key)
            }),
        }
    }

    /// What an edit was made in and the document, told together; nothing if that is none of the format.
    fn told_with(&mut self, seen: Option<&Arc<str>>) -> Option<&Pair<D>> {
        let at = match self.told.iter().position(|(known, _)| known.as_ref() == seen) {
            Some(at) => at,
            None => {
                let mut then = match seen {
                    Some(text) => D::parse(text).ok()?,
                    None => self.usual?.clone(),
                };
                let mut now = self.document.clone();
                let agreed = D::agree(&mut [Some(&mut then), Some(&mut now)]);
                self.told.push((seen.cloned(), agreed.map(|()| (then, now))));
                self.told.len() - 1
            }
        };
        Some(&self.told[at].1)
    }
}

/// As people write the key of that id in a document.
pub(super) fn called<D: Keyed>(document: &D, id: &str) -> String {
    let known = document.settings().get(id).map(|setting| setting.key.shown.clone());
    known.unwrap_or_else(|| document.shown_as(id))
}

/// The key of `document` that is what `written` was in `then`; `now` is the document, told together with that. Nothing if it
/// is gone.
fn key_now<D: Keyed>(document: &D, then: &D, now: &D, written: &str) -> Result<Option<Key>, String> {
    let key = then.key_of(written)?;
    if D::is_listed(&key.id) && then.by_place(&key.id).is_none() {
        return Ok(Some(Key { shown: document.shown_as(&key.id), ..key }));
    }
    let Some(part) = then.by_place(&key.id) else { return document.key_of(written).map(Some) };
    let holds = |document: &D| {
        let mut ids = document.settings().iter().map(|setting| setting.key.id.as_str());
        ids.any(|id| id == part || D::parts_around(id).contains(&part))
    };
    if holds(then) {
        let own = holds(now).then(|| document.part_as_told_in(now, part)).flatten();
        return Ok(own.map(|own| {
            let id = format!("{own}{}", &key.id[part.len()..]);
            Key { shown: called(document, &id), id }
        }));
    }
    // A list that is one value is told by its places only while it is the same.
    let around = D::above(part).into_iter().find_map(|above| then.settings().get(above));
    let is_same = around.is_none_or(|around| {
        now.settings().get(&around.key.id).is_some_and(|other| other.meaning == around.meaning)
    });
    match is_same {
        true => document.key_of(written).map(Some),
        false => Ok(None),
    }
}
