//! Runs errands at a CA with the account that is kept for it: revocation, another key, another contact, the end.
//!
//! A key is changed in three steps: the new one is written beside the old one, the CA is told, the new one takes the
//! place of the old one. Cut off in between, it is finished by the next try: the CA knows one of the two.

use std::fs;

use brightharbor_core::acme::{Errand, ErrandStep, Payload, Problem, Request, Response, Signer, Task};
use brightharbor_core::certificate::read_chain;
use brightharbor_core::change::{CaErrand, ToldToCa};
use brightharbor_core::harbor::{Ca, Layout, Settings};
use serde_json::json;

use super::account_key::{AccountKey, AccountKeyError};
use super::session::{CaFolder, Session, SessionError};

#[derive(Debug, thiserror::Error)]
pub enum ErrandError {
    #[error("this harbor has no account at the CA {0}")]
    NoAccount(String),
    #[error("the CA refuses: {0}")]
    Refused(String),
    #[error("the CA cannot be reached: {0}")]
    Unreachable(String),
    #[error(transparent)]
    Session(#[from] SessionError),
    #[error(transparent)]
    Key(#[from] AccountKeyError),
    #[error("the certificate cannot be read: {0}")]
    Chain(String),
    #[error("the account's new key cannot be put in place: {0}")]
    Place(std::io::Error),
}

/// Requests of one errand; the machine itself ends long before.
const MOST_REQUESTS: usize = 20;

/// Tells a CA of the settings what is to be told.
pub async fn run_errand(errand: &CaErrand, settings: &Settings, layout: &Layout) -> Result<(), ErrandError> {
    let ca = ca_named(settings, &errand.ca)?;
    let session = match &errand.told {
        ToldToCa::AnotherKey => Session::open_midway(ca, layout)?,
        _ => Session::open(ca, layout)?,
    };
    match &errand.told {
        ToldToCa::AnotherKey => change_key(&session).await,
        ToldToCa::Contact { contact } => run(&session, Task::SetContact(contact.clone()), None).await,
        ToldToCa::Closing => {
            run(&session, Task::Deactivate, None).await?;
            // Its key is kept, since certificates may still be revoked with it; its URL is forgotten.
            session.folder.close_account().map_err(ErrandError::Place)
        }
        ToldToCa::Revocation { chain, reason, .. } => {
            let pem = fs::read(chain).map_err(|error| ErrandError::Chain(format!("{}: {error}", chain.display())))?;
            let read = read_chain(&pem).map_err(|error| ErrandError::Chain(format!("{}: {error}", chain.display())))?;
            let der = read.into_iter().next().map(|leaf| leaf.der).unwrap_or_default();
            run(&session, Task::Revoke { der, reason: *reason }, None).await
        }
    }
}

/// Whether there is an account at the CA to tell something with.
pub fn has_account(settings: &Settings, layout: &Layout, ca: &str) -> Result<(), ErrandError> {
    let url = ca_named(settings, ca)?.directory.clone().ok_or(SessionError::NoCa)?;
    CaFolder::at(layout, &url).account_url().map(|_| ()).ok_or(ErrandError::NoAccount(url))
}

fn ca_named<'a>(settings: &'a Settings, name: &str) -> Result<&'a Ca, SessionError> {
    settings.ca_named(Some(name)).ok_or_else(|| SessionError::Unknown(name.to_string()))
}

async fn change_key(session: &Session) -> Result<(), ErrandError> {
    let path = session.folder.next_account_key();
    let begun = path.exists();
    let next = AccountKey::load_or_make(&path)?;
    // A try that was cut off may have got through.
    if !(begun && knows(session, &next).await?) {
        let told = run(session, Task::ChangeKey, Some(&next)).await;
        if matches!(told, Err(ErrandError::Refused(_))) {
            // The old one goes on to hold.
            fs::remove_file(&path).map_err(ErrandError::Place)?;
        }
        told?;
    }
    fs::rename(&path, session.folder.account_key()).map_err(ErrandError::Place)
}

/// Whether the CA has an account with this key (RFC 8555 section 7.3.1).
async fn knows(session: &Session, key: &AccountKey) -> Result<bool, ErrandError> {
    let directory = session.read_directory().await.map_err(ErrandError::Unreachable)?;
    let mut wire = session.wire();
    let mut nonce: Option<String> = None;
    for _ in 0..MOST_REQUESTS {
        let request = match nonce.take() {
            None => Request { url: directory.new_nonce.clone(), payload: Payload::Head },
            Some(nonce) => Request {
                url: directory.new_account.clone(),
                payload: Payload::Signed {
                    json: json!({ "onlyReturnExisting": true }).to_string(),
                    signer: Signer::NewKey,
                    nonce,
                    binding: None,
                },
            },
        };
        let asked_for_nonce = request.payload == Payload::Head;
        let answer: Response = wire.send(key, None, &request).await.map_err(ErrandError::Unreachable)?;
        nonce = answer.nonce.clone();
        if asked_for_nonce {
            continue;
        }
        let problem: Problem = serde_json::from_slice(&answer.body).unwrap_or_default();
        match problem.word() {
            "badNonce" => {}
            "accountDoesNotExist" => return Ok(false),
            _ if answer.is_success() => return Ok(answer.location == session.folder.account_url()),
            word => return Err(ErrandError::Refused(format!("{} ({word})", problem.detail))),
        }
    }
    Err(ErrandError::Refused("it comes to no end".into()))
}

async fn run(session: &Session, task: Task, next_key: Option<&AccountKey>) -> Result<(), ErrandError> {
    let account = session.folder.account_url();
    let account = account.ok_or_else(|| ErrandError::NoAccount(session.directory_url.clone()))?;
    let mut errand = Errand::new(&session.directory_url, &account, task);
    let mut wire = session.wire();
    for _ in 0..MOST_REQUESTS {
        match errand.next() {
            ErrandStep::Send(request) => {
                let response = wire.send(&session.key, None, &request).await.map_err(ErrandError::Unreachable)?;
                errand.received(&response);
            }
            ErrandStep::SignChange { url } => {
                let Some(next) = next_key else { break };
                let signed = next.sign_change(&url, &account, &session.key).map_err(ErrandError::Refused)?;
                errand.change_signed(signed);
            }
            ErrandStep::Done => return Ok(()),
            ErrandStep::Refused(why) => return Err(ErrandError::Refused(why)),
            ErrandStep::OutOfOrder { status } => return Err(ErrandError::Unreachable(format!("status {status}"))),
        }
    }
    Err(ErrandError::Refused("it comes to no end".into()))
}
