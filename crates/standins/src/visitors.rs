//! People who visit the site: how many, when, from where, on what, and how quick it was for them.
//!
//! The same model writes the thirty days of history and, by [`keep_arriving`], the beacons that go
//! on coming in through the front door.

use crate::places::{BOOKING_HOST, FREIGHT_HOST, MAP_HOST};
use crate::story::{SITE_ZONE, Story};
use cadentis_core::visitor::beacon::More;
use cadentis_core::visitor::{Beacon, Device, Happened, Happening};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use rand_distr::{Distribution, LogNormal};
use serde_json::{Value, json};
use uuid::Uuid;

/// One page view as a visitor makes it.
#[derive(Debug, Clone)]
pub struct Made {
    pub beacon: Beacon,
    pub country: &'static str,
    /// Empty where nobody would know.
    pub region: &'static str,
    pub city: &'static str,
    pub user_agent: &'static str,
    pub ip: [u8; 4],
}

/// (country, region, city, share of the country)
const CITIES: [(&str, &str, &str, f64); 9] = [
    ("NO", "Vestland", "Bergen", 0.4),
    ("NO", "Oslo", "Oslo", 0.35),
    ("NO", "Rogaland", "Stavanger", 0.25),
    ("GB", "Scotland", "Aberdeen", 0.45),
    ("GB", "England", "Newcastle", 0.35),
    ("GB", "England", "London", 0.2),
    ("DE", "Hamburg", "Hamburg", 0.6),
    ("DE", "Schleswig-Holstein", "Kiel", 0.4),
    ("CA", "Nova Scotia", "Halifax", 1.0),
];

/// The release of the site that served a page at that moment.
fn release(story: &Story, at: Timestamp) -> &'static str {
    match () {
        () if story.slow_release.contains(at) => "41.0",
        () if story.blank_release.contains(at) => "40.2",
        () if at >= story.begin() && at < story.blank_release.from => "40.1",
        () => "40.3",
    }
}

/// (country, share, milliseconds added by distance)
const COUNTRIES: [(&str, f64, f64); 12] = [
    ("NO", 0.34, 0.0),
    ("GB", 0.17, 25.0),
    ("DE", 0.12, 20.0),
    ("DK", 0.08, 12.0),
    ("SE", 0.07, 10.0),
    ("NL", 0.06, 18.0),
    ("CA", 0.05, 95.0),
    ("KE", 0.03, 170.0),
    ("IN", 0.03, 170.0),
    ("CL", 0.02, 215.0),
    ("NZ", 0.02, 280.0),
    ("US", 0.01, 110.0),
];

/// (device, user agent, share, slow-down, old enough to be left blank)
const BROWSERS: [(Device, &str, f64, f64, bool); 8] = [
    (
        Device::Phone,
        "Mozilla/5.0 (Linux; Android 15) AppleWebKit/537.36 Chrome/156.0 Mobile Safari/537.36",
        0.30,
        1.5,
        false,
    ),
    (
        Device::Phone,
        "Mozilla/5.0 (iPhone; CPU iPhone OS 19_1 like Mac OS X) AppleWebKit/605.1 Version/19.1 Mobile Safari/604.1",
        0.22,
        1.15,
        false,
    ),
    (
        Device::Phone,
        "Mozilla/5.0 (Linux; Android 9) AppleWebKit/537.36 Chrome/96.0 Mobile Safari/537.36",
        0.04,
        2.4,
        true,
    ),
    (
        Device::Tablet,
        "Mozilla/5.0 (iPad; CPU OS 19_0 like Mac OS X) AppleWebKit/605.1 Version/19.0 Safari/604.1",
        0.06,
        1.1,
        false,
    ),
    (
        Device::Desktop,
        "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 Chrome/156.0 Safari/537.36",
        0.20,
        0.9,
        false,
    ),
    (
        Device::Desktop,
        "Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) AppleWebKit/605.1 Version/19.1 Safari/605.1",
        0.10,
        0.8,
        false,
    ),
    (
        Device::Desktop,
        "Mozilla/5.0 (X11; Linux x86_64; rv:150.0) Gecko/20100101 Firefox/150.0",
        0.06,
        0.9,
        false,
    ),
    (
        Device::Desktop,
        "Mozilla/5.0 (Windows NT 6.1; rv:78.0) Gecko/20100101 Firefox/78.0",
        0.02,
        1.8,
        true,
    ),
];

/// (path, thinking of the server, weight of the page, chance that the visit goes on from here)
const PAGES: [(&str, f64, f64, f64); 5] = [
    ("/", 55.0, 1.0, 0.86),
    ("/sailings", 170.0, 1.35, 0.62),
    ("/cabin", 60.0, 0.95, 0.74),
    ("/booking/K7Q2", 140.0, 0.8, 0.90),
    ("/booking/K7Q2/pass", 60.0, 0.75, 0.0),
];

/// A page for those who have a question, like [`PAGES`].
const DESK: (&str, f64, f64, f64) = ("/desk", 30.0, 0.9, 0.0);

/// What people press on a page.
fn action(path: &str) -> &'static str {
    match path {
        "/" => "find-sailings",
        "/sailings" => "choose-sailing",
        "/cabin" => "hold-booking",
        "/desk" => "ask",
        p if p.ends_with("pass") => "print-pass",
        _ => "boarding-pass",
    }
}

/// Most people press what the page is for, once it is there; who finds the list of sailings broken tries again.
fn with_action(mut happened: Vec<Happening>, path: &str, works: bool, lcp: f64) -> Vec<Happening> {
    let pressed = Happening::new(Happened::Action, (lcp + 4_000.0).round(), action(path));
    if works {
        happened.push(pressed);
    } else if happened.iter().any(|h| h.status == Some(503)) {
        let again = happened.len() as u16;
        happened.push(Happening { name: "try-again".into(), ..pressed });
        let asked = happened.iter().find(|h| h.status == Some(503)).cloned();
        happened.extend(asked.map(|a| Happening {
            at: lcp.round() + 4_200.0,
            by: Some(again),
            ..a
        }));
    }
    happened
}

fn pick<T: Copy>(from: &[T], share: impl Fn(&T) -> f64, random: &mut SmallRng) -> T {
    let mut left = random.random::<f64>() * from.iter().map(&share).sum::<f64>();
    for t in from {
        left -= share(t);
        if left <= 0.0 {
            return *t;
        }
    }
    from[0]
}

/// How busy the site is at that moment: 1 on average over a week.
pub fn rhythm(at: Timestamp) -> f64 {
    let zone = TimeZone::get(SITE_ZONE).unwrap_or(TimeZone::UTC);
    let local = at.to_zoned(zone);
    let hour = f64::from(local.hour()) + f64::from(local.minute()) / 60.0;
    // Quiet at four in the morning, two humps at noon and in the evening.
    let bump = |centre: f64, width: f64| (-((hour - centre) / width).powi(2)).exp();
    let day = 0.12 + 1.35 * bump(12.0, 3.8) + 1.5 * bump(19.5, 3.0);
    let weekday =
        [0.95, 0.9, 0.9, 0.98, 1.18, 1.1, 1.0][local.weekday().to_monday_zero_offset() as usize];
    day * weekday / 0.83
}

/// Average length of a visit in pages, so that page views can be turned into visits.
pub const PAGES_A_VISIT: f64 = 2.75;

/// Somebody on a visit: where they are, with what, and who they are.
struct Visitor {
    country: &'static str,
    region: &'static str,
    city: &'static str,
    /// Milliseconds further away than the site's own country.
    distance: f64,
    device: Device,
    user_agent: &'static str,
    /// How much slower than a desk computer.
    slow: f64,
    /// Whether it fails on a script that only new browsers read.
    old: bool,
    connection: &'static str,
    /// Milliseconds there and back.
    network: f64,
    ip: [u8; 4],
    visit: Uuid,
    /// Empty: nobody that the page knows.
    person: String,
}

fn noise(spread: f64, random: &mut SmallRng) -> f64 {
    LogNormal::new(0.0, spread).map_or(1.0, |n| n.sample(random))
}

impl Visitor {
    fn some(random: &mut SmallRng) -> Visitor {
        let (country, _, distance) = pick(&COUNTRIES, |c| c.1, random);
        let (device, user_agent, _, slow, old) = pick(&BROWSERS, |b| b.2, random);
        let connection = match device {
            Device::Desktop => "4g",
            _ if random.random_bool(if distance > 150.0 { 0.45 } else { 0.12 }) => "3g",
            _ => "4g",
        };
        let network = distance
            + match (connection, device) {
                ("3g", _) => 260.0,
                (_, Device::Phone) => 55.0,
                _ => 18.0,
            };
        let ip = [198, 51, random.random(), 0];
        let visit = Uuid::from_u128(random.random());
        let places: Vec<_> = CITIES.iter().filter(|c| c.0 == country).collect();
        let place = (!places.is_empty()).then(|| pick(&places, |c| c.3, random));
        let (region, city) = place.map_or(("", ""), |c| (c.1, c.2));
        // One in seven is signed in as an islander, who travels often.
        let person = match random.random_bool(0.14) {
            true => format!("islander-{}", random.random_range(1..3_000)),
            false => String::new(),
        };
        Visitor {
            country,
            region,
            city,
            distance,
            device,
            user_agent,
            slow,
            old,
            connection,
            network,
            ip,
            visit,
            person,
        }
    }
}

/// A page while it loads: its times in milliseconds, what happened on it, and what went wrong.
struct Loading {
    host: &'static str,
    path: &'static str,
    first: bool,
    weight: f64,
    connect: f64,
    ttfb: f64,
    fcp: f64,
    lcp: f64,
    blank: bool,
    errors: i32,
    error: Option<&'static str>,
    more: More,
}

impl Loading {
    /// The page as it is on a good day.
    fn begun(
        story: &Story,
        at: Timestamp,
        who: &Visitor,
        (path, think, weight): (&'static str, f64, f64),
        first: bool,
        random: &mut SmallRng,
    ) -> Loading {
        let (network, slow) = (who.network, who.slow);
        let connect = if first { network * 0.9 * noise(0.3, random) } else { 0.0 };
        let ttfb = connect + network * 1.1 * noise(0.25, random) + think * noise(0.35, random);
        let fcp = ttfb
            + 320.0 * slow * weight * noise(0.35, random)
            + if first { network * 1.6 } else { network * 0.5 };
        let lcp = fcp + 430.0 * slow * weight * noise(0.5, random) + network * noise(0.4, random);
        let fare = if who.person.is_empty() { "guest" } else { "islander" };
        let more = More {
            release: release(story, at).into(),
            environment: "production".into(),
            person: who.person.clone(),
            attributes: [("fare".to_string(), fare.to_string())].into(),
            ..More::default()
        };
        let (blank, errors, error) = (false, 0, None);
        let host = BOOKING_HOST;
        Loading { host, path, first, weight, connect, ttfb, fcp, lcp, blank, errors, error, more }
    }

    /// The list of sailings asks an interface and shows a map; both are in the story.
    fn list_sailings(
        &mut self,
        story: &Story,
        at: Timestamp,
        who: &Visitor,
        random: &mut SmallRng,
    ) {
        if story.slow_release.contains(at) {
            self.lcp += 950.0 * noise(0.2, random);
        }
        let is_map_slow = story.map_slow.contains(at) && who.distance > 140.0;
        if is_map_slow {
            self.lcp += 1_700.0 * noise(0.2, random);
        }
        let busy = story.api_503.contains(at) && random.random_bool(0.25);
        let began = self.ttfb.round();
        let api = format!("http://{BOOKING_HOST}/api/sailings");
        self.more.happened.push(Happening {
            method: "GET".into(),
            ms: Some((who.network * 1.1 + 115.0 * noise(0.3, random)).round()),
            status: Some(if busy { 503 } else { 200 }),
            code: if busy { "TIMETABLE_BUSY".into() } else { String::new() },
            trace: format!("{:032x}", random.random::<u128>()),
            bytes: Some(640.0),
            ..Happening::new(Happened::Request, began + 90.0, api)
        });
        let longer = if is_map_slow { 1_700.0 } else { 0.0 };
        let map_ms = who.network * 2.2 + 30.0 * noise(0.4, random) + longer;
        let map = format!("http://{MAP_HOST}/v2/map.js");
        self.more.happened.push(Happening {
            ms: Some(map_ms.round()),
            status: Some(200),
            bytes: Some(420.0),
            ..Happening::new(Happened::Resource, began + 20.0, map)
        });
        if busy {
            let text = "Error: sailings: 503";
            (self.errors, self.error) = (1, Some(text));
            let error = error_at(text, "7:31", began + 320.0);
            self.more.happened.push(error);
        }
    }

    /// A script that this browser cannot read: nothing is ever shown.
    fn stay_blank(&mut self) {
        let text = "SyntaxError: Unexpected token '?'";
        (self.blank, self.errors, self.error) = (true, 1, Some(text));
        self.more.happened = vec![error_at(text, "1:2210", self.ttfb.round() + 60.0)];
    }

    /// What is told of a page that is shown.
    fn show(&mut self, slow: f64, random: &mut SmallRng) {
        let path = self.path;
        let fetched = path == "/" || path.ends_with("pass");
        let rest = (self.lcp - self.ttfb).max(0.0);
        let more = &mut self.more;
        more.lcp_element = match path {
            "/" => "img.hero",
            "/sailings" => "ul.sailings",
            p if p.ends_with("pass") => "img[name=code]",
            _ => "h1",
        }
        .into();
        more.lcp_delay = Some(if fetched { rest * 0.2 } else { 0.0 }.round());
        more.lcp_fetch = Some(if fetched { rest * 0.45 } else { 0.0 }.round());
        more.lcp_render = Some((rest * if fetched { 0.35 } else { 1.0 }).round());
        more.long_frames = Some((60.0 * slow * slow * noise(0.6, random)).round());
        more.inp_element = action(path).into();
        more.cls_element = if path == "/sailings" { "div.map" } else { "img.hero" }.into();
    }

    /// The page view that is told of it in the end.
    fn told(self, who: &Visitor, at: Timestamp, random: &mut SmallRng) -> Made {
        let Loading { host, path, first, weight, connect, ttfb, fcp, lcp, blank, errors, .. } =
            self;
        let load = lcp * 1.1 + 180.0 * noise(0.4, random);
        let abandoned = !blank
            && lcp > 3_000.0
            && random.random_bool(((lcp - 3_000.0) / 14_000.0).clamp(0.0, 0.6));
        let cls = if random.random_bool(0.8) { 0.03 } else { 0.09 * weight } * noise(0.7, random);
        let shown = |v: f64| (!blank).then_some((v * 10.0).round() / 10.0);
        let at_ms = at.as_millisecond();
        let works = errors == 0 && !blank && !abandoned;
        let happened = with_action(self.more.happened, path, works, lcp);
        let beacon = Beacon {
            id: Uuid::from_u128(random.random()),
            seq: 1,
            at_ms,
            sent_ms: at_ms + 15_000,
            visit: who.visit,
            url: format!("http://{host}{path}"),
            device: who.device,
            connection: who.connection.into(),
            lcp: shown(lcp).filter(|_| !abandoned),
            inp: (random.random_bool(0.8) && !blank && !abandoned)
                .then(|| (62.0 * who.slow * noise(0.6, random)).round()),
            cls: (!blank).then_some((cls * 1e4).round() / 1e4),
            fcp: shown(fcp),
            ttfb: Some((ttfb * 10.0).round() / 10.0),
            load: (!abandoned && !blank).then_some(load.round()),
            dns: first.then(|| (who.network * 0.2).round()),
            connect: first.then(|| connect.round()),
            abandoned,
            blank,
            errors,
            error: self.error.map(String::from),
            more: More { happened, ..self.more },
        };
        let Visitor { country, region, city, user_agent, ip, .. } = *who;
        Made { beacon, country, region, city, user_agent, ip }
    }
}

/// An error of the application's own script.
fn error_at(text: &str, place: &str, at: f64) -> Happening {
    let stack = format!("{text}\n    at http://{BOOKING_HOST}/static/app.js:{place}");
    Happening { stack, ..Happening::new(Happened::Error, at, text) }
}

/// One person's visit beginning at `at`: the pages until the person has what they came for or gives
/// up.
pub fn visit(story: &Story, at: Timestamp, random: &mut SmallRng) -> Vec<Made> {
    let who = Visitor::some(random);
    let mut made: Vec<Made> = Vec::new();
    let mut at = at;
    // A few have a question instead of a journey.
    let asks = random.random_bool(0.05);
    let seen = if asks { 1 } else { PAGES.len() };
    let pages = PAGES.iter().take(seen).copied().chain(asks.then_some(DESK));
    for (i, (path, think, weight, goes_on)) in pages.enumerate() {
        if story.outage.contains(at) || story.maintenance.contains(at) {
            break;
        }
        let mut page = Loading::begun(story, at, &who, (path, think, weight), i == 0, random);
        if path == "/sailings" {
            page.list_sailings(story, at, &who, random);
        }
        if who.old && story.blank_release.contains(at) && random.random_bool(0.7) {
            page.stay_blank();
        } else {
            page.show(who.slow, random);
        }
        let lcp = page.lcp;
        let told = page.told(&who, at, random);
        let b = &told.beacon;
        let stays = if b.abandoned || b.errors > 0 { 0.2 } else { goes_on };
        made.push(told);
        if !random.random_bool(stays) {
            break;
        }
        at += SignedDuration::from_millis((lcp + 18_000.0 * noise(0.6, random)) as i64);
    }
    made
}

/// (path, thinking of the server, weight of the page, chance that the visit goes on from here) at the freight office
const OFFICE: [(&str, f64, f64, f64); 3] =
    [("/", 35.0, 0.6, 0.7), ("/rates", 40.0, 0.6, 0.5), ("/quote", 65.0, 0.5, 0.0)];

/// Somebody at the freight office, of which the story tells nothing; nobody there is signed in.
pub fn office(_: &Story, at: Timestamp, random: &mut SmallRng) -> Vec<Made> {
    let who = Visitor { person: String::new(), old: false, ..Visitor::some(random) };
    let calm = Story::new(at + SignedDuration::from_hours(24 * 400));
    let mut made = Vec::new();
    let mut at = at;
    for (i, (path, think, weight, goes_on)) in OFFICE.into_iter().enumerate() {
        let mut page = Loading::begun(&calm, at, &who, (path, think, weight), i == 0, random);
        page.host = FREIGHT_HOST;
        page.more.release.clear();
        page.more.attributes.clear();
        page.more.lcp_element = "h1".into();
        let lcp = page.lcp;
        let mut told = page.told(&who, at, random);
        told.beacon.more.happened.clear();
        made.push(told);
        if !random.random_bool(goes_on) {
            break;
        }
        at += SignedDuration::from_millis((lcp + 25_000.0 * noise(0.6, random)) as i64);
    }
    made
}

/// Who comes: the story, a moment, and what else is up to chance give a visit.
pub type Visits = fn(&Story, Timestamp, &mut SmallRng) -> Vec<Made>;

/// A beacon as the snippet writes it.
pub fn as_json(b: &Beacon) -> Value {
    let mut beacon = json!({
        "id": b.id, "seq": b.seq, "at": b.at_ms, "sent": b.sent_ms, "visit": b.visit, "url": b.url,
        "device": b.device.word(), "connection": b.connection, "lcp": b.lcp, "inp": b.inp, "cls": b.cls,
        "fcp": b.fcp, "ttfb": b.ttfb, "load": b.load, "dns": b.dns, "connect": b.connect,
        "abandoned": b.abandoned, "blank": b.blank, "errors": b.errors, "error": b.error,
    });
    if let (Some(all), Ok(Value::Object(more))) =
        (beacon.as_object_mut(), serde_json::to_value(&b.more))
    {
        all.extend(more);
    }
    beacon
}

/// Scheme and host of an address.
fn origin_of(url: &str) -> String {
    url.splitn(4, '/').take(3).collect::<Vec<_>>().join("/")
}

/// Posts beacons for ever, about `a_day` page views a day, to `address` (the collect URL with its
/// key). A server that is away is tried again with the next visit.
pub async fn keep_arriving(visits: Visits, address: String, a_day: f64) {
    let client = reqwest::Client::new();
    let mut random = SmallRng::from_os_rng();
    loop {
        let now = Timestamp::now();
        let visits_a_second = a_day / PAGES_A_VISIT / 86_400.0 * rhythm(now);
        let wait = -random.random::<f64>().max(1e-9).ln() / visits_a_second.max(1e-6);
        tokio::time::sleep(std::time::Duration::from_secs_f64(wait.min(30.0))).await;
        if wait > 30.0 {
            continue;
        }
        // A story that lies more than a year ahead: everything is as usual now.
        let begun = Timestamp::now() - SignedDuration::from_secs(60);
        let story = Story::new(begun + SignedDuration::from_hours(24 * 400));
        let mut random = SmallRng::from_rng(&mut random);
        let (client, address) = (client.clone(), address.clone());
        tokio::spawn(async move {
            for made in visits(&story, begun, &mut random) {
                let mut beacon = made.beacon;
                let seen = beacon.at_ms + beacon.lcp.unwrap_or(1_000.0) as i64 + 2_000;
                let wait = seen - Timestamp::now().as_millisecond();
                tokio::time::sleep(std::time::Duration::from_millis(wait.max(0).unsigned_abs()))
                    .await;
                beacon.sent_ms = Timestamp::now().as_millisecond();
                let sent = client
                    .post(&address)
                    .header("content-type", "text/plain")
                    .header("origin", origin_of(&beacon.url))
                    .header("user-agent", made.user_agent)
                    .header("x-forwarded-for", std::net::Ipv4Addr::from(made.ip).to_string())
                    .header("x-visitor-country", made.country)
                    .header("x-visitor-region", made.region)
                    .header("x-visitor-city", made.city)
                    .body(as_json(&beacon).to_string())
                    .send()
                    .await;
                if sent.is_err() {
                    break;
                }
            }
        });
    }
}

/// Opens pages of the site in a real Chromium behind one proxy after the other, for ever, so that
/// some page views come from the real snippet. No driver is involved: the page sees a visitor.
pub async fn keep_visiting(proxies: Vec<std::net::SocketAddr>) {
    let pages = ["/", "/sailings?from=Skarholm&to=Lunnasay", "/cabin?sailing=m1", "/tomorrow"];
    for (nth, proxy) in proxies.iter().cycle().enumerate() {
        tokio::time::sleep(std::time::Duration::from_secs(60)).await;
        let profile = std::env::temp_dir().join(format!("cadentis-visitor-{}", Uuid::new_v4()));
        let mut command = tokio::process::Command::new("chromium");
        command
            .args(cadentis_processes::chromium::flags())
            .arg("--proxy-bypass-list=<-loopback>")
            .arg(format!("--proxy-server=socks5://{proxy}"))
            .arg(format!("--user-data-dir={}", profile.display()))
            // Headless browsers call themselves so, and whatever does is taken for a program.
            .arg(format!("--user-agent={}", BROWSERS[nth % BROWSERS.len()].1))
            .arg(format!("http://{BOOKING_HOST}{}", pages[nth % pages.len()]))
            .stdin(std::process::Stdio::null())
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .kill_on_drop(true);
        cadentis_processes::bind_to_us(command.as_std_mut());
        if let Ok(mut browser) = command.spawn() {
            // Long enough to load from far away and to report.
            tokio::time::sleep(std::time::Duration::from_secs(9)).await;
            let below =
                browser.id().map(|pid| cadentis_processes::below(pid as i32)).unwrap_or_default();
            let _ = browser.kill().await;
            let _ =
                tokio::task::spawn_blocking(move || cadentis_processes::end_these(&below)).await;
        }
        let _ = std::fs::remove_dir_all(&profile);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn story() -> Story {
        // A Monday noon in Oslo.
        Story::new("2026-11-23T11:00:00Z".parse().expect("a moment"))
    }

    #[test]
    fn every_beacon_of_the_model_is_one_that_the_front_door_takes() {
        let mut random = SmallRng::seed_from_u64(1);
        let story = story();
        for hours in 0..400 {
            let at = story.now - SignedDuration::from_hours(hours);
            for made in visit(&story, at, &mut random) {
                let body = as_json(&made.beacon).to_string();
                let read = Beacon::read(body.as_bytes()).unwrap_or_else(|e| panic!("{e}: {body}"));
                assert_eq!(read[0], made.beacon);
            }
        }
    }

    #[test]
    fn nights_are_quiet_and_a_week_averages_to_one() {
        let monday: Timestamp = "2026-11-23T00:00:00Z".parse().expect("a moment");
        let at = |hours: i64| rhythm(monday + SignedDuration::from_hours(hours));
        assert!(at(3) < 0.3 && at(11) > 1.0);
        let mean = (0..24 * 7).map(at).sum::<f64>() / 168.0;
        assert!((mean - 1.0).abs() < 0.15, "{mean}");
    }

    #[test]
    fn those_who_wait_long_give_up_and_have_no_load_time() {
        let mut random = SmallRng::seed_from_u64(3);
        let story = story();
        let during = story.map_slow.from + SignedDuration::from_mins(30);
        let views: Vec<Made> =
            (0..6_000).flat_map(|_| visit(&story, during, &mut random)).collect();
        let gave_up: Vec<&Made> = views.iter().filter(|m| m.beacon.abandoned).collect();
        assert!(!gave_up.is_empty());
        assert!(gave_up.iter().all(|m| m.beacon.lcp.is_none() && m.beacon.load.is_none()));
    }
}
