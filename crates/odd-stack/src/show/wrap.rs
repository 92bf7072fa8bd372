//! Long lines, broken between words where a terminal would break them within one.

use textwrap::core::{Word, display_width};
use textwrap::{Options, WordSeparator, WordSplitter, WrapAlgorithm};

/// Begins what a person may paste: nothing is broken from there on.
const COMMAND: &str = "oddstack ";

/// `text`, ready for the terminal, with no line wider than `width` columns where it can be broken between words. What
/// follows of a line is indented deeper. Commands stay whole, so that they can be pasted.
pub fn wrapped(text: &str, width: usize) -> String {
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        let (line, end) = match line.strip_suffix('\n') {
            Some(line) => (line, "\n"),
            None => (line, ""),
        };
        if display_width(line) <= width {
            out.push_str(line);
        } else {
            let indent = " ".repeat(line.len() - line.trim_start_matches(' ').len() + 2);
            let options = Options::new(width)
                .subsequent_indent(&indent)
                .break_words(false)
                .word_splitter(WordSplitter::NoHyphenation)
                .word_separator(WordSeparator::Custom(words))
                .wrap_algorithm(WrapAlgorithm::FirstFit);
            out.push_str(&textwrap::wrap(line, options).join("\n"));
        }
        out.push_str(end);
    }
    out
}

/// Words with the spaces behind them; what stands in backticks, and all that a person may paste, up to a gap, is one.
fn words(line: &str) -> Box<dyn Iterator<Item = Word<'_>> + '_> {
    let whole_from = match line.trim_start().starts_with("--") {
        true => line.len() - line.trim_start().len(),
        false => line.find(COMMAND).filter(|at| !in_backticks(line, *at)).unwrap_or(line.len()),
    };
    let whole_to = line[whole_from..].find("  ").map_or(line.len(), |gap| whole_from + gap);
    let mut start = 0;
    let mut is_quoted = false;
    let mut words = Vec::new();
    // The indentation is part of the first word.
    let indent = line.len() - line.trim_start_matches(' ').len();
    let mut letters = line.char_indices().skip(indent).peekable();
    while let Some((at, letter)) = letters.next() {
        is_quoted ^= letter == '`';
        let begins_word = letters.peek().is_some_and(|(_, next)| *next != ' ');
        if letter == ' ' && begins_word && !is_quoted && !(whole_from..whole_to).contains(&at) {
            words.push(Word::from(&line[start..=at]));
            start = at + 1;
        }
    }
    words.push(Word::from(&line[start..]));
    Box::new(words.into_iter())
}

fn in_backticks(line: &str, at: usize) -> bool {
    line[..at].matches('`').count() % 2 == 1
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_break_between_words_and_commands_stay_whole() {
        let row = "  harbour-core  1.2  above 12 files, and one more thing";
        let table = [
            ("short enough\nso is this", "short enough\nso is this"),
            (row, "  harbour-core  1.2  above 12\n    files, and one more thing"),
            (
                "note: to have it back, run `oddstack mend --restore game:data/a` and look again\n",
                "note: to have it back, run\n  `oddstack mend --restore game:data/a`\n  and look again\n",
            ),
            (
                "  keep it: oddstack mend --keep game:data/long/name.txt",
                "  keep it:\n    oddstack mend --keep game:data/long/name.txt",
            ),
            (
                "    --place 'Lamps of Brass/.=game:data/lamps'",
                "    --place 'Lamps of Brass/.=game:data/lamps'",
            ),
            (
                "  --keep-edits     save changed files that are in the way",
                "  --keep-edits     save\n    changed files that are in\n    the way",
            ),
            (
                "a-single-word-that-is-wider-than-it-should-be",
                "a-single-word-that-is-wider-than-it-should-be",
            ),
            // Two columns a letter.
            ("灯台の灯 灯台の灯 灯台の灯 灯台", "灯台の灯 灯台の灯 灯台の灯\n  灯台"),
            // Escapes take no room.
            (
                "\u{1b}[1mbold words of thirty columns!!\u{1b}[0m",
                "\u{1b}[1mbold words of thirty columns!!\u{1b}[0m",
            ),
        ];
        for (text, expected) in table {
            assert_eq!(wrapped(text, 30), expected, "{text}");
        }
    }
}
