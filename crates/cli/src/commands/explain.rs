//! `explain`: what a finding means, why it matters, and the cure.

use brightharbor_core::explain::all_rule_texts;
use brightharbor_core::finding::RuleText;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::show::Shown;
use crate::show::human::{Page, table};

/// Explain the code of a finding; without a code, list all of them.
#[derive(Debug, Args)]
pub struct Explain {
    /// The code, such as glue-missing.
    code: Option<String>,
}

pub fn run(args: &Explain) -> Report {
    let all = all_rule_texts();
    let Some(code) = &args.code else { return Ok(Box::new(All { all })) };
    let found = all.iter().find(|text| text.code == code.trim().to_ascii_lowercase());
    match found {
        Some(text) => Ok(Box::new(One { text })),
        None => Err(Error::wrong_use(format!("no finding has the code `{}`", code.escape_default()))
            .advice("see all of them with `brightharbor explain`")),
    }
}

fn as_json(text: &RuleText) -> Value {
    json!({
        "code": text.code,
        "severity": text.severity.word(),
        "what": text.what,
        "why": text.why,
        "cure": text.cure,
        "source": text.source,
    })
}

struct One {
    text: &'static RuleText,
}

impl Shown for One {
    fn human(&self, page: &mut Page) {
        page.heading(&format!("{} ({})", self.text.code, self.text.severity.word()));
        page.hanging("  what  ", self.text.what);
        page.hanging("  why   ", self.text.why);
        page.hanging("  cure  ", self.text.cure);
        page.hanging("  see   ", self.text.source);
    }

    fn json(&self) -> Value {
        json!({ "command": "explain", "findings": [as_json(self.text)] })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

struct All {
    all: Vec<&'static RuleText>,
}

impl Shown for All {
    fn human(&self, page: &mut Page) {
        let row =
            |text: &&RuleText| vec![text.code.to_string(), text.severity.word().to_string(), text.what.to_string()];
        table(page, &["code", "severity", "what"], self.all.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        json!({ "command": "explain", "findings": self.all.iter().map(|text| as_json(text)).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
