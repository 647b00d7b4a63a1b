//! Splits a master file into logical lines and their tokens (RFC 1035 section 5.1): comments, quotes, escapes and
//! parentheses, without reading any meaning into them.
//!
//! Works on bytes: a zone file may hold any. `document` gives the tokens their meaning.

use std::ops::Range;

use super::error::{ZoneError, ZoneProblem};

/// One token; the span leaves out the quotes of a quoted string.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Token {
    pub span: Range<usize>,
    pub quoted: bool,
}

/// A line with its tokens; several physical lines where parentheses join them. Filled again and again, so that a
/// large zone costs few allocations.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct LogicalLine {
    /// From the first byte to behind the line end.
    pub span: Range<usize>,
    /// Whether it begins with a blank: then the owner is left out.
    pub indented: bool,
    pub newlines: usize,
    pub tokens: Vec<Token>,
}

/// Reads the logical line at `start` into `line`; `false` at the end of the input.
pub(super) fn logical_line(source: &[u8], start: usize, line: &mut LogicalLine) -> Result<bool, ZoneError> {
    line.tokens.clear();
    line.newlines = 0;
    if start >= source.len() {
        return Ok(false);
    }
    let mut opened_at: Option<usize> = None;
    let mut depth = 0_usize;
    let mut at = start;
    while at < source.len() {
        match source[at] {
            b'\n' => {
                at += 1;
                line.newlines += 1;
                if opened_at.is_none() {
                    break;
                }
            }
            // Alone it ends a line as well.
            b'\r' if source.get(at + 1) != Some(&b'\n') => {
                at += 1;
                if opened_at.is_none() {
                    break;
                }
            }
            b' ' | b'\t' | b'\r' => at += 1,
            b';' => at += source[at..].iter().position(|&b| b == b'\n').unwrap_or(source.len() - at),
            b'(' => {
                opened_at.get_or_insert(at);
                depth += 1;
                at += 1;
            }
            b')' => {
                if depth == 0 {
                    return Err(ZoneError::at(source, at..at + 1, ZoneProblem::StrayParenthesis));
                }
                depth -= 1;
                if depth == 0 {
                    opened_at = None;
                }
                at += 1;
            }
            b'"' => {
                let end = end_of_quoted(source, at)?;
                line.tokens.push(Token { span: at + 1..end, quoted: true });
                at = end + 1;
            }
            _ => {
                let end = end_of_word(source, at);
                line.tokens.push(Token { span: at..end, quoted: false });
                at = end;
            }
        }
    }
    if let Some(opened) = opened_at {
        return Err(ZoneError::at(source, opened..opened + 1, ZoneProblem::OpenParenthesis));
    }
    line.indented = matches!(source[start], b' ' | b'\t');
    line.span = start..at;
    Ok(true)
}

fn end_of_quoted(source: &[u8], open: usize) -> Result<usize, ZoneError> {
    let mut at = open + 1;
    while at < source.len() {
        match source[at] {
            b'"' => return Ok(at),
            b'\\' => at += 2,
            b'\n' => break,
            _ => at += 1,
        }
    }
    Err(ZoneError::at(source, open..open + 1, ZoneProblem::OpenQuote))
}

fn end_of_word(source: &[u8], start: usize) -> usize {
    let mut at = start;
    while at < source.len() {
        match source[at] {
            b' ' | b'\t' | b'\r' | b'\n' | b';' | b'(' | b')' | b'"' => break,
            b'\\' if at + 1 < source.len() && source[at + 1] != b'\n' => at += 2,
            _ => at += 1,
        }
    }
    at.min(source.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<String> {
        let mut line = LogicalLine::default();
        assert!(logical_line(text.as_bytes(), 0, &mut line).unwrap());
        line.tokens.iter().map(|token| text[token.span.clone()].to_string()).collect()
    }

    #[test]
    fn comments_quotes_and_parentheses() {
        assert_eq!(words("www 300 IN A 192.0.2.1 ; bakery\nnext"), ["www", "300", "IN", "A", "192.0.2.1"]);
        assert_eq!(words("t TXT \"a ; b\" c\\;d"), ["t", "TXT", "a ; b", "c\\;d"]);
        assert_eq!(words("@ SOA ns host (\n 1 ; serial\n 2 )\nnext"), ["@", "SOA", "ns", "host", "1", "2"]);
        assert_eq!(words("a\"b\"c"), ["a", "b", "c"]);
    }

    #[test]
    fn a_carriage_return_alone_ends_a_line_but_no_comment() {
        let ends = |text: &str| {
            let mut line = LogicalLine::default();
            logical_line(text.as_bytes(), 0, &mut line).unwrap();
            line.span.end
        };
        assert_eq!((ends("a A 192.0.2.1\rb"), ends("a A 192.0.2.1\r\nb"), ends("a A 192.0.2.1\r")), (14, 15, 14));
        assert_eq!((ends("a ; c\rd\ne"), ends("a (\rb )\rc")), (8, 8));
    }

    #[test]
    fn what_is_left_open_is_told_with_its_place() {
        let problem = |text: &str| {
            let error = logical_line(text.as_bytes(), 0, &mut LogicalLine::default()).unwrap_err();
            (error.line, error.column, error.problem)
        };
        assert_eq!(problem("a (\nb"), (1, 3, ZoneProblem::OpenParenthesis));
        assert_eq!(problem("a )"), (1, 3, ZoneProblem::StrayParenthesis));
        assert_eq!(problem("a ( ( b )\n"), (1, 3, ZoneProblem::OpenParenthesis));
        assert_eq!(problem("t TXT \"open\nnext"), (1, 7, ZoneProblem::OpenQuote));
    }
}
