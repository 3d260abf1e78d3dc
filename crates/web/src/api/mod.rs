//! What programs talk to: health, beacons, runners, and the script page while somebody writes.

pub mod beacons;
pub mod health;
mod recordings;
pub mod runner;
pub mod scripts;

crate::routes::routes! {
    get "/healthz" => health::healthz,
    post "/api/recordings" => recordings::ask,
    get "/api/recordings/{id}" => recordings::look,
    post "/api/recordings/{id}/inputs" => recordings::inputs,
    post "/api/recordings/{id}/acts" => recordings::act,
    delete "/api/recordings/{id}" => recordings::end,
    post "/api/script/read" => scripts::read,
    post "/api/script/next" => scripts::next,
    post "/api/trials" => scripts::ask,
    get "/api/trials/{id}" => scripts::trial,
    delete "/api/trials/{id}" => scripts::cancel,
    get "/api/trials/{id}/film/{step}/{frame}" => scripts::film,
}
