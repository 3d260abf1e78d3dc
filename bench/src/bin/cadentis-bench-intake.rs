//! Beacons a second that the front door takes, durably, beside a handler that only parses and answers. Server, PostgreSQL
//! and this load generator share the machine.
//!
//! `cadentis-bench-intake [SECONDS] [CONNECTIONS]`; wants `cadentis` beside it (`cargo build --release`).
//!
//! `cadentis-bench-intake beside DATABASE_URL [SECONDS] [CONNECTIONS]` sends to a server on a database that is there, in
//! turns alone and while two readers ask for funnels and errors of thirty days, one page after the other.

use actix_web::{App, HttpResponse, HttpServer, web};
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, people};
use cadentis_core::visitor::Beacon;
use cadentis_standins::postgres::{Care, Cluster, free_port};
use cadentis_store::Db;
use cadentis_store::site::NewSite;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use uuid::Uuid;

// As the server has it: the bare handler is to have no handicap.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Ended when dropped.
struct Ends(Child);

impl Drop for Ends {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[derive(Default)]
struct Counts {
    taken: AtomicU64,
    turned_away: AtomicU64,
}

fn main() -> Result<(), Failure> {
    let args: Vec<String> = std::env::args().collect();
    if args.get(1).is_some_and(|a| a == "bare") {
        return bare(args[2].parse()?);
    }
    let number = |nth: usize, usual: u64| args.get(nth).map_or(Ok(usual), |a| a.parse());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    if args.get(1).is_some_and(|a| a == "beside") {
        let url = args.get(2).ok_or("which database? give its address")?;
        let (seconds, connections) = (number(3, 10)?, number(4, 512)?);
        return runtime.block_on(beside_readers(url, seconds, connections));
    }
    let (seconds, connections) = (number(1, 10)?, number(2, 512)?);
    runtime.block_on(measure(seconds, connections))
}

/// Parses a beacon and says that it did.
fn bare(port: u16) -> Result<(), Failure> {
    actix_web::rt::System::new().block_on(async {
        let server = HttpServer::new(|| {
            App::new().route(
                "/beacons/{key}",
                web::post().to(|body: web::Bytes| async move {
                    match Beacon::read(&body) {
                        Ok(_) => HttpResponse::NoContent().finish(),
                        Err(_) => HttpResponse::BadRequest().finish(),
                    }
                }),
            )
        });
        server.workers(2).bind(("127.0.0.1", port))?.run().await?;
        Ok(())
    })
}

async fn measure(seconds: u64, connections: u64) -> Result<(), Failure> {
    let folder = std::env::temp_dir().join(format!("cadentis-bench-{}", Uuid::new_v4()));
    let cluster = Cluster::start(&folder, Care::Durable)?;
    let url = cluster.create_database("bench")?;
    let db = Db::connect(&url)?;
    db.migrate().await?;
    let domains = ["book.marram.example".to_string()];
    let site = NewSite {
        key: "key",
        name: "Bench",
        zone: "Europe/Oslo",
        domains: &domains,
        families: &[],
        apdex_t_s: 1.5,
    };
    let site_id = db.add_site(&site).await?;
    let us = std::env::current_exe()?;
    let (ours, theirs) = (free_port()?, free_port()?);
    let server = serve(ours, &url).await?;
    let to: Arc<To> = To { port: ours, key: "key".into(), host: domains[0].clone() }.into();
    let plainly: Arc<To> = To { port: theirs, ..(*to).clone() }.into();
    // In turns, so that a busy minute of the machine falls on both.
    for round in 1..=3 {
        let bare = started(Command::new(&us).args(["bare", &theirs.to_string()]))?;
        wait_for(theirs).await;
        let plain = load(&plainly, seconds, connections).await;
        drop(bare);
        let before = db.page_view_ids(site_id, everything()).await?.len() as u64;
        let durable = load(&to, seconds, connections).await;
        let after = db.page_view_ids(site_id, everything()).await?.len() as u64;
        let (taken, away) =
            (durable.taken.load(Ordering::Relaxed), durable.turned_away.load(Ordering::Relaxed));
        let (ours, bare) = (
            taken as f64 / seconds as f64,
            plain.taken.load(Ordering::Relaxed) as f64 / seconds as f64,
        );
        println!(
            "round {round}: {ours:.0} beacons/s durable, {bare:.0} only parsed and answered: {:.2} of it; {taken} acknowledged, {} stored, {away} turned away",
            ours / bare,
            after - before
        );
    }
    drop(server);
    db.close().await;
    drop(cluster);
    let _ = std::fs::remove_dir_all(&folder);
    Ok(())
}

fn started(command: &mut Command) -> std::io::Result<Ends> {
    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().map(Ends)
}

/// A server on this database, ready to take beacons.
async fn serve(port: u16, url: &str) -> Result<Ends, Failure> {
    let program = std::env::current_exe()?.with_file_name("cadentis");
    let listen = format!("127.0.0.1:{port}");
    let server = started(
        Command::new(&program)
            .args(["serve", "--no-cadence", "--listen", &listen, "--database-url", url])
            .args(["--trusted-proxy", "127.0.0.0/8"]),
    )?;
    wait_for(port).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    Ok(server)
}

/// Two readers.
const READERS: usize = 2;
const PAGES: [&str; 2] = ["funnels", "errors"];

async fn beside_readers(url: &str, seconds: u64, connections: u64) -> Result<(), Failure> {
    let db = Db::connect(url)?;
    let site = db.sites().await?.into_iter().next().ok_or("no site in it")?;
    let host = site.domains.first().cloned().ok_or("its site has no domain")?;
    let port = free_port()?;
    let server = serve(port, url).await?;
    let to: Arc<To> = To { port, key: site.key.clone(), host }.into();
    let answers = Answers::new(db.clone(), Compute::start(1, 1, Duration::from_secs(60))?);
    let cookie = someone_signed_in(&answers).await?;
    let pages = format!("http://127.0.0.1:{port}/{}/visitors", site.slug);
    let (mut alone, mut beside) = (Vec::new(), Vec::new());
    for round in 1..=3 {
        let quiet = load(&to, seconds, connections).await;
        let read: Arc<Read> = Arc::default();
        let until = Instant::now() + Duration::from_secs(seconds);
        let reader = || read_pages(pages.clone(), cookie.clone(), until, read.clone());
        let readers: Vec<_> = (0..READERS).map(|_| tokio::spawn(reader())).collect();
        let busy = load(&to, seconds, connections).await;
        for reader in readers {
            reader.await?;
        }
        let rate = |c: &Counts| c.taken.load(Ordering::Relaxed) as f64 / seconds as f64;
        alone.push(rate(&quiet));
        beside.push(rate(&busy));
        println!(
            "round {round}: {:.0} beacons/s alone, {:.0} beside {READERS} readers: {:.2} of it; {} and {} turned away; {} pages read, {} of them refused",
            rate(&quiet),
            rate(&busy),
            rate(&busy) / rate(&quiet),
            quiet.turned_away.load(Ordering::Relaxed),
            busy.turned_away.load(Ordering::Relaxed),
            read.pages.load(Ordering::Relaxed),
            read.refused.load(Ordering::Relaxed),
        );
    }
    let sum = |rates: &[f64]| rates.iter().sum::<f64>();
    println!("all rounds: {:.2} of the rate alone", sum(&beside) / sum(&alone));
    drop(server);
    db.close().await;
    Ok(())
}

#[derive(Default)]
struct Read {
    pages: AtomicU64,
    refused: AtomicU64,
}

/// A session of somebody who may see every site: pages are for people who have signed in.
async fn someone_signed_in(answers: &Answers) -> Result<String, Failure> {
    let everybody = people::all(answers).await?;
    let reader = everybody.iter().find(|p| p.is_administrator && p.gone_at.is_none());
    let from = people::From { address: [127, 0, 0, 1].into(), browser: "bench" };
    let token = people::begin(answers, reader.ok_or("nobody administers it")?, from, 0).await?;
    Ok(format!("cadentis_session={}", token.text()))
}

/// Asks for one page after the other. A page that sends elsewhere, to sign in, is a page that was refused.
async fn read_pages(pages: String, cookie: String, until: Instant, read: Arc<Read>) {
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
    let client = client.build().unwrap_or_default();
    let at = |moment: jiff::Timestamp| moment.strftime("%Y-%m-%dT%H:%MZ").to_string();
    let now = jiff::Timestamp::now();
    let from = now - jiff::SignedDuration::from_hours(30 * 24);
    let query = format!("from={}&to={}&against=none", at(from), at(now));
    for page in PAGES.iter().cycle() {
        if Instant::now() >= until {
            return;
        }
        let address = format!("{pages}/{page}?{query}");
        let answer = client.get(address).header("cookie", &cookie).send().await;
        let is_fine = match answer {
            Ok(answer) => answer.status().is_success() && answer.bytes().await.is_ok(),
            Err(_) => false,
        };
        read.pages.fetch_add(1, Ordering::Relaxed);
        read.refused.fetch_add(u64::from(!is_fine), Ordering::Relaxed);
    }
}

fn everything() -> cadentis_core::calendar::Stretch {
    cadentis_core::calendar::Stretch::last(86_400, jiff::Timestamp::now())
}

async fn wait_for(port: u16) {
    while TcpStream::connect(("127.0.0.1", port)).await.is_err() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Where beacons go: the site's key, and a host of its own that they come from.
#[derive(Clone)]
struct To {
    port: u16,
    key: String,
    host: String,
}

/// As many beacons as so many connections get rid of, each waiting for its answer.
async fn load(to: &Arc<To>, seconds: u64, connections: u64) -> Arc<Counts> {
    let counts: Arc<Counts> = Arc::default();
    let until = Instant::now() + Duration::from_secs(seconds);
    let senders: Vec<_> = (0..connections)
        .map(|nth| tokio::spawn(send(to.clone(), until, nth, counts.clone())))
        .collect();
    for sender in senders {
        let _ = sender.await;
    }
    counts
}

async fn send(to: Arc<To>, until: Instant, nth: u64, counts: Arc<Counts>) {
    let To { port, key, host } = &*to;
    let Ok(mut stream) = TcpStream::connect(("127.0.0.1", *port)).await else { return };
    let _ = stream.set_nodelay(true);
    let mut answer = [0u8; 1_024];
    let mut sent = 0u64;
    while Instant::now() < until {
        let now = jiff::Timestamp::now().as_millisecond();
        let (id, visit) = (Uuid::new_v4(), Uuid::new_v4());
        let body = format!(
            r#"{{"id":"{id}","seq":1,"at":{},"sent":{now},"visit":"{visit}","url":"http://{host}/sailings","device":"phone","connection":"4g","lcp":1843.5,"inp":112,"cls":0.0312,"fcp":921.3,"ttfb":310.2,"load":2210,"dns":12,"connect":61,"abandoned":false,"blank":false,"errors":0,"release":"41.0","lcp_element":"ul.sailings","lcp_delay":0,"lcp_fetch":0,"lcp_render":1532,"attributes":{{"fare":"guest"}},"happened":[]}}"#,
            now - 4_000
        );
        let network = nth * 131 + sent;
        let request = format!(
            "POST /beacons/{key} HTTP/1.1\r\nhost: 127.0.0.1:{port}\r\norigin: http://{host}\r\nuser-agent: Mozilla/5.0 (Linux; Android 15) Chrome/156.0 Mobile\r\nx-forwarded-for: 10.{}.{}.7\r\nx-visitor-country: NO\r\ncontent-type: text/plain\r\ncontent-length: {}\r\n\r\n{body}",
            (network >> 8) & 255,
            network & 255,
            body.len()
        );
        sent += 1;
        if stream.write_all(request.as_bytes()).await.is_err() {
            return;
        }
        match stream.read(&mut answer).await {
            Ok(n) if answer[..n].starts_with(b"HTTP/1.1 204") => {
                counts.taken.fetch_add(1, Ordering::Relaxed)
            }
            Ok(n) if n > 0 => counts.turned_away.fetch_add(1, Ordering::Relaxed),
            _ => return,
        };
    }
}
