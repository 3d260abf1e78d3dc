//! Setup, of the installation: all sites, locations with their runners, this server.

mod locations;
mod sites;

crate::routes::routes! {
    Signed get "/" => sites::list,
    Administer get "/setup/sites" => sites::page,
    Grave post "/setup/sites" => sites::add,
    Grave post "/setup/sites/{id}" => sites::change,
    Grave post "/setup/sites/{id}/archived" => sites::archive,
    Administer get "/setup" => locations::page,
    Grave post "/setup/locations" => locations::location,
    Grave post "/setup/place" => locations::move_location,
    Grave post "/setup/token" => locations::token,
}
