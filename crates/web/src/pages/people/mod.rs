//! People: signing in and out, one's own sessions, and who may do what.

mod audit;
mod door;
mod groups;
mod me;
mod provider;
mod team;
mod teams;

crate::routes::routes! {
    Public get "/sign-in" => door::page,
    Public post "/sign-in" => door::sign_in,
    Public post "/sign-in/demo" => door::sign_in_to_demo,
    Public get "/sign-in/provider" => provider::begin,
    Public get "/sign-in/answer" => provider::answer,
    Public get "/welcome/{token}" => door::welcome,
    Public post "/welcome/{token}" => door::accept,
    Signed post "/sign-out" => door::sign_out,
    Signed get "/confirm" => door::confirm,
    Signed post "/confirm" => door::confirmed,
    Signed get "/confirm/provider" => provider::prove,
    Signed get "/me" => me::page,
    Signed post "/me/password" => me::password,
    Signed post "/me/sessions/end" => me::end,
    Administer get "/setup/audit" => audit::page,
    Administer get "/setup/audit.csv" => audit::file,
    Administer get "/setup/groups" => groups::page,
    Grave post "/setup/groups" => groups::add,
    Grave post "/setup/groups/{id}/remove" => groups::remove,
    Administer get "/setup/teams" => teams::page,
    Grave post "/setup/teams" => teams::add,
    Grave post "/setup/teams/{id}" => teams::change,
    Grave post "/setup/teams/{id}/remove" => teams::remove,
    Administer get "/setup/people" => team::page,
    Grave post "/setup/people" => team::invite,
    Grave post "/setup/people/{id}" => team::change,
    Grave post "/setup/people/{id}/link" => team::link,
    Grave post "/setup/people/{id}/gone" => team::gone,
}
