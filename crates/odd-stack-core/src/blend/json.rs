//! JSON (RFC 8259) as games write it, with comments and trailing commas. Keys are JSON pointers (RFC 6901).
//!
//! Objects are gone into, so that an empty one says nothing. An array is one value, unless it is one of objects and
//! of the same length in all files that are compared; a person may point into any.

use std::collections::{HashMap, HashSet};

use jsonc_parser::ast::Value;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

use super::keyed::{
    Branch, Change, Key, Keyed, Leaf, Setting, Settings, after_rest_of_line, indent_at, line_end, line_of,
};

#[derive(Debug, Clone)]
struct Node {
    start: usize,
    end: usize,
    kind: Kind,
}

#[derive(Debug, Clone)]
enum Kind {
    Object(Vec<(String, usize, Node)>),
    Array(Vec<Node>),
    Text(String),
    /// What it means, without its form.
    Other(String),
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Json {
    text: String,
    root: Node,
    settings: Settings,
}

impl Keyed for Json {
    fn parse(text: &str) -> Result<Self, String> {
        let options = ParseOptions { allow_missing_commas: false, ..ParseOptions::default() };
        let parsed = parse_to_ast(text, &CollectOptions::default(), &options).map_err(|error| {
            format!("line {}, column {}: {}", error.line_display(), error.column_display(), error.kind())
        })?;
        let value = parsed.value.ok_or("it is empty")?;
        if !matches!(value, Value::Object(_)) {
            return Err("it has no keys: it is not an object".to_owned());
        }
        let root = node(text, &value)?;
        let mut json = Self { text: text.to_owned(), root, settings: Settings::default() };
        json.gather(&HashMap::new());
        Ok(json)
    }

    /// An array of objects that is of one length in all of them is gone into, element by element.
    fn agree(documents: &mut [&mut Self]) {
        let mut lengths: HashMap<String, Option<usize>> = HashMap::new();
        for document in documents.iter() {
            arrays(&document.root, &mut String::new(), &mut |pointer, length| {
                let known = lengths.entry(pointer.to_owned()).or_insert(Some(length));
                *known = known.filter(|known| *known == length && length > 0);
            });
        }
        documents.iter_mut().for_each(|document| document.gather(&lengths));
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn value_at(&self, key: &Key) -> Option<String> {
        let found = key.id.split('/').skip(1).try_fold(&self.root, |node, name| match &node.kind {
            Kind::Object(properties) => {
                let name = unescaped(name);
                properties.iter().find(|(own, ..)| *own == name).map(|(.., inner)| inner)
            }
            Kind::Array(elements) => elements.get(name.parse::<usize>().ok()?),
            Kind::Text(_) | Kind::Other(_) => None,
        });
        found.map(|node| self.text[node.start..node.end].to_owned())
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let pointer = match written.strip_prefix('/') {
            Some(_) => written.to_owned(),
            None if self.root_has(written) => format!("/{}", escaped(written)),
            None => return Err(format!("`{written}` is no JSON pointer; write /section/key")),
        };
        Ok(Key { id: pointer.clone(), shown: pointer })
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut tree = Branch::default();
        for (key, change) in changes {
            let leaf = match change {
                Change::Remove => Leaf::Remove,
                Change::Typed(text) => Leaf::Typed((*text).to_owned()),
                Change::From(other) => match other.settings.get(&key.id) {
                    Some(setting) => Leaf::Raw(setting.raw.clone()),
                    None => continue,
                },
            };
            let names: Vec<String> = key.id.split('/').skip(1).map(unescaped).collect();
            tree.put(names.iter().map(String::as_str), leaf);
        }
        let writer = Writer { text: &self.text, end: line_end(&self.text), unit: self.unit() };
        let inside = writer.node(&self.root, &tree, "")?.unwrap_or_else(|| "{}".to_owned());
        Ok([&self.text[..self.root.start], &inside, &self.text[self.root.end..]].concat())
    }
}

impl Json {
    /// Lists the settings; arrays of these lengths are gone into.
    fn gather(&mut self, lengths: &HashMap<String, Option<usize>>) {
        let mut settings = Vec::new();
        gather(&self.text, &self.root, &mut String::new(), lengths, &mut settings);
        self.settings = Settings::new(settings);
    }

    fn root_has(&self, name: &str) -> bool {
        matches!(&self.root.kind, Kind::Object(properties) if properties.iter().any(|(own, ..)| own == name))
    }

    /// What one step of indentation is in this file.
    fn unit(&self) -> &str {
        let Kind::Object(properties) = &self.root.kind else { return "  " };
        let first = properties.first().and_then(|(_, start, _)| indent_at(&self.text, *start));
        first.filter(|indent| !indent.is_empty()).unwrap_or("  ")
    }
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
            let mut properties: Vec<(String, usize, Node)> = Vec::with_capacity(object.properties.len());
            let mut seen = HashSet::new();
            for property in &object.properties {
                let name = property.name.as_str().to_owned();
                if !seen.insert(name.clone()) {
                    let line = line_of(text, property.range.start);
                    return Err(format!("line {line}: the key `{name}` stands there twice"));
                }
                properties.push((name, property.range.start, node(text, &property.value)?));
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

fn gather(
    text: &str,
    node: &Node,
    pointer: &mut String,
    lengths: &HashMap<String, Option<usize>>,
    settings: &mut Vec<Setting>,
) {
    match &node.kind {
        // An empty object says nothing of its own.
        Kind::Object(properties) => {
            for (name, _, inner) in properties {
                within(pointer, &escaped(name), |pointer| gather(text, inner, pointer, lengths, settings));
            }
        }
        Kind::Array(elements) if matches!(lengths.get(pointer.as_str()), Some(Some(_))) => {
            for (index, inner) in elements.iter().enumerate() {
                within(pointer, &index.to_string(), |pointer| {
                    gather(text, inner, pointer, lengths, settings)
                });
            }
        }
        _ => {
            let mut meaning = String::new();
            mean(node, &mut meaning);
            let key = Key { id: pointer.clone(), shown: pointer.clone() };
            settings.push(Setting { key, raw: text[node.start..node.end].to_owned(), meaning });
        }
    }
}

fn number_meaning(written: &str) -> String {
    let is_plain = !written.contains(|c: char| c.is_alphabetic() && c != 'e' && c != 'E');
    match written.parse::<f64>() {
        Ok(value) if value.fract() == 0.0 && value.abs() < 1e15 => format!("{value:.0}"),
        Ok(value) if is_plain => value.to_string(),
        _ => written.to_owned(),
    }
}

/// Shows each array of objects, by its pointer and length.
fn arrays(node: &Node, pointer: &mut String, see: &mut impl FnMut(&str, usize)) {
    match &node.kind {
        Kind::Object(properties) => {
            for (name, _, inner) in properties {
                within(pointer, &escaped(name), |pointer| arrays(inner, pointer, see));
            }
        }
        Kind::Array(elements) => {
            let is_of_objects = elements.iter().all(|element| matches!(element.kind, Kind::Object(_)));
            see(pointer, if is_of_objects { elements.len() } else { 0 });
            for (index, inner) in elements.iter().enumerate() {
                within(pointer, &index.to_string(), |pointer| arrays(inner, pointer, see));
            }
        }
        Kind::Text(_) | Kind::Other(_) => {}
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
            properties.sort_by_key(|(name, ..)| name);
            out.push('{');
            for (name, _, inner) in properties {
                out.push_str(&quoted(name));
                out.push(':');
                mean(inner, out);
                out.push(',');
            }
            out.push('}');
        }
    }
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// How a value that a person types is written: over a text it is a text, else what it reads as.
fn typed(text: &str, over: Option<&Kind>) -> String {
    if matches!(over, Some(Kind::Text(_))) {
        let is_quoted = serde_json::from_str::<String>(text).is_ok();
        return if is_quoted { text.to_owned() } else { quoted(text) };
    }
    if serde_json::from_str::<serde_json::Value>(text).is_ok() { text.to_owned() } else { quoted(text) }
}

struct Writer<'t> {
    text: &'t str,
    end: &'static str,
    unit: &'t str,
}

impl Writer<'_> {
    /// The node with what becomes of it; nothing if it goes.
    fn node(&self, node: &Node, branch: &Branch, name: &str) -> Result<Option<String>, String> {
        match &branch.own {
            Some(Leaf::Raw(raw)) => return Ok(Some(raw.clone())),
            Some(Leaf::Typed(text)) => return Ok(Some(typed(text, Some(&node.kind)))),
            Some(Leaf::Remove) if !branch.sets_any() => return Ok(None),
            _ => {}
        }
        match &node.kind {
            Kind::Object(properties) => self.object(node, properties, branch),
            Kind::Array(elements) => self.array(node, elements, branch, name).map(Some),
            _ if branch.sets_any() => {
                let indent = indent_of_line(self.text, node.start);
                Ok(Some(self.new_object(branch, indent)))
            }
            _ => Ok(Some(self.text[node.start..node.end].to_owned())),
        }
    }

    fn object(
        &self,
        node: &Node,
        properties: &[(String, usize, Node)],
        branch: &Branch,
    ) -> Result<Option<String>, String> {
        let text = self.text;
        let known: HashSet<&str> = properties.iter().map(|(name, ..)| name.as_str()).collect();
        let is_new = |name: &str| !known.contains(name);
        let new: Vec<&(String, Branch)> =
            branch.below.iter().filter(|(name, below)| is_new(name) && below.sets_any()).collect();
        // Each property with what stands before it, and where its comma ends.
        let mut kept: Vec<(String, usize)> = Vec::new();
        let mut from = after_rest_of_line(text, node.start + 1);
        let opening = &text[node.start..from];
        let mut has_last_comma = false;
        for (name, _, inner) in properties {
            let comma = comma_after(text, inner.end, node.end);
            let until = comma.map_or(inner.end, |at| at + 1);
            let tail = after_rest_of_line(text, until);
            let value = match branch.find(name) {
                None => Some(text[inner.start..inner.end].to_owned()),
                Some(below) => self.node(inner, below, name)?,
            };
            if let Some(value) = value {
                // Between the value and its comma a comment may stand.
                let until_comma = comma.map_or("", |at| &text[inner.end..at]);
                kept.push(([&text[from..inner.start], &value, until_comma].concat(), until));
            }
            has_last_comma = comma.is_some();
            from = tail;
        }
        if kept.is_empty() && new.is_empty() && !properties.is_empty() {
            return Ok(None);
        }
        let mut out = opening.to_owned();
        let count = kept.len();
        for (index, (piece, until)) in kept.iter().enumerate() {
            out.push_str(piece);
            let is_last = index + 1 == count;
            if !is_last || !new.is_empty() || has_last_comma {
                out.push(',');
            }
            out.push_str(&text[*until..after_rest_of_line(text, *until)]);
        }
        let closing = indent_of_line(text, node.start);
        let is_open = text[node.start..node.end].contains('\n') || properties.is_empty();
        let indent = properties.first().and_then(|(_, start, _)| indent_at(text, *start));
        let indent = indent.map_or_else(|| format!("{closing}{}", self.unit), str::to_owned);
        for (index, (name, below)) in new.iter().enumerate() {
            let before = match (is_open, count + index) {
                (true, _) => format!("{}{indent}", self.end),
                (false, 0) => String::new(),
                (false, _) => " ".to_owned(),
            };
            let value = self.new_value(below, &indent);
            let comma = if index + 1 < new.len() || has_last_comma { "," } else { "" };
            out.push_str(&format!("{before}{}: {value}{comma}", quoted(name)));
        }
        if properties.is_empty() {
            out.push_str(&format!("{}{closing}}}", self.end));
        } else {
            out.push_str(&text[from..node.end]);
        }
        Ok(Some(out))
    }

    fn array(&self, node: &Node, elements: &[Node], branch: &Branch, name: &str) -> Result<String, String> {
        let text = self.text;
        let mut out = String::new();
        let mut from = node.start;
        let mut used = 0;
        for (index, element) in elements.iter().enumerate() {
            if let Some(below) = branch.find(&index.to_string()) {
                used += 1;
                let value = self.node(element, below, name)?;
                let value = value.ok_or_else(|| format!("`{name}` is an array; set it as a whole"))?;
                out.push_str(&text[from..element.start]);
                out.push_str(&value);
                from = element.end;
            }
        }
        if used < branch.below.len() {
            return Err(format!("`{name}` is an array of {} element(s)", elements.len()));
        }
        out.push_str(&text[from..node.end]);
        Ok(out)
    }

    fn new_value(&self, branch: &Branch, indent: &str) -> String {
        match &branch.own {
            Some(Leaf::Raw(raw)) => raw.clone(),
            Some(Leaf::Typed(text)) => typed(text, None),
            _ => self.new_object(branch, indent),
        }
    }

    fn new_object(&self, branch: &Branch, indent: &str) -> String {
        let deeper = format!("{indent}{}", self.unit);
        let set = branch.below.iter().filter(|(_, below)| below.sets_any());
        let lines: Vec<String> = set
            .map(|(name, below)| format!("{deeper}{}: {}", quoted(name), self.new_value(below, &deeper)))
            .collect();
        format!("{{{}{}{}{indent}}}", self.end, lines.join(&format!(",{}", self.end)), self.end)
    }
}

/// The comma that ends a property, past blanks and comments.
fn comma_after(text: &str, mut at: usize, until: usize) -> Option<usize> {
    loop {
        let rest = &text[at..until];
        let bare = rest.trim_start();
        at += rest.len() - bare.len();
        let skipped = if bare.starts_with("//") {
            bare.find('\n').map_or(bare.len(), |end| end + 1)
        } else if bare.starts_with("/*") {
            bare.find("*/").map_or(bare.len(), |end| end + 2)
        } else {
            return bare.starts_with(',').then_some(at);
        };
        at += skipped;
    }
}

/// The blanks with which the line begins in which `at` lies.
fn indent_of_line(text: &str, at: usize) -> &str {
    let line = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let rest = &text[line..at];
    &rest[..rest.len() - rest.trim_start_matches([' ', '\t']).len()]
}
