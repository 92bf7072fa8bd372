//! The words of Lua as far as data has them (Lua 5.4 reference manual, 3.1).

use super::value::number_meaning;

/// One word of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Word {
    pub(super) kind: WordKind,
    pub(super) start: usize,
    pub(super) end: usize,
    /// The number of its line, from 1.
    pub(super) line: usize,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum WordKind {
    /// `true`, `false` and `nil` among them.
    Name(String),
    Keyword(String),
    /// What it means.
    Number(String),
    /// What it says, with its escapes read.
    Text(String),
    Symbol(char),
}

const KEYWORDS: [&str; 19] = [
    "and", "break", "do", "else", "elseif", "end", "for", "function", "goto", "if", "in", "local", "not",
    "or", "repeat", "return", "then", "until", "while",
];

/// Values that are written as words.
pub(super) const CONSTANTS: [&str; 3] = ["true", "false", "nil"];

/// Whether a key can be written without brackets.
pub(super) fn is_name(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && word.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
        && !KEYWORDS.contains(&word)
        && !CONSTANTS.contains(&word)
}

/// All words of a text; blanks and comments are passed over.
///
/// # Errors
/// What is no Lua in it, or is more than data can be, with its line.
pub(super) fn words(text: &str) -> Result<Vec<Word>, String> {
    let mut words = Vec::new();
    let (mut at, mut line) = (0, 1);
    while let Some(first) = text[at..].chars().next() {
        let (rest, start) = (&text[at..], at);
        let wrong = |what: &str| Err(format!("line {line}: {what}"));
        if first.is_ascii_whitespace() {
            line += usize::from(first == '\n');
            at += 1;
            continue;
        }
        if let Some(comment) = rest.strip_prefix("--") {
            at += 2 + match long_bracket(comment) {
                Some(("", inner)) => match inner.find("]]") {
                    Some(end) => 2 + end + 2,
                    None => return wrong("a comment does not end"),
                },
                Some(_) => return wrong("comments between `[=[` and `]=]` are not understood"),
                None => comment.find(['\n', '\r']).unwrap_or(comment.len()),
            };
            line += text[start..at].matches('\n').count();
            continue;
        }
        let kind = if first.is_ascii_digit()
            || rest.len() > 1 && first == '.' && rest.as_bytes()[1].is_ascii_digit()
        {
            at += number_length(rest);
            if !is_number(&rest[..at - start]) {
                return wrong(&format!("`{}` is no number", &rest[..at - start]));
            }
            WordKind::Number(number_meaning(&rest[..at - start]))
        } else if first.is_ascii_alphabetic() || first == '_' {
            let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
            at += rest.find(|c| !is_part(c)).unwrap_or(rest.len());
            let word = rest[..at - start].to_owned();
            match KEYWORDS.contains(&word.as_str()) {
                true => WordKind::Keyword(word),
                false => WordKind::Name(word),
            }
        } else if let '"' | '\'' = first {
            let Some(length) = quoted_length(rest, first) else { return wrong("a text does not end") };
            at += length;
            WordKind::Text(unescaped(&rest[1..length - 1]))
        } else if let Some((equals, inner)) = long_bracket(rest) {
            let close = format!("]{equals}]");
            let Some(end) = inner.find(&close) else { return wrong("a text does not end") };
            at += 2 + equals.len() + end + close.len();
            let said = &inner[..end];
            let said = said.strip_prefix("\r\n").or_else(|| said.strip_prefix('\n')).unwrap_or(said);
            WordKind::Text(said.replace("\r\n", "\n"))
        } else if "=,;{}[].-".contains(first) {
            at += 1;
            WordKind::Symbol(first)
        } else {
            return wrong("it holds code");
        };
        words.push(Word { kind, start, end: at, line });
        line += text[start..at].matches('\n').count();
    }
    Ok(words)
}

/// What stands between the brackets that a long text begins with, such as `[==[`, and what follows them.
fn long_bracket(text: &str) -> Option<(&str, &str)> {
    let inner = text.strip_prefix('[')?;
    let equals = inner.find(|c| c != '=')?;
    Some((&inner[..equals], inner[equals..].strip_prefix('[')?))
}

/// The length of a text in quotes, with these.
fn quoted_length(text: &str, quote: char) -> Option<usize> {
    let mut is_escaped = false;
    for (at, c) in text.char_indices().skip(1) {
        match c {
            _ if is_escaped => is_escaped = false,
            '\\' => is_escaped = true,
            '\n' => return None,
            c if c == quote => return Some(at + 1),
            _ => {}
        }
    }
    None
}

/// How much of a text can belong to the number that it begins with.
fn number_length(text: &str) -> usize {
    let mut before = ' ';
    let is_hex = text.starts_with("0x") || text.starts_with("0X");
    let goes_on = |c: char, before: char| {
        let is_exponent = if is_hex { matches!(before, 'p' | 'P') } else { matches!(before, 'e' | 'E') };
        c.is_ascii_alphanumeric() || matches!(c, '.' | '_') || is_exponent && matches!(c, '+' | '-')
    };
    text.find(|c| !goes_on(c, std::mem::replace(&mut before, c))).unwrap_or(text.len())
}

fn is_number(word: &str) -> bool {
    let hex = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X"));
    let (digits, marks, is_digit): (&str, _, fn(char) -> bool) = match hex {
        Some(digits) => (digits, ['p', 'P'], |c| c.is_ascii_hexdigit()),
        None => (word, ['e', 'E'], |c| c.is_ascii_digit()),
    };
    let (mantissa, exponent) = match digits.split_once(marks) {
        Some((mantissa, exponent)) => (mantissa, Some(exponent)),
        None => (digits, None),
    };
    let is_exponent = |text: &str| {
        let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
        !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
    };
    mantissa.matches('.').count() < 2
        && mantissa.chars().any(is_digit)
        && mantissa.chars().all(|c| c == '.' || is_digit(c))
        && exponent.is_none_or(is_exponent)
}

/// What stands between quotes, with its escapes read; those of single bytes beyond ASCII stay as they are written.
fn unescaped(literal: &str) -> String {
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
