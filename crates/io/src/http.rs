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

use crate::tls_words::handshake_words;

const CONNECT_TIME: Duration = Duration::from_secs(5);
/// An answer that takes longer is given up.
const ANSWER_TIME: Duration = Duration::from_secs(20);

#[derive(Debug, thiserror::Error)]
pub enum HttpError {
    #[error("this host has no address of that family")]
    NoRoute,
    #[error("did not come to an end within {0} seconds")]
    Late(u64),
    #[error("connection refused")]
    Refused,
    #[error("did not answer in time")]
    Silent,
    #[error("could not be connected to ({0})")]
    Connect(String),
    #[error("does not change to TLS by {0}: {1}")]
    InTheClear(&'static str, String),
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

    /// All fields of a name that may come several times.
    pub fn headers(&self, name: &str) -> Vec<String> {
        self.headers.get_all(name).iter().filter_map(|value| value.to_str().ok()).map(str::to_string).collect()
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
                    .map_err(|error| HttpError::Tls(handshake_words(&error)))?;
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read, Write};
    use std::net::TcpListener;

    /// A server that answers every connection with these bytes, then as many `x` as are wanted.
    fn server(head: &'static str, more: usize) -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        std::thread::spawn(move || {
            for stream in listener.incoming().take(3) {
                let mut stream = stream.unwrap();
                let _ = stream.read(&mut [0; 2048]);
                let _ = stream.write_all(head.as_bytes());
                let block = vec![b'x'; 64 * 1024];
                for _ in 0..more.div_ceil(block.len()) {
                    if stream.write_all(&block).is_err() {
                        break;
                    }
                }
            }
        });
        address
    }

    fn get(address: SocketAddr, most: usize) -> Result<Answer, HttpError> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let mut connection = Connection::open(address, "gullrock.example", "gullrock.example", None).await?;
            connection.send("GET", "/", &[], vec![], most).await
        })
    }

    #[test]
    fn an_answer_without_end_is_given_up_at_its_bound() {
        let endless = server("HTTP/1.1 200 OK\r\n\r\n", 50_000_000);
        assert!(matches!(get(endless, 100_000), Err(HttpError::TooLarge(100_000))));
        let lying = server("HTTP/1.1 200 OK\r\nContent-Length: 999999999\r\n\r\n", 1_000_000);
        assert!(matches!(get(lying, 100_000), Err(HttpError::TooLarge(_))));
    }

    #[test]
    fn what_is_no_http_and_what_is_cut_off_are_told() {
        assert!(matches!(get(server("SSH-2.0-harbor\r\n", 0), 1000), Err(HttpError::Broken(_))));
        let cut = server("HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nabc", 0);
        assert!(matches!(get(cut, 1000), Err(HttpError::Broken(_))));
        let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        assert!(matches!(get(closed, 1000), Err(HttpError::Refused)));
    }

    #[test]
    fn headers_and_body_come_back_and_no_redirect_is_followed() {
        let moved = "HTTP/1.1 301 Moved\r\nLocation: https://gullrock.example/\r\nContent-Length: 2\r\n\r\nhi";
        let answer = get(server(moved, 0), 1000).unwrap();
        assert_eq!((answer.status, answer.body.as_slice()), (301, &b"hi"[..]));
        assert_eq!(answer.header("location").as_deref(), Some("https://gullrock.example/"));
    }
}
