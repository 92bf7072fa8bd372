//! Writing lines with changes, everything else as it is.

use std::collections::{HashMap, HashSet};

use super::super::keyed::{Change, Key, with_ends};
use super::read::{BARE, Kind, Piece, is_comment};
use super::{Ini, SEPARATOR, section_id};

/// Which part of a key's line is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    /// The value without a comment behind it.
    Value,
    /// All behind the separator.
    Whole,
    /// All of the line.
    Line,
}

/// What becomes of one key.
enum Written {
    Gone,
    AsItIs,
    /// Its section is there, whatever it holds.
    Section {
        name: String,
        lead: String,
    },
    /// It has a value; as a line of its own, where it has none yet, in the section of that spelling.
    Is {
        part: Part,
        value: String,
        line: String,
        section: String,
        lead: String,
        behind: Behind,
    },
}

/// What a new line comes behind.
enum Behind {
    /// It is the first of its section.
    Nothing,
    /// The key of that id.
    Key(String),
    /// All of its section.
    Last,
}

/// Lines that come into a section, each before the piece of that number, or behind all.
struct NewLines {
    id: String,
    section: String,
    /// The comments above the section, where it is new.
    lead: String,
    lines: Vec<(Option<usize>, String)>,
}

/// All changes of a file.
#[derive(Default)]
struct Edit {
    /// By piece; nothing for one that goes.
    values: HashMap<usize, Option<(Part, String)>>,
    /// What comes into each section, in the order in which sections come first.
    new: Vec<NewLines>,
    /// The piece before which each new key comes, by its id; nothing where it comes behind all of its section.
    slots: HashMap<String, Option<usize>>,
    /// Sections that stay although all goes that they hold.
    kept: HashSet<String>,
    /// Empty sections that go.
    dropped: HashSet<String>,
}

impl Edit {
    fn section(&mut self, key: &Key, section: String, lead: String) -> &mut Vec<(Option<usize>, String)> {
        let id = section_id(&key.id);
        let at = self.new.iter().position(|new| new.id == id).unwrap_or_else(|| {
            self.new.push(NewLines { id: id.to_owned(), section, lead, lines: Vec::new() });
            self.new.len() - 1
        });
        &mut self.new[at].lines
    }
}

impl Ini {
    /// The text with `changes`; see [`super::Keyed::changed`].
    pub(super) fn with_changes(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut edit = Edit::default();
        for (key, change) in changes {
            let place = self.settings.position(&key.id);
            match (place.map(|place| self.piece_of[place]), self.written(key, change)?) {
                (_, Written::AsItIs) => {}
                (Some(Some(piece)), Written::Gone) => drop(edit.values.insert(piece, None)),
                (_, Written::Gone) => drop(edit.dropped.insert(section_id(&key.id).to_owned())),
                (_, Written::Section { name, lead }) => {
                    edit.kept.insert(section_id(&key.id).to_owned());
                    edit.section(key, name, lead);
                }
                (Some(Some(piece)), Written::Is { part, value, .. }) => {
                    drop(edit.values.insert(piece, Some((part, value))));
                }
                (_, Written::Is { line, section, lead, behind, .. }) => {
                    // What stands behind something new comes where that comes.
                    let slot = match behind {
                        Behind::Nothing => self.first_slot(section_id(&key.id)),
                        Behind::Last => None,
                        Behind::Key(behind) => match self.settings.position(&behind) {
                            Some(place) => self.piece_of[place].map(|piece| piece + 1),
                            None => edit.slots.get(&behind).copied().flatten(),
                        },
                    };
                    edit.slots.insert(key.id.clone(), slot);
                    edit.section(key, section, lead).push((slot, line));
                }
            }
        }
        Ok(self.write(&edit))
    }

    /// What a change makes of a key.
    fn written(&self, key: &Key, change: &Change<'_, Self>) -> Result<Written, String> {
        let place = self.settings.position(&key.id);
        let is_section = key.id.ends_with(SEPARATOR);
        match change {
            Change::Remove => Ok(Written::Gone),
            Change::Typed(_) if is_section => {
                let name = key.shown.trim_matches(['[', ']']).to_owned();
                Ok(Written::Section { name, lead: String::new() })
            }
            Change::Typed(text) if text.contains(['\n', '\r']) => {
                Err(format!("a value of `{}` must be one line", key.shown))
            }
            Change::Typed(_) if key.id.split(SEPARATOR).nth(1) == Some(BARE) => {
                Err(format!("`{}` is a line without a value; it can only be taken out", key.shown))
            }
            Change::Typed(text) => {
                let old = place.map_or("", |place| self.settings.at(place).raw.as_str());
                let was_quoted = old.len() > 1 && old.starts_with('"') && old.ends_with('"');
                let must_quote = was_quoted && !text.starts_with('"');
                let value = if must_quote { format!("\"{text}\"") } else { (*text).to_owned() };
                let (section, name) = self.parts(key);
                self.refuse_unreadable(&name, &value)?;
                let line = format!("{name}{}{value}", self.between());
                let section = section.to_owned();
                Ok(Written::Is {
                    part: Part::Value,
                    value,
                    line,
                    section,
                    lead: String::new(),
                    behind: Behind::Last,
                })
            }
            Change::From(other) => self.taken_from(other, key),
        }
    }

    /// A key as another file has it, with its line and the comments above.
    fn taken_from(&self, other: &Self, key: &Key) -> Result<Written, String> {
        let Some(found) = other.settings.position(&key.id) else { return Ok(Written::AsItIs) };
        let Some(at) = other.piece_of[found] else {
            let told = other.told.iter().position(|(section, _)| *section == section_id(&key.id));
            let name = told.map(|told| other.pieces.sections[told].clone()).unwrap_or_default();
            let lead = told.map(|told| other.lead_of_section(told)).unwrap_or_default();
            return Ok(Written::Section { name, lead });
        };
        let piece = &other.pieces.list[at];
        let section = other.pieces.sections[piece.section].clone();
        let before = found.checked_sub(1).map(|before| &other.settings.at(before).key.id);
        let behind = match before.filter(|id| section_id(id) == section_id(&key.id)) {
            Some(before) => Behind::Key(before.clone()),
            None => Behind::Nothing,
        };
        let is_new = !self.told.iter().any(|(own, _)| own == section_id(&key.id));
        let lead = if is_new { other.lead_of_section(piece.section) } else { String::new() };
        let own_line = with_ends(piece.text.trim_end_matches(['\r', '\n']), self.end);
        let (part, value, line) = match &piece.kind {
            Kind::Value { name, whole, .. } => {
                let value = with_ends(&piece.text[whole.clone()], self.end);
                if other.pieces.separator == self.pieces.separator {
                    (Part::Whole, value, own_line)
                } else {
                    self.refuse_unreadable(name, &value)?;
                    let line = format!("{name}{}{value}", self.between());
                    (Part::Whole, value, line)
                }
            }
            _ => (Part::Line, own_line.trim().to_owned(), own_line),
        };
        let line = other.comments_above(at, self.end) + &line;
        Ok(Written::Is { part, value, line, section, lead, behind })
    }

    /// The section and the name of a key that a person writes, as they are spelled.
    fn parts<'k>(&self, key: &'k Key) -> (&'k str, String) {
        let (section, label, name) = self.section_and_name(&key.shown);
        let spelled = self.told.iter().position(|(own, _)| *own == section);
        let name = match key.id.split(SEPARATOR).nth(2).and(name.rsplit_once('[')) {
            Some((list, _)) => list.to_owned(),
            None => name,
        };
        match spelled {
            Some(_) => ("", name),
            None => (key.shown.get(..label.len()).unwrap_or_default(), name),
        }
    }

    /// Comments on lines directly above a piece, which belong to it.
    fn comments_above(&self, at: usize, end: &str) -> String {
        let above = self.pieces.list[..at]
            .iter()
            .rev()
            .take_while(|piece| piece.kind == Kind::Plain && is_comment(&piece.text));
        // What stands at the very beginning is of the file.
        let mut lines: Vec<&str> = above.map(|piece| piece.text.as_str()).collect();
        if lines.len() == at {
            lines.clear();
        }
        lines.reverse();
        lines
            .into_iter()
            .map(|line| with_ends(&format!("{}\n", line.trim_end_matches(['\r', '\n'])), end))
            .collect()
    }

    /// Comments and a blank line above a section.
    fn lead_of_section(&self, section: usize) -> String {
        let is_head = |piece: &Piece| piece.section == section && piece.kind == Kind::Head;
        self.pieces
            .list
            .iter()
            .position(is_head)
            .map(|at| self.comments_above(at, self.end))
            .unwrap_or_default()
    }

    /// The piece before which the first key of a section comes; nothing if nothing of it is there.
    fn first_slot(&self, section: &str) -> Option<usize> {
        let section = self.told.iter().position(|(own, _)| own == section)?;
        let first = self
            .pieces
            .list
            .iter()
            .position(|piece| piece.section == section && piece.kind != Kind::Plain)?;
        Some(first + usize::from(self.pieces.list[first].kind == Kind::Head))
    }

    /// Refuses what would be read as another key, or would have the whole file read otherwise.
    fn refuse_unreadable(&self, name: &str, value: &str) -> Result<(), String> {
        let separator = self.pieces.separator;
        let is_hidden = match separator {
            ' ' => name.contains('=') || value.starts_with('=') || value.is_empty(),
            ':' => name.contains(':') || name.contains('=') || value.contains('='),
            other => name.contains(other),
        };
        match is_hidden {
            false => Ok(()),
            true => Err(format!(
                "`{name}` with the value `{value}` can't be set in a file that has `{separator}` between keys and values"
            )),
        }
    }

    /// What stands between a key and its value here.
    fn between(&self) -> String {
        let separator = self.pieces.separator;
        let first = self.pieces.list.iter().find_map(|piece| match &piece.kind {
            Kind::Value { whole, .. } if !whole.is_empty() => {
                let cut = piece.text[..whole.start].rfind(separator)?;
                Some((piece.text[..cut].ends_with(' '), whole.start > cut + 1))
            }
            _ => None,
        });
        match first.filter(|_| separator != ' ') {
            Some((before, after)) => {
                let space = |there| if there { " " } else { "" };
                format!("{}{separator}{}", space(before), space(after))
            }
            None => separator.to_string(),
        }
    }

    /// By section: one of which all went goes, unless something comes.
    fn sections_that_stay(&self, edit: &Edit) -> Vec<bool> {
        let mut stays = vec![false; self.told.len()];
        let mut was_empty = vec![true; self.told.len()];
        for (at, piece) in self.pieces.list.iter().enumerate().filter(|(_, piece)| piece.said.is_some()) {
            was_empty[piece.section] = false;
            stays[piece.section] |= !matches!(edit.values.get(&at), Some(None));
        }
        for (section, (id, _)) in self.told.iter().enumerate() {
            let has_new = edit.new.iter().any(|new| new.id == *id && !new.lines.is_empty());
            stays[section] |=
                has_new || edit.kept.contains(id) || (was_empty[section] && !edit.dropped.contains(id));
        }
        stays
    }

    fn write(&self, edit: &Edit) -> String {
        let push = |text: &mut String, line: &str| {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push_str(self.end);
            }
            text.push_str(line);
            text.push_str(self.end);
        };
        let pieces = &self.pieces.list;
        let place_of = |id: &str| self.told.iter().position(|(own, _)| own == id);
        // New lines come where they stood, else behind the last key of their section.
        let mut slots: HashMap<usize, Vec<&str>> = HashMap::new();
        for new in &edit.new {
            let Some(section) = place_of(&new.id) else { continue };
            let is_last = |piece: &Piece| piece.section == section && piece.kind != Kind::Plain;
            let last = pieces.iter().rposition(is_last).map_or(0, |last| last + 1);
            for (slot, line) in &new.lines {
                slots.entry(slot.unwrap_or(last)).or_default().push(line);
            }
        }
        let stays = self.sections_that_stay(edit);
        let mut text = String::new();
        let put_new = |text: &mut String, slot: usize| {
            slots.get(&slot).into_iter().flatten().for_each(|line| push(text, line));
        };
        for (at, piece) in pieces.iter().enumerate() {
            put_new(&mut text, at);
            match (edit.values.get(&at), &piece.kind) {
                (Some(None), _) => {}
                (Some(Some((part, new))), kind) => {
                    let range = match (part, kind) {
                        (Part::Value, Kind::Value { value, .. }) => value.clone(),
                        (Part::Whole, Kind::Value { whole, .. }) => whole.clone(),
                        _ => {
                            let start = piece.text.len() - piece.text.trim_start().len();
                            start..piece.text.trim_end().len()
                        }
                    };
                    text.push_str(&piece.text[..range.start]);
                    text.push_str(new);
                    text.push_str(&piece.text[range.end..]);
                }
                (None, Kind::Head) if !stays[piece.section] => {}
                (None, _) => text.push_str(&piece.text),
            }
        }
        put_new(&mut text, pieces.len());
        for NewLines { id, section, lead, lines } in &edit.new {
            if place_of(id).is_none() {
                if !lead.is_empty() {
                    push(&mut text, with_ends(lead, self.end).trim_end_matches(['\r', '\n']));
                }
                push(&mut text, &format!("[{section}]"));
                lines.iter().for_each(|(_, line)| push(&mut text, line));
            }
        }
        text
    }
}
