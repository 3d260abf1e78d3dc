//! Where visitors are: the map beside the table of countries, regions or cities.

use crate::State;
use crate::error::PageError;
use crate::format;
use crate::frame::Asked;
use crate::map::{Country, WORLD};
use cadentis_answers::pooled::p75;
use cadentis_answers::sites;
use cadentis_answers::views::Views;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::{Attribute, Filter, Pool};

/// The map, ready to draw.
pub(super) struct Map {
    /// Left, top, width, height of what is shown.
    pub shown: [f64; 4],
    /// One unit of the page in units of the map.
    pub unit: f64,
    pub lands: Vec<Land>,
    pub circles: Vec<Circle>,
    /// The locations that runners play from.
    pub runners: Vec<RunnerMark>,
    /// World, country, region.
    pub crumbs: Vec<Crumb>,
}

/// A location on the map: its left and top edge.
pub(super) struct RunnerMark {
    pub x: f64,
    pub y: f64,
    pub name: String,
}

/// A step of the way back; the last, where one is, leads nowhere.
pub(super) struct Crumb {
    pub name: String,
    pub link: Option<String>,
}

pub(super) struct Land {
    pub path: &'static str,
    pub class: &'static str,
    pub link: Option<String>,
    pub title: String,
}

/// Page views of a country.
pub(super) struct Circle {
    pub x: f64,
    pub y: f64,
    pub r: f64,
}

/// Width of the map on the page.
const WIDTH: f64 = 600.0;
/// Radius of the circle of the country with most page views, on the page.
const LARGEST: f64 = 17.0;

pub(super) fn is_place(attribute: &Attribute) -> bool {
    matches!(attribute, Attribute::Country | Attribute::Region | Attribute::City)
}

/// A filter that says nothing of places.
fn anywhere(filter: &Filter) -> Filter {
    let placed = filter.parts().filter(|(a, _)| is_place(a));
    let all: Vec<(Attribute, String)> =
        placed.flat_map(|(a, v)| v.iter().map(|v| (a.clone(), v.clone()))).collect();
    all.iter().fold(filter.clone(), |f, (a, v)| f.without(a, v))
}

/// The only value that a filter lets through, if it is one.
fn only<'a>(filter: &'a Filter, attribute: &Attribute) -> Option<&'a str> {
    match filter.parts().find(|(a, _)| *a == attribute)?.1 {
        [one] => Some(one),
        _ => None,
    }
}

/// The country as people call it, with its code.
pub(super) fn country_name(code: &str) -> String {
    match WORLD.country(code) {
        Some(country) => format!("{} ({code})", country.name),
        None if code == "??" => "unknown".into(),
        None => code.into(),
    }
}

pub(super) async fn map(state: &State, asked: &Asked, vital: Vital) -> Result<Map, PageError> {
    let (elsewhere, vitals) = (anywhere(&asked.filter), [vital]);
    let (views, locations) = futures::try_join!(
        Views::load(
            &state.answers,
            asked.site.id,
            asked.past(),
            &elsewhere,
            Attribute::Country,
            &vitals,
            1
        ),
        sites::locations(&state.answers),
    )?;
    let values = views.values();
    let chosen = only(&asked.filter, &Attribute::Country);
    let shown = WORLD.around(chosen.unwrap_or(""));
    let unit = shown[2] / WIDTH;
    let link = |filter: &Filter| {
        format!("{}/visitors?vital={}&{}", asked.base(), vital.name(), asked.query_with(filter))
    };
    let of = |code: &str| values.iter().find(|(value, _)| value == code).map(|(_, pool)| pool);
    let land = |c: &Country| {
        let pool = of(c.code).filter(|_| !c.code.is_empty());
        let faint = chosen.is_some_and(|code| code != c.code);
        Land {
            path: c.path,
            class: match pool {
                None => "nobody",
                Some(_) if faint => "faint",
                Some(pool) => class(vital, pool),
            },
            link: pool.map(|_| link(&elsewhere.clone().and(Attribute::Country, c.code))),
            title: match pool {
                None => format!("{}: no page views", c.name),
                Some(pool) => format!(
                    "{}: {} page views, {} p75 {}",
                    c.name,
                    format::thousands(pool.page_views),
                    vital.name(),
                    format::vital(vital, &p75(pool, vital))
                ),
            },
        }
    };
    let most = values.iter().map(|(_, p)| p.page_views).max().unwrap_or(1).max(1) as f64;
    let circle = |(code, pool): &(String, Pool)| {
        let (x, y) = WORLD.country(code)?.middle;
        Some(Circle { x, y, r: unit * (LARGEST * (pool.page_views as f64 / most).sqrt()).max(2.0) })
    };
    let runners = locations.iter().filter_map(|l| {
        let (x, y) = WORLD.point(l.latitude?, l.longitude?);
        Some(RunnerMark { x: x - 3.5 * unit, y: y - 3.5 * unit, name: l.name.clone() })
    });
    Ok(Map {
        lands: WORLD.countries.iter().filter(|c| !c.path.is_empty()).map(land).collect(),
        circles: values.iter().filter_map(circle).collect(),
        runners: runners.collect(),
        crumbs: crumbs(&asked.filter, &elsewhere, &link),
        shown,
        unit,
    })
}

/// How a country is filled: by what its p75 is rated, once there are samples enough to say so.
fn class(vital: Vital, pool: &Pool) -> &'static str {
    let reading = p75(pool, vital);
    match reading.value.filter(|_| !reading.is_small()).map(|v| vital.rate(v)) {
        None => "few",
        Some(Rating::Good) => "good",
        Some(Rating::NeedsImprovement) => "middling",
        Some(Rating::Poor) => "poor",
    }
}

/// The way back: each place that the filter narrows to, but the last, with the address of its page.
fn crumbs(filter: &Filter, elsewhere: &Filter, link: &dyn Fn(&Filter) -> String) -> Vec<Crumb> {
    let mut crumbs = vec![Crumb { name: "World".into(), link: Some(link(elsewhere)) }];
    let mut narrowed = elsewhere.clone();
    for attribute in [Attribute::Country, Attribute::Region, Attribute::City] {
        if let Some(value) = only(filter, &attribute) {
            narrowed = narrowed.and(attribute.clone(), value);
            let name = if attribute == Attribute::Country {
                country_name(value)
            } else {
                value.to_string()
            };
            crumbs.push(Crumb { name, link: Some(link(&narrowed)) });
        }
    }
    if let Some(last) = crumbs.last_mut() {
        last.link = None;
    }
    crumbs
}
