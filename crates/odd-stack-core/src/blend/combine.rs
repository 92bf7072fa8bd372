//! Several layers' configuration in one file.
//!
//! What a file changes is its difference, key by key, against the game's own file (against nothing, where the game
//! has none). The differences are combined; of a key that several change the uppermost counts. The form is that of
//! the game's own file. Where there is none it is that of the file with the most settings, and new keys come in an
//! order that depends on contents alone, so that files that do not touch the same keys give the same in any order.

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

use super::ini::Ini;
use super::json::Json;
use super::keyed::{Change, Key, Keyed, Setting};
use super::text::Text;
use super::toml::Toml;
use super::xml::Xml;
use super::{Carried, Clash, Format, NotCarried, Prefer};
use crate::hash::ContentHash;

/// A change of one key, as a person or a fit sheet asks for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyEdit {
    /// The key as people write it in files of that format.
    pub key: String,
    /// Its value; none to take the key out.
    pub value: Option<String>,
}

/// Why files are not combined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotBlended {
    /// Which of the files it is; none for the game's own.
    pub file: Option<usize>,
    /// What is wrong with it.
    pub reason: String,
}

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

/// A key that two files change differently.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyClash {
    /// The key as people write it.
    pub key: String,
    /// The value in the game's own file.
    pub base: Option<String>,
    /// The value that the lower file gives it.
    pub lower: Option<String>,
    /// The value that the upper file gives it.
    pub upper: Option<String>,
}

/// Runs a generic function for the format.
macro_rules! with_format {
    ($format:expr, $function:ident ( $($argument:expr),* )) => {
        match $format {
            Format::Ini => $function::<Ini>($($argument),*),
            Format::Json => $function::<Json>($($argument),*),
            Format::Toml => $function::<Toml>($($argument),*),
            Format::Xml => $function::<Xml>($($argument),*),
        }
    };
}

/// Combines `files`, the lowest first, over the game's own file, and makes `edits` in that, in their order.
///
/// # Errors
/// [`NotBlended`] when one of the files is none of that format.
pub fn combine(
    format: Format,
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Combined, NotBlended> {
    with_format!(format, combine_as(base, files, edits))
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

/// The keys that two files change differently.
///
/// # Errors
/// [`NotBlended`].
pub fn key_clashes(
    format: Format,
    base: Option<&[u8]>,
    lower: &[u8],
    upper: &[u8],
) -> Result<Vec<KeyClash>, NotBlended> {
    let rows = key_rows(format, base, &[lower, upper], &[])?;
    let clashes = rows.into_iter().filter_map(|row| match row.files.as_slice() {
        [Some(lower), Some(upper)] if lower != upper => {
            Some(KeyClash { key: row.key, base: row.base, lower: lower.clone(), upper: upper.clone() })
        }
        _ => None,
    });
    Ok(clashes.collect())
}

/// The key that a person writes, as the file names it, and its value there.
///
/// # Errors
/// What is wrong with the file or the key.
pub fn look_up(format: Format, content: &[u8], written: &str) -> Result<(String, Option<String>), String> {
    fn as_format<D: Keyed>(content: &[u8], written: &str) -> Result<(String, Option<String>), String> {
        let document: D = parse(content)?.1;
        let key = document.key_of(written)?;
        let found = document.value_at(&key);
        Ok((key.shown, found))
    }
    with_format!(format, as_format(content, written))
}

/// The edits that turn the settings of `old` into those of `new`.
///
/// # Errors
/// Why that can't be said key by key.
pub fn edits_between(format: Format, old: &[u8], new: &[u8]) -> Result<Vec<KeyEdit>, String> {
    let rows = key_rows(format, Some(old), &[new], &[]).map_err(|error| error.reason)?;
    let edit = |row: KeyRow| {
        let value = row.files.into_iter().next().flatten().flatten();
        // A person types what stands between quotes and tags as it is meant.
        let typed = value.map(|raw| match format {
            Format::Xml => quick_xml::escape::unescape(&raw).map_or(raw.clone(), |text| text.into_owned()),
            _ => raw,
        });
        KeyEdit { key: row.key, value: typed }
    };
    let edits: Vec<KeyEdit> = rows.into_iter().map(edit).collect();
    let made = combine(format, None, &[old], &[&edits]).map_err(|error| error.reason)?;
    if let Some(reason) = made.undone.into_iter().next() {
        return Err(reason);
    }
    let rest = key_rows(format, Some(&made.content), &[new], &[]).map_err(|error| error.reason)?;
    match rest.first() {
        None => Ok(edits),
        Some(row) => Err(format!("`{}` can't be said as one key", row.key)),
    }
}

fn parse<D: Keyed>(content: &[u8]) -> Result<(Text, D), String> {
    let text = Text::decode(content).ok_or("it is no text")?;
    let document = D::parse(&text.text)?;
    Ok((text, document))
}

/// The files as they were read, and what each changes.
struct Compared<D> {
    base: Option<(Text, D)>,
    files: Vec<(Text, D)>,
    /// Of each file, keys by their id that it changes against the base, and the meaning of their values.
    differences: Vec<HashMap<String, Option<String>>>,
}

impl<D: Keyed> Compared<D> {
    fn new(base: Option<&[u8]>, files: &[&[u8]]) -> Result<Self, NotBlended> {
        let read = |file: Option<usize>, content: &[u8]| {
            parse::<D>(content).map_err(|reason| NotBlended { file, reason })
        };
        let mut base = base.map(|content| read(None, content)).transpose()?;
        let files = files.iter().enumerate().map(|(index, content)| read(Some(index), content));
        let mut files = files.collect::<Result<Vec<_>, _>>()?;
        let mut all: Vec<&mut D> = base.iter_mut().chain(&mut files).map(|(_, document)| document).collect();
        D::agree(&mut all);
        let own = base.as_ref().map(|(_, document)| meanings(document)).unwrap_or_default();
        let differences = files.iter().map(|(_, document)| difference(&own, &meanings(document))).collect();
        Ok(Self { base, files, differences })
    }

    /// A file that drops most of the game's own settings: it does not change these, it takes their place.
    fn replacement(&self) -> Option<usize> {
        let own = self.base.as_ref().map_or(0, |(_, document)| document.settings().len());
        self.differences.iter().position(|difference| {
            let dropped = difference.values().filter(|value| value.is_none()).count();
            own > 3 && dropped * 2 > own
        })
    }

    fn document(&self, file: usize) -> &D {
        &self.files[file].1
    }
}

fn meanings<D: Keyed>(document: &D) -> HashMap<&str, &str> {
    let settings = document.settings().iter();
    settings.map(|setting| (setting.key.id.as_str(), setting.meaning.as_str())).collect()
}

fn difference(old: &HashMap<&str, &str>, new: &HashMap<&str, &str>) -> HashMap<String, Option<String>> {
    let changed = new.iter().filter(|(id, value)| old.get(*id) != Some(value));
    let changed = changed.map(|(id, value)| ((*id).to_owned(), Some((*value).to_owned())));
    let gone = old.keys().filter(|id| !new.contains_key(*id)).map(|id| ((*id).to_owned(), None));
    changed.chain(gone).collect()
}

fn combine_as<D: Keyed>(
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Combined, NotBlended> {
    let compared = Compared::<D>::new(base, files)?;
    if let Some(file) = compared.replacement().filter(|_| files.len() > 1) {
        let reason = "it has little in common with the game's own file".to_owned();
        return Err(NotBlended { file: Some(file), reason });
    }
    let mut effective: Vec<usize> =
        (0..files.len()).filter(|file| !compared.differences[*file].is_empty()).collect();
    // Of equal files the uppermost is enough.
    let mut seen = HashSet::new();
    effective.reverse();
    effective.retain(|file| seen.insert(files[*file]));
    effective.reverse();
    let mut content = match (effective.as_slice(), base, files.last()) {
        ([only], ..) => files[*only].to_vec(),
        // Only comments or blanks are changed.
        ([], _, Some(top)) => top.to_vec(),
        ([], Some(base), None) => base.to_vec(),
        ([], None, None) => Vec::new(),
        (several, ..) => {
            blended(&compared, several, files).map_err(|reason| NotBlended { file: None, reason })?
        }
    };
    let mut undone = Vec::new();
    let mut differences = compared.differences;
    if !edits.is_empty() {
        let read = |content: &[u8]| parse::<D>(content).map_err(|reason| NotBlended { file: None, reason });
        let (text, document) = read(&content)?;
        let before = meanings(&document);
        for edits in edits {
            let alone = edited(&text, &document, edits.iter(), &mut Vec::new());
            differences.push(difference(&before, &meanings(&read(&alone)?.1)));
        }
        content = edited(&text, &document, edits.iter().copied().flatten(), &mut undone);
    }
    let mut clashes = Vec::new();
    for (upper, two) in differences.iter().enumerate() {
        for (lower, one) in differences[..upper].iter().enumerate() {
            if one.iter().any(|(id, value)| two.get(id).is_some_and(|other| other != value)) {
                clashes.push((lower, upper));
            }
        }
    }
    Ok(Combined { content, clashes, undone })
}

/// The files' differences in one file.
fn blended<D: Keyed>(
    compared: &Compared<D>,
    effective: &[usize],
    contents: &[&[u8]],
) -> Result<Vec<u8>, String> {
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
    let own = meanings(skeleton);
    // Who has the last word on each key.
    let mut last: HashMap<&str, usize> = HashMap::new();
    for file in effective {
        last.extend(compared.differences[*file].keys().map(|id| (id.as_str(), *file)));
    }
    let mut in_order = effective.to_vec();
    in_order.sort_by_key(by_content);
    let mut changes: Vec<(Key, Change<'_, D>)> = Vec::new();
    let gone = skeleton.settings().iter().map(|setting| &setting.key).filter(|key| {
        last.get(key.id.as_str()).is_some_and(|file| compared.differences[*file][&key.id].is_none())
    });
    changes.extend(gone.map(|key| (key.clone(), Change::Remove)));
    for file in in_order {
        let document = compared.document(file);
        let theirs = document.settings().iter().filter(|setting| {
            last.get(setting.key.id.as_str()) == Some(&file)
                && own.get(setting.key.id.as_str()) != Some(&setting.meaning.as_str())
        });
        changes.extend(theirs.map(|setting| (setting.key.clone(), Change::From(document))));
    }
    Ok(text.encode(&skeleton.changed(&changes)?))
}

/// Makes edits in a file; what can't be made is told and passed over.
fn edited<'e, D: Keyed>(
    text: &Text,
    document: &D,
    edits: impl Iterator<Item = &'e KeyEdit>,
    undone: &mut Vec<String>,
) -> Vec<u8> {
    let mut changes: Vec<(Key, Change<'_, D>)> = Vec::new();
    for edit in edits {
        match document.key_of(&edit.key) {
            Ok(key) => {
                // Of several edits of one key the last counts.
                changes.retain(|(other, _)| other.id != key.id);
                changes.push((key, edit.value.as_deref().map_or(Change::Remove, Change::Typed)));
            }
            Err(reason) => undone.push(reason),
        }
    }
    let written = document.changed(&changes).or_else(|_| {
        // One of them can't be: each is tried.
        let mut possible = Vec::new();
        for (key, change) in changes {
            let one = [(key, change)];
            match document.changed(&one) {
                Ok(_) => possible.extend(one),
                Err(reason) => undone.push(reason),
            }
        }
        document.changed(&possible)
    });
    match written {
        Ok(written) => text.encode(&written),
        Err(reason) => {
            undone.push(reason);
            text.encode(&text.text)
        }
    }
}

fn key_rows_as<D: Keyed>(
    base: Option<&[u8]>,
    files: &[&[u8]],
    edits: &[&[KeyEdit]],
) -> Result<Vec<KeyRow>, NotBlended> {
    let compared = Compared::<D>::new(base, files)?;
    let raw = |document: &D, id: &str| document.settings().get(id).map(|setting| setting.raw.clone());
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

/// Carries what `mine` changed against `old` over to `new`, key by key; gives the content and the keys.
pub(super) fn carry_keys(
    format: Format,
    [old, mine, new]: [&[u8]; 3],
    prefer: Option<Prefer>,
) -> Result<Result<Carried, NotCarried>, NotBlended> {
    with_format!(format, carry_keys_as([old, mine, new], prefer))
}

fn carry_keys_as<D: Keyed>(
    [old, mine, new]: [&[u8]; 3],
    prefer: Option<Prefer>,
) -> Result<Result<Carried, NotCarried>, NotBlended> {
    let compared = Compared::<D>::new(Some(old), &[mine, new])?;
    let [own, _] = compared.differences.as_slice() else { return Ok(Err(NotCarried::NoText)) };
    let raw = |document: &D, id: &str| document.settings().get(id).map(|setting| setting.raw.clone());
    let Some((_, before)) = &compared.base else { return Ok(Err(NotCarried::NoText)) };
    let (mine, (text, new)) = (compared.document(0), &compared.files[1]);
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
    let written = new.changed(&changes).map_err(|reason| NotBlended { file: None, reason })?;
    Ok(Ok(Carried { content: text.encode(&written), changes: carried }))
}
