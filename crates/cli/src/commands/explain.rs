//! `explain`: what a code means; for findings also why it matters, and the cure.

use brightharbor_core::explain::all_rule_texts;
use brightharbor_core::finding::RuleText;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::show::Shown;
use crate::show::codes::Kind;
use crate::show::human::{Page, list};
use crate::suggest::nearest;

/// Explain a code: of a finding, a refusal, a consent, a remark or a link; without a code, list all of them.
#[derive(Debug, Args)]
pub struct Explain {
    /// The code, such as glue-missing.
    code: Option<String>,
}

/// A code with its kind and what it says.
type Coded = (Kind, &'static str, &'static str);

pub fn run(args: &Explain) -> Report {
    let typed = args.code.as_ref().map(|code| code.trim().to_ascii_lowercase());
    let asked = |code: &str| typed.as_ref().is_none_or(|typed| typed == code);
    let findings: Vec<&'static RuleText> = all_rule_texts().into_iter().filter(|text| asked(text.code)).collect();
    let of_kind = |kind: Kind| kind.codes().iter().map(move |(code, what)| (kind, *code, *what));
    let codes: Vec<Coded> = Kind::ALL.into_iter().flat_map(of_kind).filter(|(_, code, _)| asked(code)).collect();
    match &args.code {
        Some(code) if findings.is_empty() && codes.is_empty() => {
            let known = all_rule_texts().into_iter().map(|text| text.code);
            let known = known.chain(Kind::ALL.into_iter().flat_map(|kind| kind.codes().iter().map(|(code, _)| *code)));
            let meant = nearest(typed.as_deref().unwrap_or_default(), known.map(String::from));
            let error = Error::wrong_use(format!("nothing has the code `{}`", code.escape_default()))
                .advice("see all of them with `brightharbor explain`");
            Err(match meant {
                Some(meant) => error.suggest(meant),
                None => error,
            })
        }
        Some(_) => Ok(Box::new(Explained { findings, codes, at_length: true })),
        None => Ok(Box::new(Explained { findings, codes, at_length: false })),
    }
}

struct Explained {
    findings: Vec<&'static RuleText>,
    codes: Vec<Coded>,
    /// With the reason and the cure.
    at_length: bool,
}

impl Shown for Explained {
    fn human(&self, page: &mut Page) {
        if self.at_length {
            for text in &self.findings {
                page.heading(&format!("{} ({})", text.code, text.severity.word()));
                page.hanging("  what  ", text.what);
                page.hanging("  why   ", text.why);
                page.hanging("  cure  ", text.cure);
                page.hanging("  see   ", text.source);
            }
            for (kind, code, what) in &self.codes {
                page.heading(&format!("{code} ({})", kind.word()));
                page.hanging("  what  ", what);
            }
            return;
        }
        let findings = self.findings.iter().map(|text| [text.code, text.severity.word(), text.what]);
        let codes = self.codes.iter().map(|(kind, code, what)| [code, kind.word(), what]);
        let rows = findings.chain(codes).map(|row| row.map(String::from).to_vec());
        list(page, &["code", "kind", "what"], rows.collect());
    }

    fn json(&self) -> Value {
        let finding = |text: &&RuleText| {
            json!({
                "code": text.code,
                "severity": text.severity.word(),
                "what": text.what,
                "why": text.why,
                "cure": text.cure,
                "source": text.source,
            })
        };
        let coded = |(kind, code, what): &Coded| json!({ "code": code, "kind": kind.word(), "what": what });
        json!({
            "command": "explain",
            "findings": self.findings.iter().map(finding).collect::<Vec<_>>(),
            "codes": self.codes.iter().map(coded).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
