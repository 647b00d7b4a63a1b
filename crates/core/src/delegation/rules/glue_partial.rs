//! The parent lacks some addresses of a nameserver inside the domain.

use std::net::IpAddr;

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "glue-partial",
    severity: Severity::Note,
    what: "A nameserver inside the domain has more addresses in its zone than the parent hands out.",
    why: "Who comes from above finds the server at the parent's addresses alone. Where those of one family are missing, \
          resolvers that have only that family cannot begin there.",
    cure: "At the registrar, give the host object of the nameserver all of its addresses.",
    source: "RFC 9471, RFC 3901",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let inside = picture.nameservers.iter().filter(|seen| seen.name.is_within(&picture.domain));
    let partial = |seen: &&crate::delegation::NameserverSeen| {
        // Where the parent has other addresses, that is `glue-differs`.
        !seen.glue.is_empty() && seen.glue.iter().all(|address| seen.addresses.contains(address))
    };
    inside
        .filter(partial)
        .filter_map(|seen| {
            let missing: Vec<String> =
                seen.addresses.iter().filter(|own| !seen.glue.contains(own)).map(IpAddr::to_string).collect();
            let (name, missing) = (seen.name.bare(), missing.join(", "));
            (!missing.is_empty()).then(|| {
                let message = format!("the parent does not give {missing}, which {name} has in its zone");
                TEXT.finding(&name, message, format!("at the registrar, add {missing} to the host {name}"))
            })
        })
        .collect()
}
