//! `delegation check`: from the root servers to the parent and to every nameserver. Works without a harbor too.

use brightharbor_core::delegation::rules::{Expected, judge};
use brightharbor_core::delegation::{Picture, Registered};
use brightharbor_core::finding::{Finding, Severity};
use brightharbor_core::harbor::{ServerAddress, Settings};
use brightharbor_core::name::{DnsName, registrable_domain};
use brightharbor_io::dns::walk;
use brightharbor_io::survey::brief;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, hostname};
use crate::error::{Error, Exit};
use crate::look::expected;
use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Check who answers for a domain: the parent's delegation, glue, and whether each nameserver answers with authority.
#[derive(Debug, Args)]
pub struct Check {
    /// The domain, such as gullrock.example.
    domain: String,
    /// A root server to start from, instead of the real ones or those in harbor.toml. May be given several times.
    #[arg(long = "root-server", value_name = "ADDRESS[:PORT]")]
    root_servers: Vec<ServerAddress>,
    /// The port of all nameservers, for closed networks.
    #[arg(long, value_name = "PORT")]
    dns_port: Option<u16>,
    /// A nameserver that the domain should be delegated to. May be given several times; by default those of the
    /// harbor, if it keeps the zone.
    #[arg(long = "expect", value_name = "NAME")]
    expect: Vec<DnsName>,
}

pub fn run(args: &Check, context: &Context) -> Report {
    let typed = hostname(&args.domain)?;
    let domain = registrable_domain(&typed).ok_or_else(|| {
        Error::wrong_use(format!("{typed} is a public suffix, not a domain")).advice("give a domain below it")
    })?;
    let mut said = Vec::new();
    if domain != typed {
        said.push(format!("{typed} lies in the domain {domain}, which is checked"));
    }
    let (mut settings, wanted) = match context.open() {
        Ok(harbor) => {
            let wanted = expected(&harbor, &domain)?;
            (harbor.settings, wanted)
        }
        // Without a harbor nothing is expected, and the real internet is asked.
        Err(error) if error.code == "no-harbor" => (Settings::default(), Expected::default()),
        Err(error) => return Err(error),
    };
    if !args.root_servers.is_empty() {
        settings.internet.root_servers = args.root_servers.clone();
        // In a closed network the nameservers listen where its root servers do.
        settings.internet.dns_port = settings.internet.dns_port.or(args.root_servers[0].port);
    }
    settings.internet.dns_port = args.dns_port.or(settings.internet.dns_port);
    let wanted = if args.expect.is_empty() { wanted } else { Expected { nameservers: args.expect.clone(), ..wanted } };
    context.progress.doing(&format!("asking the servers of {domain}"));
    let picture = context.block_on(walk(&brief(&settings, &domain, &[])))?;
    let findings = judge(&picture, &wanted);
    Ok(Box::new(Checked { said, picture, findings, wanted }))
}

struct Checked {
    said: Vec<String>,
    picture: Picture,
    findings: Vec<Finding>,
    wanted: Expected,
}

impl Shown for Checked {
    fn human(&self, page: &mut Page) {
        self.said.iter().for_each(|said| page.hanging("", said));
        human::delegation(page, &self.picture, &self.findings);
    }

    fn json(&self) -> Value {
        let registered = match &self.picture.registered {
            Registered::Yes => json!(true),
            Registered::No => json!(false),
            Registered::Unknown(_) => Value::Null,
        };
        json!({
            "command": "delegation check",
            "domain": self.picture.domain.bare(),
            "registered": registered,
            "parent": self.picture.parent_zone.to_string(),
            "delegated_to": self.picture.delegated_names().iter().map(DnsName::bare).collect::<Vec<_>>(),
            "expected": self.wanted.nameservers.iter().map(DnsName::bare).collect::<Vec<_>>(),
            "findings": self.findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
            "nameservers": json::nameservers(&self.picture),
            "questions": self.picture.questions,
        })
    }

    fn exit(&self) -> Exit {
        let fault = self.findings.iter().any(|finding| finding.severity == Severity::Fault);
        if fault { Exit::Fault } else { Exit::Done }
    }
}
