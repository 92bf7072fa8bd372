//! XML 1.0 files of settings. Keys are paths as in XPath 1.0, of which this is a small part:
//! `/Root/Group[@name='x']/Item[2]/@value` is an attribute, and without the last step an element's text.
//!
//! Of elements of one name beside each other each is told by an attribute or a child `id`, `name`, `key` or the like, if
//! all have it and it differs, else by what it says (see [`super::align`]). Where neither tells, the order was changed,
//! or texts stand between elements, all that an element holds is one value.

use std::collections::{HashMap, HashSet};

use self::read::{Document, Element};
use super::align::is_telling;
use super::keyed::{Branch, Change, Key, Keyed, Leaf, Setting, Settings, whole_parts};
use super::xml::read::unescaped;
use super::xml::tell::agree_on;

mod read;
mod tell;
mod write;

/// How an element is told among those beside it.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Told {
    /// Its step in paths, such as `Item[2]`.
    step: String,
    /// The attribute that the step names.
    by: Option<String>,
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Xml {
    text: String,
    document: Document,
    settings: Settings,
    /// How each element is told, by where it starts.
    told: HashMap<usize, Told>,
    /// Where elements start of which all that they hold is one value.
    as_one: HashSet<usize>,
}

impl Keyed for Xml {
    fn parse(text: &str) -> Result<Self, String> {
        let document = Document::read(text)?;
        let mut xml = Self {
            text: text.to_owned(),
            document,
            settings: Settings::default(),
            told: HashMap::new(),
            as_one: HashSet::new(),
        };
        Self::agree(&mut [Some(&mut xml)])?;
        Ok(xml)
    }

    fn agree(documents: &mut [Option<&mut Self>]) -> Result<(), String> {
        let mut prologs = documents.iter().flatten().map(|document| document.document.prolog.as_str());
        let first = prologs.next().unwrap_or_default();
        if prologs.any(|prolog| prolog != first) {
            return Err("the files declare different document types".to_owned());
        }
        let mut agreed: Vec<Agreed> = documents.iter().map(|_| Agreed::default()).collect();
        let texts: Vec<&str> = documents
            .iter()
            .map(|document| document.as_ref().map_or("", |document| document.text.as_str()))
            .collect();
        let roots: Vec<Option<&Element>> = documents
            .iter()
            .map(|document| document.as_ref().map(|document| &document.document.root))
            .collect();
        let mut names = roots.iter().flatten().map(|root| root.name.as_str());
        let first = names.next().unwrap_or_default();
        if let Some(other) = names.find(|name| *name != first) {
            return Err(format!("the outermost element is `{first}` in one file and `{other}` in another"));
        }
        agree_on(&texts, &roots, &mut agreed);
        for (document, agreed) in documents.iter_mut().zip(agreed) {
            if let Some(document) = document {
                (document.told, document.as_one) = (agreed.told, agreed.as_one);
                let mut settings = Vec::new();
                document.gather(
                    &document.document.root,
                    &format!("/{}", document.document.root.name),
                    &mut settings,
                );
                document.settings = Settings::new(settings);
            }
        }
        Ok(())
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn sense(&self) -> String {
        format!("{}\n{}", self.document.prolog, self.document.root.meaning(&self.text))
    }

    fn loose_sense(&self) -> String {
        format!("{}\n{}", self.document.prolog, self.document.root.loose_meaning(&self.text))
    }

    fn values_in(&self, setting: &Setting) -> Vec<(String, String)> {
        let (mut way, mut element) = (String::new(), Some(&self.document.root));
        let mut values = Vec::new();
        for step in steps(&setting.key.id).into_iter().skip(1) {
            if let Some(name) = step.strip_prefix('@') {
                // What tells it apart is no setting in the one file, and may be in another.
                let is_value = !is_telling(name);
                return if is_value {
                    vec![(format!("{way}@{name}"), setting.meaning.clone())]
                } else {
                    Vec::new()
                };
            }
            way.push_str(step.split('[').next().unwrap_or(step));
            way.push('/');
            element =
                element.and_then(|element| element.children.iter().find(|child| self.step(child) == step));
        }
        let is_whole = setting.key.id.ends_with(']') && Self::is_listed(&setting.key.id);
        if let Some(element) = element {
            element.values_in(&self.text, is_whole, &mut way, &mut values);
        }
        values
    }

    /// An attribute stands beside what its element holds, not beneath it.
    fn above(id: &str) -> Vec<&str> {
        let mut cuts = cuts(id);
        cuts.next();
        let mut above: Vec<&str> = cuts.map(|at| &id[..at]).collect();
        if steps(id).last().is_some_and(|last| last.starts_with('@')) {
            above.pop();
        }
        above
    }

    fn parts_around(id: &str) -> Vec<&str> {
        // The outermost element can't go.
        cuts(id).skip(2).map(|at| &id[..at]).collect()
    }

    fn is_listed(id: &str) -> bool {
        id.ends_with(']') && steps(id).last().is_some_and(|last| last.contains("[+"))
    }

    fn by_place<'k>(&self, id: &'k str) -> Option<&'k str> {
        let (mut element, mut found) = (Some(&self.document.root), None);
        let ends = cuts(id).skip(2).chain([id.len()]);
        for (step, end) in steps(id).into_iter().skip(1).zip(ends) {
            let inside = element?;
            let name = step.split('[').next().unwrap_or(step);
            let several = inside.children.iter().filter(|child| child.name == name).count() > 1;
            if several && !step.contains('\'') && !step.contains("[+") {
                found = Some(&id[..end]);
            }
            element = inside.children.iter().find(|child| self.step(child) == step);
            if element.is_none() {
                break;
            }
        }
        found
    }

    fn part_as_told_in(&self, told: &Self, part: &str) -> Option<String> {
        let at = told.element_at(part)?.tag.start;
        let (mut id, mut element) = (format!("/{}", self.document.root.name), &self.document.root);
        while element.tag.start != at {
            element = element.children.iter().find(|child| (child.tag.start..child.end).contains(&at))?;
            id.push('/');
            id.push_str(self.step(element));
        }
        Some(id)
    }

    fn shown_as(&self, id: &str) -> String {
        self.shown(id)
    }

    fn value_at(&self, key: &Key) -> Option<String> {
        if let Some(setting) = self.settings.get(&key.id) {
            return Some(setting.raw.clone());
        }
        let mut element = &self.document.root;
        for step in steps(&key.id).into_iter().skip(1) {
            element = match step.strip_prefix('@') {
                Some(name) => return element.attribute(&self.text, name).map(str::to_owned),
                None => element.children.iter().find(|child| self.step(child) == step)?,
            };
        }
        let inside = element.inside.clone().unwrap_or(element.end..element.end);
        Some(self.text[inside].trim().to_owned())
    }

    /// What stands between quotes and tags is typed as it is meant.
    fn as_typed(setting: &Setting, _is_new: bool) -> String {
        if setting.raw.contains('<') { setting.raw.clone() } else { unescaped(&setting.raw) }
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let path = written.trim().replace('"', "'");
        let path = path.strip_suffix("/text()").unwrap_or(&path).to_owned();
        let steps = steps(&path);
        if !path.starts_with('/') || steps.iter().any(|step| step.is_empty()) {
            return Err(format!("`{written}` is no path; write /Root/Element or /Root/Element/@attribute"));
        }
        let root = &self.document.root;
        if steps[0].trim_end_matches("[1]") != root.name {
            return Err(format!("the file's outermost element is `{}`, not `{}`", root.name, steps[0]));
        }
        let (mut id, mut element) = (format!("/{}", root.name), Some(root));
        for step in &steps[1..] {
            let known = match element.filter(|_| !step.starts_with('@')) {
                Some(element) => self.child_at(element, step).map_err(|why| format!("`{written}`: {why}"))?,
                None => None,
            };
            id.push('/');
            id.push_str(known.map_or_else(|| step.trim_end_matches("[1]"), |child| self.step(child)));
            element = known;
        }
        Ok(Key { shown: self.shown(&id), id })
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut tree = Branch::default();
        let gone: HashSet<&str> = changes
            .iter()
            .filter(|(_, change)| matches!(change, Change::Remove))
            .map(|(key, _)| key.id.as_str())
            .collect();
        let whole = whole_parts(changes, |id| self.new_part(id));
        let mut put = HashSet::new();
        for (key, change) in changes {
            let part = self.new_part(&key.id);
            if let Some((part, source)) = part.and_then(|part| whole.get_key_value(part)) {
                if let Some(element) = source.element_at(part).filter(|_| put.insert(*part)) {
                    let raw = source.text[element.tag.start..element.end].to_owned();
                    tree.put(way(part, Some(source)), Leaf::Whole(raw));
                }
                continue;
            }
            let mut source = None;
            let leaf = match change {
                Change::Remove => Leaf::Remove,
                // Nothing is left in it.
                Change::Typed("") if self.is_emptied(&key.id, &gone) => Leaf::Raw(String::new()),
                Change::Typed(text) => Leaf::Raw(self.typed(key, text)?),
                Change::From(other) => match other.settings.get(&key.id) {
                    Some(setting) => {
                        source = Some(*other);
                        match Self::is_listed(&key.id) {
                            true => Leaf::Whole(setting.raw.clone()),
                            false => Leaf::Raw(setting.raw.clone()),
                        }
                    }
                    None => continue,
                },
            };
            tree.put(way(&key.id, source), leaf);
        }
        Ok(self.written(&tree))
    }
}

/// What documents agree on, of one of them.
#[derive(Debug, Default)]
struct Agreed {
    told: HashMap<usize, Told>,
    as_one: HashSet<usize>,
}

/// Where the steps of a path begin: at each `/` outside of quotes.
fn cuts(path: &str) -> impl Iterator<Item = usize> + '_ {
    let mut is_quoted = false;
    path.char_indices().filter_map(move |(at, c)| {
        is_quoted ^= c == '\'';
        (c == '/' && !is_quoted).then_some(at)
    })
}

/// The steps of a path.
fn steps(path: &str) -> Vec<&str> {
    let mut ends: Vec<usize> = cuts(path).filter(|at| *at > 0).collect();
    ends.push(path.len());
    let mut from = 1.min(path.len());
    ends.into_iter()
        .map(|end| path.get(std::mem::replace(&mut from, end + 1)..end).unwrap_or_default())
        .collect()
}

/// The steps behind the first, each with what it stands behind in `source`.
fn way(id: &str, source: Option<&Xml>) -> Vec<(String, Option<Option<String>>)> {
    let mut element = source.map(|source| &source.document.root);
    let step = |step: &str| {
        let place = source.zip(element).and_then(|(source, element)| {
            element.children.iter().position(|child| source.step(child) == step)
        });
        let behind = source.zip(element).zip(place).map(|((source, element), at)| {
            at.checked_sub(1).map(|before| source.step(&element.children[before]).to_owned())
        });
        element = element.zip(place).map(|(element, at)| &element.children[at]);
        (step.to_owned(), behind)
    };
    steps(id).into_iter().skip(1).map(step).collect()
}

impl Xml {
    fn step<'x>(&'x self, element: &'x Element) -> &'x str {
        self.told.get(&element.tag.start).map_or(&element.name, |told| &told.step)
    }

    fn element_at(&self, id: &str) -> Option<&Element> {
        let mut steps = steps(id).into_iter();
        steps.next()?;
        steps.try_fold(&self.document.root, |element, step| {
            element.children.iter().find(|child| self.step(child) == step)
        })
    }

    /// The outermost element around a key that is not there.
    fn new_part<'k>(&self, id: &'k str) -> Option<&'k str> {
        let ends = cuts(id).skip(2).chain([id.len()]);
        let elements =
            ends.filter(|end| !id[..*end].rsplit('/').next().is_some_and(|last| last.starts_with('@')));
        elements.map(|end| &id[..end]).find(|part| self.element_at(part).is_none())
    }

    /// Whether all that an element holds is among what goes.
    fn is_emptied(&self, id: &str, gone: &HashSet<&str>) -> bool {
        let inside = |own: &str| {
            own.strip_prefix(id).is_some_and(|rest| rest.starts_with('/') && !rest.starts_with("/@"))
        };
        let mut held =
            self.settings.iter().map(|setting| setting.key.id.as_str()).filter(|own| inside(own)).peekable();
        held.peek().is_some() && held.all(|own| gone.contains(own))
    }

    /// The child that a step as a person writes it leads to; nothing if it leads to none but could be made.
    fn child_at<'x>(&self, element: &'x Element, written: &str) -> Result<Option<&'x Element>, String> {
        if let Some(child) = element.children.iter().find(|child| self.step(child) == written) {
            return Ok(Some(child));
        }
        let (name, rest) = written.split_once('[').unwrap_or((written, ""));
        let alike: Vec<&Element> = element.children.iter().filter(|child| child.name == name).collect();
        let told = rest.trim_end_matches(']');
        if rest.is_empty() {
            return match alike.as_slice() {
                [] => Ok(None),
                [only] => Ok(Some(only)),
                many => Err(format!(
                    "`{name}` stands there {} times; write `{}` or the like",
                    many.len(),
                    self.step(many[0])
                )),
            };
        }
        if let Ok(number) = told.parse::<usize>() {
            let nth = number.checked_sub(1).and_then(|at| alike.get(at).copied());
            return match nth {
                None if number != 1 => {
                    Err(format!("there is no `{written}`; `{name}` stands there {} time(s)", alike.len()))
                }
                found => Ok(found),
            };
        }
        let Some((by, value)) = told.split_once('=') else {
            return Err(format!("`{written}` is no step of a path"));
        };
        let value = value.trim_matches('\'');
        Ok(alike.into_iter().find(|child| match by.strip_prefix('@') {
            Some(attribute) => child.attribute(&self.text, attribute) == Some(value),
            None => child.leaf(&self.text, by) == Some(value),
        }))
    }

    /// A path as people write it: an element that nobody else has is told by its number.
    fn shown(&self, id: &str) -> String {
        if !id.contains("[+") {
            return id.to_owned();
        }
        let (mut shown, mut element) = (format!("/{}", self.document.root.name), Some(&self.document.root));
        for step in steps(id).into_iter().skip(1) {
            let child =
                element.and_then(|element| element.children.iter().find(|child| self.step(child) == step));
            shown.push('/');
            match (element, child) {
                (Some(element), Some(child)) if step.contains("[+") => {
                    let before = element.children.iter().take_while(|other| other.tag != child.tag);
                    let number = before.filter(|other| other.name == child.name).count() + 1;
                    shown.push_str(&format!("{}[{number}]", child.name));
                }
                _ => shown.push_str(step),
            }
            element = child;
        }
        shown
    }

    fn gather(&self, element: &Element, path: &str, settings: &mut Vec<Setting>) {
        let text = &self.text;
        let is_one = self.as_one.contains(&element.tag.start);
        let mut note = |path: String, raw: &str, meaning: String, is_holder| {
            let key = Key { shown: self.shown(&path), id: path };
            settings.push(Setting { key, raw: raw.to_owned(), meaning, is_holder });
        };
        if is_one || element.children.is_empty() {
            let raw = &text[element.words.clone()];
            let meaning = if is_one { element.inner_meaning(text) } else { read::text_meaning(raw) };
            note(path.to_owned(), raw, meaning, raw.is_empty());
        }
        let by = self.told.get(&element.tag.start).and_then(|told| told.by.as_ref());
        for attribute in element.attributes.iter().filter(|attribute| by != Some(&attribute.name)) {
            let raw = &text[attribute.value.clone()];
            note(format!("{path}/@{}", attribute.name), raw, read::text_meaning(raw), false);
        }
        for child in element.children.iter().filter(|_| !is_one) {
            let path = format!("{path}/{}", self.step(child));
            match self.step(child).contains("[+") {
                true => {
                    let key = Key { shown: self.shown(&path), id: path };
                    let raw = text[child.tag.start..child.end].to_owned();
                    settings.push(Setting { key, raw, meaning: child.meaning(text), is_holder: false });
                }
                false => self.gather(child, &path, settings),
            }
        }
    }
}
