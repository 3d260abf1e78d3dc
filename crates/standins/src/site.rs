//! The booking site of Marram Ferries, with a map supplier on another host, on plain HTTP.
//!
//! Pages are made of strings on purpose: it is a site like any other that Cadentis looks at, not a
//! part of it. [`Switches`] make it misbehave.

use crate::network::Hosts;
use crate::places::{BOOKING_HOST, MAP_HOST, NEXT_HOST};
use actix_web::dev::ServerHandle;
use actix_web::http::header;
use actix_web::{App, HttpResponse, HttpServer, web};
use rand::Rng;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, VecDeque};
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;

/// How the site misbehaves; all off by default.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Switches {
    /// More time the API takes, in milliseconds.
    pub slow_api_ms: u64,
    /// Share of API requests answered with 503, 0 to 1.
    pub failing_api: f64,
    /// A notice pushes the page down after it was painted.
    pub late_shift: bool,
    /// The page's own script is at work for so many milliseconds once what it asked for has come.
    pub heavy_script_ms: u64,
    /// Each press keeps the page busy for so many milliseconds.
    pub heavy_interaction_ms: u64,
    pub missing_image: bool,
    pub script_error: bool,
    /// Nothing is ever painted.
    pub blank: bool,
}

#[derive(Clone)]
struct Ferries {
    switches: Arc<RwLock<Switches>>,
    /// The tag of the snippet, ready to stand in a page.
    snippet: Arc<String>,
}

pub struct Site {
    pub booking: SocketAddr,
    pub map: SocketAddr,
    pub switches: Arc<RwLock<Switches>>,
    handles: Vec<ServerHandle>,
}

/// The ports the site should take; 0 for any.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ports {
    pub booking: u16,
    pub map: u16,
}

impl Site {
    /// Starts the site in the background. `snippet` is the address of the snippet and the site
    /// key, if pages shall carry it.
    ///
    /// # Errors
    /// When a port cannot be had.
    pub fn start(ports: Ports, snippet: Option<(&str, &str)>) -> io::Result<Site> {
        let switches = Arc::new(RwLock::new(Switches::default()));
        let tag = snippet.map_or(String::new(), |(address, key)| {
            let own = address.replace("/snippet.js", &format!("/snippet/{key}.js"));
            format!("<script async src=\"{own}\" data-release=\"40.3\"></script>")
        });
        let ferries = Ferries { switches: switches.clone(), snippet: Arc::new(tag) };
        let booking = HttpServer::new(move || {
            App::new()
                .app_data(web::Data::new(ferries.clone()))
                .route("/", web::get().to(timetable))
                .route("/tomorrow", web::get().to(timetable))
                .route("/sailings", web::get().to(sailings))
                .route("/api/sailings", web::get().to(api_sailings))
                .route("/cabin", web::get().to(cabin))
                .route("/booking", web::post().to(hold))
                .route("/booking/{code}", web::get().to(held))
                .route("/booking/{code}/pass", web::get().to(pass))
                .route("/desk", web::get().to(desk))
                .route("/gifts", web::get().to(gifts))
                .route("/insurance", web::get().to(insurance))
                .route("/conditions", web::get().to(conditions))
                .route("/sign-in", web::get().to(sign_in))
                .route("/signed-in", web::get().to(signed_in))
                .route("/api/echo", web::post().to(echo))
                .route("/static/{file}", web::get().to(file))
                .route("/circles", web::get().to(circles))
                .route("/flood", web::get().to(flood))
                .route("/everything", web::get().to(everything))
                .route("/traces/{id}", web::get().to(trace_page))
                .route("/switches", web::put().to(switch))
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .bind(("127.0.0.1", ports.booking))?;
        let map = HttpServer::new(|| {
            App::new()
                .route("/v2/map.js", web::get().to(map_script))
                .route("/v2/tile/{z}/{x}/{y}.svg", web::get().to(map_tile))
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .bind(("127.0.0.1", ports.map))?;
        let (booking_at, map_at) = (booking.addrs()[0], map.addrs()[0]);
        let (booking, map) = (booking.run(), map.run());
        let handles = vec![booking.handle(), map.handle()];
        tokio::spawn(booking);
        tokio::spawn(map);
        Ok(Site { booking: booking_at, map: map_at, switches, handles })
    }

    /// The made-up host names, for proxies.
    pub fn hosts(&self) -> Hosts {
        HashMap::from([
            (BOOKING_HOST.into(), self.booking),
            (NEXT_HOST.into(), self.booking),
            (MAP_HOST.into(), self.map),
        ])
    }

    pub fn change(&self, change: impl FnOnce(&mut Switches)) {
        if let Ok(mut s) = self.switches.write() {
            change(&mut s);
        }
    }

    pub async fn stop(self) {
        for handle in self.handles {
            handle.stop(false).await;
        }
    }
}

const ISLANDS: [&str; 4] = ["Skarholm", "Lunnasay", "Vetterey", "Orrin Point"];
const TIMES: [&str; 6] = ["06:40", "08:15", "10:30", "13:05", "16:20", "19:45"];

impl Ferries {
    fn switches(&self) -> Switches {
        self.switches.read().map(|s| s.clone()).unwrap_or_default()
    }

    fn page(&self, title: &str, head: &str, body: &str) -> HttpResponse {
        let s = self.switches();
        if s.blank {
            let html = format!(
                "<!doctype html><title>{title}</title>{}<script>for(;;)x.y</script>",
                self.snippet
            );
            return HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html);
        }
        let mut attributes = String::new();
        if s.late_shift {
            attributes += " data-shift=1";
        }
        if s.heavy_interaction_ms > 0 {
            attributes += &format!(" data-heavy={}", s.heavy_interaction_ms);
        }
        if s.heavy_script_ms > 0 {
            attributes += &format!(" data-work={}", s.heavy_script_ms);
        }
        if s.script_error {
            attributes += " data-broken=1";
        }
        let hero = if s.missing_image { "/static/gone.svg" } else { "/static/hero.svg" };
        let html = format!(
            "<!doctype html><html lang=en><head><meta charset=utf-8><title>{title} · Marram Ferries</title>\
             <meta name=viewport content=\"width=device-width\"><link rel=icon href=\"/static/mark.svg\">\
             <link rel=stylesheet href=\"/static/app.css\">{head}{snippet}</head><body{attributes}>\
             <header><b>Marram Ferries</b><a href=\"/\">Timetable</a><a href=\"/tomorrow\">Tomorrow</a></header>\
             <main><img class=hero alt=\"\" src=\"{hero}\"><h1>{title}</h1>{body}</main>\
             <script src=\"/static/app.js\"></script></body></html>",
            snippet = self.snippet,
        );
        HttpResponse::Ok()
            .content_type("text/html; charset=utf-8")
            .insert_header(trace(title, 45.0))
            .body(html)
    }
}

/// What the back end remembers of the newest requests: the id of the trace, what was asked, and its spans.
static TRACES: Mutex<VecDeque<Trace>> = Mutex::new(VecDeque::new());
const MOST_TRACES: usize = 5_000;

struct Trace {
    id: String,
    what: String,
    /// Name, start and length in milliseconds.
    spans: Vec<(&'static str, f64, f64)>,
}

/// A new trace in a Server-Timing header, as a back end with tracing sends it, with how long the database took.
fn trace(what: &str, thought_ms: f64) -> (&'static str, String) {
    let mut random = rand::rng();
    let id: u128 = random.random();
    let span: u64 = random.random();
    let rows_ms = thought_ms * random.random_range(0.4..0.7);
    let spans = vec![("handle", 0.0, thought_ms), ("read rows", thought_ms * 0.1, rows_ms)];
    if let Ok(mut traces) = TRACES.lock() {
        traces.truncate(MOST_TRACES - 1);
        traces.push_front(Trace { id: format!("{id:032x}"), what: what.to_string(), spans });
    }
    let header = format!(
        "db;dur={rows_ms:.1};desc=\"rows read\", traceparent;desc=\"00-{id:032x}-{span:016x}-01\""
    );
    ("server-timing", header)
}

/// `GET /traces/{id}`: the back end's own page about one request.
async fn trace_page(id: web::Path<String>) -> HttpResponse {
    let traces = TRACES.lock().ok();
    let found = traces.as_ref().and_then(|all| all.iter().find(|t| t.id == *id));
    let body = match found {
        None => "<p>This back end remembers no such trace: it keeps the newest few thousand.</p>"
            .to_string(),
        Some(t) => {
            let whole = t.spans.iter().map(|(_, at, ms)| at + ms).fold(1.0, f64::max);
            let bar = |(name, at, ms): &(&str, f64, f64)| {
                let (left, width) = (100.0 * at / whole, 100.0 * ms / whole);
                format!(
                    "<tr><td>{name}<td>{ms:.1} ms<td style=\"width:60%\"><div style=\"margin-left:{left:.1}%;\
                     width:{width:.1}%;height:12px;background:#1d4d6b\"></div></tr>"
                )
            };
            let bars: String = t.spans.iter().map(bar).collect();
            format!("<p>{}</p><table style=\"width:100%\">{bars}</table>", t.what)
        }
    };
    let html = format!(
        "<!doctype html><meta charset=utf-8><title>Trace</title><h1>Trace {}</h1>{body}",
        clean(&id)
    );
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html)
}

fn clean(text: &str) -> String {
    text.chars().filter(char::is_ascii_alphanumeric).take(40).collect()
}

/// The server thinks for about so long.
async fn think(ms: u64) {
    let ms = ms as f64 * rand::rng().random_range(0.8..1.3);
    tokio::time::sleep(Duration::from_secs_f64(ms / 1000.0)).await;
}

async fn timetable(site: web::Data<Ferries>, request: actix_web::HttpRequest) -> HttpResponse {
    think(45).await;
    let day = if request.path() == "/" { "today" } else { "tomorrow" };
    let options: String = ISLANDS.iter().map(|i| format!("<option>{i}</option>")).collect();
    let rows: String = TIMES
        .iter()
        .map(|t| format!("<tr><td>{t}<td>Skarholm<td>Lunnasay<td>on time</tr>"))
        .collect();
    site.page(
        &format!("Departures {day}"),
        "",
        &format!(
            "<form action=\"/sailings\"><div><label for=from>From</label><select id=from name=from>{options}</select></div>\
             <div><label for=to>To</label><select id=to name=to>{options}</select></div><button data-cadentis-action=find-sailings>Find sailings</button></form>\
             <table><tr><th>Leaves<th>From<th>To<th>State</tr>{rows}</table>"
        ),
    )
}

async fn sailings(site: web::Data<Ferries>) -> HttpResponse {
    think(40).await;
    let head = format!("<script src=\"http://{MAP_HOST}/v2/map.js\"></script>");
    site.page(
        "Sailings",
        &head,
        "<div class=map id=map></div><div id=sailings><p>Looking for sailings…</p></div>",
    )
}

#[derive(Deserialize)]
struct SailingsQuery {
    from: Option<String>,
    to: Option<String>,
}

async fn api_sailings(site: web::Data<Ferries>, wanted: web::Query<SailingsQuery>) -> HttpResponse {
    let s = site.switches();
    if s.failing_api > 0.0 && rand::rng().random_bool(s.failing_api.min(1.0)) {
        think(60).await;
        return HttpResponse::ServiceUnavailable()
            .insert_header(trace("sailings: the timetable is busy", 60.0))
            .json(serde_json::json!({
                "error": "TIMETABLE_BUSY"
            }));
    }
    think(110 + s.slow_api_ms).await;
    let island = |i: &Option<String>, other: usize| {
        let name = i.as_deref().filter(|i| ISLANDS.contains(i)).unwrap_or(ISLANDS[other]);
        name.to_string()
    };
    let (from, to) = (island(&wanted.from, 0), island(&wanted.to, 1));
    let all: Vec<_> = TIMES
        .iter()
        .enumerate()
        .map(|(i, t)| serde_json::json!({"id": format!("m{i}"), "leaves": t, "from": from, "to": to, "price": 38 + 4 * i}))
        .collect();
    let thought = 110.0 + s.slow_api_ms as f64;
    HttpResponse::Ok()
        .insert_header(trace("sailings", thought))
        .json(serde_json::json!({ "sailings": all }))
}

async fn cabin(site: web::Data<Ferries>) -> HttpResponse {
    think(50).await;
    let counts: String = (1..=6).map(|n| format!("<option>{n}</option>")).collect();
    site.page(
        "Cabin and passengers",
        "",
        &format!(
            "<form method=post action=\"/booking\"><div><label for=lead>Lead passenger</label><input id=lead name=lead></div>\
             <div><label for=count>Passengers</label><select id=count name=count>{counts}</select></div>\
             <div><label for=cabin>Cabin</label><select id=cabin name=cabin><option>None</option><option>Two berths</option></select></div>\
             <button data-cadentis-action=hold-booking>Hold the booking</button></form>"
        ),
    )
}

async fn hold() -> HttpResponse {
    think(90).await;
    let letters = b"BCDFGHJKLMNPQRSTVWXZ23456789";
    let mut random = rand::rng();
    let code: String =
        (0..4).map(|_| char::from(letters[random.random_range(0..letters.len())])).collect();
    HttpResponse::SeeOther().insert_header((header::LOCATION, format!("/booking/{code}"))).finish()
}

async fn held(site: web::Data<Ferries>, code: web::Path<String>) -> HttpResponse {
    think(35).await;
    let code: String = code.chars().filter(char::is_ascii_alphanumeric).take(8).collect();
    site.page(
        "Your booking is held",
        "",
        &format!("<p>Booking <b>{code}</b> is held for you for 30 minutes.</p><p><a href=\"/booking/{code}/pass\" data-cadentis-action=boarding-pass>Boarding pass</a></p>"),
    )
}

async fn pass(site: web::Data<Ferries>) -> HttpResponse {
    think(35).await;
    site.page(
        "Boarding pass",
        "",
        "<img alt=\"Boarding code\" src=\"/static/code.svg\" width=180 height=180>",
    )
}

/// Luggage, papers, dialogs, frames: a page with one of everything.
async fn desk(site: web::Data<Ferries>) -> HttpResponse {
    think(30).await;
    site.page("Service desk", "", include_str!("../assets/desk.html"))
}

/// Everything on it stands in open shadow roots, one within another.
async fn gifts(site: web::Data<Ferries>) -> HttpResponse {
    think(30).await;
    site.page("Gift cards", "", include_str!("../assets/gifts.html"))
}

async fn insurance() -> HttpResponse {
    think(20).await;
    let body = "<!doctype html><title>Insurance</title><button onclick=\"this.outerHTML='<p>Insured</p>'\">Insure me</button>";
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(body)
}

async fn conditions(site: web::Data<Ferries>) -> HttpResponse {
    think(30).await;
    site.page("Conditions", "", "<p>Passengers are carried in the order they come.</p>")
}

/// A form that makes every mistake with its password: it goes into the address and the console.
async fn sign_in(site: web::Data<Ferries>) -> HttpResponse {
    think(30).await;
    site.page(
        "Sign in",
        "",
        "<form action=\"/signed-in\"><div><label for=user>User</label><input id=user name=user></div>\
         <div><label for=password>Password</label><input id=password name=password></div><button>Sign in</button></form>",
    )
}

async fn signed_in(site: web::Data<Ferries>, request: actix_web::HttpRequest) -> HttpResponse {
    think(30).await;
    let query = web::Query::<HashMap<String, String>>::from_query(request.query_string());
    let user = query.ok().and_then(|q| q.get("user").cloned()).unwrap_or_default();
    let user: String = user.chars().filter(|c| c.is_ascii_alphanumeric()).take(40).collect();
    let leak = "<script>console.log('signed in with ' + new URLSearchParams(location.search).get('password'));\
                setTimeout(function () { throw new Error('token ' + location.search) }, 20)</script>";
    site.page("Signed in", "", &format!("<p>You are signed in as <b id=who>{user}</b>.</p>{leak}"))
}

/// Leads to itself.
async fn circles() -> HttpResponse {
    HttpResponse::Found().insert_header((header::LOCATION, "/circles")).finish()
}

/// Opens more windows than anybody wants, and offers more than any disk holds.
async fn flood(site: web::Data<Ferries>) -> HttpResponse {
    let open = "for (var i = 0; i < 1000; i++) open('/conditions?window=' + i, '_blank', 'width=200,height=200')";
    site.page(
        "A flood",
        "",
        &format!("<button onclick=\"{open}\">Open them</button> <a href=\"/everything\" download>Everything</a>"),
    )
}

/// Two gigabytes, as a file.
async fn everything() -> HttpResponse {
    const PIECE: usize = 1 << 20;
    let piece = web::Bytes::from(vec![b'x'; PIECE]);
    let pieces = (0..2_048).map(move |_| Ok::<_, io::Error>(piece.clone()));
    HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header(("content-disposition", "attachment; filename=everything.bin"))
        .streaming(futures::stream::iter(pieces))
}

/// Says what it was sent.
async fn echo(request: actix_web::HttpRequest, body: web::Bytes) -> HttpResponse {
    think(10).await;
    let header = |name: &str| {
        request.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("").to_string()
    };
    HttpResponse::Created().insert_header(trace("echo", 10.0)).json(serde_json::json!({
        "authorization": header("authorization"), "kind": header("content-type"), "body": String::from_utf8_lossy(&body),
    }))
}

async fn file(name: web::Path<String>) -> HttpResponse {
    let (kind, body) = match name.as_str() {
        "app.css" => ("text/css", include_str!("../assets/app.css").to_string()),
        "app.js" => ("text/javascript", include_str!("../assets/app.js").to_string()),
        "hero.svg" => ("image/svg+xml", sea(900, 220, 260)),
        "code.svg" => ("image/svg+xml", squares(21)),
        "mark.svg" => ("image/svg+xml", sea(32, 32, 1)),
        _ => return HttpResponse::NotFound().body("no such file"),
    };
    think(6).await;
    HttpResponse::Ok()
        .content_type(kind)
        .insert_header((header::CACHE_CONTROL, "max-age=3600"))
        .body(body)
}

async fn map_script() -> HttpResponse {
    think(25).await;
    HttpResponse::Ok().content_type("text/javascript").insert_header((header::CACHE_CONTROL, "max-age=600")).body(format!(
        "document.addEventListener('DOMContentLoaded',function(){{var m=document.getElementById('map');if(!m)return;\
         ['7/66/36','7/67/36'].forEach(function(t){{var i=new Image();i.alt='';i.src='http://{MAP_HOST}/v2/tile/'+t+'.svg';m.appendChild(i)}})}});"
    ))
}

async fn map_tile() -> HttpResponse {
    think(15).await;
    HttpResponse::Ok().content_type("image/svg+xml").body(sea(256, 256, 60))
}

async fn switch(site: web::Data<Ferries>, wanted: web::Json<Switches>) -> HttpResponse {
    if let Ok(mut s) = site.switches.write() {
        *s = wanted.into_inner();
    }
    HttpResponse::NoContent().finish()
}

/// A picture of the sea, `waves` waves heavy.
fn sea(width: u32, height: u32, waves: u32) -> String {
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\"><rect width=\"{width}\" height=\"{height}\" fill=\"#7fa8b8\"/>"
    );
    for i in 0..waves {
        let (x, y) = (i * 73 % width, height / 3 + i * 37 % (height * 2 / 3 + 1));
        svg += &format!(
            "<path d=\"M{x} {y}q12 -8 24 0t24 0t24 0\" fill=\"none\" stroke=\"#1b4b66\" stroke-opacity=\".4\"/>"
        );
    }
    svg + "</svg>"
}

fn squares(n: u32) -> String {
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {n} {n}\" width=\"180\" height=\"180\"><rect width=\"{n}\" height=\"{n}\" fill=\"#fff\"/>"
    );
    for (x, y) in (0..n).flat_map(|x| (0..n).map(move |y| (x, y))) {
        if (x * 7 + y * 13 + x * y) % 3 == 0 {
            svg += &format!("<rect x=\"{x}\" y=\"{y}\" width=\"1\" height=\"1\"/>");
        }
    }
    svg + "</svg>"
}
