//! Runs as they would have been: the requests that the site's pages make, over the network of each
//! place, under the [`Story`].

use crate::places::{BOOKING_HOST, FREIGHT_HOST, MAP_HOST, Place};
use crate::story::{SHORT_RUNNER, Story, UNREACHABLE_FROM};
use cadentis_core::journey::Journey;
use cadentis_core::run::{
    Asked as AskedFor, Console, Outcome, Request, RunRecord, StepRecord, StepVitals, Trouble,
};
use cadentis_core::timing::Phases;
use jiff::Timestamp;
use rand::Rng;
use rand::rngs::SmallRng;
use rand_distr::{Distribution, LogNormal};

/// What one page asks for.
struct Asked {
    path: &'static str,
    host: &'static str,
    kind: &'static str,
    bytes: u64,
    /// Time the server thinks.
    think_ms: f64,
    /// Waits for the request at this place in the list, and begins so much later.
    after: Option<usize>,
    fresh: bool,
}

const fn asked(
    path: &'static str,
    kind: &'static str,
    bytes: u64,
    think_ms: f64,
    after: Option<usize>,
) -> Asked {
    Asked { path, host: BOOKING_HOST, kind, bytes, think_ms, after, fresh: false }
}

fn requests_of(step: &str) -> Vec<Asked> {
    let fresh = |a: Asked| Asked { fresh: true, ..a };
    let map = |a: Asked| Asked { host: MAP_HOST, ..a };
    let freight = |a: Asked| Asked { host: FREIGHT_HOST, ..a };
    match step {
        "Open the timetable" => vec![
            fresh(asked("/", "document", 2_300, 45.0, None)),
            asked("/static/app.css", "stylesheet", 1_500, 6.0, Some(0)),
            fresh(asked("/static/hero.svg", "image", 32_000, 6.0, Some(0))),
            fresh(asked("/static/app.js", "script", 2_400, 6.0, Some(0))),
        ],
        "See tomorrow" => vec![asked("/tomorrow", "document", 2_300, 45.0, None)],
        "Search sailings" => vec![
            asked("/sailings?from=Skarholm&to=Lunnasay", "document", 1_100, 40.0, None),
            fresh(map(asked("/v2/map.js", "script", 420, 25.0, Some(0)))),
            asked("/api/sailings?from=Skarholm&to=Lunnasay", "fetch", 640, 110.0, Some(1)),
            map(asked("/v2/tile/7/66/36.svg", "image", 8_200, 15.0, Some(1))),
            fresh(map(asked("/v2/tile/7/67/36.svg", "image", 8_200, 15.0, Some(1)))),
        ],
        "Choose the 08:15" => vec![asked("/cabin?sailing=m1", "document", 1_700, 50.0, None)],
        "Hold the booking" => {
            vec![
                asked("/booking", "document", 0, 90.0, None),
                asked("/booking/K7Q2", "document", 1_100, 35.0, Some(0)),
            ]
        }
        "Get the boarding pass" => vec![
            asked("/booking/K7Q2/pass", "document", 1_000, 35.0, None),
            asked("/static/code.svg", "image", 9_800, 6.0, Some(0)),
        ],
        "Open the freight office" => vec![
            freight(fresh(asked("/", "document", 900, 30.0, None))),
            freight(asked("/office.css", "stylesheet", 90, 4.0, Some(0))),
        ],
        "Ask for a quote" => {
            vec![freight(asked("/quote?metres=7.5", "document", 700, 60.0, None))]
        }
        _ => vec![asked("/", "document", 1_000, 40.0, None)],
    }
}

/// How the browser came to ask, as it was with real runs of the demo.
fn asked_of(asked: &Asked) -> AskedFor {
    let blocking = asked.kind == "stylesheet" || asked.path.ends_with("map.js");
    let (initiator, priority) = match asked.kind {
        "document" => (None, "VeryHigh"),
        "stylesheet" => (Some("parser"), "VeryHigh"),
        "script" => (Some("parser"), "High"),
        "fetch" => (Some("script"), "High"),
        _ => (Some("parser"), "Low"),
    };
    AskedFor {
        initiator: initiator.map(String::from),
        priority: Some(priority.into()),
        blocking,
        server: Vec::new(),
    }
}

/// A run of `journey` at `place` that was due at `due`.
pub fn run(
    story: &Story,
    journey: &Journey,
    place: &Place,
    due: Timestamp,
    random: &mut SmallRng,
) -> RunRecord {
    let due_ms = u64::try_from(due.as_millisecond()).unwrap_or(0);
    let id = uuid::Builder::from_unix_timestamp_millis(due_ms, &random.random()).into_uuid();
    let mut record = RunRecord {
        id,
        started_at: due,
        outcome: Outcome::Passed,
        duration_ms: 0.0,
        trouble: None,
        steps: Vec::new(),
        browser: "Chromium".into(),
        runner: format!("{}-1", place.slug),
        device: "desktop".into(),
        trial: false,
    };
    if place.slug == SHORT_RUNNER && story.runner_short.contains(due) && random.random_bool(0.8) {
        record.outcome = Outcome::Unmeasured;
        record.trouble = Some(Trouble {
            line: 0,
            says: "The runner's machine was short of CPU: the browser did not answer for 10 s."
                .into(),
        });
        return record;
    }
    for step in &journey.steps {
        let mut played = play(story, &step.name, place, due, random);
        played.start_ms = record.duration_ms;
        played.budget_ms = step.within_ms.map(|ms| ms as f64);
        if played.outcome == Outcome::Passed
            && played.budget_ms.is_some_and(|b| played.duration_ms > b)
        {
            played.outcome = Outcome::Slow;
        }
        record.duration_ms += played.duration_ms;
        if let Some(trouble) = &mut played.trouble {
            trouble.line = step.line.0;
            record.trouble.get_or_insert_with(|| trouble.clone());
        }
        let stop = played.outcome == Outcome::Failed;
        record.steps.push(played);
        if stop {
            break;
        }
    }
    record.outcome = Outcome::of_steps(record.steps.iter().map(|s| s.outcome));
    if record.outcome == Outcome::Passed
        && journey.within_ms.is_some_and(|b| record.duration_ms > b as f64)
    {
        record.outcome = Outcome::Slow;
    }
    record
}

/// The browser's own work in a step, as measured on the demo's own runs.
const WORK_MS: f64 = 190.0;

/// What a failing expectation waits for before it gives up.
const PATIENCE_MS: f64 = 10_000.0;

/// A place at a moment of the story.
struct There<'a> {
    story: &'a Story,
    place: &'a Place,
    due: Timestamp,
    noise: LogNormal<f64>,
}

impl There<'_> {
    fn noise(&self, random: &mut SmallRng) -> f64 {
        self.noise.sample(random)
    }

    fn round_trip(&self, random: &mut SmallRng) -> f64 {
        self.place.round_trip_ms + self.place.jitter_ms * random.random_range(-1.0..2.0)
    }

    /// A request as it goes on a good day.
    fn usual(&self, asked: &Asked, start_ms: f64, random: &mut SmallRng) -> Request {
        let is_booking = asked.path == "/booking";
        Request {
            url: format!("http://{}{}", asked.host, asked.path),
            method: if is_booking { "POST" } else { "GET" }.into(),
            kind: asked.kind.into(),
            status: if is_booking { 303 } else { 200 },
            start_ms,
            phases: Phases {
                queue_ms: random.random_range(0.3..2.0),
                connect_ms: if asked.fresh { self.round_trip(random) } else { 0.0 },
                request_ms: 0.2,
                wait_ms: self.round_trip(random) + asked.think_ms * self.noise(random),
                receive_ms: asked.bytes as f64 / 1024.0 / self.place.kb_per_s * 1000.0 + 0.4,
                ..Phases::default()
            },
            bytes: asked.bytes,
            protocol: "http/1.1".into(),
            from_cache: false,
            failed: None,
            trace: (asked.kind == "document" || asked.kind == "fetch")
                .then(|| format!("{:032x}", random.random::<u128>())),
            asked: asked_of(asked),
        }
    }

    /// What the story makes of it.
    fn trouble(&self, asked: &Asked, request: &mut Request, random: &mut SmallRng) {
        let (story, due) = (self.story, self.due);
        let api = asked.path.starts_with("/api/");
        let is_far = self.place.round_trip_ms > 140.0;
        if asked.host == MAP_HOST && asked.fresh && story.map_slow.contains(due) && is_far {
            request.phases.connect_ms += 1_750.0 * self.noise(random);
        }
        if api && story.slow_release.contains(due) {
            request.phases.wait_ms += 900.0 * self.noise(random);
        }
        let down = story.outage.contains(due);
        let unreachable = self.place.slug == UNREACHABLE_FROM && story.unreachable.contains(due);
        if asked.host == BOOKING_HOST && (down || unreachable) {
            let connect_ms = request.phases.connect_ms.max(self.round_trip(random));
            request.trace = None;
            request.phases = Phases { connect_ms, ..Phases::default() };
            request.status = 0;
            let refused = "net::ERR_CONNECTION_REFUSED";
            let says = if down { refused } else { "net::ERR_SOCKS_CONNECTION_FAILED" };
            request.failed = Some(says.into());
        } else if asked.host == BOOKING_HOST
            && asked.kind == "document"
            && story.maintenance.contains(due)
            || api && story.api_503.contains(due) && random.random_bool(0.25)
        {
            request.status = 503;
        }
    }
}

/// Ends a step at a request that failed.
fn fail(step: &mut StepRecord, request: &Request, api: bool) {
    let path = request.path().split('?').next().unwrap_or("/");
    let what = match &request.failed {
        Some(words) => format!("{} was not reached ({words}).", request.host()),
        None => format!("{path} answered {}.", request.status),
    };
    let end_ms = request.end_ms();
    step.outcome = Outcome::Failed;
    step.duration_ms = if api { PATIENCE_MS } else { end_ms } + 3.0;
    let says = match api {
        true => {
            step.console.push(Console {
                at_ms: end_ms + 3.0,
                level: "error".into(),
                text: "Error: sailings: 503".into(),
                uncaught: false,
            });
            format!("Expected list \"Sailings\"; the page did not show it within 10 s. {what}")
        }
        false => what,
    };
    step.trouble = Some(Trouble { line: 0, says });
}

fn play(
    story: &Story,
    name: &str,
    place: &Place,
    due: Timestamp,
    random: &mut SmallRng,
) -> StepRecord {
    let noise = LogNormal::new(0.0, 0.12).expect("a fixed, valid spread");
    let there = There { story, place, due, noise };
    let mut step = StepRecord::begun(name, 0.0, None);
    for asked in requests_of(name) {
        let after = asked.after.and_then(|i| step.requests.get(i));
        let start_ms =
            after.map_or(4.0, |r: &Request| r.end_ms() + 6.0) + random.random_range(0.0..6.0);
        let mut request = there.usual(&asked, start_ms, random);
        there.trouble(&asked, &mut request, random);
        step.requests.push(request.clone());
        if request.is_failed() {
            fail(&mut step, &request, asked.path.starts_with("/api/"));
            return step;
        }
    }
    let first = step.requests.first().map_or(0.0, Request::end_ms);
    let last = step.requests.iter().map(Request::end_ms).fold(0.0, f64::max);
    // Script, style, layout and paint, as a runner's Chromium takes them.
    let work = WORK_MS * there.noise(random);
    step.duration_ms = last + work;
    step.busy.push((first + 12.0, 51.0 + work / 4.0));
    let painted = step.requests.iter().filter(|r| r.kind != "image" && r.kind != "fetch");
    step.vitals = StepVitals {
        ttfb_ms: step.requests.first().map(|r| r.end_ms() - r.phases.receive_ms),
        fcp_ms: Some(painted.map(Request::end_ms).fold(0.0, f64::max) + 14.0),
        lcp_ms: Some(last.min(step.duration_ms) + 16.0),
        cls: Some((random.random_range(0.0..0.03f64) * 1000.0).round() / 1000.0),
    };
    step
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::places::{PLACES, by_slug};
    use cadentis_core::journey::parse;
    use cadentis_core::run::Split;
    use jiff::SignedDuration;
    use rand::SeedableRng;

    const SCRIPT: &str = "script \"Book\"\n within 6 s\nstep \"Open the timetable\"\n open http://book.marram.example/\n within 2 s\n\
        step \"Search sailings\"\n press button \"Find sailings\"\n within 2.2 s\n";

    fn runs(place: &str, at: Timestamp) -> Vec<RunRecord> {
        let story = Story::new("2026-11-23T11:00:00Z".parse().expect("a moment"));
        let (script, place) = (parse(SCRIPT).expect("a script"), by_slug(place).expect("a place"));
        let mut random = SmallRng::seed_from_u64(5);
        (0..40).map(|_| run(&story, &script, &place, at, &mut random)).collect()
    }

    fn story() -> Story {
        Story::new("2026-11-23T11:00:00Z".parse().expect("a moment"))
    }

    fn middle(s: &cadentis_core::calendar::Stretch) -> Timestamp {
        s.from + SignedDuration::from_secs(s.seconds() / 2)
    }

    #[test]
    fn every_made_up_run_is_one_that_the_server_takes_and_its_parts_add_up() {
        for place in PLACES {
            for mut record in runs(place.slug, story().now - SignedDuration::from_hours(1)) {
                record.check().expect("a record that can be stored");
                for step in &record.steps {
                    let sum: f64 = Split::of(step).parts.iter().map(|p| p.ms).sum();
                    assert!((sum - step.duration_ms).abs() < 1e-6);
                }
            }
        }
    }

    #[test]
    fn the_story_shows_where_it_should_and_nowhere_else() {
        let story = story();
        let all = |place: &str, at: Timestamp, outcome: Outcome| {
            runs(place, at).iter().filter(|r| r.outcome == outcome).count()
        };
        assert_eq!(all("bergen", middle(&story.outage), Outcome::Failed), 40);
        assert_eq!(all("valparaiso", middle(&story.unreachable), Outcome::Failed), 40);
        assert_eq!(all("bergen", middle(&story.unreachable), Outcome::Passed), 40);
        assert!(all("kochi", middle(&story.runner_short), Outcome::Unmeasured) > 20);
        assert_eq!(all("bergen", middle(&story.runner_short), Outcome::Unmeasured), 0);
        assert!(all("auckland", middle(&story.map_slow), Outcome::Slow) > 35);
        assert_eq!(all("bergen", middle(&story.map_slow), Outcome::Passed), 40);
        let failing = all("bergen", middle(&story.api_503), Outcome::Failed);
        assert!((3..20).contains(&failing), "about a quarter: {failing}");
    }

    #[test]
    fn the_nearer_place_has_the_smaller_median() {
        // Common practice, no published source.
        let median = |place: &str| {
            let mut ms: Vec<f64> = runs(place, story().now).iter().map(|r| r.duration_ms).collect();
            ms.sort_by(f64::total_cmp);
            ms[ms.len() / 2]
        };
        assert!(
            median("skarholm-quay") < median("halifax") && median("halifax") < median("auckland")
        );
    }
}
