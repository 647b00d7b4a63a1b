//! The decision whether a service other than the web server gets another certificate: whenever its hostname has one that
//! the service has not.

use std::path::PathBuf;

use zeroize::Zeroizing;

use super::{covers, read_chain};
use crate::change::{Change, Plan, ServicePlacing};
use crate::harbor::Service;

/// What a service has, and what its hostname has.
#[derive(Debug, Clone)]
pub struct ServiceSeen {
    /// Chain and key of the certificate that the site of its hostname has; `None`: it has none.
    pub certificate: Option<Result<(String, Zeroizing<String>), String>>,
    /// The chain that the service has.
    pub present: Option<Vec<u8>>,
    /// Where its link leads; or what is in the way of one, in words.
    pub former: Result<Option<PathBuf>, String>,
    /// The folder that a new certificate would lie in.
    pub folder: PathBuf,
}

/// What is to be done for a service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServiceDue {
    /// It has what its hostname has.
    Nothing,
    Placing(Box<ServicePlacing>),
    Problem(ServiceProblem),
}

/// Why a service gets nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServiceProblem {
    NoCertificate,
    NotCovered,
    /// The certificate is no certificate; with the reason, in words.
    Unreadable(String),
    /// A file or link of it cannot be read, or is somebody else's; in words.
    Files(String),
}

/// Decides about one service.
pub fn due_for_service(name: &str, service: &Service, seen: &ServiceSeen) -> ServiceDue {
    let (chain_pem, key_pem) = match &seen.certificate {
        None => return ServiceDue::Problem(ServiceProblem::NoCertificate),
        Some(Err(words)) => return ServiceDue::Problem(ServiceProblem::Files(words.clone())),
        Some(Ok((chain, key))) => (chain.clone(), key.clone()),
    };
    if seen.present.as_deref() == Some(chain_pem.as_bytes()) {
        return ServiceDue::Nothing;
    }
    let names = match read_chain(chain_pem.as_bytes()) {
        Ok(chain) => chain.into_iter().next().map(|leaf| leaf.names).unwrap_or_default(),
        Err(error) => return ServiceDue::Problem(ServiceProblem::Unreadable(error.to_string())),
    };
    if !covers(&names, &(&service.hostname).into()) {
        return ServiceDue::Problem(ServiceProblem::NotCovered);
    }
    match &seen.former {
        Err(words) => ServiceDue::Problem(ServiceProblem::Files(words.clone())),
        Ok(former) => ServiceDue::Placing(Box::new(ServicePlacing {
            name: name.to_string(),
            service: service.clone(),
            former: former.clone(),
            folder: seen.folder.clone(),
            chain_pem,
            key_pem,
        })),
    }
}

/// The plan that brings a service its certificate; empty if there is nothing to bring.
pub fn place_service(name: &str, due: ServiceDue) -> Plan {
    let mut plan = Plan::new(format!("certificate install --service {name}"));
    if let ServiceDue::Placing(placing) = due {
        plan.change(Change::PlaceForService(*placing));
    }
    plan
}

#[cfg(test)]
mod tests {
    use super::*;

    fn service(hostname: &str) -> Service {
        serde_json::from_str(&format!(r#"{{ "hostname": "{hostname}", "folder": "/etc/post/tls" }}"#)).unwrap()
    }

    fn chain(name: &str) -> String {
        let key = rcgen::KeyPair::generate().unwrap();
        rcgen::CertificateParams::new(vec![name.to_string()]).unwrap().self_signed(&key).unwrap().pem()
    }

    fn seen(chain: &str) -> ServiceSeen {
        ServiceSeen {
            certificate: Some(Ok((chain.to_string(), Zeroizing::new("KEY".into())))),
            present: None,
            former: Ok(Some("/etc/post/.tls-1".into())),
            folder: "/etc/post/.tls-2".into(),
        }
    }

    #[test]
    fn a_service_gets_what_covers_its_hostname_and_only_once() {
        let (mail, chain) = (service("mail.crumbandtide.example"), chain("mail.crumbandtide.example"));
        let ServiceDue::Placing(placing) = due_for_service("post", &mail, &seen(&chain)) else { panic!() };
        assert_eq!((placing.former, placing.key_pem.as_str()), (Some("/etc/post/.tls-1".into()), "KEY"));
        let has = ServiceSeen { present: Some(chain.clone().into_bytes()), ..seen(&chain) };
        assert_eq!(due_for_service("post", &mail, &has), ServiceDue::Nothing);
        assert!(place_service("post", ServiceDue::Nothing).is_empty());
        let other = due_for_service("post", &service("mail.gullrock.example"), &seen(&chain));
        assert_eq!(other, ServiceDue::Problem(ServiceProblem::NotCovered));
    }

    #[test]
    fn what_is_missing_or_in_the_way_is_told() {
        let (mail, chain) = (service("mail.crumbandtide.example"), chain("mail.crumbandtide.example"));
        let problem = |seen: ServiceSeen| match due_for_service("post", &mail, &seen) {
            ServiceDue::Problem(problem) => problem,
            other => panic!("{other:?}"),
        };
        assert_eq!(problem(ServiceSeen { certificate: None, ..seen(&chain) }), ServiceProblem::NoCertificate);
        assert!(matches!(problem(seen("no chain")), ServiceProblem::Unreadable(_)));
        let in_the_way = ServiceSeen { former: Err("a folder".into()), ..seen(&chain) };
        assert_eq!(problem(in_the_way), ServiceProblem::Files("a folder".into()));
        let unread = ServiceSeen { certificate: Some(Err("denied".into())), ..seen(&chain) };
        assert_eq!(problem(unread), ServiceProblem::Files("denied".into()));
    }
}
