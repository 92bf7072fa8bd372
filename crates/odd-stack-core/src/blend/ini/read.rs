//! Reading configuration by lines: what is a section, a key, a value, and what belongs together.

use std::borrow::Cow;
use std::ops::Range;

/// What stands on one or, where a value goes on, several lines.
#[derive(Debug, Clone)]
pub(super) struct Piece {
    /// All of it, with its line ends.
    pub text: String,
    /// The number of the section that it belongs to; 0 before the first.
    pub section: usize,
    pub kind: Kind,
    /// The folded name of what it says, and what it says; nothing for what says nothing.
    pub said: Option<(String, String)>,
}

impl Piece {
    fn new(text: String, section: usize, kind: Kind) -> Self {
        let mut piece = Self { text, section, kind, said: None };
        piece.note_said();
        piece
    }

    /// Takes a line for a part of its value.
    fn go_on(&mut self, line: &str) {
        self.text.push_str(line);
        let end = self.text.trim_end().len();
        if let Kind::Value { value, whole, .. } = &mut self.kind {
            let start = if whole.start == whole.end { end - line.trim().len() } else { whole.start };
            (*value, *whole) = (start..end, start..end);
        }
        self.note_said();
    }

    fn note_said(&mut self) {
        self.said = match &self.kind {
            Kind::Value { name, whole, .. } => {
                Some((name.to_lowercase(), self.text[whole.clone()].replace("\r\n", "\n")))
            }
            Kind::Bare => Some((BARE.to_owned(), self.text.trim().to_owned())),
            Kind::Plain | Kind::Head => None,
        };
    }
}

/// The name of what has none: lines of bare words.
pub(super) const BARE: &str = "\u{1}";

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Kind {
    /// A blank line or a comment.
    Plain,
    /// The line that begins a section.
    Head,
    /// A key and its value.
    Value {
        name: String,
        /// The value without a comment behind it.
        value: Range<usize>,
        /// All that stands behind the separator, without blanks around it.
        whole: Range<usize>,
    },
    /// Words without a value.
    Bare,
}

/// The lines of a file as they belong together.
#[derive(Debug, Clone)]
pub(super) struct Pieces {
    pub list: Vec<Piece>,
    /// How each section is spelled; the first has no name.
    pub sections: Vec<String>,
    /// `=` or `:`; a blank where keys and values are just words.
    pub separator: char,
}

/// Words after which the next is a part of the key, as consoles of games have them.
const VERBS: [&str; 8] = ["set", "seta", "sets", "setu", "bind", "alias", "cvar", "var"];

impl Pieces {
    /// # Errors
    /// Why it is no configuration of that kind.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        let separator = separator_of(text);
        let lines: Vec<&str> = text.split_inclusive('\n').collect();
        let mut pieces = Self { list: Vec::new(), sections: vec![String::new()], separator };
        // The indentation of the line before, and whether it could hold what is indented deeper.
        let mut before: Option<(usize, bool)> = None;
        let mut at = 0;
        while at < lines.len() {
            let line = lines[at];
            let bare = line.trim();
            let indent = line.len() - line.trim_start().len();
            let mut count = 1;
            let kind = if bare.is_empty() || is_comment(bare) {
                Kind::Plain
            } else if let Some(name) = section_of(bare) {
                let closed = name.strip_prefix('/').map(str::trim);
                if closed
                    .is_some_and(|closed| pieces.sections.iter().any(|own| own.eq_ignore_ascii_case(closed)))
                {
                    return Err(format!("line {}: its sections lie in one another", at + 1));
                }
                pieces.sections.push(name.to_owned());
                before = None;
                Kind::Head
            } else if let Some((name, from)) = key_in(line, separator) {
                if before.is_some_and(|(above, holds)| holds && indent > above) {
                    let is_key = name.chars().all(|c| c.is_alphanumeric() || "_.-".contains(c));
                    if let (false, Some(last)) = (is_key, pieces.list.last_mut())
                        && matches!(last.kind, Kind::Value { .. })
                    {
                        last.go_on(line);
                        at += 1;
                        continue;
                    }
                    return Err(format!("line {}: its lines lie in one another", at + 1));
                }
                count = lines_of_value(&lines[at..], from);
                let text = together(&lines[at..at + count]);
                let (value, whole) = value_in(&text, from);
                before = Some((indent, whole.is_empty()));
                Kind::Value { name: name.into_owned(), value, whole }
            } else if let (Some((above, _)), Some(last)) = (before, pieces.list.last_mut())
                && indent > above
                && matches!(last.kind, Kind::Value { .. })
            {
                last.go_on(line);
                at += 1;
                continue;
            } else if bare.starts_with(['{', '}', '<']) {
                return Err(format!("line {}: its lines lie in one another", at + 1));
            } else {
                before = Some((indent, true));
                Kind::Bare
            };
            let section = pieces.sections.len() - 1;
            pieces.list.push(Piece::new(together(&lines[at..at + count]).into_owned(), section, kind));
            at += count;
        }
        match pieces.is_mostly_keys() {
            true => Ok(pieces),
            false => Err("most of its lines are no `key=value`".to_owned()),
        }
    }

    /// Whether keys are what it is made of.
    fn is_mostly_keys(&self) -> bool {
        let said = self.list.iter().filter(|piece| piece.kind != Kind::Plain);
        let (said, bare) =
            said.fold((0, 0), |(said, bare), piece| (said + 1, bare + usize::from(piece.kind == Kind::Bare)));
        bare * 4 <= said
    }
}

fn together<'t>(lines: &[&'t str]) -> Cow<'t, str> {
    match lines {
        [one] => Cow::Borrowed(one),
        several => Cow::Owned(several.concat()),
    }
}

/// What stands between keys and values in most lines.
fn separator_of(text: &str) -> char {
    let said: Vec<&str> = text
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty() && !is_comment(line) && !line.starts_with('['))
        .collect();
    let count = |separator: char| said.iter().filter(|line| key_in(line, separator).is_some()).count();
    let (equals, colons) = (count('='), count(':'));
    if equals == 0 && colons > 0 && colons * 10 >= said.len() * 9 {
        return ':';
    }
    let words = || said.iter().filter(|line| are_words(line)).count();
    if equals * 10 < said.len() * 9 && said.len() > 1 && words() * 10 >= said.len() * 9 { ' ' } else { '=' }
}

/// Whether a line is a key and a value without anything between, such as `fog 3` or `seta name "Keeper"`; sentences are
/// not.
fn are_words(line: &str) -> bool {
    let mut words = line.split_whitespace();
    let Some(first) = words.next() else { return false };
    let is_name = |word: &str| word.chars().all(|c| c.is_ascii_alphanumeric() || "_.+-\"/".contains(c));
    let is_verb = VERBS.iter().any(|verb| first.eq_ignore_ascii_case(verb));
    let rest: Vec<&str> = if is_verb { words.skip(1).collect() } else { words.collect() };
    let is_value = |word: &&str| word.parse::<f64>().is_ok() || word.starts_with('"') || rest.len() == 1;
    is_name(first) && rest.first().is_some_and(is_value)
}

pub(super) fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    // `! words` is a comment of property files, `!Key=value` a form of a key.
    let is_remark = |rest: &str| rest.starts_with([' ', '\t']) && !rest.contains('=');
    line.starts_with([';', '#']) || line.starts_with("//") || line.strip_prefix('!').is_some_and(is_remark)
}

/// The name of the section that a line begins.
fn section_of(bare: &str) -> Option<&str> {
    let (name, rest) = bare.strip_prefix('[')?.split_once(']')?;
    (rest.trim().is_empty() || is_comment(rest)).then_some(name.trim())
}

/// The key of a line, and where what stands behind the separator begins.
fn key_in(line: &str, separator: char) -> Option<(Cow<'_, str>, usize)> {
    let bare = line.trim_start();
    if is_comment(bare) || bare.starts_with(['[', '<', '{', '}']) {
        return None;
    }
    let indent = line.len() - bare.len();
    if separator != ' ' {
        let cut = line.find(separator)?;
        let name = line[..cut].trim();
        return (!name.is_empty()).then(|| (Cow::Borrowed(name), cut + 1));
    }
    let word_end = |from: usize| {
        let rest = &line[from..];
        from + rest.find(char::is_whitespace).unwrap_or(rest.trim_end().len())
    };
    let mut end = word_end(indent);
    if VERBS.iter().any(|verb| line[indent..end].eq_ignore_ascii_case(verb)) {
        let second = end + (line[end..].len() - line[end..].trim_start().len());
        end = word_end(second);
    }
    let name = line[indent..end].split_whitespace().collect::<Vec<_>>().join(" ");
    (!line[end..].trim().is_empty()).then_some((Cow::Owned(name), end))
}

/// Over how many lines a value goes that begins in the first: those that end in a backslash, and as long as a quote or a
/// bracket with which it begins is open. What is never closed is one line.
fn lines_of_value(lines: &[&str], from: usize) -> usize {
    const MOST_LINES: usize = 5000;
    let mut count = 1;
    while count < lines.len() && lines[count - 1].trim_end().ends_with('\\') {
        count += 1;
    }
    let value = lines[0].get(from..).unwrap_or_default().trim_start();
    let Some(open) = value.chars().next().filter(|c| matches!(c, '"' | '(' | '{')) else { return count };
    let close = match open {
        '(' => ')',
        '{' => '}',
        quote => quote,
    };
    let mut depth = 0i64;
    for (at, line) in lines.iter().take(MOST_LINES).enumerate() {
        let text = if at == 0 { value } else { line };
        let is_other =
            at > 0 && (section_of(line.trim()).is_some() || (open == '"' && key_in(line, '=').is_some()));
        if is_other {
            break;
        }
        for c in text.chars() {
            match c {
                c if c == open && open == close => depth = 1 - depth,
                c if c == open => depth += 1,
                c if c == close => depth -= 1,
                _ => {}
            }
        }
        if depth <= 0 {
            return count.max(at + 1);
        }
    }
    count
}

/// The value that begins behind the separator without a comment behind it, and with it; both without blanks around them.
fn value_in(text: &str, from: usize) -> (Range<usize>, Range<usize>) {
    let rest = &text[from..];
    let start = from + (rest.len() - rest.trim_start_matches([' ', '\t']).len());
    let whole = text[start..].trim_end();
    let end = start + comment_in(whole).map_or(whole.len(), |at| whole[..at].trim_end().len());
    (start..end, start..start + whole.len())
}

/// Where a comment begins behind a value: outside of quotes, with a blank before it. `#` must have one behind it too, for
/// numbers and colours begin with it.
fn comment_in(value: &str) -> Option<usize> {
    let mut quote = None;
    let mut before = ' ';
    for (at, c) in value.char_indices() {
        let is_blank = before.is_whitespace() && at > 0;
        match quote {
            Some(open) if c == open => quote = None,
            Some(_) => {}
            None if c == '"' => quote = Some('"'),
            // Elsewhere it is an apostrophe.
            None if c == '\'' && (is_blank || at == 0) => quote = Some('\''),
            None if is_blank && (c == ';' || value[at..].starts_with("//")) => return Some(at),
            None if is_blank && c == '#' && value[at + 1..].starts_with([' ', '\t']) => return Some(at),
            None => {}
        }
        before = c;
    }
    None
}
