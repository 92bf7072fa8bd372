//! Configuration of the INI kind as lines that keep their form.
//!
//! There is no standard for it; this reads what games' files have in common: sections in brackets or none, a
//! key, `=` (or `:` where a file has no `=` at all), a value; `;`, `#` and `//` begin comments on lines of their
//! own, and behind a value when a space stands before them. Sections and keys are compared without regard to
//! case. A key that stands several times in a section is a list: each of its values is a setting of its own.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ops::Range;

use super::keyed::{Change, Key, Keyed, Setting, Settings, line_end};

/// Between the parts of a key's id.
const SEPARATOR: char = '\u{1f}';

#[derive(Debug, Clone)]
struct Line {
    /// All of it, with its end.
    text: String,
    /// Which setting it holds, and where its value lies in it.
    value: Option<(usize, Range<usize>)>,
    /// The folded section that it belongs to, and how it is spelled.
    section: String,
    shown: String,
}

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Ini {
    lines: Vec<Line>,
    /// Which line each setting stands on.
    line_of: Vec<usize>,
    settings: Settings,
    separator: char,
    end: &'static str,
}

impl Keyed for Ini {
    fn parse(text: &str) -> Result<Self, String> {
        let ini = Self::read(text);
        if ini.is_mostly_keys() { Ok(ini) } else { Err("most of its lines are no `key=value`".to_owned()) }
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    /// A key that stands several times in one of them is a list in all.
    fn agree(documents: &mut [&mut Self]) {
        let repeated: BTreeSet<String> = documents.iter().flat_map(|document| document.repeated()).collect();
        documents.iter_mut().for_each(|document| document.take_as_repeated(&repeated));
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let written = written.trim();
        let found = self.settings.iter().filter(|own| own.key.shown.eq_ignore_ascii_case(written));
        let mut found = found.map(|setting| &setting.key);
        if let Some(key) = found.next() {
            return match found.next() {
                None => Ok(key.clone()),
                Some(_) => Err(format!("`{written}` stands there several times")),
            };
        }
        // Names of sections may hold dots.
        let known = self.lines.iter().map(|line| line.shown.as_str()).filter(|shown| {
            let head = written.get(..shown.len());
            !shown.is_empty()
                && head.is_some_and(|head| head.eq_ignore_ascii_case(shown))
                && written[shown.len()..].starts_with('.')
        });
        let section = known.max_by_key(|shown| shown.len());
        let (section, name) = match section {
            Some(section) => (section, &written[section.len() + 1..]),
            None => written.rsplit_once('.').unwrap_or(("", written)),
        };
        if name.is_empty() || name.contains(['=', '\n', '[']) {
            return Err(format!("`{written}` is no key; write Section.key"));
        }
        Ok(key(section, name))
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut values: HashMap<usize, Option<String>> = HashMap::new();
        // What comes into each section, in the order in which sections come first.
        let mut new: Vec<NewLines> = Vec::new();
        for (key, change) in changes {
            let place = self.settings.position(&key.id);
            let written = self.written(key, change, place)?;
            match (place, written) {
                (Some(place), Written::Gone) => drop(values.insert(place, None)),
                (Some(place), Written::Is { value, .. }) => drop(values.insert(place, Some(value))),
                (None, Written::Is { line, section, .. }) => {
                    let folded = section.to_lowercase();
                    match new.iter_mut().find(|lines| lines.folded == folded) {
                        Some(lines) => lines.lines.push(line),
                        None => new.push(NewLines { folded, section, lines: vec![line] }),
                    }
                }
                (None, Written::Gone) | (_, Written::AsItIs) => {}
            }
        }
        Ok(self.write(&values, &new))
    }
}

/// What becomes of one key.
enum Written {
    Gone,
    AsItIs,
    /// It has a value; as a line of its own, where it has none yet.
    Is {
        value: String,
        line: String,
        section: String,
    },
}

/// Lines that come into a section.
struct NewLines {
    folded: String,
    section: String,
    lines: Vec<String>,
}

fn key(section: &str, name: &str) -> Key {
    let id = format!("{}{SEPARATOR}{}", section.to_lowercase(), name.to_lowercase());
    let shown = if section.is_empty() { name.to_owned() } else { format!("{section}.{name}") };
    Key { id, shown }
}

/// The section and the name of a key, as they are spelled.
fn parts(key: &Key) -> (&str, &str) {
    let folded = key.id.split(SEPARATOR).next().unwrap_or_default();
    let mut cuts = key.shown.match_indices('.').map(|(at, _)| at);
    match cuts.find(|at| key.shown[..*at].to_lowercase() == folded) {
        Some(at) => (&key.shown[..at], &key.shown[at + 1..]),
        None => ("", &key.shown),
    }
}

/// A key's id without the value that tells it from others of its name.
fn plain(id: &str) -> &str {
    let mut cuts = id.match_indices(SEPARATOR).map(|(at, _)| at);
    cuts.nth(1).map_or(id, |cut| &id[..cut])
}

impl Ini {
    /// What a change makes of a key, which stands at `place` or nowhere.
    fn written(&self, key: &Key, change: &Change<'_, Self>, place: Option<usize>) -> Result<Written, String> {
        match change {
            Change::Remove => Ok(Written::Gone),
            Change::Typed(text) if text.contains(['\n', '\r']) => {
                Err(format!("a value of `{}` must be one line", key.shown))
            }
            Change::Typed(text) => {
                let old = place.map_or("", |place| self.settings.at(place).raw.as_str());
                let was_quoted = old.len() > 1 && old.starts_with('"') && old.ends_with('"');
                let must_quote = was_quoted && !text.starts_with('"');
                let value = if must_quote { format!("\"{text}\"") } else { (*text).to_owned() };
                let (section, name) = parts(key);
                self.refuse_unreadable(name, &value)?;
                let line = format!("{name}{}{value}", self.between());
                Ok(Written::Is { value, line, section: section.to_owned() })
            }
            Change::From(other) => {
                let Some(found) = other.settings.position(&key.id) else { return Ok(Written::AsItIs) };
                let (line, value) =
                    (&other.lines[other.line_of[found]], other.settings.at(found).raw.clone());
                let section = line.shown.clone();
                let line = if other.separator == self.separator {
                    line.text.trim_end_matches(['\r', '\n']).to_owned()
                } else {
                    let name = parts(key).1;
                    self.refuse_unreadable(name, &value)?;
                    format!("{name}{}{value}", self.between())
                };
                Ok(Written::Is { value, line, section })
            }
        }
    }

    /// Refuses what would be read as another key, or would have the whole file read otherwise.
    fn refuse_unreadable(&self, name: &str, value: &str) -> Result<(), String> {
        let has_equals = name.contains('=') || value.contains('=');
        if name.contains(self.separator) || (self.separator == ':' && has_equals) {
            return Err(format!(
                "`{name}` with the value `{value}` can't be set in a file that has `{}` between keys and values",
                self.separator
            ));
        }
        Ok(())
    }

    fn read(text: &str) -> Self {
        let has = |separator| text.lines().any(|line| is_key_line(line, separator));
        let separator = if has(':') && !has('=') { ':' } else { '=' };
        let (mut section, mut shown) = (String::new(), String::new());
        let (mut settings, mut lines, mut line_of) = (Vec::new(), Vec::new(), Vec::new());
        for line in text.split_inclusive('\n') {
            let bare = line.trim();
            if let Some((name, _)) = bare.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
                shown = name.trim().to_owned();
                section = shown.to_lowercase();
            }
            let mut value = None;
            if is_key_line(line, separator)
                && let Some(cut) = line.find(separator)
            {
                let range = value_in(line, cut + 1);
                value = Some((settings.len(), range.clone()));
                line_of.push(lines.len());
                let raw = line[range].to_owned();
                settings.push(Setting { key: key(&shown, line[..cut].trim()), meaning: raw.clone(), raw });
            }
            lines.push(Line { text: line.to_owned(), value, section: section.clone(), shown: shown.clone() });
        }
        let end = line_end(text);
        let mut ini = Self { lines, line_of, settings: Settings::new(settings), separator, end };
        let repeated = ini.repeated();
        ini.take_as_repeated(&repeated);
        ini
    }

    /// Keys that stand several times, and so are lists of values.
    fn repeated(&self) -> BTreeSet<String> {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for setting in self.settings.iter() {
            *counts.entry(plain(&setting.key.id)).or_default() += 1;
        }
        counts.into_iter().filter(|(_, count)| *count > 1).map(|(id, _)| id.to_owned()).collect()
    }

    fn take_as_repeated(&mut self, keys: &BTreeSet<String>) {
        let mut counts: HashMap<String, usize> = HashMap::new();
        let mut list: Vec<Setting> = self.settings.iter().cloned().collect();
        for setting in &mut list {
            let name = plain(&setting.key.id);
            if keys.contains(name) {
                let id = format!("{name}{SEPARATOR}{}", setting.meaning);
                let count = counts.entry(id.clone()).or_default();
                *count += 1;
                setting.key.id = if *count > 1 { format!("{id}{SEPARATOR}{count}") } else { id };
            }
        }
        self.settings = Settings::new(list);
    }

    /// Whether keys are what it is made of.
    fn is_mostly_keys(&self) -> bool {
        let is_empty = |line: &&Line| line.text.trim().is_empty() || is_comment(&line.text);
        let said: Vec<&Line> = self.lines.iter().filter(|line| !is_empty(line)).collect();
        let known = said.iter().filter(|line| line.value.is_some() || is_section(&line.text)).count();
        known * 10 >= said.len() * 9
    }

    /// What stands between a key and its value here.
    fn between(&self) -> String {
        let line = self.lines.iter().find_map(|line| {
            let (_, range) = line.value.as_ref()?;
            let cut = line.text.find(self.separator)?;
            let before = line.text[..cut].ends_with(' ');
            Some((before, range.start > cut + 1))
        });
        match line {
            Some((before, after)) => {
                let space = |there| if there { " " } else { "" };
                format!("{}{}{}", space(before), self.separator, space(after))
            }
            None => self.separator.to_string(),
        }
    }

    fn write(&self, values: &HashMap<usize, Option<String>>, new: &[NewLines]) -> String {
        let mut text = String::new();
        let push = |text: &mut String, line: &str| {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push_str(self.end);
            }
            text.push_str(line);
            text.push_str(self.end);
        };
        // New keys come behind the last key of their section.
        let behind: HashMap<usize, &Vec<String>> = new
            .iter()
            .filter_map(|new| {
                let is_theirs = |line: &Line| {
                    line.section == new.folded && (line.value.is_some() || is_section(&line.text))
                };
                Some((self.lines.iter().rposition(is_theirs)?, &new.lines))
            })
            .collect();
        let placed: HashSet<&str> = behind.keys().map(|at| self.lines[*at].section.as_str()).collect();
        let first = new.iter().filter(|new| new.folded.is_empty() && !placed.contains(""));
        first.flat_map(|new| &new.lines).for_each(|line| push(&mut text, line));
        for (at, line) in self.lines.iter().enumerate() {
            let change = line.value.as_ref().and_then(|(place, range)| Some((values.get(place)?, range)));
            match change {
                Some((None, _)) => {}
                Some((Some(value), range)) => {
                    text.push_str(&line.text[..range.start]);
                    text.push_str(value);
                    text.push_str(&line.text[range.end..]);
                }
                None => text.push_str(&line.text),
            }
            behind.get(&at).into_iter().copied().flatten().for_each(|line| push(&mut text, line));
        }
        for NewLines { folded, section, lines } in new {
            if !folded.is_empty() && !placed.contains(folded.as_str()) {
                push(&mut text, &format!("[{section}]"));
                lines.iter().for_each(|line| push(&mut text, line));
            }
        }
        text
    }
}

fn is_section(line: &str) -> bool {
    line.trim_start().starts_with('[')
}

fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with([';', '#']) || line.starts_with("//")
}

fn is_key_line(line: &str, separator: char) -> bool {
    let bare = line.trim();
    !is_comment(bare)
        && !bare.starts_with(['[', '<', '{', '}'])
        && bare.split_once(separator).is_some_and(|(key, _)| !key.trim().is_empty())
}

/// The value that begins behind the separator, without spaces around it and a comment behind it.
fn value_in(line: &str, from: usize) -> Range<usize> {
    let rest = &line[from..];
    let start = from + (rest.len() - rest.trim_start_matches([' ', '\t']).len());
    let value = &line[start..];
    let end = if let Some(quoted) = value.strip_prefix('"')
        && let Some(close) = quoted.find('"')
    {
        close + 2
    } else {
        let comment =
            [" ;", " #", " //", "\t;", "\t#", "\t//"].iter().filter_map(|mark| value.find(mark)).min();
        comment.unwrap_or(value.len())
    };
    start..start + value[..end].trim_end().len()
}
