//! TOML 1.0. Keys are dotted, as TOML writes them; tables are gone into, an array is one value, and so is an array of
//! tables.

use std::collections::{BTreeMap, HashSet};
use std::str::FromStr;

use toml_edit::{DocumentMut, Item, Key as TomlKey, Table, TableLike, Value};

use super::keyed::{Change, Key, Keyed, MOST_NESTED, Setting, Settings, line_end};

/// Between the parts of a key's id.
const SEPARATOR: char = '\u{1f}';

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Toml {
    document: DocumentMut,
    settings: Settings,
    /// The comments and blanks that it begins with.
    head: String,
    end: &'static str,
    ends_in_line_end: bool,
}

impl Keyed for Toml {
    fn parse(text: &str) -> Result<Self, String> {
        refuse_deep(text)?;
        let plain = text.replace("\r\n", "\n");
        let document: DocumentMut =
            plain.parse().map_err(|error: toml_edit::TomlError| error.to_string().trim().to_owned())?;
        let mut settings = Vec::new();
        gather(document.as_table(), &mut Vec::new(), &mut settings);
        let is_head = |line: &&str| line.trim().is_empty() || line.trim_start().starts_with('#');
        let head = plain.split_inclusive('\n').take_while(is_head).collect();
        let ends_in_line_end = text.is_empty() || text.ends_with('\n');
        let (settings, end) = (Settings::new(settings), line_end(text));
        Ok(Self { document, settings, head, end, ends_in_line_end })
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn sense(&self) -> String {
        let said = self.settings.iter().map(|setting| (&setting.key.id, &setting.meaning));
        format!("{:?}", said.collect::<BTreeMap<_, _>>())
    }

    fn is_plain(&self) -> bool {
        true
    }

    fn says_the_same(&self, other: &Self) -> bool {
        let is_there = |setting: &Setting| {
            other.settings.get(&setting.key.id).is_some_and(|other| other.meaning == setting.meaning)
        };
        self.settings.len() == other.settings.len() && self.settings.iter().all(is_there)
    }

    fn above(id: &str) -> Vec<&str> {
        id.match_indices(SEPARATOR).map(|(at, _)| &id[..at]).collect()
    }

    fn value_at(&self, key: &Key) -> Option<String> {
        let item = || find(self.document.as_table(), &key.id.split(SEPARATOR).collect::<Vec<_>>()).map(raw);
        self.settings.get(&key.id).map(|setting| setting.raw.clone()).or_else(item)
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let parts = TomlKey::parse(written)
            .map_err(|_| format!("`{written}` is no TOML key; write table.key, or table.\"odd key\""))?;
        Ok(key(&parts.iter().map(TomlKey::get).collect::<Vec<_>>()))
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut document = self.document.clone();
        // Tables that stay although all goes that they hold.
        let stay: HashSet<&str> = changes
            .iter()
            .filter(|(key, change)| matches!(change, Change::From(other) if other.is_holder(&key.id)))
            .map(|(key, _)| key.id.as_str())
            .collect();
        for (key, change) in changes {
            let way: Vec<&str> = key.id.split(SEPARATOR).collect();
            match change {
                Change::Remove => remove(document.as_table_mut(), &way, &|at| {
                    stay.contains(way[..at].join(&SEPARATOR.to_string()).as_str())
                }),
                Change::From(other) => {
                    let held = find(document.as_table(), &way).is_some_and(Item::is_table_like);
                    if let Some(item) = find(other.document.as_table(), &way)
                        && !(stay.contains(key.id.as_str()) && held)
                    {
                        let source = Some(other.document.as_table() as &dyn TableLike);
                        set(document.as_table_mut(), source, &way, item.clone(), &key.shown)?;
                    }
                }
                Change::Typed(text) => {
                    let is_text = find(self.document.as_table(), &way).is_some_and(Item::is_str);
                    set(document.as_table_mut(), None, &way, Item::Value(typed(text, is_text)), &key.shown)?;
                }
            }
        }
        let mut text = document.to_string();
        // The comment at the very beginning is of the file, not of its first key.
        if self.head.contains('#') && !text.starts_with(self.head.trim_end()) {
            text.insert_str(0, &self.head);
        }
        if !self.ends_in_line_end && text.ends_with('\n') {
            text.pop();
        }
        Ok(if self.end == "\r\n" { text.replace('\n', "\r\n") } else { text })
    }
}

fn key(way: &[&str]) -> Key {
    let shown: Vec<String> = way.iter().map(|part| TomlKey::new(*part).display_repr().into_owned()).collect();
    Key { id: way.join(&SEPARATOR.to_string()), shown: shown.join(".") }
}

/// Goes through all tables.
fn gather<'t>(table: &'t dyn TableLike, way: &mut Vec<&'t str>, settings: &mut Vec<Setting>) {
    for (name, item) in table.iter() {
        way.push(name);
        match item.as_table_like() {
            Some(inner) if !inner.is_empty() => gather(inner, way, settings),
            Some(_) => {
                let (raw, meaning) = ("{}".to_owned(), "{}".to_owned());
                settings.push(Setting { key: key(way), raw, meaning, is_holder: true });
            }
            None => {
                let mut meaning = String::new();
                mean_item(item, &mut meaning);
                settings.push(Setting { key: key(way), raw: raw(item), meaning, is_holder: false });
            }
        }
        way.pop();
    }
}

/// What a value says, whatever its form.
fn mean_item(item: &Item, out: &mut String) {
    match item {
        Item::None => {}
        Item::Value(value) => mean(value, out),
        Item::Table(table) => mean_table(table, out),
        Item::ArrayOfTables(tables) => mean_all(tables.iter(), out, |table, out| mean_table(table, out)),
    }
}

fn mean(value: &Value, out: &mut String) {
    match value {
        Value::String(text) => out.push_str(&format!("{:?}", text.value())),
        Value::Integer(number) => out.push_str(&number.value().to_string()),
        Value::Float(number) => out.push_str(&format!("{:?}", number.value())),
        Value::Boolean(boolean) => out.push_str(&boolean.value().to_string()),
        Value::Datetime(time) => out.push_str(&time.value().to_string()),
        Value::Array(array) => mean_all(array.iter(), out, mean),
        Value::InlineTable(table) => mean_table(table, out),
    }
}

fn mean_all<T>(all: impl Iterator<Item = T>, out: &mut String, mut mean: impl FnMut(T, &mut String)) {
    out.push('[');
    for one in all {
        mean(one, out);
        out.push(',');
    }
    out.push(']');
}

fn mean_table(table: &dyn TableLike, out: &mut String) {
    let sorted: BTreeMap<&str, &Item> = table.iter().collect();
    out.push('{');
    for (name, item) in sorted {
        out.push_str(&format!("{name:?}="));
        mean_item(item, out);
        out.push(',');
    }
    out.push('}');
}

/// A value as it is written, without what stands around it.
fn raw(item: &Item) -> String {
    match item {
        Item::Value(value) if matches!(value, Value::Array(_) | Value::InlineTable(_)) => {
            let mut value = value.clone();
            value.decor_mut().clear();
            value.to_string()
        }
        Item::Value(value) => written(value).unwrap_or_else(|| value.to_string().trim().to_owned()),
        item => item.to_string().trim().to_owned(),
    }
}

/// A single value as it stands in the file.
fn written(value: &Value) -> Option<String> {
    let repr = match value {
        Value::String(value) => value.as_repr(),
        Value::Integer(value) => value.as_repr(),
        Value::Float(value) => value.as_repr(),
        Value::Boolean(value) => value.as_repr(),
        Value::Datetime(value) => value.as_repr(),
        Value::Array(_) | Value::InlineTable(_) => None,
    };
    Some(repr?.as_raw().as_str()?.to_owned())
}

impl Toml {
    fn is_holder(&self, id: &str) -> bool {
        self.settings.get(id).is_some_and(|setting| setting.is_holder)
    }
}

/// Refuses keys of too many parts, which make tables in tables, before anything goes down into them.
fn refuse_deep(text: &str) -> Result<(), String> {
    let mut dots = 0;
    for c in text.chars() {
        match c {
            '.' => dots += 1,
            c if c.is_alphanumeric() || matches!(c, ' ' | '\t' | '_' | '-' | '"' | '\'') => {}
            _ => dots = 0,
        }
        if dots > MOST_NESTED {
            return Err(format!("it is nested more than {MOST_NESTED} deep"));
        }
    }
    Ok(())
}

fn find<'t>(table: &'t dyn TableLike, way: &[&str]) -> Option<&'t Item> {
    let (first, rest) = way.split_first()?;
    let item = table.get(first)?;
    if rest.is_empty() { Some(item) } else { find(item.as_table_like()?, rest) }
}

/// Sets a value; comments of what is new come along from `source`.
fn set(
    table: &mut dyn TableLike,
    source: Option<&dyn TableLike>,
    way: &[&str],
    mut new: Item,
    shown: &str,
) -> Result<(), String> {
    let Some((first, rest)) = way.split_first() else { return Ok(()) };
    if rest.is_empty() {
        if let (Some(Item::Value(old)), Item::Value(new)) = (table.get(first), &mut new) {
            // What stands around the value stays.
            *new.decor_mut() = old.decor().clone();
        }
        match (table.get_mut(first), source.and_then(|source| source.key(first))) {
            (Some(place), _) => *place = new,
            (None, Some(key)) => drop(table.entry_format(key).or_insert(new)),
            (None, None) => {
                if let Item::Value(new) = &mut new {
                    new.decor_mut().clear();
                }
                table.insert(first, new);
            }
        }
        return Ok(());
    }
    let below = source.and_then(|source| source.get(first));
    if table.get(first).is_none_or(|item| !item.is_table_like()) {
        if table.get(first).is_some_and(Item::is_array_of_tables) {
            return Err(format!("`{shown}` lies in an array of tables; set it as a whole"));
        }
        let mut inner = Table::new();
        inner.set_implicit(rest.len() > 1);
        if let Some(source) = below.and_then(Item::as_table) {
            *inner.decor_mut() = source.decor().clone();
            inner.set_implicit(source.is_implicit());
        }
        table.insert(first, Item::Table(inner));
    }
    match table.get_mut(first).and_then(Item::as_table_like_mut) {
        Some(inner) => set(inner, below.and_then(Item::as_table_like), rest, new, shown),
        None => Err(format!("`{shown}` lies in something that is no table")),
    }
}

/// Removes a key, and the tables that are left empty by that, unless one `stays`: the one that so many first parts of the
/// way name.
fn remove(table: &mut dyn TableLike, way: &[&str], stays: &dyn Fn(usize) -> bool) {
    fn below(table: &mut dyn TableLike, way: &[&str], depth: usize, stays: &dyn Fn(usize) -> bool) {
        let Some(first) = way.get(depth) else { return };
        if depth + 1 < way.len() {
            let Some(inner) = table.get_mut(first).and_then(Item::as_table_like_mut) else { return };
            below(inner, way, depth + 1, stays);
            if !inner.is_empty() || stays(depth + 1) {
                return;
            }
        }
        table.remove(first);
    }
    below(table, way, 0, stays);
}

/// How a value that a person types is written: over a text it is a text, else what it reads as.
fn typed(text: &str, over_text: bool) -> Value {
    match Value::from_str(text) {
        Ok(value) if !over_text || value.is_str() => value,
        _ => Value::from(text),
    }
}
