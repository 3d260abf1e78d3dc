//! What the API says, as programs read it. Times are RFC 3339 in UTC, durations milliseconds.

use cadentis_answers::journeys;
use cadentis_answers::kept::{Location, Site};
use cadentis_answers::runs::ListedRun;
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use cadentis_core::stats;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A site.
#[derive(Serialize, ToSchema)]
pub struct SiteShape {
    /// Its name in addresses.
    slug: String,
    name: String,
    /// The time zone in which its days begin, an IANA name.
    zone: String,
    /// Hosts that are its own, with everything below them.
    domains: Vec<String>,
    environments: Vec<Environment>,
}

/// Where a site is looked at; the first is what visitors use.
#[derive(Serialize, ToSchema)]
pub struct Environment {
    name: String,
    address: String,
}

impl SiteShape {
    pub fn of(site: &Site) -> SiteShape {
        let environment = |(name, address): &(String, String)| Environment {
            name: name.clone(),
            address: address.clone(),
        };
        SiteShape {
            slug: site.slug.clone(),
            name: site.name.clone(),
            zone: site.zone_name().to_string(),
            domains: site.domains.clone(),
            environments: site.environments.iter().map(environment).collect(),
        }
    }
}

/// From where journeys are played.
#[derive(Serialize, ToSchema)]
pub struct LocationShape {
    slug: String,
    name: String,
    /// ISO 3166-1 alpha-2.
    country: String,
    /// `public` or `in-house`.
    kind: String,
    /// An IANA name.
    zone: String,
}

impl LocationShape {
    pub fn of(l: &Location) -> LocationShape {
        LocationShape {
            slug: l.slug.clone(),
            name: l.name.clone(),
            country: l.country.clone(),
            kind: l.kind.clone(),
            zone: l.zone.clone(),
        }
    }
}

/// A number with what is needed to believe it.
#[derive(Serialize, ToSchema)]
pub struct ReadingShape {
    /// `null` when there was nothing to measure.
    value: Option<f64>,
    samples: u64,
    /// 95 % confidence interval, where one exists for so few samples.
    interval: Option<IntervalShape>,
}

/// A confidence interval.
#[derive(Serialize, ToSchema)]
pub struct IntervalShape {
    low: f64,
    high: f64,
}

impl ReadingShape {
    pub fn of(r: &stats::Reading) -> ReadingShape {
        let interval = r.interval.map(|i| IntervalShape { low: i.low, high: i.high });
        ReadingShape { value: r.value, samples: r.samples, interval }
    }
}

/// How a run ended.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum OutcomeShape {
    Passed,
    Slow,
    Failed,
    Unmeasured,
}

impl OutcomeShape {
    pub fn of(outcome: Outcome) -> OutcomeShape {
        match outcome {
            Outcome::Passed => OutcomeShape::Passed,
            Outcome::Slow => OutcomeShape::Slow,
            Outcome::Failed => OutcomeShape::Failed,
            Outcome::Unmeasured => OutcomeShape::Unmeasured,
        }
    }

    pub fn outcome(self) -> Outcome {
        match self {
            OutcomeShape::Passed => Outcome::Passed,
            OutcomeShape::Slow => Outcome::Slow,
            OutcomeShape::Failed => Outcome::Failed,
            OutcomeShape::Unmeasured => Outcome::Unmeasured,
        }
    }
}

/// What became of runs.
#[derive(Serialize, ToSchema)]
pub struct TallyShape {
    passed: u64,
    slow: u64,
    failed: u64,
    /// Our own trouble: they count neither for nor against the site.
    unmeasured: u64,
    /// In maintenance or carved out: they do not count.
    left_out: u64,
}

/// A journey, and what was played of it in the stretch.
#[derive(Serialize, ToSchema)]
pub struct JourneyShape {
    slug: String,
    name: String,
    /// `active`, `paused` or `archived`.
    status: String,
    environment: String,
    owner: String,
    tags: Vec<String>,
    /// Slugs of the locations that it plays at.
    locations: Vec<String>,
    runs: TallyShape,
    /// Passed and slow runs over those that count, from 0 to 1; `null` when none counts.
    availability: Option<f64>,
    /// Of runs that got through, in milliseconds.
    duration_ms: DurationShape,
    /// What a whole run may take by its script, in milliseconds.
    budget_ms: Option<f64>,
}

/// Percentiles of a duration.
#[derive(Serialize, ToSchema)]
pub struct DurationShape {
    p50: ReadingShape,
    p75: ReadingShape,
    p95: ReadingShape,
}

impl JourneyShape {
    pub fn of(row: &journeys::Row) -> JourneyShape {
        let (j, t) = (&row.played.journey, &row.tally);
        let [p50, p75, p95] = row.duration.each_ref().map(ReadingShape::of);
        JourneyShape {
            slug: j.slug.clone(),
            name: j.name.clone(),
            status: j.status.clone(),
            environment: j.environment.clone(),
            owner: j.owner.clone(),
            tags: j.tags.clone(),
            locations: row.played.located.iter().map(|(l, _)| l.slug.clone()).collect(),
            runs: TallyShape {
                passed: t.passed,
                slow: t.slow,
                failed: t.failed,
                unmeasured: t.unmeasured,
                left_out: t.left_out,
            },
            availability: t.availability(),
            duration_ms: DurationShape { p50, p75, p95 },
            budget_ms: row.budget_ms,
        }
    }
}

/// Runs of a journey, newest first.
#[derive(Serialize, ToSchema)]
pub struct RunsShape {
    pub runs: Vec<RunShape>,
    /// Asks for those that come after; `null` when there are no more.
    pub next: Option<String>,
}

/// A run.
#[derive(Serialize, ToSchema)]
pub struct RunShape {
    id: Uuid,
    /// Slug of the location.
    location: Option<String>,
    #[schema(value_type = String, format = DateTime)]
    due_at: Timestamp,
    outcome: OutcomeShape,
    duration_ms: f64,
    /// Each counted step as far as it came, in milliseconds.
    steps_ms: Vec<f32>,
    trouble: Option<String>,
    /// The version of the script that it played.
    version: Option<i32>,
    /// Requests that were made, but for those that the browser's own cache answered; `null` where it is not known.
    requests: Option<u64>,
    /// Bytes that came, with headers.
    bytes: Option<u64>,
    /// Of them those of hosts that are not the site's.
    third_party_bytes: Option<u64>,
    /// Errors of scripts that nothing caught.
    script_errors: Option<u64>,
}

impl RunShape {
    pub fn of(run: ListedRun, locations: &[Location]) -> RunShape {
        let location = locations.iter().find(|l| l.id == run.location_id);
        RunShape {
            id: run.id,
            location: location.map(|l| l.slug.clone()),
            due_at: run.due_at,
            outcome: OutcomeShape::of(run.outcome),
            duration_ms: run.duration_ms,
            steps_ms: run.steps_ms,
            trouble: run.trouble,
            version: run.version,
            requests: run.counts.map(|c| c.requests),
            bytes: run.counts.map(|c| c.bytes),
            third_party_bytes: run.counts.map(|c| c.third_party_bytes),
            script_errors: run.counts.map(|c| c.script_errors),
        }
    }
}

/// A stretch.
#[derive(Serialize, ToSchema)]
pub struct StretchShape {
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
}

impl StretchShape {
    pub fn of(s: Stretch) -> StretchShape {
        StretchShape { from: s.from, to: s.to }
    }
}

/// The id of what was made.
#[derive(Serialize, ToSchema)]
pub struct Made {
    pub id: i32,
}

/// An error (RFC 9457).
#[derive(Serialize, ToSchema)]
pub struct ProblemShape {
    /// The same for one kind of problem.
    #[serde(rename = "type")]
    kind: String,
    title: String,
    status: u16,
    detail: String,
    /// What is wrong where.
    errors: Option<Vec<FaultShape>>,
}

/// One thing that is wrong.
#[derive(Serialize, ToSchema)]
pub struct FaultShape {
    detail: String,
    /// Into the body (RFC 6901); of a parameter `?` and its name.
    pointer: String,
}
