//! Takes orders for a stand-in server: one line in, `ok` or the reason why not out.

use std::net::SocketAddr;
use std::sync::Arc;

use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpListener;

/// What a server does with an order.
pub(crate) type Obey = Arc<dyn Fn(&str) -> Result<(), String> + Send + Sync>;

/// Answers every order on the listener with what `obey` says.
pub(crate) async fn take_orders(listener: TcpListener, obey: Obey) {
    while let Ok((stream, _)) = listener.accept().await {
        let obey = Arc::clone(&obey);
        tokio::spawn(async move {
            let (read, mut write) = stream.into_split();
            let mut line = String::new();
            if BufReader::new(read).read_line(&mut line).await.is_ok() {
                let answer = match obey(line.trim()) {
                    Ok(()) => "ok".to_string(),
                    Err(reason) => reason.replace('\n', " "),
                };
                let _ = write.write_all(format!("{answer}\n").as_bytes()).await;
            }
        });
    }
}

/// A listener on a free port of the address.
pub(crate) async fn listen(address: std::net::IpAddr) -> std::io::Result<(TcpListener, SocketAddr)> {
    let listener = TcpListener::bind(SocketAddr::new(address, 0)).await?;
    let address = listener.local_addr()?;
    Ok((listener, address))
}
