//! HTTP/1.1 over a connection to a chosen address, plain or TLS, with every size and time bounded. No redirect is
//! followed here: that is for the core to decide.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::client::conn::http1::{SendRequest, handshake};
use hyper::header::{HOST, USER_AGENT};
use hyper::{HeaderMap, Request};
use hyper_util::rt::TokioIo;
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

const CONNECT_TIME: Duration = Duration::from_secs(5);
/// An answer that takes longer is given up.
const ANSWER_TIME: Duration = Duration::from_secs(20);

#[derive(Debug, thiserror::Error)]
pub enum HttpError {
    #[error("this host has no address of that family")]
    NoRoute,
    #[error("nothing listens there")]
    Refused,
    #[error("did not answer in time")]
    Silent,
    #[error("could not be connected to ({0})")]
    Connect(String),
    #[error("failed in the TLS handshake ({0})")]
    Tls(String),
    #[error("broke the connection off ({0})")]
    Broken(String),
    #[error("sent an answer of more than {0} bytes")]
    TooLarge(usize),
    #[error("could not be asked: {0}")]
    Request(String),
}

/// An answer, read whole.
#[derive(Debug, Clone)]
pub struct Answer {
    pub status: u16,
    pub headers: HeaderMap,
    pub body: Vec<u8>,
}

impl Answer {
    pub fn header(&self, name: &str) -> Option<String> {
        self.headers.get(name).and_then(|value| value.to_str().ok()).map(str::to_string)
    }
}

/// An open connection to one server.
pub struct Connection {
    sender: SendRequest<Full<Bytes>>,
    authority: String,
}

impl Connection {
    /// Connects to `address`. `host` is asked for in TLS; `authority` is what the Host field says.
    pub async fn open(
        address: SocketAddr,
        host: &str,
        authority: &str,
        tls: Option<Arc<ClientConfig>>,
    ) -> Result<Self, HttpError> {
        let stream = connect(address).await?;
        let sender = match tls {
            None => start(TokioIo::new(stream)).await?,
            Some(config) => {
                let name = ServerName::try_from(host.trim_matches(['[', ']']).to_string())
                    .map_err(|error| HttpError::Request(error.to_string()))?;
                let stream = timeout(CONNECT_TIME, TlsConnector::from(config).connect(name, stream))
                    .await
                    .map_err(|_| HttpError::Silent)?
                    .map_err(|error| HttpError::Tls(error.to_string()))?;
                start(TokioIo::new(stream)).await?
            }
        };
        Ok(Self { sender, authority: authority.to_string() })
    }

    pub fn is_open(&self) -> bool {
        !self.sender.is_closed()
    }

    /// Sends a request and reads the whole answer, of at most `most` bytes.
    pub async fn send(
        &mut self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: Vec<u8>,
        most: usize,
    ) -> Result<Answer, HttpError> {
        let mut request = Request::builder()
            .method(method)
            .uri(path)
            .header(HOST, &self.authority)
            .header(USER_AGENT, concat!("brightharbor/", env!("CARGO_PKG_VERSION")));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let request =
            request.body(Full::new(Bytes::from(body))).map_err(|error| HttpError::Request(error.to_string()))?;
        timeout(ANSWER_TIME, self.exchange(request, most)).await.map_err(|_| HttpError::Silent)?
    }

    async fn exchange(&mut self, request: Request<Full<Bytes>>, most: usize) -> Result<Answer, HttpError> {
        let broken = |error: hyper::Error| HttpError::Broken(error.to_string());
        self.sender.ready().await.map_err(broken)?;
        let answer = self.sender.send_request(request).await.map_err(broken)?;
        let (parts, body) = answer.into_parts();
        let body = match Limited::new(body, most).collect().await {
            Ok(body) => body.to_bytes().to_vec(),
            Err(error) if error.is::<http_body_util::LengthLimitError>() => return Err(HttpError::TooLarge(most)),
            Err(error) => return Err(HttpError::Broken(error.to_string())),
        };
        Ok(Answer { status: parts.status.as_u16(), headers: parts.headers, body })
    }
}

/// Connects, with the reasons sorted out that people need to tell apart.
pub async fn connect(address: SocketAddr) -> Result<TcpStream, HttpError> {
    use std::io::ErrorKind;
    match timeout(CONNECT_TIME, TcpStream::connect(address)).await {
        Err(_) => Err(HttpError::Silent),
        Ok(Ok(stream)) => {
            let _ = stream.set_nodelay(true);
            Ok(stream)
        }
        Ok(Err(error)) => Err(match error.kind() {
            ErrorKind::ConnectionRefused => HttpError::Refused,
            ErrorKind::NetworkUnreachable | ErrorKind::AddrNotAvailable => HttpError::NoRoute,
            _ => HttpError::Connect(error.to_string()),
        }),
    }
}

async fn start<S>(stream: TokioIo<S>) -> Result<SendRequest<Full<Bytes>>, HttpError>
where
    TokioIo<S>: hyper::rt::Read + hyper::rt::Write + Unpin + Send + 'static,
{
    let (sender, connection) = handshake(stream).await.map_err(|error| HttpError::Broken(error.to_string()))?;
    tokio::spawn(async move {
        let _ = connection.await;
    });
    Ok(sender)
}
