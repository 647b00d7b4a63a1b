//! When a certificate is to be renewed: as its CA suggests (RFC 9773), else when about a third of its life is left.
//!
//! Both are spread by the name of the site, so that what was issued on one day is not renewed in one minute.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use x509_parser::extensions::ParsedExtension;
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::acme::Response;

/// When the CA wants a certificate to be renewed (RFC 9773 section 4.2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RenewalWindow {
    pub start: Timestamp,
    pub end: Timestamp,
    /// A page that says why, such as after an incident.
    #[serde(default)]
    pub explanation: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RenewalInfo {
    suggested_window: Suggested,
    #[serde(rename = "explanationURL")]
    explanation_url: Option<String>,
}

#[derive(Deserialize)]
struct Suggested {
    start: Timestamp,
    end: Timestamp,
}

impl RenewalWindow {
    /// Reads what the CA sent; a window that ends before it starts is none.
    pub fn read(json: &[u8]) -> Option<Self> {
        let info: RenewalInfo = serde_json::from_slice(json).ok()?;
        let Suggested { start, end } = info.suggested_window;
        (start < end).then_some(Self { start, end, explanation: info.explanation_url })
    }

    /// The moment within the window that this certificate is renewed at.
    pub fn moment(&self, seed: &str) -> Timestamp {
        self.start + portion(self.end.duration_since(self.start), seed)
    }
}

/// Between two questions about one certificate, where the CA does not say (RFC 9773 section 4.3.3).
const USUAL: SignedDuration = SignedDuration::from_hours(6);
/// What the CA says is bounded: it must neither be flooded nor silence us.
const SHORTEST: SignedDuration = SignedDuration::from_mins(1);
const LONGEST: SignedDuration = SignedDuration::from_hours(24);

/// What a CA has said about the renewal of one certificate, and when it is asked again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RenewalSaid {
    /// `None`: it does not say.
    pub window: Option<RenewalWindow>,
    pub ask_again: Timestamp,
}

impl RenewalSaid {
    /// Of a CA that suggests nothing to anybody.
    pub fn not_offered(now: Timestamp) -> Self {
        Self { window: None, ask_again: now + LONGEST }
    }

    /// Of an answer. Without a good one, what the CA said before goes on to hold.
    pub fn of(answer: Option<&Response>, before: Option<RenewalWindow>, now: Timestamp) -> Self {
        let Some(answer) = answer.filter(|answer| answer.is_success()) else {
            return Self { window: before, ask_again: now + USUAL };
        };
        let pause = answer.retry_after(now).map_or(USUAL, |until| until.duration_since(now)).clamp(SHORTEST, LONGEST);
        Self { window: RenewalWindow::read(&answer.body), ask_again: now + pause }
    }
}

/// When a certificate is renewed if nobody suggests a time: a third of its lifetime before it ends, or up to a fifteenth
/// earlier.
pub fn usual_moment(not_before: Timestamp, not_after: Timestamp, seed: &str) -> Timestamp {
    let lifetime = not_after.duration_since(not_before).max(SignedDuration::ZERO);
    not_after - lifetime / 3 - portion(lifetime / 15, seed)
}

/// From when on a renewal that keeps failing is urgent: a sixth of the lifetime is left.
pub fn urgent_from(not_before: Timestamp, not_after: Timestamp) -> Timestamp {
    not_after - not_after.duration_since(not_before).max(SignedDuration::ZERO) / 6
}

/// Whether one that is still good ends soon, although it should have been renewed: within a week, and with less than a sixth
/// of its lifetime left.
pub fn ends_soon(not_before: Timestamp, not_after: Timestamp, now: Timestamp) -> bool {
    const SOON: SignedDuration = SignedDuration::from_hours(7 * 24);
    now < not_after && not_after.duration_since(now) < SOON && urgent_from(not_before, not_after) <= now
}

/// The same for one that somebody has to replace by hand: within a month, and with less than a third of its lifetime left.
pub fn to_be_replaced_soon(not_before: Timestamp, not_after: Timestamp, now: Timestamp) -> bool {
    const SOON: SignedDuration = SignedDuration::from_hours(30 * 24);
    let lifetime = not_after.duration_since(not_before).max(SignedDuration::ZERO);
    let left = not_after.duration_since(now);
    now < not_after && left < SOON && left < lifetime / 3
}

/// A part of the time that is the same for the same seed, and spread over all of it for many seeds.
fn portion(whole: SignedDuration, seed: &str) -> SignedDuration {
    let hash = crate::change::content_hash(seed.as_bytes());
    let number = u32::from_str_radix(&hash[..4], 16).unwrap_or(0);
    whole / 65_536 * i32::try_from(number).unwrap_or(0)
}

/// The identifier of a certificate for its CA: the issuer's key identifier and the serial number, both base64url.
/// `None` for one that does not name its issuer's key.
pub fn renewal_id(der: &[u8]) -> Option<String> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let issuer_key = certificate.extensions().iter().find_map(|extension| match extension.parsed_extension() {
        ParsedExtension::AuthorityKeyIdentifier(authority) => authority.key_identifier.as_ref().map(|id| id.0),
        _ => None,
    })?;
    Some(format!("{}.{}", URL_SAFE_NO_PAD.encode(issuer_key), URL_SAFE_NO_PAD.encode(certificate.raw_serial())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_is_soon_but_not_in_a_life_of_six_days() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let (start, end) = (at("2026-10-01T00:00:00Z"), at("2026-12-30T00:00:00Z"));
        let by_hand = |now: &str| to_be_replaced_soon(start, end, at(now));
        let a_month_ahead = ["2026-11-26T00:00:00Z", "2026-12-05T00:00:00Z", "2026-12-29T00:00:00Z"].map(by_hand);
        assert_eq!((a_month_ahead, by_hand("2026-12-30T00:00:00Z")), ([false, true, true], false));
        let short_lived = to_be_replaced_soon(at("2026-12-24T00:00:00Z"), end, at("2026-12-26T00:00:00Z"));
        assert!(!short_lived, "two thirds of its life are left");
        let soon = |now: &str| ends_soon(start, end, at(now));
        assert!(!soon("2026-12-22T00:00:00Z") && soon("2026-12-24T00:00:00Z") && !soon("2026-12-30T00:00:00Z"));
        let short = |now: &str| ends_soon(at("2026-12-24T00:00:00Z"), end, at(now));
        assert!(!short("2026-12-28T23:00:00Z") && short("2026-12-29T01:00:00Z"));
    }

    #[test]
    fn what_a_ca_says_is_bounded_and_holds_until_it_says_something_else() {
        let now: Timestamp = "2026-11-27T12:00:00Z".parse().unwrap();
        let body = r#"{ "suggestedWindow": { "start": "2026-12-01T00:00:00Z", "end": "2026-12-02T00:00:00Z" } }"#;
        let answer = |status, retry_after: Option<&str>| Response {
            status,
            retry_after: retry_after.map(Into::into),
            body: body.into(),
            ..Response::default()
        };
        let said = |answer: &Response, before| RenewalSaid::of(Some(answer), before, now);
        let minutes = |said: &RenewalSaid| said.ask_again.duration_since(now).as_secs() / 60;
        let usual = said(&answer(200, None), None);
        assert_eq!((usual.window.is_some(), minutes(&usual)), (true, 360));
        assert_eq!(minutes(&said(&answer(200, Some("1")), None)), 1);
        assert_eq!(minutes(&said(&answer(200, Some("7200")), None)), 120);
        assert_eq!(minutes(&said(&answer(200, Some("9999999")), None)), 24 * 60);
        let kept = said(&answer(503, Some("60")), usual.window.clone());
        assert_eq!((&kept.window, minutes(&kept)), (&usual.window, 360));
        assert_eq!(RenewalSaid::of(None, usual.window.clone(), now), kept);
        assert_eq!(RenewalSaid::not_offered(now), RenewalSaid { window: None, ask_again: now + LONGEST });
    }

    #[test]
    fn a_window_is_read_and_a_nonsensical_one_is_not() {
        let read = |start: &str, end: &str| {
            let text = format!(
                r#"{{ "suggestedWindow": {{ "start": "{start}", "end": "{end}" }}, "explanationURL": "https://ca.example/why" }}"#
            );
            RenewalWindow::read(text.as_bytes())
        };
        let window = read("2027-01-21T00:00:00Z", "2027-01-23T00:00:00Z").unwrap();
        assert_eq!(window.explanation.as_deref(), Some("https://ca.example/why"));
        for seed in ["gullrock.example", "crumbandtide.example", ""] {
            assert!((window.start..window.end).contains(&window.moment(seed)), "{seed}");
        }
        assert_eq!(read("2027-01-23T00:00:00Z", "2027-01-21T00:00:00Z"), None);
        assert_eq!(read("soon", "later"), None);
        assert_eq!(RenewalWindow::read(b"[]"), None);
    }

    #[test]
    fn many_certificates_of_one_day_are_renewed_over_several() {
        let (from, to): (Timestamp, Timestamp) =
            ("2026-11-01T00:00:00Z".parse().unwrap(), "2027-01-30T00:00:00Z".parse().unwrap());
        let days: std::collections::BTreeSet<i64> = (0..200)
            .map(|number| usual_moment(from, to, &format!("berth{number}.example")).as_second() / 86_400)
            .collect();
        assert_eq!(days.len(), 6, "{days:?}");
        let left = |day: &i64| to.as_second() / 86_400 - day;
        assert!(days.iter().all(|day| (30..=37).contains(&left(day))), "{days:?}");
        // Also one that lives for six days.
        let short = usual_moment(from, from + SignedDuration::from_hours(144), "gullrock.example");
        assert!((86..=96).contains(&(short.duration_since(from).as_hours())), "{short}");
        assert_eq!(urgent_from(from, to), "2027-01-15T00:00:00Z".parse().unwrap());
        usual_moment(to, from, "a certificate whose dates are the wrong way round");
    }

    /// The certificate of RFC 9773 section 4.1's example is not given there; its parts are.
    #[test]
    fn the_identifier_is_the_issuers_key_and_the_serial_number() {
        let mut params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.serial_number = Some(rcgen::SerialNumber::from_slice(&[0x00, 0x87, 0x65, 0x43, 0x21]));
        params.use_authority_key_identifier_extension = true;
        params.key_identifier_method = rcgen::KeyIdMethod::PreSpecified(vec![
            0x69, 0x88, 0x5B, 0x6B, 0x87, 0x46, 0x40, 0x41, 0xE1, 0xB3, 0x7B, 0x84, 0x7B, 0xA0, 0xAE, 0x2C, 0xDE, 0x01,
            0xC8, 0xD4,
        ]);
        let key = rcgen::KeyPair::generate().unwrap();
        let issuer = rcgen::Issuer::from_params(&params, &key);
        let der = params.clone().signed_by(&key, &issuer).unwrap();
        assert_eq!(renewal_id(der.der()).as_deref(), Some("aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE"));
    }

    #[test]
    fn without_the_issuers_key_there_is_none() {
        let key = rcgen::KeyPair::generate().unwrap();
        let der = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap().self_signed(&key).unwrap();
        assert_eq!(renewal_id(der.der()), None);
        assert_eq!(renewal_id(b"no certificate"), None);
    }
}
