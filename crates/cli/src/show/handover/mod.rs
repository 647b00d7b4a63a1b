//! The handover in words: a template for each language and form. A new language is two files beside these.

use brightharbor_core::delegation::Handover;
use brightharbor_core::zone::show_seconds;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment, UndefinedBehavior};
use serde::Serialize;

/// The languages there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Language {
    En,
}

/// Plain text, or a page of HTML.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    Text,
    Html,
}

/// What the templates may use.
#[derive(Serialize)]
struct Values<'a> {
    #[serde(flatten)]
    handover: &'a Handover,
    wait: Option<String>,
    wait_new: String,
    expected: &'a [String],
}

/// The text of a handover.
pub fn worded(handover: &Handover, expected: &[String], ttl: u32, language: Language, form: Form) -> String {
    let template = match (language, form) {
        (Language::En, Form::Text) => include_str!("en.txt"),
        (Language::En, Form::Html) => include_str!("en.html"),
    };
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(move |_| if form == Form::Html { AutoEscape::Html } else { AutoEscape::None });
    let shown = |seconds: u32| show_seconds(seconds.into());
    let values = Values { handover, wait: handover.wait_seconds.map(shown), wait_new: shown(ttl), expected };
    environment.render_named_str("handover", template, Serde(&values)).expect("a constant template on whole values")
}
