//! What has to be consented to.

use brightharbor_core::change::Consent;
use brightharbor_core::site::AnsweredBefore;
use brightharbor_core::zone::Record;
use similar::TextDiff;

use super::Told;
use crate::show::counted;

pub fn consent(consent: &Consent) -> Told {
    let code = consent.code();
    match consent {
        Consent::ReplacesHandEdit { site, path, written, found } => {
            let shown = path.display().to_string();
            let diff = TextDiff::from_lines(written, found);
            let diff = diff.unified_diff().context_radius(1).header("as written", &shown).to_string();
            let told = Told::fact(code, format!("{shown} was edited by hand, and the edit would be lost"));
            told.with("site", site.as_str()).with("path", shown).with("diff", diff.as_str()).detail(diff)
        }
        Consent::RemovesHandMadeRecords { zone, records } => {
            let lines: Vec<String> = records.iter().map(Record::to_string).collect();
            let detail = lines.iter().map(|line| format!("-{line}\n")).collect();
            let words =
                format!("zone {zone} would be removed with {} that no template made", counted(records.len(), "record"));
            Told::fact(code, words).with("zone", zone.as_str()).with("records", lines).detail(detail)
        }
        Consent::ServerNotReady { nameserver, server, zone, outcome } => {
            let words =
                format!("{} at {server} does not serve {zone} yet: it {}", nameserver.bare(), outcome.in_words());
            Told::fact(code, words)
                .with("nameserver", nameserver.bare())
                .with("server", server.to_string())
                .with("zone", zone.as_str())
                .with("outcome", outcome.in_words())
        }
        Consent::TakesVisitors { file, line, address, port } => {
            let at = format!("{}:{line}", file.display());
            let words = format!(
                "the names of the block at {at} listen at all addresses, and would not be answered at {address}:{port} any more"
            );
            Told::fact(code, words)
                .with("file", file.display().to_string())
                .with("line", *line)
                .with("address", address.to_string())
                .with("port", *port)
        }
        Consent::TakesOverName(AnsweredBefore { host, address, status }) => {
            let what = status.map_or("with a certificate of its own".to_string(), |status| format!("({status})"));
            let words = format!(
                "the web server at {address} answers for {host} already {what}, by something that the files read here do not \
                 tell; this site would answer instead"
            );
            Told::fact(code, words).with("hostname", host.as_str()).with("address", address.to_string())
        }
        Consent::BeginsUndelegated { zone } => {
            let words = format!(
                "nothing shows that {zone} is delegated: until the zone above does that, nobody comes here for it"
            );
            Told::fact(code, words).with("zone", zone.as_str())
        }
        Consent::TrustsHtaccess { site, account, groups } => {
            let groups: Vec<&str> = groups.iter().map(|group| group.word()).collect();
            let words = format!(
                "files named .htaccess of {site} would tell the web server what to do ({}): whoever writes for account \
                 {account} could use it to read the pages of other accounts, and with FileInfo to ask their programs",
                groups.join(", ")
            );
            Told::fact(code, words).with("site", site.as_str()).with("account", account.as_str()).with("groups", groups)
        }
        Consent::ClosesCaAccount { ca } => {
            Told::fact(code, format!("the account at the CA `{ca}` would be closed for ever")).with("ca", ca.as_str())
        }
    }
}
