//! The JSON document of a report: `"format": 1` and `"exit"` beside its members. It is written piece by piece, so that a
//! report of many thousands of items is never in memory as a whole, and without a character that a terminal obeys. What the
//! members are is for the reports, and for `json/`.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::io::{self, Write};

use serde::{Serialize, Serializer};
use serde_json::Value;
use serde_json::ser::{Formatter, PrettyFormatter};

use super::human::harmless_json;
use crate::error::Exit;

/// Items of a member, each made when it is written.
pub type Items<'a> = Box<dyn Iterator<Item = Value> + 'a>;

/// Writes the document; `many` is one more member.
pub fn write(out: &mut dyn Write, members: &Value, exit: Exit, many: Option<(&str, Items<'_>)>) -> io::Result<()> {
    let own = [("format", Value::from(1)), ("exit", Value::from(exit as u8))];
    let mut all: BTreeMap<&str, Member<'_>> = own.iter().map(|(name, value)| (*name, Member::One(value))).collect();
    for (name, value) in members.as_object().into_iter().flatten() {
        all.insert(name, Member::One(value));
    }
    all.extend(many.map(|(name, items)| (name, Member::Many(RefCell::new(items)))));
    let mut serializer = serde_json::Serializer::with_formatter(&mut *out, Harmless(PrettyFormatter::new()));
    all.serialize(&mut serializer)?;
    out.write_all(b"\n")
}

enum Member<'a> {
    One(&'a Value),
    Many(RefCell<Items<'a>>),
}

impl Serialize for Member<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Member::One(value) => value.serialize(serializer),
            Member::Many(items) => serializer.collect_seq(items.borrow_mut().by_ref()),
        }
    }
}

/// Lines and indentation as they are usual; strings go through the door that makes them harmless.
struct Harmless(PrettyFormatter<'static>);

impl Formatter for Harmless {
    fn write_string_fragment<W: ?Sized + Write>(&mut self, writer: &mut W, fragment: &str) -> io::Result<()> {
        writer.write_all(harmless_json(fragment).as_bytes())
    }

    fn begin_array<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_array(writer)
    }

    fn end_array<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_array(writer)
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, writer: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_array_value(writer, first)
    }

    fn end_array_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_array_value(writer)
    }

    fn begin_object<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_object(writer)
    }

    fn end_object<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_object(writer)
    }

    fn begin_object_key<W: ?Sized + Write>(&mut self, writer: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_object_key(writer, first)
    }

    fn begin_object_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_object_value(writer)
    }

    fn end_object_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_object_value(writer)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn members_items_and_the_exit_code_stand_in_one_document_that_no_terminal_obeys() {
        let items: Items<'_> = Box::new((0..2).map(|item| json!({ "item": item, "said": "a\u{9b}2J\x1b[8m" })));
        let mut out = Vec::new();
        write(&mut out, &json!({ "command": "survey\u{202e}", "none": [] }), Exit::Waits, Some(("many", items)))
            .unwrap();
        let text = String::from_utf8(out).unwrap();
        assert!(!text.contains(|character: char| character.is_control() && character != '\n'), "{text}");
        let each = |item: i32| json!({ "item": item, "said": "a\u{9b}2J\x1b[8m" });
        let whole =
            json!({ "command": "survey\u{202e}", "exit": 3, "format": 1, "many": [each(0), each(1)], "none": [] });
        assert_eq!(serde_json::from_str::<Value>(&text).unwrap(), whole);
        // But for the escapes, it looks as usual.
        assert!(
            text.starts_with("{\n  \"command\": \"survey\\u202e\",\n  \"exit\": 3,\n") && text.ends_with("]\n}\n"),
            "{text}"
        );
    }
}
