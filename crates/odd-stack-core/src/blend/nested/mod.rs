//! Files of values in one another: JSON, and Lua as far as it is data. Keys are JSON pointers (RFC 6901), in which
//! an element of an array can also be named by what tells it: `/routes/[id='x']/every`.
//!
//! Objects are gone into. So are arrays of objects and of texts, where each element can be told from the others (see
//! [`super::align`]); else an array is one value, as one of numbers always is.

use std::collections::{HashMap, HashSet};
use std::marker::PhantomData;

use self::json::JsonNotation;
use self::lua::LuaNotation;
use self::notation::{Notation, Outline};
use self::tell::agree_on;
use self::value::{Kind, Node, mean, values_in};
use super::keyed::{Branch, Change, Key, Keyed, Leaf, Setting, Settings, whole_parts};
use super::nested::pointer::{escaped, unescaped};

mod json;
mod lua;
mod lua_words;
mod notation;
mod pointer;
mod tell;
mod value;
mod write;

/// A file of JSON.
pub(super) type Json = Nested<JsonNotation>;
/// A file of Lua that holds nothing but data.
pub(super) type Lua = Nested<LuaNotation>;

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Nested<N> {
    text: String,
    root: Node,
    is_list_of_statements: bool,
    settings: Settings,
    /// How the elements are told of each array that is gone into, by where it starts.
    steps: HashMap<usize, Vec<String>>,
    notation: PhantomData<N>,
}

impl<N: Notation> Keyed for Nested<N> {
    fn parse(text: &str) -> Result<Self, String> {
        let Outline { root, is_list_of_statements } = N::read(text)?;
        let mut file = Self {
            text: text.to_owned(),
            root,
            is_list_of_statements,
            settings: Settings::default(),
            steps: HashMap::new(),
            notation: PhantomData,
        };
        Self::agree(&mut [Some(&mut file)])?;
        Ok(file)
    }

    fn agree(documents: &mut [Option<&mut Self>]) -> Result<(), String> {
        let kinds: HashSet<bool> =
            documents.iter().flatten().map(|file| file.is_list_of_statements).collect();
        if kinds.len() > 1 {
            return Err("some of them give back a table, and others set what they hold one by one".to_owned());
        }
        let mut steps = vec![HashMap::new(); documents.len()];
        let roots: Vec<Option<&Node>> =
            documents.iter().map(|document| document.as_ref().map(|document| &document.root)).collect();
        agree_on::<N>(&roots, &mut steps);
        for (document, steps) in documents.iter_mut().zip(steps) {
            if let Some(document) = document {
                document.steps = steps;
                document.gather();
            }
        }
        Ok(())
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn sense(&self) -> String {
        let mut sense = String::new();
        mean(&self.root, &mut sense);
        sense
    }

    fn is_plain(&self) -> bool {
        self.steps.is_empty()
    }

    fn values_in(&self, setting: &Setting) -> Vec<(String, String)> {
        let (mut way, mut node) = (String::new(), Some(&self.root));
        for step in setting.key.id.split('/').skip(1) {
            let is_element = node.is_some_and(|node| matches!(node.kind, Kind::Array(_)));
            way.push_str(if is_element { "/" } else { step });
            way.push('/');
            node = node.and_then(|node| self.step_into(node, step));
        }
        let mut values = Vec::new();
        match node {
            Some(node) if !setting.is_holder => values_in(node, &mut way, &mut values),
            _ => {}
        }
        values
    }

    fn above(id: &str) -> Vec<&str> {
        id.match_indices('/').map(|(at, _)| &id[..at]).collect()
    }

    fn parts_around(id: &str) -> Vec<&str> {
        id.match_indices('/').map(|(at, _)| &id[..at]).filter(|part| !part.is_empty()).collect()
    }

    fn is_listed(id: &str) -> bool {
        id.rsplit('/').next().is_some_and(|last| last.starts_with('+'))
    }

    fn by_place<'k>(&self, id: &'k str) -> Option<&'k str> {
        let (mut node, mut end, mut found) = (Some(&self.root), 0, None);
        for step in id.split('/').skip(1) {
            end += 1 + step.len();
            let is_element = node.is_some_and(|node| matches!(node.kind, Kind::Array(_)));
            if is_element && !step.starts_with(['[', '+']) {
                found = Some(&id[..end]);
            }
            node = node.and_then(|node| self.step_into(node, step));
        }
        found
    }

    fn part_as_told_in(&self, told: &Self, part: &str) -> Option<String> {
        let at = told.node_at(part)?.start;
        let (mut id, mut node) = (String::new(), &self.root);
        let holds = |node: &Node| (node.start..node.end).contains(&at);
        while node.start != at {
            let (step, inner) = match &node.kind {
                Kind::Object(properties) => {
                    let property = properties.iter().find(|property| holds(&property.value))?;
                    (escaped(&property.name), &property.value)
                }
                Kind::Array(elements) => {
                    let place = elements.iter().position(holds)?;
                    let step = self.steps.get(&node.start).map(|steps| steps[place].clone());
                    (step.unwrap_or_else(|| place.to_string()), &elements[place])
                }
                Kind::Text(_) | Kind::Other(_) => return None,
            };
            id.push('/');
            id.push_str(&step);
            node = inner;
        }
        Some(id)
    }

    fn shown_as(&self, id: &str) -> String {
        shown(id)
    }

    fn value_at(&self, key: &Key) -> Option<String> {
        self.node_at(&key.id).map(|node| self.text[node.start..node.end].to_owned())
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let pointer = match written.strip_prefix('/') {
            Some(_) => written.to_owned(),
            None if self.root.property(written).is_some() => format!("/{}", escaped(written)),
            None => return Err(format!("`{written}` is no JSON pointer; write /section/key")),
        };
        // Elements are named by what tells them, so that the key means the same in another version of the file.
        let (mut id, mut node) = (String::new(), Some(&self.root));
        for name in pointer.split('/').skip(1) {
            let mut step = name.to_owned();
            if let Some(array) = node.filter(|node| matches!(node.kind, Kind::Array(_))) {
                step = self.element_step(array, name).ok_or_else(|| {
                    let count = array.elements().map_or(0, <[Node]>::len);
                    format!(
                        "`{written}`: `{id}` is an array of {count} element(s), and none of them is `{name}`"
                    )
                })?;
            }
            node = node.and_then(|node| self.step_into(node, &step));
            id.push('/');
            id.push_str(&step);
        }
        Ok(Key { shown: shown(&id), id })
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut tree = Branch::default();
        let whole = whole_parts(changes, |id| self.new_part(id));
        let mut put = HashSet::new();
        for (key, change) in changes {
            let part = self.new_part(&key.id);
            if let Some((part, source)) = part.and_then(|part| whole.get_key_value(part)) {
                if let Some(node) = source.node_at(part).filter(|_| put.insert(*part)) {
                    let raw = source.text[node.start..node.end].to_owned();
                    tree.put(self.way(part, Some(source)), Leaf::Raw(raw));
                }
                continue;
            }
            let mut source = None;
            let leaf = match change {
                Change::Remove => Leaf::Remove,
                Change::Typed(text) => Leaf::Typed((*text).to_owned()),
                Change::From(other) => match other.settings.get(&key.id) {
                    Some(setting) => {
                        source = Some(*other);
                        Leaf::Raw(setting.raw.clone())
                    }
                    None => continue,
                },
            };
            tree.put(self.way(&key.id, source), leaf);
        }
        self.written(&tree)
    }
}

impl<N: Notation> Nested<N> {
    /// Lists the settings.
    fn gather(&mut self) {
        let mut settings = Vec::new();
        self.gather_in(&self.root, &mut String::new(), &mut settings);
        self.settings = Settings::new(settings);
    }

    fn gather_in(&self, node: &Node, pointer: &mut String, settings: &mut Vec<Setting>) {
        let mut note = |pointer: &str, raw: &str, is_holder| {
            let mut meaning = String::new();
            if is_holder {
                meaning.push_str(raw)
            } else {
                mean(node, &mut meaning)
            }
            let key = Key { id: pointer.to_owned(), shown: shown(pointer) };
            settings.push(Setting { key, raw: raw.to_owned(), meaning, is_holder });
        };
        match (&node.kind, self.steps.get(&node.start)) {
            (Kind::Object(properties), None) if properties.is_empty() => note(pointer, "{}", true),
            (Kind::Object(properties), Some(_)) if properties.is_empty() => note(pointer, "[]", true),
            (Kind::Object(properties), _) => {
                for property in properties {
                    within(pointer, &escaped(&property.name), |pointer| {
                        self.gather_in(&property.value, pointer, settings);
                    });
                }
            }
            (Kind::Array(elements), Some(steps)) => {
                // Without it, an array of which all goes would be one that goes.
                note(pointer, "[]", true);
                for (element, step) in elements.iter().zip(steps) {
                    within(pointer, step, |pointer| match step.starts_with('+') {
                        true => {
                            let mut meaning = String::new();
                            mean(element, &mut meaning);
                            let key = Key { id: pointer.clone(), shown: shown(pointer) };
                            let raw = self.text[element.start..element.end].to_owned();
                            settings.push(Setting { key, raw, meaning, is_holder: false });
                        }
                        false => self.gather_in(element, pointer, settings),
                    });
                }
            }
            _ => note(pointer, &self.text[node.start..node.end], false),
        }
    }

    /// The step to an element as a person may write it.
    fn element_step(&self, array: &Node, written: &str) -> Option<String> {
        let elements = array.elements()?;
        let steps = self.steps.get(&array.start);
        if let Some(step) = steps.and_then(|steps| steps.iter().find(|step| *step == written)) {
            return Some(step.clone());
        }
        let place = match written {
            "-" => elements.len(),
            place => place.parse().ok()?,
        };
        match steps.and_then(|steps| steps.get(place)) {
            Some(step) => Some(step.clone()),
            None if place < elements.len() => Some(place.to_string()),
            // The one behind the last is added (RFC 6901, 4).
            None => (place == elements.len()).then(|| "+".to_owned()),
        }
    }

    fn node_at(&self, id: &str) -> Option<&Node> {
        id.split('/').skip(1).try_fold(&self.root, |node, name| self.step_into(node, name))
    }

    /// The outermost part around a key that is not there.
    fn new_part<'k>(&self, id: &'k str) -> Option<&'k str> {
        let ends = id.match_indices('/').map(|(at, _)| at).skip(1).chain([id.len()]);
        ends.map(|end| &id[..end]).find(|part| self.node_at(part).is_none())
    }

    fn step_into<'n>(&self, node: &'n Node, step: &str) -> Option<&'n Node> {
        match &node.kind {
            Kind::Object(_) => node.property(&unescaped(step)),
            Kind::Array(elements) => {
                let told =
                    self.steps.get(&node.start).and_then(|steps| steps.iter().position(|own| own == step));
                elements.get(told.or_else(|| step.parse().ok())?)
            }
            Kind::Text(_) | Kind::Other(_) => None,
        }
    }

    /// The names on the way to a key, each with what it stands behind in its array of `source`.
    fn way(&self, id: &str, source: Option<&Self>) -> Vec<(String, Option<Option<String>>)> {
        let mut node = source.map(|source| &source.root);
        let step = |step: &str| {
            let array = node.filter(|node| matches!(node.kind, Kind::Array(_)));
            let steps = array.and_then(|array| source?.steps.get(&array.start));
            let place = steps.and_then(|steps| Some((steps, steps.iter().position(|own| own == step)?)));
            let behind = place.map(|(steps, at)| at.checked_sub(1).map(|before| steps[before].clone()));
            let is_step = array.is_some() || step.starts_with(['+', '[']);
            node = node.and_then(|node| source?.step_into(node, step));
            (if is_step { step.to_owned() } else { unescaped(step) }, behind)
        };
        id.split('/').skip(1).map(step).collect()
    }
}

/// A pointer as people write it: an element that is new is the one behind the last.
fn shown(id: &str) -> String {
    match id.contains("/+") {
        true => id
            .split('/')
            .map(|step| if step.starts_with('+') { "-" } else { step })
            .collect::<Vec<_>>()
            .join("/"),
        false => id.to_owned(),
    }
}

fn within<R>(pointer: &mut String, name: &str, act: impl FnOnce(&mut String) -> R) -> R {
    let length = pointer.len();
    pointer.push('/');
    pointer.push_str(name);
    let done = act(pointer);
    pointer.truncate(length);
    done
}
