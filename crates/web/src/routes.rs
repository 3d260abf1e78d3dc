//! Which addresses there are and what each asks of whoever comes: each list makes its routes and can be read by tests.
//!
//! A route without a permission cannot be written: the list does not compile.

use crate::access;
use actix_web::Route as Handled;
use actix_web::middleware::from_fn;
use cadentis_core::access::Permission;

/// What the addresses of everything about a site begin with.
pub const OF_SITE: &str = "/{site}";

/// One address, how it is asked for, and what it asks of whoever comes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Route {
    /// `GET`, `POST`, `PUT` or `DELETE`.
    pub method: &'static str,
    /// With parameters in braces.
    pub path: String,
    pub needs: Permission,
}

/// A line of a list: permission, method, path.
pub type Line = (Permission, &'static str, &'static str);

/// `routes! { Read get "/path" => handler, … }` makes `ROUTES`, what they need, their methods and paths, and `routes`, which
/// registers them.
macro_rules! routes {
    ($($needs:ident $method:ident $path:literal => $handler:expr),* $(,)?) => {
        /// Permissions, methods and paths of this part.
        pub const ROUTES: &[$crate::routes::Line] =
            &[$((cadentis_core::access::Permission::$needs, stringify!($method), $path)),*];

        pub fn routes(config: &mut actix_web::web::ServiceConfig) {
            config$(.route(
                $path,
                $crate::routes::guarded(
                    cadentis_core::access::Permission::$needs,
                    actix_web::web::$method().to($handler),
                ),
            ))*;
        }
    };
}
pub(crate) use routes;

/// A route that only those reach who may.
pub fn guarded(needs: Permission, route: Handled) -> Handled {
    match needs {
        // What comes tens of thousands of times a second has nothing wrapped around it; runners show a token of their own.
        Permission::Public | Permission::Runner => route,
        Permission::Signed => route.wrap(from_fn(access::signed)),
        Permission::Read => route.wrap(from_fn(access::read)),
        Permission::People => route.wrap(from_fn(access::people)),
        Permission::Edit => route.wrap(from_fn(access::edit)),
        Permission::Mark => route.wrap(from_fn(access::mark)),
        Permission::Play => route.wrap(from_fn(access::play)),
        Permission::Import => route.wrap(from_fn(access::import)),
        Permission::Administer => route.wrap(from_fn(access::administer)),
        Permission::Grave => route.wrap(from_fn(access::grave)),
    }
}

/// Every route of the server, with what it asks of whoever comes.
pub fn all() -> Vec<Route> {
    let of = |before: &'static str, list: &'static [Line]| {
        list.iter().map(move |(needs, method, path)| {
            let method = match *method {
                "get" => "GET",
                "post" => "POST",
                "delete" => "DELETE",
                "put" => "PUT",
                other => other,
            };
            Route { method, path: format!("{before}{path}"), needs: *needs }
        })
    };
    of("", crate::api::beacons::ROUTES)
        .chain(of("/api/runner", crate::api::runner::ROUTES))
        .chain(of("/api/v1", crate::api::v1::ROUTES))
        .chain(of("", crate::api::ROUTES))
        .chain(of("", crate::snippets::ROUTES))
        .chain(of("", crate::feeds::ROUTES))
        .chain(of("", crate::acknowledging::ROUTES))
        .chain(of("", crate::statics::ROUTES))
        .chain(of("", crate::pages::setup::ROUTES))
        .chain(of("", crate::pages::people::ROUTES))
        .chain(of(OF_SITE, crate::pages::ROUTES))
        .chain(of(OF_SITE, crate::pages::visitors::ROUTES))
        .chain(of(OF_SITE, crate::pages::settings::ROUTES))
        .chain(of(OF_SITE, crate::api::of_site::ROUTES))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::site::is_taken;

    #[test]
    fn no_site_can_be_called_like_an_address_of_the_installation() {
        let of_installation: Vec<String> = all()
            .iter()
            .filter(|route| !route.path.starts_with(OF_SITE))
            .filter_map(|route| route.path.split('/').nth(1).map(str::to_string))
            .filter(|first| !first.is_empty() && !first.contains('.'))
            .collect();
        assert!(of_installation.len() > 20, "{of_installation:?}");
        for first in of_installation {
            assert!(is_taken(&first), "{first} has to be said in core::site");
        }
    }
}
