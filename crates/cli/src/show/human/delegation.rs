//! A delegation: the verdict, the findings with their cures, then who answers what.

use brightharbor_core::delegation::{Picture, Registered, ServerState};
use brightharbor_core::finding::{Finding, Severity};
use brightharbor_core::name::DnsName;

use super::Page;
use super::lists::table;

pub fn delegation(page: &mut Page, picture: &Picture, findings: &[Finding]) {
    page.heading(&verdict(picture, findings));
    super::findings(page, findings);
    if picture.registered != Registered::Yes {
        return;
    }
    page.blank();
    let glue = |name: &DnsName| -> String {
        let seen = picture.nameservers.iter().find(|seen| seen.name == *name);
        let glue: Vec<String> = seen.into_iter().flat_map(|seen| &seen.glue).map(ToString::to_string).collect();
        if glue.is_empty() { "none".into() } else { glue.join(", ") }
    };
    let mut rows = Vec::new();
    for seen in &picture.nameservers {
        if seen.servers.is_empty() {
            rows.push(vec![seen.name.bare(), "no address".into(), glue(&seen.name), "cannot be asked".into()]);
        }
        for server in &seen.servers {
            rows.push(vec![seen.name.bare(), server.address.to_string(), glue(&seen.name), in_words(&server.state)]);
        }
    }
    table(page, &["nameserver", "asked at", "glue", "answer"], rows);
}

fn verdict(picture: &Picture, findings: &[Finding]) -> String {
    let domain = picture.domain.bare();
    let faults = findings.iter().filter(|finding| finding.severity == Severity::Fault).count();
    let servers = picture.servers().count();
    let answering = picture.authoritative_servers().count();
    match &picture.registered {
        Registered::No => format!("{domain}: not registered"),
        Registered::Unknown(_) => format!("{domain}: its parent zone could not be asked"),
        Registered::Yes if faults == 1 => format!("{domain}: a fault in its delegation"),
        Registered::Yes if faults > 0 => format!("{domain}: {faults} faults in its delegation"),
        Registered::Yes => format!("{domain}: delegated well; {answering} of {servers} servers answer with authority"),
    }
}

fn in_words(state: &ServerState) -> String {
    match state {
        ServerState::Authoritative { serial, nameservers } => {
            let names = nameservers.iter().map(DnsName::bare).collect::<Vec<_>>().join(" ");
            format!("authority, serial {serial}, names {names}")
        }
        ServerState::NotAuthoritative => "without authority".into(),
        ServerState::Refuses { rcode } => format!("refuses ({rcode})"),
        ServerState::Silent => "silent".into(),
        ServerState::Unreachable { reason } => format!("unreachable: {reason}"),
        ServerState::NoRoute => "not asked: this host lacks that address family".into(),
        ServerState::Garbled { reason } => format!("no DNS answer: {reason}"),
        ServerState::OutOfPlace { kind } => format!("not asked: {kind}"),
    }
}
