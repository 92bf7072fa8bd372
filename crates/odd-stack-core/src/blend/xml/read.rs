//! Reading XML into elements that know where they lie in the text.

use std::ops::Range;

use quick_xml::Reader;
use quick_xml::escape::unescape;
use quick_xml::events::Event;

use super::super::align::{Element as Listed, is_telling};
use super::super::keyed::{MOST_NESTED, line_of};

#[derive(Debug, Clone)]
pub(super) struct Attribute {
    pub name: String,
    pub value: Range<usize>,
}

#[derive(Debug, Clone)]
pub(super) struct Element {
    pub name: String,
    /// The start tag, or the whole of an empty element.
    pub tag: Range<usize>,
    pub attributes: Vec<Attribute>,
    /// Between the tags; none for `<a/>`.
    pub inside: Option<Range<usize>>,
    pub end: usize,
    pub children: Vec<Element>,
    /// All between the tags without blanks around it.
    pub words: Range<usize>,
    /// Texts stand between its children.
    pub is_mixed: bool,
}

/// The outermost element, and what stands before it that is no comment and no XML declaration.
#[derive(Debug, Clone)]
pub(super) struct Document {
    pub root: Element,
    pub prolog: String,
}

impl Document {
    pub(super) fn read(text: &str) -> Result<Self, String> {
        let mut reader = Reader::from_str(text);
        // The elements that are open, and whether texts stand in them.
        let mut open: Vec<(Element, bool)> = Vec::new();
        let (mut root, mut prolog) = (None, String::new());
        loop {
            let start = position(reader.buffer_position());
            let event = reader.read_event().map_err(|error| {
                format!("line {}: {error}", line_of(text, position(reader.error_position())))
            })?;
            let end = position(reader.buffer_position());
            let is_blank = || text[start..end].trim().is_empty();
            let closed = match event {
                Event::Start(_) if open.len() >= MOST_NESTED => {
                    return Err(format!("it is nested more than {MOST_NESTED} deep"));
                }
                Event::Start(_) => {
                    open.push((element(text, start..end)?, false));
                    continue;
                }
                Event::Empty(_) => element(text, start..end)?,
                Event::End(_) => {
                    let Some((mut element, has_words)) = open.pop() else { continue };
                    element.is_mixed = has_words && !element.children.is_empty();
                    let inside = element.tag.end..start;
                    let words = text[inside.clone()].trim();
                    let before = text[inside.clone()].len() - text[inside.clone()].trim_start().len();
                    element.words = inside.start + before..inside.start + before + words.len();
                    (element.inside, element.end) = (Some(inside), end);
                    element
                }
                Event::Eof if !open.is_empty() => return Err("it ends too early".to_owned()),
                Event::Eof => {
                    let root = root.ok_or("it has no elements")?;
                    return Ok(Self { root, prolog });
                }
                Event::Text(_) | Event::CData(_) | Event::GeneralRef(_) => {
                    match open.last_mut() {
                        Some((_, has_words)) => *has_words |= !is_blank(),
                        None if is_blank() => {}
                        None => {
                            return Err(format!("line {}: text outside of elements", line_of(text, start)));
                        }
                    }
                    continue;
                }
                Event::DocType(_) | Event::PI(_) if open.is_empty() => {
                    prolog.push_str(&text[start..end].replace("\r\n", "\n"));
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
    let (end, words) = (tag.end, tag.end..tag.end);
    Ok(Element { name, tag, attributes, inside: None, end, children: Vec::new(), words, is_mixed: false })
}

impl Element {
    pub(super) fn attribute<'t>(&self, text: &'t str, wanted: &str) -> Option<&'t str> {
        let found = self.attributes.iter().find(|attribute| attribute.name == wanted)?;
        Some(&text[found.value.clone()])
    }

    /// The text of a child that holds nothing else.
    pub(super) fn leaf<'t>(&self, text: &'t str, wanted: &str) -> Option<&'t str> {
        let is_leaf = |child: &&Self| child.name == wanted && child.children.is_empty();
        self.children.iter().find(is_leaf).map(|child| &text[child.words.clone()])
    }

    /// All that it says: attributes, texts, children in their order.
    pub(super) fn meaning(&self, text: &str) -> String {
        let mut meaning = String::new();
        self.mean(text, &mut meaning);
        meaning
    }

    /// As [`Element::meaning`], without the order of children of different names.
    pub(super) fn loose_meaning(&self, text: &str) -> String {
        if self.is_mixed || self.children.is_empty() {
            return self.meaning(text);
        }
        let mut children: Vec<&Self> = self.children.iter().collect();
        children.sort_by_key(|child| &child.name);
        let bare = Self { children: Vec::new(), words: self.tag.end..self.tag.end, ..self.clone() };
        let inside: Vec<String> = children.into_iter().map(|child| child.loose_meaning(text)).collect();
        format!("{}{inside:?}", bare.meaning(text))
    }

    fn mean(&self, text: &str, out: &mut String) {
        let mut attributes: Vec<(&str, String)> = self
            .attributes
            .iter()
            .map(|attribute| (attribute.name.as_str(), text_meaning(&text[attribute.value.clone()])))
            .collect();
        attributes.sort_unstable();
        out.push_str(&format!("<{} {attributes:?}>", self.name));
        self.mean_inside(text, out);
        out.push_str("</>");
    }

    fn mean_inside(&self, text: &str, out: &mut String) {
        let mut from = self.words.start;
        for child in &self.children {
            out.push_str(&text_meaning(&text[from..child.tag.start]));
            child.mean(text, out);
            from = child.end;
        }
        out.push_str(&text_meaning(&text[from.min(self.words.end)..self.words.end]));
    }

    /// As [`Element::meaning`], of what it holds alone.
    pub(super) fn inner_meaning(&self, text: &str) -> String {
        let mut meaning = String::new();
        self.mean_inside(text, &mut meaning);
        meaning
    }

    /// All texts in it and, where it is a whole or they are of elements below, attributes; each with the names on its way.
    pub(super) fn values_in(
        &self,
        text: &str,
        is_whole: bool,
        way: &mut String,
        values: &mut Vec<(String, String)>,
    ) {
        let attributes = self.attributes.iter().filter(|attribute| is_whole && !is_telling(&attribute.name));
        values.extend(attributes.map(|attribute| {
            (format!("{way}@{}", attribute.name), text_meaning(&text[attribute.value.clone()]))
        }));
        if self.is_mixed || self.children.is_empty() {
            let words = self.inner_meaning(text);
            values.extend((!words.is_empty()).then(|| (way.clone(), words)));
            return;
        }
        for child in &self.children {
            let length = way.len();
            way.push_str(&child.name);
            way.push('/');
            child.values_in(text, true, way, values);
            way.truncate(length);
        }
    }

    /// Whether an attribute of its own names it.
    pub(super) fn has_name(&self, text: &str) -> bool {
        self.attributes.iter().any(|own| is_telling(&own.name) && can_tell(&text[own.value.clone()]))
    }

    /// What it can be told by among others of its name.
    pub(super) fn listed<'t>(&'t self, text: &'t str) -> Listed<'t> {
        let mut called = Vec::new();
        for attribute in self.attributes.iter().filter(|attribute| is_telling(&attribute.name)) {
            let value = &text[attribute.value.clone()];
            if can_tell(value) {
                called.push((format!("@{}", attribute.name), value.to_owned()));
            }
        }
        for child in self.children.iter().filter(|child| is_telling(&child.name)) {
            let words = &text[child.words.clone()];
            if child.children.is_empty() && child.attributes.is_empty() && can_tell(words) {
                called.push((child.name.clone(), words.to_owned()));
            }
        }
        Listed::new(called, || (self.meaning(text), self.parts(text)))
    }

    /// Attributes, children and text by name, what each says.
    fn parts(&self, text: &str) -> Vec<(String, String)> {
        let attributes = self
            .attributes
            .iter()
            .map(|attribute| (format!("@{}", attribute.name), text_meaning(&text[attribute.value.clone()])));
        let children = self.children.iter().map(|child| (child.name.clone(), child.meaning(text)));
        let mut parts: Vec<(String, String)> = attributes.chain(children).collect();
        if self.children.is_empty() && !self.words.is_empty() {
            parts.push((String::new(), text_meaning(&text[self.words.clone()])));
        }
        parts
    }
}

/// Whether a value can stand in a step.
fn can_tell(value: &str) -> bool {
    !value.is_empty() && !value.contains(['\'', '\n', '<'])
}

/// What a text says: without comments and blanks around it, whatever its line ends, references as what they stand for.
pub(super) fn text_meaning(raw: &str) -> String {
    let plain = |text: &str| unescaped(text).replace("\r\n", "\n");
    if !raw.contains('<') {
        return plain(raw).trim().to_owned();
    }
    let (mut meaning, mut rest) = (String::new(), raw);
    while let Some(at) = rest.find('<') {
        meaning.push_str(&plain(&rest[..at]));
        let (open, close) = match &rest[at..] {
            markup if markup.starts_with("<!--") => (4, "-->"),
            markup if markup.starts_with("<![CDATA[") => (9, "]]>"),
            _ => (1, ">"),
        };
        let inner = &rest[(at + open).min(rest.len())..];
        let end = inner.find(close).unwrap_or(inner.len());
        match open {
            4 => {}
            9 => meaning.push_str(&inner[..end].replace("\r\n", "\n")),
            _ => meaning.push_str(&rest[at..at + open + end]),
        }
        rest = inner.get(end + close.len()..).unwrap_or_default();
    }
    meaning.push_str(&plain(rest));
    meaning.trim().to_owned()
}

/// How a value is compared that holds references.
pub(super) fn unescaped(raw: &str) -> String {
    unescape(raw).map_or_else(|_| raw.to_owned(), std::borrow::Cow::into_owned)
}
