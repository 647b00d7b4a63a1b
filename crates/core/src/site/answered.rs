//! Whether a running web server has something of its own for a name: told by comparing its answers for the name with those
//! for two names that nobody has. Asking is for `brightharbor-io`; what stands in files, for `render::found_in`.

use std::net::SocketAddr;

use jiff::Timestamp;

use crate::name::Host;

/// Names that nobody has (RFC 6761 section 6.4): what a server answers for both, it answers for any name.
pub const STRANGERS: [&str; 2] = ["nobody.invalid", "no-one-else.invalid"];

/// What one address answered for a name, over http and in a TLS handshake.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Answered {
    pub page: Option<PageAnswered>,
    pub certificate: Option<CertificateAnswered>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageAnswered {
    pub status: u16,
    pub location: Option<String>,
    pub body: String,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateAnswered {
    pub names: Vec<String>,
    pub not_after: Timestamp,
}

/// A name that a running server answers already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AnsweredBefore {
    pub host: Host,
    pub address: SocketAddr,
    /// The status of its page; none where only the certificate is its own.
    pub status: Option<u16>,
}

/// Whether the answers for the host are of its own. What differs between the strangers tells nothing: a page that shows the
/// time differs each time. A page that repeats the name it was asked for is the same page.
pub fn has_its_own(host: &Host, answered: &Answered, strangers: &[Answered; 2]) -> bool {
    let [first, second] = strangers;
    let part = |of: fn(&PageAnswered) -> String| {
        let read = |answered: &Answered, name: &str| {
            answered.page.as_ref().map(|page| of(page).to_ascii_lowercase().replace(name, "HOST"))
        };
        let strange = (read(first, STRANGERS[0]), read(second, STRANGERS[1]));
        answered.page.is_some() && strange.0 == strange.1 && read(answered, host.as_str()) != strange.0
    };
    let own_certificate = answered.certificate.is_some()
        && first.certificate == second.certificate
        && answered.certificate != first.certificate;
    own_certificate
        || part(|page| page.status.to_string())
        || part(|page| page.location.clone().unwrap_or_default())
        || part(|page| page.body.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(status: u16, location: &str, body: &str) -> Answered {
        let location = Some(location.to_string()).filter(|location| !location.is_empty());
        Answered { page: Some(PageAnswered { status, location, body: body.into() }), certificate: None }
    }

    fn with_certificate(name: &str, day: i64) -> Answered {
        let not_after = Timestamp::from_second(day * 86_400).unwrap();
        Answered { page: None, certificate: Some(CertificateAnswered { names: vec![name.into()], not_after }) }
    }

    #[test]
    fn a_name_has_its_own_where_the_server_answers_otherwise_than_for_any_name() {
        let host = Host::parse("gullrock.example").unwrap();
        let own =
            |answered: Answered, first: Answered, second: Answered| has_its_own(&host, &answered, &[first, second]);
        let any = || page(200, "", "It works");
        assert!(!own(any(), any(), any()));
        assert!(own(page(200, "", "Boats"), any(), any()));
        assert!(own(page(403, "", "It works"), any(), any()));
        assert!(own(page(200, "https://elsewhere.example/", "It works"), any(), any()));
        assert!(own(any(), Answered::default(), Answered::default()), "strangers are cut off");
        assert!(!own(Answered::default(), any(), any()), "no answer is none of its own");
    }

    #[test]
    fn what_differs_for_strangers_or_repeats_the_name_tells_nothing() {
        let host = Host::parse("gullrock.example").unwrap();
        let to = |name: &str| page(301, &format!("https://{name}/"), &format!("<a href=\"https://{name}/\">here</a>"));
        assert!(!has_its_own(&host, &to("Gullrock.example"), &[to(STRANGERS[0]), to(STRANGERS[1])]));
        assert!(has_its_own(&host, &to("www.gullrock.example"), &[to(STRANGERS[0]), to(STRANGERS[1])]));
        let at = |second: &str| page(200, "", second);
        assert!(!has_its_own(&host, &at("10:00:02"), &[at("10:00:00"), at("10:00:01")]));
    }

    #[test]
    fn a_certificate_that_is_shown_for_the_name_alone_is_its_own() {
        let host = Host::parse("gullrock.example").unwrap();
        let default = || with_certificate("default.example", 9);
        assert!(has_its_own(&host, &with_certificate("gullrock.example", 9), &[default(), default()]));
        assert!(has_its_own(&host, &with_certificate("default.example", 8), &[default(), default()]));
        assert!(!has_its_own(&host, &default(), &[default(), default()]));
        assert!(!has_its_own(&host, &Answered::default(), &[default(), default()]));
        assert!(
            !has_its_own(&host, &default(), &[default(), with_certificate("x.example", 1)]),
            "these change by chance"
        );
    }
}
