//! A folder for each place. Pages know nothing of each other: what more than one of them has stands beside this folder.

mod alerts;
mod budgets;
mod dependencies;
mod first_steps;
mod found;
mod goals;
mod journeys;
mod location;
mod maintenance;
mod markers;
mod measures;
mod now;
pub mod people;
pub mod queries;
pub mod reports;
mod runs;
mod scripts;
pub mod settings;
pub mod setup;
mod views;
pub mod visitors;

use journeys::{journey, weeks};
use runs::har;
use scripts::{files, playing, record, start};

crate::routes::routes! {
    Read get "" => now::page,
    Read get "/start" => first_steps::page,
    Read get "/start/steps" => first_steps::steps_part,
    Read get "/journeys" => journeys::page,
    Edit get "/journeys/new" => start::page,
    Edit post "/journeys/new" => start::make,
    Read get "/journeys/export" => files::export_all,
    Edit post "/journeys/import" => files::import,
    Play get "/journeys/record" => record::page,
    Read get "/journeys/{slug}" => journey::page,
    Read get "/journeys/{slug}/runs" => journeys::runs::page,
    Read get "/journeys/{slug}/newest" => journeys::runs::newest,
    Read get "/journeys/{slug}/places" => journey::places_part,
    Read get "/journeys/{slug}/weeks" => weeks::part,
    Read get "/journeys/{slug}/changes" => journey::changes_part,
    Read get "/journeys/{slug}/script" => scripts::page,
    Edit post "/journeys/{slug}/script" => scripts::save,
    Edit post "/journeys/{slug}/delete" => scripts::delete,
    Edit post "/journeys/{slug}/status" => scripts::set_status,
    Read get "/api/pace" => playing::schedule,
    Edit post "/journeys/{slug}/plays" => scripts::plays,
    Edit post "/journeys/{slug}/about" => scripts::about,
    Edit post "/journeys/{slug}/duplicate" => scripts::duplicate,
    Read get "/journeys/{slug}/export" => scripts::export,
    Read get "/locations/{slug}" => location::page,
    Read get "/har" => har::page,
    Read post "/har" => har::read,
    Read get "/script-reference" => scripts::reference,
    Read get "/runs/{id}" => runs::page,
    Edit post "/runs/{id}/accept" => runs::accept,
    Edit post "/runs/{id}/repair" => runs::repair,
    Read get "/runs/{id}/pictures/{step}/{nth}" => runs::picture,
    Read get "/{what:runs|trials}/{id}/har" => runs::har,
    Read get "/{what:runs|trials}/{id}/log" => runs::log,
    Read get "/trials/{id}" => runs::trial,
    Read get "/goals" => goals::page,
    Edit post "/goals" => goals::make,
    Read get "/goals/new" => goals::new,
    Read get "/goals/{id}/change" => goals::change,
    Edit post "/goals/{id}" => goals::changed,
    Edit post "/goals/{id}/remove" => goals::remove,
    Edit post "/goals/{id}/carve-outs" => goals::carve_out,
    Edit post "/goals/{id}/carve-outs/{carve_out}/revoke" => goals::revoke,
    Read get "/alerts" => alerts::page,
    Edit post "/alerts" => alerts::make,
    Read get "/alerts/new" => alerts::new,
    Read get "/alerts/{id}" => alerts::one,
    Edit post "/alerts/{id}" => alerts::changed,
    Read get "/alerts/{id}/change" => alerts::change,
    Edit post "/alerts/{id}/switch" => alerts::switch,
    Edit post "/alerts/{id}/silence" => alerts::silence,
    Edit post "/alerts/{id}/rehearse" => alerts::rehearse,
    Edit post "/alerts/{id}/remove" => alerts::remove,
    Read get "/incidents" => alerts::incidents,
    Read get "/incidents/{id}" => alerts::incident,
    Read get "/incidents/{id}/markdown" => alerts::markdown,
    Edit post "/incidents/{id}/acknowledge" => alerts::acknowledge,
    Edit post "/incidents/{id}/note" => alerts::note,
    Edit post "/incidents/{id}/close" => alerts::close,
    Read get "/call-lists" => alerts::told,
    Edit post "/call-lists" => alerts::put_list,
    Edit post "/call-lists/destinations" => alerts::add_destination,
    Read get "/call-lists/destinations/{id}" => alerts::destination,
    Edit post "/call-lists/destinations/{id}/text" => alerts::set_text,
    Edit post "/call-lists/destinations/{id}/test" => alerts::test_destination,
    Edit post "/call-lists/destinations/{id}/remove" => alerts::remove_destination,
    Edit post "/call-lists/{id}/remove" => alerts::remove_list,
    Read get "/budgets" => budgets::page,
    Edit post "/budgets" => budgets::save,
    Read get "/dependencies" => dependencies::page,
    Edit post "/dependencies" => dependencies::post,
    Edit post "/dependencies/{slug}/remove" => dependencies::remove,
    Read get "/maintenance" => maintenance::page,
    Edit post "/maintenance" => maintenance::make,
    Edit get "/maintenance/new" => maintenance::new,
    Edit post "/maintenance/import" => maintenance::import,
    Edit post "/maintenance/feed" => maintenance::open_feed,
    Edit post "/maintenance/feed/close" => maintenance::close_feed,
    Edit get "/maintenance/{id}/change" => maintenance::change,
    Edit post "/maintenance/{id}" => maintenance::changed,
    Edit post "/maintenance/{id}/end" => maintenance::end,
    Edit post "/maintenance/{id}/extend" => maintenance::extend,
    Edit post "/maintenance/{id}/remove" => maintenance::remove,
    Read get "/measures" => measures::page,
    Read get "/measures/next" => measures::next,
    Read get "/find" => found::page,
    Read get "/queries" => queries::page,
    Edit post "/queries" => queries::save,
    Read get "/queries/next" => queries::next,
    Read get "/queries/csv" => queries::csv,
    Read get "/queries/json" => queries::json,
    Read get "/queries/apart" => queries::apart,
    Edit post "/queries/{id}/remove" => queries::remove,
    Read get "/views" => views::page,
    Edit post "/views" => views::make,
    Edit get "/views/new" => views::new,
    Read get "/views/{id}" => views::view,
    Edit post "/views/{id}" => views::changed,
    Edit get "/views/{id}/change" => views::change,
    Read get "/views/{id}/pieces/{nth}" => views::part,
    Read post "/views/{id}/start" => views::start,
    Edit post "/views/{id}/remove" => views::remove,
    Read get "/reports" => reports::page,
    Edit post "/reports" => reports::make,
    Edit get "/reports/new" => reports::new,
    Read get "/reports/issues/{id}" => reports::issue_page,
    Read get "/reports/issues/{id}/since" => reports::since,
    Read get "/reports/issues/{id}/pdf" => reports::pdf,
    Read get "/reports/issues/{id}/csv" => reports::csv,
    Read get "/reports/issues/{id}/json" => reports::json,
    Read get "/reports/{id}" => reports::report,
    Edit post "/reports/{id}" => reports::changed,
    Edit get "/reports/{id}/change" => reports::change,
    Edit post "/reports/{id}/issue" => reports::issued,
    Edit post "/reports/{id}/end" => reports::end,
    Read get "/markers" => markers::page,
    Edit post "/markers" => markers::pinned,
    Edit get "/markers/new" => markers::new,
    Read get "/markers/{id}" => markers::one,
    Edit post "/markers/{id}" => markers::changed,
    Edit post "/markers/{id}/remove" => markers::remove,
    Edit post "/markers/{id}/restore" => markers::restore,
}
