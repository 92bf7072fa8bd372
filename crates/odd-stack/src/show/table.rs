//! Rows in columns, without lines between them.

use comfy_table::presets::NOTHING;
use comfy_table::{Attribute, Cell, CellAlignment, Color, ContentArrangement, Table};

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
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled).enforce_styling();
    table.style_text_only();
    if !header.is_empty() {
        let cells = header.iter().map(|(name, look)| {
            let cell = Cell::new(*name).add_attribute(Attribute::Dim);
            if *look == Look::Right { cell.set_alignment(CellAlignment::Right) } else { cell }
        });
        table.set_header(cells);
    }
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    // All escapes are the table's own, since cells have none.
    let lines = table.lines().map(|line| format!("  {}\n", ours(line.trim_end())));
    lines.collect()
}
