//! Lua as far as it is data (Lua 5.4 reference manual, 3.1 and 3.4.9): `name = value` one after the other, or
//! `return { … }`, where values are texts, numbers, `true`, `false`, `nil` and tables of these.
//!
//! What calls, counts or decides anything is code, and such a file is not understood: its parts can mean other things
//! beside each other.

use std::collections::HashSet;
use std::iter::Peekable;
use std::vec::IntoIter;

use full_moon::LuaVersion;
use full_moon::tokenizer::{Lexer, LexerResult, StringLiteralQuoteType, Symbol, Token, TokenType};

use super::super::keyed::MOST_NESTED;
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
    reader.next_is(None).then_some(value.kind)
}

fn is_value(text: &str) -> bool {
    value_of(text).is_some()
}

/// Whether a key can be written without brackets.
fn is_name(name: &str) -> bool {
    match Lexer::new(name, LuaVersion::lua54()).collect() {
        LexerResult::Ok(tokens) => match tokens.as_slice() {
            [one, _] => {
                matches!(one.token_type(), TokenType::Identifier { identifier } if **identifier == *name)
            }
            _ => false,
        },
        _ => false,
    }
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

/// Goes through what is neither blank nor comment.
struct Reader<'t> {
    text: &'t str,
    tokens: Peekable<IntoIter<Token>>,
}

impl<'t> Reader<'t> {
    fn new(text: &'t str) -> Result<Self, String> {
        let tokens = match Lexer::new(text, LuaVersion::lua54()).collect() {
            LexerResult::Ok(tokens) => tokens,
            LexerResult::Recovered(_, errors) | LexerResult::Fatal(errors) => {
                let line = errors.first().map_or(1, |error| error.position().line());
                return Err(format!("line {line}: it is no Lua"));
            }
        };
        let mut said = Vec::with_capacity(tokens.len());
        for token in tokens {
            match token.token_type() {
                TokenType::Whitespace { .. } | TokenType::SingleLineComment { .. } | TokenType::Eof => {}
                TokenType::MultiLineComment { blocks: 0, .. } => {}
                TokenType::MultiLineComment { .. } => {
                    let line = token.start_position().line();
                    return Err(format!("line {line}: comments between `[=[` and `]=]` are not understood"));
                }
                _ => said.push(token),
            }
        }
        Ok(Self { text, tokens: said.into_iter().peekable() })
    }

    /// Whether the next is that symbol; whether there is none, for nothing.
    fn next_is(&mut self, wanted: Option<Symbol>) -> bool {
        match (self.tokens.peek().map(Token::token_type), wanted) {
            (Some(TokenType::Symbol { symbol }), Some(wanted)) => *symbol == wanted,
            (next, wanted) => next.is_none() && wanted.is_none(),
        }
    }

    /// Takes the next if it is that symbol.
    fn take(&mut self, wanted: Symbol) -> Option<Token> {
        if self.next_is(Some(wanted)) { self.tokens.next() } else { None }
    }

    fn expect(&mut self, wanted: Symbol) -> Result<Token, String> {
        self.take(wanted).ok_or_else(|| self.is_code())
    }

    fn is_code(&mut self) -> String {
        match self.tokens.peek() {
            Some(token) => format!("line {}: it holds code", token.start_position().line()),
            None => "it ends in the middle of something".to_owned(),
        }
    }

    /// The next if it is a name.
    fn name(&mut self) -> Option<(usize, String)> {
        let TokenType::Identifier { identifier } = self.tokens.peek()?.token_type() else { return None };
        let name = identifier.to_string();
        Some((self.tokens.next()?.start_position().bytes(), name))
    }

    fn file(mut self) -> Result<Outline, String> {
        let mut statements: Vec<Property> = Vec::new();
        let mut names = HashSet::new();
        while !self.next_is(None) {
            if let Some(token) = self.take(Symbol::Return) {
                let start = token.start_position().bytes();
                let value = match self.name() {
                    // What was set before is given back.
                    Some((start, name)) => Node { start, end: start + name.len(), kind: Kind::Other(name) },
                    None => self.value(0)?,
                };
                statements.push(Property { name: RETURN.to_owned(), start, value });
                self.take(Symbol::Semicolon);
                if !self.next_is(None) {
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
        let local = self.take(Symbol::Local).map(|token| token.start_position().bytes());
        let (at, mut name) = self.name().ok_or_else(|| self.is_code())?;
        if local.is_some() {
            name.insert_str(0, LOCAL);
        }
        while local.is_none() {
            if self.take(Symbol::Dot).is_some() {
                name.push('.');
                name.push_str(&self.name().ok_or_else(|| self.is_code())?.1);
            } else if self.take(Symbol::LeftBracket).is_some() {
                let key = self.value(0)?;
                self.expect(Symbol::RightBracket)?;
                name.push_str(&format!("[{}]", &self.text[key.start..key.end]));
            } else {
                break;
            }
        }
        self.expect(Symbol::Equal)?;
        let value = self.value(0)?;
        self.take(Symbol::Semicolon);
        Ok(Property { name, start: local.unwrap_or(at), value })
    }

    fn value(&mut self, depth: usize) -> Result<Node, String> {
        if depth > MOST_NESTED {
            return Err(format!("it is nested more than {MOST_NESTED} deep"));
        }
        let Some(token) = self.tokens.next() else { return Err(self.is_code()) };
        let (start, mut end) = (token.start_position().bytes(), token.end_position().bytes());
        let code = || format!("line {}: it holds code", token.start_position().line());
        let kind = match token.token_type() {
            TokenType::StringLiteral { literal, quote_type, .. } => Kind::Text(text_of(literal, *quote_type)),
            TokenType::Number { text } => Kind::Other(number_meaning(text)),
            TokenType::Symbol { symbol: Symbol::True } => Kind::Other("true".to_owned()),
            TokenType::Symbol { symbol: Symbol::False } => Kind::Other("false".to_owned()),
            TokenType::Symbol { symbol: Symbol::Nil } => Kind::Other("nil".to_owned()),
            TokenType::Symbol { symbol: Symbol::Minus } => {
                let number = self.tokens.next().ok_or_else(code)?;
                let TokenType::Number { text } = number.token_type() else { return Err(code()) };
                end = number.end_position().bytes();
                Kind::Other(number_meaning(&format!("-{text}")))
            }
            TokenType::Symbol { symbol: Symbol::LeftBrace } => {
                let kind = self.table(depth + 1)?;
                end = self.expect(Symbol::RightBrace)?.end_position().bytes();
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
        while !self.next_is(Some(Symbol::RightBrace)) {
            let field = if let Some(bracket) = self.take(Symbol::LeftBracket) {
                let key = self.value(depth)?;
                self.expect(Symbol::RightBracket)?;
                let name = match key.kind {
                    // A text that looks like a number, or like one that does, is told from it.
                    Kind::Text(text) if is_value(&text) => quoted(&text),
                    Kind::Text(text) => text,
                    Kind::Other(number) => number,
                    Kind::Object(_) | Kind::Array(_) => return Err(self.is_code()),
                };
                Some((bracket.start_position().bytes(), name))
            } else {
                self.name()
            };
            match field {
                Some((start, name)) => {
                    self.expect(Symbol::Equal)?;
                    if !names.insert(name.clone()) {
                        return Err(format!("the key `{name}` stands twice in a table"));
                    }
                    named.push(Property { name, start, value: self.value(depth)? });
                }
                None => listed.push(self.value(depth)?),
            }
            if self.take(Symbol::Comma).or_else(|| self.take(Symbol::Semicolon)).is_none() {
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

/// What a text says, with its escapes read; those of single bytes beyond ASCII stay as they are written.
fn text_of(literal: &str, quote: StringLiteralQuoteType) -> String {
    if quote == StringLiteralQuoteType::Brackets {
        let literal = literal.strip_prefix("\r\n").or_else(|| literal.strip_prefix('\n')).unwrap_or(literal);
        return literal.replace("\r\n", "\n");
    }
    let mut said = String::with_capacity(literal.len());
    let mut rest = literal;
    while let Some(at) = rest.find('\\') {
        said.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        let digits = rest.bytes().take(3).take_while(u8::is_ascii_digit).count();
        let (c, length) = match rest.as_bytes().first() {
            Some(b'n') => (Some('\n'), 1),
            Some(b't') => (Some('\t'), 1),
            Some(b'r') => (Some('\r'), 1),
            Some(b'a') => (Some('\u{7}'), 1),
            Some(b'b') => (Some('\u{8}'), 1),
            Some(b'f') => (Some('\u{c}'), 1),
            Some(b'v') => (Some('\u{b}'), 1),
            Some(b'0'..=b'9') => {
                (rest[..digits].parse::<u8>().ok().filter(u8::is_ascii).map(char::from), digits)
            }
            Some(b'x') => {
                let byte = rest.get(1..3).and_then(|hex| u8::from_str_radix(hex, 16).ok());
                (byte.filter(u8::is_ascii).map(char::from), 3)
            }
            Some(b'u') => {
                let hex = rest.strip_prefix("u{").and_then(|rest| rest.split_once('}'));
                let c = hex.and_then(|(hex, _)| char::from_u32(u32::from_str_radix(hex, 16).ok()?));
                (c, hex.map_or(1, |(hex, _)| hex.len() + 3))
            }
            Some(b'"' | b'\'' | b'\\' | b'\n') => (rest.chars().next(), 1),
            _ => (None, 0),
        };
        match (c, rest.get(length..)) {
            (Some(c), Some(after)) => {
                said.push(c);
                rest = after;
            }
            _ => said.push('\\'),
        }
    }
    said + rest
}
