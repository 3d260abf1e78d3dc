//! A folder for each place. Pages know nothing of each other: what more than one of them has stands beside this folder.

mod goals;
mod journeys;
mod location;
mod now;
mod runs;
mod scripts;
mod setup;
pub mod visitors;

use journeys::{journey, weeks};
use runs::har;
use scripts::{files, playing, record, start};
use setup::first_site;

crate::routes::routes! {
    get "/" => now::page,
    get "/journeys" => journeys::page,
    get "/journeys/new" => start::page,
    post "/journeys/new" => start::make,
    get "/journeys/export" => files::export_all,
    post "/journeys/import" => files::import,
    get "/journeys/record" => record::page,
    get "/journeys/{slug}" => journey::page,
    get "/journeys/{slug}/runs" => journeys::runs::page,
    get "/journeys/{slug}/newest" => journeys::runs::newest,
    get "/journeys/{slug}/places" => journey::places_part,
    get "/journeys/{slug}/weeks" => weeks::part,
    get "/journeys/{slug}/changes" => journey::changes_part,
    get "/journeys/{slug}/script" => scripts::page,
    post "/journeys/{slug}/script" => scripts::save,
    post "/journeys/{slug}/delete" => scripts::delete,
    post "/journeys/{slug}/status" => scripts::set_status,
    get "/api/pace" => playing::schedule,
    post "/journeys/{slug}/plays" => scripts::plays,
    post "/journeys/{slug}/about" => scripts::about,
    post "/journeys/{slug}/duplicate" => scripts::duplicate,
    get "/journeys/{slug}/export" => scripts::export,
    get "/locations/{slug}" => location::page,
    get "/setup/first-site" => first_site::page,
    post "/setup/first-site" => first_site::make,
    get "/setup" => setup::page,
    post "/setup/secrets" => setup::secret,
    post "/setup/parts" => setup::parts,
    post "/setup/locations" => setup::location,
    post "/setup/place" => setup::move_location,
    post "/setup/site" => setup::site,
    post "/setup/token" => setup::token,
    get "/har" => har::page,
    post "/har" => har::read,
    get "/script-reference" => scripts::reference,
    get "/runs/{id}" => runs::page,
    post "/runs/{id}/accept" => runs::accept,
    post "/runs/{id}/repair" => runs::repair,
    get "/runs/{id}/pictures/{step}/{nth}" => runs::picture,
    get "/{what:runs|trials}/{id}/har" => runs::har,
    get "/{what:runs|trials}/{id}/log" => runs::log,
    get "/trials/{id}" => runs::trial,
    get "/goals" => goals::page,
    post "/goals" => goals::make,
}
