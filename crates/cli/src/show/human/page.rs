//! A page of text in the making: wrapping, hanging indents, styled words.

use std::io::IsTerminal;

use anstyle::{AnsiColor, Style};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::escape::harmless;

const WIDEST: usize = 100;

pub struct Page {
    text: Vec<u8>,
    width: usize,
    /// Whether somebody reads it in a window.
    in_window: bool,
    /// Whether it is a file printed back: nothing may be taken out of it on its way.
    is_file: bool,
}

impl Page {
    pub fn new() -> Self {
        let told = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
        let seen = || terminal_size::terminal_size().map(|(width, _)| width.0.into());
        let in_window = std::io::stdout().is_terminal();
        Self { in_window, ..Self::with_width(told.or_else(seen).unwrap_or(WIDEST)) }
    }

    fn with_width(width: usize) -> Self {
        Self { text: Vec::new(), width: width.clamp(40, WIDEST), in_window: true, is_file: false }
    }

    /// Columns to fill at most.
    pub fn width(&self) -> usize {
        self.width
    }

    pub fn is_read_in_a_window(&self) -> bool {
        self.in_window
    }

    pub fn is_file(&self) -> bool {
        self.is_file
    }

    pub fn into_bytes(self) -> Vec<u8> {
        self.text
    }

    /// Bytes as they are, of whatever kind: a file printed back. All else is made harmless.
    pub fn bytes(&mut self, bytes: &[u8]) {
        self.is_file = true;
        self.text.extend_from_slice(bytes);
    }

    /// One line that is not wrapped: for values that must be copied whole.
    pub fn line(&mut self, line: &str) {
        self.raw_line(&harmless(line.trim_end()));
    }

    fn raw_line(&mut self, line: &str) {
        self.text.extend_from_slice(line.trim_end().as_bytes());
        self.text.push(b'\n');
    }

    pub fn blank(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with(b"\n\n") {
            self.text.push(b'\n');
        }
    }

    /// A paragraph behind a prefix, its further lines under the first word.
    pub fn hanging(&mut self, prefix: &str, text: &str) {
        self.styled(&[(prefix, Style::new())], text);
    }

    /// The same behind several words, each in its style.
    pub fn styled(&mut self, prefix: &[(&str, Style)], text: &str) {
        let visible: usize = prefix.iter().map(|(word, _)| word.chars().count()).sum();
        let indent = " ".repeat(visible);
        let room = self.width.saturating_sub(visible).max(20);
        let text = harmless(text);
        let mut lines = textwrap::wrap(&text, wrapping(room)).into_iter();
        let mut first = String::new();
        for (word, style) in prefix {
            first.push_str(&format!("{style}{}{style:#}", harmless(word)));
        }
        self.raw_line(&(first + &lines.next().unwrap_or_default()));
        for line in lines {
            self.raw_line(&format!("{indent}{line}"));
        }
    }

    /// A line that stands out.
    pub fn heading(&mut self, text: &str) {
        let bold = Style::new().bold();
        for line in textwrap::wrap(&harmless(text), wrapping(self.width)) {
            self.raw_line(&format!("{bold}{line}{bold:#}"));
        }
    }
}

/// Between words only: a path or a name that is broken at a hyphen can no longer be copied.
fn wrapping(width: usize) -> textwrap::Options<'static> {
    textwrap::Options::new(width).break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation)
}

/// The style of a state; the word itself carries the meaning.
pub fn style_of(word: &str) -> Style {
    let color = match word {
        "holds" | "done" => AnsiColor::Green,
        "broken" | "fault" | "failed" => AnsiColor::Red,
        "risk" | "waiting" | "rolled back" => AnsiColor::Yellow,
        _ => return Style::new(),
    };
    Style::new().fg_color(Some(color.into()))
}

/// A moment as a person near this machine writes it; the date only if it is another day.
pub fn when(moment: Timestamp, now: Timestamp) -> String {
    let zone = TimeZone::system();
    let (moment, now) = (moment.to_zoned(zone.clone()), now.to_zoned(zone));
    if moment.date() == now.date() {
        moment.strftime("%H:%M:%S").to_string()
    } else {
        moment.strftime("%Y-%m-%d %H:%M").to_string()
    }
}

#[cfg(test)]
impl Page {
    /// What stands on the page, without styles.
    pub fn plain(self) -> String {
        anstream::adapter::strip_str(&String::from_utf8(self.text).unwrap()).to_string()
    }

    pub fn of_width(width: usize) -> Self {
        Self::with_width(width)
    }

    /// As where no terminal reads it.
    pub fn unwrapped(self) -> Self {
        Self { in_window: false, ..self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn further_lines_stand_under_the_first_word_and_long_words_stay_whole() {
        let mut page = Page::of_width(40);
        page.hanging("error: ", "the path /home/bakery/www/a-rather-long-name.crumbandtide.example is not there");
        let expected =
            "error: the path\n       /home/bakery/www/a-rather-long-name.crumbandtide.example\n       is not there\n";
        assert_eq!(page.plain(), expected);
    }

    #[test]
    fn strangers_cannot_style_or_break_lines_and_files_are_printed_back_as_they_are() {
        let mut page = Page::of_width(80);
        page.line("\x1b[2Jone\ntwo");
        page.hanging("error: ", "\x1b[8mthree\nerror: four");
        page.heading("five\x07");
        let green = style_of("holds");
        page.styled(&[("  ", Style::new()), ("holds", green)], " \x1b[31mbroken");
        let text = String::from_utf8(page.into_bytes()).unwrap();
        let bold = Style::new().bold();
        let expected = format!(
            "\\x1b[2Jone\\ntwo\nerror: \\x1b[8mthree\\nerror: four\n{bold}five\\x07{bold:#}\n  {green}holds{green:#} \\x1b[31mbroken\n"
        );
        assert_eq!(text, expected);
        let mut page = Page::of_width(80);
        page.bytes(b"\x1b[2J\r\n\xff");
        assert_eq!(page.into_bytes(), b"\x1b[2J\r\n\xff");
    }

    #[test]
    fn blank_lines_do_not_pile_up_and_widths_are_bounded() {
        let mut page = Page::of_width(5_000);
        page.blank();
        page.line("one  ");
        page.blank();
        page.blank();
        page.line("two");
        assert_eq!((page.width(), page.plain().as_str()), (100, "one\n\ntwo\n"));
        assert_eq!(Page::of_width(3).width(), 40);
    }

    #[test]
    fn another_day_is_shown_with_its_date() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let now = at("2026-11-23T12:00:00Z");
        assert_eq!(when(at("2026-11-23T12:00:05Z"), now).len(), "12:00:05".len());
        assert!(when(at("2026-11-27T12:00:05Z"), now).starts_with("2026-11-27 "));
    }
}
