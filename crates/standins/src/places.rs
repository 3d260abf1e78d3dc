//! The locations of the demo: six in real cities on six continents' coasts and two terminals of the
//! made-up ferry line. Round trips to the booking site are rough figures for a server in northern
//! Europe; they are demo data and nothing is computed from them.

/// One location and the network between it and the site.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    pub slug: &'static str,
    pub name: &'static str,
    pub country: &'static str,
    pub kind: &'static str,
    pub zone: &'static str,
    /// Round trip to the site, in milliseconds.
    pub round_trip_ms: f64,
    /// How much the round trip varies: its standard deviation.
    pub jitter_ms: f64,
    /// Kilobytes a second towards the location.
    pub kb_per_s: f64,
    /// Latitude and longitude of the city, to a hundredth of a degree (common knowledge); the terminals of the
    /// made-up islands lie in the sea.
    pub at: (f64, f64),
}

const fn place(
    slug: &'static str,
    name: &'static str,
    country: &'static str,
    kind: &'static str,
    zone: &'static str,
    net: (f64, f64, f64),
    at: (f64, f64),
) -> Place {
    Place {
        slug,
        name,
        country,
        kind,
        zone,
        round_trip_ms: net.0,
        jitter_ms: net.1,
        kb_per_s: net.2,
        at,
    }
}

pub const PLACES: [Place; 8] = [
    place("bergen", "Bergen", "NO", "public", "Europe/Oslo", (18.0, 1.5, 6000.0), (60.39, 5.32)),
    place(
        "halifax",
        "Halifax",
        "CA",
        "public",
        "America/Halifax",
        (92.0, 4.0, 4000.0),
        (44.65, -63.58),
    ),
    place(
        "nairobi",
        "Nairobi",
        "KE",
        "public",
        "Africa/Nairobi",
        (152.0, 12.0, 1800.0),
        (-1.29, 36.82),
    ),
    place(
        "valparaiso",
        "Valparaíso",
        "CL",
        "public",
        "America/Santiago",
        (214.0, 10.0, 2200.0),
        (-33.05, -71.61),
    ),
    place("kochi", "Kochi", "IN", "public", "Asia/Kolkata", (164.0, 9.0, 2200.0), (9.93, 76.26)),
    place(
        "auckland",
        "Auckland",
        "NZ",
        "public",
        "Pacific/Auckland",
        (276.0, 8.0, 3000.0),
        (-36.85, 174.76),
    ),
    place(
        "skarholm-quay",
        "Skarholm quay",
        "NO",
        "in-house",
        "Europe/Oslo",
        (9.0, 1.0, 8000.0),
        (59.7, 2.1),
    ),
    place(
        "orrin-point",
        "Orrin Point",
        "NO",
        "in-house",
        "Europe/Oslo",
        (31.0, 6.0, 900.0),
        (60.9, 0.4),
    ),
];

pub fn by_slug(slug: &str) -> Option<Place> {
    PLACES.into_iter().find(|p| p.slug == slug)
}

/// The host names of the made-up world.
pub const BOOKING_HOST: &str = "book.marram.example";
/// The booking site before a release.
pub const NEXT_HOST: &str = "next.book.marram.example";
/// The freight office, a second site.
pub const FREIGHT_HOST: &str = "freight.marram.example";
/// What pages of the freight office show to report to it.
pub const FREIGHT_KEY: &str = "marram-freight-9c17";
pub const MAP_HOST: &str = "tiles.isles-map.example";
