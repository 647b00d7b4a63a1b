//! The way to the handshake on a connection that begins in the clear. What is said is `core`'s affair.

use std::time::Duration;

use brightharbor_core::certificate::{Next, StartTls};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::http::HttpError;

/// Mail servers may let a stranger wait before they greet.
const TALK_TIME: Duration = Duration::from_secs(10);
const MOST_HEARD: usize = 16 * 1024;

/// Brings a fresh connection to where the handshake begins.
pub(super) async fn begin(stream: &mut TcpStream, protocol: StartTls) -> Result<(), HttpError> {
    timeout(TALK_TIME, talk(stream, protocol)).await.map_err(|_| HttpError::Silent)?
}

async fn talk(stream: &mut TcpStream, protocol: StartTls) -> Result<(), HttpError> {
    let broken = |error: std::io::Error| HttpError::Broken(error.to_string());
    let mut heard = Vec::new();
    let mut sent = 0;
    loop {
        match protocol.next(sent, &heard) {
            Next::Handshake => return Ok(()),
            Next::Refused(words) => {
                return Err(HttpError::InTheClear(protocol.word(), words));
            }
            Next::Send(message) => {
                stream.write_all(message).await.map_err(broken)?;
                sent += 1;
                heard.clear();
            }
            Next::Wait => {
                let mut part = [0; 1024];
                match stream.read(&mut part).await.map_err(broken)? {
                    0 => return Err(HttpError::Broken("it ended the connection".into())),
                    read => heard.extend_from_slice(&part[..read]),
                }
                if heard.len() > MOST_HEARD {
                    return Err(HttpError::TooLarge(MOST_HEARD));
                }
            }
        }
    }
}
