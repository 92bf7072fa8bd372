//! What comes from packages, disks and programs, made safe to show: it may hold sequences that drive a terminal, letters
//! that turn the direction of writing, or separators that forge lines.
//!
//! Styles of our own are told apart by their first letter, which stands for the escape until the very end
//! ([`STYLE`], a code point that no text has: Unicode 16, section 23.7).

use std::fmt::Write;

/// Begins our own styles in place of the escape.
pub const STYLE: char = '\u{fdd0}';

/// Whether a letter is shown by its number instead.
fn is_unsafe(letter: char) -> bool {
    match letter {
        '\n' => false,
        '\u{61c}'
        | '\u{180e}'
        | '\u{200e}'
        | '\u{200f}'
        | '\u{2028}'..='\u{202e}'
        | '\u{2060}'..='\u{206f}'
        | '\u{feff}'
        | '\u{fdd0}'..='\u{fdef}'
        | '\u{fff9}'..='\u{fffb}'
        | '\u{e0000}'..='\u{e007f}' => true,
        letter => letter.is_control(),
    }
}

fn escape(letter: char, into: &mut String) {
    match letter {
        '\n' => into.push_str("\\n"),
        '\t' => into.push_str("\\t"),
        '\r' => into.push_str("\\r"),
        // Writing to a text can't fail.
        letter => drop(write!(into, "\\u{{{:x}}}", letter as u32)),
    }
}

/// A text that stays on its line, with nothing in it that a terminal acts on.
pub fn one_line(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for letter in text.chars() {
        if letter == '\n' || is_unsafe(letter) { escape(letter, &mut safe) } else { safe.push(letter) }
    }
    safe
}

/// What this program itself has written for a terminal, with its styles told apart again; all else in it is safe already.
pub fn as_own(written: &str) -> String {
    written.replace('\u{1b}', &STYLE.to_string())
}

/// As it is sent to a terminal: our own styles, and all else with nothing in it that a terminal acts on but the ends of
/// lines.
pub fn for_terminal(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(letter) = rest.chars().next() {
        let after = &rest[letter.len_utf8()..];
        match style_length(after).filter(|_| letter == STYLE) {
            Some(length) => {
                safe.push('\u{1b}');
                safe.push_str(&after[..length]);
                rest = &after[length..];
            }
            None => {
                if is_unsafe(letter) {
                    escape(letter, &mut safe)
                } else {
                    safe.push(letter)
                }
                rest = after;
            }
        }
    }
    safe
}

/// How long the rest of a sequence is that only sets weight or colour of letters (ECMA-48, section 8.3.117).
fn style_length(text: &str) -> Option<usize> {
    const KNOWN: [&str; 12] = ["", "0", "1", "2", "22", "31", "32", "33", "36", "39", "38;5;", "49"];
    let inner = text.strip_prefix('[')?;
    let end = inner.find('m')?;
    let numbers = &inner[..end];
    let is_known = KNOWN.contains(&numbers)
        || numbers.strip_prefix("38;5;").is_some_and(|number| number.parse::<u8>().is_ok());
    is_known.then_some(end + 2)
}

/// JSON in which the same letters are written by their numbers.
pub fn json(text: &str) -> String {
    // Windows PowerShell 5 reads what a program writes in the console's code page, which has few letters.
    let is_by_number = |letter: char| is_unsafe(letter) || cfg!(windows) && !letter.is_ascii();
    by_numbers(text, is_by_number, |letter, safe| {
        for unit in letter.encode_utf16(&mut [0; 2]) {
            // Writing to a text can't fail.
            let _ = write!(safe, "\\u{unit:04x}");
        }
    })
}

/// TOML in which the same letters are written by their numbers.
pub fn toml(text: &str) -> String {
    by_numbers(text, is_unsafe, |letter, safe| {
        // Writing to a text can't fail.
        let _ = write!(safe, "\\U{:08x}", letter as u32);
    })
}

fn by_numbers(text: &str, is_by_number: impl Fn(char) -> bool, write: impl Fn(char, &mut String)) -> String {
    let mut safe = String::with_capacity(text.len());
    for letter in text.chars() {
        if is_by_number(letter) { write(letter, &mut safe) } else { safe.push(letter) }
    }
    safe
}

#[cfg(test)]
mod tests {
    use super::super::style::{WARN, paint};
    use super::*;

    #[test]
    fn nothing_of_a_stranger_drives_the_terminal() {
        let hostile = "a\u{1b}[2Jb\u{9b}31mc\u{202e}d\u{7}e\u{2028}f\u{fdd0}[2Jg\rh\u{e0041}";
        let told = for_terminal(hostile);
        assert!(told.chars().all(|letter| letter == '\n' || !is_unsafe(letter)), "{told:?}");
        assert!(told.contains("\\u{1b}[2J") && told.contains("\\u{202e}") && told.contains("\\r"), "{told}");
        assert_eq!(one_line("a\nb\tc"), "a\\nb\\tc");
        let painted = for_terminal(&paint(WARN, "x\u{1b}[0my"));
        assert_eq!(painted, "\u{1b}[38;5;166mx\\u{1b}[0my\u{1b}[0m");
        for letters in ["Größe", "図書館", "שלום", "👩‍🚀", "a\nb"] {
            assert_eq!(for_terminal(letters), letters);
        }
        let object =
            serde_json::to_string(&serde_json::json!({ "a\u{9b}": "\u{1b}\u{202e}\u{e0041}" })).unwrap();
        let read: serde_json::Value = serde_json::from_str(&json(&object)).unwrap();
        assert_eq!(read["a\u{9b}"], "\u{1b}\u{202e}\u{e0041}");
        assert!(json(&object).is_ascii());
        let sheet =
            toml::to_string(&toml::Table::from_iter([("a".to_owned(), "\u{9b}\u{e0041}".into())])).unwrap();
        assert_eq!(toml(&sheet).parse::<toml::Table>().unwrap()["a"].as_str(), Some("\u{9b}\u{e0041}"));
    }
}
