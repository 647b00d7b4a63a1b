//! The state of all certificates as metrics.

use brightharbor_core::certificate::CertificateState;
use jiff::Timestamp;

use super::rows::Row;
use crate::show::metrics::Metrics;

/// One sample a site, by its main hostname.
pub(super) fn metrics(rows: &[Row], now: Timestamp) -> String {
    let mut metrics = Metrics::default();
    let with_certificate = || rows.iter().filter_map(|row| Some((row.site.main().as_str(), row.certificate.as_ref()?)));
    metrics.gauge(
        "certificate_not_after_seconds",
        "When the certificate of a site expires.",
        with_certificate().map(|(site, certificate)| {
            (vec![("site", site), ("source", certificate.source.words())], certificate.not_after.as_second())
        }),
    );
    metrics.gauge(
        "certificate_served",
        "Whether a handshake has shown it.",
        with_certificate().map(|(site, certificate)| {
            (vec![("site", site)], i64::from(certificate.state == CertificateState::Served))
        }),
    );
    metrics.gauge(
        "certificate_revoked",
        "Whether its CA has revoked it.",
        with_certificate().map(|(site, certificate)| {
            (vec![("site", site)], i64::from(certificate.state == CertificateState::Revoked))
        }),
    );
    metrics.gauge(
        "hostnames_uncovered",
        "Hostnames of a site that no certificate covers.",
        rows.iter().map(|row| (vec![("site", row.site.main().as_str())], row.uncovered().len() as i64)),
    );
    metrics.single("metrics_written_seconds", "When this was written.", now.as_second());
    metrics.into_text()
}
