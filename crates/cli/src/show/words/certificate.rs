//! What decisions about certificates tell.

use brightharbor_core::certificate::{CertificateRemark, DemandedProof, ServiceProblem};
use brightharbor_core::name::{Host, Hostname};

use super::Told;
use crate::show::counted;

pub(super) fn told(remark: &CertificateRemark) -> Told {
    use CertificateRemark as Is;
    match remark {
        Is::Covers { site, until } => {
            let words = format!("{site}: the certificate covers all its names, until {}", until.strftime("%Y-%m-%d"));
            Told::fact("covers-all-names", words).with("site", site.as_str()).with("until", until.to_string())
        }
        Is::ChainLength { certificates } => {
            let words = format!("its chain has {}, in order", counted(*certificates, "certificate"));
            Told::fact("chain-length", words).with("certificates", *certificates)
        }
        Is::MissingIssuer { subject } => {
            let words = format!(
                "the chain ends before `{subject}`: unless visitors' programs know that root, ask the seller for it"
            );
            Told::fact("issuer-missing", words).with("subject", subject.as_str())
        }
        Is::Distrusted { site, distrust } => {
            let words = format!("{site}: visitors are warned of it: {}", distrust.words());
            Told::fact("distrusted", words).with("site", site.as_str()).with("reason", distrust.words())
        }
        Is::Found(words) => Told::fact("found-in-files", words.clone()),
        Is::ServiceMustStaple { service } => {
            let words = format!(
                "the service {service} gets this certificate too: it has to fetch the CA's statement itself and show it, \
                 which Bright Harbor sees to for web servers alone"
            );
            Told::fact("service-must-staple", words).with("service", service.as_str())
        }
        Is::StopGap { site, days } => {
            let words = format!(
                "{site}: self-signed certificate for {}, a stop-gap. Visitors are warned of it, so http does not \
                 redirect to https",
                counted((*days).into(), "day")
            );
            Told::fact("stop-gap", words).with("site", site.as_str()).with("days", *days)
        }
        Is::Requested { names, folder } => {
            let names: Vec<String> = names.iter().map(ToString::to_string).collect();
            let what = format!("a request for {}; its key stays in {}", names.join(", "), folder.display());
            Told::act("request-created", "Created", "create", what)
                .with("names", names)
                .with("folder", folder.display().to_string())
        }
        Is::Shares { site, from } => Told::fact("shares", format!("{site}: served with the certificate of {from}"))
            .with("site", site.as_str())
            .with("from", from.as_str()),
        Is::DemandOver { site, proof, elsewhere } => {
            let proof_words = demand_words(proof, site);
            let told = match elsewhere {
                true => Told::fact("demand-over", format!("Remove where the zone is kept: {proof_words}")),
                false => Told::act("demand-over", "Removed", "remove", proof_words.clone()),
            };
            told.with("site", site.as_str()).with("proof", proof_words).with("elsewhere", *elsewhere)
        }
        Is::DemandStays { site, reason } => {
            let words = format!("{site}: what the certificate seller asked for is still in place: {reason}");
            Told::fact("demand-stays", words).with("site", site.as_str()).with("reason", reason.as_str())
        }
        Is::FoundRevoked { site, since } => {
            let words = format!("{site}: its CA says that its certificate is revoked since {since}");
            Told::fact("found-revoked", words).with("site", site.as_str()).with("since", since.to_string())
        }
        Is::FormerRemoved { sites, days } => {
            let names: Vec<String> = sites.iter().map(ToString::to_string).collect();
            let what = match &names[..] {
                [only] => format!("a former certificate of {only} and its key, expired for more than {days} days"),
                several => {
                    format!("{} former certificates and their keys, expired for more than {days} days", several.len())
                }
            };
            Told::act("former-removed", "Removed", "remove", what).with("sites", names).with("days", *days)
        }
        Is::FormerStays { site, reason } => {
            let words = format!("a former certificate of {site} could not be removed: {reason}");
            Told::fact("former-stays", words).with("site", site.as_str()).with("reason", reason.as_str())
        }
        Is::RevocationOver { site } => {
            let words = format!("the certificate of {site} that was to be revoked has expired");
            Told::fact("revocation-over", words).with("site", site.as_str())
        }
        Is::SuccessorFirst { site } => {
            let words = format!("{site}: first, a new certificate with a new key is issued, installed and verified");
            Told::fact("successor-first", words).with("site", site.as_str())
        }
        Is::ServiceUpToDate { service, hostname } => {
            let words = format!("service {service} already has the certificate of {hostname}");
            Told::fact("service-up-to-date", words)
                .with("service", service.as_str())
                .with("hostname", hostname.as_str())
        }
        Is::ServiceSkipped { service, reason } => {
            let words = format!("service {service} skipped: {reason}");
            Told::fact("service-skipped", words).with("service", service.as_str()).with("reason", reason.as_str())
        }
    }
}

/// What a seller looks at, with the name that it is for.
fn demand_words(proof: &DemandedProof, site: &Host) -> String {
    match proof {
        DemandedProof::File { path, .. } => format!("http://{site}{path}"),
        DemandedProof::Record { owner, data } => format!("{} {} {data}", owner.bare(), data.record_type()),
    }
}

/// Why a service gets no certificate.
pub fn service_problem(problem: &ServiceProblem, hostname: &Hostname) -> String {
    match problem {
        ServiceProblem::NoCertificate => format!("{hostname} has no certificate here yet"),
        ServiceProblem::NotCovered => format!("the certificate of its site does not cover {hostname}"),
        ServiceProblem::Unreadable(reason) => format!("the certificate of {hostname} cannot be read: {reason}"),
        ServiceProblem::Files(reason) => reason.clone(),
    }
}
