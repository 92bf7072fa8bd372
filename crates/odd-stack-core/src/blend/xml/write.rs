//! Writing XML with changes, everything else as it is.

use quick_xml::escape::escape;

use super::super::keyed::{Branch, Key, Leaf, indent_at, line_end, with_ends};
use super::read::{Document, Element};
use super::{Xml, steps};

impl Xml {
    /// The text with what becomes of it.
    pub(super) fn written(&self, tree: &Branch) -> String {
        let writer = Writer { xml: self, text: &self.text, end: line_end(&self.text) };
        let root = &self.document.root;
        let inside = writer.element(root, tree).unwrap_or_else(|| format!("<{}/>", root.name));
        [&self.text[..root.tag.start], &inside, &self.text[root.end..]].concat()
    }

    /// What a person types as the value of a key, as it is written.
    pub(super) fn typed(&self, key: &Key, typed: &str) -> Result<String, String> {
        let mut element = Some(&self.document.root);
        for step in steps(&key.id).into_iter().skip(1) {
            if step.starts_with('@') {
                return Ok(escape(typed).into_owned());
            }
            element =
                element.and_then(|element| element.children.iter().find(|child| self.step(child) == step));
        }
        let Some(element) = element.filter(|element| !element.children.is_empty()) else {
            return Ok(escape(typed).into_owned());
        };
        if !self.as_one.contains(&element.tag.start) {
            return Err(format!("`{}` holds other elements; set one of these", key.shown));
        }
        match Document::read(&format!("<a>{typed}</a>")) {
            Ok(_) if typed.contains('<') => Ok(typed.to_owned()),
            _ => Err(format!("`{}` holds other elements; what takes their place must be XML", key.shown)),
        }
    }
}

struct Writer<'t> {
    xml: &'t Xml,
    text: &'t str,
    end: &'static str,
}

impl Writer<'_> {
    /// The element with what becomes of it; nothing if it goes.
    #[expect(clippy::too_many_lines, reason = "one pass over a text, of which each part is looked at once")]
    fn element(&self, element: &Element, branch: &Branch) -> Option<String> {
        let text = self.text;
        if branch.own == Some(Leaf::Remove) && !branch.sets_any() {
            return None;
        }
        let known: Vec<&str> = element.children.iter().map(|child| self.xml.step(child)).collect();
        let mut new = branch.new_by_place(&known);
        new.iter_mut().for_each(|new| new.retain(|(step, _)| !step.starts_with('@')));
        let has_new = new.iter().any(|new| !new.is_empty());
        let words = match &branch.own {
            Some(Leaf::Raw(words)) => Some(with_ends(words, self.end)),
            _ => None,
        };
        let own = indent_at(text, element.tag.start);
        let is_open = own.is_some() && self.is_open();
        let first = element.children.first().and_then(|child| indent_at(text, child.tag.start));
        let indent =
            first.map(str::to_owned).or_else(|| own.filter(|_| is_open).map(|own| format!("{own}  ")));
        let mut children = String::new();
        let put_new = |children: &mut String, place: usize| {
            for (step, below) in &new[place] {
                if let Some(indent) = &indent {
                    children.push_str(&format!("{}{indent}", self.end));
                }
                children.push_str(&self.new_element(step, below, indent.as_deref()));
            }
        };
        put_new(&mut children, 0);
        let mut from = element.inside.as_ref().map_or(element.tag.end, |inside| inside.start);
        let mut kept = 0;
        for (at, (child, step)) in element.children.iter().zip(&known).enumerate() {
            let written = match branch.find(step) {
                Some(below) => self.element(child, below),
                None => Some(text[child.tag.start..child.end].to_owned()),
            };
            let lead = &text[from..child.tag.start];
            match written {
                Some(written) => {
                    children.push_str(lead);
                    children.push_str(&written);
                    kept += 1;
                }
                // A comment at the beginning is of the file.
                None if at == 0
                    && element.tag.start == self.xml.document.root.tag.start
                    && lead.contains("<!--") =>
                {
                    children.push_str(lead.trim_end())
                }
                None => {}
            }
            from = child.end;
            put_new(&mut children, at + 1);
        }
        let is_one = self.xml.as_one.contains(&element.tag.start);
        let was_emptied = kept == 0 && !element.children.is_empty() && !has_new;
        if was_emptied && words.is_none() && !branch.sets_any() {
            return None;
        }
        let inside = match (&words, &element.inside) {
            (Some(words), Some(inside)) if is_one || element.children.is_empty() && !has_new => {
                [&text[inside.start..element.words.start], words, &text[element.words.end..inside.end]]
                    .concat()
            }
            (Some(words), _) if kept == 0 && !has_new => words.clone(),
            (_, Some(inside)) if !element.children.is_empty() => {
                [children.as_str(), &text[from..inside.end]].concat()
            }
            // A leaf that has children from now on.
            _ if has_new => {
                let closing = own.filter(|_| indent.is_some()).map(|own| format!("{}{own}", self.end));
                children + &closing.unwrap_or_default()
            }
            (_, Some(inside)) => text[inside.clone()].to_owned(),
            (_, None) => String::new(),
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

    /// Whether the file has its elements on lines.
    fn is_open(&self) -> bool {
        let root = &self.xml.document.root;
        self.text[root.tag.start..root.end].contains('\n') || root.children.is_empty()
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
                Some(Leaf::Whole(_)) | None => {}
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
        if let Some(Leaf::Whole(raw)) = &branch.own {
            return with_ends(raw, self.end);
        }
        let mut attributes = String::new();
        if let Some((attribute, value)) = rest.strip_prefix('@').and_then(|rest| rest.split_once("='")) {
            let value = value.strip_suffix("']").unwrap_or(value).replace('"', "&quot;");
            attributes.push_str(&format!(" {attribute}=\"{value}\""));
        }
        let told_by_child = rest.split_once("='").filter(|(by, _)| !by.starts_with('@'));
        let told_by_child = told_by_child.filter(|(by, _)| branch.find(by).is_none());
        let deeper = indent.map(|indent| format!("{indent}  "));
        let mut inside = String::new();
        if let Some((by, value)) = told_by_child {
            let before = deeper.as_ref().map(|deeper| format!("{}{deeper}", self.end)).unwrap_or_default();
            inside.push_str(&format!("{before}<{by}>{}</{by}>", value.strip_suffix("']").unwrap_or(value)));
        }
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
                format!("<{name}{attributes}>{}</{name}>", with_ends(words, self.end))
            }
            _ => format!("<{name}{attributes}/>"),
        }
    }
}
