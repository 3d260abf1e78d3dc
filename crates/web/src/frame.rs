//! What every page has: the places, the time strip, the stretch in words.

use crate::State;
use crate::access::{SHARE, Who, site, who};
use crate::draw::{Axis, line};
use crate::error::PageError;
use crate::format;
use crate::limits::query;
use crate::view::{Link, Mark, Pin, SaidPart, Window};
use actix_web::HttpRequest;
use cadentis_answers::Range;
use cadentis_answers::dependencies::Told;
use cadentis_answers::kept::{Incident, LeftOut, Marker, Site};
use cadentis_answers::strip::{self, TroubledHour};
use cadentis_core::alert::Severity;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Against, Stretch};
use cadentis_core::dependency;
use cadentis_core::goal::Standing;
use cadentis_core::goal::budget::{self, Budget, Metric};
use cadentis_core::measure::scope::quoted;
use cadentis_core::run::Outcome;
use cadentis_core::share::can_be_shared;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::Filter;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;

/// The part of an address that says when.
#[derive(Debug, Default, Deserialize)]
struct When {
    from: Option<String>,
    to: Option<String>,
    against: Option<String>,
}

/// Texts of all parameters of this name, in the order of the address.
pub fn all_of(request: &HttpRequest, name: &str) -> Vec<String> {
    let pairs = url::form_urlencoded::parse(request.query_string().as_bytes());
    pairs.filter(|(n, _)| n == name).map(|(_, value)| value.into_owned()).collect()
}

/// The parameters of an address that belong to its page alone, each with an `&` behind it.
pub fn own_parameters(request: &HttpRequest, besides: &[&str]) -> String {
    let pairs = url::form_urlencoded::parse(request.query_string().as_bytes());
    let own = pairs.filter(|(n, _)| {
        !["from", "to", "against", "only", SHARE].contains(&&**n) && !besides.contains(&&**n)
    });
    own.map(|(n, v)| {
        let encoded =
            |text: &str| url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>();
        format!("{}={}&", encoded(&n), encoded(&v))
    })
    .collect()
}

/// What an address asks about, without what a page has around it.
pub struct Asked {
    pub site: Site,
    pub stretch: Stretch,
    pub kind: Against,
    pub now: Timestamp,
    /// Which page views are asked about: `only=device:phone`, as often as wanted.
    pub filter: Filter,
}

impl Asked {
    /// Reads the address and the site; without a stretch in the address, the last `default_s`
    /// seconds.
    pub fn load(request: &HttpRequest, default_s: i64) -> Result<Asked, PageError> {
        let now = Timestamp::now();
        let site = site(request)?;
        let when = query::<When>(request)?;
        let stretch = match (&when.from, &when.to) {
            (Some(from), Some(to)) => Stretch::parse(from, to)?,
            _ => Stretch::last(default_s, now),
        };
        let parameter = |name: &str, says: String| PageError::Parameter { name: name.into(), says };
        let kind = match when.against.as_deref() {
            None | Some("") => Against::default(),
            Some(word) => Against::parse(word).ok_or_else(|| {
                parameter(
                    "against",
                    format!(
                        "`{}` is nothing to compare with",
                        word.chars().take(40).collect::<String>()
                    ),
                )
            })?,
        };
        let only = all_of(request, "only");
        let (filter, wrong) = Filter::parse(only.iter().map(String::as_str));
        if let Some(text) = wrong.first() {
            let text: String = text.chars().take(80).collect();
            return Err(parameter(
                "only",
                format!("`{text}` is no attribute and value such as device:phone"),
            ));
        }
        Ok(Asked { site, stretch, kind, now, filter })
    }

    /// Where everything of its site is found.
    pub fn base(&self) -> String {
        base(&self.site)
    }

    /// The stretch up to now: what lies ahead has nothing to read.
    pub fn past(&self) -> Stretch {
        up_to_now(self.stretch, self.now)
    }

    /// What is asked about, told in one piece.
    pub fn range(&self) -> Range {
        let against = self.stretch.against(self.kind, &self.site.zone);
        Range { stretch: self.past(), against, filter: self.filter.clone(), points: 1 }
    }

    /// The address of this stretch with another filter.
    pub fn query_with(&self, filter: &Filter) -> String {
        with_filter(when(&self.stretch, self.kind), filter)
    }
}

/// The part of an address that says when.
fn when(stretch: &Stretch, kind: Against) -> String {
    format!(
        "from={}&to={}&against={}",
        Stretch::moment(stretch.from),
        Stretch::moment(stretch.to),
        kind.word()
    )
}

fn up_to_now(stretch: Stretch, now: Timestamp) -> Stretch {
    Stretch { from: stretch.from, to: stretch.to.min(now + SignedDuration::from_secs(60)) }
}

/// Where everything of a site is found.
pub fn base(site: &Site) -> String {
    format!("/{}", site.slug)
}

pub struct Frame {
    pub site: Site,
    /// Where everything of the site is found: what addresses on its pages begin with.
    pub base: String,
    /// The other sites that whoever looks may read, at the same place and stretch.
    pub others: Vec<Link>,
    /// Whoever looks at it.
    pub who: Who,
    pub stretch: Stretch,
    pub against: Option<Stretch>,
    kind: Against,
    pub now: Timestamp,
    /// `from=…&to=…&against=…` and the filter, for links.
    pub query: String,
    pub filter: Filter,
    /// The path of this page, and what its address says besides, each parameter with an `&` behind it.
    pub here: String,
    pub own: String,
    pub words: String,
    pub against_words: String,
    pub zone: String,
    pub strip: Strip,
    pub quick: Vec<Quick>,
    pub places: Vec<Place>,
    /// What is pinned to the time that the strip shows.
    pub markers: Vec<Marker>,
    /// Incidents of the time that the strip shows.
    pub incidents: Vec<Incident>,
}

/// An address with what page views are filtered by behind it.
pub fn with_filter(mut query: String, filter: &Filter) -> String {
    for text in filter.texts() {
        query += "&only=";
        query.extend(url::form_urlencoded::byte_serialize(text.as_bytes()));
    }
    query
}

pub struct Place {
    pub name: &'static str,
    pub path: String,
    pub here: bool,
    pub built: bool,
}

/// A ready-made stretch that ends now.
pub struct Quick {
    pub label: &'static str,
    pub query: String,
    pub here: bool,
}

/// A piece of the strip.
#[derive(Default)]
pub struct Part {
    pub x: f64,
    pub w: f64,
}

/// An incident along an axis.
pub struct Bar {
    pub at: Window,
    pub tone: &'static str,
    pub link: String,
}

/// The time strip, ready to draw on 1248 × 36 units.
#[derive(Default)]
pub struct Strip {
    pub from_s: i64,
    pub to_s: i64,
    pub silhouette: String,
    pub days: Vec<Mark>,
    pub markers: Vec<Mark>,
    pub maintenance: Vec<Window>,
    pub troubles: Vec<Window>,
    pub incidents: Vec<Bar>,
    pub stretch: Part,
    pub against: Option<Part>,
}

pub const WIDTH: f64 = 1248.0;
pub const TWO_WEEKS_S: i64 = 14 * 86_400;

const PLACES: [(&str, &str, bool); 8] = [
    ("Now", "", true),
    ("Journeys", "/journeys", true),
    ("Visitors", "/visitors", true),
    ("Goals", "/goals", true),
    ("Alerts", "/alerts", true),
    ("Queries", "/queries", true),
    ("Reports", "/reports", true),
    ("Settings", "/settings", true),
];

const QUICK: [(&str, i64); 6] = [
    ("1h", 3_600),
    ("6h", 21_600),
    ("12h", 43_200),
    ("24h", 86_400),
    ("7d", 604_800),
    ("28d", 28 * 86_400),
];

impl Frame {
    /// What the address asks about, and what stands around it on every page.
    pub async fn load(
        state: &State,
        request: &HttpRequest,
        place: &str,
        default_s: i64,
    ) -> Result<Frame, PageError> {
        let who = who(request).ok_or(PageError::SignedOut)?;
        let asked = Asked::load(request, default_s)?;
        let against = asked.stretch.against(asked.kind, &asked.site.zone);
        let (strip, markers, incidents) =
            Strip::load(state, &asked.site, asked.stretch, against, asked.now).await?;
        Ok(Frame { markers, incidents, ..Frame::around(who, asked, request, place, strip) })
    }

    /// The same for a part of a page, which is put into one that has its time strip already.
    pub fn part(request: &HttpRequest, place: &str, default_s: i64) -> Result<Frame, PageError> {
        let who = who(request).ok_or(PageError::SignedOut)?;
        let asked = Asked::load(request, default_s)?;
        Ok(Frame::around(who, asked, request, place, Strip::default()))
    }

    fn around(who: Who, asked: Asked, request: &HttpRequest, place: &str, strip: Strip) -> Frame {
        let Asked { site, stretch, kind, now, filter } = asked;
        let against = stretch.against(kind, &site.zone);
        let query_of = |s: &Stretch| with_filter(when(s, kind), &filter);
        let quick = QUICK
            .into_iter()
            .map(|(label, s)| Quick {
                label,
                query: query_of(&Stretch::last(s, now)),
                here: s == stretch.seconds(),
            })
            .collect();
        let against_words = match (kind, &against) {
            (Against::Week, Some(_)) => "against the same hours a week before (dashed)".into(),
            (Against::Before, Some(a)) => {
                format!("against the stretch before, {} (dashed)", a.words(&site.zone))
            }
            _ => "not compared".into(),
        };
        let base = base(&site);
        let at = PLACES.into_iter().find(|(name, ..)| *name == place).map_or("", |(_, at, _)| at);
        let others = who.signed.sites.iter().filter(|s| s.id != site.id);
        let others = others.map(|s| {
            // What page views are filtered by is the other site's own.
            let link = format!("/{}{at}?{}", s.slug, when(&stretch, kind));
            Link::new(link, s.name.clone())
        });
        Frame {
            others: others.collect(),
            kind,
            query: query_of(&stretch),
            markers: Vec::new(),
            incidents: Vec::new(),
            words: stretch.words(&site.zone),
            against_words,
            zone: site.zone_name().to_string(),
            strip,
            quick,
            places: PLACES
                .into_iter()
                .filter(|(name, ..)| *name != "Settings" || who.edits())
                // Whoever has a link to one page has nowhere else to go.
                .filter(|_| who.shared.is_none())
                .map(|(name, path, built)| Place {
                    name,
                    path: format!("{base}{path}"),
                    built,
                    here: name == place,
                })
                .collect(),
            stretch,
            against,
            now,
            who,
            site,
            base,
            filter,
            here: request.path().to_string(),
            own: own_parameters(request, &[]),
        }
    }

    /// Where this page is shared, when whoever sees it may do so.
    pub fn to_share(&self) -> Option<String> {
        let below = self.here.strip_prefix(&self.base)?;
        let may = self.who.edits() && can_be_shared(below);
        let page = format!("{below}?{}{}", self.own, self.query);
        let page: String = url::form_urlencoded::byte_serialize(page.as_bytes()).collect();
        may.then(|| format!("{}/settings/shares?to={page}", self.base))
    }

    /// The address of this stretch with another filter.
    pub fn query_with(&self, filter: &Filter) -> String {
        with_filter(when(&self.stretch, self.kind), filter)
    }

    /// The stretch up to now: what lies ahead has nothing to read.
    pub fn past(&self) -> Stretch {
        up_to_now(self.stretch, self.now)
    }

    /// What is asked about, told in one piece.
    pub fn range(&self) -> Range {
        Range {
            stretch: self.past(),
            against: self.against,
            filter: self.filter.clone(),
            points: self.points(),
        }
    }

    /// The address of another stretch with the same filter.
    pub fn query_of(&self, stretch: &Stretch) -> String {
        with_filter(when(stretch, self.kind), &self.filter)
    }

    /// What the address says of this page, but for `all`.
    pub fn own_without_all(&self) -> String {
        self.own.split_inclusive('&').filter(|p| !p.starts_with("all=")).collect()
    }

    /// How many points a line over the stretch has at most. Over weeks it is one a day: the rhythm of the day would hide
    /// what changed.
    pub fn points(&self) -> i64 {
        if self.stretch.seconds() > 14 * 86_400 { 48 } else { 96 }
    }

    /// What it is compared with, as the address says it.
    pub fn against_kind(&self) -> &'static str {
        self.kind.word()
    }

    /// Where an alert on something that is shown begins: its measure with what it is narrowed to, and what else the form is
    /// filled in with, as an address has it.
    pub fn watch(&self, measure: &str, narrowed: &[(&str, &str)], besides: &str) -> String {
        let scope: Vec<String> =
            narrowed.iter().map(|(key, value)| format!("{key} {}", quoted(value))).collect();
        let text = match scope.is_empty() {
            true => measure.to_string(),
            false => format!("{measure} for {}", scope.join(" and ")),
        };
        let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
        format!("{}/alerts/new?measure={text}{besides}", self.base)
    }

    /// Where an alert on the 75th percentile of a vital begins, of all pages or of a page family, at its limit or at what is
    /// good (web.dev).
    pub fn watch_vital(&self, vital: Vital, family: Option<&str>, limits: &[Budget]) -> String {
        let level = budget::holding(limits, Metric::Vital(vital), family)
            .map_or(vital.thresholds().0, |b| b.limit);
        let narrowed: Vec<_> = family.map(|f| ("family", f)).into_iter().collect();
        let level = vital.text(level).replace(' ', "+");
        self.watch(&format!("p75 of {}", vital.name()), &narrowed, &format!("&warning={level}"))
    }

    /// The ends of the stretch as addresses have them, for forms that keep it.
    pub fn ends(&self) -> [(&'static str, String); 2] {
        [("from", Stretch::moment(self.stretch.from)), ("to", Stretch::moment(self.stretch.to))]
    }

    /// The address of a run, with the stretch it is seen in.
    pub fn run_link(&self, id: &uuid::Uuid) -> String {
        format!("{}/runs/{id}?{}", self.base, self.query)
    }
}

impl Strip {
    async fn load(
        state: &State,
        site: &Site,
        stretch: Stretch,
        against: Option<Stretch>,
        now: Timestamp,
    ) -> Result<(Strip, Vec<Marker>, Vec<Incident>), PageError> {
        // Two weeks that end today, moved back as far as the stretch wants it.
        let end = stretch.to.as_second().min(now.as_second() + 3_600);
        let newest = now.as_second() + 3_600;
        let to_s = if stretch.from.as_second() < newest - TWO_WEEKS_S {
            end.max(stretch.from.as_second() + TWO_WEEKS_S / 2)
        } else {
            newest
        };
        let shown = Stretch {
            from: at_second(to_s - TWO_WEEKS_S.max(stretch.seconds() * 11 / 10)),
            to: at_second(to_s),
        };
        let axis = Axis { stretch: shown, left: 0.0, width: WIDTH };
        let told = strip::ask(&state.answers, site.id, shown).await?;
        let day_name =
            |at: &Timestamp| at.to_zoned(site.zone.clone()).strftime("%a %-d").to_string();
        let part = |s: &Stretch| axis.window(s).map(|(x, w)| Part { x, w });
        let strip = Strip {
            from_s: shown.from.as_second(),
            to_s: shown.to.as_second(),
            silhouette: silhouette(&told.page_views, shown, &axis),
            days: shown
                .days(&site.zone)
                .iter()
                .map(|at| Mark::new(axis.x(*at), day_name(at)))
                .collect(),
            markers: drawn_markers(&told.markers, &axis),
            maintenance: drawn_windows(&told.maintenance, &axis),
            troubles: drawn_troubles(&told.troubled, &site.zone, &axis),
            incidents: drawn_incidents(&told.incidents, &base(site), now, &axis),
            stretch: part(&stretch).unwrap_or(Part { x: 0.0, w: 1.5 }),
            against: against.and_then(|a| part(&a)),
        };
        Ok((strip, told.markers, told.incidents))
    }
}

/// An address with these parameters, with room for more behind it.
pub fn named_link(path: &str, parameters: &[(&str, &str)]) -> String {
    format!(
        "{path}?{}",
        url::form_urlencoded::Serializer::new(String::new()).extend_pairs(parameters).finish()
    )
}

/// The address of a page family's page, with room for more behind it.
pub fn family_link(base: &str, name: &str) -> String {
    named_link(&format!("{base}/visitors/family"), &[("family", name)])
}

/// The tone of what others say of a dependency.
pub fn tone_of_state(state: dependency::State) -> &'static str {
    match state {
        dependency::State::Ok => "within",
        dependency::State::Degraded => "strained",
        dependency::State::Down => "broken",
        dependency::State::Unknown => "nodata",
    }
}

/// What was said of a dependency, along an axis.
pub fn said_parts(told: &Told, axis: &Axis, zone: &TimeZone) -> Vec<SaidPart> {
    let part = |(stretch, state): &(Stretch, dependency::State)| {
        let (x, w) = axis.window(stretch)?;
        let says = format!("{}: {}", state.word(), stretch.words(zone));
        Some(SaidPart { tone: tone_of_state(*state), at: Window::new(x, w, says) })
    };
    told.course.iter().filter_map(part).collect()
}

/// How much traffic there was, as an outline that stands on y = 36.
pub fn silhouette(traffic: &[(Timestamp, u64)], shown: Stretch, axis: &Axis) -> String {
    let most = traffic.iter().map(|(_, n)| *n).max().unwrap_or(1).max(1) as f64;
    let mut points = vec![Some((axis.x(traffic.first().map_or(shown.from, |t| t.0)), 36.0))];
    points
        .extend(traffic.iter().map(|(at, n)| Some((axis.x(*at), 36.0 - 27.0 * *n as f64 / most))));
    points.push(Some((axis.x(traffic.last().map_or(shown.from, |t| t.0)), 36.0)));
    format!("{}Z", line(points))
}

/// Hours in which many runs failed.
pub fn drawn_troubles(troubled: &[TroubledHour], zone: &TimeZone, axis: &Axis) -> Vec<Window> {
    let drawn = troubled.iter().filter_map(|t| {
        let (x, w) = axis.window(&t.stretch)?;
        let at = format::day_clock(t.stretch.from, zone);
        let (failed, counted) = (t.tally.failed, t.tally.counted());
        let says = format!("{at}: {failed} of {counted} runs failed");
        Some(Window::new(x, w.max(3.0), says))
    });
    drawn.collect()
}

pub fn drawn_markers(markers: &[Marker], axis: &Axis) -> Vec<Mark> {
    markers.iter().map(|m| Mark::new(axis.x(m.at), &m.said.title)).collect()
}

/// Incidents along an axis, each with where it is told.
pub fn drawn_incidents(
    incidents: &[Incident],
    base: &str,
    now: Timestamp,
    axis: &Axis,
) -> Vec<Bar> {
    let bar = |i: &Incident| {
        let lasted = Stretch { from: i.opened_at, to: i.cleared_at.unwrap_or(now) };
        let (x, w) = axis.window(&lasted)?;
        let around = incident_around(i.since, lasted.to);
        Some(Bar {
            at: Window::new(x, w.max(3.0), format!("Incident {}: {}", i.id, i.title)),
            tone: tone_of_severity(Some(i.severity)),
            link: format!("{base}/incidents/{}?{}", i.id, when(&around, Against::default())),
        })
    };
    incidents.iter().rev().filter_map(bar).collect()
}

/// The time around an incident, as its page is best seen with.
pub fn incident_around(since: Timestamp, until: Timestamp) -> Stretch {
    let hour = SignedDuration::from_hours(1);
    let longest = SignedDuration::from_hours(24 * 60);
    Stretch { from: since - hour, to: (until + hour).min(since + longest) }
}

/// The tone of how bad something is; nothing is wrong without.
pub fn tone_of_severity(severity: Option<Severity>) -> &'static str {
    match severity {
        None => "within",
        Some(Severity::Warning) => "strained",
        Some(Severity::Critical) => "broken",
    }
}

impl Frame {
    /// Markers inside the axis, each with where it is told.
    pub fn pins(&self, markers: &[Marker], axis: &Axis) -> Vec<Pin> {
        let inside = markers.iter().filter(|m| axis.stretch.contains(m.at));
        let pin = |m: &Marker| Pin {
            x: axis.x(m.at),
            says: m.said.title.clone(),
            link: format!("{}/markers/{}", self.base, m.id),
        };
        inside.map(pin).collect()
    }
}

pub fn drawn_windows(windows: &[LeftOut], axis: &Axis) -> Vec<Window> {
    windows
        .iter()
        .filter_map(|w| axis.window(&w.stretch).map(|(x, width)| Window::new(x, width, &w.why)))
        .collect()
}

/// The class and the spoken word of a standing.
/// The tone of an outcome; a shape says it, too.
pub fn tone_of(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Passed => "within",
        Outcome::Slow => "strained",
        Outcome::Failed => "broken",
        Outcome::Unmeasured => "nodata",
    }
}

pub fn tone(standing: Standing) -> &'static str {
    standing.word()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::fs;
    use std::path::{Path, PathBuf};

    fn sources(folder: &Path) -> Vec<PathBuf> {
        let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        entries.flat_map(|p| if p.is_dir() { sources(&p) } else { vec![p] }).collect()
    }

    #[test]
    fn no_part_of_a_page_reads_what_its_page_has_read_for_the_time_strip() {
        // What is told apart by its name: handlers of parts end in `part`.
        let pages = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/pages");
        let mut parts = 0;
        for path in sources(&pages) {
            let text = fs::read_to_string(&path).unwrap();
            for handler in text.split("\npub async fn ").skip(1) {
                let name = handler.split('(').next().unwrap_or_default();
                let body = handler.split("\n}\n").next().unwrap_or_default();
                if name == "part" || name.ends_with("_part") {
                    parts += 1;
                    assert!(!body.contains("Frame::load("), "{}: {name}", path.display());
                }
            }
        }
        assert!(parts >= 8, "{parts}");
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn axis() -> Axis {
        let stretch = Stretch { from: at("2026-11-22T00:00Z"), to: at("2026-11-23T00:00Z") };
        Axis { stretch, left: 0.0, width: 240.0 }
    }

    #[test]
    fn the_time_around_an_incident_begins_before_its_trouble_and_is_no_longer_than_two_months() {
        let (since, until) = (at("2026-11-22T10:00Z"), at("2026-11-22T11:30Z"));
        let around = incident_around(since, until);
        assert_eq!((around.from, around.to), (at("2026-11-22T09:00Z"), at("2026-11-22T12:30Z")));
        let long = incident_around(at("2026-01-01T00:00Z"), until);
        assert_eq!(long.to, at("2026-03-02T00:00Z"), "60 days from when it began");
    }

    #[test]
    fn hours_of_trouble_that_can_be_seen_say_how_many_runs_failed() {
        let hour = |from: &str| TroubledHour {
            stretch: Stretch { from: at(from), to: at(from) + SignedDuration::from_hours(1) },
            tally: cadentis_core::goal::Tally { passed: 7, failed: 3, ..Default::default() },
        };
        let drawn = drawn_troubles(
            &[hour("2026-11-22T12:00Z"), hour("2026-11-24T12:00Z")],
            &TimeZone::UTC,
            &axis(),
        );
        assert_eq!(drawn.len(), 1, "the other lies beyond");
        assert_eq!(drawn[0].says, "Sun 22 Nov 12:00: 3 of 10 runs failed");
        assert!((drawn[0].x - 120.0).abs() < 1e-6 && (drawn[0].w - 10.0).abs() < 1e-6);
    }

    #[test]
    fn tones_go_with_how_bad_it_is_everywhere_alike() {
        let outcomes = Outcome::ALL.map(tone_of);
        assert_eq!(outcomes, ["within", "strained", "broken", "nodata"]);
        let states = dependency::State::ALL.map(tone_of_state);
        assert_eq!(states, ["within", "nodata", "strained", "broken"]);
        let severities = [None, Some(Severity::Warning), Some(Severity::Critical)];
        assert_eq!(severities.map(tone_of_severity), ["within", "strained", "broken"]);
    }

    proptest! {
        #[test]
        fn an_address_with_parameters_is_read_back_whatever_they_hold(values in prop::collection::vec("\\PC{0,20}", 0..4)) {
            let pairs: Vec<(&str, &str)> = values.iter().map(|v| ("only", v.as_str())).collect();
            let link = named_link("/marram-ferries/visitors", &pairs);
            let (path, query) = link.split_once('?').unwrap();
            prop_assert_eq!(path, "/marram-ferries/visitors");
            let read: Vec<String> = url::form_urlencoded::parse(query.as_bytes()).map(|(_, v)| v.into_owned()).collect();
            prop_assert_eq!(read, values);
        }

        #[test]
        fn an_outline_of_traffic_stands_on_its_ground_and_reaches_its_height_where_most_came(
            counts in prop::collection::vec(0u64..10_000, 1..24),
        ) {
            let axis = axis();
            let traffic: Vec<_> = (0..).zip(&counts).map(|(h, n)| (axis.stretch.from + SignedDuration::from_hours(h), *n)).collect();
            let drawn = silhouette(&traffic, axis.stretch, &axis);
            let body = drawn.strip_prefix('M').and_then(|d| d.strip_suffix('Z')).unwrap();
            let heights: Vec<f64> = body.split('L').map(|p| p.split_once(' ').unwrap().1.parse().unwrap()).collect();
            prop_assert_eq!(heights.len(), counts.len() + 2);
            prop_assert_eq!((heights[0], heights[heights.len() - 1]), (36.0, 36.0));
            prop_assert!(heights.iter().all(|y| (9.0..=36.0).contains(y)));
            let highest = heights.iter().copied().fold(36.0, f64::min);
            prop_assert_eq!(highest, if counts.iter().all(|n| *n == 0) { 36.0 } else { 9.0 });
        }
    }
}
