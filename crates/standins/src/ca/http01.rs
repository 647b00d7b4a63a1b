//! Validates control of a name by http-01 (RFC 8555 section 8.3): looks the name up itself and fetches the proof.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::dns::resolver::Resolver;
use crate::dns::zone_data::zone_name;

/// Fetches the proof from the first address of the name and compares it.
pub(super) async fn validate(
    resolver: &Resolver,
    http_port: u16,
    name: &str,
    token: &str,
    expected: &str,
) -> Result<(), String> {
    let address = match name.parse::<IpAddr>() {
        // RFC 8738 section 4: the address itself is asked.
        Ok(address) => address,
        Err(_) => {
            let addresses = resolver.addresses(&zone_name(name)?).await;
            *addresses.first().ok_or_else(|| format!("no address found for {name}"))?
        }
    };
    let address = SocketAddr::new(address, http_port);
    let fetched = timeout(Duration::from_secs(3), fetch(address, name, token)).await;
    let body =
        fetched.map_err(|_| format!("{address} did not answer in time"))?.map_err(|e| format!("{address}: {e}"))?;
    if body.trim_end() == expected {
        Ok(())
    } else {
        let start: String = body.chars().take(60).collect();
        Err(format!("{address} answered `{}` instead of the proof", start.trim()))
    }
}

/// A plain HTTP/1.0 exchange, by hand: the body of a 200 answer.
async fn fetch(address: SocketAddr, name: &str, token: &str) -> Result<String, String> {
    let words = |error: std::io::Error| error.to_string();
    let mut stream = TcpStream::connect(address).await.map_err(words)?;
    // An IPv6 address stands in brackets (RFC 3986 section 3.2.2).
    let name = if name.contains(':') { format!("[{name}]") } else { name.to_string() };
    let request = format!("GET /.well-known/acme-challenge/{token} HTTP/1.0\r\nHost: {name}\r\n\r\n");
    stream.write_all(request.as_bytes()).await.map_err(words)?;
    let mut answer = Vec::new();
    stream.take(16 * 1024).read_to_end(&mut answer).await.map_err(words)?;
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").ok_or("no answer")?;
    let status = head.split(' ').nth(1).unwrap_or("nothing");
    if status == "200" { Ok(body.to_string()) } else { Err(format!("answered {status}")) }
}
