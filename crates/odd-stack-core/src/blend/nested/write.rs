//! Writing with changes, everything else as it is.

use std::collections::{HashMap, HashSet};
use std::marker::PhantomData;

use super::super::keyed::{Branch, Leaf, indent_at, line_end, with_ends};
use super::Nested;
use super::notation::{Comments, Notation};
use super::value::{Kind, Node, Property, is_bare};

impl<N: Notation> Nested<N> {
    /// The text with what becomes of it.
    pub(super) fn written(&self, tree: &Branch) -> Result<String, String> {
        let is_open = self.text[self.root.start..self.root.end].contains('\n') || is_bare(&self.root);
        let writer = Writer {
            text: &self.text,
            end: line_end(&self.text),
            unit: self.unit(),
            is_open,
            steps: &self.steps,
            root_start: self.root.start,
            notation: PhantomData::<N>,
        };
        if let (true, Kind::Object(statements)) = (self.is_list_of_statements, &self.root.kind) {
            return writer.statements(statements, tree);
        }
        let empty = if matches!(self.root.kind, Kind::Array(_)) { N::ARRAY } else { ['{', '}'] };
        let inside = writer.node(&self.root, tree)?.unwrap_or_else(|| String::from_iter(empty));
        Ok([&self.text[..self.root.start], &inside, &self.text[self.root.end..]].concat())
    }

    /// What one step of indentation is in this file.
    fn unit(&self) -> &str {
        let first = match &self.root.kind {
            Kind::Object(properties) => properties.first().map(|property| property.start),
            Kind::Array(elements) => elements.first().map(|element| element.start),
            _ => None,
        };
        let first = first.and_then(|start| indent_at(&self.text, start));
        first.filter(|indent| !indent.is_empty()).unwrap_or("  ")
    }
}

struct Writer<'t, N> {
    text: &'t str,
    end: &'static str,
    unit: &'t str,
    /// Whether the file has lines at all.
    is_open: bool,
    steps: &'t HashMap<usize, Vec<String>>,
    root_start: usize,
    notation: PhantomData<N>,
}

/// A part of an object or array: where it starts with its name, and its value.
struct Part<'n> {
    start: usize,
    value: &'n Node,
    written: Option<String>,
}

impl<N: Notation> Writer<'_, N> {
    /// The node with what becomes of it; nothing if it goes.
    fn node(&self, node: &Node, branch: &Branch) -> Result<Option<String>, String> {
        let is_holder = |raw: &str| raw == "{}" || raw == "[]";
        match &branch.own {
            // That something holds others says nothing about these.
            Some(Leaf::Raw(raw)) if is_holder(raw) && !is_bare(node) => {}
            Some(Leaf::Raw(raw)) if is_holder(raw) && branch.sets_below() => {}
            Some(Leaf::Raw(raw)) => return Ok(Some(self.raw(raw))),
            Some(Leaf::Typed(text)) => return Ok(Some(N::typed(text, Some(&node.kind)))),
            Some(Leaf::Remove) if !branch.sets_any() => return Ok(None),
            _ => {}
        }
        match &node.kind {
            Kind::Object(_) if self.steps.contains_key(&node.start) => self.array(node, &[], branch),
            Kind::Object(properties) => self.object(node, properties, branch),
            Kind::Array(elements) => self.array(node, elements, branch),
            _ if branch.sets_any() => Ok(Some(self.new_value(branch, indent_of_line(self.text, node.start)))),
            _ => Ok(Some(self.text[node.start..node.end].to_owned())),
        }
    }

    /// A file of statements, each of which stays, gets another value or goes, and the new ones behind them.
    fn statements(&self, statements: &[Property], tree: &Branch) -> Result<String, String> {
        let text = self.text;
        let known: Vec<&str> = statements.iter().map(|statement| statement.name.as_str()).collect();
        let names: HashSet<&str> = known.iter().copied().collect();
        let mut new = String::new();
        for (name, below) in tree.new_by_place(&known).into_iter().flatten() {
            let statement = N::statement(name, &self.new_value(below, ""), &names)?;
            new.push_str(&format!("{statement}{}", self.end));
        }
        let (mut out, mut from) = (String::new(), 0);
        for Property { name, start, value } in statements {
            if name == N::LAST_STATEMENT && !new.is_empty() {
                let line = start - indent_of_line(text, *start).len();
                out.push_str(&text[from..line]);
                out.push_str(&std::mem::take(&mut new));
                from = line;
            }
            let written = match tree.find(name) {
                None => continue,
                Some(below) => self.node(value, below)?,
            };
            match written {
                Some(written) => {
                    out.push_str(&text[from..value.start]);
                    out.push_str(&written);
                    from = value.end;
                }
                None => {
                    let until = comma_after::<N>(text, value.end, text.len()).map_or(value.end, |at| at + 1);
                    let until = N::COMMENTS.after_rest_of_line(text, until);
                    let line = indent_at(text, *start).map(|indent| start - indent.len());
                    let is_alone = line.is_some() && text[until..].starts_with(['\r', '\n']);
                    out.push_str(&text[from..line.filter(|_| is_alone).unwrap_or(*start)]);
                    let ends = ["\r\n", "\n", "\r"].iter().find(|end| text[until..].starts_with(**end));
                    from = until + ends.filter(|_| is_alone).map_or(0, |end| end.len());
                }
            }
        }
        out.push_str(&text[from..]);
        if !new.is_empty() && !out.is_empty() && !out.ends_with('\n') {
            out.push_str(self.end);
        }
        Ok(out + &new)
    }

    fn object(
        &self,
        node: &Node,
        properties: &[Property],
        branch: &Branch,
    ) -> Result<Option<String>, String> {
        let mut parts = Vec::with_capacity(properties.len());
        for Property { name, start, value } in properties {
            let written = match branch.find(name) {
                None => Some(self.text[value.start..value.end].to_owned()),
                Some(below) => self.node(value, below)?,
            };
            parts.push(Part { start: *start, value, written });
        }
        let known: Vec<&str> = properties.iter().map(|property| property.name.as_str()).collect();
        let new = branch.new_by_place(&known);
        let stays = matches!(branch.own, Some(Leaf::Raw(_)));
        let is_emptied = !parts.is_empty() && parts.iter().all(|part| part.written.is_none());
        if is_emptied && new.iter().all(Vec::is_empty) && !stays {
            return Ok(None);
        }
        let write = |name: &str, below: &Branch, indent: &str| {
            format!("{}{}", N::named(name), self.new_value(below, indent))
        };
        Ok(Some(self.row(node, &parts, &new, write)))
    }

    fn array(&self, node: &Node, elements: &[Node], branch: &Branch) -> Result<Option<String>, String> {
        let places: Vec<String>;
        let steps = match self.steps.get(&node.start) {
            Some(steps) => steps,
            None => {
                places = (0..elements.len()).map(|at| at.to_string()).collect();
                &places
            }
        };
        let mut parts = Vec::with_capacity(elements.len());
        for (value, step) in elements.iter().zip(steps) {
            let written = match branch.find(step) {
                None => Some(self.text[value.start..value.end].to_owned()),
                Some(below) => self.node(value, below)?,
            };
            parts.push(Part { start: value.start, value, written });
        }
        let known: Vec<&str> = steps.iter().map(String::as_str).collect();
        let new = branch.new_by_place(&known);
        Ok(Some(self.row(node, &parts, &new, |_, below, indent| self.new_value(below, indent))))
    }

    /// An object or an array, of parts that stay or go, and new ones between them.
    #[expect(clippy::too_many_lines, reason = "one pass over a text, of which each part is looked at once")]
    fn row(
        &self,
        node: &Node,
        parts: &[Part<'_>],
        new: &[Vec<(&str, &Branch)>],
        write: impl Fn(&str, &Branch, &str) -> String,
    ) -> String {
        let text = self.text;
        let mut from = N::COMMENTS.after_rest_of_line(text, node.start + 1);
        let mut out = text[node.start..from].to_owned();
        let is_open = if parts.is_empty() { self.is_open } else { text[node.start..node.end].contains('\n') };
        let closing = indent_of_line(text, node.start);
        let indent = parts.first().and_then(|part| indent_at(text, part.start));
        let indent = indent.map_or_else(|| format!("{closing}{}", self.unit), str::to_owned);
        // Each part with what stands before it, and what follows its comma on the line.
        let mut pieces: Vec<(String, char, &str)> = Vec::new();
        let usual = N::SEPARATORS[0];
        let is_spaced = text[node.start..node.end].starts_with("{ ") || parts.len() > 1;
        let push_new = |pieces: &mut Vec<(String, char, &str)>, at: usize| {
            for (name, below) in new.get(at).into_iter().flatten() {
                let before = match (is_open, pieces.is_empty()) {
                    (true, _) => format!("{}{indent}", self.end),
                    (false, true) => String::new(),
                    (false, false) => " ".to_owned(),
                };
                pieces.push((format!("{before}{}", write(name, below, &indent)), usual, ""));
            }
        };
        push_new(&mut pieces, 0);
        let mut has_last_comma = false;
        for (at, Part { start, value, written }) in parts.iter().enumerate() {
            let comma = comma_after::<N>(text, value.end, node.end);
            let until = comma.map_or(value.end, |at| at + 1);
            let tail = N::COMMENTS.after_rest_of_line(text, until);
            let lead = &text[from..*start];
            match written {
                Some(written) => {
                    // Between the value and its comma a comment may stand.
                    let until_comma = comma.map_or("", |at| &text[value.end..at]);
                    let is_moved = at > 0 && pieces.is_empty() && !is_open;
                    let lead = if is_moved { lead.trim_start() } else { lead };
                    let is_joined = at == 0 && !pieces.is_empty() && !is_open && is_spaced && lead.is_empty();
                    let lead = if is_joined { " " } else { lead };
                    let piece = [lead, &text[*start..value.start], written, until_comma].concat();
                    let separator = comma.and_then(|at| text[at..].chars().next()).unwrap_or(usual);
                    pieces.push((piece, separator, &text[until..tail]));
                }
                // A comment at the beginning is of the file.
                None if at == 0 && node.start == self.root_start && N::COMMENTS.begin_in(lead) => {
                    out.push_str(lead.trim_end())
                }
                None => {}
            }
            push_new(&mut pieces, at + 1);
            has_last_comma = comma.is_some();
            from = tail;
        }
        let count = pieces.len();
        for (index, (piece, separator, tail)) in pieces.iter().enumerate() {
            out.push_str(piece);
            if index + 1 < count || has_last_comma {
                out.push(*separator);
            }
            out.push_str(tail);
        }
        let closes_on_its_own = parts.is_empty() && is_open && count > 0;
        if closes_on_its_own {
            let last = &text[node.end - 1..node.end];
            out.push_str(&format!("{}{closing}{last}", self.end));
        } else if count == 0 && !N::COMMENTS.begin_in(&out[1..]) {
            out.truncate(1);
            out.push_str(&text[node.end - 1..node.end]);
        } else {
            out.push_str(&text[from..node.end]);
        }
        out
    }

    fn new_value(&self, branch: &Branch, indent: &str) -> String {
        match &branch.own {
            Some(Leaf::Raw(raw)) if raw == "[]" && branch.sets_below() => self.new_row(branch, indent, true),
            Some(Leaf::Raw(raw)) if raw == "{}" && branch.sets_below() => self.new_row(branch, indent, false),
            Some(Leaf::Raw(raw)) => self.raw(raw),
            Some(Leaf::Typed(text)) => N::typed(text, None),
            _ => self.new_row(branch, indent, false),
        }
    }

    /// A value as another file writes it; that of an empty array is a mark.
    fn raw(&self, raw: &str) -> String {
        if raw == "[]" { String::from_iter(N::ARRAY) } else { with_ends(raw, self.end) }
    }

    fn new_row(&self, branch: &Branch, indent: &str, is_array: bool) -> String {
        let [open, close] = if is_array { N::ARRAY } else { ['{', '}'] };
        let deeper = format!("{indent}{}", self.unit);
        let set = branch.below.iter().filter(|(_, below)| below.sets_any());
        let parts: Vec<String> = set
            .map(|(name, below)| {
                let value = self.new_value(below, &deeper);
                if is_array { value } else { format!("{}{value}", N::named(name)) }
            })
            .collect();
        if !self.is_open {
            let space = if open == '{' { " " } else { "" };
            return format!("{open}{space}{}{space}{close}", parts.join(", "));
        }
        let between = format!(",{}{deeper}", self.end);
        format!("{open}{}{deeper}{}{}{indent}{close}", self.end, parts.join(&between), self.end)
    }
}

impl Comments {
    fn begin_in(&self, text: &str) -> bool {
        text.contains(self.line) || text.contains(self.open)
    }

    /// The end of the line if only blanks and a comment follow `at`; else `at`.
    fn after_rest_of_line(&self, text: &str, at: usize) -> usize {
        let rest = &text[at..];
        let line = rest.split(['\r', '\n']).next().unwrap_or_default();
        let bare = line.trim();
        let is_comment = match bare.strip_prefix(self.open) {
            Some(_) => bare.ends_with(self.close),
            None => bare.is_empty() || bare.starts_with(self.line),
        };
        if is_comment { at + line.len() } else { at }
    }
}

/// What ends a part, past blanks and comments.
fn comma_after<N: Notation>(text: &str, mut at: usize, until: usize) -> Option<usize> {
    loop {
        let rest = &text[at..until];
        let bare = rest.trim_start();
        at += rest.len() - bare.len();
        let Comments { line, open, close } = N::COMMENTS;
        let skipped = if bare.starts_with(open) {
            bare.find(close).map_or(bare.len(), |end| end + close.len())
        } else if bare.starts_with(line) {
            bare.find('\n').map_or(bare.len(), |end| end + 1)
        } else {
            return bare.starts_with(N::SEPARATORS).then_some(at);
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
