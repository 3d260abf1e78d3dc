//! Which addresses there are: each list makes its routes and can be read by tests.

/// One address and how it is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Route {
    /// `GET`, `POST` or `DELETE`.
    pub method: &'static str,
    /// With parameters in braces.
    pub path: String,
    pub guard: Guard,
}

/// What stands before a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Guard {
    /// Anybody: beacons, which pages of other origins send.
    None,
    /// The token of a location.
    RunnerToken,
    /// A page of ours, if it changes something.
    SameOrigin,
}

/// `routes! { get "/path" => handler, … }` makes `ROUTES`, their methods and paths, and `routes`, which registers them.
macro_rules! routes {
    ($($method:ident $path:literal => $handler:expr),* $(,)?) => {
        /// Methods and paths of this part.
        pub const ROUTES: &[(&str, &str)] = &[$((stringify!($method), $path)),*];

        pub fn routes(config: &mut actix_web::web::ServiceConfig) {
            config$(.route($path, actix_web::web::$method().to($handler)))*;
        }
    };
}
pub(crate) use routes;

/// Every route of the server, with what stands before it.
pub fn all() -> Vec<Route> {
    let of = |guard: Guard, before: &'static str, list: &'static [(&'static str, &'static str)]| {
        list.iter().map(move |(method, path)| {
            let method = match *method {
                "get" => "GET",
                "post" => "POST",
                "delete" => "DELETE",
                other => other,
            };
            Route { method, path: format!("{before}{path}"), guard }
        })
    };
    of(Guard::None, "", crate::api::beacons::ROUTES)
        .chain(of(Guard::RunnerToken, "/api/runner", crate::api::runner::ROUTES))
        .chain(of(Guard::SameOrigin, "", crate::api::ROUTES))
        .chain(of(Guard::SameOrigin, "", crate::statics::ROUTES))
        .chain(of(Guard::SameOrigin, "", crate::pages::ROUTES))
        .chain(of(Guard::SameOrigin, "", crate::pages::visitors::ROUTES))
        .collect()
}
