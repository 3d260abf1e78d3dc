//! Visitors: the mosaic of page families, distributions, slices, vitals over time, what arrives.

mod acts;
mod blind;
mod collecting;
pub use crate::respond::{TWELVE_HOURS, html};
mod errors;
mod explain;
mod family;
mod filter;
mod funnels;
mod history;
mod lanes;
mod places;
mod requests;
mod visit;

use crate::State;
use crate::access::By;
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame, base, tone};
use crate::frame::{family_link, named_link};
use crate::limits::query;
use crate::view::{self, Cell, Choice, Figure, Link, Mark, Working};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::visitors::looked_over;
use cadentis_answers::kept::Site;
use cadentis_answers::pooled::{self, Rated, rated};
use cadentis_answers::views::Views;
use cadentis_answers::visit as visits;
use cadentis_answers::visitors::{self, Visits};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::Standing;
use cadentis_core::goal::budget::Budget;
use cadentis_core::stats::Reading;
use cadentis_core::stats::share;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::collecting::percent_text;
use cadentis_core::visitor::slices::Minute;
use cadentis_core::visitor::{PageView, Pool, Seen, has_risen};
use filter::FilterLine;
use jiff::Timestamp;
use lanes::{LANES, Lanes};
use serde::Deserialize;
use uuid::Uuid;

crate::routes::routes! {
    Read get "/visitors" => page,
    Read get "/visitors/values" => filter::values_part,
    People get "/visitors/arrivals" => arrivals,
    People get "/visitors/slowest" => slowest,
    Read get "/visitors/explain" => explain::carriers_part,
    Read get "/visitors/breakdown" => explain::breakdown_part,
    People get "/visitors/trouble" => explain::trouble_part,
    Read get "/visitors/errors" => errors::page,
    Read get "/visitors/requests" => requests::page,
    Read get "/visitors/actions" => acts::page,
    Read get "/visitors/funnels" => funnels::page,
    Edit post "/visitors/funnels" => funnels::save,
    Edit post "/visitors/funnels/delete" => funnels::delete,
    Read get "/visitors/blind-spots" => blind::page,
    Read get "/visitors/family" => family::page,
    Read get "/visitors/family/load" => family::load_part,
    Read get "/visitors/family/beside" => blind::beside_part,
    People get "/visitors/find" => visit::find,
    People get "/visitors/visits/{id}" => visit::page,
    Administer get "/settings/visitors" => collecting::page,
    Grave post "/settings/visitors" => collecting::save,
    People get "/settings/visitors/live" => collecting::live_part,
    Administer post "/settings/visitors/families" => collecting::preview_part,
    Administer get "/settings/visitors/history" => history::task_part,
    Grave post "/settings/visitors/history" => history::begin,
    Grave post "/settings/visitors/history/stop" => history::stop,
    Grave post "/settings/visitors/import" => history::import,
    Grave post "/settings/visitors/forget" => collecting::forget,
}

/// The pages about visitors, each with its address, and whether it is this one.
pub type Tabs = Vec<Choice>;

fn tabs(frame: &Frame, here: &str) -> Tabs {
    let all = [
        ("Pages", "/visitors"),
        ("Requests", "/visitors/requests"),
        ("Actions", "/visitors/actions"),
        ("Errors", "/visitors/errors"),
        ("Funnels", "/visitors/funnels"),
        ("Blind spots", "/visitors/blind-spots"),
        ("Collecting", "/settings/visitors"),
    ];
    // Nobody is offered what they may not open.
    let may = |path: &str| frame.who.administers() || !path.starts_with("/settings");
    let tab = |(name, path)| Choice::new(format!("{}{path}", frame.base), name, path == here);
    all.into_iter().filter(|(_, path)| may(path)).map(tab).collect()
}

#[derive(Template)]
#[template(path = "visitors.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    worst: Option<Link>,
    says: String,
    readings: Vec<Figure>,
    vital: &'static str,
    /// An alert on the vital.
    watch: String,
    vitals: Vec<Choice>,
    mosaic: Vec<Tile>,
    quarter_y: f64,
    histogram: Histogram,
    lanes: Lanes,
    families: Vec<FamilyRow>,
    proof: Vec<Working>,
}

struct Tile {
    link: String,
    x: f64,
    w: f64,
    good: f64,
    middling: f64,
    poor: f64,
    short: String,
    title: String,
    p75: String,
    share: String,
    poor_text: String,
}

impl Tile {
    /// Whether there is room for its reading.
    fn has_figure(&self) -> bool {
        self.w > 44.0
    }

    /// Where that stands: below what is not good, and not on the line at three in four.
    fn figure_y(&self) -> f64 {
        let y = 42.0 + self.poor + self.middling;
        if (77.0..95.0).contains(&y) { 98.0 } else { y }
    }
}

struct FamilyRow {
    link: String,
    /// An alert on its LCP.
    watch: String,
    name: String,
    views: String,
    cells: Vec<Cell>,
}

#[derive(Debug, Default, Deserialize)]
struct VisitorsQuery {
    vital: Option<String>,
}

/// The vital that the address asks for.
fn wanted(request: &HttpRequest) -> Result<Vital, PageError> {
    match query::<VisitorsQuery>(request)?.vital.as_deref() {
        None | Some("") => Ok(Vital::Lcp),
        Some(word) => Vital::parse(word).ok_or_else(|| PageError::Parameter {
            name: "vital".into(),
            says: format!(
                "`{}` is none of LCP, INP, CLS, FCP, TTFB",
                word.chars().take(40).collect::<String>()
            ),
        }),
    }
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let vital = wanted(&request)?;
    let (site_id, range) = (frame.site.id, frame.range());
    let (found, attributes) = futures::try_join!(
        visitors::ask(&state.answers, site_id, &range, vital, &LANES),
        visitors::attributes(&state.answers, site_id, range.stretch),
    )?;
    let (views, before) = (found.views, found.before);
    let all = views.all();
    let measured = rated(&all, vital);
    let families = views.values();
    let tiles = mosaic(&frame, vital, &families, all.page_views);
    let page = Page {
        says: sentence(vital, &all, &families),
        readings: readings(&frame, &views, before.as_ref(), found.visits, frame.site.apdex_t_s),
        tabs: tabs(&frame, "/visitors"),
        filter: FilterLine::of(&frame, &attributes),
        worst: found.worst.map(|w| worst(&frame, vital, &w)),
        watch: frame.watch_vital(vital, None, &found.budgets),
        vital: vital.name(),
        vitals: Vital::ALL.map(|v| Choice::of(v.name(), v == vital)).to_vec(),
        quarter_y: quarter_y(&tiles),
        mosaic: tiles,
        histogram: histogram(vital, &measured),
        lanes: lanes::of_views(
            &frame,
            &views,
            before.as_ref(),
            &found.budgets,
            frame.site.apdex_t_s,
        ),
        families: families
            .iter()
            .map(|(name, pool)| family_row(&frame, name, pool, &found.budgets))
            .collect(),
        proof: proof(&frame, vital, &views),
        frame,
    };
    html(&page)
}

/// The worst minute of the stretch in words, and the address of the minutes around it.
fn worst(frame: &Frame, vital: Vital, minute: &Minute) -> Link {
    let around = Stretch { from: at_second(minute.at_s - 900), to: at_second(minute.at_s + 960) };
    let says = format!(
        "Worst minute: {}, {} at p75 of {} page views.",
        format::day_clock(at_second(minute.at_s), &frame.site.zone),
        vital.text(minute.p75),
        minute.samples
    );
    Link::new(
        format!("{}/visitors?vital={}&{}", frame.base, vital.name(), frame.query_of(&around)),
        says,
    )
}

/// How the vital's 75th percentile and the Apdex were come by.
fn proof(frame: &Frame, vital: Vital, views: &Views) -> Vec<Working> {
    let all = &views.all();
    let past = frame.past();
    let stretch = vec![
        format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
        match estimated_total(frame, views) {
            None => format!("{} page views; every visit reports.", format::thousands(all.page_views)),
            Some(whole) => format!(
                "{} page views reported. Each stands for 1 ÷ the share of visits that reported at its time (now {} %): {} in all. Only this count is scaled; percentiles, shares and all other counts are those of the sample.",
                format::thousands(all.page_views),
                percent_text(frame.site.collecting.sample),
                format::thousands(whole.round() as u64)
            ),
        },
        "Abandoned: left before the load event. Blank: nothing was painted by the time it was left. Both have no LCP and so are missing from its percentiles.".into(),
    ];
    let (good, poor) = vital.thresholds();
    let p75 = rated(all, vital).proof().noting(format!(
        "{}: good up to {}, poor above {} (web.dev); samples are the page views that reported it",
        vital.name(),
        vital.text(good),
        vital.text(poor)
    ));
    vec![
        Working::new("Stretch", stretch),
        Working::of(format!("p75 of {}", vital.name()), &p75),
        Working::of("Apdex by LCP", &pooled::apdex(all, frame.site.apdex_t_s).proof()),
    ]
}

fn sentence(vital: Vital, all: &Pool, families: &[(String, Pool)]) -> String {
    let p75 = pooled::p75(all, vital);
    let Some(value) = p75.value else {
        return "No page view in this stretch reported this vital.".into();
    };
    let state = Standing::of_vital(vital, &p75);
    let verdict = if state == Standing::Within { "good" } else { "over budget" };
    let poor = |pool: &Pool| rated(pool, vital).not_good;
    let troubled: u64 = families.iter().map(|(_, p)| poor(p)).sum();
    let most = families.iter().max_by_key(|(_, p)| poor(p));
    let mut says =
        format!("{} is {verdict}: {} at the 75th percentile.", vital.name(), vital.text(value));
    if let Some((name, pool)) = most.filter(|_| troubled > 0) {
        let part = share(poor(pool), troubled).unwrap_or(0.0);
        let of_views = share(pool.page_views, all.page_views).unwrap_or(0.0);
        says += &format!(
            " “{name}” carries most of what is not good: {:.0} % of it, with {:.0} % of page views.",
            part * 100.0,
            of_views * 100.0
        );
    }
    says
}

/// What the page views that reported stand for, where not every visit does; `None` where all do.
fn estimated_total(frame: &Frame, views: &Views) -> Option<f64> {
    // A bucket in which the share changed counts as after it.
    let end = |begin: i64| at_second(begin + views.bucket_s - 1);
    let counts = views.buckets(None).into_iter().map(|(begin, pool)| (end(begin), pool.page_views));
    let collecting = &frame.site.collecting;
    let whole = collecting.estimated_total(counts.clone());
    let reported: u64 = counts.map(|(_, n)| n).sum();
    (whole > reported as f64).then_some(whole)
}

pub(super) fn readings(
    frame: &Frame,
    views: &Views,
    before: Option<&Views>,
    visits: Option<Visits>,
    t_s: f64,
) -> Vec<Figure> {
    let all = &views.all();
    let then = before.map(Views::all);
    let versus = |share: Option<f64>| {
        share.map_or(String::new(), |s| format!(" · against {}", format::percent(Some(s), 1, None)))
    };
    let figure = match estimated_total(frame, views) {
        None => Figure::new(format::thousands(all.page_views), "page views".into(), "within"),
        Some(whole) => Figure::new(
            format!("≈ {}", format::thousands(whole.round() as u64)),
            format!("page views, from {} that report", format::thousands(all.page_views)),
            "within",
        ),
    };
    let mut figures = vec![figure];
    if let Some(Visits { visits, .. }) = visits {
        let reporting =
            if estimated_total(frame, views).is_some() { "visits that report" } else { "visits" };
        figures.push(Figure::new(format::thousands(visits), reporting.into(), "within"));
    }
    // Satisfied and tolerating by LCP: the moment the visitor sees the page.
    let apdex = pooled::apdex(all, t_s);
    figures.push(Figure::new(
        apdex.score().map_or(NO_DATA.into(), |a| format!("{a:.2}")),
        match apdex.bounds_words() {
            known if known.is_empty() => format!("Apdex [{t_s:.1}] by LCP"),
            bounds => format!("Apdex [{t_s:.1}] by LCP, {bounds}"),
        },
        "within",
    ));
    let of = |count: fn(&Pool) -> u64, label: &str| {
        let (now, before) =
            ((count(all), all.page_views), then.as_ref().map(|p| (count(p), p.page_views)));
        let tone = if before.is_some_and(|b| has_risen(now, b)) { "strained" } else { "within" };
        let was = versus(before.and_then(|b| share(b.0, b.1)));
        Figure::new(format::percent(share(now.0, now.1), 2, None), format!("{label}{was}"), tone)
    };
    figures.push(of(|p| p.with_errors, "with script errors"));
    figures.push(of(|p| p.abandoned, "abandoned"));
    figures.push(of(|p| p.blank, "blank"));
    figures
}

/// Where the words of the line at three in four stand: above it, or below where they would lie on the figure of a tile.
fn quarter_y(tiles: &[Tile]) -> f64 {
    const WIDE: f64 = 220.0;
    let clear = |y: &f64| {
        tiles
            .iter()
            .filter(|t| t.has_figure() && t.x + t.w / 2.0 - 25.0 < WIDE)
            .all(|t| (t.figure_y() - y).abs() > 13.0)
    };
    [78.0, 96.0, 114.0].into_iter().find(clear).unwrap_or(78.0)
}

fn mosaic(frame: &Frame, vital: Vital, families: &[(String, Pool)], page_views: u64) -> Vec<Tile> {
    const W: f64 = 814.0;
    const H: f64 = 236.0;
    let mut x = 0.0;
    families
        .iter()
        .filter_map(|(name, pool)| {
            let m = rated(pool, vital);
            let part = share(pool.page_views, page_views)?;
            let w = (W * part - 2.0).max(1.0);
            let tile_x = x;
            x += W * part;
            let of = |r: Rating| m.share(r).unwrap_or(0.0);
            let p75 = &m.p75;
            let fits = (w / 7.2) as usize;
            let short = if name.chars().count() > fits {
                name.chars().take(fits.saturating_sub(1)).chain(['…']).collect()
            } else {
                name.clone()
            };
            Some(Tile {
                link: family_link(&frame.base, name),
                x: tile_x,
                w,
                good: H * of(Rating::Good),
                middling: H * of(Rating::NeedsImprovement),
                poor: H * of(Rating::Poor),
                short,
                title: format!(
                    "{name}: {} page views; {} good, {} need improvement, {} poor of {} with {}",
                    format::thousands(pool.page_views),
                    m.counts[0],
                    m.counts[1],
                    m.counts[2],
                    m.samples(),
                    vital.name()
                ),
                p75: format::vital(vital, p75),
                share: format!("{:.0} %", part * 100.0),
                poor_text: format!("{:.0} %", of(Rating::Poor) * 100.0),
            })
        })
        .collect()
}

/// How values of a vital are distributed.
struct Histogram {
    bars: Vec<Bar>,
    bar_width: f64,
    quantiles: Vec<Quantile>,
    ticks: Vec<Mark>,
}

struct Bar {
    x: f64,
    height: f64,
    class: &'static str,
    /// From where to where it stands, and for how many page views, as cells of a row.
    row: String,
}

/// A percentile on the axis; its name stands left of it where there is no room on the right.
struct Quantile {
    x: f64,
    y: f64,
    says: String,
    is_left: bool,
}

fn histogram(vital: Vital, m: &Rated) -> Histogram {
    let (low, high, marks): (f64, f64, &[f64]) = match vital {
        Vital::Cls => (0.001, 2.0, &[0.01, 0.1, 1.0]),
        Vital::Inp => (8.0, 2_000.0, &[10.0, 50.0, 200.0, 1_000.0]),
        _ => (100.0, 20_000.0, &[200.0, 500.0, 1_000.0, 2_500.0, 10_000.0]),
    };
    const BINS: usize = 56;
    let counts = m.histogram(low, high, BINS);
    let most = counts.iter().copied().max().unwrap_or(0).max(1) as f64;
    let x = |v: f64| 400.0 * ((v / low).ln() / (high / low).ln()).clamp(0.0, 1.0);
    let width = 400.0 / BINS as f64;
    let bars = counts
        .iter()
        .enumerate()
        .map(|(i, n)| {
            let middle = low * (high / low).powf((i as f64 + 0.5) / BINS as f64);
            let class = match vital.rate(middle) {
                Rating::Good => "good",
                Rating::NeedsImprovement => "middling",
                Rating::Poor => "poor",
            };
            let edge = |nth: usize| vital.text(low * (high / low).powf(nth as f64 / BINS as f64));
            // What lies outside is counted in the first or last.
            let from = if i == 0 { "less".into() } else { edge(i) };
            let to = if i + 1 == BINS { "more".into() } else { edge(i + 1) };
            let row = format::cells(&[from, to, format::thousands(*n)]);
            Bar { x: i as f64 * width, height: 74.0 * *n as f64 / most, class, row }
        })
        .collect();
    let quantiles = [0.5, 0.75, 0.95]
        .into_iter()
        .enumerate()
        .filter_map(|(i, p)| {
            let v = m.at(p).value?;
            let at = x(v);
            let says = format!("p{:.0} {}", p * 100.0, vital.text(v));
            Some(Quantile { x: at, y: 10.0 + 13.0 * i as f64, says, is_left: at > 300.0 })
        })
        .collect();
    let ticks = marks.iter().map(|v| Mark::new(x(*v), vital.text(*v))).collect();
    Histogram { bars, bar_width: width - 0.8, quantiles, ticks }
}

/// The tone of a reading of a vital by its thresholds.
fn slow_tone(vital: Vital, reading: &Reading) -> &'static str {
    tone(Standing::of_vital(vital, reading))
}

fn family_row(frame: &Frame, name: &str, pool: &Pool, limits: &[Budget]) -> FamilyRow {
    let mut cells: Vec<Cell> = [Vital::Lcp, Vital::Inp, Vital::Cls]
        .into_iter()
        .map(|v| {
            let r = pooled::p75(pool, v);
            Cell::new(format::vital(v, &r), tone(Standing::of_vital(v, &r)))
        })
        .collect();
    let apdex = pooled::apdex(pool, frame.site.t_of(name));
    cells.push(Cell::new(format::thousands(apdex.frustrated), "plain"));
    for share in [pool.abandoned_share(), pool.blank_share(), pool.error_share()] {
        cells.push(Cell::new(format::percent(share, 1, None), "plain"));
    }
    FamilyRow {
        link: family_link(&frame.base, name),
        watch: frame.watch_vital(Vital::Lcp, Some(name), limits),
        name: name.into(),
        views: format::thousands(pool.page_views),
        cells,
    }
}

/// The address of a page view within its visit.
pub(super) fn view_link(base: &str, at: Timestamp, visit: Uuid, id: Uuid) -> String {
    format!("{base}/visitors/visits/{visit}?at={}&view={id}", at.as_millisecond())
}

pub(super) fn slow_row(s: &Seen, site: &Site) -> view::Row {
    let zone = &site.zone;
    let cells = vec![
        format::day_clock(s.at, zone),
        s.path.clone(),
        s.family.clone(),
        s.device.clone(),
        s.country.clone(),
        s.browser.clone(),
        s.connection.clone(),
        s.lcp.map_or("–".into(), |v| Vital::Lcp.text(f64::from(v))),
        s.errors.to_string(),
    ];
    view::Row { link: view_link(&base(site), s.at, s.visit, s.id), cells }
}

#[derive(Template)]
#[template(path = "arrivals.html")]
struct Arrivals {
    rows: Vec<view::Row>,
    complete: String,
    refused: String,
}

#[derive(Template)]
#[template(path = "slowest.html")]
struct Slowest {
    rows: Vec<view::Row>,
}

/// The slowest page views of the stretch: read after the page, which does not wait for them.
pub async fn slowest(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let vital = wanted(&request)?;
    looked_over(&state.answers, &by, "looked at the slowest page views of", &asked.site).await?;
    let slowest =
        visitors::slowest(&state.answers, asked.site.id, &asked.range(), vital, 12).await?;
    html(&Slowest { rows: slowest.iter().map(|s| slow_row(s, &asked.site)).collect() })
}

/// The most arrivals that are shown.
const ARRIVALS: i64 = 9;

/// The newest page views of the stretch, read again every few seconds.
pub async fn arrivals(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    looked_over(&state.answers, &by, "looked at the newest page views of", &asked.site).await?;
    let mut stretch = asked.stretch;
    // A stretch that ended a moment ago is one that goes on.
    if asked.now.duration_since(stretch.to).as_mins() < 10 {
        stretch.to = asked.now;
    }
    let told = visits::arrivals(&state.answers, asked.site.id, stretch, ARRIVALS).await?;
    let (newest, refused) = (&told.newest, &told.refused);
    let zone = &asked.site.zone;
    let row = |s: &PageView| {
        let lcp = match (s.beacon.lcp, s.beacon.abandoned, s.beacon.blank) {
            (_, _, true) => "blank".into(),
            (_, true, _) => "abandoned".into(),
            (lcp, ..) => lcp.map_or("–".into(), |v| Vital::Lcp.text(v)),
        };
        let time = s.at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string();
        let device = s.beacon.device.word().to_string();
        let cells =
            vec![time, s.path.clone(), device, s.country.clone(), s.browser.to_string(), lcp];
        view::Row { link: view_link(&asked.base(), s.at, s.beacon.visit, s.beacon.id), cells }
    };
    html(&Arrivals {
        complete: newest.first().map_or(NO_DATA.into(), |s| format::clock(s.at, zone)),
        rows: newest.iter().map(row).collect(),
        refused: refused
            .iter()
            .map(|(reason, n)| format!("{n} {}", reason.replace('-', " ")))
            .collect::<Vec<_>>()
            .join(", "),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn tile(x: f64, w: f64, below: f64) -> Tile {
        Tile {
            link: String::new(),
            x,
            w,
            good: 236.0 - below,
            middling: below,
            poor: 0.0,
            short: String::new(),
            title: String::new(),
            p75: String::new(),
            share: String::new(),
            poor_text: String::new(),
        }
    }

    #[test]
    fn words_of_the_line_stand_above_it_or_below_where_a_figure_would_lie_on_them() {
        assert_eq!(quarter_y(&[]), 78.0);
        assert_eq!(quarter_y(&[tile(0.0, 260.0, 4.0)]), 78.0);
        assert_eq!(quarter_y(&[tile(0.0, 260.0, 34.0)]), 96.0, "1.91 s lay on it");
        assert_eq!(quarter_y(&[tile(0.0, 100.0, 34.0), tile(102.0, 100.0, 50.0)]), 114.0);
        assert_eq!(quarter_y(&[tile(0.0, 40.0, 34.0)]), 78.0, "too narrow for a figure");
        assert_eq!(quarter_y(&[tile(400.0, 200.0, 34.0)]), 78.0, "far away");
    }

    proptest! {
        #[test]
        fn words_of_the_line_lie_on_no_figure_where_there_is_a_place_without_one(below in prop::collection::vec(0.0..200.0f64, 1..3)) {
            let tiles: Vec<Tile> = (0..).zip(below).map(|(nth, below)| tile(f64::from(nth) * 110.0, 108.0, below)).collect();
            let y = quarter_y(&tiles);
            let clear = |y: f64| tiles.iter().all(|t| (t.figure_y() - y).abs() > 13.0);
            prop_assert!(clear(y) || ![78.0, 96.0, 114.0].into_iter().any(clear));
        }
    }
}
