//! Lists as tables: lined up by a blank margin, no lines drawn. Names and paths are never broken.

use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use textwrap::core::display_width;

use super::Page;

/// Between columns.
const MARGIN: usize = 2;

/// The answer of a command that lists things: a table, and where no terminal reads it, each row is one line.
pub fn list(page: &mut Page, headings: &[&str], rows: Vec<Vec<String>>) {
    let wrapped = page.is_read_in_a_window();
    lay_out(page, headings, rows, wrapped);
}

/// A table with a heading line, as a part of a report. Rows that do not fit are wrapped between the words of a cell; where
/// even that is too wide, each row becomes a few lines.
pub fn table(page: &mut Page, headings: &[&str], rows: Vec<Vec<String>>) {
    lay_out(page, headings, rows, true);
}

fn lay_out(page: &mut Page, headings: &[&str], rows: Vec<Vec<String>>, wrapped: bool) {
    let needed = |widest: &dyn Fn(&str) -> usize| -> Vec<usize> {
        let column = |at: usize| rows.iter().filter_map(|row| row.get(at)).map(|cell| widest(cell)).max().unwrap_or(0);
        headings.iter().enumerate().map(|(at, heading)| column(at).max(display_width(heading))).collect()
    };
    let whole = needed(&display_width);
    let words = needed(&|cell| cell.split_whitespace().map(display_width).max().unwrap_or(0));
    let total = |widths: &[usize]| widths.iter().sum::<usize>() + MARGIN * widths.len().saturating_sub(1);
    if wrapped && total(&words) > page.width() {
        return stacked(page, headings, &rows);
    }
    let fits = !wrapped || total(&whole) <= page.width();
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    table.set_content_arrangement(match fits {
        true => ContentArrangement::Disabled,
        false => ContentArrangement::Dynamic,
    });
    // The margin behind the last column is blank and cut off.
    table.set_width((page.width() + MARGIN) as u16);
    table.set_header(headings.to_vec());
    for row in rows {
        table.add_row(row);
    }
    for (column, longest) in table.column_iter_mut().zip(words) {
        column.set_padding((0, MARGIN as u16));
        if !fits {
            let least = Width::Fixed((longest + MARGIN) as u16);
            column.set_constraint(ColumnConstraint::LowerBoundary(least));
        }
    }
    for line in table.to_string().lines() {
        page.line(line);
    }
}

/// Each row as a block: its first cell, then every other one behind its heading.
fn stacked(page: &mut Page, headings: &[&str], rows: &[Vec<String>]) {
    let widest = headings.iter().skip(1).map(|heading| display_width(heading)).max().unwrap_or(0);
    for row in rows {
        let mut cells = row.iter();
        page.hanging("", cells.next().map_or("", String::as_str));
        for (heading, cell) in headings.iter().skip(1).zip(cells).filter(|(_, cell)| !cell.is_empty()) {
            page.hanging(&format!("  {heading:<widest$}  "), cell);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(mut page: Page) -> String {
        let row = |cells: [&str; 3]| cells.map(String::from).to_vec();
        let rows = vec![
            row(["crumbandtide.example and www", "forced", "/home/bakery/www/crumbandtide.example"]),
            row(["gullrock.example", "none", "/home/yard/www/gullrock.example"]),
        ];
        list(&mut page, &["site", "https", "document root"], rows);
        page.plain()
    }

    #[test]
    fn what_fits_is_lined_up_and_what_does_not_is_wrapped_between_words() {
        let wide = "\
site                          https   document root
crumbandtide.example and www  forced  /home/bakery/www/crumbandtide.example
gullrock.example              none    /home/yard/www/gullrock.example
";
        assert_eq!(shown(Page::of_width(100)), wide);
        let narrow = "\
site                  https   document root
crumbandtide.example  forced  /home/bakery/www/crumbandtide.example
and www
gullrock.example      none    /home/yard/www/gullrock.example
";
        assert_eq!(shown(Page::of_width(70)), narrow);
    }

    #[test]
    fn in_a_narrow_terminal_each_row_is_a_block_and_no_name_is_broken() {
        let blocks = "\
crumbandtide.example and www
  https          forced
  document root  /home/bakery/www/crumbandtide.example
gullrock.example
  https          none
  document root  /home/yard/www/gullrock.example
";
        assert_eq!(shown(Page::of_width(60)), blocks);
    }

    #[test]
    fn where_no_terminal_reads_it_each_row_is_one_line() {
        assert_eq!(shown(Page::of_width(40).unwrapped()).lines().count(), 3);
    }
}
