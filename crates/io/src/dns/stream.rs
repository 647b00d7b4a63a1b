//! A TCP connection to one DNS server (RFC 7766): messages in frames, each step bounded in time. And what can go wrong
//! between us and a primary server, in words: `transfer`, `update` and `notify` share it.

use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use domain::base::Message;
use domain::rdata::tsig::Time48;
use domain::tsig::ValidationError;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

/// How long one step may take: connecting, sending, waiting for the next message.
const PATIENCE: Duration = Duration::from_secs(10);

/// Why a request to a primary or secondary server came to nothing.
#[derive(Debug, thiserror::Error)]
#[error("{server} {problem}")]
pub struct RequestError {
    pub server: SocketAddr,
    pub problem: RequestProblem,
}

#[derive(Debug, thiserror::Error)]
pub enum RequestProblem {
    #[error("cannot be reached: {0}")]
    Unreachable(String),
    #[error("did not answer in time")]
    Silent,
    #[error("answered {0}")]
    Answered(String),
    #[error("does not know the key `{0}`")]
    UnknownKey(String),
    #[error("has another secret for the key `{0}`, or another algorithm")]
    WrongSecret(String),
    #[error("has another time than this machine; signatures hold for five minutes")]
    Clocks,
    #[error("sent an answer that is not signed as it should be: {0}")]
    Signature(String),
    #[error("sent something that is not an answer: {0}")]
    Garbled(String),
    #[error("sent more than {0}")]
    TooMuch(String),
    /// The zone is no longer as it was read: nothing was changed (RFC 2136 section 3.2).
    #[error("has other data by now than were read; nothing was changed")]
    ChangedMeanwhile,
}

pub(super) struct Stream {
    stream: TcpStream,
    pub server: SocketAddr,
}

impl Stream {
    pub async fn open(server: SocketAddr) -> Result<Self, RequestError> {
        let stream = within(server, TcpStream::connect(server)).await?;
        Ok(Self { stream, server })
    }

    pub async fn send(&mut self, message: &[u8]) -> Result<(), RequestError> {
        let Ok(length) = u16::try_from(message.len()) else {
            return Err(self.failed(RequestProblem::TooMuch("fits into one message (64 KiB)".into())));
        };
        let mut framed = length.to_be_bytes().to_vec();
        framed.extend(message);
        within(self.server, self.stream.write_all(&framed)).await
    }

    pub async fn receive(&mut self) -> Result<Message<Vec<u8>>, RequestError> {
        let length = within(self.server, self.stream.read_u16()).await?;
        let mut bytes = vec![0; length.into()];
        within(self.server, self.stream.read_exact(&mut bytes)).await?;
        Message::from_octets(bytes).map_err(|_| self.failed(RequestProblem::Garbled("too short for a header".into())))
    }

    pub fn failed(&self, problem: RequestProblem) -> RequestError {
        RequestError { server: self.server, problem }
    }
}

async fn within<T>(server: SocketAddr, step: impl Future<Output = io::Result<T>>) -> Result<T, RequestError> {
    let problem = match timeout(PATIENCE, step).await {
        Ok(Ok(value)) => return Ok(value),
        Err(_) => RequestProblem::Silent,
        Ok(Err(error)) => match error.kind() {
            io::ErrorKind::ConnectionRefused => RequestProblem::Unreachable("connection refused".into()),
            io::ErrorKind::UnexpectedEof => RequestProblem::Garbled("it closed the connection".into()),
            _ => RequestProblem::Unreachable(error.to_string()),
        },
    };
    Err(RequestError { server, problem })
}

/// A signature that does not hold, in words. A refusal may come unsigned; its code says more then.
pub(super) fn unsound(error: ValidationError, key: &str, rcode: u8) -> RequestProblem {
    match error {
        ValidationError::ServerBadKey | ValidationError::BadKey => RequestProblem::UnknownKey(key.into()),
        ValidationError::ServerBadSig => RequestProblem::WrongSecret(key.into()),
        ValidationError::ServerBadTime { .. } | ValidationError::BadTime => RequestProblem::Clocks,
        _ if rcode != 0 => RequestProblem::Answered(rcode_word(rcode)),
        other => RequestProblem::Signature(other.to_string()),
    }
}

pub(super) fn signing_time() -> Time48 {
    Time48::now()
}

/// The response code by its mnemonic (RFC 1035 section 4.1.1, RFC 2136 section 2.2).
pub(super) fn rcode_word(rcode: u8) -> String {
    let words = ["NOERROR", "FORMERR", "SERVFAIL", "NXDOMAIN", "NOTIMP", "REFUSED", "YXDOMAIN", "YXRRSET", "NXRRSET"];
    match (words.get(usize::from(rcode)), rcode) {
        (Some(word), _) => (*word).into(),
        (None, 9) => "NOTAUTH".into(),
        (None, 10) => "NOTZONE".into(),
        (None, other) => format!("RCODE{other}"),
    }
}
