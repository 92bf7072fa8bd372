//! The few styles of the output. The stream drops them where colours are not wanted.

use anstyle::{AnsiColor, Style};

use super::safe::STYLE;

pub const BOLD: Style = Style::new().bold();
pub const DIM: Style = Style::new().dimmed();
pub const GOOD: Style = AnsiColor::Green.on_default();
pub const WARN: Style = AnsiColor::Yellow.on_default();
pub const BAD: Style = AnsiColor::Red.on_default().bold();
pub const NAME: Style = AnsiColor::Cyan.on_default();

/// `text` in a style.
pub fn paint(style: Style, text: &str) -> String {
    let (begin, end) = (format!("{style}"), format!("{style:#}"));
    format!("{}{text}{}", ours(&begin), ours(&end))
}

/// A style as it stands in texts until they are sent to the terminal.
pub fn ours(style: &str) -> String {
    style.replace('\u{1b}', STYLE.encode_utf8(&mut [0; 4]))
}
