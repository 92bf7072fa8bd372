//! XML 1.0 files of settings. Keys are paths as in XPath 1.0, of which this is a small part:
//! `/Root/Group[@name='x']/Item[2]/@value` is an attribute, and without the last step an element's text.
//!
//! Of elements of one name beside each other each is told by an attribute `id`, `name` or `key`, if all have it
//! and it differs; else by its number. Elements that hold texts between other elements are not understood.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use quick_xml::Reader;
use quick_xml::escape::{escape, unescape};
use quick_xml::events::Event;

use super::keyed::{Branch, Change, Key, Keyed, Leaf, Setting, Settings, indent_at, line_end, line_of};

/// Attributes that tell elements apart, the first that serves.
const TELLING: [&str; 3] = ["id", "name", "key"];

#[derive(Debug, Clone)]
struct Attribute {
    name: String,
    value: Range<usize>,
}

#[derive(Debug, Clone)]
struct Element {
    name: String,
    /// Its step in paths, such as `Item[2]`.
    step: String,
    /// The attribute that the step names.
    told_by: Option<String>,
    /// The start tag, or the whole of an empty element.
    tag: Range<usize>,
    attributes: Vec<Attribute>,
    /// Between the tags; none for `<a/>`.
    inside: Option<Range<usize>>,
    end: usize,
    children: Vec<Element>,
    /// The text without blanks around it, where it has no children.
    words: Range<usize>,
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Xml {
    text: String,
    root: Element,
    settings: Settings,
}

impl Keyed for Xml {
    fn parse(text: &str) -> Result<Self, String> {
        let mut root = elements(text)?;
        root.step.clone_from(&root.name);
        name_steps(text, &mut root);
        let mut settings = Vec::new();
        gather(text, &root, format!("/{}", root.step), &mut settings);
        let mut seen = HashSet::new();
        if let Some(twice) = settings.iter().find(|setting| !seen.insert(&setting.key.id)) {
            return Err(format!("{} stands there twice", twice.key.shown));
        }
        Ok(Self { text: text.to_owned(), root, settings: Settings::new(settings) })
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let path = written.trim().replace('"', "'").replace("[1]", "");
        let path = path.strip_suffix("/text()").unwrap_or(&path).to_owned();
        let steps = steps(&path);
        if !path.starts_with('/') || steps.iter().any(|step| step.is_empty()) {
            return Err(format!("`{written}` is no path; write /Root/Element or /Root/Element/@attribute"));
        }
        if steps[0] != self.root.step {
            return Err(format!("the file's outermost element is `{}`, not `{}`", self.root.step, steps[0]));
        }
        Ok(Key { id: path.clone(), shown: path })
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut tree = Branch::default();
        for (key, change) in changes {
            let leaf = match change {
                Change::Remove => Leaf::Remove,
                Change::Typed(text) => Leaf::Raw(escape(*text).into_owned()),
                Change::From(other) => match other.settings.get(&key.id) {
                    Some(setting) => Leaf::Raw(setting.raw.clone()),
                    None => continue,
                },
            };
            tree.put(steps(&key.id).into_iter().skip(1), leaf);
        }
        let writer = Writer { text: &self.text, end: line_end(&self.text) };
        let inside = writer.element(&self.root, &tree).unwrap_or_default();
        Ok([&self.text[..self.root.tag.start], &inside, &self.text[self.root.end..]].concat())
    }
}

/// The steps of a path, which are cut at each `/` outside of brackets.
fn steps(path: &str) -> Vec<&str> {
    let (mut found, mut from, mut quoted) = (Vec::new(), 1, false);
    for (at, c) in path.char_indices().skip(1) {
        match c {
            '\'' => quoted = !quoted,
            '/' if !quoted => {
                found.push(path.get(from..at).unwrap_or_default());
                from = at + 1;
            }
            _ => {}
        }
    }
    found.push(path.get(from..).unwrap_or_default());
    found
}

/// Reads the elements of a file.
fn elements(text: &str) -> Result<Element, String> {
    let mut reader = Reader::from_str(text);
    // The elements that are open, and whether texts stand in them.
    let mut open: Vec<(Element, bool)> = Vec::new();
    let mut root = None;
    loop {
        let start = position(reader.buffer_position());
        let event = reader
            .read_event()
            .map_err(|error| format!("line {}: {error}", line_of(text, position(reader.error_position()))))?;
        let end = position(reader.buffer_position());
        let is_blank = || text[start..end].trim().is_empty();
        let closed = match event {
            Event::Start(_) => {
                open.push((element(text, start..end)?, false));
                continue;
            }
            Event::Empty(_) => element(text, start..end)?,
            Event::End(_) => {
                let Some((mut element, has_words)) = open.pop() else { continue };
                if has_words && !element.children.is_empty() {
                    return Err(format!("line {}: text between elements", line_of(text, start)));
                }
                let inside = element.tag.end..start;
                let words = text[inside.clone()].trim();
                let before = text[inside.clone()].find(words).unwrap_or(0);
                element.words = inside.start + before..inside.start + before + words.len();
                (element.inside, element.end) = (Some(inside), end);
                element
            }
            Event::Eof if !open.is_empty() => return Err("it ends too early".to_owned()),
            Event::Eof => return root.ok_or_else(|| "it has no elements".to_owned()),
            Event::Text(_) | Event::CData(_) | Event::GeneralRef(_) => {
                match open.last_mut() {
                    Some((_, has_words)) => *has_words |= !is_blank(),
                    None if is_blank() => {}
                    None => return Err(format!("line {}: text outside of elements", line_of(text, start))),
                }
                continue;
            }
            _ => continue,
        };
        match open.last_mut() {
            Some((parent, _)) => parent.children.push(closed),
            None if root.is_none() => root = Some(closed),
            None => return Err(format!("line {}: a second outermost element", line_of(text, start))),
        }
    }
}

fn position(at: u64) -> usize {
    usize::try_from(at).unwrap_or(usize::MAX)
}

/// Reads a start tag, or an empty element, which quick-xml has found to be one.
fn element(text: &str, tag: Range<usize>) -> Result<Element, String> {
    let bad = || format!("line {}: the attributes of an element can't be read", line_of(text, tag.start));
    let mut at = tag.start + 1;
    let until = tag.end - if text[tag.clone()].ends_with("/>") { 2 } else { 1 };
    let word = |from: usize, stops: &[char]| {
        let rest = &text[from..until];
        from + rest.find(|c: char| c.is_whitespace() || stops.contains(&c)).unwrap_or(rest.len())
    };
    let blanks = |from: usize| until - text[from..until].trim_start().len();
    let name = text[at..word(at, &[])].to_owned();
    at += name.len();
    let mut attributes: Vec<Attribute> = Vec::new();
    loop {
        at = blanks(at);
        if at == until {
            break;
        }
        let end = word(at, &['=']);
        let name = text[at..end].to_owned();
        at = blanks(end);
        if !text[at..until].starts_with('=') {
            return Err(bad());
        }
        at = blanks(at + 1);
        let quote = text[at..until].chars().next().filter(|c| matches!(c, '"' | '\'')).ok_or_else(bad)?;
        let length = text[at + 1..until].find(quote).ok_or_else(bad)?;
        attributes.push(Attribute { name, value: at + 1..at + 1 + length });
        at += length + 2;
    }
    let (step, end, words) = (name.clone(), tag.end, tag.end..tag.end);
    Ok(Element { name, step, told_by: None, tag, attributes, inside: None, end, children: Vec::new(), words })
}

impl Element {
    fn attribute<'t>(&self, text: &'t str, wanted: &str) -> Option<(&str, &'t str)> {
        let found = self.attributes.iter().find(|attribute| attribute.name.eq_ignore_ascii_case(wanted))?;
        Some((&found.name, &text[found.value.clone()]))
    }
}

/// Gives each element below its step.
fn name_steps(text: &str, parent: &mut Element) {
    let mut by_name: HashMap<String, Vec<usize>> = HashMap::new();
    for (at, child) in parent.children.iter().enumerate() {
        by_name.entry(child.name.clone()).or_default().push(at);
    }
    for (name, places) in by_name {
        let telling = TELLING.iter().find(|wanted| {
            let value = |at: &usize| {
                let (_, value) = parent.children[*at].attribute(text, wanted)?;
                Some(value).filter(|value| !value.contains('\''))
            };
            let values: Option<HashSet<&str>> = places.iter().map(value).collect();
            values.is_some_and(|values| values.len() == places.len())
        });
        for (index, at) in places.into_iter().enumerate() {
            let child = &mut parent.children[at];
            let told = telling.and_then(|wanted| child.attribute(text, wanted));
            let told = told.map(|(attribute, value)| (attribute.to_owned(), value.to_owned()));
            child.step = match &told {
                Some((attribute, value)) => format!("{name}[@{attribute}='{value}']"),
                None if index == 0 => name.clone(),
                None => format!("{name}[{}]", index + 1),
            };
            child.told_by = told.map(|(attribute, _)| attribute);
        }
    }
    parent.children.iter_mut().for_each(|child| name_steps(text, child));
}

fn gather(text: &str, element: &Element, path: String, settings: &mut Vec<Setting>) {
    let mut note = |path: String, raw: &str| {
        let meaning = unescape(raw).map_or_else(|_| raw.to_owned(), std::borrow::Cow::into_owned);
        let key = Key { id: path.clone(), shown: path };
        settings.push(Setting { key, raw: raw.to_owned(), meaning });
    };
    if element.children.is_empty() {
        note(path.clone(), &text[element.words.clone()]);
    }
    for attribute in &element.attributes {
        if element.told_by.as_ref() != Some(&attribute.name) {
            note(format!("{path}/@{}", attribute.name), &text[attribute.value.clone()]);
        }
    }
    for child in &element.children {
        gather(text, child, format!("{path}/{}", child.step), settings);
    }
}

struct Writer<'t> {
    text: &'t str,
    end: &'static str,
}

impl Writer<'_> {
    /// The element with what becomes of it; nothing if it goes.
    fn element(&self, element: &Element, branch: &Branch) -> Option<String> {
        let text = self.text;
        if branch.own == Some(Leaf::Remove) && !branch.sets_any() {
            return None;
        }
        let mut children = String::new();
        let mut from = element.inside.as_ref().map_or(element.tag.end, |inside| inside.start);
        let mut kept = 0;
        for child in &element.children {
            let written = match branch.find(&child.step) {
                Some(below) => self.element(child, below),
                None => Some(text[child.tag.start..child.end].to_owned()),
            };
            if let Some(written) = written {
                children.push_str(&text[from..child.tag.start]);
                children.push_str(&written);
                kept += 1;
            }
            from = child.end;
        }
        let known: HashSet<&str> = element.children.iter().map(|child| child.step.as_str()).collect();
        let is_known = |step: &str| known.contains(step);
        let new: Vec<&(String, Branch)> = branch
            .below
            .iter()
            .filter(|(step, below)| !step.starts_with('@') && !is_known(step) && below.sets_any())
            .collect();
        let was_emptied = kept == 0 && !element.children.is_empty() && new.is_empty();
        if was_emptied && !branch.sets_any() {
            return None;
        }
        let own = indent_at(text, element.tag.start);
        let first = element.children.first().and_then(|child| indent_at(text, child.tag.start));
        let indent = first.map(str::to_owned).or_else(|| own.map(|own| format!("{own}  ")));
        for (step, below) in &new {
            if let Some(indent) = &indent {
                children.push_str(&format!("{}{indent}", self.end));
            }
            children.push_str(&self.new_element(step, below, indent.as_deref()));
        }
        let words = match &branch.own {
            Some(Leaf::Raw(words)) if kept == 0 && new.is_empty() => Some(words.as_str()),
            _ => None,
        };
        let inside = match (words, &element.inside) {
            (Some(words), Some(inside)) if element.children.is_empty() => {
                [&text[inside.start..element.words.start], words, &text[element.words.end..inside.end]]
                    .concat()
            }
            (Some(words), _) => words.to_owned(),
            (None, Some(inside)) if !element.children.is_empty() => {
                [children.as_str(), &text[from..inside.end]].concat()
            }
            // A leaf that has children from now on.
            (None, _) if !new.is_empty() => {
                let closing = own.map(|own| format!("{}{own}", self.end)).unwrap_or_default();
                children + &closing
            }
            (None, Some(inside)) => text[inside.clone()].to_owned(),
            (None, None) => String::new(),
        };
        let tag = self.tag(element, branch);
        if inside.is_empty() && element.inside.is_none() {
            return Some(tag);
        }
        let tag = match tag.strip_suffix("/>") {
            Some(open) if element.inside.is_none() => format!("{}>", open.trim_end()),
            _ => tag,
        };
        Some(format!("{tag}{inside}</{}>", element.name))
    }

    fn tag(&self, element: &Element, branch: &Branch) -> String {
        let text = self.text;
        let mut tag = String::new();
        let mut from = element.tag.start;
        let mut last = element.tag.start + 1 + element.name.len();
        for attribute in &element.attributes {
            // The quote ends it.
            let end = attribute.value.end + 1;
            match branch.find(&format!("@{}", attribute.name)).and_then(|below| below.own.as_ref()) {
                Some(Leaf::Raw(raw) | Leaf::Typed(raw)) => {
                    let quote = &text[attribute.value.end..end];
                    let raw = raw.replace(quote, if quote == "'" { "&apos;" } else { "&quot;" });
                    tag.push_str(&text[from..attribute.value.start]);
                    tag.push_str(&raw);
                    from = attribute.value.end;
                }
                Some(Leaf::Remove) => {
                    tag.push_str(&text[from..last]);
                    from = end;
                }
                None => {}
            }
            last = end;
        }
        tag.push_str(&text[from..last.max(from)]);
        for (step, below) in &branch.below {
            let is_there = |name: &str| element.attributes.iter().any(|attribute| attribute.name == name);
            if let (Some(name), Some(Leaf::Raw(raw) | Leaf::Typed(raw))) =
                (step.strip_prefix('@').filter(|name| !is_there(name)), &below.own)
            {
                tag.push_str(&format!(" {name}=\"{}\"", raw.replace('"', "&quot;")));
            }
        }
        tag.push_str(&text[last.max(from)..element.tag.end]);
        tag
    }

    fn new_element(&self, step: &str, branch: &Branch, indent: Option<&str>) -> String {
        let (name, rest) = step.split_once('[').unwrap_or((step, ""));
        let mut attributes = String::new();
        if let Some((attribute, value)) = rest.strip_prefix('@').and_then(|rest| rest.split_once("='")) {
            let value = value.strip_suffix("']").unwrap_or(value).replace('"', "&quot;");
            attributes.push_str(&format!(" {attribute}=\"{value}\""));
        }
        let deeper = indent.map(|indent| format!("{indent}  "));
        let mut inside = String::new();
        for (step, below) in branch.below.iter().filter(|(_, below)| below.sets_any()) {
            match (step.strip_prefix('@'), &below.own) {
                (Some(name), Some(Leaf::Raw(raw) | Leaf::Typed(raw))) => {
                    attributes.push_str(&format!(" {name}=\"{}\"", raw.replace('"', "&quot;")));
                }
                _ => {
                    if let Some(deeper) = &deeper {
                        inside.push_str(&format!("{}{deeper}", self.end));
                    }
                    inside.push_str(&self.new_element(step, below, deeper.as_deref()));
                }
            }
        }
        if !inside.is_empty() {
            let closing = indent.map(|indent| format!("{}{indent}", self.end)).unwrap_or_default();
            return format!("<{name}{attributes}>{inside}{closing}</{name}>");
        }
        match &branch.own {
            Some(Leaf::Raw(words) | Leaf::Typed(words)) if !words.is_empty() => {
                format!("<{name}{attributes}>{words}</{name}>")
            }
            _ => format!("<{name}{attributes}/>"),
        }
    }
}
