//! The freight office of the ferry line: a second, small site on a host of its own.

use crate::places::FREIGHT_KEY;
use actix_web::dev::ServerHandle;
use actix_web::{App, HttpResponse, HttpServer, web};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

pub struct Office {
    pub address: SocketAddr,
    handle: ServerHandle,
}

/// The tag of the snippet, ready to stand in a page.
#[derive(Clone)]
struct Tag(Arc<String>);

impl Office {
    /// Starts the office in the background on any free port; its pages carry the snippet from `collect`, an address of the
    /// server that takes beacons.
    ///
    /// # Errors
    /// When no port can be had.
    pub fn start(collect: &str) -> io::Result<Office> {
        let tag = format!("<script async src=\"{collect}/snippet/{FREIGHT_KEY}.js\"></script>");
        let tag = Tag(Arc::new(tag));
        let office = HttpServer::new(move || {
            App::new()
                .app_data(web::Data::new(tag.clone()))
                .route("/", web::get().to(desk))
                .route("/rates", web::get().to(rates))
                .route("/quote", web::get().to(quote))
                .route("/office.css", web::get().to(style))
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .bind(("127.0.0.1", 0))?;
        let address = office.addrs()[0];
        let office = office.run();
        let handle = office.handle();
        tokio::spawn(office);
        Ok(Office { address, handle })
    }

    pub async fn stop(self) {
        self.handle.stop(false).await;
    }
}

fn page(tag: &Tag, title: &str, body: &str) -> HttpResponse {
    let html = format!(
        "<!doctype html><html lang=en><head><meta charset=utf-8><title>{title} · Marram Freight</title>\
         <meta name=viewport content=\"width=device-width\"><link rel=icon href=\"data:,\">\
         <link rel=stylesheet href=\"/office.css\">{}</head>\
         <body><header><b>Marram Freight</b> <a href=\"/\">Office</a> <a href=\"/rates\">Rates</a></header>\
         <main><h1>{title}</h1>{body}</main></body></html>",
        tag.0
    );
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html)
}

async fn desk(tag: web::Data<Tag>) -> HttpResponse {
    let form = "<p>Lorries and trailers between the islands, seven days a week.</p><form action=\"/quote\">\
        <label>Length in metres <input name=metres></label><button>Ask for a quote</button></form>";
    page(&tag, "Freight office", form)
}

async fn rates(tag: web::Data<Tag>) -> HttpResponse {
    let rows = "<table><tr><th>up to 7.5 m<td>1 140</tr><tr><th>up to 12 m<td>1 730</tr></table>";
    page(&tag, "Rates", rows)
}

#[derive(serde::Deserialize)]
struct Asked {
    #[serde(default)]
    metres: String,
}

async fn quote(tag: web::Data<Tag>, asked: web::Query<Asked>) -> HttpResponse {
    let metres = asked.metres.parse::<f64>().unwrap_or(12.0).clamp(1.0, 25.0);
    let says = format!("<p>{metres} m: {:.0}, any weekday.</p>", 400.0 + metres * 110.0);
    page(&tag, "Your quote", &says)
}

async fn style() -> HttpResponse {
    let css =
        "body{font:16px sans-serif;margin:2rem;max-width:46rem}header{border-bottom:1px solid}";
    HttpResponse::Ok().content_type("text/css").body(css)
}
