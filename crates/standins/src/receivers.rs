//! Who gets what Cadentis tells: a mail server and addresses of the web that take anything, keep it in memory and show it on
//! one page. Receivers can be told to refuse, to be slow, to lead elsewhere or to answer nothing.
//!
//! The same page cuts or slows the network of a location, so that there is something to tell.

use crate::network::Proxy;
use actix_web::http::StatusCode;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::VecDeque;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// Something that came.
#[derive(Debug, Clone, Serialize)]
pub struct Got {
    /// When.
    pub at: Timestamp,
    /// `mail`, or the path of the address.
    pub way: String,
    /// To whom, of mail.
    pub to: String,
    /// Headers as they came, of the web.
    pub headers: Vec<(String, String)>,
    /// All of it.
    pub body: String,
    /// What was answered.
    pub answered: u16,
}

/// How receivers behave.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Manner {
    /// They take what comes.
    #[default]
    Takes,
    /// They answer that they cannot, now.
    Refuses,
    /// They answer after longer than anybody waits.
    Hangs,
    /// They send whoever comes elsewhere.
    Leads,
    /// They end the connection without an answer.
    Dies,
}

/// So much is kept, the newest.
const MOST: usize = 500;
/// A mail has so many bytes at most.
const LONGEST: usize = 1 << 20;

#[derive(Default)]
struct Kept {
    got: VecDeque<Got>,
    manner: Manner,
    /// What is answered at addresses that begin like this.
    answers: Vec<(String, String)>,
}

/// Receivers, and what came to them.
#[derive(Clone)]
pub struct Receivers {
    /// Where mail is taken.
    pub smtp: SocketAddr,
    /// Where the web ones are, and the page that shows all.
    pub http: SocketAddr,
    kept: Arc<Mutex<Kept>>,
}

/// Proxies of locations, by their names in addresses.
pub type Locations = Vec<(String, Proxy)>;

struct Shown {
    kept: Arc<Mutex<Kept>>,
    locations: Arc<Locations>,
}

impl Receivers {
    /// Starts both in the background, on ports of loopback; 0 chooses a free one. `locations` can be cut on the page.
    ///
    /// # Errors
    /// When a port cannot be had.
    pub async fn start(smtp_port: u16, locations: Locations) -> io::Result<Receivers> {
        let kept = Arc::new(Mutex::new(Kept::default()));
        let listener = TcpListener::bind(("127.0.0.1", smtp_port)).await?;
        let smtp = listener.local_addr()?;
        let mails = kept.clone();
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let mails = mails.clone();
                tokio::spawn(async move {
                    // Whoever hangs up in the middle has said nothing.
                    let _ = take_mail(client, &mails).await;
                });
            }
        });
        let (shown, locations) = (kept.clone(), Arc::new(locations));
        let server = HttpServer::new(move || {
            let shown = Shown { kept: shown.clone(), locations: locations.clone() };
            App::new()
                .app_data(web::Data::new(shown))
                .app_data(web::PayloadConfig::new(LONGEST))
                .route("/", web::get().to(page))
                .route("/got", web::get().to(list))
                .route("/locations/{slug}/{how}", web::post().to(change))
                .default_service(web::post().to(take))
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .bind(("127.0.0.1", 0))?;
        let http = server.addrs()[0];
        tokio::spawn(server.run());
        Ok(Receivers { smtp, http, kept })
    }

    /// What came so far, the oldest first.
    pub fn got(&self) -> Vec<Got> {
        self.kept.lock().map(|k| k.got.iter().cloned().collect()).unwrap_or_default()
    }

    /// Lets whatever comes to addresses that begin like this be answered with this.
    pub fn answer(&self, begins: &str, with: &str) {
        if let Ok(mut kept) = self.kept.lock() {
            kept.answers.retain(|(held, _)| held != begins);
            kept.answers.push((begins.into(), with.into()));
        }
    }

    /// Lets them behave like this from now on.
    pub fn behave(&self, manner: Manner) {
        if let Ok(mut kept) = self.kept.lock() {
            kept.manner = manner;
        }
    }
}

fn keep(kept: &Mutex<Kept>, got: Got) {
    if let Ok(mut kept) = kept.lock() {
        kept.got.push_back(got);
        while kept.got.len() > MOST {
            kept.got.pop_front();
        }
    }
}

fn manner(kept: &Mutex<Kept>) -> Manner {
    kept.lock().map(|k| k.manner).unwrap_or_default()
}

/// A conversation of RFC 5321, as far as it takes mail.
async fn take_mail(client: TcpStream, kept: &Mutex<Kept>) -> io::Result<()> {
    let (read, mut write) = client.into_split();
    let mut lines = BufReader::new(read).lines();
    match manner(kept) {
        Manner::Dies => return Ok(()),
        Manner::Hangs => tokio::time::sleep(Duration::from_secs(120)).await,
        _ => {}
    }
    write.write_all(b"220 outbox of the demo\r\n").await?;
    let mut to = Vec::new();
    while let Some(line) = lines.next_line().await? {
        let command = line.get(..4).unwrap_or_default().to_ascii_uppercase();
        let answer: &[u8] = match command.as_str() {
            "EHLO" => b"250-outbox\r\n250 8BITMIME\r\n",
            "HELO" | "MAIL" | "RSET" | "NOOP" => b"250 fine\r\n",
            "RCPT" => {
                to.push(
                    line.get(8..).unwrap_or_default().trim_matches(['<', '>', ' ']).to_string(),
                );
                b"250 fine\r\n"
            }
            "DATA" if manner(kept) == Manner::Refuses => b"451 not now\r\n",
            "DATA" => {
                write.write_all(b"354 go on\r\n").await?;
                let mut body = String::new();
                while let Some(line) = lines.next_line().await? {
                    if line == "." || body.len() > LONGEST {
                        break;
                    }
                    // A full stop at the beginning of a line was doubled (RFC 5321, 4.5.2).
                    body += line.strip_prefix('.').unwrap_or(&line);
                    body.push('\n');
                }
                let (at, way) = (Timestamp::now(), "mail".to_string());
                let to = std::mem::take(&mut to).join(", ");
                keep(kept, Got { at, way, to, headers: Vec::new(), body, answered: 250 });
                b"250 kept\r\n"
            }
            "QUIT" => {
                write.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            _ => b"502 not spoken here\r\n",
        };
        write.write_all(answer).await?;
    }
    Ok(())
}

async fn take(shown: web::Data<Shown>, request: HttpRequest, body: web::Bytes) -> HttpResponse {
    let manner = manner(&shown.kept);
    let (status, location) = match manner {
        Manner::Takes => (StatusCode::OK, None),
        Manner::Refuses => (StatusCode::SERVICE_UNAVAILABLE, None),
        Manner::Leads => (StatusCode::TEMPORARY_REDIRECT, Some("/elsewhere")),
        Manner::Hangs | Manner::Dies => {
            tokio::time::sleep(Duration::from_secs(120)).await;
            (StatusCode::GATEWAY_TIMEOUT, None)
        }
    };
    let headers = request.headers().iter();
    let headers =
        headers.map(|(n, v)| (n.to_string(), String::from_utf8_lossy(v.as_bytes()).into()));
    keep(
        &shown.kept,
        Got {
            at: Timestamp::now(),
            way: request.path().to_string(),
            to: String::new(),
            headers: headers.collect(),
            body: String::from_utf8_lossy(&body).into(),
            answered: status.as_u16(),
        },
    );
    let mut answer = HttpResponse::build(status);
    if let Some(to) = location {
        answer.insert_header(("location", to));
    }
    let says = shown.kept.lock().ok().and_then(|kept| {
        let fits = |(begins, _): &&(String, String)| request.path().starts_with(begins.as_str());
        kept.answers.iter().find(fits).map(|(_, says)| says.clone())
    });
    match says.filter(|_| manner == Manner::Takes) {
        Some(says) => answer.content_type("application/json").body(says),
        None => answer.finish(),
    }
}

async fn list(shown: web::Data<Shown>) -> HttpResponse {
    let got: Vec<Got> =
        shown.kept.lock().map(|k| k.got.iter().cloned().collect()).unwrap_or_default();
    HttpResponse::Ok().json(got)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The text of a mail without its HTML, or of what else came.
fn readable(got: &Got) -> String {
    if got.way != "mail" {
        return got.body.clone();
    }
    let subject = got.body.lines().find(|l| l.starts_with("Subject: ")).unwrap_or_default();
    let text = got.body.split("\n\n").nth(2).unwrap_or_default();
    format!("{subject}\n{text}")
}

async fn page(shown: web::Data<Shown>) -> HttpResponse {
    let got: Vec<Got> =
        shown.kept.lock().map(|k| k.got.iter().rev().cloned().collect()).unwrap_or_default();
    let row = |g: &Got| {
        let to = if g.to.is_empty() { &g.way } else { &g.to };
        format!(
            "<tr><th scope=\"row\">{}</th><td>{}</td><td>{}</td><td><pre>{}</pre></td></tr>",
            g.at.strftime("%H:%M:%S"),
            escaped(if g.way == "mail" { "mail" } else { "web" }),
            escaped(to),
            escaped(&readable(g))
        )
    };
    let rows: String = got.iter().map(row).collect();
    let button = |(slug, _): &(String, Proxy)| {
        let slug = escaped(slug);
        let form = |how: &str, says: &str| {
            format!(
                "<form method=\"post\" action=\"/locations/{slug}/{how}\"><button>{says} {slug}</button></form>"
            )
        };
        format!("<li>{}{}{}</li>", form("cut", "Cut"), form("slow", "Slow"), form("mend", "Mend"))
    };
    let locations: String = shown.locations.iter().map(button).collect();
    let page = format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>Outbox of the demo</title><link rel=\"icon\" href=\"data:,\">\
         <meta name=\"viewport\" content=\"width=device-width\"><style>body{{font:16px/1.4 sans-serif;margin:2rem;color:#1c2530;\
         background:#f8f6f1}}td,th{{text-align:left;vertical-align:top;padding:.3rem .8rem;border-top:1px solid #ddd8cc}}\
         pre{{white-space:pre-wrap;margin:0}}form{{display:inline-block;margin:0 .4rem .4rem 0}}li{{list-style:none}}ul{{padding:0}}\
         </style></head><body><main><h1>Outbox of the demo</h1><p>What Cadentis told, the newest first; nothing of it leaves this \
         machine.</p><h2>The network of each location</h2><ul>{locations}</ul><h2>Told</h2><table><thead><tr><th scope=\"col\">At</th>\
         <th scope=\"col\">way</th><th scope=\"col\">to</th><th scope=\"col\">what</th></tr></thead><tbody>{rows}</tbody></table></main></body></html>"
    );
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page)
}

async fn change(shown: web::Data<Shown>, path: web::Path<(String, String)>) -> HttpResponse {
    let (slug, how) = path.into_inner();
    let Some((_, proxy)) = shown.locations.iter().find(|(name, _)| *name == slug) else {
        return HttpResponse::NotFound().finish();
    };
    match how.as_str() {
        "cut" => proxy.change(|path| path.out = true),
        "slow" => proxy.change(|path| path.round_trip_ms += 800.0),
        "mend" => {
            let usual = crate::places::by_slug(&slug).map(crate::network::Path::from);
            if let Some(usual) = usual {
                proxy.change(|path| *path = usual);
            }
        }
        _ => return HttpResponse::NotFound().finish(),
    }
    HttpResponse::SeeOther().insert_header(("location", "/")).finish()
}
