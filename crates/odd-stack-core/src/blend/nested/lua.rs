//! Lua as far as it is data (Lua 5.4 reference manual, 3.1 and 3.4.9): `name = value` one after the other, or
//! `return { ... }`, where values are texts, numbers, `true`, `false`, `nil` and tables of these.
//!
//! What calls, counts or decides anything is code, and such a file is not understood: its parts can mean other things
//! beside each other.

use std::collections::HashSet;
use std::iter::Peekable;
use std::vec::IntoIter;

use super::super::keyed::MOST_NESTED;
use super::lua_words::{CONSTANTS, Word, WordKind, is_name, words};
use super::notation::{Comments, Notation, Outline};
use super::value::{Kind, Node, Property, mean, number_meaning};

/// How Lua is read and written.
#[derive(Debug, Clone, Copy)]
pub(in crate::blend) struct LuaNotation;

/// The name of what a file gives back, beside those that it sets.
const RETURN: &str = "return";

/// Before the name of what only the file itself knows.
const LOCAL: &str = "local ";

impl Notation for LuaNotation {
    const COMMENTS: Comments = Comments { line: "--", open: "--[[", close: "]]" };
    const ARRAY: [char; 2] = ['{', '}'];
    const SEPARATORS: &'static [char] = &[',', ';'];
    const LAST_STATEMENT: &'static str = RETURN;

    fn read(text: &str) -> Result<Outline, String> {
        Reader::new(text)?.file()
    }

    fn named(name: &str) -> String {
        let is_number = name.starts_with(|c: char| c.is_ascii_digit() || c == '-') && is_value(name);
        match () {
            () if is_number => format!("[{name}] = "),
            () if is_name(name) => format!("{name} = "),
            // It is quoted so as not to be a number.
            () if name.starts_with('"') => format!("[{name}] = "),
            () => format!("[{}] = ", quoted(name)),
        }
    }

    fn typed(text: &str, over: Option<&Kind>) -> String {
        let is_text = matches!(value_of(text), Some(Kind::Text(_)));
        match over {
            Some(Kind::Text(_)) if is_text => text.to_owned(),
            Some(Kind::Text(_)) => quoted(text),
            _ if is_value(text) => text.to_owned(),
            _ => quoted(text),
        }
    }

    fn statement(name: &str, value: &str, others: &HashSet<&str>) -> Result<String, String> {
        let plain = name.strip_prefix(LOCAL).unwrap_or(name);
        for other in [plain.to_owned(), format!("{LOCAL}{plain}")] {
            if others.contains(other.as_str()) {
                return Err(format!("the file sets `{other}`; its key is `/{other}`"));
            }
        }
        let statement = format!("{name} = {value}");
        let is_one = |file: &Outline| {
            matches!(&file.root.kind, Kind::Object(all) if file.is_list_of_statements
                && matches!(all.as_slice(), [only] if only.name == name))
        };
        match Self::read(&statement).is_ok_and(|file| is_one(&file)) {
            true => Ok(statement),
            false => Err(format!("`{name}` can't be the name of a value in a Lua file")),
        }
    }
}

fn value_of(text: &str) -> Option<Kind> {
    let mut reader = Reader::new(text).ok()?;
    let value = reader.value(0).ok()?;
    reader.is_over().then_some(value.kind)
}

fn is_value(text: &str) -> bool {
    value_of(text).is_some()
}

fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str("\\n"),
            '\r' => quoted.push_str("\\r"),
            '\t' => quoted.push_str("\\t"),
            c if c.is_ascii_control() => quoted.push_str(&format!("\\{:03}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// Goes through the words of a file.
struct Reader<'t> {
    text: &'t str,
    words: Peekable<IntoIter<Word>>,
}

impl<'t> Reader<'t> {
    fn new(text: &'t str) -> Result<Self, String> {
        Ok(Self { text, words: words(text)?.into_iter().peekable() })
    }

    fn is_over(&mut self) -> bool {
        self.words.peek().is_none()
    }

    fn next_is(&mut self, symbol: char) -> bool {
        self.words.peek().is_some_and(|word| word.kind == WordKind::Symbol(symbol))
    }

    /// Takes the next if it is that symbol.
    fn take(&mut self, symbol: char) -> Option<Word> {
        self.words.next_if(|word| word.kind == WordKind::Symbol(symbol))
    }

    fn take_keyword(&mut self, wanted: &str) -> Option<Word> {
        self.words.next_if(|word| matches!(&word.kind, WordKind::Keyword(keyword) if keyword == wanted))
    }

    fn expect(&mut self, symbol: char) -> Result<Word, String> {
        self.take(symbol).ok_or_else(|| self.is_code())
    }

    fn is_code(&mut self) -> String {
        match self.words.peek() {
            Some(word) => format!("line {}: it holds code", word.line),
            None => "it ends in the middle of something".to_owned(),
        }
    }

    /// The next if it is a name, with where it starts.
    fn name(&mut self) -> Option<(usize, String)> {
        let is_it = |word: &Word| matches!(&word.kind, WordKind::Name(name) if is_name(name));
        match self.words.next_if(is_it)? {
            Word { kind: WordKind::Name(name), start, .. } => Some((start, name)),
            _ => None,
        }
    }

    fn file(mut self) -> Result<Outline, String> {
        let mut statements: Vec<Property> = Vec::new();
        let mut names = HashSet::new();
        while !self.is_over() {
            if let Some(Word { start, .. }) = self.take_keyword(RETURN) {
                let value = match self.name() {
                    // What was set before is given back.
                    Some((start, name)) => Node { start, end: start + name.len(), kind: Kind::Other(name) },
                    None => self.value(0)?,
                };
                statements.push(Property { name: RETURN.to_owned(), start, value });
                self.take(';');
                if !self.is_over() {
                    return Err(self.is_code());
                }
                break;
            }
            let statement = self.statement()?;
            let plain = statement.name.strip_prefix(LOCAL).unwrap_or(&statement.name);
            if !names.insert(plain.to_owned()) {
                return Err(format!("`{plain}` is set twice"));
            }
            statements.push(statement);
        }
        if let [Property { name, .. }] = statements.as_slice()
            && name == RETURN
            && let Some(Property { value, .. }) = statements.pop()
        {
            return match value.kind {
                Kind::Object(_) | Kind::Array(_) => Ok(Outline { root: value, is_list_of_statements: false }),
                _ => Err("it has no keys: it gives back a single value".to_owned()),
            };
        }
        if statements.is_empty() {
            return Err("it sets nothing".to_owned());
        }
        let root = Node { start: 0, end: self.text.len(), kind: Kind::Object(statements) };
        Ok(Outline { root, is_list_of_statements: true })
    }

    /// `name = value`, `local name = value`, `table.name = value`.
    fn statement(&mut self) -> Result<Property, String> {
        let local = self.take_keyword("local").map(|word| word.start);
        let (at, mut name) = self.name().ok_or_else(|| self.is_code())?;
        if local.is_some() {
            name.insert_str(0, LOCAL);
        }
        while local.is_none() {
            if self.take('.').is_some() {
                name.push('.');
                name.push_str(&self.name().ok_or_else(|| self.is_code())?.1);
            } else if self.take('[').is_some() {
                let key = self.value(0)?;
                self.expect(']')?;
                name.push_str(&format!("[{}]", &self.text[key.start..key.end]));
            } else {
                break;
            }
        }
        self.expect('=')?;
        let value = self.value(0)?;
        self.take(';');
        Ok(Property { name, start: local.unwrap_or(at), value })
    }

    fn value(&mut self, depth: usize) -> Result<Node, String> {
        if depth > MOST_NESTED {
            return Err(format!("it is nested more than {MOST_NESTED} deep"));
        }
        let Some(word) = self.words.next() else { return Err(self.is_code()) };
        let Word { kind, start, mut end, line } = word;
        let code = || format!("line {line}: it holds code");
        let kind = match kind {
            WordKind::Text(text) => Kind::Text(text),
            WordKind::Number(number) => Kind::Other(number),
            WordKind::Name(name) if CONSTANTS.contains(&name.as_str()) => Kind::Other(name),
            WordKind::Symbol('-') => {
                let number = self.words.next().ok_or_else(code)?;
                if !matches!(number.kind, WordKind::Number(_)) {
                    return Err(code());
                }
                end = number.end;
                Kind::Other(number_meaning(&format!("-{}", &self.text[number.start..number.end])))
            }
            WordKind::Symbol('{') => {
                let kind = self.table(depth + 1)?;
                end = self.expect('}')?.end;
                kind
            }
            _ => return Err(code()),
        };
        Ok(Node { start, end, kind })
    }

    /// What stands between braces.
    fn table(&mut self, depth: usize) -> Result<Kind, String> {
        let (mut named, mut listed): (Vec<Property>, Vec<Node>) = (Vec::new(), Vec::new());
        let mut names = HashSet::new();
        while !self.next_is('}') {
            let field = if let Some(bracket) = self.take('[') {
                let key = self.value(depth)?;
                self.expect(']')?;
                let name = match key.kind {
                    // A text that looks like a number, or like one that does, is told from it.
                    Kind::Text(text) if is_value(&text) => quoted(&text),
                    Kind::Text(text) => text,
                    Kind::Other(number) => number,
                    Kind::Object(_) | Kind::Array(_) => return Err(self.is_code()),
                };
                Some((bracket.start, name))
            } else {
                self.name()
            };
            match field {
                Some((start, name)) => {
                    self.expect('=')?;
                    if !names.insert(name.clone()) {
                        return Err(format!("the key `{name}` stands twice in a table"));
                    }
                    named.push(Property { name, start, value: self.value(depth)? });
                }
                None => listed.push(self.value(depth)?),
            }
            if self.take(',').or_else(|| self.take(';')).is_none() {
                break;
            }
        }
        Ok(match (listed.is_empty(), named.is_empty()) {
            (true, _) => Kind::Object(named),
            (false, true) => Kind::Array(listed),
            // What has names and places is one value.
            (false, false) => {
                let mut meaning = String::new();
                for node in [
                    Node { start: 0, end: 0, kind: Kind::Array(listed) },
                    Node { start: 0, end: 0, kind: Kind::Object(named) },
                ] {
                    mean(&node, &mut meaning);
                }
                Kind::Other(meaning)
            }
        })
    }
}
