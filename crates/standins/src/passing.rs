//! What the stand-in web server does with requests for a program: it passes them on, as a real one does; and a small
//! program to pass them on to.

use std::net::SocketAddr;

use brightharbor_core::render::UNANSWERED;
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::header::{CONNECTION, CONTENT_TYPE, HeaderName, HeaderValue};
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::{TcpListener, TcpStream};

use crate::web::{serve_plain, text};

/// Passes a request on, with what the program has to know about the visitor.
pub(crate) async fn pass_on(
    request: Request<Incoming>,
    to: SocketAddr,
    from: SocketAddr,
    secure: bool,
) -> Response<Full<Bytes>> {
    try_to(request, to, from, secure).await.unwrap_or_else(|| text(StatusCode::SERVICE_UNAVAILABLE, UNANSWERED))
}

async fn try_to(
    request: Request<Incoming>,
    to: SocketAddr,
    from: SocketAddr,
    secure: bool,
) -> Option<Response<Full<Bytes>>> {
    let (mut head, body) = request.into_parts();
    let body = body.collect().await.ok()?.to_bytes();
    let scheme = if secure { "https" } else { "http" };
    let host =
        head.headers.get(hyper::header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default().to_string();
    let visitor = match from.ip() {
        std::net::IpAddr::V6(address) => format!("[{address}]"),
        address => address.to_string(),
    };
    for (name, value) in [
        ("forwarded", format!("for=\"{visitor}\";host=\"{host}\";proto={scheme}")),
        ("x-forwarded-for", from.ip().to_string()),
        ("x-forwarded-host", host),
        ("x-forwarded-proto", scheme.to_string()),
    ] {
        head.headers.insert(HeaderName::from_static(name), HeaderValue::from_str(&value).ok()?);
    }
    head.headers.insert(CONNECTION, HeaderValue::from_static("close"));
    let stream = TcpStream::connect(to).await.ok()?;
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await.ok()?;
    tokio::spawn(connection);
    let answer = sender.send_request(Request::from_parts(head, Full::new(body))).await.ok()?;
    let (head, body) = answer.into_parts();
    let body = body.collect().await.ok()?.to_bytes();
    Some(Response::from_parts(head, Full::new(body)))
}

/// The tide tables of the boatyard: a program that answers every path.
pub(crate) async fn serve_tides(listener: TcpListener) {
    serve_plain(listener, |request, _| async move {
        let path = request.uri().path().to_string();
        let page = format!("<h1>Tides at Gull Rock</h1>\n<p>High water 06:12 and 18:37 ({path})</p>\n");
        let mut response = Response::new(Full::new(Bytes::from(page)));
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
        response
    })
    .await;
}
