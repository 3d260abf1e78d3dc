//! What programs talk to: health, beacons, runners, and the script page while somebody writes.

mod collect;
mod health;
mod recordings;
mod runner;
pub mod scripts;

use actix_web::web::{self, ServiceConfig};

/// What comes most often, tens of thousands of times a second: looked for first, and nothing is wrapped around it.
pub fn front_door(config: &mut ServiceConfig) {
    config.route("/collect/{key}", web::post().to(collect::collect));
}

pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/healthz", web::get().to(health::healthz))
        .route("/api/runner/lease", web::post().to(runner::lease))
        .route("/api/runner/progress", web::post().to(runner::progress))
        .route("/api/runner/record", web::post().to(runner::record))
        .route("/api/runner/recording", web::post().to(runner::recording))
        .route("/api/recordings", web::post().to(recordings::ask))
        .route("/api/recordings/{id}", web::get().to(recordings::look))
        .route("/api/recordings/{id}/inputs", web::post().to(recordings::inputs))
        .route("/api/recordings/{id}/acts", web::post().to(recordings::act))
        .route("/api/recordings/{id}", web::delete().to(recordings::end))
        .route("/api/script/read", web::post().to(scripts::read))
        .route("/api/script/next", web::post().to(scripts::next))
        .route("/api/trials", web::post().to(scripts::ask))
        .route("/api/trials/{id}", web::get().to(scripts::trial))
        .route("/api/trials/{id}", web::delete().to(scripts::cancel))
        .route("/api/trials/{id}/film/{step}/{frame}", web::get().to(scripts::film));
}
