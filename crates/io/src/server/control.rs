//! Orders to a stand-in server: one line out, one line back.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;

use super::ServerError;

const PATIENCE: Duration = Duration::from_secs(10);

/// Sends one order; anything but `ok` is an error with the stand-in's words.
pub(super) fn order(address: SocketAddr, order: &str) -> Result<(), ServerError> {
    let failed = |answer: String| ServerError::StandIn { address, answer };
    let exchange = || -> std::io::Result<String> {
        let mut stream = TcpStream::connect_timeout(&address, PATIENCE)?;
        stream.set_read_timeout(Some(PATIENCE))?;
        stream.write_all(format!("{order}\n").as_bytes())?;
        let mut answer = String::new();
        BufReader::new(stream).read_line(&mut answer)?;
        Ok(answer.trim().to_string())
    };
    match exchange() {
        Ok(answer) if answer == "ok" => Ok(()),
        Ok(answer) => Err(failed(answer)),
        Err(error) => Err(failed(format!("nothing ({error})"))),
    }
}
