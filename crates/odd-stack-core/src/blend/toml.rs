//! TOML 1.0. Keys are dotted, as TOML writes them; tables are gone into, an array is one value.

use std::str::FromStr;

use toml_edit::{DocumentMut, Item, Key as TomlKey, Table, TableLike, Value};

use super::keyed::{Change, Key, Keyed, Setting, Settings, line_end};

/// Between the parts of a key's id.
const SEPARATOR: char = '\u{1f}';

/// A whole file.
#[derive(Debug, Clone)]
pub(super) struct Toml {
    document: DocumentMut,
    settings: Settings,
    end: &'static str,
    ends_in_line_end: bool,
}

impl Keyed for Toml {
    fn parse(text: &str) -> Result<Self, String> {
        let plain = text.replace("\r\n", "\n");
        let document: DocumentMut =
            plain.parse().map_err(|error: toml_edit::TomlError| error.to_string().trim().to_owned())?;
        let meant: toml::Table = toml::from_str(&plain).map_err(|error| error.message().to_owned())?;
        let mut settings = Vec::new();
        gather(document.as_table(), &meant, &mut Vec::new(), &mut settings);
        let ends_in_line_end = text.is_empty() || text.ends_with('\n');
        Ok(Self { document, settings: Settings::new(settings), end: line_end(text), ends_in_line_end })
    }

    fn settings(&self) -> &Settings {
        &self.settings
    }

    fn key_of(&self, written: &str) -> Result<Key, String> {
        let parts = TomlKey::parse(written)
            .map_err(|_| format!("`{written}` is no TOML key; write table.key, or table.\"odd key\""))?;
        Ok(key(&parts.iter().map(TomlKey::get).collect::<Vec<_>>()))
    }

    fn changed(&self, changes: &[(Key, Change<'_, Self>)]) -> Result<String, String> {
        let mut document = self.document.clone();
        for (key, change) in changes {
            let way: Vec<&str> = key.id.split(SEPARATOR).collect();
            match change {
                Change::Remove => remove(document.as_table_mut(), &way),
                Change::From(other) => {
                    if let Some(item) = find(other.document.as_table(), &way) {
                        set(document.as_table_mut(), &way, item.clone(), &key.shown)?;
                    }
                }
                Change::Typed(text) => {
                    let is_text = find(self.document.as_table(), &way).is_some_and(Item::is_str);
                    set(document.as_table_mut(), &way, Item::Value(typed(text, is_text)), &key.shown)?;
                }
            }
        }
        let mut text = document.to_string();
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

/// Goes through all tables; `meant` is the same file without its form.
fn gather<'t>(
    table: &'t dyn TableLike,
    meant: &toml::Table,
    way: &mut Vec<&'t str>,
    settings: &mut Vec<Setting>,
) {
    for (name, item) in table.iter() {
        way.push(name);
        match (item.as_table_like(), meant.get(name)) {
            // An empty table says nothing of its own.
            (Some(inner), Some(toml::Value::Table(meant))) => gather(inner, meant, way, settings),
            (_, Some(meant)) => {
                let mut item = item.clone();
                if let Item::Value(value) = &mut item {
                    value.decor_mut().clear();
                }
                let raw = item.to_string().trim().to_owned();
                settings.push(Setting { key: key(way), raw, meaning: format!("{meant:?}") });
            }
            _ => {}
        }
        way.pop();
    }
}

fn find<'t>(table: &'t dyn TableLike, way: &[&str]) -> Option<&'t Item> {
    let (first, rest) = way.split_first()?;
    let item = table.get(first)?;
    if rest.is_empty() { Some(item) } else { find(item.as_table_like()?, rest) }
}

fn set(table: &mut dyn TableLike, way: &[&str], mut new: Item, shown: &str) -> Result<(), String> {
    let Some((first, rest)) = way.split_first() else { return Ok(()) };
    if rest.is_empty() {
        if let (Some(Item::Value(old)), Item::Value(new)) = (table.get(first), &mut new) {
            // What stands around the value stays.
            *new.decor_mut() = old.decor().clone();
        }
        if let Some(place) = table.get_mut(first) {
            *place = new;
        } else {
            if let Item::Value(new) = &mut new {
                new.decor_mut().clear();
            }
            table.insert(first, new);
        }
        return Ok(());
    }
    if table.get(first).is_none_or(|item| !item.is_table_like()) {
        if table.get(first).is_some_and(Item::is_array_of_tables) {
            return Err(format!("`{shown}` lies in an array of tables; set it as a whole"));
        }
        let mut inner = Table::new();
        inner.set_implicit(rest.len() > 1);
        table.insert(first, Item::Table(inner));
    }
    match table.get_mut(first).and_then(Item::as_table_like_mut) {
        Some(inner) => set(inner, rest, new, shown),
        None => Err(format!("`{shown}` lies in something that is no table")),
    }
}

/// Removes a key, and the tables that are left empty by that.
fn remove(table: &mut dyn TableLike, way: &[&str]) {
    let Some((first, rest)) = way.split_first() else { return };
    if !rest.is_empty() {
        let Some(inner) = table.get_mut(first).and_then(Item::as_table_like_mut) else { return };
        remove(inner, rest);
        if !inner.is_empty() {
            return;
        }
    }
    table.remove(first);
}

/// How a value that a person types is written: over a text it is a text, else what it reads as.
fn typed(text: &str, over_text: bool) -> Value {
    match Value::from_str(text) {
        Ok(value) if !over_text || value.is_str() => value,
        _ => Value::from(text),
    }
}
