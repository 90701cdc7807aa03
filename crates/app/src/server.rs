//! Connections: how many at once, how long each may take over its request, and how they end.
//!
//! HTTP/1 only, in the clear or over TLS: the pages gain nothing from more, and every stage of it is timed. A
//! client that opens a connection must send its first request, and later each next one, in time; one that does
//! not read its answer is let go; one address cannot take all connections.

use axum::extract::connect_info::IntoMakeServiceWithConnectInfo;
use axum_server::accept::Accept;
use axum_server::tls_rustls::{RustlsAcceptor, RustlsConfig};
use axum_server::{Handle, Server};
use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_io_timeout::TimeoutStream;

/// How many connections, and how long each may take.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Connections at once, in all.
    pub connections: usize,
    /// Connections at once from one address.
    pub per_address: usize,
    /// A request's headers are all there within this time; so long a connection stays open between requests.
    pub headers: Duration,
    /// A client that reads nothing of its answer for so long is let go.
    pub unread: Duration,
    /// At the end what is under way has this time.
    pub drain: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        let s = Duration::from_secs;
        Self { connections: 2_000, per_address: 600, headers: s(20), unread: s(60), drain: s(10) }
    }
}

type App = IntoMakeServiceWithConnectInfo<axum::Router, SocketAddr>;

/// Open connections by address.
#[derive(Default)]
struct Open {
    all: usize,
    by_address: HashMap<IpAddr, usize>,
}

/// Lets connections in up to the limits.
#[derive(Clone)]
struct LimitAcceptor {
    open: Arc<Mutex<Open>>,
    limits: Limits,
}

impl LimitAcceptor {
    fn enter(&self, address: IpAddr) -> Option<Entry> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let here = open.by_address.get(&address).copied().unwrap_or(0);
        if open.all >= self.limits.connections || here >= self.limits.per_address {
            return None;
        }
        open.all += 1;
        open.by_address.insert(address, here + 1);
        Some(Entry { open: self.open.clone(), address })
    }
}

/// One open connection; counted until it is dropped.
struct Entry {
    open: Arc<Mutex<Open>>,
    address: IpAddr,
}

impl Drop for Entry {
    fn drop(&mut self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.all -= 1;
        match open.by_address.get_mut(&self.address) {
            Some(n) if *n > 1 => *n -= 1,
            _ => {
                open.by_address.remove(&self.address);
            }
        }
    }
}

/// A counted connection whose writes are timed.
struct Limited {
    stream: Pin<Box<TimeoutStream<TcpStream>>>,
    _entry: Entry,
}

impl AsyncRead for Limited {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_read(cx, buf)
    }
}

impl AsyncWrite for Limited {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        self.stream.as_mut().poll_write(cx, buf)
    }
    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_flush(cx)
    }
    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.as_mut().poll_shutdown(cx)
    }
}

impl<S> Accept<TcpStream, S> for LimitAcceptor {
    type Stream = Limited;
    type Service = S;
    type Future = std::future::Ready<io::Result<(Limited, S)>>;

    fn accept(&self, stream: TcpStream, service: S) -> Self::Future {
        let entry = stream.peer_addr().and_then(|peer| {
            let full = || io::Error::new(io::ErrorKind::QuotaExceeded, "too many connections");
            self.enter(peer.ip().to_canonical()).ok_or_else(full)
        });
        std::future::ready(entry.and_then(|entry| {
            stream.set_nodelay(true)?;
            let mut stream = TimeoutStream::new(stream);
            stream.set_write_timeout(Some(self.limits.unread));
            Ok((Limited { stream: Box::pin(stream), _entry: entry }, service))
        }))
    }
}

/// Serves, over TLS where a certificate is given, until it is asked to stop; then lets what is under way end.
pub async fn serve(
    listener: tokio::net::TcpListener,
    tls: Option<RustlsConfig>,
    app: App,
    limits: Limits,
    stop: impl Future<Output = ()> + Send + 'static,
) -> io::Result<()> {
    // Each connection is an open file, and the usual limit of files is below that of connections.
    if let Err(e) = rlimit::increase_nofile_limit(16_384) {
        tracing::warn!(error = %e, "the limit of open files cannot be raised");
    }
    let handle = Handle::new();
    let stopping = handle.clone();
    tokio::spawn(async move {
        stop.await;
        stopping.graceful_shutdown(Some(limits.drain));
    });
    let counted = LimitAcceptor { open: Arc::default(), limits };
    let server = axum_server::from_tcp(listener.into_std()?)?;
    match tls {
        None => timed(server.acceptor(counted), handle, limits).serve(app).await,
        Some(config) => {
            let acceptor = RustlsAcceptor::new(http1(&config)).handshake_timeout(limits.headers).acceptor(counted);
            timed(server.acceptor(acceptor), handle, limits).serve(app).await
        }
    }
}

fn timed<A>(server: Server<SocketAddr, A>, handle: Handle<SocketAddr>, limits: Limits) -> Server<SocketAddr, A> {
    let mut server = server.handle(handle).first_request_timeout(limits.headers).http1_only();
    server.http_builder().http1().header_read_timeout(limits.headers);
    server
}

/// The same certificate, offering HTTP/1 alone.
fn http1(config: &RustlsConfig) -> RustlsConfig {
    let mut inner = (*config.get_inner()).clone();
    inner.alpn_protocols = vec![b"http/1.1".to_vec()];
    RustlsConfig::from_config(Arc::new(inner))
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::routing::get;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// A server with short limits, what stops it, and its end.
    async fn ground(limits: Limits) -> (SocketAddr, tokio::sync::oneshot::Sender<()>, tokio::task::JoinHandle<io::Result<()>>) {
        let slow = || async {
            tokio::time::sleep(Duration::from_secs(2)).await;
            "late"
        };
        let app = axum::Router::new().route("/", get(|| async { "here" })).route("/slow", get(slow));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let app = app.into_make_service_with_connect_info::<SocketAddr>();
        let running = tokio::spawn(serve(listener, None, app, limits, async move {
            let _ = stopped.await;
        }));
        (at, stop, running)
    }

    fn short() -> Limits {
        Limits { connections: 30, per_address: 20, headers: Duration::from_millis(700), ..Limits::default() }
    }

    /// What comes until the connection ends.
    async fn rest(mut c: TcpStream) -> String {
        let mut text = vec![];
        let _ = tokio::time::timeout(Duration::from_secs(8), c.read_to_end(&mut text)).await.expect("the connection ends");
        String::from_utf8_lossy(&text).into_owned()
    }

    #[tokio::test]
    async fn a_half_open_connection_is_closed_and_a_request_in_pieces_is_served_in_time_only() {
        let (at, _stop, _) = ground(short()).await;
        for sent in ["", "G", "GET / HTTP/1.1\r\nHost: x\r\n", "PRI * HTTP/2.0"] {
            let mut c = TcpStream::connect(at).await.unwrap();
            c.write_all(sent.as_bytes()).await.unwrap();
            let text = rest(c).await;
            assert!(!text.contains("here"), "{sent:?}: {text}");
        }
        // One that goes on drop by drop is closed as well.
        let mut c = TcpStream::connect(at).await.unwrap();
        for b in b"GET / HTTP/1.1\r\nHost: a-very-long-name-that-comes-slowly.example\r\n\r\n" {
            tokio::time::sleep(Duration::from_millis(50)).await;
            if c.write_all(&[*b]).await.is_err() {
                break;
            }
        }
        assert!(!rest(c).await.contains("here"));
        // Kept alive after an answer, and let go when nothing more comes.
        let mut c = TcpStream::connect(at).await.unwrap();
        c.write_all(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n").await.unwrap();
        assert!(rest(c).await.contains("here"));
        // What takes its time to answer is not cut.
        let mut c = TcpStream::connect(at).await.unwrap();
        c.write_all(b"GET /slow HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").await.unwrap();
        assert!(rest(c).await.contains("late"));
    }

    #[tokio::test]
    async fn one_address_has_so_many_connections_and_each_that_ends_makes_room() {
        let (at, _stop, _) = ground(Limits { headers: Duration::from_secs(30), ..short() }).await;
        let mut open = vec![];
        for _ in 0..20 {
            open.push(TcpStream::connect(at).await.unwrap());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
        let ask = || async {
            let mut c = TcpStream::connect(at).await.unwrap();
            let _ = c.write_all(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").await;
            let mut text = String::new();
            let _ = c.read_to_string(&mut text).await;
            text.contains("here")
        };
        assert!(!ask().await, "the twenty-first is let go");
        open.pop();
        tokio::time::sleep(Duration::from_millis(200)).await;
        assert!(ask().await && ask().await);
    }

    #[test]
    fn connections_are_counted_in_all_and_by_address() {
        let gate = LimitAcceptor { open: Arc::default(), limits: Limits { connections: 3, per_address: 2, ..Limits::default() } };
        let of = |n: u8| IpAddr::from([10, 0, 0, n]);
        let (a, b) = (gate.enter(of(1)).unwrap(), gate.enter(of(1)).unwrap());
        assert!(gate.enter(of(1)).is_none());
        let c = gate.enter(of(2)).unwrap();
        assert!(gate.enter(of(3)).is_none());
        drop((a, b, c));
        let open = gate.open.lock().unwrap();
        assert!(open.all == 0 && open.by_address.is_empty());
    }

    #[tokio::test]
    async fn what_is_under_way_ends_within_the_drain_and_a_hanging_one_does_not_hold_the_end() {
        let (at, stop, running) =
            ground(Limits { drain: Duration::from_secs(4), headers: Duration::from_secs(60), ..short() }).await;
        let _hangs = TcpStream::connect(at).await.unwrap();
        let mut c = TcpStream::connect(at).await.unwrap();
        c.write_all(b"GET /slow HTTP/1.1\r\nHost: x\r\n\r\n").await.unwrap();
        tokio::time::sleep(Duration::from_millis(300)).await;
        stop.send(()).unwrap();
        assert!(rest(c).await.contains("late"));
        tokio::time::timeout(Duration::from_secs(6), running).await.expect("it ends").unwrap().unwrap();
    }
}
