//! JSON (RFC 8259) as games write it, with comments and trailing commas. Keys are JSON pointers (RFC 6901), in which
//! an element of an array can also be named by what tells it: `/routes/[id='x']/every`.
//!
//! Objects are gone into. So are arrays of objects and of texts, where each element can be told from the others (see
//! [`super::align`]); else an array is one value, as one of numbers always is.

mod write;

use std::collections::{HashMap, HashSet};

use jsonc_parser::ast::Value;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

use super::align::{Element, Step, align};
use super::keyed::{Branch, Change, Key, Keyed, Leaf, MOST_NESTED, Setting, Settings, line_of, whole_parts};
use crate::hash::ContentHash;

#[derive(Debug, Clone)]
struct Node {
    start: usize,
    end: usize,
    kind: Kind,
}

#[derive(Debug, Clone)]
enum Kind {
    Object(Vec<Property>),
    Array(Vec<Node>),
    Text(String),
    /// What it means, without its form.
    Other(String),
}

#[derive(Debug, Clone)]
struct Property {
    name: String,
    start: usize,
    value: Node,
}

impl Node {
    fn property(&self, name: &str) -> Option<&Self> {
        match &self.kind {
            Kind::Object(properties) => {
                properties.iter().find(|property| property.name == name).map(|property| &property.value)
            }
            _ => None,
        }
    }

    fn elements(&self) -> Option<&[Self]> {
        match &self.kind {
            Kind::Array(elements) => Some(elements),
            _ => None,
        }
    }
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Json {
    text: String,
    root: Node,
    settings: Settings,
    /// How the elements are told of each array that is gone into, by where it starts.
    steps: HashMap<usize, Vec<String>>,
}

impl Keyed for Json {
    fn parse(text: &str) -> Result<Self, String> {
        refuse_deep(text)?;
        let options = ParseOptions { allow_missing_commas: false, ..ParseOptions::default() };
        let parsed = parse_to_ast(text, &CollectOptions::default(), &options).map_err(|error| {
            format!("line {}, column {}: {}", error.line_display(), error.column_display(), error.kind())
        })?;
        let value = parsed.value.ok_or("it is empty")?;
        if !matches!(value, Value::Object(_) | Value::Array(_)) {
            return Err("it has no keys: it is neither an object nor an array".to_owned());
        }
        let root = node(text, &value)?;
        let mut json =
            Self { text: text.to_owned(), root, settings: Settings::default(), steps: HashMap::new() };
        Self::agree(&mut [Some(&mut json)])?;
        Ok(json)
    }

    fn agree(documents: &mut [Option<&mut Self>]) -> Result<(), String> {
        let mut steps = vec![HashMap::new(); documents.len()];
        let roots: Vec<Option<&Node>> =
            documents.iter().map(|document| document.as_ref().map(|document| &document.root)).collect();
        agree_on(&roots, &mut steps);
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

impl Json {
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
            (Kind::Object(properties), _) if properties.is_empty() => note(pointer, "{}", true),
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

/// Tells the elements of all arrays that lie at one place in several documents.
fn agree_on(nodes: &[Option<&Node>], steps: &mut [HashMap<usize, Vec<String>>]) {
    let mut there = nodes.iter().flatten();
    if there.clone().all(|node| matches!(node.kind, Kind::Array(_))) {
        let lists: Option<Vec<Option<Vec<Element>>>> = nodes.iter().map(|node| elements_of(*node)).collect();
        let Some(told) = lists.and_then(|lists| align(&lists)) else { return };
        let mut by_step: HashMap<&Step, Vec<Option<&Node>>> = HashMap::new();
        let mut in_order = Vec::new();
        for (at, list) in told.iter().enumerate() {
            for (step, element) in list.iter().zip(nodes[at].and_then(Node::elements).unwrap_or_default()) {
                let known = by_step.entry(step).or_insert_with(|| {
                    in_order.push(step);
                    vec![None; nodes.len()]
                });
                known[at] = Some(element);
            }
        }
        for step in in_order.into_iter().filter(|step| !matches!(step, Step::New { .. })) {
            agree_on(&by_step[step], steps);
        }
        for ((own, list), node) in steps.iter_mut().zip(&told).zip(nodes) {
            if let Some(node) = node {
                own.insert(node.start, list.iter().map(step_name).collect());
            }
        }
        return;
    }
    let mut seen = HashSet::new();
    let names = there.by_ref().filter_map(|node| match &node.kind {
        Kind::Object(properties) => Some(properties.iter().map(|property| property.name.as_str())),
        _ => None,
    });
    let by_name: Vec<HashMap<&str, &Node>> = nodes.iter().map(|node| properties_of(*node)).collect();
    for name in names.flatten().filter(|name| seen.insert(*name)).collect::<Vec<_>>() {
        let below: Vec<Option<&Node>> = by_name.iter().map(|own| own.get(name).copied()).collect();
        agree_on(&below, steps);
    }
}

fn properties_of(node: Option<&Node>) -> HashMap<&str, &Node> {
    match node.map(|node| &node.kind) {
        Some(Kind::Object(properties)) => {
            properties.iter().map(|property| (property.name.as_str(), &property.value)).collect()
        }
        _ => HashMap::new(),
    }
}

/// The elements of an array as far as they can be told; nothing if it is one value.
fn elements_of(node: Option<&Node>) -> Option<Option<Vec<Element>>> {
    let Some(node) = node else { return Some(None) };
    let elements = node.elements()?;
    let is_of = |is: fn(&Node) -> bool| elements.iter().all(is);
    if !is_of(|node| matches!(node.kind, Kind::Object(_)))
        && !is_of(|node| matches!(node.kind, Kind::Text(_)))
    {
        return None;
    }
    let element = |node: &Node| {
        let mut meaning = String::new();
        mean(node, &mut meaning);
        let (mut parts, mut called) = (Vec::new(), Vec::new());
        if let Kind::Object(properties) = &node.kind {
            for property in properties {
                let mut said = String::new();
                mean(&property.value, &mut said);
                match &property.value.kind {
                    Kind::Text(text) if !text.contains(['\'', '\n']) => {
                        called.push((property.name.clone(), text.clone()));
                    }
                    Kind::Other(number) if number.starts_with(|c: char| c.is_ascii_digit()) => {
                        called.push((property.name.clone(), number.clone()));
                    }
                    _ => {}
                }
                parts.push((property.name.clone(), said));
            }
        }
        Element { meaning, parts, called }
    };
    Some(Some(elements.iter().map(element).collect()))
}

/// All values in a node, each with the names on its way; elements of arrays have none.
fn values_in(node: &Node, way: &mut String, values: &mut Vec<(String, String)>) {
    let mut go_into = |name: &str, inner: &Node| {
        let length = way.len();
        way.push_str(name);
        way.push('/');
        values_in(inner, way, values);
        way.truncate(length);
    };
    match &node.kind {
        Kind::Object(properties) => {
            properties.iter().for_each(|property| go_into(&escaped(&property.name), &property.value));
        }
        Kind::Array(elements) => elements.iter().for_each(|element| go_into("/", element)),
        Kind::Text(text) => values.push((way.clone(), quoted(text))),
        Kind::Other(meaning) => values.push((way.clone(), meaning.clone())),
    }
}

/// How a step is written in a pointer.
fn step_name(step: &Step) -> String {
    match step {
        Step::Called { by, value } => format!("[{}='{}']", escaped(by), escaped(value)),
        Step::At(at) => at.to_string(),
        Step::New { meaning, before } => {
            let hash = ContentHash::of(meaning.as_bytes()).to_string();
            format!("+{}{before}", &hash[..16])
        }
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

/// Refuses what is nested too deep, before anything goes down into it.
fn refuse_deep(text: &str) -> Result<(), String> {
    let (mut depth, mut quote, mut is_escaped) = (0usize, None, false);
    for c in text.chars() {
        match (quote, c) {
            (Some(_), _) if is_escaped => is_escaped = false,
            (Some(_), '\\') => is_escaped = true,
            (Some(open), c) if open == c => quote = None,
            (Some(_), '\n') => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '{' | '[') => depth += 1,
            (None, '}' | ']') => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > MOST_NESTED {
            return Err(format!("it is nested more than {MOST_NESTED} deep"));
        }
    }
    Ok(())
}

fn escaped(name: &str) -> String {
    name.replace('~', "~0").replace('/', "~1")
}

fn unescaped(name: &str) -> String {
    name.replace("~1", "/").replace("~0", "~")
}

fn node(text: &str, value: &Value<'_>) -> Result<Node, String> {
    let range = jsonc_parser::common::Ranged::range(value);
    let kind = match value {
        Value::Object(object) => {
            let mut properties: Vec<Property> = Vec::with_capacity(object.properties.len());
            let mut seen = HashSet::new();
            for property in &object.properties {
                let name = property.name.as_str().to_owned();
                if !seen.insert(name.clone()) {
                    let line = line_of(text, property.range.start);
                    return Err(format!("line {line}: the key `{name}` stands there twice"));
                }
                let value = node(text, &property.value)?;
                properties.push(Property { name, start: property.range.start, value });
            }
            Kind::Object(properties)
        }
        Value::Array(array) => {
            Kind::Array(array.elements.iter().map(|element| node(text, element)).collect::<Result<_, _>>()?)
        }
        Value::StringLit(string) => Kind::Text(string.value.clone().into_owned()),
        Value::NumberLit(number) => Kind::Other(number_meaning(number.value)),
        Value::BooleanLit(boolean) => Kind::Other(boolean.value.to_string()),
        Value::NullKeyword(_) => Kind::Other("null".to_owned()),
    };
    Ok(Node { start: range.start, end: range.end, kind })
}

/// What a number is, digit by digit: `1`, `1.0` and `10e-1` are one, and no two different ones are.
fn number_meaning(written: &str) -> String {
    let (sign, digits) = match written.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", written.strip_prefix('+').unwrap_or(written)),
    };
    let (mantissa, exponent) = digits.split_once(['e', 'E']).unwrap_or((digits, "0"));
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let is_plain = [whole, fraction].iter().all(|part| part.bytes().all(|byte| byte.is_ascii_digit()));
    let Some(exponent) = exponent.parse::<i64>().ok().filter(|_| is_plain) else { return written.to_owned() };
    let all = format!("{whole}{fraction}");
    let bare = all.trim_start_matches('0');
    let significant = bare.trim_end_matches('0');
    if significant.is_empty() {
        return "0".to_owned();
    }
    let scale = exponent
        .saturating_sub(fraction.len() as i64)
        .saturating_add((bare.len() - significant.len()) as i64);
    match scale {
        0..40 => format!("{sign}{significant}{}", "0".repeat(usize::try_from(scale).unwrap_or(0))),
        _ => format!("{sign}{significant}e{scale}"),
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

/// Writes a value without its form: no blanks, no comments, numbers as they count.
fn mean(node: &Node, out: &mut String) {
    match &node.kind {
        Kind::Text(text) => out.push_str(&quoted(text)),
        Kind::Other(meaning) => out.push_str(meaning),
        Kind::Array(elements) => {
            out.push('[');
            for element in elements {
                mean(element, out);
                out.push(',');
            }
            out.push(']');
        }
        Kind::Object(properties) => {
            let mut properties: Vec<_> = properties.iter().collect();
            properties.sort_by_key(|property| &property.name);
            out.push('{');
            for property in properties {
                out.push_str(&quoted(&property.name));
                out.push(':');
                mean(&property.value, out);
                out.push(',');
            }
            out.push('}');
        }
    }
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
