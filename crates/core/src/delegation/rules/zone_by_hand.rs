//! A server of this harbor answers for the domain, from a zone that the harbor does not know.

use super::{Expected, Rule, ours};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "zone-by-hand",
    severity: Severity::Note,
    what: "A nameserver of this harbor answers for the domain, and the harbor keeps no such zone: somebody keeps it in the \
           server's own configuration.",
    why: "It works. Names that are attached below the domain get no records automatically, and this harbor does not maintain the zone.",
    cure: "To have it looked after here, take its file in with `zone create --from`, and take it out of the server's own \
           configuration; or leave it as it is.",
    source: "RFC 1034 section 4.2.1",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let answering = ours(picture, expected).find(|(_, answers)| *answers);
    let (Some((name, _)), Some(false)) = (answering, expected.zone_here) else { return vec![] };
    let domain = picture.domain.bare();
    let message = format!("{} answers for {domain} from a zone that is not in this harbor", name.bare());
    let cure = format!("take it in: brightharbor zone create {domain} --account ACCOUNT --from FILE; or leave it");
    vec![TEXT.finding(&domain, message, cure)]
}
