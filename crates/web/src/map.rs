//! A map of the world: outlines of countries, and where a point lies on it.
//!
//! The outlines were projected once, when they were vendored (see `world/world.mjs`); points are projected here by the
//! same projection.

use std::sync::LazyLock;

/// One country.
pub struct Country {
    /// ISO 3166 code; empty for lands without one.
    pub code: &'static str,
    pub name: &'static str,
    /// The middle of its largest part.
    pub middle: (f64, f64),
    /// Left, top, right, bottom of its largest part; `None` for those too small to be drawn.
    pub bounds: Option<[f64; 4]>,
    /// Empty for those too small to be drawn.
    pub path: &'static str,
}

pub struct World {
    scale: f64,
    middle: (f64, f64),
    pub height: f64,
    pub countries: Vec<Country>,
}

/// Width of the map in its own units.
pub const WIDTH: f64 = 10_000.0;

pub static WORLD: LazyLock<World> =
    LazyLock::new(|| World::read(include_str!("../world/world.tsv")));

impl World {
    fn read(text: &'static str) -> World {
        let numbers =
            |text: &str| -> Vec<f64> { text.split(' ').filter_map(|n| n.parse().ok()).collect() };
        let pair = |text: &str| match numbers(text)[..] {
            [x, y] => (x, y),
            _ => (0.0, 0.0),
        };
        let mut lines = text.lines().map(|line| line.split('\t').collect::<Vec<_>>());
        let head = lines.next().unwrap_or_default();
        let of = |nth: usize| head.get(nth).copied().unwrap_or_default();
        let country = |f: Vec<&'static str>| {
            let [code, name, middle, bounds, path] = f[..] else { return None };
            Some(Country {
                code,
                name,
                middle: pair(middle),
                bounds: numbers(bounds).try_into().ok(),
                path,
            })
        };
        World {
            scale: of(1).parse().unwrap_or(1.0),
            middle: pair(of(2)),
            height: of(3).parse().unwrap_or(0.0),
            countries: lines.filter_map(country).collect(),
        }
    }

    pub fn country(&self, code: &str) -> Option<&Country> {
        self.countries.iter().find(|c| !code.is_empty() && c.code == code)
    }

    /// Where a place lies on the map; degrees north and east.
    ///
    /// Equal Earth projection (Šavrič, Patterson, Jenny 2018, doi 10.1080/13658816.2018.1504949).
    pub fn point(&self, latitude: f64, longitude: f64) -> (f64, f64) {
        const A: [f64; 4] = [1.340_264, -0.081_106, 0.000_893, 0.003_796];
        let half_root_3 = 3f64.sqrt() / 2.0;
        let theta = (half_root_3 * latitude.to_radians().sin()).asin();
        let t2 = theta * theta;
        let t6 = t2 * t2 * t2;
        let steep = A[0] + 3.0 * A[1] * t2 + t6 * (7.0 * A[2] + 9.0 * A[3] * t2);
        let x = longitude.to_radians() * theta.cos() / (half_root_3 * steep);
        let y = theta * (A[0] + A[1] * t2 + t6 * (A[2] + A[3] * t2));
        (self.middle.0 + self.scale * x, self.middle.1 - self.scale * y)
    }

    /// The part of the map that shows a country with what lies around it, in the shape of the whole: left, top, width,
    /// height. The whole map for a country that is too small to be drawn large.
    pub fn around(&self, code: &str) -> [f64; 4] {
        let whole = [0.0, 0.0, WIDTH, self.height];
        let Some(country) = self.country(code) else { return whole };
        let [left, top, right, bottom] = country.bounds.unwrap_or_else(|| {
            let (x, y) = country.middle;
            [x - 100.0, y - 100.0, x + 100.0, y + 100.0]
        });
        let shape = WIDTH / self.height;
        let width = (2.2 * (right - left)).max(2.2 * (bottom - top) * shape).clamp(900.0, WIDTH);
        let height = width / shape;
        let x = ((left + right - width) / 2.0).clamp(0.0, WIDTH - width);
        let y = ((top + bottom - height) / 2.0).clamp(0.0, self.height - height);
        [x, y, width, height]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cities_lie_in_the_frames_of_their_countries() {
        // Degrees from memory.
        for (code, latitude, longitude) in [
            ("NO", 59.9, 10.7),
            ("KE", -1.3, 36.8),
            ("CA", 44.65, -63.6),
            ("BR", -23.5, -46.6),
            ("AU", -33.9, 151.2),
        ] {
            let (x, y) = WORLD.point(latitude, longitude);
            let [left, top, right, bottom] = WORLD.country(code).unwrap().bounds.unwrap();
            assert!((left..=right).contains(&x) && (top..=bottom).contains(&y), "{code}: {x} {y}");
            let [x0, y0, w, h] = WORLD.around(code);
            assert!((x0..=x0 + w).contains(&x) && (y0..=y0 + h).contains(&y), "{code}");
        }
    }

    #[test]
    fn countries_too_small_to_be_drawn_have_a_place_and_unknown_ones_show_the_world() {
        assert_eq!(
            WORLD.countries.iter().filter(|c| c.path.is_empty() && c.code.is_empty()).count(),
            0
        );
        for code in ["SG", "MT", "FO", "US", "IN", "ZA"] {
            assert!(WORLD.country(code).is_some(), "{code}");
        }
        assert!(WORLD.country("").is_none() && WORLD.country("??").is_none());
        assert_eq!(WORLD.around("??"), [0.0, 0.0, WIDTH, WORLD.height]);
    }
}
