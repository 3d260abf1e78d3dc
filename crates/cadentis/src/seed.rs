//! `cadentis seed`: the demo's site, journeys and thirty days of history.

mod arranged;
mod reported;
mod watched;

use crate::Failure;
use crate::serve::KeyArgs;
use crate::world::FREIGHT_VIEWS;
use cadentis_answers::Answers;
use cadentis_answers::changes::Author;
use cadentis_answers::compute::Compute;
use cadentis_answers::people::{self, Given};
use cadentis_core::access::{Role, Scope};
use cadentis_core::calendar::stretch::{at_second, hour_of};
use cadentis_core::calendar::{
    Clock, Length, Maintenance, Pace, Reach, Repeat, Rule, Stretch, Window,
};
use cadentis_core::dependency::{Announcement, Kind, Phase, Post, State as How};
use cadentis_core::goal::definition::ServiceHours;
use cadentis_core::goal::{Definition, FailedRuns, Measure, Period};
use cadentis_core::journey;
use cadentis_core::marker::{Kind as MarkerKind, Said};
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{Counts, Outcome, Split};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::privacy::PersonKey;
use cadentis_core::visitor::{PageView, beacon};
use cadentis_standins::places::{
    BOOKING_HOST, FREIGHT_HOST, FREIGHT_KEY, MAP_HOST, NEXT_HOST, PLACES, by_slug,
};
use cadentis_standins::story::{DAYS, SITE_ZONE, Story};
use cadentis_standins::visitors::Visits;
use cadentis_standins::{history, visitors};
use cadentis_store::Db;
use cadentis_store::forgetting::ROWS_DAYS;
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::location::NewLocation;
use cadentis_store::page_view_hour::RolledUp;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use cadentis_store::site::{NewSite, Site};
use jiff::civil::{Weekday, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use uuid::Uuid;

pub use watched::{ANSWERS, RECEIVERS};

#[derive(clap::Args)]
pub struct Args {
    #[arg(long, env = "DATABASE_URL")]
    database_url: String,
    /// How many days of history
    #[arg(long, default_value_t = DAYS)]
    days: i64,
    /// About how many page views
    #[arg(long, default_value_t = 1_500_000)]
    views: u64,
    /// Where to write the runners' tokens; made anew each time
    #[arg(long)]
    tokens: PathBuf,
    /// Where to write who may sign in, with their passwords; only when they are made
    #[arg(long)]
    people: PathBuf,
    #[command(flatten)]
    key: KeyArgs,
}

pub const SITE_KEY: &str = "marram-booking-4f2a";
pub const JOURNEYS: [(&str, &str); 2] = [
    ("book-a-crossing", include_str!("../journeys/book-a-crossing.cadentis")),
    ("check-the-timetable", include_str!("../journeys/check-the-timetable.cadentis")),
];

/// Played each minute without a browser: whoever cuts a location's network sees soon what comes of it. It has no history.
const QUICK: (&str, &str) =
    ("timetable-answers", include_str!("../journeys/timetable-answers.cadentis"));

const FREIGHT_JOURNEY: &str = include_str!("../journeys/ask-for-a-freight-quote.cadentis");

pub async fn seed(args: Args) -> Result<(), Failure> {
    let begun = Instant::now();
    let persons = args.key.read()?.map(|(_, persons)| persons);
    let db = Db::connect(&args.database_url)?;
    db.migrate().await?;
    let tokens: HashMap<&str, String> =
        PLACES.iter().map(|p| (p.slug, Uuid::new_v4().to_string())).collect();
    let first_time = db.sites().await?.is_empty();
    if first_time {
        let story = Story::new(Timestamp::now());
        let begin = story.begin().max(story.now - SignedDuration::from_hours(24 * args.days));
        db.ensure_days(begin, story.now + SignedDuration::from_hours(48)).await?;
        let site = describe(&db, &story, &tokens).await?;
        tracing::info!("writing {} days of history: about {} page views", args.days, args.views);
        // Two cores: runs beside page views.
        let (runs, views) = tokio::join!(
            tokio::spawn(write_runs(db.clone(), site.clone(), story.clone(), begin)),
            tokio::spawn(write_views(
                db.clone(),
                site,
                story.clone(),
                begin,
                Coming { visits: visitors::visit, page_views: args.views, persons },
            )),
        );
        let (mut runs, mut views) = (runs??, views??);
        let freight = describe_freight(&db).await?;
        let office = Coming {
            visits: visitors::office,
            page_views: (FREIGHT_VIEWS * args.days as f64) as u64,
            persons: None,
        };
        runs += write_runs(db.clone(), freight.clone(), story.clone(), begin).await?;
        views += write_views(db.clone(), freight, story.clone(), begin, office).await?;
        db.mark_hours(begin, story.now).await?;
        let rolling = [db.clone(), db.clone()].map(|db| {
            tokio::spawn(async move {
                while db.roll_up_one().await? != RolledUp::Nothing {}
                Ok::<(), cadentis_store::StoreError>(())
            })
        });
        for one in rolling {
            one.await??;
        }
        watched::watch_history(&db, &story, begin).await?;
        reported::report_history(&db, &story).await?;
        arranged::arrange_views(&db).await?;
        db.forget(story.now).await?;
        db.vacuum().await?;
        tracing::info!(
            "{runs} runs and {views} page views written in {:.1} s",
            begun.elapsed().as_secs_f64()
        );
    } else {
        for (slug, token) in &tokens {
            db.set_token(slug, token).await?;
        }
    }
    std::fs::write(&args.tokens, serde_json::to_string_pretty(&tokens)?)?;
    add_people(&db, &args.people).await?;
    db.close().await;
    Ok(())
}

/// Somebody of the demo who may sign in.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct DemoPerson {
    pub email: String,
    pub password: String,
    pub role: String,
}

/// How the demo is come into.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct DemoAccess {
    /// A token of a program that may do everything.
    pub token: String,
    pub people: Vec<DemoPerson>,
}

/// The made-up people: name, role, whether they see people, and the sites that they are a member of.
const PEOPLE: [(&str, &str, bool, &[&str]); 3] = [
    ("Ines", "administrator", true, &[]),
    ("Tor", "editor", false, &[SITE_KEY]),
    ("Ada", "reader", false, &[SITE_KEY, FREIGHT_KEY]),
];

/// Adds the people of the demo, once, and writes down how they sign in.
async fn add_people(db: &Db, file: &Path) -> Result<(), Failure> {
    let site = db.site_by_key(SITE_KEY).await?.ok_or("the site of the demo is gone")?;
    if !db.has_nobody().await? {
        return Ok(());
    }
    let compute = Compute::start(1, 4, Duration::from_secs(30))?;
    let answers = Answers::new(db.clone(), compute);
    let mut written = Vec::new();
    let sites = db.sites().await?;
    for (name, role, sees_people, of) in PEOPLE {
        let person = DemoPerson {
            email: format!("{}@marram.example", name.to_lowercase()),
            password: Uuid::new_v4().simple().to_string(),
            role: role.into(),
        };
        let given = Given {
            is_administrator: role == "administrator",
            sees_people,
            roles: Role::of(role).map_or_else(Vec::new, |role| {
                let theirs = sites.iter().filter(|site| of.contains(&site.key.as_str()));
                theirs.map(|site| (site.id, role)).collect()
            }),
        };
        let (email, password) = (&person.email, &person.password);
        people::add_with_password(&answers, email, name, &given, password).await?;
        written.push(person);
    }
    let (teams, people) = (db.teams().await?, db.people().await?);
    let team = teams.iter().find(|t| t.name == BOOKING_TEAM);
    if let Some((team, tor)) = team.zip(people.iter().find(|p| p.name == "Tor")) {
        db.set_team(team.id, &team.name, &[tor.id]).await?;
    }
    let by = Author::named("Ines").ok_or("a name")?;
    let token = people::make_token(&answers, &by, site.id, "the demo", &Scope::ALL, 400).await?;
    let access = DemoAccess { token: token.text().into(), people: written };
    for_us_alone(file, &serde_json::to_string_pretty(&access)?)?;
    Ok(())
}

/// Writes a file that nobody else on this machine can read.
pub fn for_us_alone(file: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    let mut open = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(file)?;
    open.set_permissions(std::fs::Permissions::from_mode(0o600))?;
    open.write_all(text.as_bytes())
}

async fn describe(db: &Db, story: &Story, tokens: &HashMap<&str, String>) -> Result<Site, Failure> {
    let id = describe_site(db).await?;
    let mut locations = Vec::new();
    for p in PLACES {
        let new = NewLocation {
            at: Some(p.at),
            proxy: None,
            denied: if p.kind == "public" { Denied::to_public() } else { Denied::default() },
            slug: p.slug,
            name: p.name,
            country: p.country,
            kind: p.kind,
            zone: p.zone,
            token: &tokens[p.slug],
        };
        locations.push(db.add_location(&new).await?);
    }
    describe_journeys(db, id, &locations, story).await?;
    describe_limits(db, id, story).await?;
    db.site_by_key(SITE_KEY).await?.ok_or_else(|| "the site just added is gone".into())
}

/// The site with its page families and its funnel.
async fn describe_site(db: &Db) -> Result<i32, Failure> {
    let families: Vec<(String, String)> = [
        ("/", "Timetable"),
        ("/tomorrow", "Timetable"),
        ("/sailings", "Sailings list"),
        ("/cabin", "Cabin and passengers"),
        ("/booking/*/pass", "Boarding pass"),
        ("/booking/**", "Booking held"),
        ("/desk", "Service desk"),
    ]
    .map(|(p, n)| (p.to_string(), n.to_string()))
    .into();
    let id = db
        .add_site(&NewSite {
            key: SITE_KEY,
            name: "Marram Ferries",
            zone: SITE_ZONE,
            domains: &[BOOKING_HOST.to_string()],
            families: &families,
            apdex_t_s: 1.5,
        })
        .await?;
    db.save_funnel(
        id,
        &SavedFunnel {
            name: "From the timetable to the boarding pass".into(),
            steps: [
                "Timetable",
                "Sailings list",
                "Cabin and passengers",
                "Booking held",
                "Boarding pass",
            ]
            .map(String::from)
            .into(),
            within_s: 3_600,
        },
    )
    .await?;
    Ok(id)
}

/// The team that Tor is in.
const BOOKING_TEAM: &str = "Booking team";

/// The team of this name, which is added when there is none.
async fn team_of(db: &Db, name: &str) -> Result<Option<i32>, Failure> {
    if let Some(id) = db.add_team(name).await? {
        return Ok(Some(id));
    }
    Ok(db.teams().await?.into_iter().find(|t| t.name == name).map(|t| t.id))
}

/// The journeys, the promise of the first, and whose they are.
async fn describe_journeys(
    db: &Db,
    id: i32,
    locations: &[i32],
    story: &Story,
) -> Result<(), Failure> {
    let mut booked = None;
    for (slug, script) in JOURNEYS {
        let name = journey::parse(script)?.name;
        let t = if slug == "book-a-crossing" { 3.5 } else { 1.5 };
        let new = NewJourney {
            site_id: id,
            slug,
            name: &name,
            script,
            apdex_t_s: t,
            author: "Cadentis",
            plays: PlaceAndPace::usual(&Pace::Every(300), locations),
            status: cadentis_store::script_version::Status::Active,
        };
        let journey_id = db.add_journey(&new).await?;
        let (owner, tag) = if slug == "book-a-crossing" {
            (BOOKING_TEAM, "booking")
        } else {
            ("Timetable team", "timetable")
        };
        let team = team_of(db, owner).await?;
        db.set_about(journey_id, team, &[tag.to_string()], slug == "book-a-crossing").await?;
        if slug == "book-a-crossing" {
            before_release(db, id, journey_id, locations).await?;
            booked = Some(journey_id);
        }
    }
    let here = ["bergen", "nairobi", "auckland", "skarholm-quay"];
    let near = db.locations().await?.into_iter().filter(|l| here.contains(&l.slug.as_str()));
    let near: Vec<i32> = near.map(|l| l.id).collect();
    let new = NewJourney {
        site_id: id,
        slug: QUICK.0,
        name: &journey::parse(QUICK.1)?.name,
        script: QUICK.1,
        apdex_t_s: 0.5,
        author: "Cadentis",
        plays: PlaceAndPace::usual(&Pace::Every(60), &near),
        status: Status::Active,
    };
    let quick = db.add_journey(&new).await?;
    db.set_about(quick, team_of(db, "Timetable team").await?, &["timetable".into()], false).await?;
    match booked {
        Some(journey) => describe_goals(db, id, journey, story).await,
        None => Ok(()),
    }
}

/// Queries that people keep.
const QUERIES: [(&str, &str, &str); 3] = [
    (
        "Slow pages by device",
        "p75 of LCP, count of page views, count of people by family and device where count of page views above 30 top 8 by p75 of LCP",
        "Ines",
    ),
    (
        "What a release did",
        "p75 of LCP, share with errors, count of page views by release and time",
        "Tor",
    ),
    (
        "Requests that fail",
        "share of requests failed, count of requests, p95 of request time by request top 10 by share of requests failed",
        "Tor",
    ),
];

/// What is promised of booking: one that became stricter, one that counts while ships sail, and what was taken out.
async fn describe_goals(db: &Db, id: i32, journey: i32, story: &Story) -> Result<(), Failure> {
    let beginning = Timestamp::UNIX_EPOCH;
    let month = Stretch::month_of(story.now, &TimeZone::get(SITE_ZONE)?).from;
    let (name, first) = ("Crossings can be booked", Definition::monthly(journey, 0.99));
    db.add_goal(id, name, (&first, beginning), "Ines").await?;
    let goals = db.goals(id).await?;
    let goal = goals.first().ok_or("the goal just added is gone")?;
    let stricter = Definition { promised: 0.995, ..first.clone() };
    db.set_goal(goal, 1, name, (&stricter, month), "Ines").await?;
    let quay = Stretch {
        from: story.unreachable.from,
        to: story.unreachable.from + SignedDuration::from_mins(90),
    };
    db.add_carve_out(goal.id, quay, "our own firewall in Valparaíso", "Tor").await?;
    let sailing = ServiceHours {
        days: [true; 7],
        from: jiff::civil::time(6, 0, 0, 0),
        until: jiff::civil::time(22, 0, 0, 0),
    };
    let quick = Definition {
        measure: Measure::Performance { limit_ms: 6_000.0, failed: FailedRuns::LeftOut },
        service_hours: Some(sailing),
        period: Period::Days(28),
        promised: 0.98,
        ..first
    };
    db.add_goal(id, "Booking is quick while ships sail", (&quick, beginning), "Tor").await?;
    let seen = Definition {
        measure: Measure::Experience(
            "share of LCP within 2.5 s for family \"Sailings list\"".parse()?,
        ),
        journeys: Vec::new(),
        promised: 0.8,
        ..Definition::monthly(journey, 0.8)
    };
    db.add_goal(id, "The sailings list is there in time", (&seen, beginning), "Ines").await?;
    for (name, says, owner) in QUERIES {
        // As it reads, however it was written.
        let query: cadentis_core::query::Query = says.parse()?;
        db.save_query(id, (name, &query.to_string()), owner).await?;
    }
    Ok(())
}

/// The freight office: a site of its own, with one journey from three places.
async fn describe_freight(db: &Db) -> Result<Site, Failure> {
    let families = [("/", "Freight office"), ("/rates", "Rates"), ("/quote", "Quote")]
        .map(|(p, n)| (p.to_string(), n.to_string()));
    let id = db
        .add_site(&NewSite {
            key: FREIGHT_KEY,
            name: "Marram Freight",
            zone: SITE_ZONE,
            domains: &[FREIGHT_HOST.to_string()],
            families: &families,
            apdex_t_s: 1.5,
        })
        .await?;
    let here = ["bergen", "halifax", "skarholm-quay"];
    let locations = db.locations().await?.into_iter().filter(|l| here.contains(&l.slug.as_str()));
    let locations: Vec<i32> = locations.map(|l| l.id).collect();
    let new = NewJourney {
        site_id: id,
        slug: "ask-for-a-freight-quote",
        name: &journey::parse(FREIGHT_JOURNEY)?.name,
        script: FREIGHT_JOURNEY,
        apdex_t_s: 1.5,
        author: "Cadentis",
        plays: PlaceAndPace::usual(&Pace::Every(900), &locations),
        status: Status::Active,
    };
    let journey_id = db.add_journey(&new).await?;
    let team = team_of(db, "Freight office").await?;
    db.set_about(journey_id, team, &["freight".to_string()], true).await?;
    let promise = Definition::monthly(journey_id, 0.99);
    let beginning = Timestamp::UNIX_EPOCH;
    db.add_goal(id, "Quotes can be asked for", (&promise, beginning), "Ines").await?;
    db.set_budget(id, (None, Vital::Lcp), Some(2500.0), "Ines").await?;
    db.site_by_key(FREIGHT_KEY).await?.ok_or_else(|| "the site just added is gone".into())
}

/// Budgets, what was released when, and maintenance.
async fn describe_limits(db: &Db, id: i32, story: &Story) -> Result<(), Failure> {
    for (vital, limit) in [(Vital::Lcp, 2500.0), (Vital::Inp, 200.0), (Vital::Cls, 0.1)] {
        db.set_budget(id, (None, vital), Some(limit), "Tor").await?;
    }
    db.set_budget(id, (Some("Boarding pass"), Vital::Lcp), Some(1800.0), "Tor").await?;
    let week = SignedDuration::from_hours(24 * 7);
    for (at, title, detail) in [
        (story.slow_release.from, "Release 2026.47.1", "Sailings list reads prices one by one"),
        (story.slow_release.to, "Rolled back to 2026.47.0", "Sailings list slow"),
        (story.blank_release.from, "Release 2026.46.2", "New script bundle"),
        (story.blank_release.to, "Release 2026.46.3", "Script bundle for old browsers again"),
        (story.now - week * 2, "Release 2026.45.0", ""),
        (story.now - week * 3, "Release 2026.44.0", ""),
    ] {
        let version = title.rsplit(' ').next().unwrap_or_default().to_string();
        let (title, detail) = (title.to_string(), detail.to_string());
        let kind = MarkerKind::Release;
        let said = Said { kind, title, detail, version, link: String::new() };
        db.add_marker(Some(id), at, &said, "Tor").await?;
    }
    plan(db, id, story).await?;
    stands_on(db, id, story).await?;
    Ok(())
}

/// What the site stands on, as those who look after it said: the map supplier was slow to answer, the payment gateway will be
/// renewed.
async fn stands_on(db: &Db, id: i32, story: &Story) -> Result<(), Failure> {
    let map = db.put_dependency(id, "map-tiles", Some("Map tiles")).await?;
    let gateway = db.put_dependency(id, "payment-gateway", Some("Payment gateway")).await?;
    db.set_dependency_hosts(id, "map-tiles", &[MAP_HOST.to_string()]).await?;
    let half = SignedDuration::from_mins(30);
    let post = |at, state, says: &str| Post {
        at,
        state,
        says: says.to_string(),
        link: String::new(),
        expires_at: at + SignedDuration::from_mins(7 * 24 * 60),
        author: "token status page".into(),
    };
    for (of, at, state, says) in [
        (map, story.now - SignedDuration::from_hours(24 * 6), How::Ok, ""),
        (map, story.map_slow.from + half, How::Degraded, "Connections from far away take seconds"),
        (map, story.map_slow.to, How::Ok, "As quick as before"),
        (gateway, story.now - SignedDuration::from_hours(24 * 6), How::Ok, ""),
    ] {
        db.post_state(of, &post(at, state, says)).await?;
    }
    let from = story.now + SignedDuration::from_hours(24 * 5);
    let work = Announcement {
        subject: "renewal".into(),
        kind: Kind::Planned,
        phase: Phase::Announced,
        title: "Machines of the gateway are renewed".into(),
        says: "Payments may take some seconds longer".into(),
        link: String::new(),
        from,
        to: Some(from + SignedDuration::from_hours(2)),
    };
    db.announce(gateway, &work, story.now - SignedDuration::from_hours(30), "token status page")
        .await?;
    Ok(())
}

/// Maintenance: what has been, and what comes again and again.
async fn plan(db: &Db, id: i32, story: &Story) -> Result<(), Failure> {
    let places = db.locations().await?;
    let whole = Reach::default();
    let began = story.now;
    let site = TimeZone::get(SITE_ZONE)?;
    let day = site.to_datetime(began).date();
    // Not in the first days: what is shown then is the story’s.
    let from = Some(story.now + SignedDuration::from_hours(24 * 8));
    let backup = Window {
        in_force: (from, None),
        ..Window::once(
            day.at(22, 30, 0, 0),
            Length::UntilTime(time(0, 30, 0, 0)),
            Clock::Zone(site),
            "Database backup",
        )
        .repeating(Repeat::Weekly(vec![Weekday::Sunday]))
    };
    let rule = Rule::parse("FREQ=MONTHLY;BYDAY=1WE", day.at(4, 0, 0, 0), &TimeZone::UTC)?;
    let terminals = Window {
        in_force: (from, None),
        ..Window::once(
            day.at(4, 0, 0, 0),
            Length::UntilTime(time(6, 0, 0, 0)),
            Clock::Location,
            "Terminal network",
        )
        .repeating(Repeat::Rule(rule))
    };
    let in_house = places.iter().filter(|l| l.kind == "in-house").map(|l| l.id).collect();
    let of_terminals = Reach { journeys: vec![], locations: in_house };
    let moved = Maintenance::once(story.maintenance, "Database of the booking system moved");
    db.plan(id, &moved, "To new machines", "Ines").await?;
    for (window, reach, holds, detail) in [
        (backup, whole, false, "Bookings are answered slowly"),
        (terminals, of_terminals, true, "Switches in the terminals are renewed"),
    ] {
        db.plan(id, &Maintenance { window, reach, holds }, detail, "Ines").await?;
    }
    Ok(())
}

/// The same journey on the site before a release, from two places, every quarter of an hour.
async fn before_release(db: &Db, site_id: i32, of: i32, locations: &[i32]) -> Result<(), Failure> {
    let site = db
        .sites()
        .await?
        .into_iter()
        .find(|s| s.id == site_id)
        .ok_or("the site just added is gone")?;
    let environments = [("production", BOOKING_HOST), ("pre-release", NEXT_HOST)];
    let environments =
        environments.map(|(name, host)| (name.to_string(), format!("http://{host}"))).to_vec();
    db.set_site(&Site { environments, ..site }).await?;
    let journeys = db.journeys(site_id).await?;
    let journey = journeys.iter().find(|j| j.id == of).ok_or("the journey just added is gone")?;
    let mut script = journey::parse(&journey.script)?;
    script.name = format!("{} (pre-release)", journey.name);
    let text = script.to_string().replace(BOOKING_HOST, NEXT_HOST);
    let slug = format!("{}-pre-release", journey.slug);
    let id = db
        .duplicate(journey, &slug, &text, &script.name, "pre-release", "Cadentis", Timestamp::now())
        .await?;
    let pace = Pace::Every(900);
    let plays = PlaceAndPace {
        environment: "pre-release",
        retry: true,
        ..PlaceAndPace::usual(&pace, &locations[..2])
    };
    db.set_place_and_pace(id, &plays).await?;
    let team = team_of(db, BOOKING_TEAM).await?;
    db.set_about(id, team, &["booking".to_string()], false).await?;
    db.set_status(id, Status::Active).await?;
    Ok(())
}

async fn write_runs(db: Db, site: Site, story: Story, begin: Timestamp) -> Result<usize, Failure> {
    let mut random = SmallRng::seed_from_u64(7);
    let mut written = 0;
    for journey in db.journeys(site.id).await? {
        if journey.slug == QUICK.0 {
            continue;
        }
        let script = journey::parse(&journey.script)?;
        let elsewhere = journey.environment != "production";
        let story = if elsewhere { story.before_release() } else { story.clone() };
        for (location, cadence) in db.locations_of(&journey).await? {
            let Some(place) = by_slug(&location.slug) else { continue };
            let due: Vec<Timestamp> = cadence.due(Stretch { from: begin, to: story.now }).collect();
            written += due.len();
            let rows: Vec<_> = due
                .into_iter()
                .map(|due_at| {
                    let mut record = history::run(&story, &script, &place, due_at, &mut random);
                    let requests =
                        record.steps.iter_mut().flat_map(|s| &mut s.requests).filter(|_| elsewhere);
                    requests.for_each(|r| r.url = r.url.replace(BOOKING_HOST, NEXT_HOST));
                    let run = Run {
                        id: record.id,
                        site_id: site.id,
                        journey_id: journey.id,
                        location_id: location.id,
                        due_at,
                        outcome: record.outcome,
                        duration_ms: (record.duration_ms * 10.0).round() / 10.0,
                        steps_ms: record.counted_steps().map(|s| s.duration_ms as f32).collect(),
                        trouble: record.trouble.as_ref().map(|t| t.says.clone()),
                        split_ms: Split::sides(&record).map(|s| s.map(|ms| ms.round() as f32)),
                        counts: Counts::of(&record, |host| site.owns(host)),
                    };
                    let kept = story.is_kept(due_at) || record.outcome == Outcome::Failed;
                    (run, record.runner.clone(), kept.then_some(record))
                })
                .collect();
            db.copy_runs(rows).await?;
        }
    }
    Ok(written)
}

/// Who comes to a site, and about how many page views of theirs there are.
struct Coming {
    visits: Visits,
    page_views: u64,
    persons: Option<PersonKey>,
}

async fn write_views(
    db: Db,
    site: Site,
    story: Story,
    begin: Timestamp,
    coming: Coming,
) -> Result<usize, Failure> {
    let Coming { visits, page_views: wanted, persons } = coming;
    let mut random = SmallRng::seed_from_u64(11);
    let minutes = (story.now.as_second() - begin.as_second()) / 60;
    let a_minute = wanted as f64 / minutes as f64 / visitors::PAGES_A_VISIT;
    let mut written = 0;
    let mut rows = Vec::new();
    // Days whose rows would be gone by now are filed hour by hour; a visit may last into the next.
    let rows_from = story.now - SignedDuration::from_hours(24 * ROWS_DAYS - 12);
    let mut hours: BTreeMap<Timestamp, Vec<PageView>> = BTreeMap::new();
    let mut owed = 0.0;
    for minute in 0..minutes {
        let at = at_second(begin.as_second() + minute * 60);
        owed += a_minute * visitors::rhythm(at);
        while owed >= 1.0 {
            owed -= 1.0;
            let at = at + SignedDuration::from_millis(random.random_range(0..60_000));
            for made in visits(&story, at, &mut random) {
                let at = Timestamp::from_millisecond(made.beacon.at_ms)?;
                if at >= story.now {
                    break;
                }
                let view = page_view(made, at, &site, persons.as_ref());
                match hour_of(at) {
                    hour if hour < hour_of(rows_from) => hours.entry(hour).or_default().push(view),
                    _ => rows.push((site.id, view)),
                }
            }
        }
        while hours
            .first_key_value()
            .is_some_and(|(hour, _)| *hour < at - SignedDuration::from_hours(6))
        {
            let Some((hour, views)) = hours.pop_first() else { break };
            written += file(&db, &site, hour, views).await?;
        }
        if rows.len() > 20_000 {
            written += rows.len();
            db.copy_page_views(std::mem::take(&mut rows)).await?;
        }
    }
    for (hour, views) in hours {
        written += file(&db, &site, hour, views).await?;
    }
    written += rows.len();
    db.copy_page_views(rows).await?;
    Ok(written)
}

async fn file(
    db: &Db,
    site: &Site,
    hour: Timestamp,
    mut views: Vec<PageView>,
) -> Result<usize, Failure> {
    views.sort_by_key(|v| v.at);
    db.file_history(site.id, hour, &views).await?;
    Ok(views.len())
}

fn page_view(
    made: visitors::Made,
    at: Timestamp,
    site: &Site,
    persons: Option<&PersonKey>,
) -> PageView {
    PageView {
        at,
        received_at: at + SignedDuration::from_secs(15),
        family: site.families.of(made.beacon.path()).to_string(),
        path: made.beacon.path().to_string(),
        ip: made.ip.into(),
        country: made.country.into(),
        region: made.region.into(),
        city: made.city.into(),
        browser: beacon::browser(made.user_agent).into(),
        os: beacon::os(made.user_agent).into(),
        person: persons.map_or(0, |key| key.person(&site.key, &made.beacon.more.person)),
        beacon: made.beacon.without_person(),
    }
}
