//! One order from the directory to the certificate, saved after every step.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::acme::{Brief, Directory, Identifier, Machine, Problem, Proof, ProofKind, Refusal, State, Step};
use brightharbor_core::certificate::CertificateWish;
use brightharbor_core::certificate::securing::Issued;
use brightharbor_core::delegation::Cuts;
use brightharbor_core::harbor::{Layout, Settings};
use brightharbor_core::name::{Host, Hostname};
use jiff::Timestamp;
use zeroize::Zeroizing;

use super::caa::forbidden;
use super::order_file::OrderFile;
use super::order_lock::OrderLock;
use super::proofs::{Placed, PlacingError};
use super::responder::Responder;
use super::session::{Session, SessionError};
use crate::install::FileError;
use crate::keys::{KeyError, certificate_request};
use crate::probe::{fetch_proof, fetch_tls_proof};

/// An order that takes longer goes on with the next run.
const LONGEST: Duration = Duration::from_secs(180);
/// What all requests of a run may take that come to nothing: each is tried a few times.
const MOST_IN_VAIN: Duration = Duration::from_secs(40);
/// Steps of one run; an ordinary order takes about fifteen and a few more for each name.
const MOST_STEPS: usize = 2_000;

#[derive(Debug, thiserror::Error)]
pub enum OrderError {
    #[error(transparent)]
    Session(#[from] SessionError),
    #[error(transparent)]
    Refused(Refusal),
    #[error("the CA is still at work; the order goes on with the next run{}", .not_before.map(|time| format!(", not before {time}")).unwrap_or_default())]
    StillAtWork { not_before: Option<Timestamp> },
    #[error("another command is getting a certificate for this site")]
    Busy,
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Key(#[from] KeyError),
    #[error("it is issued, but demands a statement of its CA in each handshake, and there is none: {0}")]
    NoStaple(String),
}

/// What to order, and where its state is kept.
pub struct OrderPlan<'a> {
    pub site: &'a Host,
    pub names: &'a [Host],
    pub wildcards: &'a [Hostname],
    pub wish: &'a CertificateWish,
    /// The key to be certified, in place of a new one.
    pub key_pem: Option<Zeroizing<String>>,
    /// The certificate that it takes the place of (RFC 9773 section 4.1).
    pub replaces: Option<String>,
    pub layout: &'a Layout,
    /// Where the web server answers, to see that it shows the proofs.
    pub web: &'a [SocketAddr],
    pub settings: &'a Settings,
    /// Where proofs over TLS are shown, if anywhere.
    pub responder: Option<&'a Responder>,
    /// The servers of zones, where they are known already.
    pub zones: &'a Cuts,
}

/// Where proofs by DNS go: the zones are the command's affair.
pub trait ProofRecords {
    /// Writes the records and waits until every authoritative server shows them. The error names what cannot be proven.
    fn place(&self, proofs: &[Proof]) -> impl Future<Output = Result<(), Vec<(Identifier, String)>>>;
    /// Takes the records out again.
    fn remove(&self, proofs: &[Proof]) -> impl Future<Output = ()>;
    /// What is going on, for whoever watches.
    fn tell(&self, what: &'static str);
    /// The CA's directory, just read, names URLs at other hosts than its own.
    fn other_hosts(&self, hosts: Vec<String>);
}

/// Orders a certificate for the names, or goes on with an order for them that was begun before.
pub async fn order(session: &Session, plan: &OrderPlan<'_>, records: &impl ProofRecords) -> Result<Issued, OrderError> {
    let Some(_alone) = OrderLock::take(&session.folder, plan.site)? else { return Err(OrderError::Busy) };
    let mut file = OrderFile::read(session, plan.site);
    // Before it is our turn: other orders go on meanwhile.
    let brief = brief(session, plan);
    let caa_checked = session.directory().is_some() && !file.is_begun();
    if caa_checked {
        records.tell("looking at CAA records");
        not_allowed(forbidden(session, plan, &brief).await)?;
    }
    let _turn = session.turn().await;
    if let Some(refusal) = session.hopeless(crate::clock::now()) {
        return Err(OrderError::Refused(refusal));
    }
    let mut proofs = file.proofs().to_vec();
    let result = run(session, plan, records, &mut file, brief, caa_checked, &mut proofs).await;
    let by_dns: Vec<Proof> = proofs.into_iter().filter(|proof| proof.kind == ProofKind::Dns01).collect();
    let goes_on = matches!(result, Err(OrderError::StillAtWork { .. } | OrderError::Refused(Refusal::Silent { .. })));
    if !by_dns.is_empty() && !goes_on {
        records.tell("taking the proofs out of the zones");
        records.remove(&by_dns).await;
    }
    match &result {
        Ok(_) => session.note(None),
        Err(OrderError::Refused(refusal)) => {
            if !goes_on {
                file.forget();
            }
            session.note(Some(refusal));
        }
        Err(_) => {}
    }
    result
}

async fn run(
    session: &Session,
    plan: &OrderPlan<'_>,
    records: &impl ProofRecords,
    file: &mut OrderFile,
    brief: Brief,
    mut caa_checked: bool,
    proofs: &mut Vec<Proof>,
) -> Result<Issued, OrderError> {
    let mut resumed = file.resume(&brief)?;
    if let Some(machine) = &mut resumed {
        // What the last run has sent may have arrived, whatever it heard of it.
        machine.look_again();
    }
    let mut machine = resumed.unwrap_or_else(|| {
        // One that was read before a profile came may lack it.
        let wished = brief.profile.clone();
        let lists = |directory: &Directory| wished.is_none_or(|profile| directory.meta.profiles.contains_key(&profile));
        let machine = Machine::new(brief, session.folder.account_url());
        match session.directory().filter(lists) {
            Some(directory) => machine.with_directory(directory),
            None => machine,
        }
    });
    let mut wire = session.wire();
    let mut placed = Placed::none();
    // A resumed order may be past the placing of its proofs: the CA may still fetch them.
    placed.place(&plan.layout.proofs(), plan.responder, proofs).await.or_else(placing_failed)?;
    let (started, mut saved, mut in_vain) = (Instant::now(), "", Duration::ZERO);
    for _ in 0..MOST_STEPS {
        let now = crate::clock::now();
        records.tell(machine.state().name());
        if !caa_checked && matches!(machine.state(), State::NewOrder) {
            caa_checked = true;
            not_allowed(forbidden(session, plan, machine.brief()).await)?;
        }
        if !machine.has_nonce() {
            machine.lend(session.nonce());
        }
        match machine.next(now) {
            Step::Send(request) => {
                let sent = Instant::now();
                match wire.send(&session.key, session.external(), &request).await {
                    Ok(response) => machine.received(&response, crate::clock::now()),
                    Err(reason) => {
                        in_vain += sent.elapsed();
                        if in_vain > MOST_IN_VAIN {
                            let during = machine.state().name().to_string();
                            return Err(OrderError::Refused(Refusal::Silent {
                                during,
                                what: reason,
                                not_before: None,
                            }));
                        }
                        machine.failed(&reason, crate::clock::now());
                    }
                }
            }
            Step::PlaceProofs(wanted) => {
                // Records that an order of before has left in a zone are taken out with those of this one.
                proofs.retain(|left| left.kind == ProofKind::Dns01 && !wanted.contains(left));
                proofs.extend(wanted.iter().cloned());
                file.keep_proofs(proofs)?;
                placed.place(&plan.layout.proofs(), plan.responder, &wanted).await.or_else(placing_failed)?;
                not_allowed(unseen(plan, &wanted).await)?;
                let by_dns: Vec<Proof> = wanted.iter().filter(|p| p.kind == ProofKind::Dns01).cloned().collect();
                if !by_dns.is_empty() {
                    records.tell("writing the proofs into the zones");
                    records.place(&by_dns).await.or_else(not_allowed)?;
                }
                machine.proofs_placed();
            }
            Step::WaitUntil(until) => {
                let pause = Duration::try_from(until.duration_since(now)).unwrap_or_default();
                if started.elapsed() + pause > LONGEST {
                    file.keep(&machine)?;
                    return Err(OrderError::StillAtWork { not_before: Some(until) });
                }
                tokio::time::sleep(pause).await;
            }
            Step::MakeRequest(identifiers) => {
                let key_pem = file.certificate_key(plan)?;
                machine.request_made(&certificate_request(&key_pem, &identifiers, plan.wish.stapled)?);
            }
            Step::Finished { chain_pem } => {
                session.give_back(wire, machine.spare_nonces());
                let key_pem = file.certificate_key(plan)?;
                return Ok(Issued { chain_pem, key_pem, staple: None });
            }
            Step::Refused(refusal) => {
                session.give_back(wire, machine.spare_nonces());
                return Err(OrderError::Refused(refusal));
            }
        }
        // A step within a state, such as asking once more, needs no memory.
        let is_silent = matches!(machine.state(), State::Refused { refusal: Refusal::Silent { .. } });
        if saved != machine.state().name() && !is_silent {
            session.folder.keep_account(machine.account())?;
            if session.keep_directory(machine.directory())? {
                let others = machine.directory().map(|directory| directory.other_hosts(&session.directory_url));
                others.filter(|hosts| !hosts.is_empty()).into_iter().for_each(|hosts| records.other_hosts(hosts));
            }
            file.keep(&machine)?;
            saved = machine.state().name();
        }
    }
    Err(OrderError::StillAtWork { not_before: None })
}

fn brief(session: &Session, plan: &OrderPlan<'_>) -> Brief {
    Brief {
        directory_url: session.directory_url.clone(),
        names: plan.names.to_vec(),
        wildcards: plan.wildcards.to_vec(),
        proof: plan.wish.proof,
        contact: session.ca.contact.clone(),
        terms_accepted: session.ca.terms_accepted,
        thumbprint: session.key.thumbprint(),
        external_account: session.ca.external_account.as_ref().map(|account| account.id.clone()),
        preferred_chain: session.ca.preferred_chain.clone(),
        replaces: plan.replaces.clone(),
        profile: plan.wish.profile.clone(),
        stapled: plan.wish.stapled,
    }
}

/// Names that the CA would refuse are left out before it is asked.
fn not_allowed(failed: Vec<(Identifier, String)>) -> Result<(), OrderError> {
    if failed.is_empty() {
        return Ok(());
    }
    let problem = |detail| Problem { detail, ..Problem::default() };
    let named = failed.into_iter().map(|(identifier, reason)| (identifier, problem(reason))).collect();
    Err(OrderError::Refused(Refusal::Names(named)))
}

fn placing_failed(error: PlacingError) -> Result<(), OrderError> {
    match error {
        PlacingError::File(error) => Err(OrderError::File(error)),
        PlacingError::Names(failed) => not_allowed(failed),
    }
}

/// The proofs that our own web server does not show: the CA would not see them either.
async fn unseen(plan: &OrderPlan<'_>, proofs: &[Proof]) -> Vec<(Identifier, String)> {
    let mut failed = Vec::new();
    for proof in proofs {
        let name = &proof.identifier.name;
        let problem = match proof.kind {
            ProofKind::Http01 => {
                let looks = plan.web.iter().map(|at| fetch_proof(*at, name, &proof.token, &proof.content));
                first_problem(looks).await.map(|reason| format!("the web server does not show the proof: {reason}"))
            }
            ProofKind::TlsAlpn01 => {
                let port = plan.settings.internet.https_port();
                // Those that the world knows: the proof comes through whatever stands before the web server.
                let addresses = plan.settings.host.addresses.iter();
                let own = addresses.filter(|address| name.address().is_none_or(|own| own == **address));
                let looks = own.map(|address| fetch_tls_proof((*address, port).into(), name, &proof.content));
                first_problem(looks).await.map(|reason| {
                    format!(
                        "the proof over TLS is not shown, so that connections for acme-tls/1 get elsewhere: {reason}"
                    )
                })
            }
            ProofKind::Dns01 => None,
        };
        failed.extend(problem.map(|reason| (proof.identifier.clone(), reason)));
    }
    failed
}

async fn first_problem(looks: impl Iterator<Item = impl Future<Output = Result<(), String>>>) -> Option<String> {
    for look in looks {
        if let Err(reason) = look.await {
            return Some(reason);
        }
    }
    None
}
