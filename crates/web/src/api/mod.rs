//! What programs talk to: health, beacons, runners, and the script page while somebody writes.

pub mod beacons;
pub mod health;
pub mod of_site;
mod recordings;
mod reference;
pub mod runner;
pub mod scripts;
pub mod v1;

crate::routes::routes! {
    Public get "/healthz" => health::healthz,
    Public get "/api" => reference::page,
    Public get "/api/openapi.json" => v1::document,
}
