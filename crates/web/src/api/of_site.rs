//! What pages of a site ask while somebody writes, records, or waits for a trial.

use super::{recordings, scripts};

crate::routes::routes! {
    Play post "/api/recordings" => recordings::ask,
    Play get "/api/recordings/{id}" => recordings::look,
    Play post "/api/recordings/{id}/inputs" => recordings::inputs,
    Play post "/api/recordings/{id}/acts" => recordings::act,
    Play delete "/api/recordings/{id}" => recordings::end,
    Read post "/api/script/read" => scripts::read,
    Read post "/api/script/next" => scripts::next,
    Play post "/api/trials" => scripts::ask,
    Read get "/api/trials/{id}" => scripts::trial,
    Play delete "/api/trials/{id}" => scripts::cancel,
    Read get "/api/trials/{id}/film/{step}/{frame}" => scripts::film,
}
