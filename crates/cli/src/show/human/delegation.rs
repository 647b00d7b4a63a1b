//! Delegations: the verdict, the findings with their cures, then parent, zone and servers side by side.

use brightharbor_core::delegation::{Compared, Picture, Registered, ServerState, Verdict, compare};
use brightharbor_core::finding::Finding;
use brightharbor_core::name::DnsName;
use brightharbor_io::clock;

use super::Page;
use super::lists::table;
use super::page::when;
use crate::judging::Checked;
use crate::show::counted;

fn one(page: &mut Page, checked: &Checked) {
    let Checked { picture, findings, verdict, wanted } = checked;
    page.heading(&headline(picture, verdict));
    super::findings(page, findings);
    if picture.registered != Registered::Yes {
        return;
    }
    page.blank();
    let parent =
        format!("parent ({})", if picture.parent_zone.is_root() { ".".into() } else { picture.parent_zone.bare() });
    let row = |line: Compared| vec![line.what, line.parent, line.zone, line.servers.join("\n")];
    table(
        page,
        &["", &parent, "zone", "each server"],
        compare(picture, &wanted.nameservers).into_iter().map(row).collect(),
    );
    let (v4, v6) = picture.lacking_families();
    for (_, family) in [(v4, "IPv4"), (v6, "IPv6")].iter().filter(|(lacking, _)| *lacking) {
        page.blank();
        page.hanging("note: ", &format!("this machine has no {family}: what is reached over it alone was not asked"));
    }
}

fn headline(picture: &Picture, verdict: &Verdict) -> String {
    let domain = picture.domain.bare();
    let (answering, servers) = (picture.authoritative_servers().count(), picture.servers().count());
    match verdict {
        Verdict::NotRegistered => format!("{domain}: not registered"),
        Verdict::Unknown => format!("{domain}: its parent zone could not be asked"),
        Verdict::Fails => format!("{domain}: fails for everybody; none of {servers} servers answers for it"),
        Verdict::Validators { failing, servers } if failing < servers => {
            format!("{domain}: validating resolvers refuse what {failing} of {servers} servers say")
        }
        Verdict::Validators { .. } => format!("{domain}: validating resolvers refuse it; for others it works"),
        Verdict::Some { failing, servers } => {
            format!("{domain}: works for some; {failing} of {servers} servers {}", what_they_do(picture, *failing))
        }
        Verdict::DeniedBySome { denying, servers } => {
            format!("{domain}: works for some; {denying} of {servers} servers of the parent deny it")
        }
        Verdict::Faults(count) => {
            format!("{domain}: works for everybody, and is not as it should be: {}", counted(*count, "fault"))
        }
        Verdict::Waiting(until) => {
            format!("{domain}: waiting until {}: a change is on its way", when(*until, clock::now()))
        }
        Verdict::Risks(_) | Verdict::Well => {
            let how =
                if *verdict == Verdict::Well { "works for everybody" } else { "works for everybody, and is fragile" };
            format!("{domain}: {how}; {answering} of {servers} servers answer with authority")
        }
    }
}

/// What servers do that do not answer for the domain: in one word where all do the same.
fn what_they_do(picture: &Picture, failing: usize) -> &'static str {
    let states: Vec<&ServerState> = picture.servers().map(|(_, server)| &server.state).collect();
    let all = |fits: fn(&ServerState) -> bool| states.iter().filter(|state| fits(state)).count() == failing;
    if all(|state| *state == ServerState::Silent) {
        return if failing == 1 { "does not answer" } else { "do not answer" };
    }
    match failing {
        1 => "does not answer for it",
        _ => "do not answer for it",
    }
}

/// One domain with all about it, or many with their verdicts.
pub fn delegations(page: &mut Page, said: &[String], checked: &[Checked]) {
    said.iter().for_each(|said| page.hanging("", said));
    match checked {
        [] => page.line("There is nothing to check."),
        [alone] => one(page, alone),
        many => {
            let rows = many.iter().map(|one| (&one.picture.domain, &one.verdict, &one.findings[..]));
            table_of(page, &rows.collect::<Vec<_>>());
        }
    }
}

/// Many at once: how many are well, and which are not.
fn table_of(page: &mut Page, checked: &[(&DnsName, &Verdict, &[Finding])]) {
    let count = |fits: fn(&Verdict) -> bool| checked.iter().filter(|(_, verdict, _)| fits(verdict)).count();
    let parts = [
        (count(|verdict| *verdict == Verdict::Well), "well"),
        (count(|verdict| matches!(verdict, Verdict::Risks(_))), "fragile"),
        (count(|verdict| matches!(verdict, Verdict::Waiting(_))), "waiting"),
        (count(Verdict::is_fault), "with faults"),
    ];
    let told: Vec<String> =
        parts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}")).collect();
    page.heading(&format!("{}: {}", counted(checked.len(), "domain"), told.join(", ")));
    let mut open: Vec<_> = checked.iter().filter(|(_, verdict, _)| **verdict != Verdict::Well).collect();
    if open.is_empty() {
        return;
    }
    open.sort_by_key(|(_, verdict, _)| !verdict.is_fault());
    page.blank();
    let rows = open.iter().map(|(domain, verdict, findings)| {
        let mut codes: Vec<&str> = Vec::new();
        for finding in findings.iter().filter(|finding| finding.word() != "note") {
            if !codes.contains(&finding.code) {
                codes.push(finding.code);
            }
        }
        vec![domain.bare(), verdict.word().replace('-', " "), codes.join(", ")]
    });
    table(page, &["domain", "verdict", "findings"], rows.collect());
    page.blank();
    page.hanging("next: ", "brightharbor delegation check DOMAIN tells all about one, with the cures");
}
