//! The fourth link: whether our web server answers for the name, with the configuration that names its document root.
//!
//! Told by the fingerprint (`render::fingerprint`): an older configuration answers with an older one.

use crate::render::{ClashKind, is_fingerprint};

use super::{Harbored, HttpOutcome, Link, LinkName, LinkState, Seen, Turn};

pub(super) fn answers(seen: &Seen<'_>) -> Link {
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Answers, state, code, because);
    if seen.http.is_empty() {
        return link(LinkState::Unchecked, "no-address", "no address to ask".into());
    }
    let mut good = 0;
    for http in seen.http {
        let address = http.address;
        match &http.outcome {
            HttpOutcome::NoRoute => {}
            HttpOutcome::Closed(why) | HttpOutcome::Failed(why) => {
                let broken = link(LinkState::Broken, "no-answer", format!("{address} {why}"));
                return if seen.harbored.is_some() { broken.turn(turn(seen, address.ip())) } else { broken };
            }
            HttpOutcome::Answer { status, body } => match &seen.harbored {
                None => good += 1,
                Some(harbored) if body.trim() == harbored.fingerprint => good += 1,
                Some(_) if is_fingerprint(body.trim()) => {
                    let because = format!("{address} answers with an older configuration: reload the web server");
                    return link(LinkState::Broken, "older-configuration", because).turn(Turn::Administrator);
                }
                Some(Harbored { clash: Some((file, clash)), .. })
                    if clash.kind == ClashKind::TakesOurs(address.ip()) =>
                {
                    let because = format!(
                        "the block at {}:{} takes all connections to {address}; set listen = [\"{}\"] under [web]",
                        file.display(),
                        clash.line,
                        address.ip()
                    );
                    return link(LinkState::Broken, "listener-clash", because).turn(Turn::Administrator);
                }
                Some(_) => {
                    let hint = match seen.is_ours(&address.ip()) {
                        true => "; does its main file include the harbor's? See `brightharbor init --check`",
                        false => "",
                    };
                    let because = format!("{address} answers with another site ({status}){hint}");
                    return link(LinkState::Broken, "another-site-answers", because).turn(turn(seen, address.ip()));
                }
            },
        }
    }
    if good == 0 {
        return link(LinkState::Unchecked, "no-route", "this host has no address of the family to ask with".into());
    }
    let who = if seen.harbored.is_some() { "this site's configuration answers" } else { "a web server answers" };
    link(LinkState::Holds, "answers", format!("{who} at {}", addresses(seen)))
}

/// Whether nobody takes connections for http at any address that could be tried.
pub(super) fn is_closed(seen: &Seen<'_>) -> bool {
    let tried = || seen.http.iter().filter(|http| http.outcome != HttpOutcome::NoRoute);
    tried().count() > 0 && tried().all(|http| matches!(http.outcome, HttpOutcome::Closed(_)))
}

/// Our own address is our own business; a foreign one follows from where the name leads.
fn turn(seen: &Seen<'_>, address: std::net::IpAddr) -> Turn {
    match (seen.is_ours(&address), seen.zone_is_here()) {
        (true, _) => Turn::Administrator,
        (false, true) => Turn::Registrar,
        (false, false) => Turn::DnsHost,
    }
}

fn addresses(seen: &Seen<'_>) -> String {
    seen.http.iter().map(|http| http.address.to_string()).collect::<Vec<_>>().join(", ")
}
