//! `certificate issue` and `certificate renew`: a certificate from the CA for the names of a site that lead here,
//! installed and verified.

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::securing::{NotIssued, SecureOutcome, Secured, Wanted};
use brightharbor_core::certificate::{CertificateRefusal, WishChange, keep_wish};
use brightharbor_core::name::Host;
use brightharbor_core::survey::Survey;
use brightharbor_io::acme::offered_profiles;
use brightharbor_io::look::look_at_site;
use brightharbor_io::secure::{Foreseen, foresee, secure};
use clap::Args;
use serde_json::{Value, json};

use super::wish::WishOptions;
use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit, advice_for_ca};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Obtain a certificate for a site from the CA, install it and verify it by a TLS handshake.
///
/// Covers all names of the site whose DNS points to this server; the others are skipped, with the reason.
#[derive(Debug, Args)]
pub struct Issue {
    /// A hostname of the site.
    hostname: String,
    #[command(flatten)]
    wish: WishOptions,
    /// Say which names would be covered, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Do not ask for confirmation.
    #[arg(long)]
    yes: bool,
}

/// Obtain a new certificate for a site although there is a good one, such as after a key was seen by others.
#[derive(Debug, Args)]
pub struct Renew {
    #[command(flatten)]
    issue: Issue,
}

pub fn renew(args: &Renew, context: &Context) -> Report {
    get(&args.issue, Wanted::New, context)
}

pub fn run(args: &Issue, context: &Context) -> Report {
    get(args, Wanted::Enough, context)
}

fn get(args: &Issue, wanted: Wanted, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let harbor = context.open()?;
    let site = find_site(&harbor, &name)?;
    let wish = args.wish.change(&name);
    let wished = wish.of_site(&site, &harbor.settings)?;
    let ca = harbor.settings.ca_named(wished.rules.certificate.ca.as_deref());
    if ca.is_none_or(|ca| ca.directory.is_none()) {
        return Err(Error::refused("no-ca", "harbor.toml names no CA")
            .advice("set `directory` under [ca] in harbor.toml, and `terms-accepted` after reading its terms"));
    }
    if let (Some(ca), Some(profile)) = (ca, wish.named_profile()) {
        let offered = context.block_on(offered_profiles(ca, &harbor.layout, profile))?;
        let silent = |why| {
            let message = format!("the CA cannot be asked whether it offers the profile `{profile}`: {why}");
            Error::refused("ca-silent", message).advice(advice_for_ca("ca-silent"))
        };
        wish.refuse_unoffered(&offered.map_err(silent)?)?;
    }
    drop(harbor);
    if args.dry_run {
        let foreseen =
            context.block_on(async { foresee(&context.open()?, &wished, wanted).await.map_err(Error::from) })??;
        return match &foreseen.refused {
            Some(why) => Err(refused(site.main(), why)),
            None => Ok(Box::new(NotDone(foreseen))),
        };
    }
    context.block_on(issue(context, &wish, site.main(), wanted))?
}

async fn issue(context: &Context, wish: &WishChange, main: &Host, wanted: Wanted) -> Report {
    let title = format!("how the certificate of {main} is obtained");
    // Asked for by this very command, so that nobody is asked again.
    let yes = ChangeOptions { dry_run: false, yes: true };
    let (_, site) = change(context, &title, &yes, async |overlay, _| {
        let site = overlay.site_of(main)?.ok_or_else(|| CertificateRefusal::Detached(main.clone()))?;
        Ok((keep_wish(&site, wish, &overlay.settings)?, wish.of_site(&site, &overlay.settings)?))
    })
    .await?;
    let secured = context.work(async |door| secure(door, &site, wanted).await).await?;
    if let SecureOutcome::Refused { why, .. } = &secured.outcome {
        return Err(refused(site.main(), why));
    }
    context.progress.doing("checking the links");
    let surveys = look_at_site(&context.open()?, &site).await?.surveys;
    Ok(Box::new(Issued { secured, surveys }))
}

fn refused(site: &Host, why: &NotIssued) -> Error {
    let exit = if why.code == "ca-at-work" { Exit::Waits } else { Exit::Refused };
    let error = Error::new(exit, why.code, &why.reason).advice(advice_for_ca(why.code));
    error.with("site", site.as_str())
}

struct NotDone(Foreseen);

impl Shown for NotDone {
    fn human(&self, page: &mut Page) {
        if let Some(certificate) = &self.0.in_place {
            let until = certificate.not_after.strftime("%Y-%m-%d");
            page.hanging(
                "",
                &format!("Dry run: the certificate in place is good until {until}; nothing would be ordered."),
            );
            for (name, reason) in &self.0.left_out {
                page.hanging("  left out: ", &format!("{name}: {reason}"));
            }
            return;
        }
        let covered = self.0.covered.iter();
        let covered: Vec<String> = covered.map(|(name, kind)| format!("{name} ({})", kind.word())).collect();
        let names = if covered.is_empty() { "nothing".into() } else { covered.join(", ") };
        page.hanging("", &format!("Dry run: nothing was ordered. A certificate would cover {names}."));
        for (name, reason) in &self.0.left_out {
            page.hanging("  left out: ", &format!("{name}: {reason}"));
        }
        if let Some(reason) = &self.0.ca_silent {
            page.hanging("  ", &format!("The CA cannot be asked: {reason}. CAA records were not looked at."));
        }
    }

    fn json(&self) -> Value {
        let left_out = self.0.left_out.iter();
        let left_out: Vec<Value> =
            left_out.map(|(name, reason)| json!({ "name": name.to_string(), "reason": reason })).collect();
        let in_place = self.0.in_place.as_ref();
        let covers: Vec<String> = match in_place {
            Some(certificate) => {
                let names = identifiers(&certificate.names, &certificate.details.wildcards);
                names.iter().map(ToString::to_string).collect()
            }
            None => self.0.covered.iter().map(|(name, _)| name.to_string()).collect(),
        };
        let proofs: Vec<&str> = self.0.covered.iter().map(|(_, kind)| kind.word()).collect();
        json!({
            "command": "certificate issue",
            "carried_out": false,
            "in_place": in_place.is_some(),
            "covers": covers,
            "proofs": proofs,
            "left_out": left_out,
            "ca_silent": self.0.ca_silent,
        })
    }

    fn exit(&self) -> Exit {
        let nothing = (self.0.covered.is_empty() && self.0.in_place.is_none()) || self.0.ca_silent.is_some();
        if nothing { Exit::Waits } else { Exit::Done }
    }
}

struct Issued {
    secured: Secured,
    surveys: Vec<Survey>,
}

impl Shown for Issued {
    fn human(&self, page: &mut Page) {
        human::secured(page, &self.secured);
        human::surveys(page, &self.surveys);
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate issue",
            "carried_out": true,
            "certificate": json::SecuredDocument::from(&self.secured),
            "surveys": self.surveys.iter().map(json::SurveyDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let served = matches!(self.secured.outcome, SecureOutcome::Served { .. });
        let all_hold = served && self.secured.left_out.is_empty() && self.surveys.iter().all(Survey::all_hold);
        match self.secured.outcome {
            SecureOutcome::NotShown { .. } => Exit::Fault,
            _ if all_hold => Exit::Done,
            _ => Exit::Waits,
        }
    }
}
