//! Rows in columns, without lines between them.

use comfy_table::presets::NOTHING;
use comfy_table::{
    Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Table, Width,
};
use unicode_width::UnicodeWidthStr;

use super::safe::one_line;
use super::style::{BLUE, GREEN, ORANGE, ours};

/// How one cell looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
    Plain,
    Name,
    Good,
    Warn,
    Dim,
    Right,
}

/// The cells of one row.
pub type Row = Vec<Cell>;

/// One cell.
pub fn cell(text: impl Into<String>, look: Look) -> Cell {
    let text = one_line(&text.into());
    let is_empty = text.is_empty();
    let cell = Cell::new(text);
    match look {
        // Styles of nothing would keep spaces at the ends of lines.
        _ if is_empty => cell,
        Look::Plain => cell,
        Look::Name => cell.fg(Color::AnsiValue(BLUE.index())),
        Look::Good => cell.fg(Color::AnsiValue(GREEN.index())),
        Look::Warn => cell.fg(Color::AnsiValue(ORANGE.index())),
        Look::Dim => cell.add_attribute(Attribute::Dim),
        Look::Right => cell.set_alignment(CellAlignment::Right),
    }
}

/// Rows in columns two spaces apart, indented by two; a header unless `header` is empty.
pub fn table(header: &[(&str, Look)], rows: Vec<Vec<Cell>>) -> String {
    let mut table = unruled();
    if !header.is_empty() {
        let cells = header.iter().map(|(name, look)| {
            let cell = Cell::new(*name).add_attribute(Attribute::Dim);
            if *look == Look::Right { cell.set_alignment(CellAlignment::Right) } else { cell }
        });
        table.set_header(cells);
    }
    table.add_rows(rows);
    lines_of(table, &[])
}

/// As [`table`] without a header, of rows that may be very many: they are laid out part by part, since a table that is laid out takes
/// twenty times the room of its text.
pub fn long_table<const N: usize>(
    rows: impl ExactSizeIterator<Item = [(String, Look); N]> + Clone,
) -> String {
    let mut widths = [0; N];
    if rows.len() > LAID_OUT_AT_ONCE {
        for row in rows.clone() {
            widths
                .iter_mut()
                .zip(&row)
                .for_each(|(width, (text, _))| *width = (*width).max(shown_width(text)));
        }
    }
    let mut rows = rows.map(|row| row.map(|(text, look)| cell(text, look)));
    let mut text = String::new();
    while rows.len() > 0 {
        let mut table = unruled();
        table.add_rows(rows.by_ref().take(LAID_OUT_AT_ONCE));
        text.push_str(&lines_of(table, &widths));
    }
    text
}

/// How wide a cell of that text is.
fn shown_width(text: &str) -> usize {
    match text.bytes().all(|byte| matches!(byte, b' '..=b'~')) {
        true => text.len(),
        false => one_line(text).width(),
    }
}

/// Rows of a long table that are laid out at once.
const LAID_OUT_AT_ONCE: usize = 1024;
const GAP: u16 = 2;

fn unruled() -> Table {
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled).enforce_styling();
    table.style_text_only();
    table
}

/// Its lines; columns are no narrower than said.
fn lines_of(mut table: Table, widths: &[usize]) -> String {
    for (at, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, GAP));
        if let Some(width) = widths.get(at).and_then(|width| u16::try_from(*width).ok()) {
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(width.saturating_add(GAP))));
        }
    }
    // All escapes are the table's own, since cells have none.
    let lines = table.lines().map(|line| format!("  {}\n", ours(line.trim_end())));
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_table_looks_as_one_in_one_piece() {
        let rows = |count: usize| {
            (0..count).map(|number| {
                let name = "n".repeat(number * 7 % 23)
                    + if number == 1_500 { "\u{5927}\u{304d}\u{3044} and longest of all" } else { "" };
                [
                    ("add".to_owned(), Look::Good),
                    (name, Look::Plain),
                    (number.to_string(), Look::Right),
                    (String::new(), Look::Dim),
                ]
            })
        };
        for count in [0, 1, LAID_OUT_AT_ONCE, 2 * LAID_OUT_AT_ONCE + 1] {
            let cells =
                |row: [_; 4]| row.into_iter().map(|(text, look): (String, _)| cell(text, look)).collect();
            assert_eq!(long_table(rows(count)), table(&[], rows(count).map(cells).collect()));
        }
    }
}
