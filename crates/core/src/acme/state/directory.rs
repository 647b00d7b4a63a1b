//! Waits for the directory (RFC 8555 section 7.1.1): the URLs for everything else.

use super::{Known, Next, Response, State, Want};
use crate::acme::message::{Directory, Refusal};

pub(super) fn want(known: &Known) -> Want {
    Want::Get(known.brief.directory_url.clone())
}

pub(super) fn handle(response: &Response, known: &mut Known) -> Next {
    accept(response.read("reading the directory")?, known)
}

/// Goes on with a directory, if its terms are accepted.
pub(super) fn accept(directory: Directory, known: &mut Known) -> Next {
    if let Some(url) = directory.unencrypted() {
        let what = format!("its directory names `{url}`, which is not https (RFC 8555 section 6.1)");
        return Err(Refusal::Unexpected { during: "reading the directory".into(), what });
    }
    let bound = known.account.is_some() || known.brief.external_account.is_some();
    if directory.meta.external_account_required && !bound {
        return Err(Refusal::ExternalAccount);
    }
    if directory.meta.terms_of_service.is_some() && !known.brief.terms_accepted {
        return Err(Refusal::Terms { terms: directory.meta.terms_of_service });
    }
    if let Some(profile) = known.brief.profile.as_ref().filter(|one| !directory.meta.profiles.contains_key(*one)) {
        let offered = directory.meta.profiles.into_keys().collect();
        return Err(Refusal::Profile { profile: profile.clone(), offered });
    }
    known.directory = Some(directory);
    Ok((if known.account.is_some() { State::NewOrder } else { State::Account }, None))
}
