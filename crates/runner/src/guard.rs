//! The way out of a location that may not reach everything: a proxy of our own on loopback, for one browser.
//!
//! It takes SOCKS5, looks the name up itself, refuses denied networks and connects to the very address that it looked at,
//! so that a name that means another address a moment later gains nothing. Where the location has a proxy of its own, names
//! are looked up there and only addresses written as numbers can be refused here.
//!
//! Behind a proxy a browser knows neither how long a lookup took nor why there was no connection; both are written down
//! here and put back into its record by [`Guard::amend`].

use cadentis_core::run::Request;
use cadentis_core::run::reach::Denied;
use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{Instant, timeout};

/// Why there is no connection, as the browser says it where it connects itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Refused {
    Denied,
    NotFound,
    NotReached,
    Late,
}

impl Refused {
    fn words(self) -> &'static str {
        match self {
            Refused::Denied => "This location may not reach that address",
            Refused::NotFound => "net::ERR_NAME_NOT_RESOLVED",
            Refused::NotReached => "net::ERR_CONNECTION_REFUSED",
            Refused::Late => "net::ERR_CONNECTION_TIMED_OUT",
        }
    }

    /// The answer of SOCKS5 (RFC 1928, section 6).
    fn reply(self) -> u8 {
        match self {
            Refused::Denied => 2,
            Refused::NotFound | Refused::Late => 4,
            Refused::NotReached => 5,
        }
    }
}

/// What is known of the newest connection to a host and port.
#[derive(Debug, Clone, Copy)]
struct Account {
    dns_ms: f64,
    refused: Option<Refused>,
}

type Accounts = Arc<Mutex<HashMap<(String, u16), Account>>>;

/// Hosts of one run that are remembered.
const MOST_HOSTS: usize = 2_000;
/// A connection that takes longer is given up, as the browser would.
const PATIENCE: Duration = Duration::from_secs(30);

/// Runs until it is dropped.
#[derive(Debug)]
pub struct Guard {
    pub address: SocketAddr,
    accounts: Accounts,
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Guard {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Guard {
    /// # Errors
    /// When no port of this machine can be had.
    pub async fn start(denied: Denied, proxy: Option<SocketAddr>) -> io::Result<Guard> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let accounts = Accounts::default();
        let told = accounts.clone();
        let task = tokio::spawn(async move {
            let mut open = tokio::task::JoinSet::new();
            let way = Arc::new(Way { denied, proxy });
            loop {
                tokio::select! {
                    Ok((stream, _)) = listener.accept() => {
                        let (way, told) = (way.clone(), told.clone());
                        open.spawn(async move { let _ = serve(stream, &way, &told).await; });
                    }
                    Some(_) = open.join_next() => {}
                }
            }
        });
        Ok(Guard { address, accounts, task })
    }

    /// Puts into a browser's account of a request what only we could see.
    pub fn amend(&self, request: &mut Request) {
        let Ok(url) = request.url.parse::<hyper::Uri>() else { return };
        let port =
            url.port_u16().unwrap_or(if url.scheme_str() == Some("https") { 443 } else { 80 });
        let host = url.host().unwrap_or("").trim_matches(['[', ']']).to_ascii_lowercase();
        let account = self.accounts.lock().ok().and_then(|a| a.get(&(host, port)).copied());
        let Some(account) = account else { return };
        if let (Some(failed), Some(refused)) = (&mut request.failed, account.refused)
            && failed.contains("ERR_SOCKS")
        {
            *failed = refused.words().into();
        }
        let phases = &mut request.phases;
        if phases.connect_ms > 0.0 && phases.dns_ms == 0.0 {
            phases.dns_ms = account.dns_ms.min(phases.connect_ms);
            phases.connect_ms -= phases.dns_ms;
        }
    }
}

struct Way {
    denied: Denied,
    proxy: Option<SocketAddr>,
}

impl Way {
    /// Connects to the host, unless none of its addresses may be reached; how long the lookup took.
    async fn connect(&self, host: &str, port: u16) -> (f64, Result<TcpStream, Refused>) {
        let literal: Option<IpAddr> = host.parse().ok();
        if literal.is_some_and(|ip| self.denied.holds(ip)) {
            return (0.0, Err(Refused::Denied));
        }
        if let Some(proxy) = self.proxy {
            let way =
                timeout(PATIENCE, tokio_socks::tcp::Socks5Stream::connect(proxy, (host, port)))
                    .await;
            return match way {
                Ok(Ok(stream)) => (0.0, Ok(stream.into_inner())),
                Ok(Err(_)) => (0.0, Err(Refused::NotReached)),
                Err(_) => (0.0, Err(Refused::Late)),
            };
        }
        let begun = Instant::now();
        let found: Vec<SocketAddr> = match tokio::net::lookup_host((host, port)).await {
            Ok(found) => found.collect(),
            Err(_) => return (0.0, Err(Refused::NotFound)),
        };
        let dns_ms = begun.elapsed().as_secs_f64() * 1_000.0;
        let mut last = Refused::NotFound;
        for address in found {
            if self.denied.holds(address.ip()) {
                last = Refused::Denied;
                continue;
            }
            match timeout(PATIENCE, TcpStream::connect(address)).await {
                Ok(Ok(stream)) => return (dns_ms, Ok(stream)),
                Ok(Err(_)) => last = Refused::NotReached,
                Err(_) => last = Refused::Late,
            }
        }
        (dns_ms, Err(last))
    }
}

/// One connection of the browser, as SOCKS5 (RFC 1928) has it: no authentication, CONNECT only.
async fn serve(mut stream: TcpStream, way: &Way, told: &Accounts) -> io::Result<()> {
    let _ = stream.set_nodelay(true);
    let [version, methods] = read(&mut stream).await?;
    if version != 5 {
        return Ok(());
    }
    stream.read_exact(&mut vec![0; usize::from(methods)]).await?;
    stream.write_all(&[5, 0]).await?;
    let [_, command, _, kind] = read(&mut stream).await?;
    let host = match kind {
        1 => IpAddr::from(read::<4>(&mut stream).await?).to_string(),
        4 => IpAddr::V6(Ipv6Addr::from(read::<16>(&mut stream).await?)).to_string(),
        3 => {
            let [length] = read(&mut stream).await?;
            let mut name = vec![0; usize::from(length)];
            stream.read_exact(&mut name).await?;
            String::from_utf8_lossy(&name).to_ascii_lowercase()
        }
        _ => return Ok(()),
    };
    let port = u16::from_be_bytes(read(&mut stream).await?);
    if command != 1 {
        return stream.write_all(&[5, 7, 0, 1, 0, 0, 0, 0, 0, 0]).await;
    }
    let (dns_ms, way) = way.connect(&host, port).await;
    if let Ok(mut accounts) = told.lock()
        && (accounts.len() < MOST_HOSTS || accounts.contains_key(&(host.clone(), port)))
    {
        accounts.insert((host, port), Account { dns_ms, refused: way.as_ref().err().copied() });
    }
    match way {
        Ok(mut out) => {
            let _ = out.set_nodelay(true);
            stream.write_all(&[5, 0, 0, 1, 0, 0, 0, 0, 0, 0]).await?;
            copy_bidirectional(&mut stream, &mut out).await.map(|_| ())
        }
        Err(refused) => stream.write_all(&[5, refused.reply(), 0, 1, 0, 0, 0, 0, 0, 0]).await,
    }
}

async fn read<const N: usize>(stream: &mut TcpStream) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    stream.read_exact(&mut bytes).await?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn echo() -> SocketAddr {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.expect("a port");
        let address = listener.local_addr().expect("bound");
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let (mut read, mut write) = stream.split();
                    let _ = tokio::io::copy(&mut read, &mut write).await;
                });
            }
        });
        address
    }

    async fn through(
        guard: &Guard,
        host: &str,
        port: u16,
    ) -> Result<TcpStream, tokio_socks::Error> {
        tokio_socks::tcp::Socks5Stream::connect(guard.address, (host, port))
            .await
            .map(|s| s.into_inner())
    }

    #[tokio::test]
    async fn what_is_allowed_comes_through_and_what_is_denied_does_not_under_any_name() {
        let there = echo().await;
        let open = Guard::start(Denied::parse(["10.0.0.0/8"]).expect("a list"), None)
            .await
            .expect("started");
        let mut stream = through(&open, "localhost", there.port()).await.expect("allowed");
        stream.write_all(b"ferry").await.expect("written");
        let mut back = [0; 5];
        stream.read_exact(&mut back).await.expect("read");
        assert_eq!(&back, b"ferry");

        let shut = Guard::start(Denied::to_public(), None).await.expect("started");
        for host in ["127.0.0.1", "localhost", "::1", "::ffff:127.0.0.1", "169.254.169.254"] {
            let refused = through(&shut, host, there.port()).await;
            assert!(
                matches!(refused, Err(tokio_socks::Error::ConnectionNotAllowedByRuleset)),
                "{host}: {refused:?}"
            );
        }
    }

    #[tokio::test]
    async fn a_lookup_and_the_reason_of_a_failure_are_put_back_into_the_record() {
        let guard = Guard::start(Denied::to_public(), None).await.expect("started");
        let _ = through(&guard, "nowhere.invalid", 80).await;
        let mut request: Request = serde_json::from_value(serde_json::json!({
            "url": "http://nowhere.invalid/x", "method": "GET", "kind": "document", "status": 0, "start_ms": 0.0,
            "phases": {"q": 0.0, "l": 0.0, "c": 0.0, "t": 0.0, "s": 0.0, "w": 0.0, "r": 0.0}, "bytes": 0,
            "failed": "net::ERR_SOCKS_CONNECTION_FAILED",
        }))
        .expect("a request");
        guard.amend(&mut request);
        assert_eq!(request.failed.as_deref(), Some("net::ERR_NAME_NOT_RESOLVED"));
        guard
            .accounts
            .lock()
            .expect("whole")
            .insert(("a.example".into(), 443), Account { dns_ms: 12.0, refused: None });
        (request.url, request.failed, request.phases.connect_ms) =
            ("https://a.example/".into(), None, 40.0);
        guard.amend(&mut request);
        assert_eq!((request.phases.dns_ms, request.phases.connect_ms), (12.0, 28.0));
    }
}
