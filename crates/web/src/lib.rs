//! Pages, API and static files. Handlers are thin: read what is asked, ask `answers`, word, draw.
//!
//! - [`api`]: health, collecting beacons, runners
//! - [`frame`]: what every page has: places, the time strip, the stretch
//! - [`pages`]: a folder for each place; [`respond`], [`words`], [`view`]: what more than one of them has
//! - [`draw`]: SVG made of numbers; [`format`]: numbers as people read them; [`view`]: what templates are filled with

mod access;
mod acknowledging;
mod api;
mod around;
pub mod asked;
mod at_journey;
mod budget_course;
mod course;
mod csv_file;
mod diff;
pub mod door;
mod draw;
mod error;
mod feeds;
mod fields;
mod filters;
mod format;
mod frame;
mod importing;
mod limits;
mod lineup;
pub mod longer;
#[cfg(test)]
mod made_up;
mod map;
mod offered;
pub mod ops;
pub mod pace;
mod pages;
mod problem;
mod respond;
pub mod routes;
mod snippets;
mod statics;
pub mod tls;
mod view;
mod words;

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::Server;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_ENCODING;
use actix_web::middleware::{Compress, Next, from_fn};
use actix_web::{App, HttpResponse, HttpServer, web};
use cadentis_answers::Answers;
use cadentis_intake::Intake;
use cadentis_intake::import::Importer;
use cadentis_workers::Workers;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;
use tls::Tls;

/// What handlers share. Everything in it is a handle: servers keep no state of their own.
#[derive(Clone)]
pub struct State {
    /// Whatever is read to be shown or judged, and changed by somebody.
    pub answers: Answers,
    /// Takes page views from files.
    pub importer: Importer,
    /// How long pages took.
    pub meter: ops::PageMeter,
    /// How often each token asks.
    pub pace: pace::Pace,
    pub intake: Intake,
    /// Set once tables and today's partitions are there: before that nothing can be stored.
    pub ready: Arc<AtomicBool>,
    /// Names that are answered, proxies that are believed.
    pub door: door::Door,
    /// Whether it shows a made-up site on this machine alone: people sign in with one press.
    pub is_demo: bool,
    /// What goes on in this process beside answering.
    pub workers: Workers,
    /// Queries that take longer than their page waits for.
    pub queries: asked::Asking,
}

pub struct Web {
    pub server: Server,
    pub address: SocketAddr,
}

/// Nobody has to pack what is sent here, and a few kilobytes can unpack to gigabytes: packed bodies are refused unread.
async fn as_it_is<B: MessageBody>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let packed = request.headers().get(CONTENT_ENCODING).is_some_and(|v| v != "identity");
    if packed {
        let says = "Bodies are taken as they are, without Content-Encoding.";
        let answer = problem::refusal(&request, StatusCode::UNSUPPORTED_MEDIA_TYPE, says);
        return Ok(request.into_response(answer).map_into_right_body());
    }
    Ok(next.call(request).await?.map_into_left_body())
}

/// Binds an address for pages of others alone: the snippet they load, and the beacons it sends. Its threads answer nothing
/// else. With a certificate they speak https.
///
/// # Errors
/// When the address is taken or not ours.
pub fn bind_beacons(
    state: State,
    (address, tls): (SocketAddr, Option<&Arc<Tls>>),
    workers: usize,
) -> io::Result<Web> {
    let listener = TcpListener::bind(address)?;
    let address = listener.local_addr()?;
    let server = HttpServer::new(move || {
        App::new()
            .app_data(web::Data::new(state.clone()))
            .app_data(limits::paths())
            .configure(api::beacons::routes)
            .service(
                web::scope("")
                    .wrap(door::headers())
                    .wrap(from_fn(door::known_host))
                    .configure(snippets::routes)
                    .default_service(web::route().to(HttpResponse::NotFound)),
            )
    })
    .workers(workers)
    .disable_signals()
    .shutdown_timeout(5);
    let server = match tls {
        Some(tls) => server.listen_rustls_0_23(listener, tls.config()?)?,
        None => server.listen(listener)?,
    };
    Ok(Web { server: server.run(), address })
}

/// Connections of people and programs are kept open for so long: over a minute, as browsers keep theirs.
const KEEP_ALIVE: Duration = Duration::from_secs(75);

/// Binds the address and makes the server; it runs when its `server` is awaited. With a certificate it speaks https.
///
/// # Errors
/// When the address is taken or not ours.
pub fn bind(
    state: State,
    (address, tls): (SocketAddr, Option<&Arc<Tls>>),
    workers: usize,
) -> io::Result<Web> {
    let listener = TcpListener::bind(address)?;
    let address = listener.local_addr()?;
    let server = HttpServer::new(move || {
        App::new()
            .app_data(web::Data::new(state.clone()))
            .app_data(limits::files())
            .app_data(limits::forms())
            .app_data(limits::json())
            .app_data(limits::queries())
            .app_data(limits::paths())
            // What comes most often, tens of thousands of times a second: looked for first, and nothing is wrapped
            // around it.
            .configure(api::beacons::routes)
            .service(
                web::scope("/api/runner")
                    .wrap(from_fn(as_it_is))
                    .wrap(from_fn(problem::to_programs))
                    .wrap(from_fn(door::known_host))
                    .app_data(web::PayloadConfig::new(limits::RECORD_BYTES))
                    .configure(api::runner::routes),
            )
            .service(
                // Programs show tokens: no page of others can make a browser send one.
                web::scope(access::API)
                    .wrap(from_fn(as_it_is))
                    .wrap(from_fn(problem::to_programs))
                    .wrap(Compress::default())
                    .wrap(door::headers())
                    .wrap(from_fn(door::known_host))
                    .wrap(from_fn(ops::timed))
                    .configure(api::v1::routes)
                    .default_service(web::route().to(error::not_found)),
            )
            .service(
                web::scope("")
                    .wrap(from_fn(as_it_is))
                    .wrap(from_fn(door::same_origin))
                    .wrap(from_fn(problem::to_programs))
                    .wrap(Compress::default())
                    .wrap(door::headers())
                    .wrap(from_fn(door::known_host))
                    .wrap(from_fn(ops::timed))
                    .configure(api::routes)
                    .configure(snippets::routes)
                    .configure(feeds::routes)
                    .configure(acknowledging::routes)
                    .configure(statics::routes)
                    .configure(pages::setup::routes)
                    .configure(pages::people::routes)
                    // Last, since anything may be the name of a site.
                    .service(
                        web::scope(routes::OF_SITE)
                            .configure(pages::routes)
                            .configure(pages::visitors::routes)
                            .configure(pages::settings::routes)
                            .configure(api::of_site::routes)
                            .default_service(web::route().to(error::not_found)),
                    )
                    .default_service(web::route().to(error::not_found)),
            )
    })
    // A thread looks at how long a connection has been idle before it looks for a request on it: one that waited while the
    // thread was busy for longer than this is cut off, unanswered.
    .keep_alive(KEEP_ALIVE)
    .workers(workers)
    .disable_signals()
    .shutdown_timeout(5);
    let server = match tls {
        Some(tls) => server.listen_rustls_0_23(listener, tls.config()?)?,
        None => server.listen(listener)?,
    };
    Ok(Web { server: server.run(), address })
}
