//! What the formats of configuration have in common: settings by key, and changes that keep the rest as it is.

use std::collections::{HashMap, HashSet};

/// Where a setting lies.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key {
    /// What two keys are compared by; the same for `Gulls.count` and `gulls.Count` of an INI file.
    pub id: String,
    /// As people write it: `Section.key`, a JSON pointer, a dotted TOML key, an XML path.
    pub shown: String,
}

/// A key with its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// The key.
    pub key: Key,
    /// The value as the file writes it.
    pub raw: String,
    /// What two values are compared by: `1` and `1 ` are the same.
    pub meaning: String,
    /// It says only that something is there which may hold others: an empty table, a list.
    pub is_holder: bool,
}

/// A map whose keys are hashed with a seed of the process (Foldhash), so that nobody can make files slow by their keys.
pub(super) type Map<K, V> = foldhash::HashMap<K, V>;

/// Files nested deeper than this are not understood; nothing that goes down into them can run out of room.
pub(super) const MOST_NESTED: usize = 200;

/// All settings of a file, in its order; no two have the same key.
#[derive(Debug, Clone, Default)]
pub(super) struct Settings {
    list: Vec<Setting>,
    by_id: Map<String, usize>,
}

impl Settings {
    pub(super) fn new(list: Vec<Setting>) -> Self {
        let by_id = list.iter().enumerate().map(|(at, setting)| (setting.key.id.clone(), at)).collect();
        Self { list, by_id }
    }

    pub(super) fn iter(&self) -> std::slice::Iter<'_, Setting> {
        self.list.iter()
    }

    pub(super) fn len(&self) -> usize {
        self.list.len()
    }

    /// Where the setting of that key stands among them.
    pub(super) fn position(&self, id: &str) -> Option<usize> {
        self.by_id.get(id).copied()
    }

    pub(super) fn get(&self, id: &str) -> Option<&Setting> {
        self.position(id).map(|at| &self.list[at])
    }

    pub(super) fn at(&self, position: usize) -> &Setting {
        &self.list[position]
    }
}

/// What becomes of a key.
#[derive(Debug)]
pub(super) enum Change<'a, D> {
    /// It gets the value that it has in another document, where it has one.
    From(&'a D),
    /// It gets a value as a person types it.
    Typed(&'a str),
    /// It goes.
    Remove,
}

/// A configuration file that knows its settings and can be written with others.
pub(super) trait Keyed: Sized {
    /// Whether the settings of a file in this format can be made of its text by lines as well, whatever stands in it.
    const IS_BY_LINES: bool = false;

    /// Reads a whole file.
    ///
    /// # Errors
    /// What is wrong with it, with the line where that is known.
    fn parse(text: &str) -> Result<Self, String>;

    /// All settings.
    fn settings(&self) -> &Settings;

    /// All that the file says, without its form: comments, blanks, and order where it says nothing.
    fn sense(&self) -> String;

    /// Whether both say the same; see [`Keyed::sense`].
    fn says_the_same(&self, other: &Self) -> bool {
        self.sense() == other.sense()
    }

    /// Whether it is surely `base` with the difference between their settings and nothing else, which can be seen without
    /// making that; `false` says nothing.
    fn is_surely_changed_by_keys(&self, _base: &Self) -> bool {
        false
    }

    /// Whether its keys mean the same in whatever company, for it has no lists.
    fn is_plain(&self) -> bool {
        false
    }

    /// As [`Keyed::sense`], and without the order of what has names of its own.
    fn loose_sense(&self) -> String {
        self.sense()
    }

    /// The value at a key, as it is written; also where that lies inside a setting.
    fn value_at(&self, key: &Key) -> Option<String> {
        self.settings().get(&key.id).map(|setting| setting.raw.clone())
    }

    /// All values at a setting and beneath it, each with the names on its way, whatever list it stands in and where.
    fn values_in(&self, setting: &Setting) -> Vec<(String, String)> {
        vec![(setting.key.id.clone(), setting.meaning.clone())]
    }

    /// Lets documents that are to be compared agree on what is one setting and what is several, and on which part of
    /// one is which of another. The first is what the others change, if there is such.
    ///
    /// # Errors
    /// Why they can't be compared key by key.
    fn agree(_documents: &mut [Option<&mut Self>]) -> Result<(), String> {
        Ok(())
    }

    /// The keys above a key, which can't have a value of their own while it has one.
    fn above(_id: &str) -> Vec<&str> {
        Vec::new()
    }

    /// The parts of a file that a key lies in, as far as they can go as wholes.
    fn parts_around(id: &str) -> Vec<&str> {
        Self::above(id)
    }

    /// The part of a key's id down to the last element of a list on its way that only its place tells.
    fn by_place<'k>(&self, _id: &'k str) -> Option<&'k str> {
        None
    }

    /// Whether a key that a person writes means something else when the lists of the file change.
    fn is_of_now(&self, id: &str) -> bool {
        self.by_place(id).is_some()
    }

    /// The id here of a part that has the id `part` in the same document told otherwise.
    fn part_as_told_in(&self, _told: &Self, part: &str) -> Option<String> {
        Some(part.to_owned())
    }

    /// As people write the key of that id, which is not there.
    fn shown_as(&self, id: &str) -> String {
        id.to_owned()
    }

    /// Whether a key stands for an element of a list that others do not have, so that the order of those counts.
    fn is_listed(_id: &str) -> bool {
        false
    }

    /// What a person types to set a key to what it is; `is_new` where it is not there yet.
    fn as_typed(setting: &Setting, _is_new: bool) -> String {
        setting.raw.clone()
    }

    /// The key that a person writes.
    ///
    /// # Errors
    /// Why it is none.
    fn key_of(&self, written: &str) -> Result<Key, String>;

    /// The text with `changes`, everything else as it is. New keys come in the order given, elements of lists behind
    /// what they stand behind in their own file.
    ///
    /// # Errors
    /// Why a change can't be made.
    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String>;
}

/// Parts that are new to a file and come whole from one other, so that they come with all their form. `new_part` tells
/// the outermost part around a key that the file does not have.
pub(super) fn whole_parts<'c, D: Keyed>(
    changes: &'c [(Key, Change<'_, D>)],
    new_part: impl Fn(&'c str) -> Option<&'c str>,
) -> HashMap<&'c str, &'c D> {
    let mut found: HashMap<&str, (Option<&D>, usize)> = HashMap::new();
    for (key, change) in changes {
        let Some(part) = new_part(&key.id) else { continue };
        let source = match change {
            Change::From(other) => Some(*other),
            Change::Typed(_) => None,
            Change::Remove => continue,
        };
        let (known, count) = found.entry(part).or_insert((source, 0));
        if !known.zip(source).is_some_and(|(known, source)| std::ptr::eq(known, source)) {
            *known = None;
        }
        *count += 1;
    }
    let is_in = |id: &str, part: &str| {
        id.strip_prefix(part).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let whole = found.into_iter().filter_map(|(part, (source, count))| {
        let source = source?;
        let held = source.settings().iter().filter(|setting| is_in(&setting.key.id, part)).count();
        (held == count).then_some((part, source))
    });
    whole.collect()
}

/// Changes of a file of nested parts, by the names on the way.
#[derive(Debug, Default)]
pub(super) struct Branch {
    pub own: Option<Leaf>,
    /// What it comes behind, where it is new and that is known; nothing for the first place.
    pub behind: Option<Option<String>>,
    /// In the order in which they came.
    pub below: Vec<(String, Branch)>,
    by_name: HashMap<String, usize>,
}

/// What becomes of one place in a nested file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Leaf {
    /// Written as it is in a file.
    Raw(String),
    /// All of a new part, as it is written in a file.
    Whole(String),
    /// As a person types it.
    Typed(String),
    Remove,
}

impl Branch {
    /// `way` leads there, each name with what it stands behind in the file that the leaf comes from.
    pub(super) fn put(&mut self, way: Vec<(String, Option<Option<String>>)>, leaf: Leaf) {
        let mut branch = self;
        for (name, behind) in way {
            let at = branch.by_name.get(&name).copied().unwrap_or_else(|| {
                branch.below.push((name.clone(), Self { behind, ..Self::default() }));
                branch.by_name.insert(name, branch.below.len() - 1);
                branch.below.len() - 1
            });
            branch = &mut branch.below[at].1;
        }
        branch.own = Some(leaf);
    }

    /// The new ones below that are set, by the place in `known` behind which each comes: 0 is before all. What comes
    /// behind something unknown, or nobody knows where, comes last.
    pub(super) fn new_by_place(&self, known: &[&str]) -> Vec<Vec<(&str, &Self)>> {
        let mut place_of: HashMap<&str, usize> =
            known.iter().enumerate().map(|(at, name)| (*name, at + 1)).collect();
        let mut by_place = vec![Vec::new(); known.len() + 1];
        let is_known: HashSet<&str> = known.iter().copied().collect();
        let new = |(name, branch): &&(String, Self)| branch.sets_any() && !is_known.contains(name.as_str());
        for (name, branch) in self.below.iter().filter(new) {
            let place = match &branch.behind {
                Some(None) => 0,
                Some(Some(before)) => place_of.get(before.as_str()).copied().unwrap_or(known.len()),
                None => known.len(),
            };
            by_place[place].push((name.as_str(), branch));
            place_of.insert(name, place);
        }
        by_place
    }

    pub(super) fn find(&self, name: &str) -> Option<&Self> {
        self.by_name.get(name).map(|at| &self.below[*at].1)
    }

    /// Whether anything is set below.
    pub(super) fn sets_below(&self) -> bool {
        self.below.iter().any(|(_, branch)| branch.sets_any())
    }

    /// Whether anything is set here or below.
    pub(super) fn sets_any(&self) -> bool {
        matches!(self.own, Some(Leaf::Raw(_) | Leaf::Whole(_) | Leaf::Typed(_))) || self.sets_below()
    }
}

/// The line end that a text uses most.
pub(super) fn line_end(text: &str) -> &'static str {
    let both = text.matches("\r\n").count();
    if both * 2 > text.matches('\n').count() { "\r\n" } else { "\n" }
}

/// The blanks at the beginning of the line in which `at` lies, if nothing else stands before it.
pub(super) fn indent_at(text: &str, at: usize) -> Option<&str> {
    let line = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let before = &text[line..at];
    before.chars().all(|c| c == ' ' || c == '\t').then_some(before)
}

/// A text with the line ends of another.
pub(super) fn with_ends(text: &str, end: &str) -> String {
    match text.contains('\n') {
        true => text.replace("\r\n", "\n").replace('\n', end),
        false => text.to_owned(),
    }
}

/// The number of the line in which `at` lies, from 1.
pub(super) fn line_of(text: &str, at: usize) -> usize {
    text.as_bytes()[..at.min(text.len())].iter().filter(|byte| **byte == b'\n').count() + 1
}
