//! The network between a location and the site: a SOCKS5 proxy (RFC 1928) on loopback.
//!
//! It resolves the made-up host names to the stand-in site, waits one round trip before it says
//! that a connection stands, holds every chunk of bytes back by half a round trip in each
//! direction, and limits the rate towards the location. An outage refuses connections.

use crate::places::Place;
use rand::Rng;
use rand_distr::{Distribution, Normal};
use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio::time::Instant;

/// What a proxy does with connections; can be changed while it runs.
#[derive(Debug, Clone)]
pub struct Path {
    pub round_trip_ms: f64,
    pub jitter_ms: f64,
    pub kb_per_s: f64,
    /// Share of packets, handshakes among them, that are lost and sent again, 0 to 1.
    pub loss: f64,
    /// No connection comes through.
    pub out: bool,
    /// More time to accept a connection to these hosts, in milliseconds.
    pub slow_to_connect: HashMap<String, f64>,
}

impl From<Place> for Path {
    fn from(p: Place) -> Path {
        Path {
            round_trip_ms: p.round_trip_ms,
            jitter_ms: p.jitter_ms,
            kb_per_s: p.kb_per_s,
            loss: 0.004,
            out: false,
            slow_to_connect: HashMap::new(),
        }
    }
}

/// Where the made-up host names really are.
pub type Hosts = HashMap<String, SocketAddr>;

#[derive(Clone)]
pub struct Proxy {
    pub address: SocketAddr,
    path: Arc<RwLock<Path>>,
    lost: Arc<Lost>,
}

/// How many packets to and from each host were lost.
type Lost = Mutex<HashMap<String, Arc<AtomicU64>>>;

impl Proxy {
    /// Starts a proxy on a free loopback port, in the background of the running runtime.
    ///
    /// # Errors
    /// When no port can be had.
    pub async fn start(path: Path, hosts: Hosts) -> io::Result<Proxy> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let proxy = Proxy {
            address: listener.local_addr()?,
            path: Arc::new(RwLock::new(path)),
            lost: Arc::default(),
        };
        let (path, hosts, all_lost) = (proxy.path.clone(), Arc::new(hosts), proxy.lost.clone());
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let (path, hosts, all_lost) = (path.clone(), hosts.clone(), all_lost.clone());
                tokio::spawn(async move {
                    let Some(path) = path.read().ok().map(|p| p.clone()) else { return };
                    // A connection that breaks is what networks do; there is nobody to tell.
                    let _ = carry(client, path, &hosts, &all_lost).await;
                });
            }
        });
        Ok(proxy)
    }

    /// How many packets to and from this host were lost so far.
    pub fn lost(&self, host: &str) -> u64 {
        self.lost
            .lock()
            .ok()
            .and_then(|all| all.get(host).map(|n| n.load(Ordering::Relaxed)))
            .unwrap_or(0)
    }

    /// Changes what happens to connections from now on.
    pub fn change(&self, change: impl FnOnce(&mut Path)) {
        if let Ok(mut path) = self.path.write() {
            change(&mut path);
        }
    }
}

/// How long it takes until a lost packet is sent again (the least timeout of common systems; RFC 6298 allows a second).
const SENT_AGAIN: Duration = Duration::from_millis(200);
/// The same for the first packet of a connection, whose round trip nobody knows yet (RFC 6298, 2.1).
const DIALLED_AGAIN: Duration = Duration::from_secs(1);

/// How long a packet is late by those that were lost before it: each time is twice as long as the one before.
fn late(loss: f64, timeout: Duration, lost: &AtomicU64) -> Duration {
    let mut late = Duration::ZERO;
    let mut next = timeout;
    while late < Duration::from_secs(10) && rand::rng().random_bool(loss.clamp(0.0, 1.0)) {
        lost.fetch_add(1, Ordering::Relaxed);
        late += next;
        next *= 2;
    }
    late
}

/// SOCKS5 reply codes.
const SUCCEEDED: u8 = 0;
const NETWORK_UNREACHABLE: u8 = 3;
const HOST_UNREACHABLE: u8 = 4;
const CONNECTION_REFUSED: u8 = 5;
const COMMAND_NOT_SUPPORTED: u8 = 7;

async fn carry(
    mut client: TcpStream,
    path: Path,
    hosts: &Hosts,
    all_lost: &Lost,
) -> io::Result<()> {
    client.set_nodelay(true)?;
    let mut head = [0u8; 2];
    client.read_exact(&mut head).await?;
    let mut methods = vec![0u8; usize::from(head[1])];
    client.read_exact(&mut methods).await?;
    client.write_all(&[5, 0]).await?;
    let mut request = [0u8; 4];
    client.read_exact(&mut request).await?;
    let host = match request[3] {
        1 => {
            let mut v4 = [0u8; 4];
            client.read_exact(&mut v4).await?;
            std::net::Ipv4Addr::from(v4).to_string()
        }
        3 => {
            let length = client.read_u8().await?;
            let mut name = vec![0u8; usize::from(length)];
            client.read_exact(&mut name).await?;
            String::from_utf8_lossy(&name).into_owned()
        }
        _ => {
            let mut v6 = [0u8; 16];
            client.read_exact(&mut v6).await?;
            std::net::Ipv6Addr::from(v6).to_string()
        }
    };
    let port = client.read_u16().await?;
    let reply = |code: u8| [5, code, 0, 1, 0, 0, 0, 0, 0, 0];
    if request[1] != 1 {
        return client.write_all(&reply(COMMAND_NOT_SUPPORTED)).await;
    }
    let counted = match all_lost.lock() {
        Ok(mut all) => all.entry(host.clone()).or_default().clone(),
        Err(_) => return Ok(()),
    };
    // What a browser dials in advance and never uses costs nobody anything: its losses count with its first bytes.
    let dialled = AtomicU64::new(0);
    let one_way = one_way(&path);
    let more = path.slow_to_connect.get(&host).copied().unwrap_or(0.0);
    tokio::time::sleep(
        late(path.loss, DIALLED_AGAIN, &dialled)
            + one_way * 2
            + Duration::from_secs_f64(more / 1000.0),
    )
    .await;
    if path.out {
        return client.write_all(&reply(NETWORK_UNREACHABLE)).await;
    }
    // Made-up names go to the stand-in; the machine's own addresses are reachable as they are;
    // nothing else is.
    let target = match hosts.get(&host) {
        Some(target) => *target,
        None if host == "127.0.0.1" || host == "localhost" => {
            SocketAddr::from(([127, 0, 0, 1], port))
        }
        None => return client.write_all(&reply(HOST_UNREACHABLE)).await,
    };
    let Ok(server) = TcpStream::connect(target).await else {
        return client.write_all(&reply(CONNECTION_REFUSED)).await;
    };
    server.set_nodelay(true)?;
    client.write_all(&reply(SUCCEEDED)).await?;
    let (mut from_client, to_client) = client.into_split();
    let (from_server, to_server) = server.into_split();
    if from_client.peek(&mut [0]).await? > 0 {
        counted.fetch_add(dialled.into_inner(), Ordering::Relaxed);
    }
    let up = hold_back(from_client, to_server, one_way, path.clone(), counted.clone());
    let down = hold_back(from_server, to_client, one_way, path, counted);
    let _ = tokio::join!(up, down);
    Ok(())
}

fn one_way(path: &Path) -> Duration {
    let mut random = rand::rng();
    let jitter = Normal::new(0.0, path.jitter_ms.max(0.001)).map_or(0.0, |n| n.sample(&mut random));
    Duration::from_secs_f64((path.round_trip_ms + jitter.abs()).max(0.1) / 2000.0)
}

/// Copies bytes, each chunk delivered `delay` after it came, later if it was lost, and not quicker than the rate.
async fn hold_back(
    mut from: impl AsyncReadExt + Unpin + Send + 'static,
    mut to: impl AsyncWriteExt + Unpin,
    delay: Duration,
    path: Path,
    lost: Arc<AtomicU64>,
) -> io::Result<()> {
    let (sender, mut receiver) = mpsc::channel::<(Instant, Vec<u8>)>(256);
    tokio::spawn(async move {
        let mut buffer = vec![0u8; 16 * 1024];
        while let Ok(n @ 1..) = from.read(&mut buffer).await {
            let delay = delay + late(path.loss, SENT_AGAIN, &lost);
            if sender.send((Instant::now() + delay, buffer[..n].to_vec())).await.is_err() {
                break;
            }
        }
    });
    let mut free_at = Instant::now();
    while let Some((due, chunk)) = receiver.recv().await {
        let start = due.max(free_at);
        free_at = start + Duration::from_secs_f64(chunk.len() as f64 / 1024.0 / path.kb_per_s);
        tokio::time::sleep_until(free_at).await;
        to.write_all(&chunk).await?;
    }
    to.shutdown().await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::places::by_slug;

    async fn ask(proxy: SocketAddr, host: &str) -> (u8, Duration, Option<TcpStream>) {
        let mut s = TcpStream::connect(proxy).await.expect("the proxy listens");
        s.write_all(&[5, 1, 0]).await.expect("sent");
        let mut hello = [0u8; 2];
        s.read_exact(&mut hello).await.expect("answered");
        let mut request = vec![5, 1, 0, 3, host.len() as u8];
        request.extend(host.as_bytes());
        request.extend([0, 80]);
        let begun = Instant::now();
        s.write_all(&request).await.expect("sent");
        let mut reply = [0u8; 10];
        s.read_exact(&mut reply).await.expect("answered");
        let stream = (reply[1] == 0).then_some(s);
        (reply[1], begun.elapsed(), stream)
    }

    #[tokio::test]
    async fn a_connection_takes_a_round_trip_an_outage_refuses_and_strangers_are_unknown() {
        let echo = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let target = echo.local_addr().expect("an address");
        tokio::spawn(async move {
            while let Ok((mut s, _)) = echo.accept().await {
                tokio::spawn(async move {
                    let (mut r, mut w) = s.split();
                    let _ = tokio::io::copy(&mut r, &mut w).await;
                });
            }
        });
        let place = by_slug("halifax").expect("a place");
        let hosts = HashMap::from([("echo.example".to_string(), target)]);
        let proxy = Proxy::start(Path::from(place), hosts).await.expect("a proxy");
        let (code, took, stream) = ask(proxy.address, "echo.example").await;
        assert_eq!(code, SUCCEEDED);
        assert!(took.as_secs_f64() * 1000.0 >= place.round_trip_ms, "{took:?}");
        // Half a round trip there, half back.
        let mut stream = stream.expect("a connection");
        let begun = Instant::now();
        stream.write_all(b"ahoy").await.expect("sent");
        let mut back = [0u8; 4];
        stream.read_exact(&mut back).await.expect("answered");
        assert_eq!(&back, b"ahoy");
        assert!(begun.elapsed().as_secs_f64() * 1000.0 >= place.round_trip_ms - 1.0);
        assert_eq!(ask(proxy.address, "elsewhere.example").await.0, HOST_UNREACHABLE);
        proxy.change(|p| p.out = true);
        assert_eq!(ask(proxy.address, "echo.example").await.0, NETWORK_UNREACHABLE);
    }
}
