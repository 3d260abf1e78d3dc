//! What programs talk to: health, beacons, runners.

mod collect;
mod health;
mod runner;

use actix_web::web::{self, ServiceConfig};

pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/healthz", web::get().to(health::healthz))
        .route("/collect/{key}", web::post().to(collect::collect))
        .route("/api/runner/lease", web::post().to(runner::lease))
        .route("/api/runner/record", web::post().to(runner::record));
}
