//! Many questions over one TCP connection a server (RFC 7766 section 6.2.1): sent without waiting, answered in any order.
//!
//! A connection that breaks takes its open questions along; `client` asks those again over a connection each.

use std::net::SocketAddr;
use std::sync::Mutex;
use std::time::Duration;

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::zone::RecordType;
use tokio::io::{AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::sync::{mpsc, oneshot};
use tokio::time::timeout;

use super::Table;
use super::codec::{Decoded, decode, query};

/// Connections that are open at once; servers beyond are asked one connection a question.
const MOST_CONNECTIONS: usize = 200;
const CONNECT_TIME: Duration = Duration::from_secs(4);
const ANSWER_TIME: Duration = Duration::from_secs(4);
/// Questions on the way on one connection.
const MOST_OPEN: usize = 64;

type Sender = oneshot::Sender<Option<Outcome>>;

struct Job {
    question: Question,
    sender: Sender,
}

#[derive(Default)]
pub(super) struct Pipelines {
    servers: Mutex<Table<SocketAddr, mpsc::Sender<Job>>>,
}

impl Pipelines {
    /// Asks over the server's connection; `None` where that did not do.
    pub async fn ask(&self, question: &Question) -> Option<Outcome> {
        let (sender, receiver) = oneshot::channel();
        let jobs = self.jobs_of(question.server)?;
        jobs.send(Job { question: question.clone(), sender }).await.ok()?;
        timeout(CONNECT_TIME + ANSWER_TIME, receiver).await.ok()?.ok()?
    }

    fn jobs_of(&self, server: SocketAddr) -> Option<mpsc::Sender<Job>> {
        let mut servers = self.servers.lock().ok()?;
        if let Some(jobs) = servers.get(&server).filter(|jobs| !jobs.is_closed()) {
            return Some(jobs.clone());
        }
        servers.retain(|_, jobs| !jobs.is_closed());
        if servers.len() >= MOST_CONNECTIONS {
            return None;
        }
        let (sender, receiver) = mpsc::channel(MOST_OPEN);
        servers.insert(server, sender.clone());
        tokio::spawn(serve(server, receiver));
        Some(sender)
    }
}

/// One connection, until it breaks or nothing is asked any more.
async fn serve(server: SocketAddr, mut jobs: mpsc::Receiver<Job>) {
    let Ok(Ok(stream)) = timeout(CONNECT_TIME, TcpStream::connect(server)).await else { return };
    let _ = stream.set_nodelay(true);
    let (reader, mut writer) = stream.into_split();
    let mut reader = Frames { reader: BufReader::with_capacity(16 * 1024, reader), length: None, frame: Vec::new() };
    let mut open: Table<u16, (Question, Sender)> = Table::default();
    loop {
        tokio::select! {
            job = jobs.recv(), if open.len() < MOST_OPEN => {
                let Some(first) = job else { return };
                if !send(&mut writer, first, &mut jobs, &mut open).await {
                    return;
                }
            }
            frame = timeout(ANSWER_TIME, reader.next()), if !open.is_empty() => {
                let Ok(Some(frame)) = frame else { return };
                let Some(id) = frame.get(..2).map(|id| u16::from_be_bytes([id[0], id[1]])) else { return };
                let Some((question, sender)) = open.remove(&id) else { return };
                let outcome = match decode(&frame, id, &question) {
                    Decoded::Reply(reply) => Some(Outcome::Reply(reply)),
                    Decoded::Garbled(reason) => Some(Outcome::Garbled(reason)),
                    Decoded::Truncated | Decoded::NotOurs => None,
                };
                // A transfer that is allowed goes on with more messages: one tells enough, and the rest is not wanted.
                let goes_on = question.record_type == RecordType::AXFR
                    && matches!(&outcome, Some(Outcome::Reply(reply)) if !reply.answer.is_empty());
                let _ = sender.send(outcome);
                if goes_on {
                    return;
                }
            }
        }
    }
}

/// Sends what is there in one write.
async fn send(
    writer: &mut OwnedWriteHalf,
    first: Job,
    jobs: &mut mpsc::Receiver<Job>,
    open: &mut Table<u16, (Question, Sender)>,
) -> bool {
    let mut bytes = Vec::new();
    let mut next = Some(first);
    while let Some(Job { question, sender }) = next.take() {
        match query(&question) {
            Ok((id, message)) if !open.contains_key(&id) => {
                bytes.extend((message.len() as u16).to_be_bytes());
                bytes.extend(message);
                open.insert(id, (question, sender));
            }
            _ => {
                let _ = sender.send(None);
            }
        }
        if open.len() < MOST_OPEN {
            next = jobs.try_recv().ok();
        }
    }
    writer.write_all(&bytes).await.is_ok()
}

/// Messages in their frames. What was read of one survives when the reading is interrupted.
struct Frames {
    reader: BufReader<OwnedReadHalf>,
    length: Option<usize>,
    frame: Vec<u8>,
}

impl Frames {
    async fn next(&mut self) -> Option<Vec<u8>> {
        loop {
            let wanted = self.length.unwrap_or(2);
            while self.frame.len() < wanted {
                let mut part = [0; 4096];
                let most = part.len().min(wanted - self.frame.len());
                let read = self.reader.read(&mut part[..most]).await.ok().filter(|read| *read > 0)?;
                self.frame.extend_from_slice(&part[..read]);
            }
            let whole = std::mem::take(&mut self.frame);
            match self.length.take() {
                Some(_) => return Some(whole),
                None => self.length = Some(usize::from(u16::from_be_bytes([whole[0], whole[1]]))),
            }
        }
    }
}
