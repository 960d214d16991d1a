//! Takes connections and serves requests on them, within limits: half-sent requests end, one address cannot take all
//! connections, and a stop has an end.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use hyper::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use ipnet::IpNet;
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;

/// The head of a request must come in within this time, as must what begins TLS, and an idle connection lasts no longer.
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Connections in all.
const MOST_CONNECTIONS: usize = 4_000;
/// When told to stop, requests that are answered just now may go on for so long.
const LAST_ANSWERS: Duration = Duration::from_secs(10);
/// What is answered to a connection too many.
const TOO_MANY: &[u8] =
    b"HTTP/1.1 503 Service Unavailable\r\nretry-after: 1\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";

/// What is answered to a request in clear where TLS is spoken.
const SPEAK_TLS: &[u8] = b"HTTP/1.1 400 Bad Request\r\ncontent-type: text/plain\r\nconnection: close\r\n\r\nThis port speaks HTTPS: begin the address with https://\n";
/// First byte of what begins TLS (RFC 8446, 5.1: a handshake record).
const HANDSHAKE: u8 = 22;

/// A request that came over TLS, without anything in front.
#[derive(Debug, Clone, Copy)]
pub struct OverTls;

/// How connections are taken.
pub struct Doors<'a> {
    /// Connections that one address may hold.
    pub per_address: usize,
    /// Those who may hold as many as there are.
    pub trusted_proxies: &'a [IpNet],
    /// What shakes hands, where TLS is spoken.
    pub tls: Option<TlsAcceptor>,
}

/// Connections by the address that they come from.
#[derive(Debug, Clone, Default)]
struct Connections(Arc<Mutex<HashMap<IpAddr, usize>>>);

impl Connections {
    /// Counts one more, unless there are too many already; it counts until it is let go.
    fn take(&self, address: IpAddr, most: usize) -> Option<Taken> {
        let mut counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if counts.values().sum::<usize>() >= MOST_CONNECTIONS
            || counts.get(&address).is_some_and(|count| *count >= most)
        {
            return None;
        }
        *counts.entry(address).or_default() += 1;
        Some(Taken { address, connections: self.clone() })
    }
}

/// A connection that is counted.
#[derive(Debug)]
struct Taken {
    address: IpAddr,
    connections: Connections,
}

impl Drop for Taken {
    fn drop(&mut self) {
        let mut counts = self.connections.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = counts.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                counts.remove(&self.address);
            }
        }
    }
}

/// Serves until told to stop. Trusted proxies may take as many connections as there are.
pub async fn serve(listener: TcpListener, router: Router, doors: Doors<'_>, stopping: CancellationToken) {
    let connections = Connections::default();
    let graceful = GracefulShutdown::new();
    loop {
        let (stream, peer) = tokio::select! {
            () = stopping.cancelled() => break,
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be taken");
                    // Such as too many open files: some go in the meantime.
                    tokio::time::sleep(Duration::from_millis(100)).await;
                    continue;
                }
            },
        };
        let is_trusted = doors.trusted_proxies.iter().any(|net| net.contains(&peer.ip().to_canonical()));
        let most = if is_trusted { MOST_CONNECTIONS } else { doors.per_address };
        let Some(taken) = connections.take(peer.ip(), most) else {
            last_word(stream, TOO_MANY);
            continue;
        };
        let (router, watcher) = (router.clone(), graceful.watcher());
        match doors.tls.clone() {
            None => drop(tokio::spawn(answer(stream, peer, router, taken, watcher, None))),
            Some(tls) => drop(tokio::spawn(shake_hands(stream, peer, router, taken, watcher, tls))),
        }
    }
    drop(listener);
    if tokio::time::timeout(LAST_ANSWERS, graceful.shutdown()).await.is_err() {
        tracing::warn!("some requests took too long and were cut off");
    }
}

/// Begins TLS, and answers what is asked then.
async fn shake_hands(
    stream: TcpStream,
    peer: SocketAddr,
    router: Router,
    taken: Taken,
    watcher: Watcher,
    tls: TlsAcceptor,
) {
    let mut first = [0];
    let begun = async {
        if stream.peek(&mut first).await? > 0 && first[0] != HANDSHAKE {
            last_word(stream, SPEAK_TLS);
            return Ok(None);
        }
        tls.accept(stream).await.map(Some)
    };
    match tokio::time::timeout(HEAD_TIME, begun).await {
        Ok(Ok(Some(stream))) => answer(stream, peer, router, taken, watcher, Some(OverTls)).await,
        Ok(Ok(None)) => {}
        Ok(Err(error)) => tracing::debug!(%error, %peer, "TLS could not begin"),
        Err(_) => tracing::debug!(%peer, "TLS did not begin in time"),
    }
}

async fn answer(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    peer: SocketAddr,
    router: Router,
    _taken: Taken,
    watcher: Watcher,
    over_tls: Option<OverTls>,
) {
    let service = service_fn(move |request: Request<Incoming>| {
        let mut request = request.map(Body::new);
        request.extensions_mut().insert(ConnectInfo(peer));
        if let Some(over_tls) = over_tls {
            request.extensions_mut().insert(over_tls);
        }
        router.clone().oneshot(request)
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD_TIME)
        .serve_connection(TokioIo::new(stream), service);
    // Whoever sends nonsense, or goes away, is no error of ours.
    if let Err(error) = watcher.watch(connection).await {
        tracing::debug!(%error, %peer, "a connection broke off");
    }
}

/// Says one thing and ends the connection. What was sent meanwhile is read: else the end would overtake the answer.
fn last_word(mut stream: TcpStream, says: &'static [u8]) {
    tokio::spawn(async move {
        let said = async {
            stream.write_all(says).await?;
            stream.shutdown().await?;
            tokio::io::copy(&mut stream, &mut tokio::io::sink()).await
        };
        let _ = tokio::time::timeout(Duration::from_secs(1), said).await;
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_cannot_take_all_connections() {
        let connections = Connections::default();
        let [mate, pilot] = [[127, 0, 0, 2], [127, 0, 0, 3]].map(IpAddr::from);
        let mut taken: Vec<Taken> = (0..3).map(|_| connections.take(mate, 3).unwrap()).collect();
        assert!(connections.take(mate, 3).is_none());
        assert!(connections.take(pilot, 3).is_some());
        taken.pop();
        assert!(connections.take(mate, 3).is_some());
        taken.clear();
        assert!(connections.0.lock().unwrap().is_empty(), "nothing is kept of those that went");
    }
}
