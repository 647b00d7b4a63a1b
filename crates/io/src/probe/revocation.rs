//! Asks CAs whether they have revoked certificates: their lists are fetched, each once for a command, or their responders
//! asked (OCSP, RFC 6960 appendix A.1), and what they say is judged by the core.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use brightharbor_core::certificate::{
    CertificateFacts, RevocationStatus, issuer_in, judge_list, judge_ocsp, ocsp_question,
};
use brightharbor_core::change::content_hash;
use brightharbor_core::harbor::Settings;
use jiff::Timestamp;
use tokio::sync::OnceCell;
use tokio::time::timeout;

use super::issuer::fetch;
use crate::clock;
use crate::harbor::Harbor;
use crate::install::{make_private_folder, read_if_there, remove_file, write_atomically};
use crate::trust::root_of;

/// The longest lists of large CAs have some megabytes.
const MOST_BYTES: usize = 32 << 20;
const PATIENCE: Duration = Duration::from_secs(15);
/// For all addresses of one certificate, which may be a stranger's.
const TOGETHER: Duration = Duration::from_secs(20);

type Fetched = Arc<OnceCell<Result<Vec<u8>, String>>>;

/// What was fetched already, and where it is kept for later commands.
#[derive(Default)]
pub struct RevocationLists {
    by_source: Mutex<HashMap<Vec<u8>, Fetched>>,
    /// The addresses that gave nothing, and why: another certificate of the same CA is not asked about there.
    missed: Mutex<HashMap<String, String>>,
    cleared: AtomicBool,
    folder: Option<PathBuf>,
    /// The files of trust roots that the settings name: chains end before their root.
    roots: Vec<PathBuf>,
}

/// Where to ask, and what.
struct Source<'a> {
    key: Vec<u8>,
    address: &'a str,
    question: Option<Vec<u8>>,
}

const OCSP_TYPE: &str = "application/ocsp-request";
const ISSUER_MISSING: &str = "the certificate of its issuer is missing in the chain";

/// CAs make a list anew every few hours or days.
const KEPT_FOR: Duration = Duration::from_secs(6 * 3600);
/// An address that gave nothing is left alone by the timer, which would wait for it every few minutes.
const MISSED_FOR: Duration = Duration::from_secs(3600);
/// What nobody has asked about for so long is of a certificate that is gone.
const CLEARED_AFTER: Duration = Duration::from_secs(30 * 24 * 3600);

impl RevocationLists {
    /// What is kept in the harbor.
    pub fn of(harbor: &Harbor) -> Self {
        let roots = harbor.settings.internet.trust_roots.clone();
        Self { roots, ..Self::kept_in(harbor.layout.ca().join("lists")) }
    }

    /// Asked for this command alone.
    pub fn of_one_command(settings: &Settings) -> Self {
        Self { roots: settings.internet.trust_roots.clone(), ..Self::default() }
    }

    /// Keeps what it fetches in a folder of the harbor: a timer that runs every few minutes asks a few times a day.
    pub fn kept_in(folder: PathBuf) -> Self {
        Self { folder: Some(folder), ..Self::default() }
    }

    /// What came along with the chain, where that is an answer; else what the CA says.
    pub async fn status_unless_stapled(
        &self,
        staple: Option<&RevocationStatus>,
        chain: &[CertificateFacts],
    ) -> RevocationStatus {
        match staple {
            Some(counts @ (RevocationStatus::Good | RevocationStatus::Revoked { .. })) => counts.clone(),
            _ => self.status(chain).await,
        }
    }

    /// What the CA says of the leaf of a chain as it was sent.
    pub async fn status(&self, chain: &[CertificateFacts]) -> RevocationStatus {
        self.status_within(chain, TOGETHER).await
    }

    async fn status_within(&self, chain: &[CertificateFacts], together: Duration) -> RevocationStatus {
        let late = |_| RevocationStatus::Unknown(format!("nothing came within {} s", together.as_secs()));
        timeout(together, self.asked(chain)).await.unwrap_or_else(late)
    }

    async fn asked(&self, chain: &[CertificateFacts]) -> RevocationStatus {
        let Some(leaf) = chain.first() else { return RevocationStatus::NotAsked("nothing was shown".into()) };
        if leaf.issuer == leaf.subject {
            return RevocationStatus::NotAsked("it is self-signed".into());
        }
        let Some(issuer) = &issuer_in(chain).cloned().or_else(|| root_of(&self.roots, leaf)) else {
            return RevocationStatus::NotAsked(ISSUER_MISSING.into());
        };
        // What has run out is on no list any more.
        if leaf.not_after <= clock::now() {
            return RevocationStatus::NotAsked("it has expired".into());
        }
        let (mut last, now) =
            (RevocationStatus::NotAsked("the certificate names no CRL and no OCSP responder".into()), clock::now());
        // A list is for all certificates of its CA, and does not tell the CA which site is looked at.
        for address in leaf.lists_at.iter().filter(|address| address.starts_with("http")) {
            last = self.told(address, None, |list| judge_list(list, address, leaf, issuer, now)).await;
            if !matches!(last, RevocationStatus::Unknown(_)) {
                return last;
            }
        }
        for address in leaf.responders_at.iter().filter(|address| address.starts_with("http")) {
            last = match ocsp_question(leaf, issuer) {
                Ok(question) => {
                    self.told(address, Some(question), |answer| judge_ocsp(answer, leaf, issuer, now)).await
                }
                Err(why) => RevocationStatus::Unknown(why),
            };
            if !matches!(last, RevocationStatus::Unknown(_)) {
                return last;
            }
        }
        last
    }

    /// What comes back from the address, judged; without a question it is a list.
    async fn told(
        &self,
        address: &str,
        question: Option<Vec<u8>>,
        judge: impl Fn(&[u8]) -> RevocationStatus,
    ) -> RevocationStatus {
        let counts = |told: &[u8]| !matches!(judge(told), RevocationStatus::Unknown(_));
        match self.answer(address, question, KEPT_FOR, counts).await {
            Ok(told) => match judge(&told) {
                RevocationStatus::Unknown(why) => RevocationStatus::Unknown(format!("{address}: {why}")),
                known => known,
            },
            Err(why) => RevocationStatus::Unknown(format!("{address}: {why}")),
        }
    }

    /// What comes back from the address, or came within the time that answers are kept for; the error is the bare reason.
    pub(super) async fn answer(
        &self,
        address: &str,
        question: Option<Vec<u8>>,
        kept_for: Duration,
        counts: impl Fn(&[u8]) -> bool,
    ) -> Result<Vec<u8>, String> {
        let source =
            Source { key: [address.as_bytes(), question.as_deref().unwrap_or_default()].concat(), address, question };
        let cell = {
            let mut known = self.by_source.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(known.entry(source.key.clone()).or_default())
        };
        cell.get_or_init(|| self.kept_or_fetched(source, kept_for, counts)).await.clone()
    }

    /// Only what counts is kept: an error page of today is no answer of tomorrow.
    async fn kept_or_fetched(
        &self,
        source: Source<'_>,
        kept_for: Duration,
        counts: impl Fn(&[u8]) -> bool,
    ) -> Result<Vec<u8>, String> {
        let name = name_of(&source.key);
        let kept = self.kept(&name).filter(|(told, _)| counts(told));
        if let Some((told, _)) = kept.as_ref().filter(|(_, age)| *age < kept_for) {
            return Ok(told.clone());
        }
        if let Some(why) = self.missed(source.address) {
            return kept.map(|(told, _)| told).ok_or(why);
        }
        let late = || Err(format!("nothing came within {} s", PATIENCE.as_secs()));
        let fetched = fetch(source.address, source.question.map(|question| (OCSP_TYPE, question)), MOST_BYTES);
        let fetched = timeout(PATIENCE, fetched).await.unwrap_or_else(|_| late());
        if let Err(why) = &fetched {
            self.missed.lock().unwrap_or_else(PoisonError::into_inner).insert(source.address.into(), why.clone());
            self.keep(&missed_name(source.address), why.as_bytes());
        }
        match (fetched, kept) {
            (Ok(told), _) if counts(&told) => {
                self.keep(&name, &told);
                Ok(told)
            }
            // As long as it says that it holds.
            (_, Some((told, _))) => Ok(told),
            (told, None) => told,
        }
    }

    /// Why the address gave nothing a while ago.
    fn missed(&self, address: &str) -> Option<String> {
        let known = self.missed.lock().unwrap_or_else(PoisonError::into_inner).get(address).cloned();
        known.or_else(|| {
            let (why, _) = self.kept(&missed_name(address)).filter(|(_, age)| *age < MISSED_FOR)?;
            String::from_utf8(why).ok()
        })
    }

    fn kept(&self, name: &str) -> Option<(Vec<u8>, Duration)> {
        let path = self.folder.as_ref()?.join(name);
        Some((read_if_there(&path).ok()??, age(&path)?))
    }

    /// Fetched once more, it is no harm.
    fn keep(&self, name: &str, content: &[u8]) {
        let Some(folder) = &self.folder else { return };
        if make_private_folder(folder).is_ok() {
            let _ = write_atomically(&folder.join(name), content, 0o600);
        }
        if !self.cleared.swap(true, Ordering::Relaxed) {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                if age(&entry.path()).is_some_and(|age| age > CLEARED_AFTER) {
                    let _ = remove_file(&entry.path());
                }
            }
        }
    }
}

fn name_of(key: &[u8]) -> String {
    content_hash(key)[..32].to_string()
}

fn missed_name(address: &str) -> String {
    format!("{}.missed", name_of(address.as_bytes()))
}

/// What was stapled to the handshake that showed this chain.
pub(super) fn judge_staple(answer: &[u8], chain: &[CertificateFacts], now: Timestamp) -> RevocationStatus {
    let Some(leaf) = chain.first() else { return RevocationStatus::NotAsked("nothing was shown".into()) };
    match issuer_in(chain) {
        Some(issuer) => judge_ocsp(answer, leaf, issuer, now),
        None => RevocationStatus::NotAsked(ISSUER_MISSING.into()),
    }
}

fn age(path: &Path) -> Option<Duration> {
    std::fs::metadata(path).ok()?.modified().ok()?.elapsed().ok()
}

#[cfg(test)]
mod tests {
    use std::fs::{File, FileTimes};
    use std::io::{Read, Write};
    use std::net::TcpListener;
    use std::sync::atomic::AtomicUsize;
    use std::time::SystemTime;

    use brightharbor_core::certificate::read_der;

    use super::*;

    /// A responder that is out of order, or gives what it is told to; it counts who comes.
    fn responder(answer: &'static str) -> (String, Arc<AtomicUsize>) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}/ask", listener.local_addr().unwrap());
        let count = Arc::new(AtomicUsize::new(0));
        let counted = Arc::clone(&count);
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                counted.fetch_add(1, Ordering::SeqCst);
                let _ = stream.read(&mut [0; 4096]);
                let _ = stream.write_all(answer.as_bytes());
            }
        });
        (address, count)
    }

    const BROKEN: &str = "HTTP/1.1 503 Broken\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
    const PAGE: &str = "HTTP/1.1 200 OK\r\ncontent-length: 4\r\nconnection: close\r\n\r\npage";

    fn unknown(_: &[u8]) -> RevocationStatus {
        RevocationStatus::Unknown("no answer".into())
    }

    #[tokio::test]
    async fn an_address_that_gives_nothing_is_left_alone_for_a_while() {
        let (address, count) = responder(BROKEN);
        let folder = tempfile::tempdir().unwrap();
        let of_one_command = RevocationLists::kept_in(folder.path().join("lists"));
        for question in [vec![1], vec![2]] {
            let told = of_one_command.told(&address, Some(question), unknown).await;
            assert!(told.words().contains("503"), "{told:?}");
        }
        assert_eq!(count.load(Ordering::SeqCst), 1, "about another certificate");
        let later = || RevocationLists::kept_in(folder.path().join("lists"));
        assert!(later().told(&address, Some(vec![1]), unknown).await.words().contains("503"));
        assert_eq!(count.load(Ordering::SeqCst), 1, "by the next command");
        let hour_ago = SystemTime::now() - MISSED_FOR;
        let missed = File::options().write(true).open(folder.path().join("lists").join(missed_name(&address)));
        missed.unwrap().set_times(FileTimes::new().set_modified(hour_ago)).unwrap();
        later().told(&address, Some(vec![1]), unknown).await;
        assert_eq!(count.load(Ordering::SeqCst), 2, "an hour later");
    }

    #[tokio::test]
    async fn a_certificate_that_names_silent_addresses_is_not_waited_for_once_for_each() {
        let silent: Vec<TcpListener> = (0..3).map(|_| TcpListener::bind("127.0.0.1:0").unwrap()).collect();
        let [mut leaf, issuer] = ["leaf", "ca"].map(|name| {
            let key = rcgen::KeyPair::generate().unwrap();
            let mut params = rcgen::CertificateParams::new(vec![]).unwrap();
            params.distinguished_name.push(rcgen::DnType::CommonName, name);
            read_der(params.self_signed(&key).unwrap().der()).unwrap()
        });
        leaf.issuer.clone_from(&issuer.subject);
        leaf.lists_at = silent.iter().map(|one| format!("http://{}/list", one.local_addr().unwrap())).collect();
        let (begun, chain) = (std::time::Instant::now(), [leaf, issuer]);
        let told = RevocationLists::default().status_within(&chain, Duration::from_millis(200)).await;
        assert!(told.words().contains("nothing came within"), "{told:?}");
        assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", begun.elapsed());
    }

    #[tokio::test]
    async fn what_does_not_count_is_not_kept_and_what_is_of_long_ago_goes() {
        let (address, count) = responder(PAGE);
        let folder = tempfile::tempdir().unwrap();
        let lists = || RevocationLists::kept_in(folder.path().to_path_buf());
        let files = || std::fs::read_dir(folder.path()).unwrap().count();
        for _ in 0..2 {
            assert_eq!(lists().told(&address, None, unknown).await.word(), "unknown");
        }
        assert_eq!((count.load(Ordering::SeqCst), files()), (2, 0), "a page is asked for again");
        let old = folder.path().join("of-a-certificate-that-is-gone");
        let month_ago = SystemTime::now() - CLEARED_AFTER - Duration::from_secs(60);
        File::create(&old).unwrap().set_times(FileTimes::new().set_modified(month_ago)).unwrap();
        for _ in 0..2 {
            assert_eq!(lists().told(&address, None, |_| RevocationStatus::Good).await, RevocationStatus::Good);
        }
        assert_eq!((count.load(Ordering::SeqCst), files(), old.exists()), (3, 1, false), "an answer is kept");
    }
}
