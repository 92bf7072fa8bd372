//! A person's changes to a file carried over to another version of it.

use std::collections::HashSet;

use super::clash::{Clash, NotCarried, Prefer};
use super::compare::{Compared, meanings};
use super::formats::with_format;
use super::keyed::{Change, Keyed};
use super::text::{Text, shown};
use super::{Culprit, Format, NotBlended, lines};

/// A person's changes in another version of the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carried {
    /// The file.
    pub content: Vec<u8>,
    /// What was carried over: keys, or counts of lines.
    pub changes: Vec<String>,
}

/// Carries what `mine` changed against `old` over to `new`: key by key for configuration of `format` that can be
/// read, else by lines.
///
/// # Errors
/// [`NotCarried`].
pub fn carry_over(
    format: Option<Format>,
    old: &[u8],
    mine: &[u8],
    new: &[u8],
    prefer: Option<Prefer>,
) -> Result<Carried, NotCarried> {
    if let Some(format) = format
        && let Ok(carried) = with_format!(format.of_content(new), by_keys([old, mine, new], prefer))
    {
        return carried;
    }
    let texts = (Text::decode(old), Text::decode(mine), Text::decode(new));
    let (Some(old), Some(mine), Some(new)) = texts else { return Err(NotCarried::NoText) };
    let (text, changes) = lines::carry(&old.text, &mine.text, &new.text, prefer)?;
    let content = new.as_others([&mine].into_iter()).and_then(|new| new.encode(&text));
    Ok(Carried { content: content.map_err(|_| NotCarried::NoText)?, changes })
}

fn by_keys<D: Keyed>(
    [old, mine, new]: [&[u8]; 3],
    prefer: Option<Prefer>,
) -> Result<Result<Carried, NotCarried>, NotBlended> {
    let not_said = |reason| NotBlended { culprit: Culprit::Together, reason };
    let compared = Compared::<D>::new(Some(old), &[mine, new])?;
    compared.check_explained(0).map_err(not_said)?;
    let own = &compared.differences[0];
    let raw = |document: &D, id: &str| document.settings().get(id).map(|setting| shown(&setting.raw));
    let Some((_, before)) = &compared.base else { return Ok(Err(NotCarried::NoText)) };
    let ((my_text, mine), (text, new)) = (&compared.files[0], &compared.files[1]);
    let (was, next) = (meanings(before), meanings(new));
    let (mut clashes, mut carried, mut changes) = (Vec::new(), Vec::new(), Vec::new());
    // In the order of the person's file, then what they took out.
    let keys = mine.settings().iter().chain(before.settings().iter()).map(|setting| &setting.key);
    let mut seen = HashSet::new();
    for key in keys.filter(|key| seen.insert(&key.id)) {
        let id = key.id.as_str();
        let Some(is) = own.get(id) else { continue };
        if next.get(id).copied() == is.as_deref() {
            continue;
        }
        // A key that the new version dropped is no reason to lose what the person set.
        let is_clash = next.contains_key(id) && next.get(id) != was.get(id);
        if is_clash && prefer == Some(Prefer::New) {
            continue;
        }
        if is_clash && prefer.is_none() {
            let (old, mine, new) = (raw(before, id), raw(mine, id), raw(new, id));
            clashes.push(Clash { what: key.shown.clone(), old, mine, new });
            continue;
        }
        carried.push(key.shown.clone());
        changes.push((key.clone(), if is.is_some() { Change::From(mine) } else { Change::Remove }));
    }
    if !clashes.is_empty() {
        return Ok(Err(NotCarried::Clashes(clashes)));
    }
    let written = || text.as_others([my_text].into_iter())?.encode(&new.changed(&changes)?);
    let content = written().map_err(not_said)?;
    Ok(Ok(Carried { content, changes: carried }))
}
