//! What of a list is shown: the option that all lists have, and how many rows there are.

use clap::Args;
use serde_json::Value;

use crate::show::counted;
use crate::show::human::{Page, list};

/// For commands that list.
#[derive(Debug, Clone, Default, Args)]
pub struct WithText {
    /// Only what has this text in its line, in capitals or not.
    #[arg(long, value_name = "TEXT")]
    with: Option<String>,
}

impl WithText {
    pub fn is_given(&self) -> bool {
        self.with.is_some()
    }

    /// Keeps the rows that have the text in one of their cells. `of`: how many there are without any filter.
    pub fn narrow<T>(&self, rows: Vec<T>, of: usize, cells: impl Fn(&T) -> Vec<String>) -> Narrowed<T> {
        let Some(text) = self.with.as_ref().map(|text| text.to_lowercase()) else { return Narrowed { rows, of } };
        let fits = |row: &T| cells(row).iter().any(|cell| cell.to_lowercase().contains(&text));
        Narrowed { rows: rows.into_iter().filter(fits).collect(), of }
    }
}

/// The rows that are shown, of how many.
pub struct Narrowed<T> {
    pub rows: Vec<T>,
    pub of: usize,
}

impl<T> Narrowed<T> {
    /// As a table, and where somebody reads it in a window, with the count below; `none` is said where there is nothing at
    /// all to list.
    pub fn show(&self, page: &mut Page, noun: &str, none: &str, headings: &[&str], cells: impl Fn(&T) -> Vec<String>) {
        match (self.rows.is_empty(), self.of) {
            (true, 0) => return page.hanging("", none),
            (true, _) => return page.line(&format!("No {noun} matches.")),
            (false, _) => {}
        }
        list(page, headings, self.rows.iter().map(cells).collect());
        if page.is_read_in_a_window() {
            page.blank();
            page.line(&self.count(noun));
        }
    }

    /// `12 sites`, or `3 of 12 sites`.
    pub fn count(&self, noun: &str) -> String {
        let all = counted(self.of, noun);
        if self.rows.len() == self.of { all } else { format!("{} of {all}", self.rows.len()) }
    }

    /// The counts beside the rows of a document.
    pub fn counts_into(&self, document: &mut Value) {
        document["shown"] = self.rows.len().into();
        document["of"] = self.of.into();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn narrowed(with: Option<&str>) -> Narrowed<&'static str> {
        let rows = vec!["crumbandtide.example", "lanternchoir.example", "gullrock.example"];
        let with = WithText { with: with.map(String::from) };
        with.narrow(rows, 3, |row| vec![row.to_string(), "bakery".into()])
    }

    fn shown(with: Option<&str>) -> String {
        let mut page = Page::of_width(80);
        narrowed(with).show(&mut page, "site", "No sites yet.", &["site"], |row| vec![row.to_string()]);
        page.plain()
    }

    #[test]
    fn rows_are_kept_by_their_text_and_counted() {
        assert_eq!(narrowed(Some("TIDE")).rows, ["crumbandtide.example"]);
        assert_eq!(narrowed(Some("Bakery")).rows.len(), 3);
        assert!(shown(Some("tide")).ends_with("crumbandtide.example\n\n1 of 3 sites\n"), "{}", shown(Some("tide")));
        assert!(shown(None).ends_with("\n3 sites\n"));
        assert_eq!(shown(Some("nowhere")), "No site matches.\n");
        let mut page = Page::of_width(80);
        let none = Narrowed { rows: Vec::<&str>::new(), of: 0 };
        none.show(&mut page, "site", "No sites yet.", &["site"], |row| vec![row.to_string()]);
        assert_eq!(page.plain(), "No sites yet.\n");
        let mut page = Page::of_width(80).unwrapped();
        narrowed(None).show(&mut page, "site", "", &["site"], |row| vec![row.to_string()]);
        assert!(!page.plain().contains("3 sites"), "programs read rows");
        let mut document = serde_json::json!({});
        narrowed(Some("gull")).counts_into(&mut document);
        assert_eq!(document, serde_json::json!({ "shown": 1, "of": 3 }));
    }
}
