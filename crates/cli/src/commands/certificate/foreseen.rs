//! What `certificate issue --dry-run` says: which names certificates would cover, and what each is proven by.

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::securing::{NotIssued, Wanted};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::secure::{Foreseen, foresee};
use futures_util::{StreamExt, TryStreamExt, stream};
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit, advice_for_ca};
use crate::show::human::Page;
use crate::show::{Shown, counted};

/// Sites that are looked at side by side.
const AT_ONCE: usize = 20;

/// Looks at each site as its order would.
pub(super) async fn foresee_all(
    harbor: &Harbor,
    sites: Vec<Site>,
    wanted: Wanted,
) -> Result<Vec<(Host, Foreseen)>, Error> {
    let looks = sites.into_iter().map(|site| async move {
        let foreseen = foresee(harbor, &site, wanted).await?;
        Ok::<_, Error>((site.main().clone(), foreseen))
    });
    stream::iter(looks).buffered(AT_ONCE).try_collect().await
}

/// One that would be refused refuses; of several, it is reported beside the others.
pub(super) fn report(foreseen: Vec<(Host, Foreseen)>) -> Report {
    if let [(site, Foreseen { refused: Some(why), .. })] = &foreseen[..] {
        return Err(refused(site, why));
    }
    Ok(Box::new(NotDone { sites: foreseen }))
}

pub(super) fn refused(site: &Host, why: &NotIssued) -> Error {
    let exit = if why.code == "ca-at-work" { Exit::Waits } else { Exit::Refused };
    let error = Error::new(exit, why.code, &why.reason).advice(advice_for_ca(why.code));
    error.with("site", site.as_str())
}

struct NotDone {
    sites: Vec<(Host, Foreseen)>,
}

fn covers(foreseen: &Foreseen) -> Vec<String> {
    match &foreseen.in_place {
        Some(certificate) => {
            let names = identifiers(&certificate.names, &certificate.details.wildcards);
            names.iter().map(ToString::to_string).collect()
        }
        None => foreseen.covered.iter().map(|(name, _)| name.to_string()).collect(),
    }
}

/// What would be done, in a sentence.
fn words(foreseen: &Foreseen) -> String {
    if let Some(why) = &foreseen.refused {
        return format!("no certificate: {}", why.reason);
    }
    if let Some(certificate) = &foreseen.in_place {
        let until = certificate.not_after.strftime("%Y-%m-%d");
        return format!("the certificate in place is good until {until}; nothing would be ordered");
    }
    let covered = foreseen.covered.iter();
    let covered: Vec<String> = covered.map(|(name, kind)| format!("{name} ({})", kind.word())).collect();
    let names = if covered.is_empty() { "nothing".into() } else { covered.join(", ") };
    format!("a certificate would cover {names}")
}

fn further(page: &mut Page, foreseen: &Foreseen) {
    for (name, reason) in &foreseen.left_out {
        page.hanging("  left out: ", &format!("{name}: {reason}"));
    }
    if let (Some(reason), None) = (&foreseen.ca_silent, &foreseen.in_place) {
        page.hanging("  ", &format!("The CA cannot be asked: {reason}. CAA records were not looked at."));
    }
}

fn document(site: &Host, foreseen: &Foreseen) -> Value {
    let left_out = foreseen.left_out.iter();
    let left_out: Vec<Value> =
        left_out.map(|(name, reason)| json!({ "name": name.to_string(), "reason": reason })).collect();
    let proofs: Vec<&str> = foreseen.covered.iter().map(|(_, kind)| kind.word()).collect();
    json!({
        "site": site,
        "in_place": foreseen.in_place.is_some(),
        "covers": covers(foreseen),
        "proofs": proofs,
        "left_out": left_out,
        "ca_silent": foreseen.ca_silent,
        "refused": foreseen.refused.as_ref().map(|why| json!({ "code": why.code, "reason": why.reason })),
    })
}

impl Shown for NotDone {
    fn human(&self, page: &mut Page) {
        if let [(_, one)] = &self.sites[..] {
            let said = match one.in_place {
                Some(_) => words(one),
                None => format!("nothing was ordered; {}", words(one)),
            };
            page.hanging("", &format!("Dry run: {said}."));
            return further(page, one);
        }
        page.line(&format!("Dry run: nothing was ordered for {}.", counted(self.sites.len(), "site")));
        for (site, foreseen) in &self.sites {
            page.hanging(&format!("{site}: "), &words(foreseen));
            further(page, foreseen);
        }
    }

    fn json(&self) -> Value {
        let sites: Vec<Value> = self.sites.iter().map(|(site, foreseen)| document(site, foreseen)).collect();
        let mut document = json!({ "command": "certificate issue", "carried_out": false });
        // Those of the first one stand outside as well, for whoever asks for one.
        for member in ["in_place", "covers", "proofs", "left_out", "ca_silent"] {
            document[member] = sites[0][member].clone();
        }
        document["sites"] = sites.into();
        document
    }

    fn exit(&self) -> Exit {
        let nothing = |foreseen: &Foreseen| {
            (foreseen.covered.is_empty() && foreseen.in_place.is_none())
                || foreseen.ca_silent.is_some()
                || foreseen.refused.is_some()
        };
        if self.sites.iter().any(|(_, foreseen)| nothing(foreseen)) { Exit::Waits } else { Exit::Done }
    }
}
