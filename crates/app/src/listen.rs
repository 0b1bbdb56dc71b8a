//! Connections: so many at once, none that only waits, and a shutdown that ends in time.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use axum::http::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tower::ServiceExt;

/// What connections may take; docs/operations.md states the same.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// At once; others wait to be accepted.
    pub connections: usize,
    /// Until the headers of a request have come in, the first or the next.
    pub headers: Duration,
    /// Bytes of them.
    pub header_bytes: usize,
    /// Until what is under way has to be done, once the server is to stop.
    pub grace: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connections: 1_000,
            headers: Duration::from_secs(30),
            header_bytes: 64 << 10,
            grace: Duration::from_secs(10),
        }
    }
}

/// Answers until `stop` ends, then lets what is under way come to its end, for as long as it may.
pub async fn serve(
    listener: TcpListener,
    router: Router,
    limits: Limits,
    stop: impl Future<Output = ()>,
) {
    let mut http = http1::Builder::new();
    http.timer(TokioTimer::new())
        .header_read_timeout(limits.headers)
        .max_buf_size(limits.header_bytes);
    let (open, slots) = (GracefulShutdown::new(), Arc::new(Semaphore::new(limits.connections)));
    let mut stop = std::pin::pin!(stop);
    loop {
        let next = async {
            let slot = Arc::clone(&slots).acquire_owned().await;
            (slot, listener.accept().await)
        };
        let (slot, accepted) = tokio::select! {
            next = next => next,
            () = &mut stop => break,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                // Most likely there are too many open files: some will close.
                tracing::warn!(%error, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(100)).await;
                continue;
            }
        };
        let router = router.clone();
        let answer = service_fn(move |request| answered(router.clone(), peer, request));
        let connection = open.watch(http.serve_connection(TokioIo::new(stream), answer));
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!(%error, "a connection broke");
            }
            drop(slot);
        });
    }
    drop(listener);
    if tokio::time::timeout(limits.grace, open.shutdown()).await.is_err() {
        tracing::warn!("requests under way were given up");
    }
}

async fn answered(
    router: Router,
    peer: SocketAddr,
    request: Request<Incoming>,
) -> Result<axum::response::Response, std::convert::Infallible> {
    let mut request = request.map(Body::new);
    request.extensions_mut().insert(ConnectInfo(peer));
    router.oneshot(request).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::routing::{get, post};
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpStream;
    use tokio::sync::oneshot;

    const LIMITS: Limits = Limits {
        connections: 2,
        headers: Duration::from_millis(200),
        header_bytes: 8 << 10,
        grace: Duration::from_millis(300),
    };

    struct Running {
        at: SocketAddr,
        stop: oneshot::Sender<()>,
        ended: tokio::task::JoinHandle<()>,
    }

    async fn run() -> Running {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (at, (stop, stopped)) = (listener.local_addr().unwrap(), oneshot::channel());
        let whole = async |body: axum::body::Bytes| body.len().to_string();
        let router = Router::new().route("/", get(async || "here")).route("/take", post(whole));
        let stopped = async {
            stopped.await.ok();
        };
        Running { at, stop, ended: tokio::spawn(serve(listener, router, LIMITS, stopped)) }
    }

    async fn said(stream: &mut TcpStream, text: &str) -> String {
        stream.write_all(text.as_bytes()).await.unwrap();
        let mut answer = String::new();
        let read = stream.read_to_string(&mut answer);
        tokio::time::timeout(Duration::from_secs(5), read).await.expect("it is closed").ok();
        answer
    }

    const WHOLE: &str = "GET / HTTP/1.1\r\nhost: a\r\nconnection: close\r\n\r\n";

    #[tokio::test]
    async fn who_only_waits_is_closed_and_makes_room() {
        let server = run().await;
        // Two that never end their headers take all the room there is; a third is answered all the same.
        let mut slow = Vec::new();
        for _ in 0..2 {
            let mut stream = TcpStream::connect(server.at).await.unwrap();
            stream.write_all(b"GET / HTTP/1.1\r\nhost: ").await.unwrap();
            slow.push(stream);
        }
        let mut third = TcpStream::connect(server.at).await.unwrap();
        assert!(said(&mut third, WHOLE).await.contains("here"));
        let mut endless = TcpStream::connect(server.at).await.unwrap();
        let long = format!("GET / HTTP/1.1\r\nhost: a\r\nx: {}\r\n\r\n", "x".repeat(20_000));
        assert!(said(&mut endless, &long).await.starts_with("HTTP/1.1 431"));
        server.stop.send(()).unwrap();
        server.ended.await.unwrap();
    }

    #[tokio::test]
    async fn a_stalled_request_keeps_no_server_from_stopping() {
        let server = run().await;
        let mut stalled = TcpStream::connect(server.at).await.unwrap();
        let begun = b"POST /take HTTP/1.1\r\nhost: a\r\ncontent-length: 100\r\n\r\nabc";
        stalled.write_all(begun).await.unwrap();
        let mut other = TcpStream::connect(server.at).await.unwrap();
        assert!(said(&mut other, WHOLE).await.contains("here"), "the stalled one is under way");
        server.stop.send(()).unwrap();
        let ended = tokio::time::timeout(Duration::from_secs(5), server.ended);
        ended.await.expect("it gives up in time").unwrap();
        assert!(TcpStream::connect(server.at).await.is_err(), "nobody is accepted any more");
    }
}
