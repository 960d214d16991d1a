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
use hyper_util::server::graceful::GracefulShutdown;
use ipnet::IpNet;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;

/// The head of a request must come in within this time, and an idle connection lasts no longer.
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Connections in all.
const MOST_CONNECTIONS: usize = 4_000;
/// When told to stop, requests that are answered just now may go on for so long.
const LAST_ANSWERS: Duration = Duration::from_secs(10);
/// What is answered to a connection too many.
const TOO_MANY: &[u8] =
    b"HTTP/1.1 503 Service Unavailable\r\nretry-after: 1\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";

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
pub async fn serve(
    listener: TcpListener,
    router: Router,
    per_address: usize,
    trusted_proxies: &[IpNet],
    stopping: CancellationToken,
) {
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
        let is_trusted = trusted_proxies.iter().any(|net| net.contains(&peer.ip().to_canonical()));
        let most = if is_trusted { MOST_CONNECTIONS } else { per_address };
        match connections.take(peer.ip(), most) {
            Some(taken) => answer(stream, peer, router.clone(), taken, &graceful),
            None => refuse(stream),
        }
    }
    drop(listener);
    if tokio::time::timeout(LAST_ANSWERS, graceful.shutdown()).await.is_err() {
        tracing::warn!("some requests took too long and were cut off");
    }
}

fn answer(stream: TcpStream, peer: SocketAddr, router: Router, taken: Taken, graceful: &GracefulShutdown) {
    let service = service_fn(move |request: Request<Incoming>| {
        let mut request = request.map(Body::new);
        request.extensions_mut().insert(ConnectInfo(peer));
        router.clone().oneshot(request)
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD_TIME)
        .serve_connection(TokioIo::new(stream), service);
    let connection = graceful.watch(connection);
    tokio::spawn(async move {
        let _taken = taken;
        // Whoever sends nonsense, or goes away, is no error of ours.
        if let Err(error) = connection.await {
            tracing::debug!(%error, %peer, "a connection broke off");
        }
    });
}

fn refuse(mut stream: TcpStream) {
    tokio::spawn(async move {
        let _ = tokio::time::timeout(Duration::from_secs(1), stream.write_all(TOO_MANY)).await;
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
