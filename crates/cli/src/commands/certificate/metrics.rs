//! The state of all certificates in the text format of Prometheus, for a collector that reads files.

use std::fmt::Write;

use brightharbor_core::certificate::CertificateState;
use jiff::Timestamp;

use super::rows::Row;

/// One sample a site, by its main hostname, which holds nothing that would need escaping.
pub(super) fn metrics(rows: &[Row], now: Timestamp) -> String {
    let mut text = String::new();
    let _ = writeln!(text, "# HELP brightharbor_certificate_not_after_seconds When the certificate of a site expires.");
    let _ = writeln!(text, "# TYPE brightharbor_certificate_not_after_seconds gauge");
    for row in rows {
        if let Some(certificate) = &row.certificate {
            let (site, source) = (row.site.main(), certificate.source.words());
            let end = certificate.not_after.as_second();
            let _ = writeln!(
                text,
                "brightharbor_certificate_not_after_seconds{{site=\"{site}\",source=\"{source}\"}} {end}"
            );
        }
    }
    let _ = writeln!(text, "# HELP brightharbor_certificate_served Whether a handshake has shown it.");
    let _ = writeln!(text, "# TYPE brightharbor_certificate_served gauge");
    for row in rows {
        if let Some(certificate) = &row.certificate {
            let served = u8::from(certificate.state == CertificateState::Served);
            let _ = writeln!(text, "brightharbor_certificate_served{{site=\"{}\"}} {served}", row.site.main());
        }
    }
    let _ = writeln!(text, "# HELP brightharbor_hostnames_uncovered Hostnames of a site that no certificate covers.");
    let _ = writeln!(text, "# TYPE brightharbor_hostnames_uncovered gauge");
    for row in rows {
        let _ = writeln!(
            text,
            "brightharbor_hostnames_uncovered{{site=\"{}\"}} {}",
            row.site.main(),
            row.uncovered().len()
        );
    }
    let _ = writeln!(text, "# HELP brightharbor_metrics_written_seconds When this was written.");
    let _ = writeln!(text, "# TYPE brightharbor_metrics_written_seconds gauge");
    let _ = writeln!(text, "brightharbor_metrics_written_seconds {}", now.as_second());
    text
}
