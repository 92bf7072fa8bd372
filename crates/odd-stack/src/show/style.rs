//! The few styles of the output. The stream drops them where colours are not wanted.

use anstyle::{Ansi256Color, Style};

use super::safe::STYLE;

pub const BOLD: Style = Style::new().bold();
pub const DIM: Style = Style::new().dimmed();
pub const GOOD: Style = GREEN.on_default();
pub const WARN: Style = ORANGE.on_default();
pub const BAD: Style = RED.on_default().bold();
pub const NAME: Style = BLUE.on_default();

// Of the 256 colours of terminals, those that stand out alike (about 4 to 1) from white and from dark grey: the usual sixteen are
// hardly read on one of the two.
pub const GREEN: Ansi256Color = Ansi256Color(28);
pub const ORANGE: Ansi256Color = Ansi256Color(166);
pub const RED: Ansi256Color = Ansi256Color(196);
pub const BLUE: Ansi256Color = Ansi256Color(31);

/// `text` in a style.
pub fn paint(style: Style, text: &str) -> String {
    let (begin, end) = (format!("{style}"), format!("{style:#}"));
    format!("{}{text}{}", ours(&begin), ours(&end))
}

/// A style as it stands in texts until they are sent to the terminal.
pub fn ours(style: &str) -> String {
    style.replace('\u{1b}', STYLE.encode_utf8(&mut [0; 4]))
}
