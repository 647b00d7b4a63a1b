//! Orders to a stand-in server: one line out, one line back.

use std::net::SocketAddr;
use std::time::Duration;

use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;
use tokio::time::timeout;

use super::ServerError;

const PATIENCE: Duration = Duration::from_secs(10);

/// Sends one order; anything but `ok` is an error with the stand-in's words.
pub(super) async fn order(address: SocketAddr, order: &str) -> Result<(), ServerError> {
    let failed = |answer: String| ServerError::StandIn { address, answer };
    let exchange = async {
        let mut stream = TcpStream::connect(address).await?;
        stream.write_all(format!("{order}\n").as_bytes()).await?;
        let mut answer = String::new();
        BufReader::new(stream).read_line(&mut answer).await?;
        Ok::<_, std::io::Error>(answer.trim().to_string())
    };
    match timeout(PATIENCE, exchange).await {
        Ok(Ok(answer)) if answer == "ok" => Ok(()),
        Ok(Ok(answer)) => Err(failed(answer)),
        Ok(Err(error)) => Err(failed(format!("nothing ({error})"))),
        Err(_) => Err(failed(format!("nothing within {} s", PATIENCE.as_secs()))),
    }
}
