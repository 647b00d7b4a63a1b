//! Lists as tables: lined up by a blank margin, no lines drawn.

use comfy_table::{ContentArrangement, Table, presets};

use super::Page;

/// A table with a heading line. Rows that do not fit are wrapped inside their column.
pub fn table(page: &mut Page, headings: &[&str], rows: Vec<Vec<String>>) {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    table.set_content_arrangement(ContentArrangement::Dynamic).set_width(page.width() as u16);
    table.set_header(headings.to_vec());
    for row in rows {
        table.add_row(row);
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    for line in table.to_string().lines() {
        page.line(line);
    }
}
