//! One cause, one finding: what follows from another finding is put under it, so that nobody mends a consequence. Which
//! findings there are is for `rules`; how they are shown, for the command line.

use std::net::IpAddr;

use super::Picture;
use super::rules::WITHOUT_ZONE;
use crate::finding::Finding;

/// What is seen where nobody is.
const DEAD: [&str; 3] = ["server-silent", "server-unreachable", "server-garbled"];

/// The findings without those that follow from another one; these are under it.
pub fn by_cause(findings: Vec<Finding>, picture: &Picture) -> Vec<Finding> {
    let causes = findings;
    let owner_of = |at: usize| {
        let mut owners = causes.iter().enumerate();
        owners.find(|(other, cause)| *other != at && follows(cause, &causes[at], picture)).map(|(owner, _)| owner)
    };
    let owners: Vec<Option<usize>> = (0..causes.len()).map(owner_of).collect();
    // A consequence of a consequence goes to the same cause.
    let root = |mut at: usize| {
        for _ in 0..owners.len() {
            match owners[at] {
                Some(owner) => at = owner,
                None => break,
            }
        }
        at
    };
    let roots: Vec<usize> = (0..causes.len()).map(root).collect();
    let mut under: Vec<Vec<Finding>> = vec![Vec::new(); causes.len()];
    for (at, root) in roots.iter().enumerate().filter(|(at, root)| at != *root) {
        under[*root].push(causes[at].clone());
    }
    let tops = causes.into_iter().zip(under).enumerate().filter(|(at, _)| roots[*at] == *at);
    tops.map(|(_, (cause, follows))| Finding { follows, ..cause }).collect()
}

fn follows(cause: &Finding, other: &Finding, picture: &Picture) -> bool {
    match cause.code {
        // The parent's own address for the nameserver leads to nobody: the registrar mends both at once.
        "glue-differs" => {
            let only_at_parent = |address: IpAddr| {
                let seen = picture.nameservers.iter().find(|seen| seen.name.bare() == cause.subject);
                seen.is_some_and(|seen| seen.glue.contains(&address) && !seen.addresses.contains(&address))
            };
            let here = other.subject == cause.subject && other.server.is_some_and(|at| only_at_parent(at.ip()));
            here && (DEAD.contains(&other.code) || WITHOUT_ZONE.contains(&other.code))
        }
        "delegated-here-without-zone" => WITHOUT_ZONE.contains(&other.code),
        "nameservers-not-as-expected" => ["zone-not-in-use", "delegation-ttls-differ"].contains(&other.code),
        // While the registry publishes a change, half of what the parent says is old.
        "parents-differ" => {
            let by_change = ["nameservers-not-as-expected", "parent-and-zone-differ", "zone-not-in-use"];
            cause.waits_until.is_some() && by_change.contains(&other.code)
        }
        "ds-without-key" | "ds-for-another-key" => other.code.starts_with("signature-"),
        // A server that takes no question at all takes none by UDP, by TCP, or with EDNS.
        "server-silent" | "server-unreachable" => {
            let by_way = ["server-without-udp", "server-without-tcp", "server-without-edns"];
            by_way.contains(&other.code) && other.server.is_some() && other.server == cause.server
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::delegation::NameserverSeen;
    use crate::finding::{RuleText, Severity};
    use crate::name::DnsName;

    fn finding(code: &'static str, subject: &str) -> Finding {
        RuleText { code, severity: Severity::Fault, what: "", why: "", cure: "", source: "" }.finding(subject, "", "")
    }

    fn shape(findings: Vec<Finding>, picture: &Picture) -> Vec<(&'static str, Vec<&'static str>)> {
        let codes = |all: &[Finding]| all.iter().map(|one| one.code).collect();
        by_cause(findings, picture).iter().map(|one| (one.code, codes(&one.follows))).collect()
    }

    #[test]
    fn what_follows_is_under_its_cause_and_the_rest_stays_in_its_order() {
        let picture = Picture::unasked(DnsName::root());
        let all = vec![
            finding("server-refuses", "ns1.saltmarsh.example"),
            finding("single-nameserver", "gullrock.example"),
            finding("delegated-here-without-zone", "gullrock.example"),
        ];
        let expected = [("single-nameserver", vec![]), ("delegated-here-without-zone", vec!["server-refuses"])];
        assert_eq!(shape(all, &picture), expected);
        let waiting = |until: Option<&str>| {
            let until = until.map(|until| until.parse().unwrap());
            let cause = Finding { waits_until: until, ..finding("parents-differ", "gullrock.example") };
            let all = ["nameservers-not-as-expected", "zone-not-in-use"].map(|code| finding(code, "gullrock.example"));
            shape([cause].into_iter().chain(all).collect(), &picture)
        };
        let chain = vec!["nameservers-not-as-expected", "zone-not-in-use"];
        assert_eq!(waiting(Some("2026-11-28T00:00:00Z")), [("parents-differ", chain)], "one cause for both");
        let apart = [("parents-differ", vec![]), ("nameservers-not-as-expected", vec!["zone-not-in-use"])];
        assert_eq!(waiting(None), apart);
    }

    #[test]
    fn a_dead_address_that_only_the_parent_has_is_the_glues_affair() {
        let name = DnsName::absolute("ns1.gullrock.example").unwrap();
        let (glue, own) = (vec!["203.0.113.9".parse().unwrap()], vec!["192.0.2.53".parse().unwrap()]);
        let seen = NameserverSeen { name, glue, addresses: own, alias: None, servers: vec![] };
        let picture = Picture { nameservers: vec![seen], ..Picture::unasked(DnsName::root()) };
        let silent = |at: &str| {
            let server = Some(format!("{at}:53").parse().unwrap());
            Finding { server, ..finding("server-silent", "ns1.gullrock.example") }
        };
        let all = vec![silent("192.0.2.53"), silent("203.0.113.9"), finding("glue-differs", "ns1.gullrock.example")];
        let expected = [("server-silent", vec![]), ("glue-differs", vec!["server-silent"])];
        assert_eq!(shape(all, &picture), expected);
    }
}
