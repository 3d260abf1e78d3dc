//! What programs talk to: health, beacons, runners, and the script page while somebody writes.

pub mod beacons;
pub mod health;
pub mod of_site;
mod recordings;
pub mod runner;
pub mod scripts;
pub mod v1;

crate::routes::routes! {
    Public get "/healthz" => health::healthz,
}
