//! `certificate show`: what a file of certificates, keys and requests holds. Needs no harbor, and prints no key.

use std::path::PathBuf;

use brightharbor_core::certificate::{
    CertificateFacts, Detail, Piece, RequestFacts, describe_certificate, describe_request, is_self_signed, key_words,
};
use brightharbor_core::change::content_hash;
use brightharbor_io::clock;
use brightharbor_io::keys::public_half;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::unlock::{UnlockOptions, read_pieces};
use crate::commands::Report;
use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// Show what files hold: certificates, keys and requests, as PEM, DER, PKCS#7, PKCS#12 or in a zip; and which
/// belong together.
#[derive(Debug, Args)]
pub struct Show {
    /// Files with certificates, keys or requests, in whatever form.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    #[command(flatten)]
    unlock: UnlockOptions,
}

pub fn run(args: &Show, _: &Context) -> Report {
    let password = args.unlock.password()?;
    let mut found = Vec::new();
    for path in &args.files {
        let shown = path.display().to_string();
        let held = read_pieces(path, password.as_ref().map(|text| text.as_str()))?;
        for piece in held {
            let public = match &piece {
                Piece::Certificate(facts) => Some(facts.public_key.clone()),
                Piece::Request(request) => Some(request.public_key.clone()),
                Piece::Key(pem) => public_half(pem).ok(),
                Piece::Remark(_) => None,
            };
            found.push(Held { file: shown.clone(), piece, public });
        }
    }
    Ok(Box::new(Contents { found, now: clock::now() }))
}

struct Held {
    file: String,
    piece: Piece,
    /// The public half of its key; what has the same belongs together.
    public: Option<Vec<u8>>,
}

impl Held {
    fn key(&self) -> Option<String> {
        self.public.as_deref().and_then(key_words)
    }

    /// Everything else that it says.
    fn details(&self) -> Vec<Detail> {
        match &self.piece {
            Piece::Certificate(facts) => describe_certificate(&facts.der),
            Piece::Request(request) => describe_request(&request.der),
            Piece::Key(_) | Piece::Remark(_) => vec![],
        }
    }
}

struct Contents {
    found: Vec<Held>,
    now: Timestamp,
}

impl Contents {
    /// The numbers of the other pieces with the same key.
    fn together(&self, index: usize) -> Vec<usize> {
        let own = &self.found[index].public;
        let same = self
            .found
            .iter()
            .enumerate()
            .filter(|(other, held)| *other != index && own.is_some() && held.public == *own);
        same.map(|(other, _)| other + 1).collect()
    }

    fn dates(&self, facts: &CertificateFacts) -> String {
        let day = |time: Timestamp| time.strftime("%Y-%m-%d").to_string();
        let word = match () {
            () if self.now >= facts.not_after => ", which is over",
            () if self.now < facts.not_before => ", which is to come",
            () => "",
        };
        format!("{} to {}{word}", day(facts.not_before), day(facts.not_after))
    }
}

fn kind(piece: &Piece) -> &'static str {
    match piece {
        Piece::Certificate(facts) if is_self_signed(facts) && facts.is_ca => "root certificate",
        Piece::Certificate(facts) if facts.is_ca => "issuer's certificate",
        Piece::Certificate(facts) if is_self_signed(facts) => "self-signed certificate",
        Piece::Certificate(_) => "certificate",
        Piece::Key(_) => "private key",
        Piece::Request(_) => "certificate request",
        Piece::Remark(_) => "remark",
    }
}

impl Shown for Contents {
    fn human(&self, page: &mut Page) {
        for (index, held) in self.found.iter().enumerate() {
            page.blank();
            page.heading(&format!("{}. {} in {}", index + 1, kind(&held.piece), held.file));
            let mut field = |name: &str, text: &str| page.hanging(&format!("  {name:<12}  "), text);
            match &held.piece {
                Piece::Certificate(facts) => {
                    field("subject", if facts.subject.is_empty() { "none" } else { &facts.subject });
                    field("issuer", &facts.issuer);
                    if !facts.names.is_empty() {
                        field("names", &facts.names.join(", "));
                    }
                    field("valid", &self.dates(facts));
                    field("key", &facts.key);
                    field("SHA-256", &content_hash(&facts.der));
                    held.details().iter().for_each(|detail| field(detail.name, &detail.value));
                    if let Some(why) = facts.weakness() {
                        field("weak", &why);
                    }
                }
                Piece::Request(RequestFacts { subject, names, .. }) => {
                    field("subject", if subject.is_empty() { "none" } else { subject });
                    field("names", &names.join(", "));
                    field("key", &held.key().unwrap_or_default());
                    held.details().iter().for_each(|detail| field(detail.name, &detail.value));
                }
                Piece::Key(_) => {
                    held.key().iter().for_each(|key| field("key", key));
                    let words =
                        if held.public.is_some() { "it can be read; it is not printed" } else { "it cannot be read" };
                    field("state", words);
                }
                Piece::Remark(remark) => field("note", remark),
            }
            let together = self.together(index);
            if !together.is_empty() {
                let numbers = together.iter().map(usize::to_string).collect::<Vec<_>>().join(", ");
                field("belongs to", &format!("number {numbers}: the same key"));
            }
        }
    }

    fn json(&self) -> Value {
        let detail = |detail: &Detail| json!({ "name": detail.name, "value": detail.value });
        let document = |(index, held): (usize, &Held)| {
            let (subject, issuer, names) = match &held.piece {
                Piece::Certificate(facts) => (Some(&facts.subject), Some(&facts.issuer), Some(&facts.names)),
                Piece::Request(request) => (Some(&request.subject), None, Some(&request.names)),
                Piece::Key(_) | Piece::Remark(_) => (None, None, None),
            };
            let facts = match &held.piece {
                Piece::Certificate(facts) => Some(facts),
                _ => None,
            };
            json!({
                "number": index + 1,
                "file": held.file,
                "kind": kind(&held.piece),
                "subject": subject,
                "issuer": issuer,
                "names": names,
                "not_before": facts.map(|facts| facts.not_before.to_string()),
                "not_after": facts.map(|facts| facts.not_after.to_string()),
                "key": held.key(),
                "sha256": facts.map(|facts| content_hash(&facts.der)),
                "weak": facts.and_then(|facts| facts.weakness()),
                "details": held.details().iter().map(detail).collect::<Vec<_>>(),
                "belongs_to": self.together(index),
                "remark": match &held.piece {
                    Piece::Remark(remark) => Some(remark),
                    _ => None,
                },
            })
        };
        json!({
            "command": "certificate show",
            "pieces": self.found.iter().enumerate().map(document).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
