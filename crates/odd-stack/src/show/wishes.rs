//! What layers want `play` to start and to clear, in words; all of it is shown, since it may be a stranger's.

use odd_stack_core::jobs::{ClearRow, StartRow};

use super::style::{WARN, paint};
use super::units::{files, size};

/// Addresses that are named of what would be cleared.
const MOST_NAMED: usize = 4;

/// Lines on both, each with what it does to whom.
pub fn wishes(starts: &[StartRow], clears: &[ClearRow]) -> String {
    let mut text = String::new();
    for start in starts {
        let line =
            format!("  runs code: `oddstack play` would start {}, once you agree\n", start_words(start));
        text.push_str(&paint(WARN, &line));
    }
    for clear in clears {
        text.push_str(&paint(WARN, &format!("  `oddstack play` would clear {}\n", clear_words(clear))));
    }
    text
}

/// The program with its environment and all that is given to it.
pub fn start_words(start: &StartRow) -> String {
    let words = std::iter::once(&start.program).chain(&start.arguments);
    let words: Vec<String> = words.map(|word| quoted(word)).collect();
    let mut text = words.join(" ");
    if !start.environment.is_empty() {
        text.push_str(&format!(" with {}", environment_words(start.environment.iter())));
    }
    text.push_str(&loads_words(&start.loads_code));
    text
}

/// `A=b C=d`.
pub fn environment_words<'a>(environment: impl Iterator<Item = (&'a String, &'a String)>) -> String {
    environment.map(|(name, value)| format!("{name}={}", quoted(value))).collect::<Vec<_>>().join(" ")
}

/// Which variables make other code load.
pub fn loads_words(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [only] => format!(" ({only} makes it load other code)"),
        several => format!(" ({} make it load other code)", several.join(", ")),
    }
}

/// `cache/**: 3 files now (1.2 MB): game:cache/a, ...`.
pub fn clear_words(clear: &ClearRow) -> String {
    if let Some(reason) = &clear.refused {
        return format!("{}, and never will: {reason}", clear.pattern);
    }
    if clear.files.files == 0 {
        return format!("{} after each change (no files now)", clear.pattern);
    }
    let named: Vec<&str> = clear.addresses.iter().take(MOST_NAMED).map(String::as_str).collect();
    let more = clear.addresses.len() - named.len();
    let more = if more > 0 { format!(", and {more} more") } else { String::new() };
    let count = format!("{} now ({})", files(clear.files.files), size(clear.files.bytes));
    format!("{} after each change, {count}: {}{more}", clear.pattern, named.join(", "))
}

fn quoted(word: &str) -> String {
    let is_plain =
        !word.is_empty() && !word.contains(|c: char| c.is_whitespace() || "'\"\\$`;&|<>()".contains(c));
    if is_plain { word.to_owned() } else { format!("{word:?}") }
}
